package db

import (
	"context"

	"ambertray/internal/db/dialect"
	"ambertray/internal/sink"
	"ambertray/internal/sqltype"
)

// CommittedAtOnce begins the remark of databases where a definition cannot be undone.
const CommittedAtOnce = "the definition is committed at once"

// A Manner is how scripts for a database are written: what stands around the
// definition and the rows, and what checks them. Package script does the rest.
type Manner struct {
	// Before opens the script. name is the table's, quoted.
	Before []string
	// AfterDefinition stands between definition and rows.
	AfterDefinition []string
	// After checks that the table has so many rows, undoes everything if not,
	// and commits.
	After func(name string, rows int64) []string
	// Insert is the head of a statement, Row what stands before a row's
	// literals, Between between rows, Close at the end. In the first three, %s
	// stands for the table's name and the list of columns.
	Insert, Row, Between, Close string
	// Rows is how many rows a statement may have at most, by the number of
	// columns; nil: no limit but the usual.
	Rows func(columns int) int
	// Every tells after how many statements Pause stands; 0: nowhere.
	Every int
	Pause string
	// Copy makes an encoder of rows in a block for the database's own client,
	// nil where there is no such block.
	Copy func(types []sqltype.Type) sink.Encoder
	// Numbered is what it takes to give values to a column that the database numbers: before
	// the rows, behind them, and behind the commit; nil: nothing.
	Numbered func(table, column string) (before, behind, last []string)
	// File is how the server reads a file of its own host; nil: it does not.
	File *FileReader
	// Like writes the definition of a table like another; nil: no statement does that whole.
	Like func(table, like string) string
	// Remarks are what somebody who runs the script has to know.
	Remarks func(t dialect.Table) []string
}

// ManyRows is the usual form of an INSERT of many rows.
func ManyRows(m Manner) Manner {
	m.Insert, m.Row, m.Between, m.Close = "INSERT INTO %s (%s) VALUES\n", "(", "),\n(", ")"
	return m
}

// A Definer is a Session that can write the definition of a table as its database has it.
type Definer interface {
	// Definition is the statements that make the table, and what hangs on it.
	Definition(ctx context.Context, t *Table) ([]string, error)
}
