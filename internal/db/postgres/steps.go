package postgres

import (
	"context"
	"strings"

	"ambertray/internal/db"
)

func (d *DB) notebook(c querier, schema, load string) db.Notebook {
	there := func(ctx context.Context) (bool, error) { return d.hasNotes(ctx, c, schema) }
	return db.Notebook{Questions: d.questions(c), Schema: schema, Load: load, There: there}
}

func (l *load) notebook() db.Notebook { return l.d.notebook(l.tx, l.spec.Home().Schema, l.spec.Steps) }

// Step implements db.Stepper.
func (l *load) Step(ctx context.Context, step int, note string) error {
	notes := l.notebook()
	is, err := l.d.hasNotes(ctx, l.tx, notes.Schema)
	if err != nil {
		return err
	}
	if err := notes.AddStep(ctx, &l.spec, is, step, note, ""); err != nil {
		return err
	}
	if err := l.commit(ctx); err != nil {
		return err
	}
	l.spec.Going = true
	if err := l.begin(ctx); err != nil {
		return err
	}
	return l.beginBeyond(ctx)
}

// claim makes this session the only one at a load.
func (d *DB) claim(ctx context.Context, load string) error {
	for _, sql := range []string{"SET lock_timeout = '30s'",
		"SELECT pg_advisory_lock(hashtextextended('ambertray ' || $1, 0))", "RESET lock_timeout"} {
		var args []any
		if strings.Contains(sql, "$1") {
			args = append(args, load)
		}
		if _, err := d.c.Exec(ctx, sql, args...); err != nil {
			return d.fail("another session is still at this load", err)
		}
	}
	return nil
}

// Notes implements db.Noter.
func (d *DB) Notes(ctx context.Context, schema, load string) ([]string, error) {
	if err := d.claim(ctx, load); err != nil {
		return nil, err
	}
	if is, err := d.hasNotes(ctx, d.c, schema); err != nil || !is {
		return nil, err
	}
	return d.notebook(d.c, schema, load).Read(ctx, 1)
}

func (d *DB) hasNotes(ctx context.Context, c querier, schema string) (is bool, err error) {
	if err = c.QueryRow(ctx, "SELECT to_regclass($1) IS NOT NULL",
		d.notebook(c, schema, "").Table()).Scan(&is); err != nil {
		err = d.fail("cannot see how far the load is", err)
	}
	return
}

// forget removes the load's notes, but for what it leaves.
func (l *load) forget(ctx context.Context) error {
	notes := l.notebook()
	is, err := l.d.hasNotes(ctx, l.tx, notes.Schema)
	if err != nil || !is && l.spec.Leaves == "" {
		return err
	}
	return notes.End(ctx, &l.spec, "")
}

// tidy drops the table of notes if no load has any left and none is at it. If
// that cannot be, it stays for the next.
func (d *DB) tidy(ctx context.Context, schema string) {
	tx, err := d.c.Begin(ctx)
	if err != nil {
		return
	}
	defer tx.Rollback(ctx)
	notes := d.notebook(tx, schema, "")
	if is, err := d.hasNotes(ctx, tx, schema); err != nil || !is {
		return
	}
	if _, err := tx.Exec(ctx, "LOCK TABLE "+notes.Table()+" IN ACCESS EXCLUSIVE MODE NOWAIT"); err != nil {
		return
	}
	if notes.DropEmpty(ctx) == nil {
		tx.Commit(ctx)
	}
}
