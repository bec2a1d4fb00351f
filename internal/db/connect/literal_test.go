package connect_test

import (
	"database/sql"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/db/connect"
	"ambertray/internal/db/dialect"
	"ambertray/internal/db/mysql"
	"ambertray/internal/db/oracle"
	"ambertray/internal/db/postgres"
	"ambertray/internal/db/sqlite"
	"ambertray/internal/db/sqlserver"
	"ambertray/internal/testdb"
)

// Each row: a type, a value in plain form, and the literal of each database.
func TestLiterals(t *testing.T) {
	for _, tt := range []struct {
		typ, plain                                 string
		sqlite, postgres, mysql, sqlserver, oracle string
	}{
		{"boolean", "true", "1", "TRUE", "TRUE", "1", "1"},
		{"boolean", "false", "0", "FALSE", "FALSE", "0", "0"},
		{"integer", "-5", "-5", "-5", "-5", "-5", "-5"},
		{"decimal(8,2)", "-12.50", "-12.50", "-12.50", "-12.50", "-12.50", "-12.50"},
		{"decimal(20,2)", "12.50", "'12.50'", "12.50", "12.50", "12.50", "12.50"},
		{"double precision", "1.5e-10", "1.5e-10", "1.5e-10", "1.5e-10", "1.5e-10", "1.5e-10"},
		{"date", "2024-02-29", "'2024-02-29'", "DATE '2024-02-29'", "'2024-02-29'", "'2024-02-29'", "DATE '2024-02-29'"},
		{"time(0)", "23:59:59", "'23:59:59'", "'23:59:59'", "'23:59:59'", "'23:59:59'", "INTERVAL '0 23:59:59' DAY TO SECOND"},
		{"timestamp(0)", "2024-02-29 23:59:59", "'2024-02-29 23:59:59'", "TIMESTAMP '2024-02-29 23:59:59'", "'2024-02-29 23:59:59'", "'2024-02-29T23:59:59'", "TIMESTAMP '2024-02-29 23:59:59'"},
		{"timestamp(0) with time zone", "2024-02-29 23:59:59+00:00", "'2024-02-29 23:59:59+00:00'", "'2024-02-29 23:59:59+00:00'", "'2024-02-29 23:59:59'", "'2024-02-29T23:59:59+00:00'", "TIMESTAMP '2024-02-29 23:59:59 +00:00'"},
		{"text", `it's \ "q"`, `'it''s \ "q"'`, `'it''s \ "q"'`, `'it''s \\ "q"'`, `N'it''s \ "q"'`, `'it''s \ "q"'`},
	} {
		c := dialect.Column{Type: typ(tt.typ)}
		for d, want := range map[*dialect.Dialect]string{sqlite.Dialect: tt.sqlite, postgres.Dialect: tt.postgres, mysql.Dialect: tt.mysql, sqlserver.Dialect: tt.sqlserver, oracle.Dialect: tt.oracle} {
			assert.Equal(t, want, d.Literal(c, tt.plain), "%s %s for %s", tt.typ, tt.plain, d.Name)
		}
	}
	assert.Equal(t, "'x'", sqlserver.Dialect.Literal(dialect.Column{Type: typ("text"), ASCII: true}, "x"))
}

// What a literal says, the database reads.
func TestLiteralsReadBack(t *testing.T) {
	texts := []string{"", "plain", "it's", `\`, `\'`, `''`, "a\nb\r\tc", "é日本😀", "%_", "--", "/* */", "$1 ? :x", "\x1a"}
	for name, open := range map[string]func(t *testing.T) *sql.DB{
		"sqlite": func(t *testing.T) *sql.DB {
			db, err := sql.Open("sqlite", ":memory:")
			require.NoError(t, err)
			return db
		},
		"postgres": func(t *testing.T) *sql.DB { _, db := testdb.Postgres(t); return db },
		"mysql":    func(t *testing.T) *sql.DB { _, db := testdb.MySQL(t); return db },
	} {
		t.Run(name, func(t *testing.T) {
			db := open(t)
			d, err := connect.ByName(name)
			require.NoError(t, err)
			for _, s := range texts {
				var got string
				require.NoError(t, db.QueryRow("SELECT "+d.Literal(dialect.Column{Type: typ("text")}, s)).Scan(&got), s)
				assert.Equal(t, s, got)
			}
		})
	}
}

// No header can leave its identifier or comment in a definition that runs.
func TestHostileHeaders(t *testing.T) {
	hostile := []string{`"`, "`", "]", "'", `\`, ";", "--", "/*", "*/", "\n", "\x00", "a) ; DROP TABLE x; --", `"; DROP TABLE x; --`, "`; DROP TABLE x; --", "x\u2028y", "\ufeff", "SELECT", strings.Repeat("long ", 60)}
	for _, keep := range []bool{false, true} {
		names := dialect.SafeNames(hostile, keep)
		table := dialect.Table{Name: "t"}
		for i, n := range names {
			if keep && (strings.ContainsRune(n, 0) || len(n) > 60) {
				continue // Check refuses these
			}
			table.Columns = append(table.Columns, dialect.Column{Name: n, Type: typ("integer"), Comment: hostile[i]})
		}
		db, err := sql.Open("sqlite", ":memory:")
		require.NoError(t, err)
		db.SetMaxOpenConns(1)
		_, err = db.Exec("CREATE TABLE x (a int)")
		require.NoError(t, err)
		for i := range table.Columns {
			table.Columns[i].Comment = strings.ReplaceAll(table.Columns[i].Comment, "\x00", "")
		}
		runs(t, db, sqlite.Dialect, table)
		_, err = db.Exec("SELECT a FROM x")
		assert.NoError(t, err, "the other table is still there")
	}
	for _, d := range connect.All {
		assert.Error(t, d.Check(strings.Repeat("x", 129)), d.Name)
		for i, n := range dialect.SafeNames(hostile, false) {
			assert.NoError(t, d.Check(n), "%s %q", d.Name, hostile[i])
		}
	}
}

func TestWideRowsInMySQL(t *testing.T) {
	x := dialect.Table{Name: "wide"}
	for i := range 40 {
		x.Columns = append(x.Columns, dialect.Column{Name: fmt.Sprintf("c%d", i), Type: typ(fmt.Sprintf("varchar(%d)", 100+i*20))})
	}
	sql := mysql.Dialect.Create(x)[0]
	assert.Contains(t, sql, "c39 LONGTEXT", "the longest give way")
	assert.Contains(t, sql, "c0  VARCHAR(100)")
	assert.Equal(t, "varchar(100)", x.Columns[0].Type.String(), "the caller's table is left alone")
}
