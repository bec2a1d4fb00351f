//go:build !amd64 && !arm64

package delimited

func masksOf(dst []masks, data []byte, delimiter, quote byte) {
	masksByWords(dst, data, delimiter, quote)
}
