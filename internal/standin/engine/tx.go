package engine

import (
	"slices"
	"strings"
	"time"
)

// A tx is a transaction: what undoes it, and the tables that it holds.
type tx struct {
	id      int64
	s       *Session
	undo    []undone
	saves   []save
	written map[*Table]bool
	held    map[*Table]bool
	filled  map[*Table]bool // in bulk, beside others
	born    []*Table
	going   []string
	bytes   int64
	doomed  bool
	waits   func() []*tx // whom it waits for
	begun   time.Time
}

type save struct {
	name string
	at   int
}

// An undone is one step that can be taken back: a row that came or went, or a change.
type undone struct {
	t    *Table
	r    *row
	old  []Value // of a row that was changed
	gone bool    // the row was deleted
	do   func()  // anything else
}

var lastTx int64

func (s *Session) begin() *tx {
	lastTx++
	t := &tx{id: lastTx, s: s, written: map[*Table]bool{}, held: map[*Table]bool{}, filled: map[*Table]bool{},
		begun: time.Now()}
	return t
}

// backTo undoes what was done since a point.
func (t *tx) backTo(n int) {
	for i := len(t.undo) - 1; i >= n; i-- {
		u := t.undo[i]
		switch {
		case u.do != nil:
			u.do()
		case u.old != nil:
			u.t.unlist(u.r)
			u.r.v = u.old
			u.t.list(u.r)
		case u.gone:
			u.r.dead = false
			u.t.live++
			u.t.dead--
			u.t.list(u.r)
		default:
			u.t.unput(u.r)
		}
		t.undo[i] = undone{}
	}
	t.undo = t.undo[:n]
}

// done ends the transaction, and lets go of what it holds.
func (t *tx) done(commit bool) {
	if !commit {
		t.backTo(0)
	}
	for _, b := range t.born {
		b.born = nil
	}
	for _, k := range t.going {
		db, name, _ := strings.Cut(k, "\x00")
		if d := t.s.srv.databases[db]; d != nil {
			delete(d.going, name)
		}
	}
	for x := range t.written {
		if x.writer == t {
			x.writer = nil
		}
		x.compact()
	}
	for x := range t.held {
		delete(x.shared, t)
	}
	for x := range t.filled {
		delete(x.bulks, t)
	}
	for _, l := range t.s.srv.locks {
		l.release(func(o *owner) bool { return o.tx == t })
	}
	t.s.srv.cond.Broadcast()
}

// write gets a table for a transaction alone.
func (t *tx) write(x *Table) error {
	if x.writer == t {
		return nil
	}
	err := t.wait(func() []*tx { return slices.Concat(x.writing(t), others(x.shared, t), others(x.bulks, t)) })
	if err != nil {
		return err
	}
	x.writer = t
	t.written[x] = true
	return nil
}

// writing is the transaction that has a table alone, if that is not a certain one.
func (x *Table) writing(but *tx) []*tx {
	if x.writer != nil && x.writer != but {
		return []*tx{x.writer}
	}
	return nil
}

// others are the transactions that hold a table in a way, but for one.
func others[V any](holders map[*tx]V, but *tx) (list []*tx) {
	for o := range holders {
		if o != but {
			list = append(list, o)
		}
	}
	return list
}

// fill gets a table beside others that fill it in bulk, too: the mode BU of locks, which goes
// with itself only. A table with an index does not take rows so.
func (t *tx) fill(x *Table) error {
	if x.writer == t || len(x.indexes) > 0 {
		return t.write(x)
	}
	if err := t.wait(func() []*tx { return slices.Concat(x.writing(t), others(x.shared, t)) }); err != nil {
		return err
	}
	if x.bulks == nil {
		x.bulks = map[*tx]bool{}
	}
	x.bulks[t], t.filled[x] = true, true
	return nil
}

// read makes sure that nobody has changed a table and is not done; hold keeps writers
// away until the transaction is done.
func (t *tx) read(x *Table, hold bool) error {
	if err := t.wait(func() []*tx { return slices.Concat(x.writing(t), others(x.bulks, t)) }); err != nil {
		return err
	}
	if hold {
		if x.shared == nil {
			x.shared = map[*tx]int{}
		}
		x.shared[t]++
		t.held[x] = true
	}
	return nil
}

// wait waits until there is nobody to wait for.
func (t *tx) wait(blockers func() []*tx) error {
	if len(blockers()) == 0 {
		return nil
	}
	s := t.s
	t.waits = blockers
	defer func() { t.waits = nil }()
	if t.circle(t, nil) {
		return fail(1205, 13, "Transaction (Process ID %d) was deadlocked on lock resources with another process and "+
			"has been chosen as the deadlock victim. Rerun the transaction.", s.ID)
	}
	return s.sleep(func() bool { return len(blockers()) == 0 })
}

// circle reports whether a transaction waits, through others, for one.
func (t *tx) circle(start *tx, seen []*tx) bool {
	if t.waits == nil || slices.Contains(seen, t) {
		return false
	}
	for _, b := range t.waits() {
		if b == start || b.circle(start, append(seen, t)) {
			return true
		}
	}
	return false
}

// sleep waits for a condition, at most as long as the session's lock timeout.
func (s *Session) sleep(done func() bool) error {
	until := time.Time{}
	if s.lockTimeout >= 0 {
		until = time.Now().Add(time.Duration(s.lockTimeout) * time.Millisecond)
	}
	tick := time.AfterFunc(10*time.Millisecond, func() {})
	defer tick.Stop()
	for !done() {
		if s.cancelled.Load() {
			return errCancelled
		}
		if !until.IsZero() && !time.Now().Before(until) {
			return fail(1222, 16, "Lock request time out period exceeded.")
		}
		tick.Stop()
		tick = time.AfterFunc(10*time.Millisecond, s.srv.cond.Broadcast)
		s.srv.cond.Wait()
	}
	return nil
}

var errCancelled = &Error{Number: 3617, Class: 16, Message: "The statement was cancelled.", thrown: true}

// note remembers a step, and counts what it adds to the log and to the database.
func (t *tx) note(u undone, bytes int64) error {
	t.undo = append(t.undo, u)
	t.bytes += bytes
	srv := t.s.srv
	if srv.LogBytes > 0 && t.bytes > srv.LogBytes {
		return fail(9002, 17, "The transaction log for database '%s' is full due to 'ACTIVE_TRANSACTION'.", t.s.db.Name)
	}
	if u.t == nil || u.gone || u.old != nil {
		return nil
	}
	db := u.t.db
	db.bytes += bytes
	if srv.DataBytes > 0 && db.bytes > srv.DataBytes {
		return fail(1105, 17, "Could not allocate space for object '%s' in database '%s' because the 'PRIMARY' "+
			"filegroup is full.", u.t.dotted(), db.Name)
	}
	return nil
}

// An appLock is one of sp_getapplock.
type appLock struct{ owners []*owner }

type owner struct {
	s    *Session
	tx   *tx // nil: the session's
	excl bool
}

func (l *appLock) release(is func(*owner) bool) { l.owners = slices.DeleteFunc(l.owners, is) }

// getAppLock gets a lock; the answer is that of sp_getapplock.
func (s *Session) getAppLock(name string, excl, session bool, timeout int64) (int, error) {
	l := s.srv.locks[name]
	if l == nil {
		l = &appLock{}
		s.srv.locks[name] = l
	}
	free := func() bool {
		return !slices.ContainsFunc(l.owners, func(o *owner) bool { return o.s != s && (excl || o.excl) })
	}
	waited := 0
	if !free() {
		if timeout == 0 {
			return -1, nil
		}
		old := s.lockTimeout
		s.lockTimeout = timeout
		err := s.sleep(free)
		s.lockTimeout = old
		if err != nil {
			if err == errCancelled {
				return -2, err
			}
			return -1, nil
		}
		waited = 1
	}
	o := &owner{s: s, excl: excl}
	if !session {
		o.tx = s.tx
	}
	l.owners = append(l.owners, o)
	return waited, nil
}
