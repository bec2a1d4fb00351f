package sqlserver

import (
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/japanese"
	"golang.org/x/text/encoding/korean"
	"golang.org/x/text/encoding/simplifiedchinese"
	"golang.org/x/text/encoding/traditionalchinese"
)

// utf8Page is the code page of collations whose names end in UTF8.
const utf8Page = 65001

// pages are the code pages of char and varchar with a byte for each letter, and wide those
// that have one or two.
var (
	pages = map[int]*charmap.Charmap{437: charmap.CodePage437, 850: charmap.CodePage850, 874: charmap.Windows874,
		1250: charmap.Windows1250, 1251: charmap.Windows1251, 1252: charmap.Windows1252, 1253: charmap.Windows1253,
		1254: charmap.Windows1254, 1255: charmap.Windows1255, 1256: charmap.Windows1256, 1257: charmap.Windows1257,
		1258: charmap.Windows1258}
	widePages = map[int]encoding.Encoding{932: japanese.ShiftJIS, 936: simplifiedchinese.GBK, 949: korean.EUCKR,
		950: traditionalchinese.Big5}
)

// lacks tells whether a code page lacks a letter of a text; nil: it has all.
func lacks(page int) func([]byte) bool {
	switch m, wide := pages[page], widePages[page]; {
	case page == utf8Page:
		return nil
	case m != nil:
		return func(b []byte) bool {
			for i := 0; i < len(b); {
				r, n := utf8.DecodeRune(b[i:])
				if r >= utf8.RuneSelf {
					if _, has := m.EncodeRune(r); !has {
						return true
					}
				}
				i += n
			}
			return false
		}
	case wide != nil:
		return func(b []byte) bool {
			if isASCII(b) {
				return false
			}
			_, err := wide.NewEncoder().Bytes(b)
			return err != nil
		}
	}
	return func(b []byte) bool { return !isASCII(b) } // a page that is not known
}

func isASCII(b []byte) bool {
	for _, c := range b {
		if c >= utf8.RuneSelf {
			return false
		}
	}
	return true
}
