package db

import (
	"context"
	"fmt"
)

// A Dropper is a Session that can drop a table in the certainty that it has just so many
// rows, and that nobody adds some meanwhile.
type Dropper interface {
	// DropExactly reports whether it has dropped the table.
	DropExactly(ctx context.Context, t *Table, rows int64) (bool, error)
}

// A Placed is a Session that knows rows of a table without a key by their place, or by
// nothing.
type Placed interface {
	// Place is the expression that tells rows apart that have the same values, or empty.
	Place(t *Table) string
}

// undone is the mode that the ledger has of a load that was taken back.
const undone = "undone"

// TakeBack notes in the ledger that a load was taken back.
func (l Ledger) TakeBack(ctx context.Context, entry string) error {
	d := l.Dialect
	return l.Do(ctx, "cannot write into the table "+LedgerTable,
		fmt.Sprintf("UPDATE %s SET load_mode = %s WHERE load_entry = %s", l.table(), d.Parameter(1), d.Parameter(2)),
		undone, entry)
}
