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
			return &Problem{Source: s.Name, What: err.Error(), Do: "use an IANA name, like utf-8, utf-16le, windows-1252 or iso-8859-15", Asked: true}
		}
		l.Encoding = name
		s.note("encoding", name, "", true)
		return nil
	}
	if len(head) > 3 {
		switch {
		case bytes.HasPrefix(head, utf8Mark):
			l.Encoding = "utf-8"
			s.note("encoding", "utf-8", "begins with the UTF-8 mark EF BB BF", false)
			return nil
		case head[0] == 0xff && head[1] == 0xfe:
			l.Encoding = "utf-16le"
			s.note("encoding", "utf-16le", "begins with the mark FF FE", false)
			return nil
		case head[0] == 0xfe && head[1] == 0xff:
			l.Encoding = "utf-16be"
			s.note("encoding", "utf-16be", "begins with the mark FE FF", false)
			return nil
		}
	}
	var odd, even int // NUL bytes by place
	for i, c := range head {
		if c == 0 {
			if i%2 == 0 {
				even++
			} else {
				odd++
			}
		}
	}
	half := len(head) / 2
	switch {
	case odd > half*7/10 && even < half/20:
		l.Encoding = "utf-16le"
		s.note("encoding", "utf-16le", "nearly every second byte is NUL", false)
		return nil
	case even > half*7/10 && odd < half/20:
		l.Encoding = "utf-16be"
		s.note("encoding", "utf-16be", "nearly every other byte is NUL", false)
		return nil
	case odd+even > 3 && (odd+even)*100 > len(head):
		return &Problem{Source: s.Name, What: fmt.Sprintf("looks like a binary file: %d of its first %d bytes are NUL", odd+even, len(head)),
			Do: "if it is text after all, name its encoding with --encoding"}
	}
	odd = 0
	for _, c := range head {
		if c < ' ' && c != '\t' && c != '\n' && c != '\r' && c != '\f' && c != 0x1a && c != 0x1b && c != 0x1f && c != 1 || c == 0x7f {
			odd++
		}
	}
	if odd > 3 && odd*50 > len(head) {
		return &Problem{Source: s.Name, What: fmt.Sprintf("looks like a binary file: %d of its first %d bytes are control characters", odd, len(head)),
			Do: "if it is text after all, name its encoding with --encoding"}
	}
	good, bad, controls := 0, 0, false // characters beyond ASCII; bytes that are not UTF-8
	for i := 0; i < len(head); {
		if head[i] < 0x80 {
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
	switch {
	case bad == 0 && good == 0:
		l.Encoding = "utf-8"
		s.note("encoding", "utf-8", "the beginning is plain ASCII", false)
	case bad == 0:
		l.Encoding = "utf-8"
		s.note("encoding", "utf-8", fmt.Sprintf("%s beyond ASCII in the beginning, all valid UTF-8", count(good, "character")), false)
	case good > bad:
		l.Encoding = "utf-8"
		s.note("encoding", "utf-8", fmt.Sprintf("%s valid UTF-8, but %s not", count(good, "character"), count(bad, "byte")), false)
	default:
		l.Encoding = "windows-1252"
		why := fmt.Sprintf("%s in the beginning cannot be UTF-8", count(bad, "byte"))
		if controls {
			why += ", some in 80 to 9F, where windows-1252 has characters"
		}
		s.note("encoding", "windows-1252", why+"; a guess", false)
		s.Evidence[len(s.Evidence)-1].Guess = true
	}
	return nil
}
