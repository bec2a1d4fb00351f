package parquet

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/reading"
	"ambertray/internal/sink"
	"ambertray/internal/sqltype"
)

var ctx = context.Background()

func connected(t *testing.T, path string) *DB {
	s, err := Database.Open(ctx, db.Address{Path: path, Where: "parquet:" + path})
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s.(*DB)
}

func boats() dialect.Table {
	return dialect.Table{Name: "boats", Key: []string{"id"}, Unique: [][]string{{"name"}}, Columns: []dialect.Column{
		{Name: "id", Type: sqltype.Type{Kind: sqltype.Integer}, Required: true},
		{Name: "name", Type: sqltype.Type{Kind: sqltype.VarChar, Length: 20}}}}
}

// begun is a load with rows; a name that is empty is null.
func begun(t *testing.T, d *DB, spec db.Spec, ids []int, names ...string) (db.Load, []sink.Refusal) {
	t.Helper()
	l, err := d.Begin(ctx, spec)
	require.NoError(t, err)
	b := sink.Batch{Rows: len(ids)}
	enc := l.Encoder()
	for i, id := range ids {
		row := []reading.Value{{Int: int64(id)}, {Null: true}}
		if i < len(names) && names[i] != "" {
			row[1] = reading.Value{Text: []byte(names[i])}
		}
		b.Data = enc.Append(b.Data, row)
	}
	refused, err := l.Write(ctx, b)
	require.NoError(t, err)
	return l, refused
}

func loaded(t *testing.T, d *DB, mode db.Mode, ids ...int) {
	t.Helper()
	l, _ := begun(t, d, db.Spec{Mode: mode, Table: boats()}, ids)
	_, err := l.(db.Finisher).Finish(ctx)
	require.NoError(t, err)
	require.NoError(t, l.Commit(ctx))
	l.(db.Marked).Unmark(ctx)
}

func (d *DB) ids(t *testing.T) (out []string) {
	t.Helper()
	columns, err := d.Describe(ctx, "SELECT id FROM boats")
	require.NoError(t, err)
	require.NoError(t, d.Scan(ctx, "SELECT id FROM boats", columns, func(f [][]byte) error {
		out = append(out, string(f[0]))
		return nil
	}))
	return out
}

// copied is a folder as it is at this moment, as one that another program finds after a
// failure of power.
func copied(t *testing.T, from string) string {
	to := t.TempDir()
	require.NoError(t, os.CopyFS(to, os.DirFS(from)))
	return to
}

// Wherever a commit is cut off, the table is old or new for whoever looks, whoever comes
// next settles it, and the mark tells which it was.
func TestCommitCutAnywhere(t *testing.T) {
	for _, mode := range []db.Mode{db.Create, db.Append, db.Refill, db.Replace} {
		path := t.TempDir()
		d := connected(t, path)
		old, updated := []string(nil), []string{"7", "8"}
		if mode != db.Create {
			loaded(t, d, db.Create, 1, 2)
			old = []string{"1", "2"}
		}
		if mode == db.Append {
			updated = []string{"1", "2", "7", "8"}
		}
		x, _ := begun(t, d, db.Spec{Mode: mode, Table: boats(), FileRows: 1}, []int{7, 8})
		l := x.(*load)
		require.NoError(t, l.shut())
		mark, err := l.Mark(ctx)
		require.NoError(t, err)
		look := func(at string, want []string, outcome db.Outcome) {
			t.Helper()
			other := connected(t, at)
			found, err := other.Find(ctx, "", "boats")
			require.NoError(t, err)
			if require.Equal(t, want != nil, found != nil); found != nil {
				assert.ElementsMatch(t, want, other.ids(t))
			}
			o, err := other.Outcome(ctx, "", mark)
			require.NoError(t, err)
			assert.Equal(t, outcome, o)
			require.NoError(t, other.Close())
			// Another load, which is rolled back, leaves what was decided.
			if mode := db.Append; found != nil {
				y, _ := begun(t, other, db.Spec{Mode: mode, Table: boats()}, []int{9})
				require.NoError(t, y.Rollback())
				assert.ElementsMatch(t, want, other.ids(t))
			}
			stages, err := other.folder.stages("boats")
			require.NoError(t, err)
			if found != nil {
				assert.Empty(t, stages)
			}
			o, err = other.Outcome(ctx, "", mark)
			require.NoError(t, err)
			assert.Equal(t, outcome, o, "also when it is settled")
			other.Settled(ctx, "", mark)
			require.NoError(t, other.Close())
			marks, _ := filepath.Glob(filepath.Join(at, markName+"*"))
			assert.Empty(t, marks)
		}
		look(copied(t, path), old, db.RolledBack)
		require.NoError(t, os.WriteFile(filepath.Join(l.stage.path, "boats.sql"), []byte("new"), 0o600))
		require.NoError(t, l.stage.decide(mode, l.files))
		look(copied(t, path), updated, db.Committed)

		// The folder is moved, or its files one by one; every step may be the last.
		half := copied(t, path)
		s, rows := filepath.Join(half, filepath.Base(l.stage.path)), rowsOf
		switch mode {
		case db.Append:
			require.NoError(t, os.Rename(filepath.Join(s, rows, l.files[0]), filepath.Join(half, "boats", l.files[0])))
		case db.Refill, db.Replace:
			require.NoError(t, os.Rename(filepath.Join(half, "boats"), filepath.Join(s, oldOf)))
			look(copied(t, half), updated, db.Committed)
			fallthrough
		case db.Create, db.Merge:
			require.NoError(t, os.Rename(filepath.Join(s, rows), filepath.Join(half, "boats")))
		}
		look(half, updated, db.Committed)
		require.NoError(t, l.d.folder.settle(l.stage))
		l.done = true
		l.end()
		look(path, updated, db.Committed)
		sql, err := os.ReadFile(filepath.Join(path, "boats.sql"))
		require.NoError(t, err)
		assert.Equal(t, "new", string(sql))
	}
}

// Only one loads a table at a time; what is not the load's own is not taken away.
func TestOthersInTheFolder(t *testing.T) {
	path := t.TempDir()
	d, other := connected(t, path), connected(t, path)
	loaded(t, d, db.Create, 1, 2)
	l, _ := begun(t, d, db.Spec{Mode: db.Append, Table: boats()}, []int{3})
	_, err := other.Begin(ctx, db.Spec{Mode: db.Append, Table: boats()})
	var held *db.Held
	require.ErrorAs(t, err, &held)
	o, err := other.Outcome(ctx, "", markOf(l.(*load).stage))
	require.NoError(t, err)
	assert.Equal(t, db.Unknown, o, "it is on its way")
	assert.Equal(t, []string{"1", "2", "3"}, d.ids(t), "the session sees its own")
	assert.Equal(t, []string{"1", "2"}, other.ids(t))
	require.NoError(t, l.Rollback())

	notes := filepath.Join(path, "boats", "notes.txt")
	require.NoError(t, os.WriteFile(notes, nil, 0o600))
	_, err = other.Begin(ctx, db.Spec{Mode: db.Refill, Table: boats()})
	require.ErrorContains(t, err, "notes.txt")
	dropped, err := d.DropExactly(ctx, &db.Table{Name: "boats"}, 2)
	require.NoError(t, err)
	assert.False(t, dropped)
	require.NoError(t, os.Remove(notes))
	for rows, want := range map[int64]bool{1: false, 3: false} {
		dropped, err = d.DropExactly(ctx, &db.Table{Name: "boats"}, rows)
		require.NoError(t, err)
		assert.Equal(t, want, dropped)
	}
	dropped, err = d.DropExactly(ctx, &db.Table{Name: "boats"}, 2)
	require.NoError(t, err)
	assert.True(t, dropped)
	left, err := d.folder.tables()
	require.NoError(t, err)
	assert.Empty(t, left)

	require.NoError(t, os.MkdirAll(filepath.Join(path, "lakes", "year=2025"), 0o700))
	_, err = d.Find(ctx, "", "lakes")
	require.ErrorContains(t, err, "rows that lie in parts by value")
	require.NoError(t, os.WriteFile(filepath.Join(path, "odd.parquet"), []byte("PAR1"), 0o600))
	list, err := d.List(ctx)
	require.NoError(t, err)
	for _, x := range list {
		assert.Equal(t, "unreadable", x.Kind, x.Name)
	}
	assert.Len(t, list, 2)
	for _, name := range []string{"", "../boats", "a/b", `a\b`, ".boats", "_boats", "a:b", "boats.parquet", "boats ", "a\nb"} {
		_, err = d.Find(ctx, "", name)
		require.ErrorContains(t, err, "would be a folder of that name", name)
	}
	_, err = d.Find(ctx, "public", "boats")
	require.ErrorContains(t, err, "no schemas")
}

// Keys are checked in parts that fit into memory, beside rows that were there, and each
// row once.
func TestKeysInParts(t *testing.T) {
	defer func(n int64) { heldKeys = n }(heldKeys)
	for _, heldKeys = range []int64{1 << 21, 7, 1} {
		for _, once := range []bool{false, true} {
			d := connected(t, t.TempDir())
			table := boats()
			l, refused := begun(t, d, db.Spec{Mode: db.Create, Table: table, FileRows: 3, Once: once},
				[]int{1, 2, 3, 1, 4, 5, 5, 5, 6, 7, 8}, "a", "b", "", "c", "", "c", "b", "e", "f", "a", "e")
			more, err := l.(db.Finisher).Finish(ctx)
			require.NoError(t, err)
			refused = append(refused, more...)
			var rows []int
			for _, r := range refused {
				rows = append(rows, r.Row)
			}
			assert.Equal(t, []int{3, 6, 7, 9}, rows, "what a refused row has, the next may have: c, e")
			assert.Contains(t, refused[0].Message, "the key id is that of a row before: 1")
			assert.Contains(t, refused[1].Message, "the key id is that of a row before: 5")
			require.NoError(t, l.Commit(ctx))
			assert.Len(t, d.ids(t), 11-len(rows))

			l, refused = begun(t, d, db.Spec{Mode: db.Append, Table: table}, []int{9, 4, 10}, "a", "x", "y")
			more, err = l.(db.Finisher).Finish(ctx)
			require.NoError(t, err)
			assert.Len(t, append(refused, more...), 2, "beside the rows that were there")
			require.NoError(t, l.Rollback())
		}
	}
}

// What is no SELECT of a table is refused, and not misread.
func TestQueries(t *testing.T) {
	d := connected(t, t.TempDir())
	for query, want := range map[string]string{
		"SELECT a FROM t":                           "[a] t",
		"select a ,b,  c\nfrom t":                   "[a b c] t",
		`SELECT "a b", "c""d", "from" FROM "my, t"`: `[a b c"d from] my, t`,
		"SELECT * FROM t":                           "[] t",
	} {
		names, table, err := d.parse(query)
		require.NoError(t, err, query)
		assert.Equal(t, want, fmt.Sprint(names, " ", table), query)
	}
	for _, query := range []string{"", "SELECT", "SELECT a", "SELECT FROM t", "SELECT a, FROM t", "SELECT a b FROM t",
		"SELECT a FROM t WHERE a", "SELECT a FROM t, u", "SELECT count(*) FROM t", "SELECT a FROM s.t", "DELETE FROM t x",
		"SELECT a, * FROM t", "SELECT a FROM t;", "SELECT a FROM t LIMIT 1", "SELECT 'a' FROM t", "SELECT a FROM (t)"} {
		_, _, err := d.parse(query)
		require.Error(t, err, query)
	}
}
