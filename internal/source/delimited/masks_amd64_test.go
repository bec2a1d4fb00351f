package delimited

import "golang.org/x/sys/cpu"

// ways are all ways to find what stands in a block that go here.
func ways() map[string]func(dst []masks, data []byte, delimiter, quote byte) {
	of := map[string]func(dst []masks, data []byte, delimiter, quote byte){
		"as it is done": masksOf,
		"by words":      masksByWords,
		"SSE2": func(dst []masks, data []byte, delimiter, quote byte) {
			masksSSE2(&dst[0], &data[0], len(dst), delimiter, quote)
		},
	}
	if cpu.X86.HasAVX2 {
		of["AVX2"] = func(dst []masks, data []byte, delimiter, quote byte) {
			masksAVX2(&dst[0], &data[0], len(dst), delimiter, quote)
		}
	}
	return of
}
