package sqlserver

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"time"

	"ambertray/internal/db"
)

// Notebook implements db.Joiner.
func (d *DB) Notebook(schema, load string) db.Notebook {
	there := func(ctx context.Context) (bool, error) { return d.hasNotes(ctx, schema) }
	return db.Notebook{Questions: d.questions(), Schema: schema, Load: load, There: there}
}

func (l *load) notebook() db.Notebook { return l.d.Notebook(l.spec.Home().Schema, l.spec.Steps) }

// lock gets a lock of the session's, of the server's kind for applications; who gets none
// in time is told what it means.
func (d *DB) lock(ctx context.Context, name, without string, wait time.Duration) error {
	got, err := d.tryLock(ctx, name, wait)
	if err != nil {
		return d.fail(without, err)
	}
	if !got {
		return d.fail(without, nil)
	}
	return nil
}

func (d *DB) tryLock(ctx context.Context, name string, wait time.Duration) (bool, error) {
	var got int
	err := d.c.QueryRowContext(ctx, fmt.Sprintf("DECLARE @got int; EXEC @got = sys.sp_getapplock @Resource = @p1, "+
		"@LockMode = 'Exclusive', @LockOwner = 'Session', @LockTimeout = %d; SELECT @got", wait.Milliseconds()),
		name).Scan(&got)
	return err == nil && got >= 0, err
}

func (d *DB) unlock(ctx context.Context, name string) {
	d.c.ExecContext(ctx, "EXEC sys.sp_releaseapplock @Resource = @p1, @LockOwner = 'Session'", name)
}

// free reports whether nobody has a lock.
func (d *DB) free(ctx context.Context, name string) bool {
	got, err := d.tryLock(ctx, name, 0)
	if got {
		d.unlock(ctx, name)
	}
	return err == nil && got
}

// notesLock is held by whoever makes or drops a table of notes.
const notesLock = "ambertray_steps"

func (d *DB) lockNotes(ctx context.Context) error {
	return d.lock(ctx, notesLock, "cannot lock the table "+db.NotesTable, lockWait)
}

// claimOf is the lock of whoever is at a load; names of locks have at most 255 characters.
func claimOf(load string) string {
	sum := sha256.Sum256([]byte(load))
	return "ambertray load " + hex.EncodeToString(sum[:16])
}

// claim makes this session the only one at a load.
func (d *DB) claim(ctx context.Context, load string) error {
	return d.lock(ctx, claimOf(load), "another session is still at this load", lockWait)
}

// Step implements db.Stepper.
func (l *load) Step(ctx context.Context, step int, note string) error {
	notes := l.notebook()
	is, err := l.d.hasNotes(ctx, notes.Schema)
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
	return l.begin(ctx)
}

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
	rows, err := d.questions().Rows(ctx, "cannot see how far the load is", "SELECT 1 WHERE OBJECT_ID(@p1, 'U') IS "+
		"NOT NULL",
		d.name(schema, db.NotesTable))
	return len(rows) > 0, err
}

// forget removes the load's notes, but for what it leaves.
func (l *load) forget(ctx context.Context) error {
	is, err := l.d.hasNotes(ctx, l.spec.Home().Schema)
	if err != nil || !is && l.spec.Leaves == "" {
		return err
	}
	return l.notebook().End(ctx, &l.spec, "")
}

// tidy drops the table of notes if no load has any left and none is at it. If that cannot be, it
// stays for the next. The table is had alone while its rows are counted: where the server keeps
// versions of rows, a note that is not committed yet would not be seen, and be dropped with it.
func (d *DB) tidy(ctx context.Context, schema string) {
	if d.lockNotes(ctx) != nil {
		return
	}
	defer d.unlock(ctx, notesLock)
	if is, err := d.hasNotes(ctx, schema); err != nil || !is || d.do(ctx, "", "SET LOCK_TIMEOUT 0") != nil {
		return
	}
	d.DropExactly(ctx, &db.Table{Schema: schema, Name: db.NotesTable}, 0)
	d.waitForLocks(ctx)
}
