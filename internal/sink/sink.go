// Package sink is what takes the rows of a load: a database, a script, the sums
// of a proof, what a page's pictures are of.
//
// The model: a [Sink] makes an [Encoder] for each goroutine that converts
// records. An encoder turns rows into whatever form the sink takes; the sink
// then gets them as a [Batch], in the order of the sources, and gives back those
// that it refuses. What only some can do is an optional interface here, found by
// type assertion.
package sink

import (
	"context"

	"ambertray/internal/reading"
)

// A Sink takes rows as its encoders made them. Every db.Load is one.
type Sink interface {
	// Encoder returns an encoder for one goroutine. If it is a [Placer], it is
	// told where the next row comes from.
	Encoder() Encoder
	// Write takes rows in the order of the sources, and returns those that it
	// refuses.
	Write(ctx context.Context, b Batch) ([]Refusal, error)
}

// An Encoder turns rows into the form that a sink takes in bulk. It
// allocates nothing but dst's growth.
type Encoder interface {
	Append(dst []byte, row []reading.Value) []byte
}

// A Batch is rows in encoded form.
type Batch struct {
	Rows int
	Data []byte
}

// A Refusal is a row that the sink would not take.
type Refusal struct {
	Row     int // in the batch, from 0; from Finish: in the load
	Column  string
	Message string // the database's own, with its code
	// Before tells that the row had been refused before, and is counted already.
	Before bool
	// Skip, if not empty, tells that the row is no reject, but skipped, and of which kind.
	Skip string
	// Kind is the message without the row's own values, for grouping.
	Kind string
}

// A Taker is an Encoder that takes several rows at once, those of the same width behind each
// other: what it appends is what Append would, row by row.
type Taker interface {
	AppendRows(dst []byte, values []reading.Value, width int) []byte
}

// A Placer is an encoder that wants to know where rows come from.
type Placer interface {
	Place(source int, line int64)
}

// A Summer is an Encoder that adds up checksums of its rows.
type Summer interface {
	// Sum is the sum, modulo 2^64, of the rows' checksums since it was last
	// called. Each depends on all values of its row, and the sum not on the
	// order of rows.
	Sum() uint64
}

// Sized is a Sink for which batches of another size do better than the usual
// one of 2 MB of source.
type Sized interface {
	BatchBytes() int
}

// A Holder is a Sink that keeps a batch's memory beyond Write, to send it
// meanwhile.
type Holder interface {
	// Instead returns data, which was written last, or memory to use in its
	// place if the sink keeps it.
	Instead(data []byte) []byte
}
