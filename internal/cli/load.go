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
	into       string
	tray       string
	dryRun     bool
	maxRejects string
}

func (a *app) loadCommand() *cobra.Command {
	var f loadFlags
	cmd := &cobra.Command{
		Use:   "load SOURCE|PLAN --into URL",
		Short: "Create the table, load the records, verify, commit, keep the papers",
		Long: `Loads a file into a new table, in one transaction. Before it commits, the
account has to balance (records read = loaded + rejected + skipped), and rows,
nulls, sums, smallest and largest values in the table have to agree with what
was read. Records that do not fit are rejected, not the load: they are kept in
rejects.csv with line, column, value and reason.

The papers (plan, definition, rejects, receipt, log) are left on the tray.`,
		Example: `  ambertray load lock-passages.csv --into sqlite:harrowmere.db
  ambertray load passages.yaml --into sqlite:harrowmere.db --table passages_2025
  ambertray load lock-passages.csv --into sqlite:harrowmere.db --type Toll='decimal(8,2)'
  ambertray load lock-passages.csv --into sqlite:harrowmere.db --max-rejects 0
  ambertray load lock-passages.csv --into sqlite:harrowmere.db --dry-run`,
		Args: args(1, 1, "one file"),
		RunE: func(cmd *cobra.Command, args []string) error { return a.load(cmd.Context(), args[0], &f) },
	}
	f.add(cmd)
	f.addTable(cmd)
	p := cmd.Flags()
	p.StringVar(&f.into, "into", "", "database URL: sqlite:path/to.db")
	p.StringVar(&f.tray, "tray", "", "folder for the papers (default ./tray, or AMBERTRAY_TRAY)")
	p.BoolVar(&f.dryRun, "dry-run", false, "do everything but touch the database")
	p.StringVar(&f.maxRejects, "max-rejects", "", "end the load, with nothing changed, when more records than this are rejected; 0 means all or nothing")
	return cmd
}

func (a *app) load(ctx context.Context, name string, f *loadFlags) error {
	if f.into == "" {
		return asked("load: say into which database\n  --into sqlite:path/to.db")
	}
	limit := int64(-1)
	if f.maxRejects != "" {
		n, err := strconv.ParseInt(f.maxRejects, 10, 64)
		if err != nil || n < 0 {
			return asked("--max-rejects %q: use a number of records, from 0", f.maxRejects)
		}
		limit = n
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
	job := load.Job{Source: in.source, Plan: in.plan, MaxRejects: limit}
	if f.dryRun {
		return a.dryRun(ctx, in, job, f)
	}
	db, err := connect.Open(ctx, f.into)
	if err != nil {
		return err
	}
	defer db.Close()
	def := in.plan.Definition()
	if err := checkNames(db.Dialect(), def); err != nil {
		return err
	}
	if t, err := db.Find(ctx, def.Schema, def.Name); err != nil {
		return err
	} else if t != nil {
		return asked("%s: the table %s exists already, with %s\n  choose another name with --table; nothing was changed", f.into, target.Qualified(def.Schema, def.Name), plural(t.Rows, "row"))
	}
	return a.runLoad(ctx, in, job, db, f)
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
	job.Log.Info("load", "version", a.version, "source", in.source.Name, "into", f.into, "table", in.plan.Table.Name, "entry", entry.Name)
	if err := a.writePapers(entry, in, db); err != nil {
		return err
	}
	receipt := load.Started(entry.Name, in.source, f.into, a.version, start)
	receipt.Table = tray.Table{Schema: in.plan.Table.Schema, Name: in.plan.Table.Name}
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
func (a *app) writePapers(e *tray.Entry, in *input, db target.Target) error {
	comments := in.comments
	if in.given {
		comments = plan.Comments{Head: "Amber Tray plan, as it was run"}
	}
	b, err := in.plan.Encode(comments)
	if err != nil {
		return err
	}
	if err := e.Write(tray.PlanFile, b); err != nil {
		return err
	}
	sql := strings.Join(db.Dialect().Create(in.plan.Definition()), ";\n") + ";\n"
	return e.Write(tray.TableFile, []byte(sql))
}

func (a *app) dryRun(ctx context.Context, in *input, job load.Job, f *loadFlags) error {
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
	g.row("in table", grouped(r.Table.Rows), st.good("agrees")+st.dim(", counted before the commit"))
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
