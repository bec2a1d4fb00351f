package delimited

import (
	"bytes"
	"encoding/binary"
	"math/bits"
	"unicode/utf8"
)

// A Record is one record as the splitter found it. Everything in it is valid
// until the next call of Next.
type Record struct {
	// Line is the line of the source that the record starts on, from 1.
	Line int64
	// Fields are the fields' contents, quotes removed.
	Fields [][]byte
	quoted []bool // per field up to the last quoted one
	// Raw is the record as it stands in the source (decoded), without its
	// line break.
	Raw []byte
	// Comment tells that the line is a comment, which is its only field.
	Comment bool
	// Fault is what is wrong with the record as a whole, if anything, and
	// FaultField the number of the field, from 0, or -1.
	Fault      Fault
	FaultField int
}

// Quoted reports whether field i, from 0, was written in quotes.
func (r *Record) Quoted(i int) bool { return i >= 0 && i < len(r.quoted) && r.quoted[i] }

// AnyQuoted reports whether any field was written in quotes.
func (r *Record) AnyQuoted() bool { return len(r.quoted) > 0 }

// Pad adds blank fields up to n.
func (r *Record) Pad(n int) {
	for len(r.Fields) < n {
		r.Fields = append(r.Fields, nil)
	}
}

// IsBlank reports a line that holds nothing but spaces and tabs.
func (r *Record) IsBlank() bool {
	return len(r.Fields) <= 1 && len(bytes.Trim(r.Raw, " \t")) == 0
}

// HasNothing reports a record of delimiters, and perhaps spaces, only. An empty
// pair of quotes is something that somebody wrote.
func (r *Record) HasNothing() bool {
	return len(r.Fields) > 1 && len(r.quoted) == 0 && r.OnlySpaces()
}

// OnlySpaces reports a record of spaces only, in quotes or not.
func (r *Record) OnlySpaces() bool {
	for _, f := range r.Fields {
		if len(f) > 0 && len(bytes.Trim(f, " \t")) > 0 {
			return false
		}
	}
	return true
}

// A Splitter takes chunks apart. It is not safe for concurrent use; use one
// for each goroutine.
type Splitter struct {
	form    Form
	comment []byte // form.Comment
	special [256]bool
	data    []byte
	pos     int
	line    int64
	suspect bool // the chunk has bad encoding or NUL bytes somewhere
	ascii   bool // the chunk has no byte beyond ASCII
	unesc   []byte
	at      []int // where the fields of a line of fixed columns start
	ends    ends
	looked  [windowBlocks]masks // blocks from window on, so many as seen
	window  int
	seen    int
}

// NewSplitter returns a splitter for one form.
func NewSplitter(form Form) *Splitter {
	s := &Splitter{form: form, comment: []byte(form.Comment)}
	s.special['\n'] = true
	if form.Delimiter != "" {
		s.special[form.Delimiter[0]] = true
	}
	if form.escapes() {
		s.special[form.Escape] = true
	}
	return s
}

// Reset starts on a chunk.
func (s *Splitter) Reset(c *Chunk) {
	s.data, s.pos, s.line = c.Data, 0, c.Line
	s.unesc = s.unesc[:0]
	s.seen = 0
	s.ends.reset()
	ascii, zero := ByteRange(c.Data)
	s.ascii, s.suspect = ascii, zero || !ascii && !utf8.Valid(c.Data)
}

// ASCII reports whether the chunk at hand has no byte beyond ASCII.
func (s *Splitter) ASCII() bool { return s.ascii }

// IsASCII reports whether b has no byte beyond ASCII.
func IsASCII(b []byte) bool {
	const high = 0x8080808080808080
	for len(b) >= 32 {
		any := binary.LittleEndian.Uint64(b) | binary.LittleEndian.Uint64(b[8:]) |
			binary.LittleEndian.Uint64(b[16:]) | binary.LittleEndian.Uint64(b[24:])
		if any&high != 0 {
			return false
		}
		b = b[32:]
	}
	for _, c := range b {
		if c >= 0x80 {
			return false
		}
	}
	return true
}

// Next reads the next record of the chunk into rec, reusing its slices. It
// returns false at the end of the chunk.
func (s *Splitter) Next(rec *Record) bool {
	start := s.pos
	if start >= len(s.data) {
		return false
	}
	rec.Line = s.line
	rec.Fields = rec.Fields[:0]
	rec.quoted = rec.quoted[:0]
	rec.Fault, rec.FaultField = NoFault, -1
	s.unesc = s.unesc[:0]
	rec.Comment = s.form.Comment != "" && bytes.HasPrefix(s.data[start:], s.comment)
	i := start
	if rec.Comment {
		i = s.lineEnd(i)
		rec.Fields = append(rec.Fields, withoutReturn(s.data[start:i]))
	} else if s.form.Starts != nil {
		i = s.fixedFields(rec, i)
	} else if s.form.Blanks {
		i = s.blankFields(rec, i)
	} else if s.form.escapes() || len(s.form.Delimiter) != 1 {
		i = s.fields(rec, i)
	} else {
		i = s.simpleFields(rec, i)
	}
	if s.form.Marked {
		for k, f := range rec.Fields {
			rec.Fields[k] = Unmark(f)
		}
	}
	// i is at the line feed, or at the end.
	s.line++
	raw := s.data[start:i]
	if n := len(raw); n > 0 && raw[n-1] == '\r' {
		raw = raw[:n-1]
	}
	rec.Raw = raw
	s.pos = i + 1
	if s.suspect && rec.Fault == NoFault {
		s.inspect(rec)
	}
	return true
}

// fields reads the record that starts at i, for every form, and returns the
// offset of the line feed that ends it.
func (s *Splitter) fields(rec *Record, i int) int {
	data := s.data
	for {
		if s.form.Quote != 0 && i < len(data) && data[i] == s.form.Quote {
			i = s.quotedField(rec, i)
		} else {
			from := i
			for {
				for i < len(data) && !s.special[data[i]] {
					i++
				}
				if i >= len(data) || data[i] == '\n' || s.delimiterAt(i) {
					break
				}
				if s.form.escapes() && data[i] == s.form.Escape {
					if s.delimiterAt(i + 1) {
						i += len(s.form.Delimiter)
					} else if i+1 < len(data) && data[i+1] == s.form.Escape {
						i++
					}
				}
				i++
			}
			i = min(i, len(data))
			field := data[from:i]
			if i == len(data) || data[i] == '\n' {
				field = withoutReturn(field)
			}
			if s.form.escapes() && bytes.IndexByte(field, s.form.Escape) >= 0 {
				field = s.unescape(field, true)
			}
			rec.Fields = append(rec.Fields, field)
		}
		if i >= len(data) || data[i] == '\n' {
			return i
		}
		i += len(s.form.Delimiter)
	}
}

// blockSize is how many bytes simpleFields looks at at a time.
const blockSize = 64

// simpleFields does the work of fields for a delimiter of one byte and no
// escape character. It goes from bit to bit of words in which each delimiter and
// line feed of a block has one.
func (s *Splitter) simpleFields(rec *Record, i int) int {
	data, quote := s.data, s.form.Quote
	fields := rec.Fields                  // kept in registers
	block, marks := -blockSize, uint64(0) // none yet
	from := i                             // of the field
	for {
		if quote != 0 && from < len(data) && data[from] == quote {
			rec.Fields = fields
			i = s.quotedField(rec, from)
			fields = rec.Fields
			if i >= len(data) || data[i] == '\n' {
				break
			}
			from, block, marks = i+1, -blockSize, 0
			continue
		}
		// To the field's end.
		for marks == 0 {
			var ok bool
			if block, marks, ok = s.marksFrom(max(block+blockSize, from)); !ok {
				rec.Fields = fields
				return s.lastFields(rec, from)
			}
		}
		end := block + bits.TrailingZeros64(marks)
		marks &= marks - 1
		if data[end] == '\n' {
			fields = append(fields, withoutReturn(data[from:end]))
			i = end
			break
		}
		fields = append(fields, data[from:end])
		from = end + 1
	}
	rec.Fields = fields
	return i
}

// marksFrom is the block that an offset lies in, and its delimiters and line feeds from there on. ok is
// false where there is no whole block any more.
func (s *Splitter) marksFrom(at int) (block int, marks uint64, ok bool) {
	k := (at - s.window) / blockSize
	if at < s.window || k >= s.seen {
		s.window, s.seen, k = at, min((len(s.data)-at)/blockSize, windowBlocks), 0
		if s.seen <= 0 {
			return 0, 0, false
		}
		masksOf(s.looked[:s.seen], s.data[at:], s.form.Delimiter[0], s.form.Delimiter[0])
	}
	m := &s.looked[k]
	block = s.window + k*blockSize
	return block, (m.delimiters | m.feeds) &^ (1<<uint(at-block) - 1), true
}

// lastFields reads the rest of a record near the end of the data, from a field
// that is not in quotes on.
func (s *Splitter) lastFields(rec *Record, i int) int {
	data, delimiter, quote := s.data, s.form.Delimiter[0], s.form.Quote
	for {
		if quote != 0 && i < len(data) && data[i] == quote {
			i = s.quotedField(rec, i)
		} else {
			from := i
			for i < len(data) && data[i] != delimiter && data[i] != '\n' {
				i++
			}
			field := data[from:i]
			if i == len(data) || data[i] == '\n' {
				field = withoutReturn(field)
			}
			rec.Fields = append(rec.Fields, field)
		}
		if i >= len(data) || data[i] == '\n' {
			return i
		}
		i++
	}
}

func withoutReturn(field []byte) []byte {
	if n := len(field); n > 0 && field[n-1] == '\r' {
		return field[:n-1]
	}
	return field
}

// delimiterAt reports whether the delimiter stands at offset i.
func (s *Splitter) delimiterAt(i int) bool {
	d := s.form.Delimiter
	switch len(d) {
	case 0:
		return false
	case 1:
		return i < len(s.data) && s.data[i] == d[0]
	}
	return i+len(d) <= len(s.data) && string(s.data[i:i+len(d)]) == d
}

// quotedField adds the field whose opening quote is at i, and returns the
// offset of the delimiter or line feed behind it.
func (s *Splitter) quotedField(rec *Record, i int) int {
	data := s.data
	start := i
	i++
	after, closed := closing(data, i, s.form)
	end := after
	if closed {
		end = after - 1
	} else {
		rec.Fault, rec.FaultField = Unclosed, len(rec.Fields)
	}
	field := data[i:end]
	s.line += int64(bytes.Count(field, newline))
	if s.form.escapes() {
		if bytes.IndexByte(field, s.form.Escape) >= 0 {
			field = s.unescape(field, false)
		}
	} else if bytes.IndexByte(field, s.form.Quote) >= 0 {
		field = s.undouble(field)
	}
	i = after
	if i < len(data) && data[i] != '\n' && !s.delimiterAt(i) && !s.carriageEnd(i) {
		if rec.Fault == NoFault {
			rec.Fault, rec.FaultField = AfterQuote, len(rec.Fields)
		}
	}
	// Whatever follows, the field ends at the next delimiter or line feed.
	for i < len(data) && data[i] != '\n' && !s.delimiterAt(i) {
		i++
	}
	if s.form.Breaks != 0 && bytes.IndexByte(field, s.form.Breaks) >= 0 {
		from := len(s.unesc)
		s.unesc = append(s.unesc, field...)
		field = s.unesc[from:len(s.unesc):len(s.unesc)]
		for i, c := range field {
			if c == s.form.Breaks {
				field[i] = '\n'
			}
		}
	}
	if rec.FaultField == len(rec.Fields) && rec.Fault != NoFault {
		field = withoutReturn(data[start:i]) // as it stands
	}
	for len(rec.quoted) < len(rec.Fields) {
		rec.quoted = append(rec.quoted, false)
	}
	rec.quoted = append(rec.quoted, true)
	rec.Fields = append(rec.Fields, field)
	return i
}

// carriageEnd reports a carriage return at i that belongs to the line end.
func (s *Splitter) carriageEnd(i int) bool {
	return s.data[i] == '\r' && (i+1 == len(s.data) || s.data[i+1] == '\n')
}

// undouble makes one quote of each doubled one, in memory of the splitter's
// own that is good until the next record.
func (s *Splitter) undouble(field []byte) []byte {
	from := len(s.unesc)
	for {
		q := bytes.IndexByte(field, s.form.Quote)
		if q < 0 || q+1 >= len(field) {
			break
		}
		s.unesc = append(s.unesc, field[:q+1]...)
		field = field[q+2:]
	}
	s.unesc = append(s.unesc, field...)
	return s.unesc[from:len(s.unesc):len(s.unesc)]
}

// unescape takes escape characters out; see Form.Escape for the rule.
func (s *Splitter) unescape(field []byte, delimiter bool) []byte {
	from := len(s.unesc)
	for i := 0; i < len(field); i++ {
		c := field[i]
		if c == s.form.Escape && i+1 < len(field) {
			n := field[i+1]
			if n == s.form.Escape || n == s.form.Quote ||
				(delimiter && bytes.HasPrefix(field[i+1:], []byte(s.form.Delimiter))) {
				i++
				c = n
			}
		}
		s.unesc = append(s.unesc, c)
	}
	return s.unesc[from:len(s.unesc):len(s.unesc)]
}

// inspect looks for the bytes that made the chunk suspect.
func (s *Splitter) inspect(rec *Record) {
	if utf8.Valid(rec.Raw) && bytes.IndexByte(rec.Raw, 0) < 0 {
		return
	}
	for i, f := range rec.Fields {
		if !utf8.Valid(f) {
			rec.Fault, rec.FaultField = BadEncoding, i
			return
		}
		if bytes.IndexByte(f, 0) >= 0 {
			rec.Fault, rec.FaultField = NulByte, i
			return
		}
	}
	rec.Fault = BadEncoding
}
