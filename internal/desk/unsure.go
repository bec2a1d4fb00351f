package desk

import (
	"context"
	"errors"
	"fmt"
	"time"

	"ambertray/internal/account"
	"ambertray/internal/load"
	"ambertray/internal/tray"
)

// askFor is how long the database is asked what became of a commit whose answer was
// lost.
const askFor = 10 * time.Second

// ask asks the database what became of a commit whose answer was lost, over another
// connection. Without an error, the commit came to be. What nobody can tell now stays
// undecided, and 'verify' asks again.
func (d *Desk) ask(ctx context.Context, entry *tray.Entry, job *load.Job, answer *LoadAnswer, lost error) error {
	job.Log.Warn("the answer to the commit was lost", "error", lost)
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), askFor)
	defer cancel()
	if job.Every > 0 {
		answer.Receipt.Verdict = tray.Halted
		return fmt.Errorf("%w\n  the notes in the database tell how far the load is; go on with: ambertray resume %s",
			lost, entry.Name)
	}
	undecided := func(err error) error {
		answer.Receipt.Verdict = tray.Undecided
		return fmt.Errorf("%w\n  the database cannot be asked now: %w\n  do not load again before "+
			"'ambertray verify %s' has settled it", lost, err, entry.Name)
	}
	conn, err := d.connect(ctx, answer.at, toChange)
	if err != nil {
		return undecided(err)
	}
	defer conn.Close()
	if err := account.Resolve(ctx, entry, job.Plan, conn); err != nil {
		return undecided(err)
	}
	r, err := entry.Receipt()
	if err != nil {
		return undecided(err)
	}
	*answer.Receipt = *r
	if r.Verdict == tray.Failed {
		job.Log.Error("the commit did not come to be")
		return fmt.Errorf("%w\n  the database says that the commit did not come to be: nothing was changed\n  "+
			"the papers are in %s", errors.Unwrap(lost), entry.Dir)
	}
	job.Log.Info("the commit came to be", "verdict", r.Verdict)
	d.tell(NoteEvent{"the answer to the commit was lost; the database says that it came to be"})
	return nil
}
