package desk

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"time"

	"ambertray/internal/account"
	"ambertray/internal/config"
	"ambertray/internal/db"
	"ambertray/internal/db/connect"
	"ambertray/internal/load"
	"ambertray/internal/plan"
	"ambertray/internal/tray"
)

// A DatabaseRequest names a database and how to connect.
type DatabaseRequest struct {
	URL string
	// PasswordFile has the password, if the URL has none.
	PasswordFile string
	// Connections are those that have a name, for passwords; nil: there are none. NotKnown is
	// a hint about a name that none of them has.
	Connections *config.Config
	NotKnown    string
	// Create creates the database if it is not there.
	Create bool
	// LockWait is how long other sessions are waited for that hold what is needed.
	LockWait time.Duration
}

// A purpose is what a database is connected for.
type purpose int

const (
	toLoad   purpose = iota // one in a file is created if need be
	toChange                // what is there
	toRead                  // and the database refuses whatever would change it
)

// connect opens a database.
func (d *Desk) connect(ctx context.Context, r DatabaseRequest, why purpose) (db.Session, error) {
	var ask func() (string, error)
	if d.Password != nil {
		ask = func() (string, error) { return d.Password(ctx, connect.Redact(r.URL)) }
	}
	file, command := r.secret()
	password := connect.Password(ask)
	if command != nil {
		password = connect.FromCommand(ctx, command)
	}
	conn, err := connect.Open(ctx, r.URL,
		connect.Options{PasswordFile: file, Password: password,
			CreateDatabase: r.Create && why == toLoad, Existing: why != toLoad, ReadOnly: why == toRead,
			LockWait: r.LockWait})
	var wrong *db.BadURL
	if r.NotKnown != "" && errors.As(err, &wrong) {
		wrong.Do = r.NotKnown
	}
	return conn, badURL(err)
}

// secret is where the password comes from: what is asked for, else what the connection says
// whose database it is.
func (r *DatabaseRequest) secret() (file string, command []string) {
	if r.PasswordFile != "" || r.Connections == nil {
		return r.PasswordFile, nil
	}
	for _, name := range r.Connections.Names() {
		if x := r.Connections.Connections[name]; connect.Same(x.URL, r.URL) && connect.SameUser(x.URL, r.URL) {
			return x.PasswordFile, x.PasswordCommand
		}
	}
	return "", nil
}

// logOf writes the log of an entry.
func (d *Desk) logOf(w io.Writer) slog.Handler {
	if d.NewLog == nil {
		return slog.NewTextHandler(w, nil)
	}
	return d.NewLog(w)
}

// hold keeps other loads from a table, and says so where it has to wait.
func (d *Desk) hold(ctx context.Context, conn db.Session, t db.Name, r DatabaseRequest) error {
	return db.Hold(ctx, conn, t, r.LockWait, func(who string) {
		d.waits(db.Qualified(t.Schema, t.Table), db.Wait{Who: who}, r)
	})
}

// waits tells what is waited for.
func (d *Desk) waits(what string, w db.Wait, r DatabaseRequest) {
	if w.Silent > 0 {
		d.tell(NoteEvent{fmt.Sprintf("no answer of the database about %s for %s", what, w.Silent)})
		return
	}
	d.tell(NoteEvent{fmt.Sprintf("waiting for another session that holds %s%s, up to %s (--lock-wait)", what,
		db.Who(w.Who), r.LockWait)})
}

// An Entry is an entry of the tray with its papers, and perhaps its log and its
// database.
type Entry struct {
	*tray.Entry
	Receipt *tray.Receipt
	Plan    *plan.Plan

	planned string     // the file of Plan
	conn    db.Session // nil unless it was asked for
	logFile *os.File   // open while nobody else may work on the entry
	log     *slog.Logger
}

func (e *Entry) close() {
	if e.conn != nil {
		e.conn.Close()
	}
	if e.logFile != nil {
		e.logFile.Close()
	}
}

// entry finds an entry and reads its papers.
func (d *Desk) entry(name string) (*Entry, error) {
	found, err := tray.Find(d.Tray, name)
	if err != nil {
		return nil, err
	}
	e := &Entry{Entry: found}
	if e.Receipt, err = found.Receipt(); err != nil {
		return nil, err
	}
	return e, e.readPlan()
}

// readPlan reads the plan that the receipt goes by, unless it is that already.
func (e *Entry) readPlan() (err error) {
	name := e.Receipt.PlanName()
	if name == e.planned {
		return nil
	}
	e.planned = name
	if e.Plan, err = plan.ReadFile(e.Path(name)); err != nil {
		return fmt.Errorf("the entry %s has no plan that can be read: %w", e.Name, err)
	}
	return nil
}

// claim keeps others from working on the entry, and reads its receipt as it is
// then.
func (d *Desk) claim(e *Entry) (err error) {
	if e.logFile, err = e.Log(); err != nil {
		return err
	}
	e.log = slog.New(slog.NewMultiHandler(d.Log.Handler(), d.logOf(e.logFile)))
	if e.Receipt, err = e.Entry.Receipt(); err != nil {
		return err
	}
	return e.readPlan()
}

// entryAt is entry with a connection to the database of the load, and claimed
// on request. What a load or mend that was ended at its commit left undecided
// is settled first.
func (d *Desk) entryAt(ctx context.Context, name string, at DatabaseRequest, claimed bool) (_ *Entry, err error) {
	e, err := d.entry(name)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			e.close()
		}
	}()
	pending, err := e.Pending()
	if err != nil {
		return nil, err
	}
	if claimed || pending != nil {
		if err := d.claim(e); err != nil {
			return nil, err
		}
		if pending, err = e.Pending(); err != nil {
			return nil, err
		}
	}
	r := e.Receipt
	if pending != nil {
		r = pending
	}
	if r == nil {
		if err := e.stopped(); err != nil {
			return nil, err
		}
		return nil, fmt.Errorf("%s: the load was cut off before its commit, or is still running; nothing was changed",
			e.Name)
	}
	if at.URL == "" {
		at.URL = r.Database
	}
	why := toRead
	if claimed || pending != nil {
		why = toChange
	}
	if e.conn, err = d.connect(ctx, at, why); err != nil {
		return nil, err
	}
	if pending != nil {
		if err := account.Resolve(ctx, e.Entry, e.Plan, e.conn); err != nil {
			return nil, fmt.Errorf("%s: %w", e.Name, err)
		}
		if e.Receipt, err = e.Entry.Receipt(); err != nil {
			return nil, err
		}
		if err := e.readPlan(); err != nil {
			return nil, err
		}
		e.log.Info("settled what the program left undecided", "verdict", e.Receipt.Verdict)
	}
	if u := e.Receipt.Undoing; u != nil {
		return nil, need("%s: the load was taken back already, on %s by %s", e.Name, u.At.Format("2006-01-02 15:04"),
			u.By)
	}
	if e.Receipt.Verdict == tray.Failed {
		return nil, fmt.Errorf("%s: the load failed and changed nothing: %s", e.Name, e.Receipt.Error)
	}
	return e, nil
}

// stopped is the error of an entry without receipt whose load can go on, or
// nil.
func (e *Entry) stopped() error {
	stops, err := e.Stops()
	if err != nil || stops == nil {
		return err
	}
	return fmt.Errorf("%s: the load is %w\n  go on with: ambertray resume %s", e.Name, load.ErrStopped, e.Name)
}

// unsettled is the error of an entry without receipt.
func (e *Entry) unsettled() error {
	if err := e.stopped(); err != nil {
		return err
	}
	return fmt.Errorf("%s: the load has no receipt; 'ambertray verify %s' settles what it came to", e.Name, e.Name)
}

// settled is the outcome of an entry: waiting, if rejects wait.
func settled(r *tray.Receipt) Outcome {
	if r.Verdict == tray.Waiting {
		return Waiting
	}
	return Done
}

// badURL makes a URL that is written wrongly the person's business.
func badURL(err error) error {
	var bad *db.BadURL
	if errors.As(err, &bad) {
		return &Need{err}
	}
	return err
}
