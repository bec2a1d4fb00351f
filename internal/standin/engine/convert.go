package engine

import (
	"encoding/hex"
	"math"
	"math/big"
	"strconv"
	"strings"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/japanese"
	"golang.org/x/text/encoding/korean"
	"golang.org/x/text/encoding/simplifiedchinese"
	"golang.org/x/text/encoding/traditionalchinese"
)

var pages = map[int]encoding.Encoding{437: charmap.CodePage437, 850: charmap.CodePage850, 874: charmap.Windows874,
	1250: charmap.Windows1250, 1251: charmap.Windows1251, 1252: charmap.Windows1252, 1253: charmap.Windows1253,
	1254: charmap.Windows1254, 1255: charmap.Windows1255, 1256: charmap.Windows1256, 1257: charmap.Windows1257,
	1258: charmap.Windows1258, 932: japanese.ShiftJIS, 936: simplifiedchinese.GBK, 949: korean.EUCKR,
	950: traditionalchinese.Big5}

// Encode is text in the code page of a collation; what that does not have is a question
// mark, as on the server.
func (c *Collation) Encode(s string) []byte {
	if ascii(s) || c == nil || c.CodePage == 65001 {
		return []byte(s)
	}
	e := pages[c.CodePage].NewEncoder()
	var b []byte
	for _, r := range s {
		x, err := e.Bytes([]byte(string(r)))
		if err != nil {
			e.Reset()
			x = []byte("?")
		}
		b = append(b, x...)
	}
	return b
}

// Decode is text of the code page of a collation, in UTF-8.
func (c *Collation) Decode(b []byte) string {
	if ascii(string(b)) || c == nil || c.CodePage == 65001 {
		return string(b)
	}
	x, err := pages[c.CodePage].NewDecoder().Bytes(b)
	if err != nil {
		return string(b)
	}
	return string(x)
}

func ascii(s string) bool {
	for i := range len(s) {
		if s[i] >= 0x80 {
			return false
		}
	}
	return true
}

// length of text, as its type counts it.
func (t Type) length(s string) int {
	switch {
	case t.IsWide():
		return Units(s)
	case ascii(s):
		return len(s)
	case t.IsText():
		return len(t.Coll.Encode(s))
	}
	return len(s)
}

// cutTo is the beginning of a text that fits a length.
func (t Type) cutTo(s string, n int) string {
	for i, r := range s {
		if t.length(s[:i]+string(r)) > n {
			return s[:i]
		}
	}
	return s
}

// convert makes a value of one type one of another, as CAST does: text that is too long is
// cut.
func convert(v Value, from, to Type, style int) (Value, error) {
	if v.Null || from.Kind == Untyped {
		return null, nil
	}
	switch {
	case to.IsText():
		s, err := asText(v, from, to, style)
		if err != nil {
			return null, err
		}
		return textValue(s, from, to)
	case to.IsBytes():
		return toBytes(v, from, to, style)
	case to.Kind == UniqueIdentifier:
		switch {
		case from.Kind == UniqueIdentifier:
			return v, nil
		case from.IsText():
			if g, ok := parseGUID(v.S); ok {
				return Value{S: g}, nil
			}
			return null, fail(8169, 16, "Conversion failed when converting from a character string to "+
				"uniqueidentifier.")
		case from.IsBytes() && len(v.S) == 16:
			return v, nil
		}
	case to.IsFloat():
		return toFloat(v, from, to)
	case to.IsExact():
		return toExact(v, from, to)
	case to.IsTime():
		return toTime(v, from, to)
	case to.Kind == from.Kind:
		return v, nil
	}
	return null, fail(529, 16, "Explicit conversion from data type %s to %s is not allowed.", from, to)
}

// textValue makes a text fit its type.
func textValue(s string, from, to Type) (Value, error) {
	if !to.IsWide() && !ascii(s) {
		s = to.Coll.Decode(to.Coll.Encode(s))
	}
	if to.Len != Max && to.Len > 0 {
		if to.length(s) > to.Len {
			if from.IsNumber() || from.Kind == UniqueIdentifier {
				return null, fail(8115, 16, "Arithmetic overflow error converting expression to data type %s.", to)
			}
			s = to.cutTo(s, to.Len)
		}
		if to.Kind == Char || to.Kind == NChar {
			s += strings.Repeat(" ", to.Len-to.length(s))
		}
	}
	return Value{S: s}, nil
}

func asText(v Value, from, to Type, style int) (string, error) {
	switch {
	case from.IsText():
		return v.S, nil
	case from.Kind == UniqueIdentifier:
		return GUID(v.S), nil
	case from.IsMoney():
		if style == 2 || style == 1 {
			return Exact(v, 4), nil
		}
		return Exact(FromNumber(rescaled(v.Number(), 4, 2)), 2), nil
	case from.IsExact():
		return Exact(v, from.digits()), nil
	case from.IsFloat():
		return floatText(v.Float(), from, style), nil
	case from.IsTime():
		return formatTime(from, v, style)
	case from.IsBytes():
		switch style {
		case 1:
			return "0x" + strings.ToUpper(hex.EncodeToString([]byte(v.S))), nil
		case 2:
			return strings.ToUpper(hex.EncodeToString([]byte(v.S))), nil
		}
		if to.IsWide() {
			return DecodeUTF16([]byte(v.S)), nil
		}
		return to.Coll.Decode([]byte(v.S)), nil
	}
	return "", fail(529, 16, "Explicit conversion from data type %s to %s is not allowed.", from, to)
}

func floatText(f float64, from Type, style int) string {
	bits := 64
	if from.Kind == Real {
		bits = 32
	}
	switch style {
	case 3, 2:
		return strconv.FormatFloat(f, 'e', 16, bits)
	case 1:
		return strconv.FormatFloat(f, 'e', 7, bits)
	}
	return strconv.FormatFloat(f, 'g', 6, bits)
}

func toBytes(v Value, from, to Type, style int) (Value, error) {
	s := v.S
	switch {
	case from.IsBytes(), from.Kind == UniqueIdentifier:
	case from.IsText() && (style == 1 || style == 2):
		b, err := hex.DecodeString(strings.TrimPrefix(s, "0x"))
		if err != nil {
			return null, fail(8114, 16, "Error converting data type %s to %s.", from, to)
		}
		s = string(b)
	case from.IsWide():
		s = string(EncodeUTF16(s))
	case from.IsText():
		s = string(from.Coll.Encode(s))
	case from.IsInteger():
		n := from.spec().length
		b := make([]byte, n)
		for i := range b {
			b[i] = byte(v.N >> (8 * (n - 1 - i)))
		}
		s = string(b)
	default:
		return null, unknown("the conversion of %s to %s", from, to)
	}
	if to.Len > 0 && len(s) > to.Len {
		s = s[:to.Len]
	}
	if to.Kind == Binary && len(s) < to.Len {
		s += strings.Repeat("\x00", to.Len-len(s))
	}
	return Value{S: s}, nil
}

func toFloat(v Value, from, to Type) (Value, error) {
	f := 0.0
	switch {
	case from.IsFloat():
		f = v.Float()
	case from.IsExact():
		f, _ = strconv.ParseFloat(Exact(v, from.digits()), 64)
	case from.IsText():
		var err error
		text := strings.TrimSpace(v.S)
		if text == "" {
			text = "0"
		}
		if f, err = strconv.ParseFloat(text, 64); err != nil || strings.ContainsAny(text, "xXnNiIpP_") {
			return null, fail(8114, 16, "Error converting data type %s to %s.", from.spec().name, to)
		}
	default:
		return null, fail(529, 16, "Explicit conversion from data type %s to %s is not allowed.", from, to)
	}
	if to.Kind == Real {
		if math.Abs(f) > math.MaxFloat32 {
			return null, overflow(from, to)
		}
		f = float64(float32(f))
	}
	return FromFloat(f), nil
}

func overflow(from, to Type) *Error {
	return fail(8115, 16, "Arithmetic overflow error converting %s to data type %s.", from.spec().name, to.spec().name)
}

// powers are those of ten.
var powers = func() (p [19]int64) {
	p[0] = 1
	for i := 1; i < len(p); i++ {
		p[i] = 10 * p[i-1]
	}
	return p
}()

// ranges are those of the integers.
var ranges = map[Kind][2]int64{Bit: {0, 1}, TinyInt: {0, 255}, SmallInt: {-1 << 15, 1<<15 - 1},
	Int: {-1 << 31, 1<<31 - 1}, BigInt: {math.MinInt64, math.MaxInt64}, SmallMoney: {-1 << 31, 1<<31 - 1},
	Money: {math.MinInt64, math.MaxInt64}}

func toExact(v Value, from, to Type) (Value, error) {
	var n *big.Int
	digits := from.digits()
	switch {
	case from.IsExact():
		if digits == to.digits() && v.S == "" && to.Kind != Decimal && to.Kind != Bit {
			if r := ranges[to.Kind]; v.N >= r[0] && v.N <= r[1] {
				return v, nil
			}
		}
		if to.Kind == Decimal && v.S == "" && digits == to.Scale && (to.Prec >= 19 || v.N < powers[to.Prec] &&
			v.N > -powers[to.Prec]) {
			return v, nil
		}
		n = v.Number()
		if to.IsInteger() { // cut, not rounded
			n, digits = new(big.Int).Quo(n, pow10(digits)), 0
		}
	case from.IsFloat():
		f := v.Float()
		if math.Abs(f) >= 1e38 {
			return null, overflow(from, to)
		}
		if to.IsInteger() {
			n, _ = big.NewFloat(math.Trunc(f)).Int(nil)
			break
		}
		digits = to.digits()
		r, _ := new(big.Rat).SetString(strconv.FormatFloat(f, 'e', 16, 64))
		r.Mul(r, new(big.Rat).SetInt(pow10(digits)))
		n, _ = new(big.Int).SetString(r.FloatString(0), 10)
	case from.IsText():
		var err error
		if n, digits, err = parseExact(v.S, from, to); err != nil {
			return null, err
		}
	case from.IsBytes() && to.IsInteger():
		var x int64
		for _, c := range []byte(v.S) {
			x = x<<8 | int64(c)
		}
		return Value{N: x}, nil
	default:
		return null, fail(529, 16, "Explicit conversion from data type %s to %s is not allowed.", from, to)
	}
	n = rescaled(n, digits, to.digits())
	if to.Kind == Bit {
		return Value{N: int64(n.CmpAbs(new(big.Int)))}, nil
	}
	if to.Kind == Decimal {
		if new(big.Int).Abs(n).Cmp(pow10(to.Prec)) >= 0 {
			return null, overflow(from, to)
		}
		return FromNumber(n), nil
	}
	r := ranges[to.Kind]
	if n.Cmp(big.NewInt(r[0])) < 0 || n.Cmp(big.NewInt(r[1])) > 0 {
		if from.IsText() {
			return null, fail(248, 16, "The conversion of the %s value '%s' overflowed an %s column.",
				from.spec().name, v.S, to)
		}
		return null, overflow(from, to)
	}
	return Value{N: n.Int64()}, nil
}

// parseExact reads a number without exponent.
func parseExact(text string, from, to Type) (*big.Int, int, error) {
	s := strings.TrimSpace(text)
	if to.IsInteger() && s == "" {
		return new(big.Int), 0, nil
	}
	if to.Kind == Bit {
		switch strings.ToLower(s) {
		case "true":
			return big.NewInt(1), 0, nil
		case "false":
			return new(big.Int), 0, nil
		}
	}
	whole, part, point := strings.Cut(s, ".")
	n, ok := new(big.Int).SetString(strings.TrimPrefix(whole, "+")+part, 10)
	if !ok || point && to.IsInteger() || strings.Contains(s, "_") {
		if to.IsInteger() {
			return nil, 0, fail(245, 16, "Conversion failed when converting the %s value '%s' to data type %s.",
				from.spec().name, text, to)
		}
		return nil, 0, fail(8114, 16, "Error converting data type %s to %s.", from.spec().name, to.spec().name)
	}
	return n, len(part), nil
}

func toTime(v Value, from, to Type) (Value, error) {
	n, off := v.N, v.Off
	switch {
	case from.IsText():
		local, o, ok := parseTime(v.S)
		if !ok {
			return null, fail(241, 16, "Conversion failed when converting date and/or time from character string.")
		}
		n, off = local-int64(o)*600_000_000, o
	case from.Kind == Date:
		n = v.N * ticksADay
	case from.Kind == Time:
		n += year1900
	case from.IsTime():
	case from.IsNumber() && (to.Kind == DateTime || to.Kind == SmallDateTime):
		f, err := toFloat(v, from, Type{Kind: Float})
		if err != nil {
			return null, err
		}
		n = year1900 + int64(math.Round(f.Float()*ticksADay))
	default:
		return null, fail(529, 16, "Explicit conversion from data type %s to %s is not allowed.", from, to)
	}
	if to.Kind == DateTimeOffset {
		return Value{N: roundTicks(n, to.Scale), Off: off}, nil
	}
	n += int64(off) * 600_000_000 // the local time
	out := func() (Value, error) {
		return null, fail(242, 16, "The conversion of a %s data type to a %s data type resulted in an out-of-range "+
			"value.", from.spec().name, to.spec().name)
	}
	switch to.Kind { // others: datetime2
	case Date:
		return Value{N: n / ticksADay}, nil
	case Time:
		return Value{N: roundTicks(n%ticksADay, to.Scale) % ticksADay}, nil
	case DateTime:
		if n < firstDateTime {
			return out()
		}
		ticks, _, _ := toDateTime(n)
		return Value{N: ticks}, nil
	case SmallDateTime:
		if n < year1900 || n > lastSmall {
			return out()
		}
		return Value{N: (n + 300_000_000) / 600_000_000 * 600_000_000}, nil
	}
	return Value{N: roundTicks(n, to.Scale)}, nil
}

// assign makes a value fit a column: what would lose letters or digits before the point
// is an error.
func assign(v Value, from Type, c *Column) (Value, error) {
	if v.Null {
		return null, nil
	}
	t := c.Type
	if t.IsText() && from.IsText() || t.IsBytes() && from.IsBytes() {
		return fitText(v, from, c)
	}
	if from.IsTime() && (t.IsNumber()) || from.IsNumber() && t.IsTime() && t.Kind != DateTime &&
		t.Kind != SmallDateTime {
		return null, fail(206, 16, "Operand type clash: %s is incompatible with %s", from.spec().name, t.spec().name)
	}
	if t.Kind == RowVersion {
		return null, fail(273, 16, "Cannot insert an explicit value into a timestamp column.")
	}
	return convert(v, from, t, 0)
}

// fitText takes text or bytes; blanks or zeros at the end may be cut.
func fitText(v Value, from Type, c *Column) (Value, error) {
	t := c.Type
	s := v.S
	if t.IsText() && !t.IsWide() && !ascii(s) {
		s = t.Coll.Decode(t.Coll.Encode(s))
	}
	if t.Len > 0 {
		if n := t.length(s); n > t.Len {
			cut := t.cutTo(s, t.Len)
			if t.IsBytes() {
				cut = s[:t.Len]
			}
			if strings.Trim(s[len(cut):], " \x00") != "" {
				return null, fail(2628, 16, "String or binary data would be truncated in table '%s', column '%s'. "+
					"Truncated value: '%s'.", c.table.whole(), c.Name, cut)
			}
			s = cut
		}
		switch t.Kind { // others: as long as they are
		case Char, NChar:
			s += strings.Repeat(" ", t.Len-t.length(s))
		case Binary:
			s += strings.Repeat("\x00", t.Len-len(s))
		}
	}
	return Value{S: s}, nil
}
