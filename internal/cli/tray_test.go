package cli_test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/tray"
)

// receipt reads an entry's receipt and checks that its account balances.
func (b *bench) receipt(entry string) tray.Receipt {
	b.t.Helper()
	var r tray.Receipt
	require.NoError(b.t, json.Unmarshal([]byte(b.read("tray/"+entry+"/receipt.json")), &r))
	assert.True(b.t, r.Records.Balanced(), "%+v", r.Records)
	return r
}

// document runs a command with --json.
func (b *bench) document(code int, args ...string) (doc map[string]any) {
	b.t.Helper()
	r := b.run(code, append(args, "--json")...)
	require.NoError(b.t, json.Unmarshal([]byte(r.out), &doc), r.out)
	return
}

const tollsCSV = "id,day,toll,note\n1,2024-01-31,12.50,a\n2,2024-02-30,6.25,b\n3,2024-03-01,1x.00,\"c, d\"\n4,2024-03-02\n5,2024-03-03,9.75,\"q\"z\n6,2024-03-04,0.25,ok\n3,2024-03-05,1.00,twice\n3,2024-03-05,1.00,twice\n"

// tolls loads a file with one record of each kind of reject: 1 a date, 2 a
// number, 3 too few fields, 4 a stray quote, 5 a key that is there already.
func (b *bench) tolls(s server) string {
	b.write("tolls.csv", tollsCSV)
	b.write("plan.yaml", `ambertray: 1
sources:
  - {file: tolls.csv, delimiter: comma, quote: double, header: 1}
table: {name: tolls, key: [id], row_number: no}
columns:
  - {name: id, from: id, type: integer, required: true}
  - {name: day, from: day, type: date}
  - {name: toll, from: toll, type: "decimal(6,2)"}
  - {name: note, from: note, type: varchar(20)}
`)
	r := b.run(3, "load", "plan.yaml", "--into", s.url, "--json", "--accept-changes")
	var rec tray.Receipt
	require.NoError(b.t, json.Unmarshal([]byte(r.out), &rec), r.out)
	require.Equal(b.t, tray.Records{Read: 8, Loaded: 3, Rejected: 5}, rec.Records, "%+v", rec.Reasons)
	return rec.Entry
}

func TestMend(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		entry := b.tolls(s)
		mended := func(code int, args ...string) map[string]any {
			return b.document(code, append([]string{"mend"}, args...)...)
		}
		rows := b.rejects(entry)
		require.Len(t, rows, 6)
		r := b.run(0, "rejects", "tolls")
		for _, want := range []string{"By reason", "no such date", "'1x.00'", "has 2 fields, the header has 4", "ambertray mend " + entry} {
			assert.Contains(t, r.out, want)
		}
		twice := rows[5]
		assert.Equal(t, []string{"5", "tolls.csv", "9", "8"}, twice[:4], "the first of three is in")

		// As they are, nothing goes in; what the database refuses is tried.
		doc := mended(3, "tolls")
		assert.Empty(t, doc["mended"])
		assert.Len(t, doc["refused"], 5)
		assert.EqualValues(t, 5, doc["tried"])
		before := b.receipt(entry)
		assert.EqualValues(t, 5, before.Records.Rejected)

		// In place: one right, one wrong in another way, one as a spreadsheet
		// fills it up, one taken out.
		text := b.read("tray/" + entry + "/rejects.csv")
		text = strings.Replace(text, ",2,2024-02-30,6.25", ",2,2024-02-29,6.25", 1)
		text = strings.Replace(text, ",3,2024-03-01,1x.00", ",3,2024-03-01,1000000.00", 1)
		text = strings.Replace(text, ",4,2024-03-02\n", ",4,2024-03-02,,\n", 1)
		lines := strings.SplitAfter(text, "\n")
		b.write("tray/"+entry+"/rejects.csv", strings.Join(append(lines[:5:5], ""), ""))
		doc = mended(3, "tolls")
		assert.Equal(t, []any{1.0}, doc["mended"])
		refused := fmt.Sprint(doc["refused"])
		assert.Contains(t, refused, "decimal(6,2) holds")
		assert.Contains(t, refused, "was not changed")
		rec := b.receipt(entry)
		assert.Equal(t, tray.Records{Read: 8, Loaded: 3, Mended: 1, Rejected: 4}, rec.Records)
		assert.EqualValues(t, 4, rec.Table.Rows)
		assert.Contains(t, b.run(0, "rejects", "tolls").out, "decimal(6,2) holds", "the new reason")

		// Again, the same file: what is in stays in once.
		doc = mended(3, entry, filepath.Join("tray", entry, "rejects.csv"))
		assert.Equal(t, []any{1.0}, doc["settled_before"])
		assert.EqualValues(t, 4, b.receipt(entry).Table.Rows)

		// From a spreadsheet, by another name.
		b.write("fixed.csv", "\ufeffreject;source;line;record;column;reason;value;id;day;toll;note\r\n"+
			"2;;4;3;;;;33;2024-03-01;1,00;\r\n3;;5;4;;;;4;2024-03-02;7.00;\"é;\nü\"\r\n4;;6;5;;;;5;2024-03-03;9.75;\"q\"\"z\"\r\n")
		doc = mended(3, "latest", "fixed.csv")
		assert.Equal(t, []any{3.0, 4.0}, doc["mended"], "%v", doc)
		assert.Contains(t, fmt.Sprint(doc["refused"]), "not a number")

		for text, want := range map[string]string{
			"reject,source,line,record,column,reason,value,id,day,toll\n2,,4,3,,,,33,2024-03-01,1\n":                                     "other columns",
			"reject,source,line,record,column,reason,value,id,day,toll,note\n9,,4,3,,,,33,2024-03-01,1,x\n":                              "names the reject 9",
			"reject,source,line,record,column,reason,value,id,day,toll,note\n2,,4,3,,,,33,2024-03-01,1,x\n2,,4,3,,,,34,2024-03-01,1,x\n": "has the reject 2 twice",
			"id,day,toll,note\n33,2024-03-01,1,x\n": "is not a file of rejects",
			"reject,source,line,record,column,reason,value,id,day,toll,note\n2,,4,3,,,,33,2024-03-01,1,x\nthree,,4,3,,,,34,2024-03-01,1,late\n": "is not the number of a reject",
		} {
			b.write("bad.csv", text)
			assert.Contains(t, b.run(2, "mend", "latest", "bad.csv").err, want)
		}
		assert.EqualValues(t, 6, b.receipt(entry).Table.Rows, "nothing went in with a bad file")

		// Waived.
		assert.Contains(t, b.run(2, "mend", "tolls", "--waive", "5").err, "--because")
		assert.Contains(t, b.run(2, "mend", "tolls", "--waive", "1,5", "--because", "x").err, "reject 1 does not wait")
		assert.Contains(t, b.run(2, "mend", "tolls", "--waive", "x", "--because", "x").err, "not a number of a reject")
		doc = mended(3, "tolls", "--waive", "5", "--because", "entered twice")
		assert.Equal(t, "waiting", doc["verdict"])
		b.run(3, "verify", "tolls")
		doc = mended(0, "tolls", "--waive", "all", "--because", "no toll was paid")
		assert.Equal(t, "clear", doc["verdict"])
		rec = b.receipt(entry)
		assert.Equal(t, tray.Records{Read: 8, Loaded: 3, Mended: 3, Waived: 2}, rec.Records)
		assert.Equal(t, "entered twice", rec.Waivers[0].Because)
		assert.Contains(t, b.run(2, "mend", "tolls").err, "nothing waits")
		assert.Contains(t, b.run(0, "rejects", "tolls").out, "no toll was paid")
		assert.Contains(t, b.run(0, "rejects", "tolls", "--all").out, "mended")

		want := [][]string{{"1", "1", "12.50", "a"}, {"2", "2", "6.25", "b"}, {"4", "4", "7.00", "é;\nü"}, {"5", "5", "9.75", "q\"z"}, {"6", "6", "0.25", "ok"}, {"7", "3", "1.00", "twice"}}
		got := queryRows(t, s.db, fmt.Sprintf("SELECT %s, %s, %s, note FROM tolls ORDER BY no", s.text("no"), s.text("id"), s.text("toll")))
		if s.name == "sqlite" || s.name == "oracle" {
			for _, r := range want {
				r[2] = strings.TrimSuffix(strings.TrimRight(r[2], "0"), ".")
				if s.name == "oracle" {
					r[2] = strings.TrimPrefix(r[2], "0")
				}
			}
		}
		assert.Equal(t, want, got, "mended records keep their numbers")
		b.run(0, "verify", "tolls", "--deep")
		assert.Equal(t, "clear", b.document(0, "tray")["entries"].([]any)[0].(map[string]any)["state"])
	})
}

func TestVerify(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		b.write("p.csv", "id,gate,day,toll,due,open\n"+func() (text string) {
			for i := range 500 {
				text += fmt.Sprintf("%d,Löck %d,2024-%02d-%02d,%d.%02d,2024-01-01T10:%02d:%02dZ,%s\n", i, i%7, i%12+1, i%28+1, i%50, i%100, i%60, i%59, []string{"yes", "no", ""}[i%3])
			}
			return
		}())
		entry := b.loaded(0, "p.csv", "--into", s.url, "--key", "id").Entry
		ask := func(code int, args ...string) map[string]any {
			return b.document(code, append([]string{"verify", entry}, args...)...)
		}
		assert.Equal(t, "agrees", ask(0)["answer"])
		deep := ask(0, "--deep")["deep"].(map[string]any)
		assert.EqualValues(t, 500, deep["table_rows"])
		assert.Empty(t, deep["not_compared"])

		// A change that no sum, smallest or largest shows.
		s.exec(t, "UPDATE p SET gate = 'Löck 4' WHERE id = 3")
		assert.Equal(t, "agrees", ask(0)["answer"])
		doc := ask(4, "--deep")
		deep = doc["deep"].(map[string]any)
		assert.Equal(t, []any{map[string]any{"source": "p.csv", "line": 5.0, "source_values": map[string]any{"gate": "Löck 3"}, "table_values": map[string]any{"gate": "Löck 4"}}}, deep["different"])
		assert.Empty(t, deep["missing"])
		r := b.run(4, "verify", entry, "--deep")
		assert.Contains(t, r.out, "Löck 4")
		assert.Contains(t, r.out, "line 5")
		s.exec(t, "UPDATE p SET gate = 'Löck 3' WHERE id = 3")
		ask(0, "--deep")

		// One that a sum shows.
		s.exec(t, "UPDATE p SET toll = toll + 0.01 WHERE id = 4")
		assert.Contains(t, fmt.Sprint(ask(4)["columns"]), "sum:")
		s.exec(t, "UPDATE p SET toll = toll - 0.01 WHERE id = 4")
		for _, change := range []string{"UPDATE p SET day = '2024-01-02' WHERE id = 0", "UPDATE p SET open = NULL WHERE id = 0", "UPDATE p SET gate = ' ' WHERE id = 0"} {
			s.exec(t, change)
			ask(4)
			ask(4, "--deep")
			s.exec(t, "UPDATE p SET day = '2024-01-01', open = "+map[string]string{"postgres": "true"}[s.name]+map[bool]string{true: "1"}[s.name != "postgres"]+", gate = 'Löck 0' WHERE id = 0")
			ask(0, "--deep")
		}

		// A row less, and one more.
		s.exec(t, "DELETE FROM p WHERE id = 499", "INSERT INTO p SELECT 1000, gate, day, toll, due, open FROM p WHERE id = 498")
		deep = ask(4, "--deep")["deep"].(map[string]any)
		assert.Len(t, deep["missing"], 1)
		assert.Len(t, deep["extra"], 1)
		assert.EqualValues(t, 501, deep["missing"].([]any)[0].(map[string]any)["line"])
		s.exec(t, "DELETE FROM p WHERE id = 1000")
		assert.Contains(t, fmt.Sprint(ask(4)["rows"]), "1 row fewer")

		// The source.
		b.write("p.csv", b.read("p.csv")+"500,x,2024-01-01,1.00,,\n")
		assert.Contains(t, fmt.Sprint(ask(4)["sources"]), "has been changed")
		assert.Contains(t, b.run(1, "verify", entry, "--deep").err, "needs the file as it was loaded")
		require.NoError(t, os.Remove(filepath.Join(b.dir, "p.csv")))
		assert.Contains(t, fmt.Sprint(ask(4)["sources"]), "not there any more")
		s.exec(t, "DROP TABLE p")
		assert.Contains(t, fmt.Sprint(ask(4)["rows"]), "does not exist")
	})
}

// After an append, what can still be said is said, and no more.
func TestVerifyAppended(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		b.write("a.csv", "id,who,toll\n1,ann,1.50\n2,,2.50\n3,bo,2.50\n")
		b.write("b.csv", "id,who,toll\n11,ann,1.50\n12,,2.25\n12,,2.25\n")
		b.run(0, "load", "a.csv", "--into", s.url, "--table", "t", "--key", "none")
		entry := b.loaded(0, "b.csv", "--into", s.url, "--table", "t", "--mode", "append").Entry
		assert.Equal(t, "agrees", b.document(0, "verify", entry)["answer"])
		b.run(0, "verify", entry, "--deep")
		s.exec(t, "UPDATE t SET toll = 9 WHERE id = 1")
		assert.Equal(t, "differs", b.document(4, "verify", entry)["answer"], "the whole table is known")
		s.exec(t, "INSERT INTO t (id, who, toll) VALUES (99, 'cy', 7)")
		doc := b.document(1, "verify", entry)
		assert.Equal(t, "cannot be told", doc["answer"])
		assert.Contains(t, fmt.Sprint(doc["rows"]), "only a deep check")
		assert.Equal(t, "agrees", b.document(0, "verify", entry, "--deep")["answer"], "its own records are all there")
		first := "tray/" + b.document(0, "tray")["entries"].([]any)[1].(map[string]any)["entry"].(string)
		assert.Contains(t, b.run(4, "verify", first).out, "4 rows more than after the load, which had filled the whole table")

		// One of two equal records goes.
		if s.name == "mysql" {
			s.exec(t, "DELETE FROM t WHERE id = 12 LIMIT 1")
		} else if s.name == "sqlserver" {
			s.exec(t, "DELETE TOP (1) FROM t WHERE id = 12")
		} else {
			id := map[string]string{"sqlite": "rowid", "postgres": "ctid", "oracle": "rowid"}[s.name]
			s.exec(t, fmt.Sprintf("DELETE FROM t WHERE %s = (SELECT min(%s) FROM t WHERE id = 12)", id, id))
		}
		doc = b.document(4, "verify", entry, "--deep")
		assert.EqualValues(t, 1, doc["deep"].(map[string]any)["missing_count"])
	})
}

var mark = regexp.MustCompile(`"mark": "[^"]*",\s*`)

// A program that is ended at the commit leaves a receipt that is settled by
// asking the table.
func TestEndedAtTheCommit(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		path := func(entry, file string) string { return filepath.Join(b.dir, "tray", entry, file) }
		unsettle := func(entry string) {
			require.NoError(t, os.Rename(path(entry, "receipt.json"), path(entry, "receipt.json.part")))
			// Without the mark, by which the database knows of the commit.
			b.write("tray/"+entry+"/receipt.json.part", mark.ReplaceAllString(b.read("tray/"+entry+"/receipt.json.part"), ""))
		}
		entry := b.tolls(s)

		// It came to be.
		unsettle(entry)
		assert.Equal(t, "unsure", b.document(0, "tray")["entries"].([]any)[0].(map[string]any)["state"])
		assert.Contains(t, b.run(2, "mend", entry, "--waive", "all", "--because", "x").err, "ambertray verify "+entry)
		b.run(3, "verify", entry)
		assert.Equal(t, tray.Waiting, b.receipt(entry).Verdict)

		// A mend that came to be, and one that did not.
		old := b.read("tray/" + entry + "/receipt.json")
		b.write("tray/"+entry+"/rejects.csv", strings.Replace(b.read("tray/"+entry+"/rejects.csv"), ",2,2024-02-30,6.25", ",2,2024-02-29,6.25", 1))
		b.run(3, "mend", entry)
		now := mark.ReplaceAllString(b.read("tray/"+entry+"/receipt.json"), "")
		b.write("tray/"+entry+"/receipt.json", old)
		b.write("tray/"+entry+"/receipt.json.part", now)
		doc := b.document(3, "mend", entry)
		assert.Equal(t, []any{1.0}, doc["settled_before"], "it is not loaded a second time")
		s.exec(t, "DELETE FROM tolls WHERE id = 2")
		b.write("tray/"+entry+"/receipt.json", old)
		b.write("tray/"+entry+"/receipt.json.part", now)
		doc = b.document(3, "mend", entry)
		assert.Equal(t, []any{1.0}, doc["mended"], "it is loaded now")

		// Neither.
		s.exec(t, "DELETE FROM tolls WHERE id IN (1, 6)")
		b.write("tray/"+entry+"/receipt.json.part", now)
		assert.Contains(t, b.run(1, "verify", entry).err, "tells neither")

		// A load that did not come to be.
		b.write("b.csv", "id\n1\n2\n")
		entry = b.loaded(0, "b.csv", "--into", s.url).Entry
		unsettle(entry)
		s.exec(t, "DROP TABLE b")
		assert.Contains(t, b.run(1, "verify", entry).err, "did not come to be")
		assert.Equal(t, tray.Failed, b.receipt2(entry).Verdict)
	})
}

// receipt2 reads a receipt whose account need not balance: that of a load that
// failed.
func (b *bench) receipt2(entry string) (r tray.Receipt) {
	require.NoError(b.t, json.Unmarshal([]byte(b.read("tray/"+entry+"/receipt.json")), &r))
	return
}

// One program works on an entry at a time, and one that runs is seen.
func TestOneAtATime(t *testing.T) {
	b := newBench(t)
	s := server{name: "sqlite", url: "sqlite:" + filepath.Join(b.dir, "canal.db")}
	entry := b.tolls(s)
	var big strings.Builder
	big.WriteString("id,text\n")
	for i := range 900_000 {
		fmt.Fprintf(&big, "%d,a record that takes its time %d\n", i, i*7)
	}
	b.write("big.csv", big.String())
	cmd := b.command("load", "big.csv", "--into", "sqlite:big.db")
	require.NoError(t, cmd.Start())
	seen := false
	for range 400 {
		for _, e := range b.document(0, "tray")["entries"].([]any) {
			seen = seen || e.(map[string]any)["state"] == "running"
		}
		if seen {
			break
		}
		time.Sleep(5 * time.Millisecond)
	}
	assert.True(t, seen, "the load is seen running")
	require.NoError(t, cmd.Process.Kill())
	cmd.Wait()
	states := map[string]bool{}
	for _, e := range b.document(0, "tray")["entries"].([]any) {
		states[e.(map[string]any)["state"].(string)] = true
	}
	assert.Equal(t, map[string]bool{"waiting": true, "cut off": true}, states)
	assert.Contains(t, b.run(0, "tray").out, "cut off")
	assert.Contains(t, b.run(2, "verify", "nowhere").err, entry)
	assert.Contains(t, b.run(1, "verify", "tolls", "--into", "sqlite:none.db").err, "no such file")
	assert.False(t, b.exists("none.db"))
}

// A plan on the next file: what has changed is said before anything is loaded.
func TestTheNextFile(t *testing.T) {
	b := newBench(t)
	head, rows := "Id,Day,Toll\n", ""
	for i := range 300 {
		rows += fmt.Sprintf("%d,%02d/01/2024,%d.50\n", i, i%28+1, i)
	}
	b.write("jan.csv", head+rows)
	b.run(0, "plan", "jan.csv", "--table", "tolls", "-o", "plan.yaml")
	load := func(code int, file string, more ...string) result {
		os.Remove(filepath.Join(b.dir, "c.db"))
		return b.run(code, append([]string{"load", "plan.yaml", file, "--into", "sqlite:c.db"}, more...)...)
	}
	assert.NotContains(t, load(0, "jan.csv").out, "Compared", "it is the file that the plan was made from")
	b.write("same.csv", head+rows)
	assert.Contains(t, load(0, "same.csv").out, "columns and form are those of the plan")
	b.write("moved.csv", "Toll,Id,Day\n5.50,1,03/01/2024\n")
	assert.Contains(t, load(0, "moved.csv").out, "another order")
	b.write("new.csv", "Id,Day,Toll,Boat\n1,03/01/2024,5.50,Heron\n")
	r := load(0, "new.csv")
	assert.Contains(t, r.out, "is new and not in the plan")
	b.write("missing.csv", "Id,Tag,Toll\n1,03/01/2024,5.50\n")
	r = load(2, "missing.csv")
	assert.Contains(t, r.err, `is missing; in its place stands "Tag", perhaps a new name for it`)
	assert.False(t, b.exists("c.db"))
	b.write("semicolons.csv", strings.ReplaceAll(head+rows, ",", ";"))
	assert.Contains(t, load(2, "semicolons.csv").err, "delimited by ';', not ','")
	b.write("few.csv", head+strings.Replace(rows, "7,08/01/2024", "7,32/01/2024", 1))
	r = load(3, "few.csv")
	assert.Contains(t, r.out, "1 of 300 values do not fit date")
	assert.Contains(t, r.out, "caution")
	b.write("retyped.csv", head+strings.ReplaceAll(rows, "/01/2024", ".01.2024"))
	r = load(2, "retyped.csv")
	assert.Contains(t, r.err, "300 of 300 values do not fit date")
	assert.Contains(t, r.err, "--accept-changes")
	assert.Contains(t, load(3, "retyped.csv", "--accept-changes").out, "waiting")
	b.write("ragged.csv", head+rows[:len(rows)/2]+strings.ReplaceAll(rows[len(rows)/2:], ".50\n", ".50,x\n"))
	assert.Contains(t, load(2, "ragged.csv").err, "has 4 fields, the header has 3")
	r = load(2, "retyped.csv", "--json")
	var doc map[string]any
	require.NoError(t, json.Unmarshal([]byte(r.out), &doc))
	assert.Equal(t, true, doc["blocked"])

	// Several files are one load; their headers may differ in order.
	b.write("feb.csv", "day,ID,toll\n01/02/2024,1000,0.25\nx,1001,0.25\n")
	b.write("plan.yaml", strings.Replace(b.read("plan.yaml"), "type: smallint", "type: integer", 1))
	os.Remove(filepath.Join(b.dir, "c.db"))
	assert.Contains(t, b.run(2, "load", "plan.yaml", "jan.csv", "jan.csv", "--into", "sqlite:c.db").err, "named twice")
	rec := b.loaded(3, "plan.yaml", "jan.csv", "feb.csv", "--into", "sqlite:c.db", "--accept-changes")
	assert.Equal(t, tray.Records{Read: 302, Loaded: 301, Rejected: 1}, rec.Records)
	require.Len(t, rec.Sources, 2)
	assert.Equal(t, "feb.csv", rec.Sources[1].Path)
	assert.Equal(t, []string{"1", "feb.csv", "3", "2", "day", "not-a-date", "not a date in the form of this column", "x", "1001", "x", "0.25"}, b.rejects(rec.Entry)[1])
	b.run(3, "verify", rec.Entry, "--deep")
	b.write("tray/"+rec.Entry+"/rejects.csv", strings.Replace(b.read("tray/"+rec.Entry+"/rejects.csv"), "1001,x,", "1001,02/02/2024,", 1))
	b.run(0, "mend", rec.Entry)
	b.run(0, "verify", rec.Entry, "--deep")

	// A pattern in the plan.
	b.write("in-1.csv", head+"1,01/01/2024,1.50\n")
	b.write("in-2.csv", head+"2,01/01/2024,2.50\n")
	b.write("pattern.yaml", strings.Replace(b.read("plan.yaml"), "file: jan.csv", "file: in-*.csv", 1))
	rec = b.loaded(0, "pattern.yaml", "--into", "sqlite:d.db")
	assert.Equal(t, []string{"in-1.csv", "in-2.csv"}, []string{rec.Sources[0].Path, rec.Sources[1].Path})
	assert.Contains(t, b.run(0, "look", "pattern.yaml").out, "in-1.csv and 1 other source")
	b.write("pattern.yaml", strings.Replace(b.read("plan.yaml"), "file: jan.csv", "file: out-*.csv", 1))
	assert.Contains(t, b.run(2, "load", "pattern.yaml", "--into", "sqlite:e.db").err, "no file matches")
	// Without a plan, several files are one table, too.
	rec = b.loaded(0, "jan.csv", "in-1.csv", "--into", "sqlite:e.db", "--table", "t", "--key", "none")
	assert.EqualValues(t, 301, rec.Records.Loaded)
}

// The same bytes are not added to a table twice, whatever they are called.
func TestTheSameFileTwice(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		b.write("a.csv", "id,who\n1,ann\n")
		b.write("copy.csv", "id,who\n1,ann\n")
		b.write("b.csv", "id,who\n2,bob\n")
		into := []string{"--into", s.url, "--table", "t"}
		b.run(0, append([]string{"load", "a.csv", "--key", "none"}, into...)...)
		r := b.run(2, append([]string{"load", "copy.csv", "--mode", "append"}, into...)...)
		assert.Contains(t, r.err, "its bytes are in the table")
		b.run(0, append([]string{"load", "b.csv", "--mode", "append"}, into...)...)
		r = b.run(2, append([]string{"load", "b.csv", "--mode", "append"}, into...)...)
		assert.Contains(t, r.err, "--again")
		b.run(0, append([]string{"load", "b.csv", "--mode", "append", "--again"}, into...)...)
		r = b.run(0, append([]string{"load", "a.csv", "--mode", "refill", "--yes", "--max-deletes", "2"}, into...)...)
		assert.Contains(t, r.err, "had been loaded into this table before", "said, but a refill does not double anything")
		b.run(0, append([]string{"load", "b.csv", "--mode", "append"}, into...)...) // gone with the refill
		assert.Len(t, queryRows(t, s.db, "SELECT * FROM t"), 2)
	})
}

// A mend that is killed at any moment, and run again, loads each record once.
func TestMendKilled(t *testing.T) {
	var text, fixed strings.Builder
	text.WriteString("id,n\n")
	fixed.WriteString("reject,source,line,record,column,reason,value,id,n\n")
	for i := range 20_000 {
		fmt.Fprintf(&text, "%d,x\n%d,1\n", 2*i, 2*i+1)
		fmt.Fprintf(&fixed, "%d,,%d,%d,n,,x,%d,2\n", i+1, 2*i+2, 2*i+1, 2*i)
	}
	onServers(t, func(t *testing.T, b *bench, s server) {
		b.write("in.csv", text.String())
		b.write("fixed.csv", fixed.String())
		b.write("plan.yaml", "ambertray: 1\nsources:\n  - {file: in.csv, header: 1, delimiter: comma}\ntable: {name: t}\ncolumns:\n  - {name: id, from: id, type: integer}\n  - {name: n, from: n, type: integer}\n")
		b.run(3, "load", "plan.yaml", "--into", s.url, "--accept-changes")
		start := time.Now()
		cmd := b.command("mend", "t", "nothing.csv") // how long it takes to begin
		cmd.Run()
		begin := time.Since(start)
		killed := 0
		for i := range 8 {
			cmd := b.command("mend", "t", "fixed.csv")
			require.NoError(t, cmd.Start())
			time.Sleep(begin/2 + time.Duration(i)*begin/3 + time.Duration(i*i)*4*time.Millisecond)
			cmd.Process.Kill()
			if cmd.Wait(); !cmd.ProcessState.Success() {
				killed++
			}
		}
		assert.Positive(t, killed)
		// What was committed is known to be; the rest goes in now.
		code := b.command("mend", "t", "fixed.csv")
		code.Run()
		for range 20 { // the server may still be rolling back
			if r := b.document(0, "tray")["entries"].([]any)[0].(map[string]any); r["state"] == "clear" {
				break
			}
			time.Sleep(200 * time.Millisecond)
			b.command("mend", "t", "fixed.csv").Run()
		}
		b.run(0, "verify", "t", "--deep")
		assert.Equal(t, [][]string{{"40000", "40000", "60000"}}, queryRows(t, s.db, fmt.Sprintf("SELECT %s, %s, %s FROM t", s.text("count(*)"), s.text("count(DISTINCT id)"), s.text("sum(n)"))))
	})
}
