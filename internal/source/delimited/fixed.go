package delimited

import (
	"bytes"
	"unicode/utf8"
)

// fixedFields reads the line that starts at i as fields of fixed width, and
// returns the offset of the line feed that ends it.
func (s *Splitter) fixedFields(rec *Record, i int) int {
	end := s.lineEnd(i)
	line := withoutReturn(s.data[i:end])
	if len(bytes.TrimLeft(line, " ")) == 0 {
		rec.Fields = append(rec.Fields, line[:0]) // a blank line is no record
		return end
	}
	s.offsets(line)
	for k, from := range s.at {
		to := len(line)
		if k+1 < len(s.at) {
			to = s.at[k+1]
		}
		if s.form.Apart && k > 0 && from > 0 && from < len(line) && line[from-1] != ' ' && rec.Fault == NoFault {
			rec.Fault, rec.FaultField = OverEdge, k-1
		}
		rec.Fields = append(rec.Fields, bytes.Trim(line[from:to], " "))
	}
	return end
}

// offsets finds the bytes of a line at which its fields start: characters may
// take several.
func (s *Splitter) offsets(line []byte) {
	s.at = s.at[:0]
	if s.ascii {
		for _, start := range s.form.Starts {
			s.at = append(s.at, min(start, len(line)))
		}
		return
	}
	at, characters := 0, 0
	for _, start := range s.form.Starts {
		for characters < start && at < len(line) {
			_, n := utf8.DecodeRune(line[at:])
			at += n
			characters++
		}
		s.at = append(s.at, at)
	}
}
