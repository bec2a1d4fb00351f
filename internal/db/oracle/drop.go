package oracle

import (
	"context"
	"fmt"

	"ambertray/internal/db"
)

// DropExactly implements [db.Dropper]. A lock would be gone before the table is: a definition
// commits first. So the table is made read only, which waits for whoever is at it; then it is
// counted. Without PURGE, it can still be had from the recycle bin.
func (d *DB) DropExactly(ctx context.Context, t *db.Table, rows int64) (bool, error) {
	table := Dialect.Qualified(t.Schema, t.Name)
	if err := d.do(ctx, "cannot hold the table", "ALTER TABLE "+table+" READ ONLY"); err != nil {
		return false, err
	}
	n, err := d.Count(ctx, t)
	if err == nil && n == rows {
		if err = d.do(ctx, "cannot drop the table", "DROP TABLE "+table); err == nil {
			return true, nil
		}
	}
	again := d.do(context.WithoutCancel(ctx), fmt.Sprintf("has the table %s as it was, and read only: say ALTER "+
		"TABLE %s READ WRITE", t.Name, table), "ALTER TABLE "+table+" READ WRITE")
	if again != nil {
		return false, again
	}
	return false, err
}
