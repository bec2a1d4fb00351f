package cli_test

import (
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"ambertray/internal/tray"
)

// Values that a spreadsheet would run are said, marked in files for one, and loaded and
// mended as they were.
func TestFormulas(t *testing.T) {
	b := newBench(t)
	b.write("a.csv", "id,note,toll\n1,\"=HYPERLINK(\"\"http://x\"\",\"\"y\"\")\",2.50\n2,'tis,3.50\n3,'=x,later\n4,-cmd|x,soon\n5,-5,5.50\n6,+49 30,6.50\n")
	assert.Contains(t, b.run(0, "look", "a.csv").out, "values begin like formulas")
	rec := b.loaded(3, "a.csv", "--into", "sqlite:c.db", "--type", "toll=decimal(6,2)", "--type", "note=varchar(60)", "--max-rejects", "none")
	b.run(2, "rejects", "latest", "--for-spreadsheet")
	r := b.run(0, "rejects", "latest", "-o", "m.csv", "--for-spreadsheet")
	assert.Contains(t, r.err, "ambertray mend "+rec.Entry+" m.csv")
	marked := b.read("m.csv")
	assert.Contains(t, marked, "''=x,later")
	assert.Contains(t, marked, "later,1,3,", "the column marked counts what has a mark, whatever it was")
	assert.Contains(t, marked, "'-cmd|x,soon")
	b.run(2, "rejects", "latest", "-o", "m.csv") // the file exists
	b.write("m.csv", strings.NewReplacer("later", "4.50", "soon", "4.75").Replace(marked))
	b.run(0, "mend", "latest", "m.csv")
	want := [][]string{{`=HYPERLINK("http://x","y")`}, {"'tis"}, {"'=x"}, {"-cmd|x"}, {"-5"}, {"+49 30"}}
	assert.Equal(t, want, b.query("c.db", "SELECT note FROM a ORDER BY id"))

	b.run(0, "export", "sqlite:c.db", "a", "-o", "e.csv", "--plan", "e.yaml", "--for-spreadsheet")
	text := b.read("e.csv")
	assert.Contains(t, text, "'-cmd|x")
	assert.Contains(t, text, ",-5,")
	rec = b.loaded(0, "e.yaml", "--into", "sqlite:d.db")
	assert.Equal(t, tray.Clear, rec.Verdict)
	assert.Equal(t, want, b.query("d.db", "SELECT note FROM a ORDER BY id"))
	assert.NotContains(t, b.run(0, "export", "sqlite:c.db", "a").out, "'-cmd|x")
	words := b.run(0, "dictionary", "a.csv", "--format", "csv", "--for-spreadsheet").out
	assert.Contains(t, words, ",''=x,", "a value that begins with the mark gets one, too")
}

// Rejects go out as a workbook, are mended there by a program of another hand, and come
// back with their zeros; a table goes out as one, and loads back equal.
func TestWorkbooksForPeople(t *testing.T) {
	b := newBench(t)
	b.write("a.csv", "code,note,day,toll\n0012,=x,2026-03-01,2.50\n0013,\"\",2026-03-02,later\n0014,1e5,1850-01-01,soon\n0015,,2026-03-04,5.50\n")
	rec := b.loaded(3, "a.csv", "--into", "sqlite:c.db", "--type", "toll=decimal(6,2)", "--type", "note=varchar(60)", "--keep-empty", "quoted", "--key", "code", "--max-rejects", "none")
	b.run(2, "rejects", "latest", "-o", "m.xlsx", "--for-spreadsheet")
	b.run(0, "rejects", "latest", "-o", "m.xlsx")
	book, err := excelize.OpenFile(filepath.Join(b.dir, "m.xlsx"))
	require.NoError(t, err)
	rows, err := book.GetRows("rejects")
	require.NoError(t, err)
	require.Len(t, rows, 3)
	toll := slices.Index(rows[0], "toll")
	assert.Equal(t, []string{"0013", ""}, rows[1][toll-3:toll-1])
	for i, v := range []string{"3.50", "4.50"} {
		cell, err := excelize.CoordinatesToCellName(toll+1, i+2)
		require.NoError(t, err)
		require.NoError(t, book.SetCellValue("rejects", cell, v))
	}
	require.NoError(t, book.Save())
	b.run(0, "mend", rec.Entry, "m.xlsx")
	want := b.query("c.db", "SELECT code, note, note IS NULL, day, toll FROM a ORDER BY code")
	// That program drops cells with nothing in them, as others do.
	assert.Equal(t, []string{"0013", "<null>", "1", "2026-03-02T00:00:00Z", "3.5"}, want[1])
	assert.Equal(t, []string{"0014", "1e5"}, want[2][:2])

	b.run(2, "export", "sqlite:c.db", "a", "-o", "e.xlsx", "--no-header")
	b.run(0, "export", "sqlite:c.db", "a", "-o", "e.xlsx", "--plan", "e.yaml")
	assert.Contains(t, b.run(0, "export", "sqlite:c.db", "a", "-o", "e.xlsx", "--yes").err, "day has 1 value that a cell would not hold exactly")
	book, err = excelize.OpenFile(filepath.Join(b.dir, "e.xlsx"))
	require.NoError(t, err)
	format, err := book.GetCellType("a", "C2")
	require.NoError(t, err)
	assert.NotEqual(t, excelize.CellTypeInlineString, format, "a day is no text")
	b.loaded(0, "e.yaml", "--into", "sqlite:d.db", "--accept-changes")
	assert.Equal(t, want, b.query("d.db", "SELECT code, note, note IS NULL, day, toll FROM a ORDER BY code"))
}
