package desk

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"ambertray/internal/account"
	"ambertray/internal/rows"
	"ambertray/internal/tray"
)

// A VerifyRequest checks a load again.
type VerifyRequest struct {
	Entry string
	At    DatabaseRequest
	Deep  bool
	// Limit is how many differing records are named.
	Limit int
}

// A VerifyAnswer is what source and table are found to be.
type VerifyAnswer struct {
	Document
	Entry   string                `json:"entry"`
	Answer  account.Answer        `json:"answer"`
	Sources []account.SourceCheck `json:"sources"`
	Rows    account.RowsCheck     `json:"rows"`
	Columns []account.ColumnCheck `json:"columns"`
	Papers  PapersCheck           `json:"papers"`
	Records tray.Records          `json:"records"`
	Deep    *DeepAnswer           `json:"deep,omitempty"`

	Receipt *tray.Receipt      `json:"-"`
	Check   *account.DeepCheck `json:"-"` // nil unless Deep
	Took    time.Duration      `json:"-"`
}

// A PapersCheck tells whether the papers are those of the load.
type PapersCheck struct {
	Answer account.Answer `json:"answer"`
	Text   string         `json:"text"`
}

// Outcome is what it comes to.
func (a *VerifyAnswer) Outcome() Outcome {
	switch a.Answer {
	case account.Differs:
		return Differs
	case account.Unknown:
		return Unknown
	case account.Agrees:
	}
	return settled(a.Receipt)
}

// A DeepAnswer compares every value.
type DeepAnswer struct {
	Same          bool             `json:"same"`
	SourceRecords int64            `json:"source_records"`
	TableRows     int64            `json:"table_rows"`
	Columns       []string         `json:"columns"`
	NotCompared   []string         `json:"not_compared"`
	MissingCount  int64            `json:"missing_count"`
	ExtraCount    int64            `json:"extra_count"`
	AtLeast       bool             `json:"at_least"`
	Different     []DeepDifference `json:"different"`
	Missing       []DeepRow        `json:"missing"`
	Extra         []DeepRow        `json:"extra"`
}

// A DeepDifference is a record with other values in the table.
type DeepDifference struct {
	Source string             `json:"source"`
	Line   int64              `json:"line"`
	Values map[string]*string `json:"source_values"`
	Table  map[string]*string `json:"table_values"`
}

// A DeepRow is a record, or a row, that the other side lacks.
type DeepRow struct {
	Source string    `json:"source,omitempty"`
	Line   int64     `json:"line,omitempty"`
	Values []*string `json:"values"`
}

// Verify checks source and table against the receipt.
func (d *Desk) Verify(ctx context.Context, r VerifyRequest) (*VerifyAnswer, error) {
	e, err := d.entryAt(ctx, r.Entry, r.At, false)
	if err != nil {
		return nil, err
	}
	defer e.close()
	start := time.Now()
	papers, err := d.papersOf(e)
	if err != nil {
		return nil, err
	}
	v, err := account.Verify(ctx, e.Receipt, e.Plan, e.conn)
	if err != nil {
		return nil, err
	}
	a := &VerifyAnswer{Document: document("verify"), Entry: e.Name, Answer: v.Answer, Sources: v.Sources, Rows: v.Rows,
		Columns: v.Columns,
		Papers:  papers, Records: e.Receipt.Records, Receipt: e.Receipt}
	if r.Deep {
		if err := d.deep(ctx, e, a, r.Limit); err != nil {
			return nil, err
		}
	}
	if papers.Answer == account.Differs {
		a.Answer = account.Differs
	}
	a.Took = time.Since(start)
	return a, nil
}

// papersOf compares the papers of an entry with what the tray's chain says of them.
func (d *Desk) papersOf(e *Entry) (PapersCheck, error) {
	chain, err := tray.ReadChain(filepath.Dir(e.Dir))
	if err != nil {
		return PapersCheck{}, err
	}
	s, err := chain.Sealed(e.Entry)
	switch {
	case err != nil:
		return PapersCheck{}, err
	case len(chain.Broken) > 0:
		return PapersCheck{account.Differs, "the tray's chain is broken: " + chain.Broken[0]}, nil
	case s.Link == 0:
		return PapersCheck{account.Unknown, "they were never sealed"}, nil
	case len(s.Changed) > 0:
		return PapersCheck{account.Differs, "changed since they were sealed: " + strings.Join(s.Changed, ", ")}, nil
	}
	text := fmt.Sprintf("as they were sealed, link %d of the tray's chain", s.Link)
	if n := len(s.SignedBy); n > 0 {
		text += ", which is signed"
	}
	return PapersCheck{account.Agrees, text}, nil
}

// deep compares every value, which may tell what the counts could not.
func (d *Desk) deep(ctx context.Context, e *Entry, a *VerifyAnswer, limit int) (err error) {
	m := d.meter(ctx, "comparing", 0)
	a.Check, err = account.Deep(ctx, e.Entry, e.Receipt, e.Plan, e.conn, a.Sources, func(stage string, n int64) {
		m.Set(rows.Progress{Stage: stage, Records: n})
	})
	m.End()
	if err != nil {
		return err
	}
	a.Deep = deepAnswer(a.Check, limit)
	switch {
	case !a.Check.Same():
		a.Answer = account.Differs
	case a.Answer == account.Unknown:
		a.Answer = account.Agrees
		for _, s := range a.Sources {
			if s.Answer == account.Unknown {
				a.Answer = account.Unknown
			}
		}
	}
	return nil
}

func deepAnswer(d *account.DeepCheck, limit int) *DeepAnswer {
	a := &DeepAnswer{Same: d.Same(), SourceRecords: d.Source, TableRows: d.Table, Columns: d.Columns,
		NotCompared:  list(d.NotCompared()),
		MissingCount: d.MissingCount, ExtraCount: d.ExtraCount, AtLeast: d.AtLeast, Different: []DeepDifference{},
		Missing: []DeepRow{}, Extra: []DeepRow{}}
	pairs, missing, extra := d.Pairs(d.Key)
	for _, p := range pairs[:min(len(pairs), limit)] {
		x := DeepDifference{d.Names[p.Source], p.Line, map[string]*string{}, map[string]*string{}}
		for k, c := range p.Columns {
			x.Values[d.Columns[c]], x.Table[d.Columns[c]] = p.Values[c], p.Table[k]
		}
		a.Different = append(a.Different, x)
	}
	for _, r := range missing[:min(len(missing), limit)] {
		a.Missing = append(a.Missing, DeepRow{d.Names[r.Source], r.Line, r.Values})
	}
	for _, r := range extra[:min(len(extra), limit)] {
		a.Extra = append(a.Extra, DeepRow{"", 0, r.Values})
	}
	return a
}
