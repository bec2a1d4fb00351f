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

var _ db.Joiner = (*DB)(nil)
