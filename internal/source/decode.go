package source

import (
	"bytes"
	"io"

	"golang.org/x/text/transform"

	"ambertray/internal/source/charset"
)

// decode returns r as UTF-8 with line ends that records are told apart by. Bytes that
// do not decode come out as bytes that are not UTF-8 either.
func decode(r io.Reader, name, lineEnd string) (io.Reader, error) {
	r, err := charset.Decode(r, name)
	if err != nil {
		return nil, err
	}
	switch lineEnd {
	case "cr":
		r = transform.NewReader(r, feeds{})
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

// feeds makes line feeds of carriage returns.
type feeds struct{ transform.NopResetter }

func (feeds) Transform(dst, src []byte, atEOF bool) (nDst, nSrc int, err error) {
	n := copy(dst, src)
	for i, c := range dst[:n] {
		if c == '\r' {
			dst[i] = '\n'
		}
	}
	if n < len(src) {
		err = transform.ErrShortDst
	}
	return n, n, err
}
