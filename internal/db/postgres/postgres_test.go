package postgres

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/reading"
	"ambertray/internal/sink"
	"ambertray/internal/sqltype"
	"ambertray/internal/testdb"
)

func typ(t testing.TB, s string) sqltype.Type {
	x, err := sqltype.Parse(s)
	require.NoError(t, err)
	return x
}

func opened(t *testing.T) (*DB, string) {
	url, _ := testdb.Postgres(t)
	cfg, err := pgx.ParseConfig(url)
	require.NoError(t, err)
	d, err := connect(context.Background(), "test", cfg)
	require.NoError(t, err)
	t.Cleanup(func() { d.Close() })
	return d, url
}

// values reads texts as values of a type.
func values(t *testing.T, ty sqltype.Type, texts []string) []reading.Value {
	r := reading.Reader{Type: ty, Number: reading.Number{Decimal: reading.Point}, KeepBlank: true, NullWords: []string{"<null>"}}
	require.NoError(t, r.Prepare())
	out := make([]reading.Value, len(texts))
	for i, s := range texts {
		require.Equal(t, reading.OK, r.Read([]byte(s), false, &out[i]), "%s: %s", ty, s)
		out[i].Text = bytes.Clone(out[i].Text)
		out[i].Wide = bytes.Clone(out[i].Wide)
	}
	return out
}

// What the encoder writes in binary, the server reads as the same value.
func TestBinaryForms(t *testing.T) {
	d, _ := opened(t)
	ctx := context.Background()
	r := rand.New(rand.NewPCG(3, 4))
	decimals := func(precision, scale int) (out []string) {
		out = []string{"0", "<null>", "1", "-1", "0.5", "-0.01", "9999", "10000", "10001", "99999999", "100000000", "1000000000000"}
		for range 300 {
			n := r.IntN(precision-scale) + 1
			s := ""
			for range n {
				s += fmt.Sprint(r.IntN(10) * r.IntN(2))
			}
			s = strings.TrimLeft(s, "0")
			if s == "" {
				s = "0"
			}
			if k := r.IntN(scale + 1); k > 0 {
				s += "."
				for range k {
					s += fmt.Sprint(r.IntN(10) * r.IntN(2))
				}
			}
			if r.IntN(2) == 0 {
				s = "-" + s
			}
			out = append(out, s)
		}
		var kept []string
		for _, s := range out {
			whole, fraction, _ := strings.Cut(strings.TrimPrefix(s, "-"), ".")
			if len(whole) <= precision-scale && len(fraction) <= scale {
				kept = append(kept, s)
			}
		}
		return kept
	}
	for _, tt := range []struct {
		typ   string
		texts []string
	}{
		{"smallint", []string{"-32768", "32767", "0", "<null>"}},
		{"integer", []string{"-2147483648", "2147483647", "<null>"}},
		{"bigint", []string{"-9223372036854775808", "9223372036854775807"}},
		{"decimal(38,10)", decimals(38, 10)},
		{"decimal(30,0)", decimals(30, 0)},
		{"decimal(14,4)", decimals(14, 4)},
		{"decimal(9,1)", decimals(9, 1)},
		{"decimal(20,7)", decimals(20, 7)},
		{"double precision", []string{"0", "-1.5e-300", "1.7976931348623157e308", "0.1"}},
		{"date", []string{"0001-01-01", "1999-12-31", "2000-01-01", "9999-12-31", "<null>"}},
		{"time(6)", []string{"00:00:00", "23:59:59.999999"}},
		{"timestamp(6)", []string{"0001-01-01 00:00:00", "1969-12-31 23:59:59.999999", "9999-12-31 23:59:59.999999"}},
		{"timestamp(3) with time zone", []string{"2024-02-29 12:00:00.125+05:30", "0001-01-02 00:00:00Z"}},
		{"uuid", []string{"6f9619ff-8b86-d011-b42d-00cf4fc964ff", "<null>"}},
		{"boolean", []string{"true", "false", "<null>"}},
		{"varchar(20)", []string{"", "é日本😀", "tab\tline\nback\\slash", "<null>"}},
		{"char(6)", []string{"abc", "abcdef"}},
	} {
		ty := typ(t, tt.typ)
		l, err := d.Begin(ctx, db.Spec{Mode: db.Replace, Table: dialect.Table{Name: "forms", Columns: []dialect.Column{{Name: "no", Type: typ(t, "integer")}, {Name: "v", Type: ty}}}})
		require.NoError(t, err)
		enc := l.Encoder()
		_, binary := enc.(*summing)
		require.True(t, binary, tt.typ)
		var data []byte
		vals := values(t, ty, tt.texts)
		for i := range vals {
			data = enc.Append(data, []reading.Value{{Int: int64(i)}, vals[i]})
		}
		refused, err := l.Write(ctx, sink.Batch{Rows: len(vals), Data: data})
		require.NoError(t, err, tt.typ)
		require.Empty(t, refused)
		rows, cols, err := l.Tally(ctx)
		require.NoError(t, err, tt.typ)
		require.EqualValues(t, len(vals), rows)
		require.EqualValues(t, len(vals), cols[1].Rows)
		checks, err := l.(db.Checker).Check(ctx)
		require.NoError(t, err, tt.typ)
		require.NotNil(t, checks, tt.typ)
		require.Equal(t, enc.(sink.Summer).Sum(), checks.Sum, tt.typ)
		require.NoError(t, l.Commit(ctx))
		got, err := d.Head(ctx, "", "forms", len(vals))
		require.NoError(t, err)
		for i := range vals {
			if vals[i].Null {
				require.Nil(t, got[i][1])
				continue
			}
			want, is := vals[i].Plain(ty), *got[i][1]
			switch {
			case ty.Kind == sqltype.Boolean:
				is = map[string]string{"t": "true", "f": "false"}[is]
			case ty.Kind == sqltype.Char:
				is = strings.TrimRight(is, " ")
			case ty.Kind == sqltype.TimestampTZ:
				is = strings.TrimSuffix(is, "+00")
				want = strings.TrimSuffix(want, "+00:00")
				fallthrough
			case ty.IsTemporal() && ty.Kind != sqltype.Date:
				want, is = withoutZeros(want), withoutZeros(is)
			case ty.Kind == sqltype.Double:
				var a, b float64
				fmt.Sscan(want, &a)
				fmt.Sscan(is, &b)
				require.Equal(t, math.Float64bits(a), math.Float64bits(b))
				continue
			}
			require.Equal(t, want, is, "%s: %s", tt.typ, tt.texts[i])
		}
	}
}

// withoutZeros takes the zeros off the end of a fraction.
func withoutZeros(s string) string {
	if !strings.Contains(s, ".") {
		return s
	}
	return strings.TrimRight(strings.TrimRight(s, "0"), ".")
}

func TestRowEnds(t *testing.T) {
	types := []sqltype.Type{typ(t, "integer"), typ(t, "text")}
	rows := [][]reading.Value{{{Int: 1}, {Text: []byte("a\nb")}}, {{Null: true}, {Text: nil}}, {{Int: 3}, {Null: true}}}
	b, x := &binaryEncoder{types: types}, &textEncoder{types}
	var bin, txt []byte
	var binEnds, txtEnds []int
	for _, r := range rows {
		bin, txt = b.Append(bin, r), x.Append(txt, r)
		binEnds, txtEnds = append(binEnds, len(bin)), append(txtEnds, len(txt))
	}
	i, k := 0, 0
	for n := range rows {
		i, k = rowEnd(bin, i), lineEnd(txt, k)
		assert.Equal(t, binEnds[n], i)
		assert.Equal(t, txtEnds[n], k)
	}
	assert.Equal(t, "1\ta\\nb\n\\N\t\n3\t\\N\n", string(txt))
}

// Small numbers are written in one go, and come to the same.
func TestShortNumerics(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 1))
	short := 0
	for range 100_000 {
		v, scale := reading.Value{Int: int64(r.Uint64() >> r.IntN(64))}, r.IntN(7)
		if v.Int /= int64(pow10[r.IntN(5)]); r.IntN(2) == 0 {
			v.Int *= int64(pow10[r.IntN(5)])
		}
		var got, want [64]byte
		n := shortNumeric(got[:], &v, scale)
		if n == 0 {
			continue
		}
		short++
		require.Equal(t, numeric(want[:], &v, scale), n, "%d at scale %d", v.Int, scale)
		require.Equal(t, want[:n], got[:n], "%d at scale %d", v.Int, scale)
	}
	assert.Greater(t, short, 10_000)
}

// Rows together are what they are one by one, and so are their checksums.
func TestRowsTogether(t *testing.T) {
	types := []sqltype.Type{typ(t, "integer"), typ(t, "text"), typ(t, "decimal(30,4)"), typ(t, "uuid"), typ(t, "boolean"),
		typ(t, "double precision"), typ(t, "char(3)"), typ(t, "smallint"), typ(t, "date"), typ(t, "timestamp"), {}}
	var columns []summed
	for i, ty := range types {
		columns = append(columns, summed{typ: ty, nullable: i%2 == 0})
	}
	r := rand.New(rand.NewPCG(9, 4))
	width := len(types)
	for range 50 {
		values := make([]reading.Value, width*(1+r.IntN(40)))
		for i := range values {
			text := []byte("6f9619ff-8b86-d011-b42d-00cf4fc964ff and a text that is longer than sixteen bytes")
			values[i] = reading.Value{Int: int64(r.IntN(30000)) - 15000, Float: r.Float64(), Text: text[:36],
				Null: columns[i%width].nullable && r.IntN(5) == 0}
			if k := types[i%width].Kind; k != sqltype.UUID {
				values[i].Text = text[r.IntN(30):][:r.IntN(40)]
			}
			if r.IntN(9) == 0 {
				values[i].Wide = []byte("-12345678901234567890123456")
			}
		}
		one := &summing{binaryEncoder: binaryEncoder{types: types}, columns: columns}
		all := &summing{binaryEncoder: binaryEncoder{types: types}, columns: columns}
		want := []byte("before")
		for k := 0; k < len(values); k += width {
			want = one.Append(want, values[k:k+width])
		}
		got := all.AppendRows([]byte("before"), values, width)
		require.Equal(t, want, got)
		require.Equal(t, one.Sum(), all.Sum())
		end := len("before")
		for k := 0; k < len(values); k += width {
			end = rowEnd(got, end)
		}
		require.Equal(t, len(got), end)
	}
}

func TestEncodeAllocatesNothing(t *testing.T) {
	types := []sqltype.Type{typ(t, "bigint"), typ(t, "decimal(20,4)"), typ(t, "timestamp"), typ(t, "text")}
	row := []reading.Value{{Int: 5}, {Int: -123456789}, {Int: 1e15}, {Text: []byte("some text")}}
	e := &binaryEncoder{types: types}
	buf := make([]byte, 0, 4096)
	assert.Zero(t, testing.AllocsPerRun(20, func() { buf = e.Append(buf[:0], row) }))
}

func TestStandardTypes(t *testing.T) {
	for in, want := range map[string]string{
		"character varying(20)": "varchar(20)", "character varying": "text", "character(3)": "char(3)", "numeric(8,2)": "decimal(8,2)", "numeric": "decimal(38,0)",
		"timestamp without time zone": "timestamp(6)", "timestamp(3) with time zone": "timestamp(3) with time zone", "time(0) without time zone": "time(0)",
		"int4range": "none", "real": "none", "jsonb": "none", "integer[]": "none", "uuid": "uuid", "text": "text", "double precision": "double precision",
	} {
		c := db.Column{Type: in}
		standardType(&c, c.Type)
		assert.Equal(t, want, c.SQL.String(), in)
	}
}

func TestExplain(t *testing.T) {
	for code, says := range map[string]string{"28P01": "password", "3D000": "--create-database", "42501": "GRANT", "53100": "disk is full", "2BP01": "--mode refill", "57P01": "shutting down", "25006": "standby", "57014": "statement_timeout", "3F000": "schema"} {
		err := explain("where", "cannot", &pgconn.PgError{Code: code, Message: "words"})
		assert.ErrorContains(t, err, "where: cannot: words (SQLSTATE "+code+")")
		assert.ErrorContains(t, err, says)
	}
	assert.ErrorContains(t, explain("w", "x", errors.New("unexpected EOF")), "the connection was lost")
	assert.ErrorIs(t, explain("w", "x", context.Canceled), context.Canceled)
}

// A column of a type without counterpart takes text; the rest is as usual.
func TestUnusualTypes(t *testing.T) {
	d, _ := opened(t)
	ctx := context.Background()
	_, err := d.c.Exec(ctx, "CREATE TYPE mood AS ENUM ('glad', 'sad'); CREATE TABLE odd (id int PRIMARY KEY, m mood, j jsonb, a int[], f real)")
	require.NoError(t, err)
	found, err := d.Find(ctx, "", "odd")
	require.NoError(t, err)
	assert.Equal(t, sqltype.Text, found.Columns[1].SQL.Kind)
	assert.Equal(t, []string{"glad", "sad"}, found.Columns[1].Keeps.Labels)
	assert.Equal(t, sqltype.None, found.Columns[2].SQL.Kind)
	text := typ(t, "text")
	l, err := d.Begin(ctx, db.Spec{Mode: db.Append, Table: dialect.Table{Name: "odd", Columns: []dialect.Column{{Name: "id", Type: typ(t, "integer")}, {Name: "m", Type: text}, {Name: "j", Type: text}, {Name: "a", Type: text}, {Name: "f", Type: text}}}})
	require.NoError(t, err)
	enc := l.Encoder()
	var data []byte
	for i, r := range [][]string{{"glad", `{"a": "b\\n"}`, "{1,2}", "0.1"}, {"angry", "{}", "{}", "1"}, {"sad", "no json", "{}", "1"}, {"sad", "[]", "{3}", "1e3"}} {
		row := []reading.Value{{Int: int64(i)}}
		for _, s := range r {
			row = append(row, reading.Value{Text: []byte(s)})
		}
		data = enc.Append(data, row)
	}
	refused, err := l.Write(ctx, sink.Batch{Rows: 4, Data: data})
	require.NoError(t, err)
	require.Len(t, refused, 2)
	assert.Equal(t, []int{1, 2}, []int{refused[0].Row, refused[1].Row})
	assert.Equal(t, "m", refused[0].Column)
	assert.Contains(t, refused[0].Message, `invalid input value for enum mood: "angry" (SQLSTATE 22P02)`)
	rows, cols, err := l.Tally(ctx)
	require.NoError(t, err)
	assert.EqualValues(t, 2, rows)
	assert.False(t, cols[1].Loose)
	assert.True(t, cols[2].Loose)
	require.NoError(t, l.Commit(ctx))
}

func TestConnectionLost(t *testing.T) {
	d, url := opened(t)
	ctx := context.Background()
	l, err := d.Begin(ctx, db.Spec{Table: dialect.Table{Name: "x", Columns: []dialect.Column{{Name: "id", Type: typ(t, "integer")}}}})
	require.NoError(t, err)
	other, err := pgx.Connect(ctx, url)
	require.NoError(t, err)
	defer other.Close(ctx)
	_, err = other.Exec(ctx, "SELECT pg_terminate_backend($1)", d.c.PgConn().PID())
	require.NoError(t, err)
	var data []byte
	for i := range 1000 {
		data = l.Encoder().Append(data, []reading.Value{{Int: int64(i)}})
	}
	_, err = l.Write(ctx, sink.Batch{Rows: 1000, Data: data})
	require.Error(t, err)
	assert.NotContains(t, err.Error(), testdb.Password)
	l.Rollback()
	var there bool
	require.NoError(t, other.QueryRow(ctx, "SELECT to_regclass('x') IS NOT NULL").Scan(&there))
	assert.False(t, there)
}

func TestCreateDatabase(t *testing.T) {
	base := os.Getenv("AMBERTRAY_TEST_POSTGRES")
	if base == "" {
		t.Skip("no PostgreSQL server")
	}
	ctx := context.Background()
	cfg, err := pgx.ParseConfig(base)
	require.NoError(t, err)
	cfg.Database = `odd "name" ` + fmt.Sprint(os.Getpid())
	for range 2 {
		require.NoError(t, createDatabase(ctx, "test", cfg.Copy()))
	}
	d, err := connect(ctx, "test", cfg.Copy())
	require.NoError(t, err)
	list, err := d.List(ctx)
	require.NoError(t, err)
	assert.Empty(t, list)
	d.Close()
	admin, err := pgx.Connect(ctx, base)
	require.NoError(t, err)
	defer admin.Close(ctx)
	_, err = admin.Exec(ctx, "DROP DATABASE "+quote(cfg.Database))
	require.NoError(t, err)
}

// The text form of COPY is taken apart wherever it is cut, with whatever is in it.
func TestSplitter(t *testing.T) {
	text := "a\\tb\t\\N\t\n" + `\\N` + "\t\\\\\\n\\r\\b\\f\\v\té\n\t\t\n"
	want := [][]string{{"a\tb", "null", ""}, {`\N`, "\\\n\r\b\f\v", "é"}, {"", "", ""}}
	for cut := 1; cut <= len(text); cut++ {
		var got [][]string
		apart := new(DB).Apart(3)
		s := &gatherer{take: func(rows []byte) error {
			require.True(t, bytes.HasSuffix(rows, []byte("\n")), "whole rows")
			return apart(rows, func(f [][]byte) error {
				var row []string
				for _, x := range f {
					if x == nil {
						x = []byte("null")
					}
					row = append(row, string(x))
				}
				got = append(got, row)
				return nil
			})
		}}
		for b := []byte(text); len(b) > 0; b = b[min(cut, len(b)):] {
			_, err := s.Write(b[:min(cut, len(b))])
			require.NoError(t, err)
		}
		require.Equal(t, want, got, "%d bytes at a time", cut)
		assert.Empty(t, s.rest)
	}
	err := new(DB).Apart(3)([]byte("a\tb\n"), func([][]byte) error { return nil })
	assert.ErrorContains(t, err, "2 fields instead of 3")
	boom := errors.New("boom")
	s := &gatherer{take: func([]byte) error { return boom }}
	_, err = s.Write([]byte("a\nb"))
	assert.Equal(t, boom, err)
}
