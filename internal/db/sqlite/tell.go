package sqlite

import (
	"context"
	"fmt"
	"os"

	"ambertray/internal/phrase"
)

// Tell implements db.Teller.
func (d *DB) Tell(ctx context.Context) ([]string, error) {
	rows, err := d.questions().Rows(ctx, "cannot be asked what it is",
		"SELECT sqlite_version(), (SELECT count(*) FROM sqlite_schema WHERE type = 'table'), "+
			"(SELECT file FROM pragma_database_list WHERE name = 'main')")
	if err != nil {
		return nil, err
	}
	r := rows[0]
	out := []string{"SQLite " + *r[0], fmt.Sprintf("%s tables", *r[1])}
	if info, err := os.Stat(*r[2]); err == nil {
		out = append(out, "has "+phrase.Size(info.Size()))
	}
	f, err := os.OpenFile(*r[2], os.O_RDWR, 0)
	if err != nil {
		return append(out, "may not be written: "+err.Error()), nil
	}
	return append(out, "may be written"), f.Close()
}
