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

// mostColumns is how many a table may have (SQL Server, "Maximum capacity specifications").
const mostColumns = 1024

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
	for _, sql := range d.stageDefinitions(m) {
		if err := d.do(ctx, "cannot make the tables of a merge", sql); err != nil {
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
	if n := 2 + len(columns) + len(m.Columns) - len(m.Key); n > mostColumns {
		return no(fmt.Sprintf("what changes in %s cannot be kept: a table for it would have %d columns, and %d are "+
			"the most", t.Name, n, mostColumns), "load into a new table and merge by hand; nothing was changed")
	}
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

// stageDefinitions make both tables.
func (d *DB) stageDefinitions(m *dialect.Merge) []string {
	stage := []string{m.Number + " bigint NOT NULL PRIMARY KEY"}
	changes := []string{dialect.ChangeRow + " bigint NULL", dialect.ChangeWhat + " nvarchar(10) NULL"}
	for i := range d.staged {
		c := &d.staged[i]
		if c.Column.Name != dialect.ChangeWhat || !m.Undoes {
			changes = append(changes, c.defined(quote(c.Column.Name)))
		}
		if m.Undoes && i == 0 || slices.ContainsFunc(m.Columns, func(x dialect.Column) bool {
			return x.Name == c.Column.Name
		}) {
			stage = append(stage, c.defined(quote(c.Column.Name)))
		}
	}
	for _, x := range m.NewValues() {
		changes = append(changes, d.staged[columnOf(d.staged, x.Name)].defined(x.As))
	}
	return []string{"DROP TABLE IF EXISTS " + m.Stage, "DROP TABLE IF EXISTS " + m.Changes,
		fmt.Sprintf("CREATE TABLE %s (%s)", m.Stage, strings.Join(stage, ", ")),
		fmt.Sprintf("CREATE TABLE %s (%s)", m.Changes, strings.Join(changes, ", ")),
		fmt.Sprintf("CREATE INDEX by_row ON %s (%s)", m.Changes, dialect.ChangeRow)}
}

// Ready implements db.Merger. New rows may bring numbers that the server would give.
func (d *DB) Ready(ctx context.Context, _ *dialect.Merge) error { return d.load.numbersOn(ctx) }

// Compared implements db.Merger.
func (d *DB) Compared(context.Context, *dialect.Merge) error { return nil }

// Divide implements db.Merger: both tables have their numbers as keys.
func (d *DB) Divide(context.Context, *dialect.Merge) error { return nil }

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
	found, err := l.d.Find(ctx, t.Schema, t.Name)
	if err != nil {
		return err
	}
	if found == nil {
		return l.d.fail("has no table "+t.Name+" any more", nil)
	}
	return l.d.do(ctx, "cannot keep the old rows", fmt.Sprintf("SELECT %s INTO %s FROM %s WITH (TABLOCKX, HOLDLOCK)",
		Dialect.List(found.Given()), Dialect.Qualified(t.Schema, l.spec.Keep), l.table))
}
