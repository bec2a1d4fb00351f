package load

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"math"
	"slices"
	"sync"
	"time"

	"ambertray/internal/db"
	"ambertray/internal/fault"
	"ambertray/internal/phrase"
	"ambertray/internal/profile"
	"ambertray/internal/rows"
	"ambertray/internal/sink"
	"ambertray/internal/source"
	"ambertray/internal/source/delimited"
	"ambertray/internal/tray"
)

// Several programs, on one machine or on several, can load the same sources side by side. Each
// cuts them into the same chunks, and so many chunks in a row are a step. Whoever comes to a step
// that nobody is at, and that is not in, takes it: its rows and a note of what became of its
// records are committed together, and no two notes are of the same step, so that each step is in
// once, or not at all. The steps of a program that ends are taken by others.
//
// When all are in, one program reads the sources once more, converts and counts all records, and
// holds against it what the notes say and what the table has: the load is verified as any other.

// An opening is the first note of a load that programs share: what all of them have to know.
type opening struct {
	// Shared is what who began it has to say.
	Shared json.RawMessage `json:"shared,omitempty"`
	// Done is all that stays when the load is done, so that who comes late does not begin it anew.
	Done *SharedDone `json:"done,omitempty"`
	// Chunk is how large chunks are, in bytes, and Chunks how many of them a step has.
	Chunk  int     `json:"chunk,omitempty"`
	Chunks int     `json:"chunks,omitempty"`
	Before *Before `json:"before,omitempty"`
}

// A Share is one step, and the note of it.
type Share struct {
	Source int `json:"source"`
	// From and To are where it begins and ends in the text from the first record on, in bytes;
	// SHA256 is of the text up to there.
	From    int64        `json:"from"`
	To      int64        `json:"to"`
	SHA256  string       `json:"sha256"`
	Records tray.Records `json:"records"` // of the step alone
	Refused []Refused    `json:"refused,omitempty"`
	By      string       `json:"by,omitempty"`
}

// The note of the n-th step of a source has this number. There are so many steps of one source at
// most, and the first note is the opening.
const (
	mostShares = 1_000_000
	firstShare = 2
)

func shareStep(source, n int) int { return firstShare + source*mostShares + n }

// parseShared reads the notes of a load that programs share; nil: it is none.
func parseShared(notes []string) (*Going, error) {
	var o opening
	if err := json.Unmarshal([]byte(notes[0]), &o); err != nil || o.Shared == nil && o.Done == nil {
		return nil, nil // see ParseNotes
	}
	if o.Done != nil {
		return &Going{Done: o.Done}, nil
	}
	g := &Going{Steps: len(notes) - 1, Before: o.Before, Shares: []Share{}, chunk: o.Chunk,
		At: Note{Offset: math.MaxInt64}}
	for i, text := range notes[1:] {
		var s Share
		if err := json.Unmarshal([]byte(text), &s); err != nil {
			return nil, fmt.Errorf("note %d of the load in %s cannot be read: %w", i+2, db.NotesTable, err)
		}
		g.Shares = append(g.Shares, s)
		g.Refused = append(g.Refused, s.Refused...)
		g.At.Records.Add(s.Records)
	}
	return g, nil
}

// shares are the steps of a load that several programs took, while they are held against the text.
type shares struct {
	left  []Share // in the order of the text
	begin tray.Records
}

func newShares(all []Share) *shares {
	left := slices.Clone(all)
	slices.SortFunc(left, func(a, b Share) int {
		if a.Source != b.Source {
			return a.Source - b.Source
		}
		return int(min(max(a.From-b.From, -1), 1))
	})
	return &shares{left: left}
}

// whole makes sure that no step is missing between others.
func (s *shares) whole(r *run) error {
	source, at := 0, int64(0)
	for _, x := range s.left {
		if x.Source != source {
			source, at = x.Source, 0
		}
		if x.From != at && source < len(r.job.Sources) {
			return fmt.Errorf("%s: bytes %s to %s are not in yet\n  go on with the command by which the load was begun",
				r.job.Sources[source].Name, phrase.Grouped(at), phrase.Grouped(x.From))
		}
		at = x.To
	}
	return nil
}

// begun notes the account at the beginning of a step.
func (s *shares) begun(k int, c *delimited.Chunk, now tray.Records) {
	if len(s.left) > 0 && s.left[0].Source == k && s.left[0].From == c.Offset {
		s.begin = now
	}
}

// ended compares a step with what it is in the text as it is now.
func (s *shares) ended(r *run, k int, c *delimited.Chunk) error {
	to := c.Offset + int64(len(c.Data))
	if len(s.left) == 0 || s.left[0].Source != k || s.left[0].To > to {
		return nil
	}
	x := s.left[0]
	s.left = s.left[1:]
	now := r.Records.Less(s.begin)
	name := r.Sources[k].Name
	switch {
	case x.To != to || x.SHA256 != hex.EncodeToString(c.Sum):
		return fmt.Errorf("%s: %w: bytes %s to %s are others than %s had; %s", name, ErrNotTheSame,
			phrase.Grouped(x.From), phrase.Grouped(x.To), x.By, r.Fate())
	case x.Records != now:
		return fmt.Errorf("%s: bytes %s to %s are the same, but the account of them is not (%+v now, %+v when %s "+
			"loaded them); %s", name, phrase.Grouped(x.From), phrase.Grouped(x.To), now, x.Records, x.By, r.Fate())
	}
	return nil
}

// all makes sure that each step was met.
func (s *shares) all(r *run) error {
	if s == nil || len(s.left) == 0 {
		return nil
	}
	x := s.left[0]
	return fmt.Errorf("%s: %w: %s had bytes %s to %s of it; %s", r.Sources[x.Source].Name, ErrNotTheSame, x.By,
		phrase.Grouped(x.From), phrase.Grouped(x.To), r.Fate())
}

// A Shared is a load that programs share, as one of them sees it.
type Shared struct {
	Name   string // of the load
	Schema string // of its notes
	By     string // who this is
	// Control is a session beside the one that loads: it takes steps while that one writes.
	Control interface {
		db.Session
		db.Joiner
	}

	opening opening
	first   string // the note that the opening is
	mine    int
	records tray.Records
}

// Took is how many steps this program has loaded, and what became of their records.
func (s *Shared) Took() (steps int, records tray.Records) { return s.mine, s.records }

// A SharedDone says who has verified a load that programs share, so that it is done.
type SharedDone struct {
	Entry string `json:"entry"`
	// Ends tells entries of the same name apart; see [tray.Stops].
	Ends string    `json:"ends,omitempty"`
	By   string    `json:"by"`
	At   time.Time `json:"at"`
}

func (d *SharedDone) Error() string {
	return fmt.Sprintf("the load is done: it was verified by another program, of %s, at %s, as %s", d.By,
		d.At.Format(time.RFC3339), d.Entry)
}

// Of reports whether an entry is the one that has verified the load.
func (d *SharedDone) Of(entry, ends string) bool { return d.Entry == entry && d.Ends == ends }

// Note is what stays of the load.
func (d *SharedDone) Note() string {
	b, _ := json.Marshal(opening{Done: d})
	return string(b)
}

// Opening is what who began the load has to say; nil: nobody has begun it. Where it is done, that is
// the error, a [SharedDone].
func (s *Shared) Opening(ctx context.Context) (json.RawMessage, error) {
	_, err := s.notes(ctx)
	return s.opening.Shared, err
}

// notes are those of the load, the first of which is the opening.
func (s *Shared) notes(ctx context.Context) (map[int]string, error) {
	notes, err := s.Control.Notebook(s.Schema, s.Name).Steps(ctx)
	if err != nil || len(notes) == 0 {
		s.opening = opening{}
		return nil, err
	}
	var o opening
	if err := json.Unmarshal([]byte(notes[1]), &o); err != nil || o.Shared == nil && o.Done == nil {
		return nil, fmt.Errorf("%s is the name of a load that programs do not share; choose another", s.Name)
	}
	if s.opening, s.first = o, notes[1]; o.Done != nil {
		return nil, o.Done
	}
	return notes, nil
}

// Begin makes the table, or looks at the one that is there, and leaves the first note.
func (s *Shared) Begin(ctx context.Context, job Job, say json.RawMessage) (err error) {
	job.Spec.Steps, job.Spec.Shared = s.Name, true
	r := &run{job: job}
	if r.Feed, err = rows.New(job.Job, nil); err != nil {
		return err
	}
	if err = r.begin(ctx); err != nil {
		return err
	}
	defer r.load.Rollback()
	if job.Begun != nil {
		if err := job.Begun(); err != nil {
			return err
		}
	}
	if err = r.lookBack(ctx); err != nil {
		return err
	}
	chunks := (recordBytes*job.Every + usualChunk - 1) / usualChunk
	s.opening = opening{Shared: say, Chunk: int(max(recordBytes*job.Every/chunks, leastChunk)), Chunks: int(chunks)}
	if r.before != nil {
		s.opening.Before = &Before{Rows: job.Receipt.Table.Before, Columns: factsOf(r.before)}
	}
	note, err := json.Marshal(s.opening)
	if err != nil {
		return err
	}
	return r.load.(db.Stepper).Step(ctx, 1, string(note))
}

// usualChunk is how large chunks are that are shared, at most.
const usualChunk = 1 << 20

// Load takes steps until all are in, by whomever. The job's sink is a load of its own for each
// time that the sources are gone through.
func (s *Shared) Load(ctx context.Context, job Job) error {
	job.Spec.Steps, job.Spec.Shared, job.Spec.Going = s.Name, true, true
	job.MaxRejects, job.Hopeless, job.Rejects = -1, 0, nil // they are counted when all are in
	clashes := 0
	for j := (&joint{Shared: s, job: job}); ; {
		taken := s.mine
		in, err := j.round(ctx)
		switch {
		case in:
			return nil
		case err != nil && clashes < mostClashes && ctx.Err() == nil && Clashed(err):
			clashes++
			job.Log.Info("begins a step anew", "why", err)
		case err != nil:
			return err
		case s.mine > taken:
			continue
		}
		// Others are at what is missing.
		if err := Pause(ctx, pause); err != nil {
			return err
		}
	}
}

// round sees which steps are in, and goes through the sources for those that are not. It reports whether
// all are.
func (j *joint) round(ctx context.Context) (in bool, err error) {
	notes, err := j.notes(ctx)
	if err != nil {
		return false, err
	}
	if len(notes) == 0 {
		return false, fmt.Errorf("the notes of the load %s have gone from %s", j.Name, db.NotesTable)
	}
	if j.job.Spec.Opening == "" {
		j.job.Spec.Opening = j.first
	}
	if j.job.Spec.Opening != j.first {
		return false, fmt.Errorf("the load %s has ended, and another of that name has begun", j.Name)
	}
	if j.in == nil && len(notes) > 1 {
		if err := j.same(j.job.Sources, notes); err != nil {
			return false, err
		}
	}
	if j.in = notes; j.counted && j.missing() == 0 {
		return true, nil
	}
	return false, j.pass(ctx)
}

// Pause waits, unless ctx ends before.
func Pause(ctx context.Context, d time.Duration) error {
	select {
	case <-time.After(d):
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// same makes sure that the sources are those of which steps are in, before others are added.
func (s *Shared) same(sources []*source.Source, notes map[int]string) error {
	var all []string
	for _, step := range slices.Sorted(maps.Keys(notes)) {
		all = append(all, notes[step])
	}
	g, err := parseShared(all)
	if err != nil {
		return err
	}
	left := newShares(g.Shares).left
	for k, src := range sources {
		if err := s.sameSource(k, src, &left); err != nil {
			return err
		}
	}
	if len(left) > 0 {
		return fmt.Errorf("%w: %s had more of it", ErrNotTheSame, left[0].By)
	}
	return nil
}

func (s *Shared) sameSource(k int, src *source.Source, left *[]Share) error {
	if len(*left) == 0 || (*left)[0].Source != k {
		return nil
	}
	st, err := src.Read(false)
	if err != nil {
		return err
	}
	defer st.Close()
	st.Size, st.Hash = s.opening.Chunk, sha256.New()
	for len(*left) > 0 && (*left)[0].Source == k {
		c, err := st.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return profile.Problem(src, err)
		}
		x := (*left)[0]
		if to := c.Offset + int64(len(c.Data)); to >= x.To {
			if to != x.To || hex.EncodeToString(c.Sum) != x.SHA256 {
				return fmt.Errorf("%s: %w: bytes %s to %s, or what is before them, are others than %s had; nothing "+
					"was added to the table, and what had been committed on the way stays in it\n  name the file as "+
					"it was", src.Name, ErrNotTheSame, phrase.Grouped(x.From), phrase.Grouped(x.To), x.By)
			}
			*left = (*left)[1:]
		}
		c.Release()
	}
	return nil
}

// pause is how long a program waits before it looks for steps again that others are at.
const pause = 300 * time.Millisecond

// Clashed reports whether the database has ended a step in favour of another session, or has its note
// already: from another program, through another server of a cluster, whose locks are its own.
func Clashed(err error) bool {
	var x *db.Error
	return errors.As(err, &x) && (x.Clash || x.Twice || x.Do == db.HintLocked)
}

// mostClashes is how often a step is begun anew because the database had ended it.
const mostClashes = 100

// A joint is a program that takes steps.
type joint struct {
	*Shared
	job     Job
	run     *run
	in      map[int]string // notes that were there before the pass
	counted bool           // counts are known
	counts  []int          // steps of each source

	mu    sync.Mutex // between reading and writing
	owned map[int]bool

	source  int // that is read
	begin   tray.Records
	from    int64
	refused []Refused
}

// missing is how many steps are not in.
func (j *joint) missing() (n int) {
	for k, count := range j.counts {
		for i := range count {
			if _, in := j.in[shareStep(k, i)]; !in {
				n++
			}
		}
	}
	return n
}

// pass goes through the sources once, and loads the steps that can be had.
func (j *joint) pass(ctx context.Context) (err error) {
	if j.counted {
		if free, err := j.anyFree(ctx); err != nil || !free {
			return err
		}
	}
	j.owned = map[int]bool{}
	defer func() {
		for step := range j.owned {
			j.Control.GiveBack(context.WithoutCancel(ctx), j.Schema, j.lock(step))
		}
	}()
	r := &run{job: j.job}
	if r.Feed, err = rows.New(j.job.Job, nil); err != nil {
		return err
	}
	if err = r.begin(ctx); err != nil {
		return err
	}
	defer r.load.Rollback()
	j.run, j.counts = r, make([]int, len(j.job.Sources))
	r.Follower = j
	r.Pick = func(c *delimited.Chunk) (bool, error) { return j.pick(ctx, c) }
	if err = r.Read(ctx); err != nil {
		return err
	}
	j.counted = true
	return nil
}

func (j *joint) lock(step int) string { return fmt.Sprintf("%s %d", j.Name, step) }

// anyFree reports whether there is a step that is not in and that nobody is at.
func (j *joint) anyFree(ctx context.Context) (bool, error) {
	for k, count := range j.counts {
		for i := range count {
			step := shareStep(k, i)
			if _, in := j.in[step]; in {
				continue
			}
			taken, err := j.Control.Take(ctx, j.Schema, j.lock(step))
			if err != nil {
				return false, err
			}
			if taken {
				return true, j.Control.GiveBack(ctx, j.Schema, j.lock(step))
			}
		}
	}
	return false, nil
}

// pick takes the step of a chunk, if it can be had. It is called while others of this program write.
func (j *joint) pick(ctx context.Context, c *delimited.Chunk) (bool, error) {
	n := c.Seq / j.opening.Chunks
	if n >= mostShares {
		return false, fmt.Errorf("the source has more than %s steps; say a larger --commit-every",
			phrase.Grouped(mostShares))
	}
	step := shareStep(j.source, n)
	j.mu.Lock()
	defer j.mu.Unlock()
	if c.Seq%j.opening.Chunks == 0 {
		j.counts[j.source] = n + 1
		if _, in := j.in[step]; !in {
			if err := j.take(ctx, step); err != nil {
				return false, err
			}
		}
	}
	return j.owned[step] || j.run.Numbered(), nil
}

// take takes a step, unless another is at it, or it is in by now.
func (j *joint) take(ctx context.Context, step int) error {
	taken, err := j.Control.Take(ctx, j.Schema, j.lock(step))
	if err != nil || !taken {
		return err
	}
	_, in, err := j.Control.Notebook(j.Schema, j.Name).Note(ctx, step)
	if err == nil && !in {
		j.owned[step] = true
		return nil
	}
	return errors.Join(err, j.Control.GiveBack(ctx, j.Schema, j.lock(step)))
}

func (j *joint) owns(k int, c *delimited.Chunk) (step int, owned bool) {
	j.mu.Lock()
	defer j.mu.Unlock()
	step = shareStep(k, c.Seq/j.opening.Chunks)
	return step, j.owned[step]
}

// Source implements rows.Follower.
func (j *joint) Source(k int, st *source.Stream) {
	j.source = k
	st.Size, st.Hash = j.opening.Chunk, sha256.New()
}

// Written implements rows.Follower: what is not this program's is not written.
func (j *joint) Written(k int, c *delimited.Chunk) (bool, map[int64]sink.Refusal) {
	_, owned := j.owns(k, c)
	if owned && c.Seq%j.opening.Chunks == 0 {
		j.begin, j.from, j.refused = j.run.Records, c.Offset, nil
	}
	return !owned, nil
}

// Refused implements rows.Follower.
func (j *joint) Refused(k int, x *tray.Reject) {
	j.refused = append(j.refused, Refused{Source: k, Line: x.Line, Column: x.Column, Message: x.Reason, Kind: x.Kind})
}

// Ended implements rows.Follower.
func (j *joint) Ended(int) {}

// Fate implements rows.Follower.
func (j *joint) Fate() string {
	if j.mine == 0 {
		return "this program has committed nothing"
	}
	return phrase.Count(j.records.Loaded, "record") + " of this program were committed, and stay in the table"
}

// Chunk implements rows.Follower: at the end of a step, it is committed.
func (j *joint) Chunk(ctx context.Context, k int, c *delimited.Chunk) error {
	step, owned := j.owns(k, c)
	if !owned {
		return nil
	}
	if err := fault.At(ctx, fault.InBatch); err != nil {
		return err
	}
	if (c.Seq+1)%j.opening.Chunks != 0 && !c.Last {
		return nil
	}
	x := Share{Source: k, From: j.from, To: c.Offset + int64(len(c.Data)), SHA256: hex.EncodeToString(c.Sum),
		Records: j.run.Records.Less(j.begin), Refused: j.refused, By: j.By}
	note, err := json.Marshal(x)
	if err != nil {
		return err
	}
	if err := j.run.load.(db.Stepper).Step(ctx, step, string(note)); err != nil {
		return err
	}
	j.mine++
	j.records.Add(x.Records)
	j.mu.Lock()
	defer j.mu.Unlock()
	delete(j.owned, step)
	j.job.Log.Info("took a step", "step", step, "read", x.Records.Read, "loaded", x.Records.Loaded)
	return j.Control.GiveBack(ctx, j.Schema, j.lock(step))
}
