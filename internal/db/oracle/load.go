package oracle

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/sink"
	"ambertray/internal/tally"
)

type load struct {
	d       *DB
	spec    db.Spec
	table   string // quoted: where rows go
	final   string // quoted: its name in the end
	side    string // unquoted name of a side table, or ""
	keep    string // quoted: the table that has the old rows
	kept    string // its columns
	written int64  // rows that were taken apart, in a stage
	object  string // the side table's number in the catalog
	into    *found
	loose   []bool
	insert  string // the statement that takes rows
	refused []sink.Refusal
	record  []db.LedgerRow // still to be written
	mark    string         // by which the commit can be asked for
	made    bool           // the table is ours, under its own name, and nothing is committed in it
	stepped bool           // a step has been committed
	lanes   *lanes         // rows go over several connections, or nil
	unsure  bool           // the answer to what makes the load come to be was lost
}

// lockOf is the lock that a load holds as long as it needs a side table.
func lockOf(side string) string {
	return "side " + strings.TrimSuffix(strings.TrimSuffix(side, "_old"), db.ChangesEnd)
}

// Begin implements db.Session.
func (d *DB) Begin(ctx context.Context, spec db.Spec) (db.Load, error) {
	t := spec.Table
	l := &load{d: d, spec: spec, final: Dialect.Qualified(t.Schema, t.Name)}
	l.table = l.final
	d.load = l
	if err := l.prepare(ctx); err != nil {
		l.Rollback()
		return nil, err
	}
	return l, nil
}

// prepare makes the side table, or empties the existing one, and begins the transaction.
func (l *load) prepare(ctx context.Context) error {
	d, t := l.d, l.spec.Table
	if d.together.mixes(l.spec.Mode.New()) {
		return d.fail("cannot have loads into new tables and into tables that are there among each other", nil)
	}
	switch {
	case l.spec.Steps != "":
		if err := l.stepwise(ctx); err != nil {
			return err
		}
	case l.spec.Mode.New():
		if l.inLanes() {
			l.lanes = l.newLanes()
		}
		if err := l.makeSide(ctx); err != nil {
			return err
		}
	}
	l.beginMark(ctx)
	steps := []func(context.Context) error{l.keepTable, l.start, l.keepRows}
	if l.lanes != nil {
		steps = nil // the transaction begins when the lanes are over
	}
	for _, step := range steps {
		if err := step(ctx); err != nil {
			return err
		}
	}
	if l.spec.Mode == db.Refill {
		if err := l.empty(ctx); err != nil {
			return err
		}
	}
	name := t.Name
	if l.side != "" {
		name = l.side
	}
	var err error
	if l.into, err = d.find(ctx, t.Schema, name); err != nil {
		return err
	}
	if l.into == nil {
		return d.fail("does not have the table "+name, nil)
	}
	l.object = l.into.id
	l.loose = db.LooseColumns(l.into.Table, t.Columns)
	return l.settle()
}

// makeSide makes a table beside the one that is wanted.
func (l *load) makeSide(ctx context.Context) error {
	d, t := l.d, l.spec.Table
	if err := d.sweep(ctx, t.Schema, t.Name); err != nil {
		return err
	}
	side := db.NewSide(d.owner(t.Schema), catalogued(t.Name))
	if _, err := d.tryLock(ctx, t.Schema, lockOf(side), 0); err != nil {
		return err
	}
	made := t
	made.Name, made.Later = side, l.lanes != nil
	if d.together != nil {
		made.References = d.together.sides.Redirected(t.References)
	}
	statements, err := l.statements(ctx, made)
	if err != nil {
		return err
	}
	l.side, l.table = side, Dialect.Qualified(t.Schema, side)
	for _, s := range statements {
		if err := d.do(ctx, "refuses the definition", s); err != nil {
			return err
		}
	}
	return nil
}

// statements define the table that the load makes.
func (l *load) statements(ctx context.Context, t dialect.Table) ([]string, error) {
	if l.spec.Like != nil {
		return l.d.definition(ctx, *l.spec.Like, t)
	}
	return Dialect.Create(t), nil
}

// start begins a transaction of the load. Of a table that exists, the rows that are there
// stay as they are until its end: others may read it. Programs that share a load add to it
// side by side.
func (l *load) start(ctx context.Context) error {
	if t := l.d.together; t == nil || !t.there {
		if err := l.d.begin(); err != nil {
			return err
		}
		if t != nil {
			t.there = l.side == ""
		}
	}
	if l.side != "" || l.spec.Shared {
		return nil
	}
	return l.hold(ctx, l.home())
}

// home is the table that the load is about, quoted: not the stage of a merge.
func (l *load) home() string {
	n := l.spec.Home()
	return Dialect.Qualified(n.Schema, n.Table)
}

// hold keeps others from changing rows of a table, until the transaction ends.
func (l *load) hold(ctx context.Context, table string) error {
	l.d.waiting.Store(true)
	defer l.d.waiting.Store(false)
	return l.d.do(ctx, "cannot hold the table", fmt.Sprintf("LOCK TABLE %s IN SHARE ROW EXCLUSIVE MODE WAIT %d",
		table, l.d.lockSeconds()))
}

// empty takes all rows out of the table; TRUNCATE would commit. The server looks at the keys
// of other tables with every row, and acts by their rules: nothing can make it wait until the
// new rows are in. So a table is not emptied to which rows of others refer.
func (l *load) empty(ctx context.Context) error {
	d := l.d
	err := d.questions().ReferredTo(ctx, l.spec.Referrers, l.table, "1 = 1")
	var held *db.ReferredTo
	if errors.As(err, &held) {
		return &db.Error{Where: d.where, What: fmt.Sprintf(
			"cannot empty the table: rows of %s refer to it; nothing was changed", held.Reference),
			Do: "this server does not let a key wait until the new rows are in: --mode merge --missing delete brings " +
				"the table to what the file says without emptying it, or take out first what refers to it"}
	}
	if err != nil {
		return err
	}
	return d.do(ctx, "cannot empty the table", "DELETE FROM "+l.table)
}

// Tally implements db.Load.
func (l *load) Tally(ctx context.Context) (int64, []tally.Tally, error) {
	return l.d.tally(ctx, l.table, l.spec.Table.Columns, l.loose, l.into.fixed)
}

// Commit implements db.Load.
func (l *load) Commit(ctx context.Context) error {
	d, t := l.d, l.spec.Table
	if d.together != nil {
		return l.wait(ctx)
	}
	if l.spec.Steps != "" {
		if err := l.notebook().End(ctx, &l.spec, ""); err != nil {
			return err
		}
	}
	if err := l.commit(); err != nil {
		return err
	}
	l.lanes.end()
	l.renumber(ctx)
	if l.spec.Steps != "" {
		d.tidy(ctx, t.Schema)
	}
	if l.side != "" {
		if err := l.takeName(ctx); err != nil {
			return err
		}
	}
	l.end()
	return nil
}

// commit commits the transaction of the load. Of rows in a side table nothing is unsure where no
// answer came: it has not its name yet.
func (l *load) commit() error {
	err := l.d.commit()
	var lost *db.Unsure
	if errors.As(err, &lost) && l.side != "" {
		return lost.Err
	}
	l.unsure = lost != nil
	return err
}

// renumber has the server go on with its numbers above the largest that was loaded. That is a
// definition, and so behind the commit; where it fails, the next row that the server numbers
// is refused by the key.
func (l *load) renumber(ctx context.Context) {
	columns, table := l.into.Columns, l.table
	if l.spec.Stage != nil {
		columns, table = l.spec.Stage.Target.Columns, l.home()
	}
	for _, c := range columns {
		given := slices.ContainsFunc(l.spec.Table.Columns, func(x dialect.Column) bool { return x.Name == c.Name })
		if c.Identity && given {
			l.d.c.ExecContext(ctx, fmt.Sprintf("ALTER TABLE %s MODIFY (%s GENERATED BY DEFAULT AS IDENTITY "+
				"(START WITH LIMIT VALUE))", table, quote(c.Name)))
		}
	}
}

// end lets go of what the load held.
func (l *load) end() {
	if l.side != "" {
		l.d.unlock(l.spec.Table.Schema, lockOf(l.side))
	}
	l.d.load = nil
}

// Rollback implements db.Load.
func (l *load) Rollback() error {
	d := l.d
	if d.load == nil {
		return nil
	}
	if l.unsure {
		d.load, d.tx = nil, nil // what became of it is to be asked for, and nothing to be taken away
		d.unlockAll()           // by whoever asks
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), db.EndIn)
	defer cancel()
	l.lanes.end()
	err := d.rollback()
	if err != nil || d.c.PingContext(ctx) != nil {
		// The connection is gone, and the transaction with it; the rest is done over another one.
		if c, err2 := d.session(ctx); err2 == nil {
			d.c.Close()
			d.c = c
		}
	}
	if l.side != "" || l.made {
		err2 := d.do(ctx, "cannot take back what was made", "DROP TABLE "+l.table+" PURGE")
		if err == nil && !is(err2, 942) {
			err = err2
		}
	}
	if l.keep != "" {
		err = cmp.Or(err, d.do(ctx, "cannot take back what was made", "DROP TABLE "+l.keep+" PURGE"))
	}
	if l.made || l.spec.Steps != "" && !l.spec.Going && !l.stepped {
		if is, err2 := d.hasNotes(ctx, l.spec.Home().Schema); err2 == nil && is {
			l.notebook().Forget(ctx)
			d.tidy(ctx, l.spec.Home().Schema)
		}
	}
	l.Unmark(ctx)
	l.end()
	l.side = ""
	return err
}
