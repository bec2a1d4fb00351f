package desk

import (
	"context"
	"fmt"
	"slices"
	"time"

	"ambertray/internal/db"
	"ambertray/internal/db/connect"
	"ambertray/internal/plan"
	"ambertray/internal/tray"
)

// entriesOf lists the entries on the tray whose loads went into a database.
func (d *Desk) entriesOf(url string) ([]tray.Summary, error) {
	all, err := tray.List(d.Tray)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(all, func(s tray.Summary) bool {
		return s.Receipt == nil ||
			!connect.Same(s.Receipt.Database, url)
	}), nil
}

// schemasOf are the names under which the schema of a plan's table may stand
// in receipts: its own, or that of the default one.
func schemasOf(p *plan.Plan, found *db.Table) []string {
	if p.Table.Schema == "" && found != nil {
		return []string{"", found.Schema}
	}
	return []string{p.Table.Schema}
}

// loadedBefore stops a load that would add a file to a table that has it
// already, as far as the tray tells.
func (l *loading) loadedBefore() error {
	here, err := l.entriesOf(l.req.Into.URL)
	if err != nil {
		return err
	}
	for _, src := range l.in.Sources {
		if src.Flows() && src.FileSize == 0 {
			continue // asked for again when it has been read
		}
		// Only a file of the same size needs to be read for its sum.
		if !slices.ContainsFunc(here, func(s tray.Summary) bool {
			return slices.ContainsFunc(s.Receipt.Sources, func(x tray.Source) bool { return x.Size == src.FileSize })
		}) {
			continue
		}
		sum, err := src.Sum()
		if err != nil {
			return err
		}
		was := tray.Loaded(here, schemasOf(l.in.Plan, l.found), l.in.Plan.Table.Name, sum, src.Part())
		if was == nil {
			continue
		}
		what := fmt.Sprintf("%s: its bytes are in the table %s already, by the entry %s of %s", src.Name,
			db.Qualified(l.found.Schema, l.found.Name),
			was.Entry.Name, was.Started.Format("2006-01-02 15:04"))
		if !l.req.DryRun {
			return need("%s\n  say --again to load it nevertheless; nothing was changed", what)
		}
		l.tell(NoteEvent{what})
	}
	return nil
}

// loadedMeanwhile is loadedBefore once more, when nobody else can load into the table
// any more: another load may have done so since. One that has committed and is about
// to say so in its receipt is waited for.
func (l *loading) loadedMeanwhile(ctx context.Context) error {
	for range 60 {
		entries, err := tray.List(l.Tray)
		if err != nil {
			return err
		}
		if !slices.ContainsFunc(entries, func(s tray.Summary) bool { return s.State == tray.Running && s.Pending }) {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	if err := l.loadedBefore(); err != nil {
		return err
	}
	return l.inLedger(ctx)
}

// wereIn says, after a load that emptied or replaced a table, that the files
// had been in it before.
func (l *loading) wereIn(before []tray.Summary, r *tray.Receipt, p *plan.Plan, found *db.Table) {
	for _, s := range r.Sources {
		if was := tray.Loaded(before, schemasOf(p, found), p.Table.Name, s.SHA256, s.Part); was != nil {
			l.tell(NoteEvent{fmt.Sprintf("note: the bytes of %s had been loaded into this table before, by the "+
				"entry %s",
				s.Path, was.Entry.Name)})
		}
	}
}
