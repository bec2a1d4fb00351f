package sqlite

import (
	"context"
	"strings"

	"ambertray/internal/db"
)

// Around implements db.Surveyor. Views are of the name here, and stay.
func (d *DB) Around(ctx context.Context, t *db.Table) (*db.Around, error) {
	q := d.questions()
	refers, err := q.Referrers(ctx, `SELECT '', name, id, group_concat(col, char(31)), group_concat(coalesce("to", ''), char(31)), min(on_delete), min(on_update) FROM (
		SELECT m.name, f.id, f.seq, f."from" AS col, f."to", f.on_delete, f.on_update FROM sqlite_schema m, pragma_foreign_key_list(m.name) f
		WHERE m.type = 'table' AND f."table" = ?1 COLLATE NOCASE AND m.name <> ?1 COLLATE NOCASE ORDER BY m.name, f.id, f.seq)
		GROUP BY name, id ORDER BY name, id`, t.Name)
	if err != nil {
		return nil, err
	}
	a := &db.Around{Referrers: refers}
	for i := range a.Referrers {
		// A key that names no columns refers to the primary key.
		if r := &a.Referrers[i]; strings.Join(r.To, "") == "" {
			r.To = t.PrimaryKey()
		}
	}
	const made = " FROM sqlite_schema WHERE tbl_name = ?1 COLLATE NOCASE AND type IN ('index', 'trigger') AND " +
		"sql IS NOT NULL ORDER BY type, name"
	if a.Goes, err = q.Hanging(ctx, []string{"SELECT type || ' ' || name" + made}, t.Name); err != nil {
		return nil, err
	}
	a.Again, err = q.Hanging(ctx, []string{"SELECT sql" + made}, t.Name)
	return a, err
}

// Attach implements db.Attacher.
func (l *load) Attach(ctx context.Context) error {
	return l.d.questions().Attach(ctx, l.spec.Again)
}

// KeepsKeys implements db.Keeper. Foreign keys are not heeded while a table that
// others refer to is refilled: also its own are looked at here.
func (l *load) KeepsKeys(ctx context.Context) error {
	q := l.d.questions()
	if err := q.Orphans(ctx, l.spec.Referrers, Dialect.Qualified(l.table.Schema, l.table.Name), ""); err != nil {
		return err
	}
	rows, err := q.Rows(ctx, "cannot look at the foreign keys",
		"SELECT rowid, parent FROM pragma_foreign_key_check(?1) LIMIT 1", l.table.Name)
	if err != nil {
		return err
	}
	if len(rows) > 0 && rows[0][1] != nil {
		return l.d.fail("a row refers to nothing in the table "+*rows[0][1]+"; where other tables refer to the "+
			"one that is refilled, such rows are not taken out singly", nil)
	}
	return nil
}

// Definition implements db.Definer.
func (d *DB) Definition(ctx context.Context, t *db.Table) ([]string, error) {
	return d.questions().Hanging(ctx, []string{"SELECT sql FROM sqlite_schema WHERE tbl_name = ?1 COLLATE NOCASE AND " +
		"sql IS NOT NULL ORDER BY type NOT IN ('table', 'view'), type, name"}, t.Name)
}
