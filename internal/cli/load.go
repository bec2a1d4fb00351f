package cli

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ambertray/internal/load"
	"ambertray/internal/plan"
	"ambertray/internal/target"
	"ambertray/internal/target/connect"
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
}

func (a *app) loadCommand() *cobra.Command {
	var f loadFlags
	cmd := &cobra.Command{
		Use:   "load SOURCE|PLAN --into URL",
		Short: "Create or map the table, load the records, verify, commit, keep the papers",
		Long: `Loads a file into a table, in one transaction. Before it commits, the account
has to balance (records read = loaded + rejected + skipped), and rows, nulls,
sums, smallest and largest values in the table have to agree with what was
read. Records that do not fit, or that the database refuses, are rejected, not
the load: they are kept in rejects.csv with line, column, value and reason.

--mode create    a new table, which must not exist (the default)
--mode append    adds to a table; file and table are compared column by column
                 first, and the load stops if anything is blocking
--mode refill    empties a table and loads it
--mode replace   drops a table, creates and loads it

Whatever fails or is stopped leaves the table as it was. The papers (plan,
definition, rejects, receipt, log) are left on the tray.`,
		Example: `  ambertray load lock-passages.csv --into sqlite:harrowmere.db
  ambertray load passages.yaml --into sqlite:harrowmere.db --table passages_2025
  ambertray load lock-passages.csv --into postgres://keeper@localhost/canal --schema tolls
  ambertray load march.csv --into mysql://keeper@localhost/canal --table passages --mode append
  ambertray load lock-passages.csv --into sqlite:harrowmere.db --max-rejects 0
  ambertray load lock-passages.csv --into sqlite:harrowmere.db --dry-run`,
		Args: args(1, 1, "one file"),
		RunE: func(cmd *cobra.Command, args []string) error { return a.load(cmd.Context(), args[0], &f) },
	}
	f.add(cmd)
	f.addTable(cmd)
	p := cmd.Flags()
	p.StringVar(&f.into, "into", "", "database URL: sqlite:path/to.db, postgres://user@host:5432/db or mysql://user@host:3306/db")
	f.addDatabase(cmd)
	p.StringVar(&f.mode, "mode", "create", "what happens to the table: create, append, refill or replace")
	p.StringVar(&f.like, "like", "", "a table whose structure the new one takes")
	p.BoolVar(&f.byPosition, "by-position", false, "pair columns of file and table by their place, not by name")
	p.BoolVar(&f.keepIdentity, "keep-identity", false, "load the file's values into columns that the database numbers")
	p.BoolVar(&f.slowPath, "slow-path", false, "MySQL and MariaDB: load by inserts where LOAD DATA LOCAL is forbidden")
	p.BoolVar(&f.yes, "yes", false, "do not ask before a table is emptied or replaced")
	p.StringVar(&f.tray, "tray", "", "folder for the papers (default ./tray, or AMBERTRAY_TRAY)")
	p.BoolVar(&f.dryRun, "dry-run", false, "do everything but touch the database")
	p.StringVar(&f.maxRejects, "max-rejects", "", "end the load, with nothing changed, when more records than this number or share (like 1%) are rejected; 0 means all or nothing")
	return cmd
}

func (a *app) load(ctx context.Context, name string, f *loadFlags) error {
	if f.into == "" {
		return asked("load: say into which database\n  --into sqlite:path/to.db, postgres://user@host:5432/db or mysql://user@host:3306/db")
	}
	mode := target.Mode(f.mode)
	switch mode {
	case target.Create, target.Append, target.Refill, target.Replace:
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
	in, err := a.open(ctx, name, &f.inputFlags, false)
	if err != nil {
		return err
	}
	if err := in.blocked(); err != nil {
		return err
	}
	if in.profile != nil && in.profile.Records == 0 {
		return fmt.Errorf("%s: has a header and no records\n  there is nothing to load; the definition alone comes with 'ambertray ddl'", in.source.Name)
	}
	if _, err := load.Positions(in.plan, in.source); err != nil {
		return err
	}
	job := load.Job{Source: in.source, Plan: in.plan, MaxRejects: limit.count, MaxShare: limit.share}
	if f.dryRun && mode.New() && f.like == "" {
		return a.dryRun(ctx, in, job)
	}
	db, err := a.connect(ctx, f.into, &f.databaseFlags)
	if err != nil {
		return err
	}
	defer db.Close()
	def := in.plan.Definition()
	if err := checkNames(db.Dialect(), def); err != nil {
		return err
	}
	found, err := db.Find(ctx, def.Schema, def.Name)
	if err != nil {
		return err
	}
	where := fmt.Sprintf("%s: the table %s", connect.Redact(f.into), target.Qualified(def.Schema, def.Name))
	switch {
	case mode == target.Create && found != nil:
		return asked("%s exists already, with %s\n  choose another name with --table, or say --mode append, refill or replace; nothing was changed", where, plural(found.Rows, "row"))
	case !mode.New() && found == nil:
		return asked("%s does not exist\n  check the name and --schema, or create it with --mode create", where)
	}
	job.Spec = target.Spec{Mode: mode, Table: def, SlowPath: f.slowPath}
	like := found
	if f.like != "" {
		schema, table := def.Schema, f.like
		if s, t, ok := strings.Cut(f.like, "."); ok {
			schema, table = s, t
		}
		if like, err = db.Find(ctx, schema, table); err != nil {
			return err
		} else if like == nil {
			return asked("--like: the table %s does not exist", f.like)
		}
		job.Spec.Like = table
		if db.Dialect().Name != "sqlite" {
			job.Spec.Like = db.Dialect().Qualified(schema, table)
		}
		copied := *like
		copied.Schema, copied.Name = def.Schema, def.Name
		like = &copied
	}
	if !mode.New() || f.like != "" {
		tolerate, _ := share(f.tolerate) // checked when the input was opened
		if in.given && in.plan.Tolerate != "" {
			if tolerate, err = share(in.plan.Tolerate); err != nil {
				return asked("tolerate in the plan: %q is no share", in.plan.Tolerate)
			}
		}
		m, err := load.Map(ctx, in.source, in.plan, like, load.MapOptions{ByPosition: f.byPosition, KeepIdentity: f.keepIdentity, Tolerate: tolerate})
		if err != nil {
			return err
		}
		if f.dryRun || !a.json {
			if err := a.printMapping(in, like, m, f.dryRun); err != nil {
				return err
			}
		}
		if m.Blocked() {
			return asked("%s: nothing was loaded; these differences are blocking%s", in.source.Name, m.Summary())
		}
		if f.dryRun {
			return nil
		}
		job.Plan, job.Spec.Table = m.Plan, m.Plan.Definition()
		for i := range job.Spec.Table.Columns {
			job.Spec.Table.Columns[i].Comment = ""
		}
	}
	if found != nil && (mode == target.Refill || mode == target.Replace) {
		what := map[target.Mode]string{target.Refill: "emptied", target.Replace: "dropped"}[mode]
		if err := a.confirm(fmt.Sprintf("%s, with %s, will be %s and loaded anew", where, plural(found.Rows, "row"), what), f.yes); err != nil {
			return err
		}
	}
	return a.runLoad(ctx, in, job, db, f)
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
func (a *app) runLoad(ctx context.Context, in *input, job load.Job, db target.Target, f *loadFlags) error {
	dir := f.tray
	if dir == "" {
		if dir = os.Getenv("AMBERTRAY_TRAY"); dir == "" {
			dir = "tray"
		}
	}
	start := time.Now()
	entry, err := tray.Create(dir, in.plan.Table.Name, start)
	if err != nil {
		return err
	}
	logFile, err := os.Create(entry.Path(tray.LogFile))
	if err != nil {
		return fmt.Errorf("the log cannot be written: %w", err)
	}
	defer logFile.Close()
	job.Log = slog.New(slog.NewMultiHandler(a.log.Handler(), slog.NewTextHandler(logFile, nil)))
	job.Log.Info("load", "version", a.version, "source", in.source.Name, "into", connect.Redact(f.into), "mode", f.mode, "table", in.plan.Table.Name, "entry", entry.Name)
	if err := a.writePapers(entry, in, &job, db); err != nil {
		return err
	}
	receipt := load.Started(entry.Name, in.source, connect.Redact(f.into), a.version, start)
	receipt.Table = tray.Table{Schema: job.Plan.Table.Schema, Name: job.Plan.Table.Name, Mode: f.mode}
	m := a.newMeter(ctx, "loading", in.source.Size)
	job.Target, job.Entry, job.Receipt = db, entry, receipt
	job.Progress = m.set
	err = load.Run(ctx, job)
	m.end()
	receipt.Finished = time.Now().UTC().Truncate(time.Millisecond)
	if err != nil {
		if ctx.Err() != nil {
			err = fmt.Errorf("stopped; nothing was committed")
		}
		receipt.Verdict, receipt.Error = tray.Failed, err.Error()
		job.Log.Error("failed", "error", err)
	}
	b, encErr := receipt.Encode()
	if encErr == nil {
		encErr = entry.Write(tray.ReceiptFile, b)
	}
	switch {
	case err != nil:
		if a.json {
			printJSON(a.out, receipt)
		}
		return fmt.Errorf("%w\n  the papers are in %s", err, entry.Dir)
	case encErr != nil:
		return fmt.Errorf("the load is committed and verified, but its receipt could not be written: %w", encErr)
	}
	if a.json {
		if err := printJSON(a.out, receipt); err != nil {
			return err
		}
	} else {
		a.printReceipt(receipt, entry, time.Since(start))
	}
	if receipt.Verdict == tray.Waiting {
		return &status{code: exitWaiting}
	}
	return nil
}

// writePapers puts plan and definition on the tray, as they will be run.
func (a *app) writePapers(e *tray.Entry, in *input, job *load.Job, db target.Target) error {
	comments := in.comments
	if in.given || job.Plan != in.plan {
		comments = plan.Comments{Head: "Amber Tray plan, as it was run"}
	}
	b, err := job.Plan.Encode(comments)
	if err != nil {
		return err
	}
	if err := e.Write(tray.PlanFile, b); err != nil {
		return err
	}
	if !job.Spec.Mode.New() || job.Spec.Like != "" {
		return nil // the definition is the table's own
	}
	sql := strings.Join(db.Dialect().Create(job.Spec.Table), ";\n") + ";\n"
	return e.Write(tray.TableFile, []byte(sql))
}

func (a *app) dryRun(ctx context.Context, in *input, job load.Job) error {
	m := a.newMeter(ctx, "checking", in.source.Size)
	job.Progress = m.set
	check, err := load.DryRun(ctx, job)
	m.end()
	if err != nil {
		return err
	}
	if a.json {
		reasons := check.Reasons
		if reasons == nil {
			reasons = []tray.Reason{}
		}
		return printJSON(a.out, map[string]any{"dry_run": true, "records": check.Records, "reasons": reasons, "table": in.plan.Table.Name})
	}
	st := a.style(a.out)
	fmt.Fprintf(a.out, "%s  %s into %s; the database was not touched\n\n", st.head("Dry run"), in.source.Name, in.plan.Table.Name)
	a.printCheck(st, check)
	return nil
}

// printReceipt says what a load came to.
func (a *app) printReceipt(r *tray.Receipt, e *tray.Entry, took time.Duration) {
	st := a.style(a.out)
	fmt.Fprintf(a.out, "%s  %s of %s in %s, into %s\n\n", st.head(target.Qualified(r.Table.Schema, r.Table.Name)),
		plural(r.Records.Loaded, "record"), r.Source.Path, round(took), r.Database)
	g := newGrid(st, "", ">", "")
	g.row("read", grouped(r.Records.Read), st.dim("records in "+size(r.Source.Size)))
	g.row("loaded", grouped(r.Records.Loaded), "")
	rejects := ""
	if r.Records.Rejected > 0 {
		rejects = e.Path(tray.RejectsFile)
	}
	g.row("rejected", grouped(r.Records.Rejected), rejects)
	var skipped []string
	for _, s := range r.Skipped {
		skipped = append(skipped, plural(s.Count, s.Kind+" line"))
	}
	g.row("skipped", grouped(r.Records.Skipped), st.dim(strings.Join(skipped, ", ")))
	counted := ", counted before the commit"
	if r.Table.Before > 0 {
		counted = fmt.Sprintf(", %s before and %s added; counted before the commit", grouped(r.Table.Before), grouped(r.Records.Loaded))
	}
	g.row("in table", grouped(r.Table.Rows), st.good("agrees")+st.dim(counted))
	sums := 0
	for _, c := range r.Columns {
		if c.Sum != "" {
			sums++
		}
	}
	what := "nulls, smallest and largest"
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
		verdict = st.warn(string(r.Verdict)) + ": rejects wait to be mended"
	}
	fmt.Fprintf(a.out, "\n  verdict  %s\n  papers   %s\n", verdict, e.Dir)
}

// printReasons lists why records were rejected, each with its first.
func (a *app) printReasons(st style, reasons []tray.Reason) {
	const most = 10
	g := newGrid(st, ">records", "column", "reason", "first")
	for _, x := range reasons[:min(len(reasons), most)] {
		first := "line " + grouped(x.Line)
		if x.Value != "" {
			first += fmt.Sprintf(" '%s'", shorten(x.Value, 40))
		}
		g.row(grouped(x.Count), x.Column, shorten(x.Reason, 48), st.dim(first))
	}
	if n := len(reasons) - most; n > 0 {
		g.row("", "", st.dim("and "+plural(int64(n), "more reason")))
	}
	g.render(a.out)
}

func round(d time.Duration) string {
	if d < time.Second {
		return d.Round(time.Millisecond).String()
	}
	return d.Round(10 * time.Millisecond).String()
}
