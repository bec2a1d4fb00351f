//go:build !amd64

package delimited

func marksOf(b *[blockSize]byte, delimiter byte) uint64 { return marksByWords(b, delimiter) }
