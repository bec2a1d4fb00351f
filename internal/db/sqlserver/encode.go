package sqlserver

import (
	"encoding/binary"
	"fmt"
	"math"
	"math/bits"
	"strconv"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"

	"ambertray/internal/reading"
	"ambertray/internal/sink"
	"ambertray/internal/sqltype"
)

// A form is how values look on the wire.
type form uint8

const (
	asInteger form = iota // INTN, BITN
	asDecimal
	asReal
	asFloat
	asDate
	asTime
	asTimestamp
	asOffset
	asGUID
	asNarrow // text in the bytes of a code page
	asWide   // text in UTF-16
)

// A field is a column as rows have it.
type field struct {
	name string
	form
	size  int // bytes of an integer or a decimal; of text, at most
	prec  int
	scale int // of a decimal, or digits of a second
	mine  int // the scale of what is read
	long  bool
	page  *charmap.Charmap  // nil: the bytes are UTF-8
	lacks func([]byte) bool // of a page that the server makes of UTF-16
	code  declared
	// step is what moments have to be a multiple of, in microseconds; first and last are the
	// earliest and the latest of them.
	step, first, last int64
	// most bounds numbers that the type on the wire does not.
	most float64
}

// fieldOf settles how the values of a column go to the server. Those of types that it would
// round go as the nearest that it does not, so that nothing is rounded here or there
// unseen.
func fieldOf(c column, read sqltype.Type) field {
	f := field{name: c.Column.Name, code: c.declared}
	switch c.declared.name {
	case "bit", "tinyint":
		f.form, f.size = asInteger, 1
	case "smallint":
		f.form, f.size = asInteger, 2
	case "int":
		f.form, f.size = asInteger, 4
	case "bigint":
		f.form, f.size = asInteger, 8
	case "decimal", "numeric":
		f.form, f.prec, f.scale, f.mine = asDecimal, c.a, c.b, read.Scale
	case "money":
		f.form, f.prec, f.scale, f.mine = asDecimal, 19, 4, read.Scale
	case "smallmoney":
		f.form, f.prec, f.scale, f.mine = asDecimal, 10, 4, read.Scale
	case "real":
		f.form, f.most = asReal, math.MaxFloat32
	case "float":
		f.form = asFloat
	case "date":
		f.form = asDate
	case "time":
		f.form, f.scale = asTime, c.a
	case "datetime2":
		f.form, f.scale = asTimestamp, c.a
	case "datetime":
		f.form, f.scale, f.step, f.first, f.last = asTimestamp, 2, 10_000, year1753, math.MaxInt64
	case "smalldatetime":
		f.form, f.step, f.first, f.last = asTimestamp, 60_000_000, year1900, june2079
	case "datetimeoffset":
		f.form, f.scale = asOffset, c.a
	case "uniqueidentifier":
		f.form = asGUID
	default:
		f.text(c)
	}
	if f.form == asDecimal {
		f.size = decimalSize(f.prec)
	}
	return f
}

// text settles how text goes: in the column's code page where each letter is a byte, else
// in UTF-16, of which the server makes the column's.
func (f *field) text(c column) {
	f.form, f.long = asWide, true
	f.page = pages[c.page]
	switch c.declared.name {
	case "nchar", "nvarchar":
		f.long, f.size = c.a < 0, c.a
	case "char", "varchar":
		if f.page == nil {
			f.long = c.a < 0 || c.a > 4000
			f.size, f.lacks = c.a, lacks(c.page)
			break
		}
		f.form, f.long, f.size = asNarrow, c.a < 0, c.a
	}
}

// The ends of datetime and smalldatetime, in microseconds of 1970.
const (
	year1753 = -6847804800 * 1_000_000
	year1900 = -2208988800 * 1_000_000
	june2079 = 3453321540 * 1_000_000 // the last one of smalldatetime, on the 6th
)

func decimalSize(prec int) int {
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

func timeSize(scale int) int {
	switch {
	case scale <= 2:
		return 3
	case scale <= 4:
		return 4
	}
	return 5
}

// The types on the wire ([MS-TDS] 2.2.5.4).
const (
	typeGUID     = 0x24
	typeInteger  = 0x26
	typeDate     = 0x28
	typeTime     = 0x29
	typeDateTime = 0x2a
	typeOffset   = 0x2b
	typeBit      = 0x68
	typeDecimal  = 0x6a
	typeFloat    = 0x6d
	typeNarrow   = 0xa7
	typeWide     = 0xe7
	longLength   = 0xffff
	longNull     = math.MaxUint64
)

// definition is the column's type in an INSERT BULK.
func (f *field) definition() string {
	switch f.form {
	case asDecimal:
		return fmt.Sprintf("decimal(%d,%d)", f.prec, f.scale)
	case asTimestamp:
		return fmt.Sprintf("datetime2(%d)", f.scale)
	case asTime:
		return fmt.Sprintf("time(%d)", f.scale)
	case asOffset:
		return fmt.Sprintf("datetimeoffset(%d)", f.scale)
	case asNarrow:
		return "varchar(" + f.length() + ")"
	case asWide:
		return "nvarchar(" + f.length() + ")"
	case asDate, asFloat, asGUID, asInteger, asReal:
	}
	return f.code.name
}

func (f *field) length() string {
	if f.long {
		return "max"
	}
	return strconv.Itoa(f.size)
}

// describe adds what a row's description says of the column.
func (f *field) describe(b []byte) []byte {
	b = append(b, 0, 0, 0, 0, 9, 0) // no type of a user; nullable, to be written to
	switch f.form {
	case asInteger:
		code := byte(typeInteger)
		if f.code.name == "bit" {
			code = typeBit
		}
		b = append(b, code, byte(f.size))
	case asDecimal:
		b = append(b, typeDecimal, byte(f.size), byte(f.prec), byte(f.scale))
	case asReal:
		b = append(b, typeFloat, 4)
	case asFloat:
		b = append(b, typeFloat, 8)
	case asDate:
		b = append(b, typeDate)
	case asTime:
		b = append(b, typeTime, byte(f.scale))
	case asTimestamp:
		b = append(b, typeDateTime, byte(f.scale))
	case asOffset:
		b = append(b, typeOffset, byte(f.scale))
	case asGUID:
		b = append(b, typeGUID, 16)
	case asNarrow, asWide:
		code, n := byte(typeNarrow), f.size
		if f.form == asWide {
			code, n = typeWide, 2*f.size
		}
		if f.long {
			n = longLength
		}
		b = binary.LittleEndian.AppendUint16(append(b, code), uint16(n))
		b = f.collation(b)
	}
	name := utf16Of(nil, []byte(f.name))
	return append(append(b, byte(len(name)/2)), name...)
}

// collation adds the column's collation: its locale and how it compares ([MS-TDS]
// 2.2.5.1.2).
func (f *field) collation(b []byte) []byte {
	c := f.code
	lcid, flags := c.lcid&0xfffff, 0
	if lcid == 0 {
		lcid = 0x409
	}
	for i, bit := range []int{1, 2, 0x10000, 0x20000} { // case, accents, kana, width
		if c.style&bit != 0 {
			flags |= 1 << i
		}
	}
	b = binary.LittleEndian.AppendUint32(b, uint32(lcid|flags<<20|c.version<<28))
	return append(b, 0)
}

// encoder makes rows as the wire has them, each behind its length. A row with a value that
// the server would change has, instead, a mark, and what is wrong.
type encoder struct{ fields []field }

// refusedMark is set in the length of a row that is not sent.
const refusedMark = 1 << 31

// A wrong is why a value cannot go to the server as it is.
type wrong uint8

const (
	right wrong = iota
	noLetter
	tooLong
	tooFine
	tooEarly
	tooLarge
)

// Append implements sink.Encoder.
func (e *encoder) Append(b []byte, row []reading.Value) []byte {
	at := len(b)
	b = append(b, 0, 0, 0, 0, tokenRow)
	for i := range row {
		var w wrong
		if b, w = e.fields[i].append(b, &row[i]); w != right {
			b = append(b[:at], 3, 0, 0, refusedMark>>24, byte(w), byte(i), byte(i>>8))
			return b
		}
	}
	binary.LittleEndian.PutUint32(b[at:], uint32(len(b)-at-4))
	return b
}

// append adds one value.
func (f *field) append(b []byte, v *reading.Value) ([]byte, wrong) {
	if v.Null {
		switch {
		case f.form < asNarrow:
			return append(b, 0), right
		case f.long:
			return binary.LittleEndian.AppendUint64(b, longNull), right
		}
		return append(b, 0xff, 0xff), right
	}
	switch f.form {
	case asInteger:
		return appendLow(append(b, byte(f.size)), v.Int, f.size), right
	case asDecimal:
		return f.decimal(b, v)
	case asReal:
		if math.Abs(v.Float) > f.most {
			return b, tooLarge
		}
		return binary.LittleEndian.AppendUint32(append(b, 4), math.Float32bits(float32(v.Float))), right
	case asFloat:
		return binary.LittleEndian.AppendUint64(append(b, 8), math.Float64bits(v.Float)), right
	case asDate:
		return appendLow(append(b, 3), v.Int+daysTo1970, 3), right
	case asTime:
		return appendLow(append(b, byte(timeSize(f.scale))), clock(v.Int, f.scale), timeSize(f.scale)), right
	case asTimestamp, asOffset:
		return f.moment(b, v.Int)
	case asGUID:
		return guid(append(b, 16), v.Text), right
	case asNarrow:
		return f.narrow(b, v.Text)
	case asWide:
	}
	return f.wide(b, v.Text)
}

// daysTo1970 are the days from 0001-01-01.
const daysTo1970 = 719162

// microsADay is a day in microseconds.
const microsADay = 86_400_000_000

func appendLow(b []byte, n int64, size int) []byte {
	for range size {
		b = append(b, byte(n))
		n >>= 8
	}
	return b
}

// clock are microseconds of a day in units of a scale.
func clock(micros int64, scale int) int64 {
	for ; scale < 6; scale++ {
		micros /= 10
	}
	for ; scale > 6; scale-- {
		micros *= 10
	}
	return micros
}

// moment adds a time, a day, and of asOffset minutes from UTC, which are none.
func (f *field) moment(b []byte, micros int64) ([]byte, wrong) {
	if f.step != 0 {
		if micros%f.step != 0 {
			return b, tooFine
		}
		if micros < f.first {
			return b, tooEarly
		}
		if micros > f.last {
			return b, tooLarge
		}
	}
	day, rest := micros/microsADay, micros%microsADay
	if rest < 0 {
		day, rest = day-1, rest+microsADay
	}
	size := timeSize(f.scale)
	n := size + 3
	if f.form == asOffset {
		n += 2
	}
	b = appendLow(append(b, byte(n)), clock(rest, f.scale), size)
	b = appendLow(b, day+daysTo1970, 3)
	if f.form == asOffset {
		b = append(b, 0, 0)
	}
	return b, right
}

// decimal adds a sign and the digits as a number of 4, 8, 12 or 16 bytes.
func (f *field) decimal(b []byte, v *reading.Value) ([]byte, wrong) {
	sign, hi, lo := byte(1), uint64(0), uint64(0)
	if v.Wide != nil {
		digits := v.Wide
		if digits[0] == '-' {
			sign, digits = 0, digits[1:]
		}
		for _, c := range digits {
			hi, lo = timesTen(hi, lo, uint64(c-'0'))
		}
	} else if lo = uint64(v.Int); v.Int < 0 {
		sign, lo = 0, -lo
	}
	for range f.scale - f.mine {
		hi, lo = timesTen(hi, lo, 0)
	}
	if f.size == 5 && (hi != 0 || lo > math.MaxUint32) || f.size == 9 && hi != 0 {
		return b, tooLarge
	}
	b = append(b, byte(f.size), sign)
	for i := range f.size - 1 {
		if i < 8 {
			b = append(b, byte(lo>>(8*i)))
		} else {
			b = append(b, byte(hi>>(8*(i-8))))
		}
	}
	return b, right
}

func timesTen(hi, lo, digit uint64) (uint64, uint64) {
	over, lo := bits.Mul64(lo, 10)
	lo, carry := bits.Add64(lo, digit, 0)
	return hi*10 + over + carry, lo
}

// guid adds 16 bytes, of which the first three parts lie in reverse.
func guid(b, text []byte) []byte {
	x := reading.UUIDBytes(text)
	for _, i := range [16]byte{3, 2, 1, 0, 5, 4, 7, 6, 8, 9, 10, 11, 12, 13, 14, 15} {
		b = append(b, x[i])
	}
	return b
}

// narrow adds text in a code page.
func (f *field) narrow(b, text []byte) ([]byte, wrong) {
	b, at := f.begin(b)
	if isASCII(text) {
		return f.end(append(b, text...), at)
	}
	for i := 0; i < len(text); {
		r, n := utf8.DecodeRune(text[i:])
		c, has := f.page.EncodeRune(r)
		if !has {
			return b, noLetter
		}
		b = append(b, c)
		i += n
	}
	return f.end(b, at)
}

func (f *field) wide(b, text []byte) ([]byte, wrong) {
	if f.lacks != nil && f.lacks(text) {
		return b, noLetter
	}
	b, at := f.begin(b)
	return f.end(utf16Of(b, text), at)
}

// begin leaves room for the length of text, or of all its pieces and of the one.
func (f *field) begin(b []byte) ([]byte, int) {
	if f.long {
		return append(b, make([]byte, 12)...), len(b)
	}
	return append(b, 0, 0), len(b)
}

// end fills the room.
func (f *field) end(b []byte, at int) ([]byte, wrong) {
	if !f.long {
		n, most := len(b)-at-2, f.size
		if f.form == asWide {
			most *= 2
		}
		if n > most {
			return b, tooLong
		}
		binary.LittleEndian.PutUint16(b[at:], uint16(n))
		return b, right
	}
	n := len(b) - at - 12
	binary.LittleEndian.PutUint64(b[at:], uint64(n))
	if n == 0 {
		return b[:at+12], right // the room for the piece is the mark of the end
	}
	binary.LittleEndian.PutUint32(b[at+8:], uint32(n))
	return append(b, 0, 0, 0, 0), right
}

// utf16Of adds text in UTF-16, the low byte first.
func utf16Of(b, text []byte) []byte {
	for i := 0; i < len(text); {
		if c := text[i]; c < utf8.RuneSelf {
			b = append(b, c, 0)
			i++
			continue
		}
		r, n := utf8.DecodeRune(text[i:])
		i += n
		if r < 0x10000 {
			b = append(b, byte(r), byte(r>>8))
			continue
		}
		r -= 0x10000
		a, z := 0xd800+r>>10, 0xdc00+r&0x3ff
		b = append(b, byte(a), byte(a>>8), byte(z), byte(z>>8))
	}
	return b
}

// wrongs are the reasons in words.
func (f *field) wrongs(w wrong) string {
	switch w {
	case noLetter:
		return fmt.Sprintf("a letter that the column's code page (%d) does not have", f.code.page)
	case tooLong:
		return fmt.Sprintf("longer than %s, as the server counts: bytes of char, pairs of bytes of nchar",
			f.definition())
	case tooFine:
		if f.code.name == "smalldatetime" {
			return "seconds, which smalldatetime rounds to minutes"
		}
		return "a fraction of a second that " + f.code.name + " rounds"
	case tooEarly:
		return "earlier than " + f.code.name + " begins (" + map[bool]string{true: "1753",
			false: "1900"}[f.first == year1753] + ")"
	case tooLarge:
		return "larger than " + strings.TrimSpace(f.code.name) + " holds"
	case right:
	}
	return "fits"
}

var _ sink.Encoder = (*encoder)(nil)
