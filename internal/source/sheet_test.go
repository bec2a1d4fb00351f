package source

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"ambertray/internal/source/delimited"
)

// sheet writes a workbook of one sheet; nil cells are not there.
func sheet(t *testing.T, at string, rows [][]any) string {
	t.Helper()
	f := excelize.NewFile()
	defer f.Close()
	column, row, err := excelize.CellNameToCoordinates(at)
	require.NoError(t, err)
	for i, r := range rows {
		for k, v := range r {
			if v == nil {
				continue
			}
			cell, err := excelize.CoordinatesToCellName(column+k, row+i)
			require.NoError(t, err)
			require.NoError(t, f.SetCellValue("Sheet1", cell, v))
		}
	}
	name := filepath.Join(t.TempDir(), "book.xlsx")
	require.NoError(t, f.SaveAs(name))
	return name
}

// records reads all rows of a source: what each is, its line and its fields.
func records(t *testing.T, s *Source) (out []string) {
	t.Helper()
	st, err := s.Read(true)
	require.NoError(t, err)
	defer st.Close()
	rows := NewRows(&s.Layout)
	var rec delimited.Record
	for {
		c, err := st.Next()
		if err == io.EOF {
			assert.Len(t, st.Sum(), 64)
			return out
		}
		require.NoError(t, err)
		for rows.Reset(c); ; {
			kind, ok := rows.Next(&rec)
			if !ok {
				break
			}
			var fields []string
			for i, f := range rec.Fields {
				text := string(f)
				if rec.Quoted(i) {
					text = "'" + text + "'"
				}
				fields = append(fields, text)
			}
			out = append(out, fmt.Sprintf("%s %d %s", kind, rec.Line, strings.Join(fields, "|")))
		}
		c.Release()
	}
}

func TestSheetsAsPeopleDrawThem(t *testing.T) {
	body := func(rows ...[]any) [][]any { return rows }
	for what, tt := range map[string]struct {
		at     string
		rows   [][]any
		header int64
		titles int
		names  []string
		want   []string
	}{
		"a plain table": {"A1", body([]any{"Id", "Toll"}, []any{1, 2.5}, []any{2, "x"}), 1, 0, []string{"Id", "Toll"}, []string{"data 2 1|2.5", "data 3 2|'x'"}},
		"titles, and a table in the middle": {"C4", body([]any{"The tolls"}, nil, []any{"Id", "Toll", "Note"}, []any{1, 2.5, "a"}, []any{2, nil, "b"}, []any{3, 1, "c"}), 6, 1,
			[]string{"Id", "Toll", "Note"}, []string{"data 7 1|2.5|'a'", "data 8 2||'b'", "data 9 3|1|'c'"}},
		"blank cells at the end": {"A1", body([]any{"Id", "Toll", "Note"}, []any{1, 2.5}, []any{2}, []any{3, 1}, []any{4, 1}, []any{5, 1, "at last"}), 1, 0,
			[]string{"Id", "Toll", "Note"}, []string{"data 2 1|2.5|", "data 3 2||", "data 4 3|1|", "data 5 4|1|", "data 6 5|1|'at last'"}},
		"a remark at the right": {"A1", body([]any{"Id", "Toll"}, []any{1, 2.5, nil, nil, nil, "see March"}, []any{2, 3}, []any{3, 4}), 1, 0,
			[]string{"Id", "Toll", "", "", "", ""}, []string{"data 2 1|2.5||||'see March'", "data 3 2|3||||", "data 4 3|4||||"}},
		"a remark beside the header": {"A1", body([]any{"Id", "Toll", nil, nil, nil, "checked"}, []any{1, 2.5}, []any{2, 3}), 1, 0,
			[]string{"Id", "Toll", "", "", "", "checked"}, []string{"data 2 1|2.5||||", "data 3 2|3||||"}},
		"blank rows": {"A1", body([]any{"Id", "Toll"}, []any{1, 2}, nil, nil, []any{2, 3}), 1, 0, []string{"Id", "Toll"}, []string{"data 2 1|2", "blank 3 ", "blank 4 ", "data 5 2|3"}},
		"a total": {"A1", body([]any{"Lock", "Boat", "Toll"}, []any{"North", "a", 2}, []any{"South", "b", 3}, []any{"Total", nil, 5}), 1, 0, []string{"Lock", "Boat", "Toll"},
			[]string{"data 2 'North'|'a'|2", "data 3 'South'|'b'|3", "footer 4 'Total'||5"}},
		"lines within cells": {"A1", body([]any{"Id", "Note"}, []any{1, "two\nlines, \"q\""}, []any{2, "x"}), 1, 0, []string{"Id", "Note"}, []string{"data 2 1|'two\nlines, \"q\"'", "data 3 2|'x'"}},
		"no header":          {"A1", body([]any{1, 2.5}, []any{2, 3.5}), 0, 0, []string{"column_1", "column_2"}, []string{"data 1 1|2.5", "data 2 2|3.5"}},
		"one column":         {"B2", body([]any{"Id"}, []any{1}, []any{2}), 2, 0, []string{"Id"}, []string{"data 3 1", "data 4 2"}},
	} {
		s, err := Open(context.Background(), sheet(t, tt.at, tt.rows), Known{})
		require.NoError(t, err, what)
		assert.Equal(t, tt.header, s.Layout.Header, what)
		assert.Len(t, s.Titles, tt.titles, what)
		assert.Equal(t, tt.names, s.Layout.Columns, what)
		assert.Equal(t, tt.want, records(t, s), what)
		require.NoError(t, s.Close())
	}
}

func TestPlacesAreCells(t *testing.T) {
	s, err := Open(context.Background(), sheet(t, "C4", [][]any{{"Id", "Toll"}, {1, 2}}), Known{})
	require.NoError(t, err)
	defer s.Close()
	assert.Equal(t, "D5", s.Place(5, 1))
	assert.Equal(t, "row 5", s.Place(5, -1))
	assert.Equal(t, `sheet "Sheet1"`, s.Part())
	assert.Contains(t, s.Name, `book.xlsx, sheet "Sheet1"`)
	assert.Equal(t, "line 1,205", (&Source{}).Place(1205, 3))
	sum, err := s.Sum()
	require.NoError(t, err)
	whole, err := sumFile(s.Path)
	require.NoError(t, err)
	assert.Equal(t, whole, sum, "the sum is the file's own")
	info, err := os.Stat(s.Path)
	require.NoError(t, err)
	assert.Equal(t, info.Size(), s.FileSize)
}

func TestPartOfASheet(t *testing.T) {
	name := sheet(t, "A1", [][]any{{"Id", "Toll", "Note"}, {1, 2, "a"}, {2, 3, "b"}, {"end", nil, nil}})
	for within, want := range map[string][]string{
		"A1:B3": {"data 2 1|2", "data 3 2|3"}, "B1:C2": {"data 2 2|'a'"}, "a:a": {"data 2 1", "data 3 2", "data 4 'end'"},
	} {
		s, err := Open(context.Background(), name, Known{Range: within})
		require.NoError(t, err, within)
		assert.Equal(t, want, records(t, s), within)
		require.NoError(t, s.Close())
	}
	_, err := Open(context.Background(), name, Known{Range: "Z90:Z99"})
	assert.Error(t, err, "nothing is there")
	_, err = Open(context.Background(), name, Known{Sheet: "7"})
	assert.ErrorContains(t, err, `its sheets are "Sheet1"`)
	_, err = Open(context.Background(), name, Known{Member: "x"})
	assert.ErrorContains(t, err, "has no members")
	_, err = Open(context.Background(), name, Known{MaxUnpacked: 5})
	assert.Error(t, err)
}
