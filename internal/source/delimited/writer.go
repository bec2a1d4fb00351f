package delimited

import "bytes"

// AppendField adds a field as the form writes it: in quotes where it would be
// mistaken without them, or where they are asked for. The form must quote.
func (f Form) AppendField(b, field []byte, quoted bool) []byte {
	if f.Marked {
		field = Mark(field)
	}
	if !quoted && !f.needsQuotes(field) {
		return append(b, field...)
	}
	escape := f.Quote
	if f.escapes() {
		escape = f.Escape
	}
	b = append(b, f.Quote)
	for _, c := range field {
		if c == f.Quote || c == escape {
			b = append(b, escape)
		}
		b = append(b, c)
	}
	return append(b, f.Quote)
}

// A Pen writes fields in a form, faster than the form itself does.
type Pen struct {
	form Form
	// stops are the bytes that a field is looked at more closely for, and edges those at its
	// ends.
	stops, edges [256]bool
}

// NewPen returns a pen for a form.
func NewPen(f Form) *Pen {
	p := &Pen{form: f}
	for _, c := range []byte{f.Quote, f.Escape, '\n', '\r'} {
		p.stops[c] = true
	}
	if f.Delimiter != "" {
		p.stops[f.Delimiter[0]] = true
	}
	for _, c := range []byte(" \t" + drawing) {
		p.edges[c] = true
	}
	return p
}

// Append is [Form.AppendField].
func (p *Pen) Append(b, field []byte, quoted bool) []byte {
	if len(field) == 0 || quoted || p.form.Marked || p.edges[field[0]] || p.edges[field[len(field)-1]] {
		return p.form.AppendField(b, field, quoted)
	}
	for _, c := range field {
		if p.stops[c] {
			return p.form.AppendField(b, field, quoted)
		}
	}
	return append(b, field...)
}

// drawing are the characters that lines under headers are drawn with.
const drawing = "-=_*#~+|: "

// needsQuotes reports a field that reads back as something else without
// quotes. Spaces at its ends and lines that look drawn are kept safe, too.
func (f Form) needsQuotes(field []byte) bool {
	if len(field) == 0 {
		return false
	}
	switch first, last := field[0], field[len(field)-1]; {
	case first == ' ' || first == '\t' || last == ' ' || last == '\t':
		return true
	case bytes.IndexByte([]byte(drawing), first) >= 0 && len(bytes.Trim(field, drawing)) == 0:
		return true
	}
	if bytes.IndexByte(field, f.Quote) >= 0 || f.Escape != 0 && bytes.IndexByte(field, f.Escape) >= 0 {
		return true
	}
	for _, c := range field {
		if c == '\n' || c == '\r' {
			return true
		}
	}
	if f.Delimiter == "" {
		return false
	}
	if len(f.Delimiter) == 1 {
		return bytes.IndexByte(field, f.Delimiter[0]) >= 0
	}
	return bytes.Contains(field, []byte(f.Delimiter))
}
