// Package db is what a live database must do for a load.
//
// The model: a [Session] is a connection. It begins one [Load], which is one
// transaction: rows go in as batches, in the form that the target's own
// encoder made of them, side by side, before; then the load tallies what
// the table now holds, and only when that agrees with what was read does the
// caller commit. Whatever else happens, the table is as it was.
//
// Each database is a package of its own below this one. What only some can do
// is an optional interface here, found by type assertion.
package db

import (
	"context"
	"fmt"
	"math/big"
	"slices"
	"time"

	"ambertray/internal/db/dialect"
	"ambertray/internal/reading"
	"ambertray/internal/sink"
	"ambertray/internal/sqltype"
	"ambertray/internal/tally"
)

// A Session is a connection to a database.
type Session interface {
	Dialect() *dialect.Dialect
	// Find describes a table, or returns nil if there is none.
	Find(ctx context.Context, schema, table string) (*Table, error)
	// Count tells how many rows a table has. It may read all of the table.
	Count(ctx context.Context, t *Table) (int64, error)
	// Begin starts a load.
	Begin(ctx context.Context, spec Spec) (Load, error)
	// Tally tells what a table holds of the columns given, whose types are
	// those that values are read as.
	Tally(ctx context.Context, t dialect.Table) (rows int64, columns []tally.Tally, err error)
	// Describe tells which columns a query yields.
	Describe(ctx context.Context, query string) ([]Column, error)
	// Scan runs a query and calls row for each row. Fields are text in the
	// plain form of the columns' types, see reading.Plain; of types that have
	// none, and of Kind None, they are as the database writes them. A nil field
	// is null. Fields are valid until row returns.
	Scan(ctx context.Context, query string, columns []Column, row func(fields [][]byte) error) error
	// Close ends the connection. An open load is rolled back.
	Close() error
}

// A Table is one that the database has.
type Table struct {
	Schema, Name string
	Columns      []Column
	Comment      string
	// View tells that it is a view.
	View bool
	// Unsafe says why a load into the table could not be undone, if so.
	Unsafe string
}

// Places are the places of the columns, by their names.
func (t *Table) Places() map[string]int {
	return dialect.Places(t.Columns, func(c *Column) string { return c.Name })
}

// PrimaryKey lists the columns of the primary key, in their order.
func (t *Table) PrimaryKey() (names []string) {
	for n := 1; ; n++ {
		i := slices.IndexFunc(t.Columns, func(c Column) bool { return c.Key == n })
		if i < 0 {
			return names
		}
		names = append(names, t.Columns[i].Name)
	}
}

// Given lists the columns that take values: all but those that the database computes.
func (t *Table) Given() (names []string) {
	for _, c := range t.Columns {
		if !c.Generated {
			names = append(names, c.Name)
		}
	}
	return names
}

// A Column is one of a table that the database has.
type Column struct {
	Name     string
	Type     string // as the database writes it
	Required bool
	Key      int // its place in the primary key, from 1, or 0
	// Default tells that the database fills the column where nothing is given;
	// Identity that it numbers it, Generated that it computes it.
	Default, Identity, Generated bool
	// SQL is the standard type that values are read as. Its Kind is None where
	// the database's type has no counterpart: then values go in as text, and
	// only their number is verified.
	SQL sqltype.Type
	// Lo and Hi bound an integer type that is narrower than SQL, if not both 0.
	Lo, Hi int64
	// Truth tells that the column, an integer, also takes true and false, and
	// UTC that it, a timestamp, takes one with time zone, in UTC.
	Truth, UTC bool
	// Comment is the column's description in the database.
	Comment string
	// Keeps is what the column makes of values, beside its type: its Codes tell that it
	// makes numbers of texts that look like one.
	Keeps reading.Keeps
	// Unfit, if not empty, says why nothing can be loaded into it.
	Unfit string
	// AnyLength tells that SQL's length, precision or scale is not the
	// database's: the column takes whatever the values need.
	AnyLength bool
}

// A Mode is what a load does with the table.
type Mode string

// The modes.
const (
	Create  Mode = "create"  // a new table; it must not exist
	Append  Mode = "append"  // rows are added to a table
	Refill  Mode = "refill"  // a table is emptied and loaded
	Replace Mode = "replace" // a table is dropped, created and loaded
	Merge   Mode = "merge"   // rows are inserted or changed, by the key of a table
)

// New reports whether the mode creates the table.
func (m Mode) New() bool { return m == Create || m == Replace || m == "" }

// A Spec is what a load is to do.
type Spec struct {
	Mode Mode
	// Table is the definition of a new table. Of one that exists, it has the
	// columns that are loaded, with the types that values are read as.
	Table dialect.Table
	// Like is a table whose structure a new one takes, instead of Table's; nil:
	// none.
	Like *Name
	// Alter are statements that make columns of a table that exists longer. Only
	// databases that hold definitions in a transaction get any.
	Alter []string
	// Again are statements that make what hung on a table that is replaced.
	Again []string
	// Referrers are the foreign keys of other tables that refer to a table that is
	// refilled: every key that they refer to has to be in the new rows.
	Referrers []Reference
	// Lanes is how many connections rows of a new table may go in over; 0: as the database
	// thinks best.
	Lanes int
	// Bytes is how much there is to read; 0: it is not known.
	Bytes int64
	// SlowPath loads by inserts, where the bulk path is forbidden.
	SlowPath bool
	// Keep, if not empty, names a table that gets the rows of one that is emptied or
	// replaced, before they go.
	Keep string
	// Stage tells that Table is the stage of a merge, which is appended to.
	Stage *Staged
	// MakeSchema makes the schema of a new table, if there is none.
	MakeSchema bool
	// Deletes tells that rows of a table that exists may be deleted or changed.
	Deletes bool
	// FileRows, if above 0, is how many rows a file has at most, where a table is files.
	FileRows int64
	// Within tells that rows of the table are read within the transaction, by other means than Tally.
	Within bool
	// Once tells that the rows cannot be told apart again when all are in: a
	// [Finisher] must then refuse each as it comes.
	Once bool
	// Steps, if not empty, names a load that is a [Stepper] and makes use of
	// that. Going tells that it has committed steps before, so that the table
	// is as it left it.
	Steps string
	Going bool
	// Shared tells that several programs take the steps of the load; see [Joiner]. Opening is its
	// first note, which a step of it is committed with: else another program has ended the load.
	Shared  bool
	Opening string
	// Leaves, if not empty, is the note that stays of the load, as its first step, when it is done.
	// Noted is how many notes there have to be until then: else another program has ended it.
	Leaves string
	Noted  int
}

// A Listing is one table in an overview of a database.
type Listing struct {
	Schema    string `json:"schema,omitempty"`
	Name      string `json:"name"`
	Kind      string `json:"kind"` // table, view, unfinished or remains; kept, where a load put old rows
	Rows      int64  `json:"rows"`
	Estimated bool   `json:"estimated"` // Rows is the database's own estimate
	Bytes     int64  `json:"bytes"`     // on disk, with indexes; 0: not known
}

// A Lister can list its tables and show rows.
type Lister interface {
	List(ctx context.Context) ([]Listing, error)
	// Head returns the first rows of a table as text; nil is null.
	Head(ctx context.Context, schema, table string, n int) ([][]*string, error)
}

// A Load is one transaction. It is for one goroutine.
type Load interface {
	// Sink takes the rows. An error of Write means that the load cannot go on; a
	// [sink.Holder] may keep a batch's memory.
	sink.Sink
	// Tally tells what the table now holds of the columns that are loaded.
	Tally(ctx context.Context) (rows int64, columns []tally.Tally, err error)
	Commit(ctx context.Context) error
	Rollback() error
}

// A Refuser is a Session that knows when a table cannot be loaded at all, however good
// the rows are.
type Refuser interface {
	// Refuses says why the table takes no rows of ours, and what to do; nothing if it
	// takes them.
	Refuses(ctx context.Context, t *Table) (what, do string, err error)
}

// A Sider is a Load that may fill a table of another name, until it commits.
type Sider interface {
	// Side is the name of the table that has the rows now.
	Side() string
}

// A Remarker is a Load with something to say of how its rows go.
type Remarker interface{ Remarks() []string }

// A Checker is a Load that can tell by checksums whether its table holds the
// rows that were written, which takes a fraction of the time of a tally.
type Checker interface {
	// Check returns nil where the load has no checksums.
	Check(ctx context.Context) (*Checks, error)
}

// Checks are what the rows that a table holds come to, as the database says or
// as is read back from it.
type Checks struct {
	Rows int64
	// Sum is that of the checksums of all rows; see [sink.Summer].
	Sum uint64
	// Totals are the exact sums of the values of columns, as tally.Tally has
	// them: the checksums are those of rows as they are sent, and would not show
	// that they were made wrong. Nil for columns without, see [HasTotal], and for
	// those whose values the encoder itself reads again.
	Totals []*big.Int
}

// A Finisher is a Load that has work left when all rows are in, such as
// building the key of a new table. Rows that it finds to break the key are
// taken out again and returned, with their numbers among all rows that were
// written and not refused, from 0.
type Finisher interface {
	Finish(ctx context.Context) ([]sink.Refusal, error)
}

// A Stepper is a Load that can commit on its way. With each commit goes a note
// of how far the load is, into a table beside the one that is loaded, in the
// same transaction; the last commit removes the load's notes.
type Stepper interface {
	// Step commits what has been written, as the step-th such commit, from 1,
	// and goes on in a new transaction.
	Step(ctx context.Context, step int, note string) error
}

// A Noter is a Session whose loads are Steppers.
type Noter interface {
	// Notes returns the notes of a load, in order: none if it has not committed
	// a step, or is done. It waits until no other session is at the load any
	// more, since the server may not have noticed yet that a program was
	// killed, and keeps others from it as long as the connection lives.
	Notes(ctx context.Context, schema, load string) ([]string, error)
}

// A Joiner is a Noter with loads whose steps several programs take, each of which is there once:
// its note and its rows come to be together, and no two notes have the same step.
type Joiner interface {
	// Take makes this session the only one that has a name, until it gives it back or ends. It
	// does not wait: taken is false where another has it. Where locks need a table, it is in the
	// schema.
	Take(ctx context.Context, schema, name string) (taken bool, err error)
	GiveBack(ctx context.Context, schema, name string) error
	// Notebook are the notes of a load.
	Notebook(schema, load string) Notebook
}

// An Error is a database's failure, with what can be done about it.
type Error struct {
	Where string // the database, without password
	// Missing tells that the server does not have the database.
	Missing bool
	// Clash tells that the server has ended a transaction that stood in the way of another: the same
	// once more may well go in.
	Clash bool
	// Twice tells that a key would stand twice.
	Twice bool
	What  string
	Do    string
	Err   error
}

func (e *Error) Error() string {
	s := e.Where + ": " + e.What
	if e.Err != nil {
		s += ": " + e.Err.Error()
	}
	if e.Do != "" {
		s += "\n  " + e.Do
	}
	return s
}

func (e *Error) Unwrap() error { return e.Err }

// Qualified is a table's name for messages.
func Qualified(schema, name string) string {
	if schema == "" {
		return name
	}
	return fmt.Sprintf("%s.%s", schema, name)
}

// A Teller is a Session that says what its database is, and what this user may do there, in
// words.
type Teller interface {
	Tell(ctx context.Context) ([]string, error)
}

// EndIn bounds what has to be done when a load ends, also one that was told to stop.
const EndIn = 20 * time.Second
