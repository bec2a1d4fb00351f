package workbook

import "strings"

// A mask is a number format that shows whole numbers with leading zeros, as codes
// have them: 00000, 000-00-0000 or "KN-"0000. Its zeros are places of digits, all
// else stands as it is. An empty mask is none.
type mask string

const place = '\x00' // of a digit, in a mask

// maskOf reads a number format code (ECMA-376 part 1, 18.8.31). Whatever may be
// a measure is none: decimals, separators, a unit behind, a single place.
func maskOf(code string) mask {
	code = strings.TrimSuffix(code, ";@")
	var b []byte
	places, last := 0, -1
	for i := 0; i < len(code); i++ {
		switch c := code[i]; c {
		case '0':
			places++
			last = len(b)
			b = append(b, place)
		case '-', ' ', '/', '(', ')':
			b = append(b, c)
		case '\\':
			if i++; i == len(code) || code[i] >= 0x80 {
				return ""
			}
			b = append(b, code[i])
		case '"':
			n := strings.IndexByte(code[i+1:], '"')
			if n < 0 {
				return ""
			}
			b = append(b, code[i+1:i+1+n]...)
			i += n + 1
		default:
			return ""
		}
	}
	if places < 2 || places > 18 || last != len(b)-1 {
		return ""
	}
	return mask(b)
}

// append writes a whole number as the mask shows it. Other numbers it does not
// show so.
func (m mask) append(b, digits []byte) ([]byte, bool) {
	if len(digits) == 0 || len(digits) > 18 {
		return b, false
	}
	for _, c := range digits {
		if c < '0' || c > '9' {
			return b, false
		}
	}
	places := strings.Count(string(m), string(rune(place)))
	missing, first := places-len(digits), true
	for i := 0; i < len(m); i++ {
		switch {
		case m[i] != place:
			b = append(b, m[i])
			continue
		case first && missing < 0: // more digits than places stand at the first
			b, digits = append(b, digits[:-missing]...), digits[-missing:]
		}
		if first = false; missing > 0 {
			b = append(b, '0')
			missing--
			continue
		}
		b, digits = append(b, digits[0]), digits[1:]
	}
	return b, true
}
