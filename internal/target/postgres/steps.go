package postgres

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"ambertray/internal/dialect"
	"ambertray/internal/target"
)

func notesTable(schema string) string {
	return dialect.Postgres.Qualified(schema, target.NotesTable)
}

// Step implements target.Stepper.
func (l *load) Step(ctx context.Context, step int, note string) error {
	schema := l.spec.Table.Schema
	// Who may not create tables can have it made beforehand.
	is, err := l.d.hasNotes(ctx, l.tx, schema)
	if err != nil {
		return err
	}
	if !is {
		create := strings.Replace(dialect.Postgres.Create(target.Notes(schema))[0], "CREATE TABLE", "CREATE TABLE IF NOT EXISTS", 1)
		if _, err := l.tx.Exec(ctx, create); err != nil {
			return l.d.fail("cannot make the table "+target.NotesTable, err)
		}
	}
	if _, err := l.tx.Exec(ctx, fmt.Sprintf("INSERT INTO %s VALUES ($1, $2, $3)", notesTable(schema)), l.spec.Steps, step, note); err != nil {
		return l.d.fail("cannot note how far the load is", err)
	}
	if err := l.tx.Commit(ctx); err != nil {
		return l.d.fail("cannot commit", err)
	}
	l.spec.Going = true
	return l.begin(ctx)
}

// claim makes this session the only one at a load.
func (d *DB) claim(ctx context.Context, load string) error {
	for _, sql := range []string{"SET lock_timeout = '30s'", "SELECT pg_advisory_lock(hashtextextended('ambertray ' || $1, 0))", "RESET lock_timeout"} {
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

// Notes implements target.Noter.
func (d *DB) Notes(ctx context.Context, schema, load string) ([]string, error) {
	if err := d.claim(ctx, load); err != nil {
		return nil, err
	}
	if is, err := d.hasNotes(ctx, d.c, schema); err != nil || !is {
		return nil, err
	}
	rows, err := d.c.Query(ctx, fmt.Sprintf("SELECT note FROM %s WHERE load_name = $1 ORDER BY step", notesTable(schema)), load)
	if err != nil {
		return nil, d.fail("cannot read how far the load is", err)
	}
	notes, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		return nil, d.fail("cannot read how far the load is", err)
	}
	return notes, nil
}

// asker is a connection or a transaction.
type asker interface {
	QueryRow(ctx context.Context, sql string, args ...any) pgx.Row
}

func (d *DB) hasNotes(ctx context.Context, c asker, schema string) (is bool, err error) {
	if err = c.QueryRow(ctx, "SELECT to_regclass($1) IS NOT NULL", notesTable(schema)).Scan(&is); err != nil {
		err = d.fail("cannot see how far the load is", err)
	}
	return
}

// forget removes the load's notes.
func (l *load) forget(ctx context.Context) error {
	schema := l.spec.Table.Schema
	is, err := l.d.hasNotes(ctx, l.tx, schema)
	if err != nil || !is {
		return err
	}
	if _, err := l.tx.Exec(ctx, fmt.Sprintf("DELETE FROM %s WHERE load_name = $1", notesTable(schema)), l.spec.Steps); err != nil {
		return l.d.fail("cannot remove the notes of the load", err)
	}
	return nil
}

// tidy drops the table of notes if no load has any left and none is at it. If
// that cannot be, it stays for the next.
func (d *DB) tidy(ctx context.Context, schema string) {
	tx, err := d.c.Begin(ctx)
	if err != nil {
		return
	}
	defer tx.Rollback(ctx)
	name := notesTable(schema)
	var some bool
	if is, err := d.hasNotes(ctx, tx, schema); err != nil || !is {
		return
	}
	if _, err := tx.Exec(ctx, "LOCK TABLE "+name+" IN ACCESS EXCLUSIVE MODE NOWAIT"); err != nil {
		return
	}
	if err := tx.QueryRow(ctx, "SELECT EXISTS (SELECT FROM "+name+")").Scan(&some); err != nil || some {
		return
	}
	if _, err := tx.Exec(ctx, "DROP TABLE "+name); err == nil {
		tx.Commit(ctx)
	}
}
