package desk

import (
	"cmp"
	"slices"

	"ambertray/internal/match"
	"ambertray/internal/profile"
	"ambertray/internal/report"
	"ambertray/internal/tray"
)

// lastOf are the receipts of the last loads before one into the same table, the oldest first.
// The list is of its database.
func lastOf(list []tray.Summary, r *tray.Receipt) (out []*tray.Receipt) {
	for _, s := range list {
		x := s.Receipt
		if (s.State == tray.IsClear || s.State == tray.IsWaiting) && x.Table.Name == r.Table.Name &&
			x.Table.Schema == r.Table.Schema && x.Entry != r.Entry && x.Started.Before(r.Started) {
			out = append(out, x)
		}
	}
	slices.SortFunc(out, func(a, b *tray.Receipt) int {
		return cmp.Or(a.Started.Compare(b.Started), cmp.Compare(a.Entry, b.Entry))
	})
	return out[max(len(out)-match.MostLoads, 0):]
}

// since puts the load beside the last ones into its table, and adds what lies far off to
// its cautions. It is called before the commit.
func (l *loading) since(before []*tray.Receipt) error {
	r := l.job.Receipt
	key := l.in.Plan.Table.Key
	if l.found != nil {
		key = append(slices.Clone(key), l.found.PrimaryKey()...)
	}
	var far []profile.Finding
	for _, c := range r.Cautions {
		if c.Code == profile.CodeUnmet {
			l.far = append(l.far, c)
		}
	}
	for _, f := range match.Since(r, before, key) {
		if f.Far {
			far = append(far, f.Caution())
		}
	}
	r.Cautions = append(r.Cautions, far...)
	l.far = append(l.far, far...)
	for _, f := range l.far {
		l.job.Log.Warn("caution", "code", f.Code, "column", f.Column, "text", f.Text)
	}
	if l.req.Strict && len(l.far) > 0 {
		l.toldSince()
	}
	return strictly(l.req.Strict, l.far)
}

// toldSince tells what lies far off.
func (l *loading) toldSince() {
	if len(l.far) > 0 {
		l.tell(FoundEvent{l.where(), nil, l.far})
	}
}

// trends are the figures of a load with those of the loads before it, for a page.
func (d *Desk) trends(e *Entry) ([]report.Trend, error) {
	list, err := d.entriesOf(e.Receipt.Database)
	before := lastOf(list, e.Receipt)
	if err != nil || len(before) == 0 {
		return nil, err
	}
	var out []report.Trend
	for _, f := range match.Since(e.Receipt, before, e.Plan.Table.Key) {
		t := report.Trend{Column: f.Column, Measure: string(f.Measure), Far: f.Far}
		for i, v := range append(slices.Clone(f.Before), f.Now) {
			started := e.Receipt.Started
			if i < len(before) {
				started = before[i].Started
			}
			t.Loads = append(t.Loads, report.TrendLoad{Started: started, Value: v, Text: f.Text(v)})
		}
		if f.Far || f.Measure == match.Records || !t.Flat() {
			out = append(out, t)
		}
	}
	return out, nil
}
