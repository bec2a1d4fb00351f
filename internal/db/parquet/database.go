// Package parquet keeps tables as Parquet files in a folder, for a warehouse or a lake:
// each table is a folder of that folder, and its rows are those of all files in it.
//
// The model: there is no server, so what keeps a load whole is here. A load writes its
// files beside the tables, in a folder of its own whose name begins with a point, which
// readers of such folders pass over. It commits by giving its list of files its name.
// From then on the files are the table's, and are moved there at once; where the program
// ended before, whoever looks next counts them in, and the next load moves them.
package parquet

import (
	"context"
	"errors"
	"io/fs"
	"os"

	"ambertray/internal/columnar"
	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/db/standard"
)

// Dialect has the names of tables and columns, and writes definitions as the standard has
// them: what reads the files has a dialect of its own.
var Dialect = func() *dialect.Dialect {
	d := *standard.Dialect
	d.Name, d.Title = "parquet", "Parquet"
	d.NameLimit, d.NameBytes = 128, true
	d.LooseLengths = true
	return &d
}()

// Database is a folder of Parquet files, for the list of databases.
var Database = &db.Database{
	Dialect: Dialect,
	Schemes: []string{"parquet"},
	Example: "parquet:path/to/folder",
	File:    true,
	Splits:  true,
	Lacks: []string{"no queries, merges, sets of loads, ledgers or references to other tables: there is no server; " +
		"keys are checked by the program, and known only of tables that it wrote"},
	Open: func(_ context.Context, at db.Address) (db.Session, error) {
		info, err := os.Stat(at.Path)
		switch {
		case errors.Is(err, fs.ErrNotExist) && (at.Existing || at.ReadOnly):
			return nil, &db.Error{Where: at.Where, What: "there is no such folder",
				Do: "check the path; it is taken from the folder the program runs in"}
		case errors.Is(err, fs.ErrNotExist):
			err = os.MkdirAll(at.Path, 0o777)
		case err == nil && !info.IsDir():
			return nil, &db.Error{Where: at.Where, What: "it is a file, and each table is a folder of files",
				Do: "name the folder that has the tables' folders"}
		}
		if err != nil {
			return nil, &db.Error{Where: at.Where, What: "the folder cannot be opened", Err: err}
		}
		return &DB{folder: folder{at.Path}, where: at.Where, readOnly: at.ReadOnly, held: map[string]*hold{}}, nil
	},
	Script: standard.Database.Script,
}

// standardType is a file's column as the rest of the program knows it.
func standardType(c *columnar.Column) db.Column {
	return db.Column{Name: c.Name, Type: c.Written, Required: c.Required, SQL: c.Type, Comment: c.Comment,
		Unfit: c.Unfit, AnyLength: c.AnyLength}
}
