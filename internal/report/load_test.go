package report

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/plan"
	"ambertray/internal/tally"
	"ambertray/internal/tray"
)

const loadPlan = `# written from tolls.csv
ambertray: 1
sources:
  - {file: tolls.csv, encoding: utf-8, delimiter: ',', quote: double, header: 1}
table: {name: tolls, key: [id], row_number: record_no}
leave_out: [Old Notes]
keep: field["ID"] != "0"
columns:
  - name: id
    from: ID
    type: integer # 1 … 9; all different
    required: true
  # CAUTION: 1 value does not fit date; line 7 '<31/04>'
  # CAUTION: read it twice
  - name: day
    from: Day
    type: date
    reading: dd/MM/yyyy # 3 values have a first part above 12
    null_words: [n/a, "-"]
  - name: note
    from: Note
    fill: '"none"'
    type: varchar(20)
    trim: true
  - name: origin
    value: source.file + "<b>"
    type: varchar(30)
`

func account(t *testing.T) *Load {
	p, err := plan.Parse([]byte(loadPlan))
	require.NoError(t, err)
	remarks, err := plan.Remarks([]byte(loadPlan))
	require.NoError(t, err)
	start := time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC)
	column := func(name, typ, lo, hi string, nulls int64) tray.Verified {
		return tray.Verified{Name: name, Type: typ, Agrees: true, Facts: tray.Facts{Nulls: nulls, Smallest: lo, Largest: hi}}
	}
	l := NewLoad(&tray.Receipt{Entry: "tolls-1", Sources: []tray.Source{{Path: "tolls.csv", Size: 1234, SHA256: "ab12"}}, Database: "sqlite:canal.db", Verdict: tray.Waiting,
		Records: tray.Records{Read: 2000, Loaded: 1990, Mended: 2, Waived: 1, Rejected: 3, Skipped: 4}, Skipped: []tray.Skip{{Kind: "title", Count: 1}, {Kind: "left-out", Count: 3}},
		Table: tray.Table{Name: "tolls", Mode: "create", Rows: 1992}, Started: start, Finished: start.Add(1500 * time.Millisecond), Version: "1",
		Columns: []tray.Verified{column("record_no", "bigint", "1", "1992", 0), column("id", "integer", "1", "9", 0), column("day", "date", "2025-01-01", "2025-12-31", 1100), column("note", "varchar(20)", "", "<i>", 0), column("origin", "varchar(30)", "a", "b", 0)},
		Reasons: []tray.Reason{{Column: "day", Reason: "no such date", Count: 6, Line: 7, Value: "<31/04>"}},
		Mends:   []tray.Mend{{File: "right.csv", Kept: "mend-1.csv", SHA256: "cd34", Mended: []int64{1, 2}}},
		Waivers: []tray.Waiver{{Rejects: []int64{3}, Because: "torn & <wet>", By: "keeper"}}}, p, remarks)
	l.Rejects = append(l.Rejects, Reject{Number: 3, Place: "line 7", Column: "day", Reason: "no such date", Value: "<31/04>", State: "waived", Because: "torn"})
	l.More = 5
	l.Definition = "CREATE TABLE tolls (...)"
	return l
}

func TestLoadPage(t *testing.T) {
	l := account(t)
	assert.Equal(t, "2,000 records read = 1,990 loaded + 2 mended + 1 waived + 3 waiting + 4 skipped", l.Sum())
	share := 0.0
	for _, s := range l.Account() {
		share += s.Share
	}
	assert.InDelta(t, 100, share, 1e-9)
	var b strings.Builder
	require.NoError(t, l.HTML(&b))
	page := b.String()
	for _, want := range []string{
		"tolls.csv into sqlite:canal.db", `<span class="verdict waiting">waiting</span>`, "took 1.5s", "ab12",
		"; skipped: 1 title line, 3 records left out by the plan",
		"utf-8", `&#34;,&#34; between fields`, "header in line 1", "Left out: Old Notes", "<code>field[&#34;ID&#34;] != &#34;0&#34;</code>",
		"1 … 9; all different", "written: dd/MM/yyyy (3 values have a first part above 12)", "null is &#39;n/a&#39;, &#39;-&#39;",
		"CAUTION: 1 value did not fit date; line 7 &#39;&lt;31/04&gt;&#39;", "CAUTION: read it twice",
		"the record&#39;s number", "is source.file &#43; &#34;&lt;b&gt;&#34;", "where blank, &#34;none&#34;", "spaces around are taken off", "1,100",
		"line 7 <code>&lt;31/04&gt;</code>", "and 5 more", "from right.csv, kept as mend-1.csv: 2 records", "torn &amp; &lt;wet&gt;", "CREATE TABLE tolls",
		"1,992 rows in the table", "every column agreed",
	} {
		assert.Contains(t, page, want)
	}
	for _, want := range []string{`<th scope="col">column</th>`, `<caption class="unseen">The columns of the table</caption>`,
		`data-h="SHA-256"`} {
		assert.Contains(t, page, want, "for who does not see it, or on a small screen")
	}
	for _, not := range []string{"<31/04>", "<wet>", "<b>", "<i>", "http://", "https://", "<script", "src="} {
		assert.NotContains(t, strings.ReplaceAll(page, `<b class="key">`, ""), not, "text of the data is no part of the page, and nothing is fetched")
	}

	l.Receipt.Table.Proved, l.Receipt.Table.NotProved = true, []string{"marks (jsonb)"}
	var proved bytes.Buffer
	require.NoError(t, l.HTML(&proved))
	assert.Contains(t, proved.String(), "every value was compared with the source before the commit, but for those of marks (jsonb)")
	l.Receipt.Verdict, l.Receipt.Error, l.Receipt.Differences = tray.Failed, "the disk is full", []string{"one row less"}
	b.Reset()
	require.NoError(t, l.HTML(&b))
	for _, want := range []string{"the disk is full", "one row less", "Nothing was changed in the database"} {
		assert.Contains(t, b.String(), want)
	}
}

// A picture has a bar for each class that is not empty, in proportion.
func TestPicture(t *testing.T) {
	c := &Shown{By: tally.ByClass, Step: "10", Bars: []tally.Bar{{Value: "0", Count: 500000}, {Value: "10"}, {Value: "20", Count: 1}, {Value: "30", Count: 250000}}}
	svg := c.Picture()
	assert.True(t, strings.HasPrefix(string(svg), "<svg "))
	assert.Equal(t, "a bar for each 10; the tallest: 500,000 values", c.Caption())
	heights := map[int]float64{} // by place
	for _, bar := range strings.Split(string(svg), "<rect ")[1:] {
		var x, y, w, h float64
		_, err := fmt.Sscanf(bar, `x="%f" y="%f" width="%f" height="%f"`, &x, &y, &w, &h)
		require.NoError(t, err, bar)
		assert.InDelta(t, pictureHeight, y+h, 0.01, "it stands on the ground")
		assert.LessOrEqual(t, x+w, pictureWidth)
		heights[int(x/(pictureWidth/4))] = h
	}
	require.Len(t, heights, 3, "none for the empty class")
	assert.InDelta(t, heights[0]/2, heights[3], 0.1)
	assert.Greater(t, heights[2], 1.0, "one of half a million is to be seen")

	one := &Shown{By: tally.ByLength, Bars: []tally.Bar{{Value: "6", Count: 9}}, longest: 6}
	assert.Empty(t, one.Picture())
	assert.Equal(t, "all of 6 characters", one.Caption())
	one.Bars = append(one.Bars, tally.Bar{Value: "8", Count: 3})
	one.longest = 9
	assert.Equal(t, "by length, 6 to 9 characters; the tallest: 9 values", one.Caption())
}
