package account

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/load"
	"ambertray/internal/phrase"
	"ambertray/internal/plan"
	"ambertray/internal/source"
	"ambertray/internal/tally"
	"ambertray/internal/tray"
)

// An Answer says what a check came to.
type Answer string

// The answers.
const (
	Agrees  Answer = "agrees"
	Differs Answer = "differs"
	// Unknown: what is there now does not tell.
	Unknown Answer = "cannot be told"
)

// A Verification is what a source and a table are found to be, long after the
// load, beside what its receipt says.
type Verification struct {
	Sources []SourceCheck `json:"sources"`
	Rows    RowsCheck     `json:"rows"`
	Columns []ColumnCheck `json:"columns"`
	Answer  Answer        `json:"answer"`
}

// SourceCheck tells whether a file is still the one that was loaded.
type SourceCheck struct {
	Path   string `json:"path"`
	Answer Answer `json:"answer"`
	Text   string `json:"text"`
}

// RowsCheck compares the number of rows.
type RowsCheck struct {
	Expected int64  `json:"expected"`
	Now      int64  `json:"now"`
	Answer   Answer `json:"answer"`
	Text     string `json:"text"`
}

// ColumnCheck compares what a column comes to.
type ColumnCheck struct {
	Name   string `json:"name"`
	Answer Answer `json:"answer"`
	// NullsOnly tells that of the column only the nulls can be compared.
	NullsOnly   bool     `json:"nulls_only,omitempty"`
	Differences []string `json:"differences,omitempty"`
}

// tableOf is the table of a receipt, with the columns that were loaded.
func tableOf(r *tray.Receipt, p *plan.Plan) dialect.Table {
	t := p.Definition()
	t.Schema, t.Name = r.Table.Schema, r.Table.Name
	return t
}

// Verify compares a table with the receipt of a load into it, and the sources
// with what they were.
func Verify(ctx context.Context, r *tray.Receipt, p *plan.Plan, conn db.Session) (*Verification, error) {
	v := &Verification{Answer: Agrees, Columns: []ColumnCheck{}}
	v.Sources = checkSources(r)
	for _, s := range v.Sources {
		switch {
		case s.Answer == Differs:
			v.Answer = Differs
		case s.Answer == Unknown && v.Answer == Agrees:
			v.Answer = Unknown
		}
	}
	t := tableOf(r, p)
	found, err := conn.Find(ctx, t.Schema, t.Name)
	if err != nil {
		return nil, err
	}
	v.Rows = RowsCheck{Expected: r.Table.Rows, Answer: Differs}
	if found == nil {
		v.Rows.Text, v.Answer = "the table does not exist any more", Differs
		return v, nil
	}
	places := found.Places()
	for _, c := range t.Columns {
		if _, is := places[c.Name]; !is {
			v.Rows.Text, v.Answer = "the table has no column "+c.Name+" any more", Differs
			return v, nil
		}
	}
	rows, held, err := conn.Tally(ctx, t)
	if err != nil {
		return nil, err
	}
	v.rows(r, rows)
	for i, c := range r.Columns {
		x := ColumnCheck{Name: c.Name, Answer: Agrees}
		if v.Rows.Answer == Unknown {
			x.Answer = Unknown
			v.Columns = append(v.Columns, x)
			continue
		}
		facts := c.Facts
		if c.Held != nil {
			facts = *c.Held
		}
		expected, err := facts.Tally(c.Type, r.Table.Rows)
		if err != nil {
			return nil, fmt.Errorf("the receipt's column %s: %w", c.Name, err)
		}
		if x.Differences = differences(expected, &held[i]); len(x.Differences) > 0 {
			x.Answer, v.Answer = Differs, Differs
		} else if expected.Loose || held[i].Loose {
			x.Answer, x.NullsOnly = Unknown, true
		}
		v.Columns = append(v.Columns, x)
	}
	return v, nil
}

// differences lists in what a table is not what it was, the number of rows
// aside, which is told by itself.
func differences(was, is *tally.Tally) []string {
	w := *was
	w.Rows = is.Rows
	return w.Changes(is)
}

// rows compares the number of rows. Where rows were added to others, only a
// table that has as many as right after the load says something.
func (v *Verification) rows(r *tray.Receipt, now int64) {
	v.Rows.Now, v.Rows.Answer = now, Agrees
	if now == r.Table.Rows {
		return
	}
	more := phrase.Count(now-r.Table.Rows, "row") + " more"
	if now < r.Table.Rows {
		more = phrase.Count(r.Table.Rows-now, "row") + " fewer"
	}
	ours := r.Records.Loaded + r.Records.Mended
	switch shared := r.Table.Rows > ours; {
	case !shared:
		v.Rows.Text = more + " than after the load, which had filled the whole table"
	case now < ours:
		v.Rows.Text = more + " than after the load: fewer than it had put in"
	default:
		v.Rows.Answer = Unknown
		v.Rows.Text = more +
			" than after the load, in a table that held others, too; only a deep check can tell whether this load's " +
			"are among them"
		if v.Answer != Differs {
			v.Answer = Unknown
		}
		return
	}
	v.Rows.Answer, v.Answer = Differs, Differs
}

// checkSources reads each file again, but once, however many of its sheets were
// loaded.
func checkSources(r *tray.Receipt) (out []SourceCheck) {
	for i, s := range r.Sources {
		if i == 0 || s.Path != r.Sources[i-1].Path || s.SHA256 != r.Sources[i-1].SHA256 {
			out = append(out, checkSource(s))
		}
	}
	return
}

// checkSource reads a file again.
func checkSource(s tray.Source) SourceCheck {
	c := SourceCheck{Path: s.Path, Answer: Agrees, Text: "its bytes are those that were loaded"}
	switch {
	case s.Path == source.Stdin:
		c.Answer, c.Text = Unknown, "it was standard input, which cannot be read again"
		return c
	case source.IsLink(s.Path):
		c.Answer, c.Text = Unknown, "it was fetched from a link, which is not done again"
		return c
	}
	path := s.Path
	if _, err := os.Stat(path); err != nil && s.File != "" {
		path = s.File
	}
	src := &source.Source{Name: s.Path, Path: path}
	sum, err := src.Sum()
	switch {
	case errors.Is(err, fs.ErrNotExist):
		c.Answer, c.Text = Unknown, "the file is not there any more"
	case err != nil:
		c.Answer, c.Text = Unknown, err.Error()
	case sum != s.SHA256:
		c.Answer, c.Text = Differs, "the file has been changed since the load"
	}
	return c
}

// Resolve settles a receipt that was prepared and never settled, because the
// program ended at the commit: the table tells whether that came to be.
func Resolve(ctx context.Context, e *tray.Entry, p *plan.Plan, conn db.Session) error {
	pending, err := e.Pending()
	if err != nil || pending == nil {
		return err
	}
	if pending.Commits > 0 {
		// The last commit removes the notes of those before.
		stops, err := e.Stops()
		if err != nil {
			return err
		}
		if stops == nil {
			return fmt.Errorf("%s is not there any more, so that it cannot be told whether the load is done",
				e.Path(tray.StopsFile))
		}
		notes, err := load.NotesOf(ctx, conn, pending.Table.Schema, stops.Load)
		if err != nil {
			return err
		}
		switch {
		case notes != nil && notes.Done == nil:
			return load.ErrStopped
		case notes != nil && !notes.Done.Of(e.Name, stops.Ends):
			return notes.Done
		}
		return e.Settle(tray.ReceiptFile)
	}
	old, err := e.Receipt()
	if err != nil {
		return err
	}
	schema := pending.Table.Schema
	came, err := outcome(ctx, pending, old, p, conn)
	if err != nil {
		return err
	}
	switch {
	case came == db.Committed:
		err = e.Settle(tray.ReceiptFile)
	case came == db.RolledBack && old != nil && old.Verdict != tray.Failed:
		err = e.Drop()
	case came == db.RolledBack:
		pending.Verdict, pending.Error = tray.Failed, "the commit did not come to be"
		pending.Records.Loaded = 0
		err = e.WriteReceipt(pending)
	default:
		return fmt.Errorf("the program was ended at a commit, and the table tells neither that it came to be nor that "+
			"it did not\n"+
			"  compare %s with %s; if the load is in, rename the first to the second, else remove the first",
			e.Path(tray.ReceiptFile+".part"), e.Path(tray.ReceiptFile))
	}
	if asked, is := conn.(db.Outcomer); is && err == nil && pending.Mark != "" {
		asked.Settled(ctx, schema, pending.Mark)
	}
	return err
}

// outcome is what became of the commit of a receipt that is pending: by its mark, or
// else by the table.
func outcome(ctx context.Context, pending, old *tray.Receipt, p *plan.Plan, conn db.Session) (db.Outcome, error) {
	if asked, is := conn.(db.Outcomer); is && pending.Mark != "" {
		if came, err := asked.Outcome(ctx, pending.Table.Schema, pending.Mark); err != nil || came != db.Unknown {
			return came, err
		}
	}
	if x := pending.Undoing; x != nil && x.Dropped {
		found, err := conn.Find(ctx, pending.Table.Schema, pending.Table.Name)
		return map[bool]db.Outcome{true: db.Committed, false: db.RolledBack}[found == nil], err
	}
	if old != nil && len(pending.Refits) > len(old.Refits) {
		return refitted(ctx, pending, conn)
	}
	is, err := isTable(ctx, pending, p, conn)
	if err != nil || is {
		return map[bool]db.Outcome{true: db.Committed}[is], err
	}
	if old != nil && old.Verdict != tray.Failed {
		if is, err = isTable(ctx, old, p, conn); err != nil || !is {
			return db.Unknown, err
		}
		return db.RolledBack, nil
	}
	found, err := conn.Find(ctx, pending.Table.Schema, pending.Table.Name)
	if err != nil {
		return db.Unknown, err
	}
	before := found == nil && db.Mode(pending.Table.Mode).New()
	if found != nil && pending.Table.Mode == string(db.Append) {
		rows, err := conn.Count(ctx, found)
		if err != nil {
			return db.Unknown, err
		}
		before = rows == pending.Table.Before
	}
	return map[bool]db.Outcome{true: db.RolledBack}[before], nil
}

// isTable reports whether a table is what a receipt says.
func isTable(ctx context.Context, r *tray.Receipt, p *plan.Plan, conn db.Session) (bool, error) {
	copied := *r
	copied.Sources = nil
	v, err := Verify(ctx, &copied, p, conn)
	return err == nil && v.Answer == Agrees, err
}
