package desk

import (
	"context"
	"fmt"
	"slices"
	"time"

	"ambertray/internal/db"
	"ambertray/internal/db/connect"
	"ambertray/internal/plan"
	"ambertray/internal/source"
	"ambertray/internal/tray"
)

// entriesOf lists the entries on the tray whose loads went into a database.
func (d *Desk) entriesOf(url string) ([]tray.Summary, error) {
	all, err := tray.List(d.Tray)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(all, func(s tray.Summary) bool {
		return s.Receipt == nil || !connect.Same(s.Receipt.Database, url)
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

// notAgain stops a load that would add a file to a table that has it already, as the
// tray tells, or the ledger of the database.
func (l *loading) notAgain(ctx context.Context) error {
	sums := map[*source.Source]string{}
	sum := func(s *source.Source) (_ string, err error) {
		if sums[s] == "" {
			sums[s], err = s.Sum()
		}
		return sums[s], err
	}
	if err := l.onTray(sum); err != nil {
		return err
	}
	return l.inLedger(ctx, sum)
}

// A summer gives the sum of a source. It is asked only where that may be the one of
// a source of the same size: the file has to be read for it.
type summer func(*source.Source) (string, error)

// isIn stops a load, or says in a dry run, that what it would load is in the table.
func (l *loading) isIn(what string) error {
	if !l.req.DryRun {
		return need("%s\n  say --again to load it nevertheless; nothing was changed", what)
	}
	l.tell(NoteEvent{what})
	return nil
}

// onTray is notAgain, as far as the tray tells.
func (l *loading) onTray(sum summer) error {
	here, err := l.entriesOf(l.req.Into.URL)
	if err != nil {
		return err
	}
	for _, src := range l.in.Sources {
		if src.Flows() && src.FileSize == 0 {
			continue // asked for again when it has been read
		}
		if !slices.ContainsFunc(here, func(s tray.Summary) bool {
			return slices.ContainsFunc(s.Receipt.Sources, func(x tray.Source) bool { return x.Size == src.FileSize })
		}) {
			continue
		}
		its, err := sum(src)
		if err != nil {
			return err
		}
		was := tray.Loaded(here, schemasOf(l.in.Plan, l.found), l.in.Plan.Table.Name, its, src.Part())
		if was == nil {
			continue
		}
		if err := l.isIn(fmt.Sprintf("%s: its bytes are in the table %s already, by the entry %s of %s", src.Name,
			db.Qualified(l.found.Schema, l.found.Name), was.Entry.Name,
			was.Started.Format("2006-01-02 15:04"))); err != nil {
			return err
		}
	}
	return nil
}

// loadedMeanwhile is notAgain once more, when nobody else can load into the table
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
	return l.notAgain(ctx)
}

// wereIn says, after a load that emptied or replaced a table, that the files
// had been in it before.
func (l *loading) wereIn(before []tray.Summary, r *tray.Receipt, p *plan.Plan, found *db.Table) {
	for _, s := range r.Sources {
		if was := tray.Loaded(before, schemasOf(p, found), p.Table.Name, s.SHA256, s.Part); was != nil {
			l.tell(NoteEvent{fmt.Sprintf("note: the bytes of %s had been loaded into this table before, "+
				"by the entry %s", s.Path, was.Entry.Name)})
		}
	}
}
