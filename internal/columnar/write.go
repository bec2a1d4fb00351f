package columnar

import (
	"encoding/binary"
	"io"
	"math"
	"math/big"
	"math/bits"
	"strconv"

	pq "github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/compress/zstd"

	"ambertray/internal/reading"
	"ambertray/internal/sqltype"
)

// An Encoder makes bytes of rows: for each value a byte that tells whether it is there,
// and as many as its form has. A text has its length before it.
type Encoder struct{ forms []form }

// NewEncoder returns an encoder of rows with the types given.
func NewEncoder(types []sqltype.Type) *Encoder {
	e := &Encoder{forms: make([]form, len(types))}
	for i, t := range types {
		e.forms[i] = formOf(t)
	}
	return e
}

// Append adds the bytes of a row.
func (e *Encoder) Append(b []byte, row []reading.Value) []byte {
	for i, f := range e.forms {
		v := &row[i]
		if v.Null {
			b = append(b, 0)
			continue
		}
		b = append(b, 1)
		switch f {
		case formTruth:
			b = append(b, byte(v.Int))
		case formInt32:
			b = binary.LittleEndian.AppendUint32(b, uint32(whole(v)))
		case formInt64:
			b = binary.LittleEndian.AppendUint64(b, uint64(whole(v)))
		case formWide:
			b = appendWide(b, v)
		case formDouble:
			b = binary.LittleEndian.AppendUint64(b, math.Float64bits(v.Float))
		case formUUID:
			raw := reading.UUIDBytes(v.Text)
			b = append(b, raw[:]...)
		case formText:
			b = binary.LittleEndian.AppendUint32(b, uint32(len(v.Text)))
			b = append(b, v.Text...)
		case formNone, formFloat, formUnsigned, formMillis, formBytes, formOld: // none that is written
		}
	}
	return b
}

// whole is a number that fits 64 bits, as its column's type says.
func whole(v *reading.Value) int64 {
	if v.Wide == nil {
		return v.Int
	}
	n, err := strconv.ParseInt(string(v.Wide), 10, 64)
	if err != nil {
		panic(err) // the reader takes no more digits than the type has
	}
	return n
}

// Row reads what Append added for a row, and returns what is behind it. Texts stay where
// they are.
func (e *Encoder) Row(b []byte, row []reading.Value) []byte {
	for i, f := range e.forms {
		row[i] = reading.Value{Null: b[0] == 0}
		if b = b[1:]; row[i].Null {
			continue
		}
		v, size := &row[i], 0
		switch f {
		case formTruth:
			v.Int, size = int64(b[0]), 1
		case formInt32:
			v.Int, size = int64(int32(binary.LittleEndian.Uint32(b))), 4
		case formInt64:
			v.Int, size = int64(binary.LittleEndian.Uint64(b)), 8
		case formWide:
			if n := wideOf(b[:16]); n.IsInt64() {
				v.Int = n.Int64()
			} else {
				v.Wide = n.Append(nil, 10)
			}
			size = 16
		case formDouble:
			v.Float, size = math.Float64frombits(binary.LittleEndian.Uint64(b)), 8
		case formUUID:
			v.Text, size = appendUUIDText(nil, b[:16]), 16
		case formText:
			size = 4 + int(binary.LittleEndian.Uint32(b))
			v.Text = b[4:size]
		case formNone, formFloat, formUnsigned, formMillis, formBytes, formOld: // none that is written
		}
		b = b[size:]
	}
	return b
}

// appendWide adds a number of 128 bits, the highest byte first, as the format has it.
func appendWide(b []byte, v *reading.Value) []byte {
	if v.Wide == nil {
		return binary.BigEndian.AppendUint64(binary.BigEndian.AppendUint64(b, uint64(v.Int>>63)), uint64(v.Int))
	}
	// Digit by digit: 38 of them are below 2^127.
	var hi, lo uint64
	digits, minus := v.Wide, false
	if digits[0] == '-' {
		digits, minus = digits[1:], true
	}
	for _, d := range digits {
		over, low := bits.Mul64(lo, 10)
		var carry uint64
		lo, carry = bits.Add64(low, uint64(d-'0'), 0)
		hi = hi*10 + over + carry
	}
	if minus {
		lo = ^lo + 1
		if hi = ^hi; lo == 0 {
			hi++
		}
	}
	return binary.BigEndian.AppendUint64(binary.BigEndian.AppendUint64(b, hi), lo)
}

// Sizes of what is written. A row group is what is held in memory until it is whole.
const (
	pageBytes  = 256 << 10 // of a column, before it is compressed
	groupBytes = 32 << 20  // of all columns, before they are compressed
	groupRows  = 1 << 20
	dictionary = 1 << 20 // of a column; what has more is written as it is
	stride     = 2048    // rows that go into the columns at once
)

// A Writer writes one file.
type Writer struct {
	w       *pq.GenericWriter[any]
	columns []*pq.ColumnWriter
	forms   []form
	need    []bool
	values  [][]pq.Value
	bytes   int // of the row group
	rows    int
	all     int64
}

// NewWriter begins a file. name is the table's.
func NewWriter(w io.Writer, name string, known Known, columns []Column) *Writer {
	page := min(pageBytes, max(4096, groupBytes/max(1, len(columns))))
	pw := pq.NewGenericWriter[any](w, schemaOf(name, columns), &pq.WriterConfig{
		CreatedBy: "Amber Tray", PageBufferSize: page, WriteBufferSize: 1 << 18, DataPageVersion: 1,
		DataPageStatistics: true,
		Compression:        &zstd.Codec{Level: zstd.SpeedFastest},
		DictionaryMaxBytes: min(dictionary, int64(page)), KeyValueMetadata: map[string]string{key: noteOf(known,
			columns)}})
	out := &Writer{w: pw, columns: pw.ColumnWriters(), values: make([][]pq.Value, len(columns))}
	for _, c := range columns {
		out.forms = append(out.forms, formOf(c.Type))
		out.need = append(out.need, c.Required)
	}
	return out
}

// Rows is how many have been written.
func (w *Writer) Rows() int64 { return w.all }

// Write writes rows that an [Encoder] made, at most so many, and returns the bytes of
// those that are left.
func (w *Writer) Write(data []byte, most int) ([]byte, error) {
	for len(data) > 0 && most > 0 {
		n := min(stride, most)
		left, taken := w.split(data, n)
		for i, c := range w.columns {
			if _, err := c.WriteRowValues(w.values[i]); err != nil {
				return nil, err
			}
		}
		w.bytes += len(data) - len(left)
		w.rows += taken
		w.all += int64(taken)
		data, most = left, most-taken
		if w.bytes >= groupBytes || w.rows >= groupRows {
			if err := w.w.Flush(); err != nil {
				return nil, err
			}
			w.bytes, w.rows = 0, 0
		}
	}
	return data, nil
}

// split takes the bytes of rows apart, into the values of each column.
func (w *Writer) split(data []byte, most int) (left []byte, n int) {
	for i := range w.values {
		w.values[i] = w.values[i][:0]
	}
	for ; n < most && len(data) > 0; n++ {
		for i, f := range w.forms {
			there := data[0]
			data = data[1:]
			if there == 0 {
				w.values[i] = append(w.values[i], pq.NullValue().Level(0, 0, i))
				continue
			}
			var v pq.Value
			size := 0
			switch f {
			case formTruth:
				v, size = pq.BooleanValue(data[0] != 0), 1
			case formInt32:
				v, size = pq.Int32Value(int32(binary.LittleEndian.Uint32(data))), 4
			case formInt64:
				v, size = pq.Int64Value(int64(binary.LittleEndian.Uint64(data))), 8
			case formWide, formUUID:
				v, size = pq.FixedLenByteArrayValue(data[:16]), 16
			case formDouble:
				v, size = pq.DoubleValue(math.Float64frombits(binary.LittleEndian.Uint64(data))), 8
			case formText:
				size = 4 + int(binary.LittleEndian.Uint32(data))
				v = pq.ByteArrayValue(data[4:size])
			case formNone, formFloat, formUnsigned, formMillis, formBytes, formOld: // none that is written
			}
			level := 1
			if w.need[i] {
				level = 0
			}
			w.values[i] = append(w.values[i], v.Level(0, level, i))
			data = data[size:]
		}
	}
	return data, n
}

// Close ends the file.
func (w *Writer) Close() error { return w.w.Close() }

// wideOf is a number in bytes, the highest first, of any length.
func wideOf(b []byte) *big.Int {
	n := new(big.Int).SetBytes(b)
	if len(b) > 0 && b[0]&0x80 != 0 {
		n.Sub(n, new(big.Int).Lsh(big.NewInt(1), uint(8*len(b))))
	}
	return n
}
