package delimited

// marksOf has a bit for each byte of a block that is the delimiter or a line
// feed.
//
//go:noescape
func marksOf(b *[blockSize]byte, delimiter byte) uint64
