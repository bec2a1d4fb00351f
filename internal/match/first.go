package match

import (
	"slices"

	"ambertray/internal/db"
	"ambertray/internal/plan"
	"ambertray/internal/reading"
	"ambertray/internal/source"
	"ambertray/internal/sqltype"
)

// A FirstLine is what the line that was taken for a source's header is beside the
// columns of a table.
type FirstLine uint8

// What it can be.
const (
	Names      FirstLine = iota // one is a column's name, or does not fit its type
	Record                      // it fits types that a name would not fit
	CannotTell                  // it fits, and would do so as names, too
)

// First tells what a line that was taken for the header is, where columns are
// paired by position: the types of the table's columns are evidence.
func First(src *source.Source, p *plan.Plan, t *db.Table, opt MapOptions) FirstLine {
	m := &pairer{Mapping: &Mapping{}, opt: opt, from: p, table: t, finder: finderOf(t), taken: map[string]bool{}}
	open := m.open()
	fields := src.Layout.Columns
	if slices.ContainsFunc(fields, func(f string) bool { return m.find(f) != nil }) {
		return Names
	}
	verdict := CannotTell
	for i := range p.Columns {
		pc := p.Columns[i]
		at := slices.Index(fields, pc.From)
		if i >= len(open) || at < 0 {
			continue
		}
		typ := readAs(pc.SQLType(), open[i])
		if open[i].Truth {
			typ.Kind = sqltype.Boolean // the other values may be numbers without it
		}
		pc.Type, pc.Required, pc.Default = typ.String(), open[i].Required, nil
		r, err := pc.Reader()
		if err != nil {
			return CannotTell
		}
		var v reading.Value
		if r.Read([]byte(fields[at]), false, &v) != reading.OK {
			return Names
		}
		if !r.Type.IsText() && fields[at] != "" {
			verdict = Record
		}
	}
	return verdict
}
