package db

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"time"
)

// An Unsure error says that a commit was sent, and its answer lost: whether it came to
// be, only the database can tell.
type Unsure struct{ Err error }

func (e *Unsure) Error() string {
	return "the answer to the commit was lost, so that it may have come to be or not: " + e.Err.Error()
}

// IsUnsure reports an error of which one is such.
func IsUnsure(err error) bool {
	var lost *Unsure
	return errors.As(err, &lost)
}

func (e *Unsure) Unwrap() error { return e.Err }

// A Marked is a Load whose commit can be asked for afterwards, by a mark.
type Marked interface {
	// Mark is called when all is done but the commit. It returns what the receipt
	// keeps; nothing if there can be no mark.
	Mark(ctx context.Context) (string, error)
	// Unmark takes away what the mark left in the database, when the receipt is
	// settled. What stays is for a later load to sweep.
	Unmark(ctx context.Context)
}

// An Outcome is what became of a commit.
type Outcome string

// The outcomes.
const (
	Unknown    Outcome = ""
	Committed  Outcome = "committed"
	RolledBack Outcome = "rolled back"
)

// An Outcomer is a Session that knows what became of the commit of a [Marked] load. It
// waits until the load's own session is at an end.
type Outcomer interface {
	Outcome(ctx context.Context, schema, mark string) (Outcome, error)
	// Settled takes away what the mark left.
	Settled(ctx context.Context, schema, mark string)
}

// RowMark begins what a receipt keeps of a mark that is a row in the table of notes.
const RowMark = "row "

// A mark is a note of its own: begun before the transaction, where others see it, and
// made done within, so that it is done if and only if the rows are there.
const (
	markPrefix = "mark "
	markBegun  = "begun"
	markDone   = "done"
	// markTime is when it was begun, in UTC, which its name says.
	markTime = "2006-01-02T15:04:05Z"
	// markKept is how long a mark stays that nobody has settled.
	markKept = 7 * 24 * time.Hour
)

// NewMark is the notebook of a mark.
func NewMark(q Questions, schema string) Notebook {
	var r [8]byte
	rand.Read(r[:])
	load := markPrefix + time.Now().UTC().Format(markTime) + " " + hex.EncodeToString(r[:])
	return Notebook{Questions: q, Schema: schema, Load: load}
}

// BeginMark notes that a load has begun; DoneMark that it is done, in its transaction.
func (n Notebook) BeginMark(ctx context.Context) error { return n.Write(ctx, 0, markBegun) }

// DoneMark makes the note say that the load is done.
func (n Notebook) DoneMark(ctx context.Context) error {
	d := n.Dialect
	return n.Do(ctx, "cannot mark the commit", fmt.Sprintf("UPDATE %s SET note = %s WHERE load_name = %s", n.Table(),
		d.Parameter(1), d.Parameter(2)), markDone, n.Load)
}

// OutcomeOfMark reads what the mark says.
func (n Notebook) OutcomeOfMark(ctx context.Context) (Outcome, error) {
	notes, err := n.Read(ctx, 0)
	switch {
	case err != nil || len(notes) == 0:
		return Unknown, err
	case notes[0] == markDone:
		return Committed, nil
	}
	return RolledBack, nil
}

// SweepMarks forgets old marks, and those that have begun and whose loads have ended,
// as ended says.
func (n Notebook) SweepMarks(ctx context.Context, ended func(load string) bool) error {
	rows, err := n.Rows(ctx, "cannot read the marks",
		fmt.Sprintf("SELECT load_name, note FROM %s WHERE load_name LIKE %s", n.Table(), n.Dialect.Parameter(1)),
		markPrefix+"%")
	if err != nil {
		return err
	}
	for _, r := range rows {
		when, _, _ := strings.Cut(strings.TrimPrefix(*r[0], markPrefix), " ")
		at, err := time.Parse(markTime, when)
		if err == nil && time.Since(at) < markKept && (*r[1] == markDone || !ended(*r[0])) {
			continue
		}
		if err := (Notebook{Questions: n.Questions, Schema: n.Schema, Load: *r[0]}).Forget(ctx); err != nil {
			return err
		}
	}
	return nil
}
