package account

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"time"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/derive"
	"ambertray/internal/phrase"
	"ambertray/internal/plan"
	"ambertray/internal/proof"
	"ambertray/internal/reading"
	"ambertray/internal/sink"
	"ambertray/internal/source"
	"ambertray/internal/sqltype"
	"ambertray/internal/tray"
)

// A RefitJob changes the definition of a table that a load made to what another plan says.
type RefitJob struct {
	Entry   *tray.Entry
	Receipt *tray.Receipt // of the entry
	Plan    *plan.Plan    // by which the table is now
	New     *plan.Plan    // by which it is to be
	Text    []byte        // of the new plan, as it is kept
	Session db.Session
	Log     *slog.Logger
	At      time.Time
	By      string // the user's name on the machine
	// DryRun does all but commit.
	DryRun   bool
	Progress func(stage string, rows int64)
}

// fillLimit is how many rows are filled one by one, by their keys.
const fillLimit = 100_000

// A refit is a definition that is changed.
type refit struct {
	RefitJob
	found  *db.Table
	change *dialect.Redefinition
	out    *tray.Refit

	// The columns in the order of the new plan, with what reads and fills them.
	columns []dialect.Column
	was     []db.Column
	readers []*reading.Reader
	fills   []*derive.Program
	record  *derive.Record

	misfits []misfit
	sql     []string // that fills
	once    map[string]bool
}

// A misfit is how many values of a column do not fit what it is to be.
type misfit struct {
	count int64
	first string
}

// Refit changes the definition of the table that a load made. Every value is read as what
// its column is to be before anything is changed, and compared with what the column has
// afterwards, before that lasts.
func Refit(ctx context.Context, job RefitJob) (*tray.Refit, error) {
	r := &refit{RefitJob: job, once: map[string]bool{}}
	if err := r.prepare(ctx); err != nil {
		return nil, err
	}
	refitter, is := r.Session.(db.Refitter)
	definer, can := r.Session.(db.Definer)
	if !is || !can {
		return nil, &NotDone{Why: r.Session.Dialect().Title + ": definitions are not changed there yet"}
	}
	var err error
	if r.out.Was, err = definer.Definition(ctx, r.found); err != nil {
		return nil, err
	}
	work, err := refitter.Refit(ctx, r.found, r.change)
	if err != nil {
		return nil, err
	}
	defer work.Rollback()
	return r.out, r.run(ctx, work)
}

// prepare finds out what there is to do.
func (r *refit) prepare(ctx context.Context) (err error) {
	t := r.Receipt.Table
	if !db.Mode(t.Mode).New() {
		return &NotDone{Why: "the load did not make the table; take the entry of the load that did"}
	}
	d := r.Session.Dialect()
	was, is := r.Plan.Definition(), r.New.Definition()
	if is.Name != was.Name || is.Schema != "" && is.Schema != was.Schema {
		return &NotDone{Why: fmt.Sprintf("the plan is for the table %s, and the load made %s", db.Qualified(is.Schema,
			is.Name), db.Qualified(was.Schema, was.Name))}
	}
	was.Schema, is.Schema = t.Schema, t.Schema
	if r.change, err = d.Redefine(was, is); err != nil {
		return &NotDone{Why: err.Error()}
	}
	if r.found, err = r.Session.Find(ctx, t.Schema, t.Name); err != nil {
		return err
	}
	if r.found == nil {
		return &NotDone{Why: "the table does not exist any more"}
	}
	r.out = &tray.Refit{At: r.At.UTC().Truncate(time.Millisecond), By: r.By, Changes: r.change.Words(),
		Plan: fmt.Sprintf("refit-%d.yaml", len(r.Receipt.Refits)+1)}
	if err := r.read(); err != nil {
		return err
	}
	if r.change.None() && !slices.ContainsFunc(r.fills, func(p *derive.Program) bool { return p != nil }) {
		return &NotDone{Why: "the plan says of the table what it is already"}
	}
	differences, err := meanwhile(ctx, *r.Receipt, r.Plan, r.Session)
	if err == nil && len(differences) > 0 {
		err = &NotDone{"the table is not what the load left", differences}
	}
	return err
}

// read prepares the reading of every column as what it is to be.
func (r *refit) read() error {
	e, err := r.New.Expressions()
	if err != nil {
		return err
	}
	r.columns = r.change.Is.Columns
	r.fills = make([]*derive.Program, len(r.columns))
	r.misfits = make([]misfit, len(r.columns))
	for i, c := range r.columns {
		at := slices.IndexFunc(r.found.Columns, func(f db.Column) bool { return f.Name == c.Name })
		if at < 0 {
			return &NotDone{Why: "the table has no column " + c.Name + " any more"}
		}
		r.was = append(r.was, r.found.Columns[at])
		r.readers = append(r.readers, reading.Plain(c.Type))
		in := slices.IndexFunc(r.New.Columns, func(x plan.Column) bool { return x.Name == c.Name })
		if in < 0 || e == nil || e.Fill[in] == nil {
			continue
		}
		if slices.ContainsFunc(r.Plan.Columns, func(x plan.Column) bool {
			return x.Name == c.Name && x.Fill == r.New.Columns[in].Fill
		}) {
			continue // it was filled when it was loaded
		}
		for _, n := range e.Fill[in].Names {
			if n == "field" || n == "source" || n == "record" {
				return &NotDone{Why: fmt.Sprintf("column %s: fill: %s is not in the table; merge the file with "+
					"this plan "+
					"(load --mode merge)", c.Name, n)}
			}
			if r.once[c.Name] = r.once[c.Name] || n != "load"; r.once[c.Name] && len(r.key()) == 0 {
				return &NotDone{Why: fmt.Sprintf("column %s: fill: it takes a key to tell the rows apart, and "+
					"there is "+
					"none", c.Name)}
			}
		}
		r.fills[i] = e.Fill[in]
	}
	var vars []derive.Variable
	if e != nil {
		vars = e.Variables
	}
	r.record = derive.NewRecord(&source.Source{}, 1, vars, r.Receipt.Entry, r.Receipt.Started)
	return nil
}

// run makes the change and compares.
func (r *refit) run(ctx context.Context, work db.Refit) error {
	types := make([]sqltype.Type, len(r.columns))
	for i, c := range r.columns {
		if types[i] = c.Type; c.Type.IsText() {
			types[i] = sqltype.Type{Kind: sqltype.Text}
		}
	}
	summer := proof.NewSummer(proof.Options{Types: types, Progress: r.Progress})
	expected, err := summer.Sum(ctx, r, "reading the table")
	if err != nil {
		return err
	}
	if err := r.unfit(); err != nil {
		return err
	}
	now, err := work.Apply(ctx, r.sql)
	if err != nil {
		return err
	}
	r.out.Statements, r.out.Rows = append(r.sql[:len(r.sql):len(r.sql)], work.Statements()...), expected.Rows
	if len(r.sql) > 3 {
		r.out.Statements = append([]string{r.sql[0], fmt.Sprintf("-- and %d more like it", len(r.sql)-1)},
			work.Statements()...)
	}
	found, err := r.Session.Find(ctx, now.Schema, now.Table)
	if err != nil || found == nil {
		return errors.Join(err, fmt.Errorf("the changed table cannot be found"))
	}
	if err := r.same(ctx, summer, now, types, expected, found); err != nil || r.DryRun {
		return err
	}
	receipt, err := r.receipt(ctx, now)
	if err != nil {
		return err
	}
	if err := r.Entry.Write(r.out.Plan, r.Text); err != nil {
		return err
	}
	if err := committed(ctx, r.Entry, receipt, work.Commit); err != nil {
		return err
	}
	if came, err := refitted(ctx, receipt, r.Session); err != nil || came == db.RolledBack {
		return errors.Join(err, fmt.Errorf("the database says that it has made the change, and the table has the "+
			"definition that it had"))
	}
	if now.Table != r.found.Name {
		// What was changed first was a copy.
		now.Table = r.found.Name
		if err := r.same(ctx, summer, now, types, expected, found); err != nil {
			return fmt.Errorf("the change is made, and was right on a copy: %w", err)
		}
	}
	return r.Entry.Settle(tray.ReceiptFile)
}

// same makes sure that a table has the values that are expected.
func (r *refit) same(ctx context.Context, summer *proof.Summer, now db.Name, types []sqltype.Type, expected proof.Sum,
	found *db.Table) error {
	side := &tableSide{conn: r.Session, table: dialect.Table{Schema: now.Schema, Name: now.Table}}
	for i, c := range r.columns {
		at := slices.IndexFunc(found.Columns, func(f db.Column) bool { return f.Name == c.Name })
		if at < 0 {
			return fmt.Errorf("the changed table has no column %s", c.Name)
		}
		is := found.Columns[at]
		is.SQL = types[i]
		side.columns = append(side.columns, is)
	}
	held, err := summer.Sum(ctx, side, "comparing")
	if err != nil {
		return err
	}
	if held != expected {
		return &NotDone{Why: fmt.Sprintf("%s makes other values of %s than were expected",
			r.Session.Dialect().Title, strings.Join(r.out.Changes, ", "))}
	}
	return nil
}

// Rows implements proof.Side: the table as it is, each value read as what its column is
// to be.
func (r *refit) Rows(ctx context.Context, encoder func() sink.Encoder, take func(int, []byte) error) error {
	d := r.Session.Dialect()
	var names []string
	for _, c := range r.columns {
		names = append(names, c.Name)
	}
	enc := encoder()
	row := make([]reading.Value, len(r.columns))
	var data []byte
	err := r.Session.Scan(ctx, fmt.Sprintf("SELECT %s FROM %s", d.List(names),
		d.Qualified(r.found.Schema, r.found.Name)), r.was, func(fields [][]byte) error {
		if err := r.row(fields, row); err != nil {
			return err
		}
		data = enc.Append(data[:0], row)
		return take(1, data)
	})
	return err
}

// row reads a row.
func (r *refit) row(fields [][]byte, row []reading.Value) error {
	for i, f := range fields {
		c := &r.columns[i]
		row[i] = reading.Value{}
		if f == nil {
			row[i].Null = true
		} else if m := r.readers[i].Read(f, true, &row[i]); m != reading.OK {
			r.misfit(i, fmt.Sprintf("%q, %s", f, m.Reason(c.Type, f)))
		}
		r.record.Set(c.Name, c.Type, &row[i])
	}
	for i, p := range r.fills {
		if p == nil || !row[i].Null {
			continue
		}
		if err := r.fill(i, p, fields, &row[i]); err != nil {
			return err
		}
	}
	for i := range row {
		if row[i].Null && r.required(i) {
			r.misfit(i, "null")
		}
	}
	return nil
}

func (r *refit) required(i int) bool {
	return r.columns[i].Required || slices.Contains(r.change.Is.Key, r.columns[i].Name)
}

func (r *refit) misfit(i int, what string) {
	if r.misfits[i].count++; r.misfits[i].count == 1 {
		r.misfits[i].first = what
	}
}

// unfit is the error of values that do not fit, if there are any.
func (r *refit) unfit() error {
	var out []string
	for i, m := range r.misfits {
		if m.count > 0 {
			out = append(out, fmt.Sprintf("column %s, to be %s: of %s that is not so, the first is %s",
				r.columns[i].Name,
				r.is(i), phrase.Count(m.count, "value"), m.first))
		}
	}
	if len(out) > 0 {
		return &NotDone{"the table has values that do not fit the plan", out}
	}
	return nil
}

// is says what a column is to be.
func (r *refit) is(i int) string {
	s := r.columns[i].Type.String()
	if r.required(i) {
		s += ", required"
	}
	return s
}

// fill gives a value of a row that has none.
func (r *refit) fill(i int, p *derive.Program, fields [][]byte, v *reading.Value) error {
	c := r.columns[i]
	text, err := p.Text(r.record, c.Type)
	if err != nil {
		return &NotDone{Why: fmt.Sprintf("column %s: fill: %v", c.Name, err)}
	}
	if text == nil {
		return nil
	}
	if m := r.readers[i].Read(text, true, v); m != reading.OK {
		r.misfit(i, fmt.Sprintf("%q of fill, %s", text, m.Reason(c.Type, text)))
		return nil
	}
	r.out.Filled++
	before := c
	if at := slices.IndexFunc(r.change.Was.Columns, func(x dialect.Column) bool { return x.Name == c.Name }); at >= 0 {
		before = r.change.Was.Columns[at]
	}
	table := r.change.Was
	d := r.Session.Dialect()
	if !r.once[c.Name] {
		// It is the same for all rows.
		if sql := d.Fill(&table, before, string(text), nil, nil); !slices.Contains(r.sql, sql) {
			r.sql = append(r.sql, sql)
		}
		return nil
	}
	if len(r.sql) == fillLimit {
		return &NotDone{Why: fmt.Sprintf("column %s: fill: more than %s are to be filled; merge the file with this "+
			"plan (load --mode merge)", c.Name, phrase.Count(fillLimit, "row"))}
	}
	var key []dialect.Column
	var at []string
	for _, k := range r.key() {
		n := slices.IndexFunc(r.columns, func(x dialect.Column) bool { return x.Name == k })
		was := slices.IndexFunc(table.Columns, func(x dialect.Column) bool { return x.Name == k })
		key, at = append(key, table.Columns[was]), append(at, string(fields[n]))
	}
	r.sql = append(r.sql, d.Fill(&table, before, string(text), key, at))
	return nil
}

// key tells rows apart: the table's, or the one that it is to have.
func (r *refit) key() []string {
	if key := r.found.PrimaryKey(); len(key) > 0 {
		return key
	}
	return r.change.Is.Key
}

// receipt is the entry's new one: its columns are what the table has now.
func (r *refit) receipt(ctx context.Context, now db.Name) (*tray.Receipt, error) {
	out := *r.Receipt
	out.Refits = append(slices.Clone(out.Refits), *r.out)
	t := r.change.Is
	t.Schema, t.Name = now.Schema, now.Table
	_, held, err := r.Session.Tally(ctx, t)
	if err != nil {
		return nil, err
	}
	was := out.Columns
	out.Columns = nil
	for i, x := range t.Columns {
		at := slices.IndexFunc(was, func(c tray.Verified) bool { return c.Name == x.Name })
		if at < 0 {
			return nil, fmt.Errorf("the receipt has no column %s", x.Name)
		}
		c := was[at]
		c.Type, c.Facts = held[i].Type.String(), tray.FactsOf(&held[i])
		out.Columns = append(out.Columns, c)
	}
	return &out, nil
}

// refitted is what became of a change whose end is not known: if the table has the
// definition that it had, nothing.
func refitted(ctx context.Context, pending *tray.Receipt, conn db.Session) (db.Outcome, error) {
	definer, is := conn.(db.Definer)
	found, err := conn.Find(ctx, pending.Table.Schema, pending.Table.Name)
	if err != nil || found == nil || !is {
		return db.Unknown, err
	}
	// Whoever changes the table has it for itself: the count waits until that has ended,
	// also where the server has not noticed yet that the program is gone.
	if _, err := conn.Count(ctx, found); err != nil {
		return db.Unknown, err
	}
	now, err := definer.Definition(ctx, found)
	if err != nil {
		return db.Unknown, err
	}
	last := pending.Refits[len(pending.Refits)-1]
	if !slices.Equal(now, last.Was) {
		return db.Committed, nil
	}
	if last.Filled > 0 {
		return db.Unknown, nil
	}
	return db.RolledBack, nil
}
