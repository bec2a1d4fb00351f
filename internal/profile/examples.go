package profile

import (
	"slices"

	"ambertray/internal/phrase"
)

// maxExamples is how many lines and values are kept of anything remarkable.
const maxExamples = 5

// An Example is one value and the line its record starts on.
type Example struct {
	Line  int64  `json:"line"`
	Value string `json:"value"`
	// Cell is where the value stands in a sheet, like C17.
	Cell string `json:"cell,omitempty"`
	// Source is the one it stands in, where there are several.
	Source string `json:"source,omitempty"`
}

// Place is where the value stands, for people.
func (e Example) Place() string {
	place := "line " + phrase.Grouped(e.Line)
	if e.Cell != "" {
		place = e.Cell
	}
	if e.Source != "" {
		place = e.Source + " " + place
	}
	return place
}

// examples counts something and keeps the first few by line.
type examples struct {
	count int64
	first []Example
}

// add counts a field that stands times times, first on line.
func (e *examples) add(line int64, field []byte, times int64) {
	e.count += times
	if len(e.first) < maxExamples || line < e.first[maxExamples-1].Line {
		e.keep(line, field)
	}
}

func (e *examples) keep(line int64, field []byte) {
	i := len(e.first)
	for i > 0 && e.first[i-1].Line > line {
		i--
	}
	e.first = slices.Insert(e.first, i, Example{Line: line, Value: clip(field)})
	e.first = e.first[:min(len(e.first), maxExamples)]
}

// clip copies a field, of which 200 bytes are enough to recognise it.
func clip(field []byte) string {
	if len(field) > 200 {
		return string(field[:200]) + "…"
	}
	return string(field)
}

func (e *examples) merge(o examples) {
	e.count += o.count
	e.first = mergeExamples(e.first, o.first)
}

func mergeExamples(lists ...[]Example) []Example {
	var all []Example
	for _, l := range lists {
		all = append(all, l...)
	}
	slices.SortStableFunc(all, func(a, b Example) int { return int(a.Line - b.Line) })
	if len(all) > maxExamples {
		all = all[:maxExamples]
	}
	return all
}
