package load

import (
	"context"
	"errors"
	"io"
	"time"

	"ambertray/internal/db"
	"ambertray/internal/plan"
	"ambertray/internal/profile"
	"ambertray/internal/reading"
	"ambertray/internal/source"
	"ambertray/internal/sqltype"
)

// Preview reads the first n records that would load, as the plan makes them,
// in plain form.
func Preview(ctx context.Context, src *source.Source, p *plan.Plan, n int) ([]profile.Preview, error) {
	s := &previewSink{n: n}
	for _, c := range p.Definition().Columns {
		s.types = append(s.types, c.Type)
	}
	_, err := Feed(ctx, Job{Sources: []*source.Source{src}, Plan: p, MaxRejects: -1, Entry: "preview", At: time.Now().UTC().Truncate(time.Second)}, s)
	if errors.Is(err, io.EOF) {
		err = nil
	}
	return s.rows, err
}

type previewSink struct {
	n     int
	types []sqltype.Type
	rows  []profile.Preview
}

func (s *previewSink) Encoder() db.Encoder { return &previewEncoder{types: s.types, most: s.n} }

// Write implements Sink: what was encoded is lines and fields between NULs.
func (s *previewSink) Write(_ context.Context, b db.Batch) ([]db.Refusal, error) {
	row := profile.Preview{}
	for data := b.Data; len(data) > 0 && len(s.rows) < s.n; {
		i := 0
		for data[i] != 0 && data[i] != 1 {
			i++
		}
		row.Fields = append(row.Fields, string(data[:i]))
		if data[i] == 1 {
			s.rows = append(s.rows, row)
			row = profile.Preview{}
		}
		data = data[i+1:]
	}
	return nil, io.EOF // the first batch will do
}

type previewEncoder struct {
	types []sqltype.Type
	most  int
	done  int
}

// Append implements db.Encoder.
func (e *previewEncoder) Append(dst []byte, row []reading.Value) []byte {
	if e.done++; e.done > e.most {
		return dst
	}
	for i := range row {
		dst = row[i].Append(dst, e.types[i])
		if i < len(row)-1 {
			dst = append(dst, 0)
		}
	}
	return append(dst, 1)
}
