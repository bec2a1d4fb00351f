package sqlserver

import (
	"cmp"
	"context"
	"fmt"
	"time"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/sink"
)

// A new table can be filled on several connections. It is then made beside the one that is
// wanted, without key and indexes: into such a table, several sessions put rows at once (lock mode BU).
// Each batch is committed with its rows. The transaction of the load gives the table its name,
// its key and its indexes. A side table whose load has died is removed by the next load of this kind.
//
// What the server refuses goes over the load's own connection, in its transaction, with all that
// comes behind it. Where the key then finds some to stand twice, the load begins anew, on one
// connection.

// lanes are the connections of a load, of which the first is its own.
type lanes struct {
	*db.Convoy
	more  []*DB
	side  string // name of the table beside
	found []sink.Refusal
	rows  int // written and not refused
}

// inLanes reports whether a load goes over several connections: into a new table in whose
// definition nothing refuses a row because of another. Unasked it never does: what it gains could
// be measured on no real server.
func (l *load) inLanes() bool {
	s, t := &l.spec, &l.spec.Table
	for _, c := range t.Columns {
		if c.Identity {
			return false
		}
	}
	return s.Lanes > 1 && s.Mode.New() && s.Steps == "" && !s.Once && s.Like == nil && s.Keep == "" && !s.MakeSchema &&
		s.Stage == nil && len(t.Unique)+len(t.References)+len(s.Alter) == 0 && l.d.together == nil && l.d.again != nil
}

// sideLock is the lock of a side table, which its load has as long as its session lives.
func sideLock(name string) string { return "ambertray side " + name }

// makeSide makes the table beside the one that is wanted.
func (l *load) makeSide(ctx context.Context) error {
	d, t := l.d, l.spec.Table
	if err := d.sweep(ctx, t.Schema); err != nil {
		return err
	}
	side := db.NewSide(t.Schema, t.Name)
	if err := d.lock(ctx, sideLock(side), "cannot mark the load as running", lockWait); err != nil {
		return err
	}
	l.lanes = &lanes{side: side}
	l.table = Dialect.Qualified(t.Schema, side)
	t.Name, t.Later = side, true
	return l.steps(ctx, Dialect.Create(t))
}

// sweep removes side tables whose load has died.
func (d *DB) sweep(ctx context.Context, schema string) error {
	rows, err := d.questions().Rows(ctx, "cannot list tables", "SELECT name FROM sys.tables WHERE schema_id = "+
		"SCHEMA_ID(@p1) AND name LIKE 'ambertray[_]%'", cmp.Or(schema, d.schema))
	if err != nil {
		return err
	}
	for _, r := range rows {
		name := *r[0]
		if !db.IsSide.MatchString(name) {
			continue
		}
		if free, err := d.tryLock(ctx, sideLock(name), 0); err != nil || !free {
			continue
		}
		d.c.ExecContext(ctx, "DROP TABLE IF EXISTS "+Dialect.Qualified(schema, name)) // of others, not everybody may
		d.unlock(ctx, sideLock(name))
	}
	return nil
}

// remains reports whether no load has a side table.
func (d *DB) remains(ctx context.Context, name string) bool {
	free, err := d.tryLock(ctx, sideLock(name), 0)
	if free {
		d.unlock(ctx, sideLock(name))
	}
	return err == nil && free
}

// fly opens the connections. If there cannot be more than one, that takes all rows.
func (l *load) fly(ctx context.Context) {
	n := l.lanes
	how := &bulk{statement: l.insertBulk, description: l.description}
	var all []db.Lane
	add := func(d *DB) bool {
		_, err := d.c.ExecContext(ctx, fmt.Sprintf("SET LOCK_TIMEOUT %d", laneWait.Milliseconds()))
		if err == nil {
			all = append(all, &lane{d, how})
		}
		return err == nil
	}
	add(l.d)
	for len(all) > 0 && len(all) < l.spec.Lanes {
		d, err := l.d.again(ctx)
		if err != nil {
			break
		}
		if n.more = append(n.more, d); !add(d) {
			break
		}
	}
	if len(all) == 0 {
		all = append(all, &lane{l.d, how})
	}
	n.Convoy = db.NewConvoy(ctx, all, 0)
}

// laneWait is for how long a batch waits for a lock that another connection of the load holds: a
// server that does not let several fill a table at once would have them wait for each other.
const laneWait = 3 * time.Second

// lane implements db.Lane.
type lane struct {
	d   *DB
	how *bulk
}

// Take implements db.Lane.
func (n *lane) Take(ctx context.Context, b sink.Batch) bool {
	if _, err := n.d.c.ExecContext(ctx, "BEGIN TRANSACTION"); err != nil {
		return false
	}
	m, err := n.d.sendRows(ctx, n.how, b.Data)
	return err == nil && m == nil
}

// End implements db.Lane.
func (n *lane) End(ctx context.Context, commit bool) error {
	statement := "IF @@TRANCOUNT > 0 ROLLBACK TRANSACTION"
	if commit {
		statement = "COMMIT TRANSACTION"
	}
	_, err := n.d.c.ExecContext(ctx, statement)
	return err
}

// Instead implements sink.Holder.
func (l *load) Instead(data []byte) []byte {
	if l.lanes == nil {
		return data
	}
	return l.lanes.Instead(data)
}

// writeInLanes takes a batch over the lanes, or, when they are over, in the transaction. The rows
// that the encoder has refused are taken out of it before.
func (l *load) writeInLanes(ctx context.Context, b sink.Batch) ([]sink.Refusal, error) {
	n := l.lanes
	if n.Convoy == nil {
		l.fly(ctx)
	}
	data, numbers := l.sort(b)
	good := sink.Batch{Rows: len(numbers), Data: data}
	if good.Rows == 0 {
		n.Pass()
		return l.refused, nil
	}
	if n.Convoy.Write(good, n.rows) {
		n.rows += good.Rows
		return l.refused, nil
	}
	if err := l.land(ctx); err != nil {
		return nil, err
	}
	before := len(l.refused)
	err := l.send(ctx, data, numbers)
	n.rows += good.Rows - (len(l.refused) - before)
	return l.refused, err
}

// land ends the lanes, and begins the transaction of the load. What was rolled back is sent
// again there.
func (l *load) land(ctx context.Context) error {
	n := l.lanes
	if l.open {
		return nil
	}
	if n.Convoy == nil { // no row has come
		return l.begin(ctx)
	}
	kept := l.refused
	defer func() { l.refused = kept }()
	refused, err := n.Settle(ctx, func() (int64, error) {
		return l.d.questions().Number(ctx, "cannot be asked which rows are in", "SELECT COUNT_BIG(*) FROM "+l.table)
	}, func() error {
		n.closeMore()
		if err := l.d.waitForLocks(ctx); err != nil {
			return err
		}
		return l.begin(ctx)
	}, func(b sink.Batch) ([]sink.Refusal, error) {
		l.refused = nil
		numbers := make([]int, b.Rows)
		for i := range numbers {
			numbers[i] = i
		}
		err := l.send(ctx, b.Data, numbers)
		return l.refused, err
	})
	n.found = append(n.found, refused...)
	return err
}

// takeName gives the side table its name, its key and its indexes, in the transaction of the load.
func (l *load) takeName(ctx context.Context) error {
	t := l.spec.Table
	final := Dialect.Qualified(t.Schema, t.Name)
	var steps []string
	if l.spec.Mode == db.Replace {
		steps = append(steps, "DROP TABLE IF EXISTS "+final)
	}
	steps = append(steps, fmt.Sprintf("EXEC sys.sp_rename @objname = %s, @newname = %s",
		l.d.literal(cmp.Or(t.Schema, l.d.schema), l.lanes.side), "N"+dialect.Quoted(t.Name)))
	if err := l.steps(ctx, steps); err != nil {
		return err
	}
	l.table = final
	if len(t.Key) > 0 {
		statement := fmt.Sprintf("ALTER TABLE %s ADD PRIMARY KEY (%s)", final, Dialect.List(t.Key))
		if _, err := l.d.c.ExecContext(ctx, statement); err != nil {
			failed := l.d.fail("cannot build the key", err)
			if m := asServer(err); m != nil && (m.Number == 1505 || m.Number == 1750) {
				return &db.OutOfOrder{Err: failed}
			}
			return failed
		}
	}
	return l.steps(ctx, Dialect.Indexes(t))
}

// finishLanes is Finish of a load over several connections.
func (l *load) finishLanes(ctx context.Context) ([]sink.Refusal, error) {
	if err := l.land(ctx); err != nil {
		return nil, err
	}
	return l.lanes.found, l.takeName(ctx)
}

// endIn bounds what has to be done when a load ends, also one that was told to stop.
const endIn = 20 * time.Second

// dropSide takes the side table away, over another connection where the load's own is gone.
func (l *load) dropSide() error {
	n, d := l.lanes, l.d
	if n == nil {
		return nil
	}
	if n.Convoy != nil {
		n.Close()
	}
	n.closeMore()
	ctx, cancel := context.WithTimeout(context.Background(), endIn)
	defer cancel()
	drop := "IF @@TRANCOUNT > 0 ROLLBACK TRANSACTION; DROP TABLE IF EXISTS " +
		Dialect.Qualified(l.spec.Table.Schema, n.side)
	_, err := d.c.ExecContext(ctx, drop)
	if err != nil && asServer(err) == nil {
		var o *DB
		if o, err = d.again(ctx); err == nil {
			_, err = o.c.ExecContext(ctx, drop)
			o.Close()
		}
	}
	if err != nil {
		return d.fail("cannot take back what was made", err) // the next load sweeps it
	}
	d.unlock(ctx, sideLock(n.side))
	l.lanes = nil
	return nil
}

// closeMore ends the connections but the load's own.
func (n *lanes) closeMore() {
	for _, d := range n.more {
		d.Close()
	}
	n.more = nil
}
