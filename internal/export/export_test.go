package export

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/db/postgres"
	"ambertray/internal/plan"
	"ambertray/internal/source"
	"ambertray/internal/source/delimited"
	"ambertray/internal/sqltype"
)

// fake is a database that only knows the answer to a query.
type fake struct {
	db.Session
	rows [][]string // "<null>" is null
	err  error      // behind the rows
}

func (f fake) Dialect() *dialect.Dialect { return postgres.Dialect }

func (f fake) Scan(_ context.Context, _ string, columns []db.Column, row func([][]byte) error) error {
	fields := make([][]byte, len(columns))
	for _, r := range f.rows {
		for i, s := range r {
			fields[i] = []byte(s)
			if s == "<null>" {
				fields[i] = nil
			}
		}
		if err := row(fields); err != nil {
			return err
		}
	}
	return f.err
}

// column is one of a database, with the type that it declares and the one that
// its values are read as.
func column(name, declared, as string, change ...func(*db.Column)) db.Column {
	c := db.Column{Name: name, Type: declared}
	if as != "" {
		t, err := sqltype.Parse(as)
		if err != nil {
			panic(err)
		}
		c.SQL = t
	}
	for _, f := range change {
		f(&c)
	}
	return c
}

func anyLength(c *db.Column) { c.AnyLength = true }
func utc(c *db.Column)       { c.UTC = true }

func written(t *testing.T, opt Options, columns []db.Column, rows ...[]string) (string, *Result) {
	t.Helper()
	if opt.Form.Delimiter == "" {
		opt.Form = delimited.DefaultForm
	}
	var b bytes.Buffer
	r, err := Write(context.Background(), &b, fake{rows: rows}, db.Extract{Query: "SELECT", Columns: columns}, opt)
	require.NoError(t, err)
	assert.Equal(t, int64(len(rows)), r.Rows)
	return b.String(), r
}

func TestNullsAndEmptyTexts(t *testing.T) {
	two := []db.Column{column("a", "text", "text"), column("b", "text", "text")}
	text, r := written(t, Options{}, two, []string{"x", "<null>"}, []string{"", "y"}, []string{`say "no"`, "a,b\nc"})
	assert.Equal(t, "a,b\nx,\n\"\",y\n\"say \"\"no\"\"\",\"a,b\nc\"\n", text)
	assert.Equal(t, int64(1), r.Columns[1].Nulls)
	p := r.Plan("f.csv", "t", nil, Options{Form: delimited.DefaultForm})
	assert.Equal(t, "quoted", p.Columns[0].KeepEmpty)
	assert.Empty(t, p.Columns[0].Nulls)

	// A word for null leaves nothing to the quotes; it must not be a value.
	text, r = written(t, Options{NullWord: "NIL"}, two, []string{"x", "<null>"}, []string{"", "nil"})
	assert.Equal(t, "a,b\nx,NIL\n\"\",nil\n", text)
	p = r.Plan("f.csv", "t", nil, Options{Form: delimited.DefaultForm})
	assert.Equal(t, []any{"all", []string{"NIL"}}, []any{p.Columns[0].KeepEmpty, p.Columns[0].Nulls})
	_, err := Write(context.Background(), &bytes.Buffer{}, fake{rows: [][]string{{"NIL", "x"}}}, db.Extract{Columns: two}, Options{Form: delimited.DefaultForm, NullWord: "NIL"})
	assert.ErrorContains(t, err, "row 1, column a")
	assert.ErrorContains(t, err, "--null-word")

	// Alone in its row, nothing would be a blank line.
	text, r = written(t, Options{}, two[:1], []string{"x"}, []string{"<null>"}, []string{""})
	assert.Equal(t, "a\nx\n\\N\n\"\"\n", text)
	assert.Equal(t, `\N`, r.NullWord)
}

// Each column's plan has the narrowest of the types it may be, into which all of
// its values go.
func TestTypesThatReadBack(t *testing.T) {
	for _, c := range []struct {
		column db.Column
		values []string
		want   string
		remark string
	}{
		{column("n", "smallint", "bigint"), []string{"1", "-32768"}, "smallint", ""},
		{column("n", "smallint", "bigint"), []string{"1", "99999"}, "bigint", ""},
		{column("n", "integer", "integer"), nil, "integer", ""},
		{column("n", "numeric", "decimal(38,0)", anyLength), []string{"1.5", "-12.250", "0"}, "decimal(5,3)", ""},
		{column("n", "numeric", "decimal(38,0)", anyLength), []string{"NaN"}, "text", "no decimal"},
		{column("n", "numeric", "decimal(38,0)", anyLength), []string{strings.Repeat("9", 40)}, "text", "no decimal"},
		{column("n", "numeric(8,2)", "decimal(8,2)"), []string{"123456.78"}, "decimal(8,2)", ""},
		{column("d", "date", "date"), []string{"2025-01-31"}, "date", ""},
		{column("d", "date", "date"), []string{"2025-01-31", "infinity"}, "text", "no date"},
		{column("d", "date", "date"), []string{"0044-03-15 BC"}, "text", "no date"},
		{column("x", "json", ""), []string{"{}"}, "text", "is of type json"},
		{column("t", "timestamp", "timestamp(6)", utc), []string{"2025-01-31 10:00:00+02"}, "timestamp(6) with time zone", ""},
		{column("t", "datetime", "timestamp(6)", anyLength), []string{"2025-01-31 10:00:00.25"}, "timestamp(2)", ""},
		{column("t", "datetime", "timestamp(6)", anyLength), []string{"2025-01-31 10:00:00"}, "timestamp(0)", ""},
		{column("s", "text", "text"), []string{"a\x00b", "c", "\x00"}, "text", "2 texts with a NUL"},
		{column("b", "boolean", "boolean"), []string{"true", "false"}, "boolean", ""},
		{column("b", "boolean", "boolean"), []string{"true", "7"}, "text", "no boolean"},
		{column("u", "uuid", "uuid"), []string{"7d444840-9dc0-11d1-b245-5ffdce74fad2"}, "uuid", ""},
		{column("f", "double", "double precision"), []string{"1e300", "-0.25"}, "double precision", ""},
	} {
		var rows [][]string
		for _, v := range c.values {
			rows = append(rows, []string{v, "x"})
		}
		_, r := written(t, Options{}, []db.Column{c.column, column("other", "text", "text")}, rows...)
		assert.Equal(t, c.want, r.Columns[0].Reads.String(), "%s %q", c.column.Type, c.values)
		remarks := strings.Join(r.Columns[0].Remarks(), "; ")
		if c.remark == "" {
			assert.Empty(t, remarks, c.values)
		} else {
			assert.Contains(t, remarks, c.remark, c.values)
		}
	}
}

// The plan takes the file apart as it was written, whatever its columns are
// called.
func TestPlanReadsTheFileBack(t *testing.T) {
	columns := []db.Column{column("id", "integer", "integer", func(c *db.Column) { c.Required, c.Comment = true, "the number" }),
		column("Boat; name", "text", "text"), column("", "text", "text"), column("ID", "date", "date"), column("line\nbreak", "numeric(4,1)", "decimal(4,1)")}
	rows := [][]string{{"1", "Heron; é", "", "2025-01-31", "2.5"}, {"2", `"Wren"`, "<null>", "<null>", "<null>"}}
	for i, opt := range []Options{
		{Form: delimited.DefaultForm},
		{Form: delimited.Form{Delimiter: ";", Quote: '"'}},
		{Form: delimited.Form{Delimiter: "\t", Quote: '\''}, NoHeader: true},
		{Form: delimited.Form{Delimiter: "|", Quote: '"'}, NullWord: "-"},
	} {
		text, r := written(t, opt, columns, rows...)
		file := filepath.Join(t.TempDir(), fmt.Sprintf("f%d.csv", i))
		require.NoError(t, os.WriteFile(file, []byte(text), 0o666))
		b, err := r.Plan(file, "boats", []string{"id"}, opt).Encode(plan.Comments{})
		require.NoError(t, err)
		p, err := plan.Parse(b)
		require.NoError(t, err, string(b))
		src, err := source.Open(context.Background(), file, p.Known(&p.Sources[0]))
		require.NoError(t, err)
		at, missing, extra := p.Positions(src.Layout.Columns)
		assert.Equal(t, []int{0, 1, 2, 3, 4}, at)
		assert.Empty(t, missing)
		assert.Empty(t, extra)
		var got [][]string
		require.NoError(t, src.Each(func(kind source.Kind, rec *delimited.Record) error {
			var row []string
			for k, f := range rec.Fields {
				s := string(f)
				if s == opt.NullWord && !rec.Quoted(k) {
					s = "<null>"
				}
				row = append(row, s)
			}
			got = append(got, row)
			return nil
		}))
		assert.Equal(t, rows, got, "form %d", i)
		assert.Equal(t, []string{"id", "Boat; name", "column_3", "ID_2", "line\nbreak"}, []string{p.Columns[0].Name, p.Columns[1].Name, p.Columns[2].Name, p.Columns[3].Name, p.Columns[4].Name})
		assert.Equal(t, []any{true, "the number", true, false}, []any{p.Columns[0].Required, p.Columns[0].Comment, p.Columns[1].Unicode, p.Columns[2].Unicode})
		assert.Equal(t, []string{"id"}, p.Table.Key)
	}
}

type broken struct{ after int }

func (b *broken) Write(p []byte) (int, error) {
	if b.after--; b.after < 0 {
		return 0, errors.New("the disk is full")
	}
	return len(p), nil
}

func TestWriteFails(t *testing.T) {
	one := []db.Column{column("a", "text", "text")}
	long := strings.Repeat("x", writeBytes)
	rows := [][]string{{long}, {long}, {long}, {"the rest"}}
	for after := range 4 { // the column's name goes with the first row
		_, err := Write(context.Background(), &broken{after}, fake{rows: rows}, db.Extract{Columns: one}, Options{Form: delimited.DefaultForm})
		assert.ErrorContains(t, err, "disk is full", after)
	}
	_, err := Write(context.Background(), &bytes.Buffer{}, fake{rows: rows, err: errors.New("lost")}, db.Extract{Columns: one}, Options{Form: delimited.DefaultForm})
	assert.ErrorContains(t, err, "lost")
	told := int64(0)
	many := make([][]string, 10_000)
	for i := range many {
		many[i] = rows[0]
	}
	written(t, Options{Progress: func(n int64) { told = n }}, one, many...)
	assert.Equal(t, int64(8192), told)
}
