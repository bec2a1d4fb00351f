package rows

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/db/dialect"
	"ambertray/internal/plan"
	"ambertray/internal/reading"
	"ambertray/internal/sink"
	"ambertray/internal/source"
)

// written is an encoder that writes values as plans do.
type written struct {
	columns []dialect.Column
	lines   []int64
}

func (w *written) Append(b []byte, row []reading.Value) []byte {
	for i := range row {
		if row[i].Null {
			b = append(b, "null|"...)
			continue
		}
		b = append(row[i].Append(b, w.columns[i].Type), '|')
	}
	return append(b, '\n')
}

func (w *written) Place(_ int, line int64) { w.lines = append(w.lines, line) }

// several is written that takes several rows at once.
type several struct{ written }

func (s *several) AppendRows(b []byte, values []reading.Value, width int) []byte {
	for ; len(values) > 0; values = values[width:] {
		b = s.Append(b, values[:width])
	}
	return b
}

// cells make fields of all kinds: what most are, and what people do to them.
var cells = map[string][]string{
	"smallint":      {"1", "-32768", "32767", "32768", "007", "-", "1.0", "", " 12", "+5", "99999999", "123456789", "x"},
	"bigint":        {"9223372036854775807", "12345678", "-1234567", "0", "1.50", "NULL", "\"12\"", "12 "},
	"decimal(8,2)":  {"0.50", "-12.5", ".5", "5.", "999999.99", "1000000", "1.234", "1.230", "-0", "1e3", "", "12.3.4"},
	"decimal(30,6)": {"123456789012345678901234.5", "-0.000001", "17", "0.0000001", "12345678"},
	"varchar(6)":    {"lock", "\"gate\"", "\"a \"\"b\"\"\"", "far too long", "čšžýáí", "ends ", " starts", "", "\"\"", "\u00a0", "NULL"},
	"char(3)":       {"abc", "ab", "ab ", "abcd", "é", ""},
	"text":          {"words", "\"two\nlines\"", "", "-", "tail\u00a0"},
	"date":          {"31/01/2024", "01/02/2024", "30/02/2024", "1/2/2024", "", "2024-01-31", "31/01/2024 "},
	"timestamp":     {"2024-01-31 12:30:00", "2024-01-31 12:30", "2024-01-31T12:30:00.5", "2024-13-31 12:30:00", ""},
	"double":        {"1.5", "1e300", "-0", "1e400", "12", "", "abc"},
	"boolean":       {"true", "NO", "1", "maybe", ""},
	"uuid":          {"6F9619FF-8B86-D011-B42D-00CF4FC964FF", "{6f9619ff-8b86-d011-b42d-00cf4fc964ff}", "6f", ""},
}

// What comes of records does not depend on whether they are read in blocks: rows, account, what
// values are like, rejects with their places, and what the sink refuses.
func TestBlocksAgainstRecords(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 27))
	types := make([]string, 0, len(cells))
	for typ := range cells {
		types = append(types, typ)
	}
	rejected, kept := 0, 0
	for round := range 120 {
		n := 1 + r.IntN(6)
		if round%20 == 0 {
			n = 300 // so many columns that a block has few records
		}
		var text strings.Builder
		p := &plan.Plan{}
		for i := range n {
			typ := types[r.IntN(len(types))]
			c := plan.Column{Name: fmt.Sprint("c", i), From: fmt.Sprint("c", i), Type: typ, Required: r.IntN(4) == 0,
				Trim: r.IntN(2) == 0, KeepEmpty: []string{"", "quoted", "all"}[r.IntN(3)]}
			switch r.IntN(6) {
			case 0:
				c.Nulls = []string{"NULL", "007"}
			case 1:
				c.Lo, c.Hi = -100, 20000
			case 2:
				c.Keeps = reading.Keeps{Codes: true, Digits: 6, Decimals: 1, Bytes: 5}
			}
			if typ == "date" {
				c.Reading = &plan.Reading{Dates: []string{"dd/MM/yyyy"}}
			}
			p.Columns = append(p.Columns, c)
			fmt.Fprintf(&text, "c%d,", i)
		}
		for range 40 + r.IntN(300) {
			text.WriteString("last\n")
			if r.IntN(30) == 0 {
				text.WriteString("\none,field\n")
			}
			odd := r.IntN(4) // how often a field is not as most are
			for i := range n {
				of := cells[p.Columns[i].Type]
				f := of[0]
				if r.IntN(4*n) < odd {
					f = of[r.IntN(len(of))]
				}
				text.WriteString(f + ",")
			}
		}
		text.WriteString("last\n")
		name := filepath.Join(t.TempDir(), "in.csv")
		require.NoError(t, os.WriteFile(name, []byte(text.String()), 0o666))
		comma, quote, header, skipped := ",", "\"", int64(1), int64(0)
		src, err := source.Open(context.Background(), name,
			source.Known{Encoding: "utf-8", Delimiter: &comma, Quote: &quote, Header: &header, Skip: &skipped})
		require.NoError(t, err)
		require.Len(t, src.Layout.Columns, n+1)
		bound, err := plan.Bind(p, []*source.Source{src})
		require.NoError(t, err)
		skip := map[int]bool{}
		if round%3 == 0 {
			skip = map[int]bool{2: true, 17: true, 18: true}
		}
		got := [3]part{}
		encoders := [3]*several{}
		for way := range got {
			encoders[way] = &several{written{columns: p.Definition().Columns}}
			var enc sink.Encoder = encoders[way]
			if way == 1 {
				enc = &encoders[way].written
			}
			c, err := newConverter(src, p, bound.At[0], enc)
			require.NoError(t, err)
			if c.habits = true; way == 0 {
				c.without = map[int64]bool{-1: true}
			}
			if c.summer = nil; way == 2 {
				c.place = nil
			}
			st, err := src.Read(false)
			require.NoError(t, err)
			defer st.Close()
			chunk, err := st.Next()
			require.NoError(t, err)
			c.convert(chunk, &got[way], skip)
			require.Equal(t, way == 0, c.block == nil)
		}
		for way := range 2 {
			a, b := &got[0], &got[way+1]
			require.Equal(t, string(a.data), string(b.data), text.String())
			require.Equal(t, a.rejects, b.rejects)
			require.Equal(t, a.misfits, b.misfits)
			require.Equal(t, []any{a.rows, a.read, a.records, a.skipped}, []any{b.rows, b.read, b.records, b.skipped})
			for i := range a.likes {
				x, y := &a.tally[i], &b.tally[i]
				require.Equal(t, []any{x.Rows, x.Nulls, x.Emptied, x.Octets, x.Total().String(), x.Smallest(), x.Largest()},
					[]any{y.Rows, y.Nulls, y.Emptied, y.Octets, y.Total().String(), y.Smallest(), y.Largest()})
				require.Equal(t, a.likes[i].Words(), b.likes[i].Words())
				m, _ := a.likes[i].Distinct()
				n, _ := b.likes[i].Distinct()
				require.Equal(t, m, n)
				s, _ := a.likes[i].Spread()
				u, _ := b.likes[i].Spread()
				require.InDelta(t, s, u, 1e-9*(s+1))
			}
		}
		require.Equal(t, encoders[0].lines, encoders[1].lines)
		require.Equal(t, bytes.Count(got[0].data, []byte("\n")) > 0, got[0].rows > 0)
		rejected, kept = rejected+len(got[0].rejects), kept+got[0].rows
	}
	assert.Greater(t, rejected, 500)
	assert.Greater(t, kept, 5000)
}
