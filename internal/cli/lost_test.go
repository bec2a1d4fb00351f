package cli_test

import (
	"bytes"
	"fmt"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/tray"
)

// A cutter stands between the program and a server, and cuts a connection once: at the
// first message of the client that holds a text, before the server has it or behind it.
type cutter struct {
	listener net.Listener
	server   string
	at       string
	behind   bool // the server gets the message, and its answer is lost
	hold     bool // and the program waits for it
	deaf     bool // and nobody is let in any more
	nth      int  // which of such messages; 0 and 1: the first

	mu   sync.Mutex
	seen int
	cut  bool
}

func newCutter(t *testing.T, server, at string, behind, deaf bool) *cutter {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	c := &cutter{listener: l, server: server, at: at, behind: behind, deaf: deaf}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			go c.carry(in)
		}
	}()
	return c
}

func (c *cutter) carry(in net.Conn) {
	defer in.Close()
	c.mu.Lock()
	shut := c.cut && c.deaf
	c.mu.Unlock()
	if shut {
		return
	}
	out, err := net.Dial("tcp", c.server)
	if err != nil {
		return
	}
	defer out.Close()
	var lost atomic.Bool // answers go nowhere from now on
	answered := make(chan bool, 1)
	go func() {
		buf := make([]byte, 64<<10)
		for {
			n, err := out.Read(buf)
			if lost.Load() {
				answered <- true
				return
			}
			if in.Write(buf[:n]); err != nil {
				in.Close()
				return
			}
		}
	}()
	buf := make([]byte, 1<<20)
	for {
		n, err := in.Read(buf)
		if err != nil {
			return
		}
		c.mu.Lock()
		if bytes.Contains(bytes.ToUpper(buf[:n]), []byte(c.at)) {
			c.seen++
		}
		hit := !c.cut && c.seen >= max(c.nth, 1)
		c.cut = c.cut || hit
		c.mu.Unlock()
		if hit && !c.behind {
			return
		}
		if hit {
			lost.Store(true)
			out.Write(buf[:n])
			select {
			case <-answered:
			case <-time.After(time.Second): // some messages have no answer
			}
			if c.hold {
				in.Read(buf) // until the program gives up
			}
			return
		}
		if _, err := out.Write(buf[:n]); err != nil {
			return
		}
	}
}

func (c *cutter) did() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.cut
}

// oldRows is what a table has before a load, newRows what is loaded: six and seven.
const (
	oldRows = "id,who\n1,ann\n2,bob\n3,cat\n4,dan\n5,eve\n6,flo\n"
	newRows = "id,who\n11,una\n12,vic\n13,wim\n14,xia\n15,yan\n16,zoe\n17,kim\n"
)

// through is a URL of the server that leads through the cutter, which has to read what
// goes by.
func (c *cutter) through(u *url.URL) string {
	v := *u
	v.Host, v.RawQuery = c.listener.Addr().String(), "sslmode=disable"
	switch u.Scheme {
	case "oracle":
		v.RawQuery = ""
	case "sqlserver":
		v.RawQuery = "encrypt=disable&database=" + u.Query().Get("database")
	}
	return v.String()
}

// commit is how the client's message of a commit begins.
var commit = map[string]string{
	"postgres": "Q\x00\x00\x00\x0bCOMMIT\x00", // PostgreSQL, "Message Formats": Query
	"mysql":    "\x03COMMIT",                  // COM_QUERY
	// [MS-TDS] 2.2.6.7, SQLBatch: text in UTF-16
	"sqlserver": "C\x00O\x00M\x00M\x00I\x00T\x00 \x00T\x00R\x00A\x00N\x00",
	"oracle":    "\x00\x00\x00\x0d\x06\x00\x00\x00\x00\x00\x03\x0e\x00", // a packet with the call 14
}

// A load that commits on its way is cut at its first, a later or its last commit, before
// the server has it and behind it. Resumed, it is in once.
func TestLostAnswersOfSteps(t *testing.T) {
	onNetwork(t, func(t *testing.T, b *bench, s server) {
		u, err := url.Parse(s.url)
		require.NoError(t, err)
		var text strings.Builder
		text.WriteString("id,who\n")
		for i := range 6000 {
			fmt.Fprintf(&text, "%d,keeper of lock number %d\n", i, i%7)
		}
		b.write("many.csv", text.String())
		s.exec(t, "CREATE TABLE there (id int, who varchar(40))", "INSERT INTO there VALUES (-1, 'x')")
		for _, mode := range []string{"create", "append"} {
			for _, behind := range []bool{true, false} {
				for nth := 1; ; nth++ { // at one after the other
					what := fmt.Sprintf("%s, commit %d, behind %v", mode, nth, behind)
					table := fmt.Sprintf("s%s%d%v", mode, nth, behind)
					all := 6000
					if mode == "append" {
						s.exec(t, "CREATE TABLE "+table+" (id int, who varchar(40))", "INSERT INTO "+table+" VALUES (-1, 'x')")
						all++
					}
					c := newCutter(t, u.Host, commit[s.name], behind, false)
					c.nth = nth
					r := b.try("load", "many.csv", "--table", table, "--mode", mode, "--into", c.through(u), "--tray", table,
						"--commit-every", "700")
					if !c.did() {
						assert.Greater(t, nth, 3, what)
						break
					}
					if r.code == 1 {
						assert.Contains(t, r.err, "ambertray resume", what)
						r = b.try("resume", table, "--tray", table)
					}
					assert.Equal(t, 0, r.code, what+r.err)
					assert.Len(t, queryRows(t, s.db, "SELECT id FROM "+table), all, what)
					again := b.try("load", "many.csv", "--table", table, "--mode", "append", "--into", c.through(u), "--tray", table)
					assert.Equal(t, 2, again.code, what+again.err)
				}
			}
		}
	})
}

// A load that is told to end while it waits for the answer to its commit says what the
// server says.
func TestEndedWhileCommitting(t *testing.T) {
	onNetwork(t, func(t *testing.T, b *bench, s server) {
		u, err := url.Parse(s.url)
		require.NoError(t, err)
		b.write("new.csv", "id,who\n11,una\n12,vic\n13,wim\n14,xia\n15,yan\n")
		s.exec(t, "CREATE TABLE held (id int, who varchar(40))")
		for _, mode := range []string{"append", "refill"} {
			c := newCutter(t, u.Host, commit[s.name], true, false)
			c.hold = true
			cmd := b.command("load", "new.csv", "--table", "held", "--mode", mode, "--yes", "--again", "--into", c.through(u))
			var out bytes.Buffer
			cmd.Stdout, cmd.Stderr = &out, &out
			require.NoError(t, cmd.Start())
			require.Eventually(t, c.did, 20*time.Second, 5*time.Millisecond)
			require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
			cmd.Wait()
			assert.Equal(t, 0, cmd.ProcessState.ExitCode(), out.String())
			assert.Contains(t, out.String(), "the database says that it came to be")
			assert.Len(t, queryRows(t, s.db, "SELECT id FROM held"), 5, mode)
			b.run(0, "verify", "held")
		}
	})
}

// The connection is cut at what makes a load come to be, before the server has it and
// behind it, in every mode. The entry says what the server says, and the same load
// again never doubles.
func TestLostAnswers(t *testing.T) {
	onNetwork(t, func(t *testing.T, b *bench, s server) {
		u, err := url.Parse(s.url)
		require.NoError(t, err)
		b.write("old.csv", oldRows)
		b.write("new.csv", newRows)
		for _, mode := range modes {
			for _, behind := range []bool{true, false} {
				for _, deaf := range []bool{false, true} {
					what := fmt.Sprintf("%s, behind %v, deaf %v", mode, behind, deaf)
					table := fmt.Sprintf("t%s%v%v", mode, behind, deaf)
					at := commit[s.name]
					if s.name == "mysql" && (mode == "create" || mode == "replace") {
						at = "\x03RENAME TABLE"
					}
					renames := s.name == "oracle" && (mode == "create" || mode == "replace")
					if renames {
						at = " RENAME TO "
					}
					before := 0
					if mode != "create" {
						b.run(0, "load", "old.csv", "--into", s.url, "--table", table)
						before = 6
					}
					c := newCutter(t, u.Host, at, behind, deaf)
					args := append([]string{"load", "new.csv", "--table", table, "--mode", mode, "--yes", "--tray", "cut-" + table}, keyIn[mode]...)
					r := b.try(append(args, "--into", c.through(u))...)
					require.True(t, c.did(), what)
					held := func() int { return len(queryRows(t, s.db, "SELECT id FROM "+table)) }
					rows := 0
					if mode != "create" || behind {
						rows = held()
					}
					after := map[string]int{"append": before + 7, "merge": before + 7}[mode]
					if after == 0 {
						after = 7
					}
					want := map[bool]int{true: after, false: before}[behind]
					assert.Equal(t, want, rows, what)
					state := func() tray.State {
						all, err := tray.List(filepath.Join(b.dir, "cut-"+table))
						require.NoError(t, err)
						require.Len(t, all, 1)
						return all[0].State
					}
					entry := strings.TrimSpace(b.run(0, "tray", "--tray", "cut-"+table).out)
					settled := map[bool]tray.State{true: tray.IsClear, false: tray.IsFailed}[behind]
					if deaf {
						assert.Equal(t, 1, r.code, what+r.err)
						assert.Contains(t, r.err, "verify", what)
						assert.Equal(t, tray.Unsure, state(), what+r.err+entry)
						c.mu.Lock()
						c.deaf = false // it is back
						c.mu.Unlock()
						v := b.try("verify", table, "--tray", "cut-"+table)
						assert.Equal(t, settled, state(), what+v.out+v.err)
					} else {
						assert.Equal(t, map[bool]int{true: 0, false: 1}[behind], r.code, what+r.err)
						assert.Equal(t, settled, state(), what+r.err)
					}
					if mode == "append" {
						again := b.try(append(args, "--into", c.through(u))...)
						assert.Equal(t, map[bool]int{true: 2, false: 0}[behind], again.code, what+again.err)
						assert.Equal(t, after, held(), what)
					}
					if mode == "merge" {
						assert.Equal(t, 0, b.try(append(args, "--into", c.through(u))...).code, what)
						assert.Equal(t, after, held(), what)
					}
					for _, x := range s.tables(t) {
						assert.NotContains(t, x, "ambertray", what)
					}
				}
			}
		}
	})
}

// The connection is cut at the messages of a load, whatever they are, one after the
// other, before the server has one and behind it: AMBERTRAY_CUTS=every takes all of them,
// and not some. The table is old or new each time, the entry says which or that it does
// not know, 'verify' settles it, and the same load again makes the table new and no more.
func TestCutAtAnyMessage(t *testing.T) {
	onNetwork(t, func(t *testing.T, b *bench, s server) {
		step := map[bool]int{true: 41, false: 23}[s.name == "oracle"]
		if os.Getenv("AMBERTRAY_CUTS") == "every" {
			step = 1
		}
		u, err := url.Parse(s.url)
		require.NoError(t, err)
		b.write("old.csv", oldRows)
		b.write("new.csv", newRows)
		outcomes, points := map[string]int{}, 0
		for _, mode := range modes {
			before, after := 6, 7
			switch mode {
			case "create":
				before = 0
			case "append", "merge":
				after = 13
			}
			messages := 1 << 30
			// The first time nothing is cut, and the messages are counted.
			for i := 0; i <= messages; i += step {
				for _, behind := range []bool{true, false} {
					table := fmt.Sprintf("t%s%d%v", mode, i, behind)
					what := fmt.Sprintf("%s, message %d of %d, behind %v", mode, i, messages, behind)
					if mode != "create" {
						b.run(0, "load", "old.csv", "--into", s.url, "--table", table, "--tray", "old")
					}
					c := newCutter(t, u.Host, "", behind, false)
					if c.nth = i; i == 0 {
						c.nth = 1 << 30
					}
					papers := "cut-" + table
					args := append([]string{"load", "new.csv", "--table", table, "--mode", mode, "--yes", "--tray", papers}, keyIn[mode]...)
					r := b.try(append(args, "--into", c.through(u))...)
					rows := 0
					if slices.Contains(s.tables(t), table) {
						rows = len(queryRows(t, s.db, "SELECT id FROM "+table))
					}
					require.Contains(t, []int{before, after}, rows, what+r.err)
					all, err := tray.List(filepath.Join(b.dir, papers))
					require.NoError(t, err)
					said := "no entry"
					if len(all) > 0 {
						if said = string(all[0].State); all[0].State == tray.Unsure {
							b.try("verify", all[0].Entry.Name, "--tray", papers, "--into", s.url)
							said = "unsure, then " + string(all[0].Entry.Look().State)
						}
					}
					switch said {
					case "clear", "unsure, then clear":
						assert.Equal(t, after, rows, what+r.err)
					default:
						assert.Equal(t, before, rows, what+" "+said+r.err)
					}
					assert.Equal(t, r.code == 0, said == "clear", what+" "+said+r.err)
					if outcomes[said]++; i == 0 {
						c.mu.Lock()
						messages = c.seen
						c.mu.Unlock()
					}
					points++
					if again := append(args, "--into", s.url); rows == before || mode != "refill" && mode != "replace" {
						b.try(again...)
					}
					assert.Equal(t, after, len(queryRows(t, s.db, "SELECT id FROM "+table)), what)
				}
			}
		}
		// What a cut has left behind is swept by the next load, when the server knows that
		// the connection is gone.
		time.Sleep(time.Second)
		b.run(0, "load", "old.csv", "--into", s.url, "--table", "last", "--tray", "old")
		for _, x := range s.tables(t) {
			if x == "ambertray_steps" { // marks of loads that are done, which could not be taken away, stay for a week
				assert.Empty(t, queryRows(t, s.db, "SELECT load_name FROM ambertray_steps WHERE NOT note LIKE 'done'"))
				continue
			}
			assert.NotContains(t, x, "ambertray", "is left behind")
		}
		t.Logf("%d points: %v", points, outcomes)
	})
}

// modes are those of loads.
var modes = []string{"create", "append", "refill", "replace", "merge"}

// keyIn is by what rows are known in a mode.
var keyIn = map[string][]string{"merge": {"--key", "id"}}
