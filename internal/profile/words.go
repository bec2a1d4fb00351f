package profile

import (
	"bytes"
	"fmt"
	"strings"

	"ambertray/internal/phrase"
	"ambertray/internal/reading"
	"ambertray/internal/sqltype"
)

// Range is the smallest and largest value as a person reads them, numbers
// with commas between thousands. It is "" where there are none.
func (c *Column) Range() string {
	lo, hi := c.Smallest, c.Largest
	if c.Type.IsNumber() {
		lo, hi = groupPlain(lo), groupPlain(hi)
	}
	if lo == hi {
		return lo
	}
	return reading.Shorten(lo, 24) + " … " + reading.Shorten(hi, 24)
}

// grouped writes n with commas between thousands.
func grouped(n int64) string { return phrase.Grouped(n) }

func groupPlain(s string) string {
	neg := strings.HasPrefix(s, "-")
	s = strings.TrimPrefix(s, "-")
	whole, rest := s, ""
	if i := strings.IndexByte(s, '.'); i >= 0 {
		whole, rest = s[:i], s[i:]
	}
	var b bytes.Buffer
	if neg {
		b.WriteByte('-')
	}
	for i := range len(whole) {
		if i > 0 && (len(whole)-i)%3 == 0 {
			b.WriteByte(',')
		}
		b.WriteByte(whole[i])
	}
	return b.String() + rest
}

func group(n int64, noun string) string { return phrase.Count(n, noun) }

func groupIs(n int64, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return grouped(n) + " " + many
}

func quoteList(words []string) string {
	var q []string
	for _, w := range words {
		q = append(q, "'"+w+"'")
	}
	return shortList(q)
}

func shortList(s []string) string {
	if len(s) > 6 {
		return strings.Join(s[:6], ", ") + fmt.Sprintf(" and %d more", len(s)-6)
	}
	return strings.Join(s, ", ")
}

func flag(header string, t sqltype.Type) string {
	return phrase.ShellWord(header + "=" + t.String())
}
