package sqlserver

import (
	"context"
	"strings"

	"ambertray/internal/db"
)

// The mark of a load is a row in the table of notes, begun before the transaction and done
// within: the server has no way to ask for a transaction that is over.

// beginMark notes that a load has begun. Who may not make the table for it loads without a
// mark.
func (l *load) beginMark(ctx context.Context) {
	d, schema := l.d, l.spec.Home().Schema
	if t := d.together; t != nil && t.open {
		l.mark = t.mark // another would be in the transaction
		return
	}
	if l.spec.Steps != "" || d.lockNotes(ctx) != nil {
		return
	}
	defer d.unlock(ctx, notesLock)
	d.sweepMarks(ctx, schema)
	mark := db.NewMark(d.questions(), schema)
	if mark.Make(ctx) != nil || d.claim(ctx, mark.Load) != nil || mark.BeginMark(ctx) != nil {
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
	d.Notebook(schema, "").SweepMarks(ctx, func(load string) bool { return d.free(ctx, claimOf(load)) })
}

// unbegin takes a mark away whose load is over without a receipt.
func (l *load) unbegin(ctx context.Context) {
	if l.d.together != nil {
		return // it is the mark of others, too
	}
	if l.mark != "" {
		l.d.Settled(ctx, l.spec.Home().Schema, db.RowMark+l.mark)
		l.d.unlock(ctx, claimOf(l.mark))
		l.mark = ""
	}
}

// Mark implements db.Marked.
func (l *load) Mark(ctx context.Context) (string, error) {
	if l.mark == "" {
		return "", nil
	}
	return db.RowMark + l.mark, l.d.Notebook(l.spec.Home().Schema, l.mark).DoneMark(ctx)
}

// Unmark implements db.Marked.
func (l *load) Unmark(ctx context.Context) { l.unbegin(ctx) }

// Outcome implements db.Outcomer. It holds the load's own lock, which that had as long as its
// session lived.
func (d *DB) Outcome(ctx context.Context, schema, mark string) (db.Outcome, error) {
	row, is := strings.CutPrefix(mark, db.RowMark)
	if !is {
		return db.Unknown, nil
	}
	if err := d.claim(ctx, row); err != nil {
		return db.Unknown, err
	}
	defer d.unlock(ctx, claimOf(row))
	if is, err := d.hasNotes(ctx, schema); err != nil || !is {
		return db.Unknown, err
	}
	return d.Notebook(schema, row).OutcomeOfMark(ctx)
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
