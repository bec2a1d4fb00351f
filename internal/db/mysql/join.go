package mysql

import (
	"context"
	"database/sql"

	"ambertray/internal/db"
)

// Take implements db.Joiner.
func (d *DB) Take(ctx context.Context, name string) (bool, error) {
	var got sql.NullInt64
	if err := d.c.QueryRowContext(ctx, "SELECT get_lock(?, 0)", claimOf("step "+name)).Scan(&got); err != nil {
		return false, d.fail("cannot lock "+name, err)
	}
	return got.Int64 == 1, nil
}

// GiveBack implements db.Joiner.
func (d *DB) GiveBack(ctx context.Context, name string) error {
	if _, err := d.c.ExecContext(ctx, "DO release_lock(?)", claimOf("step "+name)); err != nil {
		return d.fail("cannot unlock "+name, err)
	}
	return nil
}

// Shared implements db.Joiner.
func (d *DB) Shared(ctx context.Context, schema, load string) (notes map[int]string, err error) {
	err = d.ifNotes(ctx, schema, func() (err error) {
		notes, err = d.notebook(schema, load).Steps(ctx)
		return err
	})
	return notes, err
}

// Began implements db.Joiner: a definition is committed at once, behind the note that has step 0.
func (d *DB) Began(ctx context.Context, schema, load string) (bool, error) {
	began, err := d.Stepped(ctx, schema, load, 0)
	if err != nil || !began {
		return false, err
	}
	notes, err := d.Shared(ctx, schema, load)
	return len(notes) == 0, err
}

// Stepped implements db.Joiner.
func (d *DB) Stepped(ctx context.Context, schema, load string, step int) (in bool, err error) {
	err = d.ifNotes(ctx, schema, func() (err error) {
		in, err = d.notebook(schema, load).Has(ctx, step)
		return err
	})
	return in, err
}

// ifNotes does something if there is a table of notes, also while that is taken away by another.
func (d *DB) ifNotes(ctx context.Context, schema string, do func() error) error {
	found, err := d.Find(ctx, schema, db.NotesTable)
	if err != nil || found == nil {
		return err
	}
	failed := do()
	if failed == nil {
		return nil
	}
	if found, err = d.Find(ctx, schema, db.NotesTable); err == nil && found == nil {
		return nil
	}
	return failed
}
