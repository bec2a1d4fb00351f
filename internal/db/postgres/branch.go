package postgres

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/fault"
)

// A load into several servers is one transaction of each, and they commit in two phases
// (PostgreSQL, "PREPARE TRANSACTION"). What another server has prepared is named by the number
// of the first server's transaction, which that keeps the outcome of: whoever finds such a name
// can tell what is to become of it, whatever has happened to the program. The first server's
// commit is that of the load.

// gid begins the names of what is prepared for this server and database.
func (d *DB) gid(ctx context.Context) (string, error) {
	var system, database string
	err := d.c.QueryRow(ctx, "SELECT system_identifier::text, (SELECT oid::text FROM pg_database WHERE datname = "+
		"current_database()) FROM pg_control_system()").Scan(&system, &database)
	if err != nil {
		return "", detour("the server does not say which one it is")
	}
	return "ambertray " + system + " " + database + " ", nil
}

// begin begins the transactions of all servers but the first.
func (s *shards) begin(ctx context.Context, l *load) error {
	if err := s.unchanged(ctx, l.d); err != nil {
		return err
	}
	for _, b := range s.branches {
		tx, err := b.c.BeginTx(ctx, pgx.TxOptions{IsoLevel: pgx.RepeatableRead})
		if err != nil {
			return b.fail("cannot begin a transaction", err)
		}
		b.tx = tx
		steps := []string{"SET LOCAL synchronous_commit = on", "SET CONSTRAINTS ALL IMMEDIATE"}
		for _, p := range b.parts {
			steps = append(steps, "LOCK TABLE "+p.table+" IN ROW EXCLUSIVE MODE")
			p.copier = b.copyInto(p.table, p.names, l.binary)
		}
		if err := b.simple(ctx, strings.Join(steps, "; ")); err != nil {
			return err
		}
		if l.spec.Mode == db.Refill {
			for _, p := range b.parts {
				if err := b.empty(ctx, p.table); err != nil {
					return err
				}
			}
		}
	}
	return s.way.make(ctx, l.d, s.parts, l.binary)
}

// empty takes all rows out of the partitions that the first server has itself; those of the others are emptied as their
// transactions begin. Nobody may add to the table meanwhile, whatever server has the row.
func (s *shards) empty(ctx context.Context, l *load) error {
	if err := l.d.simple(ctx, "LOCK TABLE "+s.parent+" IN ACCESS EXCLUSIVE MODE"); err != nil {
		return err
	}
	for _, p := range s.parts {
		if p.foreign {
			continue
		}
		if err := l.d.empty(ctx, p.name); err != nil {
			return err
		}
	}
	return nil
}

// commit commits the load on all servers.
func (s *shards) commit(ctx context.Context, l *load) error {
	xid, err := l.xid(ctx)
	if err != nil {
		return err
	}
	if err := s.prepare(ctx, xid); err != nil {
		return s.undo(ctx, l, xid, err)
	}
	err = fault.At(ctx, fault.Prepared)
	if err == nil {
		err = l.d.commit(ctx, l.tx)
	}
	switch {
	case db.IsUnsure(err):
		return err
	case err != nil:
		return s.undo(ctx, l, xid, err)
	}
	if err = fault.At(ctx, fault.Undecided); err == nil {
		err = s.finish(ctx, xid, true)
	}
	if err != nil {
		return &db.Unsure{Err: err}
	}
	return nil
}

// prepareIn bounds what a server takes to prepare a transaction.
const prepareIn = 2 * time.Minute

// prepare is the first phase. It is not told to stop, since what is prepared has to be ended then.
func (s *shards) prepare(ctx context.Context, xid string) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), prepareIn)
	defer cancel()
	for _, b := range s.branches {
		got, err := b.c.PgConn().Exec(ctx, "PREPARE TRANSACTION "+b.called(s.gid, xid)).ReadAll()
		if err != nil {
			return b.fail("cannot prepare the commit", err)
		}
		// A transaction that had failed would be rolled back, without an error.
		if tag := got[0].CommandTag.String(); tag != "PREPARE TRANSACTION" {
			return b.fail("has not prepared the commit: it says "+tag, nil)
		}
	}
	return nil
}

// undo takes back what is prepared where the first server has not committed. What cannot be reached is
// for the next load to end.
func (s *shards) undo(ctx context.Context, l *load, xid string, why error) error {
	l.tx.Rollback(context.WithoutCancel(ctx))
	s.finish(ctx, xid, false)
	return why
}

// called is what a server is told to prepare a transaction as, quoted. Two databases of one server can be
// of one load, and such names are the server's: the number of the foreign server tells them apart.
func (b *branch) called(gid, xid string) string {
	return dialect.Quoted(fmt.Sprint(gid, xid, " ", b.server))
}

// finish ends what the servers have prepared for a transaction of the first.
func (s *shards) finish(ctx context.Context, xid string, commit bool) (err error) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), db.EndIn)
	defer cancel()
	for _, b := range s.branches {
		err = errors.Join(err, b.finish(ctx, b.called(s.gid, xid), commit))
	}
	return err
}

// finish ends what a server has prepared under a name, which is quoted. If that is not there, it is ended.
func (b *branch) finish(ctx context.Context, name string, commit bool) error {
	word := map[bool]string{true: "COMMIT", false: "ROLLBACK"}[commit]
	if b.c.IsClosed() {
		c, err := pgx.ConnectConfig(ctx, b.c.Config())
		if err != nil {
			return b.fail("cannot be reached again", err)
		}
		b.c = c
	}
	for {
		_, err := b.c.Exec(ctx, word+" PREPARED "+name)
		var p *pgconn.PgError
		switch {
		case err == nil:
			return nil
		case errors.As(err, &p) && p.Code == "42704":
			return nil
		case errors.As(err, &p) && p.Code == "55000": // another session is at it
			select {
			case <-ctx.Done():
			case <-time.After(50 * time.Millisecond):
				continue
			}
		}
		return b.fail("cannot end what is prepared there", err)
	}
}

// sweep ends what programs that have ended left prepared on a server: as the first server says.
func (b *branch) sweep(ctx context.Context, first *DB, gid string) error {
	rows, err := b.c.Query(ctx, "SELECT gid FROM pg_prepared_xacts WHERE database = current_database() AND "+
		"owner = current_user AND starts_with(gid, $1)", gid)
	if err != nil {
		return b.fail("cannot say what is prepared", err)
	}
	list, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return b.fail("cannot say what is prepared", err)
	}
	for _, g := range list {
		xid, server, _ := strings.Cut(strings.TrimPrefix(g, gid), " ")
		if server != fmt.Sprint(b.server) {
			continue
		}
		status, err := first.statusOf(ctx, xid)
		if err != nil {
			return err
		}
		outcome, over := outcomes[status]
		if !over { // under way, or too long ago for the server to know
			continue
		}
		if err := b.finish(ctx, dialect.Quoted(g), outcome == db.Committed); err != nil {
			return err
		}
	}
	return nil
}

// statusOf is what became of a transaction of this server, in its words; empty if it does not know.
func (d *DB) statusOf(ctx context.Context, xid string) (status string, err error) {
	err = d.c.QueryRow(ctx, "SELECT coalesce(txid_status($1::text::bigint), '')", xid).Scan(&status)
	var no *pgconn.PgError
	if errors.As(err, &no) {
		return "", nil // of another server, or long ago
	}
	if err != nil {
		err = d.fail("cannot tell what became of the commit", err)
	}
	return status, err
}

// mark says which servers a load has prepared something on, behind its number.
func (s *shards) mark(xid string) string {
	var servers []string
	for _, b := range s.branches {
		servers = append(servers, fmt.Sprint(b.server))
	}
	return xid + marked + strings.Join(servers, ",")
}

// marked stands between the number of a transaction and the servers.
const marked = " on "

// finishBeyond ends what a load has prepared on other servers, which its mark names.
func (d *DB) finishBeyond(ctx context.Context, xid, servers string, commit bool) error {
	gid, err := d.gid(ctx)
	if err != nil {
		return err
	}
	for _, word := range strings.Split(servers, ",") {
		id, err := strconv.ParseUint(word, 10, 32)
		if err != nil {
			return fmt.Errorf("the mark of the load names a server that is none: %s", word)
		}
		p, err := d.serverOf(ctx, uint32(id))
		if err != nil {
			return err
		}
		b, err := (&shards{}).branchOf(ctx, d, *p)
		if err != nil {
			return err
		}
		err = b.finish(ctx, b.called(gid, xid), commit)
		b.Close()
		if err != nil {
			return err
		}
	}
	return nil
}
