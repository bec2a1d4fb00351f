package cli_test

import (
	"os/exec"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Two loads of one file at once put it in once; and so do many.
func TestLoadsAtOnce(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		b.write("base.csv", "id,toll\n1,2.50\n")
		b.run(0, "load", "base.csv", "--into", s.url, "--table", "tolls", "--no-key")
		var more strings.Builder
		more.WriteString("id,toll\n")
		for range 2000 {
			more.WriteString("7,3.25\n")
		}
		b.write("more.csv", more.String())
		var wg sync.WaitGroup
		var mu sync.Mutex
		good := 0
		for range 4 {
			cmd := b.command("load", "more.csv", "--into", s.url, "--table", "tolls", "--mode", "append")
			wg.Add(1)
			go func() {
				defer wg.Done()
				out, err := cmd.CombinedOutput()
				mu.Lock()
				defer mu.Unlock()
				if err == nil {
					good++
				} else if x, is := err.(*exec.ExitError); !is || x.ExitCode() != 2 || !strings.Contains(string(out), "--again") {
					t.Errorf("%v: %s", err, out)
				}
			}()
		}
		wg.Wait()
		assert.Equal(t, 1, good)
		assert.Equal(t, [][]string{{"2001"}}, queryRows(t, s.db, "SELECT "+s.text("count(*)")+" FROM tolls"))
	})
}

// Another session's lock is waited for, as long as is said, and named.
func TestLockWait(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		b.write("base.csv", "id,toll\n1,2.50\n")
		b.run(0, "load", "base.csv", "--into", s.url, "--table", "tolls")
		b.write("more.csv", "id,toll\n2,3.50\n")
		tx, err := s.db.Begin()
		require.NoError(t, err)
		hold := "UPDATE tolls SET toll = 3"
		if s.name == "postgres" {
			hold = "LOCK TABLE tolls IN ACCESS EXCLUSIVE MODE"
		}
		_, err = tx.Exec(hold)
		require.NoError(t, err)
		args := []string{"load", "more.csv", "--into", s.url, "--table", "tolls", "--mode", "refill", "--yes", "--lock-wait", "3"}
		start := time.Now()
		r := b.run(1, args...)
		assert.Less(t, time.Since(start), 20*time.Second)
		assert.Contains(t, r.err, "--lock-wait")
		assert.Contains(t, r.err, "waiting for another session")
		if s.name == "postgres" {
			assert.Contains(t, r.err, "process ")
		}
		done := make(chan error)
		go func() {
			time.Sleep(500 * time.Millisecond)
			done <- tx.Rollback()
		}()
		b.run(0, args...)
		require.NoError(t, <-done)
		assert.Equal(t, [][]string{{"2"}}, queryRows(t, s.db, "SELECT "+s.text("id")+" FROM tolls"))
	})
}

// With a ledger, the database itself knows what was loaded: for whoever loads from
// another tray, too, and when rows are gone.
func TestLedger(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		b.write("a.csv", "id,toll\n1,2.50\n2,3.50\n")
		b.write("b.csv", "id,toll\n3,4.50\n")
		r := b.run(0, "load", "a.csv", "--into", s.url, "--table", "tolls", "--ledger", "--type", "toll=decimal(6,2)")
		assert.Contains(t, r.err, "ambertray_ledger is made")
		b.run(0, "load", "b.csv", "--into", s.url, "--table", "tolls", "--mode", "append", "--tray", "other")
		r = b.run(2, "load", "a.csv", "--into", s.url, "--table", "tolls", "--mode", "append", "--tray", "third")
		assert.Contains(t, r.err, "its bytes went into the table")
		assert.NotContains(t, r.err, "and had")
		got := queryRows(t, s.db, "SELECT load_mode, source_name, "+s.text("rows_before")+", "+s.text("rows_after")+", column_sums FROM ambertray_ledger ORDER BY loaded_at")
		require.Len(t, got, 2)
		assert.Equal(t, []string{"create", "a.csv", "0", "2"}, got[0][:4])
		assert.Equal(t, []string{"append", "b.csv", "2", "3"}, got[1][:4])
		assert.Contains(t, strings.ReplaceAll(got[0][4], " ", ""), `"toll":"6.00"`)

		_, err := s.db.Exec("DELETE FROM tolls WHERE id = 2")
		require.NoError(t, err)
		r = b.run(2, "load", "a.csv", "--into", s.url, "--table", "tolls", "--mode", "append", "--tray", "third")
		assert.Contains(t, r.err, "the table has 2 rows now, and had 3 after the last load")
		// Of a load that fails, nothing is written.
		b.write("bad.csv", "id,toll\n9,x\n")
		b.run(2, "load", "bad.csv", "--into", s.url, "--table", "tolls", "--mode", "append", "--tray", "third")
		// Emptied and loaded anew, only that is in.
		b.run(0, "load", "b.csv", "--into", s.url, "--table", "tolls", "--mode", "refill", "--yes", "--tray", "other")
		b.run(0, "load", "a.csv", "--into", s.url, "--table", "tolls", "--mode", "append", "--tray", "fourth")
		assert.Contains(t, b.run(2, "load", "b.csv", "--into", s.url, "--table", "tolls", "--mode", "append", "--tray", "fourth").err, "by the entry")
		assert.Equal(t, [][]string{{"4"}}, queryRows(t, s.db, "SELECT "+s.text("count(*)")+" FROM ambertray_ledger"))
		assert.Equal(t, [][]string{{"3"}}, queryRows(t, s.db, "SELECT "+s.text("count(*)")+" FROM tolls"))
	})
}
