package source

import (
	"bytes"
	"fmt"
	"unicode/utf8"
)

func (s *Source) decideEncoding(head []byte, known Known) error {
	l := &s.Layout
	if s.own {
		l.Encoding = "utf-8"
		return nil
	}
	if known.Encoding != "" {
		name, err := canonical(known.Encoding)
		if err != nil {
			return &Problem{Source: s.Name, What: err.Error(),
				Do: "use an IANA name, like utf-8, utf-16le, windows-1252 or iso-8859-15", Decision: true}
		}
		l.Encoding = name
		s.note("encoding", name, "", true)
		return nil
	}
	name, why, guess, err := s.encodingOf(head)
	if err != nil {
		return err
	}
	l.Encoding = name
	s.note("encoding", name, why, false)
	s.Evidence[len(s.Evidence)-1].Guess = guess
	return nil
}

// encodingOf is the encoding that the beginning of a file is in, and why; guess
// tells that it could well be another.
func (s *Source) encodingOf(head []byte) (name, why string, guess bool, err error) {
	if name, why = byMark(head); name != "" {
		return name, why, false, nil
	}
	if name, why = byNULs(head); name != "" {
		return name, why, false, nil
	}
	if what := binary(head); what != "" {
		return "", "", false, &Problem{Source: s.Name, What: "looks like a binary file: " + what,
			Do: "if it is text after all, name its encoding with --encoding"}
	}
	good, bad, controls := countUTF8(head)
	switch {
	case bad == 0 && good == 0:
		return "utf-8", "the beginning is plain ASCII", false, nil
	case bad == 0:
		return "utf-8", count(good, "character") + " beyond ASCII in the beginning, all valid UTF-8", false, nil
	case good > bad:
		return "utf-8", fmt.Sprintf("%s valid UTF-8, but %s not", count(good, "character"), count(bad, "byte")), false,
			nil
	}
	why = count(bad, "byte") + " in the beginning cannot be UTF-8"
	if controls {
		why += ", some in 80 to 9F, where windows-1252 has characters"
	}
	return "windows-1252", why + "; a guess", true, nil
}

// byMark knows an encoding by its byte order mark (Unicode, 23.8).
func byMark(head []byte) (name, why string) {
	switch {
	case len(head) < 4:
	case bytes.HasPrefix(head, utf8Mark):
		return "utf-8", "begins with the UTF-8 mark EF BB BF"
	case head[0] == 0xff && head[1] == 0xfe:
		return "utf-16le", "begins with the mark FF FE"
	case head[0] == 0xfe && head[1] == 0xff:
		return "utf-16be", "begins with the mark FE FF"
	}
	return "", ""
}

// nulsIn counts the NUL bytes at odd and at even places.
func nulsIn(head []byte) (odd, even int) {
	for i, c := range head {
		if c == 0 && i%2 == 0 {
			even++
		} else if c == 0 {
			odd++
		}
	}
	return odd, even
}

// byNULs knows UTF-16 without a mark by the halves that are NUL in plain letters.
func byNULs(head []byte) (name, why string) {
	odd, even := nulsIn(head)
	half := len(head) / 2
	switch {
	case odd > half*7/10 && even < half/20:
		return "utf-16le", "nearly every second byte is NUL"
	case even > half*7/10 && odd < half/20:
		return "utf-16be", "nearly every other byte is NUL"
	}
	return "", ""
}

// binary says what in the beginning no text has, or nothing.
func binary(head []byte) string {
	if odd, even := nulsIn(head); odd+even > 3 && (odd+even)*100 > len(head) {
		return fmt.Sprintf("%d of its first %d bytes are NUL", odd+even, len(head))
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
		return fmt.Sprintf("%d of its first %d bytes are control characters", controls, len(head))
	}
	return ""
}

// countUTF8 counts the characters beyond ASCII, and the bytes that are not UTF-8;
// controls tells that some of these are in 80 to 9F.
func countUTF8(head []byte) (good, bad int, controls bool) {
	for i := 0; i < len(head); {
		if head[i] < utf8.RuneSelf {
			i++
			continue
		}
		r, n := utf8.DecodeRune(head[i:])
		if r == utf8.RuneError && n == 1 {
			if len(head)-i < utf8.UTFMax && len(head) >= sampleSize {
				break // cut off
			}
			bad++
			controls = controls || head[i] < 0xa0
		} else {
			good++
		}
		i += n
	}
	return good, bad, controls
}
