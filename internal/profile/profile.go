// Package profile reads a source once, whole, and says what is in it.
//
// The model: for every column an amount of [evidence] grows as records go by,
// of a size that does not depend on how many they are. When all have been
// seen, decide turns it into a [Column]: the narrowest type that every value
// fits, how its values are written, and [Finding]s about whatever a person
// should look at. Nothing is decided from a sample, unless the caller limits
// the pass; then every decision says so.
//
// The package prints nothing and writes nothing.
package profile

import (
	"cmp"
	"context"
	"fmt"
	"runtime/debug"
	"slices"

	"ambertray/internal/pipeline"
	"ambertray/internal/reading"
	"ambertray/internal/sketch"
	"ambertray/internal/source"
	"ambertray/internal/source/delimited"
	"ambertray/internal/sqltype"
)

// A Weight says how much a finding matters.
type Weight string

// The weights.
const (
	Note    Weight = "note"    // good to know
	Caution Weight = "caution" // look before you load
	Blocker Weight = "blocker" // needs a decision first
)

// A Finding is something about a source or a column that is worth a person's
// eye.
type Finding struct {
	Weight Weight `json:"weight"`
	// Code names the kind of finding, for programs.
	Code Code `json:"code"`
	// Column is the column's header, or empty for the source.
	Column   string    `json:"column,omitempty"`
	Text     string    `json:"text"`
	Count    int64     `json:"count,omitempty"`
	Examples []Example `json:"examples,omitempty"`
	// Do is what can be done about it.
	Do string `json:"do,omitempty"`
	// Answers are what can be said to it, where that is little.
	Answers []Answer `json:"-"`
}

// Short is a finding in one line, for a list.
func (f Finding) Short() string {
	if f.Column != "" {
		return f.Column + ": " + f.Text
	}
	return f.Text
}

// An Answer is one way to decide what the evidence leaves open.
type Answer struct {
	Text string // what it means
	// Option, of options or of the source's settings, is given this value by it. Of the type
	// of a column, the value is the type alone.
	Option, Value string
}

// A ValueCount is a value and how often it stands in a column.
type ValueCount struct {
	Value string `json:"value"`
	Count int64  `json:"count"`
}

// A Column is what the whole file says about one column.
type Column struct {
	// Header is the name in the file; Position counts from 1.
	Header   string
	Position int

	Type     sqltype.Type
	Number   reading.Number
	Dates    []*reading.Pattern
	True     string // the word for true, of a boolean
	False    string
	Nulls    []string // words that mean null here
	Trim     bool
	Required bool

	Fields   int64 // how many records have the column
	Blanks   int64 // nothing, or spaces only
	Spaces   int   // most characters of a field of spaces only
	Quoted   int64 // of the blanks: an empty pair of quotes
	NullWord int64 // fields that hold a word for null
	Misfits  int64 // values that do not fit the type (only with Tolerate)

	Smallest, Largest string // in plain form
	Longest           int    // characters
	LongestBytes      int
	ASCII             bool

	Distinct      int64
	DistinctExact bool
	Values        []ValueCount // where there are few, the most frequent first
	Unique        bool         // no value twice and none blank

	// Why is the evidence for the type, in a few words.
	Why string
}

// Options steer the pass and its decisions.
type Options struct {
	// Limit ends the pass after so many records; 0 means the whole file.
	Limit int64
	// Again tells that the source is read again by a load, which is to find the same bytes.
	Again bool
	// Dates decides the order of numeric dates where the values do not:
	// "day-first", "month-first", "year-first", or a pattern that every date
	// column must have.
	Dates string
	// Decimal decides what a single comma or point is where the values do not.
	Decimal reading.Mark
	// NullWords are taken as null in every column.
	NullWords []string
	// Tolerate is the share of values (0 to 1) that may misfit a type.
	Tolerate float64
	// Types overrules decisions, by header in any case.
	Types map[string]sqltype.Type
	// Same names headers that mean another one, in any of several sources. One
	// that means itself is a column of its own.
	Same map[string]string
	// Joined tells that several sources are one table, however they look.
	Joined bool
	// Settled tells that nobody asks again what a column would be (As): then its evidence
	// is let go of as soon as it is decided.
	Settled bool
	// Progress is called now and then with the bytes and records read so far.
	Progress func(bytes, records int64)
}

// A Profile is what is in a source.
type Profile struct {
	Records int64 // of data
	Limited bool  // the pass ended before the file did
	Skipped map[source.Kind]int64
	// SkippedLines are the first lines of each kind of row that is skipped.
	SkippedLines map[source.Kind][]int64
	Columns      []*Column
	// Keys are the columns, or the pair, that identify a record; empty if
	// there are none. They are headers.
	Keys     [][]string
	Findings []Finding
	// First holds the fields of the first records, as they stand.
	First []Preview
	// Across tells of each column, where there are several sources, which have
	// it.
	Across []Presence
	// Widths counts records with other numbers of fields than the header.
	Widths []WidthCount

	decided []decision // what made each column so, by its place; see As
}

// A Preview is one of the first records.
type Preview struct {
	Line   int64
	Source string // where there are several
	Fields []string
}

// A WidthCount counts records with so many fields.
type WidthCount struct {
	Fields int `json:"fields"`
	examples
}

const previews = 1000

// worker is what one goroutine of the pass has.
type worker struct {
	source  int // its number
	rows    *source.Rows
	rec     delimited.Record
	cols    []*evidence
	scratch scratch
	batch   *delimited.Columns
	// Of the chunk at hand: hashes of every column still watched as a key.
	hashes [][]uint64
	ints   [][]int64
	lines  []spot

	widths  []WidthCount
	faults  map[delimited.Fault]*examples
	skipped map[source.Kind]*examples
}

// Run makes the pass over src.
func Run(ctx context.Context, src *source.Source, opt Options) (*Profile, error) {
	p, _, err := RunAll(ctx, []*source.Source{src}, opt)
	return p, err
}

// RunAll makes the pass over several sources, whose columns are matched by
// name, and profiles them together and each by itself.
func RunAll(ctx context.Context, sources []*source.Source, opt Options) (all *Profile, each []*Profile, err error) {
	if len(sources) > 1 {
		opt.Settled = false // each is decided, and then all together
	}
	r := &runAll{sources: sources, opt: opt, total: newWorker()}
	r.headers, r.at = source.Match(sources, opt.Same)
	if len(r.headers) > veryWide {
		// From here on the collector takes more of the time, and less room: what is decided of so
		// many columns, and shown, stays as long as the program.
		debug.SetGCPercent(closely)
	}
	unwatched := &unique{full: true}
	unwatched.gone.Store(true)
	for range r.headers {
		u := unwatched
		if len(r.headers) <= 300 {
			u = &unique{}
		}
		r.uniques = append(r.uniques, u)
	}
	if len(sources) == 1 {
		p, err := r.single(ctx)
		return p, []*Profile{p}, err
	}
	for range r.headers {
		r.total.cols = append(r.total.cols, newEvidence())
	}
	for k := range sources {
		if err := r.one(ctx, k); err != nil {
			return nil, nil, err
		}
	}
	all = r.together()
	all.across(sources, r.each, r.headers, r.at, opt)
	all.places(sources)
	for _, p := range r.each {
		p.places(sources)
	}
	return all, r.each, nil
}

// runAll is the state of a pass over several sources.
type runAll struct {
	sources       []*source.Source
	opt           Options
	headers       []string // of all
	at            [][]int  // the place of each source's columns among them
	uniques       []*unique
	total         *worker
	each          []*Profile
	first         int // records of theirs that are kept as they stand
	done, records int64
}

// pass makes the pass over the k-th source.
func (r *runAll) pass(ctx context.Context, k int) (*Profile, *worker, []bool, error) {
	own := make([]*unique, len(r.at[k]))
	present := make([]bool, len(r.headers))
	for i, u := range r.at[k] {
		own[i], present[u] = r.uniques[u], true
	}
	for u, is := range present {
		if !is {
			r.uniques[u].gone.Store(true) // it is blank here
		}
	}
	p, w, err := pass(ctx, r.sources[k], k, own, r.opt, func(bytes, n int64) {
		if r.opt.Progress != nil {
			r.opt.Progress(r.done+bytes, r.records+n)
		}
	})
	if err == nil {
		r.done, r.records = r.done+r.sources[k].Size, r.records+p.Records
	}
	return p, w, present, err
}

// single profiles the only source.
func (r *runAll) single(ctx context.Context) (*Profile, error) {
	p, w, _, err := r.pass(ctx, 0)
	if err != nil {
		return nil, err
	}
	src, n := r.sources[0], len(r.headers)
	p.decide(src, w, r.uniques, r.opt)
	if len(p.Keys) == 0 && p.Records >= Few && !p.Limited && n > 1 && n <= 300 {
		if err := p.findPair(ctx, src, r.uniques); err != nil {
			return nil, problem(src, err)
		}
	}
	p.places(r.sources)
	return p, nil
}

// one profiles one source of several, and adds its evidence to that of all.
func (r *runAll) one(ctx context.Context, k int) error {
	p, w, present, err := r.pass(ctx, k)
	if err != nil {
		return err
	}
	nobody := make([]*unique, len(r.at[k]))
	for i := range nobody {
		nobody[i] = &unique{}
		nobody[i].gone.Store(true)
	}
	p.decide(r.sources[k], w, nobody, r.opt)
	// What a decision goes back on is asked of all sources together; there may be ten thousand of them.
	p.decided = nil
	p.First = slices.Clone(p.First[:min(len(p.First), previews-r.first)])
	r.first += len(p.First)
	r.each = append(r.each, p)
	for i, u := range r.at[k] {
		r.total.cols[u].merge(w.cols[i])
	}
	for u, is := range present {
		if !is {
			r.total.cols[u].fields += p.Records
			r.total.cols[u].blanks += p.Records
		}
	}
	return nil
}

// together profiles all sources as one.
func (r *runAll) together() *Profile {
	all := &Profile{Skipped: map[source.Kind]int64{}, SkippedLines: map[source.Kind][]int64{}}
	for k, p := range r.each {
		all.Records += p.Records
		all.Limited = all.Limited || p.Limited
		for kind, n := range p.Skipped {
			all.Skipped[kind] += n
		}
		for _, x := range p.First[:min(len(p.First), previews-len(all.First))] {
			fields := make([]string, len(r.headers))
			for i, f := range x.Fields {
				if i < len(r.at[k]) {
					fields[r.at[k][i]] = f
				}
			}
			all.First = append(all.First, Preview{Line: x.Line, Source: r.sources[k].Name, Fields: fields})
		}
	}
	name := fmt.Sprintf("%d sources", len(r.sources))
	all.decide(&source.Source{Name: name, Layout: source.Layout{Columns: r.headers}}, r.total, r.uniques, r.opt)
	return all
}

// Evidence is kept by each worker, of every column: perColumn bytes, and mostEvidence in all.
const (
	perColumn    = 900
	mostEvidence = 96 << 20
)

// closely is GOGC where a file is very wide.
const closely = 40

// workersFor is how many look at a file of so many columns.
func workersFor(columns int) int {
	return max(1, min(pipeline.Workers(), mostEvidence/(perColumn*max(columns, 1))))
}

// pass reads one source, the k-th, and keeps the evidence for each column.
func pass(ctx context.Context, src *source.Source, k int, uniques []*unique, opt Options,
	progress func(bytes, records int64)) (*Profile, *worker, error) {
	again := opt.Again && opt.Limit == 0
	read := func() (*source.Stream, error) { return src.Read(false) }
	if again {
		read = src.Look
	}
	st, err := read()
	if err != nil {
		return nil, nil, err
	}
	defer st.Close()

	n := len(src.Layout.Columns)
	workers := workersFor(n)
	words := newWordTable(opt.NullWords)
	team := make([]*worker, workers)
	for i := range team {
		team[i] = newWorker()
		team[i].begin(src, k, words)
	}
	p := &Profile{Skipped: map[source.Kind]int64{}, SkippedLines: map[source.Kind][]int64{}}
	type part struct {
		records int64
		first   []Preview
		bytes   int
	}
	if opt.Limit > 0 {
		workers = 1 // so that it is the first records that are seen
	}
	seen := make([]int64, workers)
	err = pipeline.Run(ctx, st, workers,
		func(i int, c *delimited.Chunk) (part, error) {
			defer c.Release()
			w := team[i]
			left := int64(-1)
			if opt.Limit > 0 {
				left = opt.Limit - seen[i]
			}
			records, first := w.chunk(c, uniques, left)
			seen[i] += records
			return part{records, first, len(c.Data)}, nil
		},
		func(r part) error {
			p.Records += r.records
			if len(p.First) < previews {
				p.First = append(p.First, r.first[:min(len(r.first), previews-len(p.First))]...)
			}
			progress(st.Bytes(), p.Records)
			if opt.Limit > 0 && p.Records >= opt.Limit {
				return errLimit
			}
			return nil
		})
	if err == errLimit {
		p.Limited = st.Bytes() < src.Size || p.Records >= opt.Limit
		err = nil
	}
	if err != nil {
		return nil, nil, problem(src, err)
	}
	if !p.Limited {
		src.Ended(st)
		if again {
			st.Seen()
		}
	}
	return p, mergeTeam(team), nil
}

func newWorker() *worker {
	return &worker{faults: map[delimited.Fault]*examples{}, skipped: map[source.Kind]*examples{}}
}

// begin prepares a worker for the k-th source.
func (w *worker) begin(src *source.Source, k int, words *wordTable) {
	n := len(src.Layout.Columns)
	w.rows, w.source = source.NewRows(&src.Layout), k
	w.cols = make([]*evidence, n)
	for c := range w.cols {
		w.cols[c] = newEvidence()
		w.cols[c].values.off = n > 2000
		w.cols[c].memo.bits = memoBits(n)
		w.cols[c].memo.off = n > 1000
	}
	w.hashes, w.ints = make([][]uint64, n), make([][]int64, n)
	w.scratch.words = words
	w.batch = newBatch(n)
}

// mergeTeam gathers what all workers have seen.
func mergeTeam(team []*worker) *worker {
	pipeline.Each(len(team), func(k int) {
		w := team[k]
		w.scratch.text = false
		for _, e := range w.cols {
			e.flushAll(&w.scratch)
		}
	})
	for _, w := range team[1:] {
		team[0].merge(w)
	}
	return team[0]
}

// places says where examples are: in which source, if there are several, and in
// which cell, if that is a sheet.
func (p *Profile) places(sources []*source.Source) {
	at := map[string]int{}
	for i, c := range p.Columns {
		at[c.Header] = i
	}
	for i := range p.Findings {
		f := &p.Findings[i]
		column, known := at[f.Column]
		if f.Column == "" || !known {
			column = -1
		}
		for k := range f.Examples {
			e := &f.Examples[k]
			src := sources[e.at.source()]
			e.at = 0
			if len(sources) > 1 {
				e.Source = src.Name
				// The column may stand elsewhere in this source.
				if column >= 0 {
					column = slices.IndexFunc(src.Layout.Columns,
						func(h string) bool { return source.Forgive(h) == source.Forgive(f.Column) })
				}
			}
			if !src.HasCells() {
				continue
			}
			if e.Cell = src.Cell(e.Line, column); e.Cell == "" {
				e.Cell = src.Place(e.Line, -1)
			}
		}
	}
}

var errLimit = fmt.Errorf("limit reached")

// problem adds the source's name to an error of its text.
func problem(src *source.Source, err error) error {
	if long, ok := err.(*delimited.TooLongError); ok {
		p := &source.Problem{Source: src.Name, Line: long.Line,
			What: fmt.Sprintf("a record of more than %d MiB starts here", long.Limit>>20),
			Do: "if that is right, raise the limit with --max-record; if quotes are ordinary characters in this " +
				"file, use --quote none"}
		if long.Quote > 0 {
			p.Line, p.What = long.Quote,
				fmt.Sprintf("a quote is opened here and not closed within %d MiB", long.Limit>>20)
		}
		return p
	}
	return err
}

// Problem adds the place to an error of reading src.
func Problem(src *source.Source, err error) error { return problem(src, err) }

// intHash stands for the hash of a whole number, which is only needed where a
// column holds other values too.
const intHash = ^uint64(0)

// chunk observes every record of a chunk, or the first left of them.
func (w *worker) chunk(c *delimited.Chunk, uniques []*unique, left int64) (records int64, first []Preview) {
	w.rows.Reset(c)
	ascii := w.rows.ASCII()
	w.lines = w.lines[:0]
	for i := range w.hashes {
		w.hashes[i], w.ints[i] = w.hashes[i][:0], w.ints[i][:0]
	}
	watched := make([]bool, len(w.cols))
	for i, u := range uniques {
		watched[i] = !u.gone.Load()
	}
	w.scratch.text, w.scratch.hashes = false, false
	rec := &w.rec
	for left != 0 {
		if left < 0 && (c.Seq > 0 || len(first) == previews) {
			before := w.batch.N
			w.rows.TakePlain(w.batch)
			records += int64(w.batch.N - before)
			if w.batch.Full() {
				w.observe(watched, ascii)
				continue
			}
		}
		kind, ok := w.rows.Next(rec)
		if !ok {
			break
		}
		if kind == source.Data {
			records++
			left--
			if c.Seq == 0 && len(first) < previews {
				v := Preview{Line: rec.Line}
				for _, f := range rec.Fields {
					v.Fields = append(v.Fields, string(f))
				}
				first = append(first, v)
			}
		}
		if w.odd(kind, rec) {
			continue
		}
		if w.batch.Add(rec); w.batch.Full() {
			w.observe(watched, ascii)
		}
	}
	w.observe(watched, ascii)
	w.watch(watched, uniques)
	return records, first
}

// odd counts a row that is no record, or one whose fields are not those of the columns.
func (w *worker) odd(kind source.Kind, rec *delimited.Record) bool {
	at := spotOf(w.source, rec.Line)
	switch {
	case kind != source.Data:
		exampleOf(w.skipped, kind).add(at, rec.Raw, 1)
	case rec.Fault != delimited.NoFault:
		exampleOf(w.faults, rec.Fault).add(at, rec.Raw, 1)
	case len(rec.Fields) != len(w.cols):
		w.width(rec, at)
	default:
		return false
	}
	return true
}

func exampleOf[K comparable](of map[K]*examples, k K) *examples {
	if of[k] == nil {
		of[k] = &examples{}
	}
	return of[k]
}

// watch tells the columns that may be keys what the chunk has.
func (w *worker) watch(watched []bool, uniques []*unique) {
	for i, u := range uniques {
		if !watched[i] {
			continue
		}
		if w.cols[i].maxBytes > longestKey {
			u.leave()
			continue
		}
		if len(w.ints[i]) == len(w.lines) {
			u.addInts(w.ints[i], w.lines)
			continue
		}
		k := 0
		for j, h := range w.hashes[i] {
			if h == intHash {
				w.hashes[i][j] = hashInt(w.ints[i][k])
				k++
			}
		}
		u.add(w.hashes[i], w.lines)
	}
}

func (w *worker) width(rec *delimited.Record, at spot) {
	for i := range w.widths {
		if w.widths[i].Fields == len(rec.Fields) {
			w.widths[i].add(at, rec.Raw, 1)
			return
		}
	}
	if len(w.widths) < 100 {
		w.widths = append(w.widths, WidthCount{Fields: len(rec.Fields)})
		w.widths[len(w.widths)-1].add(at, rec.Raw, 1)
		return
	}
	w.widths[99].add(at, rec.Raw, 1)
}

func (w *worker) merge(o *worker) {
	eachRow(len(w.cols), func(from, to int) {
		for i := from; i < to; i++ {
			w.cols[i].merge(o.cols[i])
		}
	})
	for k, e := range o.skipped {
		exampleOf(w.skipped, k).merge(*e)
	}
	for k, e := range o.faults {
		exampleOf(w.faults, k).merge(*e)
	}
widths:
	for _, x := range o.widths {
		for i := range w.widths {
			if w.widths[i].Fields == x.Fields {
				w.widths[i].merge(x.examples)
				continue widths
			}
		}
		w.widths = append(w.widths, x)
	}
}

// findPair makes a second pass to see whether two columns together identify a
// record. It is made only where that is cheap: for files of up to 64 MiB, and
// for the few pairs that have enough different values.
func (p *Profile) findPair(ctx context.Context, src *source.Source, uniques []*unique) error {
	if src.Flows() || src.Size > 64<<20 || p.Records > maxUnique {
		return nil
	}
	var cand []*Column
	for _, c := range p.Columns {
		if c.Required && c.Distinct > 1 && c.Type.Kind != sqltype.Text && c.Type.Kind != sqltype.Double {
			cand = append(cand, c)
		}
	}
	slices.SortStableFunc(cand, func(a, b *Column) int { return cmp.Compare(b.Distinct, a.Distinct) })
	type pair struct {
		a, b *Column
		u    *unique
	}
	var pairs []pair
	for i, a := range cand {
		for _, b := range cand[i+1:] {
			if len(pairs) < 12 && float64(a.Distinct)*float64(b.Distinct) >= 0.9*float64(p.Records) &&
				a.LongestBytes+b.LongestBytes <= longestKey {
				if b.Position < a.Position {
					a, b = b, a
				}
				pairs = append(pairs, pair{a, b, &unique{}})
			}
		}
	}
	if len(pairs) == 0 {
		return nil
	}
	st, err := src.Read(false)
	if err != nil {
		return err
	}
	defer st.Close()
	rows := source.NewRows(&src.Layout)
	var rec delimited.Record
	err = pipeline.Run(ctx, st, 1, func(_ int, c *delimited.Chunk) (int, error) {
		defer c.Release()
		rows.Reset(c)
		for {
			kind, ok := rows.Next(&rec)
			if !ok {
				return 0, nil
			}
			if kind != source.Data || rec.Fault != delimited.NoFault || len(rec.Fields) != len(p.Columns) {
				continue
			}
			for _, x := range pairs {
				if x.u.gone.Load() {
					continue
				}
				a, b := rec.Fields[x.a.Position-1], rec.Fields[x.b.Position-1]
				h := sketch.Hash(reading.TrimSpace(a))*31 ^ sketch.Hash(reading.TrimSpace(b))
				x.u.add([]uint64{max(h, 1)}, []spot{spot(rec.Line)})
				if x.u.duplicates.count > 0 {
					x.u.gone.Store(true)
				}
			}
		}
	}, func(int) error { return nil })
	if err != nil {
		return err
	}
	for _, x := range pairs {
		if !x.u.gone.Load() && len(p.Keys) < 3 {
			p.Keys = append(p.Keys, []string{x.a.Header, x.b.Header})
		}
	}
	return nil
}
