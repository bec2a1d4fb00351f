package report

import (
	"fmt"
	"html/template"
	"strings"
	"time"
)

// A Trend is a figure of the load beside those of the loads before it.
type Trend struct {
	Column  string      `json:"column,omitempty"`
	Measure string      `json:"measure"` // as match names it
	Far     bool        `json:"far"`     // off what it was
	Loads   []TrendLoad `json:"loads"`   // the oldest first, this one last
}

// A TrendLoad is the figure of one load.
type TrendLoad struct {
	Started time.Time `json:"started"`
	Value   float64   `json:"value"`
	Text    string    `json:"text"`
}

// Flat reports whether the figure has never changed.
func (t *Trend) Flat() bool {
	for _, l := range t.Loads {
		if l.Text != t.Loads[0].Text {
			return false
		}
	}
	return true
}

// What says what the figure is.
func (t *Trend) What() string {
	return map[string]string{"records": "records", "rejected": "rejected, of the records",
		"blank": "blank, of the records",
		"mean":  "mean", "length": "length in bytes, on average",
		"distinct": "different values", "spread": "standard deviation", "smallest": "smallest value",
		"largest": "largest value", "words": "different words",
		"earliest": "earliest day", "latest": "latest day"}[t.Measure]
}

// Before are the figures of the loads before; Now is that of the load.
func (t *Trend) Before() []TrendLoad { return t.Loads[:len(t.Loads)-1] }
func (t *Trend) Now() TrendLoad      { return t.Loads[len(t.Loads)-1] }

// The size of the small picture of a trend, in units of the page.
const (
	trendHeight = 26.0
	trendStep   = 16.0
	trendBar    = 11.0
)

// Picture draws the figures as bars on one scale, from zero, the load's own last.
func (t *Trend) Picture() template.HTML {
	lo, hi := 0.0, 0.0
	for _, l := range t.Loads {
		lo, hi = min(lo, l.Value), max(hi, l.Value)
	}
	if hi == lo {
		hi = lo + 1
	}
	y := func(v float64) float64 { return trendHeight * (hi - v) / (hi - lo) }
	wide := trendStep * float64(len(t.Loads))
	var b strings.Builder
	fmt.Fprintf(&b, `<svg viewBox="0 0 %g %g" width="%g" height="%g" role="img">`, wide, trendHeight, wide, trendHeight)
	for i, l := range t.Loads {
		class := "was"
		if i == len(t.Loads)-1 {
			class = "now"
		}
		top, bottom := y(max(l.Value, 0)), y(min(l.Value, 0))
		if bottom-top < 1 {
			top = bottom - 1 // also nothing is to be seen
		}
		fmt.Fprintf(&b, `<rect class="%s" x="%.2f" y="%.2f" width="%g" height="%.2f"/>`, class, float64(i)*trendStep,
			max(top, 0), trendBar, bottom-top)
	}
	b.WriteString("</svg>")
	return template.HTML(b.String())
}
