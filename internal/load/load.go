// Package load runs a plan against a database.
//
// The model: records are converted side by side and written in order, within
// one transaction. While they go in, each column's values are tallied. When
// all are in, the table is tallied by itself, and only if the account
// balances and the two tallies agree is the transaction committed:
//
//	records read = loaded + rejected + skipped
//	rows, nulls, sums, smallest, largest: read = in the table
//
// Records that do not fit are kept as rejects and do not stop the load. What
// does stop it leaves the table as it was. The package prints nothing.
package load

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"ambertray/internal/db"
	"ambertray/internal/derive"
	"ambertray/internal/pipeline"
	"ambertray/internal/plan"
	"ambertray/internal/profile"
	"ambertray/internal/reading"
	"ambertray/internal/source"
	"ambertray/internal/source/delimited"
	"ambertray/internal/sqltype"
	"ambertray/internal/tally"
	"ambertray/internal/tray"
)

// batchBytes is how much of a source goes into one batch. Servers work faster
// on large ones; a refused row costs more.
const batchBytes = 4 << 20

var rowNumberType = sqltype.Type{Kind: sqltype.BigInt}

// A Job is one load to be run.
type Job struct {
	// Sources are read one after the other, into one table.
	Sources []*source.Source
	Plan    *plan.Plan
	Session db.Session
	// Spec says how the table is to be loaded. Its columns are the plan's.
	Spec db.Spec
	// Entry and At name the load and its time, for expressions.
	Entry string
	At    time.Time
	// Origins are the sources that mended records came from, by name.
	Origins map[string]*source.Source
	// Rejects takes the records that are not loaded; nil only counts them.
	Rejects Keeper
	// Without names records, by source and line, that are passed over as if
	// they were not there.
	Without []map[int64]bool
	// MaxRejects ends the load when there are more; negative for no limit.
	MaxRejects int64
	// MaxShare, if above 0, does so when more than this share of the records
	// read are rejected. It is looked at when all have been read.
	MaxShare float64
	Log      *slog.Logger
	// Progress is called now and then.
	Progress func(Progress)
	// Receipt is filled in; the caller sets what identifies the run.
	Receipt *tray.Receipt
	// Every, if above 0, is after how many records the load commits on its way;
	// Going is how far an earlier run of the same load has come.
	Every int64
	Going *Going
	// BeforeCommit is called when all has been verified; an error of its
	// rolls back.
	BeforeCommit func() error
	// AfterCommit is called when the commit has come to be.
	AfterCommit func() error
}

// A Keeper keeps rejects.
type Keeper interface {
	Add(tray.Reject) error
	// Finish makes what was added safe.
	Finish() error
	// Kept is how many were added.
	Kept() int64
}

// A Sink takes rows as its encoders made them. Every db.Load is one.
type Sink interface {
	// Encoder returns an encoder for one goroutine. If it is a [Placer], it is
	// told where the next row comes from.
	Encoder() db.Encoder
	// Write takes rows in the order of the sources, and returns those that it
	// refuses.
	Write(ctx context.Context, b db.Batch) ([]db.Refusal, error)
}

// A Placer is an encoder that wants to know where rows come from.
type Placer interface {
	Place(source int, line int64)
}

// Progress is how far a load is.
type Progress struct {
	Bytes, Size       int64
	Records, Rejected int64
	Stage             string // reading, verifying, committing
}

// An Unbalanced error says that what was read and what the table holds do not
// agree. Nothing was committed.
type Unbalanced struct {
	Differences []string
	Fate        string // of what was written: "nothing was committed"
}

func (e *Unbalanced) Error() string {
	s := "the load does not add up; " + e.Fate
	for _, d := range e.Differences {
		s += "\n  " + d
	}
	return s
}

// TooManyRejects says that a load was ended by its limit.
type TooManyRejects struct {
	Limit   int64
	Reasons []tray.Reason
	Fate    string
}

func (e *TooManyRejects) Error() string {
	s := fmt.Sprintf("more than %d records were rejected; %s", e.Limit, e.Fate)
	for _, r := range e.Reasons[:min(3, len(e.Reasons))] {
		s += strings.TrimSuffix(fmt.Sprintf("\n  %d × %s", r.Count, r.Column), " ") + " " + r.Reason
	}
	return s
}

// ErrChanged says that the source was changed while it was read.
var ErrChanged = errors.New("the file was changed while it was read")

// A Check is what a dry run found: the account as it would be, and what would
// not fit.
type Check struct {
	Records tray.Records
	Skipped []tray.Skip
	Reasons []tray.Reason
	// Misfits are by column of the plan.
	Misfits []Misfits
	Tally   []tally.Column
}

// Misfits are the values of a column that do not fit its type.
type Misfits struct {
	Count int64
	First []profile.Example
	// Reason is that of the first; TooLong counts those that are only too
	// long, and Longest is the longest of them, in characters.
	Reason  string
	TooLong int64
	Longest int
}

// run is the state of one load.
type run struct {
	job     Job
	at      [][]int // the field of each column, by source
	slots   [][]int // the place of each field among the headers, by source; nil: as it is
	headers []string
	exprs   *plan.Expressions
	current int            // the source that is read
	stream  *source.Stream // of it
	done    int64          // bytes of the sources before it
	size    int64          // bytes of all
	base    int64          // records of it before the chunk at hand
	sums    []string
	load    db.Load // nil: there is only a sink, or nothing
	sink    Sink
	total   []tally.Column
	sum     uint64         // of the checksums of the rows
	before  []tally.Column // what the table held, or nil
	records tray.Records
	skipped [8]int64                   // by kind
	refused []map[int64]bool           // lines of the records that the database refused, by source
	reasons map[[2]string]*tray.Reason // by column and reason
	misfits []misfits
	steps   steps
}

// clip keeps of a value what is enough to recognise it.
func clip(s string) string {
	if r := []rune(s); len(r) > 200 {
		return string(r[:200]) + "…"
	}
	return s
}

func newRun(job Job) (*run, error) {
	headers, slots := source.Match(job.Sources, same(job.Plan))
	r := &run{job: job, headers: headers}
	var err error
	if r.exprs, err = job.Plan.Expressions(); err != nil {
		return nil, err
	}
	for k, src := range job.Sources {
		at, err := Positions(job.Plan, src)
		if err != nil {
			return nil, err
		}
		r.at = append(r.at, at)
		if isInOrder(slots[k]) {
			slots[k] = nil
		}
		r.slots = append(r.slots, slots[k])
		r.size += src.Size
		r.refused = append(r.refused, map[int64]bool{})
	}
	return r, nil
}

func isInOrder(at []int) bool {
	for i, k := range at {
		if i != k {
			return false
		}
	}
	return true
}

// Headers are the columns of a plan's sources, those of the first first, as
// rejects are kept under.
func Headers(sources []*source.Source, p *plan.Plan) []string {
	headers, _ := source.Match(sources, same(p))
	return headers
}

// same are the headers that mean another in a plan.
func same(p *plan.Plan) map[string]string {
	out := map[string]string{}
	for _, c := range p.Columns {
		for _, h := range c.Also {
			out[h] = c.From
		}
	}
	return out
}

// Run loads. On success the receipt is complete but for its end time.
func Run(ctx context.Context, job Job) error {
	r, err := newRun(job)
	if err != nil {
		return err
	}
	for _, src := range job.Sources {
		job.Spec.Once = job.Spec.Once || src.Flows()
	}
	if r.load, err = job.Session.Begin(ctx, job.Spec); err != nil {
		return err
	}
	r.sink = r.load
	defer r.load.Rollback()
	if err := r.goOn(); err != nil {
		return err
	}
	if job.Spec.Mode == db.Append && r.before == nil {
		if job.Receipt.Table.Before, r.before, err = r.load.Tally(ctx); err != nil {
			return err
		}
	}
	if job.Rejects == nil {
		r.job.Rejects = new(counter)
	}
	if err := r.read(ctx); err != nil {
		r.job.Rejects.Finish()
		return err
	}
	if !r.steps.met {
		return fmt.Errorf("%s: %w: it ends before the place where the load stopped; %s", job.Sources[r.job.Going.At.Source].Name, ErrNotTheSame, r.fate())
	}
	if f, ok := r.load.(db.Finisher); ok {
		r.progress("finishing")
		refusals, err := f.Finish(ctx)
		if err == nil && len(refusals) > 0 {
			err = r.takeBack(ctx, refusals)
		}
		if err != nil {
			r.job.Rejects.Finish()
			return err
		}
	}
	if err := r.job.Rejects.Finish(); err != nil {
		return err
	}
	receipt := job.Receipt
	for k, sum := range r.sums {
		receipt.Sources[k].SHA256 = sum
	}
	if job.MaxShare > 0 && float64(r.records.Rejected) > job.MaxShare*float64(r.records.Read) {
		return &TooManyRejects{int64(job.MaxShare * float64(r.records.Read)), r.grouped(), r.fate()}
	}
	job.Log.Info("records read", "read", r.records.Read, "loaded", r.records.Loaded, "rejected", r.records.Rejected, "skipped", r.records.Skipped, "sha256", r.sums)
	r.progress("verifying")
	if err := r.verify(ctx); err != nil {
		return err
	}
	if job.BeforeCommit != nil {
		if err := job.BeforeCommit(); err != nil {
			return err
		}
	}
	r.progress("committing")
	if err := r.load.Commit(ctx); err != nil {
		return err
	}
	job.Log.Info("committed", "table", job.Plan.Table.Name, "rows", receipt.Table.Rows)
	if job.AfterCommit != nil {
		return job.AfterCommit()
	}
	return nil
}

// counter counts rejects, and keeps none.
type counter int64

func (c *counter) Add(tray.Reject) error { *c++; return nil }
func (c *counter) Finish() error         { return nil }
func (c *counter) Kept() int64           { return int64(*c) }

// DryRun does everything but touch a database.
func DryRun(ctx context.Context, job Job) (*Check, error) { return Feed(ctx, job, nil) }

// Feed reads and converts as a load does, but into a sink, where nothing is
// verified.
func Feed(ctx context.Context, job Job, sink Sink) (*Check, error) {
	if job.Rejects == nil {
		job.Rejects = new(counter)
	}
	r, err := newRun(job)
	if err != nil {
		return nil, err
	}
	r.sink = sink
	if err := r.read(ctx); err != nil {
		return nil, err
	}
	if err := job.Rejects.Finish(); err != nil {
		return nil, err
	}
	c := &Check{Records: r.records, Skipped: r.skips(), Reasons: r.grouped(), Tally: r.total}
	for _, m := range r.misfits {
		c.Misfits = append(c.Misfits, Misfits{m.count, m.first, m.reason, m.tooLong, m.longest})
	}
	return c, nil
}

// Positions finds the plan's columns in the source, and says which are not
// there.
func Positions(p *plan.Plan, src *source.Source) ([]int, error) {
	at, missing, _ := p.Positions(src.Layout.Columns[src.Layout.Lead:])
	for i := range at {
		if at[i] >= 0 {
			at[i] += src.Layout.Lead
		}
	}
	if len(missing) > 0 {
		return nil, &source.Problem{Source: src.Name, Line: src.Layout.Header, Asked: true,
			What: fmt.Sprintf("has no column %q, which the plan takes", missing[0]),
			Do:   "its columns are " + list(src.Layout.Columns[src.Layout.Lead:]) + "; correct from: in the plan, or take the column out"}
	}
	return at, nil
}

func list(names []string) string {
	s := ""
	for i, n := range names {
		if i == 12 {
			return s + ", …"
		}
		if i > 0 {
			s += ", "
		}
		s += n
	}
	return s
}

// read runs the sources through the pipeline into the sink.
func (r *run) read(ctx context.Context) error {
	r.reasons = map[[2]string]*tray.Reason{}
	r.misfits = make([]misfits, len(r.job.Plan.Columns))
	parts := &sync.Pool{New: func() any { return &part{} }}
	for k := range r.job.Sources {
		if err := r.readOne(ctx, k, parts); err != nil {
			return err
		}
	}
	return nil
}

func (r *run) readOne(ctx context.Context, k int, parts *sync.Pool) error {
	src, p := r.job.Sources[k], r.job.Plan
	var err error
	if r.stream, err = src.Read(true); err != nil {
		return err
	}
	defer r.stream.Close()
	r.current, r.base = k, 0
	if k > 0 {
		r.done += r.job.Sources[k-1].Size
	}
	if r.sink != nil {
		r.stream.Size = batchBytes
		if s, ok := r.sink.(db.Sized); ok {
			r.stream.Size = s.BatchBytes()
		}
	}
	r.mark(k)
	r.skipped[source.Title] += int64(len(src.Titles))
	r.records.Read += int64(len(src.Titles))
	r.records.Skipped += int64(len(src.Titles))
	workers := pipeline.Workers()
	team := make([]*converter, workers+1) // the last one is the collector's
	for i := range team {
		var enc db.Encoder
		if r.sink != nil {
			enc = r.sink.Encoder()
		}
		if team[i], err = r.converter(k, enc); err != nil {
			return err
		}
	}
	if r.total == nil {
		for i := range team[0].row {
			t := rowNumberType
			if k := i - team[0].first(); k >= 0 {
				t = team[0].readers[k].Type
			}
			r.total = append(r.total, tally.Column{Type: t})
		}
	}
	var numbers *numbering
	if p.Table.RowNumber != "" || r.exprs != nil {
		numbers = newNumbering()
	}
	err = pipeline.Run(ctx, r.stream, workers,
		func(w int, c *delimited.Chunk) (*part, error) {
			x := parts.Get().(*part)
			x.first = 0
			if numbers != nil {
				// Numbers go on from the chunk before, so that one has to be
				// counted first.
				x.first = numbers.next(c.Seq, team[w].count(c))
			}
			team[w].convert(c, x, nil)
			return x, nil
		},
		func(x *part) error {
			if err := r.collect(ctx, team[workers], x); err != nil {
				return err
			}
			if err := r.stepped(ctx, x.chunk); err != nil {
				return err
			}
			x.chunk.Release()
			parts.Put(x)
			return nil
		})
	if err != nil {
		return profile.Problem(src, err)
	}
	if src.Flows() {
		src.Ended(r.stream)
		if r.job.Receipt != nil {
			r.job.Receipt.Sources[k].Size = src.FileSize
		}
	} else if r.stream.Bytes() != src.Size {
		return fmt.Errorf("%w; %s", ErrChanged, r.fate())
	}
	r.sums = append(r.sums, r.stream.Sum())
	return nil
}

func (r *run) converter(k int, enc db.Encoder) (*converter, error) {
	c, err := newConverter(r.job.Sources[k], r.job.Plan, r.at[k], enc)
	if err != nil {
		return nil, err
	}
	c.slots, c.index = r.slots[k], k
	if r.exprs != nil {
		c.exprs = r.exprs
		c.record = derive.NewRecord(r.job.Sources[k], k+1, r.exprs.Variables, r.job.Entry, r.job.At)
		c.mended = map[string]*derive.Record{}
		for name, src := range r.job.Origins {
			if c.lead() == lead {
				c.mended[name] = derive.NewRecord(src, k+1, r.exprs.Variables, r.job.Entry, r.job.At)
			}
		}
		for i := range c.readers {
			c.plain = append(c.plain, reading.Strict(c.readers[i].Type))
		}
	}
	if r.job.Without != nil {
		c.without = r.job.Without[k]
	}
	return c, nil
}

// collect writes one part, in order.
func (r *run) collect(ctx context.Context, c *converter, x *part) error {
	if r.past(x.chunk) {
		r.again(c, x)
	} else if r.sink != nil && x.rows > 0 {
		refusals, err := r.sink.Write(ctx, db.Batch{Rows: x.rows, Data: x.data})
		if err != nil {
			return err
		}
		if k, is := r.sink.(db.Keeper); is {
			x.data = k.Instead(x.data)
		}
		if len(refusals) > 0 {
			before := len(x.rejects)
			c.refused(x, refusals)
			for _, j := range x.rejects[before:] {
				r.refused[r.current][j.Line] = true
				r.noteRefused(&j)
			}
		}
	}
	for i := range x.tally {
		r.total[i].Merge(&x.tally[i])
	}
	r.sum += x.sum
	r.records.Read += x.read
	r.records.Loaded += int64(x.rows)
	for k, n := range x.skipped {
		r.skipped[k] += n
		r.records.Skipped += n
	}
	for i, m := range x.misfits {
		t := &r.misfits[i]
		if t.count == 0 {
			t.reason = m.reason
		}
		t.count += m.count
		t.tooLong += m.tooLong
		t.longest = max(t.longest, m.longest)
		t.first = append(t.first, m.first[:min(len(m.first), 3-min(3, len(t.first)))]...)
	}
	slices.SortStableFunc(x.rejects, func(a, b tray.Reject) int { return cmp.Compare(a.Line, b.Line) })
	for _, j := range x.rejects {
		j.Record += r.base
		if err := r.reject(j); err != nil {
			return err
		}
	}
	r.base += x.records
	if m := r.job.MaxRejects; m >= 0 && r.records.Rejected > m {
		return &TooManyRejects{m, r.grouped(), r.fate()}
	}
	r.progress("reading")
	return nil
}

// takeBack turns rows that a target took out again into rejects. It reads the
// sources once more, to find their records and to tally the others.
func (r *run) takeBack(ctx context.Context, refusals []db.Refusal) error {
	r.sum = 0
	for i := range r.total {
		r.total[i] = tally.Column{Type: r.total[i].Type}
	}
	b := &back{run: r, refusals: refusals}
	for k := range r.job.Sources {
		if err := b.read(ctx, k); err != nil {
			return err
		}
	}
	if m := r.job.MaxRejects; m >= 0 && r.records.Rejected > m {
		return &TooManyRejects{m, r.grouped(), r.fate()}
	}
	return nil
}

// back is the state of taking rows back.
type back struct {
	*run
	refusals []db.Refusal // still to be found
	number   int          // of rows that were taken
}

func (b *back) read(ctx context.Context, k int) error {
	st, err := b.job.Sources[k].Read(false)
	if err != nil {
		return err
	}
	defer st.Close()
	st.Size = 64 << 10 // most chunks then have nothing to take back
	workers := pipeline.Workers()
	team := make([]*converter, workers+1) // the last one is the collector's
	for i := range team {
		var enc db.Encoder
		if _, is := b.load.(db.Checker); is {
			enc = b.load.Encoder()
		}
		if team[i], err = b.converter(k, enc); err != nil {
			return err
		}
	}
	records := int64(0)
	numbers := newNumbering()
	parts := &sync.Pool{New: func() any { return &part{} }}
	err = pipeline.Run(ctx, st, workers, func(w int, chunk *delimited.Chunk) (*part, error) {
		x := parts.Get().(*part)
		x.first = numbers.next(chunk.Seq, team[w].count(chunk))
		team[w].convert(chunk, x, nil)
		return x, nil
	}, func(x *part) error {
		err := b.chunk(team[workers], x, k, records)
		records += x.records
		x.chunk.Release()
		parts.Put(x)
		return err
	})
	if err != nil {
		return profile.Problem(b.job.Sources[k], err)
	}
	return nil
}

// chunk looks for rows of one chunk that were taken out.
func (b *back) chunk(c *converter, x *part, k int, base int64) error {
	refused := b.refused[k]
	defer func() {
		b.sum += x.sum
		for i := range x.tally {
			b.total[i].Merge(&x.tally[i])
		}
	}()
	if len(refused) == 0 && (len(b.refusals) == 0 || b.refusals[0].Row >= b.number+x.rows) {
		b.number += x.rows
		return nil
	}
	var here []db.Refusal
	row := 0
	c.base = base
	c.each(x.chunk, func(line, _ int64) {
		if refused[line] {
			here = append(here, db.Refusal{Row: row, Message: ""})
		} else {
			if len(b.refusals) > 0 && b.refusals[0].Row == b.number {
				again := b.refusals[0]
				again.Row = row
				here = append(here, again)
				b.refusals = b.refusals[1:]
			}
			b.number++
		}
		row++
	})
	if len(here) > 0 {
		before := len(x.rejects)
		c.refused(x, here)
		for _, j := range x.rejects[before:] {
			if j.Reason == "" {
				continue // it has been rejected before
			}
			j.Record += base
			if err := b.reject(j); err != nil {
				return err
			}
			b.records.Loaded--
		}
	}
	return nil
}

// reject counts a record that is not loaded, and keeps it.
func (r *run) reject(j tray.Reject) error {
	if err := r.job.Rejects.Add(j); err != nil {
		return err
	}
	r.records.Rejected++
	kind := j.Kind
	if kind == "" {
		kind = j.Reason
	}
	key := [2]string{j.Column, kind}
	if x := r.reasons[key]; x != nil {
		x.Count++
	} else if len(r.reasons) < 1000 {
		r.reasons[key] = &tray.Reason{Column: j.Column, Reason: kind, Count: 1, Line: j.Line, Cell: j.Cell, Value: clip(j.Value)}
	}
	return nil
}

func (r *run) progress(stage string) {
	if r.job.Progress != nil {
		r.job.Progress(Progress{Bytes: r.done + r.stream.Bytes(), Size: r.size, Records: r.records.Read, Rejected: r.records.Rejected, Stage: stage})
	}
}

// verify compares what was read with what the table holds, and fills in the
// receipt.
func (r *run) verify(ctx context.Context) error {
	receipt := r.job.Receipt
	receipt.Records = r.records
	receipt.Skipped = r.skips()
	receipt.Reasons = r.grouped()
	rows, held, differences, err := r.held(ctx)
	if err != nil {
		return err
	}
	receipt.Table.Rows = rows
	if !r.records.Balanced() {
		differences = append(differences, fmt.Sprintf("%d records read, but %d loaded + %d rejected + %d skipped", r.records.Read, r.records.Loaded, r.records.Rejected, r.records.Skipped))
	}
	if n := r.job.Rejects.Kept(); n != r.records.Rejected {
		differences = append(differences, fmt.Sprintf("%d records rejected, but %d in the rejects file", r.records.Rejected, n))
	}
	before := receipt.Table.Before
	if rows-before != r.records.Loaded {
		differences = append(differences, fmt.Sprintf("%d records loaded, but the table has %d rows, and had %d before", r.records.Loaded, rows, before))
	}
	columns := r.job.Spec.Table.Columns
	receipt.Columns = nil
	for i := range r.total {
		t := &r.total[i]
		c := tray.Column{Name: columns[i].Name, Type: t.Type.String(), Facts: tray.FactsOf(t)}
		c.Loose = held[i].Loose
		expected := *t
		expected.Loose = held[i].Loose
		if r.before != nil {
			// What was there and what was read together are what is there now.
			expected = r.before[i]
			expected.Merge(t)
			held := tray.FactsOf(&held[i])
			c.Held = &held
		}
		c.Differences = expected.Differs(&held[i])
		c.Agrees = len(c.Differences) == 0
		for _, d := range c.Differences {
			differences = append(differences, "column "+c.Name+": "+d)
		}
		receipt.Columns = append(receipt.Columns, c)
	}
	if len(differences) > 0 {
		receipt.Differences = differences
		for _, d := range differences {
			r.job.Log.Error("does not add up", "difference", d)
		}
		return &Unbalanced{differences, r.fate()}
	}
	receipt.Verdict = tray.Clear
	if r.records.Rejected > 0 {
		receipt.Verdict = tray.Waiting
	}
	r.job.Log.Info("verified", "rows", rows, "columns", len(held))
	return nil
}

// held tells what the table holds of each column. Where the checksums of all
// rows and the sums of all columns are those of what was read, it holds that;
// else the table is tallied, which tells what differs.
func (r *run) held(ctx context.Context) (rows int64, columns []tally.Column, differences []string, err error) {
	if c, is := r.load.(db.Checker); is && r.before == nil {
		checks, err := c.Check(ctx)
		if err != nil {
			return 0, nil, nil, err
		}
		if checks != nil && r.agree(checks) {
			r.job.Receipt.Table.Checksums = true
			return checks.Rows, r.total, nil, nil
		}
		if checks != nil {
			r.job.Log.Warn("checksums differ", "read", r.sum, "table", checks.Sum, "rows", checks.Rows)
			differences = append(differences, "the checksums of the rows: those of what was read are not those of what the table holds")
		}
	}
	rows, columns, err = r.load.Tally(ctx)
	return rows, columns, differences, err
}

// agree reports whether checks are those of what was read.
func (r *run) agree(c *db.Checks) bool {
	for i, n := range c.Totals {
		if n != nil && n.Cmp(r.total[i].Total()) != 0 {
			return false
		}
	}
	return c.Rows == r.records.Loaded && c.Sum == r.sum
}

func (r *run) skips() (out []tray.Skip) {
	for k, n := range r.skipped {
		if n > 0 {
			out = append(out, tray.Skip{Kind: source.Kind(k).String(), Count: n})
		}
	}
	return
}

// grouped lists the reasons of rejects, the most frequent first.
func (r *run) grouped() (out []tray.Reason) {
	for _, x := range r.reasons {
		out = append(out, *x)
	}
	slices.SortFunc(out, func(a, b tray.Reason) int {
		return cmp.Or(cmp.Compare(b.Count, a.Count), cmp.Compare(a.Column, b.Column), cmp.Compare(a.Reason, b.Reason))
	})
	return
}

// Started fills in what a receipt says of the run itself.
func Started(entry string, sources []*source.Source, database, version string, at time.Time) *tray.Receipt {
	r := &tray.Receipt{Entry: entry, Database: database, Verdict: tray.Failed, Started: at.UTC().Truncate(time.Millisecond), Version: version}
	for _, src := range sources {
		whole, err := filepath.Abs(src.Path)
		if err != nil {
			whole = src.Path
		}
		r.Sources = append(r.Sources, tray.Source{Path: src.Path, File: whole, Part: src.Part(), Size: src.FileSize})
	}
	return r
}

// numbering hands out record numbers to chunks that are counted side by side.
type numbering struct {
	mu   sync.Mutex
	cond *sync.Cond
	seq  int   // the chunk whose turn it is
	sum  int64 // records before it
}

func newNumbering() *numbering {
	n := &numbering{}
	n.cond = sync.NewCond(&n.mu)
	return n
}

// next waits for the chunks before seq and returns how many records they
// have. Chunks are worked on in order, so the ones before have been begun.
func (n *numbering) next(seq int, records int64) int64 {
	n.mu.Lock()
	defer n.mu.Unlock()
	for n.seq != seq {
		n.cond.Wait()
	}
	before := n.sum
	n.sum += records
	n.seq++
	n.cond.Broadcast()
	return before
}

// count counts the records of a chunk.
func (c *converter) count(chunk *delimited.Chunk) (n int64) {
	c.rows.Reset(chunk)
	for {
		kind, ok := c.rows.Next(&c.rec)
		if !ok {
			return n
		}
		if kind == source.Data {
			n++
		}
	}
}
