package columnar_test

import (
	"bytes"
	"context"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"testing"
	"time"

	pq "github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/compress/lz4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/columnar"
	"ambertray/internal/reading"
	"ambertray/internal/sqltype"
)

func typ(s string) sqltype.Type {
	t, err := sqltype.Parse(s)
	if err != nil {
		panic(err)
	}
	return t
}

// rowOf reads texts in plain form; "-" is null.
func rowOf(t testing.TB, columns []columnar.Column, texts ...string) []reading.Value {
	row := make([]reading.Value, len(columns))
	for i, s := range texts {
		if row[i].Null = s == "-"; !row[i].Null {
			require.Equal(t, reading.OK, reading.Plain(columns[i].Type).Read([]byte(s), true, &row[i]), s)
		}
	}
	return row
}

// content is what a file has, in plain form.
func content(t testing.TB, f *columnar.File) (rows [][]string) {
	wanted := make([]int, len(f.Columns))
	for i := range wanted {
		wanted[i] = i
	}
	require.NoError(t, f.Read(context.Background(), wanted, func(values []reading.Value) error {
		var row []string
		for i := range values {
			if s := values[i].Plain(f.Columns[i].Type); values[i].Null {
				row = append(row, "-")
			} else {
				row = append(row, s)
			}
		}
		rows = append(rows, row)
		return nil
	}))
	return rows
}

func opened(t testing.TB, path string) *columnar.File {
	f, err := columnar.Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	return f
}

// What goes in comes out, of every type, in files of any number of rows; and with it the
// types, the key and the descriptions, which Parquet has no place for.
func TestRoundTrip(t *testing.T) {
	columns := []columnar.Column{
		{Name: "id", Type: typ("integer"), Required: true, Comment: "of the passage"},
		{Name: "small", Type: typ("smallint")}, {Name: "big", Type: typ("bigint")}, {Name: "paid", Type: typ("boolean")},
		{Name: "toll", Type: typ("decimal(9,2)")}, {Name: "large", Type: typ("decimal(18,5)")},
		{Name: "huge", Type: typ("decimal(38,10)")}, {Name: "share", Type: typ("double precision")},
		{Name: "day", Type: typ("date")}, {Name: "clock", Type: typ("time(3)")}, {Name: "at", Type: typ("timestamp(6)")},
		{Name: "zoned", Type: typ("timestamp(0) with time zone")}, {Name: "token", Type: typ("uuid")},
		{Name: "code", Type: typ("char(4)")}, {Name: "zeta, a \"boat\"", Type: typ("varchar(20)")},
		{Name: "alpha", Type: typ("text")},
	}
	some := [][]string{
		{"1", "-32768", "-9223372036854775808", "true", "-9999999.99", "-9999999999999.99999",
			"-9999999999999999999999999999.9999999999", "-1.5e-300", "0001-01-01", "00:00:00.000", "0001-01-01 00:00:00.000000",
			"1999-12-31 23:59:59+00:00", "ffffffff-ffff-ffff-ffff-ffffffffffff", "0001", "Heron é日😀", ""},
		{"2", "32767", "9223372036854775807", "false", "0.01", "0.00001", "9999999999999999999999999999.9999999999", "0.1",
			"9999-12-31", "23:59:59.999", "9999-12-31 23:59:59.999999", "2025-03-01 10:00:00+00:00",
			"6f9619ff-8b86-d011-b42d-00cf4fc964ff", "a", "\x00", "line\nbreak, \"quotes\""},
		{"3", "-", "-", "-", "-", "-", "-", "-", "-", "-", "-", "-", "-", "-", "-", "-"},
		{"4", "0", "0", "true", "0.00", "-0.00001", "-0.0000000001", "1e+300", "1970-01-01", "12:00:00.001",
			"1969-12-31 23:59:59.999999", "1970-01-01 00:00:00+00:00", "00000000-0000-0000-0000-000000000000", "-", "b", "-"},
	}
	known := columnar.Known{Comment: "what passed", Key: []string{"id"}, Unique: [][]string{{"big", "day"}}}
	for _, n := range []int{0, 1, 4, 2047, 2049, 30_000} {
		var rows [][]string
		var buf []byte
		types := make([]sqltype.Type, len(columns))
		for i, c := range columns {
			types[i] = c.Type
		}
		enc := columnar.NewEncoder(types)
		for i := range n {
			r := append([]string{fmt.Sprint(i)}, some[i%4][1:]...)
			rows = append(rows, r)
			row := rowOf(t, columns, r...)
			at := len(buf)
			buf = enc.Append(buf, row)
			back := make([]reading.Value, len(row))
			require.Empty(t, enc.Row(buf[at:], back))
			require.Equal(t, buf[at:], enc.Append(nil, back), "bytes of a row and back")
		}
		path := filepath.Join(t.TempDir(), "passages.parquet")
		out, err := os.Create(path)
		require.NoError(t, err)
		w := columnar.NewWriter(out, "passages", known, columns)
		for len(buf) > 0 {
			buf, err = w.Write(buf, 1+n/3)
			require.NoError(t, err)
		}
		assert.Equal(t, int64(n), w.Rows())
		require.NoError(t, w.Close())
		require.NoError(t, out.Close())
		f := opened(t, path)
		assert.Equal(t, int64(n), f.Rows)
		assert.Equal(t, known, f.Known)
		for i, c := range f.Columns {
			assert.Equal(t, columns[i].Name, c.Name, "in their order")
			assert.Equal(t, columns[i].Type, c.Type)
			assert.Equal(t, columns[i].Required, c.Required)
			assert.Equal(t, columns[i].Comment, c.Comment)
		}
		got := content(t, f)
		require.Len(t, got, n)
		for i := range got {
			require.Equal(t, rows[i], got[i])
		}
	}
}

// Files that others write have types that we do not write.
func TestFilesOfOthers(t *testing.T) {
	type boat struct {
		ID     uint32    `parquet:"id"`
		Large  uint64    `parquet:"large"`
		Small  int8      `parquet:"small"`
		Share  float32   `parquet:"share"`
		Day    int32     `parquet:"day,date"`
		Seen   time.Time `parquet:"seen,timestamp(millisecond)"`
		Fine   time.Time `parquet:"fine,timestamp(nanosecond)"`
		Raw    []byte    `parquet:"raw"`
		Tags   []string  `parquet:"tags"`
		Toll   int64     `parquet:"toll,decimal(2:12)"`
		Name   *string   `parquet:"name"`
		Places struct{ Lock string }
	}
	name := "Heron"
	path := filepath.Join(t.TempDir(), "boats.parquet")
	require.NoError(t, pq.WriteFile(path, []boat{
		{ID: math.MaxUint32, Large: math.MaxUint64, Small: -128, Share: 0.1, Day: 19782, Toll: -1250, Name: &name,
			Seen: time.Date(2024, 2, 29, 10, 11, 12, 125e6, time.UTC)},
		{Large: 7, Seen: time.Date(1900, 1, 1, 0, 0, 0, 0, time.UTC)}}))
	f := opened(t, path)
	assert.Empty(t, f.Known)
	var fit, unfit []string
	for i, c := range f.Columns {
		if c.Unfit != "" {
			unfit = append(unfit, c.Name)
			assert.ErrorContains(t, f.Read(context.Background(), []int{i}, nil), c.Name)
		} else {
			fit = append(fit, c.Name+" "+c.Type.String())
		}
	}
	assert.Equal(t, []string{"id bigint", "large decimal(20,0)", "small smallint", "share double precision", "day date",
		"seen timestamp(3) with time zone", "toll decimal(12,2)", "name text"}, fit)
	assert.Equal(t, []string{"fine", "raw", "tags", "Places"}, unfit)
	var got []string
	require.NoError(t, f.Read(context.Background(), []int{0, 1, 2, 3, 4, 5, 9, 10}, func(v []reading.Value) error {
		for k, i := range []int{0, 1, 2, 3, 4, 5, 9, 10} {
			got = append(got, v[k].Plain(f.Columns[i].Type))
		}
		return nil
	}))
	assert.Equal(t, []string{"4294967295", "18446744073709551615", "-128", "0.10000000149011612", "2024-02-29",
		"2024-02-29 10:11:12.125+00:00", "-12.50", "Heron", "0", "7", "0", "0", "1970-01-01", "1900-01-01 00:00:00.000+00:00",
		"0.00", ""}, got)

	path = filepath.Join(t.TempDir(), "lz4.parquet")
	require.NoError(t, pq.WriteFile(path, []struct{ A string }{{"x"}}, pq.Compression(&lz4.Codec{})))
	assert.Contains(t, opened(t, path).Columns[0].Unfit, "LZ4", "which is not always read rightly")
}

// A file that is cut, or has a bit that is another, is an error or has as many rows as it
// says; it never ends the program.
func TestBroken(t *testing.T) {
	columns := []columnar.Column{{Name: "id", Type: typ("integer")}, {Name: "boat", Type: typ("text")},
		{Name: "toll", Type: typ("decimal(20,2)")}}
	var b bytes.Buffer
	w := columnar.NewWriter(&b, "boats", columnar.Known{Key: []string{"id"}}, columns)
	enc := columnar.NewEncoder([]sqltype.Type{columns[0].Type, columns[1].Type, columns[2].Type})
	for i := range 50 {
		row := rowOf(t, columns, fmt.Sprint(i), fmt.Sprint("Heron ", i%7), fmt.Sprintf("%d.25", i))
		_, err := w.Write(enc.Append(nil, row), 1)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	whole := b.Bytes()
	path := filepath.Join(t.TempDir(), "a.parquet")
	errors := 0
	read := func(data []byte) {
		require.NoError(t, os.WriteFile(path, data, 0o600))
		x, err := columnar.Open(path)
		if err == nil {
			var wanted []int
			for i, c := range x.Columns {
				if c.Unfit == "" {
					wanted = append(wanted, i)
				}
			}
			n := int64(0)
			err = x.Read(context.Background(), wanted, func([]reading.Value) error { n++; return nil })
			if err == nil && len(wanted) > 0 {
				require.Equal(t, x.Rows, n)
			}
			x.Close()
		}
		if err != nil {
			errors++
			require.Contains(t, err.Error(), path)
		}
	}
	for i := range whole {
		broken := bytes.Clone(whole)
		broken[i] ^= 1 << (i % 8)
		read(broken)
	}
	for n := 0; n < len(whole); n += 7 {
		read(whole[:n])
	}
	t.Logf("%d bytes, %d errors", len(whole), errors)
}
