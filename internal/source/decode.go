package source

import (
	"bytes"
	"io"

	"golang.org/x/text/transform"

	"ambertray/internal/source/charset"
	"ambertray/internal/source/delimited"
)

// decode returns r as UTF-8 with line ends that records are told apart by. Bytes that
// do not decode come out as bytes that are not UTF-8 either.
func decode(r io.Reader, name, lineEnd string, f delimited.Form) (io.Reader, error) {
	r, err := charset.Decode(r, name)
	if err != nil {
		return nil, err
	}
	switch lineEnd {
	case "cr":
		r = transform.NewReader(r, newFeeds(f))
	case "crcrlf":
		r = transform.NewReader(r, once{})
	}
	return r, nil
}

// once takes one of two carriage returns before a line feed out: a line end that was
// made into another twice.
type once struct{ transform.NopResetter }

func (once) Transform(dst, src []byte, atEOF bool) (nDst, nSrc int, err error) {
	for nSrc < len(src) {
		c := src[nSrc]
		if c == '\r' {
			switch rest := src[nSrc+1:]; {
			case len(rest) < 2 && !atEOF:
				return nDst, nSrc, transform.ErrShortSrc
			case bytes.HasPrefix(rest, []byte("\r\n")):
				nSrc++
				continue
			}
		}
		if nDst == len(dst) {
			return nDst, nSrc, transform.ErrShortDst
		}
		dst[nDst] = c
		nDst, nSrc = nDst+1, nSrc+1
	}
	return nDst, nSrc, nil
}

// feeds makes line feeds of the carriage returns that end lines. Those within quotes
// are of the field, and stay: so it follows quotes, as the splitter does.
type feeds struct {
	form   delimited.Form
	quoted bool
	closed bool   // by the character before
	prior  byte   // within quotes
	before []byte // the end of what the line holds so far, as long as a delimiter
}

func newFeeds(f delimited.Form) *feeds { return &feeds{form: f} }

func (f *feeds) Reset() { f.quoted, f.closed, f.before, f.prior = false, false, f.before[:0], 0 }

// begins reports whether a field begins here.
func (f *feeds) begins() bool {
	d := f.form.Delimiter
	return len(f.before) == 0 || f.form.Blanks && f.before[len(f.before)-1] == ' ' ||
		d != "" && bytes.HasSuffix(f.before, []byte(d))
}

func (f *feeds) Transform(dst, src []byte, _ bool) (nDst, nSrc int, err error) {
	n := copy(dst, src)
	if n < len(src) {
		err = transform.ErrShortDst
	}
	q, escape := f.form.Quote, f.form.Escape
	for i, c := range dst[:n] {
		again := f.closed && c == q // the second of two opens again
		f.closed = false
		switch {
		case f.quoted && escape != 0 && f.prior == escape:
			f.prior = 0
			continue
		case f.quoted && c == q:
			f.quoted, f.closed = false, true
		case f.quoted:
		case q != 0 && c == q && (again || f.begins()):
			f.quoted = true
		case c == '\r':
			dst[i] = '\n'
			f.before, f.prior = f.before[:0], 0
			continue
		}
		f.prior = c
		if k := max(len(f.form.Delimiter), 1); len(f.before) >= k {
			f.before = append(f.before[:0], f.before[len(f.before)-k+1:]...)
		}
		f.before = append(f.before, c)
	}
	return n, n, err
}
