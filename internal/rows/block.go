package rows

import (
	"encoding/binary"

	"ambertray/internal/reading"
	"ambertray/internal/sink"
	"ambertray/internal/source/delimited"
)

// A block is some records that are read column by column: a column's values are much alike, so
// that reading them one after the other is faster than going through each record. What does not
// fit is read once more, record by record.
type block struct {
	fields *delimited.Columns
	values []reading.Value // those of a row lie behind each other
	width  int             // of a row
	wrong  []bool          // of the records: there is a value that does not fit
	some   bool            // of such
	ways   []reading.Plainly
	takes  sink.Taker // the encoder, if it takes several rows at once, or nil
}

// Bounds of a block: it is to fit into a near cache, and a very wide one is to take little room.
const (
	blockValues  = 1 << 10
	blockRecords = 128
	blockLeast   = 4
)

// byColumn prepares to read blocks, or says that records are to be read one by one.
func (c *converter) byColumn() bool {
	columns := len(c.src.Layout.Columns)
	if c.exprs != nil || len(c.without) > 0 || c.lead() > 0 || columns == 0 {
		return false
	}
	if c.block == nil {
		n := min(max(blockValues/max(columns, len(c.row)), blockLeast), blockRecords)
		c.block = &block{fields: delimited.NewColumns(columns, n), values: make([]reading.Value, n*len(c.row)),
			width: len(c.row), wrong: make([]bool, n)}
		for _, r := range c.readers {
			c.block.ways = append(c.block.ways, r.Plainly())
		}
		c.block.takes, _ = c.enc.(sink.Taker)
	}
	return true
}

// blocks reads records as long as they come in blocks. accepted is how many were rows so far.
func (c *converter) blocks(p *part, skip map[int]bool, accepted *int) {
	for b := c.block; ; {
		b.fields.Clear()
		if c.rows.TakePlain(b.fields); b.fields.N == 0 {
			return
		}
		for i := range c.readers {
			c.column(i)
		}
		if c.number {
			for k := range b.fields.N {
				v := &b.values[k*b.width]
				v.Null, v.Int = false, c.before+p.first+p.records+int64(k)+1
			}
		}
		c.split(p, skip, accepted)
	}
}

// split takes the records of the block that are rows, as many at once as stand together.
func (c *converter) split(p *part, skip map[int]bool, accepted *int) {
	b, from := c.block, 0
	if !b.some && skip == nil {
		p.read += int64(b.fields.N)
		p.records += int64(b.fields.N)
		*accepted += b.fields.N
		c.acceptAll(p, 0, b.fields.N)
		return
	}
	for k := range b.fields.N {
		p.read++
		p.records++
		row := !b.wrong[k]
		if !row {
			b.fields.Record(k, &c.rec)
			c.read(p)
		} else if *accepted++; skip[*accepted-1] {
			row = false
		}
		if !row {
			c.acceptAll(p, from, k)
			from = k + 1
		}
	}
	c.acceptAll(p, from, b.fields.N)
	clear(b.wrong)
	b.some = false
}

// acceptAll takes rows of the block into the account, and encodes them.
func (c *converter) acceptAll(p *part, from, to int) {
	if from == to {
		return
	}
	b := c.block
	rows := b.values[from*b.width : to*b.width]
	for i := range p.tally {
		p.tally[i].AddColumn(rows[i:], b.width)
	}
	if c.habits {
		for i := range p.likes {
			p.likes[i].AddColumn(rows[i:], b.width)
		}
	}
	p.rows += to - from
	switch {
	case c.enc == nil:
	case b.takes != nil:
		p.data = b.takes.AppendRows(p.data, rows, b.width)
	default:
		for k := from; k < to; k++ {
			if c.place != nil {
				c.place.Place(c.index, b.fields.Lines[k])
			}
			p.data = c.enc.Append(p.data, b.values[k*b.width:][:b.width])
		}
	}
}

// column reads the fields of one column.
func (c *converter) column(i int) {
	b, r, at := c.block, c.readers[i], c.at[i]
	place := c.first() + i
	if at < 0 { // of a column that the source lacks: nothing
		for k := range b.fields.N {
			b.took(k, r.Read(nil, false, &b.values[place+k*b.width]))
		}
		return
	}
	spans := b.fields.Column(at)
	switch b.ways[i] {
	case reading.PlainWhole, reading.PlainDecimal:
		b.numbers(r, spans, place)
	case reading.PlainText:
		b.texts(r, spans, place)
	case reading.PlainDate:
		b.dates(r, spans, place)
	case reading.NotPlainly:
		for k, s := range spans {
			b.took(k, r.Read(b.fields.Field(s), s.Quoted(), &b.values[place+k*b.width]))
		}
	}
}

// took notes whether a value fits.
func (b *block) took(k int, m reading.Misfit) {
	if m != reading.OK {
		b.wrong[k], b.some = true, true
	}
}

// numbers reads plain numbers of up to eight bytes as words; others as ever.
func (b *block) numbers(r *reading.Reader, spans []delimited.Span, place int) {
	text := b.fields.Text()
	for k, s := range spans {
		v := &b.values[place+k*b.width]
		if at, n, plain := s.Plain(); plain && n <= 8 && n > 0 && at+8 <= len(text) &&
			r.ReadWord(binary.LittleEndian.Uint64(text[at:]), n, v) {
			continue
		}
		b.took(k, r.Read(b.fields.Field(s), s.Quoted(), v))
	}
}

// texts takes those that are what they are, and short enough by their bytes.
func (b *block) texts(r *reading.Reader, spans []delimited.Span, place int) {
	for k, s := range spans {
		v := &b.values[place+k*b.width]
		f := b.fields.Field(s)
		if r.Plain(f) {
			v.Null, v.Text = false, f
			continue
		}
		b.took(k, r.Read(f, s.Quoted(), v))
	}
}

// dates knows the date before, which is often that of the next.
func (b *block) dates(r *reading.Reader, spans []delimited.Span, place int) {
	var first, last uint64
	var size int
	var days int64
	for k, s := range spans {
		v := &b.values[place+k*b.width]
		f := b.fields.Field(s)
		n := len(f)
		if n < 8 || n > 16 {
			b.took(k, r.Read(f, s.Quoted(), v))
			continue
		}
		x, y := binary.LittleEndian.Uint64(f), binary.LittleEndian.Uint64(f[n-8:])
		if x == first && y == last && n == size {
			v.Null, v.Int = false, days
			continue
		}
		m := r.Read(f, s.Quoted(), v)
		if b.took(k, m); m == reading.OK && !v.Null {
			first, last, size, days = x, y, n, v.Int
		}
	}
}
