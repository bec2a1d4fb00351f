package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ambertray/internal/db"
	"ambertray/internal/desk"
)

func (a *app) refitCommand() *cobra.Command {
	var f entryFlags
	var dryRun, yes bool
	cmd := &cobra.Command{
		Use:   "refit ENTRY PLAN",
		Short: "Change the definition of a loaded table to what an edited plan says",
		Long: `Changes the definition of a table that a load has made: types, lengths, what may
be null, defaults, descriptions, the key; new entries of unique, index and
references; and fill, for values that are null so far. Copy plan.yaml out of the
entry, edit it, and give it here.

Every value is read first as what its column is to be. If one does not fit,
nothing is changed, and it is said which and how many. Then the change is made,
and every value is compared with what was expected, before it lasts: in one
transaction, or, in MySQL and MariaDB, on a copy first. The entry keeps the plan
and the definition as it was, and 'verify' goes by the new plan from then on.`,
		Example: `  ambertray refit boats boats-edited.yaml --dry-run
  ambertray refit boats-20261126-101500 boats-edited.yaml --yes`,
		Args: args(2, 2, "an entry and a plan"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.refit(cmd.Context(), desk.RefitRequest{Entry: args[0], Plan: args[1], At: f.at(f.into),
				DryRun: dryRun, Yes: yes}, &f)
		},
	}
	f.add(cmd, true)
	cmd.Flags().BoolVar(&dryRun, "dry-run", false, "do everything but commit, and say what would happen")
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return cmd
}

func (a *app) refit(ctx context.Context, r desk.RefitRequest, f *entryFlags) error {
	a.desk.Tray = trayDir(f.tray)
	answer, err := a.desk.Refit(ctx, r)
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(answer)
	}
	a.printRefit(answer)
	return nil
}

func (a *app) printRefit(u *desk.RefitAnswer) {
	st := a.style(a.out)
	head := "Changed"
	if u.DryRun {
		head = "Dry run"
	}
	fmt.Fprintf(a.out, "%s  %s in %s, %s\n\n", st.head(head), db.Qualified(u.Schema, u.Table), u.Into, round(u.Took))
	g := newGrid(st, "", "")
	for i, c := range u.Refit.Changes {
		g.row(map[bool]string{true: "change"}[i == 0], c)
	}
	if u.Refit.Filled > 0 {
		g.row("filled", plural(u.Refit.Filled, "value"))
	}
	g.row("values", plural(u.Refit.Rows, "row")+", "+st.good("every value as expected"))
	if !u.DryRun {
		g.row("plan", u.Entry+"/"+u.Refit.Plan)
	}
	g.render(a.out)
	fmt.Fprintln(a.out)
	for _, s := range u.Refit.Statements {
		fmt.Fprintf(a.out, "  %s\n", strings.ReplaceAll(s+";", "\n", "\n  "))
	}
	if u.DryRun {
		fmt.Fprintf(a.out, "\n%s\n", st.dim("Nothing was committed."))
	}
}
