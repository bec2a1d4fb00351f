package mysql

import (
	"context"
	"database/sql"
	"fmt"
	"math/big"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/reading"
	"ambertray/internal/sink"
	"ambertray/internal/testdb"
)

// filling is a load into a new table that is filled batch by batch.
type filling struct {
	*load
	sum  uint64
	rows int
}

const eachBatch = 50

func fill(t *testing.T, d *DB) *filling {
	x := dialect.Table{Name: "boats", Key: []string{"id"}, Columns: []dialect.Column{{Name: "id", Type: typ(t, "integer"), Required: true}, {Name: "boat", Type: typ(t, "varchar(10)")}}}
	l, err := d.Begin(context.Background(), db.Spec{Mode: db.Create, Table: x})
	require.NoError(t, err)
	t.Cleanup(func() { l.Rollback() })
	return &filling{load: l.(*load)}
}

// put writes the next batch, of boats of which one may have a longer name.
func (f *filling) put(ctx context.Context, long int) ([]sink.Refusal, error) {
	e := f.Encoder().(*encoder)
	var data []byte
	for range eachBatch {
		f.rows++
		name := fmt.Sprintf("Heron %d", f.rows%100)
		if f.rows == long {
			name += " of Harrowmere"
		}
		data = e.Append(data, []reading.Value{{Int: int64(f.rows)}, {Text: []byte(name), Null: f.rows%7 == 0}})
	}
	f.sum += e.Sum()
	return f.Write(ctx, sink.Batch{Rows: eachBatch, Data: data})
}

// agrees ends the load well, and makes sure that all rows are there.
func (f *filling) agrees(t *testing.T, conn *sql.DB) {
	t.Helper()
	ctx := context.Background()
	refused, err := f.Finish(ctx)
	require.NoError(t, err)
	require.Empty(t, refused)
	c, err := f.Check(ctx)
	require.NoError(t, err)
	require.NotNil(t, c)
	assert.Equal(t, int64(f.rows), c.Rows)
	assert.Equal(t, f.sum, c.Sum)
	assert.Equal(t, []*big.Int{nil, nil}, c.Totals, "what is sent has been read again")
	require.NoError(t, f.Commit(ctx))
	var n, sum int
	require.NoError(t, conn.QueryRow("SELECT count(*), sum(id) FROM boats").Scan(&n, &sum))
	assert.Equal(t, []int{f.rows, f.rows * (f.rows + 1) / 2}, []int{n, sum})
}

func tables(t *testing.T, conn *sql.DB) (n int) {
	require.NoError(t, conn.QueryRow("SELECT count(*) FROM information_schema.tables WHERE table_schema = database()").Scan(&n))
	return
}

// others are the connections to the database but our own and one more.
func others(t *testing.T, conn *sql.DB, but int64) (ids []int64) {
	rows, err := conn.Query("SELECT id FROM information_schema.processlist WHERE db = database() AND id NOT IN (connection_id(), ?)", but)
	require.NoError(t, err)
	defer rows.Close()
	for rows.Next() {
		var id int64
		require.NoError(t, rows.Scan(&id))
		ids = append(ids, id)
	}
	return
}

func connection(t *testing.T, c *sql.Conn) (id int64) {
	require.NoError(t, c.QueryRowContext(context.Background(), "SELECT connection_id()").Scan(&id))
	return
}

// Who may have one connection only loads over that.
func TestOneConnection(t *testing.T) {
	raw, conn := testdb.MySQL(t)
	u, err := url.Parse(raw)
	require.NoError(t, err)
	name := strings.TrimPrefix(u.Path, "/")
	_, err = conn.Exec("CREATE USER " + name + " IDENTIFIED BY '" + testdb.Password + "' WITH MAX_USER_CONNECTIONS 1")
	require.NoError(t, err)
	defer conn.Exec("DROP USER " + name)
	_, err = conn.Exec("GRANT ALL ON " + name + ".* TO " + name)
	require.NoError(t, err)
	d, err := connect(context.Background(), config{Where: "test", User: name, Password: testdb.Password, Host: u.Host, Database: name})
	require.NoError(t, err)
	defer d.Close()
	f := fill(t, d)
	for range 6 {
		refused, err := f.put(context.Background(), 0)
		require.NoError(t, err)
		require.Empty(t, refused)
	}
	assert.Nil(t, f.convoy)
	rows, columns, err := f.Tally(context.Background())
	require.NoError(t, err)
	assert.EqualValues(t, 300, rows)
	assert.Equal(t, "45150", columns[0].Sum())
	f.agrees(t, conn)
}

// A row that the server would change is found in whatever batch it is, and
// reported with its number among all.
func TestLongNameOnTwoConnections(t *testing.T) {
	for _, long := range []int{51, 99, 149, 300, 500} {
		d, conn := open(t)
		f := fill(t, d)
		var got []int
		for range 10 {
			first := f.rows
			refused, err := f.put(context.Background(), long)
			require.NoError(t, err)
			for _, r := range refused {
				got = append(got, first+r.Row+1)
			}
		}
		require.NotNil(t, f.convoy)
		refused, err := f.Finish(context.Background())
		require.NoError(t, err)
		for _, r := range refused {
			got = append(got, r.Row+1)
			assert.Equal(t, "boat", r.Column)
			assert.Contains(t, r.Message, "error 1265")
		}
		assert.Equal(t, []int{long}, got)
		require.NoError(t, f.Commit(context.Background()))
		var n int
		require.NoError(t, conn.QueryRow("SELECT count(*) FROM boats").Scan(&n))
		assert.Equal(t, 499, n)
	}
}

// The second connection may break at any time; the load goes on over its own.
func TestSecondConnectionLost(t *testing.T) {
	for lost := 2; lost < 8; lost++ {
		d, conn := open(t)
		f := fill(t, d)
		own := connection(t, d.c)
		for i := range 10 {
			refused, err := f.put(context.Background(), 0)
			require.NoError(t, err)
			require.Empty(t, refused)
			if i == lost {
				for _, id := range others(t, conn, own) {
					_, err := conn.Exec(fmt.Sprintf("KILL %d", id))
					require.NoError(t, err)
				}
			}
		}
		f.agrees(t, conn)
	}
}

// Where the load's own connection breaks it fails, and nothing is left.
func TestOwnConnectionLost(t *testing.T) {
	d, conn := open(t)
	f := fill(t, d)
	own := connection(t, d.c)
	var err error
	for i := 0; err == nil && i < 10; i++ {
		if _, err = f.put(context.Background(), 0); i == 4 {
			_, err := conn.Exec(fmt.Sprintf("KILL %d", own))
			require.NoError(t, err)
		}
	}
	if err == nil {
		_, err = f.Finish(context.Background())
	}
	require.Error(t, err)
	assert.NotContains(t, err.Error(), testdb.Password)
	f.Rollback()
	assert.Zero(t, tables(t, conn))
}

// A batch that is told to stop between two statements leaves its transaction
// open; what ends the load ends it, too.
func TestCancelledBetweenStatements(t *testing.T) {
	d, conn := open(t)
	f := fill(t, d)
	ctx := context.Background()
	for range 3 {
		_, err := f.put(ctx, 0)
		require.NoError(t, err)
	}
	require.NotNil(t, f.convoy)
	f.convoy.Wait()
	for _, statement := range []string{"START TRANSACTION", "INSERT INTO " + f.table + " VALUES (99999, 'Wren')"} {
		_, err := f.convoy.lanes[1].c.ExecContext(ctx, statement)
		require.NoError(t, err)
	}
	begun := time.Now()
	require.NoError(t, f.Rollback())
	assert.Less(t, time.Since(begun), db.EndIn/2, "nothing is waited for")
	assert.Zero(t, tables(t, conn))
}

func TestUnescaped(t *testing.T) {
	for _, s := range []string{"", "plain", "tab\t", "\n", `\`, `\\`, `\t`, `\N`, "a\\\tb\\\n", "é\t"} {
		assert.Equal(t, s, string(unescaped(nil, escape(nil, []byte(s)))), s)
	}
	assert.Equal(t, `\N`, string(unescaped(nil, []byte(`\N`))), "a null stays one")
}

// Of rows that the server may not put together there is no checksum.
func TestLongRowsHaveNoChecksum(t *testing.T) {
	d, _ := open(t)
	x := dialect.Table{Name: "logs", Columns: []dialect.Column{{Name: "id", Type: typ(t, "integer")}, {Name: "entry", Type: typ(t, "text")}}}
	for size, want := range map[int]bool{longRow - 10: true, longRow + 10: false} {
		l, err := d.Begin(context.Background(), db.Spec{Mode: db.Replace, Table: x})
		require.NoError(t, err)
		data := l.Encoder().Append(nil, []reading.Value{{Int: 1}, {Text: []byte(strings.Repeat("x", size))}})
		refused, err := l.Write(context.Background(), sink.Batch{Rows: 1, Data: data})
		require.NoError(t, err)
		require.Empty(t, refused)
		c, err := l.(db.Checker).Check(context.Background())
		require.NoError(t, err)
		assert.Equal(t, want, c != nil)
		require.NoError(t, l.Rollback())
	}
}
