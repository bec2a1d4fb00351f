package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"ambertray/internal/tray"
)

// A column that is text although its values are dates, or numbers, says why.
func TestMixedColumnsSayWhy(t *testing.T) {
	b := newBench(t)
	var text strings.Builder
	text.WriteString("id;day;toll\n")
	for i := range 20 {
		day, toll := fmt.Sprintf("%02d/03/2024", 13+i%15), fmt.Sprintf("1.%03d,56", i)
		if i%2 == 1 {
			day, toll = fmt.Sprintf("03/%02d/2024", 13+i%15), fmt.Sprintf("1,%03d.56", i)
		}
		fmt.Fprintf(&text, "%d;%s;%s\n", i+1, day, toll)
	}
	b.write("m.csv", text.String())
	r := b.run(0, "load", "m.csv", "--into", "sqlite:m.db")
	for _, want := range []string{"day: dates in several orders, kept as text: 10 values do not read month first, and 10 not day first",
		"toll: numbers written in two ways, kept as text: 10 have a decimal point, 10 a decimal comma"} {
		assert.Contains(t, strings.Join(strings.Fields(r.err), " "), want)
	}
	assert.Contains(t, b.run(0, "look", "m.csv").out, "dates in several orders")
	b.write("p.csv", "a;b\n1;x\n2;y\n")
	assert.NotContains(t, b.run(0, "look", "p.csv").out, "kept as text")
}

// What a sheet shows and its values do not have is taken as it is shown; a formula
// without a result is told.
func TestWhatASheetShows(t *testing.T) {
	b := newBench(t)
	f := excelize.NewFile()
	defer f.Close()
	set := func(cell string, v any, format string) {
		require.NoError(t, f.SetCellValue("Sheet1", cell, v))
		if format == "" {
			return
		}
		id, err := f.NewStyle(&excelize.Style{CustomNumFmt: &format})
		require.NoError(t, err)
		require.NoError(t, f.SetCellStyle("Sheet1", cell, cell, id))
	}
	for i, h := range []string{"Post", "Permit", "Weight", "Fee", "Sum", "Year"} {
		set(fmt.Sprintf("%c1", 'A'+i), h, "")
	}
	for i := range 12 {
		at := func(c string) string { return fmt.Sprintf("%s%d", c, i+2) }
		set(at("A"), 1200+i, "00000")
		set(at("B"), 410000+i, `"KN-"000-0000`)
		set(at("C"), 12+i, `00" kg"`)
		set(at("D"), 1.5+float64(i), "0000.00")
		require.NoError(t, f.SetCellFormula("Sheet1", at("E"), "C2+D2"))
		set(at("F"), 2010+i, "0000")
	}
	require.NoError(t, f.SaveAs(filepath.Join(b.dir, "s.xlsx")))
	r := b.run(0, "load", "s.xlsx", "--into", "sqlite:s.db", "--table", "s")
	for _, want := range []string{"post: 12 numbers are taken as the sheet shows them", "A2 '01200'", "sum: 12 cells have a formula", "the first is E2"} {
		assert.Contains(t, strings.ToLower(strings.Join(strings.Fields(r.err), " ")), strings.ToLower(want))
	}
	assert.Equal(t, [][]string{{"01200", "KN-041-0000", "12", "1.5", "<null>", "2010"}}, b.query("s.db", "SELECT post, permit, weight, fee, ifnull(sum, '<null>'), year FROM s LIMIT 1"))
	b.run(0, "load", "s.xlsx", "--into", "sqlite:n.db", "--table", "s", "--type", "Post=integer")
	assert.Equal(t, [][]string{{"1200"}}, b.query("n.db", "SELECT min(post) FROM s"))
}

// Names of other scripts are written in Latin letters, and that is said.
func TestNamesOfOtherScripts(t *testing.T) {
	b := newBench(t)
	b.write("n.csv", "Город,Ποσό,☃,水门,Größe\nA,1.5,x,7,2\nB,2.5,y,8,3\n")
	r := b.run(0, "load", "n.csv", "--into", "sqlite:n.db")
	assert.Contains(t, r.err, "☃: its header has no letter or digit")
	assert.Equal(t, "gorod poso column_3 shui_men grosse", b.query("n.db", "SELECT group_concat(name, ' ') FROM pragma_table_info('n')")[0][0])
	r = b.run(0, "look", "n.csv")
	assert.Contains(t, r.out, "gorod for Город")
	b.run(0, "load", "n.csv", "--into", "sqlite:k.db", "--names", "keep")
	assert.Equal(t, [][]string{{"8"}}, b.query("k.db", `SELECT max("水门") FROM n`))
}

// Where columns are paired by position, a first line that could be a record of the
// table is not taken for names unasked.
func TestFirstLineByPosition(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		b.write("base.csv", "boat,paid,lock\nOtter,yes,North\nHeron,no,South\n")
		b.run(0, "load", "base.csv", "--into", s.url, "--table", "pos", "--type", "paid=boolean", "--key", "none", "--header-row", "1")
		b.write("more.csv", "Swan,yes,East\nTeal,no,West\n")
		r := b.run(0, "load", "more.csv", "--into", s.url, "--table", "pos", "--mode", "append", "--by-position")
		assert.Contains(t, r.err, "taken: --header-row 0")
		b.write("named.csv", "Boot,bezahlt,Schleuse\nGull,yes,East\nTern,no,East\n")
		b.run(0, "load", "named.csv", "--into", s.url, "--table", "pos", "--mode", "append", "--by-position")
		assert.Equal(t, [][]string{{"Gull"}, {"Heron"}, {"Otter"}, {"Swan"}, {"Teal"}, {"Tern"}}, queryRows(t, s.db, "SELECT boat FROM pos ORDER BY boat"))

		b.write("words.csv", "boat,lock\nOtter,North\n")
		b.run(0, "load", "words.csv", "--into", s.url, "--table", "words", "--key", "none", "--header-row", "1")
		b.write("w2.csv", "Swan,East\nTeal,West\n")
		r = b.run(2, "load", "w2.csv", "--into", s.url, "--table", "words", "--mode", "append", "--by-position")
		assert.Contains(t, r.err, "--header-row 0")
		b.run(0, "load", "w2.csv", "--into", s.url, "--table", "words", "--mode", "append", "--by-position", "--header-row", "0")
		assert.Equal(t, [][]string{{"Otter"}, {"Swan"}, {"Teal"}}, queryRows(t, s.db, "SELECT boat FROM words ORDER BY boat"))
		// What is so of one file is not said of another that has the table's names.
		b.write("w0.csv", "boat,lock\nCoot,Mill\n")
		r = b.run(2, "load", "w0.csv", "w2.csv", "--into", s.url, "--table", "words", "--mode", "append", "--by-position", "--again", "--tables", "one")
		assert.Contains(t, r.err, "w0.csv: its first line holds names of the table, and that of w2.csv does not")
		// The line is named as it stands in the file, and titles above it are no records.
		b.write("w3.csv", "Boats of May\n\nGull,Basin\nTern,Reach\nRuff,Wharf\n")
		args := []string{"load", "w3.csv", "--into", s.url, "--table", "words", "--mode", "append", "--by-position"}
		r = b.run(2, args...)
		assert.Contains(t, r.err, "--header-row 3 for names, --header-row 0 for a record")
		b.run(0, append(args, "--header-row", "0")...)
		b.run(0, append(args, "--header-row", "3", "--again")...)
		assert.Equal(t, [][]string{{"Gull", "1"}, {"Ruff", "2"}, {"Tern", "2"}}, queryRows(t, s.db,
			"SELECT boat, "+s.text("count(*)")+" FROM words WHERE boat NOT IN ('Otter', 'Swan', 'Teal') GROUP BY boat ORDER BY boat"))
	})
}

// A value that is too long for the table's column: how the column is made longer is
// said, and done in the load's transaction where the database can.
func TestWiden(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		s.exec(t, "CREATE TABLE codes (code varchar(3) NOT NULL, note varchar(10))")
		b.write("c.csv", "code,note\nG99,a\nG100,b\nG1000,c\n")
		args := []string{"load", "c.csv", "--into", s.url, "--table", "codes", "--mode", "append"}
		r := b.run(2, args...)
		text := strings.Join(strings.Fields(r.err), " ")
		if s.name == "mysql" || s.name == "oracle" { // whose definitions are committed at once
			assert.Contains(t, text, map[string]string{"mysql": "ALTER TABLE codes MODIFY code VARCHAR(10) NOT NULL",
				"oracle": "ALTER TABLE codes MODIFY (code VARCHAR2(10 CHAR))"}[s.name])
			assert.Contains(t, b.run(2, append(args, "--widen")...).err, "--widen")
			return
		}
		assert.Contains(t, text, "with --widen")
		assert.Equal(t, [][]string{{"0"}}, queryRows(t, s.db, "SELECT "+s.text("count(*)")+" FROM codes"))
		if s.name == "postgres" {
			// A load that fails leaves the column as it was.
			b.write("bad.csv", "code,note\nG1000,a long note that does not fit\n")
			s.exec(t, "ALTER TABLE codes ADD CHECK (code <> 'G1000')")
			b.run(1, "load", "c.csv", "--into", s.url, "--table", "codes", "--mode", "append", "--widen", "--max-rejects", "0")
			assert.Equal(t, [][]string{{"3"}}, queryRows(t, s.db, "SELECT character_maximum_length::text FROM information_schema.columns WHERE table_name = 'codes' AND column_name = 'code'"))
			s.exec(t, "ALTER TABLE codes DROP CONSTRAINT codes_code_check")
		}
		b.run(0, append(args, "--widen")...)
		assert.Equal(t, [][]string{{"G100"}, {"G1000"}, {"G99"}}, queryRows(t, s.db, "SELECT code FROM codes ORDER BY code"))
		b.run(0, "verify", "latest", "--deep")
		assert.Contains(t, b.run(2, "load", "c.csv", "--into", s.url, "--table", "new", "--widen").err, "--widen")
	})
}

// What a careful person would see: telephone numbers and postal codes are no numbers,
// the key is the column that identifies records, whatever its name is, and few records
// tell neither of a key nor that a column is never blank.
func TestCarefulDecisions(t *testing.T) {
	b := newBench(t)
	b.write("p.csv", "name,phone\nMarsh,+4930123456\nReed,+4930654321\nHill,+442071234567\n")
	b.run(0, "load", "p.csv", "--into", "sqlite:p.db")
	assert.Equal(t, [][]string{{"+4930123456"}}, b.query("p.db", "SELECT phone FROM p WHERE name = 'Marsh'"))
	assert.Equal(t, [][]string{{"0"}}, b.query("p.db", "SELECT sum(pk + \"notnull\") FROM pragma_table_info('p')"))
	q := "id,Telefon,zip code\n"
	for i := range 60 {
		q += fmt.Sprintf("%d,30%d,%d\n", i, 4000+i, 10000+i)
	}
	b.write("q.csv", q)
	b.run(0, "load", "q.csv", "--into", "sqlite:q.db")
	assert.Equal(t, [][]string{{"text", "text"}}, b.query("q.db", "SELECT typeof(telefon), typeof(zip_code) FROM q LIMIT 1"))
	b.query("q.db", "CREATE TABLE w (id INTEGER, telefon INTEGER, zip_code INTEGER)") // in a table they are what it says
	b.run(0, "load", "q.csv", "--into", "sqlite:q.db", "--table", "w", "--mode", "append")
	assert.Equal(t, [][]string{{"integer", "60"}}, b.query("q.db", "SELECT typeof(telefon), count(*) FROM w"))
	b.write("t.csv", "id,id,toll\nx,1,2.5\nx,2,3.5\nx,3,3.5\nx,4,3.5\nx,5,1\n")
	b.run(0, "plan", "t.csv", "-o", "t.yaml")
	assert.Contains(t, b.read("t.yaml"), "key: [id_2]")
	b.run(0, "load", "t.yaml", "--into", "sqlite:t.db")
	b.write("r.csv", "id,note\r\r\n1,\"a, b\"\r\r\n2,c\r\r\n")
	b.run(0, "load", "r.csv", "--into", "sqlite:r.db")
	assert.Equal(t, [][]string{{"a, b"}}, b.query("r.db", "SELECT note FROM r WHERE id = 1"))
	b.run(0, "verify", "latest", "--deep")
}

// An error is a document, too, where documents are wanted; and an output that is full
// is an error.
func TestErrorsAreDocuments(t *testing.T) {
	b := newBench(t)
	b.write("d.csv", "id,day\n1,01/02/2024\n2,03/04/2024\n")
	doc := b.document(2, "load", "d.csv", "--into", "sqlite:d.db")
	assert.Equal(t, "error 1", doc["document"])
	assert.EqualValues(t, 2, doc["status"])
	q := doc["questions"].([]any)[0].(map[string]any)
	assert.Equal(t, []any{"--dates day-first", "--dates month-first"}, q["options"])
	assert.Contains(t, b.document(1, "look", "nothing.csv")["error"], "no such file")
	assert.Contains(t, b.document(2, "load", "--no-such-option")["error"], "no-such-option")
	b.write("e.csv", doubtfulText)
	doc = b.document(2, "load", "e.csv", "--into", "sqlite:d.db", "--strict")
	assert.Len(t, doc["cautions"], 1)

	full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
	if err != nil {
		t.Skip("there is no device that is full")
	}
	defer full.Close()
	for _, args := range [][]string{{"look", "e.csv"}, {"look", "e.csv", "--json"}, {"plan", "e.csv"}, {"ddl", "e.csv", "--for", "postgres"}} {
		cmd := b.command(args...)
		cmd.Stdout = full
		var text strings.Builder
		cmd.Stderr = &text
		require.Error(t, cmd.Run(), args)
		assert.Equal(t, 1, cmd.ProcessState.ExitCode(), args)
		assert.Contains(t, text.String(), "no space left", args)
	}
}

const doubtfulText = "id,toll\n1,0.50\n2,1.25\n3,2.00,\n4,0.75\n"

// A dry run does all but write: it connects, and sees that the table is there.
func TestDryRunConnects(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		b.write("a.csv", "id,toll\n1,2.50\n")
		r := b.run(0, "load", "a.csv", "--into", s.url, "--dry-run")
		assert.Contains(t, r.out, "nothing was written")
		b.run(0, "load", "a.csv", "--into", s.url)
		assert.Contains(t, b.run(2, "load", "a.csv", "--into", s.url, "--dry-run").err, "exists already")
		b.run(0, "load", "a.csv", "--into", s.url, "--mode", "replace", "--dry-run")
		assert.Equal(t, [][]string{{"1"}}, queryRows(t, s.db, "SELECT "+s.text("count(*)")+" FROM a"))
		if s.name == "sqlite" {
			b.run(0, "load", "a.csv", "--into", "sqlite:new.db", "--dry-run")
			assert.False(t, b.exists("new.db"))
			return
		}
		if s.name == "oracle" {
			return // a database is made by its administrator
		}
		other := s.other(t)
		assert.Contains(t, b.run(1, "load", "a.csv", "--into", other, "--dry-run").err, "--create-database")
		b.run(0, "load", "a.csv", "--into", other, "--dry-run", "--create-database")
		assert.Contains(t, b.run(1, "load", "a.csv", "--into", other).err, "--create-database", "it was not created")
	})
}

// What a plan leaves out has to be there, and what a mend reads is said.
func TestSmallSilences(t *testing.T) {
	b := newBench(t)
	b.write("a.csv", "id,toll,note\n1,2.50,a\n2,x,b\n")
	b.run(0, "plan", "a.csv", "--leave-out", "note", "--type", "toll=decimal(6,2)", "-o", "p.yaml")
	b.write("p.yaml", strings.Replace(b.read("p.yaml"), "- note", "- noet", 1))
	r := b.run(3, "load", "p.yaml", "--into", "sqlite:a.db", "--json")
	assert.Contains(t, r.out, "the plan leaves it out, and there is no such column")
	entry := b.document(0, "tray")["entries"].([]any)[0].(map[string]any)["entry"].(string)
	b.write("fixed.csv", strings.ReplaceAll(strings.ReplaceAll(b.read("tray/"+entry+"/rejects.csv"), ",", ";"), "2;x", "2;7.25"))
	r = b.run(0, "mend", entry, "fixed.csv")
	assert.Contains(t, r.err, `fixed.csv: read as utf-8, ";" between fields`)
}

// Whether the first line has the names is a question where it is even, and a terminal
// or an option answers it; comments and runs of blanks are read, and the plan keeps it.
func TestFormsAtALoad(t *testing.T) {
	b := newBench(t)
	b.write("words.csv", "ability,ablity\naccept,acept\nwierd,weird\n")
	r := b.run(2, "load", "words.csv", "--into", "sqlite:w.db")
	for _, want := range []string{"line 1 may hold the names", "--header-row 1", "--header-row 0"} {
		assert.Contains(t, r.err, want)
	}
	b.run(2, "plan", "words.csv")
	b.run(0, "load", "words.csv", "--into", "sqlite:w.db", "--header-row", "0", "--key", "none")
	assert.Equal(t, [][]string{{"3"}}, b.query("w.db", "SELECT count(*) FROM words"))

	b.write("gauge.dat", "# gauge of the old basin\n# in metres\nid level mark\n1   2.25  a\n2  2.50   b\n# checked\n3 2.75 c\n4 3.00 d\n")
	b.run(0, "plan", "gauge.dat", "-o", "g.yaml")
	for _, want := range []string{"delimiter: blanks", "comment: '#'", "header: names"} {
		assert.Contains(t, strings.ReplaceAll(b.read("g.yaml"), `"`, "'"), want)
	}
	rec := b.loaded(0, "g.yaml", "--into", "sqlite:g.db")
	assert.EqualValues(t, 4, rec.Records.Loaded)
	assert.Contains(t, fmt.Sprint(rec.Skipped), "{comment 1 [# checked]}")
	assert.Equal(t, [][]string{{"10", "10.5"}}, b.query("g.db", "SELECT sum(id), sum(level) FROM gauge"))
	b.run(0, "verify", "latest", "--deep")

	b.write("short.csv", "id,toll,note,mark\n1,2.5,a,b\n2,3.5\n3,4.5,c\n4,5.5,d,e\n5,6.5,f,g\n")
	assert.Contains(t, b.run(3, "load", "short.csv", "--into", "sqlite:s.db").err, "--short-records null")
	rec = b.loaded(0, "short.csv", "--into", "sqlite:s2.db", "--short-records", "null")
	assert.EqualValues(t, 5, rec.Records.Loaded)

	// Decimals with more digits than SQLite computes with are text there, which is said.
	b.write("long.csv", "id,price\n1,12345678901234567.89\n2,1.25\n")
	assert.Contains(t, b.run(0, "load", "long.csv", "--into", "sqlite:l.db").err, "sorted as text")
	assert.Contains(t, b.run(0, "load", "long.csv", "--into", "sqlite:l.db", "--table", "d", "--dry-run", "--json").out,
		`"not-in-database"`)
}

// A table of SQLite with its own way with conflicts: rows that it refuses are rejects,
// nothing is replaced or passed over, and a transaction that it ends by itself is the end
// of the load, with no row behind it.
func TestOwnConflicts(t *testing.T) {
	b := newBench(t)
	b.write("d.csv", "id,v\n1,a\n2,b\n2,c\n3,d\n4,e\n5,f\n")
	b.query("c.db", "CREATE TABLE none (x)")
	for _, way := range []string{"ROLLBACK", "REPLACE", "IGNORE", "FAIL", "ABORT"} {
		b.query("c.db", fmt.Sprintf("CREATE TABLE t%s (id integer PRIMARY KEY ON CONFLICT %s, v text)", way, way))
		rec := b.loaded(3, "d.csv", "--into", "sqlite:c.db", "--table", "t"+way, "--mode", "append", "--again", "--max-rejects", "none")
		assert.Equal(t, tray.Records{Read: 6, Loaded: 5, Rejected: 1}, rec.Records, way)
		assert.Equal(t, [][]string{{"5", "b"}}, b.query("c.db", "SELECT count(*), max(CASE WHEN id = 2 THEN v END) FROM t"+way), way)
	}
	b.query("c.db", "CREATE TABLE u (id integer, v text)")
	b.query("c.db", "CREATE TRIGGER tr BEFORE INSERT ON u WHEN new.id = 3 BEGIN SELECT raise(ROLLBACK, 'no three'); END")
	r := b.run(1, "load", "d.csv", "--into", "sqlite:c.db", "--table", "u", "--mode", "append", "--again", "--max-rejects", "none")
	assert.Contains(t, r.err, "no three")
	assert.Contains(t, r.err, "rolled back")
	assert.Equal(t, [][]string{{"0"}}, b.query("c.db", "SELECT count(*) FROM u"))
}

// A column whose type changes what it is given takes nothing that it would change: codes
// that it would make numbers of, numbers with more digits than it keeps, and words that
// it takes for the place of one.
func TestColumnsThatChangeValues(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		b.write("c.csv", "id,code\n1,007\n2,012\n3,100\n4,101\n5,102\n")
		s.exec(t, "CREATE TABLE codes (id int, code int)")
		into := []string{"--into", s.url, "--mode", "append", "--again", "--table"}
		r := b.run(2, append(append([]string{"load", "c.csv"}, into...), "codes")...)
		assert.Contains(t, r.err, "2 values do not fit: a code, of which the column would make a number, first on line 2 '007'")
		b.run(0, append(append([]string{"load", "c.csv", "--type", "code=integer"}, into...), "codes")...)
		assert.Equal(t, [][]string{{"7"}}, queryRows(t, s.db, "SELECT "+s.text("code")+" FROM codes WHERE id = 1"))
		switch s.name {
		case "sqlite":
			b.write("n.csv", "id,code,big\n1,007,12345678901234567890\n2,x1,5.25\n3,x2,7\n4,x3,123456789012345\n5,x4,0.5\n")
			s.exec(t, "CREATE TABLE named (id int, code string, big numeric)") // SQLite has no type string: it is numeric
			r := b.run(2, append(append([]string{"load", "n.csv"}, into...), "named")...)
			assert.Contains(t, r.err, "code: 1 value does not fit: a code")
			assert.Contains(t, r.err, "big: 1 value does not fit: more digits than the column keeps")
			rec := b.loaded(3, append(append([]string{"n.csv", "--tolerate", "20%", "--max-rejects", "none"}, into...), "named")...)
			assert.Equal(t, tray.Records{Read: 5, Loaded: 4, Rejected: 1}, rec.Records)
			assert.Equal(t, [][]string{{"x1"}, {"x2"}, {"x3"}, {"x4"}}, queryRows(t, s.db, "SELECT code FROM named ORDER BY id"))
		case "postgres":
			b.write("p.csv", "id,r,m,c\n1,0.123456789,12.34,a\n2,16777217,1.5,b\n3,1.5,2,c\n4,123456,3.456,d\n5,0.000012,4,ef\n")
			s.exec(t, `CREATE TABLE few (id int, r real, m money, c "char")`)
			r := b.run(2, append(append([]string{"load", "p.csv"}, into...), "few")...)
			for _, want := range []string{"r: 2 values do not fit: more digits", "m: 1 value does not fit: more digits", "c: 1 value is longer"} {
				assert.Contains(t, r.err, want)
			}
			b.loaded(3, append(append([]string{"p.csv", "--tolerate", "40%", "--max-rejects", "none"}, into...), "few")...)
			assert.Equal(t, [][]string{{"3", "1.5", "2", "c"}}, queryRows(t, s.db, "SELECT id::text, r::text, m::numeric::float::text, c::text FROM few"))
		case "sqlserver":
			b.write("s.csv", "id,r,m,old,small,code\n1,0.123456789,12.3456,2024-01-01 10:00:00.12,2024-01-01 10:00:00,é\n2,16777217,1.5,2024-01-01 10:00:00.125,2024-01-01 10:00:30,a\n3,1.5,2,2024-01-01 10:00:00,2024-01-01 10:01:00,ψ\n4,0.25,1,2024-01-01 00:00:00.99,1999-12-31 23:59:00,b\n")
			s.exec(t, "CREATE TABLE few (id int, r real, m money, old datetime, small smalldatetime, code varchar(5))")
			r := b.run(2, append(append([]string{"load", "s.csv"}, into...), "few")...)
			for _, want := range []string{"r: 2 values do not fit: more digits than the column keeps", "old: 1 value does not fit: more digits", "small: 1 value does not fit: more digits",
				"code: 1 value does not fit: a letter that the column's code page does not have, first on line 4 'ψ'"} {
				assert.Contains(t, r.err, want)
			}
			rec := b.loaded(3, append(append([]string{"s.csv", "--tolerate", "50%", "--max-rejects", "none"}, into...), "few")...)
			assert.Equal(t, tray.Records{Read: 4, Loaded: 1, Rejected: 3}, rec.Records)
			assert.Equal(t, [][]string{{"4", "0.25", "2024-01-01 00:00:00.990", "1999-12-31 23:59:00.000"}}, queryRows(t, s.db,
				"SELECT "+s.text("id")+", CONVERT(nvarchar(40), CAST(r AS decimal(9,2))), "+s.text("old")+", "+s.text("small")+" FROM few"))
			v := b.run(3, "verify", rec.Entry)
			assert.Contains(t, v.out, "6 of 6")
		case "mysql":
			b.write("w.csv", "id,e,w,y\n1,a,\"x,y\",2024\n2,b,x,1999\n3,2,x,2000\n4,IT'S,,2155\n5,a,\"x,z\",1901\n6,a,y,0\n")
			s.exec(t, "CREATE TABLE words (id int, e enum('a','b','It''s'), w set('x','y'), y year)")
			rec := b.loaded(3, append(append([]string{"w.csv", "--tolerate", "50%", "--max-rejects", "none"}, into...), "words")...)
			assert.Equal(t, tray.Records{Read: 6, Loaded: 3, Rejected: 3}, rec.Records)
			assert.Equal(t, [][]string{{"a", "x,y", "2024"}, {"b", "x", "1999"}, {"It's", "<null>", "2155"}},
				queryRows(t, s.db, "SELECT e, w, cast(y AS char) FROM words ORDER BY id"))
			v := b.run(3, "verify", rec.Entry)
			assert.Contains(t, v.out, "2 of 4: only the nulls of e, w are compared", "what cannot be compared is not said to agree")
			assert.Contains(t, v.out, "in what is compared")
			s.exec(t, "CREATE TABLE bits (id int, code bit(8))")
			assert.Contains(t, b.run(2, append(append([]string{"load", "c.csv"}, into...), "bits")...).err, "of 5 it would make 53")
		}
	})
}

// Nothing in a file, its name or a table's steers the terminal.
func TestNothingSteersTheTerminal(t *testing.T) {
	b := newBench(t)
	name := "e\x1b[31mvil\u202e.csv"
	b.write(name, "id,na\x1b[2Jme,note\n1,\x1b]0;owned\a x,\"two\r\nlines\"\n2,\u009b31m,\u2066 y\n3,c,z\n4,d,z\nfive,e,z\n6,f,\u2028z\n")
	table := "t\x1b[5mx"
	b.query("c.db", "CREATE TABLE \""+table+"\" (id integer, \"na\x1b[2Jme\" text, note text)")
	for _, args := range [][]string{{"look", name}, {"look", name, "--type", "id=integer"}, {"plan", name}, {"ddl", name, "--for", "sqlite"},
		{"load", name, "--into", "sqlite:c.db", "--table", table, "--mode", "append", "--type", "id=integer", "--tolerate", "30%", "--max-rejects", "none"},
		{"load", name, "--into", "sqlite:c.db", "--names", "keep", "--table", "new", "--type", "id=integer", "--tolerate", "30%", "--max-rejects", "none"},
		{"tray"}, {"rejects", "latest"}, {"verify", "latest", "--deep"}, {"peek", "sqlite:c.db"}, {"peek", "sqlite:c.db", table}, {"look", "no" + name},
		{"load", name, "--into", "sqlite:no\x1bthing/c.db"}, {"frob\x1b[31m"}} {
		r := b.try(args...)
		text := r.out + r.err
		if args[0] == "plan" || args[0] == "ddl" {
			text = r.err // what it prints is for programs
		}
		for _, bad := range []string{"\x1b", "\a", "\u009b", "\u202e", "\u2066", "\u2028", "\r"} {
			assert.NotContains(t, text, bad, "%q", args)
		}
	}
	assert.Contains(t, b.try("look", name).out, "e\u241b[31mvil<U+202E>.csv")
}

// A load of which nothing gets in ends early, unless the person wants all rejects.
func TestHopelessLoads(t *testing.T) {
	b := newBench(t)
	var text strings.Builder
	text.WriteString("id,toll\n")
	for i := range 60_000 {
		fmt.Fprintf(&text, "%d,2.50\n", i)
	}
	b.write("many.csv", text.String())
	b.query("c.db", "CREATE TABLE tolls (id INTEGER PRIMARY KEY, toll NUMERIC, CHECK (toll > 5))")
	args := []string{"load", "many.csv", "--into", "sqlite:c.db", "--table", "tolls", "--mode", "append"}
	r := b.run(1, args...)
	assert.Regexp(t, `the first [1-4]\d,\d{3} records are rejected, all of them; nothing was committed`, r.err)
	r = b.run(3, append(args, "--max-rejects", "none")...)
	assert.Contains(t, r.out, "60,000")
}
