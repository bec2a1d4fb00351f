package mysql

import (
	"context"
	"database/sql"

	"ambertray/internal/db"
)

func (d *DB) notebook(schema, load string) db.Notebook {
	return db.Notebook{Questions: d.questions(), Schema: schema, Load: load}
}

func (l *load) notebook() db.Notebook { return l.d.notebook(l.spec.Home().Schema, l.spec.Steps) }

// notesLock is held by whoever makes or drops a table of notes, which these
// servers commit at once.
const notesLock = "ambertray_steps"

func (d *DB) lockNotes(ctx context.Context) error {
	return d.lock(ctx, notesLock, "cannot lock the table "+db.NotesTable)
}

// lock waits up to 30 seconds for a lock of the server's, and says what it means not to
// get it.
func (d *DB) lock(ctx context.Context, name, without string) error {
	var got sql.NullInt64
	if err := d.c.QueryRowContext(ctx, "SELECT get_lock(?, 30)", name).Scan(&got); err != nil || got.Int64 != 1 {
		return d.fail(without, err)
	}
	return nil
}

// stepwise prepares a load that commits on its way. Since a definition is
// committed at once, the load first notes that it has begun: a table that is
// there and empty, with such a note, is its own.
func (l *load) stepwise(ctx context.Context) error {
	d, t := l.d, l.spec.Table
	if !l.spec.Shared {
		if err := d.claim(ctx, l.spec.Steps); err != nil {
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
		if err := l.noteBegun(ctx); err != nil {
			return err
		}
	}
	if !l.spec.Mode.New() {
		return nil
	}
	if found, err := d.Find(ctx, t.Schema, t.Name); err != nil {
		return err
	} else if found != nil && begun {
		rows, err := d.Count(ctx, found)
		if err != nil {
			return err
		}
		if rows == 0 {
			if _, err := d.c.ExecContext(ctx, "DROP TABLE "+l.table); err != nil {
				return d.fail("cannot begin anew", err)
			}
		}
	}
	statements := Dialect.Create(t)
	if l.spec.Like != nil {
		statements = []string{likeSQL(l.table, l.spec.Like)}
	}
	for _, s := range statements {
		if _, err := d.c.ExecContext(ctx, s); err != nil {
			return d.fail("refuses the definition", err)
		}
		l.made = true
	}
	return nil
}

// noteBegun writes the note that the load has begun, and makes the table for it
// where there is none.
func (l *load) noteBegun(ctx context.Context) error {
	d := l.d
	if err := d.lockNotes(ctx); err != nil {
		return err
	}
	defer d.c.ExecContext(ctx, "DO release_lock(?)", notesLock)
	if err := l.notebook().Make(ctx); err != nil {
		return err
	}
	return l.notebook().Write(ctx, 0, "")
}

// Step implements db.Stepper.
func (l *load) Step(ctx context.Context, step int, note string) error {
	if err := l.notebook().AddStep(ctx, &l.spec, true, step, note, " LOCK IN SHARE MODE"); err != nil {
		return err
	}
	if err := l.sent(ctx, "cannot commit", "COMMIT"); err != nil {
		return err
	}
	l.made, l.stepped = false, true
	return l.start(ctx)
}

// claim makes this session the only one at a load.
func (d *DB) claim(ctx context.Context, load string) error {
	return d.lock(ctx, claimOf(load), atLoad)
}

// atLoad is what it means that the lock of a load is taken.
const atLoad = "another session is still at this load"

// Notes implements db.Noter.
func (d *DB) Notes(ctx context.Context, schema, load string) ([]string, error) {
	if err := d.claim(ctx, load); err != nil {
		return nil, err
	}
	return d.notes(ctx, schema, load, 1)
}

// notes are those from a step on.
func (d *DB) notes(ctx context.Context, schema, load string, from int) (notes []string, err error) {
	if there, err := d.notesIn(ctx, schema)(); err != nil || !there {
		return nil, err
	}
	return d.notebook(schema, load).Read(ctx, from)
}

// forget removes the load's notes, but for what it leaves.
func (l *load) forget(ctx context.Context) error { return l.notebook().End(ctx, &l.spec) }

// tidy drops the table of notes if no load has any left. If that cannot be, it
// stays for the next.
func (d *DB) tidy(ctx context.Context, schema string) {
	if d.lockNotes(ctx) != nil {
		return
	}
	defer d.c.ExecContext(ctx, "DO release_lock(?)", notesLock)
	d.notebook(schema, "").DropEmpty(ctx)
}
