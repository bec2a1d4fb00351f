package sqlite

import (
	"context"
	"strings"

	"ambertray/internal/db"
)

// Mark implements db.Marked. A table that was made or added to tells by itself what
// became of the commit; one that was emptied or replaced may not.
func (l *load) Mark(ctx context.Context) (string, error) {
	if l.spec.Mode != db.Refill && l.spec.Mode != db.Replace && l.spec.Stage == nil || l.spec.Steps != "" {
		return "", nil
	}
	mark := db.NewMark(l.d.questions(), l.spec.Home().Schema)
	if err := mark.Make(ctx); err != nil {
		return "", err
	}
	// Nobody else can write now, so that no load is at it that has begun.
	if err := mark.SweepMarks(ctx, func(string) bool { return true }); err != nil {
		return "", err
	}
	if err := mark.BeginMark(ctx); err != nil {
		return "", err
	}
	l.mark = db.RowMark + mark.Load
	return l.mark, mark.DoneMark(ctx)
}

// Unmark implements db.Marked.
func (l *load) Unmark(ctx context.Context) {
	if l.mark != "" {
		l.d.Settled(ctx, l.spec.Home().Schema, l.mark)
	}
}

// Outcome implements db.Outcomer.
func (d *DB) Outcome(ctx context.Context, schema, mark string) (db.Outcome, error) {
	row, is := strings.CutPrefix(mark, db.RowMark)
	if !is {
		return db.Unknown, nil
	}
	found, err := d.Find(ctx, schema, db.NotesTable)
	if err != nil {
		return db.Unknown, err
	}
	if found == nil {
		return db.RolledBack, nil // the row would be there until it is settled
	}
	outcome, err := d.notebook(schema, row).OutcomeOfMark(ctx)
	if err == nil && outcome == db.Unknown {
		outcome = db.RolledBack
	}
	return outcome, err
}

// Settled implements db.Outcomer.
func (d *DB) Settled(ctx context.Context, schema, mark string) {
	row, is := strings.CutPrefix(mark, db.RowMark)
	if !is || d.c.exec("BEGIN IMMEDIATE") != nil {
		return
	}
	notes := d.notebook(schema, row)
	if found, err := d.Find(ctx, schema, db.NotesTable); err != nil || found == nil || notes.Forget(ctx) != nil ||
		notes.DropEmpty(ctx) != nil || d.c.exec("COMMIT") != nil {
		_ = d.c.exec("ROLLBACK") // the next load sweeps it
	}
}
