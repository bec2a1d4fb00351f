package connect_test

import (
	"context"
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/db"
	"ambertray/internal/db/connect"
	"ambertray/internal/db/dialect"
)

// onLanes runs a test on each database whose new tables can be filled over several connections.
func onLanes(t *testing.T, test func(t *testing.T, connected func() db.Session)) {
	onTargets(t, func(t *testing.T, connected func() db.Session) {
		d, err := connect.ByName(connected().Dialect().Name)
		require.NoError(t, err)
		if d.Lanes {
			test(t, connected)
		}
	})
}

// filling is a load into a new table over three connections that is filled batch by batch.
type filling struct {
	*testing.T
	db.Load
	table dialect.Table
	rows  int
}

const eachBatch = 50

func fill(t *testing.T, conn db.Session) *filling {
	x := dialect.Table{Name: "boats", Key: []string{"id"}, Indexes: [][]string{{"boat"}}, Columns: []dialect.Column{
		{Name: "id", Type: typ("integer"), Required: true}, {Name: "boat", Type: typ("varchar(10)"), Required: true}}}
	l := begin(t, conn, db.Spec{Mode: db.Create, Table: x, Lanes: 3})
	t.Cleanup(func() { l.Rollback() })
	return &filling{t, l, x, 0}
}

// put writes the next batch, of boats of which one may have no name, and gives the numbers of those
// that are refused.
func (f *filling) put(ctx context.Context, nameless int) (got []int, err error) {
	first := f.rows
	var rows [][]string
	for range eachBatch {
		f.rows++
		boat := fmt.Sprint("Heron ", f.rows%100)
		if f.rows == nameless {
			boat = ""
		}
		rows = append(rows, []string{fmt.Sprint(f.rows), boat})
	}
	b, _ := batch(f.T, f.Load, f.table, rows...)
	refused, err := f.Write(ctx, b)
	for _, r := range refused {
		got = append(got, first+r.Row+1)
	}
	return got, err
}

func (f *filling) finish(ctx context.Context) (got []int, err error) {
	refused, err := f.Load.(db.Finisher).Finish(ctx)
	for _, r := range refused {
		got = append(got, r.Row+1)
	}
	return got, err
}

// listed are the tables that there are, with what they are where they are not simply that; not those of
// notes.
func listed(t *testing.T, conn db.Session) (names []string) {
	list, err := conn.(db.Lister).List(context.Background())
	require.NoError(t, err)
	for _, x := range list {
		switch {
		case db.IsSide.MatchString(x.Name):
			names = append(names, x.Kind)
		case x.Name != db.NotesTable:
			names = append(names, x.Name)
		}
	}
	return names
}

// A row that the server refuses is found in whatever batch it is, and reported with its number
// among all; the others are in, and the table has its key.
func TestRefusedInLanes(t *testing.T) {
	ctx := context.Background()
	for _, nameless := range []int{1, 51, 149, 300, 500} {
		onLanes(t, func(t *testing.T, connected func() db.Session) {
			conn, other := connected(), connected()
			f := fill(t, conn)
			assert.Equal(t, []string{"unfinished"}, listed(t, other), "nobody takes it for a table before")
			var got []int
			for range 10 {
				refused, err := f.put(ctx, nameless)
				require.NoError(t, err)
				got = append(got, refused...)
			}
			refused, err := f.finish(ctx)
			require.NoError(t, err)
			assert.Equal(t, []int{nameless}, append(got, refused...))
			require.NoError(t, f.Commit(ctx))
			assert.Equal(t, []string{"boats"}, listed(t, other))
			found, err := other.Find(ctx, "", "boats")
			require.NoError(t, err)
			assert.Equal(t, 1, found.Columns[0].Key)
			n, err := other.Count(ctx, found)
			require.NoError(t, err)
			assert.EqualValues(t, 499, n)
			missing, err := other.(db.Lister).Head(ctx, "", "boats", 500)
			require.NoError(t, err)
			for _, row := range missing {
				assert.NotEqual(t, fmt.Sprint(nameless), *row[0])
			}
			require.NoError(t, begin(t, conn, db.Spec{Mode: db.Replace, Table: f.table, Lanes: 2}).Rollback())
			assert.Equal(t, []string{"boats"}, listed(t, other))
			again := begin(t, conn, db.Spec{Mode: db.Replace, Table: f.table, Lanes: 2}) // without rows
			_, err = again.(db.Finisher).Finish(ctx)
			require.NoError(t, err)
			require.NoError(t, again.Commit(ctx))
			n, err = other.Count(ctx, found)
			require.NoError(t, err)
			assert.Zero(t, n)
		})
	}
}

// A load that is told to end, and one whose keys stand twice, leave nothing.
func TestLanesLeaveNothing(t *testing.T) {
	onLanes(t, func(t *testing.T, connected func() db.Session) {
		for batches := range 6 { // some are under way, or none
			f := fill(t, connected())
			ctx, cancel := context.WithCancel(context.Background())
			for range batches {
				_, err := f.put(ctx, 0)
				require.NoError(t, err)
			}
			cancel()
			_, err := f.put(ctx, 0)
			if err == nil {
				_, err = f.finish(ctx)
			}
			assert.ErrorIs(t, err, context.Canceled)
			f.Rollback()
			assert.Empty(t, listed(t, connected()))
		}
		ctx := context.Background()
		f := fill(t, connected())
		_, err := f.put(ctx, 0)
		require.NoError(t, err)
		f.rows = 40 // the last ten come again
		refused, err := f.put(ctx, 0)
		require.NoError(t, err)
		late, err := f.finish(ctx)
		if anew := (*db.OutOfOrder)(nil); !errors.As(err, &anew) { // the load begins anew then, on one connection
			require.NoError(t, err)
			assert.Len(t, append(refused, late...), 10)
		}
		require.NoError(t, f.Rollback())
		assert.Empty(t, listed(t, connected()))
	})
}
