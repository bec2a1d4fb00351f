package sqlite

import (
	"context"
	"fmt"
	"hash/maphash"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	lib "modernc.org/sqlite/lib"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/sink"
	"ambertray/internal/sqltype"
)

// stepped is the checksum of a table as stepping through its rows gives it.
func stepped(t *testing.T, d *DB, l *load) (rows int64, sum uint64) {
	s := d.selected(t, "SELECT * FROM "+Dialect.Qualified("", l.table.Name))
	for {
		more, err := s.step()
		require.NoError(t, err)
		if !more {
			return
		}
		var b []byte
		for i := range s.columns() {
			b = appendRaw(b, s, i)
		}
		rows++
		sum += maphash.Bytes(l.seed, b)
	}
}

// What the pages hold is what SQLite reads from them: of small pages and large,
// shallow trees and deep, with rows that fill many pages, rows deleted, and
// numbers of rows that are a column or not.
func TestPagesHoldTheRows(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for _, setup := range []string{"PRAGMA page_size = 512", "PRAGMA page_size = 4096", "PRAGMA page_size = 65536", "PRAGMA auto_vacuum = 1", "PRAGMA journal_mode = wal"} {
		for _, rows := range []int{0, 1, 40, 6000} {
			for _, key := range []string{"", "a"} {
				d, _ := open(t)
				require.NoError(t, d.c.exec(setup))
				x := table(t, "passages", "integer", "text", "decimal(8,2)", "double precision", "bigint")
				if key != "" {
					x.Key = []string{key}
				}
				made, err := d.Begin(context.Background(), db.Spec{Mode: db.Create, Table: x})
				require.NoError(t, err)
				l := made.(*load)
				for i := range rows {
					long := 0
					if r.IntN(40) == 0 {
						long = r.IntN(5000)
					}
					require.NoError(t, d.c.exec("INSERT INTO passages VALUES (?, nullif(?, 'x'), ?, ?, ?)", fmt.Sprint(r.IntN(20)-10+20*(i-rows/2)), strings.Repeat("é", long)+"x"[:1-long%2],
						fmt.Sprintf("%d.%02d", r.IntN(1000), r.IntN(100)*r.IntN(2)), fmt.Sprint(r.IntN(10)), fmt.Sprint(r.Int64()>>r.IntN(64))))
				}
				require.NoError(t, d.c.exec("DELETE FROM passages WHERE abs(e) % 11 = 3"))
				wantRows, want := stepped(t, d, l)
				c, err := l.Check(context.Background())
				require.NoError(t, err)
				require.NotNil(t, c)
				assert.Equal(t, wantRows, c.Rows, "%s, %d rows, key %q", setup, rows, key)
				assert.Equal(t, want, c.Sum, "%s, %d rows, key %q", setup, rows, key)
				_, columns, err := l.Tally(context.Background())
				require.NoError(t, err)
				for i, n := range c.Totals {
					assert.Equal(t, db.HasTotal(x.Columns[i].Type), n != nil)
					if n != nil {
						assert.Zero(t, columns[i].Total().Cmp(n), "%s, %d rows, column %d: %s", setup, rows, i, n)
					}
				}
				require.NoError(t, l.Rollback())
			}
		}
	}
}

// Of tables that are not of our making there are no checksums, nor where text
// is stored in another form.
func TestNoChecksums(t *testing.T) {
	d, _ := open(t)
	x := table(t, "passages", "integer", "text")
	require.NoError(t, d.c.exec("CREATE TABLE passages (a INTEGER, b TEXT, c TEXT DEFAULT 'x')"))
	checked := func(d *DB, spec db.Spec) bool {
		l, err := d.Begin(context.Background(), spec)
		require.NoError(t, err)
		defer l.Rollback()
		write(t, l, x, []string{"1", "Heron"})
		c, err := l.(db.Checker).Check(context.Background())
		require.NoError(t, err)
		return c != nil
	}
	assert.False(t, checked(d, db.Spec{Mode: db.Append, Table: x}))
	assert.False(t, checked(d, db.Spec{Mode: db.Refill, Table: x}))
	assert.True(t, checked(d, db.Spec{Mode: db.Replace, Table: x}))
	other, _ := open(t)
	require.NoError(t, other.c.exec("PRAGMA encoding = 'UTF-16'"))
	assert.False(t, checked(other, db.Spec{Mode: db.Create, Table: x}))
}

// Pages that are not what they should be are errors, whatever is in them.
func TestBrokenPages(t *testing.T) {
	d, _ := open(t)
	x := table(t, "passages", "integer", "text", "decimal(8,2)")
	made, err := d.Begin(context.Background(), db.Spec{Mode: db.Create, Table: x})
	require.NoError(t, err)
	for i := range 300 {
		require.Empty(t, write(t, made, x, []string{fmt.Sprint(i), strings.Repeat("sluice ", i%9), "1.50"}))
	}
	p := &pages{d: d, alias: -1, usable: 4096, types: make([]sqltype.Type, 3), seed: maphash.MakeSeed()}
	p.page = d.selected(t, "SELECT data FROM sqlite_dbpage WHERE pgno = ?")
	var leaves [][]byte
	for n := uint32(2); ; n++ {
		b, err := p.read(n)
		if err != nil {
			assert.ErrorContains(t, err, "is not there")
			break
		}
		if b[0] == leaf {
			leaves = append(leaves, append([]byte(nil), b...))
		}
	}
	require.NotEmpty(t, leaves)
	r := rand.New(rand.NewPCG(7, 7))
	wrong := 0
	for i := range 20_000 {
		b := append([]byte(nil), leaves[i%len(leaves)]...)
		for range 1 + r.IntN(6) {
			at := r.IntN(len(b))
			if i%2 == 0 {
				at = 3 + r.IntN(40) // the head and the first cells
			}
			b[at] = byte(r.IntN(256))
		}
		p.block = block{}
		if err := p.add(b); err != nil {
			wrong++
			continue
		}
		if err := p.adder().block(p.block); err != nil {
			wrong++
		}
	}
	assert.Greater(t, wrong, 1000)
}

func TestVarint(t *testing.T) {
	// From the table of the file format's section 1.6.
	for want, b := range map[int64][]byte{0: {0}, 127: {0x7f}, 128: {0x81, 0}, 16383: {0xff, 0x7f}, 16384: {0x81, 0x80, 0}, -1: {255, 255, 255, 255, 255, 255, 255, 255, 255}} {
		got, n := varint(append(b, 77))
		assert.Equal(t, len(b), n, want)
		assert.Equal(t, want, got)
		_, n = varint(b[:len(b)-1])
		assert.Zero(t, n, "cut")
	}
}

// Rows that the table's own rules refuse are the same, and all others are in,
// whether a batch goes in by one statement or row by row.
func TestBulkIsAsRowByRow(t *testing.T) {
	definitions := []struct {
		bulk bool
		sql  []string
	}{
		{true, []string{"CREATE TABLE t (a INTEGER PRIMARY KEY, b TEXT)"}},
		{true, []string{"CREATE TABLE t (a INT, b TEXT UNIQUE)"}},
		{true, []string{"CREATE TABLE t (a INT UNIQUE ON CONFLICT REPLACE, b TEXT UNIQUE ON CONFLICT IGNORE)"}},
		{true, []string{"CREATE TABLE t (a INT UNIQUE ON CONFLICT FAIL, b TEXT NOT NULL ON CONFLICT FAIL)"}},
		{true, []string{"CREATE TABLE t (a INT, b TEXT NOT NULL, CHECK (a <> 7), CHECK (length(b) < 9))"}},
		{true, []string{"CREATE TABLE t (a INT, b TEXT, c AS (a * 2) STORED UNIQUE)"}},
		{true, []string{"CREATE TABLE t (a INT, b TEXT, PRIMARY KEY (a, b)) WITHOUT ROWID"}},
		{true, []string{"CREATE TABLE t (a INT, b TEXT)", "CREATE INDEX i ON t (b, a)", "CREATE UNIQUE INDEX u ON t (a) WHERE b <> ''"}},
		{false, []string{"CREATE TABLE t (a INT UNIQUE, b TEXT) STRICT"}},
		{false, []string{"CREATE TABLE t (a INT, b TEXT)", "CREATE TRIGGER r BEFORE INSERT ON t WHEN new.a % 5 = 0 BEGIN SELECT RAISE(FAIL, 'locked'); END"}},
	}
	r := rand.New(rand.NewPCG(3, 3))
	for _, def := range definitions {
		definition := def.sql[0]
		for _, span := range []int{5, 300, 100_000} {
			var texts [][]string
			for range 500 {
				b := strings.Repeat("x", r.IntN(10)) + fmt.Sprint(r.IntN(span))
				if r.IntN(30) == 0 {
					b = "<null>"
				}
				texts = append(texts, []string{fmt.Sprint(r.IntN(span)), b})
			}
			var refused [2][]sink.Refusal
			var content [2][][]*string
			for k := range 2 {
				d, _ := open(t)
				for _, sql := range def.sql {
					require.NoError(t, d.c.exec(sql), sql)
				}
				x := dialect.Table{Name: "t", Columns: []dialect.Column{{Name: "a", Type: typ(t, "bigint")}, {Name: "b", Type: sqltype.Type{Kind: sqltype.Text}}}}
				made, err := d.Begin(context.Background(), db.Spec{Mode: db.Append, Table: x})
				require.NoError(t, err)
				l := made.(*load)
				require.Equal(t, def.bulk, l.bulk != nil, definition)
				if k == 1 && l.bulk != nil {
					l.bulk.close()
					l.bulk = nil
				}
				refused[k] = write(t, l, x, texts...)
				require.NoError(t, l.Commit(context.Background()))
				content[k], err = d.Head(context.Background(), "", "t", 1000)
				require.NoError(t, err)
			}
			assert.Equal(t, refused[1], refused[0], definition)
			assert.Equal(t, content[1], content[0], definition)
		}
	}
}

// A record is turned back into what the encoder wrote.
func TestRecords(t *testing.T) {
	p := &pages{alias: 0, types: []sqltype.Type{typ(t, "integer"), typ(t, "double precision"), typ(t, "text")}, seed: maphash.MakeSeed()}
	a := p.adder()
	require.NoError(t, a.add(record{rowid: -5, payload: []byte{4, 0, 1, 19, 0x80, 'l', 'o', 'k'}}))
	var x rawValue
	rest := x.take(a.row)
	assert.Equal(t, []any{int32(lib.SQLITE_INTEGER), int64(-5)}, []any{x.kind, x.int})
	rest = x.take(rest)
	assert.Equal(t, []any{int32(lib.SQLITE_FLOAT), -128.0}, []any{x.kind, x.float})
	assert.Empty(t, x.take(rest))
	assert.Equal(t, []any{int32(lib.SQLITE_TEXT), "lok"}, []any{x.kind, string(x.text)})
	assert.Equal(t, "-5", a.totals[0].sum.Total().String())
	for _, broken := range [][]byte{{}, {0}, {9}, {2, 0}, {5, 0, 0, 0, 0}, {4, 0, 1, 19, 0x80}, {4, 0, 10, 0}, {4, 0, 0x80}} {
		assert.Error(t, a.add(record{payload: broken}), "% x", broken)
	}
	assert.Equal(t, int64(1), a.rows)
}

// Adding up rows allocates nothing for each of them.
func TestAddingAllocatesNothing(t *testing.T) {
	p := &pages{alias: 0, types: []sqltype.Type{typ(t, "integer"), typ(t, "date"), typ(t, "text")}, seed: maphash.MakeSeed()}
	a := p.adder()
	r := record{rowid: 7, payload: append([]byte{4, 0, 33, 19}, "2025-01-31lok"...)}
	require.NoError(t, a.add(r))
	assert.Zero(t, testing.AllocsPerRun(1000, func() { a.add(r) }))
}
