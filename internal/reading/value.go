// Package reading turns the text of a field into a typed value.
//
// The model: a column has one [Reader], made of a type and of how people
// wrote that type in this file (a date pattern, the marks of a number, words
// for true, false and null). A Reader turns a field into a [Value], or says
// in one word, a [Misfit], why it does not. Nothing is rounded, cut or
// guessed: a value that would not read back equal is a misfit.
//
// Readers allocate nothing per field. Values live until the next read.
package reading

import (
	"encoding/hex"
	"fmt"
	"math/big"
	"strconv"
	"strings"

	"ambertray/internal/sqltype"
)

// A Value is a field as its column's type has it.
type Value struct {
	Null bool
	// Emptied tells of a null that it was an empty text, which the database does not keep.
	Emptied bool
	// Int is an integer; a decimal's digits with the point taken out, at the
	// type's scale, where they fit; days since 1970-01-01; microseconds of
	// the day; microseconds since 1970-01-01T00:00:00 (in UTC for timestamp
	// with time zone); 1 for true and 0 for false.
	Int int64
	// Wide holds a decimal that does not fit Int: an optional minus and its
	// digits without the point, at the type's scale. Else it is nil.
	Wide []byte
	// Float is a double precision number.
	Float float64
	// Text is char, varchar and text, and a uuid in its usual lower-case form.
	Text []byte

	memory *[80]byte // of Wide and Text, where they do not lie in the field
}

// room is memory of the value's own. Few have any, so that values lie close together.
func (v *Value) room() []byte {
	if v.memory == nil {
		v.memory = new([80]byte)
	}
	return v.memory[:0]
}

// A Misfit is why a field is not a value of its column's type.
type Misfit uint8

// The misfits.
const (
	OK Misfit = iota
	NotThisForm
	NotANumber
	NotWhole
	OutOfRange
	TooManyDigits
	TooManyDecimals
	NotADate
	NoSuchDate
	TooFine
	NotTruth
	NotUUID
	TooLong
	EndsInSpace
	Blank
	LosesForm
	Inexact
	NotListed
	NotInPage
	TwoMoments
	TooManyBytes
	kinds // how many there are
)

// Misfits are all of them but OK.
func Misfits() (list []Misfit) {
	for m := OK + 1; m < kinds; m++ {
		list = append(list, m)
	}
	return
}

// Code names a misfit, for programs.
func (m Misfit) Code() string {
	return [kinds]string{OK: "ok", NotANumber: "not-a-number", NotWhole: "not-whole", OutOfRange: "out-of-range",
		TooManyDigits:   "too-many-digits",
		TooManyDecimals: "too-many-decimals", NotADate: "not-a-date", NotThisForm: "not-this-form",
		NoSuchDate: "no-such-date", TooFine: "too-fine", NotTruth: "not-true-or-false",
		NotUUID: "not-a-uuid", TooLong: "too-long", EndsInSpace: "ends-in-space", Blank: "blank",
		LosesForm: "loses-form", Inexact: "inexact", NotListed: "not-listed", NotInPage: "not-in-code-page",
		TwoMoments: "two-moments", TooManyBytes: "too-many-bytes"}[m]
}

// Reason says what is wrong with field in a column of type t.
func (m Misfit) Reason(t sqltype.Type, field []byte) string {
	switch m {
	case OK:
		return "fits"
	case NotANumber:
		return "not a number"
	case NotWhole:
		return "not a whole number"
	case OutOfRange:
		lo, hi := t.Range()
		return fmt.Sprintf("outside %s (%d to %d)", t, lo, hi)
	case TooManyDigits:
		return fmt.Sprintf("more digits before the point than %s holds", t)
	case TooManyDecimals:
		return fmt.Sprintf("more digits behind the point than %s holds", t)
	case NotADate, NotThisForm:
		return "not a " + family(t) + " in the form of this column"
	case NoSuchDate:
		return "no such " + family(t)
	case TooFine:
		return fmt.Sprintf("a fraction of a second finer than %s holds", t)
	case NotTruth:
		return "not a word for true or false"
	case NotUUID:
		return "not a uuid"
	case TooLong:
		return fmt.Sprintf("longer than %s: %d characters", t, len([]rune(string(field))))
	case EndsInSpace:
		return fmt.Sprintf("ends in a space, which %s does not keep", t)
	case Blank:
		return "blank, and the column is required"
	case LosesForm:
		return "a code, of which the column would make a number"
	case Inexact:
		return "more digits than the column keeps"
	case NotListed:
		return "not one of the column's words"
	case TwoMoments:
		return "a time that the clocks showed twice, when they were set back"
	case TooManyBytes:
		return fmt.Sprintf("more bytes than the column holds: %d in UTF-8", len(field))
	case NotInPage:
		return "a letter that the column's code page does not have"
	}
	return fmt.Sprintf("misfit %d", uint8(m))
}

func family(t sqltype.Type) string {
	switch t.Kind {
	case sqltype.Time:
		return "time"
	case sqltype.Timestamp, sqltype.TimestampTZ:
		return "timestamp"
	case sqltype.BigInt, sqltype.Boolean, sqltype.Char, sqltype.Date, sqltype.Decimal, sqltype.Double,
		sqltype.Integer, sqltype.None, sqltype.SmallInt, sqltype.Text, sqltype.UUID, sqltype.VarChar:
	}
	return "date"
}

// Append adds the value in its plain form: what an SQL literal has between
// its quotes, dates and times in ISO 8601. A null adds nothing.
func (v *Value) Append(b []byte, t sqltype.Type) []byte {
	if v.Null {
		return b
	}
	switch t.Kind {
	case sqltype.Boolean:
		if v.Int != 0 {
			return append(b, "true"...)
		}
		return append(b, "false"...)
	case sqltype.SmallInt, sqltype.Integer, sqltype.BigInt:
		return strconv.AppendInt(b, v.Int, 10)
	case sqltype.Decimal:
		if v.Wide != nil {
			return appendPoint(b, v.Wide, t.Scale)
		}
		return AppendDecimal(b, v.Int, t.Scale)
	case sqltype.Double:
		return strconv.AppendFloat(b, v.Float, 'g', -1, 64)
	case sqltype.Date:
		return AppendDate(b, v.Int)
	case sqltype.Time:
		return AppendTime(b, v.Int, t.Precision)
	case sqltype.Timestamp, sqltype.TimestampTZ:
		b = AppendTimestamp(b, v.Int, t.Precision)
		if t.Kind == sqltype.TimestampTZ {
			b = append(b, "+00:00"...)
		}
		return b
	case sqltype.Char, sqltype.None, sqltype.Text, sqltype.UUID, sqltype.VarChar:
	}
	return append(b, v.Text...)
}

// Plain is Append into a string, for messages and receipts.
func (v *Value) Plain(t sqltype.Type) string { return string(v.Append(nil, t)) }

// AppendDecimal writes n·10^-scale.
func AppendDecimal(b []byte, n int64, scale int) []byte {
	var tmp [24]byte
	return appendPoint(b, strconv.AppendInt(tmp[:0], n, 10), scale)
}

func appendPoint(b, digits []byte, scale int) []byte {
	if len(digits) > 0 && digits[0] == '-' {
		b = append(b, '-')
		digits = digits[1:]
	}
	if scale == 0 {
		return append(b, digits...)
	}
	if n := len(digits) - scale; n > 0 {
		b = append(b, digits[:n]...)
		digits = digits[n:]
	} else {
		b = append(b, '0')
	}
	b = append(b, '.')
	for i := len(digits); i < scale; i++ {
		b = append(b, '0')
	}
	return append(b, digits...)
}

// BigDecimal writes n·10^-scale for any n.
func BigDecimal(n *big.Int, scale int) string {
	return string(appendPoint(nil, n.Append(nil, 10), scale))
}

func two(b []byte, n int) []byte { return append(b, byte('0'+n/10), byte('0'+n%10)) }

// AppendDate writes yyyy-mm-dd.
func AppendDate(b []byte, days int64) []byte {
	y, m, d := Date(days)
	b = two(two(b, y/100), y%100)
	return two(append(two(append(b, '-'), m), '-'), d)
}

// AppendTime writes hh:mm:ss and a fraction of as many digits as precision.
func AppendTime(b []byte, us int64, precision int) []byte {
	s := int(us / 1e6)
	b = two(append(two(append(two(b, s/3600), ':'), s/60%60), ':'), s%60)
	if precision == 0 {
		return b
	}
	b = append(b, '.')
	f := us % 1e6
	for i, unit := 0, int64(1e5); i < precision; i, unit = i+1, unit/10 {
		b = append(b, byte('0'+f/unit%10))
	}
	return b
}

// AppendTimestamp writes yyyy-mm-dd hh:mm:ss and a fraction.
func AppendTimestamp(b []byte, us int64, precision int) []byte {
	days := us / 86400e6
	rest := us % 86400e6
	if rest < 0 {
		days--
		rest += 86400e6
	}
	return AppendTime(append(AppendDate(b, days), ' '), rest, precision)
}

// Steers reports a character that would steer a terminal or turn the order of letters
// round: controls, marks of direction (Unicode, UAX 9), and ends of lines of its own.
func Steers(r rune) bool {
	switch {
	case r >= 0x7f && r < 0xa0, r == 0x61c, r == 0x200e || r == 0x200f, r >= 0x2028 && r <= 0x202e,
		r >= 0x2066 && r <= 0x2069, r == 0xfeff, r >= 0xe0000 && r < 0xe0080:
		return true
	}
	return false
}

// Shorten cuts text for a message, marking the cut, and makes control
// characters visible. n is in characters.
func Shorten(s string, n int) string {
	var b strings.Builder
	for _, r := range s {
		switch {
		case r == '\n':
			b.WriteRune('⏎')
		case r == '\r':
			b.WriteRune('␍')
		case r == '\t':
			b.WriteRune('⇥')
		case r < ' ' || Steers(r):
			fmt.Fprintf(&b, "<U+%04X>", r)
		default:
			b.WriteRune(r)
		}
	}
	s = b.String()
	if r := []rune(s); len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return s
}

// Big is Int or Wide.
func (v *Value) Big() *big.Int {
	if v.Wide == nil {
		return big.NewInt(v.Int)
	}
	n, _ := new(big.Int).SetString(string(v.Wide), 10)
	return n
}

// Strict is Plain for values that have to fit the type's precision, too.
func Strict(t sqltype.Type) *Reader {
	r := &Reader{Type: t, Number: Number{Decimal: Point}, KeepBlank: true}
	if err := r.Prepare(); err != nil {
		panic(err) // no setting of this reader can be wrong
	}
	return r
}

// Plain returns a reader of values in plain form, as Append writes them and
// databases print them. It takes fractions of a second down to microseconds,
// whatever the type's precision, and an empty text as one.
func Plain(t sqltype.Type) *Reader {
	if t.IsTemporal() && t.Kind != sqltype.Date {
		t.Precision = 6
	}
	return Strict(t)
}

// UUIDBytes are the 16 bytes of a uuid in its usual form, as a [Value] has it.
func UUIDBytes(text []byte) (raw [16]byte) {
	var digits [32]byte
	n := 0
	for _, c := range text {
		if c != '-' && n < len(digits) {
			digits[n] = c
			n++
		}
	}
	hex.Decode(raw[:], digits[:n]) // the reader has made sure of the digits
	return raw
}
