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

// Defers implements db.Deferrer.
func (d *DB) Defers(ctx context.Context, tables []db.Name) (cannot []string, err error) {
	var names []string
	for _, t := range tables {
		names = append(names, Dialect.Qualified(t.Schema, t.Table))
	}
	return d.questions(d.c).Hanging(ctx, []string{`SELECT conname || ' of ' || conrelid::regclass FROM pg_constraint
		WHERE contype = 'f' AND NOT condeferrable AND conrelid = ANY ($1::text[]::regclass[]) AND
		confrelid = ANY ($1::text[]::regclass[]) AND confrelid <> conrelid ORDER BY 1`}, names)
}

// Defer implements db.Deferrer.
func (d *DB) Defer(ctx context.Context) error {
	if _, err := d.together.Exec(ctx, "SET CONSTRAINTS ALL DEFERRED"); err != nil {
		return d.fail("cannot have foreign keys wait", err)
	}
	d.deferred = true
	return nil
}

// CommitTogether implements db.Grouper.
func (d *DB) CommitTogether(ctx context.Context) error {
	if d.deferred {
		if _, err := d.together.Exec(ctx, "SET CONSTRAINTS ALL IMMEDIATE"); err != nil {
			return d.fail("cannot commit", err)
		}
		d.deferred = false
	}
	if err := d.commit(ctx, d.together); err != nil {
		return err
	}
	d.together = nil
	return nil
}

// RollbackTogether implements db.Grouper.
func (d *DB) RollbackTogether() error {
	if d.together == nil {
		return nil
	}
	tx := d.together
	d.together, d.load, d.deferred = nil, nil, false
	if err := tx.Rollback(context.Background()); err != nil && !errors.Is(err, pgx.ErrTxClosed) {
		return d.fail("cannot roll back", err)
	}
	return nil
}
