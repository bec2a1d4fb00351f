package delimited

import "bytes"

// lineEnd is the offset of the line feed that ends the line at i, or of the end.
func (s *Splitter) lineEnd(i int) int {
	if n := bytes.IndexByte(s.data[i:], '\n'); n >= 0 {
		return i + n
	}
	return len(s.data)
}

func isBlank(c byte) bool { return c == ' ' || c == '\t' }

// blankFields reads the line that starts at i where runs of blanks separate fields,
// and returns the offset of the line feed that ends it.
func (s *Splitter) blankFields(rec *Record, i int) int {
	end := s.lineEnd(i)
	line := bytes.TrimRight(withoutReturn(s.data[i:end]), " \t")
	for at := 0; ; {
		for at < len(line) && isBlank(line[at]) {
			at++
		}
		if at == len(line) {
			if len(rec.Fields) == 0 {
				rec.Fields = append(rec.Fields, line[:0]) // a blank line is no record
			}
			return end
		}
		from := at
		if s.form.Quote != 0 && line[at] == s.form.Quote {
			at = s.quotedBlank(rec, line, at)
			continue
		}
		for at < len(line) && !isBlank(line[at]) {
			at++
		}
		rec.Fields = append(rec.Fields, line[from:at])
	}
}

// quotedBlank adds the field of a line whose opening quote is at from, and returns
// what follows on it.
func (s *Splitter) quotedBlank(rec *Record, line []byte, from int) int {
	after, closed := closing(line, from+1, Form{Quote: s.form.Quote})
	field := line[from+1 : after]
	switch {
	case !closed || after < len(line) && !isBlank(line[after]):
		for after < len(line) && !isBlank(line[after]) {
			after++
		}
		if field = line[from:after]; rec.Fault == NoFault {
			rec.Fault, rec.FaultField = AfterQuote, len(rec.Fields)
		}
	default:
		if field = field[:len(field)-1]; bytes.IndexByte(field, s.form.Quote) >= 0 {
			field = s.undouble(field)
		}
	}
	for len(rec.quoted) < len(rec.Fields) {
		rec.quoted = append(rec.quoted, false)
	}
	rec.quoted = append(rec.quoted, true)
	rec.Fields = append(rec.Fields, field)
	return after
}
