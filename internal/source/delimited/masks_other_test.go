//go:build !amd64

package delimited

// ways are all ways to find what stands in a block that go here.
func ways() map[string]func(dst []masks, data []byte, delimiter, quote byte) {
	return map[string]func(dst []masks, data []byte, delimiter, quote byte){"as it is done": masksOf,
		"by words": masksByWords}
}
