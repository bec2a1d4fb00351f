package sqlite

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/db"
	"ambertray/internal/sink"
)

// Rows that refer to nothing are refused by themselves, however many rows go in
// by one statement, and whether or not other programs ask for that.
func TestForeignKeys(t *testing.T) {
	ctx := context.Background()
	rows := func(bad ...int) (texts [][]string) {
		for i := range 300 {
			lock := fmt.Sprint(i % 3)
			for _, b := range bad {
				if i == b {
					lock = "99"
				}
			}
			texts = append(texts, []string{fmt.Sprint(i), lock})
		}
		return
	}
	numbers := func(refused []sink.Refusal) (list []int) {
		for _, r := range refused {
			list = append(list, r.Row)
		}
		return
	}
	count := func(d *DB) int64 {
		n, err := d.Count(context.Background(), &db.Table{Name: "passages"})
		require.NoError(t, err)
		return n
	}
	for _, c := range []struct {
		name    string
		mode    db.Mode
		setup   []string
		refused []int
		rows    int64 // in the end
		commit  string
	}{
		{"append", db.Append, []string{"CREATE TABLE passages (a int PRIMARY KEY, b int REFERENCES locks)"}, []int{7, 200}, 298, ""},
		{"append with a trigger", db.Append, []string{"CREATE TABLE passages (a int PRIMARY KEY, b int REFERENCES locks)",
			"CREATE TRIGGER x AFTER INSERT ON passages BEGIN SELECT 1; END"}, []int{7, 200}, 298, ""},
		{"append, deferred", db.Append, []string{"CREATE TABLE passages (a int PRIMARY KEY, b int REFERENCES locks DEFERRABLE INITIALLY DEFERRED)"}, nil, 0, "deferred foreign key is broken"},
		{"append without", db.Append, []string{"CREATE TABLE passages (a int PRIMARY KEY, b int)"}, nil, 300, ""},
		{"refill", db.Refill, []string{"CREATE TABLE passages (a int PRIMARY KEY, b int REFERENCES locks)", "INSERT INTO passages VALUES (5000, 1)"}, []int{7, 200}, 298, ""},
		{"refill of what others refer to", db.Refill, []string{"CREATE TABLE passages (a int PRIMARY KEY, b int REFERENCES locks)", "INSERT INTO passages VALUES (5, 1)",
			"CREATE TABLE tolls (passage int REFERENCES PASSAGES)", "INSERT INTO tolls VALUES (5)"}, nil, 300, ""},
		{"refill of what refers to itself", db.Refill, []string{"CREATE TABLE passages (a int PRIMARY KEY, b int REFERENCES Passages)", "INSERT INTO passages VALUES (5, 5)"}, nil, 300, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			d, _ := open(t)
			for _, sql := range append([]string{"CREATE TABLE locks (code int PRIMARY KEY)", "INSERT INTO locks VALUES (0), (1), (2)"}, c.setup...) {
				require.NoError(t, d.c.exec(sql), sql)
			}
			x := table(t, "passages", "integer", "integer")
			l, err := d.Begin(ctx, db.Spec{Mode: c.mode, Table: x})
			require.NoError(t, err)
			refused := write(t, l, x, rows(7, 200)...)
			assert.Equal(t, c.refused, numbers(refused))
			for _, r := range refused {
				assert.Contains(t, r.Message, "FOREIGN KEY constraint failed")
			}
			err = l.Commit(ctx)
			if c.commit != "" {
				require.ErrorContains(t, err, c.commit)
				require.NoError(t, l.Rollback())
			} else {
				require.NoError(t, err)
			}
			assert.Equal(t, c.rows, count(d))
			// A table of our own is not held up by what was asked for before.
			l, err = d.Begin(ctx, db.Spec{Mode: db.Replace, Table: x})
			require.NoError(t, err)
			assert.Empty(t, write(t, l, x, rows(7)...))
			require.NoError(t, l.Commit(ctx))
			assert.EqualValues(t, 300, count(d))
		})
	}
}
