package sqlite

import (
	"context"

	"ambertray/internal/db"
)

func (d *DB) notebook(schema, load string) db.Notebook {
	return db.Notebook{Questions: d.questions(), Schema: schema, Load: load}
}

func (l *load) notebook() db.Notebook { return l.d.notebook(l.spec.Home().Schema, l.spec.Steps) }

// Step implements db.Stepper.
func (l *load) Step(ctx context.Context, step int, note string) error {
	if err := l.notebook().Make(ctx); err != nil {
		return err
	}
	if err := l.notebook().Write(ctx, step, note); err != nil {
		return err
	}
	if err := l.d.c.exec("COMMIT"); err != nil {
		return l.d.fail("cannot commit", err)
	}
	l.d.created = false
	return l.d.lock()
}

// Notes implements db.Noter.
func (d *DB) Notes(ctx context.Context, schema, load string) (notes []string, err error) {
	found, err := d.Find(ctx, schema, db.NotesTable)
	if err != nil || found == nil {
		return nil, err
	}
	return d.notebook(schema, load).Read(ctx, 1)
}

// forget removes the load's notes, and their table if no other has any: nobody
// else can write now.
func (l *load) forget() error {
	ctx := context.Background()
	found, err := l.d.Find(ctx, l.spec.Table.Schema, db.NotesTable)
	if err != nil || found == nil {
		return err
	}
	if err := l.notebook().Forget(ctx); err != nil {
		return err
	}
	return l.notebook().DropEmpty(ctx)
}
