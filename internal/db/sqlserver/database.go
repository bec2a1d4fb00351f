package sqlserver

import (
	"context"
	"fmt"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
)

// Database is SQL Server, for the list of databases.
var Database = &db.Database{
	Dialect: Dialect,
	Aliases: []string{"mssql"},
	Schemes: []string{"sqlserver"},
	Example: "sqlserver://user@host:1433?database=canal",
	Port:    "1433",
	NameIn:  "database",

	Together:     true,
	Attaches:     true,
	Lanes:        true,
	MakesSchemas: true,
	Open: func(ctx context.Context, at db.Address) (db.Session, error) {
		d, err := connect(ctx, at)
		if err != nil {
			return nil, err // and not a connection that is nil
		}
		return d, nil
	},
	Script: func() db.Manner {
		m := db.ManyRows(db.Manner{
			Numbered: func(table, _ string) (before, behind, _ []string) {
				return []string{"SET IDENTITY_INSERT " + table + " ON;"}, []string{"SET IDENTITY_INSERT " + table +
					" OFF;"}, nil
			},
			Before: []string{"SET XACT_ABORT ON;", "SET NOCOUNT ON;", "SET ANSI_PADDING ON;", "BEGIN TRANSACTION;"},
			After: func(name string, rows int64) []string {
				return []string{fmt.Sprintf("IF (SELECT COUNT_BIG(*) FROM %s) <> %d\nBEGIN\n"+
					"    ROLLBACK TRANSACTION;\n"+
					"    THROW 50000, N'the table does not have %d rows; nothing is committed', 1;\nEND;", name, rows,
					rows),
					"COMMIT TRANSACTION;", "GO", "SET NOEXEC OFF;", "GO"}
			},
			AfterDefinition: []string{"GO", "IF @@TRANCOUNT = 0 SET NOEXEC ON;", "GO"},
			File:            fromFile,
			Remarks: func(dialect.Table) []string {
				return []string{"run it with: sqlcmd -b -f 65001 -i FILE"}
			},
		})
		// A batch ends now and then. If it failed, the transaction is gone, and
		// nothing that follows is run.
		m.Every, m.Pause = 20, "GO\nIF @@TRANCOUNT = 0 SET NOEXEC ON;\nGO\n"
		return m
	}(),
}
