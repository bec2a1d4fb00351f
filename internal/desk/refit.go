package desk

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"ambertray/internal/account"
	"ambertray/internal/db"
	"ambertray/internal/phrase"
	"ambertray/internal/plan"
	"ambertray/internal/tray"
)

// A RefitRequest changes the definition of a table that a load made.
type RefitRequest struct {
	Entry string
	Plan  string // the file that says what the table is to be
	At    DatabaseRequest
	// DryRun does all but commit; Yes answers that the change is to be made.
	DryRun, Yes bool
}

// A RefitAnswer is what was changed.
type RefitAnswer struct {
	Document
	Entry  string        `json:"entry"`
	DryRun bool          `json:"dry_run"`
	Schema string        `json:"schema"`
	Table  string        `json:"table"`
	Refit  *tray.Refit   `json:"refit"`
	Took   time.Duration `json:"-"`
	Into   string        `json:"-"`
}

// Refit changes the definition of the table that a load made to what a plan says.
func (d *Desk) Refit(ctx context.Context, r RefitRequest) (*RefitAnswer, error) {
	text, err := os.ReadFile(r.Plan)
	if err != nil {
		return nil, err
	}
	p, err := plan.ReadFile(r.Plan)
	if err != nil {
		return nil, err
	}
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
	start := time.Now()
	job := account.RefitJob{Entry: e.Entry, Receipt: e.Receipt, Plan: e.Plan, New: p, Text: text, Session: e.conn,
		Log: e.log, At: time.Now(), By: userName()}
	out, err := agreed(ctx, d, e, "refit", r.DryRun, r.Yes, func(dry bool) (*tray.Refit, error) {
		m := d.meter(ctx, "changing", 0)
		defer m.End()
		job.DryRun = dry
		return account.Refit(ctx, job)
	}, func(out *tray.Refit) Question {
		return Question{Code: Redefines, Ask: fmt.Sprintf("the definition of %s, with %s, will be changed: %s", name,
			phrase.Count(out.Rows, "row"), strings.Join(out.Changes, "; "))}
	})
	if err != nil {
		return nil, err
	}
	if !r.DryRun {
		e.log.Info("refitted", "changes", out.Changes, "statements", out.Statements, "rows", out.Rows)
	}
	return &RefitAnswer{Document: document("refit"), Entry: e.Name, DryRun: r.DryRun, Schema: t.Schema, Table: t.Name,
		Refit: out, Took: time.Since(start), Into: e.Receipt.Database}, nil
}
