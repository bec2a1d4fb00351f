package cli_test

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A table of files has the same account as one of a server: rejects that are mended, a
// receipt, checks later, and a way back.
func TestParquet(t *testing.T) {
	b := newBench(t)
	b.write("boats.csv", "permit,name,length,seen\n0012,\"Grey, Heron\",17.50,2024-02-29 10:00:00\n0044,Kestrel,12.0O,\n"+
		"0071,,21.25,2025-01-01 00:00:01\n0105,Willow,,\n0012,Twice,1.00,\n")
	load := []string{"boats.csv", "--into", "parquet:lake", "--key", "permit", "--type", "length=decimal(6,2)", "--max-rejects", "none"}
	doc := b.document(0, append(append([]string{"load"}, load...), "--dry-run", "--json")...)
	assert.Equal(t, true, doc["dry_run"])
	assert.False(t, b.exists("lake"))
	rec := b.loaded(3, load...)
	assert.EqualValues(t, 3, rec.Records.Loaded)
	assert.EqualValues(t, 2, rec.Records.Rejected)
	assert.True(t, rec.Table.Checksums)
	assert.Contains(t, b.read("lake/boats.sql"), "PRIMARY KEY (permit)")
	assert.Contains(t, b.run(0, "rejects", rec.Entry).out, "the key permit is that of a row before: 0012")

	file := strings.NewReplacer("12.0O", "12.00", "0012,Twice", "0013,Twice").Replace(b.read("tray/" + rec.Entry + "/rejects.csv"))
	b.write("corrected.csv", file)
	time.Sleep(1100 * time.Millisecond) // files are read in the order of the seconds in which their loads began
	b.run(0, "mend", rec.Entry, "corrected.csv")
	out := b.run(0, "verify", rec.Entry, "--deep").out
	assert.Contains(t, out, "every value of 5 records compared with 5 rows")
	files, err := os.ReadDir(b.dir + "/lake/boats")
	require.NoError(t, err)
	assert.Len(t, files, 2, "what was mended is a file of its own")
	assert.Contains(t, b.run(0, "peek", "parquet:lake").out, "boats")
	assert.Contains(t, b.run(0, "ddl", "parquet:lake", "boats").out, "PRIMARY KEY (permit)")
	assert.Contains(t, b.run(0, "ddl", "parquet:lake", "boats", "--for", "mysql").out, "permit VARCHAR(5)")
	assert.Contains(t, b.run(0, "dictionary", "parquet:lake", "boats").out, "DECIMAL(6,2)")
	b.run(0, "report", rec.Entry, "-o", "r.html")
	assert.Contains(t, b.run(0, "peek", "parquet:lake", "boats").out, "DECIMAL(6,2)")
	assert.Contains(t, b.run(2, "load", "boats.csv", "--into", "parquet:lake", "--mode", "append").err, "are in the table boats already")

	b.run(0, "export", "parquet:lake", "boats", "-o", "back.csv")
	assert.Equal(t, "permit,name,length,seen\n0012,\"Grey, Heron\",17.50,2024-02-29 10:00:00\n0071,,21.25,2025-01-01 00:00:01\n"+
		"0105,Willow,,\n0044,Kestrel,12.00,\n0013,Twice,1.00,\n", b.read("back.csv"))
	b.run(0, "load", "back.csv", "--into", "sqlite:c.db", "--table", "boats", "--key", "permit")
	b.run(0, "export", "sqlite:c.db", "boats", "-o", "boats.parquet")
	b.run(0, "export", "parquet:.", "boats", "-o", "again.csv")
	assert.Equal(t, b.read("back.csv"), b.read("again.csv"))
	assert.Contains(t, b.run(2, "export", "sqlite:c.db", "boats", "-o", "x.parquet", "--plan", "x.yaml").err, "leave it out")
	assert.Contains(t, b.run(2, "export", "sqlite:c.db", "boats", "-o", "x.parquet", "--null-word", "NULL").err, "has names, types and nulls")
	b.run(1, "export", "parquet:lake", "--query", "SELECT count(*) FROM boats")

	// What no folder of files can do is said, and changes nothing.
	for _, x := range [][]string{
		{"--mode", "merge"}, {"--mode", "refill", "--keep-old", "--yes"}, {"--mode", "append", "--commit-every", "2", "--again"},
		{"--mode", "replace", "--ledger", "--yes"}, {"--table", "other", "--like", "boats"},
		{"--mode", "append", "--again", "--file-rows", "-1"}, {"--table", "public.boats", "--mode", "append"}} {
		r := b.try(append([]string{"load", "boats.csv", "--into", "parquet:lake"}, x...)...)
		assert.NotZero(t, r.code, x)
		assert.NotContains(t, r.err, "panic", x)
	}
	assert.Contains(t, b.run(2, "load", "boats.csv", "--into", "sqlite:c.db", "--table", "x", "--file-rows", "2").err, "Parquet")
	assert.Contains(t, b.run(0, "verify", rec.Entry).out, "agrees")
	b.run(0, "load", "back.csv", "--into", "parquet:lake", "--table", "whole", "--file-rows", "2")
	files, err = os.ReadDir(b.dir + "/lake/whole")
	require.NoError(t, err)
	assert.Len(t, files, 3)
	b.run(0, "undo", "whole", "--yes")
	assert.False(t, b.exists("lake/whole"))
	assert.False(t, b.exists("lake/whole.sql"))
}

// Killed at random, a table of files is old or new, and the tray knows which.
func TestParquetKilled(t *testing.T) {
	var text strings.Builder
	text.WriteString("id,name,n\n")
	for i := range 200000 {
		fmt.Fprintf(&text, "%d,a name of some length %d,%d.25\n", i+10, i, i)
	}
	b := newBench(t)
	b.write("big.csv", text.String())
	b.run(0, "plan", "big.csv", "-o", "big.yaml")
	b.write("one.csv", "id,name,n\n1,one,1.00\n")
	kills := killsOr(t, 12)
	for i := range kills {
		into := fmt.Sprintf("parquet:lake%d", i)
		papers := fmt.Sprintf("tray%d", i)
		old, all := "0", "200,000"
		args := []string{"load", "big.yaml", "--into", into, "--tray", papers, "--table", "big", "--yes", "--file-rows", "30000"}
		if mode := []string{"create", "append", "refill", "replace"}[i%4]; mode != "create" {
			b.run(0, "load", "one.csv", "--into", into, "--table", "big", "--tray", "first", "--type", "id=integer",
				"--type", "name=varchar(50)", "--type", "n=decimal(8,2)", "--key", "id")
			if old = "1"; mode == "append" {
				all = "200,001"
			}
			args = append(args, "--mode", mode)
		}
		b.killedAtRandom(40, 500, args...)
		out := b.try("tray", "--tray", papers)
		if strings.Contains(out.out, "unsure") {
			b.try("verify", "big", "--tray", papers)
			out = b.try("tray", "--tray", papers)
		}
		rows := "0"
		if list := b.try("peek", into).out; strings.Contains(list, "big") {
			fields := strings.Fields(list[strings.Index(list, "big"):])
			rows = fields[2]
		}
		if strings.Contains(out.out, "  clear") {
			assert.Equal(t, all, rows, args)
		} else {
			assert.Equal(t, old, rows, "%v\n%s", args, out.out)
		}
		// The next load goes, and leaves nothing of the last.
		b.run(0, "load", "one.csv", "--into", into, "--table", "big", "--mode", "replace", "--tray", papers, "--yes", "--key", "id", "--again", "--max-deletes", "100%")
		left, err := os.ReadDir(b.dir + "/" + strings.TrimPrefix(into, "parquet:"))
		require.NoError(t, err)
		for _, x := range left {
			// A mark may stay, of one that was killed when all was done but to take it away.
			assert.NotRegexp(t, `^\.ambertray-big-`, x.Name())
		}
	}
}
