package oracle

import (
	"context"

	"ambertray/internal/db"
)

// Take implements db.Joiner. Each name is locked by a session of its own.
func (d *DB) Take(ctx context.Context, schema, name string) (bool, error) {
	return d.tryLock(ctx, schema, takenOf(name), 0)
}

// takenOf is the lock of a name.
func takenOf(name string) string { return brief("step", name) }

// GiveBack implements db.Joiner.
func (d *DB) GiveBack(_ context.Context, schema, name string) error {
	d.unlock(schema, takenOf(name))
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
	return func() (bool, error) { return d.hasNotes(ctx, schema) }
}

var _ db.Joiner = (*DB)(nil)
