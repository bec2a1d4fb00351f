package sqlserver

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
)

// Around implements db.Surveyor. Views stay, as names of what they are made of.
func (d *DB) Around(ctx context.Context, t *db.Table) (*db.Around, error) {
	q, name := d.questions(), d.name(t.Schema, t.Name)
	rows, err := q.Rows(ctx, "cannot see what hangs on the table", `SELECT SCHEMA_NAME(f.schema_id), OBJECT_NAME(f.parent_object_id),
		f.name, c.name, r.name, f.delete_referential_action_desc, f.update_referential_action_desc FROM sys.foreign_keys f
		JOIN sys.foreign_key_columns k ON k.constraint_object_id = f.object_id
		JOIN sys.columns c ON c.object_id = k.parent_object_id AND c.column_id = k.parent_column_id
		JOIN sys.columns r ON r.object_id = k.referenced_object_id AND r.column_id = k.referenced_column_id
		WHERE f.referenced_object_id = OBJECT_ID(@p1) AND f.parent_object_id <> f.referenced_object_id
		ORDER BY f.object_id, k.constraint_column_id`, name)
	if err != nil {
		return nil, err
	}
	var a db.Around
	for _, r := range rows {
		i := slices.IndexFunc(a.Referrers, func(x db.Reference) bool { return x.Name == *r[2] && x.Schema == *r[0] })
		if i < 0 {
			i = len(a.Referrers)
			a.Referrers = append(a.Referrers, db.Reference{Schema: *r[0], Table: *r[1], Name: *r[2],
				OnDelete: strings.ReplaceAll(*r[5], "_", " "), OnUpdate: strings.ReplaceAll(*r[6], "_", " ")})
		}
		a.Referrers[i].Columns = append(a.Referrers[i].Columns, *r[3])
		a.Referrers[i].To = append(a.Referrers[i].To, *r[4])
	}
	a.Goes, err = q.Hanging(ctx, []string{
		"SELECT N'index ' + name FROM sys.indexes WHERE object_id = OBJECT_ID(@p1) AND is_primary_key = 0 AND name " +
			"IS NOT NULL " +
			"ORDER BY name",
		"SELECT N'trigger ' + name FROM sys.triggers WHERE parent_id = OBJECT_ID(@p1) ORDER BY name",
		"SELECT N'constraint ' + name FROM sys.objects WHERE parent_object_id = OBJECT_ID(@p1) AND type IN ('C', " +
			"'F') " +
			"ORDER BY name",
		"SELECT DISTINCT N'grant of ' + permission_name FROM sys.database_permissions WHERE class = 1 AND major_id = " +
			"OBJECT_ID(@p1)",
		"SELECT DISTINCT CASE WHEN minor_id = 0 THEN N'comment of the table' ELSE N'comments of columns' END FROM " +
			"sys.extended_properties WHERE class = 1 AND major_id = OBJECT_ID(@p1)",
	}, name)
	if err != nil {
		return nil, err
	}
	a.Again, err = d.attachments(ctx, t)
	return &a, err
}

// attachments are the statements that make again what hangs on a table: constraints but the
// primary key, which is the plan's, indexes, triggers, grants and comments.
func (d *DB) attachments(ctx context.Context, t *db.Table) (out []string, err error) {
	q, name, quoted := d.questions(), d.name(t.Schema, t.Name), Dialect.Qualified(t.Schema, t.Name)
	text := strings.ReplaceAll(quoted, "'", "''")
	if out, err = q.Hanging(ctx, []string{"SELECT N'ALTER TABLE " + text + " WITH CHECK ADD CONSTRAINT ' + " +
		"QUOTENAME(name) + " +
		"N' CHECK ' + definition FROM sys.check_constraints WHERE parent_object_id = OBJECT_ID(@p1) ORDER BY " +
		"object_id"},
		name); err != nil {
		return nil, err
	}
	foreign, err := q.Rows(ctx, "cannot see what hangs on the table", `SELECT f.name, c.name, SCHEMA_NAME(p.schema_id), p.name, r.name,
		f.delete_referential_action_desc, f.update_referential_action_desc FROM sys.foreign_keys f
		JOIN sys.foreign_key_columns k ON k.constraint_object_id = f.object_id JOIN sys.tables p ON p.object_id = f.referenced_object_id
		JOIN sys.columns c ON c.object_id = k.parent_object_id AND c.column_id = k.parent_column_id
		JOIN sys.columns r ON r.object_id = k.referenced_object_id AND r.column_id = k.referenced_column_id
		WHERE f.parent_object_id = OBJECT_ID(@p1) ORDER BY f.object_id, k.constraint_column_id`, name)
	if err != nil {
		return nil, err
	}
	for i := 0; i < len(foreign); {
		f := foreign[i]
		var from, to []string
		for ; i < len(foreign) && *foreign[i][0] == *f[0]; i++ {
			from, to = append(from, quote(*foreign[i][1])), append(to, quote(*foreign[i][4]))
		}
		rule := func(s *string) string { return strings.ReplaceAll(*s, "_", " ") }
		out = append(out, fmt.Sprintf("ALTER TABLE %s WITH CHECK ADD CONSTRAINT %s FOREIGN KEY (%s) REFERENCES %s "+
			"(%s) "+
			"ON DELETE %s ON UPDATE %s", quoted, quote(*f[0]), strings.Join(from, ", "), Dialect.Qualified(*f[2],
			*f[3]),
			strings.Join(to, ", "), rule(f[5]), rule(f[6])))
	}
	keys, indexes, err := d.keysOf(ctx, name, quoted)
	if err != nil {
		return nil, err
	}
	for _, k := range keys {
		if !strings.HasPrefix(k, "PRIMARY") {
			out = append(out, "ALTER TABLE "+quoted+" ADD "+k)
		}
	}
	more, err := q.Hanging(ctx, []string{
		"SELECT m.definition FROM sys.triggers g JOIN sys.sql_modules m ON m.object_id = g.object_id WHERE " +
			"g.parent_id = " +
			"OBJECT_ID(@p1) ORDER BY g.object_id",
		"SELECT CASE p.state_desc WHEN 'DENY' THEN N'DENY ' ELSE N'GRANT ' END + p.permission_name + N' ON " + text +
			" TO ' + QUOTENAME(u.name) + CASE p.state_desc WHEN 'GRANT_WITH_GRANT_OPTION' THEN N' WITH GRANT " +
			"OPTION' ELSE N'' END " +
			"FROM sys.database_permissions p JOIN sys.database_principals u ON u.principal_id = " +
			"p.grantee_principal_id WHERE " +
			"p.class = 1 AND p.major_id = OBJECT_ID(@p1) AND p.minor_id = 0",
	}, name)
	if err != nil {
		return nil, err
	}
	return slices.Concat(out, indexes, more, comments(t.Schema, t.Name, t)), nil
}

// comments are the statements that give a table the comments of another.
func comments(schema, name string, of *db.Table) []string {
	said := dialect.Table{Schema: schema, Name: name, Comment: of.Comment}
	for _, c := range of.Columns {
		said.Columns = append(said.Columns, dialect.Column{Name: c.Name, Comment: c.Comment})
	}
	return Dialect.Comments(Dialect, said)
}

// Attach implements db.Attacher.
func (l *load) Attach(ctx context.Context) error { return l.d.questions().Attach(ctx, l.spec.Again) }

// empty takes all rows out of the table: by TRUNCATE, or by DELETE where that is not
// allowed. Where other tables refer to it, their constraints are off until the new rows are
// in, so that no rule of theirs acts; see KeepsKeys.
func (l *load) empty(ctx context.Context) error {
	if len(l.spec.Referrers) > 0 {
		for _, r := range l.spec.Referrers {
			if err := l.d.do(ctx, "cannot turn off what refers to the table", fmt.Sprintf("ALTER TABLE %s NOCHECK "+
				"CONSTRAINT %s",
				Dialect.Qualified(r.Schema, r.Table), quote(r.Name))); err != nil {
				return err
			}
		}
		return l.d.do(ctx, "cannot empty the table", "DELETE FROM "+l.table)
	}
	if err := l.d.do(ctx, "cannot go on", "SAVE TRANSACTION refill"); err != nil {
		return err
	}
	_, err := l.d.c.ExecContext(ctx, "TRUNCATE TABLE "+l.table)
	if m := asServer(err); m != nil && slices.Contains([]int32{4712, 1088, 4701, 229, 3729}, m.Number) {
		// A table of whose rows a key of its own refers to, or that only rows may be deleted of.
		if state, err := l.state(ctx); err != nil || state != 1 {
			return l.d.fail("cannot empty the table", *m)
		}
		if err := l.d.do(ctx, "cannot go on", "ROLLBACK TRANSACTION refill"); err != nil {
			return err
		}
		return l.d.do(ctx, "cannot empty the table", "DELETE FROM "+l.table)
	}
	if err != nil {
		return l.d.fail("cannot empty the table", err)
	}
	return nil
}

// KeepsKeys implements db.Keeper: what refers to the table is held against the new rows, and
// trusted again.
func (l *load) KeepsKeys(ctx context.Context) error {
	if err := l.d.questions().Orphans(ctx, l.spec.Referrers, l.table, ""); err != nil {
		return err
	}
	for _, r := range l.spec.Referrers {
		if err := l.d.do(ctx, "cannot turn on again what refers to the table", fmt.Sprintf(
			"ALTER TABLE %s WITH CHECK CHECK CONSTRAINT %s", Dialect.Qualified(r.Schema, r.Table),
			quote(r.Name))); err != nil {
			return err
		}
	}
	return nil
}

// definition is the statements that make a table with the structure of another: columns,
// defaults, keys, checks, indexes and comments. Foreign keys and triggers are not in it.
func (d *DB) definition(ctx context.Context, like db.Name, as dialect.Table) (out []string, err error) {
	name := d.name(like.Schema, like.Table)
	q := d.questions()
	found, columns, err := d.find(ctx, like.Schema, like.Table)
	if err != nil {
		return nil, err
	}
	if found == nil {
		return nil, d.fail("does not have the table "+like.Table, nil)
	}
	extra, err := q.Rows(ctx, "cannot be read", `SELECT c.name, k.definition, p.definition, CASE WHEN p.is_persisted = 1 THEN ' PERSISTED'
		ELSE '' END, i.seed_value, i.increment_value FROM sys.columns c
		LEFT JOIN sys.default_constraints k ON k.parent_object_id = c.object_id AND k.parent_column_id = c.column_id
		LEFT JOIN sys.computed_columns p ON p.object_id = c.object_id AND p.column_id = c.column_id
		LEFT JOIN sys.identity_columns i ON i.object_id = c.object_id AND i.column_id = c.column_id
		WHERE c.object_id = OBJECT_ID(@p1) ORDER BY c.column_id`, name)
	if err != nil {
		return nil, err
	}
	var lines []string
	for i, c := range columns {
		x := extra[i]
		line := quote(c.Column.Name) + " "
		switch {
		case x[2] != nil:
			line += "AS " + *x[2] + *x[3]
		default:
			if line += c.Type; c.collation != "" {
				line += " COLLATE " + c.collation
			}
			if x[4] != nil {
				line += fmt.Sprintf(" IDENTITY(%s,%s)", *x[4], *x[5])
			}
			if x[1] != nil {
				line += " DEFAULT " + *x[1]
			}
			line += map[bool]string{true: " NOT NULL", false: " NULL"}[c.Required]
		}
		lines = append(lines, "    "+line)
	}
	keys, indexes, err := d.keysOf(ctx, name, Dialect.Qualified(as.Schema, as.Name))
	if err != nil {
		return nil, err
	}
	checks, err := q.Hanging(ctx, []string{"SELECT N'CHECK ' + definition FROM sys.check_constraints WHERE " +
		"parent_object_id = " +
		"OBJECT_ID(@p1) AND is_disabled = 0 ORDER BY object_id"}, name)
	if err != nil {
		return nil, err
	}
	for _, k := range append(keys, checks...) {
		lines = append(lines, "    "+k)
	}
	out = append([]string{fmt.Sprintf("CREATE TABLE %s (\n%s\n)", Dialect.Qualified(as.Schema, as.Name),
		strings.Join(lines, ",\n"))}, indexes...)
	for _, c := range columns {
		found.Columns = append(found.Columns, c.Column)
	}
	return append(out, comments(as.Schema, as.Name, found)...), nil
}

// keysOf are the keys of a table as lines of a definition, and its indexes as statements
// about another.
func (d *DB) keysOf(ctx context.Context, name, as string) (keys, indexes []string, err error) {
	rows, err := d.questions().Rows(ctx, "cannot be read", `SELECT x.name, CASE WHEN x.is_primary_key = 1 THEN 'PRIMARY KEY'
		WHEN x.is_unique_constraint = 1 THEN 'UNIQUE' WHEN x.is_unique = 1 THEN 'UNIQUE INDEX' ELSE 'INDEX' END, c.name
		FROM sys.indexes x JOIN sys.index_columns i ON i.object_id = x.object_id AND i.index_id = x.index_id
		JOIN sys.columns c ON c.object_id = i.object_id AND c.column_id = i.column_id
		WHERE x.object_id = OBJECT_ID(@p1) AND x.type IN (1, 2) AND i.is_included_column = 0 AND x.has_filter = 0
		ORDER BY x.index_id, i.key_ordinal`, name)
	if err != nil {
		return nil, nil, err
	}
	for i := 0; i < len(rows); {
		kind, from := *rows[i][1], i
		var cols []string
		for ; i < len(rows) && *rows[i][0] == *rows[from][0]; i++ {
			cols = append(cols, quote(*rows[i][2]))
		}
		list := " (" + strings.Join(cols, ", ") + ")"
		if strings.HasSuffix(kind, "INDEX") {
			indexes = append(indexes, fmt.Sprintf("CREATE %s %s ON %s%s", kind, quote(*rows[from][0]), as, list))
		} else {
			keys = append(keys, kind+list)
		}
	}
	return keys, indexes, nil
}

// Definition implements db.Definer.
func (d *DB) Definition(ctx context.Context, t *db.Table) ([]string, error) {
	out, err := d.definition(ctx, db.Name{Schema: t.Schema, Table: t.Name}, dialect.Table{Schema: t.Schema,
		Name: t.Name})
	if err != nil {
		return nil, err
	}
	around, err := d.Around(ctx, t)
	if err != nil {
		return nil, err
	}
	return append(out, around.Again...), nil
}
