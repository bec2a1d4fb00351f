package delimited

// A Span is where a field lies: at at, so many bytes. The highest bit of each is a flag. That is
// enough for a record of 1 GiB, the longest that is read.
type Span struct{ at, len uint32 }

const (
	ownSpan    = 1 << 31 // of at: it lies in Columns.own, not in the text
	quotedSpan = 1 << 31 // of len: the field was in quotes
)

// Columns hold the fields of some records, column by column.
type Columns struct {
	// N is how many records there are; Size, how many at most.
	N, Size int
	// Lines are the lines on which the records start.
	Lines []int64

	columns int
	spans   []Span // record n of column c is at c*Size+n
	text    []byte // the chunk
	own     []byte // fields that do not stand in the text as they are
}

// NewColumns is for so many columns and, at most, records.
func NewColumns(columns, size int) *Columns {
	return &Columns{Size: size, columns: columns, spans: make([]Span, columns*size), Lines: make([]int64, size)}
}

// Column has the spans of a column's fields.
func (c *Columns) Column(i int) []Span { return c.spans[i*c.Size : i*c.Size+c.N] }

// Field is the field of a span. It is good until the next chunk, or Clear.
func (c *Columns) Field(s Span) []byte {
	n := s.len &^ quotedSpan
	if s.at&ownSpan != 0 {
		at := s.at &^ ownSpan
		return c.own[at : at+n]
	}
	return c.text[s.at : s.at+n]
}

// Plain is where in Text the field lies; ok is false for one that was in quotes, or lies elsewhere.
func (s Span) Plain() (at, n int, ok bool) {
	return int(s.at), int(s.len), s.at < ownSpan && s.len < quotedSpan
}

// Len is how many bytes the field has.
func (s Span) Len() int { return int(s.len &^ quotedSpan) }

// Within is where in Text the field lies, in quotes or not; ok is false for one that lies elsewhere.
func (s Span) Within() (at, n int, ok bool) {
	return int(s.at), int(s.len &^ quotedSpan), s.at < ownSpan
}

// Text is the text of the chunk.
func (c *Columns) Text() []byte { return c.text }

// Quoted reports whether the field was in quotes.
func (s Span) Quoted() bool { return s.len&quotedSpan != 0 }

// Clear makes room for other records.
func (c *Columns) Clear() { c.N, c.own = 0, c.own[:0] }

// Full reports that there is no room for another record.
func (c *Columns) Full() bool { return c.N == c.Size }

// Add takes a record of as many fields as there are columns.
func (c *Columns) Add(rec *Record) {
	c.Lines[c.N] = rec.Line
	for i, f := range rec.Fields {
		s := Span{uint32(len(c.own)) | ownSpan, uint32(len(f))}
		if rec.Quoted(i) {
			s.len |= quotedSpan
		}
		c.own = append(c.own, f...)
		c.spans[i*c.Size+c.N] = s
	}
	c.N++
}

// Record makes a record of the n-th, of its fields and its line.
func (c *Columns) Record(n int, rec *Record) {
	*rec = Record{Line: c.Lines[n], Fields: rec.Fields[:0], quoted: rec.quoted[:0], FaultField: -1}
	for i := range c.columns {
		s := c.spans[i*c.Size+n]
		if s.Quoted() {
			for len(rec.quoted) < i {
				rec.quoted = append(rec.quoted, false)
			}
			rec.quoted = append(rec.quoted, true)
		}
		rec.Fields = append(rec.Fields, c.Field(s))
	}
}

// plainly reports whether the chunk's records may be taken by TakePlain at all.
func (s *Splitter) plainly() bool {
	f := s.form
	return !s.suspect && len(f.Delimiter) == 1 && f.Delimiter[0] != 0 && !f.escapes() &&
		f.Starts == nil && !f.Blanks && !f.Marked && f.Breaks == 0
}

// TakePlain adds records to c, as many as are well-formed, have a field for each column, and of
// which sure says, by how they begin, that they are data. It stops before the first other.
func (s *Splitter) TakePlain(c *Columns, sure func(record []byte) bool) {
	if c.text = s.data; c.columns == 0 || !s.plainly() {
		return
	}
	w := &s.ends
	if !w.meet(s.pos) {
		w.begin(s.pos)
	}
	for !c.Full() && s.pos < len(s.data) {
		if len(w.list)-w.next < c.columns {
			if !w.scan(s.data, s.form.Delimiter[0], s.form.Quote) {
				return
			}
			continue
		}
		ends := w.list[w.next:][:c.columns]
		if !sure(s.data[s.pos:]) {
			return
		}
		// All but the last are delimiters.
		feeds := uint32(0)
		for _, e := range ends[:len(ends)-1] {
			feeds |= e
		}
		last := ends[len(ends)-1]
		if feeds&feedEnd != 0 || last&feedEnd == 0 {
			return
		}
		end := int(last &^ feedEnd)
		if w.quotes {
			c.takeQuoted(s.pos, ends, s.form.Quote, w)
		} else {
			c.take(s.pos, ends)
		}
		c.Lines[c.N] = s.line
		s.line += 1 + w.within(end)
		c.N++
		s.pos = end + 1
		w.next, w.from = w.next+c.columns, s.pos
	}
}

// take puts the spans of a record without quotes into their places.
func (c *Columns) take(from int, ends []uint32) {
	at, place, size := uint32(from), c.N, c.Size
	for _, e := range ends {
		e &^= feedEnd
		c.spans[place] = Span{at, e - at}
		at = e + 1
		place += size
	}
	last := &c.spans[place-size]
	if n := last.len; n > 0 && c.text[last.at+n-1] == '\r' {
		last.len--
	}
}

// takeQuoted is take for records with quotes.
func (c *Columns) takeQuoted(from int, found []uint32, quote byte, w *ends) {
	at, place := uint32(from), c.N
	for _, e := range found {
		till := e &^ feedEnd
		next := till + 1
		if e != till && till > at && c.text[till-1] == '\r' {
			till--
		}
		span := Span{at, till - at}
		if till > at && c.text[at] == quote {
			span = Span{at + 1, (till - at - 2) | quotedSpan}
			if len(w.twice) > 0 {
				if twice := w.doubled(at, till); len(twice) > 0 {
					span = c.undoubled(at+1, till-1, twice)
				}
			}
		}
		c.spans[place] = span
		at = next
		place += c.Size
	}
}

// undoubled puts a field between quotes into memory of its own, without the quotes that are the
// second of two.
func (c *Columns) undoubled(from, to uint32, twice []uint32) Span {
	at := len(c.own)
	for _, q := range twice {
		c.own = append(c.own, c.text[from:q]...)
		from = q + 1
	}
	c.own = append(c.own, c.text[from:to]...)
	return Span{uint32(at) | ownSpan, uint32(len(c.own)-at) | quotedSpan}
}
