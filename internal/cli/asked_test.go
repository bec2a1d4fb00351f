package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// A plan says what it was asked for: all sheets, or all files of a pattern. What
// the next workbook has beyond it is not passed over.
func TestPlanOfAPattern(t *testing.T) {
	b := newBench(t)
	tolls := func(title bool, ids ...int) (rows [][]any) {
		if title {
			rows = [][]any{{"Tolls register"}}
		}
		rows = append(rows, []any{"Id", "Toll"})
		for _, id := range ids {
			rows = append(rows, []any{id, float64(id) + 0.25})
		}
		return rows
	}
	b.book("y1.xlsx", "January", tolls(false, 1, 2), "February", tolls(true, 3, 4), "March", tolls(false, 5, 6))
	b.run(0, "plan", "y1.xlsx", "--sheet", "all", "--table", "tolls", "-o", "all.yaml")
	assert.Contains(t, b.read("all.yaml"), "sheet: all")
	assert.Contains(t, b.read("all.yaml"), "header: names", "one of them has titles above it")
	assert.Contains(t, b.read("all.yaml"), "sheets: [January, February, March]")
	assert.NotContains(t, b.read("all.yaml"), "sheet: March")
	rec := b.loaded(0, "all.yaml", "--into", "sqlite:a.db")
	assert.EqualValues(t, 6, rec.Records.Loaded)
	b.run(0, "verify", "latest", "--deep")
	b.book("y2.xlsx", "January", tolls(false, 7), "February", tolls(true, 8), "March", tolls(false, 9), "April", tolls(false, 10))
	r := b.run(2, "load", "all.yaml", "y2.xlsx", "--into", "sqlite:a.db", "--mode", "append")
	assert.Contains(t, r.err, `its sheet "April" is new`)
	plan := b.read("all.yaml")
	b.write("all.yaml", strings.Replace(plan, "    sheet: all\n", "    sheet: all\n    sheets: {new: take}\n", 1))
	rec = b.loaded(0, "all.yaml", "y2.xlsx", "--into", "sqlite:a.db", "--mode", "append")
	assert.EqualValues(t, 4, rec.Records.Loaded)
	assert.Len(t, rec.Sources, 4)

	// The papers say what was loaded: with them, a sheet more is not passed over.
	r = b.run(2, "load", filepath.Join("tray", rec.Entry, "plan.yaml"), "y1.xlsx", "--into", "sqlite:a.db", "--mode", "append")
	assert.Contains(t, r.err, `no sheet "April"`)

	// One sheet of two, and the next workbook has three.
	b.book("one.xlsx", "Tolls", tolls(false, 1), "Notes", [][]any{{"nothing"}})
	b.run(0, "plan", "one.xlsx", "--sheet", "Tolls", "-o", "one.yaml")
	assert.Contains(t, b.read("one.yaml"), "others: [Notes]")
	b.book("next.xlsx", "Tolls", tolls(false, 2), "Notes", [][]any{{"nothing"}}, "Tolls 2", tolls(false, 3))
	r = b.run(2, "load", "one.yaml", "next.xlsx", "--into", "sqlite:b.db")
	assert.Contains(t, r.err, `"Tolls 2"`)
	assert.NotContains(t, r.err, "Notes")
	b.write("one.yaml", strings.Replace(b.read("one.yaml"), "others: [Notes]", "others: [Notes, Tolls 2]", 1))
	b.run(0, "load", "one.yaml", "next.xlsx", "--into", "sqlite:b.db")
	b.write("bare.yaml", "ambertray: 1\nsources: [{file: one.xlsx, sheet: Tolls, header: 1}]\ntable: {name: t}\ncolumns: [{name: id, from: Id, type: integer}, {name: toll, from: Toll, type: double precision}]\n")
	r = b.run(0, "load", "bare.yaml", "next.xlsx", "--into", "sqlite:c.db")
	assert.Contains(t, r.out+r.err, `"Tolls 2" is not loaded`)

	// Members of an archive, by a pattern and without.
	b.archive("m1.zip", "tolls-01.csv", "id\n1\n", "read me.txt", "hello\n")
	b.run(0, "plan", "m1.zip", "--member", "tolls-*.csv", "-o", "m.yaml")
	assert.Contains(t, b.read("m.yaml"), "member: tolls-*.csv")
	b.archive("m2.zip", "tolls-02.csv", "id\n2\n", "read me.txt", "hello\n")
	b.run(0, "load", "m.yaml", "m2.zip", "--into", "sqlite:m.db")
	b.archive("m3.zip", "tolls-02.csv", "id\n2\n", "tolls-02b.txt", "id\n3\n")
	assert.Contains(t, b.run(2, "load", "m.yaml", "m3.zip", "--into", "sqlite:n.db").err, `"tolls-02b.txt"`)

	// Files of a pattern, one of them delimited otherwise.
	b.write("f-01.csv", "id,toll\n1,2.25\n")
	b.write("f-02.csv", "id;toll\n2;3.25\n")
	b.write("f-03.csv", "id,toll\n3,4.25\n")
	b.run(0, "plan", "f-*.csv", "-o", "f.yaml")
	assert.Contains(t, b.read("f.yaml"), "file: f-*.csv")
	b.run(0, "load", "f.yaml", "--into", "sqlite:f.db")
	assert.Equal(t, [][]string{{"3"}}, b.query("f.db", "SELECT count(*) FROM f_01"))
	b.write("f-04.csv", "id,toll\n4,5.25\n")
	r = b.run(0, "load", "f.yaml", "--into", "sqlite:g.db")
	assert.Contains(t, r.out, "1 source")
	assert.Equal(t, [][]string{{"4"}}, b.query("g.db", "SELECT count(*) FROM f_01"))
	later := time.Now().Add(time.Hour)
	assert.NoError(t, os.Chtimes(filepath.Join(b.dir, "f-02.csv"), later, later))
	b.run(0, "load", "f.yaml", "--into", "sqlite:h.db")
}

// Sources that have few columns in common are asked about: they may be several
// tables.
func TestTablesOfSources(t *testing.T) {
	b := newBench(t)
	tolls := [][]any{{"Id", "Toll"}, {1, 2.5}, {2, 3.5}}
	b.book("all.xlsx", "January", tolls, "February", tolls, "Boats", [][]any{{"Boat", "Owner", "Length"}, {"Otter", "Marsh", 12}, {"Heron", "Reed", 9}})
	b.write("a.csv", "id,toll\n1,2.25\n")
	b.write("b.csv", "id,boat,owner,length\n1,Otter,Marsh,12\n")
	for _, args := range [][]string{{"all.xlsx", "--sheet", "all"}, {"a.csv", "b.csv"}} {
		for _, verb := range [][]string{{"load", "--into", "sqlite:q.db"}, {"plan"}, {"script", "--for", "postgres"}} {
			r := b.run(2, append(append(verb[:1:1], args...), verb[1:]...)...)
			assert.Contains(t, r.err, "--tables each", "%v", args)
		}
	}
	assert.Contains(t, b.run(2, "look", "all.xlsx", "--sheet", "all").out, "do not look like one table")
	assert.False(t, b.exists("q.db"))

	// A table of each: three loads, each with its entry.
	r := b.run(0, "load", "all.xlsx", "--sheet", "all", "--tables", "each", "--into", "sqlite:e.db")
	for _, want := range []string{"january", "february", "boats"} {
		assert.Contains(t, r.out, want)
	}
	assert.Equal(t, [][]string{{"2", "2", "2"}}, b.query("e.db", "SELECT (SELECT count(*) FROM january), (SELECT count(*) FROM february), (SELECT sum(length > 8) FROM boats)"))
	assert.Len(t, b.document(0, "tray")["entries"], 3)
	r = b.run(2, "load", "a.csv", "b.csv", "--tables", "each", "--into", "sqlite:e.db", "--table", "x")
	assert.Contains(t, r.err, "--table x")
	// The second cannot be: the first is not loaded, either.
	b.run(0, "load", "b.csv", "--into", "sqlite:f.db")
	r = b.run(2, "load", "a.csv", "b.csv", "--tables", "each", "--into", "sqlite:f.db")
	assert.Contains(t, r.err, "the table b exists already")
	assert.NotContains(t, r.out, "1 record of a.csv")
	assert.Equal(t, [][]string{{"b"}}, b.query("f.db", "SELECT name FROM sqlite_schema WHERE type = 'table'"))
	doc := b.document(2, "load", "a.csv", "b.csv", "--tables", "each", "--into", "sqlite:f.db", "--mode", "append", "--again", "--dry-run", "--type", "nothing=text")
	assert.Empty(t, doc["loads"], "it fails at the first")

	// One table all the same, and the plan keeps that.
	r = b.run(0, "load", "a.csv", "b.csv", "--tables", "one", "--into", "sqlite:g.db", "--key", "none")
	assert.Contains(t, r.err, "few columns in common")
	assert.Equal(t, [][]string{{"2", "5"}}, b.query("g.db", "SELECT (SELECT count(*) FROM a), count(*) FROM pragma_table_info('a')"))
	b.run(0, "plan", "a.csv", "b.csv", "--tables", "one", "--key", "none", "-o", "p.yaml")
	b.run(0, "load", "p.yaml", "--into", "sqlite:h.db")
	assert.Contains(t, b.run(2, "plan", "a.csv", "b.csv", "--tables", "each").err, "name its file")
	assert.Contains(t, b.run(0, "look", "all.xlsx", "--sheet", "all", "--tables", "each").out, "Boats")
}
