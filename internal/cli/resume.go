package cli

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"time"

	"github.com/spf13/cobra"

	"ambertray/internal/db"
	"ambertray/internal/db/connect"
	"ambertray/internal/load"
	"ambertray/internal/source"
	"ambertray/internal/tray"
)

type resumeFlags struct {
	entryFlags
	maxRejects string
}

func (a *app) resumeCommand() *cobra.Command {
	var f resumeFlags
	cmd := &cobra.Command{
		Use:   "resume ENTRY [FILE…]",
		Short: "Go on with a load that was stopped between its commits",
		Long: `Goes on with a load with --commit-every that failed or was stopped. The
database tells how far it was, since that is noted with every commit. The files
are read from their beginnings again, and have to be the same; the records that
are in the table are counted, and those behind them loaded. So none is lost, and
none is loaded twice. Then all is verified as in any load.

FILE names the sources again where they are not where they were, and - where it
was standard input.`,
		Example: `  ambertray resume latest
  ambertray resume huge-20251204-101500
  zcat huge.gz | ambertray resume huge-20251204-101500 -`,
		Args: args(1, -1, "an entry"),
		RunE: func(cmd *cobra.Command, args []string) error { return a.resume(cmd.Context(), args[0], args[1:], &f) },
	}
	f.add(cmd, true)
	cmd.Flags().StringVar(&f.maxRejects, "max-rejects", "", "another limit of rejected records than the load had, as a number or share")
	return cmd
}

// checkSteps refuses what cannot go with commits on the way.
func (f *loadFlags) checkSteps(mode db.Mode, limit rejects) error {
	switch {
	case f.every < 0:
		return asked("--commit-every %d: use a number of records", f.every)
	case f.every == 0:
		return nil
	case mode != db.Create && mode != db.Append:
		return asked("--commit-every: a table cannot be emptied or replaced step by step\n  load with --mode create under another name and rename, or empty the table and say --mode append")
	case limit.count == 0:
		return asked("--commit-every: --max-rejects 0 means all or nothing, which a load that commits on its way cannot keep\n  leave out one of them")
	}
	return nil
}

// stopsOf is what it takes to go on with a load.
func stopsOf(job *load.Job, f *loadFlags) *tray.Stops {
	var r [6]byte
	rand.Read(r[:])
	x := job.Receipt
	var like db.Name
	if job.Spec.Like != nil {
		like = *job.Spec.Like
	}
	var names []string
	for _, s := range job.Sources {
		names = append(names, s.Name)
	}
	return &tray.Stops{Names: names, Load: x.Entry + "-" + hex.EncodeToString(r[:]), Database: x.Database, Table: x.Table, Sources: x.Sources, Like: like.Table, LikeSchema: like.Schema,
		Every: f.every, MaxRejects: job.MaxRejects, MaxShare: job.MaxShare, MaxRecord: job.Sources[0].MaxRecord, MaxUnpacked: f.unpacked << 30, SlowPath: f.slowPath, Started: x.Started}
}

func (a *app) resume(ctx context.Context, name string, files []string, f *resumeFlags) error {
	o, err := a.entry(name, &f.entryFlags)
	if err != nil {
		return err
	}
	defer o.close()
	if err := a.claim(o); err != nil {
		return err
	}
	stops, err := o.Stops()
	switch {
	case err != nil:
		return err
	case o.receipt != nil && o.receipt.Verdict == tray.Failed:
		return asked("%s: the load failed and changed nothing: %s\n  load again", o.Name, o.receipt.Error)
	case o.receipt != nil:
		return asked("%s: the load is done; there is nothing to go on with", o.Name)
	case stops == nil:
		return asked("%s: the load was cut off before its only commit, and changed nothing\n  load again; with --commit-every, a load can be resumed", o.Name)
	}
	url := cmp.Or(f.into, stops.Database)
	if o.conn, err = a.connect(ctx, url, &f.databaseFlags); err != nil {
		return err
	}
	started := time.Now()
	if pending, err := o.Pending(); err != nil {
		return err
	} else if pending != nil {
		switch err := load.Resolve(ctx, o.Entry, o.plan, o.conn); {
		case errors.Is(err, load.ErrStopped):
			if err := o.Drop(); err != nil {
				return err
			}
		case err != nil:
			return fmt.Errorf("%s: %w", o.Name, err)
		default:
			if o.receipt, err = o.Receipt(); err != nil {
				return err
			}
			if o.receipt.Verdict == tray.Failed {
				return asked("%s: %s\n  load again", o.Name, o.receipt.Error)
			}
			o.log.Info("settled what the program left undecided", "verdict", o.receipt.Verdict)
			return a.told(o.receipt, o.Entry, connect.Redact(url), time.Since(started))
		}
	}
	going, err := load.NotesOf(ctx, o.conn, stops.Table.Schema, stops.Load)
	if err != nil {
		return err
	}
	in, err := a.stoppedSources(ctx, o, stops, files)
	if err != nil {
		return err
	}
	job := load.Job{Sources: in.sources, Plan: o.plan, Session: o.conn, Log: o.log, MaxRejects: stops.MaxRejects, MaxShare: stops.MaxShare, Every: stops.Every, Going: going}
	if f.maxRejects != "" {
		limit, err := rejectLimit(f.maxRejects)
		if err != nil {
			return err
		}
		job.MaxRejects, job.MaxShare = limit.count, limit.share
	}
	def := o.plan.Definition()
	def.Schema, def.Name = stops.Table.Schema, stops.Table.Name
	job.Spec = db.Spec{Mode: db.Mode(stops.Table.Mode), Table: def, SlowPath: stops.SlowPath, Steps: stops.Load, Going: going != nil}
	if stops.Like != "" {
		job.Spec.Like = &db.Name{Schema: stops.LikeSchema, Table: stops.Like}
	}
	job.Receipt = load.Started(o.Name, in.sources, stops.Database, a.version, stops.Started)
	job.Receipt.Table = stops.Table
	var done tray.Records
	if going != nil {
		done = going.At.Records
	}
	o.log.Info("resumed", "version", a.version, "read", done.Read, "loaded", done.Loaded)
	if !a.json {
		fmt.Fprintf(a.err, "%s: going on behind %s, %s of them in the table\n", o.Name, plural(done.Read, "record"), grouped(done.Loaded))
	}
	if err := a.carryOut(ctx, o.Entry, in, job); err != nil {
		return err
	}
	return a.told(job.Receipt, o.Entry, connect.Redact(url), time.Since(started))
}

// stoppedSources opens the sources of a load again, as its plan has them.
func (a *app) stoppedSources(ctx context.Context, o *opened, stops *tray.Stops, files []string) (*input, error) {
	if len(files) > 0 && len(files) != len(stops.Sources) {
		return nil, asked("%s: the load has %s; name each of them, or none", o.Name, plural(int64(len(stops.Sources)), "source"))
	}
	if len(o.plan.Sources) != len(stops.Sources) || len(stops.Names) != len(stops.Sources) {
		return nil, fmt.Errorf("%s: the plan has %d sources, the load %d\n  restore the plan of the entry", o.Name, len(o.plan.Sources), len(stops.Sources))
	}
	in := &input{plan: o.plan, given: true}
	for i, s := range stops.Sources {
		if s.Path == source.Stdin && len(files) == 0 {
			return nil, asked("%s: the load had read standard input\n  send the same once more: … | ambertray resume %s -", o.Name, o.Name)
		}
		known := o.plan.Sources[i].Known()
		known.MaxRecord, known.Stdin, known.Once = stops.MaxRecord, a.in, true
		known.MaxUnpacked, known.Idle = stops.MaxUnpacked, source.DefaultIdle
		src, err := source.Open(ctx, placeOf(s, files, i), known)
		if err != nil {
			return nil, err
		}
		src.Name = stops.Names[i]
		in.sources = append(in.sources, src)
	}
	in.source = in.sources[0]
	a.opened = append(a.opened, in.sources...)
	return in, nil
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
