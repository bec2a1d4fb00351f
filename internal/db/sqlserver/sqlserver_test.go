package sqlserver_test

import (
	"context"
	"database/sql"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/db"
	"ambertray/internal/db/connect"
	"ambertray/internal/db/dialect"
	"ambertray/internal/reading"
	"ambertray/internal/sink"
	"ambertray/internal/sqltype"
	"ambertray/internal/standin/engine"
	"ambertray/internal/standin/sqlserver"
	"ambertray/internal/tally"
	"ambertray/internal/testdb"
)

var ctx = context.Background()

func typ(s string) sqltype.Type {
	t, err := sqltype.Parse(s)
	if err != nil {
		panic(err)
	}
	return t
}

// a bench is a database with a connection of the program's and one of the driver's.
type bench struct {
	*testing.T
	url  string
	c    db.Session
	side *sql.DB
}

func newBench(t *testing.T) *bench {
	u, side := testdb.SQLServer(t)
	return &bench{t, u, open(t, u), side}
}

func open(t *testing.T, u string) db.Session {
	t.Helper()
	c, err := connect.Open(ctx, u, connect.Options{})
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	return c
}

func (b *bench) exec(statements ...string) {
	b.Helper()
	for _, s := range statements {
		_, err := b.side.Exec(s)
		require.NoError(b, err, s)
	}
}

// texts are the rows of a query, each as text with bars between.
func (b *bench) texts(query string) (out []string) {
	b.Helper()
	rows, err := b.side.Query(query)
	require.NoError(b, err, query)
	defer rows.Close()
	names, err := rows.Columns()
	require.NoError(b, err)
	for rows.Next() {
		vals, at := make([]sql.NullString, len(names)), make([]any, len(names))
		for i := range vals {
			at[i] = &vals[i]
		}
		require.NoError(b, rows.Scan(at...))
		var row []string
		for _, v := range vals {
			if row = append(row, v.String); !v.Valid {
				row[len(row)-1] = "NULL"
			}
		}
		out = append(out, strings.Join(row, "|"))
	}
	require.NoError(b, rows.Err())
	return out
}

// table is the definition of the columns of a table that exists, as they are read.
func (b *bench) table(name string, columns ...string) dialect.Table {
	b.Helper()
	found, err := b.c.Find(ctx, "", name)
	require.NoError(b, err)
	require.NotNil(b, found)
	t := dialect.Table{Name: name}
	for _, c := range found.Columns {
		if len(columns) == 0 || strings.Contains("|"+strings.Join(columns, "|")+"|", "|"+c.Name+"|") {
			t.Columns = append(t.Columns, dialect.Column{Name: c.Name, Type: c.SQL})
		}
	}
	return t
}

// encoded is rows of text in plain form, "" a null, as a load takes them, with their tallies.
func (b *bench) encoded(l db.Load, t dialect.Table, rows ...[]string) (sink.Batch, []tally.Tally) {
	b.Helper()
	batch, sums := sink.Batch{Rows: len(rows)}, make([]tally.Tally, len(t.Columns))
	values := make([]reading.Value, len(t.Columns))
	e := l.Encoder()
	for _, r := range rows {
		for i, c := range t.Columns {
			sums[i].Type = c.Type
			if values[i] = (reading.Value{Null: r[i] == ""}); r[i] != "" {
				require.Equal(b, reading.OK, reading.Plain(c.Type).Read([]byte(r[i]), true, &values[i]), "%s: %s", c.Name, r[i])
			}
			sums[i].Add(&values[i])
		}
		batch.Data = e.Append(batch.Data, values)
	}
	return batch, sums
}

// load appends rows, and gives the numbers and messages of those that are refused.
func (b *bench) load(spec db.Spec, rows ...[]string) (refused []string) {
	b.Helper()
	l, err := b.c.Begin(ctx, spec)
	require.NoError(b, err)
	batch, _ := b.encoded(l, spec.Table, rows...)
	list, err := l.Write(ctx, batch)
	require.NoError(b, err)
	late, err := l.(db.Finisher).Finish(ctx)
	require.NoError(b, err)
	for _, r := range append(list, late...) {
		refused = append(refused, fmt.Sprintf("%d %s: %s", r.Row, r.Column, r.Message))
	}
	require.NoError(b, l.Commit(ctx))
	l.(db.Marked).Unmark(ctx)
	return refused
}

// Values of every type that a table may have go in and come back equal; what the server
// would round or change is refused with its reason, and before a row is sent.
func TestTypesOfOthersTables(t *testing.T) {
	for _, x := range []struct {
		typ     string
		read    string // what values are read as
		fit     []string
		refused map[string]string
	}{
		{"bit", "boolean", []string{"true", "false"}, nil},
		{"tinyint", "smallint", []string{"0", "255"}, nil},
		{"smallint", "smallint", []string{"-32768", "32767"}, nil},
		{"int", "integer", []string{"-2147483648", "2147483647"}, nil},
		{"bigint", "bigint", []string{"-9223372036854775808", "9223372036854775807"}, nil},
		{"decimal(38,10)", "decimal(38,10)", []string{"-9999999999999999999999999999.9999999999", "0.0000000001"}, nil},
		{"decimal(5,5)", "decimal(5,5)", []string{"-0.99999", "0.00001"}, nil},
		{"numeric(28,0)", "decimal(28,0)", []string{"9999999999999999999999999999"}, nil},
		{"money", "decimal(19,4)", []string{"-922337203685477.5808", "0.0001"}, nil},
		{"smallmoney", "decimal(10,4)", []string{"-214748.3648", "214748.3647"}, map[string]string{"300000.0000": "Arithmetic overflow"}},
		{"real", "double precision", []string{"0.1", "-3.25", "1.6777216e+07"}, map[string]string{"1e300": "larger than real holds"}},
		{"float", "double precision", []string{"0.1", "-1e+300", "5e-324"}, nil},
		{"date", "date", []string{"0001-01-01", "9999-12-31"}, nil},
		{"time(0)", "time(0)", []string{"00:00:00", "23:59:59"}, nil},
		{"time(7)", "time(6)", []string{"00:00:00.000001", "23:59:59.999999"}, nil},
		{"datetime2(3)", "timestamp(3)", []string{"0001-01-01 00:00:00.001", "9999-12-31 23:59:59.999"}, nil},
		{"datetime2(7)", "timestamp(6)", []string{"1969-12-31 23:59:59.999999"}, nil},
		{"datetime", "timestamp(3)", []string{"1753-01-01 00:00:00.000", "9999-12-31 23:59:59.990"},
			map[string]string{"1752-12-31 00:00:00.000": "earlier than datetime begins (1753)", "2024-01-01 00:00:00.005": "a fraction of a second that datetime rounds"}},
		{"smalldatetime", "timestamp(0)", []string{"1900-01-01 00:00:00", "2079-06-06 23:59:00"},
			map[string]string{"2024-01-01 00:00:30": "seconds, which smalldatetime rounds", "1899-12-31 00:00:00": "begins (1900)", "2079-06-07 00:00:00": "larger than smalldatetime holds"}},
		{"datetimeoffset(3)", "timestamp(3) with time zone", []string{"2024-02-29 10:11:12.125+00:00"}, nil},
		{"uniqueidentifier", "uuid", []string{"6f9619ff-8b86-d011-b42d-00c04fc964ff"}, nil},
		{"char(6)", "char(6)", []string{"ab", "étang!"}, map[string]string{"ψ": "code page (1252)"}},
		{"nchar(6)", "char(6)", []string{"日本", "ψ"}, map[string]string{"😀😀😀😀": "longer than nvarchar(6)"}},
		{"varchar(6)", "varchar(6)", []string{" a ", "é"}, map[string]string{"日本": "a letter that the column's code page (1252) does not have"}},
		{"varchar(6) COLLATE Polish_100_CI_AS", "varchar(6)", []string{"łódź"}, map[string]string{"é日": "code page (1250)"}},
		{"varchar(6) COLLATE Latin1_General_100_CI_AS_SC_UTF8", "varchar(6)", []string{"日本", "é"}, map[string]string{"日本語": "would be truncated"}},
		{"varchar(6) COLLATE Japanese_CI_AS", "varchar(6)", []string{"日本語"}, map[string]string{"😀": "code page (932)"}},
		{"nvarchar(6)", "varchar(6)", []string{"日本", " ", "😀😀😀"}, map[string]string{"😀😀😀😀": "longer than nvarchar(6)"}},
		{"varchar(max)", "text", []string{strings.Repeat("sluice ", 3000)}, nil},
		{"nvarchar(max)", "text", []string{strings.Repeat("日本😀", 3000)}, nil},
		{"text", "text", []string{"étang"}, nil},
		{"ntext", "text", []string{"日本😀"}, nil},
	} {
		t.Run(x.typ, func(t *testing.T) {
			b := newBench(t)
			b.exec("CREATE TABLE odd (id int NOT NULL PRIMARY KEY, v "+x.typ+" NULL)", "INSERT INTO odd (id) VALUES (-1)")
			table := b.table("odd")
			require.Equal(t, typ(x.read), table.Columns[1].Type)
			l, err := b.c.Begin(ctx, db.Spec{Mode: db.Refill, Table: table})
			require.NoError(t, err)
			rows := [][]string{{"0", ""}}
			for i, v := range x.fit {
				rows = append(rows, []string{fmt.Sprint(i + 1), v})
			}
			good, sums := b.encoded(l, table, rows...)
			refused, err := l.Write(ctx, good)
			require.NoError(t, err)
			require.Empty(t, refused)
			for v, why := range x.refused {
				bad, _ := b.encoded(l, table, []string{"99", v})
				refused, err := l.Write(ctx, bad)
				require.NoError(t, err)
				require.Len(t, refused, 1, v)
				assert.Contains(t, refused[0].Message, why)
			}
			n, held, err := l.Tally(ctx)
			require.NoError(t, err)
			assert.EqualValues(t, len(rows), n)
			for i := range held {
				assert.Empty(t, sums[i].Differs(&held[i]), table.Columns[i].Name)
			}
			require.NoError(t, l.Commit(ctx))
			var back []string
			cols := []db.Column{{SQL: table.Columns[0].Type}, {SQL: table.Columns[1].Type}}
			query := "SELECT TOP (100) id, v FROM odd WHERE id > 0 ORDER BY id"
			require.NoError(t, b.c.Scan(ctx, query, cols, func(f [][]byte) error {
				back = append(back, string(f[1]))
				return nil
			}))
			assert.Equal(t, x.fit, back)
			head, err := b.c.(db.Lister).Head(ctx, "", "odd", 100)
			require.NoError(t, err)
			assert.Len(t, head, len(rows))
		})
	}
}

// Text of UTF-8 collations comes back whole beside columns of other types, whatever these are
// called: what is read as something else is chosen by the collation alone.
func TestScanByCollation(t *testing.T) {
	b := newBench(t)
	b.exec("CREATE TABLE odd (day_utf8 date, [Latin1_General_100_CI_AS_SC_UTF8] varbinary(4), "+
		"name varchar(20) COLLATE Latin1_General_100_CI_AS_SC_UTF8)", "INSERT INTO odd VALUES ('2024-02-29', 0x00ff, N'日本')")
	query := "SELECT * FROM odd"
	columns, err := b.c.Describe(ctx, query)
	require.NoError(t, err)
	require.Len(t, columns, 3)
	var row []string
	require.NoError(t, b.c.Scan(ctx, query, columns, func(f [][]byte) error {
		for _, v := range f {
			row = append(row, string(v))
		}
		return nil
	}))
	assert.Equal(t, []string{"2024-02-29", "0x00ff", "日本"}, row)
}

// What cannot be loaded is said, and what the server fills by itself is left to it.
func TestColumnsThatAreLeftAlone(t *testing.T) {
	b := newBench(t)
	b.exec("CREATE TABLE odd (id int IDENTITY(5,1) PRIMARY KEY, v int NOT NULL DEFAULT 7, twice AS (v * 2), stamp rowversion, raw varbinary(10), " +
		"place hierarchyid, shape geography, any_kind sql_variant, doc xml, pic image)")
	found, err := b.c.Find(ctx, "", "odd")
	require.NoError(t, err)
	by := map[string]db.Column{}
	for _, c := range found.Columns {
		by[c.Name] = c
	}
	assert.True(t, by["id"].Identity && by["id"].Key == 1)
	assert.True(t, by["v"].Default && by["v"].Required)
	assert.True(t, by["twice"].Generated)
	assert.True(t, by["stamp"].Generated)
	for _, c := range []string{"stamp", "raw", "place", "shape", "any_kind", "pic"} {
		assert.NotEmpty(t, by[c].Unfit, c)
	}
	assert.Empty(t, by["doc"].Unfit)
	assert.Equal(t, "rowversion", by["stamp"].Type)
	assert.Empty(t, b.load(db.Spec{Mode: db.Append, Table: b.table("odd", "v")}, []string{"1"}, []string{"2"}))
	assert.Equal(t, []string{"5|1|2", "6|2|4"}, b.texts("SELECT id, v, twice FROM odd ORDER BY id"))
}

// A table with triggers is loaded from a stage: what a trigger throws ends the transaction,
// and the load goes on without these rows.
func TestTriggersThatEndTheTransaction(t *testing.T) {
	b := newBench(t)
	b.exec("CREATE TABLE passages (id int PRIMARY KEY, toll decimal(8,2) NULL CHECK (toll < 1000), n int IDENTITY)",
		"CREATE TABLE seen (id int)",
		"CREATE TRIGGER watch ON passages AFTER INSERT AS INSERT seen SELECT id FROM inserted; "+
			"IF EXISTS (SELECT 1 FROM inserted WHERE toll < 0) THROW 50001, 'a toll below zero', 1",
		"INSERT passages (id) VALUES (7)")
	var rows [][]string
	for i := range 300 {
		toll := fmt.Sprintf("%d.00", i)
		switch i {
		case 13, 14, 200:
			toll = "-1.00"
		case 150:
			toll = "5000.00"
		}
		rows = append(rows, []string{fmt.Sprint(i), toll})
	}
	refused := b.load(db.Spec{Mode: db.Append, Table: b.table("passages", "id", "toll")}, rows...)
	require.Len(t, refused, 5)
	assert.Contains(t, refused[0], "7 : Violation of PRIMARY KEY")
	assert.Contains(t, refused[1], "13 : a toll below zero (error 50001)")
	assert.Contains(t, refused[2], "14 : a toll below zero")
	assert.Contains(t, refused[3], "150 toll: The INSERT statement conflicted with the CHECK constraint")
	assert.Contains(t, refused[4], "200 : a toll below zero")
	assert.Equal(t, []string{"296|0"}, b.texts("SELECT COUNT(*), SUM(CASE WHEN toll < 0 THEN 1 ELSE 0 END) FROM passages"))
	assert.Equal(t, []string{"296"}, b.texts("SELECT COUNT(*) FROM seen"), "what triggers did for others is undone")
	assert.Empty(t, b.texts("SELECT name FROM sys.tables WHERE name LIKE 'ambertray%'"))

	// A trigger that rolls back, and one that goes on.
	b.exec("CREATE TRIGGER stop_it ON passages AFTER INSERT AS IF EXISTS (SELECT 1 FROM inserted WHERE id = 1001) ROLLBACK TRANSACTION")
	refused = b.load(db.Spec{Mode: db.Append, Table: b.table("passages", "id", "toll")}, []string{"1000", ""}, []string{"1001", ""}, []string{"1002", ""})
	require.Len(t, refused, 1)
	assert.Contains(t, refused[0], "1 : The transaction ended in the trigger")
	assert.Equal(t, []string{"1000", "1002"}, b.texts("SELECT id FROM passages WHERE id >= 1000 ORDER BY id"))

	// What the load changes of the table is changed again in the new transaction.
	b.exec("ALTER TABLE passages ADD note varchar(3) NULL")
	table := b.table("passages", "id", "note")
	table.Columns[1].Type = typ("varchar(9)")
	refused = b.load(db.Spec{Mode: db.Append, Table: table, Alter: []string{"ALTER TABLE passages ALTER COLUMN note varchar(9) NULL"}},
		[]string{"1001", ""}, []string{"2000", "longer"})
	require.Len(t, refused, 1)
	assert.Equal(t, []string{"2000|longer"}, b.texts("SELECT id, note FROM passages WHERE id >= 2000"))
}

// So is one whose check or computed column converts: what cannot be converted ends the
// transaction, too.
func TestConversionsThatEndTheTransaction(t *testing.T) {
	b := newBench(t)
	b.exec("CREATE TABLE codes (id int PRIMARY KEY, code varchar(5), n AS (CAST(code AS int)) PERSISTED, CHECK (CAST(code AS int) < 100))")
	refused := b.load(db.Spec{Mode: db.Append, Table: b.table("codes", "id", "code")}, []string{"1", "7"}, []string{"2", "x7"}, []string{"3", "100"},
		[]string{"4", "8"}, []string{"5", "y"})
	require.Len(t, refused, 3)
	assert.Contains(t, refused[0], "1 : Conversion failed when converting the varchar value 'x7'")
	assert.Contains(t, refused[1], "2 : The INSERT statement conflicted with the CHECK constraint")
	assert.Contains(t, refused[2], "4 : Conversion failed")
	assert.Equal(t, []string{"1|7|7", "4|8|8"}, b.texts("SELECT id, code, n FROM codes ORDER BY id"))
}

// Many rows that are refused take few exchanges each, whatever their pattern.
func TestManyRefusals(t *testing.T) {
	b := newBench(t)
	b.exec("CREATE TABLE codes (id int PRIMARY KEY)", "INSERT codes VALUES (0)")
	var rows [][]string
	for i := 1; i <= 3000; i++ {
		id := i
		if i%10 == 0 {
			id = 0
		}
		rows = append(rows, []string{fmt.Sprint(id)})
	}
	assert.Len(t, b.load(db.Spec{Mode: db.Append, Table: b.table("codes")}, rows...), 300)
	assert.Equal(t, []string{"2701"}, b.texts("SELECT COUNT(*) FROM codes"))
}

// Constraints of a table that exists hold, and are trusted afterwards.
func TestConstraintsStayTrusted(t *testing.T) {
	b := newBench(t)
	b.exec("CREATE TABLE locks (code int PRIMARY KEY)", "INSERT locks VALUES (1), (2)",
		"CREATE TABLE passes (id int PRIMARY KEY, code int CONSTRAINT to_lock REFERENCES locks (code) ON DELETE CASCADE, n int CONSTRAINT few CHECK (n < 100))")
	refused := b.load(db.Spec{Mode: db.Append, Table: b.table("passes")}, []string{"1", "1", "5"}, []string{"2", "9", "5"}, []string{"3", "2", "100"}, []string{"4", "", ""})
	require.Len(t, refused, 2)
	assert.Contains(t, refused[0], "FOREIGN KEY constraint \"to_lock\"")
	assert.Contains(t, refused[1], "CHECK constraint \"few\"")
	trusted := "SELECT is_not_trusted, is_disabled FROM sys.foreign_keys UNION ALL SELECT is_not_trusted, is_disabled FROM sys.check_constraints"
	assert.Equal(t, []string{"false|false", "false|false"}, b.texts(trusted))

	// A refill of what others refer to: no rule of theirs acts, and a key that is missing is found.
	found, err := b.c.Find(ctx, "", "locks")
	require.NoError(t, err)
	around, err := b.c.(db.Surveyor).Around(ctx, found)
	require.NoError(t, err)
	require.Len(t, around.Referrers, 1)
	assert.Equal(t, "dbo.passes (code) ON DELETE CASCADE", around.Referrers[0].String())
	for _, whole := range []bool{false, true} {
		l, err := b.c.Begin(ctx, db.Spec{Mode: db.Refill, Table: b.table("locks"), Referrers: around.Referrers})
		require.NoError(t, err)
		rows := [][]string{{"2"}, {"3"}}
		if whole {
			rows = append(rows, []string{"1"})
		}
		batch, _ := b.encoded(l, b.table("locks"), rows...)
		_, err = l.Write(ctx, batch)
		require.NoError(t, err)
		err = l.(db.Keeper).KeepsKeys(ctx)
		var orphan *db.Orphan
		if whole {
			require.NoError(t, err)
			require.NoError(t, l.Commit(ctx))
		} else {
			require.ErrorAs(t, err, &orphan)
			assert.Equal(t, "1", orphan.Key)
			require.NoError(t, l.Rollback())
		}
		assert.Equal(t, []string{"1|1", "4|NULL"}, b.texts("SELECT id, code FROM passes ORDER BY id"), "as they were")
		assert.Equal(t, []string{"false|false", "false|false"}, b.texts(trusted))
	}
	assert.Equal(t, []string{"1", "2", "3"}, b.texts("SELECT code FROM locks ORDER BY code"))
}

// Capitals and blanks at the end do not make another key, as the server's collation has it.
func TestKeysOfTheCollation(t *testing.T) {
	b := newBench(t)
	b.exec("CREATE TABLE codes (code nvarchar(10) PRIMARY KEY, n int)")
	refused := b.load(db.Spec{Mode: db.Append, Table: b.table("codes")}, []string{"kn-1", "1"}, []string{"KN-1", "2"}, []string{"kn-1 ", "3"}, []string{"kn-2", "4"})
	require.Len(t, refused, 2)
	assert.Equal(t, []string{"kn-1|1", "kn-2|4"}, b.texts("SELECT code, n FROM codes ORDER BY code"))
}

// What the server numbers goes on above the largest value.
func TestNumbersGoOn(t *testing.T) {
	b := newBench(t)
	b.exec("CREATE SEQUENCE numbers AS bigint START WITH 1", "CREATE TABLE boats (id int IDENTITY PRIMARY KEY, no bigint DEFAULT (NEXT VALUE FOR numbers), name varchar(9))")
	assert.Empty(t, b.load(db.Spec{Mode: db.Append, Table: b.table("boats")}, []string{"17", "40", "Wren"}))
	b.exec("INSERT boats (name) VALUES ('Otter')")
	assert.Equal(t, []string{"17|40|Wren", "18|41|Otter"}, b.texts("SELECT id, no, name FROM boats ORDER BY id"))
	b.exec("DELETE boats", "DBCC CHECKIDENT ('boats', RESEED, 100)")
	assert.Empty(t, b.load(db.Spec{Mode: db.Refill, Table: b.table("boats", "name")}, []string{"Heron"}))
	assert.Equal(t, []string{"1|Heron"}, b.texts("SELECT id, name FROM boats"), "a table that is emptied begins anew")
}

// A table like another has its columns, keys, checks, defaults, indexes and comments.
func TestLikeAnother(t *testing.T) {
	b := newBench(t)
	b.exec("CREATE TABLE model (id int IDENTITY(10,5) NOT NULL, code varchar(5) COLLATE Polish_CI_AS NOT NULL, n decimal(6,2) NOT NULL DEFAULT (1.5), twice AS (n * 2) PERSISTED, "+
		"CONSTRAINT model_key PRIMARY KEY (id), UNIQUE (code), CHECK (n > 0))", "CREATE INDEX by_n ON model (n)",
		"EXEC sys.sp_addextendedproperty @name = N'MS_Description', @value = N'as in the book', @level0type = N'SCHEMA', @level0name = N'dbo', @level1type = N'TABLE', @level1name = N'model', @level2type = N'COLUMN', @level2name = N'n'")
	table := dialect.Table{Name: "copy it", Columns: b.table("model", "code", "n").Columns}
	refused := b.load(db.Spec{Mode: db.Create, Table: table, Like: &db.Name{Table: "model"}}, []string{"a", "1.00"}, []string{"A", "1.00"}, []string{"b", "-1.00"})
	require.Len(t, refused, 2)
	assert.Equal(t, []string{"a|1.00|2.00"}, b.texts("SELECT code, n, twice FROM [copy it]"))
	found, err := b.c.Find(ctx, "", "copy it")
	require.NoError(t, err)
	assert.Equal(t, "as in the book", found.Columns[2].Comment)
	assert.Equal(t, []string{"by_n"}, b.texts("SELECT name FROM sys.indexes WHERE object_id = OBJECT_ID('[copy it]') AND is_unique = 0 AND name IS NOT NULL"))
	b.exec("DROP TABLE model")
	l, err := b.c.Begin(ctx, db.Spec{Mode: db.Replace, Table: table, Like: &db.Name{Table: "copy it"}})
	require.NoError(t, err, "also like itself")
	require.NoError(t, l.Rollback())
}

// A server before 2019 knows no UTF-8: what it cannot add up is read back.
func TestOlderServer(t *testing.T) {
	s := start(t, sqlserver.Options{Settings: engine.Settings{Version: "13.0.5026.0"}})
	u := "sqlserver://tray:" + testdb.Password + "@" + s.Addr + "?database=master&trustservercertificate=true"
	side, err := sql.Open("sqlserver", u)
	require.NoError(t, err)
	defer side.Close()
	b := &bench{t, u, open(t, u), side}
	b.exec("CREATE TABLE odd (id int, c char(5), v varchar(20), n nvarchar(max), d decimal(38,0))")
	table := b.table("odd")
	l, err := b.c.Begin(ctx, db.Spec{Mode: db.Append, Table: table})
	require.NoError(t, err)
	batch, sums := b.encoded(l, table, []string{"1", "ab", "é ", "日本😀", strings.Repeat("9", 38)}, []string{"2", "", "", "", strings.Repeat("9", 38)})
	_, err = l.Write(ctx, batch)
	require.NoError(t, err)
	n, held, err := l.Tally(ctx)
	require.NoError(t, err)
	assert.EqualValues(t, 2, n)
	for i := range held {
		assert.Empty(t, sums[i].Differs(&held[i]), table.Columns[i].Name)
	}
	require.NoError(t, l.Rollback())
	_, err = connect.Open(ctx, strings.Replace(u, s.Addr, start(t, sqlserver.Options{Settings: engine.Settings{Version: "11.0.2100.60"}}).Addr, 1), connect.Options{})
	assert.ErrorContains(t, err, "version 13 (SQL Server 2016) and later")
}

func start(t *testing.T, o sqlserver.Options) *sqlserver.Standin {
	o.Logins = testdb.Logins()
	s, err := sqlserver.Start(o)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s
}

// Connections are encrypted and the certificate is checked, unless the URL says otherwise;
// what was checked is told.
func TestEncryption(t *testing.T) {
	plain, normal := start(t, sqlserver.Options{Plain: true}), start(t, sqlserver.Options{})
	force := start(t, sqlserver.Options{Force: true})
	ca := filepath.Join(t.TempDir(), "ca.pem")
	require.NoError(t, os.WriteFile(ca, normal.CA, 0o600))
	at := func(s *sqlserver.Standin, more string) (string, error) {
		c, err := connect.Open(ctx, "sqlserver://tray:"+testdb.Password+"@"+s.Addr+"?database=master&"+more, connect.Options{})
		if err != nil {
			assert.NotContains(t, err.Error(), testdb.Password)
			return "", err
		}
		defer c.Close()
		p, err := c.(db.Guarded).Protection(ctx)
		require.NoError(t, err)
		n, err := c.Count(ctx, &db.Table{Schema: "sys", Name: "schemas"})
		require.NoError(t, err)
		assert.Positive(t, n)
		return p.String(), nil
	}
	for _, x := range []struct {
		s          *sqlserver.Standin
		more, want string
		err        string
	}{
		{normal, "", "", "certificate=FILE"},
		{normal, "trustservercertificate=true", "TLS 1.2, the server not checked", ""},
		{normal, "certificate=" + url.QueryEscape(ca), "TLS 1.2, the server's certificate and name checked", ""},
		{normal, "certificate=" + url.QueryEscape(ca) + "&hostnameincertificate=other.invalid", "", "hostnameincertificate"},
		{normal, "encrypt=strict&certificate=" + url.QueryEscape(ca), "TLS 1.3, the server's certificate and name checked", ""},
		{normal, "encrypt=disable", "not encrypted, on this machine", ""},
		{normal, "encrypt=optional&trustservercertificate=true", "TLS 1.2, the server not checked", ""},
		{plain, "", "", "does not encrypt"},
		{plain, "encrypt=optional", "not encrypted, on this machine", ""},
		{force, "encrypt=disable", "", "wants an encrypted connection"},
		{force, "trustservercertificate=true", "TLS 1.2, the server not checked", ""},
		{normal, "encrypt=perhaps", "", "encrypt=perhaps is not known"},
		{normal, "colour=red", "", `"colour" is not known`},
	} {
		got, err := at(x.s, x.more)
		if x.err != "" {
			assert.ErrorContains(t, err, x.err, x.more)
			continue
		}
		require.NoError(t, err, x.more)
		assert.Equal(t, x.want, got, x.more)
	}
}

// Failures say what they are, in the server's words and with its number, and what to do.
func TestFailures(t *testing.T) {
	b := newBench(t)
	u, err := url.Parse(b.url)
	require.NoError(t, err)
	as := func(user, password, database string) error {
		v, q := *u, u.Query()
		v.User = url.UserPassword(user, password)
		if database != "" {
			q.Set("database", database)
		}
		v.RawQuery = q.Encode()
		c, err := connect.Open(ctx, v.String(), connect.Options{})
		if err == nil {
			defer c.Close()
			var l db.Load
			if l, err = c.Begin(ctx, db.Spec{Mode: db.Create, Table: dialect.Table{Name: "new", Columns: []dialect.Column{{Name: "id", Type: typ("integer")}}}}); err == nil {
				l.Rollback()
			}
		}
		return err
	}
	assert.ErrorContains(t, as("tray", "wrong", ""), "(error 18456)\n  check user and password")
	missing := as("tray", testdb.Password, "nowhere")
	assert.ErrorContains(t, missing, "--create-database")
	var e *db.Error
	require.ErrorAs(t, missing, &e)
	assert.True(t, e.Missing)
	denied := as("reader", testdb.Password, "")
	if strings.Contains(denied.Error(), "18456") {
		t.Skip("the server has no login 'reader' with the password of the tests, which may only read")
	}
	assert.ErrorContains(t, denied, "GRANT CREATE TABLE")
	b.exec("CREATE TABLE locks (id int)")
	v := *u
	v.User = url.UserPassword("reader", testdb.Password)
	c := open(t, v.String())
	l, err := c.Begin(ctx, db.Spec{Mode: db.Append, Table: b.table("locks")})
	if err == nil {
		batch, _ := b.encoded(l, b.table("locks"), []string{"1"})
		_, err = l.Write(ctx, batch)
	}
	assert.ErrorContains(t, err, "INSERT permission was denied on the object 'locks'")
	assert.ErrorContains(t, err, "GRANT SELECT, INSERT")
	_, err = open(t, b.url).Begin(ctx, db.Spec{Mode: db.Create, Table: dialect.Table{Schema: "none", Name: "x", Columns: b.table("locks").Columns}})
	assert.ErrorContains(t, err, "choose another with --schema")
}

// A log or a filegroup that is full ends the load: nothing is in, and what to do is said.
func TestFull(t *testing.T) {
	for _, x := range []struct {
		settings engine.Settings
		want     string
	}{
		{engine.Settings{LogBytes: 100_000}, "--commit-every"}, {engine.Settings{DataBytes: 100_000}, "make room"},
	} {
		s := start(t, sqlserver.Options{Settings: x.settings})
		raw := "sqlserver://tray:" + testdb.Password + "@" + s.Addr + "?database=master&trustservercertificate=true"
		c := open(t, raw)
		b := &bench{T: t, c: c}
		table := dialect.Table{Name: "big", Columns: []dialect.Column{{Name: "id", Type: typ("integer")}, {Name: "v", Type: typ("varchar(100)")}}}
		l, err := c.Begin(ctx, db.Spec{Mode: db.Create, Table: table})
		require.NoError(t, err)
		var rows [][]string
		for i := range 5000 {
			rows = append(rows, []string{fmt.Sprint(i), strings.Repeat("x", 90)})
		}
		batch, _ := b.encoded(l, table, rows...)
		_, err = l.Write(ctx, batch)
		assert.ErrorContains(t, err, x.want)
		l.Rollback()
		found, err := open(t, raw).Find(ctx, "", "big")
		require.NoError(t, err)
		assert.Nil(t, found)
	}
}

// Two sessions that wait for each other: the server ends one, and it says so.
func TestDeadlock(t *testing.T) {
	b := newBench(t)
	b.exec("CREATE TABLE one (id int)", "CREATE TABLE two (id int)")
	tx, err := b.side.Begin()
	require.NoError(t, err)
	defer tx.Rollback()
	_, err = tx.Exec("INSERT two VALUES (1)")
	require.NoError(t, err)
	l, err := b.c.Begin(ctx, db.Spec{Mode: db.Append, Table: b.table("one")})
	require.NoError(t, err)
	defer l.Rollback()
	done := make(chan error, 1)
	go func() {
		_, err := tx.Exec("INSERT one VALUES (1)") // waits for the load
		done <- err
	}()
	time.Sleep(200 * time.Millisecond)
	_, err = b.c.Count(ctx, &db.Table{Name: "two"})
	if other := <-done; err == nil {
		err = other
	}
	assert.ErrorContains(t, err, "deadlock")
}

// A load that is cancelled while rows are on their way leaves nothing.
func TestCancelled(t *testing.T) {
	b := newBench(t)
	table := dialect.Table{Name: "big", Columns: []dialect.Column{{Name: "id", Type: typ("integer")}, {Name: "v", Type: typ("varchar(1000)")}}}
	within, cancel := context.WithCancel(ctx)
	l, err := b.c.Begin(within, db.Spec{Mode: db.Create, Table: table})
	require.NoError(t, err)
	var rows [][]string
	for i := range 20_000 {
		rows = append(rows, []string{fmt.Sprint(i), strings.Repeat("x", 900)})
	}
	batch, _ := b.encoded(l, table, rows...)
	go func() {
		time.Sleep(5 * time.Millisecond)
		cancel()
	}()
	for err == nil {
		_, err = l.Write(within, batch)
	}
	assert.ErrorIs(t, err, context.Canceled)
	l.Rollback()
	require.Eventually(t, func() bool { return len(b.texts("SELECT name FROM sys.tables WHERE name = 'big'")) == 0 }, 5*time.Second, 20*time.Millisecond)
}
