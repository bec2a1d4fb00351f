package delimited

import "golang.org/x/sys/cpu"

var hasAVX2 = cpu.X86.HasAVX2 && cpu.X86.HasPCLMULQDQ

// masksOf finds what stands in as many blocks of data as dst has.
func masksOf(dst []masks, data []byte, delimiter, quote byte) {
	_ = data[len(dst)*blockSize-1]
	if hasAVX2 {
		masksAVX2(&dst[0], &data[0], len(dst), delimiter, quote)
		return
	}
	masksSSE2(&dst[0], &data[0], len(dst), delimiter, quote)
	for k := range dst {
		dst[k].within = prefixXor(dst[k].quotes)
	}
}

// rangeOf is ByteRange of whole blocks.
func rangeOf(b []byte) (ascii, zero bool) {
	if !hasAVX2 {
		return rangeByWords(b)
	}
	high, zeros := rangeAVX2(&b[0], len(b)/blockSize)
	return high == 0, zeros != 0
}

//go:noescape
func masksAVX2(dst *masks, data *byte, blocks int, delimiter, quote byte)

//go:noescape
func masksSSE2(dst *masks, data *byte, blocks int, delimiter, quote byte)

//go:noescape
func rangeAVX2(data *byte, blocks int) (high, zeros uint32)
