package postgres

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/reading"
	"ambertray/internal/sink"
)

// Where the server's functions are not those we know, or not there, a table is
// not compared by checksums, and the load goes on.
func TestOtherHashFunctions(t *testing.T) {
	x := dialect.Table{Name: "boats", Key: []string{"id"}, Columns: []dialect.Column{{Name: "id", Type: typ(t, "integer")}, {Name: "boat", Type: typ(t, "varchar(20)")}}}
	for body, want := range map[string]bool{
		"SELECT pg_catalog.hashtextextended($1, $2)":     true,
		"SELECT pg_catalog.hashtextextended($1, $2) + 1": false,
		"SELECT ($2 / ($2 - $2))::bigint":                false, // fails
	} {
		d, _ := opened(t)
		ctx := context.Background()
		for _, sql := range []string{"CREATE FUNCTION public.hashtextextended(text, bigint) RETURNS bigint LANGUAGE sql AS '" + body + "'", "SET search_path = public, pg_catalog"} {
			_, err := d.c.Exec(ctx, sql)
			require.NoError(t, err)
		}
		l, err := d.Begin(ctx, db.Spec{Mode: db.Create, Table: x})
		require.NoError(t, err)
		e := l.Encoder()
		data := e.Append(nil, []reading.Value{{Int: 1}, {Text: []byte("Heron")}})
		data = e.Append(data, []reading.Value{{Int: 2}, {Null: true}})
		refused, err := l.Write(ctx, sink.Batch{Rows: 2, Data: data})
		require.NoError(t, err)
		require.Empty(t, refused)
		_, err = l.(db.Finisher).Finish(ctx)
		require.NoError(t, err)
		c, err := l.(db.Checker).Check(ctx)
		require.NoError(t, err)
		require.Equal(t, want, c != nil, body)
		if want {
			assert.Equal(t, e.(sink.Summer).Sum(), c.Sum)
		}
		rows, columns, err := l.Tally(ctx)
		require.NoError(t, err, "the transaction goes on")
		assert.EqualValues(t, 2, rows)
		assert.EqualValues(t, 1, columns[1].Nulls)
		require.NoError(t, l.Commit(ctx))
	}
}

// Our hashes are those of the server, for texts of every length and for seeds of
// all sizes.
func TestHashesAreTheServers(t *testing.T) {
	d, _ := opened(t)
	for _, s := range []string{"", "a", "ab", "abc", "lock", "locks", "sluice", "sluices", "eight 8.", "nine nine", "ten bytes.", "elevenbytes", "twelve bytes", "thirteen byte", "a text of more than two dozen bytes, é"} {
		for _, seed := range []int64{0, 1, -1, 1 << 40} {
			var want int64
			require.NoError(t, d.c.QueryRow(context.Background(), "SELECT hashtextextended($1, $2)", s, seed).Scan(&want))
			assert.Equal(t, uint64(want), hashBytes([]byte(s), uint64(seed)), "%q, %d", s, seed)
		}
	}
	for _, n := range []int64{0, 1, -1, 1 << 31, -1 << 31, 1<<63 - 1, -1 << 63} {
		var want int64
		require.NoError(t, d.c.QueryRow(context.Background(), "SELECT hashint8extended($1, 7)", n).Scan(&want))
		assert.Equal(t, uint64(want), hash64(n, 7), n)
	}
}
