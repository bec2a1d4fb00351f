package desk

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"ambertray/internal/match"
	"ambertray/internal/phrase"
	"ambertray/internal/profile"
	"ambertray/internal/report"
	"ambertray/internal/tray"
)

// lastOf are the receipts of the last loads before one into the same table, the oldest first.
// The list is of its database.
func lastOf(list []tray.Summary, r *tray.Receipt, schemas []string) (out []*tray.Receipt) {
	for _, x := range loadsInto(list, r.Table.Name, schemas) {
		if x.Entry != r.Entry && x.Started.Before(r.Started) {
			out = append(out, x)
		}
	}
	slices.SortFunc(out, func(a, b *tray.Receipt) int {
		return cmp.Or(a.Started.Compare(b.Started), cmp.Compare(a.Entry, b.Entry))
	})
	return out[max(len(out)-match.MostLoads, 0):]
}

// loadsInto are the receipts of loads into a table that are in it, or wait for mends.
func loadsInto(list []tray.Summary, table string, schemas []string) (out []*tray.Receipt) {
	for _, s := range list {
		if (s.State == tray.IsClear || s.State == tray.IsWaiting) && s.Receipt.Table.Name == table &&
			slices.Contains(schemas, s.Receipt.Table.Schema) {
			out = append(out, s.Receipt)
		}
	}
	return out
}

// keyColumns are those of the plan's key, and of the table's.
func (l *loading) keyColumns() []string {
	key := slices.Clone(l.in.Plan.Table.Key)
	if l.found == nil {
		return key
	}
	for _, k := range l.found.PrimaryKey() {
		if !slices.Contains(key, k) {
			key = append(key, k)
		}
	}
	return key
}

// schemas are those under which the load's table may stand in receipts.
func (l *loading) schemas() []string { return schemasOf(l.in.Plan, l.found) }

// since puts the load beside the last ones into its table, and adds what lies far off to
// its cautions. It is called before the commit.
func (l *loading) since(ctx context.Context, before []*tray.Receipt) error {
	r := l.job.Receipt
	key := l.keyColumns()
	var far []profile.Finding
	for _, c := range r.Cautions {
		if c.Code == profile.CodeUnmet || c.Code == profile.CodeKnownDiffers {
			l.far = append(l.far, c)
		}
	}
	if l.in.Given && r.Records.Read == r.Records.Skipped && len(r.Skipped) == 0 {
		far = append(far, noRecords())
	}
	for _, f := range match.Since(r, before, key) {
		if f.Far {
			far = append(far, l.orderOfDays(f.Caution(), f))
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
	if err := strictly(l.req.Strict, l.far); err != nil || len(l.far) == 0 || l.req.Yes || l.Ask == nil {
		return err
	}
	l.toldSince()
	return l.confirm(ctx, Question{Code: InSpiteOf, Answer: "say --yes to go on",
		Ask: "All records are in, and not committed. Commit in spite of " + phrase.Count(int64(len(l.far)), "caution") +
			"?"})
}

// orderOfDays adds to the caution about days how the plan reads them, where day and month could
// have changed places.
func (l *loading) orderOfDays(c profile.Finding, f match.Figure) profile.Finding {
	if f.Measure != match.Earliest && f.Measure != match.Latest {
		return c
	}
	for _, x := range l.job.Plan.Columns {
		if x.Name != f.Column || x.Reading == nil {
			continue
		}
		for _, p := range x.Reading.Dates {
			d, m := strings.Index(p, "d"), strings.Index(p, "M")
			if min(d, m) == 0 && max(d, m) > 0 && !strings.Contains(p, "MMM") {
				c.Do = "look whether day and month stand in the order of " + p + ", as they are read"
			}
		}
	}
	return c
}

// toldSince tells what lies far off.
func (l *loading) toldSince() {
	if len(l.far) > 0 && !l.farTold {
		l.farTold = true
		l.tell(FoundEvent{l.where(), nil, l.far})
	}
}

// trends are the figures of a load with those of the loads before it, for a page.
func (d *Desk) trends(e *Entry) ([]report.Trend, error) {
	list, err := d.entriesOf(e.Receipt.Database)
	before := lastOf(list, e.Receipt, []string{e.Receipt.Table.Schema})
	if err != nil || len(before) == 0 {
		return nil, err
	}
	var out []report.Trend
	for _, f := range match.Since(e.Receipt, before, append(slices.Clone(e.Plan.Table.Key), e.Receipt.Table.Key...)) {
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
