package sqlserver_test

import (
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

func (b *bench) fill() *filling {
	x := dialect.Table{Name: "boats", Key: []string{"id"}, Indexes: [][]string{{"boat"}}, Columns: []dialect.Column{
		{Name: "id", Type: typ("integer"), Required: true}, {Name: "boat", Type: typ("varchar(10)"), Required: true}}}
	l, err := b.c.Begin(ctx, db.Spec{Mode: db.Create, Table: x, Lanes: 3})
	require.NoError(b, err)
	b.Cleanup(func() { l.Rollback() })
	return &filling{bench: b, Load: l, table: x}
}

// put writes the next batch.
func (f *filling) put() {
	var rows [][]string
	for range 50 {
		f.rows++
		rows = append(rows, []string{fmt.Sprint(f.rows), fmt.Sprint("Heron ", f.rows%100)})
	}
	batch, _ := f.encoded(f.Load, f.table, rows...)
	refused, err := f.Write(ctx, batch)
	require.NoError(f, err)
	require.Empty(f, refused)
}

// left are the tables of the database, but for that of notes.
func (b *bench) left() []string {
	return b.texts("SELECT name FROM sys.tables WHERE name <> 'ambertray_steps' ORDER BY name")
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
		f.put()
	}
	refused, err := f.Load.(db.Finisher).Finish(ctx)
	require.NoError(t, err)
	require.Empty(t, refused)
	require.NoError(t, f.Commit(ctx))
	assert.Equal(t, []string{"400"}, b.texts("SELECT COUNT(*) FROM boats"))
	assert.Equal(t, "boats", strings.Join(b.left(), ","))
}
