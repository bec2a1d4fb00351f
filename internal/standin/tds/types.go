package tds

import (
	"encoding/binary"
	"fmt"
	"math"
	"math/big"

	"ambertray/internal/standin/engine"
)

// The types on the wire ([MS-TDS] 2.2.5.4).
const (
	tNull       = 0x1f
	tInt1       = 0x30
	tBit        = 0x32
	tInt2       = 0x34
	tInt4       = 0x38
	tDateTim4   = 0x3a
	tFlt4       = 0x3b
	tMoney      = 0x3c
	tDateTime   = 0x3d
	tFlt8       = 0x3e
	tMoney4     = 0x7a
	tInt8       = 0x7f
	tGUID       = 0x24
	tIntN       = 0x26
	tDate       = 0x28
	tTime       = 0x29
	tDateTime2  = 0x2a
	tOffset     = 0x2b
	tBitN       = 0x68
	tDecimalN   = 0x6a
	tNumericN   = 0x6c
	tFltN       = 0x6d
	tMoneyN     = 0x6e
	tDateTimeN  = 0x6f
	tBigVarBin  = 0xa5
	tBigVarChar = 0xa7
	tBigBinary  = 0xad
	tBigChar    = 0xaf
	tNVarChar   = 0xe7
	tNChar      = 0xef
	tXML        = 0xf1
	tUDT        = 0xf0
	tText       = 0x23
	tImage      = 0x22
	tNText      = 0x63
	maxBytes    = 0xffff
	plpNull     = 0xffffffffffffffff
	plpUnknown  = 0xfffffffffffffffe
	nothing16   = 0xffff
	nothing32   = 0xffffffff
)

func le16(b []byte, n int) []byte { return binary.LittleEndian.AppendUint16(b, uint16(n)) }
func le32(b []byte, n int) []byte { return binary.LittleEndian.AppendUint32(b, uint32(n)) }

// shortText is text with its length in pairs of bytes before it, in one byte.
func shortText(b []byte, s string) []byte {
	u := engine.EncodeUTF16(s)
	return append(append(b, byte(len(u)/2)), u...)
}

func longText(b []byte, s string) []byte {
	u := engine.EncodeUTF16(s)
	return append(le16(b, len(u)/2), u...)
}

// integers have a length in the wire's type.
var intSize = map[engine.Kind]byte{engine.TinyInt: 1, engine.SmallInt: 2, engine.Int: 4, engine.BigInt: 8}

// typeInfo writes a type. It is long because each has a line.
func typeInfo(b []byte, t engine.Type) []byte {
	sized := func(code byte, n int) []byte {
		b = append(b, code)
		if n == engine.Max {
			n = maxBytes
		}
		return le16(b, n)
	}
	coll := func(b []byte) []byte {
		c, _ := engine.CollationOf(engine.DefaultCollation)
		if t.Coll != nil {
			c = t.Coll
		}
		w := c.Wire()
		return append(b, w[:]...)
	}
	twice := t.Len
	if twice > 0 {
		twice *= 2
	}
	switch t.Kind {
	case engine.TinyInt, engine.SmallInt, engine.Int, engine.BigInt:
		return append(b, tIntN, intSize[t.Kind])
	case engine.Bit:
		return append(b, tBitN, 1)
	case engine.Decimal:
		return append(b, tDecimalN, byte(t.Bytes()), byte(t.Prec), byte(t.Scale))
	case engine.Money:
		return append(b, tMoneyN, 8)
	case engine.SmallMoney:
		return append(b, tMoneyN, 4)
	case engine.Real:
		return append(b, tFltN, 4)
	case engine.Float:
		return append(b, tFltN, 8)
	case engine.Date:
		return append(b, tDate)
	case engine.Time:
		return append(b, tTime, byte(t.Scale))
	case engine.DateTime2:
		return append(b, tDateTime2, byte(t.Scale))
	case engine.DateTimeOffset:
		return append(b, tOffset, byte(t.Scale))
	case engine.DateTime:
		return append(b, tDateTimeN, 8)
	case engine.SmallDateTime:
		return append(b, tDateTimeN, 4)
	case engine.UniqueIdentifier:
		return append(b, tGUID, 16)
	case engine.Char:
		return coll(sized(tBigChar, t.Len))
	case engine.VarChar:
		return coll(sized(tBigVarChar, t.Len))
	case engine.NChar:
		return coll(sized(tNChar, twice))
	case engine.NVarChar:
		return coll(sized(tNVarChar, twice))
	case engine.Text:
		return coll(le32(append(b, tText), math.MaxInt32))
	case engine.NText:
		return coll(le32(append(b, tNText), math.MaxInt32))
	case engine.Image:
		return le32(append(b, tImage), math.MaxInt32)
	case engine.XML:
		return append(b, tXML, 0)
	case engine.Binary:
		return sized(tBigBinary, t.Len)
	case engine.RowVersion:
		return sized(tBigBinary, 8)
	case engine.VarBinary:
		return sized(tBigVarBin, t.Len)
	case engine.Other:
		b = sized(tUDT, engine.Max)
		b = shortText(shortText(shortText(b, ""), "sys"), t.Name)
		return longText(b, "Microsoft.SqlServer.Types")
	case engine.Untyped, engine.Variant:
	}
	return append(b, tIntN, 4)
}

// value writes a value of a type.
func value(b []byte, t engine.Type, v engine.Value) []byte {
	if t.Len == engine.Max && (t.Kind == engine.VarChar || t.Kind == engine.NVarChar || t.Kind == engine.VarBinary) ||
		t.Kind == engine.XML || t.Kind == engine.Other {
		return long(b, t, v)
	}
	switch t.Kind { // others: behind a length of one byte
	case engine.Char, engine.VarChar, engine.NChar, engine.NVarChar, engine.Binary, engine.VarBinary, engine.RowVersion:
		if v.Null {
			return le16(b, nothing16)
		}
		x := raw(t, v)
		return append(le16(b, len(x)), x...)
	case engine.Text, engine.NText, engine.Image:
		if v.Null {
			return append(b, 0)
		}
		x := raw(t, v)
		b = append(b, 16)
		b = append(b, make([]byte, 16+8)...)
		return append(le32(b, len(x)), x...)
	}
	if v.Null {
		return append(b, 0)
	}
	return fixed(b, t, v)
}

// raw is text in its encoding, or bytes.
func raw(t engine.Type, v engine.Value) []byte {
	switch {
	case t.IsWide():
		return engine.EncodeUTF16(v.S)
	case t.IsText():
		return t.Coll.Encode(v.S)
	}
	return []byte(v.S)
}

// long writes a value in pieces, with the length of all before it.
func long(b []byte, t engine.Type, v engine.Value) []byte {
	if v.Null {
		return binary.LittleEndian.AppendUint64(b, plpNull)
	}
	x := raw(t, v)
	b = binary.LittleEndian.AppendUint64(b, uint64(len(x)))
	if len(x) > 0 {
		b = append(le32(b, len(x)), x...)
	}
	return le32(b, 0)
}

// fixed writes what has a length of one byte before it.
func fixed(b []byte, t engine.Type, v engine.Value) []byte {
	put := func(n int, x int64) []byte {
		b = append(b, byte(n))
		for i := range n {
			b = append(b, byte(x>>(8*i)))
		}
		return b
	}
	switch t.Kind { // others: integers
	case engine.Bit:
		return put(1, v.N)
	case engine.Decimal:
		n := v.Number()
		size := t.Bytes()
		sign := byte(1)
		if n.Sign() < 0 {
			sign = 0
		}
		b = append(b, byte(size), sign)
		at := len(b)
		b = append(b, make([]byte, size-1)...)
		big := new(big.Int).Abs(n).Bytes()
		for i, c := range big {
			b[at+len(big)-1-i] = c
		}
		return b
	case engine.Money:
		return put(8, v.N>>32&0xffffffff|v.N<<32)
	case engine.SmallMoney:
		return put(4, v.N)
	case engine.Real:
		return put(4, int64(math.Float32bits(float32(v.Float()))))
	case engine.Float:
		return put(8, v.N)
	case engine.Date:
		return put(3, v.N)
	case engine.Time:
		return put(t.Bytes(), unscaled(v.N, t.Scale))
	case engine.DateTime2, engine.DateTimeOffset:
		b = append(b, byte(t.Bytes()))
		clock := unscaled(v.N%ticksADay, t.Scale)
		n := engine.Type{Kind: engine.Time, Scale: t.Scale}.Bytes()
		for i := range n {
			b = append(b, byte(clock>>(8*i)))
		}
		day := v.N / ticksADay
		b = append(b, byte(day), byte(day>>8), byte(day>>16))
		if t.Kind == engine.DateTimeOffset {
			b = le16(b, int(v.Off))
		}
		return b
	case engine.DateTime:
		days, ticks := v.DateTime()
		return put(8, days&0xffffffff|ticks<<32)
	case engine.SmallDateTime:
		days, minutes := v.Small()
		return put(4, days&0xffff|minutes<<16)
	case engine.UniqueIdentifier:
		return append(append(b, 16), v.S...)
	case engine.TinyInt, engine.SmallInt, engine.Int, engine.BigInt:
		return put(int(intSize[t.Kind]), v.N)
	}
	return put(4, v.N)
}

const ticksADay = 864_000_000_000

func unscaled(ticks int64, scale int) int64 {
	for range 7 - scale {
		ticks /= 10
	}
	return ticks
}

func scaled(n int64, scale int) int64 {
	for range 7 - scale {
		n *= 10
	}
	return n
}

// A wire is a type as it came: its code and length, which say how values are read.
type wire struct {
	engine.Type
	code byte
	size int
}

// old are the types that have neither length nor null.
var old = map[byte]wire{tInt1: {engine.Type{Kind: engine.TinyInt}, tInt1, 1},
	tBit: {engine.Type{Kind: engine.Bit}, tBit, 1}, tInt2: {engine.Type{Kind: engine.SmallInt}, tInt2, 2},
	tInt4: {engine.Type{Kind: engine.Int}, tInt4, 4}, tInt8: {engine.Type{Kind: engine.BigInt}, tInt8, 8},
	tFlt4: {engine.Type{Kind: engine.Real}, tFlt4, 4}, tFlt8: {engine.Type{Kind: engine.Float}, tFlt8, 8},
	tMoney: {engine.Type{Kind: engine.Money}, tMoney, 8}, tMoney4: {engine.Type{Kind: engine.SmallMoney}, tMoney4, 4},
	tDateTime: {engine.Type{Kind: engine.DateTime}, tDateTime, 8},
	tDateTim4: {engine.Type{Kind: engine.SmallDateTime}, tDateTim4, 4}, tNull: {engine.Type{}, tNull, 0}}

// fixedCode are their codes by what they hold.
var fixedCode = map[engine.Kind]byte{engine.TinyInt: tInt1, engine.Bit: tBit, engine.SmallInt: tInt2, engine.Int: tInt4,
	engine.BigInt: tInt8, engine.Real: tFlt4, engine.Float: tFlt8, engine.Money: tMoney, engine.SmallMoney: tMoney4,
	engine.DateTime: tDateTime, engine.SmallDateTime: tDateTim4}

// bySize are types that their length tells apart.
var bySize = map[byte]map[int]engine.Kind{
	tIntN:      {1: engine.TinyInt, 2: engine.SmallInt, 4: engine.Int, 8: engine.BigInt},
	tBitN:      {1: engine.Bit},
	tFltN:      {4: engine.Real, 8: engine.Float},
	tMoneyN:    {4: engine.SmallMoney, 8: engine.Money},
	tDateTimeN: {4: engine.SmallDateTime, 8: engine.DateTime},
	tGUID:      {16: engine.UniqueIdentifier},
}

var sizedKinds = map[byte]engine.Kind{tBigVarBin: engine.VarBinary, tBigVarChar: engine.VarChar,
	tBigBinary: engine.Binary,
	tBigChar:   engine.Char, tNVarChar: engine.NVarChar, tNChar: engine.NChar}

var longKinds = map[byte]engine.Kind{tText: engine.Text, tNText: engine.NText, tImage: engine.Image}

// readType reads a type.
func (m *message) readType() (w wire, err error) {
	code, err := m.u8()
	if err != nil {
		return w, err
	}
	if x, is := old[code]; is {
		return x, nil
	}
	w.code = code
	switch {
	case bySize[code] != nil:
		n, err := m.u8()
		if err != nil {
			return w, err
		}
		w.size = int(n)
		kind, is := bySize[code][w.size]
		if !is {
			return w, fmt.Errorf("a type %#x of %d bytes", code, n)
		}
		w.Kind = kind
	case code == tDecimalN || code == tNumericN:
		b, err := m.bytes(3)
		if err != nil {
			return w, err
		}
		w.Type = engine.Type{Kind: engine.Decimal, Prec: int(b[1]), Scale: int(b[2])}
		if w.Prec < 1 || w.Prec > 38 || w.Scale > w.Prec {
			return w, fmt.Errorf("a decimal(%d,%d)", w.Prec, w.Scale)
		}
	case code == tDate:
		w.Kind = engine.Date
	case code == tTime || code == tDateTime2 || code == tOffset:
		n, err := m.u8()
		if err != nil || n > 7 {
			return w, fmt.Errorf("a time with a scale of %d", n)
		}
		w.Type = engine.Type{Kind: map[byte]engine.Kind{tTime: engine.Time, tDateTime2: engine.DateTime2,
			tOffset: engine.DateTimeOffset}[code], Scale: int(n)}
	case sizedKinds[code] != 0:
		return w, m.readSized(&w)
	case longKinds[code] != 0:
		w.Kind, w.Len = longKinds[code], engine.Max
		if _, err = m.u32(); err == nil && code != tImage {
			w.Coll, err = m.collation()
		}
		return w, err
	case code == tXML:
		w.Kind, w.Len = engine.XML, engine.Max
		if b, err := m.u8(); err != nil || b != 0 {
			return w, fmt.Errorf("xml with a schema")
		}
	default:
		return w, fmt.Errorf("a type %#x that the stand-in does not know", code)
	}
	return w, nil
}

func (m *message) readSized(w *wire) (err error) {
	w.Kind = sizedKinds[w.code]
	if w.size, err = m.u16(); err != nil {
		return err
	}
	w.Len = w.size
	if w.size == maxBytes {
		w.Len = engine.Max
	} else if w.IsWide() {
		w.Len = w.size / 2
	}
	if w.IsText() {
		w.Coll, err = m.collation()
	}
	return err
}

// collation reads five bytes, of which the code page counts.
func (m *message) collation() (*engine.Collation, error) {
	b, err := m.bytes(5)
	if err != nil {
		return nil, err
	}
	return engine.CollationOfWire([5]byte(b)), nil
}

// readValue reads a value of a type.
func (m *message) readValue(w wire) (v engine.Value, err error) {
	switch {
	case old[w.code].code != 0:
		if w.code == tNull {
			return engine.Value{Null: true}, nil
		}
		b, err := m.bytes(w.size)
		if err != nil {
			return v, err
		}
		return unfixed(w, b)
	case w.code == tXML || sizedKinds[w.code] != 0 && w.size == maxBytes:
		return m.readLong(w)
	case sizedKinds[w.code] != 0:
		n, err := m.u16()
		if err != nil || n == nothing16 {
			return engine.Value{Null: true}, err
		}
		if n > w.size {
			return v, fmt.Errorf("a value of %d bytes in a type of %d", n, w.size)
		}
		b, err := m.bytes(n)
		return engine.Value{S: unraw(w, b)}, err
	case longKinds[w.code] != 0:
		return m.readPointed(w)
	}
	n, err := m.u8()
	if err != nil || n == 0 {
		return engine.Value{Null: true}, err
	}
	b, err := m.bytes(int(n))
	if err != nil {
		return v, err
	}
	return unfixed(w, b)
}

func unraw(w wire, b []byte) string {
	switch {
	case w.IsWide():
		return engine.DecodeUTF16(b)
	case w.IsText():
		return w.Coll.Decode(b)
	}
	return string(b)
}

// readLong reads a value in pieces.
func (m *message) readLong(w wire) (engine.Value, error) {
	total, err := m.u64()
	if err != nil || total == plpNull {
		return engine.Value{Null: true}, err
	}
	var all []byte
	for {
		n, err := m.u32()
		if err != nil {
			return engine.Value{}, err
		}
		if n == 0 {
			break
		}
		b, err := m.bytes(n)
		if err != nil {
			return engine.Value{}, err
		}
		all = append(all, b...)
	}
	if total != plpUnknown && total != uint64(len(all)) {
		return engine.Value{}, fmt.Errorf("a value of %d bytes that said it had %d", len(all), total)
	}
	return engine.Value{S: unraw(w, all)}, nil
}

// readPointed reads text, ntext or image: in rows behind a pointer, else behind a length.
func (m *message) readPointed(w wire) (engine.Value, error) {
	n, err := m.u8()
	if err != nil || n == 0 {
		return engine.Value{Null: true}, err
	}
	if _, err := m.bytes(int(n) + 8); err != nil {
		return engine.Value{}, err
	}
	k, err := m.u32()
	if err != nil {
		return engine.Value{}, err
	}
	b, err := m.bytes(k)
	return engine.Value{S: unraw(w, b)}, err
}

// unfixed reads what a length or the type has bounded.
func unfixed(w wire, b []byte) (engine.Value, error) {
	bad := func() (engine.Value, error) {
		return engine.Value{}, fmt.Errorf("a value of %d bytes for %s", len(b), w.Type)
	}
	num := func(b []byte) (n int64) {
		for i := len(b) - 1; i >= 0; i-- {
			n = n<<8 | int64(b[i])
		}
		return n
	}
	if w.size > 0 && len(b) != w.size {
		return bad()
	}
	switch w.Kind { // others: dates and times
	case engine.TinyInt:
		return engine.Value{N: int64(b[0])}, nil
	case engine.SmallInt:
		return engine.Value{N: int64(int16(num(b)))}, nil
	case engine.Int, engine.SmallMoney:
		return engine.Value{N: int64(int32(num(b)))}, nil
	case engine.BigInt, engine.Float:
		return engine.Value{N: num(b)}, nil
	case engine.Bit:
		return engine.Value{N: int64(b[0] & 1)}, nil
	case engine.Real:
		return engine.FromFloat(float64(math.Float32frombits(uint32(num(b))))), nil
	case engine.Money:
		return engine.Value{N: num(b[:4])<<32 | num(b[4:])}, nil
	case engine.DateTime:
		if num(b[4:]) >= 300*86400 {
			return bad()
		}
		return engine.FromDateTime(int64(int32(num(b[:4]))), num(b[4:])), nil
	case engine.SmallDateTime:
		return engine.FromSmall(num(b[:2]), num(b[2:])), nil
	case engine.UniqueIdentifier:
		return engine.Value{S: string(b)}, nil
	case engine.Decimal:
		if len(b) <= 8 { // it fits
			n := num(b[1:])
			if n >= powers[min(w.Prec, 18)] {
				return engine.Value{}, fmt.Errorf("%d in a decimal(%d,%d)", n, w.Prec, w.Scale)
			}
			if b[0] == 0 {
				n = -n
			}
			return engine.Value{N: n}, nil
		}
		n := new(big.Int)
		rev := make([]byte, len(b)-1)
		for i := range rev {
			rev[i] = b[len(b)-1-i]
		}
		if n.SetBytes(rev); b[0] == 0 {
			n.Neg(n)
		}
		if len(n.Text(10)) > w.Prec+1 {
			return engine.Value{}, fmt.Errorf("%s in a decimal(%d,%d)", n, w.Prec, w.Scale)
		}
		return engine.FromNumber(n), nil
	}
	return unfixedTime(w, b, num, bad)
}

// powers are those of ten.
var powers = func() (p [19]int64) {
	p[0] = 1
	for i := 1; i < len(p); i++ {
		p[i] = 10 * p[i-1]
	}
	return p
}()

func unfixedTime(w wire, b []byte, num func([]byte) int64, bad func() (engine.Value, error)) (engine.Value, error) {
	if w.Kind != engine.Date && len(b) != w.Bytes() || w.Kind == engine.Date && len(b) != 3 {
		return bad()
	}
	n := engine.Type{Kind: engine.Time, Scale: w.Scale}.Bytes()
	switch w.Kind { // others: none
	case engine.Date:
		return engine.Value{N: num(b)}, inRange(num(b), 0)
	case engine.Time:
		t := scaled(num(b), w.Scale)
		return engine.Value{N: t}, inRange(0, t)
	case engine.DateTime2, engine.DateTimeOffset:
		t, d := scaled(num(b[:n]), w.Scale), num(b[n:n+3])
		v := engine.Value{N: d*ticksADay + t}
		if w.Kind == engine.DateTimeOffset {
			v.Off = int16(num(b[n+3:]))
		}
		return v, inRange(d, t)
	}
	return bad()
}

// inRange holds a date and a time against their ends.
func inRange(days, ticks int64) error {
	if days > 3652058 || ticks >= ticksADay {
		return fmt.Errorf("a date of day %d or a time of %d", days, ticks)
	}
	return nil
}
