// Package engine executes the part of Oracle's SQL that package sql reads, over tables in
// memory, by Oracle's rules: its types, an empty text that is null, constraints, the
// transaction that every definition commits, savepoints, locks of rows and tables, readers
// that see what is committed, the catalog, and errors by their numbers (Oracle Database, SQL
// Language Reference; Database Reference; Database Error Messages).
//
// The model: a [Server] has users, each with tables of its own, and a [Session] executes
// statements for one of them. One statement runs at a time; who waits for a lock lets others
// run.
package engine

import (
	"cmp"
	"math"
	"strconv"
	"strings"
	"time"

	"github.com/shopspring/decimal"
)

// A Kind is a family of values.
type Kind uint8

// The kinds.
const (
	Null Kind = iota
	Number
	Text
	Clob
	Date
	Timestamp
	Zoned // timestamp with time zone
	Local // timestamp with local time zone
	Interval
	Double
	Raw
	RowID
)

// A Value is one. Dates and timestamps are in UTC, which stands for no zone; a zoned one has
// its own.
type Value struct {
	Kind  Kind
	Fixed bool // text that is compared as if blanks filled it up
	S     string
	D     decimal.Decimal
	F     float64
	T     time.Time
	I     time.Duration
}

var null = Value{}

// IsNull reports a null.
func (v Value) IsNull() bool { return v.Kind == Null }

// text is a text; of nothing, a null.
func text(s string) Value {
	if s == "" {
		return null
	}
	return Value{Kind: Text, S: s}
}

func whole(n int64) Value              { return Value{Kind: Number, D: decimal.NewFromInt(n)} }
func exact(d decimal.Decimal) Value    { return Value{Kind: Number, D: rounded(d)} }
func double(f float64) Value           { return Value{Kind: Double, F: f} }
func span(d time.Duration) Value       { return Value{Kind: Interval, I: d} }
func moment(k Kind, t time.Time) Value { return Value{Kind: k, T: t} }

// digits is how many a NUMBER holds at most.
const digits = 40

// rounded is a number with as many digits as a NUMBER holds.
func rounded(d decimal.Decimal) decimal.Decimal {
	if n := d.NumDigits(); n > digits {
		return d.Round(int32(-int(d.Exponent()) - (n - digits)))
	}
	return d
}

// NumberText writes a number as TO_CHAR does without a mask: no zero stands before the point.
func NumberText(d decimal.Decimal) string {
	s := d.String()
	if strings.Contains(s, ".") {
		s = strings.TrimRight(strings.TrimRight(s, "0"), ".")
	}
	switch {
	case strings.HasPrefix(s, "0."):
		return s[1:]
	case strings.HasPrefix(s, "-0."):
		return "-" + s[2:]
	}
	return s
}

// parseNumber reads a number as TO_NUMBER does without a mask.
func parseNumber(s string) (decimal.Decimal, error) {
	s = strings.TrimSpace(s)
	d, err := decimal.NewFromString(s)
	if err != nil || s == "" || strings.ContainsAny(s, "_ ") {
		return d, fail(1722, "invalid number")
	}
	if d.NumDigits()+int(d.Exponent()) > 126 {
		return d, fail(1426, "numeric overflow")
	}
	return rounded(d), nil
}

// asNumber makes a number of a value.
func asNumber(v Value) (Value, error) {
	switch v.Kind {
	case Null, Number:
		return v, nil
	case Text, Clob:
		d, err := parseNumber(v.S)
		return exact(d), err
	case Double:
		if math.IsNaN(v.F) || math.IsInf(v.F, 0) {
			return null, fail(1426, "numeric overflow")
		}
		return exact(decimal.NewFromFloat(v.F)), nil
	case Date, Timestamp, Zoned, Local, Interval, Raw, RowID:
	}
	return null, fail(932, "inconsistent datatypes: expected NUMBER got %s", v.Kind)
}

func (k Kind) String() string {
	return [...]string{"NULL", "NUMBER", "CHAR", "CLOB", "DATE", "TIMESTAMP", "TIMESTAMP WITH TIME ZONE",
		"TIMESTAMP WITH LOCAL TIME ZONE", "INTERVAL DAY TO SECOND", "BINARY_DOUBLE", "RAW", "ROWID"}[k]
}

// isMoment reports dates and timestamps.
func (k Kind) isMoment() bool { return k >= Date && k <= Local }

// isText reports text of any length.
func (k Kind) isText() bool { return k == Text || k == Clob }

// compare orders two values, neither null, after they have been made of one kind.
func (s *Session) compare(a, b Value) (int, error) {
	switch {
	case a.Kind.isText() && b.Kind.isText():
		if a.Fixed && b.Fixed {
			return cmp.Compare(strings.TrimRight(a.S, " "), strings.TrimRight(b.S, " ")), nil
		}
		return cmp.Compare(a.S, b.S), nil
	case a.Kind == Double || b.Kind == Double:
		x, err := s.asDouble(a)
		if err != nil {
			return 0, err
		}
		y, err := s.asDouble(b)
		return cmp.Compare(x.F, y.F), err
	case a.Kind == Number || b.Kind == Number:
		x, err := asNumber(a)
		if err != nil {
			return 0, err
		}
		y, err := asNumber(b)
		return x.D.Cmp(y.D), err
	case a.Kind.isMoment() || b.Kind.isMoment():
		x, err := s.asMoment(a, b.Kind)
		if err != nil {
			return 0, err
		}
		y, err := s.asMoment(b, a.Kind)
		return x.T.Compare(y.T), err
	case a.Kind == Interval && b.Kind == Interval:
		return cmp.Compare(a.I, b.I), nil
	case a.Kind == b.Kind:
		return cmp.Compare(a.S, b.S), nil
	case a.Kind == RowID && b.Kind == Text, a.Kind == Text && b.Kind == RowID:
		return cmp.Compare(a.S, b.S), nil
	}
	return 0, fail(932, "inconsistent datatypes: expected %s got %s", a.Kind, b.Kind)
}

// asDouble makes a BINARY_DOUBLE of a value.
func (s *Session) asDouble(v Value) (Value, error) {
	switch v.Kind { // others: not at all
	case Null, Double:
		return v, nil
	case Number:
		f, _ := strconv.ParseFloat(v.D.String(), 64)
		return double(f), nil
	case Text, Clob:
		f, err := strconv.ParseFloat(strings.TrimSpace(v.S), 64)
		if err != nil {
			return null, fail(1722, "invalid number")
		}
		return double(f), nil
	}
	return null, fail(932, "inconsistent datatypes: expected BINARY_DOUBLE got %s", v.Kind)
}

// asMoment makes a date or timestamp of a value, by the masks of the session.
func (s *Session) asMoment(v Value, like Kind) (Value, error) {
	switch {
	case v.Kind.isMoment() || v.IsNull():
		return v, nil
	case v.Kind.isText() && like == Date:
		return s.parseMoment(Date, v.S, s.nls["NLS_DATE_FORMAT"])
	case v.Kind.isText() && like == Timestamp:
		return s.parseMoment(Timestamp, v.S, s.nls["NLS_TIMESTAMP_FORMAT"])
	case v.Kind.isText():
		return s.parseMoment(like, v.S, s.nls["NLS_TIMESTAMP_TZ_FORMAT"])
	}
	return null, fail(932, "inconsistent datatypes: expected %s got %s", like, v.Kind)
}

// asText makes text of a value.
func (s *Session) asText(v Value) (Value, error) {
	switch v.Kind {
	case Null, Text:
		return v, nil
	case Number:
		return text(NumberText(v.D)), nil
	case Clob, RowID:
		return Value{Kind: Text, S: v.S}, nil
	case Double:
		return text(strings.ToUpper(strconv.FormatFloat(v.F, 'E', -1, 64))), nil
	case Date:
		return s.format(v, s.nls["NLS_DATE_FORMAT"])
	case Timestamp:
		return s.format(v, s.nls["NLS_TIMESTAMP_FORMAT"])
	case Zoned, Local:
		return s.format(v, s.nls["NLS_TIMESTAMP_TZ_FORMAT"])
	case Interval:
		return text(IntervalText(v.I, 6)), nil
	case Raw:
		return text(strings.ToUpper(hexOf(v.S))), nil
	}
	return null, unknown("%s as text", v.Kind)
}

const hexDigits = "0123456789ABCDEF"

func hexOf(s string) string {
	var b strings.Builder
	for i := range len(s) {
		b.WriteByte(hexDigits[s[i]>>4])
		b.WriteByte(hexDigits[s[i]&15])
	}
	return b.String()
}

// key is what tells a value from others in a group or an index.
func (v Value) key(b []byte) []byte {
	b = append(b, byte(v.Kind))
	switch v.Kind {
	case Null:
	case Number:
		b = append(b, NumberText(v.D)...)
	case Text, Clob, Raw, RowID:
		b[len(b)-1] = byte(Text)
		b = strconv.AppendInt(b, int64(len(v.S)), 36)
		b = append(append(b, ':'), v.S...)
	case Date, Timestamp, Zoned, Local:
		b[len(b)-1] = byte(Timestamp)
		b = v.T.UTC().AppendFormat(b, "20060102150405.000000000")
	case Interval:
		b = strconv.AppendInt(b, int64(v.I), 36)
	case Double:
		b = strconv.AppendUint(b, math.Float64bits(v.F+0), 36)
	}
	return append(b, 0)
}
