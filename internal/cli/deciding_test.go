//go:build unix

package cli_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A screen is a terminal of tmux, of 110 by 32, on which the program runs.
type screen struct {
	*bench
	socket string
}

// screen starts the program on a terminal. Where there is no tmux, the test is skipped.
func (b *bench) screen(args ...string) *screen {
	b.t.Helper()
	if _, err := exec.LookPath("tmux"); err != nil {
		b.t.Skip("tmux is not installed")
	}
	folder, err := os.MkdirTemp("", "tmux") // the name of a socket is short
	require.NoError(b.t, err)
	s := &screen{b, filepath.Join(folder, "s")}
	line := "'" + program + "'"
	for _, a := range args {
		line += " '" + a + "'"
	}
	s.tmux("-f", "/dev/null", "new-session", "-d", "-x", "110", "-y", "32", "-c", b.dir, line+"; echo status $?; sleep 100")
	b.t.Cleanup(func() {
		s.tmux("kill-server")
		os.RemoveAll(folder)
	})
	return s
}

func (s *screen) tmux(args ...string) string {
	s.t.Helper()
	cmd := exec.Command("tmux", append([]string{"-S", s.socket}, args...)...)
	cmd.Env = append(os.Environ(), "LC_ALL=C.UTF-8", "TERM=xterm-256color")
	out, err := cmd.CombinedOutput()
	require.NoError(s.t, err, string(out))
	return string(out)
}

// press types keys, by their names in tmux.
func (s *screen) press(keys ...string) *screen {
	s.t.Helper()
	s.tmux(append([]string{"send-keys"}, keys...)...)
	return s
}

// shows waits until the screen has all of the words, and returns what it shows.
func (s *screen) shows(words ...string) (text string) {
	s.t.Helper()
	for limit := time.Now().Add(20 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		text = s.tmux("capture-pane", "-p")
		missing := slices.DeleteFunc(slices.Clone(words), func(w string) bool { return strings.Contains(text, w) })
		if len(missing) == 0 {
			return text
		}
		require.True(s.t, time.Now().Before(limit), "%q is not on\n%s", missing, text)
	}
}

// A person goes through the columns that have a caution, and the plan is the one that options
// would have given.
func TestDecidingOnTheScreen(t *testing.T) {
	b := newBench(t)
	b.run(0, "demo", ".", "--files-only")
	s := b.screen("plan", "lock-passages.csv", "--ask", "-o", "decided.yaml")
	s.shows("Plan of lock-passages.csv", "1 of 4", "another number of fields")
	s.press("Enter").shows("Passed on", "column 2 of 9", "> 1  char(10)", "31/04/2024")
	s.press("Down").shows("> 2  date      1 value does not fit, and becomes a reject: line 1,206 '31/04/2024'")
	s.press("Enter").shows("Toll", "column 7 of 9", "would be decimal(8,2)", "1O.50")
	s.press("2").shows("> 2  decimal(8,2)  1 value does not fit")
	s.press("r").shows("name:")
	s.press("C-u", "toll paid", "Enter").shows("Toll  →  toll paid", "> 2  decimal(8,2)")
	s.press("r", "C-u", "lock", "Enter").shows("stands twice")
	s.press("C-u", "toll_paid", "Enter").shows("Toll  →  toll_paid")
	s.press("Enter").shows("Table lock_passages, 9 columns", "was char(10)", "was varchar(15); renamed")
	s.press("End", "Enter").shows("Remarks  →  remarks", "column 9 of 9")
	s.press("l").shows("> 2  left out")
	s.press("Enter").shows("Remarks     left out")
	assert.False(t, b.exists("decided.yaml"), "nothing is written before it is said")
	s.press("w").shows("decided.yaml: 8 columns of lock-passages.csv into table lock_passages", "status 0")

	b.run(0, "plan", "lock-passages.csv", "--type", "Passed on=date", "--type", "Toll=decimal(8,2)", "--rename", "Toll=toll_paid",
		"--leave-out", "Remarks", "-o", "by-options.yaml")
	assert.Equal(t, b.read("by-options.yaml"), b.read("decided.yaml"))
	b.loaded(3, "decided.yaml", "--into", "sqlite:canal.db")
}

// Words for null, other types, going back, and leaving.
func TestDecidingOtherwise(t *testing.T) {
	b := newBench(t)
	b.run(0, "demo", ".", "--files-only")
	s := b.screen("plan", "lock-passages.csv", "--ask")
	s.shows("1 of 4")
	s.press("a").shows("Table lock_passages", "as its values are, with a caution")
	s.press("b").shows("Toll", "3 of 4")
	s.press("n").shows("word for null:")
	s.press("1O.50", "Enter").shows("null      '1O.50'")
	s.press("2").shows("> 2  decimal(8,2)  as most values are; every value fits")
	s.press("t").shows("type:")
	s.press("C-u", "number", "Enter").shows("unknown; the types are boolean")
	s.press("C-u", "smallint", "Enter").shows("> 3  smallint", "4,863 values do not fit, and become rejects; the first: line 2 '34.81'")
	s.press("t").shows("type:")
	s.press("Escape")
	time.Sleep(100 * time.Millisecond) // or the terminal takes both for one key
	s.press("b").shows("Passed on", "2 of 4")
	s.press("b", "b").shows("Plan of lock-passages.csv")
	s.press("q").shows("not decided to the end; nothing was written", "status 2")

	s = b.screen("plan", "lock-passages.csv", "--ask", "-o", "p.yaml")
	s.shows("1 of 4")
	s.press("C-c").shows("nothing was written", "status 2")
	assert.False(t, b.exists("p.yaml"))
}

// What a file has in it does not steer the screen, and one without cautions is only listed.
func TestDecidingIsSafe(t *testing.T) {
	b := newBench(t)
	b.write("odd.csv", "id,no\x1b[2Jte\n1,\x1b]0;taken\x07\n2,b\u202ea\n3,c\n")
	s := b.screen("plan", "odd.csv", "--ask", "-o", "p.yaml")
	s.shows("Table odd, 2 columns", "no<U+001B>[2Jte")
	s.press("Down", "Enter").shows("<U+001B>]0;taken")
	s.press("Enter").shows("Table odd")
	s.press("w").shows("status 0")

	b.write("p.yaml", "mine\n")
	s = b.screen("plan", "odd.csv", "--ask", "-o", "p.yaml")
	s.shows("p.yaml: the file exists", "status 2")
	assert.Equal(t, "mine\n", b.read("p.yaml"), "and it is said before anything is decided")
	assert.Contains(t, b.run(2, "plan", "odd.csv", "--ask").err, "--ask needs a terminal")
}
