package mysql

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"ambertray/internal/db"
)

// Several new tables come to be together: each is made beside the one that is wanted, as
// one alone is, and one RENAME, which is atomic, gives all of them their names. Loads into
// tables that are there are in one transaction, as in other databases. Both cannot be
// mixed: rows would be committed by the definitions of the others.

// together are loads that wait for the others.
type together struct {
	loads []*load
	sides db.Sides
	// there tells that the tables are there, and that the transaction is open.
	there bool
	mark  string // of all
}

// has reports whether a side table is one of them.
func (t *together) has(side string) bool {
	if t == nil {
		return false
	}
	for _, l := range t.loads {
		if l.side == lockOf(side) {
			return true
		}
	}
	return false
}

// BeginTogether implements db.Grouper.
func (d *DB) BeginTogether(context.Context) error {
	d.together = &together{sides: db.Sides{}}
	return nil
}

// wait has a load that is done wait for the others.
func (l *load) wait(ctx context.Context) error {
	t := l.d.together
	if t.there != (l.side == "") {
		return l.d.fail("cannot have loads into new tables and into tables that are there among each other", nil)
	}
	if t.there {
		l.main.end()
		t.loads = append(t.loads, l)
		l.d.load = nil
		return nil
	}
	if _, err := l.d.c.ExecContext(ctx, "COMMIT"); err != nil {
		return l.d.fail("cannot commit", err) // the side table has not its name yet
	}
	l.main.end()
	t.loads, l.d.load = append(t.loads, l), nil
	t.sides[l.spec.Home()] = l.side
	return nil
}

// CommitTogether implements db.Grouper.
func (d *DB) CommitTogether(ctx context.Context) error {
	if d.together.there {
		return d.commitThere(ctx)
	}
	var names []string
	old := map[*load]string{}
	for _, l := range d.together.loads {
		renamed, was, err := l.renamed(ctx)
		if err != nil {
			return err
		}
		names, old[l] = append(names, renamed), was
	}
	if err := d.sentTogether(ctx, "cannot give the tables their names", "RENAME TABLE "+strings.Join(names,
		", ")); err != nil {
		return err
	}
	loads := d.together.loads
	d.together = nil
	var failed error
	for _, l := range loads {
		l.side = ""
		if old[l] != "" {
			if _, err := d.c.ExecContext(ctx, "DROP TABLE "+old[l]); err != nil {
				failed = errors.Join(failed, fmt.Errorf("the table that was replaced is left as %s: %w", old[l], err))
			}
		}
		failed = errors.Join(failed, d.Ledger(l.spec.Table.Schema).Write(ctx, l.record))
	}
	d.c.ExecContext(context.WithoutCancel(ctx), "DO release_all_locks()")
	if failed != nil {
		return &db.Left{Err: d.fail("has the new tables, but not all is done", failed)}
	}
	return nil
}

// sentTogether runs the statement that makes all loads come to be.
func (d *DB) sentTogether(ctx context.Context, what, statement string) error {
	err := d.sent(ctx, what, statement)
	if db.IsUnsure(err) {
		d.together = nil // what became of it is to be asked for, and nothing to be taken away
	}
	return err
}

// commitThere commits rows of tables that are there.
func (d *DB) commitThere(ctx context.Context) error {
	if err := d.sentTogether(ctx, "cannot commit", "COMMIT"); err != nil {
		return err
	}
	d.together = nil
	d.c.ExecContext(context.WithoutCancel(ctx), "DO release_all_locks()")
	return nil
}

// RollbackTogether implements db.Grouper.
func (d *DB) RollbackTogether() error {
	if d.together == nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), db.EndIn)
	defer cancel()
	var failed error
	if t := d.together; t.there {
		if _, err := d.c.ExecContext(ctx, "ROLLBACK"); err != nil {
			failed = err // the connection is gone, and the transaction with it
		}
		d.together = nil
		for _, l := range t.loads {
			l.Unmark(ctx)
		}
		d.c.ExecContext(ctx, "DO release_all_locks()")
		if failed != nil {
			return d.fail("cannot roll back", failed)
		}
		return nil
	}
	for _, l := range d.together.loads {
		if _, err := d.c.ExecContext(ctx, "DROP TABLE IF EXISTS "+l.table); err != nil {
			failed = errors.Join(failed, err) // the next load sweeps it
		}
	}
	d.c.ExecContext(ctx, "DO release_all_locks()")
	if d.together = nil; failed != nil {
		return d.fail("cannot remove what a load left", failed)
	}
	return nil
}
