package desk

import (
	"context"
	"os"
	"os/user"
	"slices"

	"ambertray/internal/db"
)

// keepLedger sees whether the schema has a ledger, or makes it where that is asked
// for: then every load into the schema is written into it.
func (l *loading) keepLedger(ctx context.Context) error {
	schema := l.in.Plan.Table.Schema
	book, has, err := ledgerOf(ctx, l.conn, schema)
	switch {
	case err == nil && book == nil && l.req.Ledger:
		return need("--ledger: %s has none\n  leave it out; the tray has the entry of each load",
			l.conn.Dialect().Title)
	case err != nil || book == nil:
		return err
	case !has && (!l.req.Ledger || l.req.DryRun):
		return nil
	case !has:
		if err := book.Make(ctx); err != nil {
			return err
		}
		l.tell(NoteEvent{"the table " + db.Qualified(schema, db.LedgerTable) +
			" is made: from now on it has a row for each source of each load into this schema"})
	}
	l.ledger, l.job.Ledger, l.job.By = book, true, whoami()
	return nil
}

// ledgerOf is the ledger of a schema, and whether it has been made; nil: the
// database can have none.
func ledgerOf(ctx context.Context, conn db.Session, schema string) (book *db.Ledger, has bool, err error) {
	s, is := conn.(db.Ledgerer)
	if !is {
		return nil, false, nil
	}
	found, err := conn.Find(ctx, schema, db.LedgerTable)
	if err != nil {
		return nil, false, err
	}
	l := s.Ledger(schema)
	return &l, found != nil, nil
}

// whoami is the user and the machine.
func whoami() string {
	host := "unknown"
	if h, err := os.Hostname(); err == nil {
		host = h
	}
	return userName() + "@" + host
}

// userName is the user's name on the machine.
func userName() string {
	if u, err := user.Current(); err == nil {
		return u.Username
	}
	return "unknown"
}

// inLedger is what the database's own ledger has of loads into the table, whoever did
// them, and how many rows the table has.
func (l *loading) inLedger(ctx context.Context) (rows []db.LedgerRow, now int64, err error) {
	if l.ledger == nil || l.found == nil {
		return nil, 0, nil
	}
	if rows, err = l.ledger.In(ctx, l.found.Name); err != nil {
		return nil, 0, err
	}
	if now, err = l.conn.Count(ctx, l.found); err != nil {
		return nil, 0, err
	}
	if x := l.job.Receipt; x != nil {
		// Just before the commit, what this load has done is there, too.
		rows = slices.DeleteFunc(rows, func(r db.LedgerRow) bool { return r.Entry == x.Entry })
		now -= x.Records.Loaded
	}
	return rows, now, nil
}
