package rows

import (
	"context"
	"sync"

	"ambertray/internal/pipeline"
	"ambertray/internal/profile"
	"ambertray/internal/sink"
	"ambertray/internal/source/delimited"
	"ambertray/internal/tally"
)

// TakeBack turns rows that the sink took out again at its end into rejects. It
// reads the sources once more, to find their records and to tally the others.
// With summed, the checksums are made anew, too. Rows are numbered among all
// that were written and not refused, from 0.
func (f *Feed) TakeBack(ctx context.Context, refusals []sink.Refusal, summed bool) error {
	f.Checksum = 0
	for i := range f.Total {
		f.Total[i] = tally.Tally{Type: f.Total[i].Type}
	}
	f.Likes = nil
	b := &back{Feed: f, refusals: refusals}
	for k := range f.Sources {
		if err := b.read(ctx, k, summed); err != nil {
			return err
		}
	}
	return f.checkLimit()
}

// back is the state of taking rows back.
type back struct {
	*Feed
	refusals []sink.Refusal // still to be found
	number   int            // of rows that were taken
	earlier  int64          // records of the sources before
}

func (b *back) read(ctx context.Context, k int, summed bool) error {
	st, err := b.Sources[k].Read(false)
	if err != nil {
		return err
	}
	defer st.Close()
	st.Size = 64 << 10 // most chunks then have nothing to take back
	var to sink.Sink
	if summed {
		to = b.Sink
	}
	team, err := b.team(k, b.earlier, to)
	if err != nil {
		return err
	}
	last := len(team) - 1
	records := int64(0)
	numbers := newNumbering()
	parts := &sync.Pool{New: func() any { return &part{} }}
	err = pipeline.Run(ctx, st, last, func(w int, chunk *delimited.Chunk) (*part, error) {
		x := parts.Get().(*part)
		x.first = numbers.next(chunk.Seq, team[w].count(chunk))
		team[w].convert(chunk, x, nil)
		return x, nil
	}, func(x *part) error {
		err := b.chunk(team[last], x, k, records)
		records += x.records
		x.chunk.Release()
		parts.Put(x)
		return err
	})
	if err != nil {
		return profile.Problem(b.Sources[k], err)
	}
	b.earlier += records
	return nil
}

// chunk looks for rows of one chunk that were taken out.
func (b *back) chunk(c *converter, x *part, k int, base int64) error {
	refused := b.refused[k]
	defer func() {
		b.Checksum += x.sum
		for i := range x.tally {
			b.Total[i].Merge(&x.tally[i])
		}
		b.alike(x)
	}()
	if len(refused) == 0 && (len(b.refusals) == 0 || b.refusals[0].Row >= b.number+x.rows) {
		b.number += x.rows
		return nil
	}
	var here []sink.Refusal
	row := 0
	c.base = base
	c.each(x.chunk, func(line, _ int64) {
		if refused[line] {
			here = append(here, sink.Refusal{Row: row, Before: true})
		} else {
			if len(b.refusals) > 0 && b.refusals[0].Row == b.number {
				again := b.refusals[0]
				again.Row = row
				here = append(here, again)
				b.refusals = b.refusals[1:]
			}
			b.number++
		}
		row++
	})
	if len(here) > 0 {
		before := len(x.rejects)
		c.refused(x, here)
		for _, j := range x.rejects[before:] {
			if j.Before {
				continue
			}
			if j.Skip != "" {
				b.Records.Loaded--
				b.Records.Skipped++
				b.Pass(j.Skip, 1)
				continue
			}
			j.Record += base
			if err := b.reject(j); err != nil {
				return err
			}
			b.Records.Loaded--
		}
	}
	return nil
}
