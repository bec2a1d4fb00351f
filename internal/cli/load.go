package cli

import (
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ambertray/internal/db"
	"ambertray/internal/db/connect"
	"ambertray/internal/desk"
	"ambertray/internal/plan"
	"ambertray/internal/tray"
)

type loadFlags struct {
	inputFlags
	databaseFlags
	into         string
	tray         string
	dryRun       bool
	yes          bool
	strict       bool
	prove        bool
	maxRejects   string
	mode         string
	like         string
	byPosition   bool
	keepIdentity bool
	slowPath     bool
	lanes        int
	fileRows     int64
	makeSchema   bool
	again        bool
	widen        bool
	attached     bool
	keepOld      bool
	ledger       bool
	accept       bool
	maxDeletes   string
	newColumns   string
	every        int64
	join         string
	onlyNew      bool
	missing      string
	sameKey      string
	before       string
	rows         int
}

const loadHelp = `Loads a file into a table, in one transaction. Before it commits, the account
has to balance (records read = loaded + rejected + skipped), and the table has
to agree with what was read: every row of a new one by its checksum, where the
database can make one, else rows, nulls, sums, smallest and largest values.
Records that do not fit, or that the database refuses, are rejected, not the
load: they are kept in rejects.csv with line, column, value and reason.

--mode create    a new table, which must not exist (the default)
--mode append    adds to a table; file and table are compared column by column
                 first, and the load stops if anything is blocking
--mode refill    empties a table and loads it
--mode replace   drops a table, creates and loads it
--mode merge     changes the rows of a table by its key, or --key: a record with a
                 new key is inserted, one with a known key and other values changes
                 its row, one with the same values changes nothing. --missing says
                 what becomes of rows that the file does not have. --dry-run shows
                 what would happen: counts, and old and new values. The rows as they
                 were are kept in before.csv of the entry

--mode append --only-new adds the records whose key the table does not have, or,
without a key, those whose values it does not have as often, and counts the
others as known: for a file that grows.

Several plans behind each other are loaded in one transaction, all or none, each
table before those that refer to it (SQLite, PostgreSQL, MySQL, MariaDB).

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
loaded twice. All is still verified before the last commit.

With --join NAME several programs, on machines that reach the same files, load
them side by side: each is given the same command, takes steps that no other
has, and one of them verifies the whole when all are in. If one ends, the others
take its steps.`

func (a *app) loadCommand() *cobra.Command {
	var f loadFlags
	cmd := &cobra.Command{
		Use:   "load SOURCE|PLAN [FILE…] --into URL",
		Short: "Create or map the table, load the records, verify, commit, keep the papers",
		Long:  loadHelp,
		Example: `  ambertray load lock-passages.csv --into sqlite:harrowmere.db
  ambertray load passages.yaml --into sqlite:harrowmere.db --table passages_2025
  ambertray load lock-passages.csv --into postgres://keeper@localhost/canal --schema tolls
  ambertray load passages.yaml april.csv may.csv --into sqlite:harrowmere.db --mode append
  ambertray load march.csv --into mysql://keeper@localhost/canal --table passages --mode append
  ambertray load boats.yaml passages.yaml --into postgres://keeper@localhost/canal
  ambertray load boats-april.csv --into sqlite:harrowmere.db --table boats --mode merge --dry-run
  ambertray load boats-april.csv --into sqlite:harrowmere.db --table boats --mode merge --missing delete
  ambertray load gauges.csv --into sqlite:harrowmere.db --mode append --only-new --quiet
  ambertray load lock-passages.csv --into sqlite:harrowmere.db --max-rejects 0
  ambertray load huge.yaml --into postgres://keeper@localhost/canal --commit-every 5000000
  ambertray load huge.yaml --into postgres://keeper@localhost/canal --commit-every 1000000 --join night
  ambertray load lock-passages.csv --into sqlite:harrowmere.db --dry-run`,
		Args: args(1, -1, "a file, or a plan"),
		RunE: func(cmd *cobra.Command, args []string) error { return a.load(cmd.Context(), args, &f) },
	}
	f.add(cmd)
	f.addTable(cmd)
	p := cmd.Flags()
	p.StringVar(&f.into, "into", "", "database URL: "+connect.Examples())
	f.addDatabase(cmd)
	p.StringVar(&f.mode, "mode", "create", "what happens to the table: create, append, merge, refill or replace")
	p.StringVar(&f.like, "like", "", "a table whose structure the new one takes")
	p.BoolVar(&f.byPosition, "by-position", false, "pair columns of file and table by their place, not by name")
	p.BoolVar(&f.keepIdentity, "keep-identity", false, "load the file's values into columns that the database numbers")
	p.BoolVar(&f.makeSchema, "create-schema", false,
		"create the schema of a new table, if it is not there (PostgreSQL, SQL Server)")
	p.Int64Var(&f.fileRows, "file-rows", 0, "Parquet: begin a new file after so many `ROWS`")
	p.IntVar(&f.lanes, "lanes", 0, "servers: connections that rows of a new table go in over (default: "+
		"PostgreSQL one to four, by size and processors; MySQL and MariaDB two; others one)")
	p.BoolVar(&f.slowPath, "slow-path", false, "MySQL and MariaDB: load by inserts where LOAD DATA LOCAL is forbidden")
	f.addMerge(cmd)
	p.BoolVar(&f.yes, "yes", false, "do not ask before a table is emptied or replaced, or because of cautions")
	addStrict(cmd, &f.strict)
	p.BoolVar(&f.prove, "prove", false, "compare every value with the source before the commit; reads both once more")
	p.BoolVar(&f.attached, "keep-attached", false,
		"make again what goes with a replaced table: indexes, constraints, triggers, grants, comments (PostgreSQL, "+
			"SQLite)")
	p.BoolVar(&f.keepOld, "keep-old", false,
		"keep the rows of a table that is emptied or replaced, in a table beside it, so that 'undo' can put them "+
			"back; "+
			"'tray --sweep' drops it")
	p.BoolVar(&f.widen, "widen", false,
		"make columns of text longer where values need it, in the transaction of the load (PostgreSQL, SQLite)")
	p.BoolVar(&f.ledger, "ledger", false,
		"make the table ambertray_ledger in the schema, once: from then on, whoever loads into the schema writes into "+
			"it what was loaded, and is told what was")
	p.BoolVar(&f.again, "again", false, "load a file although its bytes are in the table already")
	p.BoolVar(&f.accept, "accept-changes", false,
		"load a file although many of its values do not fit the plan; their records become rejects")
	p.Int64Var(&f.every, "commit-every", 0,
		"commit on the way after so many records, so that a stopped load can be resumed; 0 commits once, at the end")
	p.StringVar(&f.join, "join", "",
		"PostgreSQL, MySQL, MariaDB: share the load of this `NAME` with other programs that get the same command: "+
			"each takes steps of --commit-every records, and one verifies")
	addTray(cmd, &f.tray)
	p.BoolVar(&f.dryRun, "dry-run", false, "do everything but write: read, connect, find the table, compare, check "+
		"every value")
	p.StringVar(&f.newColumns, "new-columns", "",
		"columns of the file that the plan does not have: stop, or leave; left out: they are left, with a caution")
	p.StringVar(&f.maxDeletes, "max-deletes", "",
		"rows of the table that a refill, replace or merge may delete, net of new ones: a number, or a share like "+
			"10%; left out: you are asked where it is more than half")
	p.StringVar(&f.maxRejects, "max-rejects", "",
		"end the load, with nothing changed, when more records than this number or share (like 1%) are rejected; 0 "+
			"means all or nothing, none no limit (default: more than 5% and more than 100, or all of them)")
	return cmd
}

// addMerge adds what says how records meet rows that are there.
func (f *loadFlags) addMerge(cmd *cobra.Command) {
	p := cmd.Flags()
	p.BoolVar(&f.onlyNew, "only-new", false,
		"with --mode append: add only what the table does not have, by its key or --key, else by whole rows")
	p.StringVar(&f.missing, "missing", "",
		"with --mode merge: what becomes of rows that the file does not have: keep or delete (default: as the plan "+
			"says, else keep)")
	p.StringVar(&f.sameKey, "same-key", "",
		"what becomes of records with one key in a merge: reject all of them, or last, which skips all but the last "+
			"(default reject)")
	p.StringVar(&f.before, "before", "",
		"which rows a merge keeps as they were: all or none (default: all, up to a million changes; beyond, it asks)")
	p.IntVar(&f.rows, "rows", -1, "how many changed rows the dry run of a merge shows (default 10; 1000 with --json)")
}

func (a *app) load(ctx context.Context, names []string, f *loadFlags) error {
	if f.into == "" {
		return needed("load: say into which database\n  --into %s", connect.Examples())
	}
	in, err := f.request(names)
	if err != nil {
		return err
	}
	limit, err := limitOf(f.maxRejects)
	if err != nil {
		return err
	}
	deletes, err := plan.ParseDeletes(f.maxDeletes)
	if err != nil {
		return needed("--max-deletes %q: %w", f.maxDeletes, err)
	}
	a.oneLine = a.quiet && !a.json
	show := f.rows
	if show < 0 && a.json {
		show = 1000
	}
	a.desk.Tray = trayDir(f.tray)
	answer, err := a.desk.Load(ctx, desk.LoadRequest{Input: in, Into: f.at(f.into), Mode: db.Mode(f.mode), Like: f.like,
		ByPosition:   f.byPosition,
		KeepIdentity: f.keepIdentity, SlowPath: f.slowPath,
		Lanes: f.lanes, FileRows: f.fileRows, MakeSchema: f.makeSchema,
		DryRun: f.dryRun, Yes: f.yes,
		Strict: f.strict,
		Prove:  f.prove,
		Again:  f.again, Ledger: f.ledger, Widen: f.widen, KeepAttached: f.attached, KeepOld: f.keepOld,
		AcceptChanges: f.accept, NewColumns: f.newColumns, Limit: limit, Deletes: deletes, Every: f.every, Join: f.join,
		MergeRequest: desk.MergeRequest{OnlyNew: f.onlyNew, Missing: f.missing, SameKey: f.sameKey, Before: f.before,
			Show: show}})
	return a.answered(answer, err)
}

func limitOf(s string) (desk.RejectLimit, error) {
	limit, err := desk.ParseLimit(s)
	if err != nil {
		return limit, needed("--max-rejects %q: %w", s, err)
	}
	return limit, nil
}

// answered shows what a load came to.
func (a *app) answered(l *desk.LoadAnswer, failed error) error {
	if a.json {
		if doc := l.JSON(); doc != nil {
			if err := a.printJSON(doc); err != nil {
				return err
			}
		}
	} else {
		a.printLoad(l, failed)
	}
	if failed != nil {
		return failed
	}
	return ends(l.Outcome())
}

// printLoad says what a load, or each of several, came to.
func (a *app) printLoad(l *desk.LoadAnswer, failed error) {
	for i, x := range l.Each {
		if i > 0 {
			fmt.Fprintln(a.out)
		}
		var its error
		if i == len(l.Each)-1 {
			its = failed
		}
		a.printLoad(x, its)
	}
	switch {
	case l.Each != nil:
	case l.Shared != nil && l.Receipt == nil:
		if failed == nil {
			a.printShared(l.Shared)
		}
	case l.Nothing != nil:
		fmt.Fprintf(a.out, "%s: nothing new; %s in the table already\n", db.Qualified(l.Nothing.Schema,
			l.Nothing.Table),
			desk.InAlready(l.Nothing.Known))
	case a.oneLine && failed == nil && l.Receipt != nil && l.Receipt.Verdict != tray.Failed:
		a.printInOneLine(l.Receipt, l.Entry)
	case l.Merge != nil:
		a.printMerge(l.Merge)
	case l.Mapping != nil:
		a.printMapping(l.Mapping)
	case l.DryRun != nil:
		st := a.style(a.out)
		fmt.Fprintf(a.out, "%s  %s into %s; nothing was written\n\n", st.head("Dry run"), l.DryRun.Source,
			l.DryRun.Table)
		a.printCheck(st, l.DryRun.Check)
	case failed != nil, l.Receipt != nil && l.Receipt.Verdict == tray.Failed:
	case l.Receipt != nil:
		a.printReceipt(l.Receipt, l.Entry, l.Into, l.Took)
	}
}

// printShared says what this program has done of a load that another has verified.
func (a *app) printShared(s *desk.SharedAnswer) {
	fmt.Fprintf(a.out,
		"%s: %s, %s loaded, of the load %s; another program has verified all of it, as %s on its own tray\n",
		db.Qualified(s.Schema, s.Table), plural(int64(s.Steps), "step"), plural(s.Records.Loaded, "record"), s.Join,
		s.Verified)
}

// printInOneLine says what a load came to, for those who read it in a list of many.
func (a *app) printInOneLine(r *tray.Receipt, e *tray.Entry) {
	what := grouped(r.Records.Loaded) + " loaded"
	if m := r.Merge; m != nil && m.OnlyNew {
		what = grouped(m.Inserted) + " inserted"
	} else if m != nil {
		what = fmt.Sprintf("%s inserted, %s changed, %s unchanged", grouped(m.Inserted), grouped(m.Changed),
			grouped(m.Unchanged))
		if m.Rule != tray.MissingKept {
			what += ", " + grouped(m.Missing) + map[bool]string{true: " marked",
				false: " deleted"}[m.Rule == tray.MissingMarked]
		}
	}
	var known int64
	var seen []string // what was skipped, and may have been a record
	for _, s := range r.Skipped {
		if s.Kind == tray.SkipKnown {
			known = s.Count
		}
		if len(s.First) > 0 {
			seen = append(seen, s.Shown(1))
		}
	}
	for _, n := range []struct {
		count int64
		word  string
	}{{r.Records.Rejected, "rejected"}, {known, "known already"}, {r.Records.Skipped - known, "skipped"}} {
		if n.count > 0 {
			what += ", " + grouped(n.count) + " " + n.word
		}
	}
	if len(seen) > 0 {
		what += " (" + strings.Join(seen, ", ") + ")"
	}
	cautions := ""
	if n := len(r.Cautions); n > 0 {
		const most = 5
		var list []string
		for _, c := range r.Cautions[:min(n, most)] {
			list = append(list, c.Short())
		}
		cautions = "; " + plural(int64(n), "caution") + ": " + strings.Join(list, "; ")
		if n > most {
			cautions += fmt.Sprintf("; and %d more", n-most)
		}
	}
	fmt.Fprintf(a.out, "%s: %s read from %s: %s; %s; %s%s; %s\n", db.Qualified(r.Table.Schema, r.Table.Name),
		plural(r.Records.Read, "record"), tray.Names(r.Sources), what, plural(r.Table.Rows, "row"), r.Verdict, cautions,
		e.Dir)
}

// tableRows says what is in the table after a load.
func (a *app) tableRows(g *grid, st style, r *tray.Receipt) {
	counted := ", counted before the commit"
	if r.Commits > 0 {
		counted = ", counted before the last commit"
	}
	if r.Merge != nil {
		counted = fmt.Sprintf(", %s before%s", grouped(r.Table.Before), strings.Replace(counted, ",", ";", 1))
	} else if r.Table.Before > 0 {
		counted = fmt.Sprintf(", %s before and %s added%s", grouped(r.Table.Before), grouped(r.Records.Loaded),
			strings.Replace(counted, ",", ";", 1))
	}
	g.row("in table", grouped(r.Table.Rows), st.good("agrees")+st.dim(counted))
	for _, c := range r.Columns {
		if c.Emptied > 0 {
			g.row("emptied", grouped(c.Emptied), st.dim("of the nulls in "+c.Name+" are empty texts of the file"))
		}
	}
	if k := r.Kept; k != nil {
		g.row("kept", grouped(k.Rows), st.dim("old rows, in "+db.Qualified(r.Table.Schema, k.Table)+", for 'undo'"))
	}
	if r.Commits > 0 {
		g.row("commits", grouped(r.Commits+1),
			st.dim(fmt.Sprintf("%s on the way, and one when all agreed", grouped(r.Commits))))
	}
}

// skippedRows says what was skipped: of what may have been a record, how it begins.
func skippedRows(g *grid, st style, all int64, skips []tray.Skip) {
	var plain, told []string
	for _, s := range skips {
		if len(s.First) > 0 {
			told = append(told, s.Shown(3))
		} else {
			plain = append(plain, s.Words())
		}
	}
	if len(plain) > 0 || len(told) == 0 {
		told = append(told, strings.Join(plain, ", "))
	}
	for i, text := range told {
		if i == 0 {
			g.row("skipped", grouped(all), st.dim(text))
		} else {
			g.row("", "", st.dim(text))
		}
	}
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
	if m := r.Merge; m == nil {
		g.row("loaded", grouped(r.Records.Loaded), "")
	} else {
		a.mergeRows(g, st, m)
	}
	rejects := ""
	if r.Records.Rejected > 0 {
		rejects = e.Path(tray.RejectsFile)
	}
	g.row("rejected", grouped(r.Records.Rejected), rejects)
	skippedRows(g, st, r.Records.Skipped, r.Skipped)
	a.tableRows(g, st, r)
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
	if r.Table.Proved {
		what = "every value"
	}
	if sums > 0 {
		what += fmt.Sprintf("; exact sums of %d", sums)
	}
	loose := r.Uncompared()
	if n := len(r.Columns) - len(loose); n > 0 {
		agree := map[bool]string{true: "agrees", false: "agree"}[n == 1]
		g.row("columns", fmt.Sprint(n), st.good(agree)+st.dim(": "+what))
	}
	if n := len(loose); n > 0 {
		g.row("others", fmt.Sprint(n), st.warn("not compared")+st.dim(": only the nulls of "+
			few(loose, 8)))
	}
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
		first := desk.StandsAt("", x.Line, x.Cell, false)
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

func (a *app) printChanges(x *desk.ChangesAnswer) {
	st := a.style(a.out)
	if len(x.Changes) == 0 {
		what := ", columns and form are those of the plan"
		if x.Values {
			what += ", and all values fit"
		}
		fmt.Fprintf(a.out, "%s\n\n", st.dim("Compared with the plan: "+plural(int64(x.Compared), "source")+what))
		return
	}
	fmt.Fprintln(a.out, st.title("Compared with the plan"))
	g := newGrid(st, "file", "column", "", "")
	for _, c := range x.Changes {
		g.row(shorten(c.Source, 30), shorten(c.Column, 26), a.weight(st, c.Weight),
			strings.Join(fold(c.Text, max(st.width-80, 40)), "\n"))
	}
	g.render(a.out)
	fmt.Fprintln(a.out)
}
