package engine

import (
	"slices"
	"strings"
	"sync"
	"time"

	"ambertray/internal/standin/oracle/sql"
)

// A Server has users, of whom each has objects of its own.
type Server struct {
	// Settings are how it is.
	Settings
	mu       sync.Mutex
	changed  *sync.Cond // a transaction has ended, or a session is to stop
	users    map[string]*user
	sessions map[*Session]bool
	last     int // number of objects, sessions and constraints
}

// Settings are how a server is.
type Settings struct {
	// Version is what it says it is; empty: 19.
	Version string
	// Charset is that of the database; empty: AL32UTF8.
	Charset string
}

// A Login is what a user may do at first.
type Login struct {
	Password string
	// May are the rights; nil: all.
	May []string
}

type user struct {
	name, password string
	rights         map[string]bool // nil: all
	objects        map[string]any
}

// New makes a server.
func New(logins map[string]Login, set Settings) *Server {
	if set.Version == "" {
		set.Version = "19.0.0.0.0"
	}
	if set.Charset == "" {
		set.Charset = "AL32UTF8"
	}
	s := &Server{Settings: set, users: map[string]*user{}, sessions: map[*Session]bool{}}
	s.changed = sync.NewCond(&s.mu)
	for name, l := range logins {
		u := &user{name: strings.ToUpper(name), password: l.Password, objects: map[string]any{}}
		if l.May != nil {
			u.rights = map[string]bool{}
			for _, r := range l.May {
				u.rights[r] = true
			}
		}
		s.users[u.name] = u
	}
	return s
}

// Password is a user's, if there is one.
func (s *Server) Password(name string) (string, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	u := s.users[strings.ToUpper(name)]
	if u == nil {
		return "", false
	}
	return u.password, true
}

func (s *Server) next() int {
	s.last++
	return s.last
}

// may reports whether a user has a right of the system.
func (u *user) may(right string) bool { return u.rights == nil || u.rights[right] }

// A table has columns, constraints and rows.
type table struct {
	id          int
	owner, name string
	cols        []*column
	cons        []*constraint
	indexes     []*index
	triggers    []*sql.CreateTrigger
	comment     string
	made        time.Time
	temporary   bool
	readOnly    bool
	preserve    bool
	heap        *heap
	own         map[*Session]*heap // of a temporary table
	locks       map[*tx]lockMode
	rights      map[string]map[string]bool // by user
	identity    int64                      // the next number
}

type column struct {
	name     string
	typ      Type
	required bool
	def      sql.Expr
	defText  string
	computed sql.Expr
	identity string // ALWAYS or BY DEFAULT
	onNull   bool
	comment  string
}

type constraint struct {
	sql.Constraint
	cols  []int
	index *index
}

// An index is unique if keys are told apart by it.
type index struct {
	name   string
	cols   []int
	unique bool
	made   bool // by a constraint
}

// A view is a query under a name.
type view struct {
	id          int
	owner, name string
	def         *sql.CreateView
	triggers    []*sql.CreateTrigger
	rights      map[string]map[string]bool
}

type sequence struct {
	name string
	next int64
}

// A heap is the rows of a table, and for each unique index of it the rows by their keys.
type heap struct {
	rows []*row
	keys map[*index]map[string]*row
}

func newHeap() *heap { return &heap{keys: map[*index]map[string]*row{}} }

// A row is as the transaction by has made it; others see old.
type row struct {
	n    int64
	vals []Value
	by   *tx
	old  []Value // nil: there was none
	gone bool
	dead bool // it is in no heap any more
}

// seen are the values that a transaction sees, or nil.
func (r *row) seen(x *tx) []Value {
	switch {
	case r.dead:
		return nil
	case r.by == nil:
		return r.vals
	case r.by != x:
		return r.old
	case r.gone:
		return nil
	}
	return r.vals
}

func (t *table) column(name string) int {
	return slices.IndexFunc(t.cols, func(c *column) bool { return c.name == name })
}

// rowsOf are the rows that a session works with.
func (t *table) rowsOf(s *Session) *heap {
	if !t.temporary {
		return t.heap
	}
	if t.own[s] == nil {
		t.own[s] = newHeap()
	}
	return t.own[s]
}

func (x *index) key(vals []Value) (string, bool) {
	var b []byte
	some := false
	for _, c := range x.cols {
		some = some || !vals[c].IsNull()
		v := vals[c]
		if v.Fixed {
			v.S = strings.TrimRight(v.S, " ")
		}
		b = v.key(b)
	}
	return string(b), some
}

// rebuild fills the keys of an index; false: two rows have the same.
func (h *heap) rebuild(x *index) bool {
	m := map[string]*row{}
	for _, r := range h.rows {
		if r.dead || r.gone {
			continue
		}
		k, some := x.key(r.vals)
		if !some {
			continue
		}
		if m[k] != nil {
			return false
		}
		m[k] = r
	}
	h.keys[x] = m
	return true
}

// object is what a name means: of the session's user first.
func (s *Session) object(n sql.Name) any {
	owner := n.Schema
	if owner == "" {
		owner = s.schema
	}
	u := s.srv.users[owner]
	if u == nil {
		return nil
	}
	return u.objects[n.Object]
}

// allowed reports whether the user may do something with an object of another.
func (s *Session) allowed(owner string, rights map[string]map[string]bool, right string) bool {
	if owner == s.user.name || s.user.rights == nil {
		return true
	}
	return rights[s.user.name][right] || rights["PUBLIC"][right]
}

// table is one by its name, for which the user has a right.
func (s *Session) table(n sql.Name, right string) (*table, error) {
	t, is := s.object(n).(*table)
	if !is {
		if _, is := s.object(n).(*view); is {
			return nil, fail(1732, "data manipulation operation not legal on this view")
		}
		return nil, fail(942, "table or view does not exist")
	}
	if s.allowed(t.owner, t.rights, right) {
		return t, nil
	}
	if len(t.rights[s.user.name]) > 0 {
		return nil, fail(1031, "insufficient privileges")
	}
	return nil, fail(942, "table or view does not exist")
}
