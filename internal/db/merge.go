package db

import (
	"context"
	"errors"
	"fmt"

	"ambertray/internal/db/dialect"
	"ambertray/internal/sink"
	"ambertray/internal/tally"
)

// StageTable and ChangesTable are the names of the tables of a merge, which are of the
// session and gone with it.
const (
	StageTable   = "ambertray_stage"
	ChangesTable = "ambertray_changes"
	// StageNumber is the column of the stage that numbers its rows, where the database
	// has none of its own.
	StageNumber = "ambertray_row"
)

// Staged is what a load into a stage has to know.
type Staged struct {
	// Stage describes it, since not every database can.
	Stage *Table
	// Target is the table that its rows go into in the end.
	Target *Table
}

// A Merger is a Session that can bring rows into a table by a key: it makes a stage,
// which is loaded as a table is, and asks and does the rest in the transaction of that
// load.
type Merger interface {
	// Stage makes the tables of a merge into t, of the columns named; see [MakeStage]. It fills in what
	// the statements have to know of them, and returns the stage.
	Stage(ctx context.Context, t *Table, m *dialect.Merge) (*Table, error)
	// Ready is called when all rows are in the stage, before it is asked.
	Ready(ctx context.Context, m *dialect.Merge) error
	// Seek is called before rows of the table are looked for in the stage.
	Seek(ctx context.Context, m *dialect.Merge) error
	// Compared is called when all changes are in their table, before they are made.
	Compared(ctx context.Context, m *dialect.Merge) error
	// Divide is called before changes are made in parts, by ranges of numbers.
	Divide(ctx context.Context, m *dialect.Merge) error
	// Affect runs a statement, and tells how many rows it has inserted, changed or deleted.
	Affect(ctx context.Context, sql string) (int64, error)
	// Within asks and does things in the transaction of the load.
	Within() Questions
	// Blames makes a refusal of an error, if a row is to blame for it; else it is nil.
	Blames(err error) *sink.Refusal
	// TallyFrom tells what rows come to, given by what stands behind FROM.
	TallyFrom(ctx context.Context, from string, columns []dialect.Column, loose []bool) (int64, []tally.Tally, error)
	// Unstage takes the tables away.
	Unstage(ctx context.Context)
}

// What a merge could not do, for errors.
const (
	CannotStage   = "cannot make the tables of a merge"
	CannotCompare = "cannot compare the file with the table"
)

// A ChangesFinder is a Merger that has a way of its own to find what changes.
type ChangesFinder interface {
	// FindChanges fills the table of changes, and reports whether it has: not every merge can be done so.
	FindChanges(ctx context.Context, m *dialect.Merge, onlyNew bool) (done bool, err error)
}

// FindChanges fills the table of changes with what the records do; see [dialect.Merge.Find].
func FindChanges(ctx context.Context, m Merger, x *dialect.Merge, onlyNew bool) error {
	if own, is := m.(ChangesFinder); is {
		if done, err := own.FindChanges(ctx, x, onlyNew); done || err != nil {
			return err
		}
	}
	return m.Within().Do(ctx, CannotCompare, x.Find(onlyNew))
}

// Unprepared is a part of a [Merger] that has nothing to do before the stage is asked, and before
// changes are made: both tables have their numbers as keys, and the server looks by itself at
// tables that nobody has counted.
type Unprepared struct{}

// Ready is what a Merger does there: nothing.
func (Unprepared) Ready(context.Context, *dialect.Merge) error { return nil }

// Seek is nothing, too.
func (Unprepared) Seek(context.Context, *dialect.Merge) error { return nil }

// Compared is nothing, too.
func (Unprepared) Compared(context.Context, *dialect.Merge) error { return nil }

// Divide is nothing, too.
func (Unprepared) Divide(context.Context, *dialect.Merge) error { return nil }

// MakeStage makes the tables of a merge into t, if what changes in it can be kept.
func MakeStage(ctx context.Context, m Merger, t *Table, x *dialect.Merge) (*Table, error) {
	wants, can := x.Keep(len(t.Columns))
	if can {
		return m.Stage(ctx, t, x)
	}
	err := m.Within().Fail(fmt.Sprintf("what changes in %s cannot be kept: a table for it would have %d columns, and "+
		"%d are the most", t.Name, wants, x.MostColumns), nil)
	if e := (*Error)(nil); errors.As(err, &e) {
		e.Do = "load into a new table and merge by hand; nothing was changed"
	}
	return nil, err
}

// Given are the columns of the table of a load that take values, as it is now, quoted and with
// commas between: those of which rows are kept.
func (q Questions) Given(ctx context.Context, s Session, t dialect.Table) (string, error) {
	found, err := s.Find(ctx, t.Schema, t.Name)
	if err != nil {
		return "", err
	}
	if found == nil {
		return "", q.Fail("has no table "+t.Name+" any more", nil)
	}
	return q.Dialect.List(found.Given()), nil
}

// Home is the schema of the table that a load is about, and its name there.
func (s *Spec) Home() Name {
	if s.Stage != nil {
		return Name{s.Stage.Target.Schema, s.Stage.Target.Name}
	}
	return Name{s.Table.Schema, s.Table.Name}
}
