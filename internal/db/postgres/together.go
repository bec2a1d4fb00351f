package postgres

import (
	"context"
	"errors"

	"github.com/jackc/pgx/v5"

	"ambertray/internal/db"
)

// BeginTogether implements db.Grouper.
func (d *DB) BeginTogether(ctx context.Context) error {
	tx, err := d.c.BeginTx(ctx, pgx.TxOptions{IsoLevel: pgx.RepeatableRead})
	if err != nil {
		return d.fail("cannot begin a transaction", err)
	}
	d.together = tx
	return nil
}

// CommitTogether implements db.Grouper.
func (d *DB) CommitTogether(ctx context.Context) error {
	err := d.together.Commit(ctx)
	switch {
	case err == nil:
		d.together = nil
		return nil
	case lost(err):
		return &db.Unsure{Err: d.fail("cannot commit", err)}
	}
	return d.fail("cannot commit", err)
}

// RollbackTogether implements db.Grouper.
func (d *DB) RollbackTogether() error {
	if d.together == nil {
		return nil
	}
	tx := d.together
	d.together, d.load = nil, nil
	if err := tx.Rollback(context.Background()); err != nil && !errors.Is(err, pgx.ErrTxClosed) {
		return d.fail("cannot roll back", err)
	}
	return nil
}
