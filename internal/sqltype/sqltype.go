// Package sqltype names the column types of the SQL standard (ISO/IEC 9075-2,
// clause 6.1) that Amber Tray plans with. What each database makes of them is
// the business of package dialect.
package sqltype

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

// A Kind is a family of types.
type Kind uint8

// The kinds, from narrow to wide within a family.
const (
	None Kind = iota
	Boolean
	SmallInt
	Integer
	BigInt
	Decimal
	Double
	Date
	Time
	Timestamp
	TimestampTZ
	UUID
	Char
	VarChar
	Text
)

var names = [...]string{
	None: "none", Boolean: "boolean", SmallInt: "smallint", Integer: "integer", BigInt: "bigint",
	Decimal: "decimal", Double: "double precision", Date: "date", Time: "time", Timestamp: "timestamp",
	TimestampTZ: "timestamp with time zone", UUID: "uuid", Char: "char", VarChar: "varchar", Text: "text",
}

// MaxPrecision is the largest precision of a decimal, in digits: what SQL
// Server and Oracle allow, and less than PostgreSQL and MariaDB do.
const MaxPrecision = 38

// A Type is a column type.
type Type struct {
	Kind Kind
	// Length is the largest length of char and varchar, in characters.
	Length int
	// Precision is a decimal's number of digits, or the number of fraction
	// digits of a time's seconds, 0 to 6.
	Precision int
	// Scale is how many of a decimal's digits stand behind the point.
	Scale int
}

// IsInteger reports smallint, integer and bigint.
func (t Type) IsInteger() bool { return t.Kind >= SmallInt && t.Kind <= BigInt }

// IsNumber reports the integers, decimal and double precision.
func (t Type) IsNumber() bool { return t.Kind >= SmallInt && t.Kind <= Double }

// IsTemporal reports dates, times and timestamps.
func (t Type) IsTemporal() bool { return t.Kind >= Date && t.Kind <= TimestampTZ }

// IsText reports char, varchar and text.
func (t Type) IsText() bool { return t.Kind >= Char }

// Range returns the smallest and largest value of an integer type.
func (t Type) Range() (lo, hi int64) {
	switch t.Kind {
	case SmallInt:
		return -1 << 15, 1<<15 - 1
	case Integer:
		return -1 << 31, 1<<31 - 1
	}
	return -1 << 63, 1<<63 - 1
}

// String is the type as a plan writes it.
func (t Type) String() string {
	switch t.Kind {
	case Decimal:
		return fmt.Sprintf("decimal(%d,%d)", t.Precision, t.Scale)
	case Char, VarChar:
		return fmt.Sprintf("%s(%d)", names[t.Kind], t.Length)
	case Time, Timestamp:
		return fmt.Sprintf("%s(%d)", names[t.Kind], t.Precision)
	case TimestampTZ:
		return fmt.Sprintf("timestamp(%d) with time zone", t.Precision)
	}
	return names[t.Kind]
}

var form = regexp.MustCompile(`^([a-z ]+?) ?(?:\( ?(\d{1,9}) ?(?:, ?(\d{1,9}) ?)?\))?( with time zone)?$`)

// Parse reads a type as people write it, in any case. A decimal without a
// scale has scale 0; a time without a precision has 6.
func Parse(s string) (Type, error) {
	m := form.FindStringSubmatch(strings.ToLower(strings.Join(strings.Fields(s), " ")))
	if m == nil {
		return Type{}, unknown(s)
	}
	var t Type
	name := strings.TrimSuffix(m[1], " with time zone")
	for k, n := range names {
		if n == name && Kind(k) != None {
			t.Kind = Kind(k)
		}
	}
	switch name {
	case "int":
		t.Kind = Integer
	case "numeric":
		t.Kind = Decimal
	case "double":
		t.Kind = Double
	case "character":
		t.Kind = Char
	case "character varying":
		t.Kind = VarChar
	}
	if t.Kind == Timestamp && (m[4] != "" || strings.HasSuffix(m[1], " with time zone")) {
		t.Kind = TimestampTZ
	} else if m[4] != "" {
		return Type{}, unknown(s)
	}
	a, _ := strconv.Atoi(m[2])
	b, _ := strconv.Atoi(m[3])
	switch t.Kind {
	case None:
		return Type{}, unknown(s)
	case Decimal:
		if m[2] == "" {
			return Type{}, fmt.Errorf("type %q: a decimal needs its digits, like decimal(10,2)", s)
		}
		if a < 1 || a > MaxPrecision || b > a {
			return Type{}, fmt.Errorf("type %q: digits must be 1 to %d, and no fewer than those behind the point", s, MaxPrecision)
		}
		t.Precision, t.Scale = a, b
		return t, nil
	case Char, VarChar:
		if m[2] == "" && t.Kind == Char {
			a = 1
		} else if a < 1 {
			return Type{}, fmt.Errorf("type %q: needs its length in characters, like varchar(40)", s)
		}
		t.Length = a
	case Time, Timestamp, TimestampTZ:
		if t.Precision = 6; m[2] != "" {
			t.Precision = a
		}
		if t.Precision > 6 {
			return Type{}, fmt.Errorf("type %q: seconds have at most 6 fraction digits", s)
		}
	default:
		if m[2] != "" {
			return Type{}, fmt.Errorf("type %q: %s takes no length", s, names[t.Kind])
		}
	}
	if m[3] != "" {
		return Type{}, unknown(s)
	}
	return t, nil
}

func unknown(s string) error {
	return fmt.Errorf("type %q: unknown; the types are boolean, smallint, integer, bigint, decimal(p,s), double precision, date, time, timestamp, timestamp with time zone, char(n), varchar(n), text, uuid", s)
}
