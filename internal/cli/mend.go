package cli

import (
	"context"
	"fmt"
	"strconv"

	"github.com/spf13/cobra"

	"ambertray/internal/db"
	"ambertray/internal/desk"
	"ambertray/internal/tray"
)

func (a *app) mendCommand() *cobra.Command {
	var f entryFlags
	var waive, because string
	var slow bool
	cmd := &cobra.Command{
		Use:   "mend ENTRY [FILE]",
		Short: "Load corrected rejects into the same table, or waive them, and settle the account",
		Long: `Takes the rejects of a load as they were corrected (default: the entry's own
rejects.csv, edited in its place), loads just those into the same table under
the same plan, verifies, and settles the account:

records read = loaded + mended + waived + still waiting + skipped

A reject that was mended or waived does not go in again. Lines that are taken out
of the file keep waiting, as do those that are refused again. The file may come
from a spreadsheet: its delimiter and encoding are found out.

--waive settles rejects without loading them; the reason is kept.`,
		Example: `  ambertray mend latest
  ambertray mend lock_passages corrected.csv
  ambertray mend lock_passages --waive 3,7-9 --because "entered twice by the lock keeper"
  ambertray mend lock_passages --waive all --because "test records"`,
		Args: args(1, 2, "an entry, and a file of corrected rejects"),
		RunE: func(cmd *cobra.Command, args []string) error {
			file := ""
			if len(args) > 1 {
				file = args[1]
			}
			if cmd.Flags().Changed("waive") {
				if file != "" {
					return needed("mend: --waive takes no file\n  mend first, then waive what is left")
				}
				return a.waive(args[0], &f, waive, because)
			}
			if because != "" {
				return needed("mend: --because goes with --waive")
			}
			return a.mend(cmd.Context(), args[0], file, &f, slow)
		},
	}
	f.add(cmd, true)
	cmd.Flags().StringVar(&waive, "waive", "",
		"settle these rejects without loading them: numbers like 3,7-9, or all that wait")
	cmd.Flags().StringVar(&because, "because", "", "why they are waived")
	cmd.Flags().BoolVar(&slow, "slow-path", false,
		"MySQL and MariaDB: load by inserts where LOAD DATA LOCAL is forbidden")
	return cmd
}

func (a *app) mend(ctx context.Context, name, file string, f *entryFlags, slow bool) error {
	a.desk.Tray = trayDir(f.tray)
	out, err := a.desk.Mend(ctx, desk.MendRequest{Entry: name, File: file, At: f.at(f.into), SlowPath: slow})
	if err != nil {
		return err
	}
	if a.json {
		if err := a.printJSON(out); err != nil {
			return err
		}
	} else {
		a.printMend(out)
	}
	return ends(out.Outcome())
}

func (a *app) printMend(out *desk.MendAnswer) {
	st := a.style(a.out)
	fmt.Fprintf(a.out, "%s  %s into %s\n\n", st.head("Mend of "+out.Entry), out.File,
		db.Qualified(out.Receipt.Table.Schema, out.Receipt.Table.Name))
	g := newGrid(st, "", ">", "")
	g.row("tried", grouped(int64(out.Tried)), "")
	text := ""
	if len(out.Mended) > 0 {
		text = desk.Numbers(out.Mended) + st.dim("; loaded and verified before the commit")
	}
	g.row("mended", grouped(int64(len(out.Mended))), text)
	g.row("refused", grouped(int64(len(out.Refused))), "")
	if len(out.SettledBefore) > 0 {
		g.row("settled before", grouped(int64(len(out.SettledBefore))),
			desk.Numbers(out.SettledBefore)+st.dim("; not loaded again"))
	}
	compared := st.dim("as it was; nothing was loaded, and nothing compared")
	if len(out.Mended) > 0 {
		compared = st.good("agrees")
	}
	g.row("in table", grouped(out.Receipt.Table.Rows), compared)
	g.render(a.out)
	if len(out.Refused) > 0 {
		fmt.Fprintf(a.out, "\n%s\n", st.title("Still refused"))
		g := newGrid(st, ">reject", "column", "reason", "value")
		for _, x := range out.Refused[:min(len(out.Refused), 20)] {
			g.row(strconv.FormatInt(x.Reject, 10), x.Column, shorten(x.Reason, 60), st.dim(shorten(x.Value, 40)))
		}
		g.render(a.out)
		if n := len(out.Refused) - 20; n > 0 {
			fmt.Fprintf(a.out, "  %s\n",
				st.dim(fmt.Sprintf("and %s more; see ambertray rejects %s", grouped(int64(n)), out.Entry)))
		}
	}
	fmt.Fprintf(a.out, "\n%s\n", st.title("Account"))
	a.printAccount(st, out.Receipt)
	a.printVerdict(st, out.Receipt)
}

func (a *app) printVerdict(st style, r *tray.Receipt) {
	verdict := st.good(string(r.Verdict))
	if r.Verdict == tray.Waiting {
		verdict = st.warn(string(r.Verdict)) + ": " + plural(r.Records.Rejected, "reject") + " to be mended or waived"
	}
	fmt.Fprintf(a.out, "\n  verdict  %s\n", verdict)
}

func (a *app) waive(name string, f *entryFlags, which, because string) error {
	a.desk.Tray = trayDir(f.tray)
	out, err := a.desk.Waive(desk.WaiveRequest{Entry: name, Rejects: which, Because: because})
	if err != nil {
		return err
	}
	if a.json {
		if err := a.printJSON(out); err != nil {
			return err
		}
		return ends(out.Outcome())
	}
	st := a.style(a.out)
	fmt.Fprintf(a.out, "%s  %s: %s\n\n", st.head("Waived in "+out.Entry), desk.Numbers(out.Waived), because)
	a.printAccount(st, out.Receipt)
	a.printVerdict(st, out.Receipt)
	return ends(out.Outcome())
}
