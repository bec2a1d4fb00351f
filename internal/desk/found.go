package desk

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"ambertray/internal/db"
	"ambertray/internal/match"
	"ambertray/internal/phrase"
	"ambertray/internal/plan"
	"ambertray/internal/profile"
	"ambertray/internal/source"
)

// A FoundEvent tells, before it takes effect, what was decided from the evidence,
// and what a careful person would look at first.
type FoundEvent struct {
	Source string
	// Decided is what the request left open, a decision each.
	Decided  []string
	Cautions []profile.Finding
}

func (FoundEvent) event() {}

// found tells what was decided, and returns it as the papers keep it. With a
// plan, nothing was.
func (d *Desk) found(o *Opened, into destination) (decided []string, cautions []profile.Finding) {
	if o.Given {
		return nil, nil
	}
	decided, cautions = o.Decided(into), o.Cautions(into)
	d.tell(FoundEvent{o.Name(), decided, cautions})
	return decided, cautions
}

// A destination says whether the types of a file's columns are decided by its
// values, or by the table that they go into.
type destination bool

const (
	intoNew   destination = false
	intoTable destination = true
)

// Cautions are the findings that a careful person would look at before the
// records go anywhere.
func (o *Opened) Cautions(into destination) []profile.Finding {
	var out []profile.Finding
	for _, f := range o.Profile.Findings {
		if f.Weight == profile.Caution && (into == intoNew || !f.Code.OfType()) && !o.leftOut(f) {
			out = append(out, f)
		}
	}
	return out
}

// leftOut reports whether a finding is about a column that is not loaded.
func (o *Opened) leftOut(f profile.Finding) bool {
	return f.Column != "" && o.Plan != nil && slices.Contains(o.Plan.LeaveOut, f.Column) &&
		!slices.ContainsFunc(o.Plan.Columns, func(c plan.Column) bool { return c.From == f.Column })
}

// nullWords are the words of columns that became null, and those that were kept, with their counts.
func (o *Opened) nullWords() (out []string) {
	for _, c := range o.Profile.Columns {
		if c.NullWord > 0 && !o.leftOut(profile.Finding{Column: c.Header}) {
			out = append(out, fmt.Sprintf("%s: %s taken as null in %s", c.Header,
				strings.Join(quotedAll(c.Nulls), ", "), phrase.Count(c.NullWord, "record")))
		}
	}
	for _, f := range o.Profile.Findings {
		if f.Code == profile.CodeNullWordKept && !o.leftOut(f) {
			out = append(out, f.Column+": "+f.Text)
		}
	}
	const most = 6
	if n := len(out) - most; n > 0 {
		out = append(out[:most], fmt.Sprintf("and words for null in %s", phrase.Count(int64(n), "other column")))
	}
	return out
}

func quotedAll(words []string) (out []string) {
	for _, w := range words {
		out = append(out, "'"+w+"'")
	}
	return out
}

// Decided is what was decided from the evidence and not by the request.
func (o *Opened) Decided(into destination) []string {
	var out []string
	for _, e := range o.First().Evidence {
		switch {
		case e.Given, e.What == "footer": // it is counted below
		case e.What == "header" && o.First().Layout.Header > 0:
			out = append(out, e.What+" in "+e.Value)
		default:
			out = append(out, e.What+" "+e.Value)
		}
	}
	if n := len(o.Sources); n > 1 {
		out = []string{fmt.Sprintf("each of %s by itself", phrase.Count(int64(n), "source"))}
	}
	for _, k := range source.SkippedAlways {
		if n := o.Profile.Skipped[k]; n > 0 {
			out = append(out, k.Words(n)+" skipped")
		}
	}
	if into == intoTable {
		return append(out, o.nullWords()...)
	}
	const most = 12
	var columns []string
	for i, c := range o.Plan.Columns {
		if i == most {
			columns = append(columns, fmt.Sprintf("and %s more", phrase.Grouped(int64(len(o.Plan.Columns)-most))))
			break
		}
		columns = append(columns, c.Name+" "+c.Type)
	}
	out = append(out, phrase.Count(int64(len(o.Plan.Columns)), "column")+": "+strings.Join(columns, ", "))
	out = append(out, o.nullWords()...)
	if len(o.Plan.Table.Key) > 0 {
		return append(out, "key "+strings.Join(o.Plan.Table.Key, ", "))
	}
	return append(out, "no key")
}

// notAsPlanned are differences from a plan or a table, as cautions.
func notAsPlanned(changes []match.Change) (out []profile.Finding) {
	for _, c := range changes {
		if c.Weight == match.Caution {
			text := c.Text
			if c.Source != "" {
				text = c.Source + ": " + text
			}
			out = append(out, profile.Finding{Weight: profile.Caution, Code: profile.CodeNotAsPlanned, Column: c.Column,
				Text: text})
		}
	}
	return out
}

func notAsTable(pairings []match.Pairing) (out []profile.Finding) {
	for _, p := range pairings {
		if p.Weight == match.Caution {
			out = append(out, profile.Finding{Weight: profile.Caution, Code: profile.CodeNotAsTable, Column: p.From,
				Text: p.Text})
		}
	}
	return out
}

// A Strict error says that a request that takes no cautions has some.
type Strict struct{ Cautions []profile.Finding }

func (e *Strict) Error() string {
	text := fmt.Sprintf("--strict: %s; nothing was done", phrase.Count(int64(len(e.Cautions)), "caution"))
	const most = 8
	for _, c := range e.Cautions[:min(len(e.Cautions), most)] {
		text += "\n  " + c.Short()
	}
	if n := len(e.Cautions) - most; n > 0 {
		text += fmt.Sprintf("\n  and %d more", n)
	}
	return text
}

// strictly ends a request that takes no cautions.
func strictly(strict bool, cautions []profile.Finding) error {
	if !strict || len(cautions) == 0 {
		return nil
	}
	return &Need{&Strict{cautions}}
}

// goOn asks whether to go on in spite of cautions about a file. It may write the
// plan of the load instead.
func (l *loading) goOn(ctx context.Context) error {
	if len(l.doubts) == 0 || l.req.Yes || l.Ask == nil {
		return nil
	}
	file := l.in.Plan.Table.Name + ".yaml"
	q := Question{Code: InSpiteOf, Ask: "Load it in spite of " + phrase.Count(int64(len(l.doubts)), "caution") + "?",
		Answer: "say --yes to go on", Choices: []Choice{
			{"load", "load it as decided", "--yes"},
			{"stop", "stop here; nothing has changed", ""}}}
	if !FileExists(file) {
		q.Choices = append(q.Choices, Choice{"plan", "write the plan to " + file + ", to be edited and loaded", ""})
	}
	answer, err := l.Ask(ctx, q)
	switch {
	case err != nil:
		return err
	case answer == "load":
		return nil
	case answer == "plan":
		p := *l.in.Plan
		p.Sources = l.asked
		b, err := p.Encode(l.in.Comments)
		if err != nil {
			return err
		}
		if err := (Output{File: file}).Write(func(w io.Writer) error { _, err := w.Write(b); return err }); err != nil {
			return err
		}
		return need("nothing was loaded\n  the plan is in %s: edit it, and load it in the place of the file", file)
	}
	return need("not confirmed; nothing was changed")
}

// destination is where the rows go.
func (r *LoadRequest) destination() destination {
	return destination(r.Mode == db.Append || r.Mode == db.Refill || r.Mode == db.Merge || r.Like != "")
}
