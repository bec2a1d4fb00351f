package db

import (
	"context"
	"slices"

	"ambertray/internal/db/dialect"
	"ambertray/internal/sink"
)

// A Fleet is how a load fills a table beside the one that is wanted: its batches go over several
// lanes, in a convoy, as long as the server takes them as they are; then over its own connection.
type Fleet struct {
	// Fly opens the lanes, when the first rows come. The first is the load's own connection.
	Fly func(ctx context.Context) []Lane
	// In asks how many rows the table has.
	In func(ctx context.Context) (int64, error)
	// Begin ends the other connections, and begins the transaction of the load on its own; Write
	// takes rows there.
	Begin func(ctx context.Context) error
	Write func(ctx context.Context, b sink.Batch) ([]sink.Refusal, error)
	// Found are the rows that were refused too late for Put to say so, by their numbers in the load.
	Found []sink.Refusal

	convoy *Convoy
	rows   int // taken and not refused
	landed bool
}

// Apart reports whether a new table of the load can be filled beside the one that is wanted: nobody
// sees it before, its rows can be read again, and nothing in its definition but the primary key
// refuses a row because of another.
func (s *Spec) Apart() bool {
	numbered := slices.ContainsFunc(s.Table.Columns, func(c dialect.Column) bool { return c.Identity })
	return s.Mode.New() && !numbered && s.Steps == "" && !s.Once && s.Like == nil && s.Keep == "" && !s.MakeSchema &&
		s.Stage == nil && len(s.Table.Unique)+len(s.Table.References)+len(s.Alter) == 0
}

// Put takes a batch over the lanes, or, when they are over, in the transaction.
func (f *Fleet) Put(ctx context.Context, b sink.Batch) ([]sink.Refusal, error) {
	if f.convoy == nil {
		f.convoy = NewConvoy(ctx, f.Fly(ctx), 0)
	}
	if b.Rows == 0 {
		f.convoy.kept = false
		return nil, nil
	}
	if f.convoy.Write(b, f.rows) {
		f.rows += b.Rows
		return nil, nil
	}
	if err := f.Land(ctx); err != nil {
		return nil, err
	}
	refused, err := f.Write(ctx, b)
	f.rows += b.Rows - len(refused)
	return refused, err
}

// Land ends the lanes, and begins the transaction of the load. What was rolled back is sent
// again there.
func (f *Fleet) Land(ctx context.Context) error {
	if f.landed {
		return nil
	}
	f.landed = true
	if f.convoy == nil { // no row has come
		return f.Begin(ctx)
	}
	refused, err := f.convoy.Settle(ctx, func() (int64, error) { return f.In(ctx) },
		func() error { return f.Begin(ctx) },
		func(b sink.Batch) ([]sink.Refusal, error) { return f.Write(ctx, b) })
	f.Found = append(f.Found, refused...)
	return err
}

// Instead is what [sink.Holder] says of the batch that was put last.
func (f *Fleet) Instead(data []byte) []byte { return f.convoy.Instead(data) }

// Many reports whether more than one lane has taken rows.
func (f *Fleet) Many() bool { return f.convoy != nil && len(f.convoy.lanes) > 1 }

// Close ends what is under way.
func (f *Fleet) Close() {
	if f.convoy != nil {
		f.convoy.Close()
	}
}
