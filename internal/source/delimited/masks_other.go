//go:build !amd64 && !arm64

package delimited

func masksOf(dst []masks, data []byte, delimiter, quote byte) {
	masksByWords(dst, data, delimiter, quote)
}

// rangeOf is ByteRange of whole blocks.
func rangeOf(b []byte) (ascii, zero bool) { return rangeByWords(b) }
