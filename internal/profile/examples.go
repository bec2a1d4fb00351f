package profile

import (
	"cmp"
	"slices"
	"unicode/utf8"

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

	at spot // while the pass runs
}

// A spot is a line of one of several sources, such that spots of the same source
// are in the order of their lines, and those of others behind.
type spot int64

const lineBits = 40

func spotOf(source int, line int64) spot { return spot(int64(source)<<lineBits | line) }

func (s spot) line() int64 { return int64(s) & (1<<lineBits - 1) }
func (s spot) source() int { return int(s >> lineBits) }

func exampleAt(at spot, field []byte) Example {
	return Example{Line: at.line(), Value: clip(field), at: at}
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
func (e *examples) add(line spot, field []byte, times int64) {
	if e.count += times; e.wants(line) {
		e.keep(line, field)
	}
}

// wants reports whether what stands on the line would be kept.
func (e *examples) wants(line spot) bool {
	return len(e.first) < maxExamples || line < e.first[maxExamples-1].at
}

func (e *examples) keep(line spot, field []byte) { e.place(exampleAt(line, field)) }

// place puts an example where its line belongs.
func (e *examples) place(x Example) {
	if e.first == nil {
		e.first = make([]Example, 0, maxExamples+1) // one is taken out where it is full
	}
	i := len(e.first)
	for i > 0 && e.first[i-1].at > x.at {
		i--
	}
	e.first = slices.Insert(e.first, i, x)
	e.first = e.first[:min(len(e.first), maxExamples)]
}

// clip copies a field, of which 200 bytes are enough to recognise it.
func clip(field []byte) string {
	if len(field) > 200 {
		n := 200
		for n > 0 && !utf8.RuneStart(field[n]) {
			n--
		}
		return string(field[:n]) + "…"
	}
	return string(field)
}

func (e *examples) merge(o examples) {
	e.count += o.count
	for _, x := range o.first {
		if !e.wants(x.at) {
			break
		}
		e.place(x)
	}
}

func mergeExamples(lists ...[]Example) []Example {
	var all []Example
	for _, l := range lists {
		all = append(all, l...)
	}
	slices.SortStableFunc(all, func(a, b Example) int { return cmp.Compare(a.at, b.at) })
	if len(all) > maxExamples {
		all = all[:maxExamples]
	}
	return all
}
