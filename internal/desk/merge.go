package desk

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"ambertray/internal/db"
	"ambertray/internal/db/connect"
	"ambertray/internal/db/dialect"
	"ambertray/internal/derive"
	"ambertray/internal/export"
	"ambertray/internal/load"
	"ambertray/internal/match"
	"ambertray/internal/phrase"
	"ambertray/internal/plan"
	"ambertray/internal/reading"
	"ambertray/internal/source"
	"ambertray/internal/source/delimited"
	"ambertray/internal/tray"
)

// A MergeRequest is how records meet rows that are there.
type MergeRequest struct {
	// OnlyNew adds the records that the table does not have, and counts the others as known.
	OnlyNew bool
	// Missing is what becomes of rows that the file does not have: keep or delete; empty: as
	// the plan says, else keep.
	Missing string
	// SameKey is what becomes of records with one key: reject or last; empty: reject.
	SameKey string
	// Before is how the rows that are changed are kept: all, none, or up to a bound.
	Before string
	// Show is how many changed rows a dry run shows; negative: as many as usual.
	Show int
}

// The words of a MergeRequest.
const (
	SameKeyReject = "reject"
	SameKeyLast   = "last"
	BeforeAll     = "all"
	BeforeNone    = "none"
)

// mostBefore is up to how many changes are kept with the rows as they were, unless that
// is asked for.
const mostBefore = 1_000_000

// A MergeAnswer is what a merge would do.
type MergeAnswer struct {
	Document
	DryRun  bool          `json:"dry_run"`
	Schema  string        `json:"schema"`
	Table   string        `json:"table"`
	Before  int64         `json:"rows_before"`
	After   int64         `json:"rows_after"`
	Records tray.Records  `json:"records"`
	Skipped []tray.Skip   `json:"skipped"`
	Reasons []tray.Reason `json:"reasons"`
	Merge   *tray.Merge   `json:"merge"`
	// Changed are the first rows that would get other values.
	Changed []load.ChangedRow `json:"changed"`
	// New and Gone are keys of the first rows that are new, and that the file does not have.
	New    [][]*string `json:"new"`
	Gone   [][]*string `json:"gone"`
	Source string      `json:"-"`
}

// merges reports whether the records of a load meet rows of the table.
func (r *LoadRequest) merges() bool { return r.Mode == db.Merge || r.OnlyNew }

// checkMerge refuses what does not go together in a merge.
func (l *loading) checkMerge() error {
	r := l.req
	switch {
	case r.OnlyNew && r.Mode != db.Append:
		return need("--only-new: it goes with --mode append\n  --mode merge changes known rows, too")
	case r.Mode != db.Merge && r.Missing != "":
		return need("--missing: it goes with --mode merge")
	case !r.merges() && (r.SameKey != "" || r.MergeRequest.Before != ""):
		return need("--same-key, --before: they go with --mode merge, and with --only-new")
	}
	if !r.merges() {
		return nil
	}
	if r.Prove && (r.OnlyNew || r.SameKey == SameKeyLast) {
		return need("--prove: records that are known, or superseded, are not in the table as they are in the " +
			"file\n  leave " +
			"it out; what goes in is verified nevertheless")
	}
	if m := r.Missing; m != "" && m != string(tray.MissingKept) && m != string(tray.MissingDeleted) {
		return need("--missing %q: use keep or delete; how rows are marked is said in the plan, under missing", m)
	}
	if s := r.SameKey; s != "" && s != SameKeyReject && s != SameKeyLast {
		return need("--same-key %q: use reject, or last for the last record of each key", s)
	}
	if b := r.MergeRequest.Before; b != "" && b != BeforeAll && b != BeforeNone {
		return need("--before %q: use all or none; left out, up to %s changes are kept", b, phrase.Grouped(mostBefore))
	}
	if r.Every > 0 {
		return need("--commit-every: records are compared with the table all at once, in one transaction\n  leave " +
			"it out")
	}
	if r.SlowPath {
		return need("--slow-path: it does not go with a merge\n  leave it out")
	}
	if r.Widen {
		return need("--widen: it does not go with a merge\n  make the column longer before")
	}
	return nil
}

// mergeWith decides by which key records meet rows.
func (l *loading) mergeWith(ctx context.Context, m *match.Mapping) error {
	r, in := l.req, l.in
	if !r.merges() {
		return nil
	}
	merger, is := l.conn.(db.Merger)
	if !is {
		return need("--mode merge, --only-new: %s cannot be merged into yet\n  'ambertray script --mode merge' writes "+
			"the statements", l.conn.Dialect().Title)
	}
	if l.found.View {
		return need("%s is a view, and only a table can be merged into", l.where())
	}
	if slices.ContainsFunc(in.Sources, (*source.Source).Flows) {
		return need("a merge may have to read its source once more, and this pipe can be read once\n  write it to " +
			"a file " +
			"first")
	}
	x := &load.Merge{Target: l.found, OnlyNew: r.OnlyNew, LastWins: r.SameKey == SameKeyLast, Missing: tray.MissingKept,
		Show: max(r.Show, 0)}
	asked := slices.Clone(r.Wishes.Key)
	key := asked
	if _, err := l.keyColumn(m, plan.None); slices.Equal(asked, []string{plan.None}) && err != nil {
		key = nil // rows are known by all of their values
	} else if len(key) == 0 {
		key = l.found.PrimaryKey()
	}
	if len(key) == 0 && len(asked) == 0 && in.Given {
		key = in.Plan.Table.Key
	}
	for _, k := range key {
		name, err := l.keyColumn(m, k)
		if err != nil && r.OnlyNew && len(asked) == 0 {
			x.Key = nil // the file has no such column: rows are known by what it has
			break
		}
		if err != nil {
			return err
		}
		x.Key = append(x.Key, name)
	}
	if len(x.Key) == 0 && !r.OnlyNew {
		return need("%s has no primary key, so that rows cannot be known\n  name the columns that tell them apart: "+
			"--key; nothing was changed", l.where())
	}
	if err := l.unique(ctx, merger, x.Key); err != nil {
		return err
	}
	for i := range m.Plan.Columns {
		c := &m.Plan.Columns[i]
		c.Required = c.Required || slices.Contains(x.Key, c.Name)
	}
	rule := in.Plan.Missing
	if r.Missing != "" {
		rule = &plan.Missing{Rule: r.Missing}
	}
	if rule != nil && r.Mode == db.Merge {
		x.Missing = tray.MissingRule(rule.Rule)
		if len(rule.Set) > 0 {
			x.Missing = tray.MissingMarked
		}
		var err error
		if x.Marks, err = l.marks(rule, x.Key); err != nil {
			return err
		}
	}
	if s, is := l.conn.(db.Surveyor); is && !r.OnlyNew {
		around, err := s.Around(ctx, l.found)
		if err != nil {
			return err
		}
		x.Referrers = around.Referrers
	}
	l.job.Merge = x
	return nil
}

// keyColumn is the column of the table that the key names, if the file fills it.
func (l *loading) keyColumn(m *match.Mapping, name string) (string, error) {
	for _, c := range m.Plan.Columns {
		if plan.Forgive(c.Name) == plan.Forgive(name) || c.From != "" && plan.Forgive(c.From) == plan.Forgive(name) {
			return c.Name, nil
		}
	}
	return "", need("the key names %s, and no column of the file goes there\n  rows are known by --key; nothing was "+
		"changed", name)
}

// unique makes sure that no two rows of the table have one key.
func (l *loading) unique(ctx context.Context, m db.Merger, key []string) error {
	if len(key) == 0 || slices.EqualFunc(key, l.found.PrimaryKey(), strings.EqualFold) {
		return nil
	}
	d := l.conn.Dialect()
	var names, filled []string
	for _, k := range key {
		names, filled = append(names, d.Quote(k)), append(filled, d.Quote(k)+" IS NOT NULL")
	}
	list := strings.Join(names, ", ")
	twice, err := m.Within().Rows(ctx, "cannot look at the key", d.First(list, fmt.Sprintf(
		"%s WHERE %s GROUP BY %s HAVING count(*) > 1", d.Qualified(l.found.Schema, l.found.Name),
		strings.Join(filled, " AND "), list), 1))
	if err != nil || len(twice) == 0 {
		return err
	}
	var values []string
	for _, v := range twice[0] {
		values = append(values, shown(v))
	}
	return need("--key %s: more than one row of the table %s has %s, so that rows cannot be known by it\n  name "+
		"columns "+
		"that tell them apart; nothing was changed", strings.Join(key, ","), l.found.Name, strings.Join(values, ", "))
}

// marks are what columns of the rows get that the file does not have.
func (l *loading) marks(rule *plan.Missing, key []string) (out []dialect.MarkedValue, err error) {
	rec := derive.NewRecord(&source.Source{}, 0, nil, "", time.Now().UTC().Truncate(time.Millisecond))
	for _, s := range rule.Set {
		at := slices.IndexFunc(l.found.Columns, func(c db.Column) bool {
			return plan.Forgive(c.Name) == plan.Forgive(s.Column)
		})
		if at < 0 {
			return nil, need("missing in the plan: the table %s has no column %s", l.found.Name, s.Column)
		}
		c := l.found.Columns[at]
		if slices.Contains(key, c.Name) || c.Generated || c.Identity {
			return nil, need("missing in the plan: %s is of the key, or the database's own; mark rows in another "+
				"column",
				c.Name)
		}
		v := dialect.MarkedValue{Column: dialect.Column{Name: c.Name, Type: c.SQL}}
		program, err := derive.Compile(s.Value, nil, false)
		if err != nil {
			return nil, need("missing in the plan: %s: %w", s.Column, err)
		}
		text, err := program.Text(rec, c.SQL)
		if err != nil {
			return nil, need("missing in the plan: %s: %w", s.Column, err)
		}
		if text != nil {
			var x reading.Value
			if miss := reading.Plain(c.SQL).Read(text, true, &x); miss != reading.OK {
				return nil, need("missing in the plan: %s: '%s' does not go into %s: %s", s.Column, text, c.Type,
					miss.Reason(c.SQL, text))
			}
			plain := string(text)
			v.Value = &plain
		}
		out = append(out, v)
	}
	return out, nil
}

// preview finds out what a merge would do.
func (l *loading) preview(ctx context.Context) error {
	m := l.meter(ctx, "comparing", l.in.Size())
	defer m.End()
	job := l.job
	job.Progress, job.Log = m.Set, l.Log
	job.Receipt = load.Started("", l.in.Sources, connect.Canonical(l.req.Into.URL), l.Version, time.Now())
	job.Entry, job.At = "", job.Receipt.Started
	if job.Merge.Show = l.req.Show; job.Merge.Show < 0 {
		job.Merge.Show = 10
	}
	p, err := load.PreviewMerge(ctx, job)
	m.End()
	var unmet *load.Unexpected
	if errors.As(err, &unmet) {
		return &Need{err}
	}
	if err != nil {
		return err
	}
	a := &MergeAnswer{Document: document("merge"), DryRun: true, Schema: l.found.Schema, Table: l.found.Name,
		Before: p.Before, After: p.Before + p.Merge.Inserted, Records: p.Records, Skipped: list(p.Skipped),
		Reasons: list(p.Reasons), Merge: p.Merge, Changed: list(p.First), New: list(p.New), Gone: list(p.Gone),
		Source: l.in.First().Name}
	if p.Merge.Rule == tray.MissingDeleted {
		a.After -= p.Merge.Missing
	}
	l.answer.Merge = a
	return nil
}

// mindBefore asks, where a merge changes many rows, whether they are to be kept as they
// were.
func (l *loading) mindBefore(ctx context.Context, changes int64) error {
	r := &l.req.MergeRequest
	if r.Before != "" || changes <= mostBefore {
		return nil
	}
	q := Question{Code: KeepsBefore, Answer: "say --before all or --before none",
		Ask: fmt.Sprintf("%s: %s; are the rows to be kept as they were, so that the load can be taken back?",
			l.where(), phrase.Count(changes, "change")),
		Choices: []Choice{{BeforeAll, "write them into the entry", "--before all"},
			{BeforeNone, "do not keep them", "--before none"}}}
	if l.Ask == nil {
		return need("%s\n  %s; nothing was changed", q.Ask, q.Answer)
	}
	answer, err := l.Ask(ctx, q)
	r.Before = answer
	return err
}

// keepBefore writes the rows that a merge changes into the entry, as they were, with the
// plan that loads them back.
func (l *loading) keepBefore(ctx context.Context, e *tray.Entry, query string, columns []db.Column) error {
	if l.req.MergeRequest.Before == BeforeNone {
		return nil
	}
	opt := export.Options{Form: delimited.DefaultForm}
	f, err := tray.CreateFile(e.Path(tray.BeforeFile))
	if err != nil {
		return err
	}
	w := bufio.NewWriterSize(f, 64<<10)
	result, err := export.Write(ctx, w, l.conn, db.Extract{Query: query, Columns: columns}, opt)
	if err = cmp.Or(err, w.Flush(), f.Sync(), f.Close()); err != nil {
		return fmt.Errorf("the rows cannot be kept as they were: %w", err)
	}
	l.job.Receipt.Merge.Before = true
	p := result.Plan(tray.BeforeFile, l.found.Name, nil, opt)
	for i := range p.Columns {
		p.Columns[i].Required = false // of a new row, only the key is there
	}
	b, err := p.Encode(plan.Comments{Head: "Amber Tray plan: the rows as they were before the load"})
	if err != nil {
		return err
	}
	return e.Write(tray.BeforePlanFile, b)
}
