package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"ambertray/internal/tray"
)

// entryFlags are the options of commands that work on an entry.
type entryFlags struct {
	databaseFlags
	tray string
	into string
}

func (f *entryFlags) add(cmd *cobra.Command, database bool) {
	addTray(cmd, &f.tray)
	if database {
		cmd.Flags().StringVar(&f.into, "into", "", "database URL, where it is not the receipt's any more")
		f.addPassword(cmd)
		f.addLockWait(cmd)
	}
}

// printAccount shows where the records of an entry are.
func (a *app) printAccount(st style, r *tray.Receipt) {
	g := newGrid(st, ">read", ">loaded", ">mended", ">waived", ">waiting", ">skipped", "")
	waiting := grouped(r.Records.Rejected)
	if r.Records.Rejected > 0 {
		waiting = st.warn(waiting)
	}
	c := r.Records
	g.row(grouped(c.Read), grouped(c.Loaded), grouped(c.Mended), grouped(c.Waived), waiting, grouped(c.Skipped),
		st.dim(fmt.Sprintf("%s = %s + %s + %s + %s + %s", grouped(c.Read), grouped(c.Loaded), grouped(c.Mended),
			grouped(c.Waived), grouped(c.Rejected), grouped(c.Skipped))))
	g.render(a.out)
}
