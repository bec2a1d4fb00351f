// Package dialect is what the SQL of all databases shares: names and
// definitions. It is pure text and talks to no database.
//
// The model: a [Table] of standard types goes in, a definition comes out. What
// differs from database to database are the fields of a [Dialect], of which
// each database's package has a value of its own.
package dialect

import (
	"cmp"
	"fmt"
	"hash/crc32"
	"slices"
	"strings"
	"unicode/utf8"

	"ambertray/internal/sqltype"
)

// A Table is what is to be defined.
type Table struct {
	Schema  string // may be empty
	Name    string
	Columns []Column
	// Key names the columns of the primary key.
	Key []string
	// Unique and Indexes are lists of columns, References those that have to be in other
	// tables.
	Unique, Indexes [][]string
	References      []Reference
	Comment         string
	// Strict asks for a table that enforces its types, where others do not.
	Strict bool
	// Later tells that the primary key and the indexes are made when the rows are in: they do not
	// stand in the definition, but columns are as they need them.
	Later bool
}

// A Reference tells that the values of columns have to be in those of another table.
type Reference struct {
	Columns       []string
	Schema, Table string
	To            []string // its columns
}

// Indexed reports whether a column is in a key or an index, which some types cannot be.
func (t *Table) Indexed(name string) bool {
	in := func(list []string) bool { return slices.Contains(list, name) }
	return in(t.Key) || slices.ContainsFunc(t.Unique, in) || slices.ContainsFunc(t.Indexes, in) ||
		slices.ContainsFunc(t.References, func(r Reference) bool { return in(r.Columns) })
}

// Places are the places of the columns, by their names.
func (t *Table) Places() map[string]int {
	return Places(t.Columns, func(c *Column) string { return c.Name })
}

// Places are the places of columns by their names, of several of one name that of the first.
func Places[C any](columns []C, name func(*C) string) map[string]int {
	places := make(map[string]int, len(columns))
	for i := range columns {
		n := name(&columns[i])
		if _, is := places[n]; !is {
			places[n] = i
		}
	}
	return places
}

// TakesNoNulls reports whether a column of the table is required, by itself or by the key.
func (t *Table) TakesNoNulls(c *Column) bool { return c.Required || slices.Contains(t.Key, c.Name) }

// A Column is one column of a table.
type Column struct {
	Name     string
	Type     sqltype.Type
	Required bool
	// Default is a value in plain form, or nil.
	Default *string
	Comment string
	// Identity tells that the database numbers the column.
	Identity bool
	// ASCII tells that all known values are ASCII. Where a database
	// distinguishes, the column gets its narrow character type.
	ASCII bool
}

// A Dialect is the SQL of one database.
type Dialect struct {
	// Name is what people say on the command line.
	Name string
	// Title is the database's own name.
	Title string
	// NameLimit is the longest identifier, in characters, or in bytes where
	// NameBytes is set.
	NameLimit int
	NameBytes bool
	// MostColumns is how many a table may have; 0: as many as one likes. ColumnsVary tells that an
	// administrator may have allowed more.
	MostColumns int
	ColumnsVary bool

	// NumberedParameter is how the n-th parameter of a statement is written; nil: each is a question mark.
	NumberedParameter func(n int) string
	// FirstRows writes a query of the first rows of a table; nil: with LIMIT.
	FirstRows func(columns, table string, n int) string
	// IfMissing writes the definition of a table that is made only where there is none;
	// nil: with IF NOT EXISTS.
	IfMissing func(d *Dialect, t Table) string
	// FromNothing stands behind what a query of one row asks that is of no table.
	FromNothing string
	// CountAll is how rows are counted; empty: count(*).
	CountAll string
	// OpenQuote and CloseQuote stand around a quoted identifier.
	OpenQuote, CloseQuote string
	// Folds is what the database makes of a bare identifier; nil keeps it. Upper tells that
	// it makes upper case of it, and that names in lower case are meant so: where one has to be
	// quoted, it is quoted in upper case.
	Folds func(string) string
	Upper bool
	// ColumnType is the database's type for a column; key tells that it is part
	// of the primary key.
	ColumnType func(c Column, key bool) string
	// StrictType is the type of a column in a table that enforces its types, and ends in
	// StrictTail; nil: all tables do.
	StrictType func(c Column) string
	StrictTail string
	// WriteLiteral writes a value, given in plain form.
	WriteLiteral func(c Column, plain string) string
	// IndexWithin tells that an index stands in the definition, and not in a statement of its
	// own.
	IndexWithin bool
	// Comments writes the comments of a table as statements of their own, or is
	// nil where they stand in the definition.
	Comments func(d *Dialect, t Table) []string
	// Inline writes a column's comment within its definition, or is nil.
	Inline func(comment string) string
	// Tail stands behind the closing parenthesis; nil: nothing.
	Tail func(t Table) string
	// LineComments tells that comments stand as -- in the definition itself.
	LineComments bool
	// Widen is the statement that makes a column of text longer; nil: there is none.
	// WidensWithin tells that a transaction can hold it, and LooseLengths that the
	// length of a type is not heeded, so that none is needed.
	Widen        func(table, column, typ string, required bool) string
	WidensWithin bool
	LooseLengths bool
	// Compares says how texts of a new table are compared; empty: as the database does.
	Compares string
	// Cannot says what a column of the database cannot do that one of its type
	// should, and what to do about it; nil: nothing.
	Cannot func(c Column) (what, do string)
	// Distinct is the condition that two values of a type are not the same, byte by byte
	// where they are text; null is the same as null. Whole is what of a value tells it
	// from others, so that rows can be put together by it.
	Distinct func(t sqltype.Type, a, b string) string
	Whole    func(t sqltype.Type, x string) string
	// Merges is how a row of a table is changed by one of another. Temporary stands behind
	// CREATE where a table is to be of the session, and TemporaryName begins its name.
	Merges                   UpdateForm
	Temporary, TemporaryName string
	// Numbers stands behind the type of a column that the database numbers; NumbersAs is
	// its type, if it has to be a certain one.
	Numbers, NumbersAs string
	// GiveIdentity stands in an INSERT that gives values to columns which the database
	// numbers.
	GiveIdentity string
	// Savepoints are how a savepoint is set, gone back to and let go; the name stands behind.
	// Empty: as the standard says. A Let that is empty: it is let go by itself.
	Savepoints Savepoints
	// Fit changes the types of columns until a row of the table fits the
	// database's limit, or is nil where there is none.
	Fit func(t *Table)
}

// Savepoints are the statements of savepoints, to which a name is added.
type Savepoints struct{ Set, Back, Let string }

// standardSavepoints are those of SQL:1999.
var standardSavepoints = Savepoints{"SAVEPOINT", "ROLLBACK TO SAVEPOINT", "RELEASE SAVEPOINT"}

// SavepointsAs are the statements for savepoints of a name; one that is empty is not needed.
func (d *Dialect) SavepointsAs(name string) (s Savepoints) {
	if s = d.Savepoints; s.Set == "" {
		s = standardSavepoints
	}
	for _, x := range []*string{&s.Set, &s.Back, &s.Let} {
		if *x != "" {
			*x += " " + name
		}
	}
	return s
}

// Quote makes an identifier of any text. It is quoted only where the database
// needs it, and no text can end the quotes.
func (d *Dialect) Quote(name string) string {
	if d.plain(name) {
		return name
	}
	if d.Upper {
		name = d.Catalogued(name)
	}
	return d.OpenQuote + strings.ReplaceAll(name, d.CloseQuote, d.CloseQuote+d.CloseQuote) + d.CloseQuote
}

func (d *Dialect) plain(name string) bool {
	// Where the database would change the case of a bare name, keep it.
	return isBare(name) && !Reserved[strings.ToUpper(name)] && (d.Folds == nil || d.Folds(name) == name)
}

// isBare reports the form of names that need no quotes by their letters.
func isBare(name string) bool {
	for i, r := range name {
		if r == '_' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || i > 0 && r >= '0' && r <= '9' {
			continue
		}
		return false
	}
	return name != ""
}

// Catalogued is a name as the catalog of a database has it that makes names upper case.
func (d *Dialect) Catalogued(name string) string {
	if isBare(name) && strings.ToLower(name) == name {
		return strings.ToUpper(name)
	}
	return name
}

// Shown is such a name as people write it: in lower case, if that means the same.
func (d *Dialect) Shown(name string) string {
	if low := strings.ToLower(name); isBare(low) && strings.ToUpper(low) == name {
		return low
	}
	return name
}

// Qualified is the table's name with its schema.
func (d *Dialect) Qualified(schema, name string) string {
	if schema == "" {
		return d.Quote(name)
	}
	return d.Quote(schema) + "." + d.Quote(name)
}

// Check reports what the database cannot take in a name.
func (d *Dialect) Check(name string) error {
	switch {
	case name == "":
		return fmt.Errorf("the name is empty")
	case strings.ContainsRune(name, 0):
		return fmt.Errorf("%q contains a NUL character", name)
	case !utf8.ValidString(name):
		return fmt.Errorf("%q is not valid text", name)
	case d.NameBytes && len(name) > d.NameLimit:
		return fmt.Errorf("%q has %d bytes; %s allows %d", name, len(name), d.Title, d.NameLimit)
	case !d.NameBytes && utf8.RuneCountInString(name) > d.NameLimit:
		return fmt.Errorf("%q has %d characters; %s allows %d", name, utf8.RuneCountInString(name), d.Title,
			d.NameLimit)
	}
	return nil
}

// Parameter is the n-th parameter of a statement, from 1.
func (d *Dialect) Parameter(n int) string {
	if d.NumberedParameter == nil {
		return "?"
	}
	return d.NumberedParameter(n)
}

// First is a query of the first n rows of a table, whose name is quoted.
func (d *Dialect) First(columns, table string, n int) string {
	if d.FirstRows == nil {
		return fmt.Sprintf("SELECT %s FROM %s LIMIT %d", columns, table, n)
	}
	return d.FirstRows(columns, table, n)
}

// Missing is the statement that makes a table where there is none.
func (d *Dialect) Missing(t Table) string {
	if d.IfMissing != nil {
		return d.IfMissing(d, t)
	}
	return strings.Replace(d.Create(t)[0], "CREATE TABLE", "CREATE TABLE IF NOT EXISTS", 1)
}

// KeepPrefix begins the names of tables that keep the rows of others.
const KeepPrefix = "ambertray_old_"

// KeepName names a table that keeps rows, by the entry of the load.
func (d *Dialect) KeepName(entry string) string {
	name := KeepPrefix + strings.ReplaceAll(entry, "-", "_")
	for r := []rune(name); d.Check(name) != nil && len(r) > len(KeepPrefix)+16; name = string(r) {
		// The time, at the end, stays.
		r = append(r[:len(r)-17], r[len(r)-16:]...)
	}
	return name
}

// Keep is the statement that makes a table of the rows of another.
func (d *Dialect) Keep(schema, name, of string) string {
	return fmt.Sprintf("CREATE TABLE %s AS SELECT * FROM %s", d.Qualified(schema, name), d.Qualified(schema, of))
}

// Count is the expression that counts rows.
func (d *Dialect) Count() string { return cmp.Or(d.CountAll, "count(*)") }

// Type is the database's type for a column. Keys may need another one than
// other columns.
func (d *Dialect) Type(c Column, key bool) string { return d.ColumnType(c, key) }

// TypeOf is a type as the server writes it, of no column that is known.
func (d *Dialect) TypeOf(t sqltype.Type) string { return d.ColumnType(Column{Type: t}, false) }

// Literal is a value, in plain form, as the database's SQL writes it.
func (d *Dialect) Literal(c Column, plain string) string { return d.WriteLiteral(c, plain) }

// Fitted are the columns of a new table that get another type than theirs, since a row has no room
// for all of them, with the type.
func (d *Dialect) Fitted(t Table) (out []string) {
	if d.Fit == nil {
		return nil
	}
	was := t.Columns
	t.Columns = slices.Clone(t.Columns)
	d.Fit(&t)
	for i, c := range t.Columns {
		if c.Type != was[i].Type {
			out = append(out, c.Name+" "+d.typeIn(&t, &c))
		}
	}
	return out
}

// Create is the definition: the statement that creates the table, and others
// that comment it.
func (d *Dialect) Create(t Table) []string {
	if d.Fit != nil {
		t.Columns = slices.Clone(t.Columns)
		d.Fit(&t)
	}
	var b strings.Builder
	if d.LineComments && t.Comment != "" {
		b.WriteString(lineComment("", t.Comment))
	}
	fmt.Fprintf(&b, "CREATE TABLE %s (\n", d.Qualified(t.Schema, t.Name))
	names, types := make([]string, len(t.Columns)), make([]string, len(t.Columns))
	nameWidth, typeWidth := 0, 0
	constraints := d.constraints(&t)
	for i, c := range t.Columns {
		names[i], types[i] = d.Quote(c.Name), d.typeIn(&t, &c)
		if n := utf8.RuneCountInString(names[i]); n <= 40 {
			nameWidth = max(nameWidth, n)
		}
		typeWidth = max(typeWidth, len(types[i]))
	}
	for i, c := range t.Columns {
		line := fmt.Sprintf("    %-*s %-*s", nameWidth, names[i], typeWidth, types[i])
		line = strings.TrimRight(line+d.behind(&t, &c), " ")
		if i < len(t.Columns)-1 || len(constraints) > 0 {
			line += ","
		}
		if d.LineComments && c.Comment != "" {
			line += " " + strings.TrimSuffix(lineComment("", c.Comment), "\n")
		}
		b.WriteString(line + "\n")
	}
	if len(constraints) > 0 {
		b.WriteString("    " + strings.Join(constraints, ",\n    ") + "\n")
	}
	b.WriteString(")")
	if d.Tail != nil {
		b.WriteString(d.Tail(t))
	}
	if t.Strict {
		b.WriteString(d.StrictTail)
	}
	out := append([]string{b.String()}, d.indexes(&t)...)
	if d.Comments != nil {
		out = append(out, d.Comments(d, t)...)
	}
	return out
}

// typeIn is the database's type of a column of a table.
func (d *Dialect) typeIn(t *Table, c *Column) string {
	typ := d.ColumnType(*c, t.Indexed(c.Name))
	if t.Strict && d.StrictType != nil {
		typ = d.StrictType(*c)
	}
	if c.Identity {
		typ = strings.TrimSpace(cmp.Or(d.NumbersAs, typ) + " " + d.Numbers)
	}
	return typ
}

// behind is what stands behind the type of a column of a table.
func (d *Dialect) behind(t *Table, c *Column) (s string) {
	if c.Default != nil {
		s += " DEFAULT " + d.WriteLiteral(*c, *c.Default)
	}
	if t.TakesNoNulls(c) {
		s += " NOT NULL"
	}
	if d.Inline != nil && c.Comment != "" {
		s += d.Inline(c.Comment)
	}
	return s
}

// List is columns between commas, quoted.
func (d *Dialect) List(names []string) string {
	var out []string
	for _, n := range names {
		out = append(out, d.Quote(n))
	}
	return strings.Join(out, ", ")
}

// constraints are those that stand behind the columns.
func (d *Dialect) constraints(t *Table) (out []string) {
	if len(t.Key) > 0 && !t.Later {
		out = append(out, "PRIMARY KEY ("+d.List(t.Key)+")")
	}
	for _, u := range t.Unique {
		out = append(out, "UNIQUE ("+d.List(u)+")")
	}
	for _, r := range t.References {
		out = append(out, fmt.Sprintf("FOREIGN KEY (%s) REFERENCES %s (%s)", d.List(r.Columns), d.Qualified(r.Schema,
			r.Table),
			d.List(r.To)))
	}
	for _, x := range t.Indexes {
		if d.IndexWithin {
			out = append(out, "KEY ("+d.List(x)+")")
		}
	}
	return out
}

// Indexes are the statements that make the indexes of a table that do not stand in its
// definition.
func (d *Dialect) Indexes(t Table) []string { return d.indexes(&t) }

// indexes are the statements that make those which do not stand in the definition.
func (d *Dialect) indexes(t *Table) (out []string) {
	for _, x := range t.Indexes {
		if !d.IndexWithin && !t.Later {
			out = append(out, fmt.Sprintf("CREATE INDEX %s ON %s (%s)", d.Quote(d.IndexName(t.Name, x)),
				d.Qualified(t.Schema, t.Name), d.List(x)))
		}
	}
	return out
}

// IndexName names an index by its table and columns, in no more than the database allows.
func (d *Dialect) IndexName(table string, columns []string) string {
	name := table + "_" + strings.Join(columns, "_") + "_idx"
	if d.Check(name) == nil {
		return name
	}
	sum := crc32.ChecksumIEEE([]byte(name))
	end := fmt.Sprintf("_%08x_idx", sum)
	r := []rune(name)
	for len(r) > 0 && d.Check(string(r)+end) != nil {
		r = r[:len(r)-1]
	}
	return string(r) + end
}

// lineComment writes text as a comment to the end of the line, which no text
// can leave.
func lineComment(indent, text string) string {
	text = strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f || r == '\u0085' || r == '\u2028' || r == '\u2029' {
			return ' '
		}
		return r
	}, text)
	return indent + "-- " + text + "\n"
}

// Quoted is text between single quotes, quotes doubled, as in the SQL
// standard.
func Quoted(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }

// StandardLiteral writes numbers bare and all else between quotes.
func StandardLiteral(c Column, plain string) string {
	switch {
	case c.Type.Kind == sqltype.Boolean:
		return strings.ToUpper(plain)
	case c.Type.IsNumber():
		return plain
	case c.Type.Kind == sqltype.Date:
		return "DATE " + Quoted(plain)
	case c.Type.Kind == sqltype.Timestamp:
		return "TIMESTAMP " + Quoted(plain)
	}
	return Quoted(plain)
}

// Numbered is a type with a length or precision.
func Numbered(name string, n int) string { return fmt.Sprintf("%s(%d)", name, n) }

// Numeric is a type with precision and scale.
func Numeric(name string, t sqltype.Type) string {
	return fmt.Sprintf("%s(%d,%d)", name, t.Precision, t.Scale)
}

// StandardComments writes comments as COMMENT ON statements, which several
// databases have.
func StandardComments(d *Dialect, t Table) (out []string) {
	if t.Comment != "" {
		out = append(out, d.commentOn(&t))
	}
	for _, c := range t.Columns {
		if c.Comment != "" {
			out = append(out, d.commentOnColumn(&t, &c))
		}
	}
	return
}

func (d *Dialect) commentOn(t *Table) string {
	return fmt.Sprintf("COMMENT ON TABLE %s IS %s", d.Qualified(t.Schema, t.Name), Quoted(t.Comment))
}

func (d *Dialect) commentOnColumn(t *Table, c *Column) string {
	return fmt.Sprintf("COMMENT ON COLUMN %s.%s IS %s", d.Qualified(t.Schema, t.Name), d.Quote(c.Name),
		Quoted(c.Comment))
}
