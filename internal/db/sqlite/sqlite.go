// Package sqlite loads into SQLite, through the library built into the
// program.
//
// Rows go in through a virtual table of ours, a batch at a time, in one
// transaction; a table with triggers is filled row by row. What the file then
// holds is read back for the verification. Decimals of up to 15 digits are SQLite numbers, which read
// back equal; longer ones are text. Dates and times are ISO 8601 text.
package sqlite

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/maphash"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync/atomic"

	lib "modernc.org/sqlite/lib"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/reading"
	"ambertray/internal/sink"
	"ambertray/internal/sqltype"
	"ambertray/internal/tally"
)

// DB is an open database file.
type DB struct {
	path string
	c    *conn
	// readOnly tells that SQLite refuses whatever would change the file.
	readOnly bool
	created  bool // by us, and nothing has been committed yet
	load     *load
	staged   *staging // of the last merge
	// together tells that several loads are in the transaction that is open.
	together bool
	// beginning tells that the write lock is being taken.
	beginning atomic.Bool
}

// Blockers implements db.Blocker: who holds the file, SQLite does not tell.
func (d *DB) Blockers(context.Context) string {
	switch {
	case !d.c.waits():
		return ""
	case d.beginning.Load():
		return "another program that writes to the file"
	}
	return "another program that reads the file"
}

// Open opens a database file, or creates it.
func Open(ctx context.Context, path string) (*DB, error) {
	fail := func(what, do string, err error) error {
		return &db.Error{Where: "sqlite:" + path, What: what, Do: do, Err: err}
	}
	dir := filepath.Dir(path)
	if info, err := os.Stat(dir); err != nil || !info.IsDir() {
		return nil, fail("its folder "+dir+" does not exist", "create the folder first", nil)
	}
	info, err := os.Stat(path)
	created := errors.Is(err, fs.ErrNotExist)
	if err == nil && info.IsDir() {
		return nil, fail("is a folder, not a database file", "name a file in it", nil)
	}
	c, err := openConn(path, orCreate)
	if err != nil {
		return nil, fail("cannot be opened", "check that the folder exists and can be written", err)
	}
	// The first look at the file tells whether it is a database.
	if err := c.exec("SELECT count(*) FROM sqlite_schema"); err != nil {
		c.close()
		return nil, fail("is not usable as a database", "check the path; an existing file must be an SQLite database",
			err)
	}
	if err := c.exec("PRAGMA cache_size = -32768"); err != nil {
		c.close()
		return nil, fail("cannot be set up", "", err)
	}
	return &DB{path: path, c: c, created: created}, nil
}

// Dialect is Dialect.
func (d *DB) Dialect() *dialect.Dialect { return Dialect }

// Close rolls back an open load, and removes a file that never came to hold
// anything.
func (d *DB) Close() error {
	if d.load != nil {
		d.load.Rollback()
	}
	d.c.close()
	if d.created {
		if info, err := os.Stat(d.path); err == nil && info.Size() == 0 {
			return os.Remove(d.path)
		}
	}
	return nil
}

func (d *DB) fail(what string, err error) error {
	e := &db.Error{Where: "sqlite:" + d.path, What: what, Err: err}
	var s *Error
	if errors.As(err, &s) {
		if s.Code == lib.SQLITE_CONSTRAINT_FOREIGNKEY {
			e.Do = "a deferred foreign key is broken: rows refer to others that are neither in the file nor in the " +
				"database"
		}
		switch s.Code & 0xff {
		case lib.SQLITE_FULL:
			e.Do = "the disk is full; make room and load again"
		case lib.SQLITE_BUSY, lib.SQLITE_LOCKED:
			e.Do = "another program has the file open, to read or to write; wait for it, or longer with --lock-wait"
		case lib.SQLITE_READONLY, lib.SQLITE_PERM, lib.SQLITE_CANTOPEN:
			e.Do = "check that the file and its folder can be written"
		case lib.SQLITE_IOERR:
			e.Do = "the disk failed or is full; what was not committed is rolled back"
		}
	}
	return e
}

// Find describes a table or view.
func (d *DB) Find(ctx context.Context, schema, table string) (*db.Table, error) {
	s, err := d.c.prepare("SELECT name, type, \"notnull\", pk, dflt_value IS NOT NULL, hidden FROM " +
		"pragma_table_xinfo(?) WHERE hidden <> 1")
	if err != nil {
		return nil, d.fail("cannot be read", err)
	}
	defer s.close()
	if err := s.bindString(1, table); err != nil {
		return nil, d.fail("cannot be read", err)
	}
	t := &db.Table{Schema: schema, Name: table}
	for {
		row, err := s.step()
		if err != nil {
			return nil, d.fail("cannot be read", err)
		}
		if !row {
			break
		}
		c := db.Column{Name: string(s.text(0)), Type: string(s.text(1)), Required: s.int(2) != 0, Key: int(s.int(3)),
			Default: s.int(4) != 0, Generated: s.int(5) != 0}
		standardType(&c)
		t.Columns = append(t.Columns, c)
	}
	if t.Columns == nil {
		return nil, nil
	}
	n, err := d.questions().Number(ctx, "cannot be read",
		"SELECT count(*) FROM sqlite_schema WHERE type = 'view' AND name = ?1 COLLATE NOCASE", table)
	if err != nil {
		return nil, err
	}
	t.View = n > 0
	// A lone INTEGER PRIMARY KEY is numbered by SQLite where nothing is given.
	keys := 0
	for _, c := range t.Columns {
		keys += min(c.Key, 1)
	}
	for i := range t.Columns {
		if c := &t.Columns[i]; keys == 1 && c.Key == 1 && strings.EqualFold(c.Type, "integer") {
			c.Default = true
		}
	}
	return t, nil
}

// numericAffinity reports whether SQLite makes numbers of texts that look like one, of 15
// digits at most (SQLite, "Datatypes", 3.1): in a column whose type has none of these
// words.
func numericAffinity(declared string) bool {
	for _, w := range []string{"INT", "CHAR", "CLOB", "TEXT", "BLOB", "REAL", "FLOA", "DOUB"} {
		if strings.Contains(declared, w) {
			return false
		}
	}
	return declared != ""
}

// standardType finds the standard type that a column's values are read as:
// its declared type where that is one, else by its affinity (SQLite,
// "Datatypes", 3.1). SQLite itself enforces neither.
func standardType(c *db.Column) {
	declared := strings.ToUpper(c.Type)
	if numericAffinity(declared) {
		c.Keeps = reading.Keeps{Codes: true, Digits: digits}
	}
	if t, err := sqltype.Parse(c.Type); err == nil {
		c.SQL = t
		c.UTC = t.Kind == sqltype.Timestamp
		// Times are text there, and keep the fraction they have.
		c.AnyLength = t.IsTemporal() && t.Kind != sqltype.Date && !strings.Contains(c.Type, "(")
		if t.Kind == sqltype.Decimal && t.Precision > digits {
			c.SQL.Kind = sqltype.None // numeric affinity would make it a float
		}
		if t.Kind == sqltype.SmallInt || t.Kind == sqltype.Integer {
			c.SQL.Kind = sqltype.BigInt // every integer has 64 bits
			c.Truth = true
		}
		return
	}
	has := func(words ...string) bool {
		for _, w := range words {
			if strings.Contains(declared, w) {
				return true
			}
		}
		return false
	}
	switch {
	case has("INT"):
		c.SQL, c.Truth = sqltype.Type{Kind: sqltype.BigInt}, true
	case has("CHAR", "CLOB", "TEXT"):
		c.SQL = sqltype.Type{Kind: sqltype.Text}
	case has("REAL", "FLOA", "DOUB"):
		c.SQL = sqltype.Type{Kind: sqltype.Double}
	case strings.HasPrefix(declared, "DATETIME"):
		c.SQL, c.UTC, c.AnyLength = sqltype.Type{Kind: sqltype.Timestamp, Precision: 6}, true, true
	case declared == "" || has("BLOB", "NUM", "DEC"):
		c.SQL, c.AnyLength = sqltype.Type{Kind: sqltype.Text}, true
	}
}

// Count implements db.Session.
func (d *DB) Count(ctx context.Context, t *db.Table) (int64, error) {
	return d.questions().Count(ctx, t.Schema, t.Name)
}

type load struct {
	d       *DB
	spec    db.Spec
	table   dialect.Table
	insert  *stmt
	feed    *feed
	bulk    *stmt // inserts what the feed holds, or nil
	ordered inOrder
	summed  bool // checksums are made
	seed    maphash.Seed
	stop    func() bool
	mark    string
}

// Begin takes the write lock and creates the table.
func (d *DB) Begin(ctx context.Context, spec db.Spec) (db.Load, error) {
	if err := d.begin(spec); err != nil {
		return nil, err
	}
	var err error
	l := &load{d: d, spec: spec, table: spec.Table}
	d.load = l
	name := Dialect.Qualified(l.table.Schema, l.table.Name)
	var steps []string
	switch spec.Mode {
	case db.Refill:
		steps = []string{"DELETE FROM " + name}
	case db.Replace:
		steps = []string{"DROP TABLE IF EXISTS " + name}
	case db.Append, db.Create, db.Merge:
	}
	if spec.Keep != "" {
		steps = append([]string{Dialect.Keep(spec.Table.Schema, spec.Keep, spec.Table.Name)}, steps...)
	}
	if spec.Going {
		steps = nil
	} else if spec.Mode.New() && spec.Like != nil {
		sql, err := d.likeSQL(spec.Like.Table, name)
		if err != nil {
			l.Rollback()
			return nil, err
		}
		steps = append(steps, sql)
	} else if spec.Mode.New() {
		steps = append(steps, Dialect.Create(spec.Table)...)
	}
	for _, sql := range steps {
		if err := d.c.exec(sql); err != nil {
			l.Rollback()
			what := "refuses the definition"
			if spec.Mode == db.Refill {
				what = "cannot empty the table"
			}
			return nil, d.fail(what, err)
		}
	}
	names := make([]string, len(l.table.Columns))
	for i, c := range l.table.Columns {
		names[i] = Dialect.Quote(c.Name)
	}
	// A table's own way with conflicts (ON CONFLICT ROLLBACK, REPLACE, IGNORE) would end
	// the load, or change rows unsaid; but what its triggers do has theirs.
	or := "OR ABORT "
	if triggers, err := d.questions().Number(ctx, "cannot be read",
		"SELECT count(*) FROM sqlite_schema WHERE type = 'trigger' AND tbl_name = ? COLLATE NOCASE",
		l.table.Name); err != nil || triggers > 0 {
		or = ""
	}
	l.insert, err = d.c.prepare(fmt.Sprintf("INSERT %sINTO %s (%s) VALUES (?%s)", or,
		Dialect.Qualified(l.table.Schema, l.table.Name),
		strings.Join(names, ", "), strings.Repeat(", ?", len(names)-1)))
	if err != nil {
		l.Rollback()
		return nil, d.fail("cannot prepare the insert", err)
	}
	if err := l.feeding(ctx, names); err != nil {
		l.Rollback()
		return nil, d.fail("cannot prepare the insert", err)
	}
	l.watch()
	l.summed, l.seed = spec.Mode.New() && spec.Like == nil || spec.Stage != nil, maphash.MakeSeed()
	l.stop = context.AfterFunc(ctx, d.c.interrupt)
	return l, nil
}

// begin takes the write lock, unless others of the same transaction have it.
func (d *DB) begin(spec db.Spec) error {
	if d.together {
		return nil
	}
	if err := d.heedKeys(spec); err != nil {
		return d.fail("cannot begin", err)
	}
	return d.lock()
}

// lock begins a transaction that writes.
func (d *DB) lock() error {
	d.beginning.Store(true)
	err := d.c.exec("BEGIN IMMEDIATE")
	if d.beginning.Store(false); err != nil {
		return d.fail("cannot begin a transaction", err)
	}
	return nil
}

// rollback ends a transaction, unless SQLite has rolled back by itself.
func (d *DB) rollback() error {
	if d.c.autocommit() {
		return nil
	}
	if err := d.c.exec("ROLLBACK"); err != nil {
		return d.fail("cannot roll back", err)
	}
	return nil
}

// heedKeys has SQLite check foreign keys, which it does only for connections that ask for it:
// those of the table, and where rows may be deleted, those of others that refer to it. A table
// that others refer to could not be emptied then, and is refilled without; see KeepsKeys.
func (d *DB) heedKeys(spec db.Spec) error {
	heed := len(spec.Table.References) > 0
	if !spec.Mode.New() {
		own, referred, err := d.keysAround(spec.Home().Table)
		if err != nil {
			return err
		}
		heed = own || referred && (spec.Deletes || spec.Stage != nil)
		if spec.Mode == db.Refill {
			heed = own && !referred
		}
	}
	return d.c.exec(fmt.Sprintf("PRAGMA foreign_keys = %t", heed))
}

// keysAround reports whether a table has foreign keys, and whether others refer to it.
func (d *DB) keysAround(table string) (own, referred bool, err error) {
	ask := func(sql string) bool {
		var n int64
		if err == nil {
			n, err = d.questions().Number(context.Background(), "cannot be read", sql, table)
		}
		return n > 0
	}
	own = ask("SELECT count(*) FROM pragma_foreign_key_list(?1)")
	referred = ask(`SELECT count(*) FROM sqlite_schema m, pragma_foreign_key_list(m.name) f WHERE m.type = 'table' AND
		f."table" = ?1 COLLATE NOCASE AND m.name <> ?1 COLLATE NOCASE`)
	return own, referred, err
}

type encoder struct{ types []sqltype.Type }

// feeding prepares the statement that inserts a whole batch, unless the table
// has triggers or is strict: then it cannot be told from a failure of it which
// rows are in.
func (l *load) feeding(ctx context.Context, names []string) error {
	var err error
	if l.feed, err = l.d.c.feed(len(names)); err != nil {
		return err
	}
	can, err := l.d.questions().Number(ctx, "cannot be read", `SELECT count(*) = 1 AND NOT EXISTS (SELECT 1
		FROM sqlite_schema WHERE type = 'trigger' AND tbl_name = ?1 COLLATE NOCASE)
		FROM pragma_table_list WHERE schema = ?2 AND name = ?1 COLLATE NOCASE AND type = 'table' AND NOT strict`,
		l.table.Name, l.schema())
	if err != nil || can == 0 {
		return err
	}
	var from []string
	for i := range names {
		from = append(from, fmt.Sprintf("c%d", i))
	}
	if l.bulk, err = l.d.c.prepare(l.insertAll(names, from)); err != nil {
		return err
	}
	return l.prepareInOrder(ctx, names, from)
}

// insertAll is the SQL that inserts what the feed holds. Fail: the rows before one that is refused
// stay.
func (l *load) insertAll(names, from []string) string {
	return fmt.Sprintf("INSERT OR FAIL INTO %s (%s) SELECT %s FROM %s",
		Dialect.Qualified(l.table.Schema, l.table.Name), strings.Join(names, ", "), strings.Join(from, ", "), feedName)
}

// Encoder implements db.Load.
func (l *load) Encoder() sink.Encoder {
	var e encoder
	for _, c := range l.table.Columns {
		e.types = append(e.types, c.Type)
	}
	if l.summed {
		return &summing{encoder: e, seed: l.seed}
	}
	return &e
}

var pow10 = func() (p [23]float64) {
	p[0] = 1
	for i := 1; i < len(p); i++ {
		p[i] = p[i-1] * 10
	}
	return
}()

// Append implements sink.Encoder. Values are written as rawValue.take reads
// them, in the storage class that SQLite will give them.
func (e *encoder) Append(b []byte, row []reading.Value) []byte {
	for i := range row {
		v := &row[i]
		t := e.types[i]
		switch {
		case v.Null:
			b = append(b, lib.SQLITE_NULL)
		case t.Kind == sqltype.Boolean || t.IsInteger() || t.Kind == sqltype.Decimal && t.Scale == 0 &&
			t.Precision <= digits:
			b = binary.LittleEndian.AppendUint64(append(b, lib.SQLITE_INTEGER), uint64(v.Int))
		case t.Kind == sqltype.Decimal && t.Precision <= digits:
			if unit := int64(pow10[t.Scale]); v.Int%unit == 0 {
				b = binary.LittleEndian.AppendUint64(append(b, lib.SQLITE_INTEGER), uint64(v.Int/unit))
				continue
			}
			// Both are exact doubles, and so the quotient is the nearest one.
			b = binary.LittleEndian.AppendUint64(append(b, lib.SQLITE_FLOAT),
				math.Float64bits(float64(v.Int)/pow10[t.Scale]))
		case t.Kind == sqltype.Double:
			// -0 is stored as 0
			b = binary.LittleEndian.AppendUint64(append(b, lib.SQLITE_FLOAT), math.Float64bits(v.Float+0))
		default:
			at := len(b) + 1
			b = append(b, lib.SQLITE_TEXT, 0, 0, 0, 0)
			b = v.Append(b, t)
			binary.LittleEndian.PutUint32(b[at:], uint32(len(b)-at-4))
		}
	}
	return b
}

// BatchBytes implements sink.Sized: no server has to be waited for.
func (l *load) BatchBytes() int { return 512 << 10 }

// mostInARow is how many rows in a row may be refused; behind that, the rest of a
// batch goes in row by row.
const mostInARow = 8

// Write implements db.Load.
func (l *load) Write(ctx context.Context, batch sink.Batch) (refused []sink.Refusal, err error) {
	defer runtime.KeepAlive(batch.Data)
	b := batch.Data
	row, near := 0, 0
	for row < batch.Rows {
		if l.bulk != nil && near < mostInARow {
			n, err := l.putAll(ctx, b, batch.Rows-row)
			broken := errors.Is(err, errKeys)
			if broken {
				near, err = mostInARow, nil
			}
			if err != nil {
				return nil, err
			}
			if row += n; row == batch.Rows {
				break
			}
			b = l.skip(b, n)
			if broken {
				continue
			}
			if n > 0 {
				near = 0
			}
			near++
		}
		var r *sink.Refusal
		if b, r, err = l.putOne(ctx, b); err != nil {
			return nil, err
		}
		if r != nil {
			r.Row = row
			refused = append(refused, *r)
		}
		row++
	}
	return refused, nil
}

// skip returns what follows on n rows.
func (l *load) skip(b []byte, n int) []byte {
	var x rawValue
	for range n * len(l.table.Columns) {
		b = x.take(b)
	}
	return b
}

// errKeys tells that one of the rows refers to nothing. That is found when all
// are in, and they are all taken out again.
var errKeys = errors.New("a foreign key is broken")

// putAll inserts rows up to the first that is refused, and returns how many.
func (l *load) putAll(ctx context.Context, b []byte, rows int) (n int, err error) {
	f := l.feed
	f.set(b, rows)
	for {
		first, before := f.row+1, l.d.c.changes()
		if f.without, err = l.inRun(ctx); err != nil {
			return 0, err
		}
		s := l.bulk
		if f.without {
			s = l.ordered.put
		}
		_, err = s.step()
		s.reset()
		without := f.without
		if f.without = false; err == nil && without && f.row > first {
			l.ordered.rows += f.row - first
			err = l.numbered()
		}
		if err != nil {
			if e, is := errors.AsType[*Error](err); is && e.Code == lib.SQLITE_CONSTRAINT_FOREIGNKEY {
				return first, errKeys
			}
			if !refusal(err) || l.d.c.autocommit() || l.d.c.changes()-before != int64(f.row-first) {
				return 0, l.cannot(ctx, err)
			}
			return f.row, nil
		}
		if !f.before {
			return rows, nil
		}
		f.again()
	}
}

// refusal reports an error that a row is to blame for.
func refusal(err error) bool {
	var e *Error
	return errors.As(err, &e) && (e.Code&0xff == lib.SQLITE_CONSTRAINT || e.Code&0xff == lib.SQLITE_MISMATCH)
}

func (l *load) cannot(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return l.d.fail("cannot take a row", err)
}

// putOne inserts one row, and returns what follows on it.
func (l *load) putOne(ctx context.Context, b []byte) (rest []byte, refused *sink.Refusal, err error) {
	s := l.insert
	var x rawValue
	for i := 1; i <= len(l.table.Columns); i++ {
		b = x.take(b)
		switch x.kind {
		case lib.SQLITE_NULL:
			s.bindNull(i)
		case lib.SQLITE_INTEGER:
			s.bindInt(i, x.int)
		case lib.SQLITE_FLOAT:
			s.bindFloat(i, x.float)
		default:
			if err := s.bindText(i, x.text); err != nil {
				return nil, nil, l.d.fail("cannot take a value", err)
			}
		}
	}
	_, err = s.step()
	s.reset()
	if err != nil && l.d.c.autocommit() {
		return nil, nil, l.d.fail("the table itself has rolled back the load, by RAISE(ROLLBACK) of a trigger or ON "+
			"CONFLICT ROLLBACK; nothing was changed", err)
	}
	if refusal(err) {
		var e *Error
		errors.As(err, &e)
		return b, &sink.Refusal{Column: l.columnOf(e.Message), Message: e.Error(), Kind: e.Error()}, nil
	}
	if err != nil {
		return nil, nil, l.cannot(ctx, err)
	}
	return b, nil, nil
}

// columnOf finds the column that a message names as table.column.
func (l *load) columnOf(message string) string {
	var in []string
	for _, c := range l.table.Columns {
		full := l.spec.Home().Table + "." + c.Name
		if i := strings.Index(message, full); i >= 0 {
			if rest := message[i+len(full):]; rest == "" || rest[0] == ',' {
				in = append(in, c.Name)
			}
		}
	}
	return strings.Join(in, ", ")
}

// Tally implements db.Load.
func (l *load) Tally(ctx context.Context) (int64, []tally.Tally, error) {
	return l.d.tally(ctx, l.table, l.spec.Mode.New() || l.spec.Stage != nil)
}

// Tally implements db.Session.
func (d *DB) Tally(ctx context.Context, t dialect.Table) (int64, []tally.Tally, error) {
	defer context.AfterFunc(ctx, d.c.interrupt)()
	return d.tally(ctx, t, false)
}

// tally reads every value back. In a table that is all ours, each must be of
// its column's type.
func (d *DB) tally(ctx context.Context, t dialect.Table, ours bool) (int64, []tally.Tally, error) {
	return d.tallyFrom(ctx, Dialect.Qualified(t.Schema, t.Name), t.Columns, ours)
}

// tallyFrom is tally of what stands behind FROM.
func (d *DB) tallyFrom(ctx context.Context, from string, columns []dialect.Column,
	ours bool) (int64, []tally.Tally, error) {
	names := make([]string, len(columns))
	cols := make([]tally.Tally, len(columns))
	readers := make([]*reading.Reader, len(cols))
	for i, c := range columns {
		names[i] = Dialect.Quote(c.Name)
		cols[i].Type = c.Type
		readers[i] = reading.Plain(c.Type)
	}
	// No name can be mistaken for a text: a column that is not there fails.
	s, err := d.c.prepare(fmt.Sprintf("SELECT %s FROM %s", strings.Join(names, ", "), from))
	if err != nil {
		return 0, nil, d.fail("cannot read the table back", err)
	}
	defer s.close()
	var v reading.Value
	rows, err := d.readBack(ctx, s, func(row int64, i int, x *rawValue) error {
		v.Null, v.Wide = false, nil
		if err := stored(x, readers[i], &v); err != nil {
			if ours {
				return d.fail(fmt.Sprintf("row %d, column %s reads back as something else", row, columns[i].Name),
					err)
			}
			// What was in the table before may be of any kind.
			cols[i].Loose = true
			v = reading.Value{}
		}
		cols[i].Add(&v)
		return nil
	})
	if err != nil {
		return 0, nil, err
	}
	n, err := d.questions().Number(ctx, "cannot count the rows", "SELECT count(*) FROM "+from)
	if err != nil {
		return 0, nil, err
	}
	if n != rows {
		return 0, nil, d.fail(fmt.Sprintf("counts %d rows, but %d were read back", n, rows), nil)
	}
	return rows, cols, nil
}

// stored reads a value as one of the reader's type.
func stored(x *rawValue, r *reading.Reader, v *reading.Value) error {
	v.Null, v.Wide = false, nil
	t := r.Type
	switch x.kind {
	case lib.SQLITE_NULL:
		v.Null = true
		return nil
	case lib.SQLITE_INTEGER:
		n := x.int
		switch {
		case t.Kind == sqltype.Boolean || t.IsInteger():
			v.Int = n
			return nil
		case t.Kind == sqltype.Decimal && t.Precision <= digits:
			v.Int = n * int64(pow10[t.Scale])
			return nil
		case t.Kind == sqltype.Double:
			v.Float = float64(n)
			return nil
		}
	case lib.SQLITE_FLOAT:
		f := x.float
		switch {
		case t.Kind == sqltype.Decimal && t.Precision <= digits:
			v.Int = int64(math.Round(f * pow10[t.Scale]))
			if float64(v.Int)/pow10[t.Scale] == f {
				return nil
			}
		case t.Kind == sqltype.Double:
			v.Float = f
			return nil
		}
	case lib.SQLITE_TEXT:
		if t.IsText() {
			v.Text = x.text
			return nil
		}
		if t.IsTemporal() || t.Kind == sqltype.UUID || t.Kind == sqltype.Decimal && t.Precision > digits {
			b := x.text
			if m := r.Read(b, true, v); m != reading.OK {
				return fmt.Errorf("%q: %s", b, m.Reason(t, b))
			}
			return nil
		}
	}
	return fmt.Errorf("a value of SQLite's storage class %d in a column of type %s", x.kind, t)
}

// Commit implements db.Load.
func (l *load) Commit(ctx context.Context) error {
	l.stop()
	l.close()
	if l.spec.Steps != "" {
		if err := l.forget(); err != nil {
			return err
		}
	}
	if l.d.together {
		l.d.load = nil
		return nil // with the others
	}
	// Who reads the file is waited for, until the person has enough of it.
	defer context.AfterFunc(ctx, func() { l.d.c.end.Store(true) })()
	if err := l.d.c.exec("COMMIT"); err != nil {
		return l.d.fail("cannot commit", err)
	}
	l.d.load, l.d.created = nil, false
	return nil
}

// close ends the statements.
func (l *load) close() {
	for _, s := range []**stmt{&l.insert, &l.bulk, &l.ordered.put, &l.ordered.last} {
		if *s != nil {
			(*s).close()
			*s = nil
		}
	}
}

// Rollback implements db.Load.
func (l *load) Rollback() error {
	if l.d.load == nil {
		return nil
	}
	if l.stop != nil {
		l.stop()
	}
	l.close()
	l.d.load = nil
	if l.d.together {
		return nil
	}
	return l.d.rollback()
}

// likeSQL is the definition of one table, for another name.
func (d *DB) likeSQL(like, name string) (string, error) {
	s, err := d.c.prepare("SELECT sql FROM sqlite_schema WHERE type = 'table' AND name = ?")
	if err != nil {
		return "", d.fail("cannot be read", err)
	}
	defer s.close()
	if err := s.bindString(1, like); err != nil {
		return "", d.fail("cannot be read", err)
	}
	row, err := s.step()
	if err != nil {
		return "", d.fail("cannot be read", err)
	}
	if !row {
		return "", d.fail("has no table "+like+" to take the structure from", nil)
	}
	sql := string(s.text(0))
	// The columns begin at the first parenthesis behind the name, which may
	// hold one itself.
	at := strings.IndexByte(sql, '(')
	for _, q := range []string{Dialect.Quote(like), `"` + like + `"`} {
		if i := strings.Index(sql, q); i >= 0 && i < at {
			at = i + len(q) + strings.IndexByte(sql[i+len(q):], '(')
			break
		}
	}
	return "CREATE TABLE " + name + " " + sql[at:], nil
}

// List implements db.Lister.
func (d *DB) List(ctx context.Context) ([]db.Listing, error) {
	s, err := d.c.prepare("SELECT name, type FROM sqlite_schema WHERE type IN ('table', 'view') AND name NOT LIKE " +
		"'sqlite~_%' ESCAPE '~' ORDER BY 1")
	if err != nil {
		return nil, d.fail("cannot list tables", err)
	}
	defer s.close()
	var list []db.Listing
	for {
		row, err := s.step()
		if err != nil {
			return nil, d.fail("cannot list tables", err)
		}
		if !row {
			return list, d.questions().CountListed(ctx, list, math.MaxInt64)
		}
		list = append(list, db.Listing{Name: string(s.text(0)), Kind: string(s.text(1))})
	}
}

// Head implements db.Lister.
func (d *DB) Head(ctx context.Context, schema, table string, n int) ([][]*string, error) {
	return d.questions().Head(ctx, schema, table, n)
}

func (d *DB) questions() db.Questions {
	return db.Questions{Asker: d.c, Dialect: Dialect, Fail: d.fail}
}
