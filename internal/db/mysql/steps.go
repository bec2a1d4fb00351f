package mysql

import (
	"context"
	"crypto/rand"
	"database/sql"
	"time"

	"ambertray/internal/db"
)

// Notebook implements db.Joiner.
func (d *DB) Notebook(schema, load string) db.Notebook {
	there := func(ctx context.Context) (bool, error) { return d.hasNotes(ctx, schema) }
	return db.Notebook{Questions: d.questions(), Schema: schema, Load: load, There: there}
}

func (l *load) notebook() db.Notebook { return l.d.Notebook(l.spec.Home().Schema, l.spec.Steps) }

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
	if l.spec.Shared && !l.spec.Mode.New() {
		return nil // no definition, and the first note there is counts
	}
	left, err := l.takeBegin(ctx)
	if err != nil || !l.spec.Mode.New() {
		return err
	}
	if found, err := d.Find(ctx, t.Schema, t.Name); err != nil {
		return err
	} else if found != nil && left {
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

// takeBegin makes the note that the load has begun this session's own; left tells that there was one,
// of a program that has ended. On one server, locks keep others from it meanwhile. The servers of a
// cluster have locks of their own: there another may be at it, and is waited for.
func (l *load) takeBegin(ctx context.Context) (left bool, err error) {
	mine := rand.Text()
	was, left, err := l.notebook().Note(ctx, 0)
	switch {
	case err != nil:
		return false, err
	case !left:
		err = l.noteBegun(ctx, mine)
	default:
		if l.spec.Shared && l.d.inCluster(ctx) {
			if err := l.awaitBeginner(ctx, was); err != nil {
				return false, err
			}
		}
		err = l.setBegin(ctx, was, mine)
	}
	if err == nil {
		l.begun = mine
	}
	return left, err
}

// noteBegun writes the note that the load has begun, and makes the table for it
// where there is none.
func (l *load) noteBegun(ctx context.Context, mine string) error {
	d := l.d
	if err := d.lockNotes(ctx); err != nil {
		return err
	}
	defer d.c.ExecContext(ctx, "DO release_lock(?)", notesLock)
	if err := l.notebook().Make(ctx); err != nil {
		return err
	}
	return l.notebook().Write(ctx, 0, mine)
}

// setBegin changes the note that the load has begun, if it is still as it was: of several programs that
// do, one does it.
func (l *load) setBegin(ctx context.Context, was, now string) error {
	notes := l.notebook()
	res, err := l.d.c.ExecContext(ctx, "UPDATE "+notes.Table()+" SET note = ? WHERE load_name = ? AND step = 0 AND "+
		"note = ?", now, notes.Load, was)
	if err != nil {
		return l.d.fail("cannot note that the load has begun", err)
	}
	if n, err := res.RowsAffected(); err != nil || n != 1 {
		return l.begunByAnother()
	}
	return nil
}

func (l *load) begunByAnother() error {
	return db.InTheWay(l.d.fail("says that another program begins the load", nil))
}

// beginIn is how long a program of a cluster may take to begin a load that is shared: it makes a table.
const beginIn = 20 * time.Second

// awaitBeginner waits until the program has ended that has begun the load, or its time is over.
func (l *load) awaitBeginner(ctx context.Context, was string) error {
	for until := time.Now().Add(beginIn); time.Now().Before(until); {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(250 * time.Millisecond):
		}
		_, opened, err := l.notebook().Note(ctx, 1)
		if err != nil {
			return err
		}
		now, is, err := l.notebook().Note(ctx, 0)
		if err != nil {
			return err
		}
		if opened || !is || now != was {
			return l.begunByAnother()
		}
	}
	return nil
}

// inCluster reports a server that is one of several with the same tables.
func (d *DB) inCluster(ctx context.Context) bool {
	var name string
	var size int
	err := d.c.QueryRowContext(ctx, "SHOW GLOBAL STATUS LIKE 'wsrep_cluster_size'").Scan(&name, &size)
	return err == nil && size > 1
}

// owns reports whether the load is this session's to take back: nobody has begun it anew.
func (l *load) owns(ctx context.Context) bool {
	switch {
	case l.begun == "":
		return false
	case !l.spec.Shared:
		return true
	}
	still := rand.Text()
	if l.setBegin(ctx, l.begun, still) != nil {
		return false
	}
	l.begun = still
	return true
}

// Step implements db.Stepper.
func (l *load) Step(ctx context.Context, step int, note string) error {
	if l.spec.Shared && l.begun != "" {
		if err := l.setBegin(ctx, l.begun, "begun"); err != nil {
			return err
		}
	}
	if err := l.notebook().AddStep(ctx, &l.spec, true, step, note, asNow); err != nil {
		return err
	}
	if err := l.sent(ctx, "cannot commit", "COMMIT"); err != nil {
		return err
	}
	l.made, l.stepped = false, true
	return l.start(ctx)
}

// asNow stands behind a query that is to read rows as they are now, and keep them so until the
// transaction ends: without, one that repeats its reads has them as they were at its first.
const asNow = " LOCK IN SHARE MODE"

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
	if is, err := d.hasNotes(ctx, schema); err != nil || !is {
		return nil, err
	}
	return d.Notebook(schema, load).Read(ctx, 1)
}

func (d *DB) hasNotes(ctx context.Context, schema string) (bool, error) {
	found, err := d.Find(ctx, schema, db.NotesTable)
	return found != nil, err
}

// forget removes the load's notes, but for what it leaves.
func (l *load) forget(ctx context.Context) error { return l.notebook().End(ctx, &l.spec, asNow) }

// tidy drops the table of notes if no load has any left. If that cannot be, it
// stays for the next.
func (d *DB) tidy(ctx context.Context, schema string) {
	if d.lockNotes(ctx) != nil {
		return
	}
	defer d.c.ExecContext(ctx, "DO release_lock(?)", notesLock)
	d.Notebook(schema, "").DropEmpty(ctx)
}
