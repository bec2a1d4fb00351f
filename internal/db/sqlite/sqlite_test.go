package sqlite

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/reading"
	"ambertray/internal/sink"
	"ambertray/internal/sqltype"
)

func typ(t testing.TB, s string) sqltype.Type {
	x, err := sqltype.Parse(s)
	require.NoError(t, err)
	return x
}

func open(t *testing.T) (*DB, string) {
	path := filepath.Join(t.TempDir(), "canal.db")
	d, err := Open(context.Background(), path)
	require.NoError(t, err)
	t.Cleanup(func() { d.Close() })
	return d, path
}

func table(t *testing.T, name string, types ...string) dialect.Table {
	x := dialect.Table{Name: name}
	for i, s := range types {
		x.Columns = append(x.Columns, dialect.Column{Name: string(rune('a' + i)), Type: typ(t, s)})
	}
	return x
}

// write encodes rows of texts and sends them.
func write(t *testing.T, l db.Load, x dialect.Table, texts ...[]string) []sink.Refusal {
	var data []byte
	enc := l.Encoder()
	row := make([]reading.Value, len(x.Columns))
	for _, r := range texts {
		for i, s := range r {
			rd := reading.Reader{Type: x.Columns[i].Type, NullWords: []string{"<null>"}, KeepBlank: true}
			require.NoError(t, rd.Prepare())
			require.Equal(t, reading.OK, rd.Read([]byte(s), false, &row[i]), s)
		}
		data = enc.Append(data, row)
	}
	refused, err := l.Write(context.Background(), sink.Batch{Rows: len(texts), Data: data})
	require.NoError(t, err)
	return refused
}

// Every value is read back as it was, whatever SQLite makes of it inside.
func TestStoredValues(t *testing.T) {
	d, _ := open(t)
	ctx := context.Background()
	types := []string{"boolean", "smallint", "bigint", "decimal(15,2)", "decimal(16,2)", "decimal(38,20)", "double precision", "date", "time(6)", "timestamp(6)", "timestamp(0) with time zone", "uuid", "char(4)", "text", "decimal(5,0)"}
	x := table(t, "v", types...)
	l, err := d.Begin(ctx, db.Spec{Table: x})
	require.NoError(t, err)
	rows := [][]string{
		{"true", "-32768", "9223372036854775807", "9999999999999.99", "12345678901234.56", "123456789012345678.12345678901234567890", "1e-300", "0001-01-01", "23:59:59.999999", "9999-12-31 23:59:59.000001", "2024-01-01 00:00:00+05:30", "6f9619ff-8b86-d011-b42d-00cf4fc964ff", "0012", "12.50", "99999"},
		{"false", "0", "-9223372036854775808", "-0.01", "-0.10", "-0.00000000000000000001", "-3", "9999-12-31", "00:00:00", "0001-01-01 00:00:00", "1969-12-31 23:59:59Z", "00000000-0000-0000-0000-000000000000", "1e5", "1e400", "0"},
		{"<null>", "<null>", "<null>", "<null>", "<null>", "<null>", "<null>", "<null>", "<null>", "<null>", "<null>", "<null>", "<null>", "<null>", "<null>"},
	}
	require.Empty(t, write(t, l, x, rows...))
	n, cols, err := l.Tally(ctx)
	require.NoError(t, err)
	assert.EqualValues(t, 3, n)
	for i, c := range cols {
		assert.EqualValues(t, 1, c.Nulls, types[i])
	}
	assert.Equal(t, "9999999999999.98", cols[3].Sum())
	assert.Equal(t, "12345678901234.46", cols[4].Sum())
	assert.Equal(t, "123456789012345678.12345678901234567889", cols[5].Sum())
	assert.Equal(t, "2023-12-31 18:30:00+00:00", cols[10].Largest())
	assert.Equal(t, "0001-01-01", cols[7].Smallest())
	require.NoError(t, l.Commit(ctx))
	got, err := d.Head(ctx, "", "v", 5)
	require.NoError(t, err)
	assert.Equal(t, "1e400", *got[1][13], "text that looks like a number stays text")
	assert.Equal(t, "0012", *got[0][12])
	assert.Nil(t, got[2][0])
}

// A value that somebody else's hand changed in the table is seen.
func TestTallySeesWhatIsStored(t *testing.T) {
	d, _ := open(t)
	ctx := context.Background()
	x := table(t, "v", "integer", "date")
	for sql, says := range map[string]string{
		"UPDATE v SET a = 'six' WHERE a = 2":        "column a reads back as something else",
		"UPDATE v SET b = '2024-02-30' WHERE a = 2": "no such date",
		"UPDATE v SET b = 20240101 WHERE a = 2":     "storage class",
		"DELETE FROM v WHERE a = 1":                 "",
		"UPDATE v SET a = 7 WHERE a = 2":            "",
	} {
		l, err := d.Begin(ctx, db.Spec{Table: x})
		require.NoError(t, err)
		write(t, l, x, []string{"1", "2024-01-31"}, []string{"2", "2024-02-01"})
		require.NoError(t, d.c.exec(sql))
		n, cols, err := l.Tally(ctx)
		if says != "" {
			assert.ErrorContains(t, err, says, sql)
		} else {
			require.NoError(t, err)
			assert.NotEqual(t, "2 3", strings.TrimSpace(string(rune('0'+n))+" "+cols[0].Sum()), sql)
		}
		require.NoError(t, l.Rollback())
		found, err := d.Find(ctx, "", "v")
		require.NoError(t, err)
		assert.Nil(t, found)
	}
}

func TestRefusalsNameTheColumn(t *testing.T) {
	d, _ := open(t)
	ctx := context.Background()
	require.NoError(t, d.c.exec(`CREATE TABLE "my t" (a INTEGER PRIMARY KEY, b TEXT NOT NULL UNIQUE, c INT CHECK (c > 0))`))
	x := table(t, "my t", "bigint", "text", "bigint")
	l, err := d.Begin(ctx, db.Spec{Mode: db.Append, Table: x})
	require.NoError(t, err)
	refused := write(t, l, x, []string{"1", "x", "1"}, []string{"1", "y", "1"}, []string{"2", "x", "1"}, []string{"3", "<null>", "1"}, []string{"4", "z", "0"}, []string{"5", "w", "1"})
	var got []string
	for _, r := range refused {
		got = append(got, string(rune('0'+r.Row))+r.Column)
	}
	assert.Equal(t, []string{"1a", "2b", "3b", "4"}, got)
	assert.Contains(t, refused[3].Message, "CHECK constraint failed")
	n, _, err := l.Tally(ctx)
	require.NoError(t, err)
	assert.EqualValues(t, 2, n)
	require.NoError(t, l.Commit(ctx))
}

func TestFullDisk(t *testing.T) {
	d, path := open(t)
	ctx := context.Background()
	require.NoError(t, d.c.exec("PRAGMA max_page_count = 20"))
	x := table(t, "v", "text")
	l, err := d.Begin(ctx, db.Spec{Table: x})
	require.NoError(t, err)
	var data []byte
	for range 500 {
		data = l.Encoder().Append(data, []reading.Value{{Text: []byte(strings.Repeat("x", 1000))}})
	}
	_, err = l.Write(ctx, sink.Batch{Rows: 500, Data: data})
	assert.ErrorContains(t, err, "the disk is full; make room and load again")
	require.NoError(t, l.Rollback())
	require.NoError(t, d.Close())
	_, err = os.Stat(path)
	assert.ErrorIs(t, err, os.ErrNotExist, "a file that holds nothing is not left")
}

func TestLockedByAnother(t *testing.T) {
	d, path := open(t)
	ctx := context.Background()
	require.NoError(t, d.c.exec("CREATE TABLE x (a)"))
	other, err := Open(ctx, path)
	require.NoError(t, err)
	defer other.Close()
	require.NoError(t, d.c.exec("BEGIN IMMEDIATE"))
	require.NoError(t, other.c.exec("PRAGMA busy_timeout = 50"))
	_, err = other.Begin(ctx, db.Spec{Table: table(t, "v", "text")})
	assert.ErrorContains(t, err, "another program has the file open")
	require.NoError(t, d.c.exec("ROLLBACK"))
}

func TestStandardTypes(t *testing.T) {
	for in, want := range map[string]string{
		"INTEGER": "bigint", "INT": "bigint", "TINYINT": "bigint", "VARCHAR(20)": "varchar(20)", "NVARCHAR(20)": "text", "TEXT": "text", "CLOB": "text",
		"REAL": "double precision", "DOUBLE PRECISION": "double precision", "DECIMAL(8,2)": "decimal(8,2)", "DECIMAL(20,2)": "none", "DATE": "date",
		"DATETIME": "timestamp(6)", "TIMESTAMP": "timestamp(6)", "BOOLEAN": "boolean", "": "text", "BLOB": "text", "NUMERIC": "text",
	} {
		c := db.Column{Type: in}
		standardType(&c)
		got := c.SQL
		if got.Kind == sqltype.None {
			got = sqltype.Type{}
		}
		assert.Equal(t, want, strings.Split(got.String(), "(20,2")[0], in)
	}
}

func TestLikeAndListing(t *testing.T) {
	d, _ := open(t)
	ctx := context.Background()
	require.NoError(t, d.c.exec(`CREATE TABLE "odd (name" (a INTEGER PRIMARY KEY, b TEXT DEFAULT 'x' CHECK (b <> '('), c INT GENERATED ALWAYS AS (a * 2) STORED)`))
	require.NoError(t, d.c.exec("CREATE VIEW look AS SELECT 1 AS one"))
	l, err := d.Begin(ctx, db.Spec{Table: table(t, "copy", "bigint", "text"), Like: &db.Name{Table: "odd (name"}})
	require.NoError(t, err)
	require.NoError(t, l.Commit(ctx))
	list, err := d.List(ctx)
	require.NoError(t, err)
	var names []string
	for _, x := range list {
		names = append(names, x.Kind+" "+x.Name)
	}
	assert.Equal(t, []string{"table copy", "view look", "table odd (name"}, names)
	found, err := d.Find(ctx, "", "copy")
	require.NoError(t, err)
	assert.True(t, found.Columns[0].Default && found.Columns[1].Default && found.Columns[2].Generated)
	_, err = d.Begin(ctx, db.Spec{Table: table(t, "more", "bigint"), Like: &db.Name{Table: "none"}})
	assert.ErrorContains(t, err, "has no table none")
}

// The index of a merge on its key tells whether a key stands twice; where it cannot, because one does or is null,
// the merge looks for itself. Texts are the same as the table takes them for.
func TestReadyTellsKeysApart(t *testing.T) {
	ctx := context.Background()
	for name, tt := range map[string]struct {
		key   []string
		rows  string
		apart bool
		twice bool
	}{
		"all different":                {[]string{"id"}, "(1, 'a'), (2, 'a')", true, false},
		"none":                         {[]string{"id"}, "", true, false},
		"one twice":                    {[]string{"id"}, "(1, 'a'), (2, 'b'), (1, 'c')", false, true},
		"a null":                       {[]string{"id"}, "(1, 'a'), (NULL, 'b')", false, false},
		"two nulls":                    {[]string{"id"}, "(NULL, 'a'), (NULL, 'b')", false, true},
		"two columns":                  {[]string{"id", "code"}, "(1, 'a'), (1, 'b'), (2, 'a')", true, false},
		"two columns, a null":          {[]string{"id", "code"}, "(1, 'a'), (1, NULL)", false, false},
		"two columns, twice":           {[]string{"id", "code"}, "(1, 'a'), (1, 'A')", false, true},
		"the same but for the case":    {[]string{"code"}, "(1, 'Withy'), (2, 'WITHY')", false, true},
		"another but for case of an é": {[]string{"code"}, "(1, 'é'), (2, 'É')", true, false},
	} {
		t.Run(name, func(t *testing.T) {
			d, _ := open(t)
			require.NoError(t, d.c.exec("CREATE TABLE gates (id INTEGER, code TEXT COLLATE NOCASE)"))
			table, err := d.Find(ctx, "", "gates")
			require.NoError(t, err)
			m := &dialect.Merge{Dialect: Dialect, Table: "gates", Key: tt.key, All: []string{"id", "code"}}
			for _, c := range table.Columns {
				m.Columns = append(m.Columns, dialect.Column{Name: c.Name, Type: c.SQL})
			}
			_, err = d.Stage(ctx, table, m)
			require.NoError(t, err)
			if tt.rows != "" {
				require.NoError(t, d.c.exec("INSERT INTO "+m.Stage+" VALUES "+tt.rows))
			}
			require.NoError(t, d.Ready(ctx, m))
			assert.Equal(t, tt.apart, m.Apart)
			found, err := d.questions().Rows(ctx, "cannot look", m.Twice())
			require.NoError(t, err)
			assert.Equal(t, tt.twice, len(found) > 0)
			// The index is there in any case.
			n, err := d.questions().Number(ctx, "cannot look", "SELECT count(*) FROM temp.sqlite_schema WHERE type = 'index'")
			require.NoError(t, err)
			assert.EqualValues(t, 1, n)
		})
	}
}
