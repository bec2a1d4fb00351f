package engine

import "unicode/utf16"

// EncodeUTF16 is text in UTF-16, the low byte first.
func EncodeUTF16(s string) []byte {
	b := make([]byte, 0, 2*len(s))
	for _, r := range s {
		if r < 0x10000 {
			b = append(b, byte(r), byte(r>>8))
			continue
		}
		a, z := utf16.EncodeRune(r)
		b = append(b, byte(a), byte(a>>8), byte(z), byte(z>>8))
	}
	return b
}

// DecodeUTF16 reads it.
func DecodeUTF16(b []byte) string {
	plain := true
	for i := 0; i+1 < len(b); i += 2 {
		if b[i+1] != 0 || b[i] >= 0x80 {
			plain = false
			break
		}
	}
	if plain {
		out := make([]byte, len(b)/2)
		for i := range out {
			out[i] = b[2*i]
		}
		return string(out)
	}
	u := make([]uint16, len(b)/2)
	for i := range u {
		u[i] = uint16(b[2*i]) | uint16(b[2*i+1])<<8
	}
	return string(utf16.Decode(u))
}
