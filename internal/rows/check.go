package rows

import (
	"context"
	"time"

	"ambertray/internal/profile"
	"ambertray/internal/reading"
	"ambertray/internal/sink"
	"ambertray/internal/tally"
	"ambertray/internal/tray"
)

// A Check is what a dry run found: the account as it would be, and what would
// not fit.
type Check struct {
	Records tray.Records
	Skipped []tray.Skip
	Reasons []tray.Reason
	// Misfits are by column of the plan.
	Misfits []Misfits
	Tally   []tally.Tally
	// Unmet are records that do not meet conditions of the plan's and would be loaded.
	Unmet []Unmet
	// Sums are the SHA-256 of the sources.
	Sums []string
}

// Misfits are the values of a column that do not fit its type.
type Misfits struct {
	Count int64
	First []profile.Example
	// Reason and Kind are those of the first; TooLong counts those that are only too
	// long, and Longest is the longest of them, in characters.
	Reason  string
	Kind    reading.Misfit
	TooLong int64
	Longest int
}

// DryRun reads and converts, and writes nothing. Expressions see a load of this
// moment.
func DryRun(ctx context.Context, job Job) (*Check, error) { return Into(ctx, job.asIfNow(), nil) }

// asIfNow is the job with a name and a time, where no load has given them.
func (j Job) asIfNow() Job {
	if j.Entry == "" {
		j.Entry, j.At = "preview", time.Now().UTC().Truncate(time.Second)
	}
	return j
}

// Into reads and converts as a load does, but into a sink where nothing is
// verified.
func Into(ctx context.Context, job Job, to sink.Sink) (*Check, error) {
	f, err := New(job, to)
	if err != nil {
		return nil, err
	}
	if err := f.Read(ctx); err != nil {
		return nil, err
	}
	if err := f.Rejects.Finish(); err != nil {
		return nil, err
	}
	c := &Check{Records: f.Records, Skipped: f.Skips(), Reasons: f.Reasons(), Tally: f.Total, Unmet: f.Unmet,
		Sums: f.Sums}
	for _, m := range f.misfits {
		c.Misfits = append(c.Misfits, Misfits{m.count, m.first, m.reason, m.kind, m.tooLong, m.longest})
	}
	return c, nil
}
