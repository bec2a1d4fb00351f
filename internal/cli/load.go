package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ambertray/internal/db"
	"ambertray/internal/db/connect"
	"ambertray/internal/load"
	"ambertray/internal/plan"
	"ambertray/internal/source"
	"ambertray/internal/tray"
)

type loadFlags struct {
	inputFlags
	databaseFlags
	into         string
	tray         string
	dryRun       bool
	yes          bool
	maxRejects   string
	mode         string
	like         string
	byPosition   bool
	keepIdentity bool
	slowPath     bool
	again        bool
	accept       bool
	every        int64
}

func (a *app) loadCommand() *cobra.Command {
	var f loadFlags
	cmd := &cobra.Command{
		Use:   "load SOURCE|PLAN [FILE…] --into URL",
		Short: "Create or map the table, load the records, verify, commit, keep the papers",
		Long: `Loads a file into a table, in one transaction. Before it commits, the account
has to balance (records read = loaded + rejected + skipped), and the table has
to agree with what was read: every row of a new one by its checksum, else rows,
nulls, sums, smallest and largest values. Records that do not fit, or that the database refuses, are rejected, not
the load: they are kept in rejects.csv with line, column, value and reason.

--mode create    a new table, which must not exist (the default)
--mode append    adds to a table; file and table are compared column by column
                 first, and the load stops if anything is blocking
--mode refill    empties a table and loads it
--mode replace   drops a table, creates and loads it

A plan loads the files that are named behind it, else those that it names. A
file that is not the one the plan was made from is compared with it first: new,
missing and moved columns, values that no longer fit. A file whose bytes are in
the table already is not added again.

Whatever fails or is stopped leaves the table as it was. The papers (plan,
definition, rejects, receipt, log) are left on the tray.

What is too large for one transaction commits on its way with --commit-every.
Then a load that fails or is stopped leaves the records that it has committed,
and how far it was is noted beside them in the table ambertray_steps, in the
same transactions. 'ambertray resume' goes on from there: no record is lost or
loaded twice. All is still verified before the last commit.`,
		Example: `  ambertray load lock-passages.csv --into sqlite:harrowmere.db
  ambertray load passages.yaml --into sqlite:harrowmere.db --table passages_2025
  ambertray load lock-passages.csv --into postgres://keeper@localhost/canal --schema tolls
  ambertray load passages.yaml april.csv may.csv --into sqlite:harrowmere.db --mode append
  ambertray load march.csv --into mysql://keeper@localhost/canal --table passages --mode append
  ambertray load lock-passages.csv --into sqlite:harrowmere.db --max-rejects 0
  ambertray load huge.yaml --into postgres://keeper@localhost/canal --commit-every 5000000
  ambertray load lock-passages.csv --into sqlite:harrowmere.db --dry-run`,
		Args: args(1, -1, "a file, or a plan"),
		RunE: func(cmd *cobra.Command, args []string) error { return a.load(cmd.Context(), args, &f) },
	}
	f.add(cmd)
	f.addTable(cmd)
	p := cmd.Flags()
	p.StringVar(&f.into, "into", "", "database URL: "+connect.Examples())
	f.addDatabase(cmd)
	p.StringVar(&f.mode, "mode", "create", "what happens to the table: create, append, refill or replace")
	p.StringVar(&f.like, "like", "", "a table whose structure the new one takes")
	p.BoolVar(&f.byPosition, "by-position", false, "pair columns of file and table by their place, not by name")
	p.BoolVar(&f.keepIdentity, "keep-identity", false, "load the file's values into columns that the database numbers")
	p.BoolVar(&f.slowPath, "slow-path", false, "MySQL and MariaDB: load by inserts where LOAD DATA LOCAL is forbidden")
	p.BoolVar(&f.yes, "yes", false, "do not ask before a table is emptied or replaced")
	p.BoolVar(&f.again, "again", false, "load a file although its bytes are in the table already")
	p.BoolVar(&f.accept, "accept-changes", false, "load a file although many of its values do not fit the plan; their records become rejects")
	p.Int64Var(&f.every, "commit-every", 0, "commit on the way after so many records, so that a stopped load can be resumed; 0 commits once, at the end")
	addTray(cmd, &f.tray)
	p.BoolVar(&f.dryRun, "dry-run", false, "do everything but touch the database")
	p.StringVar(&f.maxRejects, "max-rejects", "", "end the load, with nothing changed, when more records than this number or share (like 1%) are rejected; 0 means all or nothing")
	return cmd
}

func (a *app) load(ctx context.Context, names []string, f *loadFlags) error {
	if f.into == "" {
		return asked("load: say into which database\n  --into %s", connect.Examples())
	}
	mode := db.Mode(f.mode)
	switch mode {
	case db.Create, db.Append, db.Refill, db.Replace:
	default:
		return asked("--mode %q: use create, append, refill or replace", f.mode)
	}
	if f.like != "" && !mode.New() {
		return asked("--like: only a new table can take the structure of another\n  use --mode create or replace")
	}
	limit, err := rejectLimit(f.maxRejects)
	if err != nil {
		return err
	}
	if err := f.checkSteps(mode, limit); err != nil {
		return err
	}
	in, err := a.openAll(ctx, names, &f.inputFlags, false)
	if err != nil {
		return err
	}
	if err := in.blocked(); err != nil {
		return err
	}
	if in.profile != nil && in.profile.Records == 0 {
		return fmt.Errorf("%s: has a header and no records\n  there is nothing to load; the definition alone comes with 'ambertray ddl'", in.source.Name)
	}
	tolerate, err := in.tolerate(f)
	if err != nil {
		return err
	}
	if in.given {
		if err := a.changes(ctx, in, f, mode.New() && f.like == "", tolerate); err != nil {
			return err
		}
	}
	if _, err := load.Positions(in.plan, in.source); err != nil {
		return err
	}
	in.plan.Sources = nil
	for _, s := range in.sources {
		in.plan.Sources = append(in.plan.Sources, plan.FromLayout(s))
	}
	job := load.Job{Sources: in.sources, Plan: in.plan, MaxRejects: limit.count, MaxShare: limit.share, Every: f.every}
	if f.dryRun && mode.New() && f.like == "" {
		return a.dryRun(ctx, in, job)
	}
	conn, err := a.connect(ctx, f.into, &f.databaseFlags)
	if err != nil {
		return err
	}
	defer conn.Close()
	def := in.plan.Definition()
	if err := checkNames(conn.Dialect(), def); err != nil {
		return err
	}
	found, err := conn.Find(ctx, def.Schema, def.Name)
	if err != nil {
		return err
	}
	where := fmt.Sprintf("%s: the table %s", connect.Redact(f.into), db.Qualified(def.Schema, def.Name))
	switch {
	case mode == db.Create && found != nil:
		rows, err := conn.Count(ctx, found)
		if err != nil {
			return err
		}
		return asked("%s exists already, with %s\n  choose another name with --table, or say --mode append, refill or replace; nothing was changed", where, plural(rows, "row"))
	case !mode.New() && found == nil:
		return asked("%s does not exist\n  check the name and --schema, or create it with --mode create", where)
	}
	if mode == db.Append && !f.again {
		if err := a.loadedBefore(in, f, found); err != nil {
			return err
		}
	}
	job.Spec = db.Spec{Mode: mode, Table: def, SlowPath: f.slowPath}
	like := found
	if f.like != "" {
		schema, table := def.Schema, f.like
		if s, t, ok := strings.Cut(f.like, "."); ok {
			schema, table = s, t
		}
		if like, err = conn.Find(ctx, schema, table); err != nil {
			return err
		} else if like == nil {
			return asked("--like: the table %s does not exist", f.like)
		}
		job.Spec.Like = &db.Name{Schema: schema, Table: table}
		copied := *like
		copied.Schema, copied.Name = def.Schema, def.Name
		like = &copied
	}
	if !mode.New() || f.like != "" {
		m, err := load.Map(ctx, in.sources, in.plan, like, load.MapOptions{ByPosition: f.byPosition, KeepIdentity: f.keepIdentity, Tolerate: tolerate, Profile: in.profile})
		if err != nil {
			return err
		}
		if f.dryRun || !a.json {
			state := "a new table like " + f.like
			if f.like == "" {
				rows, err := conn.Count(ctx, found)
				if err != nil {
					return err
				}
				state = plural(rows, "row")
			}
			if err := a.printMapping(in, like, state, m, f.dryRun); err != nil {
				return err
			}
		}
		if m.Blocked() {
			what := fmt.Sprintf("%s: nothing was loaded; these differences are blocking%s", in.source.Name, m.Summary())
			if share := m.Tolerable(); share != "" {
				how := "say --tolerate " + share
				if in.given {
					how = "write 'tolerate: " + share + "' into the plan"
				}
				what += "\n  mend the file, or " + how + ": then the others are loaded, and these records become rejects"
			}
			return asked("%s", what)
		}
		if f.dryRun {
			return nil
		}
		job.Plan, job.Spec.Table = m.Plan, m.Plan.Definition()
		for i := range job.Spec.Table.Columns {
			job.Spec.Table.Columns[i].Comment = ""
		}
	}
	if found != nil && (mode == db.Refill || mode == db.Replace) && !f.yes {
		rows, err := conn.Count(ctx, found)
		if err != nil {
			return err
		}
		what := map[db.Mode]string{db.Refill: "emptied", db.Replace: "dropped"}[mode]
		if err := a.confirm(fmt.Sprintf("%s, with %s, will be %s and loaded anew", where, plural(rows, "row"), what)); err != nil {
			return err
		}
	}
	return a.runLoad(ctx, in, job, conn, found, f)
}

// A rejects limit is a number of records, or a share of those read.
type rejects struct {
	count int64
	share float64
}

func rejectLimit(s string) (rejects, error) {
	if s == "" {
		return rejects{-1, 0}, nil
	}
	if strings.HasSuffix(s, "%") {
		v, err := share(s)
		if err != nil {
			return rejects{}, asked("--max-rejects %q: use a number of records, or a share from 0%% to 50%%", s)
		}
		return rejects{-1, v}, nil
	}
	n, err := strconv.ParseInt(s, 10, 64)
	if err != nil || n < 0 {
		return rejects{}, asked("--max-rejects %q: use a number of records from 0, or a share like 1%%", s)
	}
	return rejects{n, 0}, nil
}

// runLoad loads with the papers around it.
func (a *app) runLoad(ctx context.Context, in *input, job load.Job, conn db.Session, found *db.Table, f *loadFlags) error {
	var before []tray.Summary
	replaces := found != nil && job.Spec.Mode != db.Append
	if replaces {
		var err error
		if before, err = a.entriesOf(f.into, trayDir(f.tray)); err != nil {
			return err
		}
	}
	start := time.Now()
	entry, err := tray.Create(trayDir(f.tray), in.plan.Table.Name, start)
	if err != nil {
		return err
	}
	logFile, err := entry.Log()
	if err != nil {
		return err
	}
	defer logFile.Close()
	job.Log = slog.New(slog.NewMultiHandler(a.log.Handler(), slog.NewTextHandler(logFile, nil)))
	job.Log.Info("load", "version", a.version, "source", in.source.Name, "into", connect.Redact(f.into), "mode", f.mode, "table", in.plan.Table.Name, "entry", entry.Name)
	if err := a.writePapers(entry, in, &job, conn); err != nil {
		return err
	}
	receipt := load.Started(entry.Name, in.sources, connect.Canonical(f.into), a.version, start)
	receipt.Table = tray.Table{Schema: job.Plan.Table.Schema, Name: job.Plan.Table.Name, Mode: f.mode}
	job.Receipt, job.Session = receipt, conn
	if f.every > 0 {
		stops := stopsOf(&job, f)
		job.Spec.Steps = stops.Load
		if err := entry.WriteStops(stops); err != nil {
			return err
		}
	}
	if job.Spec.Mode == db.Append && !f.again && slices.ContainsFunc(in.sources, (*source.Source).Flows) {
		job.BeforeCommit = func() error { return a.loadedBefore(in, f, found) }
	}
	if err := a.carryOut(ctx, entry, in, job); err != nil {
		return err
	}
	if replaces && !a.json {
		a.wereIn(before, receipt, in.plan, found)
	}
	return a.told(receipt, entry, connect.Redact(f.into), time.Since(start))
}

// carryOut runs a load whose papers are begun. Without an error, all is
// committed, and the receipt is settled.
func (a *app) carryOut(ctx context.Context, entry *tray.Entry, in *input, job load.Job) error {
	receipt := job.Receipt
	m := a.newMeter(ctx, "loading", in.size())
	job.Entry, job.At = receipt.Entry, receipt.Started
	rejects := entry.Rejects(load.Headers(in.sources, job.Plan))
	if slices.ContainsFunc(in.sources, func(s *source.Source) bool { return s.Sheet != "" }) {
		rejects.Cells()
	}
	job.Rejects = rejects
	job.Progress = m.set
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
	err := load.Run(ctx, job)
	m.end()
	if err == nil {
		if err := entry.Settle(tray.ReceiptFile); err != nil {
			return fmt.Errorf("the load is committed and verified, but its receipt could not be written: %w", err)
		}
		return nil
	}
	if ctx.Err() != nil {
		err = errors.New("stopped; nothing was committed")
		if receipt.Commits > 0 {
			err = errors.New("stopped; what had been committed on the way stays in the table")
		}
	}
	receipt.Finished = now()
	receipt.Verdict, receipt.Error = tray.Failed, err.Error()
	if receipt.Commits > 0 {
		receipt.Verdict = tray.Halted
	}
	job.Log.Error("failed", "error", err)
	if a.json {
		printJSON(a.out, receipt)
	}
	if receipt.Commits > 0 {
		return fmt.Errorf("%w\n  the papers are in %s; when the cause is mended, go on with: ambertray resume %s", err, entry.Dir, entry.Name)
	}
	if err2 := entry.WriteReceipt(receipt); err2 != nil {
		job.Log.Error("the receipt could not be written", "error", err2)
	}
	return fmt.Errorf("%w\n  the papers are in %s", err, entry.Dir)
}

// told shows what a load came to.
func (a *app) told(receipt *tray.Receipt, entry *tray.Entry, into string, took time.Duration) error {
	if a.json {
		if err := printJSON(a.out, receipt); err != nil {
			return err
		}
	} else {
		a.printReceipt(receipt, entry, into, took)
	}
	return settled(receipt)
}

// writePapers puts plan and definition on the tray, as they will be run.
func (a *app) writePapers(e *tray.Entry, in *input, job *load.Job, conn db.Session) error {
	comments := in.comments
	if job.Plan != in.plan {
		comments = comments.Moved(in.plan, job.Plan)
	}
	if in.given || job.Plan != in.plan {
		comments.Head = "Amber Tray plan, as it was run"
	}
	b, err := job.Plan.Encode(comments)
	if err != nil {
		return err
	}
	if err := e.Write(tray.PlanFile, b); err != nil {
		return err
	}
	if !job.Spec.Mode.New() || job.Spec.Like != nil {
		return nil // the definition is the table's own
	}
	sql := strings.Join(conn.Dialect().Create(job.Spec.Table), ";\n") + ";\n"
	return e.Write(tray.TableFile, []byte(sql))
}

func (a *app) dryRun(ctx context.Context, in *input, job load.Job) error {
	m := a.newMeter(ctx, "checking", in.size())
	job.Progress = m.set
	check, err := load.DryRun(ctx, job)
	m.end()
	if err != nil {
		return err
	}
	if a.json {
		return printJSON(a.out, map[string]any{"dry_run": true, "records": check.Records, "reasons": reasonList(check.Reasons), "table": in.plan.Table.Name})
	}
	st := a.style(a.out)
	fmt.Fprintf(a.out, "%s  %s into %s; the database was not touched\n\n", st.head("Dry run"), in.source.Name, in.plan.Table.Name)
	a.printCheck(st, check)
	return nil
}

// printReceipt says what a load came to.
func (a *app) printReceipt(r *tray.Receipt, e *tray.Entry, into string, took time.Duration) {
	st := a.style(a.out)
	fmt.Fprintf(a.out, "%s  %s of %s in %s, into %s\n\n", st.head(db.Qualified(r.Table.Schema, r.Table.Name)),
		plural(r.Records.Loaded, "record"), tray.Names(r.Sources), round(took), into)
	bytes := int64(0)
	for i, s := range r.Sources {
		if i == 0 || s.Path != r.Sources[i-1].Path {
			bytes += s.Size
		}
	}
	g := newGrid(st, "", ">", "")
	g.row("read", grouped(r.Records.Read), st.dim("records in "+size(bytes)))
	g.row("loaded", grouped(r.Records.Loaded), "")
	rejects := ""
	if r.Records.Rejected > 0 {
		rejects = e.Path(tray.RejectsFile)
	}
	g.row("rejected", grouped(r.Records.Rejected), rejects)
	var skipped []string
	for _, s := range r.Skipped {
		skipped = append(skipped, s.Words())
	}
	g.row("skipped", grouped(r.Records.Skipped), st.dim(strings.Join(skipped, ", ")))
	counted := ", counted before the commit"
	if r.Commits > 0 {
		counted = ", counted before the last commit"
	}
	if r.Table.Before > 0 {
		counted = fmt.Sprintf(", %s before and %s added%s", grouped(r.Table.Before), grouped(r.Records.Loaded), strings.Replace(counted, ",", ";", 1))
	}
	g.row("in table", grouped(r.Table.Rows), st.good("agrees")+st.dim(counted))
	if r.Commits > 0 {
		g.row("commits", grouped(r.Commits+1), st.dim(fmt.Sprintf("%s on the way, and one when all agreed", grouped(r.Commits))))
	}
	sums := 0
	for _, c := range r.Columns {
		if c.Sum != "" {
			sums++
		}
	}
	what := "nulls, smallest and largest"
	if r.Table.Checksums {
		what = "every row by its checksum"
	}
	if sums > 0 {
		what += fmt.Sprintf("; exact sums of %d", sums)
	}
	g.row("columns", fmt.Sprint(len(r.Columns)), st.good("agree")+st.dim(": "+what))
	g.render(a.out)
	if len(r.Reasons) > 0 {
		fmt.Fprintf(a.out, "\n%s\n", st.title("Rejects"))
		a.printReasons(st, r.Reasons)
	}
	verdict := st.good(string(r.Verdict))
	if r.Verdict == tray.Waiting {
		verdict = st.warn(string(r.Verdict)) + ": rejects wait to be mended (ambertray rejects " + e.Name + ")"
	}
	fmt.Fprintf(a.out, "\n  verdict  %s\n  papers   %s\n", verdict, e.Dir)
}

// printReasons lists why records were rejected, each with its first.
func (a *app) printReasons(st style, reasons []tray.Reason) { a.printReasonsTo(a.out, st, reasons) }

func (a *app) printReasonsTo(w io.Writer, st style, reasons []tray.Reason) {
	const most = 10
	g := newGrid(st, ">records", "column", "reason", "first")
	for _, x := range reasons[:min(len(reasons), most)] {
		first := standsAt("", x.Line, x.Cell, false)
		if x.Value != "" {
			first += fmt.Sprintf(" '%s'", shorten(x.Value, 40))
		}
		g.row(grouped(x.Count), x.Column, shorten(x.Reason, 48), st.dim(first))
	}
	if n := len(reasons) - most; n > 0 {
		g.row("", "", st.dim("and "+plural(int64(n), "more reason")))
	}
	g.render(w)
}

func round(d time.Duration) string {
	if d < time.Second {
		return d.Round(time.Millisecond).String()
	}
	return d.Round(10 * time.Millisecond).String()
}

// now is the time as papers have it.
func now() time.Time { return time.Now().UTC().Truncate(time.Millisecond) }

// size is how many bytes all sources have.
func (in *input) size() (n int64) {
	for _, s := range in.sources {
		n += s.Size
	}
	return
}

// tolerate is the share of values that may misfit, by the plan or as given.
func (in *input) tolerate(f *loadFlags) (float64, error) {
	if in.given && in.plan.Tolerate != "" {
		v, err := share(in.plan.Tolerate)
		if err != nil {
			return 0, asked("tolerate in the plan: %q is no share", in.plan.Tolerate)
		}
		return v, nil
	}
	return share(f.tolerate)
}

// changes compares files that the plan was not made from with the plan, and
// stops where something is blocking. values tells that nothing else will look
// at the values before they are loaded.
func (a *app) changes(ctx context.Context, in *input, f *loadFlags, values bool, tolerate float64) error {
	var all []load.Change
	blocked := ""
	compared := 0
	m := a.newMeter(ctx, "comparing", in.size())
	for _, src := range in.sources {
		if in.plan.Made(src) {
			continue
		}
		compared++
		list, err := load.Changes(ctx, src, in.plan, values, tolerate)
		if err != nil {
			m.end()
			return err
		}
		for i := range list {
			if c := &list[i]; c.Weight == load.Blocking {
				if c.Misfits && f.accept {
					c.Weight = load.Caution
					continue
				}
				blocked += "\n  "
				if len(in.sources) > 1 {
					blocked += c.Source + ": "
				}
				if c.Column != "" {
					blocked += c.Column + ": "
				}
				blocked += c.Text
			}
		}
		all = append(all, list...)
	}
	m.end()
	if compared == 0 {
		return nil
	}
	if !a.json {
		a.printChanges(all, compared)
	} else if blocked != "" {
		if err := printJSON(a.out, map[string]any{"blocked": true, "changes": all}); err != nil {
			return err
		}
	}
	if blocked != "" {
		return asked("nothing was loaded; the file is not what the plan was made for%s", blocked)
	}
	return nil
}

func (a *app) printChanges(all []load.Change, compared int) {
	st := a.style(a.out)
	if len(all) == 0 {
		fmt.Fprintf(a.out, "%s\n\n", st.dim("Compared with the plan: "+plural(int64(compared), "source")+", nothing has changed"))
		return
	}
	fmt.Fprintln(a.out, st.title("Compared with the plan"))
	g := newGrid(st, "file", "column", "", "")
	for _, c := range all {
		g.row(shorten(c.Source, 30), shorten(c.Column, 26), a.weight(st, c.Weight), strings.Join(fold(c.Text, max(st.width-80, 40)), "\n"))
	}
	g.render(a.out)
	fmt.Fprintln(a.out)
}

// entriesOf lists the entries on a tray whose loads went into a database.
func (a *app) entriesOf(url, dir string) ([]tray.Summary, error) {
	list, err := tray.List(dir)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(list, func(s tray.Summary) bool { return s.Receipt == nil || !connect.Same(s.Receipt.Database, url) }), nil
}

// schemasOf are the names under which the schema of a plan's table may stand
// in receipts: its own, or that of the default one.
func schemasOf(p *plan.Plan, found *db.Table) []string {
	if p.Table.Schema == "" && found != nil {
		return []string{"", found.Schema}
	}
	return []string{p.Table.Schema}
}

// loadedBefore stops a load that would add a file to a table that has it
// already, as far as the tray tells.
func (a *app) loadedBefore(in *input, f *loadFlags, found *db.Table) error {
	here, err := a.entriesOf(f.into, trayDir(f.tray))
	if err != nil {
		return err
	}
	for _, src := range in.sources {
		if src.Flows() && src.FileSize == 0 {
			continue // asked for again when it has been read
		}
		// Only a file of the same size needs to be read for its sum.
		if !slices.ContainsFunc(here, func(s tray.Summary) bool {
			return slices.ContainsFunc(s.Receipt.Sources, func(x tray.Source) bool { return x.Size == src.FileSize })
		}) {
			continue
		}
		sum, err := src.Sum()
		if err != nil {
			return err
		}
		was := tray.Loaded(here, schemasOf(in.plan, found), in.plan.Table.Name, sum, src.Part())
		if was == nil {
			continue
		}
		what := alreadyIn(src.Name, found, was)
		if !f.dryRun {
			return asked("%s\n  say --again to load it nevertheless; nothing was changed", what)
		}
		fmt.Fprintln(a.err, what)
	}
	return nil
}

func alreadyIn(name string, t *db.Table, was *tray.Summary) string {
	return fmt.Sprintf("%s: its bytes are in the table %s already, by the entry %s of %s", name, db.Qualified(t.Schema, t.Name), was.Entry.Name, was.Started.Format("2006-01-02 15:04"))
}

// wereIn says, after a load that emptied or replaced a table, that the files
// had been in it before.
func (a *app) wereIn(before []tray.Summary, r *tray.Receipt, p *plan.Plan, found *db.Table) {
	for _, s := range r.Sources {
		if was := tray.Loaded(before, schemasOf(p, found), p.Table.Name, s.SHA256, s.Part); was != nil {
			fmt.Fprintf(a.err, "note: the bytes of %s had been loaded into this table before, by the entry %s\n", s.Path, was.Entry.Name)
		}
	}
}
