package desk

import (
	"context"
	"fmt"
	"time"

	"ambertray/internal/account"
	"ambertray/internal/db"
	"ambertray/internal/db/connect"
	"ambertray/internal/phrase"
	"ambertray/internal/tray"
)

// A SweepRequest drops tables in which loads have kept old rows.
type SweepRequest struct {
	// Older leaves those alone that are younger.
	Older time.Duration
	At    DatabaseRequest // if it names a database, only that one's are
	// DryRun only lists them; Yes answers that they are to be dropped.
	DryRun, Yes bool
}

// A SweepAnswer is what was dropped.
type SweepAnswer struct {
	Document
	Tray   string       `json:"tray"`
	DryRun bool         `json:"dry_run"`
	Tables []SweptTable `json:"tables"`
	// Failed tells that a table could not be dropped.
	Failed bool `json:"-"`
}

// A SweptTable is one of them.
type SweptTable struct {
	Entry    string    `json:"entry"`
	Database string    `json:"database"`
	Schema   string    `json:"schema"`
	Table    string    `json:"table"`
	Rows     int64     `json:"rows"`
	Kept     time.Time `json:"kept"`
	Dropped  bool      `json:"dropped"`
	Error    string    `json:"error,omitempty"`
}

// Sweep drops the tables in which loads have kept old rows: then these loads cannot be
// taken back any more.
func (d *Desk) Sweep(ctx context.Context, r SweepRequest) (*SweepAnswer, error) {
	all, err := tray.List(d.Tray)
	if err != nil {
		return nil, err
	}
	a := &SweepAnswer{Document: document("sweep"), Tray: d.Tray, DryRun: r.DryRun, Tables: []SweptTable{}}
	for _, s := range all {
		x := s.Receipt
		if x == nil || x.Kept == nil || x.Kept.Dropped != nil || s.State != tray.IsClear && s.State != tray.IsWaiting ||
			time.Since(x.Finished) < r.Older || r.At.URL != "" && x.Database != connect.Canonical(r.At.URL) {
			continue
		}
		a.Tables = append(a.Tables, SweptTable{Entry: s.Entry.Name, Database: x.Database, Schema: x.Table.Schema,
			Table: x.Kept.Table, Rows: x.Kept.Rows, Kept: x.Finished})
	}
	if len(a.Tables) == 0 || r.DryRun {
		return a, nil
	}
	if !r.Yes {
		q := Question{Code: Sweeps, Answer: "say --yes if that is meant",
			Ask: fmt.Sprintf("%s with old rows will be dropped; then the loads that kept them cannot be taken back",
				phrase.Count(int64(len(a.Tables)), "table"))}
		for _, t := range a.Tables {
			q.Evidence = append(q.Evidence, fmt.Sprintf("%s: %s, %s", t.Database, db.Qualified(t.Schema, t.Table),
				phrase.Count(t.Rows, "row")))
		}
		if err := d.confirm(ctx, q); err != nil {
			return nil, err
		}
	}
	for i := range a.Tables {
		t := &a.Tables[i]
		if err := d.sweep(ctx, t.Entry, r.At); err != nil {
			t.Error, a.Failed = err.Error(), true
			continue
		}
		t.Dropped = true
	}
	return a, nil
}

// sweep drops the table of one entry.
func (d *Desk) sweep(ctx context.Context, name string, at DatabaseRequest) error {
	e, err := d.entryAt(ctx, name, at, true)
	if err != nil {
		return err
	}
	defer e.close()
	if err := account.DropKept(ctx, e.conn, e.Receipt); err != nil {
		return err
	}
	now := time.Now().UTC().Truncate(time.Millisecond)
	kept := *e.Receipt.Kept
	kept.Dropped = &now
	r := *e.Receipt
	r.Kept = &kept
	e.log.Info("dropped the old rows", "table", kept.Table, "rows", kept.Rows)
	return e.WriteReceipt(&r)
}
