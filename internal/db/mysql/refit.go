package mysql

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strings"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
)

type refit struct {
	d           *DB
	table, side db.Name
	parts       string   // of ALTER TABLE
	keys        []string // references, which a copy is made without
	columns     string   // that are given, quoted
	fills       []string
}

// Refit implements db.Refitter. A definition is committed at once here: so the change is
// made of a copy first, and of the table only if what came of that is right. Both are
// locked all the while.
func (d *DB) Refit(ctx context.Context, t *db.Table, change *dialect.Redefinition) (db.Refit, error) {
	r := &refit{d: d, table: db.Name{Schema: t.Schema, Table: t.Name},
		side: db.Name{Schema: t.Schema, Table: db.NewSide(t.Schema, t.Name)}}
	r.change(change)
	r.columns = Dialect.List(t.Given())
	var got sql.NullInt64
	if err := d.c.QueryRowContext(ctx, "SELECT get_lock(?, 0)", lockOf(r.side.Table)).Scan(&got); err != nil ||
		got.Int64 != 1 {
		return nil, d.fail("cannot mark the work as running", err)
	}
	for _, s := range []string{"CREATE TABLE " + r.quoted(r.side) + " LIKE " + r.quoted(r.table),
		fmt.Sprintf("LOCK TABLES %s WRITE, %s WRITE", r.quoted(r.table), r.quoted(r.side))} {
		if err := d.questions().Do(ctx, "cannot make a copy of the table", s); err != nil {
			r.Rollback()
			return nil, err
		}
	}
	return r, nil
}

func (r *refit) quoted(n db.Name) string { return Dialect.Qualified(n.Schema, n.Table) }

// change writes the parts of the statement.
func (r *refit) change(change *dialect.Redefinition) {
	var parts []string
	if change.Key && len(change.Was.Key) > 0 {
		parts = append(parts, "DROP PRIMARY KEY")
	}
	for _, x := range change.Columns {
		parts = append(parts, "MODIFY "+quote(x.Is.Name)+" "+change.Modified(Dialect, x))
	}
	for _, c := range change.Constraints(Dialect) {
		if strings.HasPrefix(c, "FOREIGN KEY") {
			r.keys = append(r.keys, "ADD "+c)
			continue
		}
		parts = append(parts, "ADD "+c)
	}
	if change.Comment {
		parts = append(parts, "COMMENT = "+mysqlString(clipRunes(change.Is.Comment, 2048)))
	}
	r.parts = strings.Join(parts, ",\n    ")
}

// Statements implements db.Refit.
func (r *refit) Statements() (out []string) {
	for _, s := range []string{r.parts, strings.Join(r.keys, ",\n    ")} {
		if s != "" {
			out = append(out, "ALTER TABLE "+r.quoted(r.table)+"\n    "+s)
		}
	}
	return out
}

// Apply implements db.Refit.
func (r *refit) Apply(ctx context.Context, fills []string) (db.Name, error) {
	q, side := r.d.questions(), r.quoted(r.side)
	r.fills = fills
	steps := []string{fmt.Sprintf("INSERT INTO %s (%s) SELECT %[2]s FROM %s", side, r.columns, r.quoted(r.table))}
	for _, f := range fills {
		steps = append(steps, strings.Replace(f, r.quoted(r.table), side, 1))
	}
	if r.parts != "" {
		steps = append(steps, "ALTER TABLE "+side+" "+r.parts)
	}
	for _, s := range steps {
		if err := q.Do(ctx, "refuses the change", s); err != nil {
			return r.side, err
		}
	}
	return r.side, nil
}

// Commit implements db.Refit.
func (r *refit) Commit(ctx context.Context) error {
	q := r.d.questions()
	for i, s := range slices.Concat(r.fills, r.Statements()) {
		err := r.d.sent(ctx, "cannot make the change", s)
		if err != nil && (i > 0 || db.IsUnsure(err)) {
			return &db.Unsure{Err: fmt.Errorf("a part of the change is made at most: %w", err)}
		}
		if err != nil {
			return err
		}
	}
	if len(r.fills) > 0 {
		if err := q.Do(ctx, "cannot commit", "COMMIT"); err != nil {
			return &db.Unsure{Err: err}
		}
	}
	return r.end(ctx)
}

// Rollback implements db.Refit.
func (r *refit) Rollback() error { return r.end(context.Background()) }

// end lets go of the table, and takes the copy away.
func (r *refit) end(ctx context.Context) error {
	if r.side.Table == "" {
		return nil
	}
	q := r.d.questions()
	err := q.Do(ctx, "cannot let go of the table", "UNLOCK TABLES")
	if err == nil {
		err = q.Do(ctx, "cannot remove the copy", "DROP TABLE IF EXISTS "+r.quoted(r.side))
	}
	_, _ = r.d.c.ExecContext(ctx, "DO release_lock(?)", lockOf(r.side.Table))
	r.side.Table = ""
	return err
}
