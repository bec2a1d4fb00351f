package cli_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/tray"
)

// fleet writes two plans: passages, which refer to boats, and boats.
func (b *bench) fleet(n int, more string) {
	var boats, passages strings.Builder
	boats.WriteString("permit,name\n")
	passages.WriteString("id,permit,toll\n")
	for i := range n {
		fmt.Fprintf(&boats, "B%05d,Heron %d\n", i, i)
		fmt.Fprintf(&passages, "%d,B%05d,%d.50\n", i+1, (i*7)%n, i%50)
	}
	b.write("boats.csv", boats.String())
	b.write("passages.csv", passages.String()+more)
	b.run(0, "plan", "boats.csv", "-o", "boats.yaml", "--key", "permit", "--yes")
	b.run(0, "plan", "passages.csv", "-o", "passages.yaml", "--key", "id", "--yes")
	b.write("passages.yaml", strings.Replace(b.read("passages.yaml"), "columns:\n", "  references:\n    - columns: [permit]\n      table: boats\n      to: [permit]\ncolumns:\n", 1))
}

// onGroupers runs a test on each database that can have several loads in one transaction.
func onGroupers(t *testing.T, test func(t *testing.T, b *bench, s server)) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		b.fleet(50, "")
		test(t, b, s)
	})
}

// Plans behind each other load all or none, in the order in which the tables need each other.
func TestTogether(t *testing.T) {
	onGroupers(t, func(t *testing.T, b *bench, s server) {
		both := []string{"load", "passages.yaml", "boats.yaml", "--into", s.url}
		doc := b.document(0, append(both, "--json")...)
		loads := doc["loads"].([]any)
		require.Len(t, loads, 2)
		first := loads[0].(map[string]any)
		assert.Equal(t, "boats", first["table"].(map[string]any)["name"], "what is referred to comes first")
		assert.Len(t, first["together"], 1)
		count := func(table string) string {
			return queryRows(t, s.db, "SELECT "+s.text("count(*)")+" FROM "+table)[0][0]
		}
		assert.Equal(t, "50 50", count("boats")+" "+count("passages"))
		assert.Contains(t, b.run(0, "tray").out, "boats with 1 other")
		b.run(0, "verify", "boats")
		b.run(0, "verify", "passages", "--deep")
		// Rows that are added refer to others of the same transaction, and one that refers to
		// nothing is a reject of its own.
		b.write("boats.csv", "permit,name\nC00001,Newt\n")
		b.write("passages.csv", "id,permit,toll\n9001,C00001,1.50\n9002,C99999,2.50\n9003,B00001,2.50\n")
		r := b.run(3, append(both, "--mode", "append", "--max-rejects", "none")...)
		assert.Contains(t, r.out, "boats  1 record of boats.csv")
		assert.Equal(t, "51 52", count("boats")+" "+count("passages"))

		// If one fails, nothing of the others is in, and all papers say so.
		b.write("boats.csv", "permit,name\nC00002,Eft\n")
		b.write("passages.csv", "id,permit,toll\n9004,C00002,1.50\n9001,C00002,1.50\n")
		r = b.run(1, append(both, "--mode", "append", "--max-rejects", "0")...)
		assert.Contains(t, r.err, "nothing of the other tables was committed, either")
		assert.NotContains(t, r.out, "verdict", "nothing is said to be loaded")
		assert.Equal(t, "51 52", count("boats")+" "+count("passages"))
		all, err := tray.List(filepath.Join(b.dir, "tray"))
		require.NoError(t, err)
		failed := 0
		for _, x := range all {
			if x.State == tray.IsFailed {
				failed++
			}
		}
		assert.Equal(t, 2, failed)
		b.run(0, append(both, "--mode", "append", "--dry-run")...)
		assert.Contains(t, b.run(2, "load", "boats.yaml", "boats.yaml", "--into", s.url, "--mode", "append").err, "two plans load into the table boats")
		assert.Contains(t, b.run(2, append(both, "--mode", "append", "--table", "x")...).err, "the name of one table")

		// So are merges: what refers to a row that is new comes behind it, and a table that the
		// transaction did not get is as it was.
		b.write("boats.csv", "permit,name\nC00003,Teal\nC00001,Newts\n")
		b.write("passages.csv", "id,permit,toll\n9005,C00003,1.50\n9001,C00003,4.50\n")
		b.run(0, append(both, "--mode", "merge", "--dry-run")...)
		assert.Equal(t, "51 52", count("boats")+" "+count("passages"))
		b.run(0, append(both, "--mode", "merge", "--yes")...)
		assert.Equal(t, "52 53", count("boats")+" "+count("passages"))
		assert.Equal(t, [][]string{{"C00003"}}, queryRows(t, s.db, "SELECT permit FROM passages WHERE id = 9001 AND toll = 4.5"))
		assert.Equal(t, "Newts", queryRows(t, s.db, "SELECT name FROM boats WHERE permit = 'C00001'")[0][0])
		b.run(0, "verify", "passages")
		b.write("boats.csv", "permit,name\nC00004,Pochard\n")
		b.write("passages.csv", "id,permit,toll\n9006,C99999,1.50\n")
		b.run(1, append(both, "--mode", "merge", "--yes", "--max-rejects", "0")...)
		assert.Equal(t, "52 53", count("boats")+" "+count("passages"))
		assert.EqualValues(t, 52, b.undone("passages").Rows, "each is taken back by itself")
		assert.EqualValues(t, 51, b.undone("boats").Rows)
		assert.NotContains(t, strings.Join(s.tables(t), " "), "ambertray", "nothing is left behind")
		if s.name == "mysql" {
			onlyNew(t, b, s, both, count)
		}
	})
}

// killsOr is how many kills a test makes: as many as are asked for, else so many.
func killsOr(t *testing.T, kills int) int {
	if n := os.Getenv("AMBERTRAY_KILLS"); n != "" {
		_, err := fmt.Sscan(n, &kills)
		require.NoError(t, err)
	}
	return kills
}

// killedAtRandom runs a command, and kills it at a random moment: from some milliseconds on, within
// so many more.
func (b *bench) killedAtRandom(from, within int, args ...string) {
	b.t.Helper()
	cmd := b.command(args...)
	require.NoError(b.t, cmd.Start())
	time.Sleep(time.Duration(from+rand.IntN(within)) * time.Millisecond)
	require.NoError(b.t, cmd.Process.Kill())
	cmd.Wait()
}

// settled is what lies on a tray when everything has been asked for that a kill has left
// undecided; the states are those from before.
func (b *bench) settled(s server, papers string) []tray.Summary {
	b.t.Helper()
	list, err := tray.List(filepath.Join(b.dir, papers))
	require.NoError(b.t, err)
	for _, x := range list {
		if x.State == tray.Unsure {
			b.try("verify", x.Entry.Name, "--into", s.url, "--tray", papers)
		}
	}
	return list
}

// Killed at any moment, both tables are there or neither is, and the entries say which.
func TestTogetherKilled(t *testing.T) {
	kills := killsOr(t, 6)
	onGroupers(t, func(t *testing.T, b *bench, s server) {
		b.fleet(60000, "")
		killed := 0
		for i := 0; i < 3*kills && killed < kills; i++ {
			papers := fmt.Sprintf("tray%d", i)
			b.killedAtRandom(40, 600, "load", "passages.yaml", "boats.yaml", "--into", s.url, "--tray", papers)
			list := b.settled(s, papers)
			tables := slices.DeleteFunc(s.tables(t), func(n string) bool {
				return strings.HasPrefix(n, "ambertray_") // to be swept by the next load
			})
			if len(tables) == 0 {
				killed++
			} else {
				assert.Equal(t, []string{"boats", "passages"}, tables)
				s.exec(t, "DROP TABLE passages", "DROP TABLE boats")
			}
			for _, x := range list {
				assert.Equal(t, len(tables) > 0, x.Entry.Look().State == tray.IsClear, "%s: %v", x.Entry.Name, x.Entry.Look().State)
			}
		}
		t.Logf("killed in time: %d", killed)
		assert.Positive(t, killed)
	})
}

// onlyNew is what holds of new tables where definitions are committed at once: all are
// made, or replaced, by one statement.
func onlyNew(t *testing.T, b *bench, s server, both []string, count func(string) string) {
	b.run(2, append(both, "--mode", "replace", "--yes")...) // boats is referred to
	s.exec(t, "DROP TABLE passages")
	b.fleet(40, "")
	b.run(0, "plan", "passages.csv", "-o", "passages.yaml", "--key", "id", "--yes") // which refers to nothing
	b.run(0, append(both, "--mode", "replace", "--yes")...)
	assert.Equal(t, "40 40", count("boats")+" "+count("passages"))
	b.write("passages.csv", "id,permit,toll\n1,B00001,1.50\n1,B00002,1.50\n")
	r := b.run(1, "load", "boats.yaml", "passages.yaml", "--into", s.url, "--mode", "replace", "--yes", "--max-rejects", "0")
	assert.Contains(t, r.err, "nothing of the other tables was committed, either")
	assert.Equal(t, "40 40", count("boats")+" "+count("passages"))
	assert.Equal(t, []string{"boats", "passages"}, s.tables(t), "nothing is left behind")
}

// A column whose values are all keys of the table that it is called after is pointed out.
func TestCouldRefer(t *testing.T) {
	onMergers(t, func(t *testing.T, b *bench, s server) {
		b.write("vessels.csv", "code,name\nA1,Heron\nB2,Coot\n")
		b.write("trips.csv", "no,vessel,toll\n1,A1,2\n2,A1,3\n3,B2,1\n4,,1\n")
		b.run(0, "plan", "vessels.csv", "-o", "vessels.yaml", "--key", "code")
		b.run(0, "plan", "trips.csv", "-o", "trips.yaml", "--key", "no")
		into := []string{"--into", s.url, "--yes", "--mode", "replace"}
		const says = "vessel: every value is a key of "
		// In one transaction, whichever comes first.
		assert.Contains(t, b.run(0, append([]string{"load", "trips.yaml", "vessels.yaml"}, into...)...).err, says+"vessels (code)")
		r := b.run(0, append([]string{"load", "trips.yaml"}, into...)...)
		assert.Contains(t, r.err, says)
		assert.Contains(t, r.err, "references: [{columns: [vessel]")
		assert.NotContains(t, b.run(0, append([]string{"load", "vessels.yaml"}, into...)...).err, "every value is a key")
		b.write("trips.csv", "no,vessel,toll\n1,A1,2\n2,C3,3\n")
		assert.NotContains(t, b.run(0, append([]string{"load", "trips.csv", "--table", "trips", "--key", "no"}, into...)...).err, says)
	})
}

// Tables that refer to each other in a circle are loaded where their keys can wait.
func TestTogetherInACircle(t *testing.T) {
	onMergers(t, func(t *testing.T, b *bench, s server) {
		wait := map[string]string{"mysql": "", "sqlserver": ""}
		if _, is := wait[s.name]; !is {
			wait[s.name] = " DEFERRABLE INITIALLY IMMEDIATE"
		}
		if s.name == "sqlite" {
			s.exec(t, "CREATE TABLE crews (id int PRIMARY KEY, boat int REFERENCES boats (id))", "CREATE TABLE boats (id int PRIMARY KEY, crew int REFERENCES crews (id))")
		} else {
			s.exec(t, "CREATE TABLE crews (id int PRIMARY KEY, boat int)", "CREATE TABLE boats (id int PRIMARY KEY, crew int, CONSTRAINT crewed FOREIGN KEY (crew) REFERENCES crews (id)"+wait[s.name]+")",
				"ALTER TABLE crews ADD CONSTRAINT boated FOREIGN KEY (boat) REFERENCES boats (id)"+wait[s.name])
		}
		b.write("crews.csv", "id,boat\n1,7\n2,8\n")
		b.write("boats.csv", "id,crew\n7,2\n8,1\n")
		b.run(0, "plan", "crews.csv", "-o", "crews.yaml")
		b.run(0, "plan", "boats.csv", "-o", "boats.yaml")
		both := []string{"load", "crews.yaml", "boats.yaml", "--into", s.url, "--mode", "append"}
		if s.name == "mysql" || s.name == "sqlserver" || s.name == "oracle" {
			assert.Contains(t, b.run(2, both...).err, "foreign keys cannot wait")
			return
		}
		r := b.run(0, both...)
		assert.Contains(t, r.err, "in a circle")
		assert.Equal(t, [][]string{{"2", "2"}}, queryRows(t, s.db, "SELECT (SELECT count(*) FROM crews), (SELECT count(*) FROM boats)"+s.nothing()))
		b.write("crews.csv", "id,boat\n3,9\n")
		b.write("boats.csv", "id,crew\n10,3\n")
		b.run(1, both...)
		assert.Equal(t, [][]string{{"2", "2"}}, queryRows(t, s.db, "SELECT (SELECT count(*) FROM crews), (SELECT count(*) FROM boats)"+s.nothing()))
		assert.Contains(t, b.run(0, "tray", "--all").out, "failed")
		if s.name == "postgres" {
			s.exec(t, "ALTER TABLE crews ALTER CONSTRAINT boated NOT DEFERRABLE")
			assert.Contains(t, b.run(2, both...).err, "these keys would have to be deferrable: boated of crews")
		}
	})
}

// So it is of tables that are there, whose rows are changed.
func TestTogetherKilledMerging(t *testing.T) {
	kills := killsOr(t, 3)
	onGroupers(t, func(t *testing.T, b *bench, s server) {
		b.fleet(20000, "")
		both := []string{"load", "passages.yaml", "boats.yaml", "--into", s.url, "--yes"}
		b.run(0, both...)
		killed, was := 0, "Heron"
		part := "toll - round(toll - 0.5)" // behind the point
		if s.name == "sqlserver" {
			part = "toll % 1"
		}
		for i := 0; i < 3*kills && killed < kills; i++ {
			papers := fmt.Sprintf("tray%d", i)
			is := map[string]string{"Heron": "Coot", "Coot": "Heron"}[was]
			for _, f := range []string{"boats.csv", "passages.csv"} {
				b.write(f, strings.NewReplacer(was, is, ".50\n", map[string]string{"Coot": ".75\n", "Heron": ".50\n"}[is], ".75\n", ".50\n").Replace(b.read(f)))
			}
			b.killedAtRandom(100, 900, append(both, "--mode", "merge", "--tray", papers)...)
			list := b.settled(s, papers)
			// Whoever asks waits until the server has noticed.
			b.run(0, append(slices.Clone(both), "--mode", "append", "--only-new", "--tray", "other")...)
			changed := queryRows(t, s.db, "SELECT (SELECT "+s.text("count(*)")+" FROM boats WHERE name LIKE '"+is+"%'), (SELECT "+s.text("count(*)")+
				" FROM passages WHERE "+part+" > "+map[string]string{"Coot": "0.6", "Heron": "-1"}[is]+" AND "+part+" < "+map[string]string{"Coot": "1", "Heron": "0.6"}[is]+")"+s.nothing())[0]
			if changed[0] == "0" {
				killed++
				assert.Equal(t, "0", changed[1])
				for _, f := range []string{"boats.csv", "passages.csv"} {
					b.write(f, strings.NewReplacer(is, was, ".75\n", ".50\n", ".50\n", ".75\n").Replace(b.read(f)))
				}
			} else {
				assert.Equal(t, []string{"20000", "20000"}, changed)
				was = is
			}
			for _, x := range list {
				assert.Equal(t, changed[0] != "0", x.Entry.Look().State == tray.IsClear, "%s: %v", x.Entry.Name, x.Entry.Look().State)
			}
		}
		t.Logf("killed in time: %d", killed)
		assert.Positive(t, killed)
	})
}
