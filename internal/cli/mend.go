package cli

import (
	"context"
	"fmt"
	"os"
	"os/user"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ambertray/internal/db"
	"ambertray/internal/load"
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
					return asked("mend: --waive takes no file\n  mend first, then waive what is left")
				}
				return a.waive(args[0], &f, waive, because)
			}
			if because != "" {
				return asked("mend: --because goes with --waive")
			}
			return a.mend(cmd.Context(), args[0], file, &f, slow)
		},
	}
	f.add(cmd, true)
	cmd.Flags().StringVar(&waive, "waive", "", "settle these rejects without loading them: numbers like 3,7-9, or all that wait")
	cmd.Flags().StringVar(&because, "because", "", "why they are waived")
	cmd.Flags().BoolVar(&slow, "slow-path", false, "MySQL and MariaDB: load by inserts where LOAD DATA LOCAL is forbidden")
	return cmd
}

func (a *app) mend(ctx context.Context, name, file string, f *entryFlags, slow bool) error {
	o, err := a.entryAt(ctx, name, f, true)
	if err != nil {
		return err
	}
	defer o.close()
	if o.receipt.Verdict != tray.Waiting {
		return asked("%s: nothing waits to be mended", o.Name)
	}
	shown := file
	if file == "" {
		file, shown = o.Path(tray.RejectsFile), tray.RejectsFile
	}
	log := o.log
	log.Info("mend", "version", a.version, "file", shown)
	m := a.newMeter(ctx, "mending", 0)
	out, err := load.Mend(ctx, load.MendJob{Entry: o.Entry, Receipt: o.receipt, Plan: o.plan, File: file, Name: shown, Session: o.conn,
		SlowPath: slow, Log: log, Progress: m.set, At: time.Now()})
	m.end()
	if err != nil {
		if ctx.Err() != nil {
			err = fmt.Errorf("stopped; nothing was committed")
		}
		log.Error("mend failed", "error", err)
		return err
	}
	if a.json {
		if err := printJSON(a.out, map[string]any{"entry": o.Name, "tried": out.Tried, "mended": ints(out.Mended), "refused": refusedList(out.Refused), "settled_before": ints(out.Settled),
			"records": out.Receipt.Records, "verdict": out.Receipt.Verdict}); err != nil {
			return err
		}
		return settled(out.Receipt)
	}
	st := a.style(a.out)
	fmt.Fprintf(a.out, "%s  %s into %s\n\n", st.head("Mend of "+o.Name), shown, db.Qualified(o.receipt.Table.Schema, o.receipt.Table.Name))
	g := newGrid(st, "", ">", "")
	g.row("tried", grouped(int64(out.Tried)), "")
	text := ""
	if len(out.Mended) > 0 {
		text = numbers(out.Mended) + st.dim("; loaded and verified before the commit")
	}
	g.row("mended", grouped(int64(len(out.Mended))), text)
	g.row("refused", grouped(int64(len(out.Refused))), "")
	if len(out.Settled) > 0 {
		g.row("settled before", grouped(int64(len(out.Settled))), numbers(out.Settled)+st.dim("; not loaded again"))
	}
	g.row("in table", grouped(out.Receipt.Table.Rows), st.good("agrees"))
	g.render(a.out)
	if len(out.Refused) > 0 {
		fmt.Fprintf(a.out, "\n%s\n", st.title("Still refused"))
		g := newGrid(st, ">reject", "column", "reason", "value")
		for _, x := range out.Refused[:min(len(out.Refused), 20)] {
			g.row(strconv.FormatInt(x.Reject, 10), x.Column, shorten(x.Reason, 60), st.dim(shorten(x.Value, 40)))
		}
		g.render(a.out)
		if n := len(out.Refused) - 20; n > 0 {
			fmt.Fprintf(a.out, "  %s\n", st.dim(fmt.Sprintf("and %s more; see ambertray rejects %s", grouped(int64(n)), o.Name)))
		}
	}
	fmt.Fprintf(a.out, "\n%s\n", st.title("Account"))
	a.printAccount(st, out.Receipt)
	a.printVerdict(st, out.Receipt)
	return settled(out.Receipt)
}

func (a *app) printVerdict(st style, r *tray.Receipt) {
	verdict := st.good(string(r.Verdict))
	if r.Verdict == tray.Waiting {
		verdict = st.warn(string(r.Verdict)) + ": " + plural(r.Records.Rejected, "reject") + " to be mended or waived"
	}
	fmt.Fprintf(a.out, "\n  verdict  %s\n", verdict)
}

func (a *app) waive(name string, f *entryFlags, which, because string) error {
	o, err := a.entry(name, f)
	if err != nil {
		return err
	}
	if strings.TrimSpace(because) == "" {
		return asked("--waive: say why with --because TEXT; the reason is kept with the receipt")
	}
	defer o.close()
	if err := a.claim(o); err != nil {
		return err
	}
	if p, err := o.Pending(); err != nil || p != nil {
		return asked("%s: the program was ended at a commit\n  run 'ambertray verify %s' first, which asks the table what it came to", o.Name, o.Name)
	}
	r := o.receipt
	if r == nil || r.Verdict != tray.Waiting {
		return asked("%s: nothing waits", o.Name)
	}
	mended, waived := r.Settled()
	var waiting []int64
	for n := int64(1); n <= r.Rejects(); n++ {
		if !mended[n] && !waived[n] {
			waiting = append(waiting, n)
		}
	}
	chosen := waiting
	if which != "all" {
		if chosen, err = parseNumbers(which); err != nil {
			return asked("--waive %q: %w\n  write numbers like 3,7-9, or all", which, err)
		}
		for _, n := range chosen {
			if !slices.Contains(waiting, n) {
				return asked("--waive: the reject %d does not wait\n  those that wait are %s; nothing was changed", n, numbers(waiting))
			}
		}
	}
	by := os.Getenv("USER")
	if u, err := user.Current(); err == nil {
		by = u.Username
	}
	r.Waivers = append(r.Waivers, tray.Waiver{Rejects: chosen, Because: because, By: by, At: now()})
	r.Settle()
	o.log.Info("waived", "version", a.version, "rejects", numbers(chosen), "because", because, "by", by)
	if err := o.WriteReceipt(r); err != nil {
		return err
	}
	if a.json {
		if err := printJSON(a.out, map[string]any{"entry": o.Name, "waived": ints(chosen), "because": because, "records": r.Records, "verdict": r.Verdict}); err != nil {
			return err
		}
		return settled(r)
	}
	st := a.style(a.out)
	fmt.Fprintf(a.out, "%s  %s: %s\n\n", st.head("Waived in "+o.Name), numbers(chosen), because)
	a.printAccount(st, r)
	a.printVerdict(st, r)
	return settled(r)
}

// parseNumbers reads 3,7-9.
func parseNumbers(s string) (out []int64, err error) {
	for _, part := range strings.Split(s, ",") {
		from, to, ranged := strings.Cut(strings.TrimSpace(part), "-")
		a, err := strconv.ParseInt(from, 10, 64)
		if err != nil || a < 1 {
			return nil, fmt.Errorf("%q is not a number of a reject", part)
		}
		b := a
		if ranged {
			if b, err = strconv.ParseInt(to, 10, 64); err != nil || b < a || b-a > 10_000_000 {
				return nil, fmt.Errorf("%q is not a range of rejects", part)
			}
		}
		for n := a; n <= b; n++ {
			out = append(out, n)
		}
	}
	slices.Sort(out)
	return slices.Compact(out), nil
}

// numbers writes 3, 7-9.
func numbers(list []int64) string {
	list = slices.Clone(list)
	slices.Sort(list)
	var parts []string
	for i := 0; i < len(list); {
		j := i
		for j+1 < len(list) && list[j+1] == list[j]+1 {
			j++
		}
		p := strconv.FormatInt(list[i], 10)
		if j > i {
			p += "-" + strconv.FormatInt(list[j], 10)
		}
		parts = append(parts, p)
		i = j + 1
	}
	if len(parts) > 12 {
		parts = append(parts[:12], "…")
	}
	return strings.Join(parts, ", ")
}

// ints and refusedList keep empty lists from being null in JSON.
func ints(list []int64) []int64 {
	if list == nil {
		return []int64{}
	}
	return list
}

func refusedList(list []tray.Refused) []tray.Refused {
	if list == nil {
		return []tray.Refused{}
	}
	return list
}
