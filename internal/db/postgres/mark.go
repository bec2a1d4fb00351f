package postgres

import (
	"context"
	"errors"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"ambertray/internal/db"
)

// xidMark begins a mark: the number of the load's transaction, which the server keeps
// the outcome of (PostgreSQL, "Transaction ID and Snapshot Information Functions").
const xidMark = "xid "

// Mark implements db.Marked.
func (l *load) Mark(ctx context.Context) (string, error) {
	xid, err := l.xid(ctx)
	if err != nil {
		return "", err
	}
	if l.apart != nil {
		xid = l.apart.mark(xid)
	}
	return xidMark + xid, nil
}

// xid is the number of the load's transaction.
func (l *load) xid(ctx context.Context) (xid string, err error) {
	if err = l.tx.QueryRow(ctx, "SELECT txid_current()::text").Scan(&xid); err != nil {
		err = l.d.fail("cannot mark the commit", err)
	}
	return xid, err
}

// Unmark implements db.Marked: the server forgets it in its own time.
func (l *load) Unmark(context.Context) {}

// Outcome implements db.Outcomer.
func (d *DB) Outcome(ctx context.Context, _, mark string) (db.Outcome, error) {
	xid, is := strings.CutPrefix(mark, xidMark)
	if !is {
		return db.Unknown, nil
	}
	xid, servers, beyond := strings.Cut(xid, marked)
	for {
		status, err := d.statusOf(ctx, xid)
		if err != nil || status == "" {
			return db.Unknown, err
		}
		if outcome, is := outcomes[status]; is {
			if beyond {
				err = d.finishBeyond(ctx, xid, servers, outcome == db.Committed)
			}
			return outcome, err
		}
		select { // the server is at it still, or has not seen that we are gone
		case <-ctx.Done():
			return db.Unknown, ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// outcomes are what the server says of transactions that are over.
var outcomes = map[string]db.Outcome{"committed": db.Committed, "aborted": db.RolledBack}

// Settled implements db.Outcomer.
func (d *DB) Settled(context.Context, string, string) {}

// lost tells whether an error of a commit is no answer of the server.
func lost(err error) bool {
	var answer *pgconn.PgError
	return !errors.As(err, &answer) && !errors.Is(err, pgx.ErrTxCommitRollback)
}

// commit commits the transaction.
func (l *load) commit(ctx context.Context) error {
	if l.d.together != nil {
		return nil // with the others
	}
	if l.apart != nil {
		return l.apart.commit(ctx, l)
	}
	return l.d.commit(ctx, l.tx)
}

// commit commits a transaction. Where the server has not answered, it may have come to be.
func (d *DB) commit(ctx context.Context, tx pgx.Tx) error {
	err := tx.Commit(ctx)
	switch {
	case err == nil:
		return nil
	case lost(err):
		return &db.Unsure{Err: d.fail("cannot commit", err)}
	}
	return d.fail("cannot commit", err)
}
