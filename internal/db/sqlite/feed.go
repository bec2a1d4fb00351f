package sqlite

import (
	"fmt"
	"math"
	"strings"
	"sync"
	"unsafe"

	"modernc.org/libc"
	lib "modernc.org/sqlite/lib"
)

// A feed is a table that SQLite sees and that holds the rows of a batch: a
// virtual table (SQLite, "The Virtual Table Mechanism Of SQLite"). INSERT …
// SELECT from it takes half the time of a statement for each row. It is known
// to one connection, under its name, and to no schema.
type feed struct {
	columns int
	rest    []byte     // rows behind the one shown
	row     int        // the one shown, from 0
	rows    int        // in all
	values  []rawValue // of the row shown

	// See inOrder.
	key     int    // the column, or -1
	want    int64  // the key that would follow on the last one
	run     int    // how many have followed, one after the other
	tries   int    // how often the table may still be asked
	without bool   // keys are left out: only rows are shown that follow
	before  bool   // it ends before the row shown
	shown   []byte // from that on

	order order // of the rows shown
}

// feedName is the table's name.
const feedName = "ambertray_feed"

// feedModule is what SQLite knows of such tables, in memory of the C library's. There is one, for
// all connections, and it stays: SQLite disconnects a table only when it comes by, which may be
// after another has got its name, or the connection was closed.
var feedModule struct {
	sync.Once
	at uintptr
}

func (c *conn) feedModule() uintptr {
	feedModule.Do(func() {
		feedModule.at = libc.Xcalloc(c.tls, 1, libc.Tsize_t(unsafe.Sizeof(lib.Sqlite3_module{})))
		if feedModule.at == 0 {
			return
		}
		m := (*lib.Sqlite3_module)(at(feedModule.at))
		m.FxConnect = pointer(feedConnect)
		m.FxBestIndex = pointer(feedPlan)
		m.FxDisconnect = pointer(feedFree)
		m.FxOpen = pointer(feedOpen)
		m.FxClose = pointer(feedFree)
		m.FxFilter = pointer(feedFirst)
		m.FxNext = pointer(feedNext)
		m.FxEof = pointer(feedEnd)
		m.FxColumn = pointer(feedColumn)
		m.FxRowid = pointer(feedRow)
	})
	return feedModule.at
}

// feed makes the table, with columns named c0, c1 and so on.
func (c *conn) feed(columns int) (*feed, error) {
	f := &feed{columns: columns, key: -1, order: order{column: -1}, values: make([]rawValue, columns)}
	module := c.feedModule()
	if module == 0 {
		return nil, fmt.Errorf("no memory")
	}
	name, err := libc.CString(feedName)
	if err != nil {
		return nil, err
	}
	defer libc.Xfree(c.tls, name)
	c.feeds = append(c.feeds, f) // SQLite knows its address
	if rc := lib.Xsqlite3_create_module_v2(c.tls, c.db, name, module, uintptr(unsafe.Pointer(f)),
		0); rc != lib.SQLITE_OK {
		return nil, c.error(rc)
	}
	return f, nil
}

// set gives the table its rows. data must stay as it is while they are read.
func (f *feed) set(data []byte, rows int) { f.rest, f.rows, f.row, f.before = data, rows, -1, false }

// next shows the next row.
func (f *feed) next() {
	if f.row++; f.row >= f.rows {
		return
	}
	f.shown = f.rest
	for i := range f.values {
		f.rest = f.values[i].take(f.rest)
	}
	if f.key >= 0 {
		f.follow()
	}
	if f.order.column >= 0 {
		f.order.see(f.values)
	}
}

// follow sees whether the key shown follows on the last one, and ends the feed before it where rows
// go on in another way from there.
func (f *feed) follow() {
	v := &f.values[f.key]
	number := v.kind == lib.SQLITE_INTEGER && v.int < math.MaxInt64
	if !number || v.int != f.want {
		f.run = 0
		f.before = f.without
	} else if f.run++; f.run == runLength+1 && f.tries > 0 {
		f.before = !f.without
	}
	if number && !f.before {
		f.want = v.int + 1
	}
}

// again shows the rest from the row on before which it has ended.
func (f *feed) again() { f.rest, f.row, f.before = f.shown, f.row-1, false }

// pointer is a declared function as the C library calls it: a function value
// is a pointer to what begins with the code's address.
func pointer[F any](f F) uintptr { return *(*uintptr)(unsafe.Pointer(&f)) }

// feedTable and feedCursor are what SQLite keeps of the table and of a reading
// of it: its own part first, then the feed's address. The feed outlives both.
type feedTable struct {
	lib.Sqlite3_vtab
	feed uintptr
}

type feedCursor struct {
	lib.Sqlite3_vtab_cursor
	feed uintptr
}

func feedOf(cursor uintptr) *feed { return (*feed)(at((*feedCursor)(at(cursor)).feed)) }

func feedConnect(tls *libc.TLS, db, aux uintptr, _ int32, _, table, _ uintptr) int32 {
	f := (*feed)(at(aux))
	var names strings.Builder
	for i := range f.columns {
		fmt.Fprintf(&names, ", c%d", i)
	}
	sql, err := libc.CString("CREATE TABLE feed (" + names.String()[2:] + ")")
	if err != nil {
		return lib.SQLITE_ERROR
	}
	defer libc.Xfree(tls, sql)
	if rc := lib.Xsqlite3_declare_vtab(tls, db, sql); rc != lib.SQLITE_OK {
		return rc
	}
	p := libc.Xcalloc(tls, 1, libc.Tsize_t(unsafe.Sizeof(feedTable{})))
	if p == 0 {
		return lib.SQLITE_NOMEM
	}
	(*feedTable)(at(p)).feed = aux
	*(*uintptr)(at(table)) = p
	return lib.SQLITE_OK
}

// feedPlan has nothing to say: there is one way to read the table.
func feedPlan(*libc.TLS, uintptr, uintptr) int32 { return lib.SQLITE_OK }

func feedFree(tls *libc.TLS, p uintptr) int32 {
	libc.Xfree(tls, p)
	return lib.SQLITE_OK
}

func feedOpen(tls *libc.TLS, table, cursor uintptr) int32 {
	p := libc.Xcalloc(tls, 1, libc.Tsize_t(unsafe.Sizeof(feedCursor{})))
	if p == 0 {
		return lib.SQLITE_NOMEM
	}
	(*feedCursor)(at(p)).feed = (*feedTable)(at(table)).feed
	*(*uintptr)(at(cursor)) = p
	return lib.SQLITE_OK
}

func feedFirst(_ *libc.TLS, cursor uintptr, _ int32, _ uintptr, _ int32, _ uintptr) int32 {
	return feedNext(nil, cursor)
}

func feedNext(_ *libc.TLS, cursor uintptr) int32 {
	feedOf(cursor).next()
	return lib.SQLITE_OK
}

func feedEnd(_ *libc.TLS, cursor uintptr) int32 {
	if f := feedOf(cursor); f.before || f.row >= f.rows {
		return 1
	}
	return 0
}

// feedColumn lends text to SQLite, which copies it into the record before the
// next row.
func feedColumn(tls *libc.TLS, cursor, result uintptr, i int32) int32 {
	x := &feedOf(cursor).values[i]
	switch x.kind {
	case lib.SQLITE_NULL:
		lib.Xsqlite3_result_null(tls, result)
	case lib.SQLITE_INTEGER:
		lib.Xsqlite3_result_int64(tls, result, x.int)
	case lib.SQLITE_FLOAT:
		lib.Xsqlite3_result_double(tls, result, x.float)
	default:
		p := &noText[0]
		if len(x.text) > 0 {
			p = &x.text[0]
		}
		lib.Xsqlite3_result_text(tls, result, uintptr(unsafe.Pointer(p)), int32(len(x.text)), 0)
	}
	return lib.SQLITE_OK
}

func feedRow(_ *libc.TLS, cursor, row uintptr) int32 {
	*(*int64)(at(row)) = int64(feedOf(cursor).row)
	return lib.SQLITE_OK
}
