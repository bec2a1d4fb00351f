package tray

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/reading"
	"ambertray/internal/sqltype"
	"ambertray/internal/tally"
)

func TestEntriesHaveNamesOfTheirOwn(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "a", "tray")
	at := time.Date(2026, 11, 23, 6, 17, 8, 0, time.FixedZone("", 3600))
	var names []string
	for _, table := range []string{"tolls", "tolls", "tolls", "../x/y", "Größe", strings.Repeat("n", 300)} {
		e, err := Create(dir, table, at)
		require.NoError(t, err)
		assert.Equal(t, dir, filepath.Dir(e.Dir), "no name leaves the tray")
		names = append(names, e.Name)
	}
	assert.Equal(t, []string{"tolls-20261123-051708", "tolls-20261123-051708-2", "tolls-20261123-051708-3", "___x_y-20261123-051708"}, names[:4])
	file := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(file, nil, 0o666))
	_, err := Create(file, "x", at)
	assert.ErrorContains(t, err, "--tray")
}

func fields(text ...string) (out []Field) {
	for _, t := range text {
		out = append(out, Field{Text: t})
	}
	return
}

func TestFilesAreWholeOrNotThere(t *testing.T) {
	e, err := Create(t.TempDir(), "x", time.Now())
	require.NoError(t, err)
	require.NoError(t, e.Write(PlanFile, []byte("one")))
	require.NoError(t, e.Write(PlanFile, []byte("two")))
	b, err := os.ReadFile(e.Path(PlanFile))
	require.NoError(t, err)
	assert.Equal(t, "two", string(b))

	r := e.Rejects([]string{"a", "b"})
	require.NoError(t, r.Add(Reject{Source: "in.csv", Line: 7, Record: 6, Column: "a", Code: "not-a-number", Reason: "not a number", Value: "x", Fields: fields("x", "y\nz, \"q\"")}))
	_, err = os.Stat(e.Path(RejectsFile))
	assert.Error(t, err, "until it is whole it has another name")
	require.NoError(t, r.Add(Reject{Source: "in.csv", Line: 9, Record: 7, Code: FieldCount, Reason: "has 1 field", Fields: fields("x")}))
	require.NoError(t, r.Add(Reject{Source: "in.csv", Line: 10, Record: 8, Code: FieldCount, Reason: "has 3 fields", Fields: append(fields("x", ""), Field{"", true})}))
	require.NoError(t, r.Finish())
	assert.EqualValues(t, 3, r.Kept())
	want := "reject,source,line,record,column,code,reason,value,a,b\n" +
		"1,in.csv,7,6,a,not-a-number,not a number,x,x,\"y\nz, \"\"q\"\"\"\n" +
		"2,in.csv,9,7,,field-count,has 1 field,,x\n" +
		"3,in.csv,10,8,,field-count,has 3 fields,,x,,\"\"\n"
	for _, f := range []string{RejectsFile, OriginalFile} {
		b, err := os.ReadFile(e.Path(f))
		require.NoError(t, err)
		assert.Equal(t, want, string(b), f)
	}
	left, err := filepath.Glob(e.Path("*.part"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

func TestRejectsAsSpreadsheetsSaveThem(t *testing.T) {
	name := filepath.Join(t.TempDir(), "r.csv")
	for what, text := range map[string]string{
		"with a code":            "reject,source,line,record,column,code,reason,value,a,b\n2,in.csv,9,7,toll,,not a number,\"1,5\",x,\"\"\n",
		"as it was written":      "reject,source,line,record,column,reason,value,a,b\n2,in.csv,9,7,toll,not a number,\"1,5\",x,\"\"\n",
		"semicolons and a mark":  "\ufeffreject;source;line;record;column;reason;value;a;b\r\n2;in.csv;9;7;toll;not a number;1,5;x;\"\"\r\n",
		"tabs":                   "reject\tsource\tline\trecord\tcolumn\treason\tvalue\ta\tb\n2\tin.csv\t9\t7\ttoll\tnot a number\t1,5\tx\t\"\"\n",
		"everything in quotes":   "\"reject\",\"source\",\"line\",\"record\",\"column\",\"reason\",\"value\",\"a\",\"b\"\n\"2\",\"in.csv\",\"9\",\"7\",\"toll\",\"not a number\",\"1,5\",\"x\",\"\"\n",
		"blank lines at the end": "reject,source,line,record,column,reason,value,a,b\n2,in.csv,9,7,toll,not a number,\"1,5\",x,\"\"\n\n\n",
	} {
		require.NoError(t, os.WriteFile(name, []byte(text), 0o666))
		var got []Reject
		headers, err := ReadRejects(context.Background(), name, func(r *Reject) error { got = append(got, *r); return nil })
		require.NoError(t, err, what)
		assert.Equal(t, []string{"a", "b"}, headers, what)
		assert.Equal(t, []Reject{{Number: 2, Source: "in.csv", Line: 9, Record: 7, Column: "toll", Reason: "not a number", Value: "1,5",
			Fields: []Field{{got[0].Fields[0].Text, got[0].Fields[0].Quoted}, {"", true}}}}, got, what)
		assert.Equal(t, "x", got[0].Fields[0].Text, what)
	}
	for text, want := range map[string]string{
		"id,toll\n1,2\n": "is not a file of rejects",
		"reject,source,line,record,column,reason,value,a\none,in.csv,9,7,toll,x,y,z\n":           `"one" is not the number of a reject`,
		"reject,source,line,cell,record,column,code,reason,value,a\n1,in.csv,9,C9,x,toll,,,,z\n": `"x" is not the record of a reject`,
		"reject,source,line,record,column,reason,value,a\n1,in.csv\n":                            "too few fields",
		"reject,source,line,record,column,reason,value,a\n1,in.csv,9,7,,,,\"z\n":                 "never closed",
	} {
		require.NoError(t, os.WriteFile(name, []byte(text), 0o666))
		_, err := ReadRejects(context.Background(), name, func(*Reject) error { return nil })
		assert.ErrorContains(t, err, want)
	}
}

func TestNoRejectsNoFile(t *testing.T) {
	e, err := Create(t.TempDir(), "x", time.Now())
	require.NoError(t, err)
	require.NoError(t, e.Rejects([]string{"a"}).Finish())
	_, err = os.Stat(e.Path(RejectsFile))
	assert.ErrorIs(t, err, os.ErrNotExist)
}

// entry makes an entry with a receipt.
func entry(t *testing.T, dir, table string, at time.Time, change func(*Receipt)) *Entry {
	t.Helper()
	e, err := Create(dir, table, at)
	require.NoError(t, err)
	require.NoError(t, e.Write(LogFile, nil))
	r := &Receipt{Entry: e.Name, Database: "sqlite:/x.db", Sources: []Source{{Path: "a.csv", Size: 3, SHA256: "aa"}},
		Records: Records{Read: 5, Loaded: 5}, Table: Table{Name: table, Mode: "create", Rows: 5}, Verdict: Clear, Started: at}
	if change != nil {
		change(r)
	}
	require.NoError(t, e.WriteReceipt(r))
	return e
}

func TestEntriesThatNeedAHandComeFirst(t *testing.T) {
	dir := t.TempDir()
	at := time.Date(2026, 11, 23, 6, 0, 0, 0, time.UTC)
	hour := func(n int) time.Time { return at.Add(time.Duration(n) * time.Hour) }
	waiting := func(r *Receipt) { r.Verdict = Waiting; r.Records = Records{Read: 5, Loaded: 4, Rejected: 1} }
	entry(t, dir, "clear", hour(5), nil)
	entry(t, dir, "old", hour(1), waiting)
	entry(t, dir, "new", hour(2), waiting)
	entry(t, dir, "failed", hour(9), func(r *Receipt) { r.Verdict = Failed })
	cut, err := Create(dir, "cut", hour(3))
	require.NoError(t, err)
	require.NoError(t, cut.Write(LogFile, nil))
	unsure, err := Create(dir, "unsure", hour(0))
	require.NoError(t, err)
	require.NoError(t, unsure.Write(LogFile, nil))
	require.NoError(t, unsure.PrepareReceipt(&Receipt{Verdict: Clear, Started: hour(0)}))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "something else"), 0o777))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "note.txt"), nil, 0o666))

	list, err := List(dir)
	require.NoError(t, err)
	var got []string
	for _, s := range list {
		got = append(got, string(s.State)+" "+s.Entry.Name[:3])
	}
	assert.Equal(t, []string{"unsure uns", "waiting new", "waiting old", "cut off cut", "failed fai", "clear cle"}, got)

	// Half a pending receipt means that the commit was not reached.
	require.NoError(t, os.WriteFile(unsure.Path(ReceiptFile+".part"), []byte(`{"entry": "un`), 0o666))
	assert.Equal(t, CutOff, unsure.Look().State)
	require.NoError(t, unsure.Drop())

	// A receipt that is another one is read again, however it came about; who changes one that was listed changes no list.
	list[0].Receipt, list[5].Receipt.Verdict = nil, Failed
	for k, verdict := range []Verdict{Waiting, Undone} {
		other := filepath.Join(dir, "other.json")
		b, err := os.ReadFile(list[5].Entry.Path(ReceiptFile))
		require.NoError(t, err)
		b = []byte(strings.Replace(string(b), `"verdict": "`+string([]Verdict{Clear, Waiting}[k])+`"`, `"verdict": "`+string(verdict)+`"`, 1))
		if k == 0 { // in its place
			require.NoError(t, os.WriteFile(list[5].Entry.Path(ReceiptFile), b, 0o666))
		} else {
			require.NoError(t, os.WriteFile(other, b, 0o666))
			require.NoError(t, os.Rename(other, list[5].Entry.Path(ReceiptFile)))
		}
		assert.Equal(t, State(verdict), list[5].Entry.Look().State)
	}

	none, err := List(filepath.Join(dir, "nowhere"))
	require.NoError(t, err)
	assert.Empty(t, none)
}

func TestFindAnEntry(t *testing.T) {
	dir := t.TempDir()
	at := time.Date(2026, 11, 23, 6, 0, 0, 0, time.UTC)
	first := entry(t, dir, "tolls", at, nil)
	second := entry(t, dir, "tolls", at.Add(time.Hour), nil)
	other := entry(t, dir, "boats", at.Add(2*time.Hour), func(r *Receipt) { r.Table.Schema = "fleet" })
	failed := entry(t, dir, "tolls", at.Add(3*time.Hour), func(r *Receipt) { r.Verdict = Failed })
	for name, want := range map[string]*Entry{
		"latest": other, "tolls": second, "TOLLS": second, "boats": other, "fleet.boats": other,
		first.Name: first, first.Dir: first, first.Dir + "/": first, failed.Name: failed,
	} {
		e, err := Find(dir, name)
		require.NoError(t, err, name)
		assert.Equal(t, want.Name, e.Name, name)
	}
	for _, name := range []string{"", "gauges", "..", "/", "tolls-x"} {
		_, err := Find(dir, name)
		var nf *NotFound
		require.ErrorAs(t, err, &nf, name)
		assert.Contains(t, err.Error(), second.Name)
	}
	_, err := Find(t.TempDir(), "latest")
	assert.ErrorContains(t, err, "--tray")
}

func TestSameBytesInTheSameTable(t *testing.T) {
	dir := t.TempDir()
	at := time.Date(2026, 11, 23, 6, 0, 0, 0, time.UTC)
	appended := func(r *Receipt) { r.Table.Mode = "append" }
	entry(t, dir, "tolls", at, nil)
	again := entry(t, dir, "tolls", at.Add(time.Hour), appended)
	find := func(schema, table, sum string) string {
		list, err := List(dir)
		require.NoError(t, err)
		if s := Loaded(list, []string{schema, "public"}, table, sum, ""); s != nil {
			return s.Entry.Name
		}
		return ""
	}
	assert.Equal(t, again.Name, find("", "tolls", "aa"))
	assert.Empty(t, find("", "boats", "aa"), "another table")
	assert.Empty(t, find("s", "tolls", "aa"), "another schema")
	assert.Empty(t, find("", "tolls", "bb"), "other bytes")
	entry(t, dir, "tolls", at.Add(2*time.Hour), func(r *Receipt) { r.Table.Mode = "refill"; r.Verdict = Failed })
	assert.NotEmpty(t, find("", "tolls", "aa"), "a refill that failed takes nothing away")
	entry(t, dir, "tolls", at.Add(3*time.Hour), func(r *Receipt) { r.Table.Mode = "refill"; r.Sources[0].SHA256 = "bb" })
	assert.Empty(t, find("", "tolls", "aa"), "its rows are gone")
}

func TestAccountBalancesAtAllTimes(t *testing.T) {
	r := Receipt{Records: Records{Read: 10, Loaded: 5, Rejected: 4, Skipped: 1}}
	check := func(mended, waived, rejected int64, v Verdict) {
		t.Helper()
		r.Settle()
		assert.Equal(t, Records{Read: 10, Loaded: 5, Mended: mended, Waived: waived, Rejected: rejected, Skipped: 1}, r.Records)
		assert.True(t, r.Records.Balanced())
		assert.Equal(t, v, r.Verdict)
		assert.EqualValues(t, 4, r.Rejects())
	}
	check(0, 0, 4, Waiting)
	r.Mends = append(r.Mends, Mend{Mended: []int64{2, 3}})
	check(2, 0, 2, Waiting)
	r.Waivers = append(r.Waivers, Waiver{Rejects: []int64{1}})
	check(2, 1, 1, Waiting)
	r.Mends = append(r.Mends, Mend{Mended: []int64{4}})
	check(3, 1, 0, Clear)
}

func TestFactsComeBackFromAReceipt(t *testing.T) {
	for _, tt := range []struct {
		typ    string
		values []string
	}{
		{"integer", []string{"-5", "7", "12"}},
		{"decimal(8,2)", []string{"-0.05", "7.00", "123456.78"}},
		{"decimal(38,0)", []string{"-99999999999999999999999999999999999999", "1", "99999999999999999999999999999999999998"}},
		{"decimal(30,10)", []string{"0.0000000001", "12345678901234567890.0000000001"}},
		{"boolean", []string{"true", "false", "true"}},
		{"double precision", []string{"1.5e300", "-2.25"}},
		{"date", []string{"0001-01-01", "2026-11-23", "9999-12-31"}},
		{"time(3)", []string{"00:00:00.000", "23:59:59.999"}},
		{"timestamp(6)", []string{"0001-01-01 00:00:00.000000", "9999-12-31 23:59:59.999999"}},
		{"timestamp(0) with time zone", []string{"1969-12-31 23:59:59+00:00", "2026-11-23 06:00:00+00:00"}},
		{"uuid", []string{"11111111-2222-3333-4444-555555555555"}},
		{"varchar(20)", []string{"", "é — boat", "a\nb"}},
		{"text", nil},
	} {
		typ, err := sqltype.Parse(tt.typ)
		require.NoError(t, err, tt.typ)
		c := tally.Tally{Type: typ}
		r := reading.Plain(typ)
		for _, text := range tt.values {
			var v reading.Value
			require.Equal(t, reading.OK, r.Read([]byte(text), true, &v), "%s %q", tt.typ, text)
			c.Add(&v)
		}
		c.Add(&reading.Value{Null: true})
		b, err := json.Marshal(FactsOf(&c))
		require.NoError(t, err)
		var f Facts
		require.NoError(t, json.Unmarshal(b, &f))
		back, err := f.Tally(tt.typ, int64(len(tt.values))+1)
		require.NoError(t, err, tt.typ)
		assert.Empty(t, c.Differs(back), tt.typ)
		assert.Empty(t, back.Differs(&c), tt.typ)
		if len(tt.values) > 0 {
			other := c
			var v reading.Value
			require.Equal(t, reading.OK, r.Read([]byte(tt.values[0]), true, &v))
			other.Add(&v)
			assert.NotEmpty(t, back.Differs(&other), tt.typ)
		}
	}
	_, err := (&Facts{Smallest: "x", Largest: "y"}).Tally("integer", 2)
	assert.Error(t, err)
}

func TestReceipt(t *testing.T) {
	r := Receipt{Entry: "e", Sources: []Source{{Path: "a.csv", Size: 3, SHA256: "00"}}, Records: Records{Read: 5, Loaded: 3, Rejected: 1, Skipped: 1},
		Table: Table{Name: "t", Rows: 3}, Columns: []Verified{{Name: "n", Type: "integer", Facts: Facts{Sum: "6", Smallest: "1", Largest: "3"}, Agrees: true}}, Verdict: Waiting}
	assert.True(t, r.Records.Balanced())
	assert.False(t, Records{Read: 5, Loaded: 5, Rejected: 1}.Balanced())
	b, err := r.Encode()
	require.NoError(t, err)
	var m map[string]any
	require.NoError(t, json.Unmarshal(b, &m))
	for _, k := range []string{"sources", "records", "table", "columns", "verdict", "started", "finished", "version"} {
		assert.Contains(t, m, k)
	}
	for _, k := range []string{"name", "type", "nulls", "sum", "smallest", "largest", "agrees"} {
		assert.Contains(t, m["columns"].([]any)[0], k)
	}
}

// Papers are for their owner; or for a group, in a folder that is for it and nobody else.
func TestPapersArePrivate(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("folders have no such rights there")
	}
	modes := func(trayMode os.FileMode) (modes []os.FileMode) {
		at := filepath.Join(t.TempDir(), "tray")
		if trayMode != 0 {
			require.NoError(t, os.Mkdir(at, trayMode))
			require.NoError(t, os.Chmod(at, trayMode))
		}
		e, err := Create(at, "tolls", time.Now())
		require.NoError(t, err)
		require.NoError(t, e.Write(PlanFile, []byte("x")))
		f, err := e.Log()
		require.NoError(t, err)
		require.NoError(t, f.Close())
		for _, p := range []string{at, e.Dir, e.Path(PlanFile), e.Path(LogFile)} {
			info, err := os.Stat(p)
			require.NoError(t, err)
			modes = append(modes, info.Mode().Perm())
		}
		return modes
	}
	assert.Equal(t, []os.FileMode{0o700, 0o700, 0o600, 0o600}, modes(0))
	assert.Equal(t, []os.FileMode{0o755, 0o700, 0o600, 0o600}, modes(0o755))
	assert.Equal(t, []os.FileMode{0o770, 0o770, 0o660, 0o660}, modes(0o770))
}

// How a column was compared is by its own name, whatever others are called.
func TestProofOfColumns(t *testing.T) {
	r := Receipt{Table: Table{Proved: true, NotProved: []string{"a (b)"}}, Columns: []Verified{{Name: "a"}, {Name: "a (b)", Facts: Facts{Loose: true}}}}
	r.Prove()
	assert.Equal(t, []Proof{EveryValue, ByNulls}, []Proof{r.Columns[0].Proof, r.Columns[1].Proof})
	assert.Equal(t, []string{"a (b)"}, r.Uncompared())
}
