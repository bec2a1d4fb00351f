package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"ambertray/internal/tray"
)

// Each row: a file as people send it, options, and the rows of the table.
func TestFilesAsPeopleSendThem(t *testing.T) {
	for _, tt := range []struct {
		name, text string
		args       []string
		want       [][]string
	}{
		{"titles, ruler, blanks, total", "Tolls of May\n\nid;paid on;toll\n---;---;---\n1;01.05.2024;1.250,50\n\n2;31.05.2024;-0,75\nTotal;;1.249,75\n", nil,
			[][]string{{"1", "2024-05-01", "1250.5"}, {"2", "2024-05-31", "-0.75"}}},
		{"no header", "7,x\n8,y\n", nil, [][]string{{"7", "x"}, {"8", "y"}}},
		{"header by hand", "junk\nid,v\n1,x\n", []string{"--header-row", "2"}, [][]string{{"1", "x"}}},
		{"null words", "id,n\n1,5\n2,N/A\n3,-\n4,7\n", nil, [][]string{{"1", "5"}, {"2", "<null>"}, {"3", "<null>"}, {"4", "7"}}},
		{"null word by hand", "id,v\n1,x\n2,missing\n", []string{"--null-word", "missing"}, [][]string{{"1", "x"}, {"2", "<null>"}}},
		{"blanks in quotes", "id,v\n1,\"   \"\n2,x\n", nil, [][]string{{"1", "<null>"}, {"2", "x"}}},
		{"blanks in quotes, kept", "id,v\n1,\"   \"\n2,x\n", []string{"--keep-empty", "quoted"}, [][]string{{"1", "   "}, {"2", "x"}}},
		{"empty against nothing", "id,v\n1,\"\"\n2,\n3,x\n", []string{"--keep-empty", "quoted"}, [][]string{{"1", ""}, {"2", "<null>"}, {"3", "x"}}},
		{"both are null", "id,v\n1,\"\"\n2,\n3,x\n", nil, [][]string{{"1", "<null>"}, {"2", "<null>"}, {"3", "x"}}},
		{"leave out", "id,secret,v\n1,a,x\n", []string{"--leave-out", "secret"}, [][]string{{"1", "x"}}},
		{"row number", "v\nx\ny\n", []string{"--row-number", "no", "--key", "none", "--header-row", "1"}, [][]string{{"1", "x"}, {"2", "y"}}},
		{"strict types", "id,toll,paid,day\n1,2.50,yes,2024-05-01\n2,3.00,no,2024-05-02\n", []string{"--strict-types"}, [][]string{{"1", "2.5", "1", "2024-05-01"}, {"2", "3.0", "0", "2024-05-02"}}},
		{"money", "id,fee\n1,\"£1,250.00\"\n2,(£3.50)\n", nil, [][]string{{"1", "1250"}, {"2", "-3.5"}}},
		{"percent", "id,share\n1,12.5%\n2,7%\n", nil, [][]string{{"1", "12.5"}, {"2", "7"}}},
		{"truth", "id,paid\n1,yes\n2,no\n", nil, [][]string{{"1", "1"}, {"2", "0"}}},
		{"codes", "id,code\n1,007\n2,042\n", nil, [][]string{{"1", "007"}, {"2", "042"}}},
		{"tabs and quotes as values", "id\tsize\n1\t5\" x 3\n2\t\"7\" x 4\n", []string{"--quote", "none"}, [][]string{{"1", `5" x 3`}, {"2", `"7" x 4`}}},
		{"backslashes", `id,v` + "\n" + `1,"say \"no\""` + "\n", []string{"--escape", "backslash"}, [][]string{{"1", `say "no"`}}},
		{"old line ends", "id,v\r1,x\r2,y\r", nil, [][]string{{"1", "x"}, {"2", "y"}}},
		{"same headers", "v,v,v\n1,2,3\n", []string{"--key", "none"}, [][]string{{"1", "2", "3"}}},
		{"padded", "id | name   \n 1 | ann    \n 2 | bob    \n", nil, [][]string{{"1", "ann"}, {"2", "bob"}}},
		{"times", "id,at\n1,1:05 pm\n2,11:59 am\n", nil, [][]string{{"1", "13:05:00"}, {"2", "11:59:00"}}},
		{"zones", "id,at\n1,2024-05-01T12:00:00+02:00\n2,2024-05-01T12:00:00Z\n", nil, [][]string{{"1", "2024-05-01 10:00:00+00:00"}, {"2", "2024-05-01 12:00:00+00:00"}}},
	} {
		t.Run(tt.name, func(t *testing.T) {
			b := newBench(t)
			b.write("in.csv", tt.text)
			rec := b.loaded(0, append([]string{"in.csv", "--into", "sqlite:c.db", "--table", "t"}, tt.args...)...)
			assert.True(t, rec.Records.Balanced())
			var cols []string
			for _, c := range b.query("c.db", "SELECT name FROM pragma_table_info('t')") {
				cols = append(cols, c[0]+" || ''")
			}
			assert.Equal(t, tt.want, b.query("c.db", "SELECT "+strings.Join(cols, ", ")+" FROM t"))
		})
	}
}

// A byte that does not decode rejects its record, and nothing else.
func TestWrongBytes(t *testing.T) {
	b := newBench(t)
	b.write("utf8.csv", "id,name\n1,Señor\n2,K\xf6hler\n3,\"Œu\nvre\"\n4,x\x00y\n5,last\n")
	rec := b.loaded(3, "utf8.csv", "--into", "sqlite:c.db")
	assert.Equal(t, tray.Records{Read: 5, Loaded: 3, Rejected: 2}, rec.Records)
	rows := b.rejects(rec.Entry)
	assert.Equal(t, []string{"1", "utf8.csv", "3", "2", "name", "bad-encoding", "a byte is not utf-8: character 4, byte F6 of the record"}, rows[1][:7])
	assert.Equal(t, []string{"2", "utf8.csv", "6", "4", "name", "nul-byte", "contains a NUL byte"}, rows[2][:7])
	assert.Equal(t, [][]string{{"Señor"}, {"Œu\nvre"}, {"last"}}, b.query("c.db", "SELECT name FROM utf8 ORDER BY id"))

	text := "id,name\n1,Señor\n2,Köhler\n"
	for enc, e := range map[string]interface{ String(string) (string, error) }{
		"windows-1252": charmap.Windows1252.NewEncoder(), "iso-8859-15": charmap.ISO8859_15.NewEncoder(),
		"utf-16le": unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder(), "utf-16be": unicode.UTF16(unicode.BigEndian, unicode.IgnoreBOM).NewEncoder(),
	} {
		raw, err := e.String(text)
		require.NoError(t, err)
		b.write("x.csv", raw)
		db := enc + ".db"
		b.loaded(0, "x.csv", "--into", "sqlite:"+db, "--encoding", enc)
		assert.Equal(t, [][]string{{"1", "Señor"}, {"2", "Köhler"}}, b.query(db, "SELECT id || '', name FROM x"))
	}
}

// What a plan can say beyond what is found: defaults, order, descriptions,
// lists of patterns, a pivot, keys of two columns.
func TestPlanByHand(t *testing.T) {
	b := newBench(t)
	b.write("in.csv", "Gauge,Read,Level,Note,Old\nG1,31/12/29,1.5,,x\nG1,2029-12-30,,late,x\nG2,31/12/30,2.5,,x\n")
	b.write("p.yaml", `ambertray: 1
sources:
  - file: in.csv
    header: 1
table:
  name: readings
  key: [read_on, gauge]
  description: what the gauges say
columns:
  - name: read_on
    from: read
    type: date
    reading: {dates: [dd/MM/yy, yyyy-MM-dd], pivot: 1930}
  - name: gauge
    from: GAUGE
    type: varchar(4)
  - name: level
    from: Level
    type: decimal(5,3)
    default: "0.250"
    description: metres above the sill
  - name: note
    from: Note
    type: varchar(10)
    default: none
leave_out: [Old]
`)
	rec := b.loaded(0, "p.yaml", "--into", "sqlite:c.db")
	assert.Equal(t, [][]string{{"2029-12-31", "G1", "1.5", "none"}, {"2029-12-30", "G1", "0.25", "late"}, {"1930-12-31", "G2", "2.5", "none"}},
		b.query("c.db", "SELECT read_on || '', gauge, level || '', note FROM readings"))
	sql := b.read("tray/" + rec.Entry + "/table.sql")
	assert.Contains(t, sql, "DEFAULT 0.250")
	assert.Contains(t, sql, "PRIMARY KEY (read_on, gauge)")
	assert.Contains(t, sql, "-- metres above the sill")
	// The plan on the tray says the same.
	r := b.run(0, "look", "tray/"+rec.Entry+"/plan.yaml")
	assert.Contains(t, r.out, "would load    3")
	for _, d := range []string{"postgres", "mysql", "sqlserver", "oracle"} {
		assert.Contains(t, b.run(0, "ddl", "p.yaml", "--for", d).out, "PRIMARY KEY")
	}
	assert.Contains(t, b.run(2, "load", "p.yaml", "--into", "sqlite:d.db", "--key", "gauge").err, "the plan p.yaml already says this")
	// A plan may lie beside its file, and its file may be gone.
	require.NoError(t, os.Mkdir(filepath.Join(b.dir, "sub"), 0o777))
	require.NoError(t, os.Rename(filepath.Join(b.dir, "in.csv"), filepath.Join(b.dir, "sub", "in.csv")))
	assert.Contains(t, b.run(1, "look", "p.yaml").err, "no such file")
	require.NoError(t, os.Rename(filepath.Join(b.dir, "p.yaml"), filepath.Join(b.dir, "sub", "p.yaml")))
	b.run(0, "look", "sub/p.yaml")
}

// Hostile and odd files end in findings or errors, quickly and without a
// stack trace.
func TestOddFiles(t *testing.T) {
	b := newBench(t)
	for name, tt := range map[string]struct {
		text string
		code int
		says string
	}{
		"quotes only":     {strings.Repeat(`"`, 20001), 0, ""},
		"ragged":          {"a,b,c\n" + strings.Repeat("x\nx,x,x,x\nx,x\n", 300), 0, ""},
		"one long field":  {"a,b\n1," + strings.Repeat("x", 3<<20) + "\n2,y\n", 0, "text"},
		"many columns":    {strings.Repeat("c,", 20000) + "c\n" + strings.Repeat("1,", 20000) + "1\n", 0, "20,001 columns"},
		"long record":     {"a,b\n1,\"" + strings.Repeat("x\n", 1<<20) + "\n", 1, "line 2: a quote is opened here and not closed within 1 MiB"},
		"not known bytes": {"a,b\n1,\x81\x8d\n2,y\n", 0, "a guess"},
		"a single value":  {"x", 0, ""},
		"only a ruler":    {"-----\n=====\n", 1, "holds no records"},
	} {
		b.write("odd.csv", tt.text)
		args := []string{"look", "odd.csv", "--rows", "1"}
		if name == "long record" {
			args = append(args, "--max-record", "1")
		}
		cmd := b.command(args...)
		out, _ := cmd.CombinedOutput()
		code := cmd.ProcessState.ExitCode()
		assert.NotContains(t, string(out), "goroutine", name)
		if tt.code != 0 {
			assert.Equal(t, tt.code, code, "%s: %s", name, out)
		} else {
			assert.Contains(t, []int{0, 2}, code, "%s: %.300s", name, out)
		}
		assert.Contains(t, string(out), tt.says, name)
	}
}

func TestFiguresOfEveryKindOfRow(t *testing.T) {
	b := newBench(t)
	var text strings.Builder
	text.WriteString("Title\nid,v\n----,----\n")
	for i := range 5000 {
		fmt.Fprintf(&text, "%d,x%d\n", i, i%7)
		if i%1000 == 500 {
			text.WriteString("\n")
		}
		if i%1000 == 700 {
			text.WriteString("1,2,3\n")
		}
	}
	text.WriteString("(5000 rows)\n")
	b.write("in.csv", text.String())
	rec := b.loaded(3, "in.csv", "--into", "sqlite:c.db")
	assert.Equal(t, tray.Records{Read: 5000 + 5 + 5 + 1 + 1 + 1, Loaded: 5000, Rejected: 5, Skipped: 8}, rec.Records)
	assert.Equal(t, []tray.Skip{{Kind: "title", Count: 1, First: []string{"Title"}}, {Kind: "ruler", Count: 1}, {Kind: "blank", Count: 5}, {Kind: "footer", Count: 1, First: []string{"(5000 rows)"}}}, rec.Skipped)
}

// Times without a zone go into columns with one, and as they are into columns without.
func TestAssumeZone(t *testing.T) {
	onServers(t, func(t *testing.T, b *bench, s server) {
		b.write("a.csv", "id,at\n1,2025-07-01 12:00:00\n2,2025-10-26 01:30:00\n3,2025-01-15 12:00:00\n")
		rec := b.loaded(3, "a.csv", "--into", s.url, "--table", "made", "--assume-zone", "Europe/London", "--max-rejects", "none")
		assert.EqualValues(t, 1, rec.Records.Rejected)
		assert.EqualValues(t, "two-moments", rec.Reasons[0].Code)
		assert.Contains(t, rec.Columns[1].Smallest, "2025-01-15 12:00:00")
		assert.Contains(t, rec.Columns[1].Largest, "2025-07-01 11:00:00")
		assert.Contains(t, b.run(3, "verify", rec.Entry, "--deep").out, "every value of 2 records")
		if s.name == "postgres" {
			s.exec(t, "CREATE TABLE zoned (id int, at timestamptz)", "CREATE TABLE plain (id int, at timestamp)")
			b.run(3, "load", "a.csv", "--into", s.url, "--table", "zoned", "--mode", "append", "--assume-zone", "Europe/London", "--tolerate", "40%", "--max-rejects", "none")
			assert.Equal(t, [][]string{{"true"}}, queryRows(t, s.db, "SELECT (max(at) = '2025-07-01 11:00:00+00')::text FROM zoned"))
			b.run(0, "load", "a.csv", "--into", s.url, "--table", "plain", "--mode", "append", "--assume-zone", "Europe/London")
			assert.Equal(t, [][]string{{"3"}}, queryRows(t, s.db, "SELECT count(*) FROM plain"))
		}
	})
	b := newBench(t)
	b.write("a.csv", "id,at\n1,2025-07-01 12:00:00\n")
	b.run(0, "plan", "a.csv", "--assume-zone", "Europe/London", "-o", "a.yaml")
	assert.Contains(t, b.read("a.yaml"), "zone: Europe/London")
	assert.Contains(t, b.try("plan", "a.csv", "--assume-zone", "Europe/Londn").err, "IANA")
	assert.Contains(t, b.run(2, "script", "a.yaml", "--for", "postgres", "--from-file", "/x").err, "without a zone")
}
