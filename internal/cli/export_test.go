package cli_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"database/sql"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/db"
	"ambertray/internal/db/oracle"
	"ambertray/internal/db/sqlserver"
	"ambertray/internal/plan"
)

// content is a table as exported, with its rows in order.
func (b *bench) content(url, table string) []string {
	b.t.Helper()
	r := csv.NewReader(strings.NewReader(b.run(0, "export", url, table, "--null-word", "<nothing>").out))
	rows, err := r.ReadAll()
	require.NoError(b.t, err)
	var out []string
	for _, r := range rows {
		for i := range r {
			// A number without a scale of its own may gain zeros.
			if strings.Contains(r[i], ".") && strings.Trim(r[i], "-.0123456789") == "" {
				r[i] = strings.TrimSuffix(strings.TrimRight(r[i], "0"), ".")
			}
		}
		out = append(out, fmt.Sprintf("%q", r))
	}
	slices.Sort(out[1:])
	return out
}

// sameRows compares tables, and shows the first difference only.
func sameRows(t *testing.T, want, got []string, what string) {
	t.Helper()
	for i := range min(len(want), len(got)) {
		require.Equal(t, want[i], got[i], what)
	}
	require.Equal(t, len(want), len(got), what)
}

// A table that is exported and loaded back is equal, on every database, and
// from each to each other one.
func TestExportLoadsBackEqual(t *testing.T) {
	file, planText, _ := nasty()
	exports := map[string]string{}
	onServers(t, func(t *testing.T, b *bench, s server) {
		b.write("nasty.csv", file)
		b.write("nasty.yaml", planText)
		b.run(0, "load", "nasty.yaml", "--into", s.url)
		b.run(0, "export", s.url, "nasty", "-o", "out.csv", "--plan", "out.yaml")
		exports[s.name] = b.read("out.csv")
		want := b.content(s.url, "nasty")
		require.Len(t, want, 301)

		b.run(0, "load", "out.yaml", "--into", s.url, "--table", "again")
		sameRows(t, want, b.content(s.url, "again"), "into a table by its plan")
		b.run(0, "verify", "again", "--deep")
		b.run(0, "load", "out.yaml", "--into", s.url, "--table", "alike", "--like", "nasty")
		sameRows(t, want, b.content(s.url, "alike"), "into a table like it")
		b.run(0, "verify", "alike", "--deep")
		b.run(0, "load", "out.yaml", "--into", s.url, "--table", "nasty", "--mode", "refill", "--yes")
		sameRows(t, want, b.content(s.url, "nasty"), "into itself")

		for i, more := range [][]string{{"--delimiter", "tab"}, {"--delimiter", "|", "--no-header"}, {"--delimiter", "ü", "--null-word", "n/a"}, {"--delimiter", ";", "--null-word", `\N`, "--no-header"}} {
			name := fmt.Sprintf("form%d", i)
			b.run(0, append([]string{"export", s.url, "nasty", "-o", name + ".csv", "--plan", name + ".yaml"}, more...)...)
			b.run(0, "load", name+".yaml", "--into", s.url, "--table", name)
			sameRows(t, want[1:], b.content(s.url, name)[1:], fmt.Sprint(more))
		}

		// As a workbook, too.
		b.run(0, "export", s.url, "nasty", "-o", "out.xlsx", "--plan", "book.yaml")
		b.run(0, "load", "book.yaml", "--into", s.url, "--table", "book")
		// A cell with nothing in it is none.
		if s.name != "oracle" { // which has none
			assert.Contains(t, b.run(0, "export", s.url, "nasty", "-o", "out.xlsx", "--yes").err, "empty text")
		}
		var blank []string
		for _, row := range want {
			blank = append(blank, strings.ReplaceAll(row, ` "" `, ` "<nothing>" `))
		}
		sameRows(t, blank, b.content(s.url, "book"), "as a workbook")

		// From here to SQLite and back.
		b.run(0, "load", "out.yaml", "--into", "sqlite:elsewhere.db", "--table", "nasty")
		b.run(0, "export", "sqlite:elsewhere.db", "nasty", "-o", "back.csv", "--plan", "back.yaml")
		b.run(0, "load", "back.yaml", "--into", s.url, "--table", "back", "--like", "nasty")
		sameRows(t, want, b.content(s.url, "back"), "through another database")
	})
	for name, text := range exports {
		if exports["sqlite"] == "" {
			break // only some were asked for
		}
		// Zones and booleans aside, the three write the same.
		assert.Equal(t, strings.Count(text, "\n"), strings.Count(exports["sqlite"], "\n"), name)
	}
}

// Tables that others made, with types of each database.
// A table comes over several connections as over one, in the order of its pages; what has none is refused.
func TestExportOverLanes(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		var text strings.Builder
		text.WriteString("gate,seen_at,note\n")
		for i := range 40_000 {
			fmt.Fprintf(&text, "%d,2024-%02d-%02d,%s\n", i, i%12+1, i%28+1, strings.Repeat("Withy Cut; ", i%20))
		}
		b.write("gates.csv", text.String())
		b.run(0, "load", "gates.csv", "--into", s.url, "--table", "gates")
		if s.name != "postgres" {
			said := b.run(2, "export", s.url, "gates", "-o", "out.csv", "--lanes", "3").err
			assert.Contains(t, said, "come over one connection")
			assert.False(t, b.exists("out.csv"))
			b.run(0, "export", s.url, "gates", "-o", "out.csv", "--lanes", "1")
			return
		}
		b.run(0, "export", s.url, "gates", "-o", "one.csv")
		for _, lanes := range []string{"2", "5"} {
			r := b.run(0, "export", s.url, "gates", "-o", "more.csv", "--plan", "more.yaml", "--yes", "--lanes", lanes)
			assert.Contains(t, r.err, "40,000 rows")
			assert.True(t, b.read("one.csv") == b.read("more.csv"), lanes)
		}
		b.run(0, "load", "more.yaml", "--into", s.url, "--table", "again")
		sameRows(t, b.content(s.url, "gates"), b.content(s.url, "again"), "the export loads back equal")
		b.run(0, "verify", "latest", "--deep", "--into", s.url)
		assert.Contains(t, b.run(2, "export", s.url, "--query", "SELECT 1 AS a", "--lanes", "2").err, "goes with a table")
		assert.Contains(t, b.run(2, "export", s.url, "gates", "--lanes", "65").err, "use 1 to 64")
		s.exec(t, "CREATE VIEW seen AS SELECT * FROM gates")
		b.run(0, "export", s.url, "seen", "-o", "view.csv", "--lanes", "4")
		assert.Len(t, b.read("view.csv"), len(b.read("one.csv")), "a view has no pages, and comes over one")
	})
}

func TestExportOfOthersTables(t *testing.T) {
	tables := map[string][]string{
		"sqlite": {"CREATE TABLE odd (id INTEGER PRIMARY KEY, any_kind, n NUMERIC, short VARCHAR(3), whole INTEGER, r REAL, bytes BLOB)",
			"INSERT INTO odd VALUES (1, 'a', 1.5, 'longer than 3', 'not a number', 1e300, x'00ff'), (2, 7, 12345678901234567890, '', 5, 0.1, NULL), (3, NULL, NULL, ' ', 9007199254740993, 1.0, NULL)"},
		"postgres": {"CREATE TABLE odd (id int GENERATED ALWAYS AS IDENTITY PRIMARY KEY, tags text[], doc jsonb, n numeric, r real, span interval, far date, padded char(5), twice int GENERATED ALWAYS AS (7 * 2) STORED, flag bit(3), \"Mixed \"\" Case\" text)",
			`INSERT INTO odd (tags, doc, n, r, span, far, padded, flag, "Mixed "" Case") VALUES ('{a,"b,c"}', '{"k": [1, null]}', 1.50, 0.1, '1 day 02:03', '2024-02-29', 'ab', B'101', 'x'),
			(NULL, NULL, -12345678901234567890.000000000123, 3.4e38, NULL, NULL, NULL, NULL, ''), ('{}', 'null', 0, NULL, '-00:00:01', '0044-03-15 BC', '', NULL, NULL)`},
		"mysql": {"CREATE TABLE odd (id int unsigned AUTO_INCREMENT PRIMARY KEY, kind enum('a','b,c'), some set('x','y'), r float, y year, clock time(3), big bigint unsigned, bytes varbinary(4), doc json, padded char(5), small tinyint(1), old datetime)",
			"INSERT INTO odd (kind, some, r, y, clock, big, bytes, doc, padded, small, old) VALUES ('b,c', 'x,y', 0.1, 1999, '-100:00:00.5', 18446744073709551615, x'00ff0a', '{\"k\": 1}', 'ab', 1, '1000-01-01 00:00:00'), (NULL, NULL, 3.4e38, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL), ('a', '', 16777217, 2024, '23:59:59.999', 0, '', '[]', '', 7, '9999-12-31 23:59:59')"},
		"sqlserver": {"CREATE TABLE odd (id int IDENTITY PRIMARY KEY, m money, sm smallmoney, r real, f float, t tinyint, old datetime, small smalldatetime, bytes varbinary(4), doc xml, padded char(5), wide nchar(3), fine datetime2(7), zoned datetimeoffset(3), stamp rowversion, twice AS (7 * 2), u uniqueidentifier, b bit)",
			"INSERT INTO odd (m, sm, r, f, t, old, small, bytes, doc, padded, wide, fine, zoned, u, b) VALUES (-922337203685477.5808, 214748.3647, 0.1, 1e300, 255, '1753-01-01T00:00:00.003', '2079-06-06 23:59', 0x00ff0a, N'<k/>', 'ab', N'é', '0001-01-01 00:00:00.0000001', '2024-02-29 12:00:00.5+05:30', '6F9619FF-8B86-D011-B42D-00C04FC964FF', 1), (NULL, NULL, 3.4e38, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL), (0.5, 0, 16777216, -0.0, 0, '9999-12-31T23:59:59.997', '1900-01-01', 0x, N'', '', N'', '9999-12-31 23:59:59.9999999', '1999-12-31 23:59:59 -02:00', '00000000-0000-0000-0000-000000000000', 0)"},
		"oracle": {"CREATE TABLE odd (id NUMBER GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY, n NUMBER, f FLOAT(24), bf BINARY_FLOAT, d DATE, far TIMESTAMP(9), zoned TIMESTAMP(3) WITH TIME ZONE, span INTERVAL DAY(3) TO SECOND(2), bytes RAW(4), padded CHAR(5), wide NVARCHAR2(3), note CLOB, twice NUMBER GENERATED ALWAYS AS (7 * 2), \"Mixed Case\" VARCHAR2(9 BYTE))",
			"INSERT INTO odd (n, f, bf, d, far, zoned, span, padded, wide, note, \"Mixed Case\") VALUES (-12345678901234567890.000000000123, 0.1, 0.1, TO_DATE('1000-01-01 23:59:59', 'YYYY-MM-DD HH24:MI:SS'), TO_TIMESTAMP('9999-12-31 23:59:59.999999999', 'YYYY-MM-DD HH24:MI:SS.FF'), TO_TIMESTAMP_TZ('2024-02-29 12:00:00.5 +05:30', 'YYYY-MM-DD HH24:MI:SS.FF TZH:TZM'), TO_DSINTERVAL('-100 00:00:00.5'), 'ab', 'é', 'a note', 'x')",
			"INSERT INTO odd (n) VALUES (0.5)", "INSERT INTO odd (n, span) VALUES (NULL, TO_DSINTERVAL('0 23:59:59.99'))"},
	}
	onServers(t, func(t *testing.T, b *bench, s server) {
		s.exec(t, tables[s.name]...)
		r := b.run(0, "export", s.url, "odd", "-o", "odd.csv", "--plan", "odd.yaml")
		assert.Contains(t, r.err, "caution")
		want := b.content(s.url, "odd")
		b.run(0, "load", "odd.yaml", "--into", s.url, "--table", "text")
		sameRows(t, want, b.content(s.url, "text"), "what has no plain form is kept as its text")
		p, err := plan.Parse([]byte(b.read("odd.yaml")))
		require.NoError(t, err)
		types := map[string]string{}
		for _, c := range p.Columns {
			types[c.Name] = c.Type
		}
		switch s.name {
		case "sqlite":
			assert.Equal(t, []string{"integer", "text", "text", "text", "double precision"}, []string{types["id"], types["short"], types["whole"], types["bytes"], types["r"]})
		case "postgres":
			assert.Equal(t, []string{"integer", "text", "decimal(32,12)", "text", "char(5)"}, []string{types["id"], types["tags"], types["n"], types["far"], types["padded"]})
		case "mysql":
			assert.Equal(t, []string{"bigint", "text", "decimal(20,0)", "text", "timestamp(0)"}, []string{types["id"], types["kind"], types["big"], types["clock"], types["old"]})
		case "oracle":
			assert.Equal(t, []string{"decimal(1,0)", "decimal(32,12)", "timestamp(0)", "text", "text", "char(5)"}, []string{types["id"], types["n"], types["d"], types["span"], types["bytes"], types["padded"]})
		case "sqlserver":
			assert.Equal(t, []string{"integer", "decimal(19,4)", "decimal(10,4)", "double precision", "smallint", "text", "char(5)"}, []string{types["id"], types["m"], types["sm"], types["r"], types["t"], types["bytes"], types["padded"]})
		}
	})
}

func TestExportDetails(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		b.write("a.csv", "id,v,n\n1,x,\n2,---,2\n3,\"\",3\n4,NULL,4\n5,\" \",5\n6,\\N,6\n")
		b.run(0, "load", "a.csv", "--into", s.url, "--table", "a", "--keep-empty", "quoted", "--type", "v=varchar(10)")
		text := "id,v,n\n1,x,\n2,\"---\",2\n3,\"\",3\n4,NULL,4\n5,\" \",5\n6,\\N,6\n"
		if s.name == "oracle" {
			text = strings.Replace(text, "3,\"\",3", "3,,3", 1)
		}
		assert.Equal(t, text, b.run(0, "export", s.url, "a").out)
		assert.Equal(t, "v\nx\n", b.run(0, "export", s.url, "--query", "SELECT v FROM a WHERE id = 1 ; ").out)
		one := "SELECT id, v FROM a ORDER BY id LIMIT 1"
		switch s.name {
		case "sqlserver":
			one = "SELECT TOP (1) id, v FROM a ORDER BY id"
		case "oracle":
			one = "SELECT id, v FROM a ORDER BY id FETCH FIRST 1 ROWS ONLY"
		}
		assert.Equal(t, "1;x\n", b.run(0, "export", s.url, "--query", one, "--no-header", "--delimiter", "semicolon").out)
		assert.Equal(t, "n\n6\n5\n4\n3\n2\n\\N\n", b.run(0, "export", s.url, "--query", "SELECT n FROM a ORDER BY id DESC").out, "a null by itself is no blank line")
		assert.Contains(t, b.run(1, "export", s.url, "a", "--null-word", "NULL").err, "choose another word")
		assert.Equal(t, "x,x\nx,x\n", b.run(0, "export", s.url, "--query", "SELECT v AS x, v AS x FROM a WHERE id = 1").out)

		b.run(0, "export", s.url, "--query", "SELECT n FROM a", "-o", "n.csv", "--plan", "n.yaml")
		b.run(0, "load", "n.yaml", "--into", s.url, "--table", "lone")
		assert.Equal(t, b.content(s.url, "lone")[1:], []string{`["2"]`, `["3"]`, `["4"]`, `["5"]`, `["6"]`, `["<nothing>"]`})
		assert.Contains(t, b.run(2, "export", s.url, "a", "-o", "n.csv").err, "the file exists")
		assert.Contains(t, b.run(2, "export", s.url, "a", "--plan", "n.yaml").err, "the file exists")
		assert.Contains(t, b.run(2, "export", s.url, "none").err, "there is no table none")
		assert.Contains(t, b.run(2, "export", s.url).err, "--query")
		assert.Contains(t, b.run(2, "export", s.url, "a", "--null-word", "a,b").err, "--null-word")
		assert.Contains(t, b.run(2, "export", s.url, "a", "--delimiter", "ab").err, "exactly one character")
		b.run(1, "export", s.url, "--query", "SELECT nothing FROM nowhere", "-o", "broken.csv")
		assert.False(t, b.exists("broken.csv") || b.exists("broken.csv.part"))

		r := b.run(0, "export", s.url, "a", "-o", "a.csv.gz", "--json")
		var doc map[string]any
		require.NoError(t, json.Unmarshal([]byte(r.out), &doc))
		assert.EqualValues(t, 6, doc["rows"])
		z, err := gzip.NewReader(strings.NewReader(b.read("a.csv.gz")))
		require.NoError(t, err)
		plain, err := io.ReadAll(z)
		require.NoError(t, err)
		assert.Equal(t, text, string(plain))
	})
	b := newBench(t)
	assert.Contains(t, b.run(1, "export", "sqlite:none.db", "a").err, "no such file")
	assert.False(t, b.exists("none.db"))
}

// runBatches runs a script as the server's own program does: in batches that end at a line
// of GO, on one connection, until one fails.
func runBatches(db *sql.DB, text string) (failed error) {
	c, err := db.Conn(context.Background())
	if err != nil {
		return err
	}
	defer c.Close()
	for _, batch := range regexp.MustCompile(`(?m)^GO$`).Split(text, -1) {
		if _, err := c.ExecContext(context.Background(), batch); err != nil {
			failed = errors.Join(failed, err)
		}
	}
	return failed
}

// clients run a script as the database's own program does.
func (b *bench) runScript(s server, file string) (string, error) {
	var cmd *exec.Cmd
	switch s.name {
	case "sqlite":
		name, err := exec.LookPath("sqlite3")
		if err != nil {
			_, err := s.db.Exec(b.read(file)) // its library reads scripts, too
			return "", err
		}
		cmd = exec.Command(name, "-bail", strings.TrimPrefix(s.url, "sqlite:"))
	case "sqlserver":
		return "", runBatches(s.db, b.read(file))
	case "oracle":
		for _, statement := range strings.Split(b.read(file), ";\n") {
			if statement = strings.TrimSpace(statement); statement == "" {
				continue
			}
			if _, err := s.db.Exec(statement); err != nil {
				return statement, err
			}
		}
		return "", nil
	case "postgres":
		cmd = exec.Command("psql", "-X", "-q", "-v", "ON_ERROR_STOP=1", s.url)
	case "mysql":
		u := strings.TrimPrefix(s.url, "mysql://")
		user, rest, _ := strings.Cut(u, "@")
		host, name, _ := strings.Cut(rest, "/")
		ip, port, _ := strings.Cut(host, ":")
		user, password, _ := strings.Cut(user, ":")
		cmd = exec.Command("mariadb", "-h", ip, "-P", port, "-u", user, "--default-character-set=utf8mb4", name)
		cmd.Env = append(os.Environ(), "MYSQL_PWD="+password)
	}
	cmd.Stdin = strings.NewReader(b.read(file))
	out, err := cmd.CombinedOutput()
	return string(out), err
}

// A script, run by the database's own client, makes the table that a load
// makes.
func TestScripts(t *testing.T) {
	file, planText, _ := nasty()
	onServers(t, func(t *testing.T, b *bench, s server) {
		s.runsScripts(t)
		b.write("nasty.csv", file)
		b.write("nasty.yaml", planText)
		b.run(0, "load", "nasty.yaml", "--into", s.url)
		want := b.content(s.url, "nasty")
		forms := [][]string{{}}
		if s.name == "postgres" {
			forms = append(forms, []string{"--copy-block"})
		}
		for i, more := range forms {
			name := fmt.Sprintf("scripted%d", i)
			b.run(0, append([]string{"script", "nasty.yaml", "--for", s.name, "--table", name, "-o", name + ".sql"}, more...)...)
			out, err := b.runScript(s, name+".sql")
			require.NoError(t, err, out)
			sameRows(t, want, b.content(s.url, name), name)
			assert.Contains(t, b.read(name+".sql"), "-- 300 records read = 300 in this script + 0 left out + 0 skipped")

			// Rows that are missing undo all of it.
			text := b.read(name + ".sql")
			text = strings.ReplaceAll(text, name, name+"_short")
			at := strings.Index(text, "\n(1, ") // a record without line breaks
			if len(more) > 0 {
				at = strings.Index(text, "\n1\t")
			}
			require.Positive(t, at)
			b.write("short.sql", text[:at]+text[at+1+strings.IndexByte(text[at+1:], '\n'):])
			out, err = b.runScript(s, "short.sql")
			require.Error(t, err)
			assert.Regexp(t, "CHECK|does not have 300 rows|cannot be null", out+err.Error(), "the count is what fails")
			if slices.Contains(s.tables(t), name+"_short") {
				assert.Equal(t, "mysql", s.name, "only there a definition cannot be undone")
				assert.Len(t, b.content(s.url, name+"_short"), 1)
			}
		}
	})
}

func TestScriptLeavesOut(t *testing.T) {
	b := newBench(t)
	b.write("in.csv", "id,day\n1,2024-01-31\n2,2024-02-30\n3,2024-03-01\n")
	r := b.run(3, "script", "in.csv", "--for", "sqlite", "--type", "day=date", "-o", "in.sql", "--rejects", "out.csv")
	assert.Contains(t, r.err, "1 of 3 records left out")
	assert.Contains(t, b.read("out.csv"), "2024-02-30")
	assert.NotContains(t, b.read("in.sql"), "2024-02-30")
	assert.Contains(t, b.run(2, "script", "in.csv").err, "--for")
	assert.Contains(t, b.run(2, "script", "in.csv", "--for", "mysql", "--copy-block").err, "only PostgreSQL")
	assert.Contains(t, b.run(2, "script", "in.csv", "--for", "sqlite", "-o", "in.sql").err, "exists")
	doc := b.document(3, "script", "in.csv", "--for", "oracle", "--type", "day=date", "-o", "o.sql")
	assert.EqualValues(t, 2, doc["records"].(map[string]any)["loaded"])
}

// The literals of the databases that do not run here follow their published
// syntax; the files were read with care.
// The standard's own words run where they are kept to.
func TestStandardScript(t *testing.T) {
	onNetwork(t, func(t *testing.T, b *bench, s server) {
		if s.name != "postgres" {
			return
		}
		b.write("a.csv", "id,name,toll,day,at,seen,open,share,clock\n1,O'Hara,2.50,2026-03-01,2026-03-01 10:00:00,2026-03-01T10:00:00+01:00,true,1.5e3,10:30:00\n2,,,,,,,,\n")
		b.run(0, "plan", "a.csv", "-o", "a.yaml", "--table", "plain", "--key", "id", "--type", "open=boolean", "--type", "share=double precision")
		b.run(0, "script", "a.yaml", "--for", "standard", "-o", "a.sql")
		out, err := b.runScript(s, "a.sql")
		require.NoError(t, err, out)
		b.run(0, "load", "a.yaml", "--into", s.url, "--table", "loaded")
		assert.Equal(t, b.content(s.url, "loaded"), b.content(s.url, "plain"))
		b.write("b.sql", strings.Replace(b.read("a.sql"), "= 2 THEN", "= 3 THEN", 1))
		s.exec(t, "DROP TABLE plain")
		_, err = b.runScript(s, "b.sql")
		assert.Error(t, err, "a row is missing")
		assert.NotContains(t, s.tables(t), "plain")
	})
	b := newBench(t)
	b.write("a.csv", "id,name\n1,x\n")
	assert.Contains(t, b.run(0, "ddl", "a.csv", "--for", "iso", "--type", "name=text").out, "CHARACTER LARGE OBJECT")
}

func TestScriptsForOtherDatabases(t *testing.T) {
	b := newBench(t)
	long := strings.Repeat("é", 801) + "$(x)" + strings.Repeat("ab", 2500)
	b.write("in.csv", "id,flag,toll,day,at,who\n"+
		"1,yes,12.50,2024-02-29,2024-02-29 10:11:12.5,O'Hara & Co\n"+
		"2,no,-0.05,0001-01-01,1969-12-31 23:59:59,\"two\nlines\n/\nGO\nend\"\n"+
		"3,,,,,"+long+"\n")
	for _, d := range []*db.Database{sqlserver.Database, oracle.Database} {
		b.run(0, "script", "in.csv", "--for", d.Name, "--table", "tolls", "--key", "id", "-o", d.Name+".sql")
		got := strings.SplitAfterN(b.read(d.Name+".sql"), "\n", 3)[2] // the second line has version and time
		name := "testdata/" + d.Name + ".sql"
		if os.Getenv("AMBERTRAY_WRITE_GOLDEN") != "" {
			require.NoError(t, os.WriteFile(name, []byte(got), 0o666))
		}
		want, err := os.ReadFile(name)
		require.NoError(t, err)
		assert.Equal(t, string(want), got, d.Name)
		for _, line := range strings.Split(got, "\n") {
			assert.Less(t, len([]rune(line)), map[string]int{"oracle": 2400, "sqlserver": 1 << 20}[d.Name])
			assert.False(t, line == "GO" && strings.Count(got[:strings.Index(got, line)], "'")%2 == 1)
		}
		assert.Equal(t, d == oracle.Database, strings.Contains(got, "$(x"), "which names a variable in sqlcmd")
	}
}

func TestDictionary(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		b.write("in.csv", "Passage Id,Day,Who | What\n1,31/01/2024,\"<b>x</b> | y\"\n2,,\n")
		b.write("plan.yaml", `ambertray: 1
sources:
  - {file: in.csv, header: 1, delimiter: comma, quote: double}
table: {name: passages, key: [passage_id], description: "Boats & locks"}
columns:
  - {name: passage_id, from: Passage Id, type: integer, required: true, description: "the number *of* the book"}
  - {name: day, from: Day, type: date, reading: dd/MM/yyyy}
  - {name: who, from: Who | What, type: varchar(20), default: "nobody"}
`)
		md := b.run(0, "dictionary", "plan.yaml").out
		for _, want := range []string{"# passages", "Boats & locks", "2 rows, 3 columns, from in.csv", "| `passage_id` | `integer` | yes | 1 |", `the number \*of\* the book`,
			`Who \| What`, "| 1 | 2024-01-31 | 2024-01-31 | 31/01/2024 |", `\<b\>x\</b\> \| y`, "nobody"} {
			assert.Contains(t, md, want)
		}
		b.run(0, "load", "plan.yaml", "--into", s.url)
		page := b.run(0, "dictionary", s.url, "passages", "--format", "html").out
		assert.Contains(t, page, "passages</title>")
		assert.Contains(t, page, "&lt;b&gt;x&lt;/b&gt; | y")
		assert.NotContains(t, page, "<b>x</b>")
		if s.name != "sqlite" {
			assert.Contains(t, page, "the number *of* the book", "the database keeps descriptions")
		}
		b.run(0, "dictionary", s.url, "passages", "-o", "d.csv")
		rows, err := csv.NewReader(strings.NewReader(b.read("d.csv"))).ReadAll()
		require.NoError(t, err)
		require.Len(t, rows, 4)
		day := "2024-01-31"
		if s.name == "oracle" {
			day += " 00:00:00" // a date there has a time of the day
		}
		assert.Equal(t, []string{"1", day, day}, rows[2][7:10])
		var doc map[string]any
		require.NoError(t, json.NewDecoder(bytes.NewReader([]byte(b.run(0, "dictionary", "plan.yaml", "--json").out))).Decode(&doc))
		assert.EqualValues(t, 2, doc["rows"])
		assert.Contains(t, b.run(2, "dictionary", s.url).err, "name the table")
		assert.Contains(t, b.run(2, "dictionary", s.url, "none").err, "there is no table")
		assert.Contains(t, b.run(2, "dictionary", "plan.yaml", "--format", "pdf").err, "markdown, html or csv")
	})
}

// What reads cannot change: a query that would is refused by the database.
func TestReadingIsReadOnly(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		s.exec(t, "CREATE TABLE boats (id INTEGER NOT NULL PRIMARY KEY, name VARCHAR(20))", "INSERT INTO boats VALUES (1, 'Wren'), (2, 'Heron')")
		for _, query := range []string{"DELETE FROM boats", "DELETE FROM boats RETURNING id", "DROP TABLE boats", "UPDATE boats SET name = 'x'",
			"INSERT INTO boats VALUES (3, 'x')", "CREATE TABLE other AS SELECT * FROM boats"} {
			r := b.run(1, "export", s.url, "--query", query, "-o", "q.csv")
			assert.NotEmpty(t, r.err, query)
			assert.False(t, b.exists("q.csv"), query)
			var all, same int
			require.NoError(t, s.db.QueryRow("SELECT count(*), sum(CASE WHEN name IN ('Wren', 'Heron') THEN 1 ELSE 0 END) FROM boats").Scan(&all, &same), query)
			assert.Equal(t, []int{2, 2}, []int{all, same}, query)
		}
		assert.Equal(t, []string{"boats"}, s.tables(t))
		b.run(0, "export", s.url, "--query", "SELECT id FROM boats", "-o", "q.csv")
		b.run(0, "peek", s.url)
		b.run(0, "peek", s.url, "boats")
		b.run(0, "dictionary", s.url, "boats")
	})
}

// The definition of a table that exists makes the same table again, and is written in other
// databases' words, too.
func TestDefinitionOfATable(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		number := map[string]string{"sqlite": "id integer PRIMARY KEY", "postgres": "id int GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY",
			"mysql": "id int AUTO_INCREMENT PRIMARY KEY", "sqlserver": "id int IDENTITY(1,1) PRIMARY KEY",
			"oracle": "id NUMBER(9) GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY"}[s.name]
		s.exec(t, "CREATE TABLE boats ("+number+", name varchar(20) DEFAULT 'none' NOT NULL, length decimal(6,2) CHECK (length < 100), twice varchar(5) UNIQUE)",
			"CREATE INDEX by_name ON boats (name)")
		b.run(0, "ddl", s.url, "boats", "-o", "boats.sql")
		first := b.read("boats.sql")
		for _, part := range []string{"none", "100", "name"} {
			assert.Contains(t, first, part)
		}
		s.exec(t, "DROP TABLE boats")
		out, err := b.runScript(s, "boats.sql")
		require.NoError(t, err, out)
		if s.name != "sqlserver" { // whose constraints get names of their own each time
			assert.Equal(t, first, b.run(0, "ddl", s.url, "boats").out)
		}
		s.exec(t, "INSERT INTO boats (length) VALUES (5)")
		assert.Equal(t, [][]string{{"none"}}, queryRows(t, s.db, "SELECT name FROM boats"))
		_, err = s.db.Exec("INSERT INTO boats (length) VALUES (500)")
		require.Error(t, err, "the check is there")

		if s.name == "oracle" {
			return
		}
		r := b.run(0, "ddl", s.url, "boats", "--for", "oracle")
		assert.Contains(t, r.out, "VARCHAR2(20 CHAR) NOT NULL")
		assert.Contains(t, r.out, "PRIMARY KEY (id)")
		assert.Contains(t, r.err, "its default is not written")
		b.run(2, "ddl", s.url)
		b.run(2, "ddl", s.url, "nobody")
		b.run(2, "ddl", s.url, "boats", "--for", "nothing")
	})
	b := newBench(t)
	b.write("a.csv", "a,b\n1,2\n")
	assert.Contains(t, b.run(2, "ddl", "a.csv", "b", "--for", "sqlite").err, "is no database URL")
}

// What a server reads of a file by itself is what the program reads of it, value by value.
func TestScriptFromFile(t *testing.T) {
	var csv strings.Builder
	csv.WriteString("id;code;toll;share;day;short;named;at;clock;zoned;open;token;note;trimmed;large;back\r\n")
	for i := range 200 {
		sign := []string{"", "-", "−", "+"}[i%4]
		fmt.Fprintf(&csv, "%s%d,00;%04d;%s£%d.%03d,%02d; %d%%;%d/%d/%d;%02d.%02d.%02d;%d %s %d;%04d-%02d-%02dT10:%02d:%02d.%d;%d:%02d %s;%04d-%02d-%02d 23:59:59%s;%s;%s;%s;  trim%d\t;%d;%d-\r\n",
			sign, i, i*7%10000, []string{"", "-"}[i%2], i%90+1, i*37%1000, i%100, i%101, i%28+1, i%12+1, 1900+i, i%28+1, i%12+1, i%100,
			i%28+1, []string{"January", "feb", "MAR", "April", "may", "Jun"}[i%6], 1800+i, 1001+i*40, i%12+1, i%28+1, i%60, i%60, i,
			i%12+1, i%60, []string{"AM", "pm"}[i%2], 1900+i, i%12+1, i%28+1, []string{"Z", "+02:00", "-0530", "+01"}[i%4],
			[]string{"Ja", "nein", "JA", "Nein"}[i%4], strings.ToUpper(fmt.Sprintf("6f9619ff-8b86-d011-b42d-00cf4fc9%04x", i)),
			[]string{"\"line\nbreak; \"\"quotes\"\"\"", "NULL", "plain \\ back\\n", "", "é日本😀", `""`, "  ", "n/a", "\"'); DROP--\""}[i%9],
			i, i*1234567, i+1)
	}
	csv.WriteString(";;;;;;;;;;;;;;;\r\n")
	const planText = `ambertray: 1
sources:
  - {file: in.csv, header: 1, delimiter: semicolon, quote: double, blank_records: keep, encoding: utf-8}
table: {name: read}
columns:
  - {name: id, from: id, type: integer, reading: {decimal: ','}}
  - {name: code, from: code, type: char(4)}
  - {name: toll, from: toll, type: 'decimal(30,2)', reading: {thousands: '.', decimal: ',', currency: £}}
  - {name: share, from: share, type: double precision, reading: {percent: true}}
  - {name: day, from: day, type: date, reading: d/M/yyyy}
  - {name: short, from: short, type: date, reading: {dates: [dd.MM.yy], pivot: 1950}}
  - {name: named, from: named, type: date, reading: d MMM yyyy}
  - {name: at, from: at, type: timestamp(6)}
  - {name: clock, from: clock, type: time(0), reading: h:mm a}
  - {name: zoned, from: zoned, type: timestamp(0) with time zone}
  - {name: open, from: open, type: boolean, reading: {'true': [Ja], 'false': [Nein]}}
  - {name: token, from: token, type: uuid}
  - {name: note, from: note, type: varchar(60), null_words: [n/a], unicode: true}
  - {name: trimmed, from: trimmed, type: varchar(20), trim: true, default: none}
  - {name: large, from: large, type: bigint}
  - {name: back, from: back, type: integer, reading: {negative: trailing}}
`
	onNetwork(t, func(t *testing.T, b *bench, s server) {
		if s.name == "sqlserver" || s.name == "oracle" { // whose servers do not run here
			return
		}
		b.write("in.csv", csv.String())
		b.write("in.yaml", planText)
		b.run(0, "load", "in.yaml", "--into", s.url)
		want := b.content(s.url, "read")
		require.Len(t, want, 202)
		// The server is another user, who may not look into the test's folder.
		folder, err := os.MkdirTemp("", "ambertray-served")
		require.NoError(t, err)
		t.Cleanup(func() { os.RemoveAll(folder) })
		require.NoError(t, os.Chmod(folder, 0o755))
		file := filepath.Join(folder, "in's.csv")
		require.NoError(t, os.WriteFile(file, []byte(csv.String()), 0o644))
		for i, mode := range []string{"create", "append", "refill", "merge"} {
			name := "made" + mode
			if mode != "create" {
				s.exec(t, "CREATE TABLE "+name+" AS SELECT * FROM madecreate WHERE id = 5")
				if mode == "append" {
					s.exec(t, "DELETE FROM "+name)
				}
			}
			args := []string{"script", "in.yaml", "--for", s.name, "--table", name, "--mode", mode, "--from-file", file, "-o", name + ".sql"}
			if mode == "merge" {
				continue // null is no key; see below
			}
			b.run(0, args...)
			out, err := b.runScript(s, name+".sql")
			require.NoError(t, err, "%s\n%s", out, b.read(name+".sql"))
			sameRows(t, want, b.content(s.url, name), name)
			if i > 0 {
				continue
			}
			// Another file than the one that was looked at does not go in.
			short := csv.String()[:strings.LastIndex(csv.String(), "\n;")+1]
			require.NoError(t, os.WriteFile(file, []byte(short), 0o644))
			b.write("short.sql", strings.ReplaceAll(b.read(name+".sql"), name, "short"))
			_, err = b.runScript(s, "short.sql")
			require.Error(t, err, "a row less")
			wrong := strings.Replace(csv.String(), "nein;", "vielleicht;", 1)
			require.NoError(t, os.WriteFile(file, []byte(wrong), 0o644))
			b.write("wrong.sql", strings.ReplaceAll(b.read(name+".sql"), name, "wrong"))
			_, err = b.runScript(s, "wrong.sql")
			require.Error(t, err, "a word that is none")
			require.NoError(t, os.WriteFile(file, []byte(csv.String()), 0o644))
		}
	})
	onNetwork(t, func(t *testing.T, b *bench, s server) {
		if s.name == "sqlserver" || s.name == "oracle" {
			return
		}
		folder, err := os.MkdirTemp("", "ambertray-served")
		require.NoError(t, err)
		t.Cleanup(func() { os.RemoveAll(folder) })
		require.NoError(t, os.Chmod(folder, 0o755))
		text := "permit,fee\n0012,\"1,250.00\"\n0044,3.50\n"
		require.NoError(t, os.WriteFile(filepath.Join(folder, "a.csv"), []byte(text), 0o644))
		b.write("a.csv", text)
		s.exec(t, "CREATE TABLE boats (permit char(4) PRIMARY KEY, fee decimal(9,2))", "INSERT INTO boats VALUES ('0012', 1), ('0071', 2)")
		b.run(0, "script", "a.csv", "--for", s.name, "--table", "boats", "--key", "permit", "--mode", "merge", "--missing", "delete",
			"--type", "fee=decimal(9,2)", "--from-file", filepath.Join(folder, "a.csv"), "-o", "m.sql")
		out, err := b.runScript(s, "m.sql")
		require.NoError(t, err, "%s\n%s", out, b.read("m.sql"))
		assert.Equal(t, [][]string{{"0012", "1250.00"}, {"0044", "3.50"}}, queryRows(t, s.db, "SELECT permit, "+s.text("fee")+" FROM boats ORDER BY permit"))
	})
	// What a server would read otherwise is refused, and says what it is.
	b := newBench(t)
	b.write("a.csv", "id,day,note\n1,2024-02-29,x\n2,2024-03-01,y\n")
	b.write("titles.csv", "Tolls\n\nid,day,note\n1,2024-02-29,x\n2,2024-03-01,y\n")
	refused := func(say string, args ...string) {
		t.Helper()
		assert.Contains(t, b.run(2, append([]string{"script", "--from-file", "/srv/a.csv"}, args...)...).err, say)
	}
	refused("reads no file of its own", "a.csv", "--for", "sqlite")
	refused("the header is line 3", "titles.csv", "--for", "postgres")
	refused("made by an expression", "a.csv", "--for", "postgres", "--provenance")
	refused("numbers the rows", "a.csv", "--for", "postgres", "--row-number", "n")
	refused("do not fit", "a.csv", "--for", "mysql", "--type", "note=integer")
	refused("2 sources", "a.csv", "titles.csv", "--for", "mysql")
	refused("keep_empty", "a.csv", "--for", "mysql", "--keep-empty", "quoted")
	refused("leave out --copy-block", "a.csv", "--for", "postgres", "--copy-block")
	assert.Contains(t, b.run(0, "script", "titles.csv", "--for", "mysql", "--from-file", "/srv/t.csv").out, "IGNORE 3 LINES")
	assert.Contains(t, b.run(0, "script", "a.csv", "--for", "sqlserver", "--from-file", `D:\in\a.csv`).out, `FROM N'D:\in\a.csv' WITH (CODEPAGE = '65001', FORMAT = 'CSV'`)
	assert.Contains(t, b.run(0, "script", "a.csv", "--for", "oracle", "--from-file", "/srv/in/a.csv").out, "ORGANIZATION EXTERNAL (TYPE ORACLE_LOADER DEFAULT DIRECTORY ambertray_files")
}

// Scripts add rows to a table that is there, or fill it anew, or make one like another.
func TestScriptModes(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		s.runsScripts(t)
		b.write("a.csv", "id,toll\n1,2.50\n2,3.25\n")
		b.write("b.csv", "id,toll\n3,1.00\n")
		table := func(name string) [][]string {
			return queryRows(t, s.db, "SELECT "+s.text("id")+", "+s.text("toll")+" FROM "+name+" ORDER BY id")
		}
		run := func(args ...string) error {
			b.run(0, append([]string{"script", "--for", s.name, "--table", "tolls", "--key", "id", "-o", "s.sql", "--yes"}, args...)...)
			_, err := b.runScript(s, "s.sql")
			return err
		}
		require.NoError(t, run("a.csv"))
		require.NoError(t, run("b.csv", "--mode", "append"))
		assert.NotContains(t, b.read("s.sql"), "CREATE TABLE tolls")
		assert.Len(t, table("tolls"), 3)
		require.Error(t, run("b.csv", "--mode", "append"), "the key is there")
		assert.Len(t, table("tolls"), 3)
		require.NoError(t, run("b.csv", "--mode", "refill"))
		assert.Equal(t, "3", table("tolls")[0][0])
		assert.Len(t, table("tolls"), 1)
		if s.name == "postgres" || s.name == "mysql" {
			require.NoError(t, run("a.csv", "--table", "others", "--like", "tolls"))
			assert.Len(t, table("others"), 2)
			require.Error(t, run("a.csv", "--table", "others", "--mode", "append"), "it has the key of the other")
		} else {
			assert.Contains(t, b.run(2, "script", "a.csv", "--for", s.name, "--like", "tolls").err, "--mode append")
		}
	})
	b := newBench(t)
	b.write("a.csv", "id\n1\n")
	assert.Contains(t, b.run(2, "script", "a.csv", "--for", "sqlite", "--mode", "replace").err, "--mode refill")
	assert.Contains(t, b.run(2, "script", "a.csv", "--for", "mysql", "--mode", "append", "--like", "x").err, "--mode create")
}
