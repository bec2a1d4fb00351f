// Package desk is what the product does, verb by verb, without a terminal: one
// file a verb, with its request and its answer.
//
// The model: a [Desk] knows where the papers lie and whom to ask. A verb takes a
// request of plain values and returns an answer, which is also the JSON document
// of the command of that name; docs/json.md has its keys. What the desk cannot
// decide by itself is a [Question]. What the person has to correct or decide is
// a [Need]; all other errors are failures. What is told on the way, before the
// answer, is an [Event].
//
// A desk prints nothing and reads no terminal, so that every rule can be tested
// here; package cli is one counter in front of it.
package desk

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"time"

	"ambertray/internal/rows"
	"ambertray/internal/source"
)

// A Desk does the product's verbs.
type Desk struct {
	// Version of the program, for the papers.
	Version string
	// Tray is the folder of the papers.
	Tray string
	// Stdin is what a source called - reads.
	Stdin io.Reader
	// NewLog writes the log of an entry; nil: as text.
	NewLog func(w io.Writer) slog.Handler
	Log    *slog.Logger
	// Ask puts a question to a person and returns the answer: that of one of its
	// choices, or [Yes] where it has none. Nil: nobody is there, and what would be
	// asked is a [Need].
	Ask func(context.Context, Question) (string, error)
	// Password asks for the password of a database, whose URL is given without
	// it. It may be nil.
	Password func(ctx context.Context, url string) (string, error)
	// Meter begins to show how far something is; nil: nobody looks.
	Meter func(ctx context.Context, stage string, size int64) Meter
	// Tell hears what happens before the answer; nil: nobody does.
	Tell func(Event)

	opened []*source.Source
}

// A Meter shows how far something is.
type Meter interface {
	Set(rows.Progress)
	// Shown reports whether anybody sees it.
	Shown() bool
	End()
}

type noMeter struct{}

func (noMeter) Set(rows.Progress) {}
func (noMeter) End()              {}
func (noMeter) Shown() bool       { return false }

func (d *Desk) meter(ctx context.Context, stage string, size int64) Meter {
	if d.Meter == nil {
		return noMeter{}
	}
	return d.Meter(ctx, stage, size)
}

// Close lets go of the sources that verbs have opened.
func (d *Desk) Close() {
	for _, s := range d.opened {
		s.Close()
	}
	d.opened = nil
}

// A Need is an error that waits for the person: the request is wrong, or a
// decision is missing. Nothing was changed.
type Need struct{ Err error }

func (n *Need) Error() string { return n.Err.Error() }
func (n *Need) Unwrap() error { return n.Err }

// Stopped is an error of a verb that was told to stop: it says what that left.
type Stopped struct{ Left string }

func (s *Stopped) Error() string { return "stopped; " + s.Left }

func need(format string, args ...any) error { return &Need{fmt.Errorf(format, args...)} }

// A Question is what the desk does not decide by itself.
type Question struct {
	// Code names the question: see the constants.
	Code Code
	// Column is the one that it is about, or empty.
	Column string
	// Ask is what is asked, in a sentence without a full stop.
	Ask string
	// Evidence is what there is to go by, a line each.
	Evidence []string
	// Answer is how a request answers it, in words for the person.
	Answer string
	// Choices are the answers that there are; none: yes, or anything else for no.
	Choices []Choice

	settles string // the option whose value an answer is
}

// A Choice is one of the answers to a question.
type Choice struct {
	Answer string // a word
	Text   string // what it means
	Option string // how a request would have said so, or empty
}

// Yes is the answer to a question without choices that is not a no.
const Yes = "yes"

// A Code names a kind of question. Questions that come from a finding have the
// finding's code.
type Code string

// The questions that do not come from findings.
const (
	EmptiesTable  Code = "empties-table"
	ReplacesTable Code = "replaces-table"
	InSpiteOf     Code = "in-spite-of-cautions"
	WhichPart     Code = "which-part"
	MakesDatabase Code = "makes-database"
	KeepsBefore   Code = "keeps-before"
	DeletesRows   Code = "deletes-rows"
	TakesBack     Code = "takes-back"
	Redefines     Code = "redefines"
	Sweeps        Code = "sweeps"
)

// confirm asks a question. Without a yes, it is a need.
func (d *Desk) confirm(ctx context.Context, q Question) error {
	if d.Ask == nil {
		return need("%s\n  %s; nothing was changed", q.Ask, q.Answer)
	}
	answer, err := d.Ask(ctx, q)
	if err != nil {
		return err
	}
	if answer != Yes {
		return need("not confirmed; nothing was changed")
	}
	return nil
}

// An Event is something that a person wants to know before the answer. It is one
// of the types whose names end in Event.
type Event interface{ event() }

func (d *Desk) tell(e Event) {
	if d.Tell != nil {
		d.Tell(e)
	}
}

// A NoteEvent is a remark in words.
type NoteEvent struct{ Text string }

// A CautionEvent is a remark that should not be missed.
type CautionEvent struct{ Text string }

func (NoteEvent) event()    {}
func (CautionEvent) event() {}

// An Outcome is what an answer comes to, for those who act on it without
// reading it.
type Outcome string

// The outcomes.
const (
	Done      Outcome = "done"
	Waiting   Outcome = "waiting"   // loaded and verified; rejects wait
	Undecided Outcome = "undecided" // a decision is needed
	Unknown   Outcome = "unknown"   // it cannot be told
	Differs   Outcome = "does not add up"
)

// now is the time as papers have it.
func now() time.Time { return time.Now().UTC().Truncate(time.Millisecond) }

// list keeps an empty list from being null in JSON.
func list[T any](l []T) []T {
	if l == nil {
		return []T{}
	}
	return l
}
