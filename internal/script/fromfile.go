package script

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/reading"
	"ambertray/internal/sqltype"
)

// A FromFile tells that the server is to read a file of its own, whose fields are made
// values by SQL.
type FromFile struct {
	db.FileForm
	// Fields is how many a record has.
	Fields int
	// Columns are those of the table: where the file has each, and how it is read. At is -1
	// where the file lacks it.
	Columns []FileColumn
}

// A FileColumn is one column of the table.
type FileColumn struct {
	Name   string
	At     int
	Reader *reading.Reader
}

// Cannot says what SQL cannot make of a column as the plan reads it; nothing if it can.
func (f *FromFile) Cannot(d *db.Database) (out []string) {
	for i, c := range f.Columns {
		if _, why := f.expression(d, i); why != "" {
			out = append(out, "column "+c.Name+": "+why)
		}
	}
	return out
}

// rawStage is the name of the stage with the texts.
func rawStage(d *db.Database, schema string) string {
	if d.Temporary == "" && d.TemporaryName == "" {
		return d.Qualified(schema, "ambertray_file")
	}
	return d.Quote(d.TemporaryName + "ambertray_file")
}

func (f *FromFile) names() (out []string) {
	for i := range f.Fields {
		out = append(out, fmt.Sprintf("field_%d", i+1))
	}
	return out
}

// define writes the stage of the texts.
func (f *FromFile) define(d *db.Database, stage string) []string {
	r := d.Script.File
	if r.Stage != nil {
		return r.Stage(stage, f.names(), f.FileForm)
	}
	var columns []string
	for _, n := range f.names() {
		columns = append(columns, n+" "+r.StageType)
	}
	return []string{fmt.Sprintf("CREATE %sTABLE %s (%s)", d.Temporary, stage, strings.Join(columns, ", "))}
}

// fill writes what fills the stage, and makes rows of another table of it.
func (f *FromFile) fill(d *db.Database, stage, into string) (out []string) {
	r := d.Script.File
	if r.Fill != nil {
		out = r.Fill(stage, f.names(), f.FileForm)
	}
	var names, values, texts []string
	for i, c := range f.Columns {
		sql, why := f.expression(d, i)
		if why != "" {
			panic(why) // Cannot has told
		}
		names, values = append(names, d.Quote(c.Name)), append(values, sql)
		if c.At < 0 {
			continue
		}
		x := r.Text(fmt.Sprintf("field_%d", c.At+1))
		if !c.Reader.Type.IsText() || c.Reader.Trim {
			x = r.Trim(x)
		}
		texts = append(texts, x+" AS "+text(i))
	}
	if len(texts) == 0 {
		texts = []string{"1 AS one"}
	}
	return append(out, fmt.Sprintf("INSERT INTO %s (%s)\nSELECT %s\nFROM (SELECT %s\n    FROM %s) texts", into,
		strings.Join(names, ", "), strings.Join(values, ",\n    "), strings.Join(texts, ",\n        "), stage))
}

// text is the name of a column's field, without the blanks that do not count.
func text(column int) string { return fmt.Sprintf("text_%d", column+1) }

// expression is a column's value, made of its field.
func (f *FromFile) expression(d *db.Database, column int) (sql, why string) {
	c := &f.Columns[column]
	r, s := c.Reader, d.Script.File
	none := "NULL"
	if r.Default != nil {
		none = d.Literal(dialect.Column{Type: r.Type}, *r.Default)
	}
	switch {
	case c.At < 0:
		return none, ""
	case r.Zone != nil:
		return "", "times without a zone that are those of one"
	case r.KeepQuoted:
		return "", "keep_empty: quoted, where a server does not tell an empty text from nothing"
	}
	x := text(column)
	value, why := made(s, r, x, func(text string) string {
		return d.Literal(dialect.Column{Type: sqltype.Type{Kind: sqltype.VarChar, Length: max(1, len(text))}}, text)
	})
	if why != "" {
		return "", why
	}
	var null []string
	switch {
	case !r.Type.IsText() || r.Trim && !r.KeepBlank:
		null = append(null, s.Blank(x))
	case !r.KeepBlank:
		null = append(null, s.Blank(s.Trim(x)))
	}
	for _, w := range r.NullWords {
		if w != "" {
			null = append(null, x+" = "+d.Literal(dialect.Column{Type: sqltype.Type{Kind: sqltype.VarChar,
				Length: len(w)}}, w))
		}
	}
	if len(null) == 0 {
		return value, ""
	}
	return fmt.Sprintf("CASE WHEN %s THEN %s ELSE %s END", strings.Join(null, " OR "), none, value), ""
}

// made is the value of a text that is there.
func made(s *db.FileReader, r *reading.Reader, x string, literal func(string) string) (sql, why string) {
	switch t := r.Type; {
	case t.IsNumber():
		return s.Value(t, number(s, &r.Number, x)), ""
	case t.IsTemporal():
		return moment(s, r, x)
	case t.Kind == sqltype.Boolean:
		var words [2][]string
		for w, v := range r.Words() {
			words[v] = append(words[v], literal(w))
		}
		slices.Sort(words[0])
		slices.Sort(words[1])
		if len(words[0]) == 0 || len(words[1]) == 0 {
			return "", "a truth with words for one side only"
		}
		truth := [2]string{s.Truth(false), s.Truth(true)}
		return fmt.Sprintf("CASE WHEN %[1]s IN (%[2]s) THEN %[3]s WHEN %[1]s IN (%[4]s) THEN %[5]s ELSE %[6]s END", x,
			strings.Join(words[1], ", "), truth[1], strings.Join(words[0], ", "), truth[0], s.Fail(t, x)), ""
	}
	return s.Value(r.Type, x), ""
}

// number takes the marks out of a number, and puts its sign before it.
func number(s *db.FileReader, n *reading.Number, x string) string {
	out := func(marks ...string) {
		for _, m := range marks {
			x = s.Replace(x, m, "")
		}
	}
	if n.Currency != "" {
		out(n.Currency)
	}
	if n.Percent {
		out("%")
	}
	switch n.Thousands {
	case reading.Space:
		out(" ", "\u00a0", "\u202f")
	case reading.Apostrophe:
		out("'", "’")
	case reading.Comma, reading.Point:
		out(n.Thousands.String())
	case reading.NoMark:
		if n.Currency != "" || n.Percent {
			out(" ", "\u00a0")
		}
	}
	if n.Decimal == reading.Comma {
		x = s.Replace(x, ",", ".")
	}
	x = s.Replace(s.Replace(x, "+", ""), "−", "-")
	switch n.Negative {
	case reading.Brackets:
		x = s.Replace(s.Replace(x, "(", "-"), ")", "")
	case reading.Trailing:
		x = fmt.Sprintf("CASE WHEN %s LIKE '%%-' THEN %s ELSE %s END", x, s.Joined("'-'", s.Replace(s.Replace(x, "-",
			""),
			" ", "")), x)
	case reading.Leading:
	}
	return x
}

// iso are the forms that every database reads as they are.
var iso = regexp.MustCompile(`^(yyyy-MM-dd|(yyyy-MM-dd( |'T'))?HH:mm(:ss(\.S+)?)?X*)$`)

// moment is a date or time.
func moment(s *db.FileReader, r *reading.Reader, x string) (sql, why string) {
	forms := r.Dates
	if !slices.ContainsFunc(forms, func(p *reading.Pattern) bool { return !iso.MatchString(p.String()) }) {
		return s.Value(r.Type, x), ""
	}
	if len(forms) != 1 {
		return "", "dates of several forms"
	}
	p := forms[0]
	if sql, why = s.Moment(r.Type, p, x); why != "" || !p.TwoDigitYear() {
		return sql, why
	}
	// Whichever hundred years the server takes, its own are moved to those of the plan.
	year := s.Year(sql)
	return fmt.Sprintf("CASE WHEN %[1]s < %[2]d THEN %[3]s WHEN %[1]s > %[4]d THEN %[5]s ELSE %[6]s END", year,
		p.Pivot(),
		s.Years(r.Type, sql, 100), p.Pivot()+99, s.Years(r.Type, sql, -100), sql), ""
}
