package db

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strconv"

	"ambertray/internal/db/dialect"
	"ambertray/internal/sqltype"
)

// An Asker is a connection, or a transaction, that runs a statement of SQL and
// gives the fields of its rows as text. It is what all databases share of the
// small questions about a load: counts, first rows, notes.
type Asker interface {
	Ask(ctx context.Context, sql string, args ...any) ([][]*string, error)
}

// Questions asks them in a dialect. Fail makes a failure the database's own.
type Questions struct {
	Asker
	Dialect *dialect.Dialect
	Fail    func(what string, err error) error
}

// Rows asks for rows; what says what cannot be done if that fails.
func (q Questions) Rows(ctx context.Context, what, sql string, args ...any) ([][]*string, error) {
	rows, err := q.Ask(ctx, sql, args...)
	if err != nil {
		return nil, q.Fail(what, err)
	}
	return rows, nil
}

// Number asks for one number.
func (q Questions) Number(ctx context.Context, what, sql string, args ...any) (int64, error) {
	rows, err := q.Rows(ctx, what, sql, args...)
	if err != nil {
		return 0, err
	}
	if len(rows) != 1 || len(rows[0]) != 1 || rows[0][0] == nil {
		return 0, q.Fail(what, fmt.Errorf("the answer is no number"))
	}
	n, err := strconv.ParseInt(*rows[0][0], 10, 64)
	if err != nil {
		return 0, q.Fail(what, err)
	}
	return n, nil
}

// Do runs a statement that yields nothing.
func (q Questions) Do(ctx context.Context, what, sql string, args ...any) error {
	_, err := q.Rows(ctx, what, sql, args...)
	return err
}

// A Savepoint is a place within a transaction.
type Savepoint struct {
	q  Questions
	as dialect.Savepoints
}

// Savepoint sets one.
func (q Questions) Savepoint(ctx context.Context, name string) (*Savepoint, error) {
	s := &Savepoint{q, q.Dialect.SavepointsAs(name)}
	return s, s.q.Do(ctx, "cannot go on", s.as.Set)
}

// Let lets go of it.
func (s *Savepoint) Let(ctx context.Context) error {
	if s.as.Let == "" {
		return nil
	}
	return s.q.Do(ctx, "cannot go on", s.as.Let)
}

// Back goes back to it, and lets go of it.
func (s *Savepoint) Back(ctx context.Context) error {
	return cmp.Or(s.q.Do(ctx, "cannot go on", s.as.Back), s.Let(ctx))
}

// makeTable makes a table of the program's own, where there is none.
func (q Questions) makeTable(ctx context.Context, t dialect.Table) error {
	return q.Do(ctx, "cannot make the table "+t.Name, q.Dialect.Missing(t))
}

// Count is how many rows a table has.
func (q Questions) Count(ctx context.Context, schema, table string) (int64, error) {
	return q.Number(ctx, "cannot count the rows of "+table, "SELECT "+q.Dialect.Count()+
		" FROM "+q.Dialect.Qualified(schema, table))
}

// ExactRows is up to how many rows the overview counts on a server; above it shows the
// server's own number.
const ExactRows = 1_000_000

// Texts reads what a query yields. text is that of a value of the column i, which is no null.
func Texts(rows *sql.Rows, columns int, text func(i int, v any) string) (out [][]*string, err error) {
	vals, at := make([]any, columns), make([]any, columns)
	for i := range vals {
		at[i] = &vals[i]
	}
	for rows.Next() {
		if err := rows.Scan(at...); err != nil {
			return nil, err
		}
		row := make([]*string, columns)
		for i, v := range vals {
			if v != nil {
				s := text(i, v)
				row[i] = &s
			}
		}
		out = append(out, row)
	}
	return out, rows.Err()
}

// CountListed counts the rows of the tables of a list, but of those whose
// number, by the database's own estimate, is above exact.
func (q Questions) CountListed(ctx context.Context, list []Listing, exact int64) (err error) {
	for i := range list {
		if x := &list[i]; x.Rows > exact {
			x.Estimated = true
		} else if x.Rows, err = q.Count(ctx, x.Schema, x.Name); err != nil {
			return err
		}
	}
	return nil
}

// Head is the first rows of a table as text; nil is null.
func (q Questions) Head(ctx context.Context, schema, table string, n int) ([][]*string, error) {
	return q.Rows(ctx, "cannot read "+table, q.Dialect.First("*", q.Dialect.Qualified(schema, table), n))
}

// NotesTable is the name of the table with the notes of loads.
const NotesTable = "ambertray_steps"

// Notes is the definition of the table with the notes of loads. Step 0 has no
// note: there, a load has begun and not committed a row.
func Notes(schema string) dialect.Table {
	return dialect.Table{Schema: schema, Name: NotesTable, Key: []string{"load_name", "step"},
		Columns: []dialect.Column{
			{Name: "load_name", Type: sqltype.Type{Kind: sqltype.VarChar, Length: 200}, Required: true},
			{Name: "step", Type: sqltype.Type{Kind: sqltype.Integer}, Required: true},
			{Name: "note", Type: sqltype.Type{Kind: sqltype.Text}, Required: true},
		}}
}

// A Notebook is the notes of one load: how far it is, in the transaction of its
// rows.
type Notebook struct {
	Questions
	Schema, Load string
	// There tells whether there is a table of notes, which others may take away.
	There func(ctx context.Context) (bool, error)
}

// Table is the quoted name of the table with the notes.
func (n Notebook) Table() string { return n.Dialect.Qualified(n.Schema, NotesTable) }

// Make makes the table of notes where there is none.
func (n Notebook) Make(ctx context.Context) error {
	return n.makeTable(ctx, Notes(n.Schema))
}

// Write adds a note.
func (n Notebook) Write(ctx context.Context, step int, note string) error {
	d := n.Dialect
	return n.Do(ctx, "cannot note how far the load is",
		fmt.Sprintf("INSERT INTO %s VALUES (%s, %s, %s)", n.Table(), d.Parameter(1), d.Parameter(2), d.Parameter(3)),
		n.Load, step, note)
}

// Add writes a note, into a table that is made first where it is not there: who may not
// create tables can have it made beforehand.
func (n Notebook) Add(ctx context.Context, there bool, step int, note string) error {
	if !there {
		if err := n.Make(ctx); err != nil {
			return err
		}
	}
	return n.Write(ctx, step, note)
}

// AddStep is Add for a load that s is about. Of one that programs share, the first note has to be
// there still: who ends the load takes the others away, so that a step that was in already could
// be in twice. A step whose note is in the transaction is one that was not in, or was taken away;
// held is what makes the server read the first one as it is now.
func (n Notebook) AddStep(ctx context.Context, s *Spec, there bool, step int, note, held string) error {
	if err := n.Add(ctx, there, step, note); err != nil || s.Opening == "" {
		return err
	}
	first, _, err := n.note(ctx, 1, held)
	if err == nil && first != s.Opening {
		err = InTheWay(n.Fail("knows the load "+n.Load+" as ended by another program, or begun anew", nil))
	}
	return err
}

// InTheWay makes a failure one of those behind which the same once more may well go in.
func InTheWay(err error) error {
	var e *Error
	if errors.As(err, &e) {
		e.Clash = true
	}
	return err
}

// Read returns the load's notes from a step on, in order.
func (n Notebook) Read(ctx context.Context, from int) (notes []string, err error) {
	rows, err := n.Rows(ctx, "cannot read how far the load is",
		fmt.Sprintf("SELECT note FROM %s WHERE load_name = %s AND step >= %d ORDER BY step", n.Table(),
			n.Dialect.Parameter(1), from), n.Load)
	if err != nil {
		return nil, err
	}
	for _, r := range rows {
		notes = append(notes, *r[0])
	}
	return notes, nil
}

// Steps are the load's notes by their steps, from 1.
func (n Notebook) Steps(ctx context.Context) (notes map[int]string, err error) {
	err = n.ifThere(ctx, func() error {
		rows, err := n.Rows(ctx, "cannot read how far the load is", fmt.Sprintf(
			"SELECT step, note FROM %s WHERE load_name = %s AND step >= 1", n.Table(), n.Dialect.Parameter(1)), n.Load)
		notes = map[int]string{}
		for _, r := range rows {
			step, err := strconv.Atoi(*r[0])
			if err != nil {
				return err
			}
			notes[step] = *r[1]
		}
		return err
	})
	return notes, err
}

// Note is the load's note of a step, if it has one.
func (n Notebook) Note(ctx context.Context, step int) (note string, has bool, err error) {
	err = n.ifThere(ctx, func() (err error) {
		note, has, err = n.note(ctx, step, "")
		return err
	})
	return note, has, err
}

// note is Note of a table that is there; held stands behind the query.
func (n Notebook) note(ctx context.Context, step int, held string) (string, bool, error) {
	rows, err := n.Rows(ctx, "cannot read how far the load is", fmt.Sprintf(
		"SELECT note FROM %s WHERE load_name = %s AND step = %d%s", n.Table(), n.Dialect.Parameter(1), step, held),
		n.Load)
	if err != nil || len(rows) == 0 {
		return "", false, err
	}
	return *rows[0][0], true, nil
}

// Began reports that a program began the load and ended before its first step: where a definition is
// committed at once, it stands behind the note that has step 0.
func (n Notebook) Began(ctx context.Context) (bool, error) {
	_, began, err := n.Note(ctx, 0)
	if err != nil || !began {
		return false, err
	}
	notes, err := n.Steps(ctx)
	return len(notes) == 0, err
}

// ifThere reads from a table that may not be there, or go meanwhile: then nothing is read.
func (n Notebook) ifThere(ctx context.Context, read func() error) error {
	if is, err := n.There(ctx); err != nil || !is {
		return err
	}
	failed := read()
	if failed != nil {
		if is, err := n.There(ctx); err == nil && !is {
			return nil
		}
	}
	return failed
}

// End removes the notes of a load, and leaves what that leaves. They have to be those that the load was
// verified by: held is what makes the server read them as they are now, and not as they were when the
// transaction began. Through another server of a cluster, another program may have ended the load since.
func (n Notebook) End(ctx context.Context, s *Spec, held string) error {
	if s.Leaves == "" {
		return n.Forget(ctx)
	}
	there, err := n.Rows(ctx, "cannot read how far the load is", fmt.Sprintf(
		"SELECT step FROM %s WHERE load_name = %s AND step >= 1%s", n.Table(), n.Dialect.Parameter(1), held), n.Load)
	if err != nil {
		return err
	}
	if len(there) != s.Noted {
		return n.Fail("has other notes of the load than before: another program is at it, or has ended it", nil)
	}
	if err := n.Forget(ctx); err != nil {
		return err
	}
	return n.Write(ctx, 1, s.Leaves)
}

// Forget removes the load's notes.
func (n Notebook) Forget(ctx context.Context) error {
	return n.Do(ctx, "cannot remove the notes of the load",
		fmt.Sprintf("DELETE FROM %s WHERE load_name = %s", n.Table(), n.Dialect.Parameter(1)), n.Load)
}

// DropEmpty drops the table of notes if it has none. It is for whoever has made
// sure that nobody else is at it.
func (n Notebook) DropEmpty(ctx context.Context) error {
	left, err := n.Count(ctx, n.Schema, NotesTable)
	if err != nil || left > 0 {
		return err
	}
	return n.Do(ctx, "cannot remove the notes of the load", "DROP TABLE "+n.Table())
}
