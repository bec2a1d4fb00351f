package engine

import (
	"strings"
	"time"
)

// A lockMode is how a table is locked.
type lockMode uint8

const (
	rowExclusive lockMode = iota + 1
	share
	shareRowExclusive
	exclusive
)

var lockModes = map[string]lockMode{"ROW SHARE": rowExclusive, "SHARE UPDATE": rowExclusive,
	"ROW EXCLUSIVE": rowExclusive, "SHARE": share, "SHARE ROW EXCLUSIVE": shareRowExclusive, "EXCLUSIVE": exclusive}

// conflict reports whether two transactions cannot have these at once.
func conflict(a, b lockMode) bool {
	if a > b {
		a, b = b, a
	}
	switch {
	case b == exclusive:
		return true
	case a == rowExclusive:
		return b != rowExclusive
	}
	return a != share || b != share
}

// A tx is a transaction.
type tx struct {
	s        *Session
	undo     []func()
	touched  []touch
	saves    []save
	locked   []*table
	waiting  *tx
	ended    bool
	readOnly bool
	began    time.Time
}

// A touch is a row that a transaction has changed.
type touch struct {
	h *heap
	r *row
}

// A save is a savepoint: how much had been done, and how many tables were locked.
type save struct {
	name   string
	at     int
	locked int
}

// unlockTo lets go of the locks that came behind a place.
func (x *tx) unlockTo(n int) {
	if n >= len(x.locked) {
		return
	}
	for _, t := range x.locked[n:] {
		delete(t.locks, x)
	}
	x.locked = x.locked[:n]
	x.s.srv.changed.Broadcast()
}

// begin makes sure that there is a transaction.
func (s *Session) begin() *tx {
	if s.tx == nil {
		s.tx = &tx{s: s, began: time.Now()}
	}
	return s.tx
}

// backTo undoes what came behind a place.
func (x *tx) backTo(at int) {
	for i := len(x.undo) - 1; i >= at; i-- {
		x.undo[i]()
	}
	x.undo = x.undo[:at]
}

// end makes the transaction last, or undoes all of it.
func (s *Session) end(commit bool) {
	x := s.tx
	if x == nil {
		return
	}
	if !commit {
		x.backTo(0)
	}
	dropped := map[*heap]bool{}
	for _, t := range x.touched {
		r := t.r
		if r.by != x {
			continue
		}
		if r.gone || r.dead {
			r.dead = true
			dropped[t.h] = true
			for idx, m := range t.h.keys {
				if k, some := idx.key(r.vals); some && m[k] == r {
					delete(m, k)
				}
			}
		}
		r.by, r.old, r.gone = nil, nil, false
	}
	for h := range dropped {
		alive := h.rows[:0:0]
		for _, r := range h.rows {
			if !r.dead {
				alive = append(alive, r)
			}
		}
		h.rows = alive
	}
	for _, t := range x.locked {
		delete(t.locks, x)
	}
	for _, u := range s.srv.users {
		for _, o := range u.objects {
			if t, is := o.(*table); is && t.temporary && !t.preserve {
				delete(t.own, s)
			}
		}
	}
	x.ended, s.tx = true, nil
	s.srv.changed.Broadcast()
}

// lock locks a table; wait is in seconds, below 0 without end.
func (s *Session) lock(t *table, mode lockMode, wait int) error {
	x := s.begin()
	if t.locks[x] >= mode {
		return nil
	}
	until := time.Now().Add(time.Duration(wait) * time.Second)
	for {
		var other *tx
		for o, m := range t.locks {
			if o != x && conflict(m, mode) {
				other = o
			}
		}
		if other == nil {
			if t.locks[x] == 0 {
				x.locked = append(x.locked, t)
			}
			t.locks[x] = max(mode, t.locks[x])
			return nil
		}
		if err := s.waitFor(other, wait, until); err != nil {
			return err
		}
	}
}

// waitFor waits until another transaction is at an end.
func (s *Session) waitFor(other *tx, wait int, until time.Time) error {
	if wait == 0 {
		return fail(54, "resource busy and acquire with NOWAIT specified or timeout expired")
	}
	x := s.begin()
	for o := other; o != nil; o = o.waiting {
		if o == x {
			return fail(60, "deadlock detected while waiting for resource")
		}
	}
	x.waiting = other
	defer func() { x.waiting = nil }()
	if wait > 0 {
		stop := time.AfterFunc(time.Until(until), s.srv.wake)
		defer stop.Stop()
	}
	for !other.ended {
		if s.stopped {
			return fail(1013, "user requested cancel of current operation")
		}
		if wait > 0 && !time.Now().Before(until) {
			return fail(30006, "resource busy; acquire with WAIT timeout expired")
		}
		s.srv.changed.Wait()
	}
	return nil
}

func (s *Server) wake() {
	s.mu.Lock()
	s.changed.Broadcast()
	s.mu.Unlock()
}

// own makes a row one of this transaction's, or waits for another's that has it. It reports
// whether the row is still there.
func (s *Session) own(h *heap, r *row, wait int) (bool, error) {
	x := s.begin()
	until := time.Now().Add(time.Duration(wait) * time.Second)
	for r.by != nil && r.by != x {
		if err := s.waitFor(r.by, wait, until); err != nil {
			return false, err
		}
	}
	if r.dead || r.gone {
		return false, nil
	}
	if r.by == nil {
		r.by, r.old = x, r.vals
		x.touched = append(x.touched, touch{h, r})
	}
	return true, nil
}

// change gives a row that is owned other values.
func (s *Session) change(t *table, h *heap, r *row, vals []Value) error {
	before := r.vals
	for _, idx := range t.indexes {
		if !idx.unique {
			continue
		}
		was, had := idx.key(before)
		now, has := idx.key(vals)
		if was == now {
			continue
		}
		if has {
			if err := s.free(t, h, idx, now, r); err != nil {
				return err
			}
		}
		m := h.keys[idx]
		if had && m[was] == r {
			delete(m, was)
			s.tx.undo = append(s.tx.undo, func() { m[was] = r })
		}
		if has {
			other := m[now]
			m[now] = r
			s.tx.undo = append(s.tx.undo, func() { putBack(m, now, other) })
		}
	}
	r.vals = vals
	s.tx.undo = append(s.tx.undo, func() { r.vals = before })
	return nil
}

func putBack(m map[string]*row, k string, r *row) {
	if r == nil {
		delete(m, k)
		return
	}
	m[k] = r
}

// free makes sure that nobody else has a key.
func (s *Session) free(t *table, h *heap, idx *index, k string, r *row) error {
	if h.keys[idx] == nil {
		h.keys[idx] = map[string]*row{}
	}
	for {
		other := h.keys[idx][k]
		if other == nil || other == r || other.dead {
			return nil
		}
		if other.by != nil && other.by != s.tx {
			if err := s.waitFor(other.by, -1, time.Time{}); err != nil {
				return err
			}
			continue
		}
		if other.gone {
			return nil
		}
		return fail(1, "unique constraint (%s.%s) violated", t.owner, idx.name)
	}
}

// add puts a row in.
func (s *Session) add(t *table, h *heap, vals []Value) (*row, error) {
	x := s.begin()
	r := &row{n: int64(s.srv.next()), vals: vals, by: x}
	for _, idx := range t.indexes {
		if !idx.unique {
			continue
		}
		if k, some := idx.key(vals); some {
			if err := s.free(t, h, idx, k, r); err != nil {
				return nil, err
			}
		}
	}
	for _, idx := range t.indexes {
		if !idx.unique {
			continue
		}
		if k, some := idx.key(vals); some {
			m := h.keys[idx]
			other := m[k]
			m[k] = r
			x.undo = append(x.undo, func() { putBack(m, k, other) })
		}
	}
	h.rows = append(h.rows, r)
	x.touched = append(x.touched, touch{h, r})
	x.undo = append(x.undo, func() { r.gone, r.dead = true, true })
	return r, nil
}

// remove takes a row that is owned out.
func (s *Session) remove(r *row) {
	r.gone = true
	s.tx.undo = append(s.tx.undo, func() { r.gone = false })
}

// savepoint makes one.
func (s *Session) savepoint(name string) {
	x := s.begin()
	for i := range x.saves {
		if x.saves[i].name == name {
			x.saves = append(x.saves[:i:i], x.saves[i+1:]...)
			break
		}
	}
	x.saves = append(x.saves, save{name, len(x.undo), len(x.locked)})
}

// backToSave goes back to one.
func (s *Session) backToSave(name string) error {
	if s.tx != nil {
		for i := len(s.tx.saves) - 1; i >= 0; i-- {
			if strings.EqualFold(s.tx.saves[i].name, name) {
				s.tx.backTo(s.tx.saves[i].at)
				s.tx.unlockTo(s.tx.saves[i].locked)
				s.tx.saves = s.tx.saves[:i+1]
				return nil
			}
		}
	}
	return fail(1086, "savepoint '%s' never established in this session or is invalid", name)
}
