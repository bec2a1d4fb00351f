package reading

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"ambertray/internal/sqltype"
)

// Keeps is what a column of a table, whose type changes what it is given, keeps as it is.
type Keeps struct {
	// Codes tells that the values are text, and that the column makes numbers of those
	// that look like one.
	Codes bool
	// Digits and Decimals, if above 0, are how many digits of a number it keeps, in all
	// and behind the point.
	Digits, Decimals int
	// Labels, if any, are all the words it takes, or of a Set several of them, with commas
	// between; AnyCase tells that capitals do not matter.
	Labels  []string
	Set     bool
	AnyCase bool
	// Bytes, if above 0, is how many bytes a text may have in UTF-8, beside its length.
	Bytes int
	// Step is what moments have to be a multiple of, in microseconds, to be kept; 0: any.
	Step int64
	// Lacks tells whether the column's code page lacks a letter of a text; nil: it has all.
	Lacks func(text []byte) bool `json:"-"`
}

// Of is what it keeps of values of a type: it makes numbers of texts, but of no dates and times.
func (k Keeps) Of(t sqltype.Type) Keeps {
	k.Codes = k.Codes && t.IsText()
	if !t.IsText() && !t.IsNumber() {
		k.Digits, k.Decimals = 0, 0
	}
	return k
}

// faithful says whether a column keeps a field as it is, where its type changes what it
// is given: a number that was a code, or that has more digits than the column keeps, or a
// word that the column does not list.
func (r *Reader) faithful(b []byte) Misfit {
	if len(r.Keeps.Labels) > 0 {
		return r.listed(string(b))
	}
	digits, decimals, number := significant(b)
	switch {
	case r.Keeps.Codes && r.Type.IsText() && number:
		return LosesForm
	case r.Keeps.Codes && len(b) > 1 && (b[0] == '+' || b[0] == '0' && b[1] >= '0' && b[1] <= '9'):
		return LosesForm
	case number && (r.Keeps.Digits > 0 && digits > r.Keeps.Digits ||
		r.Keeps.Decimals > 0 && decimals > r.Keeps.Decimals):
		return Inexact
	}
	return OK
}

// listed reports whether the column has a label, or, of a set, each of several.
func (r *Reader) listed(s string) Misfit {
	words := []string{s}
	if r.Keeps.Set && s != "" {
		words = strings.Split(s, ",")
	}
	for _, w := range words {
		is := func(l string) bool { return l == w || r.Keeps.AnyCase && strings.EqualFold(l, w) }
		if !slices.ContainsFunc(r.Keeps.Labels, is) {
			return NotListed
		}
	}
	return OK
}

// Reason says what is wrong with a field, in the words of the column.
func (r *Reader) Reason(m Misfit, field []byte) string {
	if m == OutOfRange && (r.Lo != 0 || r.Hi != 0) {
		lo, hi := r.Type.Range()
		return fmt.Sprintf("outside what the column holds (%d to %d)", max(lo, r.Lo), min(hi, r.Hi))
	}
	return m.Reason(r.Type, field)
}

// significant counts the digits of a number that mean something, in all and behind the
// point, as databases read numbers in text: a sign, digits, a point, an exponent.
func significant(b []byte) (digits, decimals int, number bool) {
	b = bytes.TrimSpace(b)
	if len(b) > 0 && (b[0] == '-' || b[0] == '+') {
		b = b[1:]
	}
	zeros, any, point, behind := 0, false, false, 0
	for i, c := range b {
		switch {
		case c >= '0' && c <= '9':
			any = true
			if point {
				behind++
			}
			if c != '0' && point {
				decimals = behind
			}
			if c != '0' {
				digits += zeros + 1
				zeros = 0
			} else if digits > 0 {
				zeros++
			}
		case c == '.' && !point:
			point = true
		case (c == 'e' || c == 'E') && any:
			rest := bytes.TrimLeft(b[i+1:], "+-")
			return digits, decimals, len(rest) > 0 && len(bytes.Trim(rest, "0123456789")) == 0
		default:
			return 0, 0, false
		}
	}
	return digits, decimals, any
}
