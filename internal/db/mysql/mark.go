package mysql

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"errors"
	"strings"

	driver "github.com/go-sql-driver/mysql"

	"ambertray/internal/db"
)

// The mark of a load into a side table is that table's name, which it loses in the
// moment in which the load comes to be. The mark of another is a row in the table of
// notes.
const sideMark = "side "

// beginMark notes that a load into a table that exists has begun. Who may not make
// the table for it loads without a mark.
func (l *load) beginMark(ctx context.Context) {
	d := l.d
	if d.together != nil && d.together.there {
		l.mark = d.together.mark // making another would commit
		return
	}
	d.sweepMarks(ctx, l.spec.Home().Schema)
	if l.side != "" || l.spec.Steps != "" || d.lockNotes(ctx) != nil {
		return
	}
	defer d.c.ExecContext(ctx, "DO release_lock(?)", notesLock)
	mark := db.NewMark(d.questions(), l.spec.Home().Schema)
	if mark.Make(ctx) != nil || d.claim(ctx, mark.Load) != nil || mark.BeginMark(ctx) != nil {
		return
	}
	l.mark = mark.Load
	if d.together != nil {
		d.together.mark = l.mark
	}
}

// sweepMarks forgets the marks of loads that have died. What is not swept is, by the
// next load.
func (d *DB) sweepMarks(ctx context.Context, schema string) {
	if found, err := d.Find(ctx, schema, db.NotesTable); err != nil || found == nil {
		return
	}
	err := d.Notebook(schema, "").SweepMarks(ctx, func(load string) bool {
		var free sql.NullInt64
		err := d.c.QueryRowContext(ctx, "SELECT is_free_lock(?)", claimOf(load)).Scan(&free)
		return err == nil && free.Int64 == 1
	})
	if err == nil {
		d.tidy(ctx, schema)
	}
}

// Mark implements db.Marked.
func (l *load) Mark(ctx context.Context) (string, error) {
	switch {
	case l.side != "":
		return sideMark + l.side, nil
	case l.mark == "":
		return "", nil
	}
	return db.RowMark + l.mark, l.d.Notebook(l.spec.Home().Schema, l.mark).DoneMark(ctx)
}

// Unmark implements db.Marked.
func (l *load) Unmark(ctx context.Context) {
	if l.d.together != nil {
		return // it would commit
	}
	if l.mark != "" {
		l.d.Settled(ctx, l.spec.Home().Schema, db.RowMark+l.mark)
		l.mark = ""
	}
	l.d.sweepMarks(ctx, l.spec.Home().Schema)
}

// Outcome implements db.Outcomer. It holds the load's own lock, which that had as long
// as its session lived.
func (d *DB) Outcome(ctx context.Context, schema, mark string) (db.Outcome, error) {
	if side, is := strings.CutPrefix(mark, sideMark); is {
		if err := d.wait(ctx, lockOf(side)); err != nil {
			return db.Unknown, err
		}
		found, err := d.Find(ctx, schema, side)
		if err != nil {
			return db.Unknown, err
		}
		if found == nil {
			return d.swapped(ctx, schema, side)
		}
		if _, err := d.c.ExecContext(ctx, "DROP TABLE "+Dialect.Qualified(schema, side)); err != nil {
			return db.Unknown, d.fail("cannot remove "+side, err)
		}
		return db.RolledBack, nil
	}
	row, is := strings.CutPrefix(mark, db.RowMark)
	if !is {
		return db.Unknown, nil
	}
	if err := d.claim(ctx, row); err != nil {
		return db.Unknown, err
	}
	found, err := d.Find(ctx, schema, db.NotesTable)
	if err != nil || found == nil {
		return db.Unknown, err
	}
	return d.Notebook(schema, row).OutcomeOfMark(ctx)
}

// swapped is the outcome where the side table is gone: it has its name, or somebody
// has swept it. The table that it replaced, if there was one, tells.
func (d *DB) swapped(ctx context.Context, schema, side string) (db.Outcome, error) {
	found, err := d.Find(ctx, schema, side+"_old")
	if err != nil || found == nil {
		return db.Unknown, err
	}
	if _, err := d.c.ExecContext(ctx, "DROP TABLE "+Dialect.Qualified(schema, side+"_old")); err != nil {
		return db.Unknown, d.fail("cannot remove "+side+"_old", err)
	}
	return db.Committed, nil
}

// wait gets a lock that a load holds as long as it lives, and gives it back.
func (d *DB) wait(ctx context.Context, lock string) error {
	if err := d.lock(ctx, lock, atLoad); err != nil {
		return err
	}
	_, err := d.c.ExecContext(ctx, "DO release_lock(?)", lock)
	return err
}

// Settled implements db.Outcomer.
func (d *DB) Settled(ctx context.Context, schema, mark string) {
	row, is := strings.CutPrefix(mark, db.RowMark)
	if !is {
		return
	}
	if found, err := d.Find(ctx, schema, db.NotesTable); err != nil || found == nil {
		return
	}
	if d.Notebook(schema, row).Forget(ctx) == nil {
		d.tidy(ctx, schema)
	}
}

// claimOf is the lock of whoever is at a load; names of locks have at most 64
// characters.
func claimOf(load string) string {
	sum := sha256.Sum256([]byte(load))
	return db.SidePrefix + hex.EncodeToString(sum[:16])
}

// sent runs a statement that makes a load come to be.
func (l *load) sent(ctx context.Context, what, statement string) error {
	err := l.d.sent(ctx, what, statement)
	l.unsure = l.unsure || db.IsUnsure(err)
	return err
}

// sent runs a statement that makes something come to be. Where the server has not
// answered, it may have.
func (d *DB) sent(ctx context.Context, what, statement string) error {
	_, err := d.c.ExecContext(ctx, statement)
	var answer *driver.MySQLError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &answer):
		return d.fail(what, err)
	}
	return &db.Unsure{Err: d.fail(what, err)}
}
