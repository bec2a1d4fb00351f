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
