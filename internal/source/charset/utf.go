package charset

import (
	"bytes"
	"fmt"
	"regexp"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"
)

// byMark knows an encoding by its byte order mark (Unicode, 23.8).
func byMark(head []byte) (name, why string) {
	switch {
	case len(head) < 4:
	case bytes.HasPrefix(head, utf8Mark):
		return "utf-8", "begins with the UTF-8 mark EF BB BF"
	case bytes.HasPrefix(head, []byte{0xff, 0xfe, 0, 0}):
		return "utf-32le", "begins with the mark FF FE 00 00"
	case bytes.HasPrefix(head, []byte{0, 0, 0xfe, 0xff}):
		return "utf-32be", "begins with the mark 00 00 FE FF"
	case head[0] == 0xff && head[1] == 0xfe:
		return "utf-16le", "begins with the mark FF FE"
	case head[0] == 0xfe && head[1] == 0xff:
		return "utf-16be", "begins with the mark FE FF"
	}
	return "", ""
}

// nulsIn counts the NUL bytes at each of four places.
func nulsIn(head []byte) (at [4]int) {
	for i, c := range head {
		if c == 0 {
			at[i%4]++
		}
	}
	return at
}

// byNULs knows UTF-16 and UTF-32 without a mark by the bytes that are NUL in them.
func byNULs(head []byte) (name, why string) {
	at := nulsIn(head)
	quarter := len(head) / 4
	even, odd := at[0]+at[2], at[1]+at[3]
	switch {
	case quarter == 0:
	case at[3] >= quarter && at[2] >= quarter*9/10 && at[0] == 0:
		return "utf-32le", "the third and the fourth of every four bytes are NUL"
	case at[0] >= quarter && at[1] >= quarter*9/10 && at[3] == 0:
		return "utf-32be", "the first and the second of every four bytes are NUL"
	case odd > quarter*14/10 && even < quarter/10:
		return "utf-16le", "nearly every second byte is NUL"
	case even > quarter*14/10 && odd < quarter/10:
		return "utf-16be", "nearly every other byte is NUL"
	case odd > 3 && even == 0 && in16(head, 0):
		return "utf-16le", "as such, it is text"
	case even > 3 && odd == 0 && in16(head, 1):
		return "utf-16be", "as such, it is text"
	}
	return "", ""
}

// in16 reports whether bytes are text in UTF-16: nothing but letters, digits, marks,
// and line ends. low is the place of the low byte of two.
func in16(head []byte, low int) bool {
	ends := 0
	for i := 0; i+1 < len(head); i += 2 {
		c := rune(head[i+low]) | rune(head[i+1-low])<<8
		switch {
		case c == '\n' || c == '\r':
			ends++
		case c == '\t' || utf16.IsSurrogate(c) || unicode.IsPrint(c) || c == 0xa0 || c == 0xfeff:
		default:
			return false
		}
	}
	return ends > 0
}

// NoText is an error: bytes that are no text, or none that is read.
type NoText struct{ What, Do string }

func (e *NoText) Error() string { return e.What }

// binary says what in the beginning no text has.
func binary(head []byte) error {
	at := nulsIn(head)
	nuls := at[0] + at[1] + at[2] + at[3]
	do := "if it is text after all, name its encoding with --encoding"
	if nuls > 3 && nuls*100 > len(head) {
		return &NoText{fmt.Sprintf("looks like a binary file: %d of its first %d bytes are NUL", nuls, len(head)), do}
	}
	controls := 0
	for _, c := range head {
		// Tabs, line and form feeds, the end mark of old systems, escapes, and
		// characters that separate fields are in texts.
		if (c < ' ' || c == 0x7f) && bytes.IndexByte([]byte("\t\n\r\f\x1a\x1b\x1f\x01"), c) < 0 {
			controls++
		}
	}
	if controls > 3 && controls*50 > len(head) {
		return &NoText{fmt.Sprintf("looks like a binary file: %d of its first %d bytes are control characters",
			controls, len(head)), do}
	}
	return nil
}

// inUTF7 finds letters of Latin-1 as UTF-7 writes them (RFC 2152): base64 of two
// bytes, the first of them NUL.
var inUTF7 = regexp.MustCompile(`\+A[I-P][AEIMQUYcgkosw048]-`)

// shifted reports whether a text changes between character sets of seven bits by
// escapes, as ISO-2022-JP does (RFC 1468).
func shifted(head []byte) bool {
	return (bytes.Contains(head, []byte("\x1b$B")) || bytes.Contains(head, []byte("\x1b$@"))) &&
		(bytes.Contains(head, []byte("\x1b(B")) || bytes.Contains(head, []byte("\x1b(J")))
}

// countUTF8 counts the characters beyond ASCII, and the bytes that are not UTF-8. A
// text that is cut may end within a character.
func countUTF8(head []byte, cut bool) (good, bad int) {
	for i := 0; i < len(head); {
		if head[i] < utf8.RuneSelf {
			i++
			continue
		}
		r, n := utf8.DecodeRune(head[i:])
		if r == utf8.RuneError && n == 1 {
			if cut && len(head)-i < utf8.UTFMax {
				break
			}
			bad++
		} else {
			good++
		}
		i += n
	}
	return good, bad
}
