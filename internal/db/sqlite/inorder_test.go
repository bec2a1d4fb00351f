package sqlite

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/sink"
	"ambertray/internal/sqltype"
)

// keysInRuns are keys as files have them: they go up by one, and then something happens. With the
// highest there can be, there is none without a key: SQLite would give it any.
func keysInRuns(r *rand.Rand, n int, high bool) (keys []string) {
	for at := int64(r.IntN(40)) - 20; len(keys) < n; {
		for range r.IntN(60) {
			keys = append(keys, fmt.Sprint(at))
			at++
		}
		switch k := r.IntN(12); {
		case k == 0:
			at -= int64(r.IntN(100)) // some stand twice
		case k == 1 && !high:
			keys = append(keys, "<null>")
		case k == 1:
			at = 9_223_372_036_854_775_700
			for range 120 {
				keys = append(keys, fmt.Sprint(at))
				at = at&0x7fffffffffffffff + 1
			}
			at = int64(r.IntN(1000))
		default:
			at += 1 + int64(r.IntN(5))
		}
	}
	return keys[:n]
}

// Rows that are sent without their keys have them afterwards, whatever else is in the table, and the
// same are refused.
func TestKeysInOrder(t *testing.T) {
	r := rand.New(rand.NewPCG(12, 5))
	for _, def := range []struct {
		ordered bool
		sql     string
	}{
		{true, "CREATE TABLE t (a INTEGER PRIMARY KEY, b TEXT NOT NULL, CHECK (b <> 'x7'))"},
		{true, "CREATE TABLE t (b TEXT, A INTEGER NOT NULL, CHECK (a % 50 <> 3), PRIMARY KEY (a))"},
		{true, "CREATE TABLE t (a INTEGER PRIMARY KEY, b TEXT, UNIQUE (a, b) ON CONFLICT IGNORE); INSERT INTO t VALUES (5, 'five'), (60, 'x')"},
		{true, "CREATE TABLE t (a INTEGER PRIMARY KEY, b TEXT, c AS (a * 2)); CREATE INDEX i ON t (b, a); INSERT INTO t VALUES (-30, '')"},
		{true, "CREATE TABLE o (x TEXT PRIMARY KEY); INSERT INTO o VALUES ('x1'), ('x2'), ('x3'), ('x4'); " +
			"CREATE TABLE t (a INTEGER PRIMARY KEY, b TEXT REFERENCES o); PRAGMA foreign_keys = on"},
		{false, "CREATE TABLE t (a INTEGER PRIMARY KEY AUTOINCREMENT, b TEXT)"},
		{false, "CREATE TABLE t (a INTEGER PRIMARY KEY DESC, b TEXT)"},
		{false, "CREATE TABLE t (a INTEGER PRIMARY KEY, b TEXT) WITHOUT ROWID"},
		{false, "CREATE TABLE t (a INT PRIMARY KEY, b TEXT)"},
		{false, "CREATE TABLE t (a INTEGER, b TEXT, PRIMARY KEY (a, b))"},
	} {
		left := 0
		for round := range 12 {
			var batches [][][]string
			keys := keysInRuns(r, 900, round%2 > 0)
			for range 3 {
				var rows [][]string
				for _, key := range keys[:300] {
					b := fmt.Sprint("x", 1+r.IntN(4))
					if r.IntN(60) == 0 {
						b = []string{"<null>", "x7", "x5"}[r.IntN(3)]
					}
					rows = append(rows, []string{key, b})
				}
				batches, keys = append(batches, rows), keys[300:]
			}
			var refused [2][]sink.Refusal
			var content [2][][]*string
			for k := range 2 {
				d, _ := open(t)
				for _, sql := range strings.Split(def.sql, "; ") {
					require.NoError(t, d.c.exec(sql))
				}
				x := dialect.Table{Name: "t", Columns: []dialect.Column{{Name: "a", Type: typ(t, "bigint")}, {Name: "b", Type: sqltype.Type{Kind: sqltype.Text}}}}
				made, err := d.Begin(context.Background(), db.Spec{Mode: db.Append, Table: x})
				require.NoError(t, err)
				l := made.(*load)
				require.Equal(t, def.ordered, l.ordered.put != nil, def.sql)
				if k == 1 {
					l.bulk.close()
					l.bulk = nil
				}
				for _, rows := range batches {
					refused[k] = append(refused[k], write(t, l, x, rows...)...)
				}
				left += l.ordered.rows
				require.NoError(t, l.Commit(context.Background()))
				content[k], err = d.Head(context.Background(), "", "t", 10_000)
				require.NoError(t, err)
			}
			require.Equal(t, refused[1], refused[0], def.sql)
			require.Equal(t, content[1], content[0], def.sql)
		}
		assert.Equal(t, def.ordered, left > 500, "%s: %d rows", def.sql, left)
	}
}
