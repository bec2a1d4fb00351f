package sqlite

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	lib "modernc.org/sqlite/lib"

	"ambertray/internal/db"
)

// filled is a table with rows of every storage class, some of them long.
func filled(t *testing.T, rows int) *DB {
	d, _ := open(t)
	require.NoError(t, d.c.exec("CREATE TABLE t (a, b, c, d, e)"))
	require.NoError(t, d.c.exec(fmt.Sprintf(`WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < %d)
		INSERT INTO t SELECT i, i / 4.0, CASE WHEN i %% 3 THEN NULL ELSE '' END, 'Zeile é ' || i || substr('%s', 1, i %% 50), CAST('blob' || i AS BLOB) FROM n`, rows, strings.Repeat("x", 60))))
	return d
}

func (d *DB) selected(t *testing.T, sql string) *stmt {
	s, err := d.c.prepare(sql)
	require.NoError(t, err)
	t.Cleanup(s.close)
	return s
}

func TestReadBackHandsOnAll(t *testing.T) {
	for _, rows := range []int{0, 1, 2500, 40_000} {
		d := filled(t, max(rows, 1))
		sql := "SELECT * FROM t ORDER BY a"
		if rows == 0 {
			sql = "SELECT * FROM t WHERE 0"
		}
		seen := int64(0)
		n, err := d.readBack(context.Background(), d.selected(t, sql), func(row int64, column int, x *rawValue) error {
			require.Equal(t, seen/5+1, row)
			require.Equal(t, int(seen%5), column)
			seen++
			switch column {
			case 0:
				require.Equal(t, []any{int32(lib.SQLITE_INTEGER), row}, []any{x.kind, x.int})
			case 1:
				require.Equal(t, []any{int32(lib.SQLITE_FLOAT), float64(row) / 4}, []any{x.kind, x.float})
			case 2:
				if row%3 > 0 {
					require.Equal(t, int32(lib.SQLITE_NULL), x.kind)
				} else {
					require.Equal(t, int32(lib.SQLITE_TEXT), x.kind)
					require.Empty(t, x.text)
				}
			case 3:
				require.Equal(t, fmt.Sprintf("Zeile é %d%s", row, strings.Repeat("x", int(row%50))), string(x.text))
			case 4:
				require.Equal(t, int32(lib.SQLITE_BLOB), x.kind)
			}
			return nil
		})
		require.NoError(t, err)
		assert.Equal(t, int64(rows), n)
		assert.Equal(t, int64(5*rows), seen)
	}
}

// An error on either side ends both.
func TestReadBackEnds(t *testing.T) {
	d := filled(t, 40_000)
	boom := errors.New("boom")
	for _, at := range []int64{1, 777, 39_999, 40_000} {
		calls := 0
		_, err := d.readBack(context.Background(), d.selected(t, "SELECT a FROM t"), func(row int64, _ int, _ *rawValue) error {
			if calls++; row == at {
				return boom
			}
			return nil
		})
		assert.ErrorIs(t, err, boom)
		assert.Equal(t, int(at), calls, "nothing is looked at after it")
	}
	_, err := d.readBack(context.Background(), d.selected(t, "SELECT a, CASE WHEN a = 30000 THEN abs(-9223372036854775808) END FROM t"), func(int64, int, *rawValue) error { return nil })
	assert.ErrorContains(t, err, "integer overflow")
	var e *db.Error
	assert.ErrorAs(t, err, &e)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = d.readBack(ctx, d.selected(t, "SELECT abs(-9223372036854775808)"), func(int64, int, *rawValue) error { return nil })
	assert.ErrorIs(t, err, context.Canceled)
}

// In a table of ours, a value of another kind is an error that says where; in
// one of somebody else's, its column is no longer compared.
func TestTallyOfStrangeValues(t *testing.T) {
	d, _ := open(t)
	x := table(t, "t", "integer", "decimal(8,2)", "date")
	for _, sql := range Dialect.Create(x) {
		require.NoError(t, d.c.exec(sql))
	}
	require.NoError(t, d.c.exec("INSERT INTO t VALUES (1, 2.5, '2025-01-31'), (2, 3, '2025-02-29')"))
	_, _, err := d.tally(context.Background(), x, true)
	assert.ErrorContains(t, err, "row 2, column c")
	rows, cols, err := d.tally(context.Background(), x, false)
	require.NoError(t, err)
	assert.Equal(t, int64(2), rows)
	assert.Equal(t, []bool{false, false, true}, []bool{cols[0].Loose, cols[1].Loose, cols[2].Loose})
	assert.Equal(t, "5.50", cols[1].Sum())
}
