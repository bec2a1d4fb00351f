package sqlite

import (
	"context"
	"fmt"
	"strings"

	"ambertray/internal/dialect"
	"ambertray/internal/target"
)

func notesTable(schema string) string {
	return dialect.SQLite.Qualified(schema, target.NotesTable)
}

// Step implements target.Stepper.
func (l *load) Step(ctx context.Context, step int, note string) error {
	d, schema := l.d, l.spec.Table.Schema
	create := strings.Replace(dialect.SQLite.Create(target.Notes(schema))[0], "CREATE TABLE", "CREATE TABLE IF NOT EXISTS", 1)
	if err := d.c.exec(create); err != nil {
		return d.fail("cannot make the table "+target.NotesTable, err)
	}
	if err := d.c.exec(fmt.Sprintf("INSERT INTO %s VALUES (?, %d, ?)", notesTable(schema), step), l.spec.Steps, note); err != nil {
		return d.fail("cannot note how far the load is", err)
	}
	if err := d.c.exec("COMMIT"); err != nil {
		return d.fail("cannot commit", err)
	}
	d.created = false
	if err := d.c.exec("BEGIN IMMEDIATE"); err != nil {
		return d.fail("cannot begin a transaction", err)
	}
	return nil
}

// Notes implements target.Noter.
func (d *DB) Notes(ctx context.Context, schema, load string) (notes []string, err error) {
	found, err := d.Find(ctx, schema, target.NotesTable)
	if err != nil || found == nil {
		return nil, err
	}
	s, err := d.c.prepare("SELECT note FROM " + notesTable(schema) + " WHERE load_name = ? ORDER BY step")
	if err != nil {
		return nil, d.fail("cannot read how far the load is", err)
	}
	defer s.close()
	if err := s.bindString(1, load); err != nil {
		return nil, d.fail("cannot read how far the load is", err)
	}
	for {
		row, err := s.step()
		if err != nil {
			return nil, d.fail("cannot read how far the load is", err)
		}
		if !row {
			return notes, nil
		}
		notes = append(notes, string(s.text(0)))
	}
}

// forget removes the load's notes, and their table if no other has any: nobody
// else can write now.
func (l *load) forget() error {
	d, schema := l.d, l.spec.Table.Schema
	found, err := d.Find(context.Background(), schema, target.NotesTable)
	if err != nil || found == nil {
		return err
	}
	if err := d.c.exec("DELETE FROM "+notesTable(schema)+" WHERE load_name = ?", l.spec.Steps); err != nil {
		return d.fail("cannot remove the notes of the load", err)
	}
	n, err := d.count(schema, target.NotesTable)
	if err != nil || n > 0 {
		return err
	}
	if err := d.c.exec("DROP TABLE " + notesTable(schema)); err != nil {
		return d.fail("cannot remove the notes of the load", err)
	}
	return nil
}
