package cli_test

import (
	"encoding/json"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/desk"
	"ambertray/internal/tray"
)

func (b *bench) refitted(args ...string) *tray.Refit {
	b.t.Helper()
	var a desk.RefitAnswer
	r := b.run(0, append([]string{"refit", "--json", "--yes"}, args...)...)
	require.NoError(b.t, json.Unmarshal([]byte(r.out), &a), r.out)
	return a.Refit
}

const lockages = `No,Keeper,Rise,Gate,Toll
1,Ann,2.10,A1,3
2,Bram,1.95,,4
3,Cilla,3.00,B7,
4,Dov,2.40,C3,12
`

// A loaded table is changed to what an edited plan says, with every value as it was.
func TestRefit(t *testing.T) {
	onRefitters(t, func(t *testing.T, b *bench, s server) {
		into := []string{"--into", s.url, "--yes"}
		b.write("locks.csv", lockages)
		b.run(0, "plan", "locks.csv", "-o", "was.yaml", "--table", "refitted")
		was := b.read("was.yaml")
		rec := b.loaded(0, append([]string{"was.yaml"}, into...)...)
		values := func() [][]string {
			return queryRows(t, s.db, "SELECT no, keeper, rise, gate, toll FROM refitted ORDER BY no")
		}
		before := values()

		is := strings.NewReplacer("name: refitted", "name: refitted\n  description: Locks\n  key: [no]\n  unique: [[keeper]]\n  index: [[rise]]",
			"type: varchar(8)", "type: varchar(40)\n    required: true\n    description: who has the keys",
			"type: decimal(4,2)", "type: decimal(8,3)", "type: smallint #", "type: bigint\n    fill: no * 10 #",
			"type: varchar(3)", "type: varchar(3)\n    fill: \"'Z9'\"\n    required: true\n    default: Z9").Replace(was)
		require.NotEqual(t, strings.Count(was, "\n"), strings.Count(is, "\n"))
		b.write("is.yaml", is)
		b.write("bad.yaml", strings.Replace(strings.Replace(is, "fill: no * 10", "required: true", 1), "decimal(8,3)", "integer", 1))

		// What does not fit is said, and nothing is changed.
		r := b.run(2, append([]string{"refit", rec.Entry, "bad.yaml"}, into...)...)
		assert.Contains(t, r.err, "column rise, to be integer: of 3 values that is not so, the first is \"2.1")
		assert.Contains(t, r.err, "to be bigint, required: of 1 value that is not so, the first is null")
		assert.Contains(t, r.err, "nothing was changed")
		b.refitted(append([]string{rec.Entry, "is.yaml", "--dry-run"}, into...)...)
		assert.Equal(t, before, values())
		assert.Contains(t, b.run(2, "refit", rec.Entry, "is.yaml", "--into", s.url).err, "say --yes if that is meant")

		x := b.refitted(append([]string{rec.Entry, "is.yaml"}, into...)...)
		assert.EqualValues(t, []int64{2, 4}, []int64{x.Filled, x.Rows})
		assert.Contains(t, x.Changes, "key: none → no")
		after := values()
		assert.Equal(t, "Z9", after[1][3])
		assert.Equal(t, "30", after[2][4])
		_, err := s.db.Exec("INSERT INTO refitted (no, keeper) VALUES (4, 'Eve')")
		assert.Error(t, err, "the key holds")
		_, err = s.db.Exec("INSERT INTO refitted (no, keeper) VALUES (5, 'Dov')")
		assert.Error(t, err, "unique holds")
		s.exec(t, "INSERT INTO refitted (no, keeper) VALUES (5, 'Eve')")
		assert.Equal(t, "Z9", queryRows(t, s.db, "SELECT gate FROM refitted WHERE no = 5")[0][0], "the default holds")
		assert.Contains(t, b.run(2, append([]string{"refit", rec.Entry, "bad.yaml"}, into...)...).err, "the table is not what the load left")
		s.exec(t, "DELETE FROM refitted WHERE no = 5")

		// The entry goes by the new plan, and is sealed.
		assert.Contains(t, b.run(0, "verify", rec.Entry, "--into", s.url).out, "answer  agrees")
		b.run(0, "verify", rec.Entry, "--deep", "--into", s.url)
		b.run(0, "tray", "--check")
		assert.Contains(t, b.run(2, append([]string{"refit", rec.Entry, "is.yaml"}, into...)...).err, "what it is already")

		// Text becomes numbers and back, and a key goes.
		b.write("text.yaml", strings.NewReplacer("type: bigint", "type: varchar(10)", "\n  key: [no]", "").Replace(is))
		b.refitted(append([]string{rec.Entry, "text.yaml"}, into...)...)
		s.exec(t, "INSERT INTO refitted (no, keeper) VALUES (4, 'Eve')")
		s.exec(t, "DELETE FROM refitted WHERE keeper = 'Eve'")
		b.refitted(append([]string{rec.Entry, "is.yaml"}, into...)...)
		assert.Equal(t, after, values())

		// What cannot be said of a table that is there.
		for from, says := range map[string]string{"name: gate": "the table has no column barrier", "[[keeper]]": "drop one by hand",
			"name: refitted": "the plan is for the table"} {
			b.write("x.yaml", strings.NewReplacer(from, strings.NewReplacer("gate", "barrier", "[[keeper]]", "[]", "refitted", "other").Replace(from)).Replace(is))
			assert.Contains(t, b.run(2, append([]string{"refit", rec.Entry, "x.yaml"}, into...)...).err, says)
		}
		b.write("more.csv", "No,Keeper,Rise,Gate,Toll\n6,Fay,2.1,A1,3\n")
		rec = b.loaded(0, append([]string{"more.csv", "--mode", "append", "--table", "refitted"}, into...)...)
		assert.Contains(t, b.run(2, append([]string{"refit", rec.Entry, "is.yaml"}, into...)...).err, "the load did not make the table")
	})
}

// Killed at any moment, the table is as it was or as it was to be, and the entry says which.
func TestRefitKilled(t *testing.T) {
	kills := killsOr(t, 3)
	onRefitters(t, func(t *testing.T, b *bench, s server) {
		var text strings.Builder
		text.WriteString("No,Keeper,Toll\n")
		for i := range 40000 {
			fmt.Fprintf(&text, "%d,Keeper %d,%d\n", i, i, i%900)
		}
		b.write("locks.csv", text.String())
		b.run(0, "plan", "locks.csv", "-o", "a.yaml", "--table", "refitted", "--key", "no")
		rec := b.loaded(0, "a.yaml", "--into", s.url)
		b.write("b.yaml", strings.Replace(b.read("a.yaml"), "type: smallint", "type: varchar(12)", 1))
		plans := []string{"a.yaml", "b.yaml"}
		// One that is let alone says how long it takes here, so that it is killed in that time.
		began := time.Now()
		b.run(0, "refit", rec.Entry, "b.yaml", "--yes", "--into", s.url)
		within := max(int(time.Since(began).Milliseconds()), 40)
		at, killed := 1, 0
		for i := 0; i < 4*kills && killed < kills; i++ {
			b.killedAtRandom(10, within, "refit", rec.Entry, plans[1-at], "--yes", "--into", s.url)
			// Whoever asks settles it, and the table is what the entry says.
			require.Contains(t, b.run(0, "verify", rec.Entry, "--into", s.url).out, "answer  agrees")
			b.run(0, "verify", rec.Entry, "--deep", "--into", s.url)
			var now tray.Receipt
			require.NoError(t, json.Unmarshal([]byte(b.read(filepath.Join("tray", rec.Entry, "receipt.json"))), &now))
			is := len(now.Refits) % 2
			if is == at {
				killed++
			}
			at = is
			for _, c := range now.Columns {
				if c.Name == "toll" {
					assert.Equal(t, []string{"smallint", "varchar(12)"}[at], c.Type)
				}
			}
		}
		t.Logf("killed in time: %d", killed)
		assert.Positive(t, killed)
		b.run(0, "refit", rec.Entry, plans[1-at], "--yes", "--into", s.url)
		for _, name := range s.tables(t) {
			if strings.HasPrefix(name, "ambertray_") && s.name != "mysql" { // where the next load sweeps it
				assert.NotContains(t, name, "ambertray_")
			}
		}
	})
}
