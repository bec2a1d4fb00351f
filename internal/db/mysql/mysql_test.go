package mysql

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	driver "github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/reading"
	"ambertray/internal/sink"
	"ambertray/internal/sqltype"
	"ambertray/internal/testdb"
)

func typ(t testing.TB, s string) sqltype.Type {
	x, err := sqltype.Parse(s)
	require.NoError(t, err)
	return x
}

func TestRowsReadBack(t *testing.T) {
	e := &encoder{types: []sqltype.Type{typ(t, "integer"), typ(t, "text"), typ(t, "boolean"), typ(t, "timestamp(3) with time zone")}}
	texts := []string{"plain", "", "tab\t", "line\n", `back\slash`, `\N`, `\\t`, "\r\n", "é😀"}
	var data []byte
	for i, s := range texts {
		data = e.Append(data, []reading.Value{{Int: int64(i)}, {Text: []byte(s)}, {Int: int64(i % 2)}, {Null: i%3 == 0, Int: 1e15}})
	}
	rest := data
	for i, s := range texts {
		var f []any
		f, rest = fields(rest, nil)
		require.Len(t, f, 4)
		assert.Equal(t, fmt.Sprint(i), f[0])
		assert.Equal(t, s, f[1])
		assert.Equal(t, fmt.Sprint(i%2), f[2])
		if i%3 == 0 {
			assert.Nil(t, f[3])
		} else {
			assert.Equal(t, "2001-09-09 01:46:40.000", f[3])
		}
	}
	assert.Empty(t, rest)
	head, tail := rows(data, 3)
	assert.Equal(t, data, append(head[:len(head):len(head)], tail...))
	assert.Equal(t, 3, strings.Count(string(head), "\n"))
}

func TestStandardTypes(t *testing.T) {
	for in, want := range map[string]string{
		"tinyint(4)": "smallint -128…127", "tinyint(3) unsigned": "smallint 0…255", "smallint(5) unsigned": "integer 0…65535", "mediumint(9)": "integer -8388608…8388607",
		"int(11)": "integer -2147483648…2147483647", "int(10) unsigned": "bigint 0…4294967295", "bigint(20)": "bigint", "bigint(20) unsigned": "decimal(20,0)",
		"decimal(8,2)": "decimal(8,2)", "double": "double precision", "float": "none", "datetime": "timestamp(0)", "datetime(6)": "timestamp(6)", "time(3)": "time(3)",
		"varchar(20)": "varchar(20)", "char(3)": "char(3)", "longtext": "text", "enum('a','b')": "none", "json": "none", "bit(1)": "none", "year(4)": "smallint 1901…2155", "uuid": "uuid",
	} {
		c := db.Column{Type: in}
		standardType(&c)
		got := c.SQL.String()
		if c.Lo != 0 || c.Hi != 0 {
			got += fmt.Sprintf(" %d…%d", c.Lo, c.Hi)
		}
		assert.Equal(t, want, got, in)
	}
}

func TestExplain(t *testing.T) {
	for number, says := range map[uint16]string{1045: "password", 1049: "--create-database", 1142: "GRANT", 3948: "SET GLOBAL local_infile", 1148: "--slow-path", 1114: "disk is full", 1205: "another session"} {
		err := explain("where", "cannot", &driver.MySQLError{Number: number, Message: "words"})
		assert.ErrorContains(t, err, fmt.Sprintf("where: cannot: words (error %d)", number))
		assert.ErrorContains(t, err, says)
	}
	assert.ErrorContains(t, explain("w", "x", driver.ErrInvalidConn), "the connection was lost")
	assert.ErrorContains(t, explain("w", "x", errors.New("dial: i/o timeout")), "did not answer in time")
}

func open(t *testing.T) (*DB, *sql.DB) {
	raw, conn := testdb.MySQL(t)
	u, err := url.Parse(raw)
	require.NoError(t, err)
	d, err := connect(context.Background(), config{Where: "test", User: u.User.Username(), Password: testdb.Password, Host: u.Host, Database: strings.TrimPrefix(u.Path, "/")})
	require.NoError(t, err)
	t.Cleanup(func() { d.Close() })
	return d, conn
}

// The server's silence about rows that it skips or changes is not believed;
// where it names no rows, they are found all the same.
func TestRowsToBlame(t *testing.T) {
	for _, maria := range []bool{true, false} {
		for _, slow := range []bool{false, true} {
			d, conn := open(t)
			d.maria = maria
			ctx := context.Background()
			_, err := conn.Exec("CREATE TABLE t (id int PRIMARY KEY, v varchar(5), e enum('x','y')) ENGINE=InnoDB")
			require.NoError(t, err)
			columns := []dialect.Column{{Name: "id", Type: typ(t, "bigint")}, {Name: "v", Type: typ(t, "text")}, {Name: "e", Type: typ(t, "text")}}
			l, err := d.Begin(ctx, db.Spec{Mode: db.Append, SlowPath: slow, Table: dialect.Table{Name: "t", Columns: columns}})
			require.NoError(t, err)
			var data []byte
			enc := l.Encoder()
			want := []int{}
			for i := range 2000 {
				id, v, e := int64(i), "ok", "x"
				switch i {
				case 17:
					id = 1 << 40 // out of range
				case 400:
					v = "too long"
				case 401, 1999:
					id = 5 // there already
				case 1200:
					e = "z" // no such word
				}
				if id != int64(i) || v != "ok" || e != "x" {
					want = append(want, i)
				}
				data = enc.Append(data, []reading.Value{{Int: id}, {Text: []byte(v)}, {Text: []byte(e)}})
			}
			refused, err := l.Write(ctx, sink.Batch{Rows: 2000, Data: data})
			require.NoError(t, err)
			var got []int
			for _, r := range refused {
				got = append(got, r.Row)
				assert.Contains(t, r.Message, "(error 1")
			}
			assert.Equal(t, want, got, "maria %v, slow %v", maria, slow)
			rows, cols, err := l.Tally(ctx)
			require.NoError(t, err)
			assert.EqualValues(t, 1995, rows)
			assert.True(t, cols[2].Loose)
			require.NoError(t, l.Commit(ctx))
		}
	}
}

// What a killed load left is removed by the next of the same table, unless it
// is still running.
func TestSideTables(t *testing.T) {
	d, conn := open(t)
	ctx := context.Background()
	spec := db.Spec{Mode: db.Create, Table: dialect.Table{Name: "tolls", Columns: []dialect.Column{{Name: "id", Type: typ(t, "integer")}}}}
	left := db.SideNames("", "tolls") + "00000000"
	_, err := conn.Exec("CREATE TABLE " + left + " (id int); ")
	require.NoError(t, err)
	// Of another table: the remains of a load that died, what one that died had
	// replaced, and those of one that is running.
	other := db.SideNames("", "other")
	for _, end := range []string{"00000000", "11111111_old", "22222222", "22222222_old"} {
		_, err = conn.Exec("CREATE TABLE " + other + end + " (id int)")
		require.NoError(t, err)
	}
	_, err = conn.Exec("CREATE TABLE ambertray_notes_of_mine (id int)")
	require.NoError(t, err)
	running, err := conn.Conn(ctx)
	require.NoError(t, err)
	defer running.Close()
	_, err = running.ExecContext(ctx, "DO get_lock('"+other+"22222222', 0)")
	require.NoError(t, err)
	listed := map[string]string{}
	list, err := d.List(ctx)
	require.NoError(t, err)
	for _, x := range list {
		listed[x.Name] = x.Kind
	}
	assert.Equal(t, map[string]string{left: "remains", other + "00000000": "remains", other + "11111111_old": "remains", other + "22222222": "unfinished", other + "22222222_old": "unfinished", "ambertray_notes_of_mine": "table"}, listed)
	first, err := d.Begin(ctx, spec)
	require.NoError(t, err)
	tables := func() (n []string) {
		rows, err := conn.Query("SHOW TABLES")
		require.NoError(t, err)
		defer rows.Close()
		for rows.Next() {
			var s string
			require.NoError(t, rows.Scan(&s))
			n = append(n, s)
		}
		return
	}
	now := tables()
	for _, gone := range []string{left, other + "00000000", other + "11111111_old"} {
		assert.NotContains(t, now, gone)
	}
	for _, stays := range []string{other + "22222222", other + "22222222_old", "ambertray_notes_of_mine"} {
		assert.Contains(t, now, stays)
	}
	assert.NotContains(t, now, "tolls", "until all is verified it has another name")
	assert.Len(t, now, 4)
	require.NoError(t, first.Commit(ctx))
	assert.Contains(t, tables(), "tolls")
	second, err := d.Begin(ctx, db.Spec{Mode: db.Replace, Table: spec.Table})
	require.NoError(t, err)
	require.NoError(t, second.Rollback())
	assert.Len(t, tables(), 4)

	_, err = conn.Exec("CREATE TABLE old (id int) ENGINE=MyISAM")
	require.NoError(t, err)
	found, err := d.Find(ctx, "", "old")
	require.NoError(t, err)
	assert.Contains(t, found.Unsafe, "MyISAM")
	list, err = d.List(ctx)
	require.NoError(t, err)
	assert.Len(t, list, 5)
}

// A table that cannot be replaced any more when the rows are in is as it was.
func TestReplaceThatCannotBe(t *testing.T) {
	ctx := t.Context()
	limited := "lim" + strings.ReplaceAll(fmt.Sprint(time.Now().UnixNano()%1e9), "-", "")
	for name, x := range map[string]struct {
		between []string // by another, while the load runs
		before  []string
		as      string
		want    string
	}{
		"became a view": {between: []string{"DROP TABLE boats", "CREATE VIEW boats AS SELECT 7 AS id"}, want: "became a view"},
		"is referred to": {between: []string{"CREATE TABLE child (id INT REFERENCES boats (id), FOREIGN KEY (id) REFERENCES boats (id))"},
			want: "came to be referred to by"},
		"is referred to from where nobody sees": {before: []string{"CREATE DATABASE " + limited,
			"CREATE TABLE " + limited + ".child (id INT, FOREIGN KEY (id) REFERENCES %s.boats (id))",
			"CREATE USER '" + limited + "'@'127.0.0.1' IDENTIFIED BY '" + testdb.Password + "'", "GRANT ALL ON %s.* TO '" + limited + "'@'127.0.0.1'"},
			as: limited, want: "in its place as it was"},
	} {
		t.Run(name, func(t *testing.T) {
			raw, admin := testdb.MySQL(t)
			base := raw[strings.LastIndex(raw, "/")+1:]
			t.Cleanup(func() {
				admin.Exec("DROP DATABASE IF EXISTS " + limited)
				admin.Exec("DROP USER IF EXISTS '" + limited + "'@'127.0.0.1'")
			})
			run := func(all []string) {
				for _, s := range all {
					_, err := admin.Exec(strings.ReplaceAll(s, "%s", base))
					require.NoError(t, err, s)
				}
			}
			run([]string{"CREATE TABLE boats (id INT PRIMARY KEY)", "INSERT INTO boats VALUES (1), (2)"})
			run(x.before)
			u, err := url.Parse(raw)
			require.NoError(t, err)
			user := cmp.Or(x.as, u.User.Username())
			d, err := connect(ctx, config{Where: "x", User: user, Password: testdb.Password, Host: u.Host, Database: base, Timeout: time.Minute})
			require.NoError(t, err)
			defer d.Close()
			l, err := d.Begin(ctx, db.Spec{Mode: db.Replace, Table: dialect.Table{Name: "boats", Key: []string{"id"},
				Columns: []dialect.Column{{Name: "id", Type: sqltype.Type{Kind: sqltype.Integer}, Required: true}}}})
			require.NoError(t, err)
			run(x.between)
			require.ErrorContains(t, l.Commit(ctx), x.want)
			require.NoError(t, l.Rollback())
			want := 2
			if strings.HasPrefix(x.want, "became") {
				want = 1
			}
			var n int
			require.NoError(t, admin.QueryRow("SELECT count(*) FROM boats").Scan(&n))
			assert.Equal(t, want, n)
			require.NoError(t, admin.QueryRow("SELECT count(*) FROM information_schema.tables WHERE table_schema = ? AND table_name LIKE 'ambertray%'", base).Scan(&n))
			assert.Zero(t, n, "nothing of ours is left")
		})
	}
}

// Columns are made so long that they can lie outside of the page where the row would not fit into it: as few as
// possible, and none of a key or an index. Those that are very long are text.
func TestFit(t *testing.T) {
	table := func(types ...string) *dialect.Table {
		x := &dialect.Table{Name: "gates", Key: []string{"c1"}, Indexes: [][]string{{"c2"}}}
		for i, s := range types {
			kind, err := sqltype.Parse(s)
			require.NoError(t, err)
			x.Columns = append(x.Columns, dialect.Column{Name: fmt.Sprintf("c%d", i+1), Type: kind})
		}
		return x
	}
	many := func(n int, typ string, first ...string) []string {
		return append(first, slices.Repeat([]string{typ}, n)...)
	}
	types := func(x *dialect.Table) map[string]int {
		out := map[string]int{}
		for _, c := range x.Columns {
			out[c.Type.String()]++
		}
		return out
	}
	for name, tt := range map[string]struct {
		columns []string
		want    map[string]int
	}{
		"few":           {many(30, "varchar(60)"), map[string]int{"varchar(60)": 30}},
		"some too many": {many(40, "varchar(60)"), map[string]int{"varchar(60)": 31, "varchar(64)": 9}},
		"key and index stay": {many(150, "varchar(20)", "varchar(50)", "char(60)"),
			map[string]int{"varchar(50)": 1, "char(60)": 1, "varchar(20)": 35, "varchar(64)": 115}},
		"codes":                        {many(200, "char(20)", "integer"), map[string]int{"integer": 1, "char(20)": 1, "varchar(64)": 199}},
		"long ones lie outside anyway": {many(60, "varchar(200)", "integer"), map[string]int{"integer": 1, "varchar(200)": 60}},
		"very long ones are text":      {many(20, "varchar(1000)"), map[string]int{"varchar(1000)": 16, "text": 4}},
	} {
		x := table(tt.columns...)
		Dialect.Fit(x)
		assert.Equal(t, tt.want, types(x), name)
	}
}
