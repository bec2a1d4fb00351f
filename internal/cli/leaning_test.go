package cli_test

import (
	"database/sql"
	"errors"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A list of gauges, and readings that refer to it by a key of a rule.
func (b *bench) gaugesWith(s server, rule string) {
	b.t.Helper()
	b.write("gauges.csv", "gauge,lock\n1,Old Basin\n2,Withy Cut\n3,Harrow Top\n")
	b.loaded(0, "gauges.csv", "--into", s.url, "--key", "gauge", "--yes")
	ddl := "CREATE TABLE readings (id integer PRIMARY KEY, gauge integer, CONSTRAINT to_gauge FOREIGN KEY (gauge) REFERENCES gauges (gauge)" + rule + ")"
	for _, sql := range []string{ddl, "INSERT INTO readings VALUES (10, 1), (20, 2), (21, 2), (30, NULL)"} {
		s.exec(b.t, sql)
	}
}

func (s server) leaning(t *testing.T) [][]string {
	return queryRows(t, s.db, "SELECT "+s.text("id")+", "+s.text("gauge")+" FROM readings ORDER BY id")
}

func (s server) many(t *testing.T, table string) int {
	return len(queryRows(t, s.db, "SELECT "+s.text("gauge")+" FROM "+table))
}

// A merge deletes no row that another table refers to, whatever the rule of that key would do
// with it: the rows of the other table are in no account.
func TestMergeLeavesOthersAlone(t *testing.T) {
	for name, rule := range map[string]string{"restrict": "", "cascade": " ON DELETE CASCADE", "null": " ON DELETE SET NULL"} {
		t.Run(name, func(t *testing.T) {
			onMergers(t, func(t *testing.T, b *bench, s server) {
				b.gaugesWith(s, rule)
				before := s.leaning(t)
				require.Len(t, before, 4)
				b.write("new.csv", "gauge,lock\n1,Old Basin\n3,Harrow Top Lock\n")
				merge := []string{"load", "new.csv", "--into", s.url, "--table", "gauges", "--mode", "merge", "--missing", "delete", "--yes"}
				for _, args := range [][]string{append(merge, "--dry-run"), merge} {
					r := b.run(1, args...)
					assert.Contains(t, r.err, "readings (gauge)")
					assert.Contains(t, r.err, "refers to '2', which the file does not have; nothing was changed")
				}
				assert.Equal(t, before, s.leaning(t))
				assert.Equal(t, 3, s.many(t, "gauges"))

				// A row that nothing refers to goes.
				b.write("new.csv", "gauge,lock\n1,Old Basin\n2,Withy Cut\n")
				b.run(0, merge...)
				assert.Equal(t, 2, s.many(t, "gauges"))
				assert.Equal(t, before, s.leaning(t))
			})
		})
	}
}

// Nor does undo, when rows have come to refer to those of the load.
func TestUndoLeavesOthersAlone(t *testing.T) {
	for name, rule := range map[string]string{"restrict": "", "cascade": " ON DELETE CASCADE", "null": " ON DELETE SET NULL"} {
		t.Run(name, func(t *testing.T) {
			onMergers(t, func(t *testing.T, b *bench, s server) {
				b.gaugesWith(s, rule)
				b.write("more.csv", "gauge,lock\n4,Nether Lock\n5,Quarry Lock\n")
				entry := b.loaded(0, "more.csv", "--into", s.url, "--table", "gauges", "--mode", "append", "--yes").Entry
				s.exec(t, "INSERT INTO readings VALUES (50, 5)")
				before := s.leaning(t)
				b.run(1, "undo", entry, "--yes")
				assert.Equal(t, before, s.leaning(t))
				assert.Equal(t, 5, s.many(t, "gauges"))

				s.exec(t, "DELETE FROM readings WHERE id = 50")
				b.run(0, "undo", entry, "--yes")
				assert.Equal(t, 3, s.many(t, "gauges"))
			})
		})
	}
}

// Nor where the old rows are put back in the place of those of a refill.
func TestGiveBackLeavesOthersAlone(t *testing.T) {
	onMergers(t, func(t *testing.T, b *bench, s server) {
		b.gaugesWith(s, " ON DELETE CASCADE")
		before := s.leaning(t)
		b.write("new.csv", "gauge,lock\n1,Old Basin\n2,Withy Cut\n9,Mere Bridge\n")
		refill := []string{"new.csv", "--into", s.url, "--table", "gauges", "--mode", "refill", "--keep-old", "--yes"}
		if s.name == "oracle" { // where a table is not emptied to which others refer
			assert.Contains(t, b.run(1, append([]string{"load"}, refill...)...).err, "rows of readings (gauge) ON DELETE CASCADE refer to it")
			assert.Equal(t, before, s.leaning(t))
			assert.NotContains(t, strings.Join(s.tables(t), " "), "ambertray_old", "nothing was kept, and nothing is left")
			return
		}
		entry := b.loaded(0, refill...).Entry
		assert.Equal(t, before, s.leaning(t))
		b.run(1, "undo", entry, "--yes")
		assert.Equal(t, before, s.leaning(t), "the rule took the rows with it")
		assert.Equal(t, 3, s.many(t, "gauges"))
	})
}

// A key that refers to a column which is not unique is none that SQLite checks; rows are added
// to such a table all the same.
func TestAppendBesideAWrongKey(t *testing.T) {
	b := newBench(t)
	b.write("gauges.csv", "gauge,lock\n1,Old Basin\n2,Withy Cut\n")
	b.loaded(0, "gauges.csv", "--into", "sqlite:c.db", "--key", "none", "--yes")
	c, err := sql.Open("sqlite", filepath.Join(b.dir, "c.db"))
	require.NoError(t, err)
	_, err = c.Exec("CREATE TABLE readings (id integer PRIMARY KEY, gauge integer REFERENCES gauges (gauge))")
	require.NoError(t, errors.Join(err, c.Close()))
	b.write("more.csv", "gauge,lock\n3,Harrow Top\n4,Nether Lock\n")
	b.loaded(0, "more.csv", "--into", "sqlite:c.db", "--table", "gauges", "--mode", "append", "--yes")
	assert.Len(t, b.query("c.db", "SELECT * FROM gauges"), 4)
}
