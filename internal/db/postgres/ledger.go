package postgres

import (
	"context"

	"ambertray/internal/db"
)

// Ledger implements db.Ledgerer.
func (d *DB) Ledger(schema string) db.Ledger {
	return db.Ledger{Questions: d.questions(d.c), Schema: schema}
}

// Record implements db.Recorder.
func (l *load) Record(ctx context.Context, rows []db.LedgerRow) error {
	return db.Ledger{Questions: l.d.questions(l.tx), Schema: l.spec.Home().Schema}.Write(ctx, rows)
}
