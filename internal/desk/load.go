package desk

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"ambertray/internal/db"
	"ambertray/internal/db/connect"
	"ambertray/internal/load"
	"ambertray/internal/match"
	"ambertray/internal/phrase"
	"ambertray/internal/plan"
	"ambertray/internal/profile"
	"ambertray/internal/rows"
	"ambertray/internal/tray"
)

// A LoadRequest is a load to be run.
type LoadRequest struct {
	Input
	Into DatabaseRequest
	Mode db.Mode
	// Like is a table whose structure the new one takes, by name or schema and
	// name; empty: none.
	Like         string
	ByPosition   bool
	KeepIdentity bool
	SlowPath     bool
	Lanes        int // connections; 0: as the database thinks best
	// MakeSchema makes the schema of a new table, if there is none.
	MakeSchema bool
	// FileRows, if above 0, begins a new file after so many rows, where a table is files.
	FileRows int64
	// DryRun does everything but write: it connects, and the database refuses whatever
	// would change it.
	DryRun bool
	// Yes answers that a table may be emptied or replaced, and that a file may be
	// loaded in spite of cautions.
	Yes bool
	// Prove compares every value with the source before the commit.
	Prove bool
	// Strict ends a load when there are cautions.
	Strict bool
	// KeepOld keeps the rows of a table that is emptied or replaced.
	KeepOld bool
	// KeepAttached makes again what goes with a table that is replaced.
	KeepAttached bool
	// Widen makes columns of text longer where values need it.
	Widen bool
	// NewColumns is what becomes of columns that the plan does not have: NewStop or NewLeave; empty:
	// they are left with a caution.
	NewColumns string
	// Ledger makes the ledger of the schema, if there is none.
	Ledger bool
	// Again loads a file although its bytes are in the table already.
	Again bool
	// AcceptChanges loads a file although many of its values do not fit the plan.
	AcceptChanges bool
	Limit         RejectLimit
	Deletes       plan.DeleteLimit
	MergeRequest
	// Every, if above 0, commits after so many records.
	Every int64
	// Join, if not empty, is the name of a load whose steps several programs take.
	Join string
}

// What becomes of columns that are new.
const (
	NewStop  = "stop"
	NewLeave = "leave"
)

// A RejectLimit ends a load when more records are rejected.
type RejectLimit struct {
	Count int64   // of records; negative: no limit
	Share float64 // of those read; 0: no limit
	Least int64   // how many may be rejected whatever their share is
}

// UsualLimit is that of a load for which none is given: so many rejects are not
// some bad records, but a file that is not what it was taken for.
var UsualLimit = RejectLimit{Count: -1, Share: 0.05, Least: 100}

// ParseLimit reads a number of records, a share like 1%, none, or nothing: the
// usual limit.
func ParseLimit(s string) (RejectLimit, error) {
	switch s {
	case "":
		return UsualLimit, nil
	case "none":
		return RejectLimit{Count: -1}, nil
	}
	if strings.HasSuffix(s, "%") {
		v, err := phrase.ParseShare(s)
		if err != nil {
			return RejectLimit{}, errors.New("use a number of records, a share from 0% to 50%, or none")
		}
		return RejectLimit{Count: -1, Share: v}, nil
	}
	n, err := strconv.ParseInt(s, 10, 64)
	if err != nil || n < 0 {
		return RejectLimit{}, errors.New("use a number of records from 0, a share like 1%, or none")
	}
	return RejectLimit{Count: n}, nil
}

// A LoadAnswer is what a load came to; one of its parts, or none where it failed
// before.
type LoadAnswer struct {
	// Receipt is of a load that has run, also if it failed.
	Receipt *tray.Receipt
	Entry   *tray.Entry
	Into    string // the URL without password
	at      DatabaseRequest
	prove   bool
	// again asks whether a pipe, which is known when it has been read, is in already.
	again func() error
	set   *loadSet // that it is one of, or nil
	Took  time.Duration
	// DryRun is of one into a new table; Mapping of one into a table that exists.
	DryRun  *DryRunAnswer
	Mapping *MappingAnswer
	// Shared is of a load that programs share, and another than this one has verified.
	Shared *SharedAnswer
	// Nothing is of a plan whose pattern matches no file that is not in the table.
	Nothing *NothingAnswer
	// Merge is of a dry run that compares with the rows that are there.
	Merge *MergeAnswer
	// Each are the answers of the tables, where it is several: those that were
	// loaded, and the last, if it failed.
	Each []*LoadAnswer
	// Changes are what blocks the load of a file that its plan was not made for.
	Changes *ChangesAnswer
}

// JSON is the document of the answer, or nil.
func (a *LoadAnswer) JSON() any {
	switch {
	case a.Each != nil:
		loads := LoadsAnswer{Document: document("loads"), Loads: []any{}}
		for _, x := range a.Each {
			if doc := x.JSON(); doc != nil {
				loads.Loads = append(loads.Loads, doc)
			}
		}
		return loads
	case a.Receipt != nil:
		return a.Receipt
	case a.DryRun != nil:
		return a.DryRun
	case a.Nothing != nil:
		return a.Nothing
	case a.Shared != nil:
		return a.Shared
	case a.Merge != nil:
		return a.Merge
	case a.Mapping != nil:
		return a.Mapping
	case a.Changes != nil:
		return a.Changes
	}
	return nil
}

// A LoadsAnswer is several loads in one document.
type LoadsAnswer struct {
	Document
	Loads []any `json:"loads"`
}

// Outcome is what it comes to.
func (a *LoadAnswer) Outcome() Outcome {
	for _, x := range a.Each {
		if o := x.Outcome(); o != Done {
			return o
		}
	}
	if a.Receipt != nil {
		return settled(a.Receipt)
	}
	return Done
}

// A DryRunAnswer is what a load into a new table would come to.
type DryRunAnswer struct {
	Document
	DryRun  bool          `json:"dry_run"`
	Table   string        `json:"table"`
	Records tray.Records  `json:"records"`
	Reasons []tray.Reason `json:"reasons"`
	// Decided and Cautions are as in the receipt.
	Decided  []string          `json:"decided"`
	Cautions []profile.Finding `json:"cautions"`
	Source   string            `json:"-"`
	Check    *rows.Check       `json:"-"`
}

// A MappingAnswer is how the columns of a file go into a table that exists.
type MappingAnswer struct {
	Document
	DryRun  bool            `json:"dry_run"`
	Schema  string          `json:"schema"`
	Table   string          `json:"table"`
	Blocked bool            `json:"blocked"`
	Mapping []match.Pairing `json:"mapping"`
	Source  string          `json:"-"`
	State   string          `json:"-"` // of the table, in words
}

// A MappedEvent tells of the mapping before the rows go in.
type MappedEvent struct{ *MappingAnswer }

// A ChangesAnswer is in what files are not what their plan was made for.
type ChangesAnswer struct {
	Document
	Blocked  bool           `json:"blocked"`
	Changes  []match.Change `json:"changes"`
	Compared int            `json:"-"` // sources
	Values   bool           `json:"-"` // were compared, too
}

// A ComparedEvent tells that files were compared with their plan.
type ComparedEvent struct{ *ChangesAnswer }

func (MappedEvent) event()   {}
func (ComparedEvent) event() {}

// A loading is a load that is being prepared.
type loading struct {
	*Desk
	req    *LoadRequest
	in     *Opened
	answer *LoadAnswer
	job    load.Job
	conn   db.Session
	found  *db.Table         // that there is, or nil
	like   *db.Table         // whose structure the rows go into, or nil
	hung   []profile.Finding // cautions about it
	// connection is how the one to the database is protected.
	connection string
	around     db.Around // what hangs on the table that there is, of modes that take it away
	tolerate   float64
	ledger     *db.Ledger // of the schema, or nil
	// far is what was found only when all was loaded: what lies off the last loads, and
	// conditions that are not met.
	far     []profile.Finding
	farTold bool
	// rowsBefore is how many rows the table has that there is.
	rowsBefore int64
	landed     db.Name           // the table that has the rows until the commit
	offered    []profile.Finding // references that the plan does not have
	known      []string          // files of a pattern that are in the table already
	asked      []plan.Source     // as the plan would have them for the next load, too
	decided    []string
	cautions   []profile.Finding
	doubts     []profile.Finding // those of the cautions that come from the file alone
}

// Load loads. The answer is there also with an error, where it tells something.
func (d *Desk) Load(ctx context.Context, r LoadRequest) (*LoadAnswer, error) {
	if r.Join != "" {
		return d.loadShared(ctx, r)
	}
	if inputs, is := planSet(r.Input); is {
		return d.loadTogether(ctx, r, inputs)
	}
	answer, err := d.loadOne(ctx, r)
	var several *severalTables
	if !errors.As(err, &several) {
		return answer, err
	}
	if r.Wishes.Table != "" {
		return answer, need("--table %s: the name of one table, and each of %s is one\n  leave it out: each is named "+
			"by its file or sheet", r.Wishes.Table, phrase.Count(int64(len(several.parts)), "source"))
	}
	if x := connect.Of(r.Into.URL); x != nil && x.Together && !r.DryRun && r.Every == 0 {
		return d.loadTogether(ctx, r, several.inputs())
	}
	answer.Each = []*LoadAnswer{}
	for i, in := range several.inputs() {
		r.Input = in
		one, err := d.loadOne(ctx, r)
		if answer.Each = append(answer.Each, one); err == nil {
			continue
		}
		if i > 0 && !r.DryRun {
			before := "1 table was loaded, which is committed"
			if i > 1 {
				before = phrase.Grouped(int64(i)) + " tables were loaded, which are committed"
			}
			err = fmt.Errorf("%w\n  before it, %s", err, before)
		}
		return answer, err
	}
	return answer, nil
}

// loadOne loads one table.
func (d *Desk) loadOne(ctx context.Context, r LoadRequest) (*LoadAnswer, error) {
	l := &loading{Desk: d, req: &r, answer: &LoadAnswer{Into: connect.Redact(r.Into.URL), at: r.Into, prove: r.Prove}}
	defer func() {
		if l.conn != nil {
			l.conn.Close()
		}
	}()
	if ready, err := l.prepare(ctx); err != nil || !ready {
		return l.answer, err
	}
	return l.answer, l.run(ctx)
}

// prepare does all that comes before the first row. It reports whether there is something
// to load; of a dry run, that is all.
func (l *loading) prepare(ctx context.Context) (ready bool, err error) {
	if err := l.check(); err != nil {
		return false, err
	}
	if err := l.open(ctx); err != nil {
		return false, err
	}
	return l.ready(ctx)
}

// ready meets the database, and reports whether there is something to load.
func (l *loading) ready(ctx context.Context) (bool, error) {
	r := l.req
	if !r.DryRun || !l.toBeMade() {
		var no *db.Error
		err := l.meet(ctx)
		if errors.As(err, &no) && no.Missing && r.DryRun && r.Into.Create && r.destination() == intoNew {
			err = nil // the load would make the database first
		}
		if err != nil {
			return false, err
		}
	}
	if l.nothing() {
		return false, nil
	}
	if r.ByPosition {
		if err := l.firstLine(ctx); err != nil {
			return false, err
		}
	}
	l.noEmptyTexts()
	l.foundOut()
	if err := l.missingDays(); err != nil {
		return false, err
	}
	if r.destination() == intoTable {
		if err := l.mapped(ctx); err != nil {
			return false, err
		}
	}
	if err := strictly(r.Strict, l.cautions); err != nil {
		return false, l.refused(err)
	}
	if r.DryRun && r.destination() == intoNew {
		return false, l.dryRun(ctx)
	}
	if r.DryRun && r.merges() {
		return false, l.preview(ctx)
	}
	if r.DryRun {
		return false, nil
	}
	if err := l.goOn(ctx); err != nil {
		return false, err
	}
	if err := l.countBefore(ctx); err != nil {
		return false, err
	}
	if err := l.confirmed(ctx); err != nil {
		return false, err
	}
	return true, nil
}

// mostLanes is how many connections a load may have.
const mostLanes = 64

// checkLanes refuses lanes where there can be none.
func (r *LoadRequest) checkLanes(d *db.Database) error {
	switch {
	case r.Lanes < 0 || r.Lanes > mostLanes:
		return need("--lanes %d: use 1 to %d", r.Lanes, mostLanes)
	case r.Lanes < 2:
	case d != nil && !d.Lanes:
		return need("--lanes: %s takes rows over one connection\n  leave it out", d.Title)
	case !r.Mode.New() || r.Every > 0:
		return need("--lanes: it goes with new tables (--mode create, replace), and without --commit-every\n  rows " +
			"of a table that is there go in over one connection, in one transaction")
	}
	return nil
}

// check refuses what does not go together.
func (l *loading) check() error {
	r := l.req
	switch r.Mode {
	case db.Create, db.Append, db.Refill, db.Replace, db.Merge:
	default:
		return need("--mode %q: use create, append, refill, replace or merge", string(r.Mode))
	}
	if err := l.checkMerge(); err != nil {
		return err
	}
	if n := r.NewColumns; n != "" && n != NewStop && n != NewLeave {
		return need("--new-columns %q: use stop or leave", n)
	}
	d := connect.Of(r.Into.URL) // nil: connecting will say what is wrong with it
	if err := r.checkLanes(d); err != nil {
		return err
	}
	if r.SlowPath && d != nil && !d.SlowPath {
		return need("--slow-path: %s has only one way to load\n  leave it out", d.Title)
	}
	if r.MakeSchema && (!r.Mode.New() || d != nil && !d.MakesSchemas) {
		return need("--create-schema: it goes with a new table, in %s\n  elsewhere a schema is a database, which "+
			"--create-database makes, or there is none",
			connect.Titles(func(d *db.Database) bool { return d.MakesSchemas }))
	}
	if r.FileRows != 0 && (r.FileRows < 0 || d != nil && !d.Splits) {
		return need("--file-rows %d: use a number of rows, and a database of files: %s", r.FileRows,
			connect.Titles(func(d *db.Database) bool { return d.Splits }))
	}
	if r.ByPosition && r.destination() == intoNew {
		return need("--by-position: a new table has the columns of the file\n  " +
			"it goes with --mode append and refill, and with --like")
	}
	if err := r.checkTable(d); err != nil {
		return err
	}
	if r.Prove && r.Every > 0 {
		return need("--prove: it compares all values before the one commit\n  it does not go with --commit-every; " +
			"'ambertray verify --deep' compares afterwards")
	}
	switch {
	case r.Every < 0:
		return need("--commit-every %d: use a number of records", r.Every)
	case r.Every == 0:
		return nil
	case r.Mode != db.Create && r.Mode != db.Append:
		return need("--commit-every: a table cannot be emptied or replaced step by step\n  " +
			"load with --mode create under another name and rename, or empty the table and say --mode append")
	case r.Limit.Count == 0:
		return need("--commit-every: --max-rejects 0 means all or nothing, which a load that commits on its way " +
			"cannot keep\n  leave out one of them")
	}
	return nil
}

// checkTable refuses what does not go with what becomes of the table.
func (r *LoadRequest) checkTable(d *db.Database) error {
	if r.KeepAttached && (r.Mode != db.Replace || d != nil && !d.Attaches) {
		return need("--keep-attached: it goes with --mode replace, in PostgreSQL and SQLite\n  leave it out")
	}
	if r.KeepOld && r.Mode != db.Refill && r.Mode != db.Replace {
		return need("--keep-old: it goes with --mode refill and replace\n  leave it out; the rows stay")
	}
	if r.Widen && r.destination() == intoNew {
		return need("--widen: the columns of a new table are made as the file needs them\n  " +
			"it goes with --mode append and refill")
	}
	if r.Widen && d != nil && !d.WidensWithin && !d.LooseLengths {
		return need("--widen: %s commits a change of a table at once, which a load could not undo\n  "+
			"the load says the statement; run it before", d.Title)
	}
	if r.Like != "" && !r.Mode.New() {
		return need("--like: only a new table can take the structure of another\n  use --mode create or replace")
	}
	return nil
}

func (l *loading) dryRun(ctx context.Context) error {
	m := l.meter(ctx, "checking", l.in.Size())
	job := l.job.Job
	job.Progress = m.Set
	check, err := rows.DryRun(ctx, job)
	m.End()
	if err != nil {
		return err
	}
	unmet := load.UnmetRules(l.in.Plan, check.Unmet)
	if l.cautions = append(l.cautions, unmet...); len(unmet) > 0 {
		l.tell(FoundEvent{l.in.First().Name, nil, unmet})
		if err := strictly(l.req.Strict, unmet); err != nil {
			return err
		}
	}
	l.answer.DryRun = &DryRunAnswer{document("dry-run"), true, l.in.Plan.Table.Name, check.Records, list(check.Reasons),
		list(l.decided), list(l.cautions), l.in.First().Name, check}
	if err := l.job.Expected(check, "a load would end so"); err != nil {
		return &Need{err}
	}
	return l.job.Limited(check)
}
