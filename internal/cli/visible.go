package cli

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"regexp"
	"unicode/utf8"

	"ambertray/internal/reading"
)

// visible is where text for people goes: what would steer a terminal, or turn the order
// of letters round, is shown as what it is, wherever it came from: values, names of
// files and tables, messages of servers. Of escapes, only the program's own colours pass,
// and only to a terminal.
type visible struct {
	io.Writer
	colours bool
	// plain tells of a terminal that shows no letters beyond ASCII.
	plain bool
}

// asciiOnly reports whether the locale has no letters beyond ASCII (POSIX, "Locale").
func asciiOnly() bool {
	for _, name := range []string{"LC_ALL", "LC_CTYPE", "LANG"} {
		if v := os.Getenv(name); v != "" {
			return v == "C" || v == "POSIX"
		}
	}
	return false
}

// ascii are the program's own signs as a terminal without them has them.
var ascii = map[rune]string{'…': "...", '→': "->", '–': "-", '—': "-", '≈': "~", '×': "x", '·': ".", '⏎': "\\n",
	'⇥': "\\t",
	'␍': "\\r", '’': "'", '‘': "'"}

// colour is how the program colours text (ECMA-48, 8.3.117, SGR).
var colour = regexp.MustCompile(`^\x1b\[[0-9;]*m`)

// Write implements io.Writer.
func (v *visible) Write(p []byte) (int, error) {
	if clean(p) && !(v.plain && !isASCII(p)) {
		return v.Writer.Write(p)
	}
	out := make([]byte, 0, len(p)+64)
	colours := v.colours || isTerminal(v)
	for rest := p; len(rest) > 0; {
		if rest[0] == 0x1b && colours {
			if own := colour.Find(rest); own != nil {
				out, rest = append(out, own...), rest[len(own):]
				continue
			}
		}
		r, n := utf8.DecodeRune(rest)
		switch {
		case r == utf8.RuneError && n == 1:
			out = fmt.Appendf(out, "<%02X>", rest[0])
		case r == '\n' || r == '\t':
			out = append(out, rest[0])
		case r < ' ':
			out = utf8.AppendRune(out, 0x2400+r) // its picture (Unicode, Control Pictures)
		case v.plain && r >= 0x80 && ascii[r] != "":
			out = append(out, ascii[r]...)
		case reading.Steers(r), v.plain && r >= 0x80:
			out = fmt.Appendf(out, "<U+%04X>", r)
		default:
			out = append(out, rest[:n]...)
		}
		rest = rest[n:]
	}
	if _, err := v.Writer.Write(out); err != nil {
		return 0, err
	}
	return len(p), nil
}

func isASCII(p []byte) bool {
	for _, c := range p {
		if c >= 0x80 {
			return false
		}
	}
	return true
}

// clean reports whether there is nothing to be made visible, as nearly always.
func clean(p []byte) bool {
	for _, c := range p {
		if c < ' ' && c != '\n' && c != '\t' || c == 0x7f {
			return false
		}
	}
	return utf8.Valid(p) && !bytes.ContainsFunc(p, reading.Steers)
}
