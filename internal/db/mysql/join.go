package mysql

import (
	"context"
	"database/sql"

	"ambertray/internal/db"
)

// Take implements db.Joiner.
func (d *DB) Take(ctx context.Context, _, name string) (bool, error) {
	var got sql.NullInt64
	if err := d.c.QueryRowContext(ctx, "SELECT get_lock(?, 0)", claimOf("step "+name)).Scan(&got); err != nil {
		return false, d.fail("cannot lock "+name, err)
	}
	return got.Int64 == 1, nil
}

// GiveBack implements db.Joiner.
func (d *DB) GiveBack(ctx context.Context, _, name string) error {
	if _, err := d.c.ExecContext(ctx, "DO release_lock(?)", claimOf("step "+name)); err != nil {
		return d.fail("cannot unlock "+name, err)
	}
	return nil
}

// Shared implements db.Joiner.
func (d *DB) Shared(ctx context.Context, schema, load string) (map[int]string, error) {
	return d.notebook(schema, load).Steps(ctx, d.notesIn(ctx, schema))
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
func (d *DB) Stepped(ctx context.Context, schema, load string, step int) (bool, error) {
	return d.notebook(schema, load).Has(ctx, step, d.notesIn(ctx, schema))
}

// notesIn asks whether a schema has a table of notes.
func (d *DB) notesIn(ctx context.Context, schema string) func() (bool, error) {
	return func() (bool, error) {
		found, err := d.Find(ctx, schema, db.NotesTable)
		return found != nil, err
	}
}
