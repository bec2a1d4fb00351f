// Package rows turns the records of sources, under a plan, into rows for a sink.
// It knows no database: a load is one of its users, beside scripts, proofs,
// previews and pages.
//
// The model: chunks of a source are converted side by side and written in
// order. What fits goes to the sink; what does not is kept as a reject. While
// rows go by, the values of each column are tallied, as they were read, before
// they are encoded. A [Feed] is one such run, with its account.
package rows

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"ambertray/internal/derive"
	"ambertray/internal/phrase"
	"ambertray/internal/pipeline"
	"ambertray/internal/plan"
	"ambertray/internal/profile"
	"ambertray/internal/reading"
	"ambertray/internal/sink"
	"ambertray/internal/source"
	"ambertray/internal/source/delimited"
	"ambertray/internal/sqltype"
	"ambertray/internal/tally"
	"ambertray/internal/tray"
)

// batchBytes is how much of a source goes into one batch. Servers work faster
// on large ones; a refused row costs more.
const batchBytes = 2 << 20

var rowNumberType = sqltype.Type{Kind: sqltype.BigInt}

// A Job says what is to be read, and how.
type Job struct {
	// Sources are read one after the other, into one sink.
	Sources []*source.Source
	Plan    *plan.Plan
	// Entry and At name the load and its time, for expressions.
	Entry string
	At    time.Time
	// Origins are the sources that mended records came from, by name.
	Origins map[string]Origin
	// Rejects takes the records that are not loaded; nil only counts them.
	Rejects RejectKeeper
	// Without names records, by source and line, that are passed over as if
	// they were not there.
	Without []map[int64]bool
	// MaxRejects ends the run when there are more; negative for no limit.
	MaxRejects int64
	// Hopeless ends it, too, when so many have been read and all of them rejected; 0: it
	// goes on.
	Hopeless int64
	// Habits has what the values are like counted, too.
	Habits bool
	// Progress is called now and then.
	Progress func(Progress)
}

// An Origin is a source that mended records came from.
type Origin struct {
	*source.Source
	// Before is how many records the sources before it had in their load.
	Before int64
}

// A RejectKeeper keeps rejects.
type RejectKeeper interface {
	Add(tray.Reject) error
	// Finish makes what was added safe.
	Finish() error
	// Kept is how many were added.
	Kept() int64
}

// A Follower looks in between the chunks of a run: a load that commits on its
// way.
type Follower interface {
	// Source is called before the k-th source is read.
	Source(k int, st *source.Stream)
	// Written reports whether the rows of a chunk are in the sink already, so
	// that they are only counted, and which of them it had refused then, by line.
	Written(k int, c *delimited.Chunk) (bool, map[int64]sink.Refusal)
	// Refused tells of a row that the sink refused.
	Refused(k int, r *tray.Reject)
	// Chunk is called when all of a chunk is in.
	Chunk(ctx context.Context, k int, c *delimited.Chunk) error
	// Ended is called when a source has been read.
	Ended(k int)
	// Fate says what has become of the rows that were written, if the run fails.
	Fate() string
}

// A Feed is one run, and the account of what became of the records so far.
type Feed struct {
	Job
	Binding *plan.Binding
	Sink    sink.Sink // nil: nothing takes the rows
	// Follower may be nil.
	Follower Follower
	// Pick, if not nil, says which chunks are taken; others are passed over. Where records are
	// numbered ([Feed.Numbered]), all have to be.
	Pick func(c *delimited.Chunk) (bool, error)

	Records tray.Records
	// Sums are the SHA-256 of the sources that have been read, and Each how many
	// records each of them has.
	Sums []string
	Each []int64
	// Total is of the values of the rows; Checksum is the sum of those that the
	// encoders made, see [sink.Summer].
	Total    []tally.Tally
	Checksum uint64
	// Likes are what the values are like, if the job asks for that.
	Likes []tally.Habit

	current int            // the source that is read
	stream  *source.Stream // of it
	done    int64          // bytes of the sources before it
	size    int64          // bytes of all
	base    int64          // records of it before the chunk at hand
	before  int64          // records of the sources before it
	skipped []skips        // by source
	// Unmet are records that do not meet conditions of the plan's and are loaded, by rule.
	Unmet   []Unmet
	passed  []tray.Skip                // of other kinds than rows of a source
	refused []map[int64]bool           // lines of the records that the sink refused, by source
	reasons map[[2]string]*tray.Reason // by column and reason
	misfits []misfits
}

// skips are the rows of a source that are no records.
type skips struct {
	count  [source.Kinds]int64
	firsts [source.Kinds][]string
}

// shownSkips is of how many rows of a kind the texts are kept.
const shownSkips = 3

func (s *skips) add(kind source.Kind, n int64, firsts []string) {
	s.count[kind] += n
	if have := len(s.firsts[kind]); n > 0 && have < shownSkips {
		s.firsts[kind] = append(s.firsts[kind], firsts[:min(len(firsts), shownSkips-have)]...)
	}
}

// kinds are those that there are.
func (s *skips) kinds() (out []tray.Skip) {
	for k, n := range s.count {
		if n > 0 {
			out = append(out, tray.Skip{Kind: source.Kind(k).String(), Count: n, First: s.firsts[k]})
		}
	}
	return out
}

// New prepares a run.
func New(job Job, to sink.Sink) (*Feed, error) {
	if job.Rejects == nil {
		job.Rejects = new(counter)
	}
	f := &Feed{Job: job, Sink: to, reasons: map[[2]string]*tray.Reason{},
		misfits: make([]misfits, len(job.Plan.Columns))}
	var err error
	if f.Binding, err = plan.Bind(job.Plan, job.Sources); err != nil {
		return nil, err
	}
	f.skipped = make([]skips, len(job.Sources))
	for _, src := range job.Sources {
		f.size += src.Size
		f.refused = append(f.refused, map[int64]bool{})
	}
	return f, nil
}

// Progress is how far a load is.
type Progress struct {
	Bytes, Size       int64
	Records, Rejected int64
	Stage             string // reading, verifying, committing
}

// TooManyRejects says that a load was ended by its limit.
type TooManyRejects struct {
	Limit int64
	// Of are the records, where all were read; nothing where the load was ended
	// before.
	Of tray.Records
	// All is how many records were read and rejected, all of them, when it was ended.
	All     int64
	Reasons []tray.Reason
	Fate    string
}

func (e *TooManyRejects) Error() string {
	s := fmt.Sprintf("more than %s were rejected; %s", phrase.Count(e.Limit, "record"), e.Fate)
	if e.Of.Read > 0 {
		s = fmt.Sprintf("%s of %s are rejected, and the limit is %s; %s", phrase.Grouped(e.Of.Rejected),
			phrase.Count(e.Of.Read, "record"), phrase.Grouped(e.Limit), e.Fate)
		if e.Of.Loaded == 0 {
			s = fmt.Sprintf("all records are rejected; %s", e.Fate)
		}
	}
	if e.All > 0 {
		s = fmt.Sprintf("the first %s are rejected, all of them; %s", phrase.Count(e.All, "record"), e.Fate)
	}
	for _, r := range e.Reasons[:min(3, len(e.Reasons))] {
		s += strings.TrimSuffix(fmt.Sprintf("\n  %d × %s", r.Count, r.Column), " ") + " " + r.Reason
	}
	return s + "\n  if that is right, raise the limit: --max-rejects NUMBER, or none"
}

// ErrChanged says that the source was changed while it was read.
var ErrChanged = errors.New("the file was changed while it was read")

// Clip keeps of a value what is enough to recognise it.
func Clip(s string) string {
	if r := []rune(s); len(r) > 200 {
		return string(r[:200]) + "…"
	}
	return s
}

// counter counts rejects, and keeps none.
type counter int64

func (c *counter) Add(tray.Reject) error { *c++; return nil }

func (c *counter) Finish() error { return nil }

func (c *counter) Kept() int64 { return int64(*c) }

// Read runs the sources through the pipeline into the sink.
func (f *Feed) Read(ctx context.Context) error {
	parts := &sync.Pool{New: func() any { return &part{} }}
	for k := range f.Sources {
		if err := f.readOne(ctx, k, parts); err != nil {
			return err
		}
	}
	return f.undecidedTotals()
}

// UndecidedTotals says that records are totals by their words, and that nobody has said what
// becomes of them.
type UndecidedTotals struct {
	Count int64
	First []string // of their texts
	Fate  string
}

func (e *UndecidedTotals) Error() string {
	return e.What() + "; " + e.Fate + "\n  say so in the plan, or with --totals: skip leaves them out, keep loads them"
}

// What says which they are.
func (e *UndecidedTotals) What() string {
	s := tray.Skip{Kind: source.Total.String(), Count: e.Count, First: e.First}
	return s.Shown(shownSkips) + ": totals among the records, and nothing says whether they are to be loaded"
}

func (f *Feed) undecidedTotals() error {
	var all skips
	for k, src := range f.Sources {
		if src.Layout.Totals == "" {
			s := &f.skipped[k]
			all.add(source.Total, s.count[source.Total], s.firsts[source.Total])
		}
	}
	if n := all.count[source.Total]; n > 0 {
		return &UndecidedTotals{n, all.firsts[source.Total], f.fate()}
	}
	return nil
}

func (f *Feed) readOne(ctx context.Context, k int, parts *sync.Pool) error {
	src := f.Sources[k]
	var err error
	if f.stream, err = src.Read(true); err != nil {
		return err
	}
	defer f.stream.Close()
	f.current, f.base = k, 0
	if k > 0 {
		f.done += f.Sources[k-1].Size
		f.before += f.Each[k-1]
	}
	if f.Sink != nil {
		f.stream.Size = batchBytes
		if s, ok := f.Sink.(sink.Sized); ok {
			f.stream.Size = s.BatchBytes()
		}
	}
	if f.Follower != nil {
		f.Follower.Source(k, f.stream)
	}
	f.titles(k)
	team, err := f.team(k, f.before, f.Sink)
	if err != nil {
		return err
	}
	last := len(team) - 1
	if f.Total == nil {
		f.Total = team[last].emptyTally()
	}
	var numbers *numbering
	if f.Numbered() {
		numbers = newNumbering()
	}
	err = pipeline.Run(ctx, f.chunks(), last,
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
			if err := f.collect(ctx, team[last], x); err != nil {
				return err
			}
			if f.Follower != nil {
				if err := f.Follower.Chunk(ctx, k, x.chunk); err != nil {
					return err
				}
			}
			x.chunk.Release()
			parts.Put(x)
			return nil
		})
	if err != nil {
		return profile.Problem(src, err)
	}
	if src.Flows() {
		src.Ended(f.stream)
		if f.Follower != nil {
			f.Follower.Ended(k)
		}
	} else if f.stream.Bytes() != src.Size || src.Changed() {
		return fmt.Errorf("%w; %s", ErrChanged, f.fate())
	}
	if f.stream.Another() {
		return fmt.Errorf("%w: it was looked at, and is another now; %s", ErrChanged, f.fate())
	}
	f.Sums, f.Each = append(f.Sums, f.stream.Sum()), append(f.Each, f.base)
	return nil
}

// titles counts those of a source, which no chunk has.
func (f *Feed) titles(k int) {
	for _, t := range f.Sources[k].Titles {
		f.skipped[k].add(source.Title, 1, []string{Clip(t.Raw)})
		f.Records.Read++
		f.Records.Skipped++
	}
}

// Numbered reports whether what becomes of a record depends on how many stand before it.
func (f *Feed) Numbered() bool { return f.Plan.Table.RowNumber != "" || f.Binding.Expressions != nil }

// chunks are those of the source that is read, as far as they are picked.
func (f *Feed) chunks() pipeline.Chunks {
	if f.Pick == nil {
		return f.stream
	}
	return picked{f}
}

type picked struct{ f *Feed }

func (p picked) Next() (*delimited.Chunk, error) {
	for {
		c, err := p.f.stream.Next()
		if err != nil {
			return nil, err
		}
		taken, err := p.f.Pick(c)
		if taken || err != nil {
			return c, err
		}
		c.Release()
	}
}

// team makes a converter for each worker, and one for the collector behind
// them. before is how many records the sources before the k-th have.
func (f *Feed) team(k int, before int64, to sink.Sink) ([]*converter, error) {
	team := make([]*converter, pipeline.Workers()+1)
	for i := range team {
		var enc sink.Encoder
		if to != nil {
			enc = to.Encoder()
		}
		var err error
		if team[i], err = f.converter(k, enc); err != nil {
			return nil, err
		}
		team[i].before = before
	}
	return team, nil
}

// mostHabits is of how many columns it is counted what their values are like, at most: it
// takes 3 KB for each, several times over.
const mostHabits = 500

func (f *Feed) converter(k int, enc sink.Encoder) (*converter, error) {
	c, err := newConverter(f.Sources[k], f.Plan, f.Binding.At[k], enc)
	if err != nil {
		return nil, err
	}
	c.slots, c.index = f.Binding.Slots[k], k
	c.origins, c.habits = f.Origins, f.Habits && len(c.row) <= mostHabits
	if e := f.Binding.Expressions; e != nil {
		c.exprs = e
		c.record = derive.NewRecord(f.Sources[k], k+1, e.Variables, f.Entry, f.At)
		c.mended = map[string]*derive.Record{}
		if c.lead() == MendLead {
			for name, src := range f.Origins {
				c.mended[name] = derive.NewRecord(src.Source, k+1, e.Variables, f.Entry, f.At)
			}
		}
		for i := range c.readers {
			c.plain = append(c.plain, reading.Strict(c.readers[i].Type))
		}
	}
	if f.Without != nil {
		c.without = f.Without[k]
	}
	return c, nil
}

// MendLead is how many columns of our own a file of kept rejects has, before
// those of the sender: number of the reject and of the record, source and line.
const MendLead = 4

// fate says what has become of the rows that were written, where the run fails.
func (f *Feed) fate() string {
	if f.Follower != nil {
		return f.Follower.Fate()
	}
	return "nothing was committed"
}

// write gives the rows of a part to the sink. Those that it refuses become
// rejects.
func (f *Feed) write(ctx context.Context, c *converter, x *part) error {
	if f.Follower != nil {
		if in, known := f.Follower.Written(f.current, x.chunk); in {
			c.refusedBefore(x, known)
			return nil
		}
	}
	if f.Sink == nil || x.rows == 0 {
		return nil
	}
	refusals, err := f.Sink.Write(ctx, sink.Batch{Rows: x.rows, Data: x.data})
	if err != nil {
		return err
	}
	if h, is := f.Sink.(sink.Holder); is {
		x.data = h.Instead(x.data)
	}
	if len(refusals) == 0 {
		return nil
	}
	before := len(x.rejects)
	c.refused(x, refusals)
	for _, j := range x.rejects[before:] {
		f.refused[f.current][j.Line] = true
		if f.Follower != nil {
			f.Follower.Refused(f.current, &j)
		}
	}
	return nil
}

// alike takes what the values of a part are like into that of all.
func (f *Feed) alike(x *part) {
	if f.Likes == nil && len(x.likes) > 0 {
		f.Likes = make([]tally.Habit, len(x.likes))
		for i := range f.Likes {
			f.Likes[i].Reset(x.likes[i].Type)
		}
	}
	for i := range x.likes {
		f.Likes[i].Merge(&x.likes[i])
	}
}

// collect writes one part, in order, and takes it into the account.
func (f *Feed) collect(ctx context.Context, c *converter, x *part) error {
	if err := f.write(ctx, c, x); err != nil {
		return err
	}
	for i := range x.tally {
		f.Total[i].Merge(&x.tally[i])
	}
	f.alike(x)
	f.Checksum += x.sum
	f.Records.Read += x.read
	f.Records.Loaded += int64(x.rows)
	for k, n := range x.skipped {
		f.skipped[f.current].add(source.Kind(k), n, x.firsts[k])
		f.Records.Skipped += n
	}
	for i, u := range x.unmet {
		if len(f.Unmet) < len(x.unmet) {
			f.Unmet = make([]Unmet, len(x.unmet))
		}
		if f.Unmet[i].Count += u.Count; f.Unmet[i].Line == 0 {
			f.Unmet[i].Line = u.Line
		}
	}
	for i := range x.misfits {
		f.misfits[i].merge(&x.misfits[i])
	}
	slices.SortStableFunc(x.rejects, func(a, b tray.Reject) int { return cmp.Compare(a.Line, b.Line) })
	for _, j := range x.rejects {
		j.Record += f.base
		if err := f.reject(j); err != nil {
			return err
		}
	}
	f.base += x.records
	if err := f.checkLimit(); err != nil {
		return err
	}
	f.Report("reading")
	return nil
}

func (f *Feed) checkLimit() error {
	if m := f.MaxRejects; m >= 0 && f.Records.Rejected > m {
		return &TooManyRejects{Limit: m, Reasons: f.Reasons(), Fate: f.fate()}
	}
	if n := f.Records.Rejected; f.Hopeless > 0 && n >= f.Hopeless && n == f.base {
		return &TooManyRejects{All: n, Reasons: f.Reasons(), Fate: f.fate()}
	}
	return nil
}

// reject counts a record that is not loaded, and keeps it.
func (f *Feed) reject(j tray.Reject) error {
	if err := f.Rejects.Add(j); err != nil {
		return err
	}
	f.Records.Rejected++
	kind := j.Kind
	if kind == "" {
		kind = j.Reason
	}
	key := [2]string{j.Column, kind}
	if x := f.reasons[key]; x != nil {
		x.Count++
	} else if len(f.reasons) < 1000 {
		f.reasons[key] = &tray.Reason{Column: j.Column, Code: j.Code, Reason: kind, Count: 1, Line: j.Line,
			Cell: j.Cell, Value: Clip(j.Value)}
	}
	return nil
}

// Report tells how far the run is.
func (f *Feed) Report(stage string) {
	if f.Progress != nil {
		f.Progress(Progress{Bytes: f.done + f.stream.Bytes(), Size: f.size, Records: f.Records.Read,
			Rejected: f.Records.Rejected, Stage: stage})
	}
}

// Pass counts records that are skipped for what they are to the table.
func (f *Feed) Pass(kind string, n int64) {
	for i := range f.passed {
		if f.passed[i].Kind == kind {
			f.passed[i].Count += n
			return
		}
	}
	if n > 0 {
		f.passed = append(f.passed, tray.Skip{Kind: kind, Count: n})
	}
}

// Skips are the rows that were skipped, by kind.
func (f *Feed) Skips() (out []tray.Skip) {
	var all skips
	for i := range f.skipped {
		for k, n := range f.skipped[i].count {
			all.add(source.Kind(k), n, f.skipped[i].firsts[k])
		}
	}
	return append(all.kinds(), f.passed...)
}

// SkipsOf are the rows of one source that were skipped, by kind.
func (f *Feed) SkipsOf(k int) []tray.Skip { return f.skipped[k].kinds() }

// Reasons lists the reasons of rejects, the most frequent first.
func (f *Feed) Reasons() (out []tray.Reason) {
	for _, x := range f.reasons {
		out = append(out, *x)
	}
	slices.SortFunc(out, func(a, b tray.Reason) int {
		return cmp.Or(cmp.Compare(b.Count, a.Count), cmp.Compare(a.Column, b.Column), cmp.Compare(a.Reason, b.Reason))
	})
	return
}
