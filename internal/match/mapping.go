package match

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ambertray/internal/db"
	"ambertray/internal/phrase"
	"ambertray/internal/plan"
	"ambertray/internal/profile"
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
	Misfits   int64  `json:"misfits"`
}

// A Mapping says how a plan's columns go into a table that exists.
type Mapping struct {
	Pairings []Pairing
	// Plan is the plan with the table's names and types.
	Plan *plan.Plan

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

// Map pairs the plan's columns with those of a table, by name or position, and
// reads the sources whole to see whether its values fit. Nothing is written.
func Map(ctx context.Context, sources []*source.Source, p *plan.Plan, t *db.Table, opt MapOptions) (*Mapping, error) {
	m := &Mapping{}
	flows := slices.ContainsFunc(sources, (*source.Source).Flows)
	fits := ", but every value fits"
	if flows {
		fits = "; what does not fit becomes a reject"
	}
	derived := *p
	derived.Columns = nil
	derived.Table.Schema, derived.Table.Name = t.Schema, t.Name
	derived.Table.Key = nil
	taken := map[string]bool{}
	if t.Unsafe != "" {
		m.Pairings = append(m.Pairings, Pairing{Weight: Blocking, Text: t.Unsafe})
	}
	if p.Table.RowNumber != "" {
		if c := find(t, p.Table.RowNumber); c == nil {
			m.Pairings = append(m.Pairings, Pairing{From: "(row number)", Column: p.Table.RowNumber, Weight: Blocking, Text: "the table has no such column"})
		} else {
			derived.Table.RowNumber = c.Name
			taken[c.Name] = true
			m.Pairings = append(m.Pairings, Pairing{From: "(row number)", FileType: "bigint", Column: c.Name, TableType: c.Type, Weight: Fine})
		}
	}
	var open []*db.Column // that take values, in order
	for i := range t.Columns {
		if c := &t.Columns[i]; !c.Generated && (!c.Identity || opt.KeepIdentity) && !taken[c.Name] {
			open = append(open, c)
		}
	}
	for i, pc := range p.Columns {
		var c *db.Column
		if opt.ByPosition {
			if i < len(open) {
				c = open[i]
			}
		} else if c = find(t, pc.Name); c == nil && pc.From != "" {
			c = find(t, pc.From)
		}
		from := pc.From
		if pc.Value != "" {
			from = "(computed)"
		}
		x := Pairing{From: from, FileType: pc.SQLType().String(), Weight: Fine}
		switch {
		case c == nil:
			x.Weight, x.Text = Blocking, "the table has no such column; rename it in the plan, or leave it out"
		case taken[c.Name]:
			x.Column, x.Weight, x.Text = c.Name, Blocking, "another column of the file goes there already"
		case c.Generated:
			x.Column, x.TableType, x.Text = c.Name, c.Type, "left out: the database computes it"
			taken[c.Name] = true
			derived.LeaveOut = append(derived.LeaveOut, pc.From)
		case c.Identity && !opt.KeepIdentity:
			x.Column, x.TableType = c.Name, c.Type
			x.Weight, x.Text = Blocking, "the database numbers it; say --keep-identity to load the file's numbers, or leave it out"
			taken[c.Name] = true
		default:
			taken[c.Name] = true
			x.Column, x.TableType = c.Name, c.Type
			want := pc.SQLType()
			pc.Name, pc.Lo, pc.Hi = c.Name, c.Lo, c.Hi
			typ := readAs(want, c)
			pc.Type = typ.String()
			pc.Required = c.Required
			pc.Default = nil
			if open := opt.reread(&pc, want, typ); open != nil {
				x.Weight, x.Text = Blocking, open.Text+"; "+open.Do
				break
			}
			if _, err := pc.Reader(); err != nil {
				x.Weight, x.Text = Blocking, err.Error()
				break
			}
			if !holds(typ, want) && !(c.AnyLength && typ.Kind == want.Kind) {
				x.Weight, x.Text = Caution, "narrower"+fits
				if typ.Kind != want.Kind && !(typ.IsInteger() && want.IsInteger()) && !(typ.IsText() && want.IsText()) {
					x.Text = "another type" + fits
				}
				if typ.Kind == sqltype.TimestampTZ && c.SQL.Kind == sqltype.Timestamp {
					x.Text = "goes in as UTC, without the zone"
				}
				if typ.IsText() && !want.IsText() {
					x.Text = "goes in as the text that the file has"
				}
			}
			if c.SQL.Kind == sqltype.None {
				x.Weight, x.Text = Caution, "goes in as text; only the number of values can be verified"
			}
			derived.Columns = append(derived.Columns, pc)
			m.index = append(m.index, len(m.Pairings))
		}
		m.Pairings = append(m.Pairings, x)
	}
	for _, c := range t.Columns {
		if taken[c.Name] {
			continue
		}
		x := Pairing{Column: c.Name, TableType: c.Type, Weight: Fine}
		switch {
		case c.Generated:
			x.Text = "the database computes it"
		case c.Identity:
			x.Text = "the database numbers it"
		case c.Default:
			x.Text = "gets the database's default"
		case c.Required:
			x.Weight, x.Text = Blocking, "required, and the file has no such column"
		default:
			x.Weight, x.Text = Caution, "the file has no such column; it stays null"
		}
		m.Pairings = append(m.Pairings, x)
	}
	m.Plan = &derived
	if len(derived.Columns) == 0 {
		m.Pairings = append(m.Pairings, Pairing{Weight: Blocking, Text: "no column of the file goes into the table"})
		return m, nil
	}
	if flows {
		return m, nil // it can be read but once
	}
	return m, m.check(ctx, sources, opt)
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
func (m *Mapping) check(ctx context.Context, sources []*source.Source, opt MapOptions) error {
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
			x.Text = fmt.Sprintf("%s not fit: %s, %s%s", map[bool]string{true: "1 value does", false: fmt.Sprintf("%d values do", miss.Count)}[miss.Count == 1], miss.Reason, first, quoted(miss.First[0].Value))
		}
		if float64(miss.Count) <= opt.Tolerate*float64(max(m.records, 1)) {
			x.Weight = Caution
			x.Text += "; tolerated, they become rejects"
		}
	}
	return nil
}

// find finds a column by its name, forgiving case, spaces and underscores
// where that is unambiguous.
func find(t *db.Table, name string) *db.Column {
	var loose *db.Column
	n := 0
	for i := range t.Columns {
		c := &t.Columns[i]
		if c.Name == name {
			return c
		}
		if plan.Forgive(c.Name) == plan.Forgive(name) {
			loose = c
			n++
		}
	}
	if n == 1 {
		return loose
	}
	return nil
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
		return t.Precision-t.Scale >= map[sqltype.Kind]int{sqltype.SmallInt: 5, sqltype.Integer: 10, sqltype.BigInt: 19}[want.Kind]
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
		}
	}
	return b.String()
}

// quoted shows a value, if there is one.
func quoted(s string) string {
	if s == "" {
		return ""
	}
	return " '" + s + "'"
}
