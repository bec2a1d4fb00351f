package source

import (
	"bytes"

	"ambertray/internal/source/delimited"
)

// A Kind is what a row of a source is.
type Kind uint8

// The kinds of row. All but Data are skipped and counted.
const (
	Data Kind = iota
	Title
	Ruler
	BlankLine
	Footer
	// LeftOut is a record that a condition of the plan leaves out.
	LeftOut
	// Kinds is how many there are.
	Kinds
)

// String is the kind as receipts name it.
func (k Kind) String() string {
	return [Kinds]string{"data", "title", "ruler", "blank", "footer", "left-out"}[k]
}

// Rows reads the rows of chunks and tells what each is.
type Rows struct {
	layout   *Layout
	split    *delimited.Splitter
	row      int
	footerAt int
}

// NewRows returns a reader of rows for one goroutine.
func NewRows(l *Layout) *Rows {
	return &Rows{layout: l, split: delimited.NewSplitter(l.Form)}
}

// Reset starts on a chunk.
func (r *Rows) Reset(c *delimited.Chunk) {
	r.row, r.footerAt = 0, -1
	if c.Last && r.layout.Footer > 0 {
		// The footer's rows are counted from the end, blank lines aside.
		var rec delimited.Record
		var filled []int
		r.split.Reset(c)
		for n := 0; r.split.Next(&rec); n++ {
			if !rec.IsBlank() {
				filled = append(filled, n)
			}
		}
		r.footerAt = 0
		if n := len(filled) - r.layout.Footer; n >= 0 {
			r.footerAt = filled[n]
		}
	}
	r.split.Reset(c)
}

// Keep makes fields good until the next Reset, not only the next row.
func (r *Rows) Keep() { r.split.Keep = true }

// Typed reports that quotes tell text from numbers and dates, as in sheets.
func (r *Rows) Typed() bool { return r.layout.Pad }

// ASCII reports whether the chunk at hand has no byte beyond ASCII.
func (r *Rows) ASCII() bool { return r.split.ASCII() }

// Next reads the next row into rec and tells its kind; ok is false at the end
// of the chunk.
func (r *Rows) Next(rec *delimited.Record) (kind Kind, ok bool) {
	if !r.split.Next(rec) {
		return Data, false
	}
	r.row++
	if r.layout.Pad && len(rec.Fields) < len(r.layout.Columns) && len(rec.Raw) > 0 {
		rec.Pad(len(r.layout.Columns))
	}
	if len(rec.Raw) == 0 || rec.Raw[0] <= ' ' && rec.IsBlank() {
		return BlankLine, true
	}
	if r.footerAt >= 0 && r.row > r.footerAt {
		return Footer, true
	}
	switch rec.Raw[0] {
	case '-', '=', '+', '_', '|', '*', '#', ' ', '~':
		if IsRuler(rec) {
			return Ruler, true
		}
	}
	return Data, true
}

// IsRuler reports a row that only draws a line: every field that is not blank
// is at least three times the same one of -=_*#~, perhaps between pluses.
func IsRuler(rec *delimited.Record) bool {
	drawn := false
	for i, f := range rec.Fields {
		if rec.Quoted(i) {
			return false // somebody wrote a value
		}
		f = bytes.Trim(f, " +|:")
		if len(f) == 0 {
			continue
		}
		if len(f) < 3 || bytes.IndexByte([]byte("-=_*#~"), f[0]) < 0 || len(bytes.Trim(f, string(f[0])+"+|")) > 0 {
			return false
		}
		drawn = true
	}
	return drawn
}
