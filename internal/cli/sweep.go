package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"ambertray/internal/db"
	"ambertray/internal/desk"
)

// sweepFlags are what 'tray' takes to drop the tables in which loads have kept old rows.
type sweepFlags struct {
	sweep, dryRun, yes bool
	days               int
	into               string
	databaseFlags
}

func (f *sweepFlags) add(cmd *cobra.Command) {
	p := cmd.Flags()
	p.BoolVar(&f.sweep, "sweep", false, "drop the tables in which loads have kept old rows (--keep-old)")
	p.IntVar(&f.days, "older", 0, "with --sweep: only those that are older than so many days")
	p.BoolVar(&f.dryRun, "dry-run", false, "with --sweep: only list them")
	p.StringVar(&f.into, "into", "", "with --sweep: only those of this database, which the URL says how to reach")
	f.addPassword(cmd)
	f.addLockWait(cmd)
	p.BoolVar(&f.yes, "yes", false, "with --sweep: do not ask")
}

func (a *app) sweep(ctx context.Context, dir string, f *sweepFlags) error {
	a.desk.Tray = dir
	answer, err := a.desk.Sweep(ctx, desk.SweepRequest{Older: time.Duration(f.days) * 24 * time.Hour,
		At: f.at(f.into), DryRun: f.dryRun, Yes: f.yes})
	if err != nil {
		return err
	}
	if a.json {
		err = a.printJSON(answer)
	} else {
		a.printSweep(answer)
	}
	if err == nil && answer.Failed {
		return fmt.Errorf("not all tables could be dropped")
	}
	return err
}

func (a *app) printSweep(s *desk.SweepAnswer) {
	st := a.style(a.out)
	if len(s.Tables) == 0 {
		fmt.Fprintf(a.out, "%s  %s: no load has kept old rows\n", st.head("Sweep"), s.Tray)
		return
	}
	fmt.Fprintf(a.out, "%s  %s: %s with old rows\n\n", st.head("Sweep"), s.Tray, plural(int64(len(s.Tables)), "table"))
	g := newGrid(st, "", "entry", "table", ">rows", "database", "")
	for _, t := range s.Tables {
		what := st.dim("would be dropped")
		switch {
		case t.Dropped:
			what = st.good("dropped")
		case t.Error != "":
			what = st.bad("not dropped: ") + t.Error
		}
		g.row(t.Entry, db.Qualified(t.Schema, t.Table), grouped(t.Rows), t.Database, what)
	}
	g.render(a.out)
}
