package postgres

import (
	"context"
	"fmt"
)

// Tell implements db.Teller.
func (d *DB) Tell(ctx context.Context) ([]string, error) {
	rows, err := d.questions(d.c).Rows(ctx, "cannot be asked what it is", `SELECT current_setting('server_version'), current_user,
		coalesce(current_schema(), ''), CASE WHEN current_schema() IS NOT NULL THEN has_schema_privilege(current_schema(), 'CREATE')
		ELSE false END::text, pg_is_in_recovery()::text, pg_size_pretty(pg_database_size(current_database()))`)
	if err != nil {
		return nil, err
	}
	r := rows[0]
	out := []string{"PostgreSQL " + *r[0], "as " + *r[1]}
	switch {
	case *r[2] == "":
		out = append(out, "no schema of the search path is there: name one with --schema")
	case *r[3] == "true":
		out = append(out, "may create tables in the schema "+*r[2])
	default:
		out = append(out, fmt.Sprintf("may not create tables in the schema %s: GRANT CREATE ON SCHEMA %[1]s", *r[2]))
	}
	if *r[4] == "true" {
		out = append(out, "a copy that only reads: load into its primary server")
	}
	return append(out, "has "+*r[5]), nil
}
