// Package charset knows character encodings: their names, how text in them becomes
// UTF-8, and which one a text is in, as far as its bytes tell.
package charset

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/ianaindex"
	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/encoding/unicode/utf32"
	"golang.org/x/text/transform"
)

// Decode returns r as UTF-8. Bytes that do not decode come out as bytes that
// are not UTF-8 either, so that the splitter can tell which records have
// them.
func Decode(r io.Reader, name string) (io.Reader, error) {
	switch name {
	case "utf-8":
		return &skipMark{r: r}, nil
	case "utf-16le", "utf-16be":
		order := unicode.LittleEndian
		if name == "utf-16be" {
			order = unicode.BigEndian
		}
		return whole(r, unicode.UTF16(order, unicode.UseBOM)), nil
	case "utf-32le":
		return whole(r, utf32.UTF32(utf32.LittleEndian, utf32.UseBOM)), nil
	case "utf-32be":
		return whole(r, utf32.UTF32(utf32.BigEndian, utf32.UseBOM)), nil
	}
	if other, is := strings.CutPrefix(name, Mixed); is {
		enc, err := lookup(other)
		cm, ok := enc.(*charmap.Charmap)
		if err != nil || !ok {
			return nil, fmt.Errorf("encoding %q is not known; one with a byte a character stands behind %s", name,
				Mixed)
		}
		return transform.NewReader(&skipMark{r: r}, &mixedDecoder{byteDecoder: newByteDecoder(cm)}), nil
	}
	enc, err := lookup(name)
	if err != nil {
		return nil, err
	}
	if cm, ok := enc.(*charmap.Charmap); ok {
		return transform.NewReader(r, newByteDecoder(cm)), nil
	}
	return whole(r, enc), nil
}

// whole decodes characters of several bytes.
func whole(r io.Reader, enc encoding.Encoding) io.Reader {
	return transform.NewReader(r, transform.Chain(enc.NewDecoder(), unreplace{}))
}

// Mixed begins the name of an encoding in which what is not UTF-8 is of another: a file
// that several programs have written to.
const Mixed = "utf-8+"

// lookup finds an encoding by its IANA name (RFC 2978) or alias.
func lookup(name string) (encoding.Encoding, error) {
	if name == "x-mac-cyrillic" {
		return charmap.MacintoshCyrillic, nil
	}
	enc, err := ianaindex.IANA.Encoding(name)
	if err != nil || enc == nil {
		return nil, fmt.Errorf("encoding %q is not known", name)
	}
	return enc, nil
}

// Canonical is the name of an encoding as plans write it.
func Canonical(name string) (string, error) {
	n := strings.ToLower(strings.TrimSpace(name))
	switch strings.NewReplacer("-", "", "_", "", " ", "").Replace(n) {
	case "utf8", "utf8bom", "ascii", "usascii":
		return "utf-8", nil
	case "utf16", "utf16le":
		return "utf-16le", nil
	case "utf16be":
		return "utf-16be", nil
	case "utf32", "utf32le":
		return "utf-32le", nil
	case "utf32be":
		return "utf-32be", nil
	case "cp1252", "windows1252":
		return "windows-1252", nil
	case "latin1", "iso88591":
		return "iso-8859-1", nil
	case "latin9", "iso885915":
		return "iso-8859-15", nil
	}
	if other, is := strings.CutPrefix(n, Mixed); is {
		other, err := Canonical(other)
		if err == nil {
			_, err = Decode(strings.NewReader(""), Mixed+other)
		}
		return Mixed + other, err
	}
	if _, err := lookup(n); err != nil {
		return "", err
	}
	return n, nil
}

// skipMark leaves out a UTF-8 byte order mark at the start.
type skipMark struct {
	r    io.Reader
	done bool
}

var utf8Mark = []byte{0xef, 0xbb, 0xbf}

func (s *skipMark) Read(p []byte) (int, error) {
	if s.done || len(p) < 3 {
		return s.r.Read(p)
	}
	s.done = true
	n, err := io.ReadAtLeast(s.r, p, 3)
	if err == io.ErrUnexpectedEOF {
		err = io.EOF
	}
	if n >= 3 && bytes.Equal(p[:3], utf8Mark) {
		copy(p, p[3:n])
		n -= 3
	}
	if n > 0 {
		err = nil
	}
	return n, err
}

// byteDecoder decodes one byte a character. A byte that the encoding does not
// define stays as it is, which is never UTF-8.
type byteDecoder struct {
	transform.NopResetter
	table [256][]byte
}

func newByteDecoder(cm *charmap.Charmap) *byteDecoder {
	d := &byteDecoder{}
	for i := range d.table {
		r := cm.DecodeByte(byte(i))
		if r == utf8.RuneError || cm == charmap.Windows1252 && r == rune(i) && i >= 0x80 && i < 0xa0 {
			d.table[i] = []byte{byte(i)}
			continue
		}
		d.table[i] = utf8.AppendRune(nil, r)
	}
	return d
}

func (d *byteDecoder) Transform(dst, src []byte, atEOF bool) (nDst, nSrc int, err error) {
	for nSrc < len(src) {
		out := d.table[src[nSrc]]
		if nDst+len(out) > len(dst) {
			return nDst, nSrc, transform.ErrShortDst
		}
		nDst += copy(dst[nDst:], out)
		nSrc++
	}
	return nDst, nSrc, nil
}

// mixedDecoder takes what is UTF-8 as it is, and decodes all else byte by byte.
type mixedDecoder struct{ *byteDecoder }

func (d *mixedDecoder) Transform(dst, src []byte, atEOF bool) (nDst, nSrc int, err error) {
	for nSrc < len(src) {
		r, n := utf8.DecodeRune(src[nSrc:])
		out := src[nSrc : nSrc+n]
		if r == utf8.RuneError && n == 1 {
			if !atEOF && !utf8.FullRune(src[nSrc:]) {
				return nDst, nSrc, transform.ErrShortSrc
			}
			out = d.table[src[nSrc]]
		}
		if nDst+len(out) > len(dst) {
			return nDst, nSrc, transform.ErrShortDst
		}
		nDst += copy(dst[nDst:], out)
		nSrc += n
	}
	return nDst, nSrc, nil
}

// unreplace turns U+FFFD, which decoders put in the place of what they cannot
// decode, into a byte that is not UTF-8.
type unreplace struct{ transform.NopResetter }

func (unreplace) Transform(dst, src []byte, atEOF bool) (nDst, nSrc int, err error) {
	for nSrc < len(src) {
		n := bytes.IndexByte(src[nSrc:], 0xef)
		if n < 0 {
			n = len(src) - nSrc
		}
		if n > len(dst)-nDst {
			n = len(dst) - nDst
			copy(dst[nDst:], src[nSrc:nSrc+n])
			return nDst + n, nSrc + n, transform.ErrShortDst
		}
		nDst += copy(dst[nDst:], src[nSrc:nSrc+n])
		nSrc += n
		if nSrc == len(src) {
			break
		}
		if len(src)-nSrc < 3 && !atEOF {
			return nDst, nSrc, transform.ErrShortSrc
		}
		out := src[nSrc:min(nSrc+3, len(src))]
		took := len(out)
		if string(out) == "\ufffd" {
			out = []byte{0xff}
		}
		if len(dst)-nDst < len(out) {
			return nDst, nSrc, transform.ErrShortDst
		}
		nDst += copy(dst[nDst:], out)
		nSrc += took
	}
	return nDst, nSrc, nil
}
