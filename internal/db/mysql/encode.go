package mysql

import (
	"bytes"

	"ambertray/internal/reading"
	"ambertray/internal/sqltype"
)

// encoder makes rows for LOAD DATA: fields between tabs, a row a line, \N for
// null, backslashes before what would be mistaken (MySQL manual, 13.2.9).
type encoder struct {
	types []sqltype.Type
	sums  *summing // or nil
	sum   uint64
	// reread tells which columns are read again; nil where no sums are made.
	reread []bool
	plain  [2][]byte // memory
}

// Append implements sink.Encoder. Few texts have anything to mark, so they
// are first written as they are; what would be mistaken then shows in the line.
func (e *encoder) Append(b []byte, row []reading.Value) []byte {
	begin := len(b)
	b, half, nulls := e.write(b, row, false)
	line := b[begin:]
	marked := bytes.Count(line, tab) != len(row)-1 || bytes.Count(line, backslash) != nulls ||
		bytes.IndexByte(line, '\n') >= 0
	if marked {
		b, half, _ = e.write(b[:begin], row, true)
	}
	if e.sums != nil {
		first, second := b[begin:half], b[half+1:]
		if marked {
			e.plain[0], e.plain[1] = unescaped(e.plain[0][:0], first), unescaped(e.plain[1][:0], second)
			first, second = e.plain[0], e.plain[1]
		}
		e.sum += e.sums.of(first, second)
	}
	return append(b, '\n')
}

var tab, backslash = []byte{'\t'}, []byte{'\\'}

// write appends a row without its end. half is where the first half of what is
// summed ends.
func (e *encoder) write(b []byte, row []reading.Value, mark bool) (_ []byte, half, nulls int) {
	for i := range row {
		v := &row[i]
		if e.sums != nil && i == e.sums.half {
			half = len(b)
		}
		if i > 0 {
			b = append(b, '\t')
		}
		at := len(b)
		switch t := e.types[i]; {
		case v.Null:
			b = append(b, `\N`...)
			nulls++
		case t.Kind == sqltype.Boolean:
			b = append(b, byte('0'+v.Int))
		case t.Kind == sqltype.TimestampTZ:
			b = reading.AppendTimestamp(b, v.Int, t.Precision)
		case t.IsText():
			if mark {
				b = escape(b, v.Text)
			} else {
				b = append(b, v.Text...)
			}
		default:
			b = v.Append(b, t)
		}
		if e.reread != nil && e.reread[i] && !v.Null && !reread(b[at:], v, e.types[i]) {
			e.sums.spoilt.Store(true)
		}
	}
	return b, half, nulls
}

// Sum implements sink.Summer.
func (e *encoder) Sum() uint64 {
	sum := e.sum
	e.sum = 0
	return sum
}

// marked are the bytes that escape marks, and by what.
var marked = [256]byte{'\\': '\\', '\t': 't', '\n': 'n'}

func escape(b, text []byte) []byte {
	from := 0
	for i, c := range text {
		if m := marked[c]; m != 0 {
			b = append(append(b, text[from:i]...), '\\', m)
			from = i + 1
		}
	}
	return append(b, text[from:]...)
}

// rows splits encoded rows into the first n and the rest.
func rows(data []byte, n int) (head, rest []byte) {
	at := 0
	for range n {
		at += bytes.IndexByte(data[at:], '\n') + 1
	}
	return data[:at], data[at:]
}

// fields decodes the first row, for an insert.
func fields(data []byte, into []any) (_ []any, rest []byte) {
	line, rest := rows(data, 1)
	line = line[:len(line)-1]
	for _, f := range bytes.Split(line, []byte{'\t'}) {
		if string(f) == `\N` {
			into = append(into, nil)
			continue
		}
		out := make([]byte, 0, len(f))
		for i := 0; i < len(f); i++ {
			c := f[i]
			if c == '\\' && i+1 < len(f) {
				i++
				if c = f[i]; c == 't' {
					c = '\t'
				} else if c == 'n' {
					c = '\n'
				}
			}
			out = append(out, c)
		}
		into = append(into, string(out))
	}
	return into, rest
}
