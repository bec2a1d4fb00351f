package cli_test

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A folder fills; each night the same command loads the files that are not in yet, and
// says in one line what it did.
func TestFolderThatFills(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		file := func(n int) {
			b.write(fmt.Sprintf("g%d.csv", n), fmt.Sprintf("gauge,level\n%d,1.50\n%d,2.50\n", 10*n+1, 10*n+2))
		}
		file(1)
		b.run(0, "plan", "g1.csv", "-o", "one.yaml", "--table", "gauges", "--key", "none")
		plan := strings.Replace(b.read("one.yaml"), "file: g1.csv", "file: g*.csv", 1)
		b.write("g.yaml", plan)
		assert.Contains(t, b.run(0, "load", "g.yaml", "g1.csv", "--into", s.url, "-q").out, "gauges: 2 records read from g1.csv: 2 loaded; 2 rows; clear; tray")
		nightly := []string{"load", "g.yaml", "--into", s.url, "--mode", "append", "-q"}
		count := func() string { return queryRows(t, s.db, "SELECT "+s.text("count(*)")+" FROM gauges")[0][0] }

		r := b.run(0, nightly...)
		assert.Contains(t, r.out, "gauges: nothing new; g1.csv is in the table already\n")
		assert.Empty(t, r.err)
		file(2)
		file(3)
		r = b.run(0, nightly...)
		assert.Contains(t, r.out, "gauges: 4 records read from g2.csv and 1 other file: 4 loaded; 6 rows; clear; ")
		assert.Equal(t, 1, strings.Count(r.out+r.err, "\n"))
		assert.Contains(t, b.read(filepath.Join("tray", lastEntry(t, b), "load.log")), `msg="in the table already" files=[g1.csv]`)
		assert.Equal(t, "6", count())
		assert.Equal(t, "nothing-new 1", b.document(0, append(nightly, "--json")...)["document"])
		// A file that is named is not passed over.
		assert.Contains(t, b.run(2, "load", "g.yaml", "g2.csv", "--into", s.url, "--mode", "append").err, "already, by the entry")

		b.write("g.yaml", plan+"expect:\n  at_least: 2\n  at_most: 3\n  files: 1\n  filled: [gauge]\n  rejects: 1%\n")
		assert.Contains(t, b.run(2, nightly...).err, "no file is new, and at least 1 are expected")
		for text, want := range map[string]string{
			"gauge,level\n7,1.00\n":                          "1 record, and at least 2 are expected",
			"gauge,level\n7,1.00\n8,1.00\n9,1.00\n10,1.00\n": "4 records, and at most 3 are expected",
			"gauge,level\n7,1.00\n,1.00\n":                   "gauge is null in 1 record, and is expected to be filled",
		} {
			b.write("g4.csv", text)
			assert.Contains(t, b.run(2, nightly...).err, want)
			assert.Equal(t, "6", count(), want)
		}
		b.write("g4.csv", "gauge,level\n7,1.00\n8,one\n")
		b.write("t.yaml", b.read("g.yaml")+"tolerate: 50%\n")
		assert.Contains(t, b.run(2, "load", "t.yaml", "--into", s.url, "--mode", "append", "-q").err, "1 of 2 records are rejected, and at most 1% are expected")
		b.run(2, "load", "g.yaml", "g4.csv", "--into", s.url, "--table", "other", "--accept-changes", "--dry-run")
		b.write("g4.csv", "gauge,level\n7,1.00\n8,2.00\n")
		b.run(0, nightly...)
		assert.Equal(t, "8", count())
		for _, wrong := range []string{"filled: [nobody]", "rejects: many", "at_least: 5\n  at_most: 4"} {
			b.write("w.yaml", plan+"expect:\n  "+wrong+"\n")
			r := b.run(2, "load", "w.yaml", "--into", s.url, "--mode", "append")
			require.Contains(t, r.err, "expect: ", wrong)
			assert.Contains(t, r.err, "w.yaml: line ")
		}
	})
}

// A condition of the plan rejects a record with words of its own, or counts it.
func TestRules(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		b.write("c.csv", "id,toll,length\n1,2.50,10\n2,-3.00,20\n3,,150\n4,5.00,120\n5,x,130\n")
		b.run(0, "plan", "c.csv", "-o", "c.yaml", "--table", "tolls", "--type", "toll=decimal(6,2)", "--tolerate", "20%", "--require", "length")
		plan := b.read("c.yaml")
		b.write("c.yaml", plan+"check:\n  - if: toll == nil or toll >= 0\n    say: a toll cannot be negative\n  - if: length < 100\n    say: longer than the longest lock\n    rule: caution\n")
		rec := b.loaded(3, "c.yaml", "--into", s.url)
		assert.EqualValues(t, []int64{5, 3, 2}, []int64{rec.Records.Read, rec.Records.Loaded, rec.Records.Rejected})
		rows := b.rejects(rec.Entry)
		assert.Equal(t, []string{"check", "a toll cannot be negative", ""}, rows[1][5:8])
		assert.Equal(t, "not-a-number", rows[2][5], "a value that does not fit is told before")
		last := rec.Cautions[len(rec.Cautions)-1]
		assert.Equal(t, "2 records: longer than the longest lock", last.Text)
		assert.EqualValues(t, 4, last.Examples[0].Line)
		b.write("fixed.csv", strings.Replace(b.read(filepath.Join("tray", rec.Entry, "rejects.csv")), ",-3.00,20", ",3.00,20", 1))
		b.run(3, "mend", rec.Entry, "fixed.csv")
		assert.Contains(t, b.run(2, "load", "c.yaml", "--into", s.url, "--table", "other", "--strict").err, "caution  2 records: longer than the longest lock")
		assert.NotContains(t, s.tables(t), "other")
		for _, wrong := range []string{"- if: toll >", "- if: toll == nil", "- if: nobody > 1\n    say: x", "- if: toll == nil\n    say: x\n    rule: burn", "- if: length + 1\n    say: x"} {
			b.write("w.yaml", plan+"check:\n  "+wrong+"\n")
			assert.Contains(t, b.run(2, "load", "w.yaml", "--into", s.url).err, "w.yaml: line ", wrong)
		}
	})
}

// Keys, references and indexes of a plan are made with a new table, and what breaks them is
// rejected.
func TestConstraints(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		b.write("boats.csv", "permit,name\n0012,Grey Heron\n0044,Kestrel\n")
		b.run(0, "load", "boats.csv", "--into", s.url, "--key", "permit")
		b.write("p.csv", "id,permit,place,day\n1,0012,Top,2024-01-01\n2,0044,Top,2024-01-02\n3,9999,Top,2024-01-03\n4,0012,Top,2024-01-01\n5,,Top,2024-01-05\n")
		b.run(0, "plan", "p.csv", "-o", "p.yaml", "--table", "passages", "--key", "id", "--type", "permit=char(4)")
		if s.name == "sqlserver" { // a column that refers to another has to be of its type there
			b.run(0, "plan", "p.csv", "-o", "p.yaml", "--table", "passages", "--key", "id", "--type", "permit=varchar(5)", "--yes")
		}
		plan := b.read("p.yaml")
		with := func(what string) string { return strings.Replace(plan, "columns:\n", what+"columns:\n", 1) }
		b.write("p.yaml", with("  unique: [[permit, day]]\n  index: [[place], [day, place]]\n  references:\n    - columns: [permit]\n      table: boats\n      to: [permit]\n"))
		for _, mode := range []string{"create", "replace"} {
			r := b.run(3, "load", "p.yaml", "--into", s.url, "--mode", mode, "--yes", "--max-rejects", "none", "--json")
			require.Contains(t, r.out, `"loaded": 3`, r.out)
			assert.Equal(t, [][]string{{"1"}, {"2"}, {"5"}}, queryRows(t, s.db, "SELECT "+s.text("id")+" FROM passages ORDER BY id"))
			_, err := s.db.Exec("INSERT INTO passages (id, permit) VALUES (9, '7777')")
			if s.name != "sqlite" { // which heeds keys only where a program asks for it
				require.Error(t, err)
			} else {
				s.exec(t, "DELETE FROM passages WHERE id = 9")
			}
			_, err = s.db.Exec("INSERT INTO passages (id, permit, day) VALUES (9, '0012', '2024-01-01')")
			require.Error(t, err)
		}
		index := map[string]string{"sqlite": "SELECT count(*) || '' FROM pragma_index_list('passages') WHERE origin = 'c'",
			"postgres":  "SELECT count(*)::text FROM pg_indexes WHERE tablename = 'passages' AND indexname LIKE '%_idx'",
			"mysql":     "SELECT cast(count(DISTINCT index_name) AS char) FROM information_schema.statistics WHERE table_schema = database() AND table_name = 'passages' AND index_name IN ('place', 'day')",
			"sqlserver": "SELECT CONVERT(varchar(9), count(*)) FROM sys.indexes WHERE name LIKE 'passages%idx'",
			"oracle":    "SELECT count(*) FROM user_indexes WHERE index_name LIKE 'PASSAGES%IDX'"}[s.name]
		assert.Equal(t, [][]string{{"2"}}, queryRows(t, s.db, index))
		for _, wrong := range []string{"  unique: [[nobody]]\n", "  index: [[]]\n", "  references:\n    - columns: [permit]\n      table: boats\n      to: []\n"} {
			b.write("w.yaml", with(wrong))
			assert.Contains(t, b.run(2, "ddl", "w.yaml", "--for", "oracle").err, "w.yaml: line ", wrong)
		}
	})
}
