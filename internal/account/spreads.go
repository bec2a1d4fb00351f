package account

import (
	"context"
	"fmt"

	"ambertray/internal/plan"
	"ambertray/internal/reading"
	"ambertray/internal/rows"
	"ambertray/internal/sink"
	"ambertray/internal/sqltype"
	"ambertray/internal/tally"
	"ambertray/internal/tray"
)

// Spreads reads the sources of a load, and its mended rejects, again and
// tells how the values that were loaded lie in each column. The sources must be
// unchanged.
func Spreads(ctx context.Context, e *tray.Entry, r *tray.Receipt, p *plan.Plan,
	progress func(rows.Progress)) ([]*tally.Spread, error) {
	sources, without, err := accounted(ctx, e, r, p, checkSources(r))
	if err != nil {
		return nil, err
	}
	sink := &spreads{columns: r.Columns}
	out, err := sink.each()
	if err != nil {
		return nil, err
	}
	job := rows.Job{Sources: sources, Plan: p, Without: without, Origins: origins(r, p), MaxRejects: -1, Entry: r.Entry,
		At: r.Started, Progress: progress}
	if _, err := rows.Into(ctx, job, sink); err != nil {
		return nil, err
	}
	for _, t := range sink.teams {
		for i, s := range t.list {
			out[i].Merge(s)
		}
	}
	return out, nil
}

// spreads is a sink that keeps nothing of the rows.
type spreads struct {
	columns []tray.Verified
	teams   []*spreadOf
}

// each makes an empty spread for each column.
func (s *spreads) each() (list []*tally.Spread, err error) {
	for _, c := range s.columns {
		t, err := sqltype.Parse(c.Type)
		if err != nil {
			return nil, fmt.Errorf("the receipt's column %s: %w", c.Name, err)
		}
		list = append(list, tally.NewSpread(t, c.Smallest, c.Largest))
	}
	return list, nil
}

// Encoder implements Sink.
func (s *spreads) Encoder() sink.Encoder {
	list, _ := s.each() // as before, without an error
	t := &spreadOf{list}
	s.teams = append(s.teams, t)
	return t
}

// Write implements Sink.
func (s *spreads) Write(context.Context, sink.Batch) ([]sink.Refusal, error) { return nil, nil }

// spreadOf is an encoder that looks at the rows, and makes nothing of them.
type spreadOf struct{ list []*tally.Spread }

// Append implements sink.Encoder.
func (s *spreadOf) Append(dst []byte, row []reading.Value) []byte {
	for i, x := range s.list {
		x.Add(&row[i])
	}
	return dst
}
