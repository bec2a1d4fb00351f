package cli

import (
	"context"
	"fmt"
	"log/slog"
	"os"

	"github.com/spf13/cobra"

	"ambertray/internal/db"
	"ambertray/internal/load"
	"ambertray/internal/plan"
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
	}
}

// opened is an entry with its papers, and perhaps its log and its database.
type opened struct {
	*tray.Entry
	receipt *tray.Receipt
	plan    *plan.Plan
	conn    db.Session // nil unless it was asked for
	logFile *os.File   // open while nobody else may work on the entry
	log     *slog.Logger
}

func (o *opened) close() {
	if o.conn != nil {
		o.conn.Close()
	}
	if o.logFile != nil {
		o.logFile.Close()
	}
}

// entry finds an entry and reads its papers.
func (a *app) entry(name string, f *entryFlags) (*opened, error) {
	e, err := tray.Find(trayDir(f.tray), name)
	if err != nil {
		return nil, err
	}
	o := &opened{Entry: e}
	if o.receipt, err = e.Receipt(); err != nil {
		return nil, err
	}
	if o.plan, err = plan.ReadFile(e.Path(tray.PlanFile)); err != nil {
		return nil, fmt.Errorf("the entry %s has no plan that can be read: %w", e.Name, err)
	}
	return o, nil
}

// claim keeps others from working on the entry, and reads its receipt as it is
// then.
func (a *app) claim(o *opened) (err error) {
	if o.logFile, err = o.Log(); err != nil {
		return err
	}
	o.log = slog.New(slog.NewMultiHandler(a.log.Handler(), slog.NewTextHandler(o.logFile, nil)))
	o.receipt, err = o.Receipt()
	return err
}

// entryAt is entry with a connection to the database of the load, and claimed
// on request. What a load or mend that was ended at its commit left undecided
// is settled first.
func (a *app) entryAt(ctx context.Context, name string, f *entryFlags, claimed bool) (_ *opened, err error) {
	o, err := a.entry(name, f)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			o.close()
		}
	}()
	pending, err := o.Pending()
	if err != nil {
		return nil, err
	}
	if claimed || pending != nil {
		if err := a.claim(o); err != nil {
			return nil, err
		}
		if pending, err = o.Pending(); err != nil {
			return nil, err
		}
	}
	r := o.receipt
	if pending != nil {
		r = pending
	}
	if r == nil {
		if err := o.stopped(); err != nil {
			return nil, err
		}
		return nil, fmt.Errorf("%s: the load was cut off before its commit, or is still running; nothing was changed", o.Name)
	}
	url := r.Database
	if f.into != "" {
		url = f.into
	}
	if o.conn, err = a.existing(ctx, url, &f.databaseFlags); err != nil {
		return nil, err
	}
	if pending != nil {
		if err := load.Resolve(ctx, o.Entry, o.plan, o.conn); err != nil {
			return nil, fmt.Errorf("%s: %w", o.Name, err)
		}
		if o.receipt, err = o.Receipt(); err != nil {
			return nil, err
		}
		o.log.Info("settled what the program left undecided", "verdict", o.receipt.Verdict)
	}
	if o.receipt.Verdict == tray.Failed {
		return nil, fmt.Errorf("%s: the load failed and changed nothing: %s", o.Name, o.receipt.Error)
	}
	return o, nil
}

// stopped is the error of an entry without receipt whose load can go on, or
// nil.
func (o *opened) stopped() error {
	stops, err := o.Stops()
	if err != nil || stops == nil {
		return err
	}
	return fmt.Errorf("%s: the load is %w\n  go on with: ambertray resume %s", o.Name, load.ErrStopped, o.Name)
}

// unsettled is the error of an entry without receipt.
func (o *opened) unsettled() error {
	if err := o.stopped(); err != nil {
		return err
	}
	return fmt.Errorf("%s: the load has no receipt; 'ambertray verify %s' settles what it came to", o.Name, o.Name)
}

// settled is the exit status of an entry: waiting, if rejects wait.
func settled(r *tray.Receipt) error {
	if r.Verdict == tray.Waiting {
		return &status{code: exitWaiting}
	}
	return nil
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
		st.dim(fmt.Sprintf("%s = %s + %s + %s + %s + %s", grouped(c.Read), grouped(c.Loaded), grouped(c.Mended), grouped(c.Waived), grouped(c.Rejected), grouped(c.Skipped))))
	g.render(a.out)
}
