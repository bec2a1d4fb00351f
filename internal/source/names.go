package source

import (
	"fmt"
	"strings"

	"ambertray/internal/source/delimited"
)

// DelimiterWord is the delimiter as evidence says it.
func DelimiterWord(d string) string {
	switch d {
	case "":
		return "none"
	case ",":
		return "comma"
	case "\t":
		return "tab"
	case "|":
		return "pipe"
	case ";":
		return "semicolon"
	case " ":
		return "space"
	case ":":
		return "colon"
	case Blanks:
		return "runs of blanks"
	}
	return fmt.Sprintf("%q", d)
}

// Characters that people and plans call by a name.
var (
	delimiterNames = map[string]string{"comma": ",", "tab": "\t", "\\t": "\t", "pipe": "|", "semicolon": ";",
		"colon": ":", "space": " ", "none": ""}
	quoteNames  = map[string]string{"double": `"`, "single": "'", "none": ""}
	escapeNames = map[string]string{"doubled": "", "backslash": `\`}
)

// ParseDelimiter reads a delimiter given as itself or by its name.
func ParseDelimiter(s string) string { return named(delimiterNames, s) }

// ParseQuote reads a quote given as itself or by its name: one ASCII
// character, or none.
func ParseQuote(s string) (string, error) { return one(named(quoteNames, s)) }

// ParseEscape reads an escape character given as itself or by its name; none
// means that quotes are doubled.
func ParseEscape(s string) (string, error) { return one(named(escapeNames, s)) }

func named(names map[string]string, s string) string {
	if c, ok := names[strings.ToLower(s)]; ok {
		return c
	}
	return s
}

func one(s string) (string, error) {
	if len(s) > 1 {
		return "", fmt.Errorf("%q is not one ASCII character", s)
	}
	return s, nil
}

// Blanks is the delimiter of runs of blanks and tabs.
const Blanks = "blanks"

// formDelimiter is the delimiter of a form as plans write it.
func formDelimiter(f delimited.Form) string {
	if f.Blanks {
		return Blanks
	}
	return DelimiterName(f.Delimiter)
}

// DelimiterName is the delimiter as plans write it: by a name only where the
// character would not be seen.
func DelimiterName(d string) string {
	for n, c := range delimiterNames {
		if c == d && n != "comma" && n != "pipe" && n != "semicolon" && n != "colon" && n != `\t` {
			return n
		}
	}
	return d
}

// EscapeName is the escape character as plans write it.
func EscapeName(e byte) string {
	if e == '\\' {
		return "backslash"
	}
	return string(rune(e))
}

// QuoteName is the quote as plans write it.
func QuoteName(q byte) string {
	switch q {
	case 0:
		return "none"
	case '"':
		return "double"
	case '\'':
		return "single"
	}
	return string(rune(q))
}
