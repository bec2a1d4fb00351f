package oracle

import (
	"context"
	"strings"

	"ambertray/internal/db"
)

// The mark of a load into a side table is that table's name, its number in the catalog, which
// it keeps when it gets another name, and that name. The mark of another is a row in the table of
// notes, begun before the transaction and done within.
const sideMark = "side "

// beginMark notes that a load into a table that exists has begun. Who may not make the table
// for it loads without a mark.
func (l *load) beginMark(ctx context.Context) {
	d, schema := l.d, l.spec.Home().Schema
	if d.together != nil && d.together.there {
		l.mark = d.together.mark // making another would commit
		return
	}
	d.sweepMarks(ctx, schema)
	if l.side != "" || l.spec.Steps != "" {
		return
	}
	mark := db.NewMark(d.questions(), schema)
	if got, err := d.tryLock(ctx, schema, claimOf(mark.Load), 0); err != nil || !got {
		return
	}
	if mark.Make(ctx) != nil || mark.BeginMark(ctx) != nil {
		d.unlock(schema, claimOf(mark.Load))
		return
	}
	l.mark = mark.Load
	if d.together != nil {
		d.together.mark = l.mark
	}
}

// sweepMarks forgets the marks of loads that have died. What is not swept is, by the next
// load.
func (d *DB) sweepMarks(ctx context.Context, schema string) {
	if is, err := d.hasNotes(ctx, schema); err != nil || !is {
		return
	}
	d.Notebook(schema, "").SweepMarks(ctx, func(load string) bool {
		free, err := d.free(ctx, schema, claimOf(load))
		return err == nil && free
	})
	d.tidy(ctx, schema)
}

// Mark implements db.Marked.
func (l *load) Mark(ctx context.Context) (string, error) {
	switch {
	case l.side != "":
		return sideMark + l.side + " " + l.object + " " + l.spec.Table.Name, nil
	case l.mark == "":
		return "", nil
	}
	return db.RowMark + l.mark, l.d.Notebook(l.spec.Home().Schema, l.mark).DoneMark(ctx)
}

// Unmark implements db.Marked.
func (l *load) Unmark(ctx context.Context) {
	schema := l.spec.Home().Schema
	if l.d.together != nil {
		return // it is the mark of others, too
	}
	if l.mark != "" {
		l.d.Settled(ctx, schema, db.RowMark+l.mark)
		l.d.unlock(schema, claimOf(l.mark))
		l.mark = ""
	}
}

// Outcome implements db.Outcomer. It holds the load's own lock, which that had as long as its
// session lived.
func (d *DB) Outcome(ctx context.Context, schema, mark string) (db.Outcome, error) {
	if text, is := strings.CutPrefix(mark, sideMark); is {
		side, rest, _ := strings.Cut(text, " ")
		object, table, _ := strings.Cut(rest, " ")
		return d.sideOutcome(ctx, schema, table, side, object)
	}
	row, is := strings.CutPrefix(mark, db.RowMark)
	if !is {
		return db.Unknown, nil
	}
	if err := d.lock(ctx, schema, claimOf(row), atLoad, lockWait); err != nil {
		return db.Unknown, err
	}
	defer d.unlock(schema, claimOf(row))
	if is, err := d.hasNotes(ctx, schema); err != nil || !is {
		return db.Unknown, err
	}
	return d.Notebook(schema, row).OutcomeOfMark(ctx)
}

// sideOutcome looks under which name the side table is now. A table that was to be replaced,
// and has lost its name to nobody, gets it back.
func (d *DB) sideOutcome(ctx context.Context, schema, table, side, object string) (db.Outcome, error) {
	if err := d.lock(ctx, schema, lockOf(side), atLoad, lockWait); err != nil {
		return db.Unknown, err
	}
	defer d.unlock(schema, lockOf(side))
	rows, err := d.questions().Rows(ctx, "cannot see what became of the load", "SELECT object_name FROM all_objects "+
		"WHERE owner = :1 AND object_id = :2", d.owner(schema), object)
	if err != nil {
		return db.Unknown, err
	}
	old, err := d.find(ctx, schema, side+"_old")
	if err != nil {
		return db.Unknown, err
	}
	if len(rows) > 0 && shown(*rows[0][0]) != side { // it has the name of the table
		if old != nil {
			err = d.do(ctx, "cannot remove the table that was replaced", "DROP TABLE "+
				Dialect.Qualified(schema, side+"_old"))
		}
		return db.Committed, err
	}
	there, err := d.find(ctx, schema, table)
	if err != nil {
		return db.Unknown, err
	}
	if old != nil && there == nil {
		if err := d.rename(ctx, schema, side+"_old", table); err != nil {
			return db.Unknown, d.fail("cannot give back the name of the table that was to be replaced", err)
		}
	}
	if len(rows) == 0 {
		return map[bool]db.Outcome{true: db.RolledBack, false: db.Unknown}[old != nil && there == nil], nil
	}
	return db.RolledBack, d.do(ctx, "cannot remove "+side, "DROP TABLE "+Dialect.Qualified(schema, side)+" PURGE")
}

// Settled implements db.Outcomer.
func (d *DB) Settled(ctx context.Context, schema, mark string) {
	row, is := strings.CutPrefix(mark, db.RowMark)
	if !is {
		return
	}
	if is, err := d.hasNotes(ctx, schema); err != nil || !is {
		return
	}
	if d.Notebook(schema, row).Forget(ctx) == nil {
		d.tidy(ctx, schema)
	}
}
