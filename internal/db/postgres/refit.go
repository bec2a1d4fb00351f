package postgres

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
)

type refit struct {
	d          *DB
	tx         pgx.Tx
	name       db.Name
	statements []string
}

// Refit implements db.Refitter: all of it is in one transaction, which has the table for
// itself.
func (d *DB) Refit(ctx context.Context, t *db.Table, change *dialect.Redefinition) (db.Refit, error) {
	tx, err := d.c.Begin(ctx)
	if err != nil {
		return nil, d.fail("cannot begin a transaction", err)
	}
	r := &refit{d: d, tx: tx, name: db.Name{Schema: t.Schema, Table: t.Name}}
	name := Dialect.Qualified(t.Schema, t.Name)
	if _, err := tx.Exec(ctx, "LOCK TABLE "+name+" IN ACCESS EXCLUSIVE MODE"); err != nil {
		r.Rollback()
		return nil, d.fail("cannot lock the table", err)
	}
	d.refitting = tx
	if r.statements, err = d.refits(ctx, tx, name, change); err != nil {
		r.Rollback()
		return nil, err
	}
	return r, nil
}

// refits are the statements of a change.
func (d *DB) refits(ctx context.Context, tx pgx.Tx, name string, change *dialect.Redefinition) ([]string, error) {
	var parts []string
	if change.Key && len(change.Was.Key) > 0 {
		var key string
		if err := tx.QueryRow(ctx, "SELECT conname FROM pg_constraint WHERE conrelid = $1::regclass AND contype = 'p'",
			name).Scan(&key); err != nil {
			return nil, d.fail("cannot find the key of the table", err)
		}
		parts = append(parts, "DROP CONSTRAINT "+quote(key))
	}
	for _, x := range change.Columns {
		column := "ALTER COLUMN " + quote(x.Is.Name) + " "
		typ := Dialect.Type(*x.Is, false)
		if x.Default || x.Type && x.Was.Default != nil {
			parts = append(parts, column+"DROP DEFAULT")
		}
		if x.Type {
			parts = append(parts, fmt.Sprintf("%sTYPE %s USING %s::%s", column, typ, quote(x.Is.Name), typ))
		}
		if x.Is.Default != nil && (x.Default || x.Type) {
			parts = append(parts, column+"SET DEFAULT "+Dialect.Literal(*x.Is, *x.Is.Default))
		}
		if x.Required {
			parts = append(parts, column+map[bool]string{true: "SET NOT NULL",
				false: "DROP NOT NULL"}[change.Required(x)])
		}
	}
	for _, c := range change.Constraints(Dialect) {
		parts = append(parts, "ADD "+c)
	}
	var out []string
	if len(parts) > 0 {
		out = append(out, "ALTER TABLE "+name+"\n    "+strings.Join(parts, ",\n    "))
	}
	return append(append(out, change.NewIndexes(Dialect)...), change.Comments(Dialect)...), nil
}

// Statements implements db.Refit.
func (r *refit) Statements() []string { return r.statements }

// Apply implements db.Refit.
func (r *refit) Apply(ctx context.Context, fills []string) (db.Name, error) {
	for _, list := range [][]string{fills, {"SET CONSTRAINTS ALL IMMEDIATE"}, r.statements} {
		for _, sql := range list {
			if _, err := r.tx.Exec(ctx, sql); err != nil {
				return r.name, r.d.fail("refuses: "+firstLine(sql), err)
			}
		}
	}
	return r.name, nil
}

// Commit implements db.Refit.
func (r *refit) Commit(ctx context.Context) error {
	// What ended the transaction meanwhile would have taken the change back.
	if status := r.d.c.PgConn().TxStatus(); status != 'T' {
		return r.d.fail(fmt.Sprintf("has ended the transaction (%c)", status), nil)
	}
	r.d.refitting = nil
	return r.d.commit(ctx, r.tx)
}

// Rollback implements db.Refit.
func (r *refit) Rollback() error {
	r.d.refitting = nil
	return r.tx.Rollback(context.Background())
}
