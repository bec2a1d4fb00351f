// Package plan is the plan of a load: how sources become a table.
//
// The model: a [Plan] is a YAML file that people read, edit, compare and keep
// under version control. [Build] writes one from a profile, with the evidence
// for each decision beside it as a comment; [Parse] reads one strictly, so
// that a slip is an error with its line and not a setting without effect.
// A plan holds every decision: loading with it looks at nothing else.
package plan

import (
	"cmp"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ambertray/internal/db/dialect"
	"ambertray/internal/reading"
	"ambertray/internal/source"
	"ambertray/internal/sqltype"
)

// Version is the version of the plan's form that this program writes.
const Version = 1

// A Plan is how sources become a table.
type Plan struct {
	Version int      `yaml:"ambertray"`
	Sources []Source `yaml:"sources"`
	Table   Table    `yaml:"table"`
	Columns []Column `yaml:"columns"`
	// Keep is a condition; records for which it is false are left out.
	Keep string `yaml:"keep,omitempty"`
	// LeaveOut names the headers that are deliberately not loaded.
	LeaveOut []string `yaml:"leave_out,omitempty"`
	// Rules are conditions that each record has to meet.
	Rules []Rule `yaml:"check,omitempty"`
	// Missing is what becomes of rows of the table that the sources do not have, when they
	// are merged into it.
	Missing *Missing `yaml:"missing,omitempty"`
	// Expect is what the sources have to be.
	Expect *Expect `yaml:"expect,omitempty"`
	// Tolerate is the share of values, like 1%, that were accepted as future
	// rejects when the plan was made.
	Tolerate string `yaml:"tolerate,omitempty"`
}

// A Rule is a condition that each record has to meet.
type Rule struct {
	If string `yaml:"if"`
	// Say is what is said of a record that does not meet it.
	Say string `yaml:"say"`
	// What is reject, or caution: the record is loaded, and counted.
	What string `yaml:"rule,omitempty"`
}

// The rules for records that do not meet a condition.
const (
	RuleReject  = "reject"
	RuleCaution = "caution"
)

// A Source is a file and how it is taken apart.
type Source struct {
	File string
	// Settings are the values of source.Settings, by their keys, as they stand in
	// the plan.
	Settings map[string]string
	// Seen are the files that the plan was made from: one, or more where File is a
	// pattern. Any other is compared with the plan before it is loaded.
	Seen []Seen
	// Sheets is what becomes of sheets that are new or missing, where a pattern stands for several;
	// nil: they stop the load.
	Sheets *SheetRules

	// wrong is a mistake inside, and wrongAt its key; kept for Check, which knows
	// the line.
	wrong, wrongAt string
}

// Seen tells a file from others without reading it.
type Seen struct {
	Name     string `yaml:"name,omitempty"` // where the source is a pattern
	Bytes    int64  `yaml:"bytes"`
	Modified string `yaml:"modified"` // RFC 3339, UTC
	// Others are the sheets or members that were in it and are not for this plan.
	Others []string `yaml:"others,flow,omitempty"`
	// Sheets are those that were taken, where a pattern stands for several.
	Sheets []string `yaml:"sheets,flow,omitempty"`
}

// SheetRules say what becomes of sheets that the file a plan was made from did not have, and of
// those that it had.
type SheetRules struct {
	IfNew     string `yaml:"new,omitempty"`     // stop, take or leave
	IfMissing string `yaml:"missing,omitempty"` // stop or allow
}

// The words of SheetRules.
const (
	StopLoad     = "stop"
	TakeSheet    = "take"
	LeaveSheet   = "leave"
	AllowMissing = "allow"
)

// New is the rule for new sheets.
func (r *SheetRules) New() string {
	if r == nil || r.IfNew == "" {
		return StopLoad
	}
	return r.IfNew
}

// Missing is the rule for missing sheets.
func (r *SheetRules) Missing() string {
	if r == nil || r.IfMissing == "" {
		return StopLoad
	}
	return r.IfMissing
}

func (r *SheetRules) check() string {
	if w := r.New(); w != StopLoad && w != TakeSheet && w != LeaveSheet {
		return fmt.Sprintf("sheets: new is %q; it can be stop, take or leave", w)
	}
	if w := r.Missing(); w != StopLoad && w != AllowMissing {
		return fmt.Sprintf("sheets: missing is %q; it can be stop or allow", w)
	}
	return ""
}

// SeenOf is what tells a source.
func SeenOf(s *source.Source) Seen {
	return Seen{Bytes: s.FileSize, Modified: s.Modified.UTC().Format(time.RFC3339Nano), Others: s.Others}
}

// Is reports whether both are of one file.
func (s Seen) Is(x Seen) bool { return s.Bytes == x.Bytes && s.Modified == x.Modified }

// Made reports whether one of the plan's sources is the file that the plan was
// made from.
func (p *Plan) Made(s *source.Source) bool {
	is := SeenOf(s)
	return slices.ContainsFunc(p.Sources, func(x Source) bool {
		return slices.ContainsFunc(x.Seen, func(seen Seen) bool {
			// Files that came together, out of an archive say, often have one time, and some one size.
			name := cmp.Or(seen.Name, x.File)
			return seen.Is(is) && (filepath.Base(name) == filepath.Base(s.Path) || source.IsPattern(name))
		})
	})
}

// Table is where the records go.
type Table struct {
	Schema string   `yaml:"schema,omitempty"`
	Name   string   `yaml:"name"`
	Key    []string `yaml:"key,flow,omitempty"`
	// Unique and Index are lists of columns; References are foreign keys. They are made with a
	// new table.
	Unique     [][]string  `yaml:"unique,flow,omitempty"`
	Index      [][]string  `yaml:"index,flow,omitempty"`
	References []Reference `yaml:"references,omitempty"`
	// RowNumber names a column that gets the number of the record in the load.
	RowNumber string `yaml:"row_number,omitempty"`
	// Strict asks for a table that enforces its types, where the database's others do not.
	Strict  bool   `yaml:"strict_types,omitempty"`
	Comment string `yaml:"description,omitempty"`
}

// A Reference tells that columns refer to those of another table.
type Reference struct {
	Columns []string `yaml:"columns,flow"`
	Table   string   `yaml:"table"` // or schema.table
	To      []string `yaml:"to,flow"`
}

// A Column is one column of the table.
type Column struct {
	Name string `yaml:"name"`
	From string `yaml:"from,omitempty"`
	// Also names other headers that mean the same, in other sources.
	Also []string `yaml:"also,flow,omitempty"`
	// Optional tells that a source may lack the column, which is null then.
	Optional bool `yaml:"optional,omitempty"`
	// Value is an expression that makes the column's value; such a column is
	// from no header. Fill makes it where the field is blank.
	Value    string   `yaml:"value,omitempty"`
	Fill     string   `yaml:"fill,omitempty"`
	Type     string   `yaml:"type"`
	Reading  *Reading `yaml:"reading,omitempty"`
	Required bool     `yaml:"required,omitempty"`
	// Identity tells that the database numbers the column: what the file or an expression
	// gives a new table is where it goes on from.
	Identity bool     `yaml:"identity,omitempty"`
	Default  *string  `yaml:"default,omitempty"`
	Nulls    []string `yaml:"null_words,flow,omitempty"`
	Trim     bool     `yaml:"trim,omitempty"`
	// KeepEmpty is "quoted" or "all": which empty fields are empty texts and
	// not nulls.
	KeepEmpty string `yaml:"keep_empty,omitempty"`
	// NoEmpty makes a null of what is empty all the same, but not of blanks: a database that
	// keeps no empty text has it so.
	NoEmpty bool `yaml:"no_empty,omitempty"`
	// Unicode tells that values have characters beyond ASCII. Where a database
	// has wide and narrow character types, the column gets the wide one.
	Unicode bool   `yaml:"unicode,omitempty"`
	Comment string `yaml:"description,omitempty"`

	// Lo and Hi bound the integers that an existing table's column takes, if
	// not both 0. They are the table's, and not part of the file.
	Lo int64 `yaml:"-"`
	Hi int64 `yaml:"-"`
	// Keeps is what the column of a table makes of values, beside its type.
	Keeps reading.Keeps `yaml:"-"`
}

// Known is what the plan says of one of its sources.
func (p *Plan) Known(s *Source) source.Known {
	k := source.Known{By: "as the plan says", Names: p.names()}
	for _, set := range source.Settings {
		if v, is := s.Settings[set.Key]; is {
			set.Put(&k, v) // Check has made sure that it can be
		}
	}
	zero, none := int64(0), 0
	if k.Skip == nil && k.Header != nil {
		k.Skip = &zero
	}
	if k.Footer == nil && k.Header != nil {
		k.Footer, k.FooterUnsaid = &none, true
	}
	return k
}

// names are those that the plan's columns have in a header.
func (p *Plan) names() (n source.Names) {
	for i := range p.Columns {
		switch c := &p.Columns[i]; {
		case c.Value != "" || c.From == "" || c.From == source.RowName:
		case c.Optional:
			n.Others = append(n.Others, c.From)
		default:
			n.Columns = append(n.Columns, append([]string{c.From}, c.Also...))
		}
	}
	n.Others = append(n.Others, p.LeaveOut...)
	return n
}

// FromLayout is the plan's description of an opened source.
func FromLayout(s *source.Source) Source {
	p := Source{File: s.Path, Settings: map[string]string{}, Seen: []Seen{SeenOf(s)}}
	for _, set := range source.Settings {
		if v, is := set.Of(s); is {
			p.Settings[set.Key] = v
		}
	}
	return p
}

// SQLType is the column's type. Parse has made sure that it is one.
func (c *Column) SQLType() sqltype.Type {
	t, _ := sqltype.Parse(c.Type)
	return t
}

// Reader makes the reader of the column's fields.
func (c *Column) Reader() (*reading.Reader, error) {
	t, err := sqltype.Parse(c.Type)
	if err != nil {
		return nil, err
	}
	r := &reading.Reader{Type: t, Required: c.Required, Default: c.Default, NullWords: c.Nulls, Trim: c.Trim, Lo: c.Lo,
		Hi: c.Hi, Keeps: c.Keeps, NoEmpty: c.NoEmpty}
	switch c.KeepEmpty {
	case "", "none":
	case "quoted":
		r.KeepQuoted = true
	case "all":
		r.KeepBlank = true
	default:
		return nil, fmt.Errorf("keep_empty is %q; it can be none, quoted or all", c.KeepEmpty)
	}
	if g := c.Reading; g != nil {
		if err := g.apply(r); err != nil {
			return nil, err
		}
	}
	if err := r.Prepare(); err != nil {
		return nil, err
	}
	return r, nil
}

// Definition is the table as a dialect defines it.
func (p *Plan) Definition() dialect.Table {
	t := dialect.Table{Schema: p.Table.Schema, Name: p.Table.Name, Key: p.Table.Key, Comment: p.Table.Comment,
		Strict: p.Table.Strict, Unique: p.Table.Unique, Indexes: p.Table.Index}
	for _, r := range p.Table.References {
		schema, table, is := strings.Cut(r.Table, ".")
		if !is {
			schema, table = p.Table.Schema, r.Table
		}
		t.References = append(t.References, dialect.Reference{Columns: r.Columns, Schema: schema, Table: table,
			To: r.To})
	}
	if p.Table.RowNumber != "" {
		t.Columns = append(t.Columns, dialect.Column{Name: p.Table.RowNumber, Type: sqltype.Type{Kind: sqltype.BigInt},
			Required: true,
			Comment:  "number of the record in its load"})
	}
	for _, c := range p.Columns {
		comment := c.Comment
		if comment == "" && c.Value == "" && Forgive(c.From) != Forgive(c.Name) {
			comment = c.From
		}
		t.Columns = append(t.Columns, dialect.Column{Name: c.Name, Type: c.SQLType(), Required: c.Required,
			Default: c.Default, Comment: comment, ASCII: !c.Unicode, Identity: c.Identity})
	}
	return t
}

// Positions finds each column's field in a source: by its header, forgiving
// case and spaces where that is unambiguous. missing lists columns whose
// header the source lacks, extra the headers that no column takes and that
// are not left out on purpose.
func (p *Plan) Positions(headers []string) (at []int, missing, extra []string) {
	exact := map[string][]int{}
	loose := map[string][]int{}
	for i, h := range headers {
		exact[h] = append(exact[h], i)
		loose[Forgive(h)] = append(loose[Forgive(h)], i)
	}
	taken := make([]bool, len(headers))
	seen := map[string]int{} // how often a header has been asked for
	at = make([]int, len(p.Columns))
	for i, c := range p.Columns {
		at[i] = -1
		if c.Value != "" {
			continue
		}
		var places []int
		for _, from := range append([]string{c.From}, c.Also...) {
			if places = exact[from]; len(places) == 0 && len(loose[Forgive(from)]) == 1 {
				places = loose[Forgive(from)]
			}
			if len(places) > 0 {
				break
			}
		}
		if n := seen[c.From]; n < len(places) {
			// The same header twice means the columns in their order.
			at[i] = places[n]
			taken[at[i]] = true
			seen[c.From]++
		} else if !c.Optional {
			missing = append(missing, c.From)
		}
	}
	for _, h := range p.Fields() {
		for i, x := range headers {
			taken[i] = taken[i] || x == h
		}
	}
	left := map[string]bool{}
	for _, h := range p.LeaveOut {
		left[Forgive(h)] = true
	}
	for i, h := range headers {
		if !taken[i] && !left[Forgive(h)] {
			extra = append(extra, h)
		}
	}
	return
}

// Forgive reduces a header to what matters when names are compared.
func Forgive(h string) string { return source.Forgive(h) }

// Check says what is wrong with the plan as a whole, with the path of the
// place in the YAML.
func (p *Plan) Check() error {
	bad := func(path, format string, args ...any) error {
		return &Error{Path: path, What: fmt.Sprintf(format, args...)}
	}
	if p.Version != Version {
		return bad("$.ambertray", "plan version %d; this program reads version %d", p.Version, Version)
	}
	if len(p.Sources) == 0 {
		return bad("$.sources", "the plan names no source")
	}
	for i, s := range p.Sources {
		if s.File == "" {
			return bad(fmt.Sprintf("$.sources[%d]", i), "the source names no file")
		}
		if err := s.check(); err != nil {
			return bad(fmt.Sprintf("$.sources[%d].%s", i, err.Path), "%s", err.What)
		}
	}
	if p.Table.Name == "" {
		return bad("$.table", "the table has no name")
	}
	if len(p.Columns) == 0 {
		return bad("$.columns", "the plan has no columns")
	}
	seen := map[string]bool{}
	if p.Table.RowNumber != "" {
		seen[strings.ToLower(p.Table.RowNumber)] = true
	}
	for i := range p.Columns {
		c := &p.Columns[i]
		path := fmt.Sprintf("$.columns[%d]", i)
		if c.Name == "" {
			return bad(path, "the column has no name")
		}
		if seen[strings.ToLower(c.Name)] {
			return bad(path+".name", "the name %q stands twice", c.Name)
		}
		seen[strings.ToLower(c.Name)] = true
		if _, err := sqltype.Parse(c.Type); err != nil {
			return bad(path+".type", "column %s: %v", c.Name, err)
		}
		if c.Reading != nil && c.Reading.wrong != "" {
			return bad(path+".reading", "column %s: %s", c.Name, c.Reading.wrong)
		}
		if _, err := c.Reader(); err != nil {
			return bad(path, "column %s: %v", c.Name, err)
		}
		if err := p.checkIdentity(c); err != nil {
			return bad(path+".identity", "column %s: %v", c.Name, err)
		}
	}
	if err := p.checkExpressions(bad); err != nil {
		return err
	}
	if p.Expect != nil {
		if key, err := p.Expect.check(p); err != nil {
			return bad("$.expect."+key, "%v", err)
		}
	}
	if m := p.Missing; m != nil {
		if err := m.check(); err != nil {
			return bad("$.missing", "%v", err)
		}
	}
	if err := p.checkConstraints(bad); err != nil {
		return err
	}
	for i, k := range p.Table.Key {
		if k != p.Table.RowNumber && !slices.ContainsFunc(p.Columns, func(c Column) bool { return c.Name == k }) {
			return bad(fmt.Sprintf("$.table.key[%d]", i), "the key names %q, which is no column of the plan", k)
		}
	}
	return nil
}

// checkIdentity sees whether a database can number a column.
func (p *Plan) checkIdentity(c *Column) error {
	switch {
	case !c.Identity:
	case !c.SQLType().IsInteger():
		return fmt.Errorf("a database numbers with whole numbers; its type is %s", c.Type)
	case !slices.Equal(p.Table.Key, []string{c.Name}):
		return fmt.Errorf("what the database numbers has to be the key of the table")
	case c.Default != nil:
		return fmt.Errorf("a column that the database numbers has no default")
	}
	return nil
}

// An Error is a mistake in a plan.
type Error struct {
	File string
	Line int    // 0: unknown
	Path string // like $.columns[2].type
	What string
}

func (e *Error) Error() string {
	s := e.What
	if e.Line > 0 {
		s = fmt.Sprintf("line %d: %s", e.Line, s)
	}
	if e.File != "" {
		s = e.File + ": " + s
	}
	return s
}

// checkConstraints looks whether constraints name columns of the plan.
func (p *Plan) checkConstraints(bad func(path, format string, args ...any) error) error {
	known := func(path string, columns []string) error {
		if len(columns) == 0 {
			return bad(path, "a list of columns is wanted")
		}
		for i, k := range columns {
			if k != p.Table.RowNumber && !slices.ContainsFunc(p.Columns, func(c Column) bool { return c.Name == k }) {
				return bad(fmt.Sprintf("%s[%d]", path, i), "%q is no column of the plan", k)
			}
		}
		return nil
	}
	for what, lists := range map[string][][]string{"unique": p.Table.Unique, "index": p.Table.Index} {
		for i, columns := range lists {
			if err := known(fmt.Sprintf("$.table.%s[%d]", what, i), columns); err != nil {
				return err
			}
		}
	}
	for i, r := range p.Table.References {
		path := fmt.Sprintf("$.table.references[%d]", i)
		if err := known(path+".columns", r.Columns); err != nil {
			return err
		}
		if r.Table == "" || len(r.To) != len(r.Columns) {
			return bad(path, "a reference names a table, and in to: as many of its columns as in columns:")
		}
	}
	return nil
}
