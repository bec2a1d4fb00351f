package reading

import "encoding/binary"

// Characters is how many there are in b, which is valid UTF-8: all bytes but those that go on
// with a character (RFC 3629, section 3: 10xxxxxx).
func Characters(b []byte) (n int) {
	const ones, low = 0x0101010101010101, 0x00ff00ff00ff00ff
	n = len(b)
	for len(b) >= 32 {
		// In each byte, up to 4 of each 32 bytes are added up, and no more than fit.
		var more uint64
		for k := 0; k < 63 && len(b) >= 32; k++ {
			for at := 0; at < 32; at += 8 {
				w := binary.LittleEndian.Uint64(b[at:])
				more += w >> 7 &^ (w >> 6) & ones
			}
			b = b[32:]
		}
		n -= int((more&low + more>>8&low) * 0x0001000100010001 >> 48)
	}
	for _, c := range b {
		if c&0xc0 == 0x80 {
			n--
		}
	}
	return n
}
