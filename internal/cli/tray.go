package cli

import (
	"cmp"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ambertray/internal/db"
	"ambertray/internal/desk"
	"ambertray/internal/tray"
)

// addTray is the option that names the tray.
func addTray(cmd *cobra.Command, dir *string) {
	cmd.Flags().StringVar(dir, "tray", "", "folder of the papers (default ./tray, or AMBERTRAY_TRAY)")
}

func trayDir(given string) string { return cmp.Or(given, os.Getenv("AMBERTRAY_TRAY"), "tray") }

func (a *app) trayCommand() *cobra.Command {
	var dir string
	var all bool
	var chain chainFlags
	var swept sweepFlags
	cmd := &cobra.Command{
		Use:   "tray",
		Short: "List the loads: what waits for a hand first",
		Long: `Lists the entries on the tray, one for each load. Those that need a hand come
first:

unsure     the program was ended at the commit; 'verify' asks the table
stopped    a load with --commit-every has ended on its way; 'resume' goes on
waiting    loaded and verified, but rejects wait to be mended or waived
running    a program is working on it
cut off    the program was ended before the commit; nothing was changed
failed     nothing was changed
clear      every record is loaded, mended, waived, or skipped for a reason

The papers of a load are sealed: chain.jsonl on the tray has their hashes, line after
line, each with the hash of the line before. --check tells what was changed since.
--sign-key signs all that the chain has; --check --public-key asks for that signature.

--sweep drops the tables in which loads have kept old rows (load --keep-old); these
loads cannot be taken back then.

Where an ENTRY is asked for, its name, its path, 'latest', or the name of a
table will do; a table's name stands for its newest load.`,
		Example: `  ambertray tray
  ambertray tray --tray /srv/loads/tray --json
  ambertray tray --check
  ambertray tray --sweep --older 30 --dry-run
  openssl genpkey -algorithm ed25519 -out tray.key && ambertray tray --sign-key tray.key`,
		Args: args(0, 0, "nothing"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if swept.sweep {
				return a.sweep(cmd.Context(), trayDir(dir), &swept)
			}
			if chain.given() {
				return a.chain(trayDir(dir), &chain)
			}
			return a.listTray(trayDir(dir), all)
		},
	}
	chain.add(cmd)
	swept.add(cmd)
	addTray(cmd, &dir)
	cmd.Flags().BoolVar(&all, "all", false,
		"list all entries, not only those that need a hand and the newest 20 others")
	return cmd
}

func (a *app) listTray(dir string, all bool) error {
	if dir != "tray" && !desk.FolderExists(dir) {
		return needed("%s: there is no such folder\n  a tray is made by the first load; its folder is that of "+
			"--tray, or of "+
			"AMBERTRAY_TRAY", dir)
	}
	a.desk.Tray = dir
	answer, err := a.desk.List()
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(answer)
	}
	list, counts, rejected := answer.List, answer.Counts, answer.Rejected
	st := a.style(a.out)
	if len(list) == 0 {
		fmt.Fprintf(a.out, "%s  %s: nothing lies on it\n", st.head("Tray"), dir)
		return nil
	}
	sum := plural(int64(len(list)), "load")
	if n := counts[tray.IsWaiting]; n > 0 {
		sum += fmt.Sprintf(", %s waiting with %s", grouped(n), plural(rejected, "reject"))
	}
	if n := counts[tray.Stopped]; n > 0 {
		sum += fmt.Sprintf(", %s stopped", grouped(n))
	}
	if n := counts[tray.Unsure]; n > 0 {
		sum += fmt.Sprintf(", %s unsure", grouped(n))
	}
	switch loads, undone := int64(len(list)), counts[tray.IsUndone]; {
	case undone == loads:
		sum += ", all undone"
	case counts[tray.IsClear]+undone == loads && undone > 0:
		sum += fmt.Sprintf(", %s undone, the others clear", grouped(undone))
	case counts[tray.IsClear] == loads:
		sum += ", all clear"
	}
	fmt.Fprintf(a.out, "%s  %s: %s\n\n", st.head("Tray"), dir, sum)
	g := newGrid(st, "", "entry", "table", ">read", ">loaded", ">mended", ">waived", ">waiting", ">cautions", ">age",
		"file", "database")
	// Where 80 columns have to do, the state, the entry and what waits are left.
	g.less = []int{8, 6, 5, 10, 3, 9, 11, 2}
	others, left := 0, 0
	for _, s := range list {
		if s.State == tray.IsClear || s.State == tray.IsFailed || s.State == tray.IsUndone {
			if others++; others > 20 && !all {
				left++
				continue
			}
		}
		a.trayRow(g, st, s)
	}
	g.render(a.out)
	if left > 0 {
		fmt.Fprintf(a.out, "  %s\n", st.dim(fmt.Sprintf("and %s more; --all lists them", grouped(int64(left)))))
	}
	return nil
}

func (a *app) trayRow(g *grid, st style, s tray.Summary) {
	old := st.dim(age(time.Since(s.Started)))
	if s.Receipt == nil {
		note := ""
		if s.Error != nil {
			note = s.Error.Error()
		}
		table := ""
		if x := s.Stops; x != nil {
			table, note = db.Qualified(x.Table.Schema, x.Table.Name), tray.Names(x.Sources)
		}
		g.row(st.state(s.State), s.Entry.Name, table, "", "", "", "", "", "", old, st.dim(shorten(note, 60)), "")
		return
	}
	r := s.Receipt
	n := func(v int64) string {
		if v == 0 {
			return st.dim("0")
		}
		return grouped(v)
	}
	waiting := n(r.Records.Rejected)
	if s.State == tray.IsWaiting {
		waiting = st.warn(waiting)
	}
	table := db.Qualified(r.Table.Schema, r.Table.Name)
	if n := len(r.Together); n > 0 {
		table += st.dim(" with " + plural(int64(n), "other"))
	}
	if s.State == tray.IsFailed {
		g.row(st.state(s.State), s.Entry.Name, table, "", "", "", "", "", n(int64(len(r.Cautions))), old,
			shorten(tray.Names(r.Sources), 40), st.dim(where(r.Database)))
		return
	}
	g.row(st.state(s.State), s.Entry.Name, table, n(r.Records.Read), n(r.Records.Loaded), n(r.Records.Mended),
		n(r.Records.Waived), waiting, n(int64(len(r.Cautions))), old, shorten(tray.Names(r.Sources), 40),
		st.dim(where(r.Database)))
}

// where is a database in short: what it is, who on which host, and its name; of one in a
// file, the file's name.
func where(raw string) string {
	u, err := url.Parse(raw)
	if err != nil || u.Host == "" {
		scheme, path, _ := strings.Cut(raw, ":")
		return scheme + ":" + filepath.Base(path)
	}
	u.RawQuery = ""
	return u.String()
}

func (s style) state(t tray.State) string {
	switch t {
	case tray.IsClear:
		return s.good(string(t))
	case tray.IsUndone:
		return s.dim(string(t))
	case tray.IsWaiting, tray.CutOff, tray.Running:
		return s.warn(string(t))
	case tray.IsFailed, tray.Stopped, tray.Unsure:
	}
	return s.bad(string(t))
}

// age says roughly how long ago something was.
func age(d time.Duration) string {
	switch {
	case d < time.Minute:
		return "just now"
	case d < time.Hour:
		return fmt.Sprintf("%d min", d/time.Minute)
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", d/time.Hour)
	}
	return plural(int64(d/(24*time.Hour)), "day")
}
