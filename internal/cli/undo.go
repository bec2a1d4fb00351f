package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"ambertray/internal/db"
	"ambertray/internal/desk"
	"ambertray/internal/tray"
)

func (a *app) undoCommand() *cobra.Command {
	var f entryFlags
	var dryRun, yes bool
	cmd := &cobra.Command{
		Use:   "undo ENTRY",
		Short: "Take a load back, if the table then is what it was before it",
		Long: `Takes a load back. A table that the load made is dropped, if it is as the load
left it. Rows that were added are deleted: by the table's key, or by all of
their values, as many of each as went in. What a merge has changed gets its old
values, what it inserted is deleted, and what it deleted is put back, from
before.csv of the entry. What a refill or replace took out is put back from the
table that keeps it.

All of it is one transaction, and is committed only if the table then comes to
what it came to before the load: rows, nulls, exact sums, bytes of text. If
others have changed rows of the load since, nothing is done, and it is said what
they did. A load that emptied or replaced its table is taken back where it has
kept the old rows (load --keep-old).`,
		Example: `  ambertray undo boats --dry-run
  ambertray undo boats-20261126-101500 --yes`,
		Args: args(1, 1, "an entry"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.undo(cmd.Context(), desk.UndoRequest{Entry: args[0], At: f.at(f.into), DryRun: dryRun, Yes: yes},
				&f)
		},
	}
	f.add(cmd, true)
	cmd.Flags().BoolVar(&dryRun, "dry-run", false, "do everything but commit, and say what would happen")
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return cmd
}

func (a *app) undo(ctx context.Context, r desk.UndoRequest, f *entryFlags) error {
	a.desk.Tray = trayDir(f.tray)
	answer, err := a.desk.Undo(ctx, r)
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(answer)
	}
	a.printUndo(answer)
	return nil
}

func (a *app) printUndo(u *desk.UndoAnswer) {
	st := a.style(a.out)
	head, end := "Taken back", "undone"
	if u.DryRun {
		head, end = "Dry run", ""
	}
	fmt.Fprintf(a.out, "%s  %s of %s in %s, from %s\n\n", st.head(head), plural(u.Loaded.Loaded, "record"),
		tray.Names(u.Sources), round(u.Took), where(u.Into))
	g := newGrid(st, "", ">", "")
	name := db.Qualified(u.Schema, u.Table)
	switch x := u.Undoing; {
	case x.Dropped:
		g.row("dropped", grouped(x.Deleted), st.dim("rows, with the table "+name+", which the load had made"))
	default:
		g.row("deleted", grouped(x.Deleted), st.dim("rows that the load had put in"))
		if x.Changed+x.PutBack > 0 || u.Mode == string(db.Merge) {
			g.row("changed", grouped(x.Changed), st.dim("rows that have their old values again"))
			g.row("put back", grouped(x.PutBack), st.dim("rows that the load had deleted"))
		}
		g.row("in table", grouped(x.Rows), st.good("agrees")+st.dim(" with what "+name+" held before the load"))
	}
	if x := u.Undoing.Left; x != "" {
		g.row("left", "", st.warn("the table "+x+" with the old rows could not be dropped; drop it by hand"))
	}
	g.render(a.out)
	if u.DryRun {
		fmt.Fprintf(a.out, "\n%s\n", st.dim("Nothing was committed."))
		return
	}
	fmt.Fprintf(a.out, "\n  verdict  %s\n", st.good(end))
}
