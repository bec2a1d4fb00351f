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

var _ db.Joiner = (*DB)(nil)
