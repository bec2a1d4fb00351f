package postgres

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/db"
)

// registered makes a table of so many rows of some 400 bytes: twenty to a page.
func registered(t *testing.T, d *DB, rows int, more string) db.Extract {
	ctx := context.Background()
	_, err := d.c.Exec(ctx, "CREATE TABLE register (id integer, note text) "+more)
	require.NoError(t, err)
	_, err = d.c.Exec(ctx, fmt.Sprintf("INSERT INTO register SELECT i, CASE WHEN i %% 10 > 0 THEN repeat(E'Withy\\tCut \\\\ ', 28) "+
		"END FROM generate_series(1, %d) i", rows))
	require.NoError(t, err)
	table, err := d.Find(ctx, "", "register")
	require.NoError(t, err)
	return db.Extract{Query: "SELECT id, note FROM register", Columns: table.Columns, Table: table}
}

func (d *DB) textOf(t *testing.T, x db.Extract) string {
	var all bytes.Buffer
	require.NoError(t, d.ScanText(context.Background(), x, func(rows []byte) error {
		require.True(t, bytes.HasSuffix(rows, []byte("\n")))
		all.Write(rows)
		return nil
	}))
	assert.Equal(t, byte('I'), d.c.PgConn().TxStatus(), "no transaction is left")
	return all.String()
}

// Rows come in the same order over however many connections, from a table of no page, of one, and of several parts;
// also where rows were deleted, and pages are without any.
func TestScanInLanes(t *testing.T) {
	ctx := context.Background()
	for _, rows := range []int{0, 1, 15, 6_000, 25_000} {
		d, _ := opened(t)
		x := registered(t, d, rows, "")
		for range 2 {
			x.Lanes = 1
			want := d.textOf(t, x)
			assert.Equal(t, rows, bytes.Count([]byte(want), []byte("\n")))
			for _, x.Lanes = range []int{2, 3, 7} {
				assert.Equal(t, want, d.textOf(t, x), "%d rows over %d", rows, x.Lanes)
			}
			x.Lanes = 0
			assert.Equal(t, 1, d.scanLanes(ctx, x), "that is not worth it")
			_, err := d.c.Exec(ctx, "DELETE FROM register WHERE id BETWEEN 100 AND 14000")
			require.NoError(t, err)
			rows -= max(0, min(rows, 14_000)-99)
		}
	}
}

// All connections see the same: what others commit while rows are read is not among them.
func TestLanesSeeTheSame(t *testing.T) {
	ctx := context.Background()
	d, raw := opened(t)
	x := registered(t, d, 25_000, "")
	x.Lanes = 1
	want := d.textOf(t, x)
	other, err := pgx.Connect(ctx, raw)
	require.NoError(t, err)
	defer other.Close(ctx)
	var all bytes.Buffer
	done := false
	x.Lanes = 3
	require.NoError(t, d.ScanText(ctx, x, func(rows []byte) error {
		if all.Write(rows); !done {
			done = true
			for _, sql := range []string{"DELETE FROM register WHERE id % 3 = 0", "UPDATE register SET note = 'other' WHERE id > 20000",
				"INSERT INTO register SELECT i, 'new' FROM generate_series(30000, 60000) i"} {
				_, err := other.Exec(ctx, sql)
				require.NoError(t, err)
			}
		}
		return nil
	}))
	assert.True(t, want == all.String())
}

// Over one connection come the rows of a query, of a table that has no pages of its own or not all of them, and within
// a transaction.
func TestNoLanes(t *testing.T) {
	ctx := context.Background()
	d, _ := opened(t)
	x := registered(t, d, 6_000, "")
	x.Lanes = 3
	require.Equal(t, 3, d.scanLanes(ctx, x))
	for name, sql := range map[string]string{"partitioned": "CREATE TABLE other (id integer, note text) PARTITION BY HASH (id)",
		"a view": "CREATE VIEW other AS SELECT * FROM register", "with children": "CREATE TABLE other (id integer, note text); " +
			"CREATE TABLE child () INHERITS (other); INSERT INTO child VALUES (1, 'of the child')",
		"without rows": "CREATE TABLE other (id integer, note text)"} {
		_, err := d.c.Exec(ctx, sql)
		require.NoError(t, err)
		y := x
		y.Table = &db.Table{Name: "other"}
		assert.Equal(t, 1, d.scanLanes(ctx, y), name)
		_, err = d.c.Exec(ctx, "DROP TABLE IF EXISTS child; DO $$ BEGIN EXECUTE (SELECT 'DROP ' || CASE relkind WHEN 'v' THEN "+
			"'VIEW' ELSE 'TABLE' END || ' other' FROM pg_class WHERE relname = 'other'); END $$")
		require.NoError(t, err)
	}
	y := x
	y.Table = nil
	assert.Equal(t, 1, d.scanLanes(ctx, y))
	_, err := d.c.Exec(ctx, "BEGIN")
	require.NoError(t, err)
	assert.Equal(t, 1, d.scanLanes(ctx, x))
	_, err = d.c.Exec(ctx, "ROLLBACK")
	require.NoError(t, err)
	// Where the server allows no more connections, there are as many as it does.
	admin, err := pgx.Connect(ctx, os.Getenv("AMBERTRAY_TEST_POSTGRES"))
	require.NoError(t, err)
	defer admin.Close(ctx)
	_, err = admin.Exec(ctx, "ALTER DATABASE "+d.c.Config().Database+" ALLOW_CONNECTIONS false")
	require.NoError(t, err)
	assert.Equal(t, 6_000, bytes.Count([]byte(d.textOf(t, x)), []byte("\n")))
}

// What fails ends all connections, and is told.
func TestLanesFail(t *testing.T) {
	ctx := context.Background()
	d, raw := opened(t)
	x := registered(t, d, 120_000, "") // more than connections read ahead
	x.Lanes = 3
	again := func() {
		c, err := pgx.ConnectConfig(ctx, d.c.Config().Copy())
		require.NoError(t, err)
		t.Cleanup(func() { c.Close(ctx) })
		d = &DB{where: d.where, c: c}
	}
	boom := errors.New("boom")
	for _, at := range []int{1, 20, 100} {
		n := 0
		again()
		assert.ErrorIs(t, d.ScanText(ctx, x, func([]byte) error {
			if n++; n == at {
				return boom
			}
			return nil
		}), boom)
	}
	// A connection that ends in the middle.
	other, err := pgx.Connect(ctx, raw)
	require.NoError(t, err)
	defer other.Close(ctx)
	again()
	ended := false
	err = d.ScanText(ctx, x, func([]byte) error {
		if !ended {
			ended = true
			var n int
			require.NoError(t, other.QueryRow(ctx, "SELECT count(pg_terminate_backend(pid)) FROM pg_stat_activity WHERE "+
				"datname = current_database() AND pid NOT IN (pg_backend_pid(), $1) AND state <> 'idle'",
				d.c.PgConn().PID()).Scan(&n))
			assert.GreaterOrEqual(t, n, 2)
		}
		return nil
	})
	require.Error(t, err)
	assert.Contains(t, err.Error(), "cannot be read")
	again()
	canceled, cancel := context.WithCancel(ctx)
	err = d.ScanText(canceled, x, func([]byte) error { cancel(); return nil })
	assert.Error(t, err)
}
