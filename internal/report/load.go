package report

import (
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"ambertray/internal/phrase"
	"ambertray/internal/plan"
	"ambertray/internal/profile"
	"ambertray/internal/source"
	"ambertray/internal/tally"
	"ambertray/internal/tray"
)

// A Load is the account of one load on a page: what came in, what was decided,
// what was loaded, and what was not.
type Load struct {
	Receipt *tray.Receipt `json:"receipt"`
	Sources []Source      `json:"sources"`
	Columns []Shown       `json:"columns"`
	LeftOut []string      `json:"left_out"` // headers that were not loaded
	Keep    string        `json:"keep"`     // the condition for records, or ""
	Rejects []Reject      `json:"rejects"`  // the first of them
	More    int64         `json:"more"`     // rejects that are not among them
	// Definition is the table's, in the database's SQL; "" where it existed.
	Definition string `json:"definition"`
	// Trends are figures beside those of the last loads into the table.
	Trends []Trend `json:"trends"`
	// Unseen says why nothing is known of how the values lie, or is "".
	Unseen string `json:"unseen"`
}

// A Source is what was read, and how it was taken apart.
type Source struct {
	tray.Source
	Form []string `json:"form"`
}

// A Shown column is one of the table, with what was decided and how its values lie.
type Shown struct {
	tray.Verified
	From     string   `json:"from"` // the source's column
	Key      int      `json:"key"`  // its place in the primary key, from 1, or 0
	Required bool     `json:"required"`
	Decided  []string `json:"decided"`  // what the plan says of it, with the evidence
	Cautions []string `json:"cautions"` // as they stand in the plan
	// By tells what Bars are of: class, value or length; Step how wide a class
	// is.
	By   string      `json:"by"`
	Step string      `json:"step"`
	Bars []tally.Bar `json:"bars"`

	longest int  // characters
	done    bool // the load has come to be
}

// A Reject is a record that was refused, and what became of it.
type Reject struct {
	Number  int64  `json:"reject"`
	Place   string `json:"place"`
	Column  string `json:"column"`
	Reason  string `json:"reason"`
	Value   string `json:"value"`
	State   string `json:"state"` // waiting, mended or waived
	Because string `json:"because"`
}

// Title names the sources.
func (l *Load) Title() string { return tray.Names(l.Receipt.Sources) }

// ToLookAt are the cautions of the load that do not stand beside a column.
func (l *Load) ToLookAt() (out []profile.Finding) {
	for _, f := range l.Receipt.Cautions {
		beside := slices.ContainsFunc(l.Columns,
			func(c Shown) bool { return c.From == f.Column && len(c.Cautions) > 0 })
		if !beside {
			out = append(out, f)
		}
	}
	return out
}

// NewLoad begins the account. Remarks are those that stand in the plan's file.
func NewLoad(r *tray.Receipt, p *plan.Plan, remarks plan.Comments) *Load {
	l := &Load{Receipt: r, LeftOut: append([]string{}, p.LeaveOut...), Keep: p.Keep, Columns: []Shown{},
		Rejects: []Reject{}, Trends: []Trend{}}
	for i, s := range r.Sources {
		known := min(i, len(p.Sources)-1)
		l.Sources = append(l.Sources, Source{s, form(&p.Sources[known], remarks, known)})
	}
	at := map[string]int{}
	for i, c := range p.Columns {
		at[c.Name] = i
	}
	for _, c := range r.Columns {
		x := Shown{Verified: c, From: "the record's number", Key: 1 + slices.Index(p.Table.Key, c.Name),
			Decided: []string{}, Cautions: []string{}, Bars: []tally.Bar{}}
		if i, ok := at[c.Name]; ok {
			pc := &p.Columns[i]
			x.From, x.Required, x.done = pc.From, pc.Required, r.Verdict != tray.Failed
			x.decided(pc, remarks, fmt.Sprintf("$.columns[%d]", i))
		}
		l.Columns = append(l.Columns, x)
	}
	return l
}

// form says how a source was taken apart.
func form(s *plan.Source, remarks plan.Comments, i int) (out []string) {
	for _, set := range source.Settings {
		if v, is := s.Settings[set.Key]; is && set.Words != nil {
			out = append(out, with(set.Words(v), remarks.Beside[fmt.Sprintf("$.sources[%d].%s", i, set.Key)]))
		}
	}
	return out
}

// decided says what the plan has of a column.
func (c *Shown) decided(p *plan.Column, remarks plan.Comments, path string) {
	say := func(key, text string) {
		c.Decided = append(c.Decided, with(text, remarks.Beside[path+"."+key]))
	}
	if p.Value != "" {
		c.From = "computed"
		say("value", "is "+p.Value)
	}
	if p.Fill != "" {
		say("fill", "where blank, "+p.Fill)
	}
	if why := remarks.Beside[path+".type"]; why != "" {
		c.Decided = append(c.Decided, why)
	}
	if r := p.Reading; r != nil {
		if words := r.Words(); words != "" {
			say("reading", "written: "+words)
		}
	}
	if len(p.Nulls) > 0 {
		say("null_words", "null is '"+strings.Join(p.Nulls, "', '")+"'")
	}
	if p.Trim {
		say("trim", "spaces around are taken off")
	}
	for _, r := range remarks.Above[path] {
		if c.done { // what the plan foretold has come to be
			r = strings.NewReplacer(" does not fit", " did not fit", " do not fit", " did not fit", "will be rejected",
				"had to be rejected").Replace(r)
		}
		c.Cautions = append(c.Cautions, r)
	}
}

// with puts the evidence behind what was decided.
func with(text, why string) string {
	if why == "" {
		return text
	}
	return text + " (" + why + ")"
}

// Distribute adds how the values of each column lie.
func (l *Load) Distribute(spreads []*tally.Spread) {
	for i, s := range spreads {
		c := &l.Columns[i]
		c.Step, c.longest = s.Step(), s.Longest()
		if c.By, c.Bars = s.Bars(); c.Bars == nil {
			c.Bars = []tally.Bar{}
		}
	}
}

// Share is a bar's length in percent of the longest one.
func (c *Shown) Share(n int64) float64 { return 100 * float64(n) / float64(max(c.most(), 1)) }

func (c *Shown) most() (most int64) {
	for _, b := range c.Bars {
		most = max(most, b.Count)
	}
	return
}

// Caption says what the bars of a picture are.
func (c *Shown) Caption() string {
	if len(c.Bars) == 1 {
		one := "all the same"
		if c.By == tally.ByLength {
			one = "all of " + phrase.Count(int64(c.longest), "character")
		}
		return one
	}
	what := fmt.Sprintf("a bar for each %s", c.Step)
	if c.By == tally.ByLength {
		what = "by length, " + c.Bars[0].Value + " to " + phrase.Count(int64(c.longest), "character")
	}
	return fmt.Sprintf("%s; the tallest: %s", what, phrase.Count(c.most(), "value"))
}

// The picture's size, in units of the page, and what a bar leaves to the next.
const (
	pictureWidth  = 300.0
	pictureHeight = 60.0
	widestBar     = 16.0
	gap           = 0.14 // of a bar's share of the width
)

// Picture draws classes or lengths as an SVG (W3C, SVG 1.1, 9.2). Bars that are not
// empty are to be seen, however small.
func (c *Shown) Picture() template.HTML {
	if len(c.Bars) < 2 || c.By == tally.ByValue {
		return ""
	}
	most := float64(c.most())
	step := pictureWidth / float64(len(c.Bars))
	wide := min(step*(1-gap), widestBar)
	var b strings.Builder
	fmt.Fprintf(&b, `<svg viewBox="0 0 %g %g" width="%g" height="%g" role="img">`, pictureWidth, pictureHeight,
		pictureWidth, pictureHeight)
	for i, x := range c.Bars {
		if x.Count == 0 {
			continue
		}
		high := pictureHeight * max(float64(x.Count)/most, 0.03)
		fmt.Fprintf(&b, `<rect x="%.2f" y="%.2f" width="%.2f" height="%.2f"/>`, float64(i)*step+(step-wide)/2,
			pictureHeight-high, wide, high)
	}
	b.WriteString("</svg>")
	return template.HTML(b.String())
}

// A Stretch is one part of the account's bar.
type Stretch struct {
	Name  string
	Count int64
	Share float64 // percent
}

// Account is where the records are, without what there is none of.
func (l *Load) Account() (out []Stretch) {
	c := l.Receipt.Records
	for _, x := range []Stretch{{"loaded", c.Loaded, 0}, {"mended", c.Mended, 0}, {"waived", c.Waived, 0},
		{"waiting", c.Rejected, 0}, {"skipped", c.Skipped, 0}} {
		if x.Count > 0 {
			x.Share = 100 * float64(x.Count) / float64(max(c.Read, 1))
			out = append(out, x)
		}
	}
	return
}

// Sum is the account as an equation.
func (l *Load) Sum() string {
	s := ""
	for i, x := range l.Account() {
		if i > 0 {
			s += " + "
		}
		s += phrase.Grouped(x.Count) + " " + x.Name
	}
	if s == "" {
		s = "0"
	}
	return phrase.Count(l.Receipt.Records.Read, "record") + " read = " + s
}

// Took is how long the load was.
func (l *Load) Took() time.Duration {
	return l.Receipt.Finished.Sub(l.Receipt.Started).Round(10 * time.Millisecond)
}

//go:embed load.html
var loadPage string

var loadTemplate = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("load").Funcs(functions).Parse(loadPage))
})

// HTML writes a page that needs nothing else.
func (l *Load) HTML(w io.Writer) error {
	return loadTemplate().Execute(w, map[string]any{"L": l, "R": l.Receipt, "Style": style})
}
