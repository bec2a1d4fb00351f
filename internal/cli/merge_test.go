package cli_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/db"
	"ambertray/internal/desk"
	"ambertray/internal/load"
	"ambertray/internal/tray"
)

// onMergers runs a test on each database that can be merged into.
func onMergers(t *testing.T, test func(t *testing.T, b *bench, s server)) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		test(t, b, s)
	})
}

// onRefitters runs a test on each database whose tables can get another definition.
func onRefitters(t *testing.T, test func(t *testing.T, b *bench, s server)) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		if s.name == "sqlserver" || s.name == "oracle" {
			b.write("a.csv", "id,toll\n1,2.50\n")
			b.run(0, "plan", "a.csv", "-o", "a.yaml", "--table", "tolls")
			entry := b.loaded(0, "a.yaml", "--into", s.url, "--yes").Entry
			b.write("b.yaml", strings.Replace(b.read("a.yaml"), ",2)", ",3)", 1))
			assert.Contains(t, b.run(2, "refit", entry, "b.yaml", "--into", s.url, "--yes").err, "yet")
			return
		}
		test(t, b, s)
	})
}

const boats = `permit,name,length,owner
0012,Grey Heron,17.50,"Ann, Lock"
0044,Kestrel,12.00,
0071,Old Tom,21.25,Bram
0105,Willow,9.75,""
`

func (s server) boats(t *testing.T, table string) [][]string {
	return queryRows(t, s.db, "SELECT permit, name, "+s.text("length")+", owner FROM "+table+" x ORDER BY permit")
}

// makeBoats makes the register of boats, with what a definition of people's own has.
func (s server) makeBoats(t *testing.T) {
	s.exec(t, "CREATE TABLE boats (permit varchar(5) NOT NULL PRIMARY KEY, name varchar(20), length decimal(6,2) "+
		"CHECK (length < 100), owner varchar(20), seen varchar(10) DEFAULT 'no', gone varchar(20))",
		"INSERT INTO boats (permit, name, length, owner, seen) VALUES ('0012', 'Grey Heron', 17.5, 'Ann, Lock', 'yes'), "+
			"('0044', 'Kestrel', 12, NULL, 'yes'), ('0071', 'Old Tom', 21.25, 'Bram', 'yes'), ('0105', 'Willow', 9.75, '', 'yes')")
}

func (b *bench) merged(code int, args ...string) *tray.Receipt {
	b.t.Helper()
	rec := b.loaded(code, args...)
	require.NotNil(b.t, rec.Merge)
	assert.Equal(b.t, rec.Records.Read, rec.Merge.Inserted+rec.Merge.Changed+rec.Records.Rejected+rec.Records.Skipped+
		map[bool]int64{false: rec.Merge.Unchanged}[rec.Merge.OnlyNew])
	return &rec
}

func TestMerge(t *testing.T) {
	onMergers(t, func(t *testing.T, b *bench, s server) {
		s.makeBoats(t)
		were := s.boats(t, "boats")
		b.write("a.csv", "permit,name,length,owner\n0012,Grey Heron,18.50,\"Ann, Lock\"\n0044,kestrel,12.00,Cilla\n0105,Willow,9.75,\"\"\n0200,Newt,7.25,Dov\n")
		args := []string{"a.csv", "--into", s.url, "--table", "boats", "--keep-empty", "quoted", "--yes"}

		var would desk.MergeAnswer
		r := b.run(0, append([]string{"load", "--json", "--mode", "merge", "--dry-run"}, args...)...)
		require.NoError(t, json.Unmarshal([]byte(r.out), &would))
		assert.Equal(t, were, s.boats(t, "boats"), "a dry run changes nothing")
		assert.EqualValues(t, []int64{1, 2, 1, 4, 5}, []int64{would.Merge.Inserted, would.Merge.Changed, would.Merge.Unchanged, would.Before, would.After})
		require.Len(t, would.Changed, 2)
		assert.Equal(t, "0012", load.KeyOf(would.Changed[0].Key))
		assert.Equal(t, "0200", load.KeyOf(would.New[0]))
		assert.Equal(t, "17.50 18.50", trailing(*would.Changed[0].Columns[0].Old)+" "+trailing(*would.Changed[0].Columns[0].New))
		assert.Len(t, would.Changed[1].Columns, 2, "a name whose letters change their case changes")
		assert.Nil(t, would.Changed[1].Columns[1].Old)

		rec := b.merged(0, append(args, "--mode", "merge")...)
		assert.Equal(t, tray.Merge{Key: []string{"permit"}, Inserted: 1, Changed: 2, Unchanged: 1, Rule: tray.MissingKept, Before: true,
			Columns: []tray.ChangedColumn{{Name: "name", Changed: 1}, {Name: "length", Changed: 1}, {Name: "owner", Changed: 1}}}, *rec.Merge)
		assert.Equal(t, []int64{4, 5}, []int64{rec.Table.Before, rec.Table.Rows})
		is := s.boats(t, "boats")
		assert.Equal(t, []string{"0044", "kestrel", were[1][2], "Cilla"}, is[1])
		assert.Equal(t, were[2:4], is[2:4], "others stay")
		assert.Equal(t, [][]string{{"yes"}, {"yes"}, {"yes"}, {"yes"}, {"no"}}, queryRows(t, s.db, "SELECT seen FROM boats ORDER BY permit"),
			"what the file has no column for stays, and is the default in a new row")
		before := b.read(filepath.Join("tray", rec.Entry, "before.csv"))
		assert.Contains(t, before, "changed,0044,Kestrel,")
		assert.Contains(t, before, "inserted,0200,,")
		b.run(0, "verify", rec.Entry)
		b.run(0, "verify", rec.Entry, "--deep")

		rec = b.merged(0, append(args, "--mode", "merge")...)
		assert.EqualValues(t, []int64{0, 0, 4}, []int64{rec.Merge.Inserted, rec.Merge.Changed, rec.Merge.Unchanged}, "again, it changes nothing")
		assert.Equal(t, is, s.boats(t, "boats"))

		rec = b.merged(0, append(args, "--mode", "merge", "--missing", "delete", "--prove")...)
		assert.EqualValues(t, []int64{1, 5, 4}, []int64{rec.Merge.Missing, rec.Table.Before, rec.Table.Rows})
		assert.True(t, rec.Table.Proved)
		assert.Equal(t, "0105", s.boats(t, "boats")[2][0])
		assert.Contains(t, b.read(filepath.Join("tray", rec.Entry, "before.csv")), "missing,0071,Old Tom,")
		if s.name != "sqlite" {
			assert.NotContains(t, strings.Join(s.tables(t), " "), "ambertray_stage")
		}
	})
}

// trailing is a decimal of two places, since SQLite shows none that are zero.
func trailing(s string) string {
	for i := strings.IndexByte(s, '.'); i > 0 && len(s) < i+3; {
		s += "0"
	}
	return s
}

// What is refused in a merge becomes a reject, and all else goes in.
func TestMergeRejects(t *testing.T) {
	onMergers(t, func(t *testing.T, b *bench, s server) {
		s.makeBoats(t)
		var many strings.Builder
		many.WriteString("permit,name,length\n")
		for i := range 400 {
			many.WriteString("9" + string(rune('0'+i/100)) + string(rune('0'+i/10%10)) + string(rune('0'+i%10)) + ",Punt,3.50\n")
		}
		b.write("a.csv", many.String()+"0012,Grey Heron,150.00\n0044,Kestrel,13.00\n,Nobody,1.00\n0071,A,1.00\n0071,B,2.00\n9000,Punt,4.00\n0300,Barge,101.00\n")
		args := []string{"a.csv", "--into", s.url, "--table", "boats", "--mode", "merge", "--yes", "--tolerate", "5%", "--max-rejects", "none"}
		rec := b.merged(3, args...)
		assert.EqualValues(t, []int64{407, 400, 1, 7}, []int64{rec.Records.Read, rec.Records.Loaded, rec.Merge.Changed, rec.Records.Rejected})
		rejects := b.read(filepath.Join("tray", rec.Entry, "rejects.csv"))
		for _, line := range []string{"402", "404", "405", "406", "407", "408", "2"} {
			assert.Contains(t, rejects, ",a.csv,"+line+",", "line %s", line)
		}
		assert.Equal(t, 4, strings.Count(rejects, "its key is in more than one record"), rejects)
		assert.Equal(t, [][]string{{"0012", "17.50"}, {"0044", "13.00"}, {"0071", "21.25"}},
			decimals(queryRows(t, s.db, "SELECT permit, "+s.text("length")+" FROM boats WHERE permit IN ('0012', '0044', '0071') ORDER BY permit"), 1))
		b.run(3, "verify", rec.Entry)

		r := b.run(1, append(append([]string{"load"}, args...), "--missing", "delete")...)
		assert.Contains(t, r.err, "which rows the file does not have is not known as long as records are rejected")
		assert.False(t, b.exists(filepath.Join("tray", lastEntry(t, b), "before.csv")), "nothing was changed")
		r = b.run(1, "load", "a.csv", "--into", s.url, "--table", "boats", "--mode", "merge", "--yes", "--tolerate", "5%", "--max-rejects", "6")
		assert.Contains(t, r.err, "more than 6 records were rejected")

		rec = b.merged(3, append(args, "--same-key", "last")...)
		assert.EqualValues(t, []int64{2, 3}, []int64{rec.Records.Skipped, rec.Records.Rejected})
		assert.Equal(t, []tray.Skip{{Kind: tray.SkipSuperseded, Count: 2}}, rec.Skipped)
		assert.Equal(t, [][]string{{"B"}}, queryRows(t, s.db, "SELECT name FROM boats WHERE permit = '0071'"))
		// What is mended then meets the row that is there.
		b.write("fixed.csv", strings.Replace(strings.Replace(b.read(filepath.Join("tray", rec.Entry, "rejects.csv")), "Heron,150.00", "Heron,15.00", 1), ",Nobody,", "0999,Nobody,", 1))
		b.run(3, "mend", rec.Entry, "fixed.csv")
		assert.Equal(t, [][]string{{"0012", "15.00"}}, decimals(queryRows(t, s.db, "SELECT permit, "+s.text("length")+" FROM boats WHERE permit = '0012'"), 1))
		b.run(3, "verify", rec.Entry)
	})
}

func decimals(rows [][]string, at int) [][]string {
	for _, r := range rows {
		if !strings.Contains(r[at], ".") {
			r[at] += "."
		}
		r[at] = trailing(r[at])
	}
	return rows
}

func lastEntry(t *testing.T, b *bench) string {
	list, err := os.ReadDir(filepath.Join(b.dir, "tray"))
	require.NoError(t, err)
	return list[len(list)-1].Name()
}

// Rows that the file does not have are marked as the plan says.
func TestMergeMarks(t *testing.T) {
	onMergers(t, func(t *testing.T, b *bench, s server) {
		s.makeBoats(t)
		b.write("a.csv", "permit,name,length,owner\n0012,Grey Heron,17.50,Eve\n0044,Kestrel,12.00,\n")
		b.run(0, "plan", "a.csv", "-o", "p.yaml", "--table", "boats")
		b.write("p.yaml", b.read("p.yaml")+"missing:\n  gone: '\"laid up\"'\n  owner: nil\n")
		rec := b.merged(0, "p.yaml", "--into", s.url, "--mode", "merge", "--yes")
		assert.EqualValues(t, []any{int64(2), tray.MissingMarked, int64(1)}, []any{rec.Merge.Missing, rec.Merge.Rule, rec.Merge.Changed})
		assert.Equal(t, [][]string{{"Eve", "<null>"}, {"<null>", "<null>"}, {"<null>", "laid up"}, {"<null>", "laid up"}},
			queryRows(t, s.db, "SELECT owner, gone FROM boats ORDER BY permit"))
		b.run(0, "verify", rec.Entry)
		for _, wrong := range []string{"missing:\n  permit: nil\n", "missing:\n  nobody: nil\n", "missing: burn\n", "missing:\n  gone: nonsense(\n"} {
			b.write("w.yaml", strings.Split(b.read("p.yaml"), "missing:")[0]+wrong)
			b.run(2, "load", "w.yaml", "--into", s.url, "--mode", "merge", "--yes")
		}
	})
}

// A file that grew brings in what is new, by key or by whole rows, as often as it is there.
func TestOnlyNew(t *testing.T) {
	onMergers(t, func(t *testing.T, b *bench, s server) {
		s.makeBoats(t)
		b.write("a.csv", boats+"0300,Barge,30.00,Fay\n")
		args := []string{"--into", s.url, "--mode", "append", "--only-new", "--yes"}
		rec := b.merged(0, append(args, "a.csv", "--table", "boats")...)
		assert.EqualValues(t, []int64{5, 1, 4}, []int64{rec.Records.Read, rec.Records.Loaded, rec.Records.Skipped})
		rec = b.merged(0, append(args, "a.csv", "--table", "boats")...)
		assert.EqualValues(t, []int64{0, 5}, []int64{rec.Records.Loaded, rec.Records.Skipped}, "nothing to do")
		b.run(0, "verify", rec.Entry)
		assert.Contains(t, b.run(1, "verify", rec.Entry, "--deep").err, "of its records, 5 known already, and which ones was not noted")

		s.exec(t, "CREATE TABLE readings (gauge varchar(5), "+s.reserved("level")+" decimal(6,2), note varchar(20))")
		b.write("r.csv", "gauge,level,note\nA,1.25,\nA,1.25,\nB,2.50,x\nC,,\n")
		assert.EqualValues(t, 4, b.merged(0, append(args, "r.csv", "--table", "readings")...).Records.Loaded)
		b.write("r.csv", "gauge,level,note\nA,1.25,\nA,1.25,\nA,1.25,\nB,2.50,X\nB,2.50,x\nC,,\nC,,\n")
		var would desk.MergeAnswer
		require.NoError(t, json.Unmarshal([]byte(b.run(0, append([]string{"load", "r.csv", "--table", "readings", "--json", "--dry-run"}, args...)...).out), &would))
		assert.EqualValues(t, []int64{3, 4, 4}, []int64{would.Records.Loaded, would.Records.Skipped, would.Before})
		rec = b.merged(0, append(args, "r.csv", "--table", "readings")...)
		assert.EqualValues(t, []int64{3, 4, 7}, []int64{rec.Records.Loaded, rec.Records.Skipped, rec.Table.Rows})
		assert.Equal(t, [][]string{{"3"}}, queryRows(t, s.db, "SELECT "+s.text("count(*)")+" FROM readings WHERE gauge = 'A'"))
		assert.EqualValues(t, 7, b.merged(0, append(args, "r.csv", "--table", "readings")...).Records.Skipped)
		assert.Equal(t, "append", string(db.Append))
	})
}

// What does not go together, or cannot be known, is said before anything happens.
func TestMergeNeeds(t *testing.T) {
	onMergers(t, func(t *testing.T, b *bench, s server) {
		s.makeBoats(t)
		s.exec(t, "CREATE TABLE loose (a varchar(5), b varchar(5))", "INSERT INTO loose VALUES ('x', '1'), ('x', '2'), (NULL, '3')")
		b.write("a.csv", "name,length\nGrey Heron,17.50\n")
		b.write("l.csv", "a,b\nx,9\n")
		for _, c := range [][]string{
			{"permit", "a.csv", "--table", "boats", "--mode", "merge"},
			{"has no primary key", "l.csv", "--table", "loose", "--mode", "merge"},
			{"more than one row of the table loose has 'x'", "l.csv", "--table", "loose", "--mode", "merge", "--key", "a"},
			{"--only-new", "l.csv", "--table", "loose", "--mode", "merge", "--only-new"},
			{"--missing", "l.csv", "--table", "loose", "--mode", "append", "--missing", "delete"},
			{"--missing", "l.csv", "--table", "loose", "--mode", "merge", "--missing", "burn"},
			{"--same-key", "l.csv", "--table", "loose", "--mode", "merge", "--same-key", "first"},
			{"--before", "l.csv", "--table", "loose", "--mode", "merge", "--before", "some"},
			{"--prove", "l.csv", "--table", "loose", "--mode", "append", "--only-new", "--prove"},
			{"--commit-every", "l.csv", "--table", "loose", "--mode", "merge", "--commit-every", "5"},
		} {
			r := b.run(2, append([]string{"load", "--into", s.url, "--yes"}, c[1:]...)...)
			assert.Contains(t, r.err, c[0], c)
		}
		rec := b.merged(0, "l.csv", "--into", s.url, "--table", "loose", "--mode", "merge", "--key", "b")
		assert.EqualValues(t, 1, rec.Merge.Inserted)
		assert.Len(t, queryRows(t, s.db, "SELECT a, b FROM loose ORDER BY b"), 4)
	})
}

// A script that merges, run by the database's own client, does what a merge does.
func TestMergeScripts(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		s.runsScripts(t)
		s.makeBoats(t)
		b.write("a.csv", "permit,name,length,owner\n0012,Grey Heron,18.50,\"Ann, Lock\"\n0044,kestrel,12.00,Cilla\n0105,Willow,9.75,\n0200,Newt,7.25,Dov\n")
		args := []string{"script", "a.csv", "--for", s.name, "--table", "boats", "--key", "permit", "--mode", "merge"}
		b.run(0, append(args, "-o", "m.sql")...)
		out, err := b.runScript(s, "m.sql")
		require.NoError(t, err, out)
		length := func(r [][]string) [][]string { return decimals(r, 2) }
		want := [][]string{{"0012", "Grey Heron", "18.50", "Ann, Lock"}, {"0044", "kestrel", "12.00", "Cilla"}, {"0071", "Old Tom", "21.25", "Bram"},
			{"0105", "Willow", "9.75", "<null>"}, {"0200", "Newt", "7.25", "Dov"}}
		assert.Equal(t, want, length(s.boats(t, "boats")))
		assert.Equal(t, [][]string{{"yes"}, {"yes"}, {"yes"}, {"yes"}, {"no"}}, queryRows(t, s.db, "SELECT seen FROM boats ORDER BY permit"))

		// A record that is lost on the way undoes all of it, also what would be deleted.
		b.write("a.csv", "permit,name,length,owner\n0012,Grey Heron,19.50,Eve\n0044,kestrel,12.00,Cilla\n")
		b.run(0, append(args, "-o", "d.sql", "--missing", "delete")...)
		text := b.read("d.sql")
		at := strings.Index(text, "('0012'")
		b.write("short.sql", text[:at]+text[at+strings.IndexByte(text[at:], '\n')+1:])
		_, err = b.runScript(s, "short.sql")
		require.Error(t, err)
		assert.Equal(t, want, length(s.boats(t, "boats")))
		out, err = b.runScript(s, "d.sql")
		require.NoError(t, err, out)
		assert.Equal(t, [][]string{{"0012", "Grey Heron", "19.50", "Eve"}, want[1]}, length(s.boats(t, "boats")))
		b.run(2, append(args, "--missing", "burn")...)
		b.run(2, "script", "a.csv", "--for", s.name, "--mode", "replace")
		b.run(2, "script", "a.csv", "--for", s.name, "--key", "none", "--mode", "merge")
	})
	b := newBench(t)
	b.write("a.csv", "id,note\n1,"+strings.Repeat("long ", 1200)+"\n2,b\n")
	sql := b.run(0, "script", "a.csv", "--for", "oracle", "--table", "notes", "--key", "id", "--mode", "merge").out
	assert.Contains(t, sql, "MERGE INTO notes t USING ambertray_stage s ON (t.id = s.id) WHEN MATCHED THEN UPDATE SET t.note = s.note WHERE (CASE")
	assert.Contains(t, sql, "DBMS_LOB.COMPARE(t.note, s.note)")
	assert.True(t, strings.HasSuffix(sql, "COMMIT;\nDROP TABLE ambertray_stage;\n"), "the stage is not of the session there")
	assert.Contains(t, sql, "drop ambertray_stage before the next attempt")
}

// No key is said by none, unless a column is called so; then rows are known by all of their values.
func TestNoKey(t *testing.T) {
	b := newBench(t)
	b.write("a.csv", "id,toll\n1,0.50\n2,1.25\n3,0.75\n4,1\n5,2\n6,3\n7,4\n8,5\n9,6\n10,7\n11,8\n12,9\n13,1\n14,2\n15,3\n16,4\n17,5\n18,6\n19,7\n20,8\n")
	assert.Contains(t, b.run(0, "plan", "a.csv").out, "key: [id]")
	assert.NotContains(t, b.run(0, "plan", "a.csv", "--key", "none").out, "\n  key:")
	b.write("b.csv", strings.Replace(b.read("a.csv"), "id", "none", 1))
	assert.Contains(t, b.run(0, "plan", "b.csv", "--key", "none").out, "key: [none]")

	b.run(0, "load", "a.csv", "--into", "sqlite:c.db", "--table", "t")
	b.write("more.csv", "id,toll\n2,9.99\n21,1.50\n")
	by := []string{"load", "more.csv", "--into", "sqlite:c.db", "--table", "t", "--mode", "append", "--only-new", "--quiet"}
	assert.Contains(t, b.run(0, append(by, "--dry-run")...).out, "inserted   1  new, by id")
	assert.Contains(t, b.run(0, append(by, "--key", "none", "--dry-run")...).out, "inserted   2  new, by whole rows", "the row of 2 is another")
	assert.Contains(t, b.run(2, "load", "more.csv", "--into", "sqlite:c.db", "--table", "t", "--mode", "merge", "--key", "none").err, "--key")
}
