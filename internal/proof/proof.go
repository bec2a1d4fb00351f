// Package proof compares a table with the sources it was loaded from, value by
// value, in any order of rows and in memory that does not grow with either.
//
// The model: every row, of a source as the plan reads it and of the table, is
// reduced to 128 bits that depend on all of its values and on a secret of this
// run. Rows are dealt by these bits into many groups, and each group is summed
// up on both sides. Where all sums agree, so does every row: that takes one
// pass over each side. Only the groups that differ are looked at again, to
// find and name the records.
//
// Where the table may hold the rows of others, sums say nothing. Then the rows
// of the source are kept by their 128 bits, as many as memory is set aside
// for, and the table is searched for them, in as many passes as that takes.
package proof

import (
	"context"
	"encoding/binary"
	"hash/maphash"
	"maps"
	"math"
	"math/bits"

	"ambertray/internal/reading"
	"ambertray/internal/sink"
	"ambertray/internal/sqltype"
)

// A Side yields rows.
type Side interface {
	// Rows encodes every row, on any number of goroutines, and hands over what
	// the encoders made, with the number of rows in it.
	Rows(ctx context.Context, encoder func() sink.Encoder, take func(rows int, data []byte) error) error
}

// A Row is one that has no partner on the other side.
type Row struct {
	Source int   // of the source side
	Line   int64 // in it; 0 for rows of a table
	// Values are in plain form; nil is null.
	Values []*string
}

// A Result is what a comparison came to.
type Result struct {
	Source, Table int64 // rows compared on each side
	// Missing are rows of the source that the table lacks, Extra the other way
	// round. No more than Options.Show of each are kept; the counts are of all
	// that were found.
	Missing, Extra           []Row
	MissingCount, ExtraCount int64
	// AtLeast tells that the comparison ended when enough was found, and there
	// may be more.
	AtLeast bool
	Passes  int // over the table
}

// Same reports that every row has its partner.
func (r *Result) Same() bool { return r.MissingCount == 0 && r.ExtraCount == 0 }

// Options steer a comparison.
type Options struct {
	// Types are those of the columns. One of Kind None is not compared. A value
	// that is not of its column's type may come as it is in Value.Wide.
	Types []sqltype.Type
	// Within tells that the table may hold other rows, too.
	Within bool
	Show   int // rows of each kind to keep; 0 means 100
	// Memory is how many rows are kept by their bits at once; 0 means 3
	// million, which take 96 MB.
	Memory int
	// Progress is called with a stage and the rows compared so far.
	Progress func(stage string, rows int64)
}

const groups = 1 << 14

// group is what the rows dealt to it add up to.
type group struct {
	rows   int64
	lo, hi uint64
}

func (g *group) add(h hash) {
	g.rows++
	var carry uint64
	g.lo, carry = bits.Add64(g.lo, h.lo, 0)
	g.hi, _ = bits.Add64(g.hi, h.hi, carry)
}

type hash struct{ lo, hi uint64 }

func (h hash) group() int { return int(h.hi >> (64 - 14)) }

// hasher is an encoder that reduces rows to their bits. Of the rows that are
// wanted it adds place and values.
type hasher struct {
	types  []sqltype.Type
	seeds  [2]maphash.Seed
	buf    []byte
	wanted func(hash) bool // nil: none
	source int
	line   int64
}

// Place implements load.Placer.
func (e *hasher) Place(source int, line int64) { e.source, e.line = source, line }

// Append implements sink.Encoder.
func (e *hasher) Append(dst []byte, row []reading.Value) []byte {
	b := e.buf[:0]
	for i := range row {
		if e.types[i].Kind != sqltype.None {
			b = appendValue(b, &row[i], e.types[i])
		}
	}
	e.buf = b
	h := hash{maphash.Bytes(e.seeds[0], b), maphash.Bytes(e.seeds[1], b)}
	dst = binary.LittleEndian.AppendUint64(dst, h.lo)
	dst = binary.LittleEndian.AppendUint64(dst, h.hi)
	at := len(dst)
	dst = append(dst, 0, 0, 0, 0)
	if e.wanted == nil || !e.wanted(h) {
		return dst
	}
	dst = binary.LittleEndian.AppendUint32(dst, uint32(e.source))
	dst = binary.LittleEndian.AppendUint64(dst, uint64(e.line))
	for i := range row {
		if row[i].Null || e.types[i].Kind == sqltype.None {
			dst = append(dst, 0)
			continue
		}
		dst = append(dst, 1, 0, 0, 0, 0)
		start := len(dst)
		if t := e.types[i]; row[i].Wide != nil && t.Kind != sqltype.Decimal {
			dst = append(dst, row[i].Wide...)
		} else {
			dst = row[i].Append(dst, t)
		}
		binary.LittleEndian.PutUint32(dst[start-4:], uint32(len(dst)-start))
	}
	binary.LittleEndian.PutUint32(dst[at:], uint32(len(dst)-at-4))
	return dst
}

// appendValue writes a value so that no two different rows come to the same
// bytes.
func appendValue(b []byte, v *reading.Value, t sqltype.Type) []byte {
	switch {
	case v.Null:
		return append(b, 'n')
	case v.Wide != nil:
		b = binary.AppendUvarint(append(b, 'w'), uint64(len(v.Wide)))
		return append(b, v.Wide...)
	case t.IsText() || t.Kind == sqltype.UUID:
		b = binary.AppendUvarint(append(b, 't'), uint64(len(v.Text)))
		return append(b, v.Text...)
	case t.Kind == sqltype.Double:
		f := v.Float
		if f == 0 {
			f = 0 // minus zero is zero
		}
		return binary.LittleEndian.AppendUint64(append(b, 'f'), math.Float64bits(f))
	}
	return binary.LittleEndian.AppendUint64(append(b, 'i'), uint64(v.Int))
}

// unpack takes one row off what a hasher made.
func unpack(b []byte, columns int) (h hash, row *Row, rest []byte) {
	h = hash{binary.LittleEndian.Uint64(b), binary.LittleEndian.Uint64(b[8:])}
	n := int(binary.LittleEndian.Uint32(b[16:]))
	b = b[20:]
	rest = b[n:]
	if n == 0 {
		return h, nil, rest
	}
	row = &Row{Source: int(binary.LittleEndian.Uint32(b)), Line: int64(binary.LittleEndian.Uint64(b[4:]))}
	b = b[12:]
	for range columns {
		if b[0] == 0 {
			row.Values = append(row.Values, nil)
			b = b[1:]
			continue
		}
		n := int(binary.LittleEndian.Uint32(b[1:]))
		s := string(b[5 : 5+n])
		row.Values = append(row.Values, &s)
		b = b[5+n:]
	}
	return h, row, rest
}

type comparison struct {
	Options
	source, table Side
	seeds         [2]maphash.Seed
	result        Result
}

// Compare compares all rows of two sides.
func Compare(ctx context.Context, source, table Side, opt Options) (*Result, error) {
	if opt.Show == 0 {
		opt.Show = 100
	}
	if opt.Memory == 0 {
		opt.Memory = 3_000_000
	}
	c := &comparison{Options: opt, source: source, table: table,
		seeds: [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()}}
	sums, err := c.sum(ctx, source, "reading the source")
	if err != nil {
		return nil, err
	}
	for _, g := range sums {
		c.result.Source += g.rows
	}
	suspect := make([]bool, groups)
	if opt.Within {
		for i, g := range sums {
			suspect[i] = g.rows > 0
		}
	} else {
		held, err := c.sum(ctx, table, "reading the table")
		if err != nil {
			return nil, err
		}
		c.result.Passes++
		same := true
		for i, g := range held {
			c.result.Table += g.rows
			suspect[i] = g != sums[i]
			same = same && !suspect[i]
		}
		if same {
			return &c.result, nil
		}
	}
	// The suspect groups, as many at a time as memory holds.
	for at := 0; at < groups; {
		chosen := make([]bool, groups)
		rows := int64(0)
		for ; at < groups && (rows == 0 || rows+sums[at].rows <= int64(opt.Memory)); at++ {
			if suspect[at] {
				chosen[at] = true
				rows += sums[at].rows
			}
		}
		if err := c.search(ctx, chosen, int(rows)); err != nil {
			return nil, err
		}
		if at < groups && len(c.result.Missing) >= opt.Show {
			c.result.AtLeast = true
			break
		}
	}
	return &c.result, nil
}

func (c *comparison) progress(stage string, rows int64) {
	if c.Progress != nil {
		c.Progress(stage, rows)
	}
}

// each runs through a side. Rows that are wanted come with their values.
func (c *comparison) each(ctx context.Context, side Side, stage string, wanted func(hash) bool,
	f func(hash, *Row)) error {
	rows := int64(0)
	return side.Rows(ctx, func() sink.Encoder { return &hasher{types: c.Types, seeds: c.seeds, wanted: wanted} },
		func(n int, data []byte) error {
			for range n {
				var h hash
				var row *Row
				h, row, data = unpack(data, len(c.Types))
				f(h, row)
			}
			rows += int64(n)
			c.progress(stage, rows)
			return nil
		})
}

func (c *comparison) sum(ctx context.Context, side Side, stage string) ([]group, error) {
	out := make([]group, groups)
	err := c.each(ctx, side, stage, nil, func(h hash, _ *Row) { out[h.group()].add(h) })
	return out, err
}

// search finds the rows of some groups that have no partner.
func (c *comparison) search(ctx context.Context, chosen []bool, rows int) error {
	kept := make(map[hash]int32, rows) // how often more on the source's side
	err := c.each(ctx, c.source, "keeping", nil, func(h hash, _ *Row) {
		if chosen[h.group()] {
			kept[h]++
		}
	})
	if err != nil {
		return err
	}
	first := c.result.Passes == 0
	in := func(h hash) bool { return !c.Within && chosen[h.group()] }
	err = c.each(ctx, c.table, "searching the table", in, func(h hash, row *Row) {
		if c.Within && first {
			c.result.Table++
		}
		if !chosen[h.group()] {
			return
		}
		if n := kept[h]; n > 0 {
			kept[h] = n - 1
			return
		}
		if c.Within {
			return
		}
		if c.result.ExtraCount++; len(c.result.Extra) < c.Show {
			c.result.Extra = append(c.result.Extra, *row)
		}
	})
	if err != nil {
		return err
	}
	c.result.Passes++
	missing := int64(0)
	for h, n := range kept {
		missing += int64(n)
		if n == 0 {
			delete(kept, h)
		}
	}
	c.result.MissingCount += missing
	if missing == 0 || len(c.result.Missing) >= c.Show {
		return nil
	}
	// Once more through the source, to name the records.
	wanted := func(h hash) bool { _, is := kept[h]; return is }
	left := maps.Clone(kept)
	return c.each(ctx, c.source, "naming", wanted, func(h hash, row *Row) {
		if row != nil && left[h] > 0 && len(c.result.Missing) < c.Show {
			left[h]--
			c.result.Missing = append(c.result.Missing, *row)
		}
	})
}

// A Summer sums up sides that are not there at the same time, so that they can be compared
// by what they come to.
type Summer struct{ c comparison }

// A Sum is what the rows of a side come to, in any order.
type Sum struct {
	Rows   int64
	lo, hi uint64
}

// NewSummer makes one for rows of such columns.
func NewSummer(opt Options) *Summer {
	return &Summer{comparison{Options: opt, seeds: [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()}}}
}

// Sum sums a side up.
func (s *Summer) Sum(ctx context.Context, side Side, stage string) (Sum, error) {
	var g group
	err := s.c.each(ctx, side, stage, nil, func(h hash, _ *Row) { g.add(h) })
	return Sum{g.rows, g.lo, g.hi}, err
}
