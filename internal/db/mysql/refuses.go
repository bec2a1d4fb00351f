package mysql

import (
	"context"

	"ambertray/internal/db"
)

// Refuses implements [db.Refuser].
func (d *DB) Refuses(ctx context.Context, t *db.Table) (what, do string, err error) {
	if !t.View {
		return "", "", nil
	}
	var updatable string
	if err := d.c.QueryRowContext(ctx, "SELECT is_updatable FROM information_schema.views WHERE table_schema = ? AND "+
		"table_name = ?", d.schemaOf(t.Schema), t.Name).Scan(&updatable); err != nil {
		return "", "", d.fail("cannot be read", err)
	}
	if updatable == "YES" {
		return "", "", nil
	}
	return "is a view that takes no rows", "name the table behind it", nil
}
