// Package tsql reads Transact-SQL: the part of it that the stand-in for SQL Server
// executes (Transact-SQL reference). What is not in it is an error that says so.
package tsql

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// A kind is what a token is.
type kind uint8

const (
	end      kind = iota
	word          // a bare name or a keyword
	quoted        // a name in brackets or double quotes
	variable      // @name or @@name
	number
	text     // '…'
	wideText // N'…'
	bytes    // 0x…
	symbol
)

// A token is one piece of the text.
type token struct {
	kind kind
	text string // a word in its own case; quotes taken off
	up   string // a word or symbol in upper case
	line int
	at   int // where it begins, in bytes
}

// A SyntaxError is text that is not understood.
type SyntaxError struct {
	Line int
	What string
}

func (e *SyntaxError) Error() string { return e.What }

type lexer struct {
	s    string
	i    int
	line int
	out  []token
}

// lex cuts text into tokens; the last is end.
func lex(s string) ([]token, error) {
	l := &lexer{s: s, line: 1}
	for {
		if err := l.space(); err != nil {
			return nil, err
		}
		if l.i >= len(l.s) {
			l.out = append(l.out, token{kind: end, line: l.line, at: l.i})
			return l.out, nil
		}
		if err := l.one(); err != nil {
			return nil, err
		}
	}
}

func (l *lexer) fail(what string, args ...any) error {
	return &SyntaxError{l.line, fmt.Sprintf(what, args...)}
}

// space skips blanks and comments, which nest.
func (l *lexer) space() error {
	for l.i < len(l.s) {
		r, n := utf8.DecodeRuneInString(l.s[l.i:])
		switch {
		case r == '\n':
			l.line++
			l.i++
		case unicode.IsSpace(r) || r == '\ufeff':
			l.i += n
		case strings.HasPrefix(l.s[l.i:], "--"):
			if k := strings.IndexByte(l.s[l.i:], '\n'); k >= 0 {
				l.i += k
			} else {
				l.i = len(l.s)
			}
		case strings.HasPrefix(l.s[l.i:], "/*"):
			depth := 0
			for {
				switch rest := l.s[l.i:]; {
				case rest == "":
					return l.fail("Missing end comment mark '*/'.")
				case strings.HasPrefix(rest, "/*"):
					depth++
					l.i += 2
				case strings.HasPrefix(rest, "*/"):
					depth--
					l.i += 2
				default:
					if rest[0] == '\n' {
						l.line++
					}
					l.i++
				}
				if depth == 0 {
					break
				}
			}
		default:
			return nil
		}
	}
	return nil
}

func isLetter(r rune) bool { return r == '_' || r == '#' || unicode.IsLetter(r) }
func isPart(r rune) bool {
	return isLetter(r) || unicode.IsDigit(r) || r == '@' || r == '$' || unicode.Is(unicode.Mn, r)
}

// run is the longest beginning of s whose characters are.
func run(s string, is func(rune) bool) int {
	for i, r := range s {
		if !is(r) {
			return i
		}
	}
	return len(s)
}

func (l *lexer) add(k kind, text string, n int) {
	t := token{kind: k, text: text, line: l.line, at: l.i}
	if k == word || k == symbol {
		t.up = strings.ToUpper(text)
	}
	l.out = append(l.out, t)
	l.line += strings.Count(l.s[l.i:l.i+n], "\n")
	l.i += n
}

// symbols of more than one character.
var symbols = []string{"<>", "<=", ">=", "!=", "!<", "!>", "+=", "-=", "*=", "/=", "%=", "&=", "|=", "^=", "::"}

func (l *lexer) one() error {
	s := l.s[l.i:]
	r, _ := utf8.DecodeRuneInString(s)
	switch {
	case (r == 'N' || r == 'n') && strings.HasPrefix(s[1:], "'"):
		return l.quote(wideText, 1, '\'')
	case r == '\'':
		return l.quote(text, 0, '\'')
	case r == '[':
		return l.quote(quoted, 0, ']')
	case r == '"':
		return l.quote(quoted, 0, '"')
	case r == '@':
		l.add(variable, s[:run(s, isPart)], run(s, isPart))
	case strings.HasPrefix(s, "0x") || strings.HasPrefix(s, "0X"):
		n := 2 + run(s[2:], func(r rune) bool { return strings.ContainsRune("0123456789abcdefABCDEF", r) })
		l.add(bytes, s[2:n], n)
	case r >= '0' && r <= '9' || r == '.' && len(s) > 1 && s[1] >= '0' && s[1] <= '9':
		n := numberEnd(s)
		l.add(number, s[:n], n)
	case isLetter(r):
		n := run(s, isPart)
		l.add(word, s[:n], n)
	default:
		for _, x := range symbols {
			if strings.HasPrefix(s, x) {
				l.add(symbol, x, len(x))
				return nil
			}
		}
		if !strings.ContainsRune("()+-*/%=<>,.;&|^~:", r) {
			return l.fail("Incorrect syntax near '%c'.", r)
		}
		l.add(symbol, s[:1], 1)
	}
	return nil
}

// numberEnd is where a number ends: digits, a point, an exponent.
func numberEnd(s string) int {
	digit := func(r rune) bool { return r >= '0' && r <= '9' }
	n := run(s, digit)
	if n < len(s) && s[n] == '.' {
		n++
		n += run(s[n:], digit)
	}
	if n < len(s) && (s[n] == 'e' || s[n] == 'E') {
		k := n + 1
		if k < len(s) && (s[k] == '+' || s[k] == '-') {
			k++
		}
		if d := run(s[k:], digit); d > 0 {
			n = k + d
		}
	}
	return n
}

// quote takes what stands between quotes, in which the closing one is doubled.
func (l *lexer) quote(k kind, before int, close byte) error {
	s := l.s[l.i:]
	var b strings.Builder
	for i := before + 1; i < len(s); i++ {
		if s[i] != close {
			b.WriteByte(s[i])
			continue
		}
		if i+1 < len(s) && s[i+1] == close {
			b.WriteByte(close)
			i++
			continue
		}
		l.add(k, b.String(), i+1)
		return nil
	}
	return l.fail("Unclosed quotation mark after the character string '%.40s'.", s[before+1:])
}
