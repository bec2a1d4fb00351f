package sqlite

import (
	"testing"
	"unsafe"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"modernc.org/libc"
	lib "modernc.org/sqlite/lib"
)

// rowsOf counts what a feed shows.
func rowsOf(t *testing.T, c *conn) (n int) {
	s, err := c.prepare("SELECT * FROM " + feedName)
	require.NoError(t, err)
	defer s.close()
	for {
		row, err := s.step()
		require.NoError(t, err)
		if !row {
			return n
		}
		n++
	}
}

// fill takes memory of the size of a module, and fills it: what was let go of before is not as it
// was.
func (c *conn) fill(times int) {
	const size = int(unsafe.Sizeof(lib.Sqlite3_module{}))
	for range times {
		p := libc.Xcalloc(c.tls, 1, libc.Tsize_t(size))
		b := unsafe.Slice((*byte)(at(p)), size)
		for i := range b {
			b[i] = 0xee
		}
	}
}

// A connection has a feed for each load, one after the other, and SQLite lets go of one only
// when the next statement is prepared.
func TestFeedsFollowEachOther(t *testing.T) {
	d, _ := open(t)
	for columns := range 20 {
		f, err := d.c.feed(columns + 1)
		require.NoError(t, err)
		d.c.fill(2000)
		f.set(nil, 0)
		assert.Zero(t, rowsOf(t, d.c))
		d.c.fill(2000)
	}

}

// What is closed with a statement that was not finished does no harm to others.
func TestClosedWithAFeed(t *testing.T) {
	for range 5 {
		d, _ := open(t)
		_, err := d.c.feed(3)
		require.NoError(t, err)
		assert.Zero(t, rowsOf(t, d.c))
		require.NoError(t, d.Close())
	}
	d, _ := open(t)
	_, err := d.c.feed(2)
	require.NoError(t, err)
	d.c.fill(8)
	assert.Zero(t, rowsOf(t, d.c))
}

// Whoever is told to stop may say so to a connection that is closed by then.
func TestInterruptedWhenClosed(t *testing.T) {
	d, _ := open(t)
	require.NoError(t, d.Close())
	d.c.interrupt()
}
