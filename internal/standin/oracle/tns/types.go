package tns

import (
	"encoding/binary"
	"fmt"
	"math"
	"strings"
	"time"

	"github.com/shopspring/decimal"

	"ambertray/internal/standin/oracle/engine"
)

// The types on the wire.
const (
	typeText      = 1
	typeNumber    = 2
	typeLong      = 8
	typeRowID     = 11
	typeDate      = 12
	typeRaw       = 23
	typeLongRaw   = 24
	typeLongText  = 94
	typeChar      = 96
	typeFloat     = 100
	typeDouble    = 101
	typeClob      = 112
	typeBlob      = 113
	typeTimestamp = 180
	typeZoned     = 181
	typeInterval  = 183
	typeStamp     = 187 // how a client binds a timestamp
	typeLocal     = 231
)

// wireType is what a column's values are sent as.
func wireType(t engine.Type) byte {
	switch t.Kind { // others: text
	case engine.Number:
		return typeNumber
	case engine.Clob:
		return typeClob
	case engine.Date:
		return typeDate
	case engine.Timestamp:
		return typeTimestamp
	case engine.Zoned:
		return typeZoned
	case engine.Local:
		return typeLocal
	case engine.Interval:
		return typeInterval
	case engine.Double:
		if t.Single {
			return typeFloat
		}
		return typeDouble
	case engine.Raw:
		return typeRaw
	case engine.RowID:
		return typeRowID
	}
	if t.Fixed {
		return typeChar
	}
	return typeText
}

// numberBytes is a NUMBER: an exponent to the base of 100, and digits of that base.
func numberBytes(d decimal.Decimal) []byte {
	if d.IsZero() {
		return []byte{0x80}
	}
	digits := strings.TrimLeft(d.Abs().Coefficient().String(), "0")
	exp := int(d.Exponent())
	if exp%2 != 0 {
		digits, exp = digits+"0", exp-1
	}
	if len(digits)%2 != 0 {
		digits = "0" + digits
	}
	for strings.HasSuffix(digits, "00") {
		digits, exp = digits[:len(digits)-2], exp+2
	}
	power := (len(digits)+exp)/2 - 1
	negative := d.Sign() < 0
	b := []byte{byte(power + 193)}
	if negative {
		b[0] = byte(62 - power)
	}
	for i := 0; i < len(digits); i += 2 {
		v := (digits[i]-'0')*10 + digits[i+1] - '0'
		if negative {
			b = append(b, 101-v)
		} else {
			b = append(b, v+1)
		}
	}
	if negative && len(b) < 21 {
		b = append(b, 102)
	}
	return b
}

// numberOf reads a NUMBER. One that is not written as the server would is refused.
func numberOf(b []byte) (decimal.Decimal, error) {
	bad := fmt.Errorf("the bytes %x are no NUMBER", b)
	if len(b) == 1 && b[0] == 0x80 {
		return decimal.Zero, nil
	}
	if len(b) < 2 {
		return decimal.Zero, bad
	}
	negative := b[0]&0x80 == 0
	power := int(b[0]) - 193
	rest := b[1:]
	if negative {
		power = 62 - int(b[0])
		if rest[len(rest)-1] == 102 {
			rest = rest[:len(rest)-1]
		}
	}
	var s strings.Builder
	for i, x := range rest {
		v := int(x) - 1
		if negative {
			v = 101 - int(x)
		}
		if v < 0 || v > 99 || v == 0 && (i == 0 || i == len(rest)-1) {
			return decimal.Zero, bad
		}
		fmt.Fprintf(&s, "%02d", v)
	}
	d, err := decimal.NewFromString(s.String())
	if err != nil {
		return d, bad
	}
	d = d.Shift(int32(2 * (power - len(rest) + 1)))
	if negative {
		d = d.Neg()
	}
	return d, nil
}

// momentBytes are a date's seven, and those of its fraction.
func momentBytes(t time.Time, fraction bool) []byte {
	y := t.Year()
	b := []byte{byte(y/100 + 100), byte(y%100 + 100), byte(t.Month()), byte(t.Day()), byte(t.Hour() + 1),
		byte(t.Minute() + 1), byte(t.Second() + 1)}
	if fraction {
		b = binary.BigEndian.AppendUint32(b, uint32(t.Nanosecond()))
	}
	return b
}

func momentOf(b []byte) (time.Time, error) {
	if len(b) < 7 {
		return time.Time{}, fmt.Errorf("the bytes %x are no date", b)
	}
	nanos := 0
	if len(b) >= 11 {
		nanos = int(binary.BigEndian.Uint32(b[7:]))
	}
	return time.Date((int(b[0])-100)*100+int(b[1])-100, time.Month(b[2]), int(b[3]), int(b[4])-1, int(b[5])-1,
		int(b[6])-1, nanos, time.UTC), nil
}

const middle = 0x80000000

func intervalBytes(d time.Duration) []byte {
	b := binary.BigEndian.AppendUint32(nil, uint32(int64(d/(24*time.Hour))+middle))
	b = append(b, byte(d/time.Hour%24+60), byte(d/time.Minute%60+60), byte(d/time.Second%60+60))
	return binary.BigEndian.AppendUint32(b, uint32(int64(d%time.Second)+middle))
}

func doubleBytes(f float64) []byte {
	n := math.Float64bits(f)
	if n>>63 == 0 {
		n |= 1 << 63
	} else {
		n = ^n
	}
	return binary.BigEndian.AppendUint64(nil, n)
}

func doubleOf(b []byte) float64 {
	n := binary.BigEndian.Uint64(b)
	if n>>63 == 1 {
		n &^= 1 << 63
	} else {
		n = ^n
	}
	return math.Float64frombits(n)
}

func floatBytes(f float64) []byte {
	n := math.Float32bits(float32(f))
	if n>>31 == 0 {
		n |= 1 << 31
	} else {
		n = ^n
	}
	return binary.BigEndian.AppendUint32(nil, n)
}

// putValue writes a value as a type.
func (k *conn) putValue(v engine.Value, as byte, t engine.Type) {
	l := k.line
	if v.IsNull() {
		switch as {
		case typeClob, typeBlob:
			l.putInt(0)
		default:
			l.putByte(0)
		}
	} else {
		switch as {
		case typeNumber:
			l.putBytes(numberBytes(v.D))
		case typeDate:
			l.putBytes(momentBytes(v.T, false))
		case typeTimestamp:
			l.putBytes(momentBytes(v.T, true))
		case typeLocal:
			l.putBytes(momentBytes(v.T.UTC(), true))
		case typeZoned:
			_, offset := v.T.Zone()
			l.putBytes(append(momentBytes(v.T.UTC(), true), byte(offset/3600+20), byte(offset/60%60+60)))
		case typeInterval:
			l.putBytes(intervalBytes(v.I))
		case typeDouble:
			l.putBytes(doubleBytes(v.F))
		case typeFloat:
			l.putBytes(floatBytes(v.F))
		case typeRowID:
			k.putRowID(v.S)
		case typeClob:
			loc := k.locate(v.S)
			l.putInt(int64(len(loc)))
			l.putInt(int64(len([]rune(v.S))))
			l.putInt(8132)
			l.putBytes(loc)
		default:
			l.putBytes([]byte(v.S))
		}
	}
	if as == typeLong || as == typeLongText || as == typeLongRaw {
		l.putInt(0)
		l.putInt(0)
	}
}

// putRowID writes the address of a row in its parts.
func (k *conn) putRowID(s string) {
	part := func(s string) (n int64) {
		for _, c := range s {
			n = n<<6 | int64(strings.IndexRune(letters, c))
		}
		return n
	}
	l := k.line
	l.putByte(13)
	l.putInt(part(s[:6]))
	l.putInt(part(s[6:9]))
	l.putByte(0)
	l.putInt(part(s[9:15]))
	l.putInt(part(s[15:]))
}

const letters = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/"

// A bind is a variable's type.
type bind struct {
	typ  byte
	size int64
}

// isLong reports types whose values come behind the others of a row: those that may be longer
// than a column of text.
func (b bind) isLong() bool {
	return b.typ == typeLong || b.typ == typeLongRaw || b.typ == typeLongText ||
		(b.typ == typeText || b.typ == typeChar) && b.size > 4000
}

// value reads one that a client has bound.
func (k *conn) value(b bind) (engine.Value, error) {
	l := k.line
	if b.typ == typeClob || b.typ == typeBlob {
		if l.int() == 0 {
			return engine.Value{}, nil
		}
		loc := l.bytes()
		s, ok := k.lob(loc)
		if !ok {
			return engine.Value{}, &engine.Error{Number: 22275, Text: "invalid LOB locator specified"}
		}
		return textValue(engine.Clob, s), nil
	}
	raw := l.bytes()
	if len(raw) == 0 {
		return engine.Value{}, nil
	}
	switch b.typ {
	case typeNumber:
		d, err := numberOf(raw)
		if err != nil {
			return engine.Value{}, &engine.Error{Number: 1722, Text: "invalid number: " + err.Error()}
		}
		return engine.Value{Kind: engine.Number, D: d}, nil
	case typeDate, typeTimestamp, typeStamp, typeLocal, typeZoned:
		t, err := momentOf(raw)
		if err != nil {
			return engine.Value{}, &engine.Error{Number: 1858, Text: err.Error()}
		}
		kind := map[byte]engine.Kind{typeDate: engine.Date, typeZoned: engine.Zoned, typeLocal: engine.Local}[b.typ]
		if kind == engine.Null {
			kind = engine.Timestamp
		}
		if b.typ == typeZoned && len(raw) >= 13 {
			t = t.In(time.FixedZone("", (int(raw[11]&0x3f)-20)*3600+(int(raw[12])-60)*60))
		}
		return engine.Value{Kind: kind, T: t}, nil
	case typeDouble:
		return engine.Value{Kind: engine.Double, F: doubleOf(raw)}, nil
	case typeRaw, typeLongRaw:
		return textValue(engine.Raw, string(raw)), nil
	case typeLong, typeLongText:
		return textValue(engine.Clob, string(raw)), nil
	case typeText, typeChar:
		if len(raw) > 4000 {
			return textValue(engine.Clob, string(raw)), nil
		}
		return textValue(engine.Text, string(raw)), nil
	}
	return engine.Value{}, &engine.Error{Number: 932, Text: fmt.Sprintf("the stand-in does not know binds of "+
		"type %d", b.typ)}
}

func textValue(k engine.Kind, s string) engine.Value {
	if s == "" {
		return engine.Value{}
	}
	return engine.Value{Kind: k, S: s}
}
