package engine

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"ambertray/internal/standin/tsql"
)

// A Sink is told what comes of a batch.
type Sink interface {
	Columns(cols []Out)
	Row(v []Value) error
	// Done ends a statement; rows is -1 where nothing was counted.
	Done(rows int64, failed bool, kind DoneKind)
	// Message is an error, or of class 10 and below information.
	Message(e *Error)
	// Changed tells that the session's database, or its transaction, is another.
	Changed(what Change, now, before string)
	// Status is what a procedure returns, and Output a parameter that comes back.
	Status(n int64)
	Output(name string, t Type, v Value)
}

// A Change is what of a session has changed ([MS-TDS] 2.2.7.8, ENVCHANGE).
type Change byte

// The changes.
const (
	ChangedDatabase Change = 1
	BegunTran       Change = 8
	CommittedTran   Change = 9
	RolledBackTran  Change = 10
)

// A DoneKind tells what ends: a statement of a batch, one within a procedure, or a procedure.
type DoneKind byte

// The kinds.
const (
	DoneStatement DoneKind = iota
	DoneInProc
	DoneProc
)

type variable struct {
	t Type
	v Value
}

// options are what SET changes. What a text within a batch has set is as before at its end.
type options struct {
	xactAbort, noCount, noExec, formOnly, parseOnly bool
	isolation                                       string
	lockTimeout                                     int64
	identityOn                                      *Table
}

// A Session is a connection.
type Session struct {
	ID    int
	srv   *Server
	db    *Database
	User  string
	login Login
	Host  string
	App   string

	tx        *tx // that a client has begun
	statement *tx // of the statement at hand
	count     int // @@TRANCOUNT
	vars      map[string]*variable
	temps     map[string]*Table
	sink      Sink
	cancelled atomic.Bool
	begun     time.Time

	options

	rowCount  int64
	lastError int
	identity  Value // @@IDENTITY
	tries     int   // how many TRY stand around
	triggers  int   // how many triggers run
	procs     int   // how deep in procedures
	caught    *Error
	pseudo    map[string][][]Value // inserted, deleted
	pseudoOf  *Table
	bulk      *bulk
	prepared  map[int64]preparedText
	last      int64 // handle
	returned  int64
	told      bool // a statement has been told to be done
}

type preparedText struct{ params, text string }

// Connect makes a session for who knows the password.
func (srv *Server) Connect(user, password, database, host, app string) (*Session, error) {
	srv.mu.Lock()
	defer srv.mu.Unlock()
	l, is := srv.logins[user]
	if !is || l.Password != password {
		return nil, &Error{Number: 18456, Class: 14, State: 1, Message: fmt.Sprintf("Login failed for user '%s'.",
			user)}
	}
	if database == "" {
		database = "master"
	}
	db := srv.databases[strings.ToLower(database)]
	if db == nil {
		return nil, &Error{Number: 4060, Class: 11, State: 1, Message: fmt.Sprintf("Cannot open database \"%s\" "+
			"requested "+
			"by the login. The login failed.", database)}
	}
	srv.lastSPID++
	s := &Session{ID: srv.lastSPID, srv: srv, db: db, User: user, login: l, Host: host, App: app, begun: time.Now(),
		temps: map[string]*Table{}, prepared: map[int64]preparedText{}}
	s.defaults()
	srv.sessions[s.ID] = s
	return s, nil
}

func (s *Session) defaults() {
	s.options = options{isolation: "READ COMMITTED", lockTimeout: -1}
	s.bulk = nil
	s.identity = null
}

// Database is the name of the one that the session is in.
func (s *Session) Database() string { return s.db.Name }

// Cancel ends what the session is at, as soon as it can.
func (s *Session) Cancel() { s.cancelled.Store(true) }

// Collation is that of the session's database.
func (s *Session) Collation() *Collation { return s.db.Coll }

// Close ends a session: what it has not committed is undone.
func (s *Session) Close() {
	s.srv.mu.Lock()
	defer s.srv.mu.Unlock()
	s.end()
	delete(s.srv.sessions, s.ID)
}

// Reset makes the session as if it were new, as pools of connections ask for.
func (s *Session) Reset() {
	s.srv.mu.Lock()
	defer s.srv.mu.Unlock()
	s.end()
	s.defaults()
}

func (s *Session) end() {
	if s.tx != nil {
		s.tx.done(false)
		s.tx, s.count = nil, 0
	}
	for _, l := range s.srv.locks {
		l.release(func(o *owner) bool { return o.s == s })
	}
	s.temps = map[string]*Table{}
	for k, t := range s.srv.globals {
		if t.owner == s {
			delete(s.srv.globals, k)
		}
	}
	s.srv.cond.Broadcast()
}

// The ways in which statements end before their time.
var (
	errBatch  = errors.New("the batch ends")
	errReturn = errors.New("return")
)

// Batch runs a text.
func (s *Session) Batch(text string, sink Sink) {
	s.srv.mu.Lock()
	defer s.srv.mu.Unlock()
	s.ready(sink)
	s.runText(text)
	if s.finish(); !s.told {
		s.done(-1, false) // a batch ends with at least one
	}
}

// ready prepares for what comes from a client.
func (s *Session) ready(sink Sink) {
	s.sink, s.vars = sink, map[string]*variable{}
	s.cancelled.Store(false)
	s.tries, s.triggers, s.procs, s.caught, s.told = 0, 0, 0, nil, false
}

// finish ends it: a transaction that was doomed in it is undone.
func (s *Session) finish() {
	if s.tx != nil && s.tx.doomed {
		s.rollback()
		s.tell(fail(3998, 16, "Uncommittable transaction is detected at the end of the batch. The transaction is "+
			"rolled "+
			"back."))
		s.sink.Done(-1, true, DoneStatement)
	}
}

func (s *Session) runText(text string) error {
	list, err := tsql.Parse(text)
	var bad *tsql.SyntaxError
	if errors.As(err, &bad) {
		e := fail(102, 15, "%s", bad.What)
		e.Line = bad.Line
		err = s.handle(e, 0)
		s.done(-1, true)
		return err
	}
	if len(list) == 0 && s.procs == 0 {
		s.done(-1, false)
	}
	if err := checkFirst(list); err != nil {
		s.tell(err)
		s.done(-1, true)
		return errBatch
	}
	return s.runList(list)
}

// checkFirst finds statements that have to be alone in their batch.
func checkFirst(list []tsql.Statement) *Error {
	for i, st := range list {
		what := ""
		switch st.(type) {
		case *tsql.CreateView:
			what = "VIEW"
		case *tsql.CreateTrigger:
			what = "TRIGGER"
		case *tsql.CreateSchema:
			what = "SCHEMA"
		}
		if what != "" && (i > 0 || what != "TRIGGER" && len(list) > 1) {
			return fail(111, 15, "'CREATE %s' must be the first statement in a query batch.", what)
		}
	}
	return nil
}

func (s *Session) runList(list []tsql.Statement) error {
	for _, st := range list {
		if err := s.run(st); err != nil {
			return err
		}
	}
	return nil
}

// tell says a message.
func (s *Session) tell(e *Error) {
	x := *e
	if x.State == 0 {
		x.State = 1
	}
	s.sink.Message(&x)
}

func (s *Session) done(rows int64, failed bool) {
	kind := DoneStatement
	if s.procs > 0 {
		kind = DoneInProc
		if s.noCount {
			return
		}
	}
	if s.noCount {
		rows = -1
	}
	s.told = true
	s.sink.Done(rows, failed, kind)
}

// handle decides what an error means: it goes to the TRY around, or is told, and ends
// the statement, the batch or the transaction.
func (s *Session) handle(err error, line int) error {
	var e *Error
	if !errors.As(err, &e) {
		return err
	}
	x := *e
	if x.Line == 0 {
		x.Line = max(line, 1)
	}
	s.lastError = x.Number
	if x.Number == errCancelled.Number {
		return errBatch // who has cancelled is told by the connection
	}
	abort := s.xactAbort || s.triggers > 0
	if x.raised && !x.thrown {
		abort = false // RAISERROR heeds no XACT_ABORT
	}
	if s.tries > 0 && x.Class > 10 && x.Class < 20 {
		if s.tx != nil && (x.dooms() || abort) {
			s.tx.doomed = true
		}
		return &x
	}
	s.tell(&x)
	if x.dooms() || abort && x.Class > 10 {
		s.rollback()
		return errBatch
	}
	if x.endsBatch() || s.triggers > 0 && x.Class > 10 && !x.raised {
		return errBatch
	}
	return nil
}

// rollback undoes the session's transaction, if there is one.
func (s *Session) rollback() {
	if s.tx == nil {
		return
	}
	id := s.tx.id
	s.tx.done(false)
	if s.statement == s.tx {
		s.statement = nil
	}
	s.tx, s.count = nil, 0
	s.sink.Changed(RolledBackTran, "", strconv.FormatInt(id, 10))
}

// run runs one statement, in a transaction of its own where there is none.
func (s *Session) run(st tsql.Statement) error {
	if s.cancelled.Load() {
		return s.handle(errCancelled, st.Line())
	}
	if skip := s.skips(st); skip {
		return nil
	}
	if flow, err := s.flow(st); flow {
		return err
	}
	own := s.tx == nil
	if own {
		s.statement = s.begin()
	} else {
		s.statement = s.tx
	}
	mark := len(s.statement.undo)
	rows, err := s.execute(st)
	if x := s.statement; x != nil {
		switch {
		case own && s.tx == x: // it has become the session's
		case own:
			x.done(err == nil)
		case err != nil && x == s.tx:
			x.backTo(mark)
		}
	}
	s.statement = s.tx
	if err == nil {
		s.lastError = 0
		if rows >= -1 {
			s.rowCount = max(rows, 0)
			s.done(rows, false)
		}
		return nil
	}
	if errors.Is(err, errBatch) || errors.Is(err, errReturn) {
		return err
	}
	err = s.handle(err, st.Line())
	var e *Error
	if errors.As(err, &e) {
		return err // a TRY catches it
	}
	s.rowCount = 0
	s.done(-1, true)
	return err
}

// skips tells statements that are not run, as the session has asked for.
func (s *Session) skips(st tsql.Statement) bool {
	if set, is := st.(*tsql.Set); is && (set.Option == "NOEXEC" || set.Option == "FMTONLY" ||
		set.Option == "PARSEONLY") {
		return false
	}
	if s.noExec || s.parseOnly {
		return true
	}
	if s.formOnly {
		_, query := st.(*tsql.Query)
		return !query
	}
	return false
}

// flow runs what directs others.
func (s *Session) flow(st tsql.Statement) (is bool, err error) {
	switch st := st.(type) {
	case *tsql.If:
		yes, err := s.holds(st.Cond)
		switch {
		case err != nil:
			return true, s.statementFailed(err, st.Line())
		case yes:
			return true, s.run(st.Then)
		case st.Else != nil:
			return true, s.run(st.Else)
		}
		return true, nil
	case *tsql.While:
		for {
			yes, err := s.holds(st.Cond)
			if err != nil {
				return true, s.statementFailed(err, st.Line())
			}
			if !yes {
				return true, nil
			}
			if err := s.run(st.Body); err != nil {
				return true, err
			}
		}
	case *tsql.Block:
		return true, s.runList(st.Body)
	case *tsql.Try:
		return true, s.try(st)
	case *tsql.Return:
		if st.Value != nil {
			v, err := s.value(st.Value, intType)
			if err != nil {
				return true, s.statementFailed(err, st.Line())
			}
			s.returned = v.N
		}
		return true, errReturn
	}
	return false, nil
}

func (s *Session) statementFailed(err error, line int) error {
	err = s.handle(err, line)
	var e *Error
	if !errors.As(err, &e) {
		s.done(-1, true)
	}
	return err
}

func (s *Session) try(st *tsql.Try) error {
	s.tries++
	err := s.runList(st.Body)
	s.tries--
	var e *Error
	if !errors.As(err, &e) {
		return err
	}
	before := s.caught
	s.caught = e
	err = s.runList(st.Catch)
	s.caught = before
	return err
}

// within evaluates something with a statement's transaction around it.
func (s *Session) within(f func() error) error {
	if s.statement != nil {
		return f()
	}
	s.statement = s.begin()
	defer func() {
		s.statement.done(true)
		s.statement = nil
	}()
	return f()
}

func (s *Session) holds(e tsql.Expr) (yes bool, err error) {
	err = s.within(func() error {
		x, err := (&scope{s: s}).compile(e)
		if err != nil {
			return err
		}
		v, err := x.f(&frame{s: s})
		yes = !v.Null && v.N != 0
		return err
	})
	return yes, err
}

// value is an expression as one of a type.
func (s *Session) value(e tsql.Expr, t Type) (v Value, err error) {
	err = s.within(func() error {
		x, err := (&scope{s: s}).compile(e)
		if err == nil {
			if v, err = x.f(&frame{s: s}); err == nil {
				v, err = convert(v, x.t, t, 0)
			}
		}
		return err
	})
	return v, err
}

// execute runs a statement, and returns how many rows it counted: -1, if none; -2, if it
// has told already.
func (s *Session) execute(st tsql.Statement) (int64, error) {
	if s.tx != nil && s.tx.doomed && writes(st) {
		return -1, fail(3930, 16, "The current transaction cannot be committed and cannot support operations that "+
			"write "+
			"to the log file. Roll back the transaction.")
	}
	switch st := st.(type) {
	case *tsql.Query:
		return s.query(st.Select)
	case *tsql.Insert:
		return s.insert(st)
	case *tsql.Update:
		return s.update(st)
	case *tsql.Delete:
		return s.deleteFrom(st)
	case *tsql.Truncate:
		return -1, s.truncate(st)
	case *tsql.InsertBulk:
		return -1, s.insertBulk(st)
	case *tsql.Set:
		return -1, s.set(st)
	case *tsql.Declare:
		return -2, s.declare(st)
	case *tsql.Assign:
		return -2, s.assign(st.Var, st.Value)
	case *tsql.Tran:
		return -1, s.tran(st.Verb, st.Name)
	case *tsql.Exec:
		return -2, s.exec(st)
	case *tsql.Throw:
		return -1, s.throw(st)
	case *tsql.Raise:
		return -1, s.raise(st)
	case *tsql.Print:
		v, err := s.value(st.Value, Type{Kind: NVarChar, Len: 4000, Coll: s.db.Coll})
		if err == nil {
			s.tell(&Error{Number: 0, Class: 0, State: 1, Message: v.S, Line: st.Line()})
		}
		return -2, err
	case *tsql.Use:
		return -1, s.use(st.Database)
	case *tsql.Wait:
		return -1, s.wait(st.Delay)
	case *tsql.CheckIdent:
		return -1, s.checkIdent(st)
	}
	return s.define(st)
}

// writes reports statements that a doomed transaction refuses.
func writes(st tsql.Statement) bool {
	switch st := st.(type) {
	case *tsql.Query:
		return st.Into != nil
	case *tsql.Set, *tsql.Declare, *tsql.Assign, *tsql.Exec, *tsql.Throw, *tsql.Raise, *tsql.Print, *tsql.Use,
		*tsql.Wait:
		return false
	case *tsql.Tran:
		return st.Verb == "SAVE" || st.Verb == "COMMIT"
	}
	return true
}

func (s *Session) query(q *tsql.Select) (int64, error) {
	if q.Into != nil {
		return s.selectInto(q)
	}
	p, err := s.plan(q, nil)
	if err != nil {
		return -1, err
	}
	if slices.ContainsFunc(q.Items, func(it tsql.Item) bool { return it.Var != "" }) {
		return s.assignAll(q, p)
	}
	if s.formOnly {
		s.sink.Columns(p.cols)
		return 0, nil
	}
	// All is known before the first row is sent, so that a slow client holds up nobody.
	var rows [][]Value
	if err := p.run(nil, func(v []Value) error {
		rows = append(rows, v)
		if len(rows)%1024 == 0 && s.cancelled.Load() {
			return errCancelled
		}
		return nil
	}); err != nil && err != errStop {
		return -1, err
	}
	s.sink.Columns(p.cols)
	s.srv.mu.Unlock()
	defer s.srv.mu.Lock()
	for i, r := range rows {
		if err := s.sink.Row(r); err != nil {
			return -1, err
		}
		if i%1024 == 0 && s.cancelled.Load() {
			return -1, errCancelled
		}
	}
	return int64(len(rows)), nil
}

// assignAll is SELECT @a = …: the last row counts.
func (s *Session) assignAll(q *tsql.Select, p *plan) (int64, error) {
	n := int64(0)
	err := p.run(nil, func(v []Value) error {
		n++
		for i, it := range q.Items {
			if it.Var == "" {
				return fail(141, 15, "A SELECT statement that assigns a value to a variable must not be combined with "+
					"data-retrieval operations.")
			}
			x := s.vars[it.Var]
			if x == nil {
				return fail(137, 15, "Must declare the scalar variable \"%s\".", it.Var)
			}
			var err error
			if x.v, err = convert(v[i], p.cols[i].Type, x.t, 0); err != nil {
				return err
			}
		}
		return nil
	})
	return n, err
}

func (s *Session) declare(st *tsql.Declare) error {
	for i, name := range st.Names {
		t, err := TypeOf(st.Types[i], s.db.Coll)
		if err != nil {
			return err
		}
		if s.vars[name] != nil {
			return fail(134, 15, "The variable name '%s' has already been declared.", name)
		}
		s.vars[name] = &variable{t, null}
		if st.Values[i] != nil {
			if err := s.assign(name, st.Values[i]); err != nil {
				return err
			}
		}
	}
	return nil
}

func (s *Session) assign(name string, e tsql.Expr) error {
	x := s.vars[name]
	if x == nil {
		return fail(137, 15, "Must declare the scalar variable \"%s\".", name)
	}
	v, err := s.value(e, x.t)
	if err == nil {
		x.v = v
	}
	return err
}

func (s *Session) throw(st *tsql.Throw) error {
	if st.Number == nil {
		if s.caught == nil {
			return fail(10704, 15, "To rethrow an error, a THROW statement must be used inside a CATCH block.")
		}
		x := *s.caught
		x.thrown, x.raised = true, true
		return &x
	}
	n, err := s.value(st.Number, intType)
	if err != nil {
		return err
	}
	m, err := s.value(st.Message, Type{Kind: NVarChar, Len: 2048, Coll: s.db.Coll})
	if err != nil {
		return err
	}
	state, err := s.value(st.State, intType)
	if err != nil {
		return err
	}
	return &Error{Number: int(n.N), Class: 16, State: int(state.N), Message: m.S, thrown: true, raised: true}
}

func (s *Session) raise(st *tsql.Raise) error {
	m, err := s.value(st.Message, Type{Kind: NVarChar, Len: 2048, Coll: s.db.Coll})
	if err != nil {
		return err
	}
	sev, err := s.value(st.Severity, intType)
	if err != nil {
		return err
	}
	state, err := s.value(st.State, intType)
	if err != nil {
		return err
	}
	text := m.S
	for _, a := range st.Args {
		v, err := s.value(a, Type{Kind: NVarChar, Len: 4000, Coll: s.db.Coll})
		if err != nil {
			return err
		}
		i := strings.IndexByte(text, '%')
		if i < 0 || i+1 >= len(text) {
			break
		}
		text = text[:i] + v.S + text[i+2:]
	}
	e := &Error{Number: 50000, Class: int(sev.N), State: int(state.N), Message: text, raised: true}
	if e.Class <= 10 {
		s.tell(e)
		return nil
	}
	return e
}

func (s *Session) use(name string) error {
	db := s.srv.databases[strings.ToLower(name)]
	if db == nil {
		return fail(911, 16, "Database '%s' does not exist. Make sure that the name is entered correctly.", name)
	}
	before := s.db.Name
	s.db = db
	s.sink.Changed(ChangedDatabase, db.Name, before)
	s.tell(&Error{Number: 5701, Class: 0, State: 2, Message: fmt.Sprintf("Changed database context to '%s'.", db.Name)})
	return nil
}

func (s *Session) wait(delay string) error {
	ticks, _, ok := parseTime(delay)
	if !ok {
		return fail(148, 15, "Incorrect time syntax in time string '%s' used with WAITFOR.", delay)
	}
	until := time.Now().Add(time.Duration(ticks-year1900) * 100)
	old := s.lockTimeout
	s.lockTimeout = -1
	defer func() { s.lockTimeout = old }()
	return s.sleep(func() bool { return !time.Now().Before(until) })
}

// tran is BEGIN, COMMIT, SAVE and ROLLBACK.
func (s *Session) tran(verb, name string) error {
	switch verb {
	case "BEGIN":
		if s.count++; s.tx == nil {
			if s.statement == nil {
				s.statement = s.begin()
			}
			s.tx = s.statement
			s.sink.Changed(BegunTran, strconv.FormatInt(s.tx.id, 10), "")
		}
	case "COMMIT":
		if s.count == 0 {
			return fail(3902, 16, "The COMMIT TRANSACTION request has no corresponding BEGIN TRANSACTION.")
		}
		if s.count--; s.count == 0 {
			x := s.tx
			x.done(true)
			s.tx, s.statement = nil, nil
			s.sink.Changed(CommittedTran, "", strconv.FormatInt(x.id, 10))
		}
	case "SAVE":
		if s.tx == nil {
			return fail(628, 16, "Cannot issue SAVE TRANSACTION when there is no active transaction.")
		}
		s.tx.saves = append(s.tx.saves, save{strings.ToLower(name), len(s.tx.undo)})
	case "ROLLBACK":
		if s.count == 0 {
			return fail(3903, 16, "The ROLLBACK TRANSACTION request has no corresponding BEGIN TRANSACTION.")
		}
		if name == "" {
			inTrigger := s.triggers > 0
			s.rollback()
			if inTrigger {
				return &Error{Number: 3609, Class: 16, State: 1, endsTran: true, Message: "The transaction ended in " +
					"the " +
					"trigger. The batch has been aborted."}
			}
			return nil
		}
		return s.backToSave(name)
	}
	return nil
}

func (s *Session) backToSave(name string) error {
	if s.tx.doomed {
		return fail(3931, 16, "The current transaction cannot be committed and cannot be rolled back to a "+
			"savepoint. Roll "+
			"back the entire transaction.")
	}
	for i := len(s.tx.saves) - 1; i >= 0; i-- {
		if s.tx.saves[i].name == strings.ToLower(name) {
			s.tx.backTo(s.tx.saves[i].at)
			s.tx.saves = s.tx.saves[:i+1]
			return nil
		}
	}
	return fail(6401, 16, "Cannot roll back %s. No transaction or savepoint of that name was found.", name)
}

// Tran is a request of the transaction manager ([MS-TDS] 2.2.6.9).
func (s *Session) Tran(verb, name, isolation string, sink Sink) {
	s.srv.mu.Lock()
	defer s.srv.mu.Unlock()
	s.ready(sink)
	if isolation != "" {
		s.isolation = isolation
	}
	err := s.tran(verb, name)
	if s.statement = s.tx; err != nil {
		s.handle(err, 1)
	}
	s.sink.Done(-1, err != nil, DoneStatement)
}

// set is SET of an option.
func (s *Session) set(st *tsql.Set) error {
	on := st.Value == "ON"
	for _, o := range strings.Split(st.Option, ",") {
		switch o {
		case "XACT_ABORT":
			s.xactAbort = on
		case "NOCOUNT":
			s.noCount = on
		case "NOEXEC":
			s.noExec = on
		case "PARSEONLY":
			s.parseOnly = on
		case "FMTONLY":
			s.formOnly = on
		case "LOCK_TIMEOUT":
			n, err := strconv.ParseInt(st.Value, 10, 64)
			if err != nil {
				return fail(102, 15, "Incorrect syntax near '%s'.", st.Value)
			}
			s.lockTimeout = n
		case "TRANSACTION ISOLATION LEVEL":
			if st.Value == "SNAPSHOT" {
				return fail(3952, 16, "Snapshot isolation transaction failed accessing database '%s' because snapshot "+
					"isolation is not allowed in this database.", s.db.Name)
			}
			s.isolation = st.Value
		case "IDENTITY_INSERT":
			if err := s.setIdentityInsert(st, on); err != nil {
				return err
			}
		case "IMPLICIT_TRANSACTIONS":
			if on {
				return unknown("SET IMPLICIT_TRANSACTIONS ON")
			}
		case "DATEFORMAT":
			if st.Value != "MDY" && st.Value != "YMD" {
				return unknown("SET DATEFORMAT %s", st.Value)
			}
		case "ROWCOUNT":
			if st.Value != "0" {
				return unknown("SET ROWCOUNT %s", st.Value)
			}
		case "ANSI_NULLS", "ANSI_NULL_DFLT_ON", "ANSI_PADDING", "ANSI_WARNINGS", "QUOTED_IDENTIFIER",
			"CONCAT_NULL_YIELDS_NULL",
			"ARITHABORT":
			if !on {
				return unknown("SET %s OFF", o)
			}
		case "NUMERIC_ROUNDABORT", "CURSOR_CLOSE_ON_COMMIT", "TEXTSIZE", "DATEFIRST", "LANGUAGE", "DEADLOCK_PRIORITY",
			"ANSI_DEFAULTS", "ARITHIGNORE":
		default:
			return unknown("SET %s", o)
		}
	}
	return nil
}

func (s *Session) setIdentityInsert(st *tsql.Set, on bool) error {
	t, err := s.table(*st.Name)
	if err != nil {
		return err
	}
	if t.identity() == nil {
		return fail(8106, 16, "Table '%s' does not have the identity property. Cannot perform SET operation.",
			t.dotted())
	}
	if !on {
		if s.identityOn == t {
			s.identityOn = nil
		}
		return nil
	}
	if s.identityOn != nil && s.identityOn != t {
		return fail(8107, 16, "IDENTITY_INSERT is already ON for table '%s'. Cannot perform SET operation for table "+
			"'%s'.",
			s.identityOn.dotted(), t.dotted())
	}
	s.identityOn = t
	return nil
}
