package mysql

import (
	"context"
	"strings"
)

// Tell implements db.Teller.
func (d *DB) Tell(ctx context.Context) ([]string, error) {
	q := d.questions()
	rows, err := q.Rows(ctx, "cannot be asked what it is",
		"SELECT version(), current_user(), @@local_infile, @@read_only")
	if err != nil {
		return nil, err
	}
	r := rows[0]
	version, _, maria := strings.Cut(*r[0], "-MariaDB")
	out := []string{map[bool]string{true: "MariaDB ", false: "MySQL "}[maria] + version, "as " + *r[1]}
	if *r[2] == "1" {
		out = append(out, "takes local data")
	} else {
		out = append(out, "takes no local data (local_infile is off): load with --slow-path")
	}
	if *r[3] == "1" {
		out = append(out, "only reads (read_only is on): load into its primary server")
	}
	grants, err := q.Rows(ctx, "cannot say what may be done", "SHOW GRANTS")
	if err != nil {
		return nil, err
	}
	for _, g := range grants {
		text, _, _ := strings.Cut(*g[0], " IDENTIFIED ")
		if what, _, is := strings.Cut(strings.TrimPrefix(text, "GRANT "), " TO "); is && !strings.HasPrefix(what,
			"USAGE ") {
			out = append(out, "granted "+what)
		}
	}
	return out, nil
}
