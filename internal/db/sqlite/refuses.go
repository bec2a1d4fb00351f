package sqlite

import (
	"context"

	"ambertray/internal/db"
)

// Refuses implements [db.Refuser].
func (d *DB) Refuses(ctx context.Context, t *db.Table) (what, do string, err error) {
	if !t.View {
		return "", "", nil
	}
	n, err := d.questions().Number(ctx, "cannot be read", "SELECT count(*) FROM sqlite_schema WHERE type = "+
		"'trigger' AND "+
		"tbl_name = ?1 COLLATE NOCASE AND sql LIKE '%INSTEAD%OF%INSERT%'", t.Name)
	if err != nil || n > 0 {
		return "", "", err
	}
	return "is a view, and no trigger takes what is inserted into it", "name the table behind it", nil
}
