package mysql

import (
	"bytes"

	"ambertray/internal/reading"
	"ambertray/internal/sqltype"
)

// encoder makes rows for LOAD DATA: fields between tabs, a row a line, \N for
// null, backslashes before what would be mistaken (MySQL manual, 13.2.9).
type encoder struct{ types []sqltype.Type }

// Append implements target.Encoder.
func (e *encoder) Append(b []byte, row []reading.Value) []byte {
	for i := range row {
		v := &row[i]
		if i > 0 {
			b = append(b, '\t')
		}
		switch t := e.types[i]; {
		case v.Null:
			b = append(b, `\N`...)
		case t.Kind == sqltype.Boolean:
			b = append(b, byte('0'+v.Int))
		case t.Kind == sqltype.TimestampTZ:
			b = reading.AppendTimestamp(b, v.Int, t.Precision)
		case t.IsText():
			b = escape(b, v.Text)
		default:
			b = v.Append(b, t)
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
		default:
			b = append(b, c)
		}
	}
	return b
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
