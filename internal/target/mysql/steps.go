package mysql

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"fmt"
	"strings"

	"ambertray/internal/dialect"
	"ambertray/internal/target"
)

func notesTable(schema string) string {
	return dialect.MySQL.Qualified(schema, target.NotesTable)
}

// notesLock is held by whoever makes or drops a table of notes, which these
// servers commit at once.
const notesLock = "ambertray_steps"

func (d *DB) lockNotes(ctx context.Context) error {
	var got sql.NullInt64
	if err := d.c.QueryRowContext(ctx, "SELECT get_lock(?, 30)", notesLock).Scan(&got); err != nil || got.Int64 != 1 {
		return d.fail("cannot lock the table "+target.NotesTable, err)
	}
	return nil
}

// stepwise prepares a load that commits on its way. Since a definition is
// committed at once, the load first notes that it has begun: a table that is
// there and empty, with such a note, is its own.
func (l *load) stepwise(ctx context.Context) error {
	d, t := l.d, l.spec.Table
	if err := d.claim(ctx, l.spec.Steps); err != nil {
		return err
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
	statements := dialect.MySQL.Create(t)
	if l.spec.Like != "" {
		statements = []string{fmt.Sprintf("CREATE TABLE %s LIKE %s", l.table, l.spec.Like)}
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
	d, schema := l.d, l.spec.Table.Schema
	if err := d.lockNotes(ctx); err != nil {
		return err
	}
	defer d.c.ExecContext(ctx, "DO release_lock(?)", notesLock)
	create := strings.Replace(dialect.MySQL.Create(target.Notes(schema))[0], "CREATE TABLE", "CREATE TABLE IF NOT EXISTS", 1)
	if _, err := d.c.ExecContext(ctx, create); err != nil {
		return d.fail("cannot make the table "+target.NotesTable, err)
	}
	return l.insertNote(ctx, 0, "")
}

func (l *load) insertNote(ctx context.Context, step int, note string) error {
	if _, err := l.d.c.ExecContext(ctx, "INSERT INTO "+notesTable(l.spec.Table.Schema)+" VALUES (?, ?, ?)", l.spec.Steps, step, note); err != nil {
		return l.d.fail("cannot note how far the load is", err)
	}
	return nil
}

// Step implements target.Stepper.
func (l *load) Step(ctx context.Context, step int, note string) error {
	if err := l.insertNote(ctx, step, note); err != nil {
		return err
	}
	if _, err := l.d.c.ExecContext(ctx, "COMMIT"); err != nil {
		return l.d.fail("cannot commit", err)
	}
	l.made, l.stepped = false, true
	return l.start(ctx)
}

// claim makes this session the only one at a load.
func (d *DB) claim(ctx context.Context, load string) error {
	sum := sha256.Sum256([]byte(load)) // names of locks have at most 64 characters
	var got sql.NullInt64
	if err := d.c.QueryRowContext(ctx, "SELECT get_lock(?, 30)", sidePrefix+hex.EncodeToString(sum[:16])).Scan(&got); err != nil || got.Int64 != 1 {
		return d.fail("another session is still at this load", err)
	}
	return nil
}

// Notes implements target.Noter.
func (d *DB) Notes(ctx context.Context, schema, load string) ([]string, error) {
	if err := d.claim(ctx, load); err != nil {
		return nil, err
	}
	return d.notes(ctx, schema, load, 1)
}

// notes are those from a step on.
func (d *DB) notes(ctx context.Context, schema, load string, from int) (notes []string, err error) {
	found, err := d.Find(ctx, schema, target.NotesTable)
	if err != nil || found == nil {
		return nil, err
	}
	rows, err := d.c.QueryContext(ctx, "SELECT note FROM "+notesTable(schema)+" WHERE load_name = ? AND step >= ? ORDER BY step", load, from)
	if err != nil {
		return nil, d.fail("cannot read how far the load is", err)
	}
	defer rows.Close()
	for rows.Next() {
		var note string
		if err := rows.Scan(&note); err != nil {
			return nil, d.fail("cannot read how far the load is", err)
		}
		notes = append(notes, note)
	}
	if err := rows.Err(); err != nil {
		return nil, d.fail("cannot read how far the load is", err)
	}
	return notes, nil
}

// forget removes the load's notes.
func (l *load) forget(ctx context.Context) error {
	if _, err := l.d.c.ExecContext(ctx, "DELETE FROM "+notesTable(l.spec.Table.Schema)+" WHERE load_name = ?", l.spec.Steps); err != nil {
		return l.d.fail("cannot remove the notes of the load", err)
	}
	return nil
}

// tidy drops the table of notes if no load has any left. If that cannot be, it
// stays for the next.
func (d *DB) tidy(ctx context.Context, schema string) {
	if d.lockNotes(ctx) != nil {
		return
	}
	defer d.c.ExecContext(ctx, "DO release_lock(?)", notesLock)
	var n int64
	if err := d.c.QueryRowContext(ctx, "SELECT count(*) FROM "+notesTable(schema)).Scan(&n); err == nil && n == 0 {
		d.c.ExecContext(ctx, "DROP TABLE "+notesTable(schema))
	}
}
