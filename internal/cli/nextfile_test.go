package cli_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/tray"
)

// Each row: a file that a plan is made from, the next one, and what comes of loading that by the
// plan: how many rows are in, or what is said where it stops.
func TestNextFile(t *testing.T) {
	const month = "day,toll\n1,2.50\n2,3.50\n"
	titled := "Harrowmere Canal Trust\nTolls of May\n" + month
	for _, tt := range []struct {
		what, first, next string
		rows              int    // of the next file; negative: it stops
		says              string // on the screen
		options           string // of plan
	}{
		{"the total is gone", month + "Total,6.00\n", "day,toll\n3,2.75\n4,9.99\n", 2, "has no footer", ""},
		{"the total is there again", month + "Total,6.00\n", "day,toll\n3,2.75\nTotal,2.75\n", 1, "1 footer line: 'Total,2.75'", ""},
		{"a total is new", month, "day,toll\n3,2.75\nTotal,2.75\n", -1, "ends with a line that looks like no record: Total,2.75", ""},
		{"a remark stands below the total", month + "Total,6.00\n", "day,toll\n3,2.75\nTotal,2.75\nprinted 1 June\n", 1, "2 footer lines", ""},
		{"a total among the records", month, "day,toll\n3,2.75\nTotal,2.75\n4,9.99\n", -1, "nothing says whether they are to be loaded", ""},
		{"totals are skipped", "day,toll\n1,2.50\nTotal,2.50\n2,3.50\n", "day,toll\n3,2.75\nSubtotal May,2.75\n4,9.99\nTotal,12.74\n5,1.00\n", 3, "2 total lines: 'Subtotal May,2.75', 'Total,12.74'", "--totals skip"},
		{"the titles are gone", titled, "day,toll\n3,2.75\n4,9.99\n", 2, "", ""},
		{"a title more", titled, "Printed on Friday\nHarrowmere Canal Trust\nTolls of June\nday,toll\n3,2.75\n4,9.99\n", 2, "3 title lines: 'Printed on Friday'", ""},
		{"the header is among the records", month, "3,2.75\nday,toll\n4,9.99\n", -1, "line 1 stands above the records, and looks like one: '3,2.75'", ""},
		{"the header is gone", month, "3,2.75\n4,9.99\n", -1, "is missing", ""},
		{"a column is called otherwise", month, "day,fee\n3,2.75\n", -1, "toll: is missing; in its place stands \"fee\"", ""},
		{"another delimiter", month, "day;toll\n3;2.75\n4;3.75\n", -1, "delimited by ';'", ""},
		{"a column that stood twice", "id,x,x\n1,10,20\n", "id,x\n4,13\n", -1, "x: is missing", ""},
		{"a header that stands twice, in another order", "id,x,x\n1,10,20\n", "x,x,id\n10,20,2\n", -1, "the header stands twice", ""},
		{"no header, and titles that are gone", "Tolls of May\n1,2.50\n2,3.50\n", "3,2.75\n4,9.99\n", 2, "", "--header-row 0"},
		{"no header, and a title more", "Tolls of May\n1,2.50\n2,3.50\n", "Trust\nTolls of June\n3,2.75\n4,9.99\n", 2, "2 title lines", "--header-row 0"},
	} {
		b := newBench(t)
		b.write("first.csv", tt.first)
		b.write("next.csv", tt.next)
		b.run(0, append([]string{"plan", "first.csv", "--table", "t", "-o", "t.yaml"}, strings.Fields(tt.options)...)...)
		b.run(0, "load", "t.yaml", "--into", "sqlite:c.db")
		was := b.query("c.db", "SELECT count(*) FROM t")[0][0]
		for _, load := range []string{"--mode append", "--table n"} {
			args := append([]string{"load", "t.yaml", "next.csv", "--into", "sqlite:c.db"}, strings.Fields(load)...)
			if tt.rows < 0 {
				r := b.run(2, args...)
				assert.Contains(t, flat(r.err), tt.says, tt.what)
				assert.Equal(t, was, b.query("c.db", "SELECT count(*) FROM t")[0][0], tt.what)
				continue
			}
			r := b.run(0, args...)
			assert.Contains(t, flat(r.out+r.err), tt.says, tt.what)
			table := map[bool]string{true: "n", false: "t"}[load == "--table n"]
			var n int
			fmt.Sscan(was, &n)
			if table == "n" {
				n = 0
			}
			assert.Equal(t, fmt.Sprint(n+tt.rows), b.query("c.db", "SELECT count(*) FROM "+table)[0][0], tt.what)
		}
	}
}

// flat is text without the line breaks and spaces of a table.
func flat(s string) string { return strings.Join(strings.Fields(s), " ") }

// A number of lines in a plan takes only what looks like such lines.
func TestPlacesAreTried(t *testing.T) {
	b := newBench(t)
	b.write("m.csv", "day,toll\n1,2.50\n2,3.50\nTotal,6.00\n")
	b.write("a.csv", "day,toll\n3,2.75\n4,9.99\n")
	b.run(0, "plan", "m.csv", "--table", "t", "-o", "t.yaml")
	plan := b.read("t.yaml")
	for key, says := range map[string]string{"footer: 1": "line 3 is a footer by the plan, and looks like a record: '4,9.99'",
		"header: 2": "day: is missing"} {
		name, _, _ := strings.Cut(key, ":")
		var lines []string
		for _, l := range strings.Split(plan, "\n") {
			if strings.HasPrefix(strings.TrimSpace(l), name+":") {
				l = "    " + key
			}
			lines = append(lines, l)
		}
		b.write("p.yaml", strings.Join(lines, "\n"))
		assert.Contains(t, flat(b.run(2, "load", "p.yaml", "a.csv", "--into", "sqlite:c.db").err), says, key)
	}
	b.write("p.yaml", strings.Replace(plan, "footer: words", "footer: 1", 1))
	b.run(0, "load", "p.yaml", "a.csv", "--into", "sqlite:c.db", "--accept-changes")
	assert.Equal(t, [][]string{{"1"}}, b.query("c.db", "SELECT count(*) FROM t"))
}

// A source without records, or with few, does not take the rows of a table with it, whatever --yes says.
func TestDeletesAreMinded(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		var full strings.Builder
		full.WriteString("id,toll\n")
		for i := range 100 {
			fmt.Fprintf(&full, "%d,%d\n", i, i%7)
		}
		text := full.String()
		b.write("full.csv", text)
		b.write("few.csv", "id,toll\n1,1\n2,2\n")
		b.write("half.csv", strings.Join(strings.SplitAfter(text, "\n")[:51], ""))
		b.write("empty.csv", "id,toll\n")
		b.run(0, "plan", "full.csv", "--table", "t", "--key", "id", "-o", "t.yaml")
		b.run(0, "load", "t.yaml", "--into", s.url)
		load := func(code int, file, mode string, more ...string) result {
			args := append([]string{"load", "t.yaml", file, "--into", s.url, "--quiet", "--mode"}, strings.Fields(mode)...)
			return b.run(code, append(args, more...)...)
		}
		count := func() string { return fmt.Sprint(queryRows(t, s.db, "SELECT "+s.text("count(*)")+" FROM t")[0][0]) }
		for _, mode := range []string{"refill --yes", "replace --yes", "merge --missing delete"} {
			r := load(2, "empty.csv", mode)
			assert.Contains(t, r.err, "deletes 100 of 100 rows, and its source has no records", mode)
			r = load(2, "few.csv", mode)
			assert.Contains(t, r.err, "deletes 98 of 100 rows", mode)
			assert.Contains(t, r.err, "--max-deletes 98", mode)
			load(2, "few.csv", mode, "--max-deletes", "97")
			assert.Contains(t, load(2, "half.csv", mode, "--max-deletes", "10%").err, "which is more than may be", mode)
			assert.Equal(t, "100", count(), mode)
		}
		load(0, "half.csv", "merge --missing delete")
		assert.Equal(t, "50", count(), "half of them may go")
		load(0, "few.csv", "refill --yes", "--max-deletes", "100%")
		assert.Equal(t, "2", count())
		assert.Contains(t, load(0, "empty.csv", "append").out, ": the sources have no records")
		b.write("t.yaml", b.read("t.yaml")+"expect: {deletes: 0}\n")
		assert.Contains(t, load(2, "empty.csv", "refill --yes").err, "deletes 2 of 2 rows")
	})
}

// The line of a quiet load tells of its cautions, and a strict one leaves papers that do.
func TestQuietTells(t *testing.T) {
	b := newBench(t)
	b.write("a.csv", "id,toll\n1,2\n2,3\n")
	b.write("b.csv", "id,toll,remarks\n3,4,x\n")
	b.run(0, "plan", "a.csv", "--table", "t", "-o", "t.yaml")
	b.run(0, "load", "t.yaml", "--into", "sqlite:c.db")
	load := []string{"load", "t.yaml", "b.csv", "--into", "sqlite:c.db", "--mode", "append", "--quiet"}
	r := b.run(2, append(load, "--strict")...)
	assert.Contains(t, r.err, "remarks: b.csv: is new and not in the plan")
	entry := b.entry()
	assert.Contains(t, r.err, entry)
	assert.Contains(t, b.read("tray/"+entry+"/load.log"), "is new and not in the plan")
	assert.Equal(t, tray.Failed, b.receipt(entry).Verdict)
	assert.Contains(t, b.run(0, load...).out, "; clear; 1 caution: remarks: b.csv: is new and not in the plan; it is not loaded")
}

// The same rows under another name, in another order, with other line ends, are known by their totals.
func TestSameRowsAgain(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		b.write("a.csv", "lock,toll\nAlder,2.50\nWithy,3.25\nNether,1.00\n")
		b.write("b.csv", "lock,toll\r\nWithy,3.25\r\nNether,1.00\r\nAlder,2.50\r\n")
		b.write("c.csv", "lock,toll\nWithy,3.25\nNether,1.00\nAlder,2.75\n")
		b.run(0, "load", "a.csv", "--into", s.url, "--table", "t")
		add := func(code int, file string, more ...string) result {
			return b.run(code, append([]string{"load", file, "--into", s.url, "--table", "t", "--mode", "append"}, more...)...)
		}
		assert.Contains(t, add(2, "b.csv").err, "the same rows are in the table already, by the entry t-")
		add(0, "c.csv")
		add(0, "b.csv", "--again")
		assert.Equal(t, "9", fmt.Sprint(queryRows(t, s.db, "SELECT "+s.text("count(*)")+" FROM t")[0][0]))
	})
}

// A record with a known key and other values is told, where only new ones are added.
func TestKnownAndDifferent(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		b.write("a.csv", "id,toll\n1,2\n2,3\n3,4\n4,5\n5,6\n")
		b.write("b.csv", "id,toll\n1,2\n2,9\n3,\n6,7\n")
		b.run(0, "load", "a.csv", "--into", s.url, "--table", "t", "--key", "id", "--nullable", "toll")
		load := []string{"load", "b.csv", "--into", s.url, "--table", "t", "--mode", "append", "--only-new"}
		assert.Contains(t, b.run(2, append(load, "--strict")...).err, "2 records have a key that the table has, and other values")
		rec := b.loaded(0, load[1:]...)
		require.NotNil(t, rec.Merge)
		assert.EqualValues(t, 2, rec.Merge.Differing)
		assert.EqualValues(t, 1, rec.Merge.Inserted)
		said := fmt.Sprint(rec.Cautions)
		assert.Contains(t, said, "2 records have a key that the table has, and other values; the first: id 2")
		assert.Contains(t, said, "--mode merge")
	})
}
