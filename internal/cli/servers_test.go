package cli_test

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/testdb"
	"ambertray/internal/tray"
)

// server is a database that the program is driven against.
type server struct {
	name, url string
	db        *sql.DB
}

// onServers runs a test on each database. Each has a folder of its own.
func onServers(t *testing.T, test func(t *testing.T, b *bench, s server)) {
	t.Run("sqlite", func(t *testing.T) {
		t.Parallel() // most of the time, one waits for the other
		b := newBench(t)
		// A blank database, for queries beside the program's.
		db, err := sql.Open("sqlite", "file:"+filepath.Join(b.dir, "canal.db")+"?_texttotime=0")
		require.NoError(t, err)
		t.Cleanup(func() { db.Close() })
		test(t, b, server{"sqlite", "sqlite:" + filepath.Join(b.dir, "canal.db"), db})
	})
	onNetwork(t, test)
}

// onNetwork runs a test on the databases that are behind a connection.
func onNetwork(t *testing.T, test func(*testing.T, *bench, server)) {
	for _, s := range []struct {
		name string
		open func(testing.TB) (string, *sql.DB)
	}{{"postgres", testdb.Postgres}, {"mysql", testdb.MySQL}, {"sqlserver", testdb.SQLServer}, {"oracle", testdb.Oracle}} {
		t.Run(s.name, func(t *testing.T) {
			t.Parallel()
			b, s := on(t, s.name, s.open)
			test(t, b, s)
		})
	}
}

// on is a bench with a database of its own on a server.
func on(t *testing.T, name string, open func(testing.TB) (string, *sql.DB)) (*bench, server) {
	url, conn := open(t)
	return benchOf(t, url), server{name, url, conn}
}

// benchOf is a bench on which a server's password is known, since no paper of
// a load has it.
func benchOf(t *testing.T, raw string) *bench {
	b := newBench(t)
	u, err := url.Parse(raw)
	require.NoError(t, err)
	password, _ := u.User.Password()
	b.env = []string{"AMBERTRAY_PASSWORD=" + password}
	return b
}

func (s server) exec(t *testing.T, statements ...string) {
	t.Helper()
	if s.name == "oracle" {
		var own []string
		for _, q := range statements {
			own = append(own, forOracle(q)...)
		}
		statements = own
	}
	for _, q := range statements {
		_, err := s.db.Exec(q)
		require.NoError(t, err, q)
	}
}

// runsScripts skips a database whose scripts are those of a client of its own that is not to
// be had here: SQL*Plus.
func (s server) runsScripts(t *testing.T) {
	if s.name == "oracle" {
		t.Skip("its scripts are for SQL*Plus, which is not to be had here")
	}
}

// oracleTypes are what the types of a definition are called there.
var oracleTypes = []struct {
	word *regexp.Regexp
	as   string
}{
	{regexp.MustCompile(`(?i)\bn?varchar\((\d+)\)`), "VARCHAR2($1 CHAR)"},
	{regexp.MustCompile(`(?i)\bchar\((\d+)\)`), "CHAR($1 CHAR)"},
	{regexp.MustCompile(`(?i)\b(int|integer)\b`), "NUMBER(10)"},
	{regexp.MustCompile(`(?i)\bbigint\b`), "NUMBER(19)"},
	{regexp.MustCompile(`(?i)\bsmallint\b`), "NUMBER(5)"},
	{regexp.MustCompile(`(?i)\bboolean\b`), "NUMBER(1)"},
	{regexp.MustCompile(`(?i) text\b`), " CLOB"},
	{regexp.MustCompile(`(?i)\bdouble precision\b`), "BINARY_DOUBLE"},
}

// last is the last of several rows of values, with the bracket at its end.
func last(rows string) string {
	if i := strings.LastIndex(rows, "), ("); i >= 0 {
		return rows[i+len("), "):]
	}
	return rows
}

// reserved is a name that is a word of Oracle's own, as it is written in each database.
func (s server) reserved(name string) string {
	if s.name == "oracle" {
		return `"` + strings.ToUpper(name) + `"`
	}
	return name
}

// nothing stands behind a query of no table.
func (s server) nothing() string {
	if s.name == "oracle" {
		return " FROM dual"
	}
	return ""
}

// forOracle is a statement in that database's words: its types, and one row for each insert.
func forOracle(q string) []string {
	if table, is := strings.CutPrefix(q, "DROP TABLE IF EXISTS "); is {
		return []string{"BEGIN EXECUTE IMMEDIATE 'DROP TABLE " + table + "'; EXCEPTION WHEN OTHERS THEN IF SQLCODE <> -942 " +
			"THEN RAISE; END IF; END;"}
	}
	if strings.HasPrefix(q, "CREATE TABLE") || strings.HasPrefix(q, "ALTER TABLE") {
		for _, t := range oracleTypes {
			q = t.word.ReplaceAllString(q, t.as)
		}
		return []string{q}
	}
	into, rows, is := strings.Cut(q, " VALUES ")
	if !is || !strings.HasPrefix(q, "INSERT") {
		return []string{q}
	}
	var out []string
	for _, r := range strings.Split(strings.ReplaceAll(rows, "),(", "), ("), "), (") {
		out = append(out, into+" VALUES ("+strings.TrimPrefix(strings.TrimSuffix(r, ")"), "(")+")")
	}
	out[len(out)-1] = into + " VALUES " + last(rows)
	return out
}

// text casts a column to text, in the words of the database.
func (s server) text(c string) string {
	switch s.name {
	case "mysql":
		return "CAST(" + c + " AS CHAR)"
	case "sqlserver":
		return "CONVERT(nvarchar(4000), " + c + ", 121)"
	case "oracle":
		if c == "level" { // a word of its own
			c = `"LEVEL"`
		}
		return "TO_CHAR(" + c + ")"
	}
	return "CAST(" + c + " AS text)"
}

// other is the URL of a database that is not there.
func (s server) other(t *testing.T) string {
	if s.name != "sqlserver" {
		return s.url + "_none"
	}
	u, err := url.Parse(s.url)
	require.NoError(t, err)
	q := u.Query()
	q.Set("database", q.Get("database")+"_none")
	u.RawQuery = q.Encode()
	return u.String()
}

// tables lists all tables, so that leftovers are seen.
func (s server) tables(t *testing.T) []string {
	q := map[string]string{
		"sqlite":    "SELECT name FROM sqlite_schema WHERE type = 'table' ORDER BY 1",
		"postgres":  "SELECT relname FROM pg_class WHERE relkind = 'r' AND relnamespace = 'public'::regnamespace ORDER BY 1",
		"mysql":     "SELECT table_name FROM information_schema.tables WHERE table_schema = database() ORDER BY 1",
		"sqlserver": "SELECT name FROM sys.tables ORDER BY 1",
		"oracle":    "SELECT LOWER(table_name) FROM user_tables ORDER BY 1",
	}[s.name]
	return transpose(queryRows(t, s.db, q))[0]
}

const modesCSV = "id,day,toll,who\n1,2024-01-31,1250.50,ann\n2,2024-02-01,,\"b, o\"\n3,2024-02-02,0.75,\n"

func (s server) rows(t *testing.T, table string) [][]string {
	return queryRows(t, s.db, fmt.Sprintf("SELECT %s, %s, %s, who FROM %s x ORDER BY x.id", s.text("id"), s.text("day"), s.text("toll"), table))
}

func TestModes(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		toll := func(v string) string {
			if s.name == "sqlite" || s.name == "oracle" {
				v = strings.TrimSuffix(v, "0")
			}
			if s.name == "oracle" { // which writes no zero before the point
				v = strings.TrimPrefix(v, "0")
			}
			return v
		}
		first := [][]string{{"1", "2024-01-31", toll("1250.50"), "ann"}, {"2", "2024-02-01", "<null>", "b, o"}, {"3", "2024-02-02", toll("0.75"), "<null>"}}
		b.write("a.csv", modesCSV)
		b.write("b.csv", "ID,Who,Toll,Day\n11,xena,1002.50,2024-03-01\n12,,,2024-03-02\n")
		into := []string{"--into", s.url, "--table", "tolls"}
		load := func(code int, args ...string) tray.Receipt { return b.loaded(code, append(args, into...)...) }

		rec := load(0, "a.csv", "--key", "id")
		assert.Equal(t, first, s.rows(t, "tolls"))
		assert.EqualValues(t, 3, rec.Table.Rows)
		b.run(2, append([]string{"load", "a.csv"}, into...)...)

		rec = load(0, "b.csv", "--mode", "append")
		assert.Equal(t, tray.Table{Schema: rec.Table.Schema, Name: "tolls", Mode: "append", Key: []string{"id"}, Before: 3, Rows: 5}, rec.Table)
		assert.Equal(t, append(first[:3:3], []string{"11", "2024-03-01", toll("1002.50"), "xena"}, []string{"12", "2024-03-02", "<null>", "<null>"}), s.rows(t, "tolls"))

		// The same keys again: every row is refused, and the rest stays.
		load2 := b.run(2, append([]string{"load", "b.csv", "--mode", "append"}, into...)...)
		assert.Contains(t, load2.err, "by the entry tolls-")
		rec = load(1, "b.csv", "--mode", "append", "--again")
		assert.Equal(t, tray.Failed, rec.Verdict, "all of them are refused")
		assert.Contains(t, rec.Error, "--max-rejects")
		rec = load(3, "b.csv", "--mode", "append", "--again", "--max-rejects", "none")
		assert.Equal(t, tray.Records{Read: 2, Rejected: 2}, rec.Records)
		assert.EqualValues(t, 5, rec.Table.Rows)

		r := b.run(2, append([]string{"load", "a.csv", "--mode", "refill"}, into...)...)
		assert.Contains(t, r.err, "--yes")
		assert.Len(t, s.rows(t, "tolls"), 5)
		load(0, "a.csv", "--mode", "refill", "--yes")
		assert.Equal(t, first, s.rows(t, "tolls"))
		load(0, "b.csv", "--mode", "replace", "--yes")
		keyed := b.run(2, append([]string{"load", "a.csv", "--mode", "append", "--again", "--key", "id"}, into...)...)
		assert.Contains(t, keyed.err, "not its primary key", "which a load would not make")
		load(0, "b.csv", "--mode", "replace", "--yes", "--key", "id")
		assert.Len(t, s.rows(t, "tolls"), 2)
		b.run(2, "load", "a.csv", "--into", s.url, "--table", "none", "--mode", "append")

		load(0, "a.csv", "--mode", "refill", "--yes") // into the table of b.csv: other columns' order
		assert.Equal(t, first, s.rows(t, "tolls"))
		b.loaded(0, "a.csv", "--into", s.url, "--table", "tolls_copy", "--like", "tolls")
		assert.Equal(t, first, s.rows(t, "tolls_copy"))
		assert.Equal(t, []string{"tolls", "tolls_copy"}, s.tables(t), "no leftovers")

		// What fails leaves everything as it was.
		b.write("bad.csv", "id,day,toll,who\n1,2024-01-31,1,ann\n1,2024-02-01,2,bob\n")
		for _, mode := range []string{"append", "refill", "replace"} {
			b.run(1, "load", "bad.csv", "--into", s.url, "--table", "tolls", "--mode", mode, "--yes", "--key", "id", "--max-rejects", "0")
			assert.Equal(t, first, s.rows(t, "tolls"), mode)
		}
		b.run(1, "load", "bad.csv", "--into", s.url, "--key", "id", "--max-rejects", "10%")
		assert.Equal(t, []string{"tolls", "tolls_copy"}, s.tables(t))

		r = b.run(0, "peek", s.url)
		assert.Regexp(t, `tolls +table +3`, r.out)
		r = b.run(0, "peek", s.url, "tolls")
		assert.Contains(t, r.out, "2024-02-02")
		assert.Regexp(t, `(?m)^ +id .*required +1`, r.out)
	})
}

func TestMapping(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		auto := map[string]string{"sqlite": "INTEGER PRIMARY KEY AUTOINCREMENT", "postgres": "bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY", "mysql": "bigint AUTO_INCREMENT PRIMARY KEY", "sqlserver": "bigint IDENTITY PRIMARY KEY",
			"oracle": "NUMBER(19) GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY"}[s.name]
		computed := map[string]string{"sqlserver": "AS (fee * 2)", "oracle": "decimal(8,2) GENERATED ALWAYS AS (fee * 2)"}[s.name]
		if computed == "" {
			computed = "decimal(8,2) GENERATED ALWAYS AS (fee * 2) STORED"
		}
		s.exec(t, "CREATE TABLE boats (no "+auto+", boat_name varchar(10) NOT NULL, fee decimal(6,2), fleet varchar(20) DEFAULT 'trust' NOT NULL, remark varchar(50), "+
			"double_fee "+computed+", built date)")
		b.write("in.csv", "Boat Name,Fee,built\nHeron,12.50,31/01/1920\nOtter,3.25,01/02/1930\n")
		r := b.run(0, "load", "in.csv", "--into", s.url, "--table", "boats", "--mode", "append", "--dry-run")
		assert.Regexp(t, `Boat Name +varchar\(\d+\) +boat_name +.+ +fine`, r.out)
		assert.Regexp(t, `remark +.+ +caution +the file has no such column; it stays null`, r.out)
		assert.Regexp(t, `fleet +.+ +fine +gets the database's default`, r.out)
		assert.Regexp(t, `double_fee +.+ +fine +the database computes it`, r.out)
		b.loaded(0, "in.csv", "--into", s.url, "--table", "boats", "--mode", "append")
		assert.Equal(t, [][]string{{"1", "Heron", "trust", "1920-01-31"}, {"2", "Otter", "trust", "1930-02-01"}},
			queryRows(t, s.db, "SELECT "+s.text("no")+", boat_name, fleet, "+s.text("built")+" FROM boats ORDER BY no"))

		b.write("long.csv", "boat_name,fee,colour\nHeron,12.50,red\nIron Duchess of Harrowmere,1.5,red\nA very long name of a boat,99999.99,red\n,3,blue\n")
		r = b.run(2, "load", "long.csv", "--into", s.url, "--table", "boats", "--mode", "append")
		assert.Regexp(t, `boat_name: 3 values do not fit: longer than varchar\(10\): 26 characters, first on line 3`, r.err)
		assert.Regexp(t, `fee: 1 value does not fit: more digits before the point`, r.err)
		assert.Contains(t, r.err, "colour: the table has no such column")
		b.write("longer.csv", "boat_name\nHeron\nIron Duchess of Harrowmere\nTwelve chars\nWren\nOtter\n")
		r = b.run(2, "load", "longer.csv", "--into", s.url, "--table", "boats", "--mode", "append")
		assert.Contains(t, r.err, "2 values are longer, the longest 26, first on line 3")
		b.write("gone.csv", "fee\n1\n2\n")
		r = b.run(2, "load", "gone.csv", "--into", s.url, "--table", "boats", "--mode", "append")
		assert.Contains(t, r.err, "boat_name: required, and the file has no such column")
		// Dates are read as most of them are written, although two are none.
		var days strings.Builder
		days.WriteString("boat_name,built\n")
		for i := range 40 {
			fmt.Fprintf(&days, "Barge %d,%02d/06/1955\n", i, i%30+1)
		}
		days.WriteString("Late,31/06/1955\nOld,about 1900\n")
		b.write("days.csv", days.String())
		r = b.run(2, "load", "days.csv", "--into", s.url, "--table", "boats", "--mode", "append")
		day := "date"
		if s.name == "oracle" {
			day = "timestamp" // a DATE there has a time
		}
		assert.Contains(t, r.err, "built: 2 values do not fit: no such "+day+", first on line 42 '31/06/1955'")
		assert.Contains(t, r.err, "say --tolerate 5%: then")
		rec := b.loaded(3, "days.csv", "--into", s.url, "--table", "boats", "--mode", "append", "--tolerate", "5%")
		assert.EqualValues(t, 40, rec.Records.Loaded)
		b.write("open.csv", "boat_name,built\n"+strings.Repeat("Barge,04/06/1955\n", 40)+"Old,about 1900\n")
		r = b.run(2, "load", "open.csv", "--into", s.url, "--table", "boats", "--mode", "append")
		assert.Contains(t, r.err, "built: the dates read as well day-first as month-first; no value decides it; say --dates day-first or --dates month-first")
		r = b.run(2, "load", "open.csv", "--into", s.url, "--table", "boats", "--mode", "append", "--dates", "day-first")
		assert.Contains(t, r.err, "built: 1 value does not fit: not a "+day+" in the form of this column, first on line 42 'about 1900'")
		// Tolerated misfits become rejects.
		rec = b.loaded(3, "longer.csv", "--into", s.url, "--table", "boats", "--mode", "append", "--tolerate", "50%")
		assert.EqualValues(t, 3, rec.Records.Loaded)

		b.write("pos.csv", "a,b\nWrenna,7.00\n")
		if s.name != "sqlite" {
			b.loaded(0, "pos.csv", "--into", s.url, "--table", "boats", "--mode", "append", "--by-position")
			got := queryRows(t, s.db, "SELECT "+s.text("fee")+" FROM boats WHERE boat_name = 'Wrenna'")
			assert.Equal(t, "7", number(got[0][0]))

			b.write("id.csv", "no,boat_name\n100,Tansy\n")
			r = b.run(2, "load", "id.csv", "--into", s.url, "--table", "boats", "--mode", "append")
			assert.Contains(t, r.err, "--keep-identity")
			b.loaded(0, "id.csv", "--into", s.url, "--table", "boats", "--mode", "append", "--keep-identity")
			s.exec(t, "INSERT INTO boats (boat_name) VALUES ('Next')")
			assert.Equal(t, [][]string{{"101"}}, queryRows(t, s.db, "SELECT "+s.text("no")+" FROM boats WHERE boat_name = 'Next'"), "the counter goes on above")
		}
	})
}

// A key that the file breaks: only those records are rejected, wherever they
// stand, and the receipt's sums are of the others.
func TestKeyBroken(t *testing.T) {
	var text strings.Builder
	text.WriteString("id,n\n")
	var want []string
	sum := 0
	for i := range 60000 {
		id := i
		if i%3000 == 2999 {
			id = i/2 + 1
			want = append(want, fmt.Sprint(i+2))
		} else {
			sum += i
		}
		fmt.Fprintf(&text, "%d,a note that makes the record longer %d\n", id, i)
	}
	onServers(t, func(t *testing.T, b *bench, s server) {
		b.write("k.csv", text.String())
		rec := b.loaded(3, "k.csv", "--into", s.url, "--key", "id", "--row-number", "no")
		assert.Equal(t, tray.Records{Read: 60000, Loaded: 59980, Rejected: 20}, rec.Records)
		assert.Equal(t, fmt.Sprint(sum), rec.Columns[1].Sum)
		var lines []string
		for _, r := range strings.Split(strings.TrimSpace(b.read("tray/"+rec.Entry+"/rejects.csv")), "\n")[1:] {
			lines = append(lines, strings.Split(r, ",")[2])
		}
		assert.Equal(t, want, lines)
		assert.Len(t, rec.Reasons, 1)
		assert.Equal(t, [][]string{{"59980", fmt.Sprint(sum)}}, queryRows(t, s.db, "SELECT "+s.text("count(*)")+", "+s.text("sum(id)")+" FROM k"))
	})
}

func TestRefusals(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		s.exec(t, "CREATE TABLE locks (code int PRIMARY KEY)", "INSERT INTO locks VALUES (1), (2)",
			"CREATE TABLE passes (id int PRIMARY KEY, code int NOT NULL REFERENCES locks, n int CHECK (n < 100), note varchar(20))")
		if s.name == "mysql" {
			s.exec(t, "ALTER TABLE passes ADD FOREIGN KEY (code) REFERENCES locks (code)")
		}
		var text strings.Builder
		text.WriteString("id,code,n,note\n")
		for i := 1; i <= 20000; i++ {
			id, code, n := i, i%2+1, i%100
			switch i {
			case 777:
				code = 9 // no such lock
			case 5000:
				n = 100 // check
			case 9001, 19999:
				id = 3 // duplicates
			}
			fmt.Fprintf(&text, "%d,%d,%d,note %d\n", id, code, n, i)
		}
		b.write("p.csv", text.String())
		rec := b.loaded(3, "p.csv", "--into", s.url, "--table", "passes", "--mode", "append")
		assert.Equal(t, tray.Records{Read: 20000, Loaded: 19996, Rejected: 4}, rec.Records)
		var lines []string
		for _, r := range strings.Split(b.read("tray/"+rec.Entry+"/rejects.csv"), "\n")[1:5] {
			lines = append(lines, strings.Split(r, ",")[2])
		}
		assert.Equal(t, []string{"778", "5001", "9002", "20000"}, lines)
		assert.Equal(t, [][]string{{"19996"}}, queryRows(t, s.db, "SELECT count(*) FROM passes"))
	})
}

// nasty is a file of values that are easily harmed, on every type, and the plan
// that reads it. In want, a NUL is a null.
func nasty() (file, plan string, want [][]string) {
	texts := []string{"plain", "comma, and \"quotes\"", "line\nbreak", "tab\there", `back\slash \N \n`, "'; DROP TABLE x; --", "éàü €", "日本語", "😀🏳️‍🌈", " leading", "trailing ", "", "NULL", "0007", "\u00a0nbsp", "a\r\nb", "%s %d", "\u202ertl"}
	r := rand.New(rand.NewPCG(1, 2))
	var text strings.Builder
	text.WriteString("id,b,s,i,g,d,w,f,day,clock,ts,tz,u,c,v,t\n")
	for i := range 300 {
		v := texts[i%len(texts)]
		day := fmt.Sprintf("%04d-%02d-%02d", []int{1, 1000, 1582, 1969, 1970, 2000, 2024, 9999}[i%8], i%12+1, i%28+1)
		x := []string{fmt.Sprint(i), []string{"true", "false"}[i%2], fmt.Sprint(i*217 - 32768), fmt.Sprint(int64(r.Uint64()) >> 32), fmt.Sprint(int64(r.Uint64())),
			fmt.Sprintf("%d.%04d", r.Int64N(1e9)-5e8, r.IntN(10000)), fmt.Sprintf("-%d%018d.%010d", r.Int64N(1e9)+1, r.Int64N(1e18), r.Int64N(1e10)),
			fmt.Sprintf("%g", r.NormFloat64()*1e10), day, fmt.Sprintf("%02d:%02d:%02d.%06d", i%24, i%60, i%59, r.IntN(1e6)),
			day + fmt.Sprintf(" %02d:%02d:%02d.%06d", i%24, i%60, i%59, r.IntN(1e6)), fmt.Sprintf("2024-%02d-%02d %02d:00:00+05:30", i%12+1, i%28+1, i%24),
			fmt.Sprintf("%08x-8b86-d011-b42d-%012x", r.Uint32(), r.Uint64()>>16), fmt.Sprintf("%06d", i), v, v + strings.Repeat("x", i*20)}
		if i%17 == 3 {
			for k := 1; k < len(x); k++ {
				if r.IntN(2) == 0 {
					x[k] = "\x00" // null
				}
			}
		}
		want = append(want, x)
		for k, f := range x {
			if k > 0 {
				text.WriteByte(',')
			}
			if f == "\x00" {
				continue
			}
			text.WriteString(`"` + strings.ReplaceAll(f, `"`, `""`) + `"`)
		}
		text.WriteByte('\n')
	}
	plan = "ambertray: 1\nsources:\n  - {file: nasty.csv, encoding: utf-8, delimiter: ',', quote: double, header: 1}\ntable: {name: nasty, key: [id]}\ncolumns:\n"
	for _, c := range []string{"id integer", "b boolean", "s smallint", "i integer", "g bigint", "d decimal(14,4)", "w decimal(38,10)", "f double precision", "day date", "clock time(6)", "ts timestamp(6)", "tz timestamp(0) with time zone", "u uuid", "c char(6)", "v varchar(60)", "t text"} {
		name, typ, _ := strings.Cut(c, " ")
		plan += fmt.Sprintf("  - {name: %s, from: %s, type: '%s', keep_empty: quoted", name, name, typ)
		if name == "c" || name == "v" || name == "t" {
			plan += ", unicode: true"
		}
		if name == "tz" {
			plan += ", reading: yyyy-MM-dd HH:mm:ssXXX"
		}
		plan += "}\n"
	}
	return text.String(), plan, want
}

// Values that are easily harmed, compared one by one.
func TestNastyValues(t *testing.T) {
	file, plan, want := nasty()
	onServers(t, func(t *testing.T, b *bench, s server) {
		b.write("nasty.csv", file)
		b.write("nasty.yaml", plan)
		rec := b.loaded(0, "nasty.yaml", "--into", s.url)
		require.EqualValues(t, 300, rec.Records.Loaded)
		b.run(0, "verify", "latest", "--deep")
		var cols []string
		for _, c := range strings.Split("id,b,s,i,g,d,w,f,day,clock,ts,tz,u,c", ",") {
			if s.name == "postgres" && c == "tz" {
				cols = append(cols, "CAST(tz AT TIME ZONE 'UTC' AS text)")
				continue
			}
			x := s.text(c)
			switch odd := map[string]string{"f": "CONVERT(nvarchar(60), f, 3)", "u": "LOWER(CONVERT(char(36), u))"}[c]; {
			case s.name == "sqlserver" && odd != "":
				x = odd
			case s.name == "sqlserver" && c == "c":
				x = "RTRIM(c)"
			case s.name == "oracle" && c == "c":
				x = "RTRIM(c)"
			case s.name == "oracle" && c == "clock":
				x = "SUBSTR(TO_CHAR(clock), 5)"
			}
			cols = append(cols, x)
		}
		got := queryRows(t, s.db, "SELECT "+strings.Join(cols, ", ")+", v, t FROM nasty x ORDER BY x.id")
		require.Len(t, got, 300)
		for i, w := range want {
			for k := range w {
				g := got[i][k]
				e := w[k]
				if e == "\x00" || e == "" && s.name == "oracle" {
					e = "<null>"
				} else {
					switch k {
					case 1:
						if s.name != "postgres" {
							e = map[string]string{"true": "1", "false": "0"}[e]
						}
					case 5, 7:
						e, g = number(e), number(g)
					case 6:
						if s.name == "oracle" { // which shows a number without zeros at its end
							e = strings.TrimSuffix(strings.TrimRight(e, "0"), ".")
						}
					case 9, 10:
						e, g = strings.TrimRight(e, "0"), strings.TrimRight(g, "0")
						e, g = strings.TrimSuffix(e, "."), strings.TrimSuffix(g, ".")
					case 11:
						at, err := time.Parse("2006-01-02 15:04:05-07:00", e)
						require.NoError(t, err)
						e = at.UTC().Format("2006-01-02 15:04:05")
						g = strings.TrimSuffix(strings.TrimSpace(strings.TrimSuffix(g, "+00:00")), ".000000")
					}
				}
				require.Equal(t, e, g, "row %d, column %d", i, k)
			}
		}
		// And once more into the same table, as an existing one.
		b.loaded(0, "nasty.yaml", "--into", s.url, "--mode", "refill", "--yes")
	})
}

func number(s string) string {
	var f float64
	if _, err := fmt.Sscan(s, &f); err != nil {
		return s
	}
	return fmt.Sprintf("%.12g", f)
}

// A load that is killed leaves nothing behind, and the next one can go on.
func TestKilled(t *testing.T) {
	var text strings.Builder
	text.WriteString("id,name,n\n")
	for i := range 400000 {
		fmt.Fprintf(&text, "%d,a name of some length %d,%d.25\n", i+10, i, i)
	}
	onServers(t, func(t *testing.T, b *bench, s server) {
		b.write("big.csv", text.String())
		b.run(0, "plan", "big.csv", "-o", "big.yaml")
		s.exec(t, "CREATE TABLE existing (id int PRIMARY KEY, name varchar(60), n decimal(12,2))", "INSERT INTO existing VALUES (1, 'one', 1.00)")
		state := func() [][]string { return queryRows(t, s.db, "SELECT "+s.text("id")+", name FROM existing") }
		killed, kills := 0, killsOr(t, 10)
		for i := 0; killed < kills && i < 2*kills; i++ {
			papers := fmt.Sprintf("tray%d", i)
			args := []string{"load", "big.yaml", "--into", s.url, "--tray", papers}
			table, all := "big", "400000"
			if i%2 == 1 {
				mode := []string{"append", "refill", "merge", "append", "refill"}[i/2%5]
				if table = "existing"; mode != "refill" {
					all = "400001"
				}
				args = append(args, "--table", table, "--mode", mode, "--yes")
			}
			cmd := b.command(args...)
			require.NoError(t, cmd.Start())
			time.Sleep(time.Duration(60+rand.IntN(700)) * time.Millisecond)
			sig := os.Kill
			if i == 4 {
				sig = os.Interrupt
			}
			require.NoError(t, cmd.Process.Signal(sig))
			cmd.Wait()
			entry, lies := "", ""
			var list []any // none, where it was killed before there was a tray
			if b.exists(papers) {
				list = b.document(0, "tray", "--tray", papers)["entries"].([]any)
			}
			if len(list) > 0 {
				first := list[0].(map[string]any)
				entry, lies = first["entry"].(string), first["state"].(string)
			}
			if lies == "unsure" {
				// It was killed at its commit, which came to be or did not.
				if b.command("verify", entry, "--into", s.url, "--tray", papers).Run() == nil {
					lies = "clear"
				}
			}
			if lies == "clear" {
				// It was done before it was killed: all is in; back to the start.
				assert.Equal(t, [][]string{{all}}, queryRows(t, s.db, "SELECT count(*) FROM "+table))
				s.exec(t, "DROP TABLE IF EXISTS big", "DELETE FROM existing", "INSERT INTO existing VALUES (1, 'one', 1.00)")
				continue
			}
			assert.NotZero(t, cmd.ProcessState.ExitCode())
			killed++
			assert.Equal(t, [][]string{{"1", "one"}}, state())
			if i == 4 {
				assert.NotContains(t, s.tables(t), "big")
			}
		}
		t.Logf("killed in time: %d", killed)
		require.Positive(t, killed, "some were killed in time")
		b.loaded(0, "big.yaml", "--into", s.url)
		assert.Equal(t, []string{"big", "existing"}, s.tables(t), "no leftovers")
	})
}

// No output, log, receipt or error shows the password.
func TestPasswordsAreNeverShown(t *testing.T) {
	for _, s := range []server{
		{name: "postgres", url: os.Getenv("AMBERTRAY_TEST_POSTGRES")},
		{name: "mysql", url: os.Getenv("AMBERTRAY_TEST_MYSQL")},
		{name: "sqlserver"},
	} {
		t.Run(s.name, func(t *testing.T) {
			if s.name == "sqlserver" {
				s.url, _ = testdb.SQLServer(t)
			}
			if s.url == "" {
				t.Skip("no server")
			}
			b := newBench(t)
			b.write("a.csv", modesCSV)
			table := fmt.Sprintf("secret_%d", time.Now().UnixNano())
			t.Cleanup(func() { b.run(0, "load", "a.csv", "--into", s.url, "--table", table, "--mode", "replace", "--yes") })
			var all strings.Builder
			try := func(code int, url string, more ...string) result {
				r := b.run(code, append([]string{"load", "a.csv", "--table", table, "--into", url, "--log-level", "debug"}, more...)...)
				all.WriteString(r.out + r.err)
				return r
			}
			assert.Contains(t, try(0, s.url, "--key", "id").out, "verdict  clear")
			try(2, s.url)
			wrong := strings.Replace(s.url, testdb.Password, "wrong-"+testdb.Password, 1)
			assert.Contains(t, try(1, wrong).err, "check user and password")
			host := regexp.MustCompile(`127\.0\.0\.1:\d+`)
			assert.Contains(t, try(1, host.ReplaceAllString(s.url, "127.0.0.1:1")).err, "no server listens there")
			assert.Contains(t, try(1, host.ReplaceAllString(s.url, "no-such-host.invalid:1")).err, "host name is not known")
			assert.Contains(t, try(1, s.other(t)).err, "--create-database")
			try(2, strings.Replace(s.url, "://", ":/", 1))
			if s.name != "sqlserver" {
				try(2, s.url+"/more")
			}
			bad := b.run([]int{1, 2}[map[string]int{"postgres": 1}[s.name]], "load", "a.csv", "--into", s.url+map[bool]string{true: "?", false: "&"}[s.name != "sqlserver"]+"pasword=x&sslmode=x")
			all.WriteString(bad.out + bad.err)
			// The password may also come from a file or the environment.
			bare := strings.Replace(s.url, ":"+testdb.Password, "", 1)
			b.write("pw", testdb.Password+"\n")
			require.NoError(t, os.Chmod(filepath.Join(b.dir, "pw"), 0o600))
			try(3, bare, "--password-file", "pw", "--mode", "append", "--again", "--key", "none", "--max-rejects", "none")
			cmd := b.command("peek", bare, table)
			cmd.Env = append(os.Environ(), "AMBERTRAY_PASSWORD="+testdb.Password)
			out, err := cmd.CombinedOutput()
			require.NoError(t, err, string(out))
			all.Write(out)
			grep := exec.Command("grep", "-r", testdb.Password, filepath.Join(b.dir, "tray"))
			found, _ := grep.CombinedOutput()
			assert.Empty(t, string(found))
			assert.NotContains(t, all.String(), testdb.Password)
		})
	}
}

func TestLocalInfileForbidden(t *testing.T) {
	url, db := testdb.MySQL(t)
	b := newBench(t)
	b.write("a.csv", modesCSV+"3,2024-02-03,1,dup\n")
	_, err := db.Exec("SET GLOBAL local_infile = 0")
	require.NoError(t, err)
	defer db.Exec("SET GLOBAL local_infile = 1")
	r := b.run(1, "load", "a.csv", "--into", url, "--key", "id")
	assert.Contains(t, r.err, "SET GLOBAL local_infile = 1")
	assert.Contains(t, r.err, "--slow-path")
	rec := b.loaded(3, "a.csv", "--into", url, "--key", "id", "--slow-path")
	assert.EqualValues(t, 3, rec.Records.Loaded)
	assert.Contains(t, rec.Reasons[0].Reason, "Duplicate entry for key")
}

func TestMappingJSON(t *testing.T) {
	b := newBench(t)
	b.write("a.csv", modesCSV)
	b.run(0, "load", "a.csv", "--into", "sqlite:c.db")
	var doc struct {
		Blocked bool
		Mapping []struct{ From, Column, Weight string }
	}
	require.NoError(t, json.Unmarshal([]byte(b.run(0, "load", "a.csv", "--into", "sqlite:c.db", "--mode", "append", "--dry-run", "--json").out), &doc))
	assert.False(t, doc.Blocked)
	assert.Len(t, doc.Mapping, 4)
}

// A file whose only column without a value twice are long texts goes into a new table on each database: it is not
// made the key, which some could not index. One of the longest texts that may be a key is.
func TestLongTextsFromNothing(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		for name, long := range map[string]int{"notes": 900, "codes": 255} {
			text := "code,level\n"
			for i := range 300 {
				text += fmt.Sprintf("%s%03d,%d\n", strings.Repeat("k", long-3), i, i%7)
			}
			b.write(name+".csv", text)
			said := b.run(0, "load", name+".csv", "--into", s.url, "--table", name).err
			assert.Equal(t, long == 255, strings.Contains(said, "; key code"), said)
			assert.Equal(t, [][]string{{"300"}}, queryRows(t, s.db, "SELECT count(*) FROM "+name))
		}
	})
}

// Files of many short texts go into a new table on each database, and are merged with it, whatever its rows may be as
// long as; InnoDB would not hold them as they are declared. Where no definition does, it is said what to do.
func TestManyTextsFromNothing(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		for name, long := range map[string]int{"gates": 45, "codes": 6} {
			columns := map[int]int{45: 70, 6: 190}[long]
			file := func(other string) string {
				var text strings.Builder
				text.WriteString("id")
				for i := range columns {
					fmt.Fprintf(&text, ",code_%d", i+1)
				}
				for r := range 12 {
					fmt.Fprintf(&text, "\n%d", r+1)
					for i := range columns {
						text.WriteString("," + strings.Repeat("k", 1+(r*7+i)%long))
					}
					if r == 5 {
						text.WriteString(other)
					}
				}
				return text.String() + "\n"
			}
			b.write(name+".csv", file(""))
			b.run(0, "load", name+".csv", "--into", s.url, "--table", name, "--key", "id")
			b.write(name+".csv", file("z"))
			said := b.run(0, "load", name+".csv", "--into", s.url, "--table", name, "--mode", "merge", "--yes").out
			assert.True(t, regexp.MustCompile(`changed +1 `).MatchString(said), name)
			want := strings.Repeat("k", 1+(5*7+columns-1)%long) + "z"
			assert.Equal(t, [][]string{{want}}, queryRows(t, s.db, fmt.Sprintf("SELECT code_%d FROM %s WHERE id = 6", columns, name)))
		}
		if s.name != "mysql" {
			return
		}
		b.write("wide.csv", "id,"+strings.TrimSuffix(strings.Repeat("note,", 450), ",")+"\n"+
			strings.Repeat("1,"+strings.TrimSuffix(strings.Repeat(strings.Repeat("k", 70)+",", 450), ",")+"\n", 5))
		said := b.run(1, "load", "wide.csv", "--into", s.url, "--table", "wide").err
		assert.Contains(t, said, "Row size too large")
		assert.Contains(t, said, "--leave-out")
	})
}
