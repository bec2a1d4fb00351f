package delimited

// masksOf finds what stands in as many blocks of data as dst has. Every arm64 has NEON.
func masksOf(dst []masks, data []byte, delimiter, quote byte) {
	_ = data[len(dst)*blockSize-1]
	masksNEON(&dst[0], &data[0], len(dst), delimiter, quote)
	for k := range dst {
		dst[k].within = prefixXor(dst[k].quotes)
	}
}

// rangeOf is ByteRange of whole blocks.
func rangeOf(b []byte) (ascii, zero bool) { return rangeByWords(b) }

//go:noescape
func masksNEON(dst *masks, data *byte, blocks int, delimiter, quote byte)
