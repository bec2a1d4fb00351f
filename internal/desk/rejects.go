package desk

import (
	"cmp"
	"context"
	"regexp"
	"slices"

	"ambertray/internal/phrase"
	"ambertray/internal/reading"
	"ambertray/internal/tray"
)

// A RejectsRequest asks what a load refused.
type RejectsRequest struct {
	Entry string
	// All has those, too, that were mended or waived.
	All bool
	// Limit is how many are listed; 0: all.
	Limit int
	// Out gets them as a file that mend takes; ForSpreadsheet: with a mark before what a
	// spreadsheet would take for formulas.
	Out            Output
	ForSpreadsheet bool
}

// A RejectsAnswer is what it refused.
type RejectsAnswer struct {
	Document
	Entry   string         `json:"entry"`
	Headers []string       `json:"headers"`
	Groups  []*RejectGroup `json:"groups"`
	Rejects []RejectRow    `json:"rejects"`
	Count   int64          `json:"count"`
	File    string         `json:"file,omitempty"` // that they were written to
	Records tray.Records   `json:"records"`

	Of *Entry `json:"-"`
}

// A RejectGroup is rejects of one reason and column.
type RejectGroup struct {
	Column string       `json:"column"`
	Code   string       `json:"code"`
	Reason string       `json:"reason"`
	Count  int64        `json:"count"`
	Values []ValueCount `json:"values,omitempty"` // where there are few

	values map[string]int64
}

// A ValueCount is a value with how often it occurs.
type ValueCount struct {
	Value string `json:"value"`
	Count int64  `json:"count"`
}

// A RejectRow is one reject with what became of it.
type RejectRow struct {
	Reject int64    `json:"reject"`
	State  string   `json:"state"` // see tray.Outcome
	Source string   `json:"source"`
	Line   int64    `json:"line"`
	Cell   string   `json:"cell,omitempty"`
	Column string   `json:"column"`
	Code   string   `json:"code"`
	Reason string   `json:"reason"`
	Value  string   `json:"value"`
	Fields []string `json:"fields"`
}

const fewValues = 5 // up to so many different ones are listed

// Rejects lists what a load refused, by reason and record by record.
func (d *Desk) Rejects(ctx context.Context, r RejectsRequest) (*RejectsAnswer, error) {
	e, err := d.entry(r.Entry)
	if err != nil {
		return nil, err
	}
	if e.Receipt == nil {
		return nil, e.unsettled()
	}
	a := &RejectsAnswer{Document: document("rejects"), Entry: e.Name, Rejects: []RejectRow{},
		Records: e.Receipt.Records, Of: e}
	file, err := r.begin(ctx, e)
	if err != nil {
		return nil, err
	}
	groups := map[[2]string]*RejectGroup{}
	a.Headers, err = e.Outcomes(ctx, e.Receipt, func(x *tray.Outcome) error {
		if x.State != tray.StillWaits && !r.All {
			return nil
		}
		if err := file.add(x.Reject); err != nil {
			return err
		}
		key := [2]string{x.Column, kindOf(x.Reason)}
		g := groups[key]
		if g == nil {
			g = &RejectGroup{Column: key[0], Code: string(x.Code), Reason: key[1], values: map[string]int64{}}
			groups[key] = g
		}
		g.Count++
		if len(g.values) <= fewValues {
			g.values[x.Value]++
		}
		if a.Count++; r.Limit <= 0 || len(a.Rejects) < r.Limit {
			row := RejectRow{Reject: x.Number, State: x.State, Source: x.Source, Line: x.Line, Cell: x.Cell,
				Column: x.Column, Code: string(x.Code), Reason: x.Reason, Value: x.Value}
			for _, f := range x.Fields {
				row.Fields = append(row.Fields, f.Text)
			}
			a.Rejects = append(a.Rejects, row)
		}
		return nil
	})
	if err := file.finish(err); err != nil {
		return nil, err
	}
	a.Groups, a.File = inOrder(groups), r.Out.File
	return a, nil
}

// A rejectsFile is where rejects are written, or nil: nowhere.
type rejectsFile struct {
	to *tray.Rejects
	w  *output
}

func (r *RejectsRequest) begin(ctx context.Context, e *Entry) (*rejectsFile, error) {
	if r.Out.File == "" {
		return nil, nil
	}
	if r.ForSpreadsheet && r.Out.isBook() {
		return nil, need("--for-spreadsheet: in a workbook, all fields are texts anyway\n  leave it out")
	}
	if e.Receipt.Rejects() == 0 {
		return nil, need("%s: has no rejects, so that there is nothing to write", e.Name)
	}
	headers, cells, err := tray.RejectHeaders(ctx, e.Path(tray.OriginalFile))
	if err != nil {
		return nil, err
	}
	w, err := r.Out.begin()
	if err != nil {
		return nil, err
	}
	to := tray.RejectsTo(w, headers)
	if r.Out.isBook() {
		to = tray.RejectsToBook(w, headers)
	}
	if cells {
		to.Cells()
	}
	if r.ForSpreadsheet {
		to.ForSpreadsheet()
	}
	return &rejectsFile{to, w}, nil
}

func (f *rejectsFile) add(x tray.Reject) error {
	if f == nil {
		return nil
	}
	return f.to.AddAs(x)
}

func (f *rejectsFile) finish(err error) error {
	if f == nil {
		return err
	}
	if err == nil {
		err = f.to.Finish()
	}
	return f.w.finish(err)
}

// ownNumbers are what a database puts of the record into its words.
var ownNumbers = regexp.MustCompile(`\([^()=]*\)=\([^()]*\)|'[^']*'`)

// kindOf is a reason without the value that it names, so that groups are of
// more than one.
func kindOf(reason string) string {
	return reading.Shorten(ownNumbers.ReplaceAllString(reason, "…"), 120)
}

func inOrder(groups map[[2]string]*RejectGroup) []*RejectGroup {
	all := []*RejectGroup{}
	for _, g := range groups {
		if len(g.values) <= fewValues {
			for v, n := range g.values {
				g.Values = append(g.Values, ValueCount{v, n})
			}
			slices.SortFunc(g.Values, func(a, b ValueCount) int {
				return cmp.Or(cmp.Compare(b.Count, a.Count), cmp.Compare(a.Value, b.Value))
			})
		}
		all = append(all, g)
	}
	slices.SortFunc(all, func(a, b *RejectGroup) int {
		return cmp.Or(cmp.Compare(b.Count, a.Count), cmp.Compare(a.Column, b.Column), cmp.Compare(a.Reason, b.Reason))
	})
	return all
}

// StandsAt says where a record stands: in which line, or cell of a sheet, and in
// which source, where there are many.
func StandsAt(source string, line int64, cell string, many bool) string {
	place := "line " + phrase.Grouped(line)
	if cell != "" {
		place = cell
	}
	if many {
		place = source + ", " + place
	}
	return place
}
