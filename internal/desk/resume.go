package desk

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"time"

	"ambertray/internal/account"
	"ambertray/internal/db"
	"ambertray/internal/db/connect"
	"ambertray/internal/load"
	"ambertray/internal/phrase"
	"ambertray/internal/rows"
	"ambertray/internal/source"
	"ambertray/internal/tray"
)

// A ResumeRequest goes on with a load that was stopped between its commits.
type ResumeRequest struct {
	Entry string
	// Files are the sources, where they are not where they were.
	Files []string
	At    DatabaseRequest
	// Limit is another one than the load had, or nil.
	Limit *RejectLimit
}

// A GoingOnEvent tells how far the load was.
type GoingOnEvent struct {
	Entry string
	Done  tray.Records
}

func (GoingOnEvent) event() {}

// Resume goes on with a load. The answer is there also with an error, where it
// tells something.
func (d *Desk) Resume(ctx context.Context, r ResumeRequest) (*LoadAnswer, error) {
	answer := &LoadAnswer{}
	e, err := d.entry(r.Entry)
	if err != nil {
		return answer, err
	}
	defer e.close()
	if err := d.claim(e); err != nil {
		return answer, err
	}
	stops, err := e.Stops()
	switch {
	case err != nil:
		return answer, err
	case e.Receipt != nil && e.Receipt.Verdict == tray.Failed:
		return answer, need("%s: the load failed and changed nothing: %s\n  load again", e.Name, e.Receipt.Error)
	case e.Receipt != nil:
		return answer, need("%s: the load is done; there is nothing to go on with", e.Name)
	case stops == nil:
		return answer,
			need("%s: the load was cut off before its only commit, and changed nothing\n  "+
				"load again; with --commit-every, a load can be resumed", e.Name)
	}
	r.At.URL = cmp.Or(r.At.URL, stops.Database)
	answer.Into, answer.Entry, answer.at = connect.Redact(r.At.URL), e.Entry, r.At
	if e.conn, err = d.connect(ctx, r.At, toLoad); err != nil {
		return answer, err
	}
	if err := d.hold(ctx, e.conn, db.Name{Schema: stops.Table.Schema, Table: stops.Table.Name}, r.At); err != nil {
		return answer, err
	}
	started := time.Now()
	done, err := d.wasDone(ctx, e)
	if err != nil {
		return answer, err
	}
	if done {
		answer.Receipt, answer.Took = e.Receipt, time.Since(started)
		return answer, nil
	}
	in, job, err := d.stoppedJob(ctx, e, stops, &r)
	if err != nil {
		return answer, err
	}
	var so tray.Records
	if job.Going != nil {
		so = job.Going.At.Records
	}
	e.log.Info("resumed", "version", d.Version, "read", so.Read, "loaded", so.Loaded)
	d.tell(GoingOnEvent{e.Name, so})
	if err := d.carryOut(ctx, e.Entry, in, job, answer); err != nil {
		return answer, err
	}
	answer.Took = time.Since(started)
	return answer, nil
}

// wasDone settles a load that was ended at its last commit, and reports whether
// it is done.
func (d *Desk) wasDone(ctx context.Context, e *Entry) (bool, error) {
	pending, err := e.Pending()
	if err != nil || pending == nil {
		return false, err
	}
	err = account.Resolve(ctx, e.Entry, e.Plan, e.conn)
	var other *load.SharedDone
	if errors.Is(err, load.ErrStopped) || errors.As(err, &other) {
		if err2 := e.Drop(); err2 != nil || other == nil {
			return false, err2
		}
	}
	if err != nil {
		return false, fmt.Errorf("%s: %w", e.Name, err)
	}
	if e.Receipt, err = e.Entry.Receipt(); err != nil {
		return false, err
	}
	if e.Receipt.Verdict == tray.Failed {
		return false, need("%s: %s\n  load again", e.Name, e.Receipt.Error)
	}
	e.log.Info("settled what the program left undecided", "verdict", e.Receipt.Verdict)
	return true, nil
}

// stoppedJob is the load as it was, to be gone on with.
func (d *Desk) stoppedJob(ctx context.Context, e *Entry, stops *tray.Stops,
	r *ResumeRequest) (*Opened, *load.Job, error) {
	going, err := load.NotesOf(ctx, e.conn, stops.Table.Schema, stops.Load)
	if err != nil {
		return nil, nil, err
	}
	if going != nil && going.Done != nil {
		return nil, nil, going.Done
	}
	if stops.Shared && going == nil {
		return nil, nil, fmt.Errorf("%s: the load is done, or its notes in %s were removed", e.Name, db.NotesTable)
	}
	in, job, err := d.jobOf(ctx, e, stops, r.Files)
	if err != nil {
		return nil, nil, err
	}
	if job.Going, job.Spec.Going = going, going != nil; stops.Shared {
		job.Spec.Noted = going.Steps + 1 // and the first, which is no step
		job.Spec.Leaves = (&load.SharedDone{Entry: e.Name, Ends: stops.Ends, By: whoami(), At: now()}).Note()
	}
	if r.Limit != nil {
		job.MaxRejects, job.MaxShare, job.MaxLeast = r.Limit.Count, r.Limit.Share, r.Limit.Least
	}
	if _, job.Ledger, err = ledgerOf(ctx, e.conn, stops.Table.Schema); err != nil {
		return nil, nil, err
	}
	job.By = whoami()
	job.Receipt = load.Started(e.Name, in.Sources, stops.Database, d.Version, stops.Started)
	job.Receipt.Table, job.Receipt.Decided, job.Receipt.Cautions = stops.Table, stops.Decided, stops.Cautions
	p, err := protection(ctx, e.conn)
	if err != nil {
		return nil, nil, err
	}
	if p != nil {
		job.Receipt.Connection = p.String()
	}
	return in, job, nil
}

// jobOf is the work of a load that commits on its way, but for how far it is.
func (d *Desk) jobOf(ctx context.Context, e *Entry, stops *tray.Stops, files []string) (*Opened, *load.Job, error) {
	in, err := d.stoppedSources(ctx, e, stops, files)
	if err != nil {
		return nil, nil, err
	}
	job := &load.Job{Job: rows.Job{Sources: in.Sources, Plan: e.Plan, MaxRejects: stops.MaxRejects, Entry: stops.As,
		At: stops.Started}, Session: e.conn,
		Log:      e.log,
		MaxShare: stops.MaxShare, MaxLeast: stops.MaxLeast, Every: stops.Every}
	def := e.Plan.Definition()
	def.Schema, def.Name = stops.Table.Schema, stops.Table.Name
	job.Spec = db.Spec{Mode: db.Mode(stops.Table.Mode), Table: def, SlowPath: stops.SlowPath, Steps: stops.Load}
	if stops.Like != "" {
		job.Spec.Like = &db.Name{Schema: stops.LikeSchema, Table: stops.Like}
	}
	return in, job, nil
}

// stoppedSources opens the sources of a load again, as its plan has them.
func (d *Desk) stoppedSources(ctx context.Context, e *Entry, stops *tray.Stops, files []string) (*Opened, error) {
	if len(files) > 0 && len(files) != len(stops.Sources) {
		return nil, need("%s: the load has %s; name each of them, or none", e.Name,
			phrase.Count(int64(len(stops.Sources)), "source"))
	}
	if len(e.Plan.Sources) != len(stops.Sources) || len(stops.Names) != len(stops.Sources) {
		return nil, fmt.Errorf("%s: the plan has %d sources, the load %d\n  restore the plan of the entry", e.Name,
			len(e.Plan.Sources), len(stops.Sources))
	}
	o := &Opened{Plan: e.Plan, Given: true}
	for i, s := range stops.Sources {
		if s.Path == source.Stdin && len(files) == 0 {
			return nil,
				need("%s: the load had read standard input\n  send the same once more: … | ambertray resume %s -",
					e.Name, e.Name)
		}
		known := e.Plan.Known(&e.Plan.Sources[i])
		known.MaxRecord, known.Stdin, known.Once = stops.MaxRecord, d.Stdin, true
		known.MaxUnpacked, known.Idle = stops.MaxUnpacked, source.DefaultIdle
		src, err := source.Open(ctx, placeOf(s, files, i), known)
		if err != nil {
			return nil, err
		}
		src.Name = stops.Names[i]
		if err := sameAsBegun(e.Name, src, s, stops, i, len(files) > 0); err != nil {
			src.Close()
			return nil, err
		}
		o.Sources = append(o.Sources, src)
	}
	d.opened = append(d.opened, o.Sources...)
	return o, nil
}

// sameAsBegun refuses a source that is not as it was when the load began: of what is
// behind the last note, nobody could tell otherwise. A file that a person names may have
// been copied.
func sameAsBegun(entry string, src *source.Source, was tray.Source, stops *tray.Stops, i int, named bool) error {
	if was.Size > 0 && src.FileSize != was.Size && !src.Flows() {
		return need("%s: it has %s now, and had %s when the load began\n  "+
			"name the file as it was: ambertray resume %s FILE", src.Name, phrase.Count(src.FileSize, "byte"),
			phrase.Count(was.Size, "byte"), entry)
	}
	if named || i >= len(stops.Stamps) || stops.Stamps[i] == "" || stops.Stamps[i] == src.Stamp() {
		return nil
	}
	again := "ambertray resume " + entry
	for _, x := range stops.Sources {
		again += " " + phrase.ShellWord(x.Path)
	}
	return need("%s: it has been written to, copied or replaced since the load began, and what is behind the rows "+
		"that are in may be other\n  if it is the same, name it: %s", src.Name, again)
}

// placeOf is where the i-th source is now.
func placeOf(s tray.Source, files []string, i int) string {
	if len(files) > 0 {
		return files[i]
	}
	if _, err := os.Stat(s.Path); err != nil && !source.IsLink(s.Path) && s.File != "" {
		return s.File
	}
	return s.Path
}
