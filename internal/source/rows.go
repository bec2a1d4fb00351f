package source

import (
	"bytes"
	"strings"
	"unicode"
	"unicode/utf8"

	"ambertray/internal/phrase"
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
	// BlankRecord is a record of delimiters only.
	BlankRecord
	// Comment is a line that a comment mark begins.
	Comment
	// Header is a line that repeats the column names, as where files were joined.
	Header
	// LeftOut is a record that a condition of the plan leaves out.
	LeftOut
	// Total is a record among others that adds them up.
	Total
	// Kinds is how many there are.
	Kinds
)

// String is the kind as receipts name it.
func (k Kind) String() string {
	return [Kinds]string{"data", "title", "ruler", "blank", "footer", "blank-record", "comment", "header",
		"left-out", "total"}[k]
}

// Tells reports whether somebody should see what a row of the kind says: it may have been a record.
func (k Kind) Tells() bool {
	switch k { // others: hold nothing, or were left out by what they hold
	case Title, Footer, Comment, Total:
		return true
	}
	return false
}

// Rows reads the rows of chunks and tells what each is.
type Rows struct {
	layout   *Layout
	split    *delimited.Splitter
	row      int
	footerAt int
	header   bool   // there are names, which may stand again
	name     string // the first of them, as far as it stands so within quotes, too
	totals   bool   // records may be totals
	surely   func([]byte) bool
}

// NewRows returns a reader of rows for one goroutine.
func NewRows(l *Layout) *Rows {
	names := 0
	for _, c := range l.Columns {
		if c != "" {
			names++
		}
	}
	r := &Rows{layout: l, split: delimited.NewSplitter(l.Form), header: l.Header > 0 && names > 1,
		totals: l.Totals != KeepTotals && len(l.Columns) > 1}
	if r.surely = r.surelyData; r.header {
		r.name, _, _ = strings.Cut(l.Columns[0], string(rune(l.Form.Quote)))
	}
	return r
}

// repeats reports whether a record is the header again, name for name.
func (r *Rows) repeats(rec *delimited.Record) bool {
	names := r.layout.Columns
	if len(rec.Fields) != len(names) || len(rec.Fields[0]) < len(names[0]) {
		return false
	}
	// Nearly every record ends here.
	if f := rec.Fields[0]; len(names[0]) > 0 && f[0] != names[0][0] && f[0] > ' ' && f[0] < utf8.RuneSelf {
		return false
	}
	for i, f := range rec.Fields {
		if string(f) == names[i] {
			continue
		}
		if i == 0 {
			f = bytes.TrimPrefix(f, []byte("\ufeff")) // the mark of a file that was joined on
		}
		if string(bytes.TrimSpace(f)) != names[i] {
			return false
		}
	}
	return true
}

// Reset starts on a chunk.
func (r *Rows) Reset(c *delimited.Chunk) {
	r.row, r.footerAt = 0, -1
	if c.Last && r.layout.Footer != 0 {
		r.findFooter(c)
	}
	r.split.Reset(c)
}

// findFooter finds the footer's rows in the last chunk: counted from the end, blank lines aside.
func (r *Rows) findFooter(c *delimited.Chunk) {
	var rec delimited.Record
	var filled []int
	var lines []Line // the last ones
	r.split.Reset(c)
	for n := 0; r.split.Next(&rec); n++ {
		if rec.IsBlank() || rec.HasNothing() || rec.Comment {
			continue
		}
		filled = append(filled, n)
		if r.layout.Footer == Found {
			lines = append(lines, Line{rec.Line, string(rec.Raw), texted(rec.Fields)})
			lines = lines[max(0, len(lines)-2*mostFooters):]
		}
	}
	most := r.layout.Footer
	if most == Found {
		if most = footers(lines, len(r.layout.Columns)); most == 0 {
			return
		}
	}
	r.footerAt = 0
	if n := len(filled) - most; n >= 0 {
		r.footerAt = filled[n]
	}
}

// Typed reports that quotes tell text from numbers and dates, as in sheets.
func (r *Rows) Typed() bool { return r.layout.Pad }

// ASCII reports whether the chunk at hand has no byte beyond ASCII.
func (r *Rows) ASCII() bool { return r.split.ASCII() }

// TakePlain adds records to c that are whole, have a field for each column, and are surely data. It
// stops before the first that Next has to look at.
func (r *Rows) TakePlain(c *delimited.Columns) {
	if r.footerAt >= 0 {
		return
	}
	before := c.N
	r.split.TakePlain(c, r.surely)
	r.row += c.N - before
}

// surelyData reports whether a record, which begins a text, can be nothing but data: no blank
// line, no comment, no line that is drawn, and not the column names again.
func (r *Rows) surelyData(text []byte) bool {
	f := &r.layout.Form
	first := text[0]
	if f.Comment != "" && first == f.Comment[0] {
		return false
	}
	if r.totals && r.maybeTotal(text) {
		return false
	}
	if first == f.Delimiter[0] {
		return !r.layout.Pad && !(r.header && r.name == "") && fills(text[1:], first)
	}
	if first == f.Quote && first != 0 && len(text) > 1 {
		text = text[1:]
		if first == text[0] && (r.layout.Pad || r.header && r.name == "") {
			return false
		}
		first = text[0]
	}
	if first <= ' ' || len(text) < 2 {
		return false
	}
	if r.header {
		if first >= utf8.RuneSelf {
			if c, _ := utf8.DecodeRune(text); unicode.IsSpace(c) || c == '\ufeff' {
				return false
			}
		}
		if r.name == "" || first == r.name[0] && bytes.HasPrefix(text, []byte(r.name)) {
			return false
		}
	}
	switch first {
	case '+', '|', ':':
		return false
	case '-', '=', '_', '*', '#', '~':
		return text[1] != first && bytes.IndexByte([]byte(" +|:"), text[1]) < 0
	}
	return true
}

// fills reports whether something other than delimiters and spaces stands up to the line's end.
func fills(line []byte, delimiter byte) bool {
	for _, c := range line {
		if c == '\n' || c != delimiter && c > ' ' {
			return c != '\n'
		}
	}
	return false
}

// Next reads the next row into rec and tells its kind; ok is false at the end
// of the chunk.
func (r *Rows) Next(rec *delimited.Record) (kind Kind, ok bool) {
	if !r.split.Next(rec) {
		return Data, false
	}
	r.row++
	if rec.Comment {
		return Comment, true
	}
	if (r.layout.Pad || r.layout.ShortNull) && len(rec.Fields) < len(r.layout.Columns) && len(rec.Raw) > 0 {
		rec.Pad(len(r.layout.Columns))
	}
	if len(rec.Raw) == 0 || rec.Raw[0] <= ' ' && rec.IsBlank() {
		return BlankLine, true
	}
	if r.footerAt >= 0 && r.row > r.footerAt {
		return Footer, true
	}
	if (len(rec.Fields) > 1 || r.layout.Pad) && (len(rec.Fields[0]) == 0 || rec.Fields[0][0] <= ' ') &&
		!r.layout.KeepBlank && (rec.HasNothing() || r.layout.Pad && rec.OnlySpaces()) { // in a sheet, quotes are ours
		return BlankRecord, true
	}
	if r.header && r.repeats(rec) {
		return Header, true
	}
	if r.totals && !plainly(rec.Fields[0]) && r.isTotal(rec) {
		return Total, true
	}
	switch rec.Raw[0] {
	case '-', '=', '+', '_', '|', '*', '#', ' ', '~', '"':
		if IsRuler(rec) {
			return Ruler, true
		}
	}
	return Data, true
}

// Words says how many rows of a kind were skipped.
func (k Kind) Words(n int64) string {
	switch k { // others: are lines
	case LeftOut:
		return phrase.Count(n, "record") + " left out by the plan"
	case BlankRecord:
		return phrase.Count(n, "blank record")
	case Header:
		return phrase.Count(n, "line") + " with the column names again"
	}
	return phrase.Count(n, k.String()+" line")
}

// KindOf is the kind that receipts name so; ok is false for others.
func KindOf(name string) (k Kind, ok bool) {
	for k := range Kinds {
		if k.String() == name {
			return k, true
		}
	}
	return Data, false
}

// SkippedAlways are the kinds that no plan has to name.
var SkippedAlways = []Kind{Title, Ruler, BlankLine, BlankRecord, Comment, Header, Total, Footer}

// IsRuler reports a row that only draws a line: every field that is not blank
// is at least three times the same one of -=_*#~, perhaps between pluses. In
// quotes, which sheets have around all text, every field has to be drawn, and
// there have to be two: of one, somebody wrote a value.
func IsRuler(rec *delimited.Record) bool {
	drawn := false
	quoted := rec.AnyQuoted()
	if quoted && len(rec.Fields) < 2 {
		return false
	}
	for _, f := range rec.Fields {
		f = bytes.Trim(f, " +|:")
		if len(f) == 0 {
			if quoted {
				return false
			}
			continue
		}
		if len(f) < 3 || bytes.IndexByte([]byte("-=_*#~"), f[0]) < 0 || len(bytes.Trim(f, string(f[0])+"+|")) > 0 {
			return false
		}
		drawn = true
	}
	return drawn
}
