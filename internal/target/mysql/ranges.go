package mysql

import (
	"context"
	"database/sql"
	"fmt"
	"strings"
	"sync"

	"ambertray/internal/dialect"
	"ambertray/internal/tally"
	"ambertray/internal/target"
)

// ranges tallies a new table while it is loaded. Nobody else knows the table,
// and rows that are in stay as they are; so where the keys of the batches
// ascend, as numbers that were given one after the other do, each stretch of
// keys is tallied on a second connection as soon as its batches are in. That
// there is nothing outside of the stretches is counted in the end.
type ranges struct {
	d       *DB
	c       *sql.Conn
	table   string // quoted
	columns []dialect.Column
	loose   []bool
	at      int // of the key among the columns
	cancel  context.CancelFunc

	mu     sync.Mutex
	cond   *sync.Cond
	some   bool // a batch has come
	high   int64
	wait   bool // there is a stretch to be tallied
	lo, hi int64
	closed bool
	gone   bool // keys do not ascend, or the second connection failed

	done  chan struct{}
	rows  int64
	total []tally.Column
}

// ranged starts to tally a new table with a numbered key; nil where that cannot
// be.
func (l *load) ranged(ctx context.Context) *ranges {
	t := l.spec.Table
	if l.side == "" || l.spec.Like != "" || len(t.Key) != 1 {
		return nil
	}
	r := &ranges{d: l.d, table: l.table, columns: t.Columns, loose: l.loose, at: -1, done: make(chan struct{})}
	for i, c := range t.Columns {
		if c.Name == t.Key[0] && c.Type.IsInteger() {
			r.at = i
		}
	}
	if r.at < 0 {
		return nil
	}
	c, err := l.d.uncommitted(ctx)
	if err != nil {
		return nil
	}
	r.c, r.cond = c, sync.NewCond(&r.mu)
	ctx, r.cancel = context.WithCancel(ctx)
	go r.run(ctx)
	return r
}

// uncommitted is another connection, which sees what the first has not
// committed.
func (d *DB) uncommitted(ctx context.Context) (*sql.Conn, error) {
	c, err := d.pool.Conn(ctx)
	if err != nil {
		return nil, err
	}
	if _, err = c.ExecContext(ctx, "SET SESSION TRANSACTION ISOLATION LEVEL READ UNCOMMITTED"); err != nil {
		c.Close()
		return nil, err
	}
	return c, nil
}

// add tells that a batch is in.
func (r *ranges) add(b *target.Batch) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.gone {
		return
	}
	lo, hi, ok := int64(0), int64(0), false
	if len(b.Tally) == len(r.columns) {
		lo, hi, ok = b.Tally[r.at].Ints()
	}
	if !ok || r.some && lo <= r.high {
		r.gone = true
		return
	}
	if !r.wait {
		r.lo, r.wait = lo, true
	}
	r.hi, r.high, r.some = hi, hi, true
	r.cond.Signal()
}

func (r *ranges) run(ctx context.Context) {
	defer close(r.done)
	for {
		r.mu.Lock()
		for !r.wait && !r.closed {
			r.cond.Wait()
		}
		if !r.wait || r.gone {
			r.mu.Unlock()
			return
		}
		lo, hi := r.lo, r.hi
		r.wait = false
		r.mu.Unlock()
		if err := r.tally(ctx, lo, hi); err != nil {
			r.mu.Lock()
			r.gone = true // the table is tallied in the end
			r.mu.Unlock()
			return
		}
	}
}

func (r *ranges) tally(ctx context.Context, lo, hi int64) error {
	list := []string{"count(*)"}
	for i, c := range r.columns {
		list = append(list, facts(quote(c.Name), c.Type, r.loose[i], true)...)
	}
	vals, err := scanFacts(ctx, r.c, list, fmt.Sprintf("%s WHERE %s BETWEEN %d AND %d", r.table, quote(r.columns[r.at].Name), lo, hi))
	if err != nil {
		return err
	}
	n, columns, err := target.ParseFacts(r.columns, r.loose, vals)
	if err != nil {
		return err
	}
	r.rows += n
	if r.total == nil {
		r.total = columns
		return nil
	}
	for i := range columns {
		r.total[i].Merge(&columns[i])
	}
	return nil
}

// finish waits for the last stretch. ok tells that all of the table has been
// tallied.
func (r *ranges) finish(ctx context.Context) (rows int64, columns []tally.Column, ok bool) {
	r.mu.Lock()
	r.closed = true
	r.cond.Signal()
	r.mu.Unlock()
	<-r.done
	if r.gone || !r.some {
		return 0, nil, false
	}
	var n int64
	if err := r.d.c.QueryRowContext(ctx, "SELECT count(*) FROM "+r.table).Scan(&n); err != nil || n != r.rows {
		return 0, nil, false
	}
	return r.rows, r.total, true
}

// end gives the second connection back.
func (r *ranges) end() {
	r.cancel()
	r.mu.Lock()
	r.closed, r.gone = true, true
	r.cond.Signal()
	r.mu.Unlock()
	<-r.done
	r.c.Close()
}

// scanFacts asks for facts, as text.
func scanFacts(ctx context.Context, c *sql.Conn, list []string, from string) ([]*string, error) {
	vals := make([]*string, len(list))
	at := make([]any, len(list))
	for i := range vals {
		at[i] = &vals[i]
	}
	return vals, c.QueryRowContext(ctx, "SELECT "+strings.Join(list, ", ")+" FROM "+from).Scan(at...)
}
