package sqlite

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
)

// Database is SQLite, for the list of databases.
var Database = &db.Database{
	Dialect:  Dialect,
	Attaches: true,
	Together: true,
	Aliases:  []string{"sqlite3"},
	Schemes:  []string{"sqlite", "sqlite3"},
	Example:  "sqlite:path/to.db",
	File:     true,
	Open: func(ctx context.Context, at db.Address) (db.Session, error) {
		if _, err := os.Stat(at.Path); at.Existing && errors.Is(err, fs.ErrNotExist) {
			return nil, &db.Error{Where: at.Where, What: "there is no such file",
				Do: "check the path; it is taken from the folder the program runs in"}
		}
		d, err := Open(ctx, at.Path)
		if err != nil {
			return nil, err // and not a connection that is nil
		}
		if at.LockWait > 0 {
			d.c.wait(at.LockWait)
		}
		if at.ReadOnly {
			// And not the file opened so: what a program that was ended has left in its
			// journal could not be undone then, and so not be read.
			if err := d.c.exec("PRAGMA query_only = ON"); err != nil {
				d.Close()
				return nil, err
			}
			d.readOnly = true
		}
		return d, nil
	},
	Script: db.ManyRows(db.Manner{
		Before: []string{"PRAGMA foreign_keys = ON;", "BEGIN IMMEDIATE;"},
		After: func(name string, rows int64) []string {
			// A check that fails rolls back, and the COMMIT finds nothing open.
			return []string{
				fmt.Sprintf("CREATE TEMP TABLE ambertray_check (loaded INTEGER CHECK (loaded = %d));", rows),
				fmt.Sprintf("INSERT OR ROLLBACK INTO ambertray_check SELECT count(*) FROM %s;", name),
				"DROP TABLE temp.ambertray_check;", "COMMIT;"}
		},
		Remarks: func(dialect.Table) []string { return []string{"run it with: sqlite3 -bail DATABASE < FILE"} },
	}),
}
