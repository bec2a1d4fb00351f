package engine

import (
	"ambertray/internal/standin/tsql"
)

// A bulk is what INSERT BULK has prepared.
type bulk struct {
	st   *tsql.InsertBulk
	name tsql.Name
}

func (s *Session) insertBulk(st *tsql.InsertBulk) error {
	t, err := s.table(st.Table)
	if err != nil {
		return err
	}
	if err := s.may("INSERT", t); err != nil {
		return err
	}
	if t.view != nil || t.seq != nil {
		return unknown("INSERT BULK into %s, which is no table", t.name)
	}
	for _, c := range st.Columns {
		if t.column(c.Name) < 0 {
			return fail(207, 16, "Invalid column name '%s'.", c.Name)
		}
		if _, err := TypeOf(c.Type, s.db.Coll); err != nil {
			return err
		}
	}
	s.bulk = &bulk{st, st.Table}
	return nil
}

// Bulk takes the rows that INSERT BULK has announced. cols are the columns as the stream
// says them; next yields rows, and nil at the end.
func (s *Session) Bulk(cols []Out, next func() ([]Value, error), sink Sink) error {
	s.srv.mu.Lock()
	defer s.srv.mu.Unlock()
	s.ready(sink)
	b := s.bulk
	s.bulk = nil
	if b == nil || len(cols) != len(b.st.Columns) {
		e := fail(4804, 21, "While reading current row from host, a premature end-of-message was encountered: rows "+
			"came "+
			"that no INSERT BULK had announced.")
		s.tell(e)
		s.done(-1, true)
		return e
	}
	own := s.tx == nil
	if own {
		s.statement = s.begin()
	} else {
		s.statement = s.tx
	}
	mark := len(s.statement.undo)
	n, broken, err := s.takeRows(b, cols, next)
	switch {
	case own:
		s.statement.done(err == nil && broken == nil)
	case err != nil || broken != nil:
		s.statement.backTo(mark)
	}
	s.statement = s.tx
	if broken != nil {
		return broken
	}
	if err != nil {
		s.handle(err, 1)
		s.done(-1, true)
		return nil
	}
	s.rowCount = n
	s.done(n, false)
	return nil
}

// takeRows reads to the end of the stream in any case; broken is an error of the stream
// itself.
func (s *Session) takeRows(b *bulk, cols []Out, next func() ([]Value, error)) (n int64, broken, err error) {
	e, err := s.bulkEntry(b, cols)
	if s.tx != nil && s.tx.doomed {
		err = fail(3930, 16, "The current transaction cannot be committed and cannot support operations that write "+
			"to the "+
			"log file. Roll back the transaction.")
	}
	const piece = 512
	rows := make([][]Value, 0, piece)
	for last := false; !last; {
		rows = rows[:0]
		// Others go on while rows come over the network; the table is this one's alone.
		s.srv.mu.Unlock()
		for len(rows) < piece {
			r, bad := next()
			if bad != nil {
				broken, last = bad, true
				break
			}
			if r == nil {
				last = true
				break
			}
			rows = append(rows, r)
		}
		s.srv.mu.Lock()
		for _, r := range rows {
			if err == nil {
				err = e.add(r)
			}
			n++
		}
	}
	if err == nil && broken == nil {
		err = e.finish(n)
	}
	if s.cancelled.Load() && err == nil {
		err = errCancelled
	}
	return n, broken, err
}

// bulkEntry prepares the entry of rows in bulk. What is not checked is not trusted any
// more.
func (s *Session) bulkEntry(b *bulk, cols []Out) (*entry, error) {
	t, err := s.table(b.name)
	if err != nil {
		return nil, err
	}
	var at []int
	var from []Type
	for i, c := range b.st.Columns {
		said, err := TypeOf(c.Type, s.db.Coll)
		if err != nil {
			return nil, err
		}
		if !sameWire(said, cols[i].Type) {
			return nil, fail(4816, 16, "Invalid column type from bcp client for colid %d: INSERT BULK said %s, the "+
				"rows have %s.",
				i+1, said, cols[i].Type)
		}
		at, from = append(at, t.column(c.Name)), append(from, cols[i].Type)
	}
	o := b.st.Options
	if c := t.identity(); c != nil && o["KEEP_IDENTITY"] {
		s.identityOn = t
		defer func() { s.identityOn = nil }()
	}
	e, err := s.entryOf(t, at, from)
	if err != nil {
		return nil, err
	}
	lock := s.statement.write
	if o["TABLOCK"] {
		lock = s.statement.fill
	}
	if err := lock(t); err != nil {
		return nil, err
	}
	e.verb = "BULK INSERT"
	e.keepNulls, e.unchecked, e.untriggered = o["KEEP_NULLS"], !o["CHECK_CONSTRAINTS"], !o["FIRE_TRIGGERS"]
	if e.unchecked {
		for _, k := range t.checks {
			was := k.distrust
			s.statement.note(undone{do: func() { k.distrust = was }}, 0)
			k.distrust = true
		}
		for _, f := range t.keys {
			was := f.distrust
			s.statement.note(undone{do: func() { f.distrust = was }}, 0)
			f.distrust = true
		}
	}
	return e, nil
}

// sameWire reports whether values of two types look the same on the wire.
func sameWire(a, b Type) bool {
	family := func(t Type) int {
		switch {
		case t.IsWide():
			return 1
		case t.IsText():
			return 2
		case t.IsBytes():
			return 3
		case t.IsInteger():
			return 4
		case t.IsMoney():
			return 5
		case t.IsFloat():
			return 6
		case t.Kind == DateTime || t.Kind == SmallDateTime:
			return 7
		}
		return 100 + int(t.Kind)
	}
	return family(a) == family(b)
}
