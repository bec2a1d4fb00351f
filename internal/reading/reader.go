package reading

import (
	"bytes"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
	"unsafe"

	"ambertray/internal/sqltype"
)

// A Reader reads the fields of one column. It is safe for one goroutine at a
// time; Clone it for others.
type Reader struct {
	Type sqltype.Type
	// Number is how numbers are written.
	Number Number
	// Dates are the forms of dates and times, tried in this order.
	Dates []*Pattern
	// Pivot is the first of the hundred years that two-digit years stand for;
	// 0 means DefaultPivot.
	Pivot int
	// Zone is where times without a zone were, for a timestamp with one; nil: they are
	// misfits.
	Zone *time.Location
	// True and False are words, in any case. Empty means DefaultWords.
	True, False []string
	// NullWords are words that mean null, compared exactly.
	NullWords []string
	// Trim takes spaces off both ends of text. Other types always ignore them.
	Trim bool
	// KeepBlank makes an empty field an empty text, not a null; KeepQuoted
	// does so only for one written in quotes.
	KeepBlank, KeepQuoted bool
	// NoEmpty makes a field of nothing a null even so.
	NoEmpty bool
	// Required makes a null a misfit, unless Default is set.
	Required bool
	// Lo and Hi bound an integer type more narrowly, if not both 0.
	Lo, Hi int64
	// Keeps is what a column of a table makes of values, beside its type.
	Keeps Keeps
	// Default stands in for a null. It is plain text: 12.50, 2026-11-23.
	Default *string

	scan     NumberScan
	civil    Civil
	fallback *Reader
	simple   bool // numbers have no marks but a decimal point
	most     int  // bytes of a text that is short enough for certain
	// least and greatest bound a whole number.
	least, greatest int64
	words           map[string]int64
}

// DefaultWords are the pairs read as true and false where a plan names none.
var DefaultWords = [][2]string{{"true", "false"}, {"yes", "no"}, {"y", "n"}, {"t", "f"}, {"on", "off"}}

var pow10 = func() (p [19]int64) {
	p[0] = 1
	for i := 1; i < len(p); i++ {
		p[i] = p[i-1] * 10
	}
	return
}()

// Prepare checks the reader and makes it ready. Call it once, after the
// fields are set and before the first Read.
//
// It is long because it checks every setting of a reader, each by itself.
func (r *Reader) Prepare() error {
	t := r.Type
	if t.IsTemporal() {
		if len(r.Dates) == 0 {
			if r.Dates = isoPatterns(t.Kind); r.Zone != nil {
				r.Dates = append(r.Dates, isoPatterns(sqltype.Timestamp)...)
			}
		}
		dates := make([]*Pattern, len(r.Dates))
		for i, p := range r.Dates {
			c := *p
			if r.Pivot != 0 {
				c.pivot = r.Pivot
			}
			dates[i] = &c
			if t.Kind == sqltype.Time && p.HasDate() || t.Kind == sqltype.Date && !p.HasDate() ||
				t.Kind >= sqltype.Timestamp && !p.HasDate() {
				return fmt.Errorf("pattern %q does not read a %s", p, family(t))
			}
			if t.Kind == sqltype.TimestampTZ && !p.HasZone() && r.Zone == nil {
				return fmt.Errorf("pattern %q has no zone (X), which %s needs", p, t)
			}
			if t.Kind == sqltype.Timestamp && p.HasZone() {
				return fmt.Errorf("pattern %q has a zone, which %s would lose; make the type timestamp with time zone",
					p, t)
			}
		}
		r.Dates = dates
	}
	r.simple = r.Number.Thousands == NoMark && r.Number.Decimal != Comma && r.Number.Currency == "" &&
		r.Number.Negative == Leading && !r.Number.Percent
	if r.Number.Thousands != NoMark && r.Number.Thousands == r.Number.Decimal {
		return fmt.Errorf("thousands and decimal mark are both %q", r.Number.Decimal)
	}
	// A plan that names no decimal mark still reads the usual one.
	if r.Number.Decimal == NoMark {
		if r.Number.Decimal = Point; r.Number.Thousands == Point {
			r.Number.Decimal = Comma
		}
	}
	r.most = r.mostBytes()
	if r.least, r.greatest = t.Range(); r.Lo != 0 || r.Hi != 0 {
		r.least, r.greatest = max(r.least, r.Lo), min(r.greatest, r.Hi)
	}
	if t.Kind == sqltype.Boolean {
		r.words = map[string]int64{}
		add := func(word string, v int64) {
			for _, w := range []string{strings.ToLower(word), strings.ToUpper(word), strings.ToUpper(word[:1]) +
				strings.ToLower(word[1:])} {
				r.words[w] = v
			}
		}
		for _, w := range r.True {
			if w != "" {
				add(w, 1)
			}
		}
		for _, w := range r.False {
			if w != "" {
				add(w, 0)
			}
		}
		if len(r.words) == 0 {
			for _, p := range DefaultWords {
				add(p[0], 1)
				add(p[1], 0)
			}
			r.words["1"], r.words["0"] = 1, 0
		}
	}
	if r.Default != nil && r.fallback == nil {
		r.fallback = &Reader{Type: t, Number: Number{Decimal: Point}, KeepBlank: *r.Default != ""}
		if err := r.fallback.Prepare(); err != nil {
			return err
		}
		var v Value
		if m := r.fallback.Read([]byte(*r.Default), false, &v); m != OK || v.Null {
			return fmt.Errorf("default %q: %s", *r.Default, r.Reason(m, []byte(*r.Default)))
		}
	}
	return nil
}

func isoPatterns(k sqltype.Kind) []*Pattern {
	switch k { // others: dates with times, below
	case sqltype.Date:
		return []*Pattern{MustPattern("yyyy-MM-dd")}
	case sqltype.Time:
		return []*Pattern{MustPattern("HH:mm:ss"), MustPattern("HH:mm:ss.SSSSSSSSS"), MustPattern("HH:mm")}
	}
	var p []*Pattern
	zone := ""
	if k == sqltype.TimestampTZ {
		zone = "X"
	}
	for _, sep := range []string{" ", "'T'"} {
		for _, clock := range []string{"HH:mm:ss", "HH:mm:ss.SSSSSSSSS", "HH:mm"} {
			p = append(p, MustPattern("yyyy-MM-dd"+sep+clock+zone))
		}
	}
	if k == sqltype.Timestamp {
		p = append(p, MustPattern("yyyy-MM-dd"))
	}
	return p
}

// Words are those that are read as true, which is 1, and as false.
func (r *Reader) Words() map[string]int64 { return r.words }

// Clone returns a reader for another goroutine.
func (r *Reader) Clone() *Reader {
	c := *r
	if r.fallback != nil {
		c.fallback = r.fallback.Clone()
	}
	return &c
}

// Read reads one field into v. quoted tells whether the field was written in
// quotes. When the result is not OK, v is undefined. v.Text may point into
// field.
func (r *Reader) Read(field []byte, quoted bool, v *Value) Misfit {
	v.Null, v.Wide = false, nil
	b := field
	if !r.Type.IsText() || r.Trim {
		b = TrimSpace(b)
	}
	if r.isNull(b, quoted) {
		if r.Default != nil {
			return r.fallback.Read([]byte(*r.Default), true, v)
		}
		if r.Required {
			return Blank
		}
		v.Null, v.Emptied = true, r.NoEmpty && len(b) == 0 && (r.KeepBlank || quoted && r.KeepQuoted)
		return OK
	}
	if r.Keeps.Codes || r.Keeps.Digits > 0 || r.Keeps.Decimals > 0 || len(r.Keeps.Labels) > 0 {
		if m := r.faithful(b); m != OK {
			return m
		}
	}
	switch r.Type.Kind {
	case sqltype.SmallInt, sqltype.Integer, sqltype.BigInt:
		return r.integer(b, v)
	case sqltype.Decimal:
		return r.decimal(b, v)
	case sqltype.Double:
		return r.double(b, v)
	case sqltype.Boolean:
		n, ok := r.words[string(b)]
		if !ok {
			return NotTruth
		}
		v.Int = n
		return OK
	case sqltype.Date, sqltype.Time, sqltype.Timestamp, sqltype.TimestampTZ:
		m := r.temporal(b, v)
		if m == OK && r.Keeps.Step > 0 && v.Int%r.Keeps.Step != 0 {
			return Inexact
		}
		return m
	case sqltype.UUID:
		return uuid(b, v)
	case sqltype.Char, sqltype.VarChar:
		if m := r.sized(b); m != OK {
			return m
		}
	case sqltype.None, sqltype.Text:
	}
	if r.Keeps.Lacks != nil && r.Keeps.Lacks(b) {
		return NotInPage
	}
	v.Text = b
	return OK
}

// sized says whether a text is not too long for a column with a length.
func (r *Reader) sized(b []byte) Misfit {
	switch {
	case r.Type.Kind == sqltype.Char && len(b) > 0 && b[len(b)-1] == ' ':
		return EndsInSpace
	case len(b) > r.Type.Length && Characters(b) > r.Type.Length:
		return TooLong
	case r.Keeps.Bytes > 0 && len(b) > r.Keeps.Bytes:
		return TooManyBytes
	}
	return OK
}

func (r *Reader) isNull(b []byte, quoted bool) bool {
	if IsBlank(b) {
		return r.NoEmpty && len(b) == 0 || !r.Type.IsText() || !(r.KeepBlank || quoted && r.KeepQuoted)
	}
	for _, w := range r.NullWords {
		if string(b) == w {
			return true
		}
	}
	return false
}

// IsBlank reports a field of nothing, or of spaces, tabs and no-break spaces only,
// whether it stands in quotes or not: it counts as blank, and is null when loaded.
func IsBlank(b []byte) bool {
	return len(b) == 0 || (b[0] <= ' ' || b[0] >= 0x80) && len(TrimSpace(b)) == 0
}

// TrimSpace takes spaces, tabs and no-break spaces off both ends.
func TrimSpace(b []byte) []byte {
	if len(b) == 0 || b[0] > ' ' && b[0] < 0x80 && b[len(b)-1] > ' ' && b[len(b)-1] < 0x80 {
		return b
	}
	for len(b) > 0 && (b[0] == ' ' || b[0] == '\t') {
		b = b[1:]
	}
	for len(b) > 0 && (b[len(b)-1] == ' ' || b[len(b)-1] == '\t') {
		b = b[:len(b)-1]
	}
	if len(b) == 0 || b[0] < 0x80 && b[len(b)-1] < 0x80 {
		return b
	}
	return bytes.Trim(b, " \t\u00a0")
}

func (r *Reader) integer(b []byte, v *Value) Misfit {
	if n, ok := smallInt(b); ok {
		if n < r.least || n > r.greatest {
			return OutOfRange
		}
		v.Int = n
		return OK
	}
	neg, digits, after, m := r.number(b)
	if m != OK {
		return m
	}
	for ; after > 0; after-- {
		if digits[len(digits)-1] != '0' {
			return NotWhole
		}
		digits = digits[:len(digits)-1]
	}
	n, ok := toInt(neg, digits)
	if !ok || n < r.least || n > r.greatest {
		return OutOfRange
	}
	v.Int = n
	return OK
}

// smallInt reads an optional minus and up to 18 digits.
func smallInt(b []byte) (int64, bool) {
	neg := len(b) > 0 && b[0] == '-'
	if neg {
		b = b[1:]
	}
	if len(b) == 0 || len(b) > 18 {
		return 0, false
	}
	var n int64
	for _, c := range b {
		d := c - '0'
		if d > 9 {
			return 0, false
		}
		n = n*10 + int64(d)
	}
	if neg {
		n = -n
	}
	return n, true
}

func toInt(neg bool, digits []byte) (int64, bool) {
	digits = bytes.TrimLeft(digits, "0")
	if len(digits) > 19 {
		return 0, false
	}
	var u uint64
	for _, c := range digits {
		u = u*10 + uint64(c-'0')
	}
	if neg {
		return -int64(u), u <= 1<<63
	}
	return int64(u), u < 1<<63
}

// number takes b apart and returns its digits and how many of them stand
// behind the point.
func (r *Reader) number(b []byte) (neg bool, digits []byte, after int, m Misfit) {
	s := &r.scan
	if !s.Scan(b) || s.Exponent {
		return false, nil, 0, NotANumber
	}
	after, ok := r.Number.Fits(s)
	if !ok {
		return false, nil, 0, NotANumber
	}
	return s.Negative, s.Digits, after, OK
}

func (r *Reader) decimal(b []byte, v *Value) Misfit {
	t := r.Type
	if r.simple && t.Scale <= 18 && len(b) <= 18 {
		if ok := r.plainDecimal(b, v); ok {
			return OK
		}
	}
	neg, digits, after, m := r.number(b)
	if m != OK {
		return m
	}
	for after > t.Scale {
		if digits[len(digits)-1] != '0' {
			return TooManyDecimals
		}
		digits = digits[:len(digits)-1]
		after--
	}
	digits = bytes.TrimLeft(digits, "0")
	if len(digits)+t.Scale-after > t.Precision {
		return TooManyDigits
	}
	w := v.room()
	if neg && len(digits) > 0 {
		w = append(w, '-')
	}
	w = append(w, digits...)
	for ; after < t.Scale && len(digits) > 0; after++ {
		w = append(w, '0')
	}
	if n := len(w); n <= 18 {
		if n == 0 {
			v.Int = 0
			return OK
		}
		v.Int, _ = smallInt(w)
		return OK
	}
	v.Wide = w
	return OK
}

// plainDecimal reads [-]digits[.digits]. It declines whatever needs care.
func (r *Reader) plainDecimal(b []byte, v *Value) bool {
	neg := b[0] == '-'
	if neg {
		b = b[1:]
	}
	var n int64
	point := -1
	for i, c := range b {
		if d := c - '0'; d <= 9 {
			n = n*10 + int64(d)
		} else if c == '.' && point < 0 {
			point = i
		} else {
			return false
		}
	}
	after := 0
	if point >= 0 {
		after = len(b) - point - 1
		if after == 0 {
			return false
		}
	} else if len(b) == 0 {
		return false
	}
	t := r.Type
	if after > t.Scale || len(b)+t.Scale-after > 18 {
		return false
	}
	n *= pow10[t.Scale-after]
	if t.Precision < 18 && n >= pow10[t.Precision] {
		return false
	}
	if neg {
		n = -n
	}
	v.Int = n
	return true
}

func (r *Reader) double(b []byte, v *Value) Misfit {
	s := &r.scan
	if !s.Scan(b) {
		return NotANumber
	}
	text := s.Plain
	if !s.Exponent {
		after, ok := r.Number.Fits(s)
		if !ok {
			return NotANumber
		}
		w := append(v.room(), s.Digits[:len(s.Digits)-after]...)
		w = append(w, '.')
		text = append(w, s.Digits[len(s.Digits)-after:]...)
	}
	f, err := strconv.ParseFloat(unsafe.String(&text[0], len(text)), 64)
	if err != nil || math.IsInf(f, 0) {
		return NotANumber
	}
	if s.Negative {
		f = -f
	}
	v.Float = f
	return OK
}

func (r *Reader) temporal(b []byte, v *Value) Misfit {
	m := NotADate
	for _, p := range r.Dates {
		switch got := p.Parse(b, &r.civil); got { // others: what is known is the reason
		case OK:
			if r.Zone != nil && !p.HasZone() {
				if m := r.assumed(); m != OK {
					return m
				}
			}
			return r.civilValue(v)
		case NotThisForm:
		default:
			m = got
		}
	}
	return m
}

// assumed gives a time without a zone that of its column. What the clocks there never showed
// is no time, and what they showed twice is left to who knows which it was.
func (r *Reader) assumed() Misfit {
	c := &r.civil
	at := time.Date(c.Year, time.Month(c.Month), c.Day, c.Hour, c.Minute, c.Second, 0, r.Zone)
	if at.Hour() != c.Hour || at.Minute() != c.Minute || at.Day() != c.Day {
		return NoSuchDate
	}
	_, c.Offset = at.Zone()
	for _, near := range [2]time.Duration{-3 * time.Hour, 3 * time.Hour} { // clocks are set by less
		_, other := at.Add(near).Zone()
		if other == c.Offset {
			continue
		}
		if _, then := at.Add(time.Duration(c.Offset-other) * time.Second).Zone(); then == other {
			return TwoMoments
		}
	}
	return OK
}

func (r *Reader) civilValue(v *Value) Misfit {
	c := &r.civil
	switch r.Type.Kind {
	case sqltype.Date:
		if c.Hour|c.Minute|c.Second|c.Micro != 0 {
			return NotADate
		}
		v.Int = Days(c.Year, c.Month, c.Day)
		return OK
	case sqltype.Time:
		v.Int = c.Micros(false)
	case sqltype.Timestamp:
		v.Int = c.Micros(true)
	case sqltype.TimestampTZ:
		v.Int = c.Micros(true) - int64(c.Offset)*1e6
		if v.Int < Days(1, 1, 1)*86400e6 || v.Int >= Days(9999, 12, 31)*86400e6+86400e6 {
			return NoSuchDate
		}
	case sqltype.BigInt, sqltype.Boolean, sqltype.Char, sqltype.Decimal, sqltype.Double, sqltype.Integer,
		sqltype.None, sqltype.SmallInt, sqltype.Text, sqltype.UUID, sqltype.VarChar:
	}
	if c.Micro != 0 && int64(c.Micro)%pow10[6-r.Type.Precision] != 0 {
		return TooFine
	}
	return OK
}

func uuid(b []byte, v *Value) Misfit {
	if len(b) == 38 && b[0] == '{' && b[37] == '}' {
		b = b[1:37]
	}
	if !IsUUID(b) {
		return NotUUID
	}
	w := append(v.room(), b...)
	for i, c := range w {
		if c >= 'A' && c <= 'F' {
			w[i] = c | 0x20
		}
	}
	v.Text = w
	return OK
}

// IsUUID reports 8-4-4-4-12 hexadecimal digits (RFC 9562, section 4).
func IsUUID(b []byte) bool {
	if len(b) != 36 {
		return false
	}
	for i, c := range b {
		if i == 8 || i == 13 || i == 18 || i == 23 {
			if c != '-' {
				return false
			}
		} else if (c < '0' || c > '9') && (c|0x20 < 'a' || c|0x20 > 'f') {
			return false
		}
	}
	return true
}
