package desk

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"ambertray/internal/db"
	"ambertray/internal/db/connect"
	"ambertray/internal/phrase"
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

// A NothingAnswer is of a plan whose pattern matches no file that is not in the table.
type NothingAnswer struct {
	Document
	Schema string `json:"schema"`
	Table  string `json:"table"`
	// Known are the files.
	Known []string `json:"known"`
}

// notAgain stops a load that would add a file to a table that has it already, as the
// tray tells, or the ledger of the database. Of the files that a plan's pattern matches,
// those are left out.
func (l *loading) notAgain(ctx context.Context) error {
	seen, err := l.seen(ctx)
	if err != nil {
		return err
	}
	var left []*source.Source
	var known []string
	for _, src := range l.in.Sources {
		what, err := seen.has(src)
		if err != nil {
			return err
		}
		if what == "" {
			left = append(left, src)
			continue
		}
		if l.in.Pattern && l.job.Receipt == nil {
			known = append(known, src.Name)
			continue
		}
		if err := l.isIn(what); err != nil {
			return err
		}
		left = append(left, src)
	}
	if len(known) == 0 {
		return nil
	}
	l.known = known
	if len(left) == 0 {
		if e := l.in.Plan.Expect; e != nil && e.Files > 0 {
			return need("no file is new, and at least %d are expected; nothing was changed\n  in the table already: %s",
				e.Files, fewNames(known))
		}
		l.answer.Nothing = &NothingAnswer{document("nothing-new"), l.found.Schema, l.found.Name, known}
		return nil
	}
	l.tell(NoteEvent{fmt.Sprintf("in the table already: %s", fewNames(known))})
	l.in.Sources, l.job.Sources = left, left
	l.in.Plan.Sources = nil
	for _, s := range left {
		l.in.Plan.Sources = append(l.in.Plan.Sources, plan.FromLayout(s))
	}
	return nil
}

// fewNames names the first of many files.
func fewNames(names []string) string {
	const most = 5
	if n := len(names) - most; n > 1 {
		return strings.Join(names[:most], ", ") + " and " + phrase.Count(int64(n), "other")
	}
	return strings.Join(names, ", ")
}

// InAlready says in a few words which files were found to be in a table.
func InAlready(names []string) string {
	if len(names) == 1 {
		return names[0] + " is"
	}
	return fewNames(names) + " are"
}

// nothing reports whether there is nothing to load.
func (l *loading) nothing() bool { return l.answer.Nothing != nil }

// isIn stops a load, or says in a dry run, that what it would load is in the table.
func (l *loading) isIn(what string) error {
	if !l.req.DryRun {
		return need("%s\n  say --again to load it nevertheless; nothing was changed", what)
	}
	l.tell(NoteEvent{what})
	return nil
}

// seen is what the tray and the ledger of the database know of earlier loads into the
// table.
type seen struct {
	l    *loading
	here []tray.Summary
	rows []db.LedgerRow
	now  int64 // rows of the table
}

func (l *loading) seen(ctx context.Context) (*seen, error) {
	here, err := l.entriesOf(l.req.Into.URL)
	if err != nil {
		return nil, err
	}
	s := &seen{l: l, here: here}
	s.rows, s.now, err = l.inLedger(ctx)
	return s, err
}

// has tells by which load a source is in the table, or nothing. The file is read for it
// only where one of its size is.
func (s *seen) has(src *source.Source) (string, error) {
	if src.Flows() && src.FileSize == 0 {
		return "", nil // asked for again when it has been read
	}
	onTray := slices.ContainsFunc(s.here, func(x tray.Summary) bool {
		return slices.ContainsFunc(x.Receipt.Sources, func(x tray.Source) bool { return x.Size == src.FileSize })
	})
	same := func(r db.LedgerRow) bool { return r.Bytes == src.FileSize && r.Part == src.Part() }
	if !onTray && !slices.ContainsFunc(s.rows, same) {
		return "", nil
	}
	sum, err := src.Sum()
	if err != nil {
		return "", err
	}
	table := db.Qualified(s.l.found.Schema, s.l.found.Name)
	if was := tray.Loaded(s.here, schemasOf(s.l.in.Plan, s.l.found), s.l.in.Plan.Table.Name, sum,
		src.Part()); was != nil {
		return fmt.Sprintf("%s: its bytes are in the table %s already, by the entry %s of %s", src.Name, table,
			was.Entry.Name, was.Started.Format("2006-01-02 15:04")), nil
	}
	i := slices.IndexFunc(s.rows, func(r db.LedgerRow) bool { return r.SHA256 == sum && r.Part == src.Part() })
	if i < 0 {
		return "", nil
	}
	was := s.rows[i]
	what := fmt.Sprintf("%s: its bytes went into the table %s by the entry %s of %s, %s UTC, says the table %s",
		src.Name,
		table, was.Entry, was.By, was.At, db.LedgerTable)
	if last := s.rows[len(s.rows)-1].After; s.now < last {
		what += fmt.Sprintf("; the table has %s now, and had %s after the last load", phrase.Count(s.now, "row"),
			phrase.Grouped(last))
	}
	return what, nil
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
