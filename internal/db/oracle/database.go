// Package oracle is Oracle Database: its names, types, definitions, literals
// and scripts. There is no connection to it yet.
package oracle

import (
	"fmt"
	"slices"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
)

// Database is Oracle Database, for the list of databases.
var Database = &db.Database{
	Dialect: Dialect,
	Lacks:   []string{"no connection: definitions and scripts only"},
	Script: db.Manner{
		Before: []string{"WHENEVER SQLERROR EXIT FAILURE ROLLBACK", "SET DEFINE OFF", "SET SQLBLANKLINES ON",
			"SET FEEDBACK OFF",
			"ALTER SESSION SET NLS_NUMERIC_CHARACTERS = '.,';", "ALTER SESSION SET TIME_ZONE = '+00:00';"},
		After: func(name string, rows int64) []string {
			return []string{fmt.Sprintf("DECLARE\n    n NUMBER;\nBEGIN\n    SELECT COUNT(*) INTO n FROM %s;\n  "+
				"  IF n <> %d THEN\n"+
				"        RAISE_APPLICATION_ERROR(-20000, 'the table does not have %d rows; nothing is "+
				"committed');\n    END IF;\nEND;\n/",
				name, rows, rows), "COMMIT;"}
		},
		Insert: "INSERT ALL\n", Row: "INTO %s (%s) VALUES (", Between: ")\nINTO %s (%s) VALUES (",
		Close: ")\nSELECT 1 FROM dual",
		// No more than 999 columns altogether (Oracle, INSERT, "Restrictions on
		// Multitable Inserts"), and few rows, which are parsed faster.
		Rows: func(columns int) int { return min(100, 999/max(columns, 1)) },
		Remarks: func(t dialect.Table) []string {
			out := []string{"run it with SQL*Plus and NLS_LANG=.AL32UTF8: @FILE",
				db.CommittedAtOnce + "; if the rows fail, drop the table before the next attempt"}
			if slices.ContainsFunc(t.Columns, func(c dialect.Column) bool { return c.Type.IsText() }) {
				out = append(out, "an empty text is a null there")
			}
			return out
		},
	},
}
