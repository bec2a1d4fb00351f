package delimited

// ways are all ways to find what stands in blocks that go here.
func ways() map[string]func(dst []masks, data []byte, delimiter, quote byte) {
	of := map[string]func(dst []masks, data []byte, delimiter, quote byte){
		"as it is done": masksOf,
		"by words":      masksByWords,
	}
	if hasAVX2 {
		of["SSE2"] = withoutAVX2
	}
	return of
}

func withoutAVX2(dst []masks, data []byte, delimiter, quote byte) {
	hasAVX2 = false
	defer func() { hasAVX2 = true }()
	masksOf(dst, data, delimiter, quote)
}
