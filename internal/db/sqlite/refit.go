package sqlite

import (
	"context"
	"fmt"
	"strings"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
)

// refitTable is the table that takes the place of one whose definition changes.
const refitTable = "ambertray_refit"

type refit struct {
	d          *DB
	name       db.Name
	statements []string
	orphans    int64 // rows of the file whose foreign keys lead nowhere, before
}

const countOrphans = "SELECT count(*) FROM pragma_foreign_key_check"

// Refit implements db.Refitter. SQLite does not change columns: a table of the new
// definition takes the rows, and then the name (SQLite, "ALTER TABLE", section 7).
func (d *DB) Refit(ctx context.Context, t *db.Table, change *dialect.Redefinition) (db.Refit, error) {
	q := d.questions()
	// Neither can be set within a transaction.
	for _, sql := range []string{"PRAGMA foreign_keys = 0", "PRAGMA legacy_alter_table = 1"} {
		if err := q.Do(ctx, "cannot be set up", sql); err != nil {
			return nil, err
		}
	}
	if err := q.Do(ctx, "cannot begin a transaction", "BEGIN IMMEDIATE"); err != nil {
		return nil, err
	}
	r := &refit{d: d, name: db.Name{Table: t.Name}}
	err := r.plan(ctx, t, change)
	if err != nil {
		r.Rollback()
		return nil, err
	}
	return r, nil
}

// plan writes the statements.
func (r *refit) plan(ctx context.Context, t *db.Table, change *dialect.Redefinition) (err error) {
	q := r.d.questions()
	if r.orphans, err = q.Number(ctx, "cannot look at the foreign keys", countOrphans); err != nil {
		return err
	}
	rows, err := q.Rows(ctx, "cannot be read",
		"SELECT sql FROM sqlite_schema WHERE type = 'table' AND name = ?1 COLLATE "+
			"NOCASE", t.Name)
	if err != nil {
		return err
	}
	if len(rows) != 1 || rows[0][0] == nil || inside(*rows[0][0]) != inside(Dialect.Create(change.Was)[0]) {
		return r.d.fail("has another definition of the table than the plan had, and it would be lost: change it by "+
			"hand",
			nil)
	}
	around, err := r.d.Around(ctx, t)
	if err != nil {
		return err
	}
	made := change.Is
	made.Schema, made.Name, made.Indexes = "", refitTable, nil
	list := Dialect.List(t.Given())
	name, side := Dialect.Quote(t.Name), Dialect.Quote(refitTable)
	r.statements = append(Dialect.Create(made),
		fmt.Sprintf("INSERT INTO %s (%s) SELECT %[2]s FROM %s", side, list, name),
		"DROP TABLE "+name, "ALTER TABLE "+side+" RENAME TO "+name)
	r.statements = append(append(r.statements, around.Again...), change.NewIndexes(Dialect)...)
	return nil
}

// inside is a definition of a table without what stands before the parenthesis.
func inside(sql string) string {
	_, in, _ := strings.Cut(sql, "(\n")
	return in
}

// Statements implements db.Refit.
func (r *refit) Statements() []string { return r.statements }

// Apply implements db.Refit.
func (r *refit) Apply(ctx context.Context, fills []string) (db.Name, error) {
	q := r.d.questions()
	for _, list := range [][]string{fills, r.statements} {
		for _, sql := range list {
			first, _, _ := strings.Cut(sql, "\n")
			if err := q.Do(ctx, "refuses: "+strings.TrimSuffix(first, " ("), sql); err != nil {
				return r.name, err
			}
		}
	}
	n, err := q.Number(ctx, "cannot look at the foreign keys", countOrphans)
	if err == nil && n > r.orphans {
		err = r.d.fail(fmt.Sprintf("would have %d more rows that refer to nothing", n-r.orphans), nil)
	}
	return r.name, err
}

// Commit implements db.Refit.
func (r *refit) Commit(ctx context.Context) error {
	return r.d.questions().Do(ctx, "cannot commit", "COMMIT")
}

// Rollback implements db.Refit.
func (r *refit) Rollback() error {
	return r.d.rollback()
}
