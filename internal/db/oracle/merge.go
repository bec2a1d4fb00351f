package oracle

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/sink"
	"ambertray/internal/sqltype"
	"ambertray/internal/tally"
)

// A staging is the tables of a merge: ordinary ones here, in the user's own schema, under the
// names of side tables, so that what a load leaves that has died is swept like those. They are
// made before the transaction and dropped behind it, for a definition commits.
type staging struct{ stage, changes string }

// Stage implements db.Merger.
func (d *DB) Stage(ctx context.Context, t *db.Table, m *dialect.Merge) (*db.Table, error) {
	f, err := d.find(ctx, t.Schema, t.Name)
	if err != nil {
		return nil, err
	}
	if f == nil {
		return nil, d.fail("does not have the table "+t.Name, nil)
	}
	if err := d.mergeable(f, m); err != nil {
		return nil, err
	}
	if d.tx == nil {
		if err := d.sweep(ctx, "", t.Name); err != nil {
			return nil, err
		}
	}
	side := db.NewSide(d.owner(""), catalogued(t.Name))
	if _, err := d.tryLock(ctx, "", lockOf(side), 0); err != nil {
		return nil, err
	}
	s := staging{side, side + db.ChangesEnd}
	d.staged = append(d.staged, s)
	m.Number, m.Stage, m.Changes = quote(db.StageNumber), quote(s.stage), quote(s.changes)
	// Their columns have the table's types, and take nulls.
	for _, sql := range m.Definitions("NUMBER(19)", "NUMBER(19)", "VARCHAR2(10 CHAR)", quote(s.changes+"_idx"),
		func(name, as string) string {
			at := slices.IndexFunc(f.Columns, func(c db.Column) bool { return c.Name == name })
			return as + " " + f.Columns[at].Type
		}) {
		if err := d.define(ctx, db.CannotStage, sql); err != nil {
			return nil, err
		}
	}
	m.Quiet, err = d.quiet(ctx, t)
	return &db.Table{Name: s.stage}, err
}

// mergeable refuses what the statements of a merge cannot do here.
func (d *DB) mergeable(f *found, m *dialect.Merge) error {
	no := func(what, do string) error { return &db.Error{Where: d.where, What: what, Do: do} }
	for _, c := range m.Columns {
		own := f.column(c.Name)
		if own == nil {
			return d.fail("has no column "+c.Name, nil)
		}
		if !strings.HasSuffix(own.typ, "LOB") {
			continue
		}
		if len(m.Key) == 0 {
			return no(fmt.Sprintf("rows of %s cannot be known by all of their values: %s is a %s, which is not "+
				"compared with others", f.Name, c.Name, strings.ToLower(own.typ)),
				"say by which columns rows are known: --key; nothing was changed")
		}
		if m.IsKey(c.Name) {
			return no(fmt.Sprintf("the column %s is a %s, and rows cannot be known by it", c.Name,
				strings.ToLower(own.typ)), "name other columns with --key; nothing was changed")
		}
	}
	return nil
}

// define runs a definition. Where a transaction is open, which it would commit, another
// session does.
func (d *DB) define(ctx context.Context, what, statement string) error {
	if d.tx == nil {
		return d.do(ctx, what, statement)
	}
	c, err := d.session(ctx)
	if err != nil {
		return err
	}
	defer c.Close()
	if _, err := c.ExecContext(ctx, statement); err != nil {
		return d.fail(what, err)
	}
	return nil
}

// quiet reports whether nothing but a statement itself changes rows of a table: it has no
// triggers, and no key to itself. Of a table of others, not everybody sees the triggers.
func (d *DB) quiet(ctx context.Context, t *db.Table) (bool, error) {
	owner, name := d.owner(t.Schema), catalogued(t.Name)
	loud, err := d.questions().Number(ctx, "cannot be read", `SELECT
		(SELECT count(*) FROM all_triggers WHERE table_owner = :1 AND table_name = :2) +
		(SELECT count(*) FROM all_constraints k JOIN all_constraints p ON p.owner = k.r_owner
		AND p.constraint_name = k.r_constraint_name WHERE k.constraint_type = 'R' AND k.owner = :3
		AND k.table_name = :4 AND p.owner = k.owner AND p.table_name = k.table_name) +
		CASE WHEN USER = :5 THEN 0 ELSE 1 END FROM dual`, owner, name, owner, name, owner)
	return loud == 0, err
}

// Affect implements db.Merger.
func (d *DB) Affect(ctx context.Context, sql string) (int64, error) {
	res, err := d.c.ExecContext(ctx, sql)
	if err != nil {
		return 0, err
	}
	return affected(ctx, res)
}

// Within implements db.Merger.
func (d *DB) Within() db.Questions { return d.questions() }

// Blames implements db.Merger.
func (d *DB) Blames(err error) *sink.Refusal {
	m := asServer(err)
	if m == nil || !aboutRows(m.ErrCode) {
		return nil
	}
	r := refusal(0, said(m))
	return &r
}

// TallyFrom implements db.Merger.
func (d *DB) TallyFrom(ctx context.Context, from string, columns []dialect.Column, loose []bool) (int64,
	[]tally.Tally, error) {
	var names []string
	for _, c := range columns {
		names = append(names, quote(c.Name))
	}
	types, err := d.Describe(ctx, "SELECT "+strings.Join(names, ", ")+" FROM "+from)
	if err != nil {
		return 0, nil, err
	}
	return d.tally(ctx, from, columns, loose, func(name string) (fixed, large bool) {
		at := slices.IndexFunc(columns, func(c dialect.Column) bool { return c.Name == name })
		t := types[at].SQL
		return t.Kind == sqltype.Char, t.Kind == sqltype.Text
	})
}

// Unstage implements db.Merger. As long as a transaction is open that has rows in them, the
// tables stay: they go when it ends.
func (d *DB) Unstage(ctx context.Context) {
	if d.tx != nil {
		return
	}
	for _, s := range d.staged {
		for _, t := range []string{s.changes, s.stage} {
			// What stays here is swept by the next load.
			d.c.ExecContext(ctx, "DROP TABLE "+quote(t)+" PURGE")
		}
		d.unlock("", lockOf(s.stage))
	}
	d.staged = nil
}

// Place implements db.Placed.
func (d *DB) Place(*db.Table) string { return "ROWID" }
