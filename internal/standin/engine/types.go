// Package engine executes the part of Transact-SQL that package tsql reads, over tables
// in memory, by the rules of SQL Server: its types and their ranges, collations,
// constraints, transactions and what dooms them, catalog views and errors with their
// numbers (Transact-SQL reference; "Database engine errors").
//
// The model: a [Server] has databases, a [Session] runs batches in one of them and tells
// a [Sink] what comes of it. One statement runs at a time; who waits for a lock lets
// others run. Locks are of whole tables: where SQL Server lets two writers into one
// table, here the second waits.
package engine

import (
	"fmt"
	"strings"

	"ambertray/internal/standin/tsql"
)

// A Kind is a family of values, in the order of precedence: of two kinds that meet, the
// later wins (Transact-SQL reference, "Data type precedence").
type Kind uint8

// The kinds.
const (
	Untyped Kind = iota // NULL alone
	Binary
	VarBinary
	Image
	Char
	VarChar
	NChar
	NVarChar
	Text
	NText
	UniqueIdentifier
	RowVersion
	Bit
	TinyInt
	SmallInt
	Int
	BigInt
	SmallMoney
	Money
	Decimal
	Real
	Float
	Time
	Date
	SmallDateTime
	DateTime
	DateTime2
	DateTimeOffset
	XML
	Variant
	Other // hierarchyid, geography: known by name alone
)

// A Type is what a column or an expression is of.
type Type struct {
	Kind Kind
	// Len is the length of text and bytes: bytes of char, pairs of bytes of nchar, or
	// Max.
	Len int
	// Prec and Scale are a decimal's, or Scale that of a time.
	Prec, Scale int
	Coll        *Collation // of text
	// Name is the name of a kind that is known by it alone.
	Name string
	// Explicit tells that COLLATE was said.
	Explicit bool
}

// Max is the length of types like varchar(max).
const Max = -1

// A spec is how a type is written, and what the catalog says of it.
type spec struct {
	name       string
	kind       Kind
	id         int // system_type_id
	length     int // in bytes, of those that have one
	prec, scal int
}

var specs = []spec{
	{"bit", Bit, 104, 1, 1, 0}, {"tinyint", TinyInt, 48, 1, 3, 0}, {"smallint", SmallInt, 52, 2, 5, 0},
	{"int", Int, 56, 4, 10, 0}, {"bigint", BigInt, 127, 8, 19, 0},
	{"decimal", Decimal, 106, 0, 18, 0}, {"numeric", Decimal, 108, 0, 18, 0},
	{"money", Money, 60, 8, 19, 4}, {"smallmoney", SmallMoney, 122, 4, 10, 4},
	{"real", Real, 59, 4, 24, 0}, {"float", Float, 62, 8, 53, 0},
	{"date", Date, 40, 3, 10, 0}, {"time", Time, 41, 5, 16, 7}, {"datetime2", DateTime2, 42, 8, 27, 7},
	{"datetimeoffset", DateTimeOffset, 43, 10, 34, 7}, {"datetime", DateTime, 61, 8, 23, 3},
	{"smalldatetime", SmallDateTime, 58, 4, 16, 0}, {"uniqueidentifier", UniqueIdentifier, 36, 16, 0, 0},
	{"char", Char, 175, 0, 0, 0}, {"varchar", VarChar, 167, 0, 0, 0}, {"nchar", NChar, 239, 0, 0, 0},
	{"nvarchar", NVarChar, 231, 0, 0, 0}, {"sysname", NVarChar, 231, 0, 0, 0},
	{"text", Text, 35, 16, 0, 0}, {"ntext", NText, 99, 16, 0, 0}, {"xml", XML, 241, -1, 0, 0},
	{"binary", Binary, 173, 0, 0, 0}, {"varbinary", VarBinary, 165, 0, 0, 0}, {"image", Image, 34, 16, 0, 0},
	{"rowversion", RowVersion, 189, 8, 0, 0}, {"timestamp", RowVersion, 189, 8, 0, 0},
	{"sql_variant", Variant, 98, 8016, 0, 0},
	{"hierarchyid", Other, 240, 892, 0, 0}, {"geography", Other, 240, -1, 0, 0}, {"geometry", Other, 240, -1, 0, 0},
}

func (t Type) spec() spec {
	for _, s := range specs {
		if s.kind == t.Kind && (t.Name == "" || s.name == t.Name) {
			return s
		}
	}
	return spec{name: "int", kind: Int, id: 56, length: 4, prec: 10}
}

// IsText, IsWide, IsBytes, IsInteger, IsExact, IsFloat, IsNumber and IsTime tell the families.
func (t Type) IsText() bool { return t.Kind >= Char && t.Kind <= NText || t.Kind == XML }

// IsWide reports text in UTF-16.
func (t Type) IsWide() bool {
	return t.Kind == NChar || t.Kind == NVarChar || t.Kind == NText || t.Kind == XML
}

// IsBytes reports binary data.
func (t Type) IsBytes() bool {
	return t.Kind >= Binary && t.Kind <= Image || t.Kind == RowVersion
}

// IsInteger reports bit to bigint.
func (t Type) IsInteger() bool { return t.Kind >= Bit && t.Kind <= BigInt }

// IsMoney reports money and smallmoney.
func (t Type) IsMoney() bool { return t.Kind == Money || t.Kind == SmallMoney }

// IsExact reports numbers that are no floats.
func (t Type) IsExact() bool { return t.Kind >= Bit && t.Kind <= Decimal }

// IsFloat reports real and float.
func (t Type) IsFloat() bool { return t.Kind == Real || t.Kind == Float }

// IsNumber reports all numbers.
func (t Type) IsNumber() bool { return t.IsExact() || t.IsFloat() }

// IsTime reports dates and times.
func (t Type) IsTime() bool { return t.Kind >= Time && t.Kind <= DateTimeOffset }

// digits is how many digits of an exact number stand behind the point.
func (t Type) digits() int {
	switch {
	case t.IsMoney():
		return 4
	case t.Kind == Decimal:
		return t.Scale
	}
	return 0
}

// asDecimal is the decimal that holds all of an exact number.
func (t Type) asDecimal() Type {
	if t.Kind == Decimal {
		return t
	}
	s := t.spec()
	return Type{Kind: Decimal, Prec: s.prec, Scale: t.digits()}
}

// Bytes is how many bytes the catalog says that a value takes at most.
func (t Type) Bytes() int {
	switch t.Kind { // others: as the table has them
	case Char, VarChar, Binary, VarBinary:
		return t.Len
	case NChar, NVarChar:
		if t.Len == Max {
			return Max
		}
		return 2 * t.Len
	case Decimal:
		return decimalBytes(t.Prec)
	case Time:
		return timeBytes(t.Scale)
	case DateTime2:
		return timeBytes(t.Scale) + 3
	case DateTimeOffset:
		return timeBytes(t.Scale) + 5
	}
	return t.spec().length
}

func decimalBytes(prec int) int {
	switch {
	case prec <= 9:
		return 5
	case prec <= 19:
		return 9
	case prec <= 28:
		return 13
	}
	return 17
}

func timeBytes(scale int) int {
	switch {
	case scale <= 2:
		return 3
	case scale <= 4:
		return 4
	}
	return 5
}

// Precision and Digits are what the catalog says of a type.
func (t Type) Precision() int {
	switch {
	case t.Kind == Decimal:
		return t.Prec
	case t.Kind == Time:
		return 8 + min(t.Scale, 1) + t.Scale
	case t.Kind == DateTime2:
		return 19 + min(t.Scale, 1) + t.Scale
	case t.Kind == DateTimeOffset:
		return 26 + min(t.Scale, 1) + t.Scale
	}
	return t.spec().prec
}

// Digits is the scale that the catalog says.
func (t Type) Digits() int {
	if t.Kind == Decimal || t.IsTime() && t.Kind >= DateTime2 || t.Kind == Time {
		return t.Scale
	}
	return t.spec().scal
}

// String is the type as a definition writes it.
func (t Type) String() string {
	name := t.spec().name
	length := func(n int) string {
		if n == Max {
			return name + "(max)"
		}
		return fmt.Sprintf("%s(%d)", name, n)
	}
	switch t.Kind { // others: by their names
	case Char, VarChar, NChar, NVarChar, Binary, VarBinary:
		return length(t.Len)
	case Decimal:
		return fmt.Sprintf("%s(%d,%d)", name, t.Prec, t.Scale)
	case Time, DateTime2, DateTimeOffset:
		return length(t.Scale)
	}
	return name
}

// TypeOf is the type that a name means; coll is what text has that says nothing else.
func TypeOf(n tsql.TypeName, coll *Collation) (Type, error) {
	for _, s := range specs {
		if s.name != n.Name {
			continue
		}
		t := Type{Kind: s.kind, Prec: s.prec, Scale: s.scal}
		if s.name != (Type{Kind: s.kind}).spec().name || s.kind == Other {
			t.Name = s.name
		}
		if t.IsText() {
			t.Coll = coll
		}
		return t, t.sized(n)
	}
	return Type{}, fail(2715, 16, "Column, parameter, or variable: Cannot find data type %s.", n.Name)
}

// sized sets length, precision and scale as they are written.
func (t *Type) sized(n tsql.TypeName) error {
	arg := func(i, otherwise int) int {
		if i < len(n.Args) {
			return n.Args[i]
		}
		return otherwise
	}
	switch t.Kind { // others: take no length
	case Char, VarChar, NChar, NVarChar, Binary, VarBinary:
		most := 8000
		if t.IsWide() {
			most = 4000
		}
		t.Len = arg(0, 1)
		if n.Name == "sysname" {
			t.Len, t.Name = 128, ""
		}
		fixed := t.Kind == Char || t.Kind == NChar || t.Kind == Binary
		if t.Len == 0 || t.Len > most || t.Len == Max && fixed {
			return fail(131, 15, "The size (%d) given to the type '%s' exceeds the maximum allowed (%d).", t.Len,
				n.Name, most)
		}
	case Decimal:
		t.Prec, t.Scale = arg(0, 18), arg(1, 0)
		if t.Prec < 1 || t.Prec > 38 || t.Scale > t.Prec {
			return fail(2750, 16, "Column or parameter: Specified column precision %d is greater than the maximum "+
				"precision of 38.", t.Prec)
		}
	case Time, DateTime2, DateTimeOffset:
		if t.Scale = arg(0, 7); t.Scale > 7 || t.Scale < 0 {
			return fail(1002, 15, "Line: Specified scale %d is invalid.", t.Scale)
		}
	case Float:
		if arg(0, 53) <= 24 {
			t.Kind = Real
		}
	case Text, NText, XML, Image:
		t.Len = Max
	default:
		if len(n.Args) > 0 && t.Kind != Variant {
			return fail(2716, 16, "Column, parameter, or variable: Cannot specify a column width on data type %s.",
				n.Name)
		}
	}
	return nil
}

// A Collation is how text compares (Transact-SQL reference, "Windows collation name",
// "SQL Server collation name").
type Collation struct {
	Name     string
	CodePage int
	LCID     int
	SortID   byte
	Version  int
	// Binary compares code points; IgnoreCase and IgnoreAccent are what the others may.
	Binary, IgnoreCase, IgnoreAccent bool
}

// regions are the beginnings of names, with their code pages and locales.
var regions = []struct {
	prefix     string
	page, lcid int
}{
	{"SQL_Latin1_General_CP1_", 1252, 0x409}, {"SQL_Latin1_General_CP437_", 437, 0x409},
	{"SQL_Latin1_General_CP850_", 850, 0x409}, {"Latin1_General_", 1252, 0x409}, {"German_PhoneBook_", 1252, 0x10407},
	{"French_", 1252, 0x40c}, {"Modern_Spanish_", 1252, 0xc0a}, {"Danish_Norwegian_", 1252, 0x406},
	{"Finnish_Swedish_", 1252, 0x40b}, {"Polish_", 1250, 0x415}, {"Czech_", 1250, 0x405}, {"Hungarian_", 1250, 0x40e},
	{"Cyrillic_General_", 1251, 0x419}, {"Ukrainian_", 1251, 0x422}, {"Greek_", 1253, 0x408},
	{"Turkish_", 1254, 0x41f}, {"Hebrew_", 1255, 0x40d}, {"Arabic_", 1256, 0x401}, {"Lithuanian_", 1257, 0x427},
	{"Vietnamese_", 1258, 0x42a}, {"Thai_", 874, 0x41e}, {"Japanese_", 932, 0x411}, {"Chinese_PRC_", 936, 0x804},
	{"Korean_Wansung_", 949, 0x412}, {"Chinese_Taiwan_Stroke_", 950, 0x404},
}

// DefaultCollation is that of a server that was set up in English.
const DefaultCollation = "SQL_Latin1_General_CP1_CI_AS"

// CollationOf finds a collation by its name.
func CollationOf(name string) (*Collation, error) {
	up := strings.ToUpper(name)
	for _, r := range regions {
		rest, is := strings.CutPrefix(up, strings.ToUpper(r.prefix))
		if !is {
			continue
		}
		c := &Collation{Name: name, CodePage: r.page, LCID: r.lcid}
		for _, w := range strings.Split(rest, "_") {
			switch w {
			case "BIN", "BIN2":
				c.Binary = true
			case "CI":
				c.IgnoreCase = true
			case "AI":
				c.IgnoreAccent = true
			case "UTF8":
				c.CodePage = 65001
			case "90", "100", "140":
				c.Version = map[string]int{"90": 1, "100": 2, "140": 3}[w]
			case "CS", "AS", "KS", "WS", "SC", "VSS":
			default:
				return nil, fail(448, 16, "Invalid collation '%s'.", name)
			}
		}
		if up == strings.ToUpper(DefaultCollation) {
			c.SortID = 52
		}
		return c, nil
	}
	return nil, fail(448, 16, "Invalid collation '%s'.", name)
}

// Plain is a collation with the code page of its locale.
func (c *Collation) Plain() *Collation {
	x := *c
	for _, r := range regions {
		if r.lcid == c.LCID {
			x.CodePage = r.page
			break
		}
	}
	return &x
}

// Wire is the collation in five bytes ([MS-TDS] 2.2.5.1.2).
func (c *Collation) Wire() [5]byte {
	flags := 0
	set := func(is bool, bit int) {
		if is {
			flags |= bit
		}
	}
	set(c.IgnoreCase, 1)
	set(c.IgnoreAccent, 2)
	set(!c.Binary, 4|8) // kana type and width
	set(c.Binary && !strings.HasSuffix(c.Name, "2"), 16)
	set(c.Binary && strings.HasSuffix(c.Name, "2"), 32)
	set(c.CodePage == 65001, 64)
	n := c.LCID&0xfffff | flags<<20 | c.Version<<28
	return [5]byte{byte(n), byte(n >> 8), byte(n >> 16), byte(n >> 24), c.SortID}
}

// CollationOfWire is one with the code page that five bytes mean.
func CollationOfWire(b [5]byte) *Collation {
	n := int(b[0]) | int(b[1])<<8 | int(b[2])<<16 | int(b[3])<<24
	c := &Collation{Name: "wire", CodePage: 1252, LCID: n & 0xfffff, SortID: b[4]}
	for _, r := range regions {
		if r.lcid == c.LCID && (b[4] == 0 || r.page == 1252) {
			c.CodePage = r.page
			break
		}
	}
	if n>>26&1 == 1 {
		c.CodePage = 65001
	}
	return c
}
