package reading

import (
	"fmt"
	"strings"
)

// A Mark is a character that may stand between the digits of a number.
type Mark uint8

// The marks. Some stand for several characters that look alike.
const (
	NoMark     Mark = iota
	Comma           // ,
	Point           // .
	Space           // space, no-break space (U+00A0), narrow no-break space (U+202F)
	Apostrophe      // ' and ’ (U+2019)
)

var marks = [...]string{NoMark: "", Comma: ",", Point: ".", Space: " ", Apostrophe: "'"}

// String is the mark's plain character.
func (m Mark) String() string { return marks[m] }

// ParseMark reads one of the characters that a Mark stands for.
func ParseMark(s string) (Mark, error) {
	switch s {
	case "":
		return NoMark, nil
	case ",":
		return Comma, nil
	case ".":
		return Point, nil
	case " ", "\u00a0", "\u202f", "space":
		return Space, nil
	case "'", "’":
		return Apostrophe, nil
	}
	return NoMark, fmt.Errorf("%q: not a separator of digits; use a comma, a point, a space or an apostrophe", s)
}

// A Sign is the place of a number's minus.
type Sign uint8

// The places. Leading is always read; the others only where a Number allows them.
const (
	Leading  Sign = iota
	Trailing      // 12.50-
	Brackets      // (12.50)
)

// A Number says how the numbers of one column are written. The zero Number
// reads plain ones: digits, with a leading sign, without any mark.
type Number struct {
	Thousands Mark   // between groups of three digits
	Decimal   Mark   // Comma, Point, or NoMark where there is no fraction
	Currency  string // a sign or code that may stand before or after, like £ or GBP
	Negative  Sign   // a minus of this kind is read besides a leading one
	Percent   bool   // a percent sign stands behind every number and is left off
}

// NumberScan is a number taken apart, before anyone decides what its marks
// mean.
type NumberScan struct {
	Digits   []byte // all digits without marks; memory of the scan's own
	Negative bool
	Sign     Sign
	Plus     bool
	Percent  bool
	Currency string // as found in the table of currencies, or ""
	Exponent bool   // the text has an exponent; then only Plain is of use
	Plain    []byte // what stands between sign, currency and percent

	// Group stands between groups of three digits, and Fraction before the
	// fraction. When one mark stands once and three digits follow it, it may
	// be either: then it is in Either, and the other two are NoMark.
	Group, Fraction, Either Mark
	After                   int // digits behind Fraction or Either

	buf [64]byte
}

// currencies are recognised before or behind a number. ISO 4217 codes are
// those of the currencies most traded; signs are taken as they stand.
var currencies = []string{"£", "$", "€", "¥", "₹", "₽", "₩", "zł", "kr", "Kč",
	"GBP", "USD", "EUR", "JPY", "CHF", "AUD", "CAD", "NZD", "SEK", "NOK", "DKK", "PLN", "CZK", "CNY", "INR", "ZAR",
	"BRL", "MXN", "SGD", "HKD"}

// Scan takes field apart, which has no spaces around it. It reports whether
// field is a number in any way of writing.
func (n *NumberScan) Scan(field []byte) bool {
	n.Negative, n.Sign, n.Plus, n.Percent, n.Currency, n.Exponent = false, Leading, false, false, "", false
	n.Group, n.Fraction, n.Either, n.After = NoMark, NoMark, NoMark, 0
	n.Digits = n.buf[:0]
	b := field
	if len(b) == 0 || len(b) > 80 {
		return false
	}
	if b[0] == '(' {
		if b[len(b)-1] != ')' {
			return false
		}
		n.Negative, n.Sign = true, Brackets
		b = b[1 : len(b)-1]
	}
	if c := b; len(c) > 0 && (c[0] < '0' || c[0] > '9') {
		var ok bool
		if b, ok = n.head(b); !ok {
			return false
		}
	}
	if len(b) > 0 && (b[len(b)-1] < '0' || b[len(b)-1] > '9') {
		var ok bool
		if b, ok = n.foot(b); !ok {
			return false
		}
	}
	n.Plain = b
	return n.body(b)
}

// head takes sign and currency off the front, in either order.
func (n *NumberScan) head(b []byte) ([]byte, bool) {
	for len(b) > 0 {
		switch {
		case b[0] == '-' && !n.Negative && !n.Plus:
			n.Negative = true
			b = b[1:]
		case b[0] == '+' && !n.Negative && !n.Plus:
			n.Plus = true
			b = b[1:]
		case len(b) > 2 && string(b[:3]) == "−" && !n.Negative && !n.Plus: // U+2212
			n.Negative = true
			b = b[3:]
		case b[0] >= '0' && b[0] <= '9' || b[0] == '.' || b[0] == ',':
			return b, true
		case b[0] == ' ' && n.Currency != "":
			b = b[1:]
		case n.Currency == "":
			c := currencyAt(b, true)
			if c == "" {
				return nil, false
			}
			n.Currency = c
			b = b[len(c):]
		default:
			return nil, false
		}
	}
	return nil, false
}

// foot takes percent sign, trailing minus and currency off the end.
func (n *NumberScan) foot(b []byte) ([]byte, bool) {
	for len(b) > 0 {
		last := b[len(b)-1]
		switch {
		case last >= '0' && last <= '9':
			return b, true
		case last == '%' && !n.Percent:
			n.Percent = true
			b = b[:len(b)-1]
		case last == '-' && !n.Negative && !n.Plus:
			n.Negative, n.Sign = true, Trailing
			b = b[:len(b)-1]
		case last == ' ' && (n.Percent || n.Currency != "" || n.Negative):
			b = b[:len(b)-1]
		case n.Currency == "":
			c := currencyAt(b, false)
			if c == "" {
				return nil, false
			}
			n.Currency = c
			b = b[:len(b)-len(c)]
		default:
			return nil, false
		}
	}
	return nil, false
}

// currenciesBy has the currencies by their first byte, and by their last.
var currenciesBy = func() (by [2][256][]string) {
	for _, c := range currencies {
		first, last := c[0], c[len(c)-1]
		by[0][first] = append(by[0][first], c)
		by[1][last] = append(by[1][last], c)
	}
	return
}()

// currencyBegins has, by the first byte of the currencies, what may stand behind it: the low five bits of
// the second bytes, each a bit, or all of them where a currency has one byte.
var currencyBegins = func() (begins [256]uint32) {
	for _, c := range currencies {
		if len(c) == 1 {
			begins[c[0]] = ^uint32(0)
		} else {
			begins[c[0]] |= 1 << (c[1] & 31)
		}
	}
	return
}()

// StartsWithCurrency reports whether a currency stands before something, of two bytes at least.
func StartsWithCurrency(b []byte) bool {
	return currencyBegins[b[0]]>>(b[1]&31)&1 != 0 && currencyAt(b, true) != ""
}

func currencyAt(b []byte, front bool) string {
	if front {
		for _, c := range currenciesBy[0][b[0]] {
			if len(b) > len(c) && string(b[:len(c)]) == c {
				return c
			}
		}
		return ""
	}
	for _, c := range currenciesBy[1][b[len(b)-1]] {
		if len(b) > len(c) && string(b[len(b)-len(c):]) == c {
			return c
		}
	}
	return ""
}

// body reads digits and marks.
//
// It is long because it runs for every number, once over its bytes.
func (n *NumberScan) body(b []byte) bool {
	var first, second Mark // kinds of mark, in order of appearance
	var firsts int         // how often the first kind stands
	lead, group := -1, 0   // digits before the first mark, and since the last
	even := true           // every group between marks has three digits
	for i := 0; i < len(b); {
		c := b[i]
		if c >= '0' && c <= '9' {
			if len(n.Digits) == cap(n.Digits) {
				return false
			}
			n.Digits = append(n.Digits, c)
			group++
			i++
			continue
		}
		if (c == 'e' || c == 'E') && group > 0 {
			n.Exponent = true
			return exponent(b[i+1:]) && (first == NoMark || first == Point && firsts == 1 && second == NoMark)
		}
		m, width := markAt(b[i:])
		if m == NoMark || second != NoMark {
			return false
		}
		if lead < 0 {
			lead, first, firsts = group, m, 1
		} else {
			even = even && group == 3
			if m == first {
				firsts++
			} else {
				second = m
			}
		}
		group = 0
		i += width
	}
	if group == 0 {
		return false // ends with a mark, or has no digit
	}
	switch {
	case first == NoMark:
		return true
	case second != NoMark:
		n.Group, n.Fraction, n.After = first, second, group
		return even && lead >= 1 && lead <= 3 && (second == Comma || second == Point)
	case firsts > 1:
		n.Group = first
		return even && group == 3 && lead >= 1 && lead <= 3
	}
	groups := group == 3 && lead >= 1 && lead <= 3 && n.Digits[0] != '0'
	fraction := first == Comma || first == Point
	switch {
	case groups && fraction:
		n.Either, n.After = first, group
	case groups:
		n.Group = first
	case fraction:
		n.Fraction, n.After = first, group
	default:
		return false
	}
	return true
}

func exponent(b []byte) bool {
	if len(b) > 0 && (b[0] == '+' || b[0] == '-') {
		b = b[1:]
	}
	if len(b) == 0 || len(b) > 3 {
		return false
	}
	for _, c := range b {
		if c < '0' || c > '9' {
			return false
		}
	}
	return true
}

func markAt(b []byte) (Mark, int) {
	switch b[0] {
	case ',':
		return Comma, 1
	case '.':
		return Point, 1
	case ' ':
		return Space, 1
	case '\'':
		return Apostrophe, 1
	case 0xc2:
		if len(b) > 1 && b[1] == 0xa0 {
			return Space, 2
		}
	case 0xe2:
		if len(b) > 2 && b[1] == 0x80 && b[2] == 0xaf {
			return Space, 3
		}
		if len(b) > 2 && b[1] == 0x80 && b[2] == 0x99 {
			return Apostrophe, 3
		}
	}
	return NoMark, 0
}

// Fits reports whether the scanned number is written the way f reads, and how
// many of its digits then stand behind the point.
func (f *Number) Fits(n *NumberScan) (fraction int, ok bool) {
	if n.Percent != f.Percent || n.Currency != "" && n.Currency != f.Currency ||
		n.Sign != Leading && n.Sign != f.Negative {
		return 0, false
	}
	if n.Either != NoMark {
		switch n.Either { // others: the cases are the marks of this column
		case f.Decimal:
			return n.After, true
		case f.Thousands:
			return 0, true
		}
		return 0, false
	}
	if n.Group != NoMark && n.Group != f.Thousands || n.Fraction != NoMark && n.Fraction != f.Decimal {
		return 0, false
	}
	return n.After, true
}

// String describes the way of writing in a few words.
func (f Number) String() string {
	var parts []string
	if f.Thousands != NoMark {
		parts = append(parts, fmt.Sprintf("thousands %q", f.Thousands.String()))
	}
	if f.Decimal != NoMark {
		parts = append(parts, fmt.Sprintf("decimal %q", f.Decimal.String()))
	}
	if f.Currency != "" {
		parts = append(parts, "currency "+f.Currency)
	}
	switch f.Negative {
	case Trailing:
		parts = append(parts, "minus behind")
	case Brackets:
		parts = append(parts, "negatives in brackets")
	case Leading:
	}
	if f.Percent {
		parts = append(parts, "percent")
	}
	return strings.Join(parts, ", ")
}
