package cli_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

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
