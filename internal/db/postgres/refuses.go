package postgres

import (
	"context"

	"ambertray/internal/db"
)

// Refuses implements [db.Refuser].
func (d *DB) Refuses(ctx context.Context, t *db.Table) (what, do string, err error) {
	var kind string
	var guarded, instead bool
	err = d.c.QueryRow(ctx, `SELECT c.relkind::text, row_security_active(c.oid),
		EXISTS (SELECT FROM pg_trigger g WHERE g.tgrelid = c.oid AND g.tgtype::int & 68 = 68)
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relname = $1 AND n.nspname = $2`, t.Name,
		t.Schema).Scan(&kind, &guarded, &instead)
	switch {
	case err != nil:
		return "", "", d.fail("cannot be read", err)
	case kind == "m":
		return "is a materialized view, which has its rows from a query",
			"load the table behind it, and refresh it", nil
	case kind == "v" && !instead:
		return "is a view, into which the server's bulk path (COPY) does not go", "name the table behind it", nil
	case guarded:
		return "has row-level security that holds for this account: the bulk path (COPY) refuses, and rows that " +
			"it may not see would not be counted", "load as the table's owner, or as an account with BYPASSRLS", nil
	}
	return "", "", nil
}
