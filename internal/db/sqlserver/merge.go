package sqlserver

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

// The tables of a merge are the session's own.
const (
	stageTable   = "#" + db.StageTable
	changesTable = "#" + db.ChangesTable
)

// notCompared are the types whose values the server does not compare.
var notCompared = []string{"text", "ntext", "image", "xml", "geography", "geometry"}

// Stage implements db.Merger.
func (d *DB) Stage(ctx context.Context, t *db.Table, m *dialect.Merge) (*db.Table, error) {
	found, columns, err := d.find(ctx, t.Schema, t.Name)
	if err != nil {
		return nil, err
	}
	if found == nil {
		return nil, d.fail("does not have the table "+t.Name, nil)
	}
	if err := d.mergeable(t, columns, m); err != nil {
		return nil, err
	}
	m.Number, m.Stage, m.Changes = quote(db.StageNumber), quote(stageTable), quote(changesTable)
	d.staged = nil
	if m.Undoes {
		what := column{Column: db.Column{Name: dialect.ChangeWhat, Type: "nvarchar(10)",
			SQL: sqltype.Type{Kind: sqltype.VarChar, Length: 10}}, declared: declaredType("nvarchar(10)")}
		what.lcid = 1033
		d.staged = append(d.staged, what)
	}
	for i := range columns {
		d.staged = append(d.staged, inUTF16(columns[i]))
	}
	for _, sql := range append([]string{"DROP TABLE IF EXISTS " + m.Stage, "DROP TABLE IF EXISTS " + m.Changes},
		m.Definitions("bigint NOT NULL", "bigint NULL", "nvarchar(10) NULL", "by_row", func(name, as string) string {
			return d.staged[columnOf(d.staged, name)].defined(as)
		})...) {
		if err := d.do(ctx, db.CannotStage, sql); err != nil {
			return nil, err
		}
	}
	// A trigger, or a key of the table to itself, may change other rows than those that a
	// statement names.
	name := d.name(t.Schema, t.Name)
	loud, err := d.questions().Rows(ctx, "cannot be read", "SELECT name FROM sys.triggers WHERE parent_id = "+
		"OBJECT_ID(@p1) AND is_disabled = 0 UNION ALL SELECT name FROM sys.foreign_keys WHERE parent_object_id = "+
		"OBJECT_ID(@p1) AND referenced_object_id = OBJECT_ID(@p1)", name)
	m.Quiet = len(loud) == 0
	return &db.Table{Name: stageTable}, err
}

// mergeable refuses what the statements of a merge cannot do here.
func (d *DB) mergeable(t *db.Table, columns []column, m *dialect.Merge) error {
	no := func(what, do string) error { return &db.Error{Where: d.where, What: what, Do: do} }
	for _, c := range m.Columns {
		i := columnOf(columns, c.Name)
		if i < 0 {
			return d.fail("has no column "+c.Name, nil)
		}
		if name := columns[i].declared.name; slices.Contains(notCompared, name) {
			return no(fmt.Sprintf("rows of %s cannot be compared: %s is of type %s, which the server does not compare",
				t.Name, c.Name, name), "leave the column out; nothing was changed")
		}
	}
	return nil
}

// inUTF16 is a column such that its text can be read by a client that has not asked for UTF-8,
// which gets text of such collations in a code page.
func inUTF16(c column) column {
	if !strings.HasSuffix(strings.ToUpper(c.collation), "_UTF8") {
		return c
	}
	typ := "nvarchar(max)"
	if c.declared.name == "char" && c.a <= 4000 {
		typ = dialect.Numbered("nchar", c.a)
	}
	was := c.declared
	c.Type, c.declared = typ, declaredType(typ)
	c.page, c.lcid, c.style, c.version = was.page, was.lcid, was.style, was.version
	return c
}

// defined is a column of a table of the session's, which takes nulls.
func (c *column) defined(name string) string {
	typ := c.Type
	if c.declared.name == "rowversion" || c.declared.name == "timestamp" {
		typ = "binary(8)" // which the server does not fill by itself
	}
	if c.collation != "" {
		typ += " COLLATE " + c.collation
	}
	return name + " " + typ + " NULL"
}

// Ready implements db.Merger. New rows may bring numbers that the server would give.
func (d *DB) Ready(ctx context.Context, _ *dialect.Merge) error { return d.load.numbersOn(ctx) }

// Affect implements db.Merger. The session counts nothing (NOCOUNT), but for this.
func (d *DB) Affect(ctx context.Context, sql string) (n int64, err error) {
	err = d.c.QueryRowContext(ctx, sql+"; SELECT CAST(ROWCOUNT_BIG() AS bigint)").Scan(&n)
	return n, err
}

// Within implements db.Merger.
func (d *DB) Within() db.Questions { return d.questions() }

// Blames implements db.Merger. A row that has ended the transaction is not left out: nothing of
// it is there any more.
func (d *DB) Blames(err error) *sink.Refusal {
	m := asServer(err)
	if m == nil || !aboutRows(first(m)) {
		return nil
	}
	if state, err := d.load.state(context.Background()); err != nil || state != 1 {
		return nil
	}
	r := refusal(0, first(m))
	return &r
}

// TallyFrom implements db.Merger.
func (d *DB) TallyFrom(ctx context.Context, from string, columns []dialect.Column, loose []bool) (int64,
	[]tally.Tally, error) {
	types := d.staged
	if types == nil {
		var names []string
		for _, c := range columns {
			names = append(names, c.Name)
		}
		var err error
		if types, err = d.describe(ctx, "SELECT "+Dialect.List(names)+" FROM "+from); err != nil {
			return 0, nil, err
		}
		for i := range types {
			types[i].declared = declaredType(types[i].Type)
		}
	}
	return d.tallyFrom(ctx, from, columns, types, loose)
}

// Unstage implements db.Merger.
func (d *DB) Unstage(ctx context.Context) {
	d.staged = nil
	for _, t := range []string{stageTable, changesTable} {
		// They are gone with the session at the latest.
		d.c.ExecContext(ctx, "DROP TABLE IF EXISTS "+quote(t))
	}
}

// Place implements db.Placed: by a key of one column. The server shows no other place of a row.
func (d *DB) Place(t *db.Table) string {
	if key := t.PrimaryKey(); len(key) == 1 {
		return quote(key[0])
	}
	return ""
}

// keepRows puts the rows aside that are emptied or replaced.
func (l *load) keepRows(ctx context.Context) error {
	if l.spec.Keep == "" {
		return nil
	}
	t := l.spec.Table
	given, err := l.d.questions().Given(ctx, l.d, t)
	if err != nil {
		return err
	}
	return l.d.do(ctx, "cannot keep the old rows", fmt.Sprintf("SELECT %s INTO %s FROM %s WITH (TABLOCKX, HOLDLOCK)",
		given, Dialect.Qualified(t.Schema, l.spec.Keep), l.table))
}
