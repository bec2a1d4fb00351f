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

var _ db.Joiner = (*DB)(nil)
