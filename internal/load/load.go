// Package load runs a plan against a database.
//
// The model: records are converted side by side and written in order, within
// one transaction. While they go in, each column's values are tallied. When
// all are in, the table is tallied by itself, and only if the account
// balances and the two tallies agree is the transaction committed:
//
//	records read = loaded + rejected + skipped
//	rows, nulls, sums, smallest, largest: read = in the table
//
// Records that do not fit are kept as rejects and do not stop the load. What
// does stop it leaves the table as it was. The package prints nothing.
package load

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"time"

	"ambertray/internal/db"
	"ambertray/internal/fault"
	"ambertray/internal/phrase"
	"ambertray/internal/plan"
	"ambertray/internal/profile"
	"ambertray/internal/rows"
	"ambertray/internal/sink"
	"ambertray/internal/source"
	"ambertray/internal/sqltype"
	"ambertray/internal/tally"
	"ambertray/internal/tray"
)

// A Job is one load to be run: what is read, and into which table.
type Job struct {
	rows.Job
	Session db.Session
	// Spec says how the table is to be loaded. Its columns are the plan's.
	Spec db.Spec
	// MaxShare, if above 0, ends the load when more than this share of the
	// records read are rejected. It is looked at when all have been read.
	MaxShare float64
	// MaxLeast is how many may be rejected whatever their share is; with it, a load
	// that rejects all of its records is ended, too.
	MaxLeast int64
	Log      *slog.Logger
	// Receipt is filled in; the caller sets what identifies the run.
	Receipt *tray.Receipt
	// Every, if above 0, is after how many records the load commits on its way;
	// Going is how far an earlier run of the same load has come.
	Every int64
	Going *Going
	// Begun is called when the load has begun, and nobody else loads into the table.
	Begun func() error
	// Prove, if not nil, compares every value before the commit. table is the one that has
	// the rows until then.
	Prove func(ctx context.Context, table db.Name) error
	// Says, if not nil, is called with what the database has to say of how the rows go.
	Says func(text string)
	// Waits is called where another session has to be waited for.
	Waits func(what string, w db.Wait)
	// Ledger tells that the load is written into the ledger of the schema; By is who
	// loads.
	Ledger bool
	By     string
	// Merge is how the records meet rows that are there; nil: they are added to them. Then
	// Spec's mode is Merge, or Append.
	Merge *Merge
	// Old is the table as it is, of which the rows are kept under the name Spec.Keep.
	Old *db.Table
	// Together tells that the load is one of several in a transaction, which is committed
	// behind the last of them. What AfterCommit does is for then.
	Together bool
	// previewed is called when it is known what a merge would do.
	previewed func(*run) error
	// Landed is called when all rows are in and verified, with the table that has them until
	// the commit.
	Landed func(db.Name)
	// BeforeCommit is called when all has been verified; an error of its
	// rolls back.
	BeforeCommit func() error
	// AfterCommit is called when the commit has come to be.
	AfterCommit func() error
}

// An Unbalanced error says that what was read and what the table holds do not
// agree. Nothing was committed.
type Unbalanced struct {
	Differences []string
	Fate        string // of what was written: "nothing was committed"
}

func (e *Unbalanced) Error() string {
	s := "the load does not add up; " + e.Fate
	for _, d := range e.Differences {
		s += "\n  " + d
	}
	return s
}

// run is the state of one load.
type run struct {
	*rows.Feed
	job    Job
	load   db.Load
	before []tally.Tally // what the table held, or nil
	// typed tells of columns of a table that is appended to that all values were of their
	// type before.
	typed []bool
	steps steps
	merge *merging // or nil
}

// Run loads. On success the receipt is complete but for its end time. Where the database has ended
// the transaction in favour of another, the load begins anew, if its sources can be read again.
func Run(ctx context.Context, job Job) error {
	for n := 1; ; n++ {
		err := once(ctx, job)
		if n == mostTries || !job.repeats(err) || ctx.Err() != nil {
			return err
		}
		job.Log.Info("begins anew", "why", err)
		if err := job.restart(); err != nil {
			return err
		}
		if Pause(ctx, time.Duration(rand.IntN(n*500))*time.Millisecond) != nil {
			return err
		}
	}
}

// mostTries is how often a load is begun that the database ends in favour of others.
const mostTries = 4

// repeats reports whether the load may be begun anew after an error: nothing of it is there.
func (j *Job) repeats(err error) bool {
	var clash *db.Error
	if !errors.As(err, &clash) || !clash.Clash || db.IsUnsure(err) {
		return false
	}
	return j.Every == 0 && !j.Together && !slices.ContainsFunc(j.Sources, (*source.Source).Flows)
}

// restart forgets the rejects of a load that is begun anew.
func (j *Job) restart() error {
	if k, is := j.Rejects.(interface{ Restart() error }); is {
		return k.Restart()
	}
	return nil
}

func once(ctx context.Context, job Job) error {
	r, asked := &run{job: job}, job
	var err error
	if r.Feed, err = rows.New(job.Job, nil); err != nil {
		return err
	}
	for _, src := range job.Sources {
		job.Spec.Once = job.Spec.Once || src.Flows()
	}
	r.job = job
	defer r.unstage(ctx)
	if err = r.begin(ctx); err != nil {
		return err
	}
	job = r.job
	defer r.load.Rollback()
	if job.Begun != nil {
		if err := job.Begun(); err != nil {
			return err
		}
	}
	if err := r.lookBack(ctx); err != nil {
		return err
	}
	err = r.fill(ctx)
	if err2 := r.Rejects.Finish(); err == nil {
		err = err2
	}
	var unordered *db.OutOfOrder
	if errors.As(err, &unordered) {
		return r.inOrder(ctx, asked, err)
	}
	if err != nil {
		return err
	}
	if err := r.expected(); err != nil {
		return err
	}
	if job.previewed != nil {
		if err := job.previewed(r); err != nil {
			return err
		}
		return errPreviewed
	}
	receipt := job.Receipt
	r.ofSources(receipt)
	if err := job.limited(r.Records, r.Reasons(), r.Fate()); err != nil {
		return err
	}
	job.Log.Info("records read", "read", r.Records.Read, "loaded", r.Records.Loaded, "rejected", r.Records.Rejected,
		"skipped", r.Records.Skipped, "sha256", r.Sums)
	r.Report("verifying")
	if err := r.verify(ctx); err != nil {
		return err
	}
	if err := r.prove(ctx); err != nil {
		return err
	}
	if job.Landed != nil {
		job.Landed(r.landed())
	}
	if rec, is := r.load.(db.Recorder); is && job.Ledger {
		if err := rec.Record(ctx, r.ledgerRows()); err != nil {
			return err
		}
	}
	if err := r.commit(ctx); err != nil {
		return err
	}
	if job.Together {
		return job.AfterCommit()
	}
	job.Log.Info("committed", "table", job.Plan.Table.Name, "rows", receipt.Table.Rows)
	if err := r.committed(ctx); err != nil {
		return &Committed{err}
	}
	return nil
}

// inOrder loads once more, on one connection, where rows of several could not be told apart.
func (r *run) inOrder(ctx context.Context, job Job, why error) error {
	job.Log.Info("begins anew, on one connection", "why", why)
	if err := r.load.Rollback(); err != nil {
		return err
	}
	if err := job.restart(); err != nil {
		return err
	}
	job.Spec.Lanes = 1
	return once(ctx, job)
}

// begin makes the stage of a merge, and begins the load.
func (r *run) begin(ctx context.Context) (err error) {
	defer r.waiting(ctx, "the table "+r.job.Spec.Home().Table)()
	if r.job.Merge != nil {
		if err := r.stage(ctx); err != nil {
			return err
		}
	}
	r.job.Spec.Within = r.job.Prove != nil
	if r.load, err = r.job.Session.Begin(ctx, r.job.Spec); err != nil {
		return err
	}
	r.Sink, r.Follower = r.load, r
	r.remark()
	return nil
}

// remark passes on what the database has to say of how the rows go.
func (r *run) remark() {
	x, is := r.load.(db.Remarker)
	if !is {
		return
	}
	for _, text := range x.Remarks() {
		r.job.Log.Info("how rows go", "what", text)
		if r.job.Says != nil {
			r.job.Says(text)
		}
	}
}

// unstage takes the stage of a merge away.
func (r *run) unstage(ctx context.Context) {
	if r.merge != nil {
		r.merge.m.Unstage(context.WithoutCancel(ctx))
	}
}

// lookBack finds out what was there before.
func (r *run) lookBack(ctx context.Context) error {
	if err := r.goOn(); err != nil {
		return err
	}
	if err := r.keptOld(ctx); err != nil {
		return err
	}
	return r.holdsBefore(ctx)
}

// holdsBefore tallies a table that is added to.
func (r *run) holdsBefore(ctx context.Context) (err error) {
	if r.job.Spec.Mode != db.Append || r.before != nil || r.merge != nil {
		return nil
	}
	if r.job.Receipt.Table.Before, r.before, err = r.load.Tally(ctx); err != nil {
		return err
	}
	for i := range r.before {
		r.typed = append(r.typed, !r.before[i].Loose)
	}
	if r.job.Receipt.Table.Before == 0 && r.job.Spec.Steps == "" {
		r.before = nil // what it will hold is what is read, as of a new table
	}
	return nil
}

// prove compares every value, where that is asked for, and notes how each column was
// compared.
func (r *run) prove(ctx context.Context) error {
	if r.job.Prove != nil {
		r.Report("proving")
		if err := r.job.Prove(ctx, r.landed()); err != nil {
			return err
		}
	}
	r.job.Receipt.Prove()
	return nil
}

// landed is the table that has the rows until the commit.
func (r *run) landed() db.Name {
	table := r.job.Spec.Home()
	if s, is := r.load.(db.Sider); is && r.merge == nil {
		table.Table = s.Side()
	}
	return table
}

// An Unexpected error says that the sources are not what their plan expects.
type Unexpected struct {
	Unmet []string
	Fate  string
}

func (e *Unexpected) Error() string {
	s := "the plan expects something else; " + e.Fate
	for _, u := range e.Unmet {
		s += "\n  " + u
	}
	return s
}

// ofSources notes what was read of each source.
func (r *run) ofSources(receipt *tray.Receipt) {
	for k, sum := range r.Sums {
		s := &receipt.Sources[k]
		if s.SHA256, s.Records = sum, r.Each[k]; len(r.Sums) > 1 {
			s.Skipped = r.SkipsOf(k)
		}
	}
}

// expected makes sure that the sources are what the plan expects.
func (r *run) expected() error {
	return r.job.Expected(&rows.Check{Records: r.Records, Skipped: r.Skips(), Tally: r.Total}, r.Fate())
}

// Expected is the error of a load whose sources are not what the plan expects; nil: they
// are.
func (j *Job) Expected(c *rows.Check, fate string) error {
	e := j.Plan.Expect
	if e == nil {
		return nil
	}
	f := plan.Found{Files: len(j.Sources), Rejected: c.Records.Rejected,
		Records: c.Records.Loaded + c.Records.Rejected, Nulls: func(column string) int64 {
			for i, d := range j.Plan.Definition().Columns {
				if d.Name == column {
					return c.Tally[i].Nulls
				}
			}
			return -1
		}}
	for _, s := range c.Skipped {
		if s.Kind == tray.SkipKnown || s.Kind == tray.SkipSuperseded {
			f.Records += s.Count
		}
	}
	if unmet := e.Unmet(f); len(unmet) > 0 {
		return &Unexpected{unmet, fate}
	}
	return nil
}

// UnmetRules are the conditions of a plan that records do not meet which are loaded, as
// cautions.
func UnmetRules(p *plan.Plan, unmet []rows.Unmet) (out []profile.Finding) {
	for i, u := range unmet {
		if u.Count > 0 {
			out = append(out, profile.Finding{Weight: profile.Caution, Code: profile.CodeUnmet, Count: u.Count,
				Text:     fmt.Sprintf("%s: %s", phrase.Count(u.Count, "record"), p.Rules[i].Say),
				Examples: []profile.Example{{Line: u.Line}}})
		}
	}
	return out
}

// Limited is the error of a load that would reject too many of its records, by
// their share or, with MaxLeast, because they are all; nil: it may go on.
func (j *Job) Limited(c *rows.Check) error {
	return j.limited(c.Records, c.Reasons, "a load would end so")
}

func (j *Job) limited(r tray.Records, reasons []tray.Reason, fate string) error {
	all := j.MaxLeast > 0 && r.Rejected > 0 && r.Loaded == 0
	share := j.MaxShare > 0 && r.Rejected > j.MaxLeast && float64(r.Rejected) > j.MaxShare*float64(r.Read)
	if !all && !share {
		return nil
	}
	most := max(int64(j.MaxShare*float64(r.Read)), j.MaxLeast)
	return &rows.TooManyRejects{Limit: most, Of: r, Reasons: reasons, Fate: fate}
}

// commitIn is how long the answer to a commit is waited for. Tests shorten it.
var commitIn = 10 * time.Minute

var errNoAnswer = errors.New("the database did not answer in time")

// commit commits, with what the caller wants to be done just before.
func (r *run) commit(ctx context.Context) error {
	if err := fault.At(ctx, fault.BeforeCommit); err != nil {
		return err
	}
	if m, is := r.load.(db.Marked); is && r.job.Receipt.Commits == 0 {
		var err error
		if r.job.Receipt.Mark, err = m.Mark(ctx); err != nil {
			return err
		}
	}
	if r.job.BeforeCommit != nil {
		if err := r.job.BeforeCommit(); err != nil {
			return err
		}
	}
	r.Report("committing")
	if err := fault.At(ctx, fault.AtCommit); err != nil {
		return err
	}
	defer r.waiting(ctx, "the table "+r.job.Spec.Home().Table)()
	ctx, cancel := context.WithTimeoutCause(ctx, commitIn, errNoAnswer)
	defer cancel()
	err := func() (err error) {
		defer fault.Recovered(&err)
		return r.load.Commit(ctx)
	}()
	if err != nil && context.Cause(ctx) == errNoAnswer {
		err = fmt.Errorf("%w: %w", err, errNoAnswer)
	}
	var own *fault.Panic
	if errors.As(err, &own) {
		return &db.Unsure{Err: err} // before the commit or behind it
	}
	return err
}

// waiting tells, unless what it returns is called soon, that another session has to
// be waited for, and which.
func (r *run) waiting(ctx context.Context, what string) (done func()) {
	if r.job.Waits == nil {
		return func() {}
	}
	return db.Watch(ctx, r.job.Session, func(w db.Wait) { r.job.Waits(what, w) })
}

// committed does what the caller wants to be done when the commit has come to
// be.
func (r *run) committed(ctx context.Context) (err error) {
	defer fault.Recovered(&err)
	if err := fault.At(ctx, fault.AfterCommit); err != nil {
		return err
	}
	if r.job.AfterCommit == nil {
		return nil
	}
	if err := fault.At(ctx, fault.AtReceipt); err != nil {
		return err
	}
	if err := r.job.AfterCommit(); err != nil {
		return err
	}
	if m, is := r.load.(db.Marked); is {
		m.Unmark(ctx)
	}
	return nil
}

// A Committed error is what failed when the rows were committed and verified
// already: they stay.
type Committed struct{ Err error }

func (e *Committed) Error() string {
	return "the load is committed and verified, but its receipt could not be written: " + e.Err.Error()
}

func (e *Committed) Unwrap() error { return e.Err }

// fill brings all rows in, and takes those out again that the database finds to
// be wrong at the end.
func (r *run) fill(ctx context.Context) error {
	if err := r.Read(ctx); err != nil {
		return err
	}
	if !r.steps.met {
		return fmt.Errorf("%s: %w: it ends before the place where the load stopped; %s",
			r.Sources[r.job.Going.At.Source].Name, ErrNotTheSame, r.Fate())
	}
	if err := r.steps.shares.all(r); err != nil {
		return err
	}
	if f, is := r.load.(db.Finisher); is {
		r.Report("finishing")
		refusals, err := f.Finish(ctx)
		if err != nil {
			return err
		}
		if err := r.takeBack(ctx, refusals); err != nil {
			return err
		}
	}
	if r.merge != nil {
		refusals, err := r.merge.settle(ctx)
		if err != nil {
			return err
		}
		if err := r.takeBack(ctx, refusals); err != nil {
			return err
		}
	}
	if a, is := r.load.(db.Attacher); is && len(r.job.Spec.Again) > 0 {
		if err := a.Attach(ctx); err != nil {
			return err
		}
	}
	if k, is := r.load.(db.Keeper); is && len(r.job.Spec.Referrers) > 0 {
		return k.KeepsKeys(ctx)
	}
	return nil
}

// takeBack makes rejects of rows that were found to be wrong when all were in.
func (r *run) takeBack(ctx context.Context, refusals []sink.Refusal) error {
	if len(refusals) == 0 {
		return nil
	}
	_, summed := r.load.(db.Checker)
	return r.TakeBack(ctx, refusals, summed)
}

// verify compares what was read with what the table holds, and fills in the
// receipt.
func (r *run) verify(ctx context.Context) error {
	receipt := r.job.Receipt
	hold := r.held
	if r.merge != nil {
		hold = r.merge.held
	}
	rows, held, differences, err := hold(ctx)
	if err != nil {
		return err
	}
	receipt.Records = r.Records
	receipt.Skipped = r.Skips()
	receipt.Reasons = r.Reasons()
	receipt.Cautions = append(receipt.Cautions, UnmetRules(r.job.Plan, r.Unmet)...)
	receipt.Table.Rows = rows
	if !r.Records.Balanced() {
		differences = append(differences,
			fmt.Sprintf("%d records read, but %d loaded + %d rejected + %d skipped", r.Records.Read, r.Records.Loaded,
				r.Records.Rejected, r.Records.Skipped))
	}
	if n := r.Rejects.Kept(); n != r.Records.Rejected {
		differences = append(differences,
			fmt.Sprintf("%d records rejected, but %d in the rejects file", r.Records.Rejected, n))
	}
	before := r.restRows()
	if rows-before != r.Records.Loaded {
		differences = append(differences,
			fmt.Sprintf("%d records loaded, but the table has %d rows, and had %d before", r.Records.Loaded, rows,
				before))
	}
	differences = append(differences, r.compare(held)...)
	if len(differences) > 0 {
		receipt.Differences = differences
		for _, d := range differences {
			r.job.Log.Error("does not add up", "difference", d)
		}
		return &Unbalanced{differences, r.Fate()}
	}
	receipt.Verdict = tray.Clear
	if r.Records.Rejected > 0 {
		receipt.Verdict = tray.Waiting
	}
	r.job.Log.Info("verified", "rows", rows, "columns", len(held))
	return nil
}

// compare puts what was read beside what the table holds, column by column,
// into the receipt, and lists what differs.
func (r *run) compare(held []tally.Tally) (differences []string) {
	receipt := r.job.Receipt
	columns := r.job.Spec.Table.Columns
	receipt.Columns = nil
	for i := range r.Total {
		t := &r.Total[i]
		c := tray.Verified{Name: columns[i].Name, Type: t.Type.String(), Facts: tray.FactsOf(t),
			Emptied: t.Emptied}
		c.Loose = held[i].Loose
		expected := *t
		expected.Loose = held[i].Loose
		if r.before != nil {
			// What was there and what was read together are what is there now.
			c.Before = r.wasBefore(i)
			expected = merged(&r.before[i], t)
			held := tray.FactsOf(&held[i])
			c.Held = &held
		}
		c.Differences = expected.Differs(&held[i])
		if held[i].Loose && r.typed != nil && r.typed[i] && !t.Loose && staysTyped(t.Type) {
			c.Differences = append(c.Differences, "the table has a value that is not of its type, and none was loaded")
		}
		if r.Likes != nil {
			c.Habit = tray.HabitOf(&r.Likes[i])
		}
		c.Agrees = len(c.Differences) == 0
		for _, d := range c.Differences {
			differences = append(differences, "column "+c.Name+": "+d)
		}
		receipt.Columns = append(receipt.Columns, c)
	}
	return differences
}

// wasBefore is what the table held in a column before the load.
func (r *run) wasBefore(i int) *tray.Facts {
	if r.merge != nil && !r.merge.OnlyNew {
		return r.merge.wasBefore(i)
	}
	f := tray.FactsOf(&r.before[i])
	return &f
}

// staysTyped reports whether values of a type are of it in any table that takes them:
// texts may be numbers in a column that makes them of what looks like one, and decimals
// that no double has may be either.
func staysTyped(t sqltype.Type) bool {
	return !t.IsText() && !(t.Kind == sqltype.Decimal && t.Precision > 15)
}

// held tells what the table holds of each column. Where the checksums of all
// rows and the sums of all columns are those of what was read, it holds that;
// else the table is tallied, which tells what differs.
func (r *run) held(ctx context.Context) (rows int64, columns []tally.Tally, differences []string, err error) {
	if c, is := r.load.(db.Checker); is && r.before == nil {
		checks, err := c.Check(ctx)
		if err != nil {
			return 0, nil, nil, err
		}
		if checks != nil && r.agree(checks) {
			r.job.Receipt.Table.Checksums = true
			return checks.Rows, r.Total, nil, nil
		}
		if checks != nil {
			r.job.Log.Warn("checksums differ", "read", r.Checksum, "table", checks.Sum, "rows", checks.Rows)
			differences = append(differences,
				"the checksums of the rows: those of what was read are not those of what the table holds")
		}
	}
	rows, columns, err = r.load.Tally(ctx)
	return rows, columns, differences, err
}

// agree reports whether checks are those of what was read.
func (r *run) agree(c *db.Checks) bool {
	for i, n := range c.Totals {
		if n != nil && n.Cmp(r.Total[i].Total()) != 0 {
			return false
		}
	}
	return c.Rows == r.Records.Loaded && c.Sum == r.Checksum
}

// Started fills in what a receipt says of the run itself.
func Started(entry string, sources []*source.Source, database, version string, at time.Time) *tray.Receipt {
	r := &tray.Receipt{Entry: entry, Database: database, Verdict: tray.Failed,
		Started: at.UTC().Truncate(time.Millisecond), Version: version}
	for _, src := range sources {
		whole, err := filepath.Abs(src.Path)
		if err != nil {
			whole = src.Path
		}
		r.Sources = append(r.Sources, tray.Source{Path: src.Path, File: whole, Part: src.Part(), Size: src.FileSize})
	}
	return r
}
