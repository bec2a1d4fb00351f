package spreadsheet

import (
	"bytes"
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/source/workbook"
	"ambertray/internal/sqltype"
)

// What is written reads back as what it was; what a cell cannot hold exactly is a text.
func TestReadsBack(t *testing.T) {
	typ := func(s string) sqltype.Type {
		x, err := sqltype.Parse(s)
		require.NoError(t, err)
		return x
	}
	types := []string{"varchar(20)", "bigint", "decimal(20,2)", "date", "timestamp(3)", "time(0)", "boolean", "double", "timestamp(6) with time zone"}
	var columns []Column
	for i, s := range types {
		columns = append(columns, Column{fmt.Sprintf("c%d", i), typ(s)})
	}
	var out bytes.Buffer
	w, err := New(&out, "Tolls: [March]/2026, a name that is too long", columns)
	require.NoError(t, err)
	for _, row := range []string{"007|42|12.50|2026-03-01|2026-03-01 12:30:00.125|23:59:59|true|0.1|2026-03-01 12:30:00+00:00",
		"=1+1|1234567890123456789|99999999999999999.25|1850-03-01|2026-03-01 12:30:00.000125|00:00:00|false|0.30000000000000004|-",
		"1e5|-1|-0.05|1900-03-01|1999-12-31 00:00:00|12:00:00|true|1e+300|"} {
		var fields [][]byte
		for _, f := range strings.Split(row, "|") {
			if f == "-" {
				fields = append(fields, nil)
			} else {
				fields = append(fields, []byte(f))
			}
		}
		require.NoError(t, w.Add(fields))
	}
	assert.ErrorContains(t, w.Add([][]byte{bytes.Repeat([]byte("x"), 32768)}), "a cell holds 32767 characters")
	require.NoError(t, w.Close())
	assert.Equal(t, []int64{0, 1, 1, 1, 1, 0, 0, 1, 2}, []int64{w.AsText(0), w.AsText(1), w.AsText(2), w.AsText(3), w.AsText(4), w.AsText(5), w.AsText(6), w.AsText(7), w.AsText(8)})

	b, err := workbook.Open(bytes.NewReader(out.Bytes()), int64(out.Len()), workbook.Limits{})
	require.NoError(t, err)
	require.Len(t, b.Sheets, 1)
	assert.Equal(t, "Tolls_ _March__2026, a name tha", b.Sheets[0].Name)
	var got []string
	require.NoError(t, b.Sheets[0].Rows(context.Background(), func(r *workbook.Row) error {
		line := ""
		for _, c := range r.Cells {
			if c.Text {
				line += "'"
			}
			line += string(c.Value) + "|"
		}
		got = append(got, line)
		return nil
	}))
	assert.Equal(t, []string{"'c0|'c1|'c2|'c3|'c4|'c5|'c6|'c7|'c8|",
		"'007|42|12.5|2026-03-01|2026-03-01 12:30:00.125|23:59:59|true|0.1|'2026-03-01 12:30:00+00:00|",
		"'=1+1|'1234567890123456789|'99999999999999999.25|'1850-03-01|'2026-03-01 12:30:00.000125|00:00:00|false|'0.30000000000000004|",
		"'1e5|-1|-0.05|1900-03-01|1999-12-31 00:00:00|12:00:00|true|1e+300|'|"}, got)
}
