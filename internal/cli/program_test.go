package cli_test

import (
	"bytes"
	"database/sql"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime/debug"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"

	_ "ambertray/internal/cli" // so that results are not kept when it changes
	"ambertray/internal/tray"
)

// program is the built program, which all tests here drive.
var program string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "ambertray-test-")
	if err != nil {
		panic(err)
	}
	debug.SetGCPercent(400) // the stand-ins are in this process, and make much that lives shortly
	program = filepath.Join(dir, "ambertray")
	build := exec.Command("go", "build", "-o", program, "ambertray/cmd/ambertray")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		panic(fmt.Sprintf("%v\n%s", err, out))
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// bench is a temporary folder in which the program is run.
type bench struct {
	t   *testing.T
	dir string
	env []string // besides the test's own
}

type result struct {
	code     int
	out, err string
}

func newBench(t *testing.T) *bench { return &bench{t: t, dir: t.TempDir()} }

func (b *bench) write(name, text string) {
	b.t.Helper()
	require.NoError(b.t, os.WriteFile(filepath.Join(b.dir, name), []byte(text), 0o666))
}

func (b *bench) read(name string) string {
	b.t.Helper()
	text, err := os.ReadFile(filepath.Join(b.dir, name))
	require.NoError(b.t, err)
	return string(text)
}

func (b *bench) exists(name string) bool {
	_, err := os.Stat(filepath.Join(b.dir, name))
	return err == nil
}

func (b *bench) command(args ...string) *exec.Cmd {
	cmd := exec.Command(program, args...)
	cmd.Dir = b.dir
	if b.env != nil {
		cmd.Env = append(os.Environ(), b.env...)
	}
	return cmd
}

// run runs the program and expects an exit status.
func (b *bench) run(code int, args ...string) result {
	b.t.Helper()
	r := b.try(args...)
	require.Equal(b.t, code, r.code, "ambertray %s\n%s\n%s", strings.Join(args, " "), r.out, r.err)
	return r
}

// try runs the program, whatever it ends with.
func (b *bench) try(args ...string) result {
	b.t.Helper()
	cmd := b.command(args...)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	if _, ok := err.(*exec.ExitError); err != nil && !ok {
		require.NoError(b.t, err)
	}
	r := result{cmd.ProcessState.ExitCode(), out.String(), errs.String()}
	assert.NotContains(b.t, r.err, "goroutine", "no stack trace")
	return r
}

// loaded runs a load with --json and returns its receipt.
func (b *bench) loaded(code int, args ...string) tray.Receipt {
	b.t.Helper()
	r := b.run(code, append([]string{"load", "--json"}, args...)...)
	var rec tray.Receipt
	require.NoError(b.t, json.Unmarshal([]byte(r.out), &rec), r.out)
	return rec
}

// rejects reads an entry's rejects file.
func (b *bench) rejects(entry string) [][]string {
	b.t.Helper()
	r := csv.NewReader(strings.NewReader(b.read("tray/" + entry + "/rejects.csv")))
	r.FieldsPerRecord = -1 // a record may have too few
	rows, err := r.ReadAll()
	require.NoError(b.t, err)
	return rows
}

// query reads a SQLite table as text, nulls as <null>.
func (b *bench) query(db, q string) (rows [][]string) {
	b.t.Helper()
	c, err := sql.Open("sqlite", filepath.Join(b.dir, db))
	require.NoError(b.t, err)
	defer c.Close()
	return queryRows(b.t, c, q)
}

func queryRows(t *testing.T, c *sql.DB, q string) (rows [][]string) {
	t.Helper()
	r, err := c.Query(q)
	require.NoError(t, err)
	defer r.Close()
	cols, err := r.Columns()
	require.NoError(t, err)
	for r.Next() {
		vals := make([]sql.NullString, len(cols))
		at := make([]any, len(cols))
		for i := range vals {
			at[i] = &vals[i]
		}
		require.NoError(t, r.Scan(at...))
		var row []string
		for _, v := range vals {
			if !v.Valid {
				v.String = "<null>"
			}
			row = append(row, v.String)
		}
		rows = append(rows, row)
	}
	require.NoError(t, r.Err())
	return rows
}

const passages = "Passage ID,Passed on,Lock,Permit,Toll\n" +
	"1,31/01/2024,\"Nether Lock, east\",000417,12.50\n" +
	"2,01/02/2024,\"The \"\"Top\"\"\",001204,\n" +
	"3,02/02/2024,\"two\nlines\",000033,1250.00\n" +
	"4,03/02/2024,Old Basin,000033,0.75\n"

func TestLoadIntoSQLite(t *testing.T) {
	b := newBench(t)
	b.write("passages.csv", passages)
	r := b.run(0, "load", "passages.csv", "--into", "sqlite:canal.db")
	assert.Contains(t, r.out, "verdict  clear")
	assert.Contains(t, r.err, "Found in passages.csv\n  decided  encoding utf-8; delimiter comma; quote double; header in line 1; 5 columns: passage_id integer")
	assert.NotContains(t, r.err, "%", "no progress where there is no terminal")
	assert.Equal(t, [][]string{
		{"1", "2024-01-31", "Nether Lock, east", "000417", "12.5"},
		{"2", "2024-02-01", `The "Top"`, "001204", "<null>"},
		{"3", "2024-02-02", "two\nlines", "000033", "1250"},
		{"4", "2024-02-03", "Old Basin", "000033", "0.75"},
	}, b.query("canal.db", "SELECT passage_id, passed_on || '', lock, permit, toll FROM passages ORDER BY 1"))

	entries, err := filepath.Glob(filepath.Join(b.dir, "tray", "passages-*"))
	require.NoError(t, err)
	require.Len(t, entries, 1)
	entry, _ := filepath.Rel(b.dir, entries[0])
	assert.Contains(t, b.read(entry+"/table.sql"), "CREATE TABLE passages (")
	assert.Contains(t, b.read(entry+"/plan.yaml"), "reading: dd/MM/yyyy")
	assert.Contains(t, b.read(entry+"/load.log"), "committed")
	assert.False(t, b.exists(entry+"/rejects.csv"))
	var rec tray.Receipt
	require.NoError(t, json.Unmarshal([]byte(b.read(entry+"/receipt.json")), &rec))
	assert.Equal(t, tray.Records{Read: 4, Loaded: 4}, rec.Records)
	assert.Len(t, rec.Sources[0].SHA256, 64)
	assert.EqualValues(t, len(passages), rec.Sources[0].Size)
	toll := rec.Columns[4]
	assert.Equal(t, tray.Verified{Name: "toll", Type: "decimal(7,2)", Facts: tray.Facts{Nulls: 1, Sum: "1263.25", Smallest: "0.75", Largest: "1250.00"}, Agrees: true, Proof: tray.ByRows, Habit: &tray.Habit{Distinct: 3, Exact: true, Spread: "586.2"}}, toll)

	// The plan on the tray loads the same again, elsewhere.
	again := b.loaded(0, entry+"/plan.yaml", "--into", "sqlite:other.db")
	assert.Equal(t, rec.Columns, again.Columns)

	// A table that exists is left alone.
	r = b.run(2, "load", "passages.csv", "--into", "sqlite:canal.db")
	assert.Contains(t, r.err, "exists already, with 4 rows")
	assert.Contains(t, r.err, "--table")
}

func TestRejects(t *testing.T) {
	b := newBench(t)
	b.write("in.csv", "id,day,n,note\n1,2024-01-31,5,a\n2,2024-02-30,6,b\n3,2024-03-01,x7,c\n4,2024-03-02\n5,2024-03-03,8,\"q\"z\n6,2024-03-04,9,ok\n")
	rec := b.loaded(3, "in.csv", "--into", "sqlite:c.db", "--type", "day=date", "--type", "n=integer")
	assert.Equal(t, tray.Waiting, rec.Verdict)
	assert.Equal(t, tray.Records{Read: 6, Loaded: 2, Rejected: 4}, rec.Records)
	assert.EqualValues(t, 2, rec.Table.Rows)
	rows := b.rejects(rec.Entry)
	assert.Equal(t, [][]string{
		{"reject", "source", "line", "record", "column", "code", "reason", "value", "id", "day", "n", "note"},
		{"1", "in.csv", "3", "2", "day", "no-such-date", "no such date", "2024-02-30", "2", "2024-02-30", "6", "b"},
		{"2", "in.csv", "4", "3", "n", "not-a-number", "not a number", "x7", "3", "2024-03-01", "x7", "c"},
		{"3", "in.csv", "5", "4", "", "field-count", "has 2 fields, the header has 4", "4,2024-03-02", "4", "2024-03-02"},
		{"4", "in.csv", "6", "5", "note", "after-quote", "text follows the closing quote", `5,2024-03-03,8,"q"z`, "5", "2024-03-03", "8", `"q"z`},
	}, rows)

	r := b.run(1, "load", "in.csv", "--into", "sqlite:d.db", "--type", "day=date", "--type", "n=integer", "--max-rejects", "0")
	assert.Contains(t, r.err, "more than 0 records were rejected")
	assert.False(t, b.exists("d.db"), "no database is left behind")

	r = b.run(0, "load", "in.csv", "--into", "sqlite:e.db", "--type", "day=date", "--dry-run")
	assert.Contains(t, r.out, "would reject  3")
	assert.False(t, b.exists("e.db"), "a dry run does not touch the database")

	// A key that the file breaks: the database refuses, and only that record.
	b.write("twice.csv", "id,name\n1,a\n2,b\n1,c\n")
	rec = b.loaded(3, "twice.csv", "--into", "sqlite:f.db", "--key", "id")
	assert.Equal(t, tray.Records{Read: 3, Loaded: 2, Rejected: 1}, rec.Records)
	assert.Contains(t, rec.Reasons[0].Reason, "UNIQUE")
	assert.EqualValues(t, 4, rec.Reasons[0].Line)
	assert.Equal(t, "id", rec.Reasons[0].Column)
	assert.Equal(t, "1", rec.Reasons[0].Value)
	assert.Equal(t, "3", rec.Columns[0].Sum, "what was refused is not in the sum")
}

func TestUndecidedIsAsked(t *testing.T) {
	b := newBench(t)
	b.write("d.csv", "id,day\n1,01/02/2024\n2,03/04/2024\n")
	for _, args := range [][]string{{"look", "d.csv"}, {"plan", "d.csv"}, {"ddl", "d.csv", "--for", "sqlite"}, {"load", "d.csv", "--into", "sqlite:c.db"}} {
		r := b.run(2, args...)
		assert.Contains(t, r.out+r.err, "--dates day-first or --dates month-first")
	}
	assert.False(t, b.exists("c.db"))
	b.run(0, "load", "d.csv", "--into", "sqlite:c.db", "--dates", "month-first")
	assert.Equal(t, [][]string{{"2024-01-02"}, {"2024-03-04"}}, b.query("c.db", "SELECT day || '' FROM d ORDER BY id"))
}

func TestLookJSON(t *testing.T) {
	b := newBench(t)
	b.write("p.csv", passages)
	var doc struct {
		Sources []struct {
			Path    string
			Records int64
			Keys    [][]string
			Columns []struct {
				Name, Type, Smallest, Largest string
				Required                      bool
				Blanks                        int64
			}
			First []struct {
				Line   int64
				Fields []string
			}
		}
	}
	require.NoError(t, json.Unmarshal([]byte(b.run(0, "look", "p.csv", "--json", "--rows", "2").out), &doc))
	s := doc.Sources[0]
	assert.EqualValues(t, 4, s.Records)
	assert.Empty(t, s.Keys, "four records do not tell")
	assert.Len(t, s.First, 2)
	assert.Equal(t, "toll", s.Columns[4].Name)
	assert.Equal(t, "decimal(7,2)", s.Columns[4].Type)
	assert.EqualValues(t, 1, s.Columns[4].Blanks)
	assert.False(t, s.Columns[0].Required)

	b.write("k.csv", "Lock,Passage ID,toll\na,1,2\nb,2,2\nc,3,\nd,4,5\ne,5,5\n")
	require.NoError(t, json.Unmarshal([]byte(b.run(0, "look", "k.csv", "--json").out), &doc))
	s = doc.Sources[0]
	assert.Equal(t, [][]string{{"Passage ID"}, {"Lock"}}, s.Keys)
	assert.True(t, s.Columns[0].Required)
	assert.False(t, s.Columns[2].Required)
}

func TestPlanEditedAndLookedAt(t *testing.T) {
	b := newBench(t)
	b.write("p.csv", passages)
	b.run(0, "plan", "p.csv", "-o", "p.yaml", "--row-number", "record_no")
	b.run(2, "plan", "p.csv", "-o", "p.yaml") // would write over it
	text := b.read("p.yaml")
	edited := strings.NewReplacer("type: varchar(30)", "type: varchar(9)", "    type: decimal(7,2)", "    required: true\n    type: decimal(7,2)",
		"name: toll", "name: paid\n    description: what was paid").Replace(text)
	edited = strings.Replace(edited, "  - name: permit\n    from: Permit\n    type: char(6)", "  - name: permit\n    from: Permit\n    type: varchar(6)", 1)
	b.write("p.yaml", edited)
	r := b.run(0, "look", "p.yaml")
	assert.Contains(t, r.out, "would reject  2")
	assert.Regexp(t, `1 +paid +blank, and the column is required`, r.out)
	assert.Regexp(t, `1 +lock +longer than varchar\(9\)`, r.out)
	r = b.run(0, "ddl", "p.yaml", "--for", "postgres")
	assert.Contains(t, r.out, "COMMENT ON COLUMN p.paid IS 'what was paid'")
	rec := b.loaded(3, "p.yaml", "--into", "sqlite:c.db")
	assert.EqualValues(t, 2, rec.Records.Rejected)
	assert.Equal(t, [][]string{{"3", "3"}, {"4", "4"}}, b.query("c.db", "SELECT record_no, passage_id FROM p"))

	b.write("bad.yaml", strings.Replace(edited, "    from: Permit", "    form: Permit", 1))
	r = b.run(2, "load", "bad.yaml", "--into", "sqlite:d.db")
	assert.Regexp(t, `bad.yaml: line \d+: unknown key "form"`, r.err)
	b.write("gone.yaml", strings.Replace(edited, "from: Permit", "from: Licence", 1))
	assert.Contains(t, b.run(2, "load", "gone.yaml", "--into", "sqlite:d.db").err, `no column "Licence"`)
}

func TestBadInput(t *testing.T) {
	b := newBench(t)
	b.write("empty.csv", "")
	b.write("header.csv", "a,b\n")
	b.write("open.csv", "a,b\n1,\"x, y\"\n2,\"z, w\"\n3,\"never\n")
	b.write("good.csv", "a,b\n1,x\n")
	b.write("not.db", "this is no database, but some text of more than a hundred bytes so that the header can be read as one ....\n")
	require.NoError(t, os.Mkdir(filepath.Join(b.dir, "folder"), 0o777))
	for _, tt := range []struct {
		code int
		says string
		args []string
	}{
		{1, "no such file", []string{"load", "missing.csv", "--into", "sqlite:x.db"}},
		{1, "is a folder", []string{"load", "folder", "--into", "sqlite:x.db"}},
		{1, "is empty", []string{"load", "empty.csv", "--into", "sqlite:x.db"}},
		{1, "no records", []string{"load", "header.csv", "--into", "sqlite:x.db"}},
		{2, "line 4 is never closed", []string{"load", "open.csv", "--into", "sqlite:x.db"}},
		{1, "folder nowhere does not exist", []string{"load", "good.csv", "--into", "sqlite:nowhere/x.db"}},
		{1, "not a database", []string{"load", "good.csv", "--into", "sqlite:not.db"}},
		{1, "is a folder", []string{"load", "good.csv", "--into", "sqlite:folder"}},
		{1, "tray", []string{"load", "good.csv", "--into", "sqlite:x.db", "--tray", "good.csv/tray"}},
		{2, "which database", []string{"load", "good.csv"}},
		{2, "names no column", []string{"load", "good.csv", "--into", "sqlite:x.db", "--key", "c"}},
		{2, "has no column", []string{"load", "good.csv", "--into", "sqlite:x.db", "--type", "c=date"}},
		{2, "unknown", []string{"load", "good.csv", "--into", "sqlite:x.db", "--type", "a=dait"}},
		{2, "there is no option", []string{"load", "good.csv", "--onto", "x"}},
		{2, "unknown command", []string{"lode"}},
		{2, "not known", []string{"ddl", "good.csv", "--for", "dbase"}},
		{2, "exactly one character", []string{"look", "good.csv", "--delimiter", "ab"}},
	} {
		r := b.run(tt.code, tt.args...)
		want := strings.Replace(tt.says, "names no column", "has no column", 1)
		assert.Contains(t, r.err, want)
	}
	assert.False(t, b.exists("x.db"), "nothing is left behind")
}

func TestSpecialHeaders(t *testing.T) {
	b := newBench(t)
	b.write("h.csv", "\"a\"\"; DROP TABLE x; --\",select,select,,\"two\nlines\",Größe\n1,2,3,4,5,6\n2,3,4,5,6,7\n")
	b.run(0, "load", "h.csv", "--into", "sqlite:c.db")
	assert.Equal(t, [][]string{{"a_drop_table_x", "select", "select_2", "column_4", "two_lines", "grosse"}},
		transpose(b.query("c.db", "SELECT name FROM pragma_table_info('h')")))
	b.run(0, "load", "h.csv", "--into", "sqlite:c.db", "--names", "keep", "--table", `odd"name`, "--key", "none")
	assert.Equal(t, [][]string{{"1", "3"}, {"2", "4"}}, b.query("c.db", `SELECT "a""; DROP TABLE x; --", select_2 FROM "odd""name"`))
}

func transpose(rows [][]string) [][]string {
	var out []string
	for _, r := range rows {
		out = append(out, r[0])
	}
	return [][]string{out}
}

func TestMiscellany(t *testing.T) {
	b := newBench(t)
	assert.Regexp(t, `^ambertray \S+ \(commit \S+\)`, b.run(0, "--version").out)
	for _, c := range []string{"look", "plan", "ddl", "load", "demo"} {
		r := b.run(0, c, "--help")
		assert.Contains(t, r.out, "Examples\n  ambertray "+c)
	}
	// A screen of any width is not overrun.
	b.write("p.csv", passages)
	for _, w := range []int{60, 80, 133} {
		cmd := b.command("look", "p.csv")
		cmd.Env = append(os.Environ(), fmt.Sprintf("COLUMNS=%d", w))
		out, err := cmd.Output()
		require.NoError(t, err)
		for _, l := range strings.Split(string(out), "\n") {
			assert.LessOrEqual(t, len([]rune(l)), w, l)
		}
	}
}

func TestDemo(t *testing.T) {
	b := newBench(t)
	r := b.run(0, "demo", "hw")
	assert.Contains(t, r.out, "# exit status 3")
	assert.Contains(t, r.out, "verdict  waiting")
	assert.Contains(t, r.out, "windows-1252")
	assert.Contains(t, r.out, "5,000 = 4,996 + 3 + 1 + 0 + 0")
	assert.Contains(t, r.out, "every value of 4,999 records compared with 4,999 rows of the table")
	assert.Contains(t, r.out, "5 loads, 1 undone, the others clear")
	assert.Equal(t, [][]string{{"4999"}}, b.query("hw/harrowmere.db", "SELECT count(*) FROM lock_passages"))
	b.run(2, "demo", "hw")
	// Each sample file reads without a question, and loads.
	for _, f := range []string{"boat-register.txt", "gauge-readings.tsv"} {
		rec := b.loaded(0, "hw/"+f, "--into", "sqlite:hw/more.db")
		assert.True(t, rec.Records.Balanced())
	}
	assert.Equal(t, [][]string{{"412", "59246"}}, b.query("hw/more.db", "SELECT count(*), sum(fee) FROM boat_register"))
}

// An option is taken or refused, never passed over.
func TestNoOptionIsPassedOver(t *testing.T) {
	b := newBench(t)
	b.write("passages.csv", passages)
	for want, args := range map[string][]string{
		"--rows -3: cannot be negative":        {"look", "passages.csv", "--rows", "-3"},
		"has only one way to load":             {"load", "passages.csv", "--into", "sqlite:c.db", "--slow-path"},
		"a new table has the columns of the f": {"load", "passages.csv", "--into", "sqlite:c.db", "--mode", "replace", "--by-position"},
		"no source has a column \"Fee\"":       {"load", "passages.csv", "--into", "sqlite:c.db", "--same", "Fee=Toll"},
	} {
		assert.Contains(t, b.run(2, args...).err, want)
	}
	for file, args := range map[string][]string{
		"p.yaml": {"plan", "passages.csv"}, "d.sql": {"ddl", "passages.csv", "--for", "sqlite"}, "d.md": {"dictionary", "passages.csv"},
	} {
		var doc map[string]any
		require.NoError(t, json.Unmarshal([]byte(b.run(0, append(args, "--json", "-o", file)...).out), &doc), file)
		assert.NotEmpty(t, b.read(file))
	}
}
