package source

import (
	"bytes"
	"context"
	"io"
	"slices"
	"strings"

	"ambertray/internal/source/charset"
	"ambertray/internal/source/delimited"
)

const (
	sampleSize    = 256 << 10 // bytes of the file that the layout is decided from
	sampleRecords = 500
	titleLimit    = 40 // lines above a header at most
	// headRoom is how far into the file a first record of data is looked for.
	headRoom = 1 << 20
)

// detect decides the layout from the first bytes.
func (s *Source) detect(ctx context.Context, known Known) error {
	head, whole, err := s.readHead(sampleSize)
	if err != nil {
		return &Problem{Source: s.Name, What: "cannot be read", Err: cause(err)}
	}
	if err := s.decideEncoding(head, whole, known); err != nil {
		return err
	}
	for size := sampleSize; ; size *= 4 {
		if size > sampleSize {
			if head, whole, err = s.readHead(size); err != nil {
				return &Problem{Source: s.Name, What: "cannot be read", Err: cause(err)}
			}
		}
		text, err := s.decodeHead(head)
		if err != nil {
			return err
		}
		if len(bytes.TrimSpace(text)) == 0 && whole {
			return &Problem{Source: s.Name, What: "holds nothing but blank lines",
				Do: "nothing can be loaded from it; ask for the file again"}
		}
		s.Evidence = slices.DeleteFunc(s.Evidence, func(e Evidence) bool {
			return !slices.Contains([]string{"encoding", "packing", "member", "workbook", "sheet", "range"}, e.What)
		})
		if err := s.decideForm(text, whole, known); err != nil {
			return err
		}
		limit := delimited.DefaultMaxRecord
		if s.MaxRecord > 0 {
			limit = s.MaxRecord
		}
		enough, err := s.decideHeader(text, whole || size > headRoom, known)
		if err != nil || enough || whole || size > limit {
			return err
		}
	}
}

// readHead reads the first n bytes of the text.
func (s *Source) readHead(n int) (head []byte, whole bool, err error) {
	f, err := s.open()
	if err != nil {
		return nil, false, err
	}
	defer f.Close()
	head, err = io.ReadAll(io.LimitReader(f, int64(n)+1))
	if len(head) > n {
		return head[:n], false, err
	}
	return head, s.flow == nil, err
}

func (s *Source) note(what, value, why string, given bool) {
	if given {
		why = s.given()
	}
	s.Evidence = append(s.Evidence, Evidence{What: what, Value: value, Why: why, Given: given})
}

func (s *Source) decodeHead(head []byte) ([]byte, error) {
	l := &s.Layout
	l.LineEnd = ""
	r, err := charset.Decode(bytes.NewReader(head), l.Encoding)
	if err != nil {
		return nil, &Problem{Source: s.Name, What: err.Error(), Decision: true}
	}
	text, err := io.ReadAll(r)
	if err != nil {
		return nil, &Problem{Source: s.Name, What: "cannot be decoded as " + l.Encoding, Err: err}
	}
	if s.own {
		l.LineEnd = "lf"
		return text, nil
	}
	switch lf, crlf, cr := bytes.Count(text, []byte("\n")), bytes.Count(text, []byte("\r\n")),
		bytes.Count(text, []byte("\r")); {
	case lf > 0 && 2*bytes.Count(text, []byte("\r\r\n")) > lf:
		l.LineEnd = "crcrlf"
		text = bytes.ReplaceAll(text, []byte("\r\r\n"), []byte("\r\n"))
	case lf == 0 && cr > 0:
		l.LineEnd = "cr"
		text = bytes.ReplaceAll(text, []byte("\r"), []byte("\n"))
	case lf > 0 && crlf*2 > lf:
		l.LineEnd = "crlf"
	default:
		l.LineEnd = "lf"
	}
	return text, nil
}

// sample splits text in some form, leaving out a last record that may be cut
// off. Fields are copied.
func sample(text []byte, whole bool, f delimited.Form, most int) (rows []sampleRow) {
	return sampleWith(text, whole, f, most, true)
}

// sampleWith can leave the texts of rows and fields out, where only their
// number counts.
func sampleWith(text []byte, whole bool, f delimited.Form, most int, texts bool) (rows []sampleRow) {
	ch := &delimited.Chunk{Data: text, Line: 1}
	sp := delimited.NewSplitter(f)
	sp.Reset(ch)
	var rec delimited.Record
	var offset int
	var none []string
	for len(rows) < most && sp.Next(&rec) {
		r := sampleRow{line: rec.Line, fault: rec.Fault, blank: rec.IsBlank(), comment: rec.Comment}
		if !r.blank && !r.comment {
			r.ruler = IsRuler(&rec)
		}
		r.empty = rec.HasNothing()
		if texts {
			r.raw = string(rec.Raw)
			r.fields = texted(rec.Fields)
			for i := range rec.Fields {
				if rec.Quoted(i) {
					r.quoted++
				}
			}
		} else {
			if len(none) < len(rec.Fields) {
				none = make([]string, 2*len(rec.Fields))
			}
			r.fields = none[:len(rec.Fields):len(rec.Fields)] // only their number counts
		}
		offset += len(rec.Raw)
		for _, end := range []string{"\r\n", "\n"} {
			if bytes.HasPrefix(text[offset:], []byte(end)) {
				offset += len(end)
				break
			}
		}
		r.end = offset
		if offset == len(text) && !whole {
			break
		}
		rows = append(rows, r)
	}
	return rows
}

// texted are fields as strings, which lie in one.
func texted(fields [][]byte) []string {
	var b strings.Builder
	size := 0
	for _, f := range fields {
		size += len(f)
	}
	b.Grow(size)
	for _, f := range fields {
		b.Write(f)
	}
	whole, out := b.String(), make([]string, len(fields))
	at := 0
	for i, f := range fields {
		out[i] = whole[at : at+len(f)]
		at += len(f)
	}
	return out
}

type sampleRow struct {
	line         int64
	end          int // offset behind the row
	fields       []string
	quoted       int
	fault        delimited.Fault
	blank, ruler bool
	empty        bool // delimiters only
	comment      bool
	raw          string
}

// lineOf is a row as others see it.
func (s *Source) lineOf(r *sampleRow) Line {
	l := Line{r.line, r.raw, r.fields}
	if s.own {
		l.Raw = cellsOf(r.fields)
	}
	return l
}

// cellsOf is a row of a sheet as text for a person: the cells that hold something.
func cellsOf[T string | []byte](fields []T) string {
	var filled []string
	for _, f := range fields {
		if text := strings.TrimSpace(string(f)); text != "" {
			filled = append(filled, text)
		}
	}
	return strings.Join(filled, " · ")
}

// TextOf is a record as text for a person.
func (s *Source) TextOf(rec *delimited.Record) string {
	if s.own {
		return cellsOf(rec.Fields)
	}
	return string(rec.Raw)
}

// record reports a row that is a record, if perhaps of delimiters only.
func (r *sampleRow) record() bool { return !r.blank && !r.ruler && !r.comment }

// filled reports a record that holds something.
func (r *sampleRow) filled() bool { return r.record() && !r.empty }
