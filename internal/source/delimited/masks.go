package delimited

import "encoding/binary"

// masks are what stands in a block of bytes: a bit for each.
type masks struct{ delimiters, feeds, quotes uint64 }

// marksOf has a bit for each byte of a block that is the delimiter or a line feed.
func marksOf(b *[blockSize]byte, delimiter byte) uint64 {
	var m [1]masks
	masksOf(m[:], b[:], delimiter, delimiter)
	return m[0].delimiters | m[0].feeds
}

// masksByWords is masksOf where there is no faster way. It looks at eight bytes at a time.
func masksByWords(dst []masks, data []byte, delimiter, quote byte) {
	for k := range dst {
		m := &dst[k]
		*m = masks{}
		for at := 0; at < blockSize; at += 8 {
			w := binary.LittleEndian.Uint64(data[k*blockSize+at:])
			m.delimiters |= equalBytes(w, delimiter) << at
			m.feeds |= equalBytes(w, '\n') << at
			m.quotes |= equalBytes(w, quote) << at
		}
	}
}

// equalBytes has a bit for each of eight bytes that is c: where a byte of x is zero, its highest
// bit is not set by the addition; a multiplication brings the eight bits together.
func equalBytes(w uint64, c byte) uint64 {
	const high, low = 0x8080808080808080, 0x7f7f7f7f7f7f7f7f
	x := w ^ uint64(c)*0x0101010101010101
	return ^((x & low) + low | x) & high * 0x0002040810204081 >> 56
}
