package sqlite

import (
	"cmp"
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
)

// What is found by going through stage and table side by side is what SQLite finds by itself: in tables whose
// columns have another order, are generated, or were added later, with texts longer than a page, numbers below 0, and
// texts that the table takes for the same.
func TestFoundBesideIsFoundBySQLite(t *testing.T) {
	ctx := context.Background()
	rng := rand.New(rand.NewPCG(5, 3))
	for round := range 40 {
		d, _ := open(t)
		rows := rng.IntN(400)
		texts := func(n, other int) []string {
			k := 60 + n
			note := []string{"", "Heron", "heron", strings.Repeat("sluice ", k%1500), "Zoë", "<null>"}[k%6]
			r := []string{fmt.Sprint(k % 3), fmt.Sprint(n), note, fmt.Sprintf("%d.%02d", k%90, k%100), fmt.Sprint(k % 7), []string{"x", "<null>", "y"}[k%3]}
			switch other { // one value is another, of the same length
			case 1:
				r[3] = fmt.Sprintf("%d.%02d", k%90, (k+1)%100)
			case 2:
				r[2] = strings.Map(func(c rune) rune { return cmp.Or(map[rune]rune{'s': 't', 'h': 'H', 'Z': 'S'}[c], c) }, note)
			case 3:
				r[5] = map[string]string{"x": "y", "y": "<null>", "<null>": ""}[r[5]]
			}
			return r
		}
		x := dialect.Table{Name: "passages"}
		for i, c := range []string{"side smallint", "id bigint", "note text", "toll decimal(8,2)", "ratio double precision", "late text"} {
			name, kind, _ := strings.Cut(c, " ")
			x.Columns = append(x.Columns, dialect.Column{Name: name, Type: typ(t, kind), Required: i == 1})
		}
		made := "CREATE TABLE passages (note TEXT COLLATE NOCASE, kept TEXT DEFAULT 'k', %s id INTEGER PRIMARY KEY, ratio DOUBLE, toll DECIMAL(8,2), side SMALLINT)"
		require.NoError(t, d.c.exec(fmt.Sprintf(made, []string{"", "twice INT AS (side * 2) VIRTUAL,", "twice INT AS (side * 2) STORED,"}[round%3])))
		fill := func(late string, from, to int) {
			for n := from; n < to; n++ {
				r := texts(n*3-50, 0)
				require.NoError(t, d.c.exec(fmt.Sprintf("INSERT INTO passages (side, id, note, toll, ratio%s) VALUES (%s, %s, nullif('%s', '<null>'), %s, %s%s)",
					late, r[0], r[1], r[2], r[3], r[4], map[bool]string{true: ", nullif('" + r[5] + "', '<null>')"}[late != ""])))
			}
		}
		require.NoError(t, d.c.exec("BEGIN"))
		fill("", 0, rows/2)
		require.NoError(t, d.c.exec("ALTER TABLE passages ADD COLUMN late TEXT DEFAULT 'x'"))
		fill(", late", rows/2, rows)
		require.NoError(t, d.c.exec("COMMIT"))

		found, err := d.Find(ctx, "", "passages")
		require.NoError(t, err)
		m := &dialect.Merge{Dialect: Dialect, Table: Dialect.Quote("passages"), Columns: x.Columns, Key: []string{"id"}}
		for _, c := range found.Columns {
			m.All = append(m.All, c.Name)
		}
		stage, err := d.Stage(ctx, found, m)
		require.NoError(t, err)
		into := x
		into.Schema, into.Name = stage.Schema, stage.Name
		l, err := d.Begin(ctx, db.Spec{Mode: db.Append, Table: into, Stage: &db.Staged{Stage: stage, Target: found}})
		require.NoError(t, err)
		for i := rng.IntN(40); i < rows+20; i++ {
			n, other := i*3-50, 0
			switch rng.IntN(24) {
			case 0:
				n++ // it is new
			case 1:
				other = 1 + rng.IntN(3)
			}
			require.Empty(t, write(t, l, into, texts(n, other)))
		}
		require.NoError(t, d.Ready(ctx, m))
		onlyNew := round%4 == 3
		c, err := d.beside(ctx, m, onlyNew)
		require.NoError(t, err)
		require.NotNil(t, c)
		require.NoError(t, c.run(ctx))
		c.close()
		changes := func() []string {
			list, err := d.questions().Rows(ctx, "", "SELECT * FROM "+m.Changes+" ORDER BY 1")
			require.NoError(t, err)
			var out []string
			for _, r := range list {
				line := ""
				for _, v := range r {
					if v == nil {
						line += "|null"
					} else {
						line += "|" + *v
					}
				}
				out = append(out, line)
			}
			return out
		}
		is := changes()
		require.NoError(t, d.c.exec("DELETE FROM "+m.Changes))
		require.NoError(t, d.c.exec(m.Find(onlyNew)))
		assert.Equal(t, changes(), is, "round %d", round)
		// Rows of the table are found in the stage, by an index, all the same.
		require.NoError(t, d.Seek(ctx, m))
		assert.True(t, d.staged.unique)
		require.NoError(t, l.Rollback())
	}
}

// Keys that do not grow, or stand twice, are left to SQLite.
func TestKeysInNoOrder(t *testing.T) {
	ctx := context.Background()
	for keys, is := range map[string]bool{"1 2 9": true, "-3 0 4": true, "": true, "1 1": false, "2 1": false, "5 6 4 7": false} {
		d, _ := open(t)
		x := table(t, "t", "bigint", "text")
		require.NoError(t, d.c.exec("CREATE TABLE t (a INTEGER PRIMARY KEY, b TEXT)"))
		found, err := d.Find(ctx, "", "t")
		require.NoError(t, err)
		m := &dialect.Merge{Dialect: Dialect, Table: "t", Columns: x.Columns, All: []string{"a", "b"}, Key: []string{"a"}}
		stage, err := d.Stage(ctx, found, m)
		require.NoError(t, err)
		x.Schema, x.Name = stage.Schema, stage.Name
		l, err := d.Begin(ctx, db.Spec{Mode: db.Append, Table: x, Stage: &db.Staged{Stage: stage, Target: found}})
		require.NoError(t, err)
		for _, k := range strings.Fields(keys) {
			require.Empty(t, write(t, l, x, []string{k, "gate"}))
		}
		require.NoError(t, d.Ready(ctx, m))
		assert.Equal(t, !is, d.staged.indexed, keys)
		assert.Equal(t, keys != "1 1", m.Apart, keys)
		require.NoError(t, db.FindChanges(ctx, d, m, false))
		n, err := d.questions().Number(ctx, "", "SELECT count(*) FROM "+m.Changes)
		require.NoError(t, err)
		assert.Equal(t, int64(len(strings.Fields(keys))), n)
		require.NoError(t, l.Rollback())
	}
}
