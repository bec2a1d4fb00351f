package desk

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"

	"ambertray/internal/db"
	"ambertray/internal/fault"
	"ambertray/internal/match"
	"ambertray/internal/plan"
	"ambertray/internal/rows"
	"ambertray/internal/source"
	"ambertray/internal/source/delimited"
	"ambertray/internal/sqltype"
	"ambertray/internal/testdb"
	"ambertray/internal/tray"
)

// A bench is a desk with a folder of its own. It keeps what is asked and told.
type bench struct {
	*Desk
	dir     string
	asked   []Question
	answers string
	told    []Event
}

func newBench(t *testing.T) *bench {
	b := &bench{dir: t.TempDir()}
	b.Desk = &Desk{Version: "test", Tray: filepath.Join(b.dir, "tray"), Log: slog.New(slog.DiscardHandler), Tell: func(e Event) { b.told = append(b.told, e) }}
	t.Cleanup(b.Close)
	return b
}

// person lets questions be answered.
func (b *bench) person(answer string) {
	b.answers = answer
	b.Ask = func(_ context.Context, q Question) (string, error) {
		b.asked = append(b.asked, q)
		return b.answers, nil
	}
}

// told are the events of a kind.
func told[E Event](b *bench) (out []E) {
	for _, e := range b.told {
		if e, ok := e.(E); ok {
			out = append(out, e)
		}
	}
	return out
}

func (b *bench) file(t *testing.T, name, text string) string {
	path := filepath.Join(b.dir, name)
	require.NoError(t, os.WriteFile(path, []byte(text), 0o666))
	return path
}

func (b *bench) sqlite() string { return "sqlite:" + filepath.Join(b.dir, "canal.db") }

// input is files with the settings that a command has where none is given.
func input(names ...string) Input {
	return Input{Names: names, Known: source.Known{MaxRecord: 1 << 20, MaxUnpacked: 1 << 30}}
}

func (b *bench) request(file string) LoadRequest {
	return LoadRequest{Input: input(file), Into: DatabaseRequest{URL: b.sqlite()}, Mode: db.Create, Limit: RejectLimit{Count: -1}}
}

const tolls = "id,paid_on,toll\n1,2024-01-31,0.50\n2,2024-02-29,1.25\n3,2024-03-01,6.25\n"

func TestLoadAnswers(t *testing.T) {
	b := newBench(t)
	file := b.file(t, "tolls.csv", tolls)
	ctx := context.Background()

	r := b.request(file)
	r.DryRun, r.Wishes.Key = true, []string{plan.None}
	a, err := b.Load(ctx, r)
	require.NoError(t, err)
	assert.Equal(t, a.DryRun, a.JSON())
	assert.EqualValues(t, 3, a.DryRun.Records.Loaded)
	assert.NoFileExists(t, filepath.Join(b.dir, "canal.db"))

	r.DryRun = false
	a, err = b.Load(ctx, r)
	require.NoError(t, err)
	assert.Equal(t, Done, a.Outcome())
	assert.Equal(t, a.Receipt, a.JSON())
	assert.Equal(t, tray.Clear, a.Receipt.Verdict)
	assert.FileExists(t, a.Entry.Path(tray.ReceiptFile))

	// The same once more is refused by the mode, then by the bytes.
	_, err = b.Load(ctx, r)
	var need *Need
	require.ErrorAs(t, err, &need)
	assert.ErrorContains(t, err, "exists already, with 3 rows")
	r.Mode = db.Append
	_, err = b.Load(ctx, r)
	require.ErrorAs(t, err, &need)
	assert.ErrorContains(t, err, "--again")
	r.Again = true
	a, err = b.Load(ctx, r)
	require.NoError(t, err)
	assert.EqualValues(t, 6, a.Receipt.Table.Rows)
	found, mapped := told[FoundEvent](b), told[MappedEvent](b)
	require.Len(t, mapped, 1)
	assert.Equal(t, match.Fine, mapped[0].Mapping[0].Weight)
	require.NotEmpty(t, found)
	assert.Contains(t, found[0].Decided, "3 columns: id integer, paid_on date, toll decimal(4,2)")
	assert.NotContains(t, strings.Join(found[len(found)-1].Decided, " "), "columns", "the table has the types")
}

// A question is a value with its answer, and no question where nobody is there.
func TestQuestions(t *testing.T) {
	b := newBench(t)
	ctx := context.Background()
	r := b.request(b.file(t, "tolls.csv", tolls))
	_, err := b.Load(ctx, r)
	require.NoError(t, err)

	for _, mode := range []db.Mode{db.Refill, db.Replace} {
		r.Mode = mode
		b.Ask = nil
		_, err = b.Load(ctx, r)
		assert.ErrorContains(t, err, "say --yes")
		b.person("no")
		_, err = b.Load(ctx, r)
		assert.ErrorContains(t, err, "not confirmed")
		b.person(Yes)
		_, err = b.Load(ctx, r)
		require.NoError(t, err)
		q := b.asked[len(b.asked)-1]
		assert.Equal(t, map[db.Mode]Code{db.Refill: EmptiesTable, db.Replace: ReplacesTable}[mode], q.Code)
		assert.Contains(t, q.Ask, "with 3 rows")
	}
	assert.Len(t, b.asked, 4)

	// What the values leave open has the finding's code.
	b.Ask = nil
	r = b.request(b.file(t, "days.csv", "id,day\n1,01/02/2024\n2,03/04/2024\n"))
	_, err = b.Load(ctx, r)
	var open *OpenQuestions
	require.ErrorAs(t, err, &open)
	require.Len(t, open.Questions, 1)
	assert.Equal(t, Code("dates-undecided"), open.Questions[0].Code)
	assert.Contains(t, open.Questions[0].Answer, "--dates")
	look, err := b.Look(ctx, LookRequest{Input: r.Input}, nil)
	require.NoError(t, err)
	assert.Equal(t, Undecided, look.Outcome)
	r.Options.Dates = "day-first"
	_, err = b.Load(ctx, r)
	require.NoError(t, err)
}

func TestRequestsThatDoNotGoTogether(t *testing.T) {
	b := newBench(t)
	file := b.file(t, "tolls.csv", tolls)
	for want, change := range map[string]func(*LoadRequest){
		"--mode":                func(r *LoadRequest) { r.Mode = "add" },
		"--like":                func(r *LoadRequest) { r.Like, r.Mode = "x", db.Append },
		"step by step":          func(r *LoadRequest) { r.Every, r.Mode = 5, db.Refill },
		"all or nothing":        func(r *LoadRequest) { r.Every, r.Limit = 5, RejectLimit{} },
		"use a number":          func(r *LoadRequest) { r.Every = -1 },
		"not a database URL":    func(r *LoadRequest) { r.Into.URL = "canal" },
		"does not exist":        func(r *LoadRequest) { r.Mode = db.Append },
		"x does not exist":      func(r *LoadRequest) { r.Like = "x" },
		"no column \"nothing\"": func(r *LoadRequest) { r.Wishes.Key = []string{"nothing"} },
	} {
		r := b.request(file)
		change(&r)
		_, err := b.Load(context.Background(), r)
		var need *Need
		require.ErrorAs(t, err, &need, want)
		assert.ErrorContains(t, err, strings.Trim(want, `"`)[:4])
	}
	assert.NoDirExists(t, b.Tray, "no papers of what was not begun")
}

// An entry lives: rejects, mended, waived, verified, on a page.
func TestAnEntryLives(t *testing.T) {
	b := newBench(t)
	ctx := context.Background()
	r := b.request(b.file(t, "tolls.csv", tolls+"4,2024-02-30,1.00\n5,2024-04-31,2.00\n6,2024-05-01,x\n"))
	r.Options.Tolerate = 0.5
	a, err := b.Load(ctx, r)
	require.NoError(t, err)
	require.Equal(t, Waiting, a.Outcome())

	list, err := b.List()
	require.NoError(t, err)
	assert.EqualValues(t, 3, list.Rejected)
	rejects, err := b.Rejects(ctx, RejectsRequest{Entry: "latest", Limit: 1})
	require.NoError(t, err)
	assert.EqualValues(t, 3, rejects.Count)
	assert.Len(t, rejects.Rejects, 1)
	assert.Len(t, rejects.Groups, 2)

	text, err := os.ReadFile(a.Entry.Path(tray.RejectsFile))
	require.NoError(t, err)
	b.file(t, "corrected.csv", strings.Replace(string(text), "4,2024-02-30", "4,2024-02-28", 1))
	mended, err := b.Mend(ctx, MendRequest{Entry: "latest", File: filepath.Join(b.dir, "corrected.csv")})
	require.NoError(t, err)
	assert.Equal(t, []int64{1}, mended.Mended)
	assert.Len(t, mended.Refused, 2)
	assert.Equal(t, Waiting, mended.Outcome())

	_, err = b.Waive(WaiveRequest{Entry: "latest", Rejects: "1", Because: "x"})
	assert.ErrorContains(t, err, "the reject 1 does not wait")
	_, err = b.Waive(WaiveRequest{Entry: "latest", Rejects: "all"})
	assert.ErrorContains(t, err, "--because")
	waived, err := b.Waive(WaiveRequest{Entry: "latest", Rejects: "all", Because: "the page is torn"})
	require.NoError(t, err)
	assert.Equal(t, []int64{2, 3}, waived.Waived)
	assert.Equal(t, Done, waived.Outcome())

	v, err := b.Verify(ctx, VerifyRequest{Entry: "latest", Deep: true, Limit: 5})
	require.NoError(t, err)
	assert.Equal(t, Done, v.Outcome())
	assert.True(t, v.Deep.Same)
	page, err := b.Report(ctx, ReportRequest{Entry: "latest"})
	require.NoError(t, err)
	assert.Empty(t, page.Unseen)
	assert.Len(t, page.Rejects, 3)

	conn, err := sql.Open("sqlite", filepath.Join(b.dir, "canal.db"))
	require.NoError(t, err)
	defer conn.Close()
	_, err = conn.Exec("UPDATE tolls SET toll = toll + 1 WHERE id = 2")
	require.NoError(t, err)
	v, err = b.Verify(ctx, VerifyRequest{Entry: "latest", Deep: true, Limit: 5})
	require.NoError(t, err)
	assert.Equal(t, Differs, v.Outcome())
	require.Len(t, v.Deep.Different, 1)
	assert.EqualValues(t, 3, v.Deep.Different[0].Line)
}

// What is written can be read: a script, an export with its plan, dictionaries.
func TestWriting(t *testing.T) {
	b := newBench(t)
	ctx := context.Background()
	file := b.file(t, "tolls.csv", tolls)
	_, err := b.Load(ctx, b.request(file))
	require.NoError(t, err)
	at := DatabaseRequest{URL: b.sqlite()}

	out := filepath.Join(b.dir, "out.csv")
	x, err := b.Export(ctx, ExportRequest{From: at, Table: "tolls", Out: Output{File: out}, Plan: filepath.Join(b.dir, "out.yaml"), Form: delimited.Form{Delimiter: ",", Quote: 0x22}})
	require.NoError(t, err)
	info, err := os.Stat(out)
	require.NoError(t, err)
	assert.Equal(t, info.Size(), x.Bytes)
	_, err = b.Export(ctx, ExportRequest{From: at, Table: "tolls", Out: Output{File: out}, Form: delimited.Form{Delimiter: ",", Quote: 0x22}})
	assert.ErrorContains(t, err, "the file exists")
	r := b.request(filepath.Join(b.dir, "out.yaml"))
	r.Wishes.Table = "again"
	a, err := b.Load(ctx, r)
	require.NoError(t, err)
	assert.EqualValues(t, 3, a.Receipt.Table.Rows)

	p, err := b.Peek(ctx, at, "", 0)
	require.NoError(t, err)
	assert.Len(t, p.Tables.Tables, 2)
	p, err = b.Peek(ctx, at, "again", 2)
	require.NoError(t, err)
	assert.Len(t, p.Table.First, 2)
	_, err = b.Peek(ctx, at, "none", 2)
	assert.ErrorContains(t, err, "there is no table none")

	d, err := b.FileDictionary(ctx, input(file))
	require.NoError(t, err)
	e, err := b.TableDictionary(ctx, at, "tolls")
	require.NoError(t, err)
	assert.Equal(t, d.Columns[2].Largest, e.Columns[2].Largest)
}

// A fault of the program's own ends a load as any error does: nothing is in, or all is, and
// the receipt says which.
func TestFaultsOfOurOwn(t *testing.T) {
	for _, at := range fault.Points {
		b := newBench(t)
		b.file(t, "tolls.csv", tolls)
		into := b.sqlite()
		ctx := fault.With(context.Background(), func(p fault.Point) error {
			if p == at {
				panic("index out of range")
			}
			return nil
		})
		_, err := b.Load(ctx, b.request(filepath.Join(b.dir, "tolls.csv")))
		require.ErrorContains(t, err, "a fault of the program's own: index out of range", at)
		var own *fault.Panic
		require.ErrorAs(t, err, &own)
		assert.Contains(t, string(own.Stack), "goroutine")
		list, err := b.List()
		require.NoError(t, err)
		require.Len(t, list.Entries, 1)
		if at == fault.AfterCommit || at == fault.AtReceipt {
			tables, err := b.Peek(context.Background(), DatabaseRequest{URL: into}, "", 0)
			require.NoError(t, err)
			assert.Len(t, tables.Tables.Tables, 1, at)
			assert.Equal(t, tray.Unsure, list.Entries[0].State, at)
			_, err = b.Verify(context.Background(), VerifyRequest{Entry: list.Entries[0].Entry})
			require.NoError(t, err)
			list, err = b.List()
			require.NoError(t, err)
			assert.Equal(t, tray.IsClear, list.Entries[0].State, at)
			continue
		}
		assert.NoFileExists(t, strings.TrimPrefix(into, "sqlite:"), at)
		assert.Equal(t, tray.IsFailed, list.Entries[0].State, at)
	}
}

// Nothing of a result that fails is left behind.
func TestOutputs(t *testing.T) {
	b := newBench(t)
	o := Output{File: filepath.Join(b.dir, "x")}
	require.NoError(t, o.Write(func(w io.Writer) error { _, err := w.Write([]byte("whole")); return err }))
	assert.ErrorContains(t, o.Write(func(io.Writer) error { return nil }), "the file exists")
	o.Over = true
	assert.ErrorContains(t, o.Write(func(io.Writer) error { return fmt.Errorf("no more") }), "no more")
	text, err := os.ReadFile(o.File)
	require.NoError(t, err)
	assert.Equal(t, "whole", string(text))
	assert.NoFileExists(t, o.File+".part")
}

// TestMain is also a program that loads and ends itself at a point; see
// TestEndedAtEachPoint.
func TestMain(m *testing.M) {
	at := os.Getenv("DESK_TEST_END_AT")
	if at == "" {
		os.Exit(m.Run())
	}
	d := &Desk{Version: "test", Tray: os.Getenv("DESK_TEST_TRAY"), Log: slog.New(slog.DiscardHandler)}
	ctx := fault.With(context.Background(), func(p fault.Point) error {
		if string(p) == at {
			self, _ := os.FindProcess(os.Getpid())
			self.Kill()
			select {}
		}
		return nil
	})
	_, err := d.Load(ctx, LoadRequest{Input: input(os.Getenv("DESK_TEST_FILE")), Into: DatabaseRequest{URL: os.Getenv("DESK_TEST_URL")},
		Mode: db.Mode(os.Getenv("DESK_TEST_MODE")), Limit: RejectLimit{Count: -1}, Again: true, Yes: true})
	fmt.Println("not ended:", err)
	os.Exit(3)
}

// A program that is ended at any point leaves the table as it was, or loaded;
// and what it was is what the entry says, at once or when the table is asked.
func TestEndedAtEachPoint(t *testing.T) {
	for name, open := range map[string]func(t *testing.T, b *bench) (string, *sql.DB){
		"sqlite": func(t *testing.T, b *bench) (string, *sql.DB) {
			conn, err := sql.Open("sqlite", filepath.Join(b.dir, "canal.db"))
			require.NoError(t, err)
			t.Cleanup(func() { conn.Close() })
			return b.sqlite(), conn
		},
		"postgres": func(t *testing.T, b *bench) (string, *sql.DB) { return testdb.Postgres(t) },
		"mysql":    func(t *testing.T, b *bench) (string, *sql.DB) { return testdb.MySQL(t) },
	} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t)
			raw, conn := open(t, b)
			if u, err := url.Parse(raw); err == nil && u.User != nil {
				password, _ := u.User.Password()
				t.Setenv("AMBERTRAY_PASSWORD", password)
			}
			b.file(t, "tolls.csv", tolls)
			for _, mode := range []db.Mode{db.Create, db.Append, db.Refill, db.Replace} {
				for _, at := range fault.Points {
					b.endedAt(t, raw, conn, mode, at)
				}
			}
		})
	}
}

func (b *bench) endedAt(t *testing.T, raw string, conn *sql.DB, mode db.Mode, at fault.Point) {
	count := func() (n int) {
		require.NoError(t, conn.QueryRow("SELECT count(*) FROM tolls").Scan(&n))
		return
	}
	conn.Exec("DROP TABLE IF EXISTS tolls")
	require.NoError(t, os.RemoveAll(b.Tray))
	if mode != db.Create {
		_, err := conn.Exec("CREATE TABLE tolls (id int, paid_on date, toll decimal(8,2))")
		require.NoError(t, err)
		_, err = conn.Exec("INSERT INTO tolls VALUES (9, '2023-01-01', 9.00)")
		require.NoError(t, err)
	}
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), "DESK_TEST_END_AT="+string(at), "DESK_TEST_TRAY="+b.Tray, "DESK_TEST_FILE="+filepath.Join(b.dir, "tolls.csv"),
		"DESK_TEST_URL="+raw, "DESK_TEST_MODE="+string(mode))
	out, err := cmd.CombinedOutput()
	require.Error(t, err)
	require.Equal(t, -1, cmd.ProcessState.ExitCode(), "%s %s: %s", mode, at, out)

	done := at == fault.AfterCommit || at == fault.AtReceipt
	all := map[db.Mode]int{db.Create: 3, db.Append: 4, db.Refill: 3, db.Replace: 3}[mode]
	list, err := b.List()
	require.NoError(t, err)
	require.Len(t, list.Entries, 1)
	v, err := b.Verify(context.Background(), VerifyRequest{Entry: list.Entries[0].Entry, At: DatabaseRequest{URL: raw}})
	switch {
	case done:
		require.NoError(t, err, "%s %s", mode, at)
		assert.Equal(t, Done, v.Outcome())
		assert.Equal(t, all, count(), "%s %s", mode, at)
	case at == fault.AtCommit:
		require.ErrorContains(t, err, "did not come to be", "%s", mode)
	default:
		require.ErrorContains(t, err, "cut off before its commit", "%s %s", mode, at)
	}
	if !done && mode != db.Create {
		assert.Equal(t, 1, count(), "%s %s: the table is as it was", mode, at)
	} else if !done {
		assert.Error(t, conn.QueryRow("SELECT count(*) FROM tolls").Scan(new(int)), "%s %s: there is no table", mode, at)
	}
}

// A receipt that cannot be written does not make a load that is in a failed one.
func TestReceiptNotWritten(t *testing.T) {
	b := newBench(t)
	ctx := fault.With(context.Background(), func(p fault.Point) error {
		if p == fault.AtReceipt {
			return fmt.Errorf("the disk is full")
		}
		return nil
	})
	a, err := b.Load(ctx, b.request(b.file(t, "tolls.csv", tolls)))
	require.ErrorContains(t, err, "committed and verified, but")
	assert.Equal(t, tray.Clear, a.Receipt.Verdict, "it did not fail")
	list, err := b.List()
	require.NoError(t, err)
	assert.Equal(t, tray.Unsure, list.List[0].State)
	v, err := b.Verify(context.Background(), VerifyRequest{Entry: "latest"})
	require.NoError(t, err)
	assert.Equal(t, Done, v.Outcome())
}

// So many rejects are not some bad records: without a limit of its own, a load
// ends when they are many, or all.
func TestUsualLimit(t *testing.T) {
	b := newBench(t)
	ctx := context.Background()
	text := func(bad, all int) string {
		s := "id,toll\n"
		for i := range all {
			if i < bad {
				s += fmt.Sprintf("%d,x%d\n", i, i)
			} else {
				s += fmt.Sprintf("%d,0.5\n", i)
			}
		}
		return s
	}
	for i, x := range []struct {
		bad, all int
		over     bool
	}{{100, 1000, false}, {101, 1000, true}, {101, 2100, false}, {3, 3, true}, {2, 3, false}} {
		r := b.request(b.file(t, fmt.Sprintf("tolls%d.csv", i), text(x.bad, x.all)))
		r.Options.Types = map[string]sqltype.Type{"toll": {Kind: sqltype.Decimal, Precision: 8, Scale: 2}}
		r.Limit = UsualLimit
		for _, dry := range []bool{true, false} {
			r.DryRun = dry
			a, err := b.Load(ctx, r)
			var many *rows.TooManyRejects
			assert.Equal(t, x.over, errors.As(err, &many), "%+v %v", x, err)
			if x.over && !dry {
				assert.ErrorContains(t, err, "--max-rejects")
				assert.Equal(t, tray.Failed, a.Receipt.Verdict)
				r.Limit = RejectLimit{Count: -1}
				_, err = b.Load(ctx, r)
				assert.NoError(t, err, "raised")
			}
		}
	}
}

// A result never goes through a link that somebody has laid, nor over a file that is not
// its own; what is no file is written to.
func TestOutputKeepsToItself(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	read := func(name string) string {
		b, err := os.ReadFile(at(name))
		require.NoError(t, err)
		return string(b)
	}
	write := func(o Output) error {
		return o.Write(func(w io.Writer) error { _, err := io.WriteString(w, "new"); return err })
	}
	require.NoError(t, os.WriteFile(at("victim"), []byte("old"), 0o666))
	for _, link := range []string{"out.part", "dangling"} {
		require.NoError(t, os.Symlink(at(map[string]string{"out.part": "victim", "dangling": "nowhere"}[link]), at(link)))
	}
	require.NoError(t, write(Output{File: at("out")}))
	assert.Equal(t, "new", read("out"))
	assert.Error(t, write(Output{File: at("dangling")}), "a link that leads nowhere")
	assert.NoFileExists(t, at("nowhere"))
	// With --yes, a link is replaced, and what it leads to stays.
	require.NoError(t, os.Symlink(at("victim"), at("link")))
	require.NoError(t, write(Output{File: at("link"), Over: true}))
	assert.Equal(t, "new", read("link"))
	assert.Equal(t, "old", read("victim"))
	// A file that has come meanwhile stays.
	o := Output{File: at("late")}
	w, err := o.begin()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(at("late"), []byte("theirs"), 0o666))
	require.Error(t, w.finish(nil))
	assert.Equal(t, "theirs", read("late"))
	require.NoError(t, write(Output{File: os.DevNull}))
	info, err := os.Stat(os.DevNull)
	require.NoError(t, err)
	assert.False(t, info.Mode().IsRegular())
	left, err := filepath.Glob(at("*.*.part"))
	require.NoError(t, err)
	assert.Empty(t, left)
}
