package reading

import (
	"encoding/binary"
	"math/bits"
)

// Characters is how many there are in b, which is valid UTF-8: all bytes but those that go on
// with a character (RFC 3629, section 3: 10xxxxxx).
func Characters(b []byte) (n int) {
	const ones = 0x0101010101010101
	n = len(b)
	for len(b) >= 32 {
		more := 0
		for k := 0; k < 32; k += 8 {
			w := binary.LittleEndian.Uint64(b[k:])
			more += bits.OnesCount64(w >> 7 &^ (w >> 6) & ones)
		}
		n -= more
		b = b[32:]
	}
	for _, c := range b {
		if c&0xc0 == 0x80 {
			n--
		}
	}
	return n
}
