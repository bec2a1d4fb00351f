// Package sqltype names the column types of the SQL standard (ISO/IEC 9075-2,
// clause 6.1) that Amber Tray plans with. What each database makes of them is
// the business of the packages below db.
package sqltype

import (
	"fmt"
	"strconv"
	"strings"
)

// A Kind is a family of types.
type Kind uint8

// The kinds, from narrow to wide within a family. Whoever adds one adds its line
// to the table below; a test then names each place that has to know it.
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
	kinds // how many there are
)

// A family is what kinds have in common.
type family uint8

const (
	other family = iota // none of the families
	integers
	numbers // that are no integers
	temporal
	texts
)

// table has what is known of each kind: the name that plans write, the family,
// and a type of it to test with.
var table = [kinds]struct {
	name    string
	family  family
	example Type
}{
	None:        {"none", other, Type{}},
	Boolean:     {"boolean", other, Type{Kind: Boolean}},
	SmallInt:    {"smallint", integers, Type{Kind: SmallInt}},
	Integer:     {"integer", integers, Type{Kind: Integer}},
	BigInt:      {"bigint", integers, Type{Kind: BigInt}},
	Decimal:     {"decimal", numbers, Type{Kind: Decimal, Precision: 9, Scale: 3}},
	Double:      {"double precision", numbers, Type{Kind: Double}},
	Date:        {"date", temporal, Type{Kind: Date}},
	Time:        {"time", temporal, Type{Kind: Time, Precision: 3}},
	Timestamp:   {"timestamp", temporal, Type{Kind: Timestamp, Precision: 3}},
	TimestampTZ: {"timestamp with time zone", temporal, Type{Kind: TimestampTZ, Precision: 3}},
	UUID:        {"uuid", other, Type{Kind: UUID}},
	Char:        {"char", texts, Type{Kind: Char, Length: 6}},
	VarChar:     {"varchar", texts, Type{Kind: VarChar, Length: 20}},
	Text:        {"text", texts, Type{Kind: Text}},
}

// Kinds are all kinds that a column can be of, in order.
func Kinds() (list []Kind) {
	for k := None + 1; k < kinds; k++ {
		list = append(list, k)
	}
	return
}

// Example is a type of a kind, for tests that walk through all of them.
func Example(k Kind) Type { return table[k].example }

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
func (t Type) IsInteger() bool { return table[t.Kind].family == integers }

// IsNumber reports the integers, decimal and double precision.
func (t Type) IsNumber() bool { f := table[t.Kind].family; return f == integers || f == numbers }

// IsTemporal reports dates, times and timestamps.
func (t Type) IsTemporal() bool { return table[t.Kind].family == temporal }

// IsText reports char, varchar and text.
func (t Type) IsText() bool { return table[t.Kind].family == texts }

// Range returns the smallest and largest value of an integer type.
func (t Type) Range() (lo, hi int64) {
	switch t.Kind { // others: bigint, and what has no range
	case SmallInt:
		return -1 << 15, 1<<15 - 1
	case Integer:
		return -1 << 31, 1<<31 - 1
	}
	return -1 << 63, 1<<63 - 1
}

// String is the type as a plan writes it.
func (t Type) String() string {
	switch t.Kind { // others: written by their names
	case Decimal:
		return fmt.Sprintf("decimal(%d,%d)", t.Precision, t.Scale)
	case Char, VarChar:
		return fmt.Sprintf("%s(%d)", table[t.Kind].name, t.Length)
	case Time, Timestamp:
		return fmt.Sprintf("%s(%d)", table[t.Kind].name, t.Precision)
	case TimestampTZ:
		return fmt.Sprintf("timestamp(%d) with time zone", t.Precision)
	}
	return table[t.Kind].name
}

// parts takes a type apart: its name, up to two numbers in parentheses, and whether it is zoned.
func parts(s string) (name, first, second string, zone, ok bool) {
	s = strings.ToLower(strings.Join(strings.Fields(s), " "))
	s, zone = strings.CutSuffix(s, " with time zone")
	name, inside, braced := strings.Cut(s, "(")
	if braced {
		if inside, ok = strings.CutSuffix(inside, ")"); !ok {
			return "", "", "", false, false
		}
		var two bool
		first, second, two = strings.Cut(inside, ",")
		first, second = strings.Trim(first, " "), strings.Trim(second, " ")
		if !isSize(first) || two && !isSize(second) {
			return "", "", "", false, false
		}
	}
	return strings.TrimSuffix(name, " "), first, second, zone, true
}

func isSize(s string) bool {
	return len(s) >= 1 && len(s) <= 9 && strings.Trim(s, "0123456789") == ""
}

// Parse reads a type as people write it, in any case. A decimal without a
// scale has scale 0; a time without a precision has 6.
func Parse(s string) (Type, error) {
	name, first, second, zone, ok := parts(s)
	if !ok {
		return Type{}, unknown(s)
	}
	var t Type
	for k, x := range table {
		if x.name == name && Kind(k) != None {
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
	if t.Kind == Timestamp && zone {
		t.Kind = TimestampTZ
	} else if zone {
		return Type{}, unknown(s)
	}
	a, _ := strconv.Atoi(first)
	b, _ := strconv.Atoi(second)
	switch t.Kind { // others: checked in the default, which takes no length
	case None:
		return Type{}, unknown(s)
	case Decimal:
		if first == "" {
			return Type{}, fmt.Errorf("type %q: a decimal needs its digits, like decimal(10,2)", s)
		}
		if a < 1 || a > MaxPrecision || b > a {
			return Type{}, fmt.Errorf("type %q: digits must be 1 to %d, and no fewer than those behind the point", s,
				MaxPrecision)
		}
		t.Precision, t.Scale = a, b
		return t, nil
	case Char, VarChar:
		if first == "" && t.Kind == Char {
			a = 1
		} else if a < 1 {
			return Type{}, fmt.Errorf("type %q: needs its length in characters, like varchar(40)", s)
		}
		t.Length = a
	case Time, Timestamp, TimestampTZ:
		if t.Precision = 6; first != "" {
			t.Precision = a
		}
		if t.Precision > 6 {
			return Type{}, fmt.Errorf("type %q: seconds have at most 6 fraction digits", s)
		}
	default:
		if first != "" {
			return Type{}, fmt.Errorf("type %q: %s takes no length", s, table[t.Kind].name)
		}
	}
	if second != "" {
		return Type{}, unknown(s)
	}
	return t, nil
}

func unknown(s string) error {
	var known []string
	for _, k := range Kinds() {
		known = append(known, table[k].name+map[Kind]string{Decimal: "(p,s)", Char: "(n)", VarChar: "(n)"}[k])
	}
	return fmt.Errorf("type %q: unknown; the types are %s", s, strings.Join(known, ", "))
}
