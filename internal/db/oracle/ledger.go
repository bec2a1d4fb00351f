package oracle

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
	if l.side != "" {
		l.record = rows // when the table has its name
		return nil
	}
	return l.d.Ledger(l.spec.Home().Schema).Write(ctx, rows)
}
