package account

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"time"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/phrase"
	"ambertray/internal/plan"
	"ambertray/internal/rows"
	"ambertray/internal/source"
	"ambertray/internal/sqltype"
	"ambertray/internal/tally"
	"ambertray/internal/tray"
)

// An UndoJob takes a load back.
type UndoJob struct {
	Entry   *tray.Entry
	Receipt *tray.Receipt // of the entry
	Plan    *plan.Plan    // as it was run
	Session db.Session
	Log     *slog.Logger
	At      time.Time
	By      string // the user's name on the machine
	// Ledger tells that the schema has a ledger, which is to know of it.
	Ledger *db.Ledger
	// DryRun does all but commit.
	DryRun   bool
	Progress func(rows.Progress)
}

// A NotDone error says why what was asked for cannot be done.
type NotDone struct {
	Why string
	// Details say what there is in the way: in what the table is not what it should be, or
	// would not be.
	Details []string
}

func (e *NotDone) Error() string {
	s := e.Why + "; nothing was changed"
	for _, d := range e.Details {
		s += "\n  " + d
	}
	return s
}

// An undo is a load that is taken back.
type undo struct {
	UndoJob
	found *db.Table
	out   *tray.Undoing
	set   []string // columns that get their old values in rows that were changed
	// referrers are the foreign keys of other tables that refer to this one, and leaning what
	// their rows came to.
	referrers []db.Reference
	leaning   []string
}

// Undo takes a load back: what it made is dropped, what it added is deleted, what it
// changed gets the values that it had. It is done only if the table then comes to what it
// came to before the load.
func Undo(ctx context.Context, job UndoJob) (*tray.Undoing, error) {
	u := &undo{UndoJob: job, out: &tray.Undoing{At: job.At.UTC().Truncate(time.Millisecond), By: job.By}}
	r := job.Receipt
	var err error
	if u.found, err = job.Session.Find(ctx, r.Table.Schema, r.Table.Name); err != nil {
		return nil, err
	}
	if u.found == nil {
		return nil, &NotDone{Why: "the table does not exist any more"}
	}
	switch db.Mode(r.Table.Mode) {
	case db.Create:
		return u.out, u.drop(ctx)
	case db.Append, db.Merge:
		return u.out, u.takeBack(ctx)
	case db.Refill, db.Replace:
		return u.out, u.giveBack(ctx)
	}
	return nil, fmt.Errorf("the mode %q of the load is not known", r.Table.Mode)
}

// lean looks which rows of other tables refer to the table.
func (u *undo) lean(ctx context.Context, m db.Merger) error {
	s, is := u.Session.(db.Surveyor)
	if !is {
		return nil
	}
	around, err := s.Around(ctx, u.found)
	if err != nil {
		return err
	}
	u.referrers = around.Referrers
	u.leaning, err = m.Within().Leaning(ctx, u.referrers)
	return err
}

// unmoved makes sure that no rule of a foreign key has changed rows of other tables.
func (u *undo) unmoved(ctx context.Context, m db.Merger) error {
	now, err := m.Within().Leaning(ctx, u.referrers)
	if err != nil {
		return err
	}
	return db.Moved(u.referrers, u.leaning, now)
}

// meanwhile lists in what the table is not what a load left.
func meanwhile(ctx context.Context, r tray.Receipt, p *plan.Plan, conn db.Session) ([]string, error) {
	r.Sources = nil
	v, err := Verify(ctx, &r, p, conn)
	if err != nil {
		return nil, err
	}
	var out []string
	if v.Rows.Answer != Agrees {
		out = append(out, v.Rows.Text)
	}
	for _, c := range v.Columns {
		for _, d := range c.Differences {
			out = append(out, "column "+c.Name+": "+d)
		}
	}
	return out, nil
}

// drop drops the table that the load made.
func (u *undo) drop(ctx context.Context) error {
	differences, err := meanwhile(ctx, *u.Receipt, u.Plan, u.Session)
	if err != nil {
		return err
	}
	definition := u.Plan.Definition()
	made := definition.Places()
	for _, c := range u.found.Columns {
		if _, is := made[c.Name]; !is {
			differences = append(differences, "column "+c.Name+" was not made by the load")
		}
	}
	if len(differences) > 0 {
		return &NotDone{"the table is not what the load left", differences}
	}
	d, is := u.Session.(db.Dropper)
	if !is {
		return &NotDone{Why: u.Session.Dialect().Title + " cannot do that safely; drop the table by hand"}
	}
	u.out.Dropped, u.out.Deleted = true, u.Receipt.Table.Rows
	if u.DryRun {
		return nil
	}
	receipt := u.receipt()
	if err := u.Entry.PrepareReceipt(receipt); err != nil {
		return err
	}
	dropped, err := d.DropExactly(ctx, u.found, u.Receipt.Table.Rows)
	if err != nil || !dropped {
		if gone, err2 := u.Session.Find(ctx, u.found.Schema, u.found.Name); err2 == nil && gone != nil {
			_ = u.Entry.Drop() // the receipt that was prepared
		}
		if err == nil {
			err = &NotDone{Why: "rows were added or taken away just now"}
		}
		return err
	}
	if u.Ledger != nil {
		if err := u.Ledger.TakeBack(ctx, u.Receipt.Entry); err != nil {
			u.Log.Warn("the ledger does not know of it", "error", err)
		}
	}
	return u.Entry.Settle(tray.ReceiptFile)
}

// receipt is the entry's new one.
func (u *undo) receipt() *tray.Receipt {
	r := *u.Receipt
	r.Undoing, r.Verdict = u.out, tray.Undone
	return &r
}

// takeBack takes back rows that were added or merged, in one transaction: those that are
// about it are brought into a stage first.
func (u *undo) takeBack(ctx context.Context) error {
	merger, is := u.Session.(db.Merger)
	if !is {
		return &NotDone{Why: u.Session.Dialect().Title +
			": loads into a table that was there cannot be taken back yet"}
	}
	if err := u.lean(ctx, merger); err != nil {
		return err
	}
	if c := u.provenance(); c != nil {
		return u.byProvenance(ctx, merger, *c)
	}
	job, t, err := u.source(ctx)
	if err != nil {
		return err
	}
	stage, err := db.MakeStage(ctx, merger, u.found, t)
	if err != nil {
		return err
	}
	defer merger.Unstage(context.WithoutCancel(ctx))
	def := job.Plan.Definition()
	def.Schema, def.Name, def.Key = stage.Schema, stage.Name, nil
	for i := range def.Columns {
		def.Columns[i].Comment = ""
	}
	load, err := u.Session.Begin(ctx, db.Spec{Mode: db.Append, Table: def, Deletes: true,
		Stage: &db.Staged{Stage: stage, Target: u.found}})
	if err != nil {
		return err
	}
	defer load.Rollback()
	check, err := rows.Into(ctx, job, load)
	if err != nil {
		return err
	}
	if err := u.carryOut(ctx, merger, t, check.Records.Loaded); err != nil {
		return err
	}
	if err := u.asBefore(ctx, merger); err != nil || u.DryRun {
		return err
	}
	return u.commit(ctx, load)
}

// source is what is brought into the stage: what was kept of the rows, or the sources of
// the load once more.
func (u *undo) source(ctx context.Context) (job rows.Job, t *dialect.Merge, err error) {
	r := u.Receipt
	d := u.Session.Dialect()
	t = &dialect.Merge{Dialect: d, Table: d.Qualified(u.found.Schema, u.found.Name)}
	for _, c := range u.found.Columns {
		t.All = append(t.All, c.Name)
	}
	job = rows.Job{MaxRejects: 0, Progress: u.Progress, Entry: r.Entry, At: r.Started}
	if r.Merge == nil {
		if job.Sources, job.Without, err = accounted(ctx, u.Entry, r, u.Plan, checkSources(r)); err != nil {
			return job, nil, fmt.Errorf("%w; nothing was changed", err)
		}
		job.Plan, job.Origins = u.Plan, origins(r, u.Plan)
		u.known(t)
		for _, c := range u.Plan.Definition().Columns {
			t.Columns = append(t.Columns, u.column(c))
		}
		return job, t, nil
	}
	if len(r.Mends) > 0 {
		return job, nil, &NotDone{Why: "its rejects were merged when they were mended, and what they changed was " +
			"not kept"}
	}
	if !r.Merge.Before && r.Merge.Inserted+r.Merge.Changed+r.Merge.Missing > 0 {
		return job, nil, &NotDone{Why: "the rows were not kept as they were (--before)"}
	}
	if job.Plan, job.Sources, err = u.kept(ctx); err != nil {
		return job, nil, err
	}
	t.Key, t.Undoes = r.Merge.Key, true
	changed := map[string]bool{}
	for _, c := range r.Columns {
		changed[c.Name] = true
	}
	if r.Merge.Rule == tray.MissingMarked && u.Plan.Missing != nil {
		for _, s := range u.Plan.Missing.Set {
			changed[plan.Forgive(s.Column)] = true
		}
	}
	if len(t.Key) == 0 {
		t.Undoes = false // all of them were inserted, and are known by their values
		job.Plan.Columns = slices.DeleteFunc(job.Plan.Columns, func(c plan.Column) bool { return !changed[c.Name] })
	}
	for _, c := range job.Plan.Definition().Columns {
		if c.Name == dialect.ChangeWhat {
			continue
		}
		t.Columns = append(t.Columns, u.column(c))
		if (changed[c.Name] || changed[plan.Forgive(c.Name)]) && !t.IsKey(c.Name) {
			u.set = append(u.set, c.Name)
		}
	}
	return job, t, nil
}

// provenance is the column that has the name of the entry in each row of the load, if the
// plan makes one.
func (u *undo) provenance() *dialect.Column {
	if u.Receipt.Merge != nil {
		return nil
	}
	for _, c := range u.Plan.Columns {
		if strings.TrimSpace(c.Value) != "load.entry" {
			continue
		}
		for _, d := range u.Plan.Definition().Columns {
			if d.Name == c.Name && d.Type.IsText() {
				return &d
			}
		}
	}
	return nil
}

// begin begins a transaction in the table, without a stage.
func (u *undo) begin(ctx context.Context) (db.Load, error) {
	return u.Session.Begin(ctx, db.Spec{Mode: db.Append, Table: tableOf(u.Receipt, u.Plan), Deletes: true})
}

// byProvenance deletes the rows that have the name of the entry. The sources are not needed.
func (u *undo) byProvenance(ctx context.Context, m db.Merger, c dialect.Column) error {
	work, err := u.begin(ctx)
	if err != nil {
		return err
	}
	defer work.Rollback()
	d := u.Session.Dialect()
	n, err := m.Affect(ctx, fmt.Sprintf("DELETE FROM %s WHERE %s = %s", d.Qualified(u.found.Schema,
		u.found.Name), d.Quote(c.Name), d.Literal(c, u.Receipt.Entry)))
	if err != nil {
		return m.Within().Fail("cannot take the rows back", err)
	}
	u.out.Deleted = n
	if want := u.Receipt.Records.Loaded + u.Receipt.Records.Mended; n != want {
		return u.others(fmt.Sprintf("of %s to be deleted, which have %s in column %s, there are %s",
			phrase.Count(want, "row"), u.Receipt.Entry, c.Name, phrase.Grouped(n)))
	}
	if err := u.asBefore(ctx, m); err != nil || u.DryRun {
		return err
	}
	return u.commit(ctx, work)
}

// column is one of a stage, with the type that values are compared as.
func (u *undo) column(c dialect.Column) dialect.Column {
	for _, f := range u.found.Columns {
		if f.Name == c.Name && f.SQL.Kind == sqltype.None {
			c.Type = sqltype.Type{}
		}
	}
	return c
}

// known finds out by what the rows of the load are known: the key of the table, if the
// load filled it.
func (u *undo) known(t *dialect.Merge) {
	key := u.found.PrimaryKey()
	for _, k := range key {
		if !slices.ContainsFunc(u.Plan.Definition().Columns, func(c dialect.Column) bool { return c.Name == k }) {
			return
		}
	}
	t.Key = key
}

// kept opens what was kept of the rows.
func (u *undo) kept(ctx context.Context) (*plan.Plan, []*source.Source, error) {
	if !u.Receipt.Merge.Before {
		// Nothing was changed, and nothing is to be put back.
		p := *u.Plan
		return &p, nil, nil
	}
	p, err := plan.ReadFile(u.Entry.Path(tray.BeforePlanFile))
	if err != nil {
		return nil, nil, err
	}
	src, err := source.Open(ctx, u.Entry.Path(tray.BeforeFile), p.Known(&p.Sources[0]))
	if err != nil {
		return nil, nil, err
	}
	for i := range p.Columns {
		c := &p.Columns[i]
		for _, f := range u.found.Columns {
			if f.Name != c.Name {
				continue
			}
			if f.Generated {
				c.Name = "" // the database computes it
			} else if f.SQL.Kind == sqltype.None {
				c.Type = "text"
			}
			c.Keeps = f.Keeps.Of(c.SQLType())
		}
	}
	var left []plan.Column
	for _, c := range p.Columns {
		if c.Name != "" {
			left = append(left, c)
			continue
		}
		p.LeaveOut = append(p.LeaveOut, c.From)
	}
	p.Columns = left
	return p, []*source.Source{src}, nil
}

// carryOut takes the rows of the stage back.
func (u *undo) carryOut(ctx context.Context, m db.Merger, t *dialect.Merge, staged int64) error {
	if staged == 0 {
		return nil
	}
	if err := m.Ready(ctx, t); err != nil {
		return err
	}
	want := map[string]int64{"deleted": staged}
	if x := u.Receipt.Merge; x != nil {
		want = map[string]int64{"deleted": x.Inserted, "changed": x.Changed, "put back": 0}
		switch x.Rule {
		case tray.MissingDeleted:
			want["put back"] = x.Missing
		case tray.MissingMarked:
			want["changed"] += x.Missing
		case tray.MissingKept:
		}
	}
	do := func(what, sql string, to *int64) error {
		if want[what] == 0 {
			return nil
		}
		n, err := m.Affect(ctx, sql)
		if err != nil {
			return m.Within().Fail("cannot take the rows back", err)
		}
		if *to = n; n != want[what] {
			return u.others(fmt.Sprintf("of %s to be %s, %s could be", phrase.Count(want[what], "row"), what,
				phrase.Grouped(n)))
		}
		return nil
	}
	if len(t.Key) == 0 {
		p, is := m.(db.Placed)
		place := ""
		if is {
			place = p.Place(u.found)
		}
		if place == "" {
			return &NotDone{Why: "the table has no key of one column, and its rows cannot be told apart"}
		}
		return do("deleted", t.DeleteWhole(place), &u.out.Deleted)
	}
	if err := do("deleted", t.DeleteStaged(), &u.out.Deleted); err != nil || u.Receipt.Merge == nil {
		return err
	}
	if len(u.set) > 0 {
		sql := t.ChangeBack(u.set, u.Receipt.Merge.Rule == tray.MissingMarked)
		if err := do("changed", sql, &u.out.Changed); err != nil {
			return err
		}
	}
	return do("put back", t.PutBack(), &u.out.PutBack)
}

// others is why a load cannot be taken back that others have worked on.
func (u *undo) others(what string) error {
	return &NotDone{"the table is not what the load left", []string{what}}
}

// asBefore makes sure that the table comes to what it came to before the load.
func (u *undo) asBefore(ctx context.Context, m db.Merger) error {
	if err := u.unmoved(ctx, m); err != nil {
		return err
	}
	r := u.Receipt
	t := tableOf(r, u.Plan)
	d := u.Session.Dialect()
	count, is, err := m.TallyFrom(ctx, d.Qualified(t.Schema, t.Name)+" t", t.Columns, db.LooseColumns(u.found,
		t.Columns))
	if err != nil {
		return err
	}
	var differences []string
	if u.out.Rows = count; count != r.Table.Before {
		differences = append(differences, fmt.Sprintf("%s before the load, and %s without it",
			phrase.Count(r.Table.Before,
				"row"), phrase.Grouped(count)))
	}
	compared := false
	for i, c := range r.Columns {
		was, known, err := before(r, &c)
		if err != nil {
			return err
		}
		if !known {
			continue
		}
		compared = true
		differences = append(differences, unlike(c.Name, was, &is[i])...)
	}
	if !compared {
		return &NotDone{Why: "its receipt does not say what the table held before the load"}
	}
	if len(differences) > 0 {
		return &NotDone{"the table would not be what it was before the load: others have worked on it since",
			differences}
	}
	return nil
}

// before is what the table held in a column before the load, if that is known.
func before(r *tray.Receipt, c *tray.Verified) (was tray.Facts, known bool, err error) {
	if c.Before != nil {
		return *c.Before, true, nil
	}
	if r.Table.Before == 0 {
		return tray.Facts{}, true, nil
	}
	return was, false, nil
}

// unlike lists in what a column is not what it was. Of some, smallest and largest are not
// known.
func unlike(name string, was tray.Facts, is *tally.Tally) (out []string) {
	now := tray.FactsOf(is)
	for _, x := range []struct{ what, was, is string }{
		{"nulls", fmt.Sprint(was.Nulls), fmt.Sprint(now.Nulls)}, {"sum", was.Sum, now.Sum},
		{"bytes of text", fmt.Sprint(was.Bytes), fmt.Sprint(now.Bytes)}, {"sum of times", was.Ticks, now.Ticks},
		{"smallest", was.Smallest, now.Smallest}, {"largest", was.Largest, now.Largest}} {
		if (x.what == "smallest" || x.what == "largest") && was.Smallest == "" || was.Loose != now.Loose &&
			x.what != "nulls" {
			continue
		}
		if zero(x.was) != zero(x.is) {
			out = append(out, fmt.Sprintf("column %s: %s %s before the load, and %s without it", name, x.what, x.was,
				x.is))
		}
	}
	return out
}

// zero makes one of the ways in which nothing is written.
func zero(s string) string {
	if strings.Trim(s, "0.") == "" {
		return ""
	}
	return s
}

// commit commits, with the receipt around it.
func (u *undo) commit(ctx context.Context, load db.Load) error {
	receipt := u.receipt()
	if u.Ledger != nil {
		if err := u.Ledger.TakeBack(ctx, u.Receipt.Entry); err != nil {
			return err
		}
	}
	marked, is := load.(db.Marked)
	if is {
		var err error
		if receipt.Mark, err = marked.Mark(ctx); err != nil {
			return err
		}
	}
	if err := committed(ctx, u.Entry, receipt, load.Commit); err != nil {
		return err
	}
	if err := u.Entry.Settle(tray.ReceiptFile); err != nil {
		return err
	}
	if is {
		marked.Unmark(ctx)
	}
	return nil
}

// committed commits with a receipt prepared, which has its name to get. Where the commit is
// refused, there is none; where its answer is lost, the receipt waits for who asks.
func committed(ctx context.Context, e *tray.Entry, r *tray.Receipt, commit func(context.Context) error) error {
	if err := e.PrepareReceipt(r); err != nil {
		return err
	}
	err := commit(ctx)
	if err != nil && !db.IsUnsure(err) {
		_ = e.Drop() // the receipt that was prepared
	}
	return err
}
