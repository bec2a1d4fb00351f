package cli_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/tray"
)

// gauges writes two files of readings with every kind of trouble, and a plan.
// It returns the rows that belong in the table, and the lines of the rejects.
func (b *bench) gauges() (rows [][]string, rejects []string) {
	b.t.Helper()
	const perFile = 40_000
	for k := range 2 {
		file := []string{"upper.csv", "lower.csv"}[k]
		var text strings.Builder
		text.WriteString("Reading,Gauge,Level\n")
		for i := range perFile {
			id, level := k*perFile+i+1, fmt.Sprintf("%d.%02d", i%90, i%100)
			line := fmt.Sprint(i + 2)
			switch {
			case i%1700 == 900: // no number
				level = "frozen"
				rejects = append(rejects, file+" "+line)
			case i%1300 == 700: // the key of an earlier one
				id -= 40
				rejects = append(rejects, file+" "+line)
			default:
				rows = append(rows, []string{fmt.Sprint(id), fmt.Sprintf("gauge %d", i%7), level})
			}
			fmt.Fprintf(&text, "%d,gauge %d,%s\n", id, i%7, level)
		}
		b.write(file, text.String())
	}
	b.write("gauges.yaml", `ambertray: 1
sources:
  - {file: upper.csv, header: 1}
  - {file: lower.csv, header: 1}
table:
  name: gauges
  key: [reading]
columns:
  - {name: reading, from: Reading, type: integer, required: true}
  - {name: gauge, from: Gauge, type: varchar(20)}
  - {name: level, from: Level, type: 'decimal(6,2)'}
tolerate: 1%
`)
	return
}

// killed starts the program and kills it some time after its entry's log has a
// number of commits. It reports whether it was killed before it was done.
func (b *bench) killed(commits int, args ...string) bool {
	b.t.Helper()
	return b.killedCommand(commits, b.command(args...))
}

func (b *bench) killedCommand(commits int, cmd *exec.Cmd) bool {
	b.t.Helper()
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	require.NoError(b.t, cmd.Start())
	done := make(chan error, 1)
	go func() { done <- cmd.Wait() }()
	for range 2000 {
		logs, _ := filepath.Glob(filepath.Join(b.dir, "tray", "*", "load.log"))
		seen := 0
		for _, l := range logs {
			text, _ := os.ReadFile(l)
			seen = max(seen, strings.Count(string(text), "committed on the way"))
		}
		if seen >= commits {
			break
		}
		select {
		case <-done:
			require.Equal(b.t, 3, cmd.ProcessState.ExitCode(), out.String())
			return false
		case <-time.After(time.Millisecond):
		}
	}
	time.Sleep(time.Duration(rand.IntN(2500)) * time.Microsecond)
	cmd.Process.Kill()
	err := <-done
	if _, ended := err.(*exec.ExitError); ended && cmd.ProcessState.ExitCode() >= 0 {
		require.Equal(b.t, 3, cmd.ProcessState.ExitCode(), out.String())
	}
	return cmd.ProcessState.ExitCode() < 0
}

// A load with commits on its way, killed again and again, neither loses nor
// repeats a record, on each database, into a new table and into one with rows.
func TestResumedAfterKills(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		rows, rejects := b.gauges()
		for _, mode := range []string{"create", "append"} {
			want := rows
			if mode == "append" {
				s.exec(t, "DROP TABLE gauges", "CREATE TABLE gauges (reading int PRIMARY KEY, gauge varchar(20), "+s.reserved("level")+" decimal(6,2))", "INSERT INTO gauges VALUES (-5, 'old', 1.25)")
				want = append([][]string{{"-5", "old", "1.25"}}, rows...)
				require.NoError(t, os.RemoveAll(filepath.Join(b.dir, "tray")))
			}
			kills, commits := 0, 0
			args := []string{"load", "gauges.yaml", "--into", s.url, "--mode", mode, "--commit-every", "800"}
			for range 40 {
				commits += 2 + rand.IntN(4)
				if !b.killed(commits, args...) {
					break
				}
				kills++
				args = []string{"resume", "gauges", "--into", s.url}
			}
			require.Greater(t, kills, 1, "it was killed on its way")
			list := b.document(0, "tray", "--json")["entries"].([]any)
			require.Len(t, list, 1)
			entry := list[0].(map[string]any)
			if state := entry["state"]; state == "stopped" || state == "unsure" {
				b.run(3, "resume", "gauges", "--into", s.url)
			}
			r := b.receipt(entry["entry"].(string))
			assert.Equal(t, tray.Records{Read: 80_000, Loaded: int64(len(rows)), Rejected: int64(len(rejects))}, r.Records)
			assert.Equal(t, int64(len(want)), r.Table.Rows)
			assert.Greater(t, r.Commits, int64(kills))
			assert.Empty(t, r.Differences)
			got := queryRows(t, s.db, "SELECT "+s.text("reading")+", gauge, "+s.text(s.reserved("level"))+" FROM gauges ORDER BY gauges.reading")
			for i := range got {
				got[i][2] = number(got[i][2])
				if i < len(want) {
					want[i][2] = number(want[i][2])
				}
			}
			require.Len(t, got, len(want))
			for i := range want {
				require.Equal(t, want[i], got[i], "each record once")
			}
			var refused []string
			for _, x := range b.rejects(entry["entry"].(string))[1:] {
				refused = append(refused, x[1]+" "+x[2])
			}
			assert.Equal(t, rejects, refused)
			assert.Equal(t, []string{"gauges"}, s.tables(t), "no notes are left")
			b.run(3, "verify", "gauges", "--into", s.url)
			b.run(2, "resume", "gauges", "--into", s.url)
		}
	})
}

// stopped begins a load with commits on the way and kills it after some.
func (b *bench) stopped(s server, more ...string) string {
	b.t.Helper()
	require.True(b.t, b.killed(3, append([]string{"load", "gauges.yaml", "--into", s.url, "--commit-every", "1000"}, more...)...))
	list := b.document(0, "tray", "--json")["entries"].([]any)
	require.Equal(b.t, "stopped", list[0].(map[string]any)["state"])
	return list[0].(map[string]any)["entry"].(string)
}

func TestStoppedLoads(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		rows, rejects := b.gauges()
		entry := b.stopped(s)
		assert.Contains(t, s.tables(t), "ambertray_steps")
		// Other commands say what it is.
		for _, c := range []string{"verify", "mend"} {
			assert.Contains(t, b.run(1, c, entry, "--into", s.url).err, "resume "+entry, c)
		}
		assert.Contains(t, b.run(1, "rejects", entry).err, "resume "+entry)
		assert.Contains(t, b.run(0, "tray").out, "1 stopped")
		assert.Contains(t, b.run(2, "load", "gauges.yaml", "--into", s.url).err, "exists already")

		count := func() string { return queryRows(t, s.db, "SELECT count(*) FROM gauges")[0][0] }
		before := count()
		whole := b.read("upper.csv")
		for what, text := range map[string]string{
			"another value": strings.Replace(whole, "gauge 3", "gauge 4", 1),
			"a line less":   strings.Replace(whole, "2,gauge 1,1.01\n", "", 1),
			"a line more":   strings.Replace(whole, "2,gauge 1,1.01\n", "2,gauge 1,1.01\n2,gauge 1,1.01\n", 1),
			"cut off":       whole[:2000],
			"added to":      whole + "9999,gauge 9,9.99\n",
		} {
			b.write("upper.csv", text)
			r := b.run(2, "resume", entry, "--into", s.url)
			assert.Contains(t, r.err, "upper.csv", what)
			// Named by a person, it may have been copied; then its beginning has to be the same.
			r = b.try("resume", entry, "upper.csv", "lower.csv", "--into", s.url)
			if len(text) == len(whole) {
				assert.Equal(t, 1, r.code, what)
				assert.Contains(t, r.err, "not what the load had read before it stopped", what)
				assert.Contains(t, r.err, "stay in the table", what)
			} else {
				assert.Equal(t, 2, r.code, what)
				assert.Contains(t, r.err, "when the load began", what)
			}
			assert.Equal(t, before, count(), what)
		}
		b.write("upper.csv", whole)
		b.run(2, "resume", entry, "upper.csv", "--into", s.url)

		// Too many rejects stop it, too, and it goes on with another limit.
		r := b.run(1, "resume", entry, "upper.csv", "lower.csv", "--into", s.url, "--max-rejects", "5")
		assert.Contains(t, r.err, "more than 5 records were rejected")
		assert.Contains(t, b.run(1, "resume", entry, "upper.csv", "lower.csv", "--into", s.url, "--max-rejects", "5", "--json").out, `"verdict": "stopped"`)
		assert.Contains(t, r.err, "stay in the table")
		// A file that was moved is named anew.
		require.NoError(t, os.Rename(filepath.Join(b.dir, "lower.csv"), filepath.Join(b.dir, "moved.csv")))
		var rec tray.Receipt
		out := b.run(3, "resume", entry, "upper.csv", "moved.csv", "--into", s.url, "--max-rejects", "1000", "--json").out
		require.NoError(t, json.Unmarshal([]byte(out), &rec))
		assert.Equal(t, int64(len(rows)), rec.Records.Loaded)
		assert.Equal(t, fmt.Sprint(len(rows)), count())
		assert.Equal(t, "lower.csv "+strings.Fields(rejects[len(rejects)-1])[1], strings.Join(b.rejects(entry)[len(rejects)][1:3], " "), "by the name it had")
	})
}

// What ends before the first commit on the way changes nothing, as any load.
func TestStepsNotBegun(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		b.gauges()
		r := b.run(1, "load", "gauges.yaml", "--into", s.url, "--commit-every", "1000", "--max-rejects", "1")
		assert.Contains(t, r.err, "nothing was committed")
		entry := b.document(0, "tray", "--json")["entries"].([]any)[0].(map[string]any)
		require.Equal(t, "failed", entry["state"])
		assert.Empty(t, s.tables(t))
		assert.Contains(t, b.run(2, "resume", entry["entry"].(string), "--into", s.url).err, "changed nothing")
		for _, more := range [][]string{{"--mode", "refill"}, {"--mode", "replace"}, {"--max-rejects", "0"}, {"--commit-every", "-3"}} {
			assert.Contains(t, b.run(2, append([]string{"load", "gauges.yaml", "--table", "other", "--into", s.url, "--commit-every", "1000"}, more...)...).err, "--commit-every")
		}
		// A load of a few records has no need of a commit on the way.
		b.write("few.csv", "a,b\n1,x\n2,y\n")
		rec := b.loaded(0, "few.csv", "--into", s.url, "--commit-every", "1000")
		assert.Zero(t, rec.Commits)
		assert.Contains(t, s.tables(t), "few")
		assert.NotContains(t, s.tables(t), "ambertray_steps")
		assert.Contains(t, b.run(2, "resume", "few", "--into", s.url).err, "is done")
		b.loaded(0, "few.csv", "--into", s.url, "--table", "once")
		assert.Contains(t, b.run(2, "resume", "nobody").err, "no entry")
	})
}

// Two loads at once keep their notes apart.
func TestStepsOfTwoLoads(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		b.gauges()
		entry := b.stopped(s)
		rec := b.loaded(3, "gauges.yaml", "--into", s.url, "--table", "others", "--commit-every", "1000")
		assert.Positive(t, rec.Commits)
		assert.Contains(t, s.tables(t), "ambertray_steps", "the first load's notes stay")
		b.run(3, "resume", entry, "--into", s.url)
		assert.Equal(t, []string{"gauges", "others"}, s.tables(t))
	})
}

// The program may end right at its last commit.
func TestResumedAtTheLastCommit(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		b.gauges()
		entry := b.stopped(s)
		path := filepath.Join(b.dir, "tray", entry, "receipt.json")
		// Before it: a receipt was prepared, and the notes are still there.
		require.NoError(t, os.WriteFile(path+".part", []byte(`{"entry": "x", "database": "`+strings.ReplaceAll(s.url, `\`, `\\`)+`", "table": {"name": "gauges", "mode": "create"}, "commits": 3, "verdict": "clear"}`), 0o666))
		assert.Contains(t, b.run(1, "verify", entry, "--into", s.url).err, "not done")
		b.run(3, "resume", entry, "--into", s.url)
		// Behind it: the notes are gone.
		require.NoError(t, os.Rename(path, path+".part"))
		assert.Equal(t, "unsure", b.document(0, "tray", "--json")["entries"].([]any)[0].(map[string]any)["state"])
		assert.Contains(t, b.run(3, "resume", entry, "--into", s.url).out, "verdict  waiting")
		require.NoError(t, os.Rename(path, path+".part"))
		b.run(3, "verify", entry, "--into", s.url)
		assert.FileExists(t, path)
	})
}

var calm = strings.Repeat("still water ", 170)[:2039]

// pipe writes records of 2 KB, more than is kept of a pipe: the last but one
// has the key of the first.
type pipe struct {
	n, records int
	rest       []byte
}

func (p *pipe) Read(b []byte) (int, error) {
	for len(p.rest) < 2048 && p.n <= p.records {
		switch {
		case p.n == 0:
			p.rest = append(p.rest, "Reading,Remarks\n"...)
		case p.n == p.records-1:
			p.rest = append(p.rest, "1,again\n"...)
		default:
			p.rest = fmt.Appendf(p.rest, "%d,%s\n", p.n, calm)
		}
		p.n++
	}
	if len(p.rest) == 0 {
		return 0, io.EOF
	}
	n := copy(b, p.rest)
	p.rest = p.rest[n:]
	return n, nil
}

// A pipe longer than what is kept of one is looked at, planned and loaded as it
// comes, and resumed when it comes again.
func TestLongPipes(t *testing.T) {
	const records = 36_000 // 74 MB
	piped := func(b *bench, code int, args ...string) string {
		cmd := b.command(args...)
		cmd.Stdin = &pipe{records: records}
		out, _ := cmd.CombinedOutput()
		require.Equal(b.t, code, cmd.ProcessState.ExitCode(), string(out))
		return string(out)
	}
	onServers(t, func(t *testing.T, b *bench, s server) {
		assert.Contains(t, piped(b, 0, "plan", "-", "--table", "remarks", "--type", "Remarks=text", "-o", "remarks.yaml"), "2 columns")
		plan := strings.Replace(b.read("remarks.yaml"), "name: remarks\n", "name: remarks\n  key: [reading]\n", 1)
		b.write("remarks.yaml", plan)
		out := piped(b, 3, "load", "remarks.yaml", "-", "--into", s.url)
		assert.Contains(t, out, "read once")
		assert.Contains(t, out, "35,999  ")
		assert.Equal(t, "1", b.rejects(b.entry())[1][0])
		assert.Equal(t, "36000", b.rejects(b.entry())[1][2], "the record refused is the one that came later")
		assert.Equal(t, [][]string{{"35999", fmt.Sprint(35999 * len(calm))}}, queryRows(t, s.db, "SELECT count(*), sum("+map[bool]string{true: "len", false: "length"}[s.name == "sqlserver"]+"(remarks)) FROM remarks"))

		if s.name == "sqlite" { // the others take their time to refuse all of it
			// The same once more is known when all of it has come.
			assert.Contains(t, piped(b, 2, "load", "remarks.yaml", "-", "--into", s.url, "--mode", "append"), "already, by the entry")
			assert.Equal(t, "35999", queryRows(t, s.db, "SELECT count(*) FROM remarks")[0][0])
		}
		// So does the ledger know it, for whoever has another tray and a table that would take it.
		b.write("twice.yaml", strings.Replace(plan, "name: remarks\n  key: [reading]\n", "name: twice\n", 1))
		piped(b, 0, "load", "twice.yaml", "-", "--into", s.url, "--ledger")
		out = piped(b, 2, "load", "twice.yaml", "-", "--into", s.url, "--mode", "append", "--tray", "other")
		assert.Contains(t, out, "twice by the entry twice-")
		assert.Contains(t, out, "says the table ambertray_ledger")
		assert.NotContains(t, out, "and had")
		assert.Equal(t, "36000", queryRows(t, s.db, "SELECT "+s.text("count(*)")+" FROM twice")[0][0])
		s.exec(t, "DROP TABLE twice")
		s.exec(t, "DROP TABLE ambertray_ledger")

		s.exec(t, "DROP TABLE remarks")
		require.NoError(t, os.RemoveAll(filepath.Join(b.dir, "tray")))
		cmd := b.command("load", "remarks.yaml", "-", "--into", s.url, "--commit-every", "2000")
		cmd.Stdin = &pipe{records: records}
		require.True(t, b.killedCommand(3, cmd))
		assert.Contains(t, b.run(2, "resume", "remarks", "--into", s.url).err, "once more")
		assert.Contains(t, piped(b, 3, "resume", "remarks", "-", "--into", s.url), "on the way, and one when all agreed")
		assert.Equal(t, [][]string{{"35999", "35999"}}, queryRows(t, s.db, "SELECT count(*), count(DISTINCT reading) FROM remarks"))
		assert.Equal(t, []string{"remarks"}, s.tables(t))
	})
}

// entry is the name of the newest entry.
func (b *bench) entry() string {
	b.t.Helper()
	return b.document(0, "tray", "--json")["entries"].([]any)[0].(map[string]any)["entry"].(string)
}
