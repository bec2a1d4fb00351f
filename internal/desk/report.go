package desk

import (
	"context"
	"os"
	"strings"

	"ambertray/internal/account"
	"ambertray/internal/plan"
	"ambertray/internal/report"
	"ambertray/internal/tray"
)

// A ReportRequest asks for the page about a load.
type ReportRequest struct {
	Entry string
	// Limit is how many rejects are listed; 0: all.
	Limit int
	// NoPictures does not read the source again.
	NoPictures bool
}

// Report puts together what a page tells about an entry.
func (d *Desk) Report(ctx context.Context, req ReportRequest) (*report.Load, error) {
	e, err := d.entry(req.Entry)
	if err != nil {
		return nil, err
	}
	r := e.Receipt
	if r == nil {
		return nil, e.unsettled()
	}
	remarks, err := plan.RemarksIn(e.Path(tray.PlanFile))
	if err != nil {
		return nil, err
	}
	l := report.NewLoad(r, e.Plan, remarks)
	if sql, err := os.ReadFile(e.Path(tray.TableFile)); err == nil {
		l.Definition = strings.TrimSpace(string(sql))
	} else if !os.IsNotExist(err) {
		return nil, err
	}
	_, err = e.Outcomes(ctx, r, func(x *tray.Outcome) error {
		if req.Limit > 0 && len(l.Rejects) == req.Limit {
			l.More++
			return nil
		}
		l.Rejects = append(l.Rejects, report.Reject{Number: x.Number,
			Place:  StandsAt(x.Source, x.Line, x.Cell, len(r.Sources) > 1),
			Column: x.Column, Reason: x.Reason, Value: x.Value, State: x.State, Because: x.Because})
		return nil
	})
	if err != nil {
		return nil, err
	}
	trends, err := d.trends(e)
	if err != nil {
		return nil, err
	}
	l.Trends = append(l.Trends, trends...)
	return l, d.pictures(ctx, e, l, req.NoPictures)
}

// pictures adds how the values lie, or why that is not to be seen.
func (d *Desk) pictures(ctx context.Context, e *Entry, l *report.Load, without bool) error {
	switch {
	case without:
		l.Unseen = "they were not asked for"
		return nil
	case e.Receipt.Verdict == tray.Failed:
		l.Unseen = "nothing was loaded"
		return nil
	}
	size := int64(0)
	for _, s := range e.Receipt.Sources {
		size += s.Size
	}
	m := d.meter(ctx, "reading", size)
	spreads, err := account.Spreads(ctx, e.Entry, e.Receipt, e.Plan, m.Set)
	m.End()
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil {
		l.Unseen, _, _ = strings.Cut(err.Error(), "\n")
	} else {
		l.Distribute(spreads)
	}
	return nil
}
