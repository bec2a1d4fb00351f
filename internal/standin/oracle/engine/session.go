package engine

import (
	"context"
	"strconv"
	"strings"
	"time"

	"ambertray/internal/standin/oracle/sql"
)

// A Session executes statements for one user.
type Session struct {
	ID      int
	srv     *Server
	user    *user
	schema  string
	nls     map[string]string
	zone    *time.Location
	tx      *tx
	stopped bool
	program string
}

// Login makes a session for a user.
func (s *Server) Login(name, program string) *Session {
	s.mu.Lock()
	defer s.mu.Unlock()
	u := s.users[strings.ToUpper(name)]
	x := &Session{ID: s.next(), srv: s, user: u, schema: u.name, zone: time.UTC, program: program,
		nls: map[string]string{"NLS_DATE_FORMAT": "DD-MON-RR", "NLS_TIMESTAMP_FORMAT": "DD-MON-RR HH.MI.SSXFF AM",
			"NLS_TIMESTAMP_TZ_FORMAT": "DD-MON-RR HH.MI.SSXFF AM TZR", "NLS_NUMERIC_CHARACTERS": ".,",
			"NLS_SORT": "BINARY", "NLS_COMP": "BINARY", "NLS_LENGTH_SEMANTICS": "BYTE", "NLS_LANGUAGE": "AMERICAN",
			"NLS_TERRITORY": "AMERICA", "NLS_DATE_LANGUAGE": "AMERICAN", "NLS_CALENDAR": "GREGORIAN"}}
	s.sessions[x] = true
	return x
}

// User is the name of the session's user.
func (s *Session) User() string { return s.user.name }

// Stop has the statement that runs end soon.
func (s *Session) Stop() {
	s.srv.mu.Lock()
	s.stopped = true
	s.srv.changed.Broadcast()
	s.srv.mu.Unlock()
}

// Close ends the session; what is open is rolled back.
func (s *Session) Close() {
	s.srv.mu.Lock()
	defer s.srv.mu.Unlock()
	s.end(false)
	for _, u := range s.srv.users {
		for _, o := range u.objects {
			if t, is := o.(*table); is && t.temporary {
				delete(t.own, s)
			}
		}
	}
	delete(s.srv.sessions, s)
}

// End commits or rolls back what is open.
func (s *Session) End(commit bool) {
	s.srv.mu.Lock()
	defer s.srv.mu.Unlock()
	s.end(commit)
}

func (s *Session) now() time.Time { return time.Now().In(s.zone) }

// A Column is one of what a query yields.
type Column struct {
	Name     string
	Type     Type
	Required bool
}

// A Result is what comes of a statement.
type Result struct {
	Query    bool
	Columns  []Column
	Rows     [][]Value
	Affected int64
	// Refused are the rows of an array that were refused, where the others were to go in.
	Refused []Refused
}

// Refused is one.
type Refused struct {
	Row int
	Err *Error
}

// A Prepared statement is one that was read.
type Prepared struct {
	Text  string
	st    sql.Statement
	Binds int
	names []string
	// rowIDs tells that it may ask for the addresses of rows.
	rowIDs bool
}

// IsQuery reports a SELECT.
func (p *Prepared) IsQuery() bool { _, is := p.st.(*sql.Select); return is }

// Prepare reads a statement.
func Prepare(src string) (*Prepared, error) {
	st, names, err := sql.Parse(src)
	if err != nil {
		return nil, err
	}
	return &Prepared{src, st, len(names), names, strings.Contains(strings.ToUpper(src), "ROWID")}, nil
}

// run is one execution of a statement.
type run struct {
	s     *Session
	binds []Value
	now   time.Time
	// found are rows of tables by the values of a column, as a query has asked for them.
	found map[lookup]map[string][]int
	// read are the rows of tables, as the statement has begun with them.
	read  map[*sql.Table]*relation
	begun int // where its undoing begins
	// rowIDs tells that the statement may ask for the addresses of rows.
	rowIDs bool
	shapes map[*table]*shape // of tables that rows go into
}

// Execute runs a statement once for each row of binds. With partly, rows that are refused are
// told, and the others stay.
func (s *Session) Execute(ctx context.Context, p *Prepared, binds [][]Value, partly bool) (res *Result, err error) {
	s.srv.mu.Lock()
	defer s.srv.mu.Unlock()
	s.stopped = false
	stop := context.AfterFunc(ctx, s.Stop)
	defer stop()
	if len(binds) == 0 {
		binds = [][]Value{nil}
	}
	for i, b := range binds {
		if len(b) < p.Binds {
			return nil, fail(1008, "not all variables bound")
		}
		one, err := s.once(p, b)
		if err != nil {
			e, is := err.(*Error)
			if partly && is && e.Number != 1013 {
				if res == nil {
					res = &Result{}
				}
				res.Refused = append(res.Refused, Refused{i, e})
				continue
			}
			return res, err
		}
		if res == nil {
			res = one
			continue
		}
		res.Affected += one.Affected
		res.Query, res.Columns, res.Rows = one.Query, one.Columns, one.Rows
	}
	return res, nil
}

// once runs a statement, all of it or nothing.
func (s *Session) once(p *Prepared, binds []Value) (*Result, error) {
	r := &run{s: s, binds: binds, now: s.now(), found: map[lookup]map[string][]int{},
		read: map[*sql.Table]*relation{}, rowIDs: p.rowIDs, shapes: map[*table]*shape{}}
	had := s.tx
	locked := 0
	if had != nil {
		r.begun, locked = len(had.undo), len(had.locked)
	}
	res, err := r.statement(p.st)
	if err == nil || s.tx == nil {
		return res, err
	}
	if s.tx != had { // which it has begun
		s.end(false)
		return res, err
	}
	s.tx.backTo(min(r.begun, len(s.tx.undo)))
	s.tx.unlockTo(locked)
	return res, err
}

// statement runs one. Definitions commit before and behind.
func (r *run) statement(st sql.Statement) (*Result, error) {
	s := r.s
	switch x := st.(type) {
	case *sql.Select:
		return r.selectAll(x)
	case *sql.Insert:
		return r.insert(x)
	case *sql.Update:
		return r.update(x)
	case *sql.Delete:
		return r.delete(x)
	case *sql.Merge:
		return r.merge(x)
	case *sql.Commit:
		s.end(true)
		return &Result{}, nil
	case *sql.Rollback:
		if x.To != "" {
			err := s.backToSave(x.To)
			r.begun = 0
			if s.tx != nil {
				r.begun = len(s.tx.undo)
			}
			return &Result{}, err
		}
		s.end(false)
		return &Result{}, nil
	case *sql.Savepoint:
		s.savepoint(x.Name)
		return &Result{}, nil
	case *sql.SetTransaction:
		if s.tx != nil && len(s.tx.undo) > 0 {
			return nil, fail(1453, "SET TRANSACTION must be first statement of transaction")
		}
		s.begin().readOnly = x.ReadOnly
		return &Result{}, nil
	case *sql.LockTable:
		t, err := s.table(x.Table, "SELECT")
		if err != nil {
			return nil, err
		}
		mode := lockModes[x.Mode]
		if mode == 0 {
			return nil, fail(1737, "valid modes: [ROW] SHARE, [[SHARE] ROW] EXCLUSIVE, SHARE UPDATE")
		}
		return &Result{}, s.lock(t, mode, x.Wait)
	case *sql.AlterSession:
		return &Result{}, s.alter(x)
	case *sql.CallProc:
		return &Result{}, r.call(x)
	case *sql.Block:
		return &Result{}, r.block(x)
	case *sql.Immediate:
		st, _, err := sql.Parse(x.Text)
		if err == nil {
			_, err = r.statement(st)
		}
		return &Result{}, err
	}
	s.end(true)
	res, err := r.define(st)
	s.end(err == nil)
	r.begun = 0
	return res, err
}

// block runs a block of PL/SQL.
func (r *run) block(b *sql.Block) error {
	failed := r.steps(b.Body, nil)
	if failed == nil || b.Handler == nil {
		return failed
	}
	return r.steps(b.Handler, failed)
}

// steps runs statements of a block, in a handler with what it has caught.
func (r *run) steps(list []sql.Statement, caught error) error {
	for _, st := range list {
		if x, is := st.(*sql.Raise); is {
			if caught != nil && (x.Unless == 0 || number(caught) != x.Unless) {
				return caught
			}
			continue
		}
		if _, err := r.statement(st); err != nil {
			return err
		}
	}
	return nil
}

// alter is ALTER SESSION.
func (s *Session) alter(a *sql.AlterSession) error {
	for _, kv := range a.Set {
		k, v := kv[0], kv[1]
		switch {
		case k == "TIME_ZONE":
			z, err := parseZone(v)
			if err != nil {
				return err
			}
			s.zone = z
		case k == "CURRENT_SCHEMA":
			if s.srv.users[v] == nil {
				return fail(1435, "user does not exist")
			}
			s.schema = v
		case strings.HasPrefix(k, "NLS_"):
			if strings.HasSuffix(k, "_FORMAT") {
				if _, err := mask(v); err != nil {
					return err
				}
			}
			s.nls[k] = v
		case k == "DDL_LOCK_TIMEOUT" || k == "ISOLATION_LEVEL":
			s.nls[k] = v
		default:
			return unknown("ALTER SESSION SET %s", k)
		}
	}
	return nil
}

// parseZone reads a time zone's offset.
func parseZone(v string) (*time.Location, error) {
	sign := 1
	t := v
	switch {
	case strings.HasPrefix(v, "-"):
		sign, t = -1, v[1:]
	case strings.HasPrefix(v, "+"):
		t = v[1:]
	case v == "UTC":
		return time.UTC, nil
	}
	hh, mm, ok := strings.Cut(t, ":")
	h, err1 := strconv.Atoi(hh)
	m, err2 := strconv.Atoi(mm)
	if !ok || err1 != nil || err2 != nil || h > 15 || m > 59 {
		return nil, fail(1882, "timezone region not found")
	}
	if h == 0 && m == 0 {
		return time.UTC, nil
	}
	return time.FixedZone("", sign*(h*3600+m*60)), nil
}

// call runs a procedure.
func (r *run) call(c *sql.CallProc) error {
	if c.Name != "DBMS_SESSION.SLEEP" || len(c.Args) != 1 {
		return unknown("the procedure %s", c.Name)
	}
	v, err := r.value(c.Args[0], nil)
	if err != nil {
		return err
	}
	if v, err = asNumber(v); err != nil {
		return err
	}
	seconds, _ := v.D.Float64()
	until := time.Now().Add(time.Duration(seconds * float64(time.Second)))
	stop := time.AfterFunc(time.Until(until), r.s.srv.wake)
	defer stop.Stop()
	for time.Now().Before(until) {
		if r.s.stopped {
			return fail(1013, "user requested cancel of current operation")
		}
		r.s.srv.changed.Wait()
	}
	return nil
}

// As makes of a value one of the type that its column was said to be of.
func (s *Session) As(v Value, t Type) Value {
	s.srv.mu.Lock()
	defer s.srv.mu.Unlock()
	if t.Kind == Text {
		if x, err := s.asText(v); err == nil {
			return x
		}
	}
	x, err := s.fit(v, t, place{})
	if err != nil {
		return null
	}
	return x
}
