package db

import (
	"context"

	"ambertray/internal/pipeline"
)

// An Extract is what is read of a database: all rows of a query.
type Extract struct {
	Query   string
	Columns []Column
	// Table is the one of which the query is all rows and nothing else, so that a condition may
	// stand behind it; or nil.
	Table *Table
	// Lanes is over how many connections rows may come; 0: as the database thinks best.
	Lanes int
}

// A TextScanner is a session whose rows come as text, which another goroutine can take apart.
type TextScanner interface {
	// ScanText calls take with rows, in their order; they are whole, and valid until it returns.
	ScanText(ctx context.Context, x Extract, take func(rows []byte) error) error
	// Apart takes such rows apart: it calls row as Scan does.
	Apart(columns int) func(rows []byte, row func(fields [][]byte) error) error
}

// Carry is Scan, with row called in another goroutine than the one that reads; simple tells that a row has nothing
// but ASCII, and no NUL.
func Carry(ctx context.Context, s Session, x Extract, row func(fields [][]byte, simple bool) error) error {
	if t, is := s.(TextScanner); is {
		return pipeline.CarriedText(func(take func([]byte) error) error { return t.ScanText(ctx, x, take) },
			t.Apart(len(x.Columns)), row)
	}
	return pipeline.Carried(len(x.Columns), func(row func([][]byte) error) error {
		return s.Scan(ctx, x.Query, x.Columns, row)
	}, row)
}
