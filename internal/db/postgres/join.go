package postgres

import "context"

// takenName is what the lock of a name is made of, of which a server takes numbers only.
const takenName = "hashtextextended('ambertray step ' || $1, 0)"

// Take implements db.Joiner.
func (d *DB) Take(ctx context.Context, _, name string) (taken bool, err error) {
	if err = d.c.QueryRow(ctx, "SELECT pg_try_advisory_lock("+takenName+")", name).Scan(&taken); err != nil {
		err = d.fail("cannot lock "+name, err)
	}
	return taken, err
}

// GiveBack implements db.Joiner.
func (d *DB) GiveBack(ctx context.Context, _, name string) error {
	if _, err := d.c.Exec(ctx, "SELECT pg_advisory_unlock("+takenName+")", name); err != nil {
		return d.fail("cannot unlock "+name, err)
	}
	return nil
}

// Shared implements db.Joiner.
func (d *DB) Shared(ctx context.Context, schema, load string) (map[int]string, error) {
	return d.notebook(d.c, schema, load).Steps(ctx, d.notesIn(ctx, schema))
}

// Began implements db.Joiner: a definition is rolled back with the rest.
func (d *DB) Began(context.Context, string, string) (bool, error) { return false, nil }

// Stepped implements db.Joiner.
func (d *DB) Stepped(ctx context.Context, schema, load string, step int) (bool, error) {
	return d.notebook(d.c, schema, load).Has(ctx, step, d.notesIn(ctx, schema))
}

// notesIn asks whether a schema has a table of notes.
func (d *DB) notesIn(ctx context.Context, schema string) func() (bool, error) {
	return func() (bool, error) { return d.hasNotes(ctx, d.c, schema) }
}
