package desk

import (
	"slices"
	"time"

	"ambertray/internal/db"
	"ambertray/internal/match"
	"ambertray/internal/profile"
	"ambertray/internal/tray"
)

// What the papers of earlier loads say about the files of this one, beside their figures.

// mostNames is of how many earlier loads the names of files are looked at.
const mostNames = 90

// missingDays tells that a day between the last load and this one has no file.
func (l *loading) missingDays() error {
	list, err := l.entriesOf(l.req.Into.URL)
	if err != nil {
		return err
	}
	var earlier, now []string
	for _, x := range loadsInto(list, l.in.Plan.Table.Name, l.schemas()) {
		for _, f := range x.Sources {
			earlier = append(earlier, f.Path)
		}
	}
	for _, s := range l.in.Sources {
		now = append(now, s.Path)
	}
	slices.Sort(earlier)
	text := match.MissingDays(earlier[max(0, len(earlier)-mostNames):], now)
	if text == "" {
		return nil
	}
	c := profile.Finding{Weight: profile.Caution, Code: profile.CodeGap, Text: text,
		Do: "ask for it, if it should be there"}
	l.cautions = append(l.cautions, c)
	l.tell(FoundEvent{l.where(), nil, []profile.Finding{c}})
	return nil
}

// sameRows stops a load that would add rows that an earlier load has added already, as far as their
// number and the totals of all columns tell: the file may have another name, other line ends, or its
// records in another order.
func (l *loading) sameRows(before []tray.Summary) error {
	r := l.job.Receipt
	if r.Records.Loaded == 0 {
		return nil
	}
	into := loadsInto(before, r.Table.Name, l.schemas())
	emptied := time.Time{} // the last time
	for _, x := range into {
		if m := db.Mode(x.Table.Mode); m != db.Append && m != db.Merge && x.Started.After(emptied) {
			emptied = x.Started
		}
	}
	for _, x := range into {
		// Rows that are not there any more are not there twice.
		n := x.Records.Loaded
		there := !x.Started.Before(emptied) && r.Table.Before >= n
		if x.Merge == nil && there && n == r.Records.Loaded && l.sameFacts(x) {
			return need("%s: the same rows are in the table already, by the entry %s: as many, with the same totals "+
				"in all columns\n  say --again to load them nevertheless; nothing was changed", l.in.First().Name,
				x.Entry)
		}
	}
	return nil
}

// sameFacts reports whether the figures of all columns that come from the file are those of an
// earlier load, and tell rows apart: one of them has different values.
func (l *loading) sameFacts(x *tray.Receipt) bool {
	tells := false
	for _, c := range l.job.Plan.Columns {
		if c.Value != "" {
			continue // like the time of the load
		}
		now := factsOf(l.job.Receipt, c.Name)
		was := factsOf(x, c.Name)
		if now == nil || was == nil || *now != *was {
			return false
		}
		tells = tells || now.Smallest != now.Largest
	}
	return tells
}

func factsOf(r *tray.Receipt, column string) *tray.Facts {
	i := slices.IndexFunc(r.Columns, func(c tray.Verified) bool { return c.Name == column })
	if i < 0 {
		return nil
	}
	return &r.Columns[i].Facts
}
