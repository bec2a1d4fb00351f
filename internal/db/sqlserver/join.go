package sqlserver

import (
	"context"

	"ambertray/internal/db"
)

// Take implements db.Joiner.
func (d *DB) Take(ctx context.Context, _, name string) (bool, error) {
	got, err := d.tryLock(ctx, takenOf(name), 0)
	if err != nil {
		err = d.fail("cannot lock "+name, err)
	}
	return got, err
}

// takenOf is the lock of a name.
func takenOf(name string) string { return claimOf("step " + name) }

// GiveBack implements db.Joiner.
func (d *DB) GiveBack(ctx context.Context, _, name string) error {
	d.unlock(ctx, takenOf(name)) // who has lost it with the session has given it back
	return nil
}

// Shared implements db.Joiner.
func (d *DB) Shared(ctx context.Context, schema, load string) (map[int]string, error) {
	return d.notebook(schema, load).Steps(ctx, d.notesIn(ctx, schema))
}

// Began implements db.Joiner: a definition is rolled back with the rest.
func (d *DB) Began(context.Context, string, string) (bool, error) { return false, nil }

// Stepped implements db.Joiner.
func (d *DB) Stepped(ctx context.Context, schema, load string, step int) (bool, error) {
	return d.notebook(schema, load).Has(ctx, step, d.notesIn(ctx, schema))
}

// notesIn asks whether a schema has a table of notes.
func (d *DB) notesIn(ctx context.Context, schema string) func() (bool, error) {
	return func() (bool, error) { return d.hasNotes(ctx, schema) }
}

var _ db.Joiner = (*DB)(nil)
