package sqlserver

import (
	"context"

	"ambertray/internal/db"
)

// DropExactly implements [db.Dropper]: a definition is of the transaction here.
func (d *DB) DropExactly(ctx context.Context, t *db.Table, rows int64) (bool, error) {
	if err := d.do(ctx, "cannot begin a transaction", "BEGIN TRANSACTION"); err != nil {
		return false, err
	}
	done := false
	defer func() {
		if !done {
			d.do(context.WithoutCancel(ctx), "cannot roll back", "IF @@TRANCOUNT > 0 ROLLBACK TRANSACTION")
		}
	}()
	table := Dialect.Qualified(t.Schema, t.Name)
	n, err := d.questions().Number(ctx, "cannot lock the table", "SELECT COUNT_BIG(*) FROM "+table+
		" WITH (TABLOCKX, HOLDLOCK)")
	if err != nil || n != rows {
		return false, err
	}
	if err := d.do(ctx, "cannot drop the table", "DROP TABLE "+table); err != nil {
		return false, err
	}
	if err := d.do(ctx, "cannot commit", "COMMIT TRANSACTION"); err != nil {
		return false, err
	}
	done = true
	return true, nil
}
