package source

import (
	"bytes"
	"errors"
	"io"
	"slices"
	"strings"

	"ambertray/internal/source/charset"
)

func (s *Source) decideEncoding(head []byte, whole bool, known Known) error {
	l := &s.Layout
	if s.own {
		l.Encoding = "utf-8"
		return nil
	}
	if known.Encoding != "" {
		name, err := charset.Canonical(known.Encoding)
		if err != nil {
			return &Problem{Source: s.Name, What: err.Error(),
				Do: "use an IANA name, like utf-8, utf-16le, windows-1252 or iso-8859-15", Decision: true}
		}
		l.Encoding = name
		s.note("encoding", name, "", true)
		return nil
	}
	v, err := charset.Of(head, !whole)
	var no *charset.NoText
	if errors.As(err, &no) {
		return &Problem{Source: s.Name, What: no.What, Do: no.Do}
	}
	l.Encoding, s.Mixed = v.Encoding, v.Mixed
	s.note("encoding", v.Encoding, v.Why, false)
	s.Evidence[len(s.Evidence)-1].Guess = v.Guess
	if len(v.Others) > 0 {
		s.Possible = possible(head, append([]string{v.Encoding}, v.Others...))
	}
	return nil
}

// EncodingGuessed reports whether only its letters speak for the encoding.
func (s *Source) EncodingGuessed() bool {
	return slices.ContainsFunc(s.Evidence, func(e Evidence) bool { return e.What == "encoding" && e.Guess })
}

// possible reads the first line that differs in each of several encodings.
func possible(head []byte, encodings []string) (out []Possible) {
	for line := range bytes.Lines(head) {
		out = nil
		for _, e := range encodings {
			out = append(out, Possible{e, strings.TrimRight(decoded(line, e), "\r\n")})
		}
		if out[0].Text == out[1].Text {
			continue
		}
		// The beginning is left out where the difference is far from it.
		for cut(out) {
		}
		break
	}
	return out
}

// cut takes the first character off, if all have the same and twenty follow that are
// the same, too.
func cut(texts []Possible) bool {
	first := []rune(texts[0].Text)
	if len(first) <= 20 {
		return false
	}
	for _, t := range texts {
		if !strings.HasPrefix(t.Text, string(first[:20])) {
			return false
		}
	}
	for i := range texts {
		texts[i].Text = strings.TrimPrefix(texts[i].Text, string(first[0]))
	}
	return true
}

// decoded is a text that is in memory as UTF-8.
func decoded(text []byte, encoding string) string {
	r, err := charset.Decode(bytes.NewReader(text), encoding)
	if err != nil {
		return ""
	}
	b, _ := io.ReadAll(r) // memory ends without an error, and what does not decode is in it
	return string(b)
}
