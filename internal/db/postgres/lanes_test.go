package postgres

import (
	"context"
	"fmt"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/reading"
	"ambertray/internal/sink"
	"ambertray/internal/sqltype"
)

// filling is a load into a new table over three connections that is filled batch by batch.
type filling struct {
	*load
	rows int
}

const eachBatch = 50

func fill(t *testing.T, d *DB) *filling {
	x := dialect.Table{Name: "boats", Key: []string{"id"}, Columns: []dialect.Column{
		{Name: "id", Type: sqltype.Type{Kind: sqltype.Integer}, Required: true},
		{Name: "boat", Type: sqltype.Type{Kind: sqltype.VarChar, Length: 10}, Required: true}}}
	l, err := d.Begin(context.Background(), db.Spec{Mode: db.Create, Table: x, Lanes: 3})
	require.NoError(t, err)
	t.Cleanup(func() { l.Rollback() })
	return &filling{load: l.(*load)}
}

// put writes the next batch.
func (f *filling) put(ctx context.Context) ([]sink.Refusal, error) {
	e := f.Encoder()
	var data []byte
	for range eachBatch {
		f.rows++
		data = e.Append(data, []reading.Value{{Int: int64(f.rows)}, {Text: fmt.Appendf(nil, "Heron %d", f.rows%100)}})
	}
	return f.Write(ctx, sink.Batch{Rows: eachBatch, Data: data})
}

// beside is a database with a connection of the program's and one of another.
func beside(t *testing.T) (*DB, *pgx.Conn) {
	d, url := opened(t)
	c, err := pgx.Connect(context.Background(), url)
	require.NoError(t, err)
	t.Cleanup(func() { c.Close(context.Background()) })
	return d, c
}

func one[T any](t *testing.T, c *pgx.Conn, query string) (x T) {
	require.NoError(t, c.QueryRow(context.Background(), query).Scan(&x))
	return x
}

// Another connection may break at any time; the load goes on over its own. When that breaks,
// nothing is left.
func TestLanesLost(t *testing.T) {
	ctx := context.Background()
	const ours = "FROM pg_stat_activity WHERE application_name = 'ambertray' AND datname = current_database() AND pid "
	left := "SELECT count(*)::int FROM pg_class WHERE relname LIKE 'ambertray%' OR relname = 'boats'"
	for _, own := range []bool{false, true} {
		for at := 1; at < 8; at += 2 {
			d, c := beside(t)
			f := fill(t, d)
			pid := d.c.PgConn().PID()
			var err error
			for i := 0; err == nil && i < 10; i++ {
				if _, err = f.put(ctx); i == at {
					is := map[bool]string{true: "=", false: "<>"}[own]
					one[int](t, c, fmt.Sprintf("SELECT count(pg_terminate_backend(pid))::int %s %s %d", ours, is, pid))
				}
			}
			if err == nil {
				_, err = f.Finish(ctx)
			}
			if own {
				require.Error(t, err)
				f.Rollback()
				assert.Zero(t, one[int](t, c, left))
				continue
			}
			require.NoError(t, err)
			require.NoError(t, f.Commit(ctx))
			assert.Equal(t, 500, one[int](t, c, "SELECT count(*)::int FROM boats"))
		}
	}
}
