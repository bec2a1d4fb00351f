package delimited

import "encoding/binary"

// masks are what stands in a block of bytes: a bit for each. within is a bit for each quote with an even
// number of them before it in the block, and for what follows up to the next quote.
type masks struct{ delimiters, feeds, quotes, within uint64 }

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
		m.within = prefixXor(m.quotes)
	}
}

// prefixXor has a bit where an odd number of bits stand up to it.
func prefixXor(x uint64) uint64 {
	x ^= x << 1
	x ^= x << 2
	x ^= x << 4
	x ^= x << 8
	x ^= x << 16
	return x ^ x<<32
}

// equalBytes has a bit for each of eight bytes that is c: where a byte of x is zero, its highest
// bit is not set by the addition; a multiplication brings the eight bits together.
func equalBytes(w uint64, c byte) uint64 {
	const high, low = 0x8080808080808080, 0x7f7f7f7f7f7f7f7f
	x := w ^ uint64(c)*0x0101010101010101
	return ^((x & low) + low | x) & high * 0x0002040810204081 >> 56
}

// ByteRange reports whether all bytes are ASCII, and whether one is zero.
func ByteRange(b []byte) (ascii, zero bool) {
	whole := len(b) &^ (blockSize - 1)
	if whole > 0 {
		ascii, zero = rangeOf(b[:whole])
	} else {
		ascii = true
	}
	for _, c := range b[whole:] {
		ascii, zero = ascii && c < 0x80, zero || c == 0
	}
	return ascii, zero
}

// rangeByWords is ByteRange of whole blocks where there is no faster way.
func rangeByWords(b []byte) (ascii, zero bool) {
	const ones, highs = 0x0101010101010101, 0x8080808080808080
	any, zeros := uint64(0), uint64(0)
	for ; len(b) >= 16; b = b[16:] {
		v, w := binary.LittleEndian.Uint64(b), binary.LittleEndian.Uint64(b[8:])
		any |= v | w
		zeros |= (v-ones)&^v | (w-ones)&^w
	}
	return any&highs == 0, zeros&highs != 0
}
