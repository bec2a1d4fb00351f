package postgres

import (
	"context"

	"ambertray/internal/db"
)

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

// Notebook implements db.Joiner.
func (d *DB) Notebook(schema, load string) db.Notebook { return d.notebook(d.c, schema, load) }

var _ db.Joiner = (*DB)(nil)
