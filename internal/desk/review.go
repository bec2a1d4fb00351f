package desk

import (
	"context"
	"errors"
	"maps"
	"slices"

	"ambertray/internal/plan"
	"ambertray/internal/profile"
	"ambertray/internal/rows"
	"ambertray/internal/sqltype"
)

// A Review is the plan of an input while a person goes through its columns: what they decide of
// each, and what the plan is then. Nothing is written by it.
type Review struct {
	in      Input
	opened  *Opened
	decided map[int]Decision
	names   []string // of the columns before anything was decided; empty: left out
	types   []sqltype.Type
	// findings are those about columns, by header.
	findings map[string][]profile.Finding
}

// A Decision is what a person says of a column.
type Decision struct {
	// Wanted is the type to be, and how its values are read.
	profile.Wanted
	// Name is that of the column in the table; empty: the suggested one.
	Name     string
	LeaveOut bool
	// Nulls are words that mean null in the column, beside those that the evidence has.
	Nulls []string
}

// is reports whether something was decided.
func (d *Decision) is() bool {
	return d.Type.Kind != sqltype.None || d.Name != "" || d.LeaveOut || len(d.Nulls) > 0
}

// A ReviewColumn is one of the columns.
type ReviewColumn struct {
	Header string
	// Name and Type are those of the plan as it is now.
	Name string
	Type sqltype.Type
	// Found is what the evidence says.
	Found    *profile.Column
	Findings []profile.Finding
	// Ways are the types that the findings speak of, beside the one that was found.
	Ways []Way
	Decision
	// Decided tells that the person has said something else than what was found.
	Decided bool
}

// A Way is what a column can be.
type Way struct {
	profile.Wanted
	Text string // what it means
}

// Careful reports whether there is something that a careful person would look at.
func (c *ReviewColumn) Careful() bool {
	return slices.ContainsFunc(c.Findings, func(f profile.Finding) bool { return f.Weight != profile.Note })
}

// newReview begins a review.
func newReview(in Input, o *Opened) *Review {
	r := &Review{in: in, opened: o, decided: map[int]Decision{}, findings: map[string][]profile.Finding{}}
	for _, f := range o.Profile.Findings {
		if f.Column != "" {
			r.findings[f.Column] = append(r.findings[f.Column], f)
		}
	}
	cols := o.Plan.Columns
	for _, c := range o.Profile.Columns {
		name := ""
		if len(cols) > 0 && cols[0].From == c.Header && cols[0].Value == "" {
			name, cols = cols[0].Name, cols[1:]
		}
		r.names = append(r.names, name)
		r.types = append(r.types, c.Type)
	}
	return r
}

// Source is the name of what is read.
func (r *Review) Source() string { return r.opened.First().Name }

// Table is the name of the table.
func (r *Review) Table() string { return r.opened.Plan.Table.Name }

// Records is how many there are.
func (r *Review) Records() int64 { return r.opened.Profile.Records }

// Size is how many columns there are.
func (r *Review) Size() int { return len(r.names) }

// Whole are the cautions about the source as a whole.
func (r *Review) Whole() (out []profile.Finding) {
	for _, f := range r.opened.Profile.Findings {
		if f.Column == "" && f.Weight == profile.Caution {
			out = append(out, f)
		}
	}
	return out
}

// Column is the column at a place.
func (r *Review) Column(i int) ReviewColumn {
	found := r.opened.Profile.Columns[i]
	c := ReviewColumn{Header: found.Header, Name: r.names[i], Type: r.types[i], Found: found, Decision: r.decided[i]}
	c.Decided = c.is()
	if c.Decision.Name != "" {
		c.Name = c.Decision.Name
	}
	if c.Decision.Type.Kind != sqltype.None {
		c.Type = c.Decision.Type
	}
	c.LeaveOut = c.LeaveOut || r.names[i] == ""
	c.Findings = r.findings[found.Header]
	for _, f := range c.Findings {
		for _, a := range f.Answers {
			if t, err := sqltype.Parse(a.Value); a.Option == "type" && err == nil && t != found.Type {
				c.Ways = append(c.Ways, r.Ways(i, t, a.Text)...)
			}
		}
	}
	return c
}

// Values are the first of a column, as they stand in the file.
func (r *Review) Values(i int) (out []string) {
	for _, first := range r.opened.Profile.First {
		if i < len(first.Fields) {
			out = append(out, first.Fields[i])
		}
	}
	return out
}

// Ways are those in which a column can be of a type: one, or more where the evidence leaves open
// how its values are to be read.
func (r *Review) Ways(i int, t sqltype.Type, text string) (out []Way) {
	w := profile.Wanted{Type: t}
	_, open := r.opened.Profile.AsAt(i, w)
	if len(open) == 0 || len(open[0].Answers) == 0 {
		return []Way{{w, text}}
	}
	for _, a := range open[0].Answers {
		var settled Input
		if settled.settle(a.Option, a.Value) == nil {
			out = append(out, Way{profile.Wanted{Type: t, Dates: settled.Options.Dates,
				Decimal: settled.Options.Decimal}, a.Text})
		}
	}
	return out
}

// Decide takes what a person says of a column. What cannot be is an error, and changes nothing.
func (r *Review) Decide(i int, d Decision) error {
	if r.names[i] == "" && !d.LeaveOut {
		return need("%s is left out by what was asked for\n  ask for it, and look again", r.Column(i).Header)
	}
	before := r.decided[i]
	r.decided[i] = d
	_, _, err := r.Plan()
	if err != nil {
		r.decided[i] = before
		var wrong *plan.Error
		if errors.As(err, &wrong) {
			return need("%s", wrong.What)
		}
	}
	return err
}

// Misfits are the values that do not fit a column as a person would decide it: the sources are
// read once more.
func (r *Review) Misfits(ctx context.Context, i int, d Decision) (m rows.Misfits, err error) {
	d.LeaveOut = false
	p, _, err := r.planWith(maps.All(map[int]Decision{i: d}))
	if err != nil {
		return m, err
	}
	at := slices.IndexFunc(p.Columns, func(c plan.Column) bool {
		return c.Name == r.names[i] || d.Name != "" && c.Name == d.Name
	})
	if at < 0 {
		return m, need("%s is left out", r.Column(i).Header)
	}
	one := &plan.Plan{Version: p.Version, Sources: p.Sources, Table: plan.Table{Name: p.Table.Name},
		LeaveOut: slices.Clone(p.LeaveOut)}
	for k, c := range p.Columns {
		switch {
		case c.Value != "", k > at && c.From == p.Columns[at].From:
		case c.From == p.Columns[at].From: // columns of one name are told apart by their order
			one.Columns = append(one.Columns, c)
		default:
			one.LeaveOut = append(one.LeaveOut, c.From)
		}
	}
	check, err := rows.DryRun(ctx, rows.Job{Sources: r.opened.Sources, Plan: one, MaxRejects: -1})
	if err != nil {
		return m, err
	}
	return check.Misfits[len(one.Columns)-1], nil
}

// Plan is the plan as the person has decided it.
func (r *Review) Plan() (*plan.Plan, plan.Comments, error) { return r.planWith(maps.All(r.decided)) }

func (r *Review) planWith(decided func(func(int, Decision) bool)) (*plan.Plan, plan.Comments, error) {
	w := r.in.Wishes
	w.Same = r.in.Options.Same
	w.Decided = map[int]plan.Decided{}
	for i, d := range decided {
		x := plan.Decided{Name: d.Name, LeaveOut: d.LeaveOut, Nulls: d.Nulls}
		if d.Type.Kind != sqltype.None && d.Type != r.types[i] {
			as, open := r.opened.Profile.AsAt(i, d.Wanted)
			if len(open) > 0 {
				return nil, plan.Comments{}, need("%s: as %s, %s\n  %s", as.Header, d.Type, open[0].Text, open[0].Do)
			}
			x.As = as
		}
		w.Decided[i] = x
	}
	prof := *r.opened.Profile
	prof.Findings = slices.DeleteFunc(slices.Clone(prof.Findings),
		func(f profile.Finding) bool { return f.Code == profile.CodeNamedByPlace }) // the plan shows the name
	return plan.Build(r.opened.Sources, &prof, w)
}
