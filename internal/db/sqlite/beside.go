package sqlite

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"iter"
	"math"
	"slices"
	"strings"

	lib "modernc.org/sqlite/lib"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
)

// Where a table's key is its row number, and the records of a merge come in the order of their keys, the rows of
// both lie in the same order. They are gone through side by side, page by page: what is stored as the same bytes has
// not changed. About all others SQLite is asked, as about everything in other tables. And no index of the stage is
// needed to see that a key does not stand twice. Together that takes a quarter off a merge.

// order sees whether rows come with keys that grow.
type order struct {
	column int   // of the key, or -1
	last   int64 // the key before
	rows   int64 // that have come so
}

// see looks at the next row.
func (o *order) see(values []rawValue) {
	switch x := &values[o.column]; {
	case x.kind != lib.SQLITE_INTEGER || x.int <= o.last:
		o.column = -1
	default:
		o.last = x.int
		o.rows++
	}
}

// watch has a load into a stage see whether its keys grow, where that is of use.
func (l *load) watch() {
	s := l.d.staged
	if l.spec.Stage == nil || s == nil || !s.numbered || l.bulk == nil {
		return
	}
	l.feed.order = order{column: slices.IndexFunc(l.table.Columns, func(c dialect.Column) bool {
		return strings.EqualFold(c.Name, s.m.Key[0])
	}), last: math.MinInt64}
}

// ordered reports whether the rows of the stage lie in the order of their keys: all of them have been seen.
func (d *DB) ordered(ctx context.Context, m *dialect.Merge) (bool, error) {
	if d.load == nil || d.load.feed == nil || d.load.feed.order.column < 0 {
		return false, nil
	}
	last, err := d.questions().Number(ctx, "cannot be read", "SELECT coalesce(max(rowid), 0) FROM "+m.Stage)
	return err == nil && last == d.load.feed.order.rows, err
}

// FindChanges implements db.ChangesFinder.
func (d *DB) FindChanges(ctx context.Context, m *dialect.Merge, onlyNew bool) (done bool, err error) {
	c, err := d.beside(ctx, m, onlyNew)
	if err != nil || c == nil {
		return false, err
	}
	defer c.close()
	if err := c.run(ctx); err != nil {
		if ctx.Err() != nil {
			return true, ctx.Err()
		}
		return true, d.fail(db.CannotCompare, err)
	}
	return true, nil
}

// A comparison goes through the stage and the table side by side.
type comparison struct {
	stage, table *walk
	find         *stmt    // about records with numbers from one to another
	key          int      // where the stage's records have it
	pairs        [][2]int // where the others are, in a record and in a row
	new          bool     // known keys are left as they are
	from, to     int64    // the numbers of records that are still to be asked about; 0: none
}

// beside prepares the comparison; nil: it cannot be made so.
func (d *DB) beside(ctx context.Context, m *dialect.Merge, onlyNew bool) (c *comparison, err error) {
	if is, err := d.ordered(ctx, m); err != nil || !is {
		return nil, err
	}
	t := d.load.spec.Stage.Target
	c = &comparison{new: onlyNew}
	stored, err := d.stored(ctx, t.Name)
	if err != nil {
		return nil, err
	}
	for i, k := range m.Columns {
		at := slices.IndexFunc(stored, func(name string) bool { return strings.EqualFold(name, k.Name) })
		switch {
		case m.IsKey(k.Name):
			c.key = i
		case at < 0:
			return nil, nil
		default:
			c.pairs = append(c.pairs, [2]int{i, at})
		}
	}
	if c.stage, err = d.walk(ctx, dialect.Table{Name: db.StageTable}, temporary); err != nil || c.stage == nil {
		return nil, err
	}
	if c.table, err = d.walk(ctx, dialect.Table{Name: t.Name}, "main"); err != nil || c.table == nil {
		c.close()
		return nil, err
	}
	c.find, err = d.c.prepare("INSERT INTO " + m.Changes + " " + m.Changing(onlyNew, "s.rowid BETWEEN ?1 AND ?2"))
	if err != nil {
		c.close()
		return nil, d.fail(db.CannotCompare, err)
	}
	return c, nil
}

// stored are the columns of a table in the order in which its records have them (SQLite, "Generated Columns": those
// that are VIRTUAL are not among them).
func (d *DB) stored(ctx context.Context, table string) (names []string, err error) {
	rows, err := d.questions().Rows(ctx, "cannot be read",
		"SELECT name FROM pragma_table_xinfo(?) WHERE hidden <> 2 ORDER BY cid", table)
	for _, r := range rows {
		names = append(names, *r[0])
	}
	return names, err
}

func (c *comparison) close() {
	for _, w := range []*walk{c.stage, c.table} {
		if w != nil {
			w.close()
		}
	}
	if c.find != nil {
		c.find.close()
	}
}

// together is how many records that may do something are asked about at once, and apart how many that do nothing
// may lie between two of them.
const (
	together = 4096
	apart    = 3
)

// run asks about all records that are not stored in the table as they are.
func (c *comparison) run(ctx context.Context) error {
	row, more, err := c.table.row()
	for {
		record, is, err2 := c.stage.row()
		if err = errors.Join(err, err2); err != nil || !is {
			break
		}
		if c.key >= len(record.fields) {
			return errNotAPage
		}
		var key rawValue
		key.set(record.fields[c.key].kind, record.fields[c.key].bytes)
		if key.kind != lib.SQLITE_INTEGER {
			return errNotAPage
		}
		for more && row.number < key.int && err == nil {
			row, more, err = c.table.row()
		}
		if err != nil {
			break
		}
		if more && row.number == key.int && (c.new || c.same(record, row)) {
			continue
		}
		if err := c.ask(ctx, record.number); err != nil {
			return err
		}
	}
	if err != nil {
		return err
	}
	return c.flush(ctx)
}

// same reports whether a row is stored as the record is.
func (c *comparison) same(record, row *walked) bool {
	for _, p := range c.pairs {
		if p[0] >= len(record.fields) || p[1] >= len(row.fields) {
			return false // a column that was added later
		}
		a, b := &record.fields[p[0]], &row.fields[p[1]]
		if a.kind != b.kind || !bytes.Equal(a.bytes, b.bytes) {
			return false
		}
	}
	return true
}

// ask adds a record to those that are asked about.
func (c *comparison) ask(ctx context.Context, number int64) error {
	if c.from > 0 && (number > c.to+apart+1 || number-c.from >= together) {
		if err := c.flush(ctx); err != nil {
			return err
		}
	}
	if c.from == 0 {
		c.from = number
	}
	c.to = number
	return nil
}

// flush asks about them.
func (c *comparison) flush(ctx context.Context) error {
	if c.from == 0 {
		return nil
	}
	c.find.bindInt(1, c.from)
	c.find.bindInt(2, c.to)
	_, err := c.find.step()
	c.find.reset()
	c.from, c.to = 0, 0
	if err == nil {
		err = ctx.Err()
	}
	return err
}

// A walk goes through the rows of a table in the order of their numbers.
type walk struct {
	pages
	next func() ([]byte, error, bool)
	stop func()
	leaf []byte
	cell int // the next
	at   walked
}

// walked is a row of a walk, valid until the next.
type walked struct {
	number int64
	fields []field
}

// walk begins a walk; nil: the table's pages cannot be read.
func (d *DB) walk(ctx context.Context, t dialect.Table, schema string) (*walk, error) {
	w := &walk{pages: pages{d: d}}
	root, err := w.open(ctx, t, schema)
	if err != nil || root == 0 {
		return nil, err
	}
	w.next, w.stop = iter.Pull2(w.leaves(ctx, root))
	return w, nil
}

func (w *walk) close() {
	w.stop()
	w.page.close()
}

var errStopped = errors.New("no more leaves are wanted")

// leaves yields the leaves of the tree.
func (w *walk) leaves(ctx context.Context, root uint32) iter.Seq2[[]byte, error] {
	return func(yield func([]byte, error) bool) {
		var own []byte // the page itself is gone when another is read
		w.take = func(leaf []byte) error {
			if own = append(own[:0], leaf...); !yield(own, nil) {
				return errStopped
			}
			return nil
		}
		if err := w.below(ctx, root, 0); err != nil && !errors.Is(err, errStopped) {
			yield(nil, err)
		}
	}
}

// row is the next row.
func (w *walk) row() (*walked, bool, error) {
	for w.leaf == nil || w.cell == cellsOf(w.leaf) {
		leaf, err, more := w.next()
		if err != nil || !more {
			return &w.at, false, err
		}
		w.leaf, w.cell = leaf, 0
	}
	r, size, err := cellOf(w.leaf, w.cell)
	if w.cell++; err != nil {
		return &w.at, false, err
	}
	if w.local(size) < size {
		if r, err = w.whole(r, size); err != nil {
			return &w.at, false, err
		}
	}
	if size > int64(len(r.payload)) {
		return &w.at, false, errNotAPage
	}
	w.at.number = r.rowid
	w.at.fields, err = split(r.payload[:size], w.at.fields[:0])
	return &w.at, true, err
}

// Seek implements db.Merger: rows of the table are looked for in the stage by an index.
func (d *DB) Seek(_ context.Context, m *dialect.Merge) error {
	if d.staged.indexed || len(m.Key) == 0 {
		return nil
	}
	d.staged.indexed = true
	index := fmt.Sprintf("INDEX %s ON %s (%s)", Dialect.Qualified(temporary, db.StageTable+"_key"),
		Dialect.Quote(db.StageTable), Dialect.List(m.Key))
	err := d.c.exec("CREATE UNIQUE " + index)
	if d.staged.unique = err == nil; refusal(err) {
		err = d.c.exec("CREATE " + index)
	}
	if err != nil {
		return d.fail(db.CannotStage, err)
	}
	return nil
}
