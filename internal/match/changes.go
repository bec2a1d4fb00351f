package match

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ambertray/internal/phrase"
	"ambertray/internal/plan"
	"ambertray/internal/profile"
	"ambertray/internal/rows"
	"ambertray/internal/source"
	"ambertray/internal/sqltype"
	"ambertray/internal/tray"
)

// A Change is a difference between the file that a plan was made for and one
// that it is to load now.
type Change struct {
	Source string `json:"source"`
	Column string `json:"column"` // header, or "" for the file as a whole
	Weight Weight `json:"weight"`
	Text   string `json:"text"`
	// Misfits tells that values do not fit, which the caller may accept.
	Misfits bool `json:"misfits"`
	// New tells that the column is new.
	New bool `json:"new"`
}

// retyped is the share of a column's values from which on misfits are taken
// for a change of the column, and not for a few bad values.
const retyped = 0.01

// changes is a source that is compared with a plan.
type changes struct {
	src *source.Source
	out []Change
}

func (x *changes) add(column string, w Weight, misfits bool, format string, args ...any) {
	x.out = append(x.out, Change{Source: x.src.Name, Column: column, Weight: w, Text: fmt.Sprintf(format, args...),
		Misfits: misfits})
}

// form adds that the file's form is another, if it is.
func (x *changes) form(ctx context.Context) {
	if what := form(ctx, x.src); what != "" {
		x.add("", Blocking, false, "%s", what)
	}
}

// Changes compares a source with a plan: its columns and, with values, whether
// every value still fits. tolerate is the share of misfits that is no change.
func Changes(ctx context.Context, src *source.Source, p *plan.Plan, values bool, tolerate float64) ([]Change, error) {
	x := &changes{src: src}
	at, missing := x.columns(p)
	if !missing {
		if err := x.passed(p, at); err != nil {
			return nil, err
		}
	}
	switch {
	case missing:
		x.form(ctx)
		return x.out, nil
	case !values:
		return x.out, nil
	case src.Flows():
		x.add("", Caution, false, "it is read once, so that its values cannot be compared with the plan before; "+
			"those that do not fit become rejects")
		return x.out, nil
	}
	err := x.values(ctx, p, at, max(tolerate, retyped))
	return x.out, err
}

// Uncovered are the sheets and members of the sources' files that a plan neither
// takes nor knew of, as differences. Of a plan that does not say what it was made
// from, it is not known what it knew of.
func Uncovered(sources []*source.Source, p *plan.Plan) (out []Change) {
	known, made := map[string]bool{}, false
	for _, s := range p.Sources {
		for _, seen := range s.Seen {
			made = true
			for _, name := range seen.Others {
				known[name] = true
			}
		}
	}
	taken := map[[2]string]bool{}
	for _, s := range sources {
		taken[[2]string{s.Path, cmp.Or(s.Sheet, s.Member)}] = true
	}
	for _, s := range sources {
		what, key := "sheet", "sheet: all"
		if s.Sheet == "" {
			what, key = "member", "a pattern under member:"
		}
		for _, name := range s.Others {
			at := [2]string{s.Path, name}
			if known[name] || taken[at] || p.Made(s) {
				continue
			}
			taken[at] = true
			c := Change{Source: s.Name, Weight: Caution,
				Text: fmt.Sprintf("its %s %q is not loaded: the plan does not name it", what, name)}
			if made {
				c.Weight, c.Text = Blocking, fmt.Sprintf("its %s %q is not in the plan, and was not there when the "+
					"plan was made; name it as a source of the plan, say %s, or write it under others: in seen: to "+
					"leave it out", what, name, key)
			}
			out = append(out, c)
		}
	}
	return out
}

// NothingToLeaveOut are the headers that a plan leaves out and no source has: a slip
// in the plan, or a column that is not sent any more.
func NothingToLeaveOut(sources []*source.Source, p *plan.Plan) (out []Change) {
	for _, h := range p.LeaveOut {
		same := func(c string) bool { return plan.Forgive(c) == plan.Forgive(h) }
		has := func(s *source.Source) bool { return slices.ContainsFunc(s.Layout.Columns, same) }
		if !slices.ContainsFunc(sources, has) {
			out = append(out, Change{Source: sources[0].Name, Column: h, Weight: Caution,
				Text: "the plan leaves it out, and there is no such column; correct leave_out, or take it out of it"})
		}
	}
	return out
}

// columns compares the names, and returns where the plan's columns stand.
func (x *changes) columns(p *plan.Plan) (at []int, lacks bool) {
	headers := x.src.Layout.Columns
	at, missing, extra := p.Positions(headers)
	for _, h := range missing {
		hint := ""
		i := slices.IndexFunc(p.Columns, func(c plan.Column) bool { return c.From == h })
		if i >= 0 && i < len(headers) && slices.Contains(extra, headers[i]) {
			hint = fmt.Sprintf("; in its place stands %q, perhaps a new name for it", headers[i])
		}
		x.add(h, Blocking, false, "is missing%s; correct from: in the plan, or take the column out", hint)
	}
	for _, h := range extra {
		if h == "" {
			h = "(without a name)"
		}
		x.add(h, Caution, false, "is new and not in the plan; it is not loaded. Name it under leave_out to settle that")
		x.out[len(x.out)-1].New = true
	}
	there := slices.DeleteFunc(slices.Clone(at), func(i int) bool { return i < 0 })
	if len(missing) == 0 && !slices.IsSorted(there) {
		x.add("", Fine, false, "the columns stand in another order than in the plan; they are found by their names")
		for _, h := range twice(p) {
			x.add(h, Blocking, true, "the header stands twice, and the columns stand in another order than in the "+
				"plan: which is which, the names do not tell; say --accept-changes to take them in their order")
		}
	}
	return at, len(missing) > 0
}

// twice are the headers that a plan takes more than once.
func twice(p *plan.Plan) (out []string) {
	count := map[string]int{}
	for _, c := range p.Columns {
		if c.Value != "" {
			continue
		}
		if count[c.From]++; count[c.From] == 2 {
			out = append(out, c.From)
		}
	}
	return out
}

// values reads the source, and tells of the values that do not fit the plan.
func (x *changes) values(ctx context.Context, p *plan.Plan, at []int, tolerate float64) error {
	c, err := rows.DryRun(ctx, rows.Job{Sources: []*source.Source{x.src}, Plan: p, MaxRejects: -1})
	var totals *rows.UndecidedTotals
	if errors.As(err, &totals) {
		x.add("", Blocking, false, "%s; write totals: skip or totals: keep under its source", totals.What())
		return nil
	}
	if err != nil {
		return err
	}
	records := c.Records.Read - c.Records.Skipped
	few := func(n int64) bool { return float64(n) <= tolerate*float64(max(records, 1)) }
	var now *profile.Profile
	for i, m := range c.Misfits {
		if m.Count == 0 {
			continue
		}
		pc := p.Columns[i]
		text := fmt.Sprintf("%s of %s do not fit %s: %s, first on line %s%s", phrase.Grouped(m.Count),
			phrase.Count(records, "value"), pc.Type, m.Reason, phrase.Grouped(m.First[0].Line),
			quoted(m.First[0].Value))
		if few(m.Count) {
			x.add(pc.From, Caution, true, "%s; they become rejects", text)
			continue
		}
		if now == nil {
			if now, err = profile.Run(ctx, x.src, profile.Options{}); err != nil {
				return err
			}
		}
		if t := now.Columns[max(at[i], 0)].Type; at[i] >= 0 && t.Kind != sqltype.None && t != pc.SQLType() {
			text += fmt.Sprintf("; all values would fit %s", t)
		}
		x.add(pc.From, Blocking, true,
			"%s; change type: or reading: in the plan, or say --accept-changes to reject the records", text)
	}
	i := slices.IndexFunc(c.Reasons, func(r tray.Reason) bool { return r.Column == "" })
	if i < 0 {
		return nil
	}
	r := c.Reasons[i]
	w := Blocking
	if few(r.Count) {
		w = Caution
	}
	x.add("", w, true, "%s: %s, first on line %s; they become rejects", phrase.Count(r.Count, "record"), r.Reason,
		phrase.Grouped(r.Line))
	if w == Blocking {
		x.form(ctx)
	}
	return nil
}

// form says in what the file's form is not the plan's any more, as far as it
// can be found out.
func form(ctx context.Context, src *source.Source) string {
	found, err := source.Open(ctx, src.Path, source.Known{})
	if err != nil {
		return ""
	}
	var what []string
	was, is := src.Layout, found.Layout
	if was.Form.Delimiter != is.Form.Delimiter {
		what = append(what, fmt.Sprintf("delimited by '%s', not '%s'", source.DelimiterName(is.Form.Delimiter),
			source.DelimiterName(was.Form.Delimiter)))
	}
	if !strings.EqualFold(was.Encoding, is.Encoding) && (was.Encoding == "utf-8" || !found.EncodingGuessed()) {
		what = append(what, fmt.Sprintf("in %s, not %s", is.Encoding, was.Encoding))
	}
	if was.Header != is.Header {
		what = append(what, fmt.Sprintf("with the column names on line %d, not %d", is.Header, was.Header))
	}
	if len(what) == 0 {
		return ""
	}
	return "the file looks as if it were written in another form: " + strings.Join(what, ", ") +
		"; correct the source in the plan"
}
