package match

import (
	"slices"

	"ambertray/internal/phrase"
	"ambertray/internal/plan"
	"ambertray/internal/reading"
	"ambertray/internal/source"
)

// A plan tells which lines are no records. Of a file that it was not made from, each of those
// lines has to be what the plan takes it for: no record is passed over for its place alone.

// passed adds the lines that the plan passes over and that look like records, and those that it
// takes for records and that do not look like any.
func (x *changes) passed(p *plan.Plan, at []int) error {
	readers, err := readersOf(p)
	if err != nil {
		return err
	}
	is := func(l source.Line) likeness { return looksLike(l, x.src, readers, at) }
	for _, l := range x.src.Titles {
		if looks := is(l); looks != noRecord {
			x.line(l, looks, "stands above the records, and looks like one")
		}
	}
	for _, l := range x.src.Footers {
		if looks := is(l); looks == asTyped || looks == asText && x.src.ExactFooter() {
			x.line(l, looks, "is a footer by the plan, and looks like a record")
		}
	}
	if n := x.src.BelowRows; n > 0 && is(x.src.BelowRange) == asTyped {
		x.add("", Blocking, true, "%s right below the range %s, and the first looks like a record: '%s'; make the "+
			"range longer in the plan, or say --accept-changes to leave them out", lines(n, "row stands", "rows stand"),
			x.src.Range, reading.Shorten(x.src.BelowRange.Raw, 60))
	}
	if n := len(x.src.MaybeFooters); n > 0 {
		x.add("", Blocking, true, "ends with %s no record: %s; write footer: words in the plan to skip such lines, "+
			"footer: none to take them as records, or say --accept-changes",
			lines(n, "line that looks like", "lines that look like"), source.Beginnings(x.src.MaybeFooters, 3))
	}
	if x.src.FooterLost {
		x.add("", Caution, false, "has no footer, and the file that the plan was made from had one: it may have "+
			"been cut off")
	}
	return nil
}

// lines is a number of something that has a plural of its own.
func lines(n int, one, many string) string {
	if n == 1 {
		return "a " + one
	}
	return phrase.Grouped(int64(n)) + " " + many
}

// line adds a line that would be passed over.
func (x *changes) line(l source.Line, looks likeness, what string) {
	where := "a line"
	if l.Number > 0 {
		where = x.src.Place(l.Number, -1)
	}
	text := reading.Shorten(l.Raw, 60)
	if looks == asText { // any text would
		x.add("", Caution, true, "%s %s: '%s'; it is not loaded", where, what, text)
		return
	}
	x.add("", Blocking, true, "%s %s: '%s'; correct the source in the plan (header: names, footer: words or none), or "+
		"say --accept-changes to leave it out", where, what, text)
}

// A likeness is how much a line is like a record.
type likeness uint8

const (
	noRecord likeness = iota
	asText            // as full as a record, though all of the plan's columns take any text
	asTyped           // all fields fit their columns, numbers or dates among them
)

func readersOf(p *plan.Plan) (out []*reading.Reader, err error) {
	for i := range p.Columns {
		r, err := p.Columns[i].Reader()
		if err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	return out, nil
}

// looksLike says how much a line is like the records of a source, whose columns stand at the
// places of the readers.
func looksLike(l source.Line, src *source.Source, readers []*reading.Reader, at []int) likeness {
	columns := len(src.Layout.Columns)
	filled := len(l.Fields) - countBlank(l.Fields)
	if len(l.Fields) != columns && !(src.HasCells() && len(l.Fields) < columns) || 2*filled <= columns {
		return noRecord
	}
	typed := false
	var v reading.Value
	for i, r := range readers {
		if at[i] < 0 || at[i] >= len(l.Fields) {
			continue
		}
		if r.Read([]byte(l.Fields[at[i]]), false, &v) != reading.OK {
			return noRecord
		}
		typed = typed || !v.Null && !r.Type.IsText()
	}
	switch {
	case typed:
		return asTyped
	case filled == columns && columns > 1 && !slices.ContainsFunc(readers, notText):
		return asText
	}
	return noRecord
}

func notText(r *reading.Reader) bool { return !r.Type.IsText() }

func countBlank(fields []string) (n int) {
	for _, f := range fields {
		if source.IsBlank(f) {
			n++
		}
	}
	return n
}
