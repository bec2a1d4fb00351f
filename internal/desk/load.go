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
	"strconv"
	"strings"
	"time"

	"ambertray/internal/account"
	"ambertray/internal/db"
	"ambertray/internal/db/connect"
	"ambertray/internal/db/dialect"
	"ambertray/internal/fault"
	"ambertray/internal/load"
	"ambertray/internal/match"
	"ambertray/internal/phrase"
	"ambertray/internal/plan"
	"ambertray/internal/profile"
	"ambertray/internal/reading"
	"ambertray/internal/rows"
	"ambertray/internal/source"
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
	// Ledger makes the ledger of the schema, if there is none.
	Ledger bool
	// Again loads a file although its bytes are in the table already.
	Again bool
	// AcceptChanges loads a file although many of its values do not fit the plan.
	AcceptChanges bool
	Limit         RejectLimit
	MergeRequest
	// Every, if above 0, commits after so many records.
	Every int64
	// Join, if not empty, is the name of a load whose steps several programs take.
	Join string
}

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
	far      []profile.Finding
	landed   db.Name           // the table that has the rows until the commit
	offered  []profile.Finding // references that the plan does not have
	known    []string          // files of a pattern that are in the table already
	asked    []plan.Source     // as the plan would have them for the next load, too
	decided  []string
	cautions []profile.Finding
	doubts   []profile.Finding // those of the cautions that come from the file alone
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
	if r.destination() == intoTable {
		if err := l.mapped(ctx); err != nil {
			return false, err
		}
	}
	if err := strictly(r.Strict, l.cautions); err != nil {
		return false, err
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

// open opens what is loaded, and makes sure that nothing is left open.
func (l *loading) open(ctx context.Context) (err error) {
	l.req.Input.into = l.req.destination()
	l.req.Input.Options.Sum = true
	if l.in, err = l.Desk.settled(ctx, l.req.Input, opening{}); err != nil {
		return err
	}
	in := l.in
	if err := in.decided(); err != nil {
		return err
	}
	if in.Profile != nil && in.Profile.Records == 0 {
		return fmt.Errorf("%s: has a header and no records\n  "+
			"there is nothing to load; the definition alone comes with 'ambertray ddl'", in.First().Name)
	}
	if l.tolerate, err = in.tolerate(l.req.Options.Tolerate); err != nil {
		return err
	}
	l.cautions = nil
	if in.Given {
		if err := l.compare(ctx); err != nil {
			return err
		}
	}
	if _, err := plan.Bind(in.Plan, in.Sources[:1]); err != nil {
		return err
	}
	if l.req.Prove && slices.ContainsFunc(in.Sources, (*source.Source).Flows) {
		return need("--prove: it reads the source once more, and this pipe can be read once\n  write it to a file " +
			"first")
	}
	l.asked, in.Plan.Sources = in.Plan.Sources, nil
	for _, s := range in.Sources {
		in.Plan.Sources = append(in.Plan.Sources, plan.FromLayout(s))
	}
	if l.req.Limit == UsualLimit {
		// Whoever accepts more, by a share or by name, need not say it twice.
		l.req.Limit.Share = max(UsualLimit.Share, l.tolerate)
		if l.req.AcceptChanges {
			l.req.Limit = RejectLimit{Count: -1}
		}
	}
	l.job.Job = rows.Job{Sources: in.Sources, Plan: in.Plan, MaxRejects: l.req.Limit.Count,
		Habits: true}
	if l.req.Limit.Share > 0 && !slices.ContainsFunc(in.Sources, (*source.Source).Flows) {
		l.job.Hopeless = hopeless // a pipe may be one that is in already, which only all of it tells
	}
	l.job.MaxShare, l.job.MaxLeast, l.job.Every = l.req.Limit.Share, l.req.Limit.Least, l.req.Every
	return nil
}

// hopeless is how many records are read if all are rejected, where a share of them
// would be too many.
const hopeless = 10_000

// foundOut tells what was decided from the evidence.
func (l *loading) foundOut() {
	if l.req.destination() == intoTable && !l.in.Given {
		// The table tells whether they are names: they are its own, or block the load.
		l.in.Profile.Findings = slices.DeleteFunc(l.in.Profile.Findings,
			func(f profile.Finding) bool { return f.Code == profile.CodeHeaderUndecided })
	}
	l.decided, l.doubts = l.Desk.found(l.in, l.req.destination())
	l.cautions = append(l.cautions, l.doubts...)
	if l.req.destination() == intoNew {
		l.cannot()
	}
	if len(l.hung) > 0 {
		l.tell(FoundEvent{l.where(), nil, l.hung})
		for _, f := range l.hung {
			if f.Weight == profile.Caution {
				l.cautions = append(l.cautions, f)
			}
		}
	}
}

// protected finds out how the connection is protected, and says where it leaves this
// machine without.
func (l *loading) protected(ctx context.Context) error {
	p, err := protection(ctx, l.conn)
	if err != nil || p == nil {
		return err
	}
	l.connection = p.String()
	const full = "sslmode=verify-full and sslrootcert=FILE in the URL ask for it, and check the server"
	switch {
	case p.Local:
	case p.TLS == "":
		l.hung = append(l.hung, profile.Finding{Weight: profile.Caution, Code: profile.CodeNotEncrypted,
			Text: "the connection is not encrypted: others on its way can read and change what goes over it",
			Do:   "let the server offer TLS; " + full})
	case !p.Certificate:
		l.hung = append(l.hung, profile.Finding{Weight: profile.Note, Code: profile.CodeNotVerified,
			Text: "the connection is encrypted (" + p.TLS + "), and nothing proves which server is at its end",
			Do:   full})
	}
	return nil
}

// protection is how a session's connection is protected, or nil: it has none.
func protection(ctx context.Context, conn db.Session) (*db.Protection, error) {
	g, is := conn.(db.Guarded)
	if !is {
		return nil, nil
	}
	p, err := g.Protection(ctx)
	return &p, err
}

// noEmptyTexts makes nulls of empty texts, and says so, where the database keeps none.
func (l *loading) noEmptyTexts() {
	d := connect.Of(l.req.Into.URL)
	if d == nil || !d.EmptyIsNull {
		return
	}
	for i := range l.in.Plan.Columns {
		c := &l.in.Plan.Columns[i]
		if c.KeepEmpty == "" || c.KeepEmpty == "none" || !c.SQLType().IsText() {
			continue
		}
		c.NoEmpty = true
		do := "load into a database that tells them apart, or mark them in the file"
		if c.Required {
			do = "the column is required, so that such records are rejected: give it a default in the plan, " +
				"or " + do
		}
		l.hung = append(l.hung, profile.Finding{Weight: profile.Caution, Code: profile.CodeNotInDatabase,
			Column: c.Name, Text: "empty texts go in as nulls: " + d.Title + " keeps none", Do: do})
	}
}

// cannot finds what the columns of a new table cannot do in this database.
func (l *loading) cannot() {
	d := connect.Of(l.req.Into.URL)
	if d == nil || d.Cannot == nil {
		return
	}
	for _, c := range l.in.Plan.Definition().Columns {
		if what, do := d.Cannot(c); what != "" {
			l.hung = append(l.hung, profile.Finding{Weight: profile.Caution, Code: profile.CodeNotInDatabase,
				Column: c.Name, Text: what, Do: do})
		}
	}
}

// firstLine makes sure that a first line was not taken for names where columns are
// paired by position, and the names are not looked at: it may be a record.
func (l *loading) firstLine(ctx context.Context) error {
	r, in := l.req, l.in
	if in.Given || r.Known.Header != nil || slices.ContainsFunc(in.Sources, (*source.Source).Flows) {
		return nil
	}
	records, unsure := 0, []string{}
	named, other := "", "" // a source of either
	lines := map[int64]bool{}
	for _, s := range in.Sources {
		if s.Layout.Header == 0 {
			continue
		}
		lines[s.Layout.Header] = true
		first := match.First(s, in.Plan, l.like, match.MapOptions{KeepIdentity: r.KeepIdentity})
		if first == match.Names {
			named = s.Name
			continue
		}
		if other = s.Name; first == match.Record {
			records++
		} else {
			unsure = append(unsure, fmt.Sprintf("%s, line %d: %s", s.Name, s.Layout.Header,
				reading.Shorten(strings.Join(s.Layout.Columns, " · "), 60)))
		}
	}
	if named != "" && other != "" {
		return need("%s: its first line holds names of the table, and that of %s does not\n  load them one by one, "+
			"with --header-row; nothing was changed", named, other)
	}
	taken := "taken: --header-row 0"
	switch {
	case len(unsure) > 0:
		const names, record = "names", "record"
		option := "--header-row"
		for line := range lines {
			option = fmt.Sprintf("--header-row %d", line)
		}
		q := Question{Code: Code(profile.CodeHeaderUndecided), Evidence: unsure,
			Ask: "no field of the first line is a column's name, and all of them would fit the table: is it names, " +
				"or a record?",
			Answer:  "say " + option + " for names, --header-row 0 for a record",
			Choices: []Choice{{names, "it is names", option}, {record, "it is a record", "--header-row 0"}}}
		if len(lines) > 1 {
			// One option cannot say it of sources whose names stand on different lines.
			q.Answer = "say --header-row 0 for records; for names, load the files one by one with --header-row"
			q.Choices[0].Option = ""
		}
		if l.Ask == nil {
			return &Need{&OpenQuestions{in.First().Name, []Question{q}}}
		}
		answer, err := l.choose(ctx, q)
		if err != nil {
			return err
		}
		if answer == names {
			l.tell(NoteEvent{"taken: " + cmp.Or(q.Choices[0].Option, "the first lines are names")})
			return nil
		}
	case records == 0:
		return nil
	default:
		taken += ": the first line fits the table's types, and has none of its names"
	}
	if err := r.Input.settle("header", "0"); err != nil {
		return err
	}
	l.tell(NoteEvent{taken})
	return l.open(ctx)
}

// tolerate is the share of values that may misfit, by the plan or as given.
func (o *Opened) tolerate(given float64) (float64, error) {
	if !o.Given || o.Plan.Tolerate == "" {
		return given, nil
	}
	v, err := phrase.ParseShare(o.Plan.Tolerate)
	if err != nil {
		return 0, need("tolerate in the plan: %q is no share", o.Plan.Tolerate)
	}
	return v, nil
}

// compare compares files that the plan was not made from with the plan, and
// stops where something is blocking.
func (l *loading) compare(ctx context.Context) error {
	in := l.in
	// The values are looked at here only where nothing else will before they are
	// loaded.
	values := l.req.destination() == intoNew
	a := &ChangesAnswer{Document: document("changes"), Changes: []match.Change{}}
	blocked := ""
	m := l.meter(ctx, "comparing", in.Size())
	defer m.End()
	for _, src := range in.Sources {
		if in.Plan.Made(src) {
			continue
		}
		a.Compared++
		changes, err := match.Changes(ctx, src, in.Plan, values, l.tolerate)
		if err != nil {
			return err
		}
		if a.Compared == 1 {
			changes = append(match.Uncovered(in.Sources, in.Plan), changes...)
		}
		for i := range changes {
			c := &changes[i]
			if c.Weight != match.Blocking {
				continue
			}
			if c.Misfits && l.req.AcceptChanges {
				c.Weight = match.Caution
				continue
			}
			blocked += "\n  "
			if len(in.Sources) > 1 {
				blocked += c.Source + ": "
			}
			if c.Column != "" {
				blocked += c.Column + ": "
			}
			blocked += c.Text
		}
		a.Changes = append(a.Changes, changes...)
	}
	m.End()
	lacking := match.NothingToLeaveOut(in.Sources, in.Plan)
	if a.Changes = append(a.Changes, lacking...); a.Compared == 0 && len(lacking) == 0 {
		return nil
	}
	a.Blocked = blocked != ""
	l.tell(ComparedEvent{a})
	if a.Blocked {
		l.answer.Changes = a
		return need("nothing was loaded; the file is not what the plan was made for%s", blocked)
	}
	l.cautions = append(l.cautions, notAsPlanned(a.Changes)...)
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

// connectOrMake connects. Where the server does not have the database, it asks whether
// to make it.
func (l *loading) connectOrMake(ctx context.Context, why purpose) (db.Session, error) {
	r := l.req
	conn, err := l.connect(ctx, r.Into, why)
	var no *db.Error
	if !errors.As(err, &no) || !no.Missing || l.Ask == nil || why != toLoad || r.destination() != intoNew {
		return conn, err
	}
	if err := l.confirm(ctx, Question{Code: MakesDatabase, Answer: "say --create-database",
		Ask: l.answer.Into + ": the server does not have this database; is it to be created?"}); err != nil {
		return nil, err
	}
	r.Into.Create = true
	l.tell(NoteEvent{"taken: --create-database"})
	return l.connect(ctx, r.Into, why)
}

// toBeMade reports whether the database is a file that the load would make.
func (l *loading) toBeMade() bool {
	d := connect.Of(l.req.Into.URL)
	return d != nil && d.File && l.req.destination() == intoNew && !FileExists(connect.File(l.req.Into.URL))
}

// where names the table in a message.
func (l *loading) where() string {
	t := l.in.Plan.Table
	return fmt.Sprintf("%s: the table %s", l.answer.Into, db.Qualified(t.Schema, t.Name))
}

// takesRows stops where the table takes no rows at all.
func (l *loading) takesRows(ctx context.Context) error {
	x, is := l.conn.(db.Refuser)
	if !is || l.found == nil {
		return nil
	}
	what, do, err := x.Refuses(ctx, l.found)
	if err == nil && what != "" {
		err = need("%s %s\n  %s; nothing was changed", l.where(), what, do)
	}
	return err
}

// watch tells, unless what it returns is called soon, that another session has to be
// waited for.
func (l *loading) watch(ctx context.Context) (done func()) {
	return db.Watch(ctx, l.conn, func(w db.Wait) { l.waits(l.where(), w, l.req.Into) })
}

// meet connects, and sees whether the table is there as the mode wants it.
func (l *loading) meet(ctx context.Context) (err error) {
	r := l.req
	why := toLoad
	if r.DryRun {
		why = toRead
	}
	if l.conn == nil { // else it is that of a set
		if l.conn, err = l.connectOrMake(ctx, why); err != nil {
			return err
		}
	}
	if err := l.protected(ctx); err != nil {
		return err
	}
	defer l.watch(ctx)()
	def := l.in.Plan.Definition()
	if err := checkNames(l.conn.Dialect(), def); err != nil {
		return err
	}
	if !r.DryRun {
		if err := l.hold(ctx, l.conn, db.Name{Schema: def.Schema, Table: def.Name}, r.Into); err != nil {
			return err
		}
	}
	if l.found, err = l.conn.Find(ctx, def.Schema, def.Name); err != nil {
		return err
	}
	switch {
	case r.Mode == db.Create && l.found != nil:
		rows, err := l.conn.Count(ctx, l.found)
		if err != nil {
			return err
		}
		if rows == 0 && r.Join != "" {
			if left, err := l.leftBehind(ctx); err != nil || left {
				l.found = nil
				return l.met(ctx, def)
			}
		}
		return need("%s exists already, with %s\n  "+
			"choose another name with --table, or say --mode append, merge, refill or replace; nothing was changed",
			l.where(),
			phrase.Count(rows, "row"))
	case !r.Mode.New() && l.found == nil:
		return need("%s does not exist\n  check the name and --schema, or create it with --mode create", l.where())
	}
	return l.met(ctx, def)
}

// met goes on where the table is as the mode wants it.
func (l *loading) met(ctx context.Context, def dialect.Table) error {
	r := l.req
	if err := l.takesRows(ctx); err != nil {
		return err
	}
	if err := l.survey(ctx); err != nil {
		return err
	}
	if err := l.keepLedger(ctx); err != nil {
		return err
	}
	if r.Mode == db.Append && !r.Again && !r.OnlyNew {
		if err := l.notAgain(ctx); err != nil {
			return err
		}
	}
	if l.nothing() {
		return nil
	}
	l.job.Session = l.conn
	l.job.Spec = db.Spec{Mode: r.Mode, Table: def, SlowPath: r.SlowPath, FileRows: r.FileRows, MakeSchema: r.MakeSchema,
		Lanes: r.Lanes, Bytes: l.in.Size()}
	switch {
	case r.Mode == db.Refill:
		l.job.Spec.Referrers = l.around.Referrers
	case r.Mode == db.Replace && r.KeepAttached:
		l.job.Spec.Again = l.around.Again
	}
	if _, is := l.conn.(db.Merger); r.KeepOld && !is {
		return need("--keep-old: %s cannot do that yet\n  copy the table before", l.conn.Dialect().Title)
	}
	l.like = l.found
	return l.meetLike(ctx)
}

// meetLike sees whether the table is there whose structure the new one takes.
func (l *loading) meetLike(ctx context.Context) error {
	r, def := l.req, l.in.Plan.Definition()
	if r.Like == "" {
		return nil
	}
	name := db.Name{Schema: def.Schema, Table: r.Like}
	if s, t, ok := strings.Cut(r.Like, "."); ok {
		name = db.Name{Schema: s, Table: t}
	}
	like, err := l.conn.Find(ctx, name.Schema, name.Table)
	if err != nil {
		return err
	}
	if like == nil {
		return need("--like: the table %s does not exist", r.Like)
	}
	l.job.Spec.Like = &name
	copied := *like
	copied.Schema, copied.Name = def.Schema, def.Name
	l.like = &copied
	return nil
}

// mapped pairs the columns of file and table, and stops where that cannot be.
func (l *loading) mapped(ctx context.Context) error {
	r, in := l.req, l.in
	key := in.Plan.Table.Key
	if !r.merges() && len(r.Wishes.Key) > 0 && len(key) > 0 &&
		!slices.EqualFunc(key, l.like.PrimaryKey(), strings.EqualFold) {
		return need("--key %s: the table %s exists, and that is not its primary key; a load makes none\n  "+
			"leave --key out, or give the table this key first", strings.Join(r.Wishes.Key, ","), l.like.Name)
	}
	defer l.watch(ctx)()
	m, err := match.Map(ctx, in.Sources, in.Plan, l.like,
		match.MapOptions{ByPosition: r.ByPosition, KeepIdentity: r.KeepIdentity, Tolerate: l.tolerate,
			Profile: in.Profile, Dialect: l.conn.Dialect(), Widen: r.Widen, Merges: r.Mode == db.Merge})
	if err != nil {
		return err
	}
	a := &MappingAnswer{Document: document("mapping"), DryRun: r.DryRun && !r.merges(), Schema: l.like.Schema,
		Table:   l.like.Name,
		Blocked: m.Blocked(), Mapping: list(m.Pairings),
		Source: in.First().Name, State: "a new table like " + r.Like}
	if r.Like == "" {
		rows, err := l.conn.Count(ctx, l.found)
		if err != nil {
			return err
		}
		a.State = phrase.Count(rows, "row")
	}
	if r.DryRun && !r.merges() {
		l.answer.Mapping = a
	} else {
		l.tell(MappedEvent{a})
	}
	if m.Blocked() {
		what := fmt.Sprintf("%s: nothing was loaded; these differences are blocking%s", in.First().Name, m.Summary())
		if share := m.Tolerable(); share != "" {
			how := "say --tolerate " + share
			if in.Given {
				how = "write 'tolerate: " + share + "' into the plan"
			}
			what += "\n  mend the file, or " + how + ": then the others are loaded, and these records become rejects"
		}
		return need("%s", what)
	}
	if err := l.mergeWith(ctx, m); err != nil {
		return err
	}
	l.cautions = append(l.cautions, notAsTable(m.Pairings)...)
	l.job.Plan, l.job.Spec.Table, l.job.Spec.Alter = m.Plan, m.Plan.Definition(), m.Alter
	if err := l.refersToLoaded(); err != nil {
		return err
	}
	for i := range l.job.Spec.Table.Columns {
		l.job.Spec.Table.Columns[i].Comment = ""
	}
	return nil
}

// confirmed asks before a table with rows is emptied or dropped.
func (l *loading) confirmed(ctx context.Context) error {
	q := Question{Code: EmptiesTable, Answer: "say --yes if that is meant"}
	what := "emptied"
	switch {
	case l.found == nil || l.req.Yes:
		return nil
	case l.req.Mode == db.Replace:
		q.Code, what = ReplacesTable, "dropped"
	case l.req.Mode != db.Refill:
		return nil
	}
	rows, err := l.conn.Count(ctx, l.found)
	if err != nil {
		return err
	}
	q.Ask = fmt.Sprintf("%s, with %s, will be %s and loaded anew", l.where(), phrase.Count(rows, "row"), what)
	if l.req.Mode == db.Replace && len(l.around.Goes) > 0 {
		q.Evidence = []string{"with it go: " + strings.Join(l.around.Goes, "; ")}
	}
	if err := l.confirm(ctx, q); err != nil {
		return err
	}
	l.tell(NoteEvent{"taken: --yes"})
	return nil
}

// run loads with the papers around it.
func (l *loading) run(ctx context.Context) error {
	r, in, job := l.req, l.in, &l.job
	before, err := l.entriesOf(r.Into.URL)
	if err != nil {
		return err
	}
	replaces := l.found != nil && r.Mode != db.Append && r.Mode != db.Merge
	start := time.Now()
	entry, err := tray.Create(l.Tray, in.Plan.Table.Name, start)
	if err != nil {
		return err
	}
	logFile, err := entry.Log()
	if err != nil {
		return err
	}
	defer logFile.Close()
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
	if err := l.writePapers(entry); err != nil {
		return err
	}
	receipt := load.Started(entry.Name, in.Sources, connect.Canonical(r.Into.URL), l.Version, start)
	receipt.Table = tray.Table{Schema: job.Plan.Table.Schema, Name: job.Plan.Table.Name, Mode: string(r.Mode)}
	receipt.Decided, receipt.Cautions, receipt.Connection = l.decided, l.cautions, l.connection
	job.Receipt = receipt
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
	l.hooks(ctx, entry, lastOf(before, receipt))
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

// hooks are what the load does when it has begun, and before it commits.
func (l *loading) hooks(ctx context.Context, entry *tray.Entry, last []*tray.Receipt) {
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
		if err := l.since(last); err != nil || l.answer.set != nil {
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
