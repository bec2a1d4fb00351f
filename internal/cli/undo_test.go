package cli_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/desk"
	"ambertray/internal/tray"
)

func (b *bench) undone(args ...string) *tray.Undoing {
	b.t.Helper()
	var a desk.UndoAnswer
	r := b.run(0, append([]string{"undo", "--json", "--yes"}, args...)...)
	require.NoError(b.t, json.Unmarshal([]byte(r.out), &a), r.out)
	return a.Undoing
}

// A table that a load has made is dropped, if it is what the load left.
func TestUndoOfATable(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		b.write("new.csv", boats)
		rec := b.loaded(0, "new.csv", "--table", "made", "--key", "permit", "--ledger", "--into", s.url, "--yes")
		assert.True(t, b.undone(rec.Entry, "--dry-run").Dropped)
		s.exec(t, "INSERT INTO made (permit) VALUES ('9999')")
		r := b.run(2, "undo", rec.Entry, "--yes")
		assert.Contains(t, r.err, "the table is not what the load left; nothing was changed")
		assert.Contains(t, r.err, "1 row more than after the load")
		s.exec(t, "DELETE FROM made WHERE permit = '9999'")
		assert.Contains(t, b.run(2, "undo", rec.Entry).err, "say --yes if that is meant")
		assert.EqualValues(t, 4, b.undone(rec.Entry).Deleted)
		assert.NotContains(t, s.tables(t), "made")
		assert.Contains(t, b.run(2, "undo", rec.Entry, "--yes").err, "was taken back already")
		assert.Contains(t, b.run(0, "tray", "--all").out, "undone")
		b.run(0, "tray", "--check")
	})
}

// A load is taken back, whatever it did, and only if nobody has changed its rows since.
func TestUndo(t *testing.T) {
	onMergers(t, func(t *testing.T, b *bench, s server) {
		into := []string{"--into", s.url, "--yes"}
		load := func(code int, args ...string) tray.Receipt { return b.loaded(code, append(args, into...)...) }

		// Rows that were added by key are deleted, and the file can be loaded again.
		s.makeBoats(t)
		were := s.boats(t, "boats")
		b.write("more.csv", "permit,name,length,owner\n0200,Newt,7.25,Dov\n0201,Eft,8.00,\n")
		rec := load(0, "more.csv", "--table", "boats", "--mode", "append")
		s.exec(t, "UPDATE boats SET length = 9 WHERE permit = '0012'")
		r := b.run(2, "undo", rec.Entry, "--yes")
		assert.Contains(t, r.err, "others have worked on it since")
		assert.Contains(t, r.err, "column length: sum 60.50 before the load, and 52.00 without it")
		s.exec(t, "UPDATE boats SET length = 17.5 WHERE permit = '0012'")
		u := b.undone(rec.Entry)
		assert.EqualValues(t, []int64{2, 4}, []int64{u.Deleted, u.Rows})
		assert.Equal(t, were, s.boats(t, "boats"))
		rec = load(0, "more.csv", "--table", "boats", "--mode", "append")
		s.exec(t, "DELETE FROM boats WHERE permit = '0200'")
		assert.Contains(t, b.run(2, "undo", rec.Entry, "--yes").err, "of 2 rows to be deleted, 1 could be")
		s.exec(t, "DELETE FROM boats WHERE permit = '0201'")

		// A merge is put back: what it changed, inserted and deleted.
		b.write("m.csv", "permit,name,length,owner\n0012,Grey Heron,18.50,\"Ann, Lock\"\n0044,kestrel,12.00,Cilla\n0105,Willow,9.75,\"\"\n0200,Newt,7.25,Dov\n")
		rec = load(0, "m.csv", "--table", "boats", "--mode", "merge", "--missing", "delete", "--keep-empty", "quoted")
		s.exec(t, "UPDATE boats SET length = 19 WHERE permit = '0200'")
		assert.EqualValues(t, 1, b.undone(rec.Entry, "--dry-run").PutBack, "what is deleted may have been changed")
		u = b.undone(rec.Entry)
		assert.EqualValues(t, []int64{1, 2, 1, 4}, []int64{u.Deleted, u.Changed, u.PutBack, u.Rows})
		assert.Equal(t, were, s.boats(t, "boats"))
		assert.Equal(t, [][]string{{"yes"}, {"yes"}, {"yes"}, {"yes"}}, queryRows(t, s.db, "SELECT seen FROM boats"), "also what the file does not have")
		b.run(0, "plan", "m.csv", "-o", "p.yaml", "--table", "boats")
		b.write("p.yaml", b.read("p.yaml")+"missing:\n  gone: '\"laid up\"'\n")
		rec = load(0, "p.yaml", "--mode", "merge")
		b.undone(rec.Entry)
		assert.Equal(t, were, s.boats(t, "boats"))
		assert.Equal(t, [][]string{{"<null>"}, {"<null>"}, {"<null>"}, {"<null>"}}, queryRows(t, s.db, "SELECT gone FROM boats"))
		rec = load(0, "m.csv", "--table", "boats", "--mode", "merge", "--before", "none")
		assert.Contains(t, b.run(2, "undo", rec.Entry, "--yes").err, "the rows were not kept as they were")
		rec = load(0, "m.csv", "--table", "boats", "--mode", "refill")
		assert.Contains(t, b.run(2, "undo", rec.Entry, "--yes").err, "can only be taken back where it kept the old rows")
	})
}

// Rows without a key are taken back by their values, as many of each as went in.
func TestUndoWholeRows(t *testing.T) {
	onMergers(t, func(t *testing.T, b *bench, s server) {
		key := ""
		switch s.name { // rows have no other place there
		case "mysql":
			key = ", id int AUTO_INCREMENT PRIMARY KEY"
		case "sqlserver":
			key = ", id int IDENTITY PRIMARY KEY"
		}
		s.exec(t, "CREATE TABLE readings (gauge varchar(5), "+s.reserved("level")+" decimal(6,2), note varchar(20)"+key+")",
			"INSERT INTO readings (gauge, "+s.reserved("level")+", note) VALUES ('A', 1.25, NULL), ('B', 2.5, 'x')")
		read := func() [][]string {
			return decimals(queryRows(t, s.db, "SELECT gauge, coalesce("+s.text(s.reserved("level"))+", '-'), note FROM readings ORDER BY gauge, note"), 1)
		}
		were := read()
		b.write("r.csv", "gauge,level,note\nA,1.25,\nA,1.25,\nB,2.50,x\nC,,\n")
		args := []string{"r.csv", "--into", s.url, "--table", "readings", "--mode", "append", "--yes"}
		rec := b.loaded(0, args...)
		assert.Len(t, read(), 6)
		u := b.undone(rec.Entry)
		assert.EqualValues(t, []int64{4, 2}, []int64{u.Deleted, u.Rows})
		assert.Equal(t, were, read())
		rec = b.loaded(0, append(args, "--only-new")...)
		assert.EqualValues(t, 2, rec.Records.Loaded)
		assert.EqualValues(t, 2, b.undone(rec.Entry).Deleted)
		assert.Equal(t, were, read())

		rec = b.loaded(0, args...)
		b.write("r.csv", strings.Replace(b.read("r.csv"), "C", "D", 1))
		assert.Contains(t, b.run(1, "undo", rec.Entry, "--yes").err, "the file has been changed since the load")
		assert.Len(t, read(), 6)
		if s.name != "mysql" && s.name != "sqlserver" {
			return
		}
		s.exec(t, "CREATE TABLE bare (gauge varchar(5), level decimal(6,2), note varchar(20))", "INSERT INTO bare VALUES ('A', 1, 'x')")
		rec = b.loaded(0, "r.csv", "--into", s.url, "--table", "bare", "--mode", "append")
		assert.Contains(t, b.run(2, "undo", rec.Entry, "--yes").err, "its rows cannot be told apart")
	})
}

// What a refill or a replace takes out can be kept, and put back.
func TestKeepOld(t *testing.T) {
	onMergers(t, func(t *testing.T, b *bench, s server) {
		s.makeBoats(t)
		were := s.boats(t, "boats")
		into := []string{"--into", s.url, "--yes", "--max-deletes", "100%"}
		b.write("few.csv", "permit,name,length,owner\n0200,Newt,7.25,Dov\n")
		load := func(code int, args ...string) tray.Receipt {
			return b.loaded(code, append(append([]string{"few.csv", "--table", "boats", "--keep-old"}, args...), into...)...)
		}
		assert.Contains(t, b.run(2, append([]string{"load", "few.csv", "--table", "boats", "--mode", "append", "--keep-old"}, into...)...).err, "it goes with --mode refill and replace")

		rec := load(0, "--mode", "refill")
		require.NotNil(t, rec.Kept)
		assert.EqualValues(t, 4, rec.Kept.Rows)
		assert.Len(t, s.boats(t, "boats"), 1)
		assert.Contains(t, b.run(0, "peek", s.url).out, "kept")
		s.exec(t, "UPDATE boats SET name = 'Toad' WHERE permit = '0200'")
		assert.Contains(t, b.run(2, "undo", rec.Entry, "--yes").err, "the table is not what the load left")
		s.exec(t, "UPDATE boats SET name = 'Newt' WHERE permit = '0200'")
		assert.EqualValues(t, 4, b.undone(rec.Entry, "--dry-run").PutBack)
		assert.Len(t, s.boats(t, "boats"), 1)
		u := b.undone(rec.Entry)
		assert.EqualValues(t, []int64{1, 4, 4}, []int64{u.Deleted, u.PutBack, u.Rows})
		assert.Equal(t, were, s.boats(t, "boats"))
		assert.NotContains(t, s.tables(t), rec.Kept.Table)

		// The kept rows may not be others.
		rec = load(0, "--mode", "refill")
		s.exec(t, "DELETE FROM "+rec.Kept.Table+" WHERE permit = '0012'")
		assert.Contains(t, b.run(2, "undo", rec.Entry, "--yes").err, "4 rows before the load, and 3 without it")
		r := b.run(1, "tray", "--sweep", "--yes")
		assert.Contains(t, r.out, "has other rows than the load put there")
		assert.Len(t, s.boats(t, "boats"), 1)

		// A table that is replaced by one of the same columns is given back, too; of others, it
		// is said where the rows are.
		rec = load(0, "--mode", "replace")
		assert.EqualValues(t, 1, rec.Kept.Rows)
		assert.Contains(t, b.run(2, "undo", rec.Entry, "--yes").err, "its old rows are in "+rec.Kept.Table)
		again := load(0, "--mode", "replace")
		assert.EqualValues(t, 1, b.undone(again.Entry).PutBack)

		// The tables are swept when nobody needs them.
		r = b.run(0, "tray", "--sweep", "--older", "1", "--yes")
		assert.Contains(t, r.out, "no load has kept old rows")
		assert.Contains(t, b.run(2, "tray", "--sweep", "--into", s.url).err, "say --yes if that is meant")
		b.run(1, "tray", "--sweep", "--yes")
		assert.NotContains(t, s.tables(t), rec.Kept.Table)
		assert.Contains(t, b.run(2, "undo", rec.Entry, "--yes").err, "which was dropped since")
		b.run(0, "tray", "--check")

		// A load that fails keeps nothing.
		s.exec(t, "CREATE UNIQUE INDEX once ON boats (permit)")
		b.write("bad.csv", "permit,name,length,owner\n0200,Newt,7.25,Dov\n0200,Eft,7.25,Dov\n")
		before := s.tables(t)
		b.run(1, append([]string{"load", "bad.csv", "--table", "boats", "--keep-old", "--mode", "refill", "--max-rejects", "0"}, into...)...)
		assert.Equal(t, before, s.tables(t))
	})
}

// Rows that have the name of their load are taken back by it, also without the file.
func TestUndoByProvenance(t *testing.T) {
	onMergers(t, func(t *testing.T, b *bench, s server) {
		b.write("gauges.csv", "gauge,level\nG1,2.10\nG1,2.10\nG2,1.95\n")
		b.run(0, "plan", "gauges.csv", "-o", "p.yaml", "--table", "gauges")
		b.write("p.yaml", b.read("p.yaml")+"  - name: came_with\n    value: load.entry\n    type: varchar(60)\n")
		b.loaded(0, "p.yaml", "--into", s.url)
		rec := b.loaded(0, "p.yaml", "--into", s.url, "--mode", "append", "--again")
		b.write("gauges.csv", "")
		s.exec(t, "UPDATE gauges SET came_with = 'nobody' WHERE gauge = 'G2' AND came_with = '"+rec.Entry+"'")
		assert.Contains(t, b.run(2, "undo", rec.Entry, "--yes", "--into", s.url).err, "of 3 rows to be deleted, which have "+rec.Entry)
		s.exec(t, "UPDATE gauges SET came_with = '"+rec.Entry+"' WHERE came_with = 'nobody'")
		u := b.undone(rec.Entry, "--into", s.url)
		assert.EqualValues(t, []int64{3, 3}, []int64{u.Deleted, u.Rows})
	})
}
