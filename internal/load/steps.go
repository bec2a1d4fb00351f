package load

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"ambertray/internal/db"
	"ambertray/internal/fault"
	"ambertray/internal/phrase"
	"ambertray/internal/sink"
	"ambertray/internal/source"
	"ambertray/internal/source/delimited"
	"ambertray/internal/tally"
	"ambertray/internal/tray"
)

// A load too large for one transaction commits on its way, every so many
// records. With each commit goes a note of how far it is, in the same
// transaction, so that the rows and the note are there together or not at all.
//
// A load that was stopped goes on from its last note. It reads its sources from
// their beginnings again, so that it knows that they are the same, counts and
// tallies the records as before, and writes only those behind the note. What
// the database had refused of the others is in the notes, too.

// A Note is how far a load is.
type Note struct {
	// Source is the number of the source that is read, from 0; Offset is how
	// many bytes of its text from the first record on are done, and SHA256
	// their hash.
	Source int    `json:"source"`
	Offset int64  `json:"offset"`
	SHA256 string `json:"sha256"`
	// Done are the hashes of the sources before it.
	Done    []string     `json:"done,omitempty"`
	Records tray.Records `json:"records"`
	// Refused are records that the database has refused since the note before.
	Refused []Refused `json:"refused,omitempty"`
	// Before is what the table held before the load, in the first note of one
	// that adds to a table.
	Before *Before `json:"before,omitempty"`
}

// Refused is a record that the database refused.
type Refused struct {
	Source  int    `json:"source"`
	Line    int64  `json:"line"`
	Column  string `json:"column,omitempty"`
	Message string `json:"message"`
	Kind    string `json:"kind,omitempty"`
}

// Before is what a table held.
type Before struct {
	Rows    int64        `json:"rows"`
	Columns []tray.Facts `json:"columns"`
}

// Going is how far a load has come: what its notes say together.
type Going struct {
	Steps   int
	At      Note // the last one
	Refused []Refused
	Before  *Before
	// Shares are the steps of a load that several programs took; At is then all of the text.
	Shares []Share
	// Done tells that such a load is done; then there is nothing else.
	Done  *SharedDone
	chunk int // how large their chunks are
}

// ParseNotes reads the notes of a load; nil if there are none.
func ParseNotes(notes []string) (*Going, error) {
	if len(notes) == 0 {
		return nil, nil
	}
	if shared, err := parseShared(notes); shared != nil || err != nil {
		return shared, err
	}
	g := &Going{Steps: len(notes)}
	for i, text := range notes {
		var n Note
		if err := json.Unmarshal([]byte(text), &n); err != nil {
			return nil, fmt.Errorf("note %d of the load in %s cannot be read: %w", i+1, db.NotesTable, err)
		}
		g.At = n
		g.Refused = append(g.Refused, n.Refused...)
		if i == 0 {
			g.Before = n.Before
		}
	}
	return g, nil
}

// NotesOf asks a database how far a load is; nil if it has not committed a step,
// or is done.
func NotesOf(ctx context.Context, conn db.Session, schema, name string) (*Going, error) {
	noter, ok := conn.(db.Noter)
	if !ok {
		return nil, fmt.Errorf("%s cannot tell how far a load is", conn.Dialect().Title)
	}
	notes, err := noter.Notes(ctx, schema, name)
	if err != nil {
		return nil, err
	}
	return ParseNotes(notes)
}

// ErrStopped says that a load has ended between its commits.
var ErrStopped = errors.New("stopped between its commits, and not done")

// ErrNotTheSame says that what is to be gone on with is not what was begun.
var ErrNotTheSame = errors.New("is not what the load had read before it stopped")

// steps is how far a load is between its commits.
type steps struct {
	count   int   // commits
	records int64 // read, at the last of them
	loaded  int64 // at the last of them
	refused []Refused
	// Of an earlier run: what the database refused, by source and line.
	known []map[int64]sink.Refusal
	met   bool // the place where it stopped has been passed
	// shares are the steps that several programs took, or nil.
	shares *shares
}

// goOn takes over what an earlier run has left.
func (r *run) goOn() error {
	g := r.job.Going
	if g == nil {
		r.steps.met = true
		return nil
	}
	if g.Shares != nil {
		r.steps.met = true
		r.steps.shares = newShares(g.Shares)
		if err := r.steps.shares.whole(r); err != nil {
			return err
		}
	}
	if g.At.Source >= len(r.job.Sources) {
		return fmt.Errorf("the load has %d sources, and had more before it stopped", len(r.job.Sources))
	}
	r.steps.count, r.steps.loaded, r.steps.records = g.Steps, g.At.Records.Loaded, g.At.Records.Read
	for range r.job.Sources {
		r.steps.known = append(r.steps.known, map[int64]sink.Refusal{})
	}
	for _, x := range g.Refused {
		r.steps.known[x.Source][x.Line] = sink.Refusal{Column: x.Column, Message: x.Message, Kind: x.Kind}
	}
	r.job.Receipt.Commits = int64(g.Steps)
	if g.Before == nil {
		return nil
	}
	columns := r.job.Spec.Table.Columns
	if len(columns) != len(g.Before.Columns) {
		return fmt.Errorf("the table has %d columns to load, and had %d before the load stopped", len(columns),
			len(g.Before.Columns))
	}
	r.job.Receipt.Table.Before = g.Before.Rows
	for i, f := range g.Before.Columns {
		t, err := f.Tally(columns[i].Type.String(), g.Before.Rows)
		if err != nil {
			return fmt.Errorf("the note of what column %s held before the load: %w", columns[i].Name, err)
		}
		r.before = append(r.before, *t)
	}
	return nil
}

// Source implements rows.Follower: it prepares the stream of the k-th source for
// notes.
func (r *run) Source(k int, st *source.Stream) {
	if r.job.Every <= 0 {
		return
	}
	st.Size = chunkSize(st.Size, r.job.Every)
	if r.steps.shares != nil {
		st.Size = r.job.Going.chunk
	}
	st.Hash = sha256.New()
	if g := r.job.Going; g != nil && g.At.Source == k {
		st.Cut = g.At.Offset
	}
}

// chunkSize is such that a commit comes about when it is wanted, in bytes.
func chunkSize(usual int, every int64) int {
	return int(min(int64(usual), max(recordBytes*every, leastChunk)))
}

// leastChunk is how large chunks are at least, in bytes.
const leastChunk = 16 << 10

// recordBytes is how long a record is taken to be.
const recordBytes = 64

// Written implements rows.Follower: an earlier run has committed a chunk.
func (r *run) Written(k int, c *delimited.Chunk) (bool, map[int64]sink.Refusal) {
	g := r.job.Going
	if r.steps.shares != nil {
		r.steps.shares.begun(k, c, r.Records)
		return true, r.steps.known[k]
	}
	if g == nil || k > g.At.Source || k == g.At.Source && c.Offset >= g.At.Offset {
		return false, nil
	}
	return true, r.steps.known[k]
}

// Refused implements rows.Follower.
func (r *run) Refused(k int, j *tray.Reject) {
	if r.job.Every > 0 {
		r.steps.refused = append(r.steps.refused,
			Refused{Source: k, Line: j.Line, Column: j.Column, Message: j.Reason, Kind: j.Kind})
	}
}

// Ended implements rows.Follower: of a pipe, the size is known at its end.
func (r *run) Ended(k int) {
	if r.job.Receipt != nil {
		r.job.Receipt.Sources[k].Size = r.Sources[k].FileSize
	}
}

// Chunk implements rows.Follower: it commits if it is time to.
func (r *run) Chunk(ctx context.Context, k int, c *delimited.Chunk) error {
	if err := fault.At(ctx, fault.InBatch); err != nil {
		return err
	}
	if r.job.Every <= 0 {
		return nil
	}
	if r.steps.shares != nil {
		return r.steps.shares.ended(r, k, c)
	}
	g := r.job.Going
	if !r.steps.met {
		if k < g.At.Source || k == g.At.Source && c.Offset+int64(len(c.Data)) < g.At.Offset {
			return nil
		}
		r.steps.met = true
		if hex.EncodeToString(c.Sum) != g.At.SHA256 || !slices.Equal(r.Sums, g.At.Done) {
			return fmt.Errorf("%s: %w; %s\n  name the file as it was", r.job.Sources[k].Name, ErrNotTheSame, r.Fate())
		}
		if r.Records != g.At.Records {
			return fmt.Errorf("%s: its bytes are the same, but the account of them is not (%+v now, %+v before); %s",
				r.job.Sources[k].Name, r.Records, g.At.Records, r.Fate())
		}
		return nil
	}
	if r.Records.Read-r.steps.records < r.job.Every || c.Last {
		return nil
	}
	n := Note{Source: k, Offset: c.Offset + int64(len(c.Data)), SHA256: hex.EncodeToString(c.Sum), Done: r.Sums,
		Records: r.Records, Refused: r.steps.refused}
	if r.steps.count == 0 && r.before != nil {
		n.Before = &Before{Rows: r.job.Receipt.Table.Before, Columns: factsOf(r.before)}
	}
	text, err := json.Marshal(n)
	if err != nil {
		return err
	}
	if err := r.load.(db.Stepper).Step(ctx, r.steps.count+1, string(text)); err != nil {
		return err
	}
	r.steps.count++
	r.steps.records, r.steps.loaded, r.steps.refused = r.Records.Read, r.Records.Loaded, nil
	r.job.Receipt.Commits = int64(r.steps.count)
	r.job.Log.Info("committed on the way", "step", r.steps.count, "read", r.Records.Read, "loaded", r.Records.Loaded)
	return nil
}

func factsOf(columns []tally.Tally) (out []tray.Facts) {
	for i := range columns {
		out = append(out, tray.FactsOf(&columns[i]))
	}
	return
}

// Fate implements rows.Follower: it says what has become of the rows that were written, where the load
// fails.
func (r *run) Fate() string {
	if r.steps.count == 0 {
		return "nothing was committed"
	}
	return phrase.Count(r.steps.loaded, "record") + " had been committed on the way and stay in the table"
}
