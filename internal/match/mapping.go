package match

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/phrase"
	"ambertray/internal/plan"
	"ambertray/internal/profile"
	"ambertray/internal/reading"
	"ambertray/internal/rows"
	"ambertray/internal/source"
	"ambertray/internal/sqltype"
)

// A Weight says how much a difference between file and table matters.
type Weight string

// The weights.
const (
	Fine     Weight = "fine"
	Caution  Weight = "caution"
	Blocking Weight = "blocking"
)

// A Pairing is a column of the file with one of the table, or one of them
// without the other.
type Pairing struct {
	From      string `json:"from"`       // header in the file
	FileType  string `json:"file_type"`  // what the values need
	Column    string `json:"column"`     // in the table
	TableType string `json:"table_type"` // as the database writes it
	Weight    Weight `json:"weight"`
	Text      string `json:"text"`
	Do        string `json:"do,omitempty"`
	Misfits   int64  `json:"misfits"`
}

// A Mapping says how a plan's columns go into a table that exists.
type Mapping struct {
	Pairings []Pairing
	// Plan is the plan with the table's names and types.
	Plan *plan.Plan

	// Alter are the statements that make columns of text longer, to be run before the
	// load.
	Alter []string

	index   []int // in Pairings, of each column of Plan
	records int64 // that were read to see whether they fit
}

// MapOptions steer a mapping.
type MapOptions struct {
	ByPosition   bool
	KeepIdentity bool
	// Tolerate is the share of values that may misfit a column and become
	// rejects.
	Tolerate float64
	// Dialect is that of the table's database; nil: it is not known.
	Dialect *dialect.Dialect
	// Widen makes columns of text longer where values need it.
	Widen bool
	// Merges tells that known rows keep what the file has no column for.
	Merges bool
	// Profile is what the plan was made of, or nil. A column that the table has
	// in another type than the values would make it is read in the way that the
	// evidence has for that type.
	Profile *profile.Profile
}

// Blocked reports whether any difference is blocking.
func (m *Mapping) Blocked() bool {
	for _, p := range m.Pairings {
		if p.Weight == Blocking {
			return true
		}
	}
	return false
}

// A pairer pairs the columns of a plan with those of a table.
type pairer struct {
	*Mapping
	opt   MapOptions
	from  *plan.Plan
	table *db.Table
	*finder
	fits  string // what is said of a narrower column
	taken map[string]bool
}

// Map pairs the plan's columns with those of a table, by name or position, and
// reads the sources whole to see whether its values fit. Nothing is written.
func Map(ctx context.Context, sources []*source.Source, p *plan.Plan, t *db.Table, opt MapOptions) (*Mapping, error) {
	flows := slices.ContainsFunc(sources, (*source.Source).Flows)
	m := &pairer{Mapping: &Mapping{}, opt: opt, from: p, table: t, finder: finderOf(t), taken: map[string]bool{},
		fits: ", but every value fits"}
	if flows {
		m.fits = "; what does not fit becomes a reject"
	}
	into := *p
	m.Plan = &into
	m.Plan.Columns = nil
	m.Plan.Table.Schema, m.Plan.Table.Name, m.Plan.Table.Key = t.Schema, t.Name, nil
	if t.Unsafe != "" {
		m.add(Pairing{Weight: Blocking, Text: t.Unsafe})
	}
	m.rowNumber()
	open := m.open()
	for i := range p.Columns {
		var c *db.Column
		if opt.ByPosition {
			if i < len(open) {
				c = open[i]
			}
		} else if c = m.find(p.Columns[i].Name); c == nil && p.Columns[i].From != "" {
			c = m.find(p.Columns[i].From)
		}
		m.pair(p.Columns[i], c)
	}
	m.rest()
	if len(m.Plan.Columns) == 0 {
		m.add(Pairing{Weight: Blocking, Text: "no column of the file goes into the table"})
		return m.Mapping, nil
	}
	if flows {
		return m.Mapping, nil // it can be read but once
	}
	return m.Mapping, m.check(ctx, sources, opt, t)
}

func (m *pairer) add(x Pairing) { m.Pairings = append(m.Pairings, x) }

// rowNumber pairs the column of the record's number.
func (m *pairer) rowNumber() {
	name := m.from.Table.RowNumber
	if name == "" {
		return
	}
	c := m.find(name)
	if c == nil {
		m.add(Pairing{From: "(row number)", Column: name, Weight: Blocking, Text: "the table has no such column"})
		return
	}
	m.Plan.Table.RowNumber = c.Name
	m.taken[c.Name] = true
	m.add(Pairing{From: "(row number)", FileType: "bigint", Column: c.Name, TableType: c.Type, Weight: Fine})
}

// open are the columns of the table that take values, in order.
func (m *pairer) open() (out []*db.Column) {
	for i := range m.table.Columns {
		if c := &m.table.Columns[i]; !c.Generated && (!c.Identity || m.opt.KeepIdentity) && !m.taken[c.Name] {
			out = append(out, c)
		}
	}
	return out
}

// pair pairs a column of the plan with one of the table, or with none.
func (m *pairer) pair(pc plan.Column, c *db.Column) {
	x := Pairing{From: pc.From, FileType: pc.SQLType().String(), Weight: Fine}
	if pc.Value != "" {
		x.From = "(computed)"
	}
	defer func() { m.add(x) }()
	if c == nil {
		x.Weight, x.Text = Blocking, "the table has no such column; rename it in the plan, or leave it out"
		return
	}
	x.Column = c.Name
	if m.taken[c.Name] {
		x.Weight, x.Text = Blocking, "another column of the file goes there already"
		return
	}
	m.taken[c.Name] = true
	x.TableType = c.Type
	switch {
	case c.Generated:
		x.Text = "left out: the database computes it"
		m.Plan.LeaveOut = append(m.Plan.LeaveOut, pc.From)
	case (c.Identity || c.Key == 1) && pc.Identity && pc.Value != "" && !m.opt.KeepIdentity:
		// In SQLite, each key of one whole number is.
		x.Text = "left out: the database numbers it"
	case c.Identity && !pc.Identity && !m.opt.KeepIdentity:
		x.Weight, x.Text = Blocking,
			"the database numbers it; say --keep-identity to load the file's numbers, or leave it out"
	default:
		m.fill(pc, c, &x)
	}
}

// fill makes a column of the plan fill one of the table.
func (m *pairer) fill(pc plan.Column, c *db.Column, x *Pairing) {
	if pc.Reading != nil && pc.Reading.Zone != "" && c.SQL.Kind == sqltype.Timestamp {
		// The table has times without a zone, too: they go in as they are.
		zoneless := *pc.Reading
		zoneless.Zone = ""
		pc.Reading = &zoneless
		t := pc.SQLType()
		t.Kind = sqltype.Timestamp
		pc.Type, x.FileType = t.String(), t.String()
	}
	want := pc.SQLType()
	typ := readAs(want, c)
	pc.Keeps = c.Keeps
	pc.Keeps.Codes = want.IsText() && (c.Keeps.Codes && typ.IsText() || typ.IsNumber())
	if !typ.IsText() && !typ.IsNumber() {
		pc.Keeps.Digits, pc.Keeps.Decimals = 0, 0
	}
	if c.Unfit != "" {
		x.Weight, x.Text = Blocking, c.Unfit
		return
	}
	pc.Name, pc.Lo, pc.Hi, pc.Type, pc.Required, pc.Default = c.Name, c.Lo, c.Hi, typ.String(), c.Required, nil
	if open := m.opt.reread(&pc, want, typ); open != nil {
		x.Weight, x.Text = Blocking, open.Text+"; "+open.Do
		return
	}
	if _, err := pc.Reader(); err != nil {
		x.Weight, x.Text = Blocking, err.Error()
		return
	}
	switch {
	case c.SQL.Kind == sqltype.None:
		x.Weight, x.Text = Caution, "goes in as text; only the number of values can be verified"
	case holds(typ, want) || c.AnyLength && typ.Kind == want.Kind:
	case typ.IsText() && !want.IsText():
		x.Weight, x.Text = Caution, "goes in as the text that the file has"
	case typ.Kind == sqltype.TimestampTZ && c.SQL.Kind == sqltype.Timestamp:
		x.Weight, x.Text = Caution, "goes in as UTC, without the zone"
	case typ.Kind != want.Kind && !(typ.IsInteger() && want.IsInteger()) && !(typ.IsText() && want.IsText()):
		x.Weight, x.Text = Caution, "another type"+m.fits
	default:
		x.Weight, x.Text = Caution, "narrower"+m.fits
	}
	m.Plan.Columns = append(m.Plan.Columns, pc)
	m.index = append(m.index, len(m.Pairings))
}

// rest tells of the table's columns that no column of the file goes into.
func (m *pairer) rest() {
	for _, c := range m.table.Columns {
		if m.taken[c.Name] {
			continue
		}
		x := Pairing{Column: c.Name, TableType: c.Type, Weight: Fine}
		switch {
		case c.Generated:
			x.Text = "the database computes it"
		case c.Identity:
			x.Text = "the database numbers it"
		case m.opt.Merges && c.Required && !c.Default:
			x.Weight, x.Text = Caution, "the file has no such column; known rows keep theirs, and new ones are "+
				"refused, "+
				"for it is required"
		case m.opt.Merges && c.Default:
			x.Text = "known rows keep theirs, new ones get the database's default"
		case m.opt.Merges:
			x.Weight, x.Text = Caution, "the file has no such column; known rows keep theirs, in new ones it is null"
		case c.Default:
			x.Text = "gets the database's default"
		case c.Required:
			x.Weight, x.Text = Blocking, "required, and the file has no such column"
		default:
			x.Weight, x.Text = Caution, "the file has no such column; it stays null"
		}
		m.add(x)
	}
}

// reread changes how a column is written where the table has it in another
// type than was found. It returns what the evidence leaves open then.
func (o *MapOptions) reread(c *plan.Column, found, t sqltype.Type) (open *profile.Finding) {
	if o.Profile == nil || t.Kind == found.Kind || t.IsText() || t.IsNumber() && found.IsNumber() {
		return nil
	}
	as, blockers := o.Profile.As(c.From, t)
	switch {
	case len(blockers) > 0:
		return &blockers[0]
	case as != nil:
		c.Reading, c.Nulls = plan.ReadingOf(as), as.Nulls
	}
	return nil
}

// check reads the sources and counts what does not fit.
func (m *Mapping) check(ctx context.Context, sources []*source.Source, opt MapOptions, t *db.Table) error {
	c, err := rows.DryRun(ctx, rows.Job{Sources: sources, Plan: m.Plan, MaxRejects: -1})
	if err != nil {
		return err
	}
	m.records = c.Records.Read
	for i, k := range m.index {
		x, miss := &m.Pairings[k], c.Misfits[i]
		if miss.Count == 0 {
			continue
		}
		x.Misfits, x.Weight = miss.Count, Blocking
		first := fmt.Sprintf("first on line %d", miss.First[0].Line)
		switch {
		case miss.TooLong == miss.Count && miss.Count == 1:
			x.Text = fmt.Sprintf("1 value is longer: %d characters, on line %d", miss.Longest, miss.First[0].Line)
		case miss.TooLong == miss.Count:
			x.Text = fmt.Sprintf("%d values are longer, the longest %d, %s", miss.Count, miss.Longest, first)
		default:
			x.Text = fmt.Sprintf("%s not fit: %s, %s%s",
				map[bool]string{true: "1 value does", false: fmt.Sprintf("%d values do", miss.Count)}[miss.Count == 1],
				miss.Reason, first, quoted(miss.First[0].Value))
		}
		if miss.Kind == reading.LosesForm {
			x.Do = "to load numbers, say so with --type or in the plan; to keep the codes, make the column one of text"
		}
		if float64(miss.Count) <= opt.Tolerate*float64(max(m.records, 1)) {
			x.Weight = Caution
			x.Text += "; tolerated, they become rejects"
		} else if miss.TooLong == miss.Count {
			m.widen(i, x, miss.Longest, opt, t)
		}
	}
	return nil
}

// widen makes a column of text long enough, where that is asked for, or says how it
// can be made so.
func (m *Mapping) widen(i int, x *Pairing, longest int, opt MapOptions, t *db.Table) {
	pc, d := &m.Plan.Columns[i], opt.Dialect
	if d == nil || !pc.SQLType().IsText() || d.Widen == nil && !d.LooseLengths {
		return
	}
	typ := profile.TextFor(longest)
	sql := ""
	if d.Widen != nil {
		sql = d.Widen(d.Qualified(t.Schema, t.Name), d.Quote(x.Column),
			d.Type(dialect.Column{Name: x.Column, Type: typ, ASCII: !pc.Unicode}, false), pc.Required)
	}
	switch {
	case opt.Widen && d.LooseLengths:
		pc.Type, x.Weight = typ.String(), Caution
		x.Text += "; " + d.Title + " keeps them as they are, whatever the column's type says"
	case opt.Widen && d.WidensWithin:
		pc.Type, x.Weight = typ.String(), Caution
		x.Text += "; the column is made " + typ.String()
		m.Alter = append(m.Alter, sql)
	case d.LooseLengths:
		x.Do = "with --widen they are loaded all the same"
	case d.WidensWithin:
		x.Do = "with --widen the load makes the column longer: " + sql
	default:
		x.Do = "to make the column longer: " + sql
	}
}

// A finder finds the columns of a table by their names.
type finder struct {
	columns []db.Column
	exact   map[string]int
	loose   map[string]int // -1: several
}

func finderOf(t *db.Table) *finder {
	f := &finder{t.Columns, t.Places(), map[string]int{}}
	for i := range t.Columns {
		as := plan.Forgive(t.Columns[i].Name)
		if _, is := f.loose[as]; is {
			i = -1
		}
		f.loose[as] = i
	}
	return f
}

// find finds a column, forgiving case, spaces and underscores where that is unambiguous.
func (f *finder) find(name string) *db.Column {
	i, is := f.exact[name]
	if !is {
		i, is = f.loose[plan.Forgive(name)]
	}
	if !is || i < 0 {
		return nil
	}
	return &f.columns[i]
}

// readAs is the type that values are read as for a column of a table.
func readAs(want sqltype.Type, c *db.Column) sqltype.Type {
	switch {
	case c.SQL.Kind == sqltype.None:
		return sqltype.Type{Kind: sqltype.Text}
	case c.AnyLength && c.SQL.Kind == sqltype.Decimal:
		t := c.SQL
		if t.Scale = 0; want.Kind == sqltype.Decimal {
			t.Scale = want.Scale
		} else if !want.IsInteger() {
			t.Scale = 10
		}
		return t
	case c.AnyLength && c.SQL.IsTemporal():
		if want.Kind == c.SQL.Kind || c.UTC && want.Kind == sqltype.TimestampTZ {
			return want
		}
		return c.SQL
	case c.AnyLength, c.Truth && want.Kind == sqltype.Boolean:
		return want
	case c.UTC && want.Kind == sqltype.TimestampTZ:
		want.Precision = c.SQL.Precision
		return want
	}
	return c.SQL
}

// holds reports whether every value of type want is one of type t.
func holds(t, want sqltype.Type) bool {
	switch {
	case t == want:
		return true
	case t.Kind == sqltype.Text:
		return want.IsText()
	case t.Kind == sqltype.VarChar || t.Kind == sqltype.Char && want.Kind == sqltype.Char:
		return (want.Kind == sqltype.VarChar || want.Kind == sqltype.Char) && t.Length >= want.Length
	case t.IsInteger():
		return want.IsInteger() && t.Kind >= want.Kind
	case t.Kind == sqltype.Decimal && want.Kind == sqltype.Decimal:
		return t.Scale >= want.Scale && t.Precision-t.Scale >= want.Precision-want.Scale
	case t.Kind == sqltype.Decimal && want.IsInteger():
		return t.Precision-t.Scale >= map[sqltype.Kind]int{sqltype.SmallInt: 5, sqltype.Integer: 10,
			sqltype.BigInt: 19}[want.Kind]
	case t.Kind == sqltype.Timestamp && want.Kind == sqltype.Date:
		return true
	case t.IsTemporal():
		return t.Kind == want.Kind && t.Precision >= want.Precision
	}
	return false
}

// Tolerable is the share to tolerate for nothing to be blocking any more, in
// words, or nothing if it would be more than a tenth, or if other differences
// block, too.
func (m *Mapping) Tolerable() string {
	most := 0.0
	for _, p := range m.Pairings {
		if p.Weight == Blocking {
			share := float64(p.Misfits) / float64(max(m.records, 1))
			if p.Misfits == 0 || share > 0.1 {
				return ""
			}
			most = max(most, share)
		}
	}
	if most == 0 {
		return ""
	}
	return phrase.Share(most)
}

// Summary is the blocking differences in one text, for an error.
func (m *Mapping) Summary() string {
	var b strings.Builder
	for _, p := range m.Pairings {
		if p.Weight == Blocking {
			name := p.Column
			if name == "" {
				name = p.From
			}
			fmt.Fprintf(&b, "\n  %s: %s", name, p.Text)
			if p.Do != "" {
				b.WriteString("\n    " + p.Do)
			}
		}
	}
	return b.String()
}

// NoneNamed reports whether no column of the file was paired with one of the table.
func (m *Mapping) NoneNamed() bool {
	return !slices.ContainsFunc(m.Pairings, func(p Pairing) bool { return p.From != "" && p.Column != "" })
}

// quoted shows a value, if there is one.
func quoted(s string) string {
	if s == "" {
		return ""
	}
	return " '" + s + "'"
}
