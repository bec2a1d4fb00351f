package sqlserver

import (
	"context"

	"ambertray/internal/db"
)

// Refuses implements [db.Refuser].
func (d *DB) Refuses(ctx context.Context, t *db.Table) (what, do string, err error) {
	if t.View {
		return "is a view, into which the server's bulk path does not go", "name the table behind it", nil
	}
	rows, err := d.questions().Rows(ctx, "cannot be read", `SELECT 1 FROM sys.triggers WHERE parent_id = OBJECT_ID(@p1)
		AND is_instead_of_trigger = 1 AND is_disabled = 0`, d.name(t.Schema, t.Name))
	if err != nil || len(rows) == 0 {
		return "", "", err
	}
	return "has a trigger that takes the place of every insert, so that what is loaded is not what is in it",
		"turn the trigger off for the load (DISABLE TRIGGER), or load a table of your own and insert from it", nil
}
