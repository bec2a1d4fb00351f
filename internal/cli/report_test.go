package cli_test

import (
	"encoding/json"
	"fmt"
	"html"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/profile"
	"ambertray/internal/report"
	"ambertray/internal/testdb"
)

// reportOf is a report as a document.
func (b *bench) reportOf(entry string, args ...string) (l report.Load) {
	b.t.Helper()
	r := b.run(0, append([]string{"report", entry, "--json"}, args...)...)
	require.NoError(b.t, json.Unmarshal([]byte(r.out), &l), r.out)
	return
}

// shows makes sure that the bars of each column are of so many records.
func shows(t *testing.T, l *report.Load, rows int64) {
	t.Helper()
	for _, c := range l.Columns {
		sum := c.Nulls
		for _, x := range c.Bars {
			sum += x.Count
		}
		assert.Equal(t, rows, sum, c.Name)
	}
}

// The page is of just the records that are in the table.
func TestReport(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		entry := b.tolls(s)
		l := b.reportOf(entry)
		assert.Empty(t, l.Unseen)
		require.Len(t, l.Columns, 5)
		rows := l.Receipt.Table.Rows
		shows(t, &l, rows)
		assert.Len(t, l.Rejects, 5)
		assert.Equal(t, "waiting", l.Rejects[0].State)
		assert.Contains(t, l.Definition, "CREATE TABLE")

		// What is mended is in it, and what became of each reject.
		fixed := filepath.Join(b.dir, "fixed.csv")
		text := strings.Replace(b.read("tray/"+entry+"/rejects.csv"), "2024-02-30,6.25", "2024-02-29,6.25", 1)
		require.NotContains(t, text, "2024-02-30,6.25")
		require.NoError(t, os.WriteFile(fixed, []byte(text), 0o666))
		b.run(3, "mend", entry, fixed)
		b.run(3, "mend", entry, "--waive", "3", "--because", "too <short>")
		l = b.reportOf(entry)
		assert.Empty(t, l.Unseen)
		assert.Equal(t, rows+1, l.Receipt.Table.Rows)
		shows(t, &l, rows+1)
		states := map[string]int{}
		for _, x := range l.Rejects {
			states[x.State]++
		}
		assert.Equal(t, map[string]int{"mended": 1, "waived": 1, "waiting": 3}, states)

		r := b.run(0, "report", "tolls", "-o", "page.html", "--limit", "2")
		assert.Contains(t, r.err, "page.html: the page about "+entry+", with pictures of 5 columns")
		page := html.UnescapeString(b.read("page.html"))
		for _, want := range []string{"waiting", "<svg ", "no such date", "and 3 more", "8 records read = 3 loaded + 1 mended + 1 waived + 3 waiting", "too <short>"} {
			assert.Contains(t, page, want)
		}
		assert.NotContains(t, page, testdb.Password)
		assert.Regexp(t, `(?s)^<!doctype html>.*</html>\s*$`, page)
		assert.Empty(t, regexp.MustCompile(`(?i)(\bsrc=|href|url\()\s*=?\s*["'(]`).FindString(page), "it needs no other file")
		if _, err := exec.LookPath("xmllint"); err == nil {
			out, err := exec.Command("xmllint", "--html", "--noout", filepath.Join(b.dir, "page.html")).CombinedOutput()
			assert.NoError(t, err, string(out))
		}
		assert.Contains(t, b.run(2, "report", "tolls", "-o", "page.html").err, "the file exists")
		b.run(0, "report", "tolls", "-o", "page.html", "--yes", "--no-pictures")
		assert.NotContains(t, b.read("page.html"), "<svg ")

		// A source that is another file now is not taken for what was loaded.
		b.write("tolls.csv", strings.Replace(tollsCSV, "12.50", "99.50", 1))
		r = b.run(0, "report", "tolls", "-o", "page.html", "--yes")
		assert.Contains(t, r.err, "without pictures: tolls.csv:")
		assert.Contains(t, b.read("page.html"), "Without pictures of the columns: tolls.csv:")
		assert.Empty(t, b.reportOf(entry).Columns[0].Bars)
	})
}

// Of several sheets, expressions and records left out: what was loaded.
func TestReportOfSheets(t *testing.T) {
	b := newBench(t)
	b.run(0, "demo", ".")
	l := b.reportOf("tolls")
	assert.Len(t, l.Sources, 10)
	shows(t, &l, 444)
	assert.Equal(t, `remarks != "free passage"`, l.Keep)
	page := b.run(0, "report", "tolls").out
	assert.Contains(t, page, "and 9 other sheets")
	assert.Contains(t, b.read("lock-passages.html"), "the page is torn")
	// The evidence that a plan was written with stays with it, as long as it is of
	// the file that was loaded.
	assert.Contains(t, b.run(0, "report", "gauge_readings").out, "2024-01-01 05:00:00 … 2024-07-18 23:00:00")
	b.write("gauge-readings.tsv", strings.Replace(b.read("gauge-readings.tsv"), "2024-07-18", "2024-07-19", 1))
	b.run(0, "load", "gauges.yaml", "--into", "sqlite:next.db")
	for _, c := range b.reportOf("latest").Columns {
		assert.NotContains(t, strings.Join(c.Decided, ";"), "…", c.Name)
	}
}

// A load that failed has a page, too.
func TestReportOfFailure(t *testing.T) {
	b := newBench(t)
	b.write("in.csv", "id,n\n"+strings.Repeat("1,2\n", 50)+"x,3\n")
	b.run(1, "load", "in.csv", "--into", "sqlite:d.db", "--tolerate", "10%", "--max-rejects", "0")
	entries, err := os.ReadDir(filepath.Join(b.dir, "tray"))
	require.NoError(t, err)
	entries = slices.DeleteFunc(entries, func(e os.DirEntry) bool { return !e.IsDir() })
	require.Len(t, entries, 1)
	name := entries[0].Name()
	l := b.reportOf(name)
	assert.Equal(t, "nothing was loaded", l.Unseen)
	page := b.run(0, "report", name).out
	assert.Contains(t, page, `<span class="verdict failed">`)
	assert.Contains(t, page, "Nothing was changed in the database")
	assert.Contains(t, b.run(2, "report", "nothing").err, "nothing")
}

// A load that is not like the ones before it says so, and the page shows the figures.
func TestSinceLastTime(t *testing.T) {
	b := newBench(t)
	part := func(name string, first, n, blanks int) {
		var text strings.Builder
		text.WriteString("passage,toll\n")
		for i := range n {
			toll := "12.50"
			if i < blanks {
				toll = ""
			}
			fmt.Fprintf(&text, "%d,%s\n", first+i, toll)
		}
		b.write(name, text.String())
	}
	part("a.csv", 1, 100, 2)
	part("b.csv", 1001, 110, 3)
	part("c.csv", 2001, 105, 60)
	into := []string{"--into", "sqlite:t.db", "--table", "tolls", "--mode", "append"}
	first := b.loaded(0, "a.csv", "--into", "sqlite:t.db", "--table", "tolls", "--key", "passage")
	assert.Empty(t, b.loaded(0, append(into, "b.csv")...).Cautions)
	r := b.run(2, append([]string{"load", "c.csv", "--strict"}, into...)...)
	assert.Contains(t, r.err, "caution  toll: blank in 57 % of the records; 2 % to 2.7 % in the last 2 loads")
	assert.Equal(t, [][]string{{"210"}}, b.query("t.db", "SELECT count(*) FROM tolls"), "nothing was changed")
	rec := b.loaded(0, append(into, "c.csv")...)
	require.Len(t, rec.Cautions, 1)
	assert.Equal(t, profile.CodeNotAsBefore, rec.Cautions[0].Code)
	doc := b.document(0, "report", rec.Entry, "--json")
	trends := doc["trends"].([]any)
	assert.Len(t, trends, 2, "records and blanks; all else is as it was")
	assert.Equal(t, map[string]any{"column": "toll", "measure": "blank", "far": true}, func() map[string]any {
		x := trends[1].(map[string]any)
		assert.Len(t, x["loads"], 3)
		delete(x, "loads")
		return x
	}())
	b.run(0, "report", rec.Entry, "-o", "r.html")
	page := b.read("r.html")
	assert.Contains(t, page, "Beside the last loads")
	assert.Contains(t, page, `<td class="n far" data-h="now">57 %</td>`)
	assert.NotContains(t, b.run(0, "report", first.Entry).out, "Beside the last loads", "the first has none")
}
