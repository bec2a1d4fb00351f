package cli_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/tray"
)

// A part is one of several programs that load the same files, with a tray of its own.
type part struct {
	cmd       *exec.Cmd
	out, errs bytes.Buffer
	killed    bool
}

// join starts the n-th program that takes part in a load of plan or file into a database.
func (b *bench) join(into string, n int, args ...string) *part {
	b.t.Helper()
	p := &part{cmd: b.command(append([]string{"load", "--into", into, "--tray", fmt.Sprintf("tray%d", n), "--json",
		"--yes"}, args...)...)}
	p.cmd.Stdout, p.cmd.Stderr = &p.out, &p.errs
	require.NoError(b.t, p.cmd.Start())
	return p
}

// ends waits for a program. It returns the receipt, if it was the one that verified the load.
func (p *part) ends(t *testing.T) *tray.Receipt {
	t.Helper()
	p.cmd.Wait()
	if p.killed {
		return nil
	}
	if p.cmd.ProcessState.ExitCode() == 2 {
		require.Contains(t, p.errs.String(), "nothing was loaded again", "it came when all was done")
		return nil
	}
	require.Contains(t, []int{0, 3}, p.cmd.ProcessState.ExitCode(), p.errs.String())
	var doc struct {
		Document string `json:"document"`
	}
	require.NoError(t, json.Unmarshal(p.out.Bytes(), &doc), p.out.String())
	if strings.HasPrefix(doc.Document, "joined") {
		return nil
	}
	r := &tray.Receipt{}
	require.NoError(t, json.Unmarshal(p.out.Bytes(), r))
	return r
}

// onJoiners runs a test on each database in which programs can share a load. The others say so.
func onJoiners(t *testing.T, test func(t *testing.T, b *bench, s server)) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		if s.name == "sqlite" {
			b.write("a.csv", "id\n1\n")
			r := b.run(2, "load", "a.csv", "--into", s.url, "--commit-every", "10", "--join", "night")
			assert.Contains(t, r.err, "takes a load from one program")
			return
		}
		test(t, b, s)
	})
}

// Four programs load the same files, some of them are killed, and others take their place: each
// record is in once, or among the rejects once, into a new table and into one with rows.
func TestJoined(t *testing.T) {
	onJoiners(t, func(t *testing.T, b *bench, s server) {
		rows, rejects := b.gauges()
		for round, mode := range []string{"create", "append", "create"} {
			args := []string{"gauges.yaml", "--commit-every", "1000", "--mode", mode, "--join", fmt.Sprint("night ", round)}
			kills := []int{3, 3, 0}[round]
			s.exec(t, "DROP TABLE IF EXISTS gauges")
			want := len(rows)
			if mode == "append" {
				s.exec(t, "CREATE TABLE gauges (reading int PRIMARY KEY, gauge varchar(20), "+s.reserved("level")+
					" decimal(6,2))", "INSERT INTO gauges VALUES (-5, 'old', 1.25)")
				want++
			}
			var parts []*part
			for n := range 4 {
				parts = append(parts, b.join(s.url, round*10+n, args...))
			}
			for k := range kills {
				time.Sleep(time.Duration(rand.IntN(500)) * time.Millisecond)
				p := parts[k]
				p.killed = p.cmd.Process.Kill() == nil
				parts = append(parts, b.join(s.url, round*10+4+k, args...))
			}
			var receipt *tray.Receipt
			for _, p := range parts {
				if r := p.ends(t); r != nil {
					require.Nil(t, receipt, "one program verifies")
					receipt = r
				}
			}
			if receipt == nil { // the one that had was killed behind the commit
				require.Positive(t, kills)
				continue
			}
			assert.Equal(t, tray.Records{Read: 80_000, Loaded: int64(len(rows)), Rejected: int64(len(rejects))}, receipt.Records)
			assert.Equal(t, int64(want), receipt.Table.Rows)
			assert.Equal(t, tray.Waiting, receipt.Verdict)
			count := queryRows(t, s.db, "SELECT count(*), count(DISTINCT reading), min(reading), max(reading) FROM gauges")[0]
			assert.Equal(t, fmt.Sprint(want), count[0])
			assert.Equal(t, count[0], count[1])
			assert.Equal(t, "80000", count[3])
			if kills == 0 {
				got := queryRows(t, s.db, "SELECT reading, gauge, "+s.text("level")+" FROM gauges ORDER BY reading")
				differ := 0
				for i := range got {
					level, _ := strconv.ParseFloat(rows[i][2], 64)
					held, err := strconv.ParseFloat(got[i][2], 64)
					require.NoError(t, err)
					if got[i][0] != rows[i][0] || got[i][1] != rows[i][1] || held != level {
						differ++ // of two records with one key, in two steps, the first to come stays
					}
				}
				assert.LessOrEqual(t, differ, 10)
			}
			assert.Equal(t, fmt.Sprint(round+1), queryRows(t, s.db, "SELECT count(*) FROM ambertray_steps")[0][0],
				"of each load, it is noted that it is done")
		}
		// What a killed program has left on its tray loads nothing again.
		entries, err := filepath.Glob(filepath.Join(b.dir, "tray*", "*"))
		require.NoError(t, err)
		for _, e := range entries {
			if r := b.try("resume", filepath.Base(e), "--into", s.url, "--tray", filepath.Base(filepath.Dir(e))); r.code == 1 {
				assert.Contains(t, r.err, "verified by another program")
			}
		}
		assert.Equal(t, fmt.Sprint(len(rows)), queryRows(t, s.db, "SELECT count(*) FROM gauges")[0][0])
	})
}

// A file that is another for one of the programs, other options, another version: nothing is mixed.
func TestJoinedApart(t *testing.T) {
	onJoiners(t, func(t *testing.T, b *bench, s server) {
		b.write("gauges.csv", levels(30_000, ""))
		args := []string{"load", "gauges.csv", "--table", "gauges", "--into", s.url, "--commit-every", "2000", "--join", "night"}
		for what, more := range map[string][]string{"--dry-run": {"--dry-run"}, "cannot be emptied": {"--mode", "refill"},
			"in one transaction": {"--mode", "append", "--only-new"}, "all or nothing": {"--max-rejects", "0"}} {
			assert.Contains(t, b.run(2, append(args, more...)...).err, what)
		}
		assert.Contains(t, b.run(2, "load", "gauges.csv", "--into", s.url, "--join", "night").err, "--commit-every")

		// Of one that was killed, steps stay; whoever has another file is refused, and takes nothing.
		var stopped string
		for range 20 {
			cmd := b.command(args...)
			require.NoError(t, cmd.Start())
			for range 3000 {
				time.Sleep(time.Millisecond)
				if rows := queryRowsOrNone(s, "SELECT count(*) FROM ambertray_steps"); len(rows) > 1 || rows >= "4" {
					break
				}
			}
			cmd.Process.Kill()
			cmd.Wait()
			time.Sleep(200 * time.Millisecond) // until the server has noticed it
			if stopped = queryRowsOrNone(s, "SELECT count(*) FROM ambertray_steps"); stopped != "" {
				break
			}
			s.exec(t, "DROP TABLE gauges") // it was done
		}
		require.NotEmpty(t, stopped)
		whole := b.read("gauges.csv")
		b.write("gauges.csv", whole+"99999,G001,1.00,more\n")
		assert.Contains(t, b.run(2, args...).err, "when the load began")
		b.write("gauges.csv", strings.Replace(whole, "a note on reading 5\n", "a tone on reading 5\n", 1))
		r := b.run(1, args...)
		assert.Contains(t, r.err, "not what the load had read before it stopped")
		assert.Contains(t, r.err, "nothing was added to the table")
		assert.NotEmpty(t, queryRowsOrNone(s, "SELECT count(*) FROM ambertray_steps"), "it is not done")
		b.write("gauges.csv", whole)
		r = b.run(0, args...)
		assert.Contains(t, r.out, "30,000")
		assert.Equal(t, "30000", queryRows(t, s.db, "SELECT count(*) FROM gauges")[0][0])
		r = b.run(2, args...)
		assert.Contains(t, r.err, "the load is done")
		assert.Contains(t, r.err, "nothing was loaded again")
		s.exec(t, "DELETE FROM ambertray_steps WHERE load_name = 'night'")
		assert.Contains(t, b.run(2, args...).err, "exists already")
	})
}

// Rows that say where they come from say the same, whichever program loads them.
func TestJoinedProvenance(t *testing.T) {
	onJoiners(t, func(t *testing.T, b *bench, s server) {
		b.write("gauges.csv", levels(30_000, ""))
		require.NoError(t, os.Mkdir(filepath.Join(b.dir, "moved"), 0o777))
		b.write("moved/gauges.csv", levels(30_000, ""))
		b.run(0, "plan", "gauges.csv", "-o", "gauges.yaml", "--provenance", "--row-number", "nr", "--key", "reading")
		var parts []*part
		for n := range 3 {
			file := []string{"gauges.csv", filepath.Join("moved", "gauges.csv")}[n%2]
			parts = append(parts, b.join(s.url, n, "gauges.yaml", file, "--commit-every", "3000", "--join", "night"))
		}
		verified := 0
		for _, p := range parts {
			if p.ends(t) != nil {
				verified++
			}
		}
		assert.Equal(t, 1, verified)
		assert.Equal(t, [][]string{{"30000", "1", "1", "1", "30000", "30001"}}, queryRows(t, s.db, `SELECT count(*),
			count(DISTINCT source_file), count(DISTINCT loaded_at), count(DISTINCT load_entry), max(nr), max(source_line) FROM gauges`))
	})
}

// queryRowsOrNone is the only field of the only row of a query, or "" where the table is not there.
func queryRowsOrNone(s server, query string) (value string) {
	if s.db.QueryRow(query).Scan(&value) != nil {
		return ""
	}
	return value
}
