package postgres

import "context"

// takenName is what the lock of a name is made of, of which a server takes numbers only.
const takenName = "hashtextextended('ambertray step ' || $1, 0)"

// Take implements db.Joiner.
func (d *DB) Take(ctx context.Context, name string) (taken bool, err error) {
	if err = d.c.QueryRow(ctx, "SELECT pg_try_advisory_lock("+takenName+")", name).Scan(&taken); err != nil {
		err = d.fail("cannot lock "+name, err)
	}
	return taken, err
}

// GiveBack implements db.Joiner.
func (d *DB) GiveBack(ctx context.Context, name string) error {
	if _, err := d.c.Exec(ctx, "SELECT pg_advisory_unlock("+takenName+")", name); err != nil {
		return d.fail("cannot unlock "+name, err)
	}
	return nil
}

// Shared implements db.Joiner.
func (d *DB) Shared(ctx context.Context, schema, load string) (notes map[int]string, err error) {
	err = d.ifNotes(ctx, schema, func() (err error) {
		notes, err = d.notebook(d.c, schema, load).Steps(ctx)
		return err
	})
	return notes, err
}

// Began implements db.Joiner: a definition is rolled back with the rest.
func (d *DB) Began(context.Context, string, string) (bool, error) { return false, nil }

// Stepped implements db.Joiner.
func (d *DB) Stepped(ctx context.Context, schema, load string, step int) (in bool, err error) {
	err = d.ifNotes(ctx, schema, func() (err error) {
		in, err = d.notebook(d.c, schema, load).Has(ctx, step)
		return err
	})
	return in, err
}

// ifNotes does something if there is a table of notes, also while that is taken away by another.
func (d *DB) ifNotes(ctx context.Context, schema string, do func() error) error {
	is, err := d.hasNotes(ctx, d.c, schema)
	if err != nil || !is {
		return err
	}
	failed := do()
	if failed == nil {
		return nil
	}
	if is, err = d.hasNotes(ctx, d.c, schema); err == nil && !is {
		return nil
	}
	return failed
}
