package engine

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"ambertray/internal/standin/tsql"
)

// A Server has databases and sessions.
type Server struct {
	mu        sync.Mutex
	cond      *sync.Cond // told when a lock is let go
	databases map[string]*Database
	sessions  map[int]*Session
	logins    map[string]Login
	locks     map[string]*appLock
	globals   map[string]*Table // tables of sessions that all see
	lastID    int               // of objects
	lastSPID  int
	started   time.Time
	// Settings of the server.
	Settings
}

// Settings are what the server says of itself, and its bounds.
type Settings struct {
	// Version is that of the product, such as "16.0.1000.6".
	Version string
	Name    string
	// LogBytes is how much a transaction may change before the log is full, and DataBytes how
	// much a database holds; 0: no bound.
	LogBytes, DataBytes int64
}

// A Login is an account. What it may is a list of permissions; nil: all.
type Login struct {
	Password string
	May      []string
}

// New makes a server with a database "master" and logins.
func New(logins map[string]Login, settings Settings) *Server {
	s := &Server{databases: map[string]*Database{}, sessions: map[int]*Session{}, logins: logins,
		locks: map[string]*appLock{}, globals: map[string]*Table{}, lastSPID: 50, lastID: 100_000,
		started: time.Now(), Settings: settings}
	s.cond = sync.NewCond(&s.mu)
	if s.Version == "" {
		s.Version = "16.0.1000.6"
	}
	if s.Name == "" {
		s.Name = "standin"
	}
	for _, name := range []string{"master", "tempdb"} {
		s.addDatabase(name, DefaultCollation)
	}
	return s
}

// major is the first part of the version.
func (s *Server) major() int {
	var n int
	fmt.Sscanf(s.Version, "%d", &n)
	return n
}

func (s *Server) addDatabase(name, collation string) {
	c, _ := CollationOf(collation)
	db := &Database{Name: name, Coll: c, schemas: map[string]int{}, objects: map[string]*Table{},
		going: map[string]*Table{}, id: len(s.databases) + 1, made: time.Now()}
	for i, x := range []string{"dbo", "guest", "INFORMATION_SCHEMA", "sys"} {
		db.schemas[x] = i + 1
	}
	s.databases[strings.ToLower(name)] = db
}

func (s *Server) newID() int { s.lastID++; return s.lastID }

// A Database has objects: tables, views and sequences, whose names are one.
type Database struct {
	Name    string
	Coll    *Collation
	id      int
	made    time.Time
	schemas map[string]int
	objects map[string]*Table
	going   map[string]*Table // dropped by a transaction that is not done
	bytes   int64
	stamp   int64 // the last rowversion
}

// A Table is a table, a view or a sequence.
type Table struct {
	db       *Database
	id       int
	schema   string
	name     string
	Columns  []*Column
	rows     []*row
	live     int
	dead     int
	indexes  []*index
	checks   []*check
	keys     []*foreign
	triggers []*trigger
	notes    map[string]string // extended properties, by column
	view     *tsql.Select
	viewText string
	seq      *sequence
	made     time.Time
	temp     bool
	owner    *Session // of a table of a session
	next     int64    // the next identity
	used     bool     // an identity has been given

	born   *tx          // the transaction that made it, until that is done
	writer *tx          // who has the table alone
	shared map[*tx]int  // who holds it against writers
	bulks  map[*tx]bool // who puts rows in in bulk, side by side
}

// A Column is one of a table.
type Column struct {
	table     *Table
	ID        int
	Name      string
	Type      Type
	Null      bool
	Default   tsql.Expr
	defText   string
	defName   string
	Identity  bool
	seed      int64
	step      int64
	Computed  tsql.Expr
	text      string
	persisted bool
	sparse    bool
	period    string
}

type row struct {
	v    []Value
	dead bool
}

type index struct {
	id      int
	name    string
	cols    []int
	unique  bool
	primary bool
	// constraint tells that it comes of one; ignore that rows which break it are left out.
	constraint, clustered, ignore bool
	rows                          map[string]*row
}

type check struct {
	id       int
	name     string
	e        tsql.Expr
	text     string
	compiled *expr
	off      bool
	distrust bool
	column   int
}

type foreign struct {
	id            int
	name          string
	table, to     *Table
	cols, keys    []int
	onDelete      string
	onUpdate      string
	off, distrust bool
}

type trigger struct {
	id      int
	name    string
	table   *Table
	instead bool
	events  []string
	body    []tsql.Statement
	text    string
	off     bool
}

type sequence struct {
	typ         Type
	next, step  int64
	start, last int64
}

func (t *Table) whole() string {
	if t.temp {
		return "tempdb.dbo." + t.name
	}
	return t.db.Name + "." + t.schema + "." + t.name
}

func (t *Table) dotted() string { return t.schema + "." + t.name }

func (t *Table) column(name string) int {
	return slices.IndexFunc(t.Columns, func(c *Column) bool { return strings.EqualFold(c.Name, name) })
}

func (t *Table) identity() *Column {
	for _, c := range t.Columns {
		if c.Identity {
			return c
		}
	}
	return nil
}

// keyOf is a row's key in an index.
func (t *Table) keyOf(x *index, v []Value) string {
	var b []byte
	for _, i := range x.cols {
		b = appendKey(b, t.Columns[i].Type, v[i])
	}
	return string(b)
}

// put adds a row to a table and its indexes, which have been asked before.
func (t *Table) put(r *row) {
	t.rows = append(t.rows, r)
	t.live++
	for _, x := range t.indexes {
		if x.unique {
			x.rows[t.keyOf(x, r.v)] = r
		}
	}
}

// unput takes the row out that was put in last.
func (t *Table) unput(r *row) {
	t.unlist(r)
	r.dead = true
	t.live--
	if n := len(t.rows); n > 0 && t.rows[n-1] == r {
		t.rows[n-1] = nil
		t.rows = t.rows[:n-1]
		return
	}
	t.dead++
}

// unlist takes a row out of the indexes.
func (t *Table) unlist(r *row) {
	for _, x := range t.indexes {
		if k := ""; x.unique {
			if k = t.keyOf(x, r.v); x.rows[k] == r {
				delete(x.rows, k)
			}
		}
	}
}

func (t *Table) list(r *row) {
	for _, x := range t.indexes {
		if x.unique {
			x.rows[t.keyOf(x, r.v)] = r
		}
	}
}

// compact forgets rows that are gone, when no transaction can want them back.
func (t *Table) compact() {
	if t.dead < 64 || t.dead < len(t.rows)/2 {
		return
	}
	t.rows = slices.DeleteFunc(t.rows, func(r *row) bool { return r.dead })
	t.dead = 0
}

// size is about what a row takes.
func size(v []Value) (n int64) {
	for i := range v {
		n += 9 + int64(len(v[i].S))
	}
	return n
}
