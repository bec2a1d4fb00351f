package cli_test

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/db/connect"
	"ambertray/internal/desk"
	"ambertray/internal/phrase"
	"ambertray/internal/tray"
)

// wideFile writes a file of many columns, id and c1 …, and five records; each value is by how much more than
// the same in a file of 0.
func (b *bench) wideFile(name string, columns int, more int) {
	var w strings.Builder
	w.WriteString("id")
	for c := 1; c < columns; c++ {
		fmt.Fprintf(&w, ",c%d", c)
	}
	for r := range 5 {
		fmt.Fprintf(&w, "\n%d", r+min(more, 1))
		for c := 1; c < columns; c++ {
			fmt.Fprintf(&w, ",%d", r*columns+c+more)
		}
	}
	b.write(name, w.String()+"\n")
}

// A table may have as many columns as the database takes, in all that is done with it.
func TestManyColumns(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		most := connect.Of(s.url).Dialect.MostColumns
		require.Positive(t, most)
		wide := most - 3 // a merge numbers the rows, and an undo of one says what became of them
		if s.name == "sqlserver" || s.name == "oracle" {
			wide = 600 // the stand-ins are slow, and have not room for the new values of so many, either
		}
		b.wideFile("wide.csv", wide, 0)
		b.run(0, "load", "wide.csv", "--into", s.url, "--key", "id")
		b.wideFile("changed.csv", wide, 7)
		last := fmt.Sprintf("c%d", wide-1)
		args := []string{"changed.csv", "--into", s.url, "--table", "wide", "--mode", "merge"}
		var would desk.MergeAnswer
		require.NoError(t, json.Unmarshal([]byte(b.run(0, append([]string{"load", "--json", "--dry-run"}, args...)...).out), &would))
		require.Len(t, would.Changed, 4)
		require.Len(t, would.Changed[0].Columns, wide-1)
		assert.Equal(t, last, would.Changed[3].Columns[wide-2].Column)
		rec := b.merged(0, args...)
		assert.Equal(t, []int64{4, 1}, []int64{rec.Merge.Changed, rec.Merge.Inserted})
		require.Len(t, rec.Merge.Columns, wide-1)
		assert.Equal(t, tray.ChangedColumn{Name: last, Changed: 4}, rec.Merge.Columns[wide-2])
		b.run(0, "verify", "latest")
		b.run(0, "undo", "latest", "--yes")
		b.run(0, "export", s.url, "wide", "-o", "out.csv")
		assert.Equal(t, b.read("wide.csv"), b.read("out.csv"))

		b.wideFile("wider.csv", most+1, 0)
		code, why := 2, fmt.Sprintf("%s has %s at most", connect.Of(s.url).Dialect.Title, phrase.Grouped(int64(most)))
		if s.name == "oracle" { // whose administrator may have allowed more
			code, why = 1, "ORA-01792"
		} else {
			assert.Contains(t, b.run(2, "load", "wider.csv", "--into", s.url, "--dry-run").err, why)
			assert.Contains(t, b.run(2, "ddl", "wider.csv", "--for", s.name).err, why)
		}
		r := b.run(code, "load", "wider.csv", "--into", s.url)
		assert.Contains(t, r.err, why)
		assert.Contains(t, r.err, "--leave-out")
	})
}

// Rows that are known by all of their values are told apart by all of their texts, however far behind they differ, and
// where their columns take no nulls.
func TestWholeRowsOfLongTexts(t *testing.T) {
	onMergers(t, func(t *testing.T, b *bench, s server) {
		for _, long := range []int{1_500, 70_000} {
			if s.name == "oracle" && long > 4_000 {
				continue // as large objects are not compared there
			}
			rows := func(texts ...int) string {
				w := &strings.Builder{}
				w.WriteString("name,story\n")
				for _, n := range texts {
					fmt.Fprintf(w, "boat,%s%d\n", strings.Repeat("x", long), n)
				}
				return w.String()
			}
			table := fmt.Sprintf("stories_%d", long)
			b.write("a.csv", rows(0, 1, 2, 3, 4, 4))
			b.write("b.csv", rows(2, 3, 4, 5, 6, 4, 4))
			b.run(0, "load", "a.csv", "--into", s.url, "--table", table, "--key", "none", "--require", "name,story")
			rec := b.loaded(0, "b.csv", "--into", s.url, "--table", table, "--mode", "append", "--only-new")
			assert.Equal(t, []int64{3, 4}, []int64{rec.Records.Loaded, rec.Records.Skipped}, "5, 6, and 4 for the third time")
			assert.Equal(t, int64(9), rec.Table.Rows)
			code, left := 0, "a.csv"
			if s.name == "mysql" || s.name == "sqlserver" { // which show no places of rows
				code, left = 2, "all.csv"
				b.write("all.csv", rows(0, 1, 2, 3, 4, 4, 4, 5, 6))
			}
			b.run(code, "undo", "latest", "--yes")
			b.run(0, "export", s.url, table, "-o", "out.csv", "--yes")
			got := strings.Split(b.read("out.csv"), "\n")
			slices.Sort(got[1 : len(got)-1])
			assert.Equal(t, b.read(left), strings.Join(got, "\n"))
		}
	})
}
