package sqlserver

import (
	"cmp"
	"context"
	"fmt"
	"slices"
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
	*db.Fleet
	more []*DB
	side string // name of the table beside
}

// inLanes reports whether a load goes over several connections. Unasked it never does: what it
// gains could be measured on no real server.
func (l *load) inLanes() bool {
	return l.spec.Lanes > 1 && l.spec.Apart() && l.d.together == nil && l.d.again != nil
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
	n := &lanes{side: side}
	in := func(ctx context.Context) (int64, error) {
		return d.questions().Number(ctx, "cannot be asked which rows are in", "SELECT COUNT_BIG(*) FROM "+l.table)
	}
	n.Fleet = &db.Fleet{Fly: l.fly, In: in, Begin: l.beginLast, Write: l.sendBatch}
	l.lanes = n
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

// fly opens the connections. If there cannot be more than one, that takes all rows.
func (l *load) fly(ctx context.Context) []db.Lane {
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
	return all
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

// writeInLanes takes a batch. The rows that the encoder has refused are taken out of it before.
func (l *load) writeInLanes(ctx context.Context, b sink.Batch) ([]sink.Refusal, error) {
	data, numbers := l.sort(b)
	out := l.refused
	refused, err := l.lanes.Put(ctx, sink.Batch{Rows: len(numbers), Data: data})
	for _, r := range refused {
		r.Row = numbers[r.Row]
		out = append(out, r)
	}
	slices.SortFunc(out, func(a, b sink.Refusal) int { return a.Row - b.Row })
	return out, err
}

// beginLast ends the other connections, and begins the transaction of the load.
func (l *load) beginLast(ctx context.Context) error {
	l.lanes.closeMore()
	if err := l.d.waitForLocks(ctx); err != nil {
		return err
	}
	return l.begin(ctx)
}

// sendBatch sends rows of which the encoder has refused none.
func (l *load) sendBatch(ctx context.Context, b sink.Batch) ([]sink.Refusal, error) {
	l.refused = nil
	numbers := make([]int, b.Rows)
	for i := range numbers {
		numbers[i] = i
	}
	err := l.send(ctx, b.Data, numbers)
	return l.refused, err
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
	if err := l.lanes.Land(ctx); err != nil {
		return nil, err
	}
	return l.lanes.Found, l.takeName(ctx)
}

// dropSide takes the side table away, over another connection where the load's own is gone.
func (l *load) dropSide() error {
	n, d := l.lanes, l.d
	if n == nil {
		return nil
	}
	n.closeMore()
	ctx, cancel := context.WithTimeout(context.Background(), db.EndIn)
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
