package desk

import (
	"context"
	"errors"
	"fmt"
	"time"

	"ambertray/internal/account"
	"ambertray/internal/db"
	"ambertray/internal/phrase"
	"ambertray/internal/tray"
)

// An UndoRequest takes a load back.
type UndoRequest struct {
	Entry string
	At    DatabaseRequest
	// DryRun does all but commit; Yes answers that the load is to be taken back.
	DryRun, Yes bool
}

// An UndoAnswer is what was taken back.
type UndoAnswer struct {
	Document
	Entry   string        `json:"entry"`
	DryRun  bool          `json:"dry_run"`
	Schema  string        `json:"schema"`
	Table   string        `json:"table"`
	Mode    string        `json:"mode"` // of the load
	Undoing *tray.Undoing `json:"undoing"`
	Verdict tray.Verdict  `json:"verdict"`
	Loaded  tray.Records  `json:"records"` // of the load
	Sources []tray.Source `json:"-"`
	Took    time.Duration `json:"-"`
	Into    string        `json:"-"`
}

// Undo takes a load back.
func (d *Desk) Undo(ctx context.Context, r UndoRequest) (*UndoAnswer, error) {
	e, err := d.entryAt(ctx, r.Entry, r.At, true)
	if err != nil {
		return nil, err
	}
	defer e.close()
	t := e.Receipt.Table
	name := db.Qualified(t.Schema, t.Name)
	if err := d.hold(ctx, e.conn, db.Name{Schema: t.Schema, Table: t.Name}, r.At); err != nil {
		return nil, err
	}
	book, has, err := ledgerOf(ctx, e.conn, t.Schema)
	if err != nil {
		return nil, err
	}
	if !has {
		book = nil
	}
	job := account.UndoJob{Entry: e.Entry, Receipt: e.Receipt, Plan: e.Plan, Session: e.conn, Log: e.log,
		At: time.Now(), By: userName(), Ledger: book}
	start := time.Now()
	out, err := agreed(ctx, d, e, "undo", r.DryRun, r.Yes, func(dry bool) (*tray.Undoing, error) {
		m := d.meter(ctx, "taking back", 0)
		defer m.End()
		job.Progress, job.DryRun = m.Set, dry
		return account.Undo(ctx, job)
	}, func(out *tray.Undoing) Question {
		return Question{Code: TakesBack, Ask: fmt.Sprintf("%s: the load of %s into %s will be taken back: %s", e.Name,
			phrase.Count(e.Receipt.Records.Loaded, "record"), name, doneBy(out))}
	})
	if err != nil {
		return nil, err
	}
	a := &UndoAnswer{Document: document("undo"), Entry: e.Name, DryRun: r.DryRun, Schema: t.Schema, Table: t.Name,
		Mode: t.Mode, Undoing: out, Verdict: tray.Undone, Loaded: e.Receipt.Records, Sources: e.Receipt.Sources,
		Took: time.Since(start), Into: e.Receipt.Database}
	if r.DryRun {
		a.Verdict = e.Receipt.Verdict
	} else {
		e.log.Info("undone", "deleted", out.Deleted, "changed", out.Changed, "put_back", out.PutBack, "dropped",
			out.Dropped)
	}
	return a, nil
}

// agreed does something to an entry. Where nobody has agreed to it yet, it is done without a
// commit first, to see what to ask.
func agreed[T any](ctx context.Context, d *Desk, e *Entry, what string, dry, yes bool, do func(dry bool) (T, error),
	ask func(T) Question) (out T, err error) {
	if dry || !yes {
		out, err = do(true)
	}
	if err == nil && !dry && !yes {
		q := ask(out)
		q.Answer = "say --yes if that is meant"
		err = d.confirm(ctx, q)
	}
	if err == nil && !dry {
		e.log.Info(what, "version", d.Version)
		out, err = do(false)
	}
	if err != nil {
		err = d.notDone(ctx, e, what, err)
	}
	return out, err
}

// doneBy says what taking a load back does.
func doneBy(u *tray.Undoing) string {
	if u.Dropped {
		return "the table, with " + phrase.Count(u.Deleted, "row") + ", is dropped"
	}
	return fmt.Sprintf("%s deleted, %s with their old values, %s put back", phrase.Count(u.Deleted, "row"),
		phrase.Grouped(u.Changed), phrase.Grouped(u.PutBack))
}

// notDone says what became of something that could not be done to an entry.
func (d *Desk) notDone(ctx context.Context, e *Entry, what string, err error) error {
	var why *account.NotDone
	var asked *Need
	switch {
	case errors.As(err, &why):
		err = &Need{fmt.Errorf("%s: %w", e.Name, err)}
	case errors.As(err, &asked):
		return err
	case db.IsUnsure(err):
		err = fmt.Errorf("%w\n  'ambertray verify %s' settles it", err, e.Name)
	case ctx.Err() != nil:
		err = &Stopped{"nothing was committed"}
	}
	e.log.Error(what+" failed", "error", err)
	return err
}
