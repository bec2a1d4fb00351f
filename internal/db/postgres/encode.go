package postgres

import (
	"bytes"
	"encoding/binary"
	"math"

	"ambertray/internal/reading"
	"ambertray/internal/sink"
	"ambertray/internal/sqltype"
)

// The binary form of COPY (PostgreSQL manual, "COPY", "Binary Format"): a
// header, rows of a field count and fields of a length and content, and a
// trailer. A batch holds rows only.
var (
	copyHeader  = []byte("PGCOPY\n\xff\r\n\x00\x00\x00\x00\x00\x00\x00\x00\x00")
	copyTrailer = []byte{0xff, 0xff}
)

// epoch is 2000-01-01, from which PostgreSQL counts, in days of 1970-01-01.
const epoch = 10957

// binaryEncoder makes rows for binary COPY.
type binaryEncoder struct{ types []sqltype.Type }

// Append implements sink.Encoder.
func (e *binaryEncoder) Append(b []byte, row []reading.Value) []byte {
	b = binary.BigEndian.AppendUint16(b, uint16(len(row)))
	for i := range row {
		v := &row[i]
		if v.Null {
			b = append(b, 0xff, 0xff, 0xff, 0xff)
			continue
		}
		t := e.types[i]
		switch t.Kind {
		case sqltype.Boolean:
			b = append(b, 0, 0, 0, 1, byte(v.Int))
		case sqltype.SmallInt:
			b = append(b, 0, 0, 0, 2)
			b = binary.BigEndian.AppendUint16(b, uint16(v.Int))
		case sqltype.Integer:
			b = append(b, 0, 0, 0, 4)
			b = binary.BigEndian.AppendUint32(b, uint32(v.Int))
		case sqltype.BigInt:
			b = eight(b, uint64(v.Int))
		case sqltype.Double:
			b = eight(b, math.Float64bits(v.Float))
		case sqltype.Decimal:
			b = numeric(b, v, t.Scale)
		case sqltype.Date:
			b = append(b, 0, 0, 0, 4)
			b = binary.BigEndian.AppendUint32(b, uint32(v.Int-epoch))
		case sqltype.Time:
			b = eight(b, uint64(v.Int))
		case sqltype.Timestamp, sqltype.TimestampTZ:
			b = eight(b, uint64(v.Int-epoch*86400e6))
		case sqltype.UUID:
			b = append(b, 0, 0, 0, 16)
			b = uuid(b, v.Text)
		case sqltype.Char, sqltype.None, sqltype.Text, sqltype.VarChar:
			b = binary.BigEndian.AppendUint32(b, uint32(len(v.Text)))
			b = append(b, v.Text...)
		}
	}
	return b
}

func eight(b []byte, v uint64) []byte {
	return binary.BigEndian.AppendUint64(append(b, 0, 0, 0, 8), v)
}

func uuid(b, text []byte) []byte {
	raw := reading.UUIDBytes(text)
	return append(b, raw[:]...)
}

// numeric writes a decimal in groups of four decimal digits, counted from the
// point (src/backend/utils/adt/numeric.c, numeric_recv): the number of
// groups, the weight of the first, the sign, the scale, the groups. Groups of
// zeros at either end are left out.
func numeric(b []byte, v *reading.Value, scale int) []byte {
	var groups [16]uint16 // the last one first
	n := 0
	neg := false
	// The last group is filled up to four digits behind the point.
	behind := (scale + 3) / 4
	fill := behind*4 - scale
	if v.Wide != nil {
		digits := v.Wide
		if digits[0] == '-' {
			neg, digits = true, digits[1:]
		}
		for width := 4 - fill; len(digits) > 0; width = 4 {
			from := max(len(digits)-width, 0)
			g := 0
			for _, c := range digits[from:] {
				g = g*10 + int(c-'0')
			}
			if n == 0 {
				g *= pow10[fill]
			}
			groups[n] = uint16(g)
			n++
			digits = digits[:from]
		}
	} else if v.Int != 0 {
		u := uint64(v.Int)
		if v.Int < 0 {
			neg, u = true, -u
		}
		unit := uint64(pow10[4-fill])
		groups[0] = uint16(u % unit * uint64(pow10[fill]))
		n = 1
		for u /= unit; u > 0; u /= 10000 {
			groups[n] = uint16(u % 10000)
			n++
		}
	}
	weight := n - behind - 1
	for n > 0 && groups[n-1] == 0 {
		n--
		weight--
	}
	last := 0
	for last < n && groups[last] == 0 {
		last++
	}
	sign := uint16(0)
	if neg {
		sign = 0x4000
	}
	if n == 0 {
		weight, sign = 0, 0
	}
	b = binary.BigEndian.AppendUint32(b, uint32(8+2*(n-last)))
	b = binary.BigEndian.AppendUint16(b, uint16(n-last))
	b = binary.BigEndian.AppendUint16(b, uint16(int16(weight)))
	b = binary.BigEndian.AppendUint16(b, sign)
	b = binary.BigEndian.AppendUint16(b, uint16(scale))
	for i := n - 1; i >= last; i-- {
		b = binary.BigEndian.AppendUint16(b, groups[i])
	}
	return b
}

var pow10 = [5]int{1, 10, 100, 1000, 10000}

// rowEnd is the offset behind the binary row that starts at i.
func rowEnd(b []byte, i int) int {
	n := int(binary.BigEndian.Uint16(b[i:]))
	i += 2
	for range n {
		l := int32(binary.BigEndian.Uint32(b[i:]))
		i += 4 + int(max(l, 0))
	}
	return i
}

// textEncoder makes rows for COPY's text form, which takes every type that
// the server can read. A row is a line.
type textEncoder struct{ types []sqltype.Type }

// TextEncoder makes rows as COPY's text form has them.
func TextEncoder(types []sqltype.Type) sink.Encoder { return &textEncoder{types} }

// Append implements sink.Encoder.
func (e *textEncoder) Append(b []byte, row []reading.Value) []byte {
	for i := range row {
		if i > 0 {
			b = append(b, '\t')
		}
		if row[i].Null {
			b = append(b, `\N`...)
			continue
		}
		if e.types[i].IsText() {
			b = escape(b, row[i].Text)
		} else {
			b = row[i].Append(b, e.types[i])
		}
	}
	return append(b, '\n')
}

func escape(b, text []byte) []byte {
	for _, c := range text {
		switch c {
		case '\\':
			b = append(b, '\\', '\\')
		case '\t':
			b = append(b, '\\', 't')
		case '\n':
			b = append(b, '\\', 'n')
		case '\r':
			b = append(b, '\\', 'r')
		default:
			b = append(b, c)
		}
	}
	return b
}

// lineEnd is the offset behind the text row that starts at i.
func lineEnd(b []byte, i int) int { return i + bytes.IndexByte(b[i:], '\n') + 1 }
