package connect_test

import (
	"database/sql"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"

	"ambertray/internal/db/connect"
	"ambertray/internal/db/dialect"
	"ambertray/internal/db/mysql"
	"ambertray/internal/db/oracle"
	"ambertray/internal/db/postgres"
	"ambertray/internal/db/sqlite"
	"ambertray/internal/db/sqlserver"
	"ambertray/internal/testdb"
)

func text(s string) *string { return &s }

// every has a column of every type, with defaults, and names that need care.
var every = dialect.Table{
	Name: "my order", Key: []string{"id", "select"}, Comment: "It's a table;\n-- of 100% \\ care",
	Columns: []dialect.Column{
		{Name: "id", Type: typ("bigint"), Required: true},
		{Name: "select", Type: typ("varchar(20)"), ASCII: true, Comment: "reserved 'word'"},
		{Name: "it's", Type: typ("boolean"), Default: text("true")},
		{Name: `a"b`, Type: typ("smallint"), Default: text("-1")},
		{Name: "c`d", Type: typ("integer")},
		{Name: "e]f[", Type: typ("decimal(12,2)"), Default: text("1.50")},
		{Name: "long_decimal", Type: typ("decimal(38,10)")},
		{Name: "Double", Type: typ("double precision")},
		{Name: "x; DROP TABLE y; --", Type: typ("date"), Default: text("2024-02-29")},
		{Name: "tijd", Type: typ("time(3)"), Default: text("23:59:59.500")},
		{Name: "Größe", Type: typ("timestamp(6)"), Default: text("2024-02-29 23:59:59.123456")},
		{Name: "zoned", Type: typ("timestamp(0) with time zone")},
		{Name: "uuid", Type: typ("uuid")},
		{Name: "code", Type: typ("char(6)"), ASCII: true, Default: text(`a'\b`)},
		{Name: "wide", Type: typ("varchar(400)"), Comment: "two\nlines\u2028three"},
		{Name: "notes", Type: typ("text")},
	},
}

// columnsOf reads back the names of the table's columns.
func columnsOf(t *testing.T, db *sql.DB, query string) (names []string) {
	rows, err := db.Query(query)
	require.NoError(t, err)
	defer rows.Close()
	names, err = rows.Columns()
	require.NoError(t, err)
	return
}

func runs(t *testing.T, db *sql.DB, d *dialect.Dialect, table dialect.Table) {
	t.Helper()
	for _, s := range d.Create(table) {
		_, err := db.Exec(s)
		require.NoError(t, err, s)
	}
	var want []string
	for _, c := range table.Columns {
		want = append(want, c.Name)
	}
	assert.Equal(t, want, columnsOf(t, db, "SELECT * FROM "+d.Qualified("", table.Name)))
}

func TestDefinitionsRun(t *testing.T) {
	servers := map[*dialect.Dialect]func(t *testing.T) *sql.DB{
		sqlite.Dialect: func(t *testing.T) *sql.DB {
			db, err := sql.Open("sqlite", ":memory:")
			require.NoError(t, err)
			db.SetMaxOpenConns(1)
			return db
		},
		postgres.Dialect: func(t *testing.T) *sql.DB { _, db := testdb.Postgres(t); return db },
		mysql.Dialect:    func(t *testing.T) *sql.DB { _, db := testdb.MySQL(t); return db },
	}
	for d, open := range servers {
		t.Run(d.Name, func(t *testing.T) {
			db := open(t)
			runs(t, db, d, every)
			// Every reserved word can be a name.
			for word := range dialect.Reserved {
				runs(t, db, d, dialect.Table{Name: strings.ToLower(word), Columns: []dialect.Column{{Name: word, Type: typ("integer")}}})
			}
			// A wide table of long texts.
			wide := dialect.Table{Name: "wide"}
			for _, n := range dialect.SafeNames(make([]string, 300), false) {
				wide.Columns = append(wide.Columns, dialect.Column{Name: n, Type: typ("varchar(400)")})
			}
			runs(t, db, d, wide)
			// Defaults are the values that they say.
			_, err := db.Exec("INSERT INTO " + d.Quote("my order") + " (id, " + d.Quote("select") + ") VALUES (1, 'x')")
			require.NoError(t, err)
			var code string
			require.NoError(t, db.QueryRow("SELECT code FROM "+d.Quote("my order")).Scan(&code))
			assert.Equal(t, `a'\b`, strings.TrimRight(code, " "))
		})
	}
}

func TestTypesOfEachDatabase(t *testing.T) {
	for _, tt := range []struct {
		typ                                        string
		sqlite, postgres, mysql, sqlserver, oracle string
	}{
		{"boolean", "BOOLEAN", "boolean", "BOOLEAN", "bit", "NUMBER(1)"},
		{"smallint", "SMALLINT", "smallint", "SMALLINT", "smallint", "NUMBER(5)"},
		{"integer", "INTEGER", "integer", "INT", "int", "NUMBER(10)"},
		{"bigint", "BIGINT", "bigint", "BIGINT", "bigint", "NUMBER(19)"},
		{"decimal(8,2)", "DECIMAL(8,2)", "numeric(8,2)", "DECIMAL(8,2)", "decimal(8,2)", "NUMBER(8,2)"},
		{"decimal(16,2)", "TEXT", "numeric(16,2)", "DECIMAL(16,2)", "decimal(16,2)", "NUMBER(16,2)"},
		{"double precision", "DOUBLE PRECISION", "double precision", "DOUBLE", "float(53)", "BINARY_DOUBLE"},
		{"date", "DATE", "date", "DATE", "date", "DATE"},
		{"time(3)", "TIME", "time(3)", "TIME(3)", "time(3)", "INTERVAL DAY(0) TO SECOND(3)"},
		{"timestamp(3)", "TIMESTAMP", "timestamp(3)", "DATETIME(3)", "datetime2(3)", "TIMESTAMP(3)"},
		{"timestamp(0) with time zone", "TIMESTAMP", "timestamptz(0)", "DATETIME(0)", "datetimeoffset(0)", "TIMESTAMP(0) WITH TIME ZONE"},
		{"char(6)", "CHAR(6)", "char(6)", "CHAR(6)", "nchar(6)", "CHAR(6 CHAR)"},
		{"varchar(40)", "VARCHAR(40)", "varchar(40)", "VARCHAR(40)", "nvarchar(40)", "VARCHAR2(40 CHAR)"},
		{"varchar(4000)", "VARCHAR(4000)", "varchar(4000)", "VARCHAR(4000)", "nvarchar(4000)", "CLOB"},
		{"text", "TEXT", "text", "LONGTEXT", "nvarchar(max)", "CLOB"},
		{"uuid", "CHAR(36)", "uuid", "CHAR(36) CHARACTER SET ascii COLLATE ascii_bin", "uniqueidentifier", "CHAR(36 CHAR)"},
	} {
		c := dialect.Column{Type: typ(tt.typ)}
		for d, want := range map[*dialect.Dialect]string{sqlite.Dialect: tt.sqlite, postgres.Dialect: tt.postgres, mysql.Dialect: tt.mysql, sqlserver.Dialect: tt.sqlserver, oracle.Dialect: tt.oracle} {
			assert.Equal(t, want, d.Type(c, false), "%s for %s", tt.typ, d.Name)
		}
	}
	ascii := dialect.Column{Type: typ("varchar(40)"), ASCII: true}
	assert.Equal(t, "varchar(40)", sqlserver.Dialect.Type(ascii, false), "narrow where all is ASCII")
}

// No text can leave its quotes, whatever the database.
func TestQuotesHold(t *testing.T) {
	nasty := []string{`a"b`, "a`b", "a]b", `a\`, "a'b", `";--`, "`;--", "];--", "\x00", "日本"}
	for _, d := range connect.All {
		for _, n := range nasty {
			q := d.Quote(n)
			inner := strings.TrimSuffix(strings.TrimPrefix(q, d.OpenQuote), d.CloseQuote)
			require.True(t, strings.HasPrefix(q, d.OpenQuote) && strings.HasSuffix(q, d.CloseQuote), "%s %s", d.Name, q)
			assert.NotContains(t, strings.ReplaceAll(inner, d.CloseQuote+d.CloseQuote, ""), d.CloseQuote)
		}
	}
	got := postgres.Dialect.Create(dialect.Table{Name: "t", Comment: "x'; DROP TABLE y; --", Columns: []dialect.Column{{Name: "a", Type: typ("text")}}})
	assert.Equal(t, "COMMENT ON TABLE t IS 'x''; DROP TABLE y; --'", got[1])
	assert.NotContains(t, sqlite.Dialect.Create(dialect.Table{Name: "t", Comment: "x\n); DROP TABLE y; --", Columns: []dialect.Column{{Name: "a", Type: typ("text")}}})[0], "\n);")
}

func TestGoldenDefinitions(t *testing.T) {
	small := dialect.Table{Schema: "canal", Name: "boats", Key: []string{"permit"}, Comment: "Boat register", Columns: []dialect.Column{
		{Name: "permit", Type: typ("char(6)"), Required: true, ASCII: true, Comment: "Permit"},
		{Name: "owner", Type: typ("varchar(30)")},
		{Name: "level", Type: typ("decimal(4,1)"), Default: text("0.0")},
	}}
	assert.Equal(t, []string{
		"CREATE TABLE canal.boats (\n    permit  char(6)      NOT NULL,\n    owner   nvarchar(30),\n    [level] decimal(4,1) DEFAULT 0.0,\n    PRIMARY KEY (permit)\n)",
		"EXEC sys.sp_addextendedproperty @name = N'MS_Description', @value = N'Boat register', @level0type = N'SCHEMA', @level0name = N'canal', @level1type = N'TABLE', @level1name = N'boats'",
		"EXEC sys.sp_addextendedproperty @name = N'MS_Description', @value = N'Permit', @level0type = N'SCHEMA', @level0name = N'canal', @level1type = N'TABLE', @level1name = N'boats', @level2type = N'COLUMN', @level2name = N'permit'",
	}, sqlserver.Dialect.Create(small))
	assert.Equal(t, []string{
		"CREATE TABLE canal.boats (\n    permit  CHAR(6 CHAR)      NOT NULL,\n    owner   VARCHAR2(30 CHAR),\n    \"LEVEL\" NUMBER(4,1)       DEFAULT 0.0,\n    PRIMARY KEY (permit)\n)",
		"COMMENT ON TABLE canal.boats IS 'Boat register'",
		"COMMENT ON COLUMN canal.boats.permit IS 'Permit'",
	}, oracle.Dialect.Create(small))
}

func TestCheck(t *testing.T) {
	assert.Error(t, postgres.Dialect.Check(strings.Repeat("é", 32)))
	assert.NoError(t, mysql.Dialect.Check(strings.Repeat("é", 64)))
	assert.Error(t, mysql.Dialect.Check(strings.Repeat("e", 65)))
	assert.Error(t, sqlite.Dialect.Check(""))
	assert.Error(t, sqlite.Dialect.Check("a\x00b"))
	_, err := connect.ByName("mariadb")
	assert.NoError(t, err)
	_, err = connect.ByName("foo")
	assert.ErrorContains(t, err, "sqlite, postgres, mysql, sqlserver, oracle")
}
