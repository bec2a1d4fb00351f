package sql

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// An Error is one that Oracle has a number for.
type Error struct {
	Number int
	Text   string
	At     int // where in the statement, in bytes
}

func (e *Error) Error() string { return fmt.Sprintf("ORA-%05d: %s", e.Number, e.Text) }

type kind uint8

const (
	end kind = iota
	word
	quoted
	number
	text
	bind
	sign
)

type token struct {
	kind kind
	s    string // a word in upper case, the content of quotes
	at   int
	to   int
}

// lex takes a statement apart.
func lex(src string) ([]token, error) {
	var out []token
	i := 0
	for i < len(src) {
		r, n := utf8.DecodeRuneInString(src[i:])
		switch {
		case unicode.IsSpace(r):
			i += n
		case strings.HasPrefix(src[i:], "--"):
			if k := strings.IndexByte(src[i:], '\n'); k >= 0 {
				i += k
			} else {
				i = len(src)
			}
		case strings.HasPrefix(src[i:], "/*"):
			k := strings.Index(src[i+2:], "*/")
			if k < 0 {
				return nil, &Error{1742, "comment not terminated properly", i}
			}
			i += k + 4
		default:
			t, err := next(src, i, r)
			if err != nil {
				return nil, err
			}
			out = append(out, t)
			i = t.to
		}
	}
	return append(out, token{kind: end, at: len(src), to: len(src)}), nil
}

// next is the token that begins at i.
func next(src string, i int, r rune) (token, error) {
	switch {
	case r == '\'' || (r == 'N' || r == 'n') && strings.HasPrefix(src[i+1:], "'"):
		at := i
		if r != '\'' {
			i++
		}
		s, to := inQuotes(src, i, '\'')
		if to < 0 {
			return token{}, &Error{1756, "quoted string not properly terminated", at}
		}
		return token{text, s, at, to}, nil
	case r == '"':
		s, to := inQuotes(src, i, '"')
		if to < 0 {
			return token{}, &Error{1740, "missing double quote in identifier", i}
		}
		return token{quoted, s, i, to}, nil
	case r == ':':
		to := i + 1
		for to < len(src) && isWord(rune(src[to])) {
			to++
		}
		return token{bind, src[i+1 : to], i, to}, nil
	case isDigit(r) || r == '.' && i+1 < len(src) && isDigit(rune(src[i+1])):
		to := numberEnd(src, i)
		return token{number, src[i:to], i, to}, nil
	case isWord(r) || unicode.IsLetter(r):
		to := i
		for to < len(src) {
			c, n := utf8.DecodeRuneInString(src[to:])
			if !isWord(c) && !unicode.IsLetter(c) {
				break
			}
			to += n
		}
		return token{word, strings.ToUpper(src[i:to]), i, to}, nil
	}
	for _, s := range []string{"<>", "!=", "<=", ">=", "||", "=>", ":=", "^="} {
		if strings.HasPrefix(src[i:], s) {
			if s == "!=" || s == "^=" {
				return token{sign, "<>", i, i + 2}, nil
			}
			return token{sign, s, i, i + 2}, nil
		}
	}
	if strings.ContainsRune("()+-*/,.;=<>@%", r) {
		return token{sign, string(r), i, i + 1}, nil
	}
	return token{}, &Error{911, "invalid character", i}
}

func inQuotes(src string, i int, q byte) (s string, to int) {
	var b strings.Builder
	for i++; i < len(src); i++ {
		if src[i] == q {
			if i+1 < len(src) && src[i+1] == q {
				i++
			} else {
				return b.String(), i + 1
			}
		}
		b.WriteByte(src[i])
	}
	return "", -1
}

func numberEnd(src string, i int) int {
	for i < len(src) && (isDigit(rune(src[i])) || src[i] == '.') {
		i++
	}
	if i < len(src) && (src[i] == 'e' || src[i] == 'E') {
		k := i + 1
		if k < len(src) && (src[k] == '+' || src[k] == '-') {
			k++
		}
		if k < len(src) && isDigit(rune(src[k])) {
			for k < len(src) && isDigit(rune(src[k])) {
				k++
			}
			return k
		}
	}
	return i
}

func isDigit(r rune) bool { return r >= '0' && r <= '9' }
func isWord(r rune) bool {
	return r == '_' || r == '$' || r == '#' || isDigit(r) || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z'
}
