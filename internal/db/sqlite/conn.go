package sqlite

import (
	"context"
	"fmt"
	"runtime"
	"sync"
	"sync/atomic"
	"time"
	"unsafe"

	"modernc.org/libc"
	lib "modernc.org/sqlite/lib"
)

// conn is a connection through SQLite's own C interface, which the package
// lib translates function by function. It saves the boxes that database/sql
// puts around every value: half the time of a load. A conn is for one
// goroutine, but for interrupt.
type conn struct {
	tls *libc.TLS
	db  uintptr
	// feeds are those that there were, which stay as long as the connection.
	feeds []*feed

	patience time.Duration // for others that hold the file
	since    time.Time     // that the statement which runs waits for them
	waited   atomic.Int64  // when it did last, in Unix milliseconds
	end      atomic.Bool   // nobody is waited for any more
	closing  sync.Mutex    // of the connection, which nobody may interrupt behind that
}

// Error is a failure that SQLite reports.
type Error struct {
	Code    int // extended result code
	Message string
}

func (e *Error) Error() string { return fmt.Sprintf("%s (SQLite code %d)", e.Message, e.Code) }

// How a file is opened.
const (
	orCreate = lib.SQLITE_OPEN_READWRITE | lib.SQLITE_OPEN_CREATE
	toRead   = lib.SQLITE_OPEN_READONLY
)

func openConn(path string, how int32) (*conn, error) {
	c := &conn{tls: libc.NewTLS()}
	flags := how | lib.SQLITE_OPEN_NOMUTEX | lib.SQLITE_OPEN_EXRESCODE
	name, err := libc.CString(path)
	if err != nil {
		return nil, err
	}
	defer libc.Xfree(c.tls, name)
	pp := c.tls.Alloc(8)
	defer c.tls.Free(8)
	rc := lib.Xsqlite3_open_v2(c.tls, name, pp, flags, 0)
	c.db = *(*uintptr)(at(pp))
	if rc != lib.SQLITE_OK {
		err := c.error(rc)
		c.close()
		return nil, err
	}
	c.patience = 10 * time.Second
	if rc := lib.Xsqlite3_busy_handler(c.tls, c.db, pointer(busy), uintptr(unsafe.Pointer(c))); rc != lib.SQLITE_OK {
		err := c.error(rc)
		c.close()
		return nil, err
	}
	connections.Store(c.db, c) // SQLite knows its address
	return c, nil
}

// connections keeps them where they are.
var connections sync.Map

// busy is called when others hold the file, for the n-th time by one statement, and
// tells whether to try again. SQLite's own waiting does not end when it is told to.
func busy(_ *libc.TLS, p uintptr, n int32) int32 {
	c := (*conn)(at(p))
	now := time.Now()
	if n == 0 {
		c.since = now
	}
	if c.end.Load() || now.Sub(c.since) > c.patience {
		return 0
	}
	c.waited.Store(now.UnixMilli())
	time.Sleep(time.Duration(min(n+1, 50)) * time.Millisecond)
	return 1
}

// waits reports whether others are waited for right now.
func (c *conn) waits() bool { return time.Now().UnixMilli()-c.waited.Load() < 200 }

// wait sets how long others are waited for that hold the file.
func (c *conn) wait(d time.Duration) { c.patience = d }

func (c *conn) error(rc int32) error {
	msg := libc.GoString(lib.Xsqlite3_errstr(c.tls, rc))
	if c.db != 0 && lib.Xsqlite3_extended_errcode(c.tls, c.db) == rc {
		msg = libc.GoString(lib.Xsqlite3_errmsg(c.tls, c.db))
	}
	return &Error{int(rc), msg}
}

func (c *conn) close() {
	c.closing.Lock()
	defer c.closing.Unlock()
	if c.db != 0 {
		connections.Delete(c.db)
		lib.Xsqlite3_close_v2(c.tls, c.db)
		c.db = 0
	}
	c.tls.Close()
}

// autocommit reports whether no transaction is open: SQLite ends one by itself after
// some failures.
func (c *conn) autocommit() bool { return lib.Xsqlite3_get_autocommit(c.tls, c.db) != 0 }

// changes is how many rows have been inserted, changed or deleted.
func (c *conn) changes() int64 { return lib.Xsqlite3_total_changes64(c.tls, c.db) }

// lastRow is the number of the row that was inserted last.
func (c *conn) lastRow() int64 { return lib.Xsqlite3_last_insert_rowid(c.tls, c.db) }

// interrupt makes a running statement fail, and what waits for others. Any goroutine may
// call it.
func (c *conn) interrupt() {
	c.end.Store(true)
	c.closing.Lock()
	defer c.closing.Unlock()
	if c.db != 0 {
		lib.Xsqlite3_interrupt(c.tls, c.db)
	}
}

// exec runs a statement, with texts for its parameters.
func (c *conn) exec(sql string, texts ...string) error {
	s, err := c.prepare(sql)
	if err != nil {
		return err
	}
	defer s.close()
	for i, text := range texts {
		if err := s.bindString(i+1, text); err != nil {
			return err
		}
	}
	for {
		row, err := s.step()
		if err != nil || !row {
			return err
		}
	}
}

// Ask implements db.Asker.
func (c *conn) Ask(_ context.Context, sql string, args ...any) (out [][]*string, err error) {
	s, err := c.prepare(sql)
	if err != nil {
		return nil, err
	}
	defer s.close()
	for i, x := range args {
		switch x := x.(type) {
		case int:
			s.bindInt(i+1, int64(x))
		case int64:
			s.bindInt(i+1, x)
		case string:
			if err := s.bindString(i+1, x); err != nil {
				return nil, err
			}
		default:
			return nil, fmt.Errorf("a parameter of type %T cannot be bound", x)
		}
	}
	for {
		more, err := s.step()
		if err != nil || !more {
			return out, err
		}
		var row []*string
		for i := range s.columns() {
			if s.kind(i) == lib.SQLITE_NULL {
				row = append(row, nil)
				continue
			}
			v := string(s.text(i))
			row = append(row, &v)
		}
		out = append(out, row)
	}
}

// stmt is a prepared statement. Columns count from 0, parameters from 1.
type stmt struct {
	c *conn
	p uintptr
}

func (c *conn) prepare(sql string) (*stmt, error) {
	text, err := libc.CString(sql)
	if err != nil {
		return nil, err
	}
	defer libc.Xfree(c.tls, text)
	pp := c.tls.Alloc(8)
	defer c.tls.Free(8)
	if rc := lib.Xsqlite3_prepare_v2(c.tls, c.db, text, -1, pp, 0); rc != lib.SQLITE_OK {
		return nil, c.error(rc)
	}
	return &stmt{c, *(*uintptr)(at(pp))}, nil
}

func (s *stmt) close() { lib.Xsqlite3_finalize(s.c.tls, s.p) }

func (s *stmt) step() (row bool, err error) {
	switch rc := lib.Xsqlite3_step(s.c.tls, s.p); rc {
	case lib.SQLITE_ROW:
		return true, nil
	case lib.SQLITE_DONE:
		return false, nil
	default:
		return false, s.c.error(rc)
	}
}

func (s *stmt) reset() { lib.Xsqlite3_reset(s.c.tls, s.p) }

func (s *stmt) bindNull(i int) { lib.Xsqlite3_bind_null(s.c.tls, s.p, int32(i)) }

func (s *stmt) bindInt(i int, v int64) { lib.Xsqlite3_bind_int64(s.c.tls, s.p, int32(i), v) }

func (s *stmt) bindFloat(i int, v float64) { lib.Xsqlite3_bind_double(s.c.tls, s.p, int32(i), v) }

var noText = [1]byte{}

// bindText lends b to SQLite until the statement is reset and bound again: b
// must stay alive and unchanged for so long. Go does not move memory of the
// heap.
func (s *stmt) bindText(i int, b []byte) error {
	p := &noText[0]
	if len(b) > 0 {
		p = &b[0]
	}
	if rc := lib.Xsqlite3_bind_text(s.c.tls, s.p, int32(i), uintptr(unsafe.Pointer(p)), int32(len(b)),
		0); rc != lib.SQLITE_OK {
		return s.c.error(rc)
	}
	return nil
}

// bindString is for short texts that nobody else keeps.
func (s *stmt) bindString(i int, text string) error {
	b := []byte(text)
	p := &noText[0]
	if len(b) > 0 {
		p = &b[0]
	}
	const transient = ^uintptr(0) // SQLite copies
	rc := lib.Xsqlite3_bind_text(s.c.tls, s.p, int32(i), uintptr(unsafe.Pointer(p)), int32(len(b)), transient)
	runtime.KeepAlive(b)
	if rc != lib.SQLITE_OK {
		return s.c.error(rc)
	}
	return nil
}

func (s *stmt) columns() int { return int(lib.Xsqlite3_column_count(s.c.tls, s.p)) }

func (s *stmt) kind(i int) int32 { return lib.Xsqlite3_column_type(s.c.tls, s.p, int32(i)) }

func (s *stmt) int(i int) int64 { return lib.Xsqlite3_column_int64(s.c.tls, s.p, int32(i)) }

func (s *stmt) float(i int) float64 { return lib.Xsqlite3_column_double(s.c.tls, s.p, int32(i)) }

// text is valid until the next step.
func (s *stmt) text(i int) []byte {
	p := lib.Xsqlite3_column_text(s.c.tls, s.p, int32(i))
	n := lib.Xsqlite3_column_bytes(s.c.tls, s.p, int32(i))
	if p == 0 || n == 0 {
		return nil
	}
	return unsafe.Slice((*byte)(at(p)), n)
}

// at is the memory at an address of the C library's, which Go does not own.
func at(p uintptr) unsafe.Pointer { return *(*unsafe.Pointer)(unsafe.Pointer(&p)) }

// name and declared are a column's name and its declared type, if it is a
// table's.
func (s *stmt) name(i int) string {
	return libc.GoString(lib.Xsqlite3_column_name(s.c.tls, s.p, int32(i)))
}

func (s *stmt) declared(i int) string {
	return libc.GoString(lib.Xsqlite3_column_decltype(s.c.tls, s.p, int32(i)))
}
