package sqlserver

import (
	"context"

	"ambertray/internal/db"
)

// Ledger implements db.Ledgerer.
func (d *DB) Ledger(schema string) db.Ledger {
	return db.Ledger{Questions: d.questions(), Schema: schema}
}

// Record implements db.Recorder.
func (l *load) Record(ctx context.Context, rows []db.LedgerRow) error {
	return db.Ledger{Questions: l.d.questions(), Schema: l.spec.Home().Schema}.Write(ctx, rows)
}
