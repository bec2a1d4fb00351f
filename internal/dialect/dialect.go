// Package dialect writes the SQL of the databases that Amber Tray knows:
// names, types, definitions and literals. It is pure text and talks to no
// database; package target does.
//
// The model: a [Table] of standard types goes in, a definition comes out.
// Each database is one file with one value of [Dialect]; adding one touches
// nothing else here but the list in [All].
package dialect

import (
	"fmt"
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
	Key     []string
	Comment string
}

// A Column is one column of a table.
type Column struct {
	Name     string
	Type     sqltype.Type
	Required bool
	// Default is a value in plain form, or nil.
	Default *string
	Comment string
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

	open, close string // around a quoted identifier
	folds       func(string) string
	reserved    map[string]bool
	columnType  func(c Column, key bool) string
	literal     func(c Column, plain string) string
	// comments writes the comments of a table as statements of their own.
	comments func(d *Dialect, t Table) []string
	// inline writes a column's comment within its definition.
	inline func(comment string) string
	// tail stands behind the closing parenthesis.
	tail func(t Table) string
	// lineComments tells that comments stand as -- in the definition itself.
	lineComments bool
	wide         func(t *Table)
}

// All lists the dialects.
var All = []*Dialect{SQLite, Postgres, MySQL, SQLServer, Oracle}

// ByName finds a dialect by its name or a usual other one.
func ByName(name string) (*Dialect, error) {
	switch n := strings.ToLower(name); n {
	case "postgresql", "pg":
		return Postgres, nil
	case "mariadb":
		return MySQL, nil
	case "mssql":
		return SQLServer, nil
	case "sqlite3":
		return SQLite, nil
	default:
		for _, d := range All {
			if d.Name == n {
				return d, nil
			}
		}
	}
	var names []string
	for _, d := range All {
		names = append(names, d.Name)
	}
	return nil, fmt.Errorf("database %q is not known; the databases are %s", name, strings.Join(names, ", "))
}

// Quote makes an identifier of any text. It is quoted only where the database
// needs it, and no text can end the quotes.
func (d *Dialect) Quote(name string) string {
	if d.plain(name) {
		return name
	}
	return d.open + strings.ReplaceAll(name, d.close, d.close+d.close) + d.close
}

func (d *Dialect) plain(name string) bool {
	if name == "" || d.reserved[strings.ToUpper(name)] || reserved[strings.ToUpper(name)] {
		return false
	}
	for i, r := range name {
		if r == '_' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || i > 0 && r >= '0' && r <= '9' {
			continue
		}
		return false
	}
	// Where the database would change the case of a bare name, keep it.
	return d.folds == nil || d.folds(name) == name
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
		return fmt.Errorf("%q has %d characters; %s allows %d", name, utf8.RuneCountInString(name), d.Title, d.NameLimit)
	}
	return nil
}

// Type is the database's type for a column. Keys may need another one than
// other columns.
func (d *Dialect) Type(c Column, key bool) string { return d.columnType(c, key) }

// Literal is a value, in plain form, as the database's SQL writes it.
func (d *Dialect) Literal(c Column, plain string) string { return d.literal(c, plain) }

// Create is the definition: the statement that creates the table, and others
// that comment it.
func (d *Dialect) Create(t Table) []string {
	if d.wide != nil {
		t.Columns = slices.Clone(t.Columns)
		d.wide(&t)
	}
	var b strings.Builder
	if d.lineComments && t.Comment != "" {
		b.WriteString(lineComment("", t.Comment))
	}
	fmt.Fprintf(&b, "CREATE TABLE %s (\n", d.Qualified(t.Schema, t.Name))
	names, types := make([]string, len(t.Columns)), make([]string, len(t.Columns))
	nameWidth, typeWidth := 0, 0
	for i, c := range t.Columns {
		names[i] = d.Quote(c.Name)
		types[i] = d.columnType(c, slices.Contains(t.Key, c.Name))
		if n := utf8.RuneCountInString(names[i]); n <= 40 {
			nameWidth = max(nameWidth, n)
		}
		typeWidth = max(typeWidth, len(types[i]))
	}
	for i, c := range t.Columns {
		line := fmt.Sprintf("    %-*s %-*s", nameWidth, names[i], typeWidth, types[i])
		if c.Default != nil {
			line += " DEFAULT " + d.literal(c, *c.Default)
		}
		if c.Required || slices.Contains(t.Key, c.Name) {
			line += " NOT NULL"
		}
		if d.inline != nil && c.Comment != "" {
			line += d.inline(c.Comment)
		}
		line = strings.TrimRight(line, " ")
		if i < len(t.Columns)-1 || len(t.Key) > 0 {
			line += ","
		}
		if d.lineComments && c.Comment != "" {
			line += " " + strings.TrimSuffix(lineComment("", c.Comment), "\n")
		}
		b.WriteString(line + "\n")
	}
	if len(t.Key) > 0 {
		var key []string
		for _, k := range t.Key {
			key = append(key, d.Quote(k))
		}
		fmt.Fprintf(&b, "    PRIMARY KEY (%s)\n", strings.Join(key, ", "))
	}
	b.WriteString(")")
	if d.tail != nil {
		b.WriteString(d.tail(t))
	}
	out := []string{b.String()}
	if d.comments != nil {
		out = append(out, d.comments(d, t)...)
	}
	return out
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

// quoted is text between single quotes, quotes doubled, as in the SQL
// standard.
func quoted(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }

// standardLiteral writes numbers bare and all else between quotes.
func standardLiteral(c Column, plain string) string {
	switch {
	case c.Type.Kind == sqltype.Boolean:
		return strings.ToUpper(plain)
	case c.Type.IsNumber():
		return plain
	case c.Type.Kind == sqltype.Date:
		return "DATE " + quoted(plain)
	case c.Type.Kind == sqltype.Timestamp:
		return "TIMESTAMP " + quoted(plain)
	}
	return quoted(plain)
}

func numbered(name string, n int) string { return fmt.Sprintf("%s(%d)", name, n) }

func numeric(name string, t sqltype.Type) string {
	return fmt.Sprintf("%s(%d,%d)", name, t.Precision, t.Scale)
}
