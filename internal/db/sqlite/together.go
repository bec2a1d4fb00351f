package sqlite

import (
	"context"

	"ambertray/internal/db"
)

// BeginTogether implements db.Grouper. Foreign keys are heeded, which cannot be changed
// within a transaction.
func (d *DB) BeginTogether(context.Context) error {
	if err := d.c.exec("PRAGMA foreign_keys = 1"); err != nil {
		return d.fail("cannot begin", err)
	}
	if err := d.lock(); err != nil {
		return err
	}
	d.together = true
	return nil
}

// Defers implements db.Deferrer: all keys can wait here.
func (d *DB) Defers(context.Context, []db.Name) ([]string, error) { return nil, nil }

// Defer implements db.Deferrer. It ends with the transaction.
func (d *DB) Defer(context.Context) error {
	if err := d.c.exec("PRAGMA defer_foreign_keys = 1"); err != nil {
		return d.fail("cannot have foreign keys wait", err)
	}
	return nil
}

// CommitTogether implements db.Grouper.
func (d *DB) CommitTogether(ctx context.Context) error {
	defer context.AfterFunc(ctx, func() { d.c.end.Store(true) })()
	if err := d.c.exec("COMMIT"); err != nil {
		return d.fail("cannot commit", err)
	}
	d.together, d.created = false, false
	return nil
}

// RollbackTogether implements db.Grouper.
func (d *DB) RollbackTogether() error {
	if !d.together {
		return nil
	}
	d.together, d.load = false, nil
	return d.rollback()
}
