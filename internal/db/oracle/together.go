package oracle

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
)

// Several new tables come to be together: each is made beside the one that is wanted, as one
// alone is, and one block gives all of them their names. Loads into tables that are there are
// in one transaction. Both cannot be mixed: rows would be committed by the definitions of the
// others.

// together are loads that wait for the others.
type together struct {
	loads []*load
	sides db.Sides
	// there tells that the tables are there, and that the transaction is open.
	there bool
	mark  string // of all
}

// mixes reports loads into new tables among loads into others.
func (t *together) mixes(news bool) bool {
	return t != nil && (t.there && news || len(t.loads) > 0 && t.there == news)
}

// BeginTogether implements db.Grouper.
func (d *DB) BeginTogether(context.Context) error {
	d.together = &together{sides: db.Sides{}}
	return nil
}

// wait has a load that is done wait for the others.
func (l *load) wait(ctx context.Context) error {
	t := l.d.together
	if l.side != "" {
		if err := l.commit(); err != nil {
			return err
		}
		l.renumber(ctx)
		t.sides[l.spec.Home()] = l.side
	}
	t.loads, l.d.load = append(t.loads, l), nil
	return nil
}

// CommitTogether implements db.Grouper.
func (d *DB) CommitTogether(ctx context.Context) error {
	t := d.together
	if t.there {
		return d.commitThere(ctx)
	}
	var names []renaming
	old := map[*load]string{}
	for _, l := range t.loads {
		list, was, err := l.renamings(ctx)
		if err != nil {
			return err
		}
		names, old[l] = append(names, list...), was
	}
	if _, err := d.c.ExecContext(ctx, d.renamed(names)); err != nil {
		if err = d.renamingFailed(err); db.IsUnsure(err) {
			d.together = nil // what became of it is to be asked for, and nothing to be taken away
			d.unlockAll()
		}
		return err
	}
	d.together = nil
	var failed error
	for _, l := range t.loads {
		failed = errors.Join(failed, l.named(ctx, old[l]))
	}
	if failed != nil {
		return &db.Left{Err: d.fail("has the new tables, but not all is done", failed)}
	}
	return nil
}

// commitThere commits rows of tables that are there.
func (d *DB) commitThere(ctx context.Context) error {
	t := d.together
	err := d.commit()
	if err != nil && !db.IsUnsure(err) {
		return err
	}
	d.together = nil
	if err != nil {
		d.unlockAll()
		return err
	}
	for _, l := range t.loads {
		l.renumber(ctx)
	}
	d.Unstage(context.WithoutCancel(ctx))
	d.unlock(t.loads[0].spec.Home().Schema, claimOf(t.mark))
	return nil
}

// RollbackTogether implements db.Grouper.
func (d *DB) RollbackTogether() error {
	t := d.together
	if t == nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), db.EndIn)
	defer cancel()
	err := d.rollback()
	d.together = nil
	for _, l := range t.loads {
		if l.side != "" {
			if err2 := d.do(ctx, "cannot remove what a load left", "DROP TABLE "+l.table+" PURGE"); !is(err2, 942) {
				err = errors.Join(err, err2) // the next load sweeps it
			}
			d.unlock(l.spec.Table.Schema, lockOf(l.side))
			l.side = ""
		}
		l.Unmark(ctx)
	}
	d.Unstage(ctx)
	return err
}

// A renaming gives a table of a schema another name.
type renaming struct{ schema, from, to string }

func (r renaming) back() renaming { return renaming{r.schema, r.to, r.from} }

// sql is the statement.
func (r renaming) sql() string {
	return fmt.Sprintf("ALTER TABLE %s RENAME TO %s", Dialect.Qualified(r.schema, r.from), quote(r.to))
}

// renamed is what makes several renamings, each a definition of its own here: one block, which
// the server runs to its end whatever becomes of this program. Where one fails, those before it
// are undone.
func (d *DB) renamed(list []renaming) string {
	if len(list) == 1 {
		return list[0].sql()
	}
	block := ""
	for _, r := range slices.Backward(list) {
		do := "EXECUTE IMMEDIATE " + dialect.Quoted(r.sql()) + ";"
		if block == "" {
			block = "BEGIN " + do + " END;"
			continue
		}
		inner := strings.TrimSuffix(block, "END;") + "EXCEPTION WHEN OTHERS THEN EXECUTE IMMEDIATE " +
			dialect.Quoted(r.back().sql()) + "; RAISE; END;"
		block = "BEGIN " + do + " " + inner + " END;"
	}
	return block
}
