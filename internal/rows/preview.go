package rows

import (
	"context"
	"encoding/binary"
	"errors"
	"io"

	"ambertray/internal/plan"
	"ambertray/internal/profile"
	"ambertray/internal/reading"
	"ambertray/internal/sink"
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
	_, err := Into(ctx, Job{Sources: []*source.Source{src}, Plan: p, MaxRejects: -1}.asIfNow(), s)
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

func (s *previewSink) Encoder() sink.Encoder { return &previewEncoder{types: s.types, most: s.n} }

// Write implements sink.Sink: each field stands behind its length in bytes.
func (s *previewSink) Write(_ context.Context, b sink.Batch) ([]sink.Refusal, error) {
	for data := b.Data; len(data) > 0 && len(s.rows) < s.n; {
		row := profile.Preview{}
		for range s.types {
			n := 4 + int(binary.LittleEndian.Uint32(data))
			row.Fields = append(row.Fields, string(data[4:n]))
			data = data[n:]
		}
		s.rows = append(s.rows, row)
	}
	return nil, io.EOF // the first batch will do
}

type previewEncoder struct {
	types []sqltype.Type
	most  int
	done  int
}

// Append implements sink.Encoder.
func (e *previewEncoder) Append(dst []byte, row []reading.Value) []byte {
	if e.done++; e.done > e.most {
		return dst
	}
	for i := range row {
		at := len(dst)
		dst = row[i].Append(append(dst, 0, 0, 0, 0), e.types[i])
		binary.LittleEndian.PutUint32(dst[at:], uint32(len(dst)-at-4))
	}
	return dst
}
