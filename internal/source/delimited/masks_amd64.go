package delimited

import "golang.org/x/sys/cpu"

// masksOf finds what stands in as many blocks of data as dst has.
func masksOf(dst []masks, data []byte, delimiter, quote byte) {
	_ = data[len(dst)*blockSize-1]
	if cpu.X86.HasAVX2 {
		masksAVX2(&dst[0], &data[0], len(dst), delimiter, quote)
	} else {
		masksSSE2(&dst[0], &data[0], len(dst), delimiter, quote)
	}
}

//go:noescape
func masksAVX2(dst *masks, data *byte, blocks int, delimiter, quote byte)

//go:noescape
func masksSSE2(dst *masks, data *byte, blocks int, delimiter, quote byte)
