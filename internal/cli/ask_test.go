//go:build unix

package cli_test

import (
	"database/sql"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// answer is what is typed once the screen has the words.
type answer struct{ words, typed string }

// typed runs the program on a terminal, and returns what it shows. It has to end
// by itself.
func (b *bench) typed(code int, answers []answer, args ...string) string {
	b.t.Helper()
	cmd := b.command(args...)
	tty, err := pty.StartWithSize(cmd, &pty.Winsize{Rows: 40, Cols: 120})
	require.NoError(b.t, err)
	defer tty.Close()
	limit := time.AfterFunc(30*time.Second, func() { cmd.Process.Kill() })
	defer limit.Stop()
	var screen strings.Builder
	seen := 0
	for buf := make([]byte, 4096); ; {
		n, err := tty.Read(buf)
		screen.Write(buf[:n])
		for len(answers) > 0 {
			i := strings.Index(screen.String()[seen:], answers[0].words)
			if i < 0 {
				break
			}
			seen += i + len(answers[0].words)
			io.WriteString(tty, answers[0].typed)
			answers = answers[1:]
		}
		if errors.Is(err, io.EOF) || errors.Is(err, syscall.EIO) {
			break // EIO: the program has let go of the terminal
		}
		require.NoError(b.t, err)
	}
	cmd.Wait()
	out := strings.ReplaceAll(screen.String(), "\r\n", "\n")
	require.Equal(b.t, code, cmd.ProcessState.ExitCode(), out)
	assert.Empty(b.t, answers, out)
	return out
}

const doubtful = "id,toll\n1,0.50\n2,1.25\n3,2.00,\n4,0.75\n"

// On a terminal, cautions are a question; elsewhere they are said, or end a
// strict load.
func TestCautionsAtALoad(t *testing.T) {
	b := newBench(t)
	b.write("tolls.csv", doubtful)
	load := []string{"load", "tolls.csv", "--into", "sqlite:canal.db"}

	r := b.run(2, append(load, "--strict")...)
	assert.Contains(t, r.err, "caution  1 record has another number of fields")
	assert.Contains(t, r.err, "1 caution; nothing was done\n  1 record has another number of fields")
	assert.Contains(t, b.run(0, "tray").out, "failed", "the papers say why")
	assert.Contains(t, b.read(filepath.Join("tray", b.entry(), "load.log")), "another number of fields")
	require.NoError(t, os.RemoveAll(filepath.Join(b.dir, "tray")))
	b.run(2, append(load, "--strict", "--dry-run")...)
	assert.False(t, b.exists("tray"))

	assert.Contains(t, b.typed(2, []answer{{"1 to 3: ", "2\n"}}, load...), "not confirmed; nothing was changed")
	assert.Contains(t, b.typed(2, []answer{{"1 to 3: ", "nonsense\n"}, {"1 to 3: ", "\x04"}}, load...), "not answered")
	assert.Contains(t, b.typed(2, []answer{{"1 to 3: ", "\x03"}}, load...), "not answered")
	assert.Contains(t, b.typed(2, []answer{{"1 to 3: ", "plan\n"}}, load...), "the plan is in tolls.yaml")
	assert.Contains(t, b.read("tolls.yaml"), "# CAUTION: 1 record has another number of fields")
	assert.False(t, b.exists("canal.db") && b.exists("tray"))

	out := b.typed(3, []answer{{"1 to 2: ", "1\n"}}, load...)
	assert.Contains(t, out, "encoding utf-8; delimiter comma")
	rec := b.loaded(3, "tolls.csv", "--into", "sqlite:canal.db", "--table", "again")
	require.Len(t, rec.Cautions, 1)
	assert.EqualValues(t, "field-count", rec.Cautions[0].Code)
	assert.Contains(t, strings.Join(rec.Decided, "\n"), "2 columns: id integer, toll decimal")
	assert.NotContains(t, b.typed(3, nil, append(load, "--yes", "--table", "third")...), "in spite of")

	// They are kept wherever the load is told of.
	assert.EqualValues(t, 1, len(b.document(0, "report", "again", "--json")["receipt"].(map[string]any)["cautions"].([]any)))
	for _, verb := range []string{"script", "plan"} {
		args := map[string][]string{"script": {"script", "tolls.csv", "--for", "sqlite", "-o", "t.sql"},
			"plan": {"plan", "tolls.csv", "-o", "p.yaml"}}[verb]
		code := map[string]int{"script": 3, "plan": 0}[verb]
		assert.Contains(t, b.run(code, args...).err, "caution  1 record has another number of fields", verb)
	}
	assert.Contains(t, b.run(2, "script", "tolls.csv", "--for", "sqlite", "-o", "s.sql", "--strict").err, "nothing was done")
	assert.False(t, b.exists("s.sql"))
}

// What has few answers is asked in place, and the answer is shown as the option.
func TestQuestionsInPlace(t *testing.T) {
	b := newBench(t)
	b.write("days.csv", "id,day,toll\n1,01/02/2024,\"1,234\"\n2,03/04/2024,\"2,500\"\n")
	load := []string{"load", "days.csv", "--into", "sqlite:canal.db"}
	assert.Contains(t, b.run(2, load...).err, "--dates day-first or --dates month-first")
	// In the order in which look shows them.
	out := b.typed(0, []answer{{"1 to 2: ", "day-first\n"}, {"1 to 2: ", "1\n"}}, append(load, "--yes")...)
	assert.Contains(t, out, "line 2 '01/02/2024'", "the evidence stands beside the choices")
	assert.Contains(t, out, "no value decides it.")
	assert.Contains(t, out, "taken: --dates day-first")
	assert.Contains(t, out, "taken: --decimal point")
	assert.Equal(t, [][]string{{"2024-02-01", "1234"}, {"2024-04-03", "2500"}}, b.query("canal.db", "SELECT CAST(day AS TEXT), toll FROM days"))

	// A sheet, and whether a column of one is that of another.
	var march, april [][]any
	march, april = append(march, []any{"id", "toll", "lock"}), append(april, []any{"id", "fee", "lock"})
	for i := range 20 {
		march, april = append(march, []any{i, 0.25, "Old Basin"}), append(april, []any{i, 0.75, "Withy Cut"})
	}
	b.book("book.xlsx", "March", march, "April", april, "May", march)
	out = b.typed(0, []answer{{"1 to 4: ", "all\n"}, {"1 to 2: ", "1\n"}}, "load", "book.xlsx", "--into", "sqlite:canal.db")
	assert.Contains(t, out, "taken: --sheet all")
	assert.Contains(t, out, "taken: --same ")
}

// Told to stop, a load says what it leaves: what it had committed on its way
// stays, and the cautions are kept for the receipt of the resumed load.
func TestStoppedSaysWhatStays(t *testing.T) {
	b := newBench(t)
	var rows strings.Builder
	rows.WriteString("id,toll\n")
	for i := range 400_000 {
		fmt.Fprintf(&rows, "%d,0.5%s\n", i, map[bool]string{true: ",", false: ""}[i == 7])
	}
	b.write("tolls.csv", rows.String())
	cmd := b.command("load", "tolls.csv", "--into", "sqlite:canal.db", "--commit-every", "1000")
	var errs strings.Builder
	cmd.Stderr = &errs
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool {
		if !b.exists("canal.db") {
			return false
		}
		c, err := sql.Open("sqlite", "file:"+filepath.Join(b.dir, "canal.db")+"?mode=ro")
		require.NoError(t, err)
		defer c.Close()
		var n int
		return c.QueryRow("SELECT count(*) FROM tolls").Scan(&n) == nil && n > 0
	}, 20*time.Second, 5*time.Millisecond)
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	cmd.Wait()
	require.Equal(t, 1, cmd.ProcessState.ExitCode(), errs.String())
	assert.Contains(t, errs.String(), "stopped; what had been committed on the way stays in the table")
	assert.NotContains(t, errs.String(), "nothing was committed")
	b.run(3, "resume", "latest")
	assert.Len(t, b.receipt(b.entry()).Cautions, 1)
}
