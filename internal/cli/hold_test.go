package cli_test

import (
	"bytes"
	"database/sql"
	"errors"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Two loads of one file at once put it in once; and so do many.
func TestLoadsAtOnce(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		b.write("base.csv", "id,toll\n1,2.50\n")
		b.run(0, "load", "base.csv", "--into", s.url, "--table", "tolls", "--key", "none")
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

// Who only reads a database of SQLite is waited for at the commit, said and named, and a
// person who has enough of it ends the waiting at once.
func TestReadersAreWaitedFor(t *testing.T) {
	b := newBench(t)
	b.write("a.csv", "id,toll\n1,2.50\n")
	b.run(0, "load", "a.csv", "--into", "sqlite:c.db", "--key", "id", "--table", "tolls")
	reading := func(d time.Duration) (done chan error) {
		db, err := sql.Open("sqlite", filepath.Join(b.dir, "c.db"))
		require.NoError(t, err)
		db.SetMaxOpenConns(1)
		_, err = db.Exec("BEGIN")
		require.NoError(t, err)
		require.NoError(t, db.QueryRow("SELECT count(*) FROM tolls").Scan(new(int)))
		done = make(chan error, 1)
		go func() {
			time.Sleep(d)
			_, err := db.Exec("COMMIT")
			done <- errors.Join(err, db.Close())
		}()
		return done
	}
	args := []string{"load", "a.csv", "--into", "sqlite:c.db", "--table", "tolls", "--mode", "refill", "--yes", "--again"}
	done := reading(1500 * time.Millisecond)
	r := b.run(0, args...)
	assert.Contains(t, r.err, "waiting for another session that holds the table tolls (another program that reads the file)")
	require.NoError(t, <-done)

	done = reading(2500 * time.Millisecond)
	r = b.run(1, append(args, "--lock-wait", "1")...)
	assert.Contains(t, r.err, "another program has the file open")
	require.NoError(t, <-done)

	done = reading(6 * time.Second)
	cmd := b.command(args...)
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	require.NoError(t, cmd.Start())
	time.Sleep(1500 * time.Millisecond)
	start := time.Now()
	require.NoError(t, cmd.Process.Signal(syscall.SIGINT))
	require.Error(t, cmd.Wait())
	assert.Less(t, time.Since(start), time.Second)
	assert.Contains(t, out.String(), "nothing was committed")
	require.NoError(t, <-done)
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
