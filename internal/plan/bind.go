package plan

import (
	"fmt"

	"ambertray/internal/source"
)

// A Binding is a plan put to the sources that it is to load: where each column
// stands in each of them, and its expressions, compiled. It is made once, and is
// the only place where a name is looked up.
type Binding struct {
	Plan    *Plan
	Sources []*source.Source
	// Headers are those of all sources, those of the first first, as rejects are
	// kept under.
	Headers []string
	// At is the field of each column, by source; -1 where the source lacks it.
	At [][]int
	// Slots is the place of each field among Headers, by source; nil where they
	// stand in that order.
	Slots [][]int
	// Expressions are nil where the plan has none.
	Expressions *Expressions
}

// Bind puts a plan to sources, and says which column is not there.
func Bind(p *Plan, sources []*source.Source) (*Binding, error) {
	b := &Binding{Plan: p, Sources: sources}
	b.Headers, b.Slots = source.Match(sources, p.also())
	var err error
	if b.Expressions, err = p.Expressions(); err != nil {
		return nil, err
	}
	for k, src := range sources {
		at, err := p.places(src)
		if err != nil {
			return nil, err
		}
		b.At = append(b.At, at)
		if isInOrder(b.Slots[k]) {
			b.Slots[k] = nil
		}
	}
	return b, nil
}

func isInOrder(at []int) bool {
	for i, k := range at {
		if i != k {
			return false
		}
	}
	return true
}

// Headers are the columns of a plan's sources, those of the first first.
func (p *Plan) Headers(sources []*source.Source) []string {
	headers, _ := source.Match(sources, p.also())
	return headers
}

// also are the headers that mean another in the plan.
func (p *Plan) also() map[string]string {
	out := map[string]string{}
	for _, c := range p.Columns {
		for _, h := range c.Also {
			out[h] = c.From
		}
	}
	return out
}

// places finds the plan's columns in a source, behind the columns of our own.
func (p *Plan) places(src *source.Source) ([]int, error) {
	at, missing, _ := p.Positions(src.Layout.Columns[src.Layout.Lead:])
	for i := range at {
		if at[i] >= 0 {
			at[i] += src.Layout.Lead
		}
	}
	if len(missing) > 0 {
		return nil, &source.Problem{Source: src.Name, Line: src.Layout.Header, Decision: true,
			What: fmt.Sprintf("has no column %q, which the plan takes", missing[0]),
			Do: "its columns are " + List(src.Layout.Columns[src.Layout.Lead:]) +
				"; correct from: in the plan, or take the column out"}
	}
	return at, nil
}

// List is names as a sentence has them, the first dozen.
func List(names []string) string {
	s := ""
	for i, n := range names {
		if i == 12 {
			return s + ", …"
		}
		if i > 0 {
			s += ", "
		}
		s += n
	}
	return s
}
