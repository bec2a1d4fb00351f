package sqlserver_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
)

// filling is a load into a new table over three connections that is filled batch by batch.
type filling struct {
	*bench
	db.Load
	table dialect.Table
	rows  int
}

const eachBatch = 50

func (b *bench) fill() *filling {
	x := dialect.Table{Name: "boats", Key: []string{"id"}, Indexes: [][]string{{"boat"}}, Columns: []dialect.Column{
		{Name: "id", Type: typ("integer"), Required: true}, {Name: "boat", Type: typ("varchar(10)"), Required: true}}}
	l, err := b.c.Begin(ctx, db.Spec{Mode: db.Create, Table: x, Lanes: 3})
	require.NoError(b, err)
	b.Cleanup(func() { l.Rollback() })
	return &filling{bench: b, Load: l, table: x}
}

// put writes the next batch, of boats of which one may have no name.
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
	batch, _ := f.encoded(f.Load, f.table, rows...)
	refused, err := f.Write(ctx, batch)
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

// left are the tables of the database, but for that of notes.
func (b *bench) left() []string {
	return b.texts("SELECT name FROM sys.tables WHERE name <> 'ambertray_steps' ORDER BY name")
}

// A row that the server refuses is found in whatever batch it is, and reported with its number
// among all; the others are in, and the table has its key and its index.
func TestRefusedInLanes(t *testing.T) {
	for _, nameless := range []int{1, 51, 149, 300, 500} {
		b := newBench(t)
		f := b.fill()
		require.Len(t, b.left(), 1)
		assert.True(t, db.IsSide.MatchString(b.left()[0]), "nobody sees it before")
		list, err := open(t, b.url).(db.Lister).List(ctx)
		require.NoError(t, err)
		assert.Equal(t, "unfinished", list[0].Kind)
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
		assert.Equal(t, []string{"boats"}, b.left())
		assert.Equal(t, []string{fmt.Sprint("499|", 500*501/2-nameless)}, b.texts("SELECT COUNT(*), SUM(id) FROM boats"))
		assert.Equal(t, []string{"True|boats"}, b.texts("SELECT CASE WHEN is_primary_key = 1 THEN 'True' ELSE 'False' END, OBJECT_NAME(object_id) "+
			"FROM sys.indexes WHERE object_id = OBJECT_ID('boats') AND is_primary_key = 1"))
		assert.Equal(t, []string{"1"}, b.texts("SELECT COUNT(*) FROM sys.indexes WHERE object_id = OBJECT_ID('boats') AND name = 'boats_boat_idx'"))
	}
}

// Rows that no one takes back: the load is told to end, or fails at its key. Nothing is left.
func TestLanesLeaveNothing(t *testing.T) {
	for batches := range 5 {
		b := newBench(t)
		f := b.fill()
		within, cancel := context.WithCancel(ctx)
		for range batches {
			_, err := f.put(within, 0)
			require.NoError(t, err)
		}
		cancel()
		_, err := f.put(within, 0)
		if err == nil {
			_, err = f.finish(within)
		}
		require.Error(t, err)
		f.Rollback()
		assert.Empty(t, b.left())
	}
	b := newBench(t)
	f := b.fill()
	_, err := f.put(ctx, 0)
	require.NoError(t, err)
	f.rows = 20 // some come again
	_, err = f.put(ctx, 0)
	require.NoError(t, err)
	_, err = f.finish(ctx)
	var anew *db.OutOfOrder
	require.ErrorAs(t, err, &anew)
	assert.ErrorContains(t, err, "1505")
	require.NoError(t, f.Rollback())
	assert.Empty(t, b.left())
}

// What a load that has died has left is taken away by the next.
func TestLanesAreSwept(t *testing.T) {
	b := newBench(t)
	side := db.NewSide("", "boats")
	b.exec("CREATE TABLE " + side + " (id int)")
	list, err := b.c.(db.Lister).List(ctx)
	require.NoError(t, err)
	assert.Equal(t, "remains", list[0].Kind)
	f := b.fill()
	require.Len(t, b.left(), 1)
	assert.NotEqual(t, side, b.left()[0])
	// One that is not dead is not taken.
	other := open(t, b.url)
	l, err := other.Begin(ctx, db.Spec{Mode: db.Create, Table: dialect.Table{Name: "gauges", Columns: f.table.Columns}, Lanes: 2})
	require.NoError(t, err)
	require.Len(t, b.left(), 2)
	require.NoError(t, l.Rollback())
	require.NoError(t, f.Rollback())
	assert.Empty(t, b.left())
}

// Where others cannot fill the table at the same time, batches do not wait for each other for ever.
func TestLanesThatWait(t *testing.T) {
	b := newBench(t)
	f := b.fill()
	b.exec("CREATE INDEX late ON " + b.left()[0] + " (id)") // one with an index is filled by one alone
	for range 8 {
		_, err := f.put(ctx, 0)
		require.NoError(t, err)
	}
	_, err := f.finish(ctx)
	require.NoError(t, err)
	require.NoError(t, f.Commit(ctx))
	assert.Equal(t, []string{"400"}, b.texts("SELECT COUNT(*) FROM boats"))
	assert.Equal(t, "boats", strings.Join(b.left(), ","))
}
