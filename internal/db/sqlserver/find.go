package sqlserver

import (
	"context"
	"database/sql"
	"slices"
	"strings"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/reading"
)

// A column is one of a table, with all that its values on the wire depend on.
type column struct {
	db.Column
	declared
	collation string
}

// columnOf is where a column of a name is; -1: nowhere.
func columnOf(columns []column, name string) int {
	return slices.IndexFunc(columns, func(c column) bool { return c.Column.Name == name })
}

// Find describes a table or view.
func (d *DB) Find(ctx context.Context, schema, table string) (*db.Table, error) {
	t, columns, err := d.find(ctx, schema, table)
	if t != nil {
		for _, c := range columns {
			t.Columns = append(t.Columns, c.Column)
		}
	}
	return t, err
}

// find is Find with the types on the wire. A name that is locked by another session's
// definition is waited for.
func (d *DB) find(ctx context.Context, schema, table string) (*db.Table, []column, error) {
	t := &db.Table{Schema: schema, Name: table}
	fail := func(err error) (*db.Table, []column, error) { return nil, nil, d.fail("cannot be read", err) }
	var id int64
	var kind string
	var comment sql.NullString
	err := d.c.QueryRowContext(ctx, `SELECT o.object_id, o.type, CAST(p.value AS nvarchar(max)), SCHEMA_NAME(o.schema_id)
		FROM sys.objects o LEFT JOIN sys.extended_properties p ON p.class = 1 AND p.major_id = o.object_id AND p.minor_id = 0
			AND p.name = N'MS_Description'
		WHERE o.object_id = OBJECT_ID(@p1) AND o.type IN ('U', 'V')`, d.name(schema, table)).Scan(&id, &kind, &comment,
		&t.Schema)
	if err == sql.ErrNoRows {
		return nil, nil, nil
	}
	if err != nil {
		return fail(err)
	}
	if schema == "" && t.Schema == d.schema {
		t.Schema = ""
	}
	t.View, t.Comment = strings.TrimSpace(kind) == "V", comment.String
	rows, err := d.c.QueryContext(ctx, `SELECT c.name, TYPE_NAME(c.system_type_id), y.name, c.max_length, c.precision, c.scale,
		c.is_nullable, c.is_identity, c.is_computed, c.generated_always_type, c.default_object_id, c.collation_name,
		CAST(COLLATIONPROPERTY(c.collation_name, 'CodePage') AS int), CAST(COLLATIONPROPERTY(c.collation_name, 'LCID') AS int),
		CAST(COLLATIONPROPERTY(c.collation_name, 'ComparisonStyle') AS int),
		CAST(COLLATIONPROPERTY(c.collation_name, 'Version') AS int), CAST(p.value AS nvarchar(max)), k.key_ordinal
		FROM sys.columns c JOIN sys.types y ON y.user_type_id = c.user_type_id
		LEFT JOIN sys.extended_properties p ON p.class = 1 AND p.major_id = c.object_id AND p.minor_id = c.column_id
			AND p.name = N'MS_Description'
		LEFT JOIN (SELECT x.object_id, i.column_id, i.key_ordinal FROM sys.indexes x JOIN sys.index_columns i
			ON i.object_id = x.object_id AND i.index_id = x.index_id WHERE x.is_primary_key = 1) k
			ON k.object_id = c.object_id AND k.column_id = c.column_id
		WHERE c.object_id = @p1 ORDER BY c.column_id`, id)
	if err != nil {
		return fail(err)
	}
	defer rows.Close()
	var list []column
	for rows.Next() {
		c, err := scanColumn(rows)
		if err != nil {
			return fail(err)
		}
		list = append(list, c)
	}
	if err := rows.Err(); err != nil {
		return fail(err)
	}
	return t, list, nil
}

// name is a table's name as OBJECT_ID takes it.
func (d *DB) name(schema, table string) string {
	bracketed := func(s string) string { return "[" + strings.ReplaceAll(s, "]", "]]") + "]" }
	if schema == "" {
		return bracketed(table)
	}
	return bracketed(schema) + "." + bracketed(table)
}

// literal is that name as a text of SQL.
func (d *DB) literal(schema, table string) string { return "N" + dialect.Quoted(d.name(schema, table)) }

// scanColumn reads one row of the catalog.
func scanColumn(rows *sql.Rows) (c column, err error) {
	var base, own, collation, comment sql.NullString
	var length, precision, scale, always, def int
	var nullable, computed bool
	var page, lcid, style, version, key sql.NullInt64
	if err = rows.Scan(&c.Name, &base, &own, &length, &precision, &scale, &nullable, &c.Identity, &computed,
		&always, &def,
		&collation, &page, &lcid, &style, &version, &comment, &key); err != nil {
		return c, err
	}
	name := base.String
	if name == "" || unfit[own.String] != "" {
		name = own.String // of the server's own types in a language of its runtime
	}
	c.Type = writeType(name, length, precision, scale)
	standardType(&c.Column, c.Type)
	c.declared = declaredType(c.Type)
	c.collation = collation.String
	c.page, c.lcid, c.style, c.version = int(page.Int64), int(lcid.Int64), int(style.Int64), int(version.Int64)
	c.Required, c.Default, c.Comment, c.Key = !nullable, def != 0, comment.String, int(key.Int64)
	c.Generated = computed || always != 0 || c.name == "rowversion"
	if c.name == "varchar" || c.name == "char" {
		c.Keeps.Lacks = lacks(c.page)
	}
	return c, nil
}

// Describe implements db.Session.
func (d *DB) Describe(ctx context.Context, query string) ([]db.Column, error) {
	list, err := d.describe(ctx, query)
	if err != nil {
		return nil, err
	}
	var out []db.Column
	for _, c := range list {
		out = append(out, c.Column)
	}
	return out, nil
}

// describe is Describe with the collations of text.
func (d *DB) describe(ctx context.Context, query string) ([]column, error) {
	rows, err := d.c.QueryContext(ctx, "EXEC sys.sp_describe_first_result_set @tsql = @p1", query)
	if err != nil {
		return nil, d.fail("refuses the query", err)
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return nil, d.fail("cannot describe the query", err)
	}
	var name, typ, collation sql.NullString
	var hidden bool
	at := make([]any, len(names))
	for i, n := range names {
		switch n {
		case "name":
			at[i] = &name
		case "system_type_name":
			at[i] = &typ
		case "collation_name":
			at[i] = &collation
		case "is_hidden":
			at[i] = &hidden
		default:
			at[i] = new(any)
		}
	}
	var out []column
	for rows.Next() {
		if err := rows.Scan(at...); err != nil {
			return nil, d.fail("cannot describe the query", err)
		}
		if hidden {
			continue
		}
		c := column{Column: db.Column{Name: name.String, Type: typ.String}, collation: collation.String}
		if c.Type == "timestamp" {
			c.Type = "rowversion"
		}
		standardType(&c.Column, c.Type)
		c.Keeps, c.Unfit = reading.Keeps{}, ""
		out = append(out, c)
	}
	if err := rows.Err(); err != nil {
		return nil, d.fail("refuses the query", err)
	}
	return out, nil
}
