package oracle

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
)

// takeName gives the side table the name of the table.
func (l *load) takeName(ctx context.Context) error {
	names, old, err := l.renamings(ctx)
	if err != nil {
		return err
	}
	if _, err := l.d.c.ExecContext(ctx, l.d.renamed(names)); err != nil {
		err = l.d.renamingFailed(err)
		l.unsure = db.IsUnsure(err)
		return err
	}
	return l.named(ctx, old)
}

// renamings are those that give the side table its name, and the name that a table which is
// replaced gets, if there is one.
func (l *load) renamings(ctx context.Context) (list []renaming, old string, err error) {
	t := l.spec.Table
	if old, err = l.replaced(ctx); err != nil {
		return nil, "", err
	}
	if old != "" {
		list = []renaming{{t.Schema, t.Name, old}}
	}
	return append(list, renaming{t.Schema, l.side, t.Name}), old, nil
}

// named does what is left to do when the side table has its name.
func (l *load) named(ctx context.Context, old string) error {
	d, t, side := l.d, l.spec.Table, l.side
	l.side, l.table = "", l.final
	d.unlock(t.Schema, lockOf(side))
	var left error
	if old != "" {
		if err := d.do(ctx, "has the new table, and the one it replaced is left as "+old, "DROP TABLE "+
			Dialect.Qualified(t.Schema, old)); err != nil {
			left = &db.Left{Err: err}
		}
	}
	l.renameIndexes(ctx, side)
	if err := d.Ledger(t.Schema).Write(ctx, l.record); err != nil {
		return &db.Error{Where: d.where, What: "has the new table, but the ledger does not say so", Err: err}
	}
	return left
}

// rename gives a table another name.
func (d *DB) rename(ctx context.Context, schema, from, to string) error {
	_, err := d.c.ExecContext(ctx, renaming{schema, from, to}.sql())
	return err
}

// renamingFailed is what a failed renaming means: without an answer, it may have come to be.
func (d *DB) renamingFailed(err error) error {
	failed := d.fail("cannot give the table its name", err)
	if asServer(err) == nil {
		return &db.Unsure{Err: failed}
	}
	if is(err, 955) {
		failed.(*db.Error).Do = "somebody has made a table of this name meanwhile; look at it, and load again"
	}
	return failed
}

// replaced is the name that a table which is replaced gets, if there is one, and it can still
// be replaced: what it is, and who refers to it, was asked before the first row.
func (l *load) replaced(ctx context.Context) (string, error) {
	if l.spec.Mode != db.Replace {
		return "", nil
	}
	f, err := l.d.find(ctx, l.spec.Table.Schema, l.spec.Table.Name)
	if err != nil || f == nil {
		return "", err
	}
	fail := func(what string) (string, error) {
		return "", &db.Error{Where: l.d.where, What: l.final + " " + what + " while the load ran",
			Do: "look who did that, and load again"}
	}
	if f.View {
		return fail("became a view")
	}
	around, err := l.d.Around(ctx, f.Table)
	if err != nil {
		return "", err
	}
	if len(around.Referrers) > 0 {
		return fail("came to be referred to by " + around.Referrers[0].String())
	}
	return l.side + "_old", nil
}

// renameIndexes gives the indexes of the table the names that they would have had. What fails
// leaves them with those of the side table.
func (l *load) renameIndexes(ctx context.Context, side string) {
	t := l.spec.Table
	for _, x := range t.Indexes {
		from := Dialect.IndexName(side, x)
		l.d.c.ExecContext(ctx, fmt.Sprintf("ALTER INDEX %s RENAME TO %s", Dialect.Qualified(t.Schema, from),
			quote(Dialect.IndexName(t.Name, x))))
	}
}

// Side implements [db.Sider].
func (l *load) Side() string { return cmp.Or(l.side, l.spec.Table.Name) }

// sweep removes side tables whose load has died, of whatever table in the same schema, and
// gives back the name of a table whose replacing was cut in two. The server may still be
// rolling back one of the same table; ten seconds are given to that.
func (d *DB) sweep(ctx context.Context, schema, table string) error {
	stale, err := d.sides(ctx, schema)
	if err != nil {
		return err
	}
	prefix := db.SideNames(d.owner(schema), catalogued(table))
	for _, n := range stale {
		own := strings.HasPrefix(n, prefix)
		if err := d.restore(ctx, schema, table, n, own); err != nil && own { // of others, not everybody may
			return err
		}
	}
	return nil
}

// sides are the side tables of a schema, and the tables that they replace.
func (d *DB) sides(ctx context.Context, schema string) (out []string, err error) {
	rows, err := d.questions().Rows(ctx, "cannot list tables", "SELECT table_name FROM all_tables WHERE owner "+
		"= :1 AND table_name LIKE 'AMBERTRAY\\_%' ESCAPE '\\'", d.owner(schema))
	for _, r := range rows {
		if n := shown(*r[0]); db.IsSide.MatchString(n) {
			out = append(out, n)
		}
	}
	slices.Sort(out) // a table that is replaced behind its side table
	return out, err
}

// restore takes away what a load that has died left as a side table. A table that was to be
// replaced, and lost its name, gets it back.
func (d *DB) restore(ctx context.Context, schema, table, side string, own bool) error {
	var wait time.Duration
	if own {
		wait = lockWait / 3
	}
	if d.holds(schema, lockOf(side)) {
		return nil // it is this session's own
	}
	if got, err := d.tryLock(ctx, schema, lockOf(side), wait); err != nil || !got {
		return err
	}
	defer d.unlock(schema, lockOf(side))
	f, err := d.find(ctx, schema, side)
	if err != nil || f == nil {
		return err
	}
	if strings.HasSuffix(side, "_old") {
		if !own {
			return nil // whose it was, its own next load knows
		}
		there, err := d.find(ctx, schema, table)
		if err != nil {
			return err
		}
		if there == nil {
			if err := d.rename(ctx, schema, side, table); err != nil {
				return d.fail("cannot give back the name of a table that was to be replaced", err)
			}
			return nil
		}
	}
	return d.do(ctx, "cannot remove what a stopped load left", "DROP TABLE "+Dialect.Qualified(schema, side)+" PURGE")
}

// definition is the statements that make a table with the structure of another: columns,
// defaults, keys, checks, indexes and comments. Foreign keys and triggers are not in it.
func (d *DB) definition(ctx context.Context, like db.Name, as dialect.Table) (out []string, err error) {
	f, err := d.find(ctx, like.Schema, like.Table)
	if err != nil {
		return nil, err
	}
	if f == nil {
		return nil, d.fail("does not have the table "+like.Table, nil)
	}
	q, owner, name := d.questions(), d.owner(like.Schema), catalogued(like.Table)
	defaults := map[string]string{}
	rows, err := q.Rows(ctx, "cannot be read", "SELECT column_name, data_default FROM all_tab_cols WHERE "+
		"owner = :1 AND table_name = :2 AND default_length > 0", owner, name)
	if err != nil {
		return nil, err
	}
	for _, r := range rows {
		if r[1] != nil {
			defaults[shown(*r[0])] = *r[1]
		}
	}
	var lines []string
	for _, c := range f.Columns {
		line := quote(c.Name) + " " + c.Type
		switch {
		case f.column(c.Name).always:
			line += " GENERATED ALWAYS AS IDENTITY"
		case c.Identity:
			line += " GENERATED BY DEFAULT AS IDENTITY"
		case c.Generated:
			line += " GENERATED ALWAYS AS (" + defaults[c.Name] + ")"
		case defaults[c.Name] != "":
			line += " DEFAULT " + defaults[c.Name]
		}
		if c.Required && !c.Identity && c.Key == 0 {
			line += " NOT NULL"
		}
		lines = append(lines, "    "+line)
	}
	keys, err := d.keysOf(ctx, owner, name)
	if err != nil {
		return nil, err
	}
	checks, err := q.Hanging(ctx, []string{"SELECT 'CHECK (' || k.search_condition_vc || ')' FROM all_constraints k " +
		"WHERE k.owner = :1 AND k.table_name = :2 AND k.status = 'ENABLED' AND " + isCheck}, owner, name)
	if err != nil {
		return nil, err
	}
	for _, k := range append(keys, checks...) {
		lines = append(lines, "    "+k)
	}
	out = []string{fmt.Sprintf("CREATE TABLE %s (\n%s\n)", Dialect.Qualified(as.Schema, as.Name),
		strings.Join(lines, ",\n"))}
	said := dialect.Table{Schema: as.Schema, Name: as.Name, Comment: f.Comment}
	for _, c := range f.Columns {
		said.Columns = append(said.Columns, dialect.Column{Name: c.Name, Comment: c.Comment})
	}
	indexes, err := d.indexesOf(ctx, owner, name, as)
	return slices.Concat(out, indexes, Dialect.Comments(Dialect, said)), err
}

// indexesOf are the indexes of a table that no key has made, as statements about another.
func (d *DB) indexesOf(ctx context.Context, owner, name string, as dialect.Table) (out []string, err error) {
	rows, err := d.questions().Rows(ctx, "cannot be read", `SELECT i.index_name, i.uniqueness, c.column_name
		FROM all_indexes i JOIN all_ind_columns c ON c.index_owner = i.owner AND c.index_name = i.index_name
		WHERE i.table_owner = :1 AND i.table_name = :2 AND i.index_type = 'NORMAL' AND NOT EXISTS (SELECT 1
		FROM all_constraints k WHERE k.owner = i.table_owner AND k.index_name = i.index_name)
		ORDER BY i.index_name, c.column_position`, owner, name)
	if err != nil {
		return nil, err
	}
	grouped(rows, func(index, unique string, cols []string) {
		kind, own := "INDEX", shown(index)
		if unique == "UNIQUE" {
			kind = "UNIQUE INDEX"
		}
		if catalogued(as.Name) != name { // a name is the schema's
			own = Dialect.IndexName(as.Name, cols)
		}
		out = append(out, fmt.Sprintf("CREATE %s %s ON %s (%s)", kind, Dialect.Qualified(as.Schema, own),
			Dialect.Qualified(as.Schema, as.Name), Dialect.List(cols)))
	})
	return out, nil
}

// grouped takes rows of a name, a kind and a column together by the name.
func grouped(rows [][]*string, each func(name, kind string, cols []string)) {
	for i := 0; i < len(rows); {
		first := rows[i]
		var cols []string
		for ; i < len(rows) && *rows[i][0] == *first[0]; i++ {
			cols = append(cols, shown(*rows[i][2]))
		}
		each(*first[0], *first[1], cols)
	}
}

// keysOf are the keys of a table as lines of a definition.
func (d *DB) keysOf(ctx context.Context, owner, name string) (out []string, err error) {
	rows, err := d.questions().Rows(ctx, "cannot be read", `SELECT k.constraint_name, k.constraint_type, x.column_name
		FROM all_constraints k JOIN all_cons_columns x ON x.owner = k.owner AND x.constraint_name = k.constraint_name
		WHERE k.owner = :1 AND k.table_name = :2 AND k.constraint_type IN ('P', 'U')
		ORDER BY k.constraint_type, k.constraint_name, x.position`, owner, name)
	if err != nil {
		return nil, err
	}
	grouped(rows, func(_, kind string, cols []string) {
		out = append(out, map[string]string{"P": "PRIMARY KEY", "U": "UNIQUE"}[kind]+" ("+Dialect.List(cols)+")")
	})
	return out, nil
}

// Definition implements db.Definer.
func (d *DB) Definition(ctx context.Context, t *db.Table) ([]string, error) {
	return d.definition(ctx, db.Name{Schema: t.Schema, Table: t.Name}, dialect.Table{Schema: t.Schema, Name: t.Name})
}
