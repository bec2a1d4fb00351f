package cli_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// onLanes runs a test on each database whose new tables can be filled over several connections.
func onLanes(t *testing.T, test func(t *testing.T, b *bench, s server)) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		if s.name == "sqlite" {
			b.write("a.csv", "id\n1\n")
			assert.Contains(t, b.run(2, "load", "a.csv", "--into", s.url, "--lanes", "2").err, "takes rows over one connection")
			return
		}
		test(t, b, s)
	})
}

// levels are so many records of some 40 bytes.
func levels(n int, also string) string {
	var text strings.Builder
	text.WriteString("reading,gauge,level,note\n")
	for i := range n {
		fmt.Fprintf(&text, "%d,G%03d,%d.%02d,a note on reading %d\n", i+1, i%90, i%40, i%100, i)
	}
	return text.String() + also
}

// Over several connections, a new table comes to the same as over one: rows, key and indexes.
func TestLanes(t *testing.T) {
	onLanes(t, func(t *testing.T, b *bench, s server) {
		b.write("levels.csv", levels(200_000, ""))
		b.run(0, "plan", "levels.csv", "-o", "levels.yaml", "--key", "reading")
		b.write("levels.yaml", strings.Replace(b.read("levels.yaml"), "columns:\n", "  index: [[gauge]]\ncolumns:\n", 1))
		load := []string{"levels.yaml", "--into", s.url, "--yes", "--mode", "replace"}
		rec := b.loaded(0, append(load, "--lanes", "1")...)
		one := b.run(0, "ddl", s.url, "levels").out
		many := b.loaded(0, append(load, "--lanes", "3")...)
		assert.Equal(t, rec.Columns, many.Columns)
		assert.Equal(t, rec.Table.Checksums, many.Table.Checksums)
		assert.Equal(t, one, b.run(0, "ddl", s.url, "levels").out, "the same definition, key and index")
		assert.Equal(t, []string{"levels"}, s.tables(t))

		// A key that stands twice is one reject, and of the later record, wherever both are.
		b.write("levels.csv", levels(200_000, "7,G900,1.00,again\n"))
		twice := b.loaded(3, append(load, "--lanes", "3", "--max-rejects", "none")...)
		assert.EqualValues(t, []int64{200_000, 1}, []int64{twice.Records.Loaded, twice.Records.Rejected})
		assert.Contains(t, b.read("tray/"+twice.Entry+"/rejects.csv"), "7,G900,1.00,again")
		assert.Equal(t, []string{"levels"}, s.tables(t))
		assert.Equal(t, [][]string{{"a note on reading 6"}}, queryRows(t, s.db, "SELECT note FROM levels WHERE reading = 7"))

		for _, wrong := range [][]string{{"use 1 to 64", "--lanes", "65"}, {"it goes with new tables", "--lanes", "2", "--mode", "append"},
			{"without --commit-every", "--lanes", "2", "--commit-every", "5"}} {
			assert.Contains(t, b.run(2, append(append([]string{"load"}, load...), wrong[1:]...)...).err, wrong[0])
		}
	})
}

// Killed at any moment, there is the old table or the new one, and the next load takes away
// what was left.
func TestLanesKilled(t *testing.T) {
	kills := killsOr(t, 4)
	onLanes(t, func(t *testing.T, b *bench, s server) {
		b.write("old.csv", levels(10, ""))
		b.write("new.csv", levels(200_000, ""))
		b.run(0, "plan", "new.csv", "-o", "new.yaml", "--key", "reading", "--table", "levels")
		load := func(file string) []string {
			return []string{"load", "new.yaml", file, "--into", s.url, "--mode", "replace", "--yes", "--lanes", "3"}
		}
		b.run(0, load("old.csv")...)
		killed := 0
		for i := 0; i < 3*kills && killed < kills; i++ {
			papers := fmt.Sprintf("tray%d", i)
			b.killedAtRandom(60, 900, append(load("new.csv"), "--tray", papers)...)
			list := b.settled(s, papers)
			rows := queryRows(t, s.db, "SELECT "+s.text("count(*)")+" FROM levels")[0][0]
			require.Contains(t, []string{"10", "200000"}, rows)
			for _, x := range list {
				assert.Equal(t, rows != "10", x.Entry.Look().State == "clear", "%s: %v", x.Entry.Name, x.Entry.Look().State)
			}
			if rows == "10" {
				killed++
			}
			b.run(0, append(load("old.csv"), "--tray", "back", "--max-deletes", "100%")...)
			assert.Equal(t, []string{"levels"}, s.tables(t), "nothing is left behind")
		}
		t.Logf("killed in time: %d", killed)
		assert.Positive(t, killed)
	})
}
