package delimited

import "encoding/binary"

// marksByWords is marksOf where there is no faster way. It looks at eight bytes
// at a time: in mask, the highest bit of each byte wanted is set; a
// multiplication brings the eight bits together.
func marksByWords(b *[blockSize]byte, delimiter byte) (out uint64) {
	const high, low = 0x8080808080808080, 0x7f7f7f7f7f7f7f7f
	const feeds = uint64('\n') * 0x0101010101010101
	delimiters := uint64(delimiter) * 0x0101010101010101
	for k := 0; k < blockSize; k += 8 {
		w := binary.LittleEndian.Uint64(b[k : k+8])
		x, y := w^delimiters, w^feeds
		// A byte of x is zero where its high bit is not set here.
		mask := ^((((x & low) + low) | x) & (((y & low) + low) | y)) & high
		out |= mask * 0x0002040810204081 >> 56 << k
	}
	return
}
