package oracle

import (
	"context"
	"fmt"

	"ambertray/internal/db"
)

// Notebook implements db.Joiner.
func (d *DB) Notebook(schema, load string) db.Notebook {
	there := func(ctx context.Context) (bool, error) { return d.hasNotes(ctx, schema) }
	return db.Notebook{Questions: d.questions(), Schema: schema, Load: load, There: there}
}

func (l *load) notebook() db.Notebook { return l.d.Notebook(l.spec.Home().Schema, l.spec.Steps) }

// atLoad is what it means that the lock of a load is taken.
const atLoad = "another session is still at this load"

// stepwise prepares a load that commits on its way. Since a definition is committed at once,
// the load first notes that it has begun: a table that is there and empty, with such a note,
// is its own.
func (l *load) stepwise(ctx context.Context) error {
	d, t := l.d, l.spec.Table
	if !l.spec.Shared {
		if err := d.lock(ctx, t.Schema, claimOf(l.spec.Steps), atLoad, lockWait); err != nil {
			return err
		}
	}
	if l.spec.Going {
		return nil
	}
	notes, err := d.notes(ctx, t.Schema, l.spec.Steps, 0)
	if err != nil {
		return err
	}
	begun := len(notes) > 0
	if !begun {
		if err := l.notebook().Make(ctx); err != nil {
			return err
		}
		if err := l.notebook().Write(ctx, 0, "begun"); err != nil {
			return err
		}
	}
	if !l.spec.Mode.New() {
		return nil
	}
	if f, err := d.find(ctx, t.Schema, t.Name); err != nil {
		return err
	} else if f != nil && begun {
		rows, err := d.Count(ctx, f.Table)
		if err != nil {
			return err
		}
		if rows == 0 {
			if err := d.do(ctx, "cannot begin anew", "DROP TABLE "+l.table+" PURGE"); err != nil {
				return err
			}
		}
	}
	statements, err := l.statements(ctx, t)
	if err != nil {
		return err
	}
	for _, s := range statements {
		if err := d.do(ctx, "refuses the definition", s); err != nil {
			return err
		}
		l.made = true
	}
	return nil
}

// Step implements db.Stepper.
func (l *load) Step(ctx context.Context, step int, note string) error {
	if err := l.notebook().AddStep(ctx, &l.spec, true, step, note, ""); err != nil {
		return err
	}
	if err := l.commit(); err != nil {
		return err
	}
	l.made, l.stepped = false, true
	return l.start(ctx)
}

// Notes implements db.Noter.
func (d *DB) Notes(ctx context.Context, schema, load string) ([]string, error) {
	if err := d.lock(ctx, schema, claimOf(load), atLoad, lockWait); err != nil {
		return nil, err
	}
	return d.notes(ctx, schema, load, 1)
}

// notes are those from a step on.
func (d *DB) notes(ctx context.Context, schema, load string, from int) ([]string, error) {
	if is, err := d.hasNotes(ctx, schema); err != nil || !is {
		return nil, err
	}
	return d.Notebook(schema, load).Read(ctx, from)
}

func (d *DB) hasNotes(ctx context.Context, schema string) (bool, error) {
	rows, err := d.questions().Rows(ctx, "cannot see how far the load is", "SELECT 1 FROM all_tables WHERE "+
		"owner = :1 AND table_name = :2", d.owner(schema), catalogued(db.NotesTable))
	return len(rows) > 0, err
}

// tidy drops the table of notes if no load has any left. Nobody can add one meanwhile: the
// table is held. If that cannot be, it stays for the next.
func (d *DB) tidy(ctx context.Context, schema string) {
	if d.tx != nil {
		return
	}
	table := Dialect.Qualified(schema, db.NotesTable)
	if d.begin() != nil {
		return
	}
	defer d.rollback()
	if _, err := d.c.ExecContext(ctx, fmt.Sprintf("LOCK TABLE %s IN EXCLUSIVE MODE NOWAIT", table)); err != nil {
		return
	}
	if n, err := d.questions().Count(ctx, schema, db.NotesTable); err != nil || n > 0 {
		return
	}
	d.c.ExecContext(ctx, "DROP TABLE "+table+" PURGE")
}
