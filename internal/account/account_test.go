package account_test

import (
	"context"
	"database/sql"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"

	"ambertray/internal/account"
	"ambertray/internal/db"
	"ambertray/internal/db/connect"
	"ambertray/internal/desk"
	"ambertray/internal/fault"
	"ambertray/internal/plan"
	"ambertray/internal/source"
	"ambertray/internal/tray"
)

// A loaded file, with its entry and the database that it went into.
type loaded struct {
	*desk.Desk
	dir   string
	entry *tray.Entry
	conn  *sql.DB
}

// load loads a text into SQLite under the given name.
func load(t *testing.T, text string, change func(*desk.LoadRequest)) *loaded {
	dir := t.TempDir()
	file := filepath.Join(dir, "tolls.csv")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o666))
	l := &loaded{Desk: &desk.Desk{Version: "test", Tray: filepath.Join(dir, "tray"), Log: slog.New(slog.DiscardHandler)}, dir: dir}
	var err error
	l.conn, err = sql.Open("sqlite", filepath.Join(dir, "canal.db"))
	require.NoError(t, err)
	t.Cleanup(func() { l.Close(); l.conn.Close() })
	r := desk.LoadRequest{Input: desk.Input{Names: []string{file}, Known: source.Known{MaxRecord: 1 << 20, MaxUnpacked: 1 << 30}},
		Into: desk.DatabaseRequest{URL: "sqlite:" + filepath.Join(dir, "canal.db")}, Mode: db.Create, Limit: desk.RejectLimit{Count: -1}}
	r.Options.Tolerate = 0.5
	if change != nil {
		change(&r)
	}
	a, err := l.Load(context.Background(), r)
	require.NoError(t, err)
	l.entry = a.Entry
	return l
}

func (l *loaded) exec(t *testing.T, statements ...string) {
	for _, s := range statements {
		_, err := l.conn.Exec(s)
		require.NoError(t, err, s)
	}
}

// papers are the entry's, with a connection.
func (l *loaded) papers(t *testing.T) (*tray.Receipt, *plan.Plan, db.Session) {
	r, err := l.entry.Receipt()
	require.NoError(t, err)
	p, err := plan.ReadFile(l.entry.Path(tray.PlanFile))
	require.NoError(t, err)
	conn, err := connect.Open(context.Background(), "sqlite:"+filepath.Join(l.dir, "canal.db"), connect.Options{Existing: true})
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close() })
	return r, p, conn
}

func (l *loaded) verify(t *testing.T) *account.Verification {
	r, p, conn := l.papers(t)
	v, err := account.Verify(context.Background(), r, p, conn)
	require.NoError(t, err)
	return v
}

func (l *loaded) deep(t *testing.T) (*account.DeepCheck, error) {
	r, p, conn := l.papers(t)
	checked, err := account.Verify(context.Background(), r, p, conn)
	require.NoError(t, err)
	return account.Deep(context.Background(), l.entry, r, p, conn, checked.Sources, nil)
}

const good = "id,paid_on,toll,note\n1,2024-01-31,0.50,a\n2,2024-02-29,1.25,b\n3,2024-03-01,6.25,c\n"
const bad = good + "4,2024-02-30,1.00,d\n5,2024-04-31,2.00,e\n6,2024-05-01,x,f\n7,2024-05-02,3.00\n"

// Each row: what is done to the table or the file after a load, and what a check
// then says of it.
func TestVerify(t *testing.T) {
	for _, tt := range []struct {
		what   string
		sql    string
		answer account.Answer
		text   string
	}{
		{"nothing", "SELECT 1", account.Agrees, ""},
		{"a number", "UPDATE tolls SET toll = 9 WHERE id = 2", account.Differs, "sum"},
		{"a text", "UPDATE tolls SET note = 'longer' WHERE id = 2", account.Differs, "bytes"},
		{"a row less", "DELETE FROM tolls WHERE id = 2", account.Differs, "fewer"},
		{"a row more", "INSERT INTO tolls VALUES (9, '2024-01-01', 1, 'z')", account.Differs, "filled the whole table"},
		{"no column", "ALTER TABLE tolls DROP COLUMN note", account.Differs, "no column note"},
		{"no table", "DROP TABLE tolls", account.Differs, "does not exist any more"},
	} {
		l := load(t, good, nil)
		l.exec(t, tt.sql)
		v := l.verify(t)
		assert.Equal(t, tt.answer, v.Answer, tt.what)
		text := v.Rows.Text
		for _, c := range v.Columns {
			text += strings.Join(c.Differences, " ")
		}
		assert.Contains(t, text, tt.text, tt.what)
	}
	l := load(t, good, nil)
	file := filepath.Join(l.dir, "tolls.csv")
	require.NoError(t, os.WriteFile(file, []byte(good+"4,2024-01-01,1,d\n"), 0o666))
	v := l.verify(t)
	assert.Equal(t, account.Differs, v.Sources[0].Answer)
	_, err := l.deep(t)
	assert.ErrorContains(t, err, "needs the file as it was loaded")
	require.NoError(t, os.Remove(file))
	assert.Equal(t, account.Unknown, l.verify(t).Sources[0].Answer)
}

// In a table that holds others' rows, a change in number tells nothing.
func TestVerifyShared(t *testing.T) {
	l := load(t, good, func(r *desk.LoadRequest) { r.Wishes.Key = []string{plan.None} })
	first := l.entry
	a, err := l.Load(context.Background(), desk.LoadRequest{Input: desk.Input{Names: []string{filepath.Join(l.dir, "tolls.csv")}, Known: source.Known{MaxRecord: 1 << 20, MaxUnpacked: 1 << 30}},
		Into: desk.DatabaseRequest{URL: "sqlite:" + filepath.Join(l.dir, "canal.db")}, Mode: db.Append, Again: true, Limit: desk.RejectLimit{Count: -1}})
	require.NoError(t, err)
	l.entry = a.Entry
	assert.Equal(t, account.Agrees, l.verify(t).Answer)
	l.exec(t, "INSERT INTO tolls VALUES (9, '2024-01-01', 1, 'z')")
	assert.Equal(t, account.Unknown, l.verify(t).Answer)
	d, err := l.deep(t)
	require.NoError(t, err)
	assert.True(t, d.Within)
	assert.True(t, d.Same(), "its rows are there")
	l.exec(t, "DELETE FROM tolls WHERE id IN (1, 2, 3)")
	assert.Equal(t, account.Differs, l.verify(t).Answer, "fewer than it had put in")
	l.entry = first
	assert.Equal(t, account.Differs, l.verify(t).Answer)
}

// corrected is the entry's file of rejects with a change.
func (l *loaded) corrected(t *testing.T, from, to string) string {
	text, err := os.ReadFile(l.entry.Path(tray.RejectsFile))
	require.NoError(t, err)
	require.Contains(t, string(text), from)
	name := filepath.Join(l.dir, "corrected.csv")
	require.NoError(t, os.WriteFile(name, []byte(strings.Replace(string(text), from, to, 1)), 0o666))
	return name
}

func (l *loaded) mend(ctx context.Context, t *testing.T, file string) (*account.Mended, error) {
	r, p, conn := l.papers(t)
	return account.Mend(ctx, account.MendJob{Entry: l.entry, Receipt: r, Plan: p, File: file, Name: filepath.Base(file), Session: conn,
		Log: slog.New(slog.DiscardHandler), At: time.Now()})
}

func TestMend(t *testing.T) {
	ctx := context.Background()
	l := load(t, bad, nil)
	m, err := l.mend(ctx, t, l.corrected(t, "4,2024-02-30", "4,2024-02-28"))
	require.NoError(t, err)
	assert.Equal(t, []int64{1}, m.Mended)
	assert.Len(t, m.Refused, 3)
	assert.Contains(t, m.Refused[2].Reason, "it was not changed", "a record of too few fields")
	assert.True(t, m.Receipt.Records.Balanced())

	// Once more: what is in does not go in again, what was corrected does.
	m, err = l.mend(ctx, t, l.corrected(t, "7,2024-05-02,3.00\n", "7,2024-05-02,3.00,g\n"))
	require.NoError(t, err)
	assert.Equal(t, []int64{4}, m.Mended)
	assert.Equal(t, account.Agrees, l.verify(t).Answer)
	d, err := l.deep(t)
	require.NoError(t, err)
	assert.True(t, d.Same())
	assert.Len(t, d.Names, 3, "the file and two mends")
	r, p, _ := l.papers(t)
	spreads, err := account.Spreads(ctx, l.entry, r, p, nil)
	require.NoError(t, err)
	for i, s := range spreads {
		_, bars := s.Bars()
		n := int64(0)
		for _, b := range bars {
			n += b.Count
		}
		assert.EqualValues(t, 5, n+r.Columns[i].Nulls, "every row has a bar")
	}

	// What was mended is known by its fingerprint.
	l.exec(t, "UPDATE tolls SET note = 'changed' WHERE id = 4")
	d, err = l.deep(t)
	require.NoError(t, err)
	assert.False(t, d.Same())
	require.NoError(t, os.WriteFile(l.entry.Path("mend-1.csv"), []byte("x"), 0o666))
	_, err = l.deep(t)
	assert.Error(t, err)
}

// Each row: what is wrong with a file of corrected rejects.
func TestMendRefusesFiles(t *testing.T) {
	for want, change := range map[string][2]string{
		"names the reject 99":  {"\n1,", "\n99,"},
		"has the reject 2 tw":  {"\n1,", "\n2,"},
		"has other columns":    {"paid_on", "paid_at"},
		"restore it":           {"\n", "\n"},
		"does not exist any":   {"\n", "\n"},
		"has no column note a": {"\n", "\n"},
	} {
		l := load(t, bad, nil)
		file := l.corrected(t, change[0], change[1])
		switch want {
		case "restore it":
			b, err := os.ReadFile(l.entry.Path(tray.OriginalFile))
			require.NoError(t, err)
			b = b[:strings.LastIndex(strings.TrimSpace(string(b)), "\n")+1]
			require.NoError(t, os.WriteFile(l.entry.Path(tray.OriginalFile), b, 0o666))
		case "does not exist any":
			l.exec(t, "DROP TABLE tolls")
		case "has no column note a":
			l.exec(t, "ALTER TABLE tolls DROP COLUMN note")
		}
		_, err := l.mend(context.Background(), t, file)
		assert.ErrorContains(t, err, want)
		assert.NoFileExists(t, l.entry.Path("mend-1.csv"))
	}
}

// A mend whose receipt cannot be written keeps the proof of what went in, and
// is settled by asking the table.
func TestMendReceiptNotWritten(t *testing.T) {
	l := load(t, bad, nil)
	ctx := fault.With(context.Background(), func(p fault.Point) error {
		if p == fault.AtReceipt {
			return fmt.Errorf("the disk is full")
		}
		return nil
	})
	_, err := l.mend(ctx, t, l.corrected(t, "4,2024-02-30", "4,2024-02-28"))
	require.ErrorContains(t, err, "committed and verified, but")
	require.FileExists(t, l.entry.Path("mend-1.csv"))
	_, p, conn := l.papers(t)
	require.NoError(t, account.Resolve(context.Background(), l.entry, p, conn))
	r, err := l.entry.Receipt()
	require.NoError(t, err)
	assert.EqualValues(t, 1, r.Records.Mended)
	d, err := l.deep(t)
	require.NoError(t, err)
	assert.True(t, d.Same())
}

// Each row: what the table holds when a prepared receipt is settled.
func TestResolve(t *testing.T) {
	for _, tt := range []struct {
		sql     string
		verdict tray.Verdict
		err     string
	}{
		{"SELECT 1", tray.Clear, ""},
		{"DROP TABLE tolls", tray.Failed, ""},
		{"DELETE FROM tolls WHERE id = 1", "", "tells neither"},
	} {
		l := load(t, good, nil)
		require.NoError(t, os.Rename(l.entry.Path(tray.ReceiptFile), l.entry.Path(tray.ReceiptFile+".part")))
		l.exec(t, tt.sql)
		_, p, conn := l.papers(t)
		err := account.Resolve(context.Background(), l.entry, p, conn)
		if tt.err != "" {
			assert.ErrorContains(t, err, tt.err)
			continue
		}
		require.NoError(t, err)
		r, err := l.entry.Receipt()
		require.NoError(t, err)
		assert.Equal(t, tt.verdict, r.Verdict)
	}
}
