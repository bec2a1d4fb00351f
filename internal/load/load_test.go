package load

import (
	"bytes"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/db/sqlite"
	"ambertray/internal/plan"
	"ambertray/internal/profile"
	"ambertray/internal/reading"
	"ambertray/internal/rows"
	"ambertray/internal/sink"
	"ambertray/internal/source"
	"ambertray/internal/sqltype"
	"ambertray/internal/tally"
	"ambertray/internal/tray"
)

// memory is a small database that keeps rows as text. Tests make it fail.
type memory struct {
	table *db.Table

	rows      [][]string // committed
	open      *memoryLoad
	rolled    int
	refuse    func(row []string) string // a reason to refuse a row
	late      func(rows [][]string) []int
	tamper    func(cols []tally.Tally) // changes what the table says it holds
	lose      bool                     // drops the last row without a word
	writeErr  error
	commitErr error
	stalls    bool // does not answer the commit
}

func (m *memory) Dialect() *dialect.Dialect { return sqlite.Dialect }
func (m *memory) Find(ctx context.Context, schema, table string) (*db.Table, error) {
	return m.table, nil
}
func (m *memory) Count(ctx context.Context, t *db.Table) (int64, error) {
	return int64(len(m.rows)), nil
}
func (m *memory) Close() error { return nil }
func (m *memory) Tally(ctx context.Context, t dialect.Table) (int64, []tally.Tally, error) {
	return (&memoryLoad{m: m, rows: m.rows, spec: db.Spec{Table: t}}).Tally(ctx)
}
func (m *memory) Describe(ctx context.Context, query string) ([]db.Column, error) {
	return nil, errors.New("not here")
}
func (m *memory) Scan(ctx context.Context, query string, columns []db.Column, row func([][]byte) error) error {
	return errors.New("not here")
}

func (m *memory) Begin(ctx context.Context, spec db.Spec) (db.Load, error) {
	m.open = &memoryLoad{m: m, spec: spec}
	if spec.Mode == db.Append {
		m.open.rows = append(m.open.rows, m.rows...)
	}
	return m.open, nil
}

type memoryLoad struct {
	m    *memory
	spec db.Spec
	rows [][]string
	done bool
}

type memoryEncoder struct{ types []sqltype.Type }

func (l *memoryLoad) Encoder() sink.Encoder {
	e := &memoryEncoder{}
	for _, c := range l.spec.Table.Columns {
		e.types = append(e.types, c.Type)
	}
	return e
}

// Append writes a row as a line of CSV, nulls as \N.
func (e *memoryEncoder) Append(dst []byte, row []reading.Value) []byte {
	var b bytes.Buffer
	var out []string
	for i := range row {
		if row[i].Null {
			out = append(out, `\N`)
		} else {
			out = append(out, row[i].Plain(e.types[i]))
		}
	}
	w := csv.NewWriter(&b)
	w.Write(out)
	w.Flush()
	return append(dst, b.Bytes()...)
}

func (l *memoryLoad) Write(ctx context.Context, b sink.Batch) (out []sink.Refusal, err error) {
	if l.m.writeErr != nil {
		return nil, l.m.writeErr
	}
	rows, err := csv.NewReader(bytes.NewReader(b.Data)).ReadAll()
	if err != nil || len(rows) != b.Rows {
		return nil, fmt.Errorf("%d rows, not %d: %w", len(rows), b.Rows, err)
	}
	for i, r := range rows {
		if l.m.refuse != nil {
			if why := l.m.refuse(r); why != "" {
				out = append(out, sink.Refusal{Row: i, Column: "id", Message: why})
				continue
			}
		}
		l.rows = append(l.rows, r)
	}
	return out, nil
}

func (l *memoryLoad) Finish(ctx context.Context) (out []sink.Refusal, err error) {
	if l.m.late == nil {
		return nil, nil
	}
	gone := map[int]bool{}
	for _, n := range l.m.late(l.rows) {
		out = append(out, sink.Refusal{Row: n, Column: "id", Message: "late"})
		gone[n] = true
	}
	var kept [][]string
	for i, r := range l.rows {
		if !gone[i] {
			kept = append(kept, r)
		}
	}
	l.rows = kept
	return out, nil
}

func (l *memoryLoad) Tally(ctx context.Context) (int64, []tally.Tally, error) {
	rows := l.rows
	if l.m.lose && len(rows) > 0 {
		rows = rows[:len(rows)-1]
	}
	cols := make([]tally.Tally, len(l.spec.Table.Columns))
	for i, c := range l.spec.Table.Columns {
		cols[i].Type = c.Type
		r := reading.Reader{Type: c.Type, NullWords: []string{`\N`}, KeepBlank: true}
		if err := r.Prepare(); err != nil {
			return 0, nil, err
		}
		for _, row := range rows {
			var v reading.Value
			if m := r.Read([]byte(row[i]), false, &v); m != reading.OK {
				return 0, nil, errors.New(m.Reason(c.Type, nil))
			}
			cols[i].Add(&v)
		}
	}
	if l.m.tamper != nil {
		l.m.tamper(cols)
	}
	return int64(len(rows)), cols, nil
}

func (l *memoryLoad) Commit(ctx context.Context) error {
	if l.m.stalls {
		<-ctx.Done()
		return &db.Unsure{Err: ctx.Err()}
	}
	if l.m.commitErr != nil {
		return l.m.commitErr
	}
	l.m.rows, l.done = l.rows, true
	return nil
}

func (l *memoryLoad) Rollback() error {
	if !l.done {
		l.m.rolled++
		l.done = true
	}
	return nil
}

// job makes a load of a text into m.
func job(t *testing.T, m *memory, text string, w plan.Wishes, opt profile.Options) Job {
	t.Helper()
	dir := t.TempDir()
	name := filepath.Join(dir, "in.csv")
	require.NoError(t, os.WriteFile(name, []byte(text), 0o666))
	src, err := source.Open(context.Background(), name, source.Known{})
	require.NoError(t, err)
	prof, err := profile.Run(context.Background(), src, opt)
	require.NoError(t, err)
	p, _, err := plan.Build([]*source.Source{src}, prof, w)
	require.NoError(t, err)
	entry, err := tray.Create(filepath.Join(dir, "tray"), "in", time.Now())
	require.NoError(t, err)
	j := Job{Job: rows.Job{Sources: []*source.Source{src}, Plan: p, Rejects: entry.Rejects(p.Headers([]*source.Source{src})), MaxRejects: -1},
		Session: m, Spec: db.Spec{Mode: db.Create, Table: p.Definition()},
		Log: slog.New(slog.DiscardHandler)}
	j.Receipt = Started(entry.Name, j.Sources, "memory", "test", time.Now())
	return j
}

// many is a text of n records over several chunks, with what people do to it.
func many(n int) string {
	var b strings.Builder
	b.WriteString("id,day,toll,note\n")
	for i := range n {
		fmt.Fprintf(&b, "%d,%02d/%02d/2024,%d.%02d,a note of the keeper's that takes some room %d\n", i, i%28+1, i%12+1, i%977, i%100, i)
	}
	return b.String()
}

func TestRunBalances(t *testing.T) {
	m := &memory{}
	j := job(t, m, many(150000), plan.Wishes{RowNumber: "no"}, profile.Options{})
	seen := map[string]bool{}
	j.Progress = func(p rows.Progress) { seen[p.Stage] = true; assert.LessOrEqual(t, p.Bytes, p.Size) }
	require.NoError(t, Run(context.Background(), j))
	assert.Equal(t, tray.Records{Read: 150000, Loaded: 150000}, j.Receipt.Records)
	assert.Equal(t, tray.Clear, j.Receipt.Verdict)
	require.Len(t, m.rows, 150000)
	for i, r := range m.rows {
		require.Equal(t, fmt.Sprint(i+1), r[0], "numbers and rows are in the file's order")
		require.Equal(t, fmt.Sprint(i), r[1])
	}
	assert.Equal(t, "11249925000", j.Receipt.Columns[1].Sum)
	assert.Equal(t, map[string]bool{"reading": true, "finishing": true, "verifying": true, "committing": true}, seen)
	assert.Zero(t, m.rolled)
}

// Whatever the table says that differs from what was read, nothing is
// committed and it is told.
func TestUnbalanced(t *testing.T) {
	for name, tt := range map[string]struct {
		m    memory
		says string
	}{
		"a row lost":      {memory{lose: true}, "1000 records loaded, but the table has 999 rows"},
		"a sum off":       {memory{tamper: func(c []tally.Tally) { c[0].Add(&reading.Value{Int: 1}); c[0].Rows-- }}, "column id: sum"},
		"a value smaller": {memory{tamper: func(c []tally.Tally) { c[2].Add(&reading.Value{Int: -5}); c[2].Rows-- }}, "column toll: smallest: 0.00 read, -0.05 in the table"},
		"a null more":     {memory{tamper: func(c []tally.Tally) { c[3].Nulls++ }}, "column note: nulls: 0 read, 1 in the table"},
		"text cut":        {memory{tamper: func(c []tally.Tally) { c[3].Octets-- }}, "column note: bytes of text"},
		"a date moved":    {memory{tamper: func(c []tally.Tally) { c[1].Add(&reading.Value{Int: 19800}); c[1].Rows-- }}, "column day: the sum of all dates"},
	} {
		t.Run(name, func(t *testing.T) {
			m := tt.m
			j := job(t, &m, many(1000), plan.Wishes{}, profile.Options{})
			err := Run(context.Background(), j)
			var un *Unbalanced
			require.ErrorAs(t, err, &un)
			assert.Contains(t, err.Error(), tt.says)
			assert.Empty(t, m.rows)
			assert.Equal(t, 1, m.rolled)
			assert.Equal(t, tray.Failed, j.Receipt.Verdict)
			assert.NotEmpty(t, j.Receipt.Differences)
		})
	}
}

func TestFailuresRollBack(t *testing.T) {
	boom := errors.New("boom")
	for name, set := range map[string]func(m *memory, j *Job){
		"writing":       func(m *memory, j *Job) { m.writeErr = boom },
		"committing":    func(m *memory, j *Job) { m.commitErr = boom },
		"before commit": func(m *memory, j *Job) { j.BeforeCommit = func() error { return boom } },
		"too many":      func(m *memory, j *Job) { m.refuse = func([]string) string { return "no" }; j.MaxRejects = 5 },
		"too great": func(m *memory, j *Job) {
			m.refuse = func(r []string) string { return r[0][:1][:0] + map[bool]string{true: "no"}[r[0] < "2"] }
			j.MaxShare = 0.1
		},
		"file changed":   func(m *memory, j *Job) { j.Sources[0].Size++ },
		"file gone":      func(m *memory, j *Job) { os.Remove(j.Sources[0].Path) },
		"tray unwritten": func(m *memory, j *Job) { m.refuse = func([]string) string { return "no" }; os.RemoveAll(trayOf(j)) },
	} {
		t.Run(name, func(t *testing.T) {
			m := &memory{}
			j := job(t, m, many(1000), plan.Wishes{}, profile.Options{})
			set(m, &j)
			require.Error(t, Run(context.Background(), j))
			assert.Empty(t, m.rows)
			assert.Equal(t, 1, m.rolled)
		})
	}
	ctx, cancel := context.WithCancel(context.Background())
	m := &memory{}
	j := job(t, m, many(200000), plan.Wishes{}, profile.Options{})
	j.Progress = func(p rows.Progress) { cancel() }
	require.ErrorIs(t, Run(ctx, j), context.Canceled)
	assert.Empty(t, m.rows)
}

// Records that the target refuses, at once or at the end, become rejects with
// their lines, and what is left adds up.
func TestRefusedRecords(t *testing.T) {
	m := &memory{
		refuse: func(r []string) string { return map[bool]string{true: "seven"}[strings.HasSuffix(r[1], "7777")] },
		late:   func(rows [][]string) []int { return []int{0, 777, len(rows) - 1} },
	}
	text := strings.Replace(many(150000), "500,25/09/2024", "500,31/09/2024", 1)
	j := job(t, m, text, plan.Wishes{RowNumber: "no"}, profile.Options{Tolerate: 0.01})
	require.NoError(t, Run(context.Background(), j))
	// 7777, 17777, … 147777 refused at once; 3 late; 1 misfit.
	assert.Equal(t, tray.Records{Read: 150000, Loaded: 150000 - 15 - 3 - 1, Rejected: 19}, j.Receipt.Records)
	assert.Equal(t, tray.Waiting, j.Receipt.Verdict)
	b, err := os.ReadFile(filepath.Join(trayOf(&j), tray.RejectsFile))
	require.NoError(t, err)
	rows, err := csv.NewReader(bytes.NewReader(b)).ReadAll()
	require.NoError(t, err)
	lines := map[string]string{}
	for _, r := range rows[1:] {
		lines[r[2]] = r[6]
	}
	assert.Len(t, lines, 19)
	assert.Equal(t, "no such date", lines["502"])
	assert.Equal(t, "seven", lines["7779"])
	assert.Equal(t, "late", lines["2"])
	assert.Equal(t, "late", lines["780"], "the misfit before it does not count")
	assert.Equal(t, "late", lines["150001"])
	for _, r := range rows[1:] {
		var n int
		fmt.Sscan(r[8], &n)
		assert.Equal(t, fmt.Sprint(n+2), r[2], "the fields are those of the line")
		assert.Equal(t, fmt.Sprint(n+1), r[3], "and of the record")
	}
}

func TestAppendComparesDifferences(t *testing.T) {
	m := &memory{rows: [][]string{{"900000", "2020-01-01", "5.00", "before"}, {"900001", "2020-01-02", `\N`, `\N`}}}
	j := job(t, m, many(1000), plan.Wishes{}, profile.Options{})
	j.Spec.Mode = db.Append
	require.NoError(t, Run(context.Background(), j))
	assert.EqualValues(t, 2, j.Receipt.Table.Before)
	assert.EqualValues(t, 1002, j.Receipt.Table.Rows)
	assert.Equal(t, "999", j.Receipt.Columns[0].Largest, "the receipt is about what was read")
	assert.True(t, j.Receipt.Columns[0].Agrees)

	m = &memory{rows: m.rows[:2], lose: true}
	j = job(t, m, many(1000), plan.Wishes{}, profile.Options{})
	j.Spec.Mode = db.Append
	var un *Unbalanced
	require.ErrorAs(t, Run(context.Background(), j), &un, "another row is missing than before")
	assert.Len(t, m.rows, 2)
}

// trayOf is the folder that a job's papers lie in.
func trayOf(j *Job) string {
	return filepath.Join(filepath.Dir(j.Sources[0].Path), "tray", j.Receipt.Entry)
}

// A commit without an answer ends, and is not called a failure.
func TestCommitWithoutAnswer(t *testing.T) {
	commitIn = 50 * time.Millisecond
	t.Cleanup(func() { commitIn = 10 * time.Minute })
	err := Run(context.Background(), job(t, &memory{stalls: true}, many(10), plan.Wishes{}, profile.Options{}))
	var unsure *db.Unsure
	require.ErrorAs(t, err, &unsure)
	assert.ErrorContains(t, err, "did not answer in time")
}

// A file that is another when it is loaded than when it was looked at is not loaded, even
// if nothing but its bytes tells.
func TestAnotherFileThanWasLookedAt(t *testing.T) {
	m := &memory{}
	j := job(t, m, many(10), plan.Wishes{}, profile.Options{Again: true})
	require.NoError(t, Run(context.Background(), j))
	j = job(t, m, many(10), plan.Wishes{}, profile.Options{Again: true})
	text, err := os.ReadFile(j.Sources[0].Path)
	require.NoError(t, err)
	text[len(text)-2] ^= 1
	require.NoError(t, os.WriteFile(j.Sources[0].Path, text, 0o666))
	require.ErrorIs(t, Run(context.Background(), j), rows.ErrChanged)
	assert.Equal(t, 1, m.rolled)
}
