package postgres

import (
	"bytes"
	"encoding/binary"
	"math"
	"slices"

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
type binaryEncoder struct {
	types []sqltype.Type
	// at is where each field's length stands in what AppendRows has appended last, by row and
	// column, from the beginning of that.
	at []uint32
}

// Append implements sink.Encoder.
func (e *binaryEncoder) Append(b []byte, row []reading.Value) []byte {
	return e.AppendRows(b, row, len(row))
}

// spare is how much is written at most where less is wanted, for speed.
const spare = 16

// room is how many bytes rows take at most.
func (e *binaryEncoder) room(values []reading.Value, width int) int {
	row := 2
	texts := 0
	for i, t := range e.types {
		most := mostBytes(t.Kind)
		if row += 4 + most; most == 0 {
			for k := i; k < len(values); k += width {
				texts += len(values[k].Text)
			}
		}
	}
	return len(values)/width*row + texts + spare
}

// mostBytes is how many bytes a value has at most; a text has its own.
func mostBytes(k sqltype.Kind) int {
	switch k {
	case sqltype.Boolean, sqltype.SmallInt, sqltype.Integer, sqltype.Date, sqltype.BigInt, sqltype.Double, sqltype.Time,
		sqltype.Timestamp, sqltype.TimestampTZ:
		return 8
	case sqltype.UUID:
		return 16
	case sqltype.Decimal:
		return 8 + 2*mostGroups
	case sqltype.Char, sqltype.None, sqltype.Text, sqltype.VarChar:
	}
	return 0
}

// AppendRows implements sink.Taker.
//
// It is long because it runs for every value, and calls little.
func (e *binaryEncoder) AppendRows(dst []byte, values []reading.Value, width int) []byte {
	from := len(dst)
	dst = slices.Grow(dst, e.room(values, width))
	b, w := dst[from:cap(dst)], 0
	be := binary.BigEndian
	if len(e.at) < len(values) {
		e.at = make([]uint32, len(values))
	}
	for first := 0; first < len(values); first += width {
		row, at := values[first:first+width], e.at[first:first+width]
		be.PutUint16(b[w:], uint16(width))
		w += 2
		for i := range row {
			v := &row[i]
			at[i] = uint32(w)
			if v.Null {
				be.PutUint32(b[w:], math.MaxUint32)
				w += 4
				continue
			}
			size := 8
			to := b[w+4:]
			switch t := &e.types[i]; t.Kind {
			case sqltype.Boolean:
				size, to[0] = 1, byte(v.Int)
			case sqltype.SmallInt:
				size = 2
				be.PutUint16(to, uint16(v.Int))
			case sqltype.Integer:
				size = 4
				be.PutUint32(to, uint32(v.Int))
			case sqltype.Date:
				size = 4
				be.PutUint32(to, uint32(v.Int-epoch))
			case sqltype.BigInt, sqltype.Time:
				be.PutUint64(to, uint64(v.Int))
			case sqltype.Double:
				be.PutUint64(to, math.Float64bits(v.Float))
			case sqltype.Timestamp, sqltype.TimestampTZ:
				be.PutUint64(to, uint64(v.Int-epoch*86400e6))
			case sqltype.Decimal:
				if size = shortNumeric(to, v, t.Scale); size == 0 {
					size = numeric(to, v, t.Scale)
				}
			case sqltype.UUID:
				raw := reading.UUIDBytes(v.Text)
				size = copy(to, raw[:])
			case sqltype.Char, sqltype.None, sqltype.Text, sqltype.VarChar:
				if size = len(v.Text); size <= 16 && cap(v.Text) >= 16 {
					*(*[16]byte)(to) = *(*[16]byte)(v.Text[:16])
				} else {
					copy(to, v.Text)
				}
			}
			be.PutUint32(b[w:], uint32(size))
			w += 4 + size
		}
	}
	return dst[:from+w]
}

// shortNumeric is numeric for a number of at most eight digits before the point and four behind
// it, and 0 for others.
func shortNumeric(b []byte, v *reading.Value, scale int) int {
	u, sign := uint64(v.Int), uint64(0)
	if v.Int < 0 {
		u, sign = -u, 0x4000
	}
	var behind uint64 // the group behind the point
	switch scale {
	case 0:
	case 1:
		u, behind = u/10, u%10*1000
	case 2:
		u, behind = u/100, u%100*100
	case 3:
		u, behind = u/1000, u%1000*10
	case 4:
		u, behind = u/10000, u%10000
	default:
		return 0
	}
	if v.Wide != nil || u >= 1e8 {
		return 0
	}
	// Groups from the highest place on, and the weight of the first.
	groups, n, weight := u/10000<<48|u%10000<<32|behind<<16, 3, uint64(1)
	if u < 10000 {
		groups, n, weight = u<<48|behind<<32, 2, 0
		if u == 0 {
			if groups, n, weight = behind<<48, 1, 0xffff; behind == 0 {
				n, weight, sign = 0, 0, 0
			}
		}
	}
	for n > 0 && uint16(groups>>(64-16*n)) == 0 {
		n--
	}
	binary.BigEndian.PutUint64(b, uint64(n)<<48|weight<<32|sign<<16|uint64(scale))
	binary.BigEndian.PutUint64(b[8:], groups)
	return 8 + 2*n
}

// mostGroups is how many groups a number has at most.
const mostGroups = 16

// numeric writes a decimal in groups of four decimal digits, counted from the
// point (src/backend/utils/adt/numeric.c, numeric_recv): the number of
// groups, the weight of the first, the sign, the scale, the groups. Groups of
// zeros at either end are left out.
func numeric(b []byte, v *reading.Value, scale int) (size int) {
	var groups [mostGroups]uint16 // the last one first
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
	be := binary.BigEndian
	be.PutUint16(b, uint16(n-last))
	be.PutUint16(b[2:], uint16(int16(weight)))
	be.PutUint16(b[4:], sign)
	be.PutUint16(b[6:], uint16(scale))
	size = 8
	for i := n - 1; i >= last; i-- {
		be.PutUint16(b[size:], groups[i])
		size += 2
	}
	return size
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
