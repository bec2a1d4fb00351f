package desk

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"time"

	"ambertray/internal/account"
	"ambertray/internal/db"
	"ambertray/internal/db/connect"
	"ambertray/internal/fault"
	"ambertray/internal/load"
	"ambertray/internal/phrase"
	"ambertray/internal/reading"
	"ambertray/internal/rows"
	"ambertray/internal/source"
	"ambertray/internal/tray"
)

// How a load runs, with the papers around it.

// run loads with the papers around it.
func (l *loading) run(ctx context.Context) error {
	r, in, job := l.req, l.in, &l.job
	before, err := l.entriesOf(r.Into.URL)
	if err != nil {
		return err
	}
	replaces := l.found != nil && r.Mode != db.Append && r.Mode != db.Merge
	start := time.Now()
	entry, closeLog, err := l.entry(start)
	if err != nil {
		return err
	}
	defer closeLog()
	if err := l.writePapers(entry); err != nil {
		return err
	}
	receipt := job.Receipt
	if r.KeepOld && replaces {
		job.Old, job.Spec.Keep = l.found, l.conn.Dialect().KeepName(entry.Name)
	}
	if r.Every > 0 {
		stops := l.stops()
		job.Spec.Steps = stops.Load
		if err := entry.WriteStops(stops); err != nil {
			return err
		}
	}
	l.hooks(ctx, entry, before)
	l.answer.Entry = entry
	if err := l.carryOut(ctx, entry, in, job, l.answer); err != nil {
		if receipt.Verdict == tray.Failed {
			entry.DropBefore()
		}
		return err
	}
	l.answer.Took = time.Since(start)
	l.toldSince()
	l.toldOffers()
	if replaces {
		l.wereIn(before, receipt, in.Plan, l.found)
	}
	return nil
}

// entry makes the entry of a load: its log with what was decided, and the beginning of its receipt.
func (l *loading) entry(start time.Time) (*tray.Entry, func() error, error) {
	r, in, job := l.req, l.in, &l.job
	entry, err := tray.Create(l.Tray, in.Plan.Table.Name, start)
	if err != nil {
		return nil, nil, err
	}
	logFile, err := entry.Log()
	if err != nil {
		return nil, nil, err
	}
	job.Log = slog.New(slog.NewMultiHandler(l.Log.Handler(), l.logOf(logFile)))
	job.Log.Info("load", "version", l.Version, "source", in.First().Name, "into", l.answer.Into, "mode", r.Mode,
		"table", in.Plan.Table.Name, "entry", entry.Name)
	for _, d := range l.decided {
		job.Log.Info("decided", "what", d)
	}
	for _, c := range l.cautions {
		job.Log.Warn("caution", "code", c.Code, "column", c.Column, "text", c.Text)
	}
	if len(l.known) > 0 {
		job.Log.Info("in the table already", "files", l.known)
	}
	receipt := load.Started(entry.Name, in.Sources, connect.Canonical(r.Into.URL), l.Version, start)
	receipt.Table = tray.Table{Schema: job.Plan.Table.Schema, Name: job.Plan.Table.Name, Mode: string(r.Mode),
		Key: l.keyColumns()}
	receipt.Decided, receipt.Cautions, receipt.Connection = l.decided, l.cautions, l.connection
	job.Receipt = receipt
	return entry, logFile.Close, nil
}

// refused keeps the papers of a load that ends before its first row, for whoever is to find out
// why: nobody may have seen what was said.
func (l *loading) refused(why error) error {
	if l.req.DryRun {
		return why
	}
	entry, closeLog, err := l.entry(time.Now())
	if err != nil {
		return errors.Join(why, err)
	}
	defer closeLog()
	b, err := l.planAsRun()
	if err == nil {
		err = entry.Write(tray.PlanFile, b)
	}
	receipt := l.job.Receipt
	receipt.Verdict, receipt.Error, receipt.Finished = tray.Failed, why.Error(), now()
	l.job.Log.Error("failed", "error", why)
	if err = cmp.Or(err, entry.WriteReceipt(receipt)); err != nil {
		return errors.Join(why, err)
	}
	l.answer.Entry, l.answer.Receipt = entry, receipt
	return fmt.Errorf("%w\n  the papers are in %s", why, entry.Dir)
}

// hooks are what the load does when it has begun, and before it commits.
func (l *loading) hooks(ctx context.Context, entry *tray.Entry, before []tray.Summary) {
	r, in, job := l.req, l.in, &l.job
	if job.Merge != nil {
		job.Merge.Mind = l.mindBefore
		job.Merge.Keep = func(ctx context.Context, query string, columns []db.Column) error {
			return l.keepBefore(ctx, entry, query, columns)
		}
	}
	if r.Mode == db.Append && !r.Again && !r.OnlyNew {
		job.Begun = func() error { return l.loadedMeanwhile(ctx) }
		if slices.ContainsFunc(in.Sources, (*source.Source).Flows) {
			l.answer.again = func() error { return l.notAgain(ctx) }
			job.BeforeCommit = l.answer.again
		}
	}
	check := job.BeforeCommit
	job.BeforeCommit = func() error {
		if check != nil {
			if err := check(); err != nil {
				return err
			}
		}
		if err := l.mindDeletes(ctx); err != nil {
			return err
		}
		if r.Mode == db.Append && !r.Again && !r.OnlyNew {
			if err := l.sameRows(before); err != nil {
				return err
			}
		}
		if err := l.since(ctx, lastOf(before, l.job.Receipt, l.schemas())); err != nil || l.answer.set != nil {
			return err
		}
		offer(ctx, l.conn, l)
		return nil
	}
	job.Landed = func(t db.Name) { l.landed = t }
}

// planAsRun is the text of the plan, as it will be run.
func (l *loading) planAsRun() ([]byte, error) {
	job, in := &l.job, l.in
	comments := in.Comments
	if job.Plan != in.Plan {
		comments = comments.Moved(in.Plan, job.Plan)
	}
	if in.Given || job.Plan != in.Plan {
		comments.Head = "Amber Tray plan, as it was run"
	}
	return job.Plan.Encode(comments)
}

// writePapers puts plan and definition on the tray, as they will be run.
func (l *loading) writePapers(e *tray.Entry) error {
	job := &l.job
	b, err := l.planAsRun()
	if err != nil {
		return err
	}
	if err := e.Write(tray.PlanFile, b); err != nil {
		return err
	}
	if !job.Spec.Mode.New() || job.Spec.Like != nil {
		return nil // the definition is the table's own
	}
	return e.Write(tray.TableFile, []byte(joined(l.conn.Dialect().Create(job.Spec.Table))))
}

// stops is what it takes to go on with the load.
func (l *loading) stops() *tray.Stops {
	var r [6]byte
	rand.Read(r[:])
	job := &l.job
	x := job.Receipt
	var like db.Name
	if job.Spec.Like != nil {
		like = *job.Spec.Like
	}
	var names, stamps []string
	for _, s := range job.Sources {
		names, stamps = append(names, s.Name), append(stamps, s.Stamp())
	}
	return &tray.Stops{Names: names, Stamps: stamps, Load: x.Entry + "-" + hex.EncodeToString(r[:]),
		Database: x.Database, Table: x.Table, Sources: x.Sources,
		Like: like.Table, LikeSchema: like.Schema, Every: job.Every, MaxRejects: job.MaxRejects, MaxShare: job.MaxShare,
		MaxLeast:  job.MaxLeast,
		MaxRecord: job.Sources[0].MaxRecord, MaxUnpacked: l.req.Known.MaxUnpacked, SlowPath: job.Spec.SlowPath,
		Started: x.Started, Decided: x.Decided, Cautions: x.Cautions}
}

// prove compares every value of a load before it commits.
func (d *Desk) prove(ctx context.Context, e *tray.Entry, job *load.Job, table db.Name,
	progress func(rows.Progress)) error {
	x, err := account.Prove(ctx, account.Proof{Entry: e, Receipt: job.Receipt, Plan: job.Plan, Sources: job.Sources,
		Session: job.Session, Table: table}, func(stage string, n int64) {
		progress(rows.Progress{Stage: "proving: " + stage, Records: n})
	})
	if err != nil {
		return err
	}
	job.Receipt.Table.Proved = x.Same()
	for _, u := range x.Left {
		job.Receipt.Table.NotProved = append(job.Receipt.Table.NotProved, u.Column)
	}
	if x.Same() {
		return nil
	}
	var all []string
	pairs, missing, extra := x.Pairs(x.Key)
	for _, p := range pairs[:min(len(pairs), 5)] {
		for k, c := range p.Columns {
			all = append(all, fmt.Sprintf("%s, %s: %s in the source, %s in the table", x.Place(p.Row), x.Columns[c],
				shown(p.Values[c]), shown(p.Table[k])))
		}
	}
	for _, r := range missing[:min(len(missing), 5)] {
		all = append(all, x.Place(r)+": is not in the table as it is in the source")
	}
	if n := len(extra); n > 0 {
		all = append(all, "the table has "+phrase.Count(int64(n), "row")+" that the source has not")
	}
	return &load.Unbalanced{Differences: all, Fate: "nothing was committed"}
}

// shown is a value in a message.
func shown(v *string) string {
	if v == nil {
		return "null"
	}
	return "'" + reading.Shorten(*v, 40) + "'"
}

// showsWait tells what is waited for, on the line of progress if there is one.
func (d *Desk) showsWait(m Meter, what string, w db.Wait, at DatabaseRequest) {
	switch {
	case m.Shown() && w.Silent > 0:
		m.Set(rows.Progress{Stage: fmt.Sprintf("no answer of the database for %s", w.Silent)})
	case m.Shown():
		m.Set(rows.Progress{Stage: "waiting for " + cmp.Or(w.Who, "another session")})
	default:
		d.waits(what, w, at)
	}
}

// carryOut runs a load whose papers are begun. Without an error, all is
// committed, and the receipt is settled; with one, the receipt says so.
func (d *Desk) carryOut(ctx context.Context, entry *tray.Entry, in *Opened, job *load.Job, answer *LoadAnswer) error {
	receipt := job.Receipt
	m := d.meter(ctx, "loading", in.Size())
	job.Entry, job.At = cmp.Or(job.Entry, receipt.Entry), receipt.Started
	rejects := entry.Rejects(job.Plan.Headers(in.Sources))
	if slices.ContainsFunc(in.Sources, (*source.Source).HasCells) {
		rejects.Cells()
	}
	job.Rejects = rejects
	job.Progress = m.Set
	job.Waits = func(what string, w db.Wait) { d.showsWait(m, what, w, answer.at) }
	job.Says = func(text string) { d.tell(NoteEvent{text}) }
	if answer.prove {
		job.Prove = func(ctx context.Context, table db.Name) error { return d.prove(ctx, entry, job, table, m.Set) }
	}
	check := job.BeforeCommit
	job.BeforeCommit = func() error {
		if check != nil {
			if err := check(); err != nil {
				return err
			}
		}
		receipt.Finished = now()
		return entry.PrepareReceipt(receipt)
	}
	job.AfterCommit = func() error { return entry.Settle(tray.ReceiptFile) }
	if answer.set != nil {
		job.Together, job.AfterCommit = true, func() error { return nil } // see loadSet
	}
	err := func() (err error) {
		defer fault.Recovered(&err)
		return load.Run(ctx, *job)
	}()
	m.End()
	answer.Receipt = receipt
	var stays *load.Committed
	if err == nil || errors.As(err, &stays) {
		return err
	}
	if db.IsUnsure(err) {
		return d.ask(ctx, entry, job, answer, err)
	}
	var unmet *load.Unexpected
	if errors.As(err, &unmet) {
		err = &Need{err}
	}
	var many *rows.TooManyRejects
	if errors.As(err, &many) && many.Of.Read > 0 && answer.again != nil {
		// Why so many are rejected may be that all of them are in the table.
		err = cmp.Or(answer.again(), err)
	}
	if many != nil && receipt.Table.Mode == string(db.Append) && job.Merge == nil && len(many.Reasons) > 0 &&
		!slices.ContainsFunc(many.Reasons, func(r tray.Reason) bool { return r.Code != tray.Refused }) {
		err = fmt.Errorf("%w\n  where they are in the table already: --only-new adds the others, --mode merge changes "+
			"them", err)
	}
	if ctx.Err() != nil {
		err = &Stopped{"nothing was committed"}
		if receipt.Commits > 0 {
			err = &Stopped{"what had been committed on the way stays in the table"}
		}
	}
	receipt.Finished = now()
	receipt.Verdict, receipt.Error = tray.Failed, err.Error()
	if receipt.Commits > 0 {
		receipt.Verdict = tray.Halted
	}
	job.Log.Error("failed", "error", err)
	if receipt.Commits > 0 {
		return fmt.Errorf("%w\n  the papers are in %s; when the cause is mended, go on with: ambertray resume %s", err,
			entry.Dir, entry.Name)
	}
	if err2 := entry.WriteReceipt(receipt); err2 != nil {
		job.Log.Error("the receipt could not be written", "error", err2)
	}
	return fmt.Errorf("%w\n  the papers are in %s", err, entry.Dir)
}
