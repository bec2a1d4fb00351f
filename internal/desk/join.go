package desk

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ambertray/internal/db"
	"ambertray/internal/db/connect"
	"ambertray/internal/load"
	"ambertray/internal/plan"
	"ambertray/internal/source"
	"ambertray/internal/tray"
)

// A SharedAnswer is what a program has done of a load that another has verified.
type SharedAnswer struct {
	Document
	Join string `json:"join"`
	// Steps are those that this program loaded, and Records what became of their records.
	Steps   int          `json:"steps"`
	Records tray.Records `json:"records"`
	// Verified is the entry of the program that has verified the load, on its own tray.
	Verified string `json:"verified"`
	Schema   string `json:"schema"`
	Table    string `json:"table"`
}

// A shared is what the program that begins a load says to those that join it.
type shared struct {
	Version string      `json:"version"`
	Plan    string      `json:"plan"`
	Stops   *tray.Stops `json:"stops"`
}

// pause is how long a program waits before it looks again what others do.
const pause = 500 * time.Millisecond

// A joiner is a session of a database in which programs can share loads.
type joiner interface {
	db.Session
	db.Joiner
}

// loadShared takes part in a load that several programs share: the first begins it, each takes
// steps, and one verifies it when all are in.
func (d *Desk) loadShared(ctx context.Context, r LoadRequest) (*LoadAnswer, error) {
	l := &loading{Desk: d, req: &r, answer: &LoadAnswer{Into: connect.Redact(r.Into.URL), at: r.Into}}
	defer func() {
		if l.conn != nil {
			l.conn.Close()
		}
	}()
	if err := l.checkShared(); err != nil {
		return l.answer, err
	}
	if err := l.open(ctx); err != nil {
		return l.answer, err
	}
	if slices.ContainsFunc(l.in.Sources, (*source.Source).Flows) {
		return l.answer, need("--join: each program reads the files from their beginnings, and a pipe can be read " +
			"once\n  write it to a file that all can read")
	}
	conn, err := d.connect(ctx, r.Into, toLoad)
	if err != nil {
		return l.answer, err
	}
	defer conn.Close()
	control, is := conn.(joiner)
	if !is {
		return l.answer, need("--join: %s takes a load from one program\n  leave it out", conn.Dialect().Title)
	}
	s := &load.Shared{Name: r.Join, Schema: l.in.Plan.Table.Schema, Control: control,
		By: fmt.Sprintf("%s (%d)", whoami(), os.Getpid())}
	say, err := l.joinOrBegin(ctx, s)
	var done *load.SharedDone
	if errors.As(err, &done) {
		return l.answer, need("--join %s: %w\n  nothing was loaded again; for another load choose another name, or "+
			"take away what has stayed of this one: DELETE FROM %s WHERE load_name = '%s'", r.Join, done,
			db.NotesTable, r.Join)
	}
	if err != nil {
		return l.answer, err
	}
	return l.answer, l.takePart(ctx, s, say)
}

// checkShared refuses what does not go with a load that programs share.
func (l *loading) checkShared() error {
	r := l.req
	if err := l.check(); err != nil {
		return err
	}
	switch {
	case r.Every == 0:
		return need("--join: say how large a step is that one program takes: --commit-every RECORDS")
	case r.DryRun:
		return need("--join: it goes without --dry-run")
	case len(r.Join) > 100:
		return need("--join: a name of at most 100 bytes")
	}
	return nil
}

// joinOrBegin is what the load begins with, whoever begins it.
func (l *loading) joinOrBegin(ctx context.Context, s *load.Shared) (*shared, error) {
	name := s.Name + " begins"
	for tries := 0; ; {
		say, err := s.Opening(ctx)
		taken := false
		if err == nil && say == nil {
			taken, err = s.Control.Take(ctx, s.Schema, name)
		}
		if taken {
			say, err = l.beginOnce(ctx, s)
			s.Control.GiveBack(context.WithoutCancel(ctx), s.Schema, name)
		}
		if err == nil && say != nil {
			return heard(say)
		}
		if err != nil || taken {
			tries++
		}
		if err != nil && (tries == mostBegun || !load.Clashed(err)) {
			return nil, err
		}
		if err := later(ctx, pause); err != nil {
			return nil, err
		}
	}
}

// mostBegun is how often a program begins a load that others begin as well.
const mostBegun = 20

// beginOnce begins the load, unless another has: in a cluster, through a server whose locks are its own.
func (l *loading) beginOnce(ctx context.Context, s *load.Shared) (json.RawMessage, error) {
	if say, err := s.Opening(ctx); err != nil || say != nil {
		return say, err
	}
	failed := l.beginShared(ctx, s)
	if failed != nil && l.conn != nil {
		l.conn.Close()
		l.conn = nil
	}
	if say, err := s.Opening(ctx); err != nil || say != nil {
		return say, err
	}
	return nil, failed
}

// free reports whether a load can begin with a table that was there: it is what a program left that began
// this load and ended, or has gone since, which is what a program does that begins it in vain.
func (l *loading) free(ctx context.Context) (bool, error) {
	j, is := l.conn.(db.Joiner)
	if !is {
		return false, nil
	}
	t := l.in.Plan.Table
	if left, err := j.Notebook(t.Schema, l.req.Join).Began(ctx); err != nil || left {
		return left, err
	}
	found, err := l.conn.Find(ctx, t.Schema, t.Name)
	return err == nil && found == nil, err
}

func heard(say json.RawMessage) (*shared, error) {
	x := &shared{}
	return x, json.Unmarshal(say, x)
}

func later(ctx context.Context, d time.Duration) error {
	if load.Pause(ctx, d) != nil {
		return &Stopped{"what had been committed on the way stays in the table"}
	}
	return nil
}

// beginShared makes the table, or looks at the one that is there, and leaves word for the others.
func (l *loading) beginShared(ctx context.Context, s *load.Shared) error {
	ready, err := l.ready(ctx)
	if err != nil {
		return err
	}
	if !ready {
		return need("--join: there is nothing to load")
	}
	job := &l.job
	job.Log = l.Log
	job.Receipt = load.Started(s.Name, l.in.Sources, connect.Canonical(l.req.Into.URL), l.Version, now())
	job.Receipt.Table = tray.Table{Schema: job.Plan.Table.Schema, Name: job.Plan.Table.Name, Mode: string(l.req.Mode)}
	job.Receipt.Decided, job.Receipt.Cautions = l.decided, l.cautions
	text, err := l.planAsRun()
	if err != nil {
		return err
	}
	x := shared{l.Version, string(text), l.stops()}
	x.Stops.Load, x.Stops.Shared = s.Name, true
	x.Stops.As = tray.NameOf(job.Plan.Table.Name, x.Stops.Started)
	say, err := json.Marshal(x)
	if err != nil {
		return err
	}
	if err := s.Begin(ctx, *job, say); err != nil {
		return err
	}
	err = l.conn.Close()
	l.conn = nil
	return err
}

// sameNames refuses files of other names, where rows have the names of their files.
func (x *shared) sameNames(paths []string) error {
	if !strings.Contains(x.Plan, "source.") || len(paths) != len(x.Stops.Sources) {
		return nil
	}
	for i, was := range x.Stops.Sources {
		if was.Path == paths[i] || !strings.Contains(x.Plan, "source.path") &&
			filepath.Base(was.Path) == filepath.Base(paths[i]) {
			continue
		}
		return need("--join %s: rows have the name of their file, and %s is %s for the program that began the load\n  "+
			"name it so", x.Stops.Load, paths[i], was.Path)
	}
	return nil
}

// takePart loads steps until all are in, and verifies the load if nobody else does.
func (l *loading) takePart(ctx context.Context, s *load.Shared, say *shared) error {
	if say.Version != l.Version {
		return need("--join %s: version %s of this program has begun it, and this is %s\n  use the same everywhere: "+
			"they may cut the files differently", s.Name, say.Version, l.Version)
	}
	p, err := plan.Parse([]byte(say.Plan))
	if err != nil {
		return fmt.Errorf("the plan of the load %s: %w", s.Name, err)
	}
	var paths []string
	for _, src := range l.in.Sources {
		paths = append(paths, src.Path)
	}
	if err := say.sameNames(paths); err != nil {
		return err
	}
	e := &Entry{Entry: &tray.Entry{Name: s.Name}, Plan: p, log: l.Log}
	if e.conn, err = l.connect(ctx, l.req.Into, toLoad); err != nil {
		return err
	}
	defer e.conn.Close()
	in, job, err := l.jobOf(ctx, e, say.Stops, paths)
	if err != nil {
		return err
	}
	job.Receipt = load.Started(s.Name, in.Sources, say.Stops.Database, l.Version, now())
	m := l.meter(ctx, "loading", in.Size())
	job.Progress = m.Set
	err = s.Load(ctx, *job)
	m.End()
	l.answer.Shared = &SharedAnswer{Document: document("joined"), Join: s.Name, Schema: say.Stops.Table.Schema,
		Table: say.Stops.Table.Name}
	l.answer.Shared.Steps, l.answer.Shared.Records = s.Took()
	switch done, err := l.sharedDone(err); {
	case done:
		return nil
	case err != nil && ctx.Err() != nil:
		return &Stopped{"what had been committed on the way stays in the table; --join " + s.Name + " goes on with it"}
	case err != nil:
		return fmt.Errorf("%w\n  the steps that are in stay; when the cause is mended, go on by the same command", err)
	}
	e.conn.Close()
	return l.finishShared(ctx, s, say, in)
}

// sharedDone reports whether another program has verified the load, and notes which entry it is.
func (l *loading) sharedDone(err error) (bool, error) {
	var done *load.SharedDone
	if !errors.As(err, &done) {
		return false, err
	}
	l.answer.Shared.Verified = done.Entry
	return true, nil
}

// finishShared makes an entry of the load, of which nothing is missing but the verification and the
// last commit, and resumes it; unless another program does.
func (l *loading) finishShared(ctx context.Context, s *load.Shared, say *shared, in *Opened) error {
	name := s.Name + " ends"
	l.tell(NoteEvent{"all steps are in; what is left is to verify them, which one program does"})
	done, err := l.awaitEnd(ctx, s, name)
	if done || err != nil {
		return err
	}
	defer s.Control.GiveBack(context.WithoutCancel(ctx), s.Schema, name)
	stops := *say.Stops
	stops.Ends = rand.Text()
	entry, err := l.entryOf(s, say, in, &stops)
	if err != nil {
		return err
	}
	for tries := 1; ; tries++ {
		answer, err := l.Resume(ctx, ResumeRequest{Entry: entry.Name, At: l.req.Into})
		l.answer.Receipt, l.answer.Entry, l.answer.Took = answer.Receipt, answer.Entry, answer.Took
		if err == nil {
			return nil
		}
		if other := l.endedBy(ctx, s, err); other != nil && !other.Of(entry.Name, stops.Ends) {
			l.answer.Receipt, l.answer.Entry, l.answer.Shared.Verified = nil, nil, other.Entry
			return os.RemoveAll(entry.Dir)
		}
		if tries == mostEnded || !load.Clashed(err) || ctx.Err() != nil {
			return err
		}
		l.tell(NoteEvent{"the database has ended the verification in favour of another session; once more"})
	}
}

// mostEnded is how often a program verifies a load where the database ends that for others.
const mostEnded = 4

// awaitEnd waits until this program is the one to verify the load, or it is done.
func (l *loading) awaitEnd(ctx context.Context, s *load.Shared, name string) (done bool, err error) {
	for clashes := 0; ; {
		taken, err := s.Control.Take(ctx, s.Schema, name)
		if err == nil {
			_, err = s.Opening(ctx)
		}
		if done, err = l.sharedDone(err); err != nil && load.Clashed(err) && clashes < mostBegun {
			clashes++
		} else if done || taken || err != nil {
			return done, err
		}
		if err := later(ctx, pause); err != nil {
			return false, err
		}
	}
}

// entryOf makes the entry of a load that is to be verified, on the tray of this program.
func (l *loading) entryOf(s *load.Shared, say *shared, in *Opened, stops *tray.Stops) (*tray.Entry, error) {
	entry, err := tray.Create(l.Tray, stops.Table.Name, stops.Started)
	if err != nil {
		return nil, err
	}
	stops.Sources = load.Started(entry.Name, in.Sources, stops.Database, l.Version, stops.Started).Sources
	stops.Names, stops.Stamps = nil, nil
	for _, src := range in.Sources {
		stops.Names, stops.Stamps = append(stops.Names, src.Name), append(stops.Stamps, src.Stamp())
	}
	if err := entry.Write(tray.PlanFile, []byte(say.Plan)); err != nil {
		return nil, err
	}
	if err := entry.WriteStops(stops); err != nil {
		return nil, err
	}
	logFile, err := entry.Log()
	if err != nil {
		return nil, err
	}
	steps, records := s.Took()
	slog.New(l.logOf(logFile)).Info("load that programs share", "version", l.Version, "load", s.Name, "into",
		l.answer.Into, "table", stops.Table.Name, "steps of this one", steps, "loaded", records.Loaded)
	return entry, logFile.Close()
}

// endedBy is who has verified the load when this program could not; nil: nobody, as far as can be seen in a
// while. Through another server of a cluster, whose locks are its own, another program may have been first,
// and what it has done come later than the failure.
func (l *loading) endedBy(ctx context.Context, s *load.Shared, failed error) *load.SharedDone {
	for range 4 {
		_, opening := s.Opening(ctx)
		var done *load.SharedDone
		if errors.As(opening, &done) || errors.As(failed, &done) {
			return done
		}
		if later(ctx, pause) != nil {
			break
		}
	}
	return nil
}
