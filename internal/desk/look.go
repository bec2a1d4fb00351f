package desk

import (
	"context"
	"errors"
	"slices"

	"ambertray/internal/plan"
	"ambertray/internal/profile"
	"ambertray/internal/rows"
	"ambertray/internal/source"
)

// A LookRequest asks what is in files, each by itself.
type LookRequest struct {
	Input
	First int // how many of the first records
}

// A LookAnswer is what is in them.
type LookAnswer struct {
	Document
	Sources []LookSource `json:"sources"`
	// Outcome is Undecided where the evidence leaves something open.
	Outcome Outcome `json:"-"`
	// Choice is set, instead of all else, where a part of a file has to be chosen.
	Choice *source.Choice `json:"-"`
}

// LookSource is one file, or one table of several.
type LookSource struct {
	Path      string            `json:"path"`
	Size      int64             `json:"size"`
	Encoding  string            `json:"encoding"`
	Delimiter string            `json:"delimiter"`
	Quote     string            `json:"quote"`
	Escape    string            `json:"escape"`
	Header    int64             `json:"header"`
	Evidence  []source.Evidence `json:"evidence"`
	Records   int64             `json:"records"`
	Limited   bool              `json:"limited"`
	Skipped   map[string]int64  `json:"skipped"`
	Columns   []LookColumn      `json:"columns"`
	Keys      [][]string        `json:"keys"`
	Findings  []profile.Finding `json:"findings"`
	First     []LookRecord      `json:"first"`
	Plan      *LookPlan         `json:"plan,omitempty"`

	// What the document is made of, for whoever shows it.
	Opened *Opened     `json:"-"`
	Check  *rows.Check `json:"-"` // only with a plan
	Made   []Made      `json:"-"` // only with a plan that derives columns
}

// LookColumn is one column of a file.
type LookColumn struct {
	Position      int                  `json:"position"`
	Name          string               `json:"name"`
	Header        string               `json:"header"`
	Type          string               `json:"type"`
	Required      bool                 `json:"required"`
	Blanks        int64                `json:"blanks"`
	QuotedBlanks  int64                `json:"quoted_blanks"`
	NullWords     []string             `json:"null_words,omitempty"`
	NullWordCount int64                `json:"null_word_count,omitempty"`
	Misfits       int64                `json:"misfits,omitempty"`
	Reading       any                  `json:"reading,omitempty"`
	Smallest      string               `json:"smallest"`
	Largest       string               `json:"largest"`
	Longest       int                  `json:"longest"`
	LongestBytes  int                  `json:"longest_bytes"`
	ASCII         bool                 `json:"ascii"`
	Distinct      int64                `json:"distinct"`
	DistinctExact bool                 `json:"distinct_exact"`
	Unique        bool                 `json:"unique"`
	Values        []profile.ValueCount `json:"values,omitempty"`
	Why           string               `json:"why"`
}

// LookRecord is one of the first records.
type LookRecord struct {
	Line   int64    `json:"line"`
	Fields []string `json:"fields"`
}

// LookPlan is what a plan would do to the file.
type LookPlan struct {
	Read     int64         `json:"read"`
	Loaded   int64         `json:"would_load"`
	Rejected int64         `json:"would_reject"`
	Skipped  int64         `json:"skipped"`
	Columns  []PlanMisfits `json:"columns"`
}

// PlanMisfits are the values of a file that do not fit a column of the plan.
type PlanMisfits struct {
	Name     string            `json:"name"`
	Type     string            `json:"type"`
	Misfits  int64             `json:"misfits"`
	Examples []profile.Example `json:"examples,omitempty"`
}

// Made is the first records of a source as a plan makes them.
type Made struct {
	Source  string
	Records []profile.Preview
	Err     error
}

// Parts of a file that has to be chosen from.
type ChoiceAnswer struct {
	Document
	Source  string        `json:"source"`
	Sheets  []source.Part `json:"sheets,omitempty"`
	Members []source.Part `json:"members,omitempty"`
	// Names are ranges of a workbook that have a name.
	Names []source.Named `json:"names,omitempty"`
	// Others are tabs without cells, with what they are.
	Others []string `json:"others,omitempty"`
}

// Look reads files whole. begun is called with each as soon as it is read.
func (d *Desk) Look(ctx context.Context, r LookRequest, begun func(*LookSource)) (*LookAnswer, error) {
	a := &LookAnswer{Document: document("look"), Outcome: Done, Sources: []LookSource{}}
	var inputs []Input
	for _, name := range r.Names {
		one := r.Input
		one.Names = []string{name}
		one.Options.Settled = true
		inputs = append(inputs, one)
	}
	for k := 0; k < len(inputs); k++ {
		o, err := d.open(ctx, inputs[k], opening{profiled: true, once: true})
		var several *severalTables
		if errors.As(err, &several) {
			inputs = slices.Replace(inputs, k, k+1, several.inputs()...)
			k-- // the first of them is next
			continue
		}
		var choice *source.Choice
		if errors.As(err, &choice) {
			a.Choice, a.Outcome = choice, Undecided
			return a, nil
		}
		if err != nil {
			return a, err
		}
		x, err := d.lookAt(ctx, o, r.First)
		if err != nil {
			return a, err
		}
		for _, f := range o.Profile.Findings {
			if f.Weight == profile.Blocker {
				a.Outcome = Undecided
			}
		}
		a.Sources = append(a.Sources, *x)
		if begun != nil {
			begun(x)
		}
	}
	return a, nil
}

// JSON is the document of the answer.
func (a *LookAnswer) JSON() any {
	c := a.Choice
	if c == nil {
		for i := range a.Sources {
			a.Sources[i].columns()
		}
		return a
	}
	x := ChoiceAnswer{Document: document("choice"), Source: c.Source, Names: c.Names, Others: c.Others}
	if c.What == "member" {
		x.Members = list(c.Parts)
	} else {
		x.Sheets = list(c.Parts)
	}
	return x
}

func (d *Desk) lookAt(ctx context.Context, o *Opened, first int) (*LookSource, error) {
	var check *rows.Check
	if o.Given {
		var err error
		if check, err = rows.DryRun(ctx, rows.Job{Sources: o.Sources, Plan: o.Plan, MaxRejects: -1}); err != nil {
			return nil, err
		}
	}
	x := lookSource(o, check, first)
	if first > 0 && o.Given && o.Plan.Derives() {
		x.Made = made(ctx, o, first)
	}
	return x, nil
}

// most is of how many sources the records are shown as a plan makes them.
const most = 3

func made(ctx context.Context, o *Opened, first int) (out []Made) {
	for _, src := range o.Sources[:min(len(o.Sources), most)] {
		m := Made{Source: src.Name}
		if m.Records, m.Err = rows.Preview(ctx, src, o.Plan, max(1, first/min(len(o.Sources), most))); m.Err != nil {
			return append(out, m)
		}
		for i := range m.Records {
			m.Records[i].Line = int64(i + 1)
		}
		out = append(out, m)
	}
	return out
}

// columns writes the columns into the document; who shows them otherwise goes by Opened.
func (x *LookSource) columns() {
	o := x.Opened
	x.Columns = make([]LookColumn, 0, len(o.Profile.Columns))
	for i, c := range o.Profile.Columns {
		var planned *plan.Column
		if !o.Given {
			planned = &o.Plan.Columns[i]
		}
		x.Columns = append(x.Columns, lookColumn(c, planned))
	}
}

func lookSource(o *Opened, check *rows.Check, first int) *LookSource {
	src, p := o.First(), o.Profile
	form := src.Layout.Form
	x := &LookSource{Path: src.Name, Size: src.Size, Encoding: src.Layout.Encoding, Delimiter: form.Delimiter,
		Header:   src.Layout.Header,
		Evidence: src.Evidence, Records: p.Records, Limited: p.Limited, Skipped: map[string]int64{}, Keys: list(p.Keys),
		Findings: list(p.Findings),
		Columns:  []LookColumn{}, First: []LookRecord{}, Opened: o, Check: check}
	if form.Quote != 0 {
		x.Quote = string(rune(form.Quote))
	}
	if form.Escape != 0 {
		x.Escape = string(rune(form.Escape))
	}
	for k, n := range p.Skipped {
		x.Skipped[k.String()] = n
	}
	for _, r := range p.First[:min(first, len(p.First))] {
		x.First = append(x.First, LookRecord{r.Line, r.Fields})
	}
	if check != nil {
		c := check.Records
		x.Plan = &LookPlan{Read: c.Read, Loaded: c.Loaded, Rejected: c.Rejected, Skipped: c.Skipped}
		for i, c := range o.Plan.Columns {
			x.Plan.Columns = append(x.Plan.Columns,
				PlanMisfits{c.Name, c.Type, check.Misfits[i].Count, check.Misfits[i].First})
		}
	}
	return x
}

// lookColumn is a column with what was suggested for it, or nil.
func lookColumn(c *profile.Column, planned *plan.Column) LookColumn {
	x := LookColumn{Position: c.Position, Name: c.Header, Header: c.Header, Type: c.Type.String(), Required: c.Required,
		Blanks:       c.Blanks,
		QuotedBlanks: c.Quoted, NullWords: c.Nulls, NullWordCount: c.NullWord, Misfits: c.Misfits, Smallest: c.Smallest,
		Largest: c.Largest,
		Longest: c.Longest, LongestBytes: c.LongestBytes, ASCII: c.ASCII, Distinct: c.Distinct,
		DistinctExact: c.DistinctExact,
		Unique:        c.Unique, Why: c.Why}
	if len(c.Values) <= 20 {
		x.Values = c.Values
	}
	if planned != nil {
		x.Name = planned.Name
		if planned.Reading != nil {
			x.Reading, _ = planned.Reading.MarshalYAML()
		}
	}
	return x
}
