package postgres

import (
	"context"
	"fmt"
	"runtime"

	"github.com/jackc/pgx/v5"

	"ambertray/internal/db"
	"ambertray/internal/sink"
)

// A new table can be filled on several connections. A transaction is of one connection, so
// that the table is then made beside the one that is wanted, committed at once, and each batch
// is committed with its rows; the transaction of the load gives the table its name, its key and
// its indexes. A side table whose load has died is removed by the next load of this kind.
//
// What the server refuses goes over the load's own connection, in its transaction, with all
// that comes behind it. Rows of several connections do not lie in the order in which they came:
// where the key then finds some to stand twice, the load begins anew, on one connection.

// lanes are the connections of a load, of which the first is its own.
type lanes struct {
	*db.Fleet
	more []*pgx.Conn
	side string // unquoted name of the table beside
}

// inLanes reports whether a load goes over several connections, and settles how many.
func (l *load) inLanes(ctx context.Context) bool {
	if !l.spec.Apart() || l.d.together != nil || l.d.refitting != nil {
		return false
	}
	l.spec.Lanes = l.howMany(ctx)
	return l.spec.Lanes > 1
}

// worthLanes is how much there has to be to read, that several connections are used unasked.
const worthLanes = 64 << 20

// howMany is how many lanes a load has.
func (l *load) howMany(ctx context.Context) int {
	if l.spec.Lanes > 0 {
		return l.spec.Lanes
	}
	return lanesFor(ctx, l.d.c, l.spec.Bytes)
}

// lanesFor is how many lanes so much is worth unasked: two, or half as many as there are processors
// here; four at most, and no more than the server would use for one question: it does not say
// how many processors it has.
func lanesFor(ctx context.Context, c *pgx.Conn, bytes int64) int {
	here := runtime.GOMAXPROCS(0)
	n := min(max(here/2, 2), here, 4)
	if bytes < worthLanes || n < 2 {
		return 0
	}
	var theirs int
	if c.QueryRow(ctx, "SELECT current_setting('max_parallel_workers')::int").Scan(&theirs) != nil {
		return 1
	}
	return min(n, theirs)
}

// sideLock is the advisory lock of a side table, which its load has as long as it lives.
const sideLock = "hashtextextended('ambertray side ' || $1, 0)"

// makeSide makes the table beside the one that is wanted.
func (l *load) makeSide(ctx context.Context) error {
	d, t := l.d, l.spec.Table
	if err := d.sweep(ctx, t.Schema); err != nil {
		return err
	}
	n := &lanes{side: db.NewSide(t.Schema, t.Name)}
	n.Fleet = &db.Fleet{Fly: l.fly, Begin: func(ctx context.Context) error {
		n.closeMore()
		return l.begin(ctx)
	}, Write: l.write, In: func(ctx context.Context) (int64, error) {
		return l.d.questions(l.d.c).Number(ctx, "cannot be asked which rows are in", "SELECT count(*) FROM "+l.table)
	}}
	if _, err := d.c.Exec(ctx, "SELECT pg_advisory_lock("+sideLock+")", n.side); err != nil {
		return d.fail("cannot mark the load as running", err)
	}
	l.lanes = n
	// Indexes are made, and the key is built, when the table has its name.
	l.key = t.Key
	l.table = Dialect.Qualified(t.Schema, n.side)
	made := keyless(t)
	made.Name, made.Indexes = n.side, nil
	for _, sql := range Dialect.Create(made) {
		if _, err := d.c.Exec(ctx, sql); err != nil {
			return d.fail("refuses: "+firstLine(sql), err)
		}
	}
	return nil
}

// sweep removes side tables whose load has died.
func (d *DB) sweep(ctx context.Context, schema string) error {
	rows, err := d.questions(d.c).Rows(ctx, "cannot list tables", "SELECT relname FROM pg_class c JOIN pg_namespace n "+
		"ON n.oid = c.relnamespace WHERE c.relkind = 'r' AND n.nspname = coalesce(nullif($1, ''), current_schema()) "+
		"AND relname LIKE 'ambertray\\_%'", schema)
	if err != nil {
		return err
	}
	for _, r := range rows {
		name := *r[0]
		if !db.IsSide.MatchString(name) {
			continue
		}
		if free, err := d.freeSide(ctx, name, true); err != nil || !free {
			continue
		}
		d.c.Exec(ctx, "DROP TABLE IF EXISTS "+Dialect.Qualified(schema, name)) // of others, not everybody may
		d.unlockSide(ctx, name)
	}
	return nil
}

// freeSide reports whether no load has a side table; with hold, this session has it then.
func (d *DB) freeSide(ctx context.Context, name string, hold bool) (free bool, err error) {
	err = d.c.QueryRow(ctx, "SELECT pg_try_advisory_lock("+sideLock+")", name).Scan(&free)
	if free && !hold {
		d.unlockSide(ctx, name)
	}
	return free, err
}

func (d *DB) unlockSide(ctx context.Context, name string) {
	d.c.Exec(ctx, "SELECT pg_advisory_unlock("+sideLock+")", name)
}

// fly opens the connections. If there cannot be more than one, that takes all rows.
func (l *load) fly(ctx context.Context) []db.Lane {
	n := l.lanes
	own := &lane{c: l.d.c, copySQL: l.copySQL, binary: l.binary}
	all := []db.Lane{own}
	for len(all) < l.spec.Lanes {
		c, err := pgx.ConnectConfig(ctx, l.d.c.Config().Copy())
		if err != nil {
			break
		}
		n.more = append(n.more, c)
		all = append(all, &lane{c, l.copySQL, l.binary})
	}
	return all
}

// lane implements db.Lane.
type lane struct {
	c       *pgx.Conn
	copySQL string
	binary  bool
}

// Take implements db.Lane. What is committed last, with all that is before it, is on disk then.
func (n *lane) Take(ctx context.Context, b sink.Batch) bool {
	if _, err := n.c.PgConn().Exec(ctx, "BEGIN; SET LOCAL synchronous_commit = off").ReadAll(); err != nil {
		return false
	}
	rows, err := copyTo(ctx, n.c, n.copySQL, n.binary, b.Data)
	return err == nil && rows == int64(b.Rows)
}

// End implements db.Lane.
func (n *lane) End(ctx context.Context, commit bool) error {
	_, err := n.c.Exec(ctx, map[bool]string{true: "COMMIT", false: "ROLLBACK"}[commit])
	return err
}

// Instead implements sink.Holder.
func (l *load) Instead(data []byte) []byte {
	if l.lanes == nil {
		return data
	}
	return l.lanes.Instead(data)
}

// takeName gives the side table its name, in the transaction of the load.
func (l *load) takeName(ctx context.Context) error {
	t := l.spec.Table
	final := Dialect.Qualified(t.Schema, t.Name)
	var steps []string
	if l.spec.Mode == db.Replace {
		steps = append(steps, "DROP TABLE IF EXISTS "+final)
	}
	steps = append(steps, fmt.Sprintf("ALTER TABLE %s RENAME TO %s", l.table, quote(t.Name)))
	for _, sql := range steps {
		if _, err := l.tx.Exec(ctx, sql); err != nil {
			return l.d.fail("refuses: "+firstLine(sql), err)
		}
	}
	l.table = final
	return nil
}

// buildLoneKey builds the key where the rows were put in over the lanes.
func (l *load) buildLoneKey(ctx context.Context) error {
	refused, err := l.buildKey(ctx)
	l.lanes.Found = append(l.lanes.Found, refused...)
	return err
}

// makeIndexes makes those that a table has that was made beside.
func (l *load) makeIndexes(ctx context.Context) error {
	for _, sql := range Dialect.Indexes(l.spec.Table) {
		if _, err := l.tx.Exec(ctx, sql); err != nil {
			return l.d.fail("refuses: "+firstLine(sql), err)
		}
	}
	return nil
}

// dropSide takes the side table away, over another connection where the load's own is gone.
func (l *load) dropSide() error {
	n, d, t := l.lanes, l.d, l.spec.Table
	if n == nil {
		return nil
	}
	n.Close()
	n.closeMore()
	ctx, cancel := context.WithTimeout(context.Background(), db.EndIn)
	defer cancel()
	c := d.c
	if c.IsClosed() {
		var err error
		if c, err = pgx.ConnectConfig(ctx, d.c.Config().Copy()); err != nil {
			return d.fail("cannot take back what was made", err) // the next load sweeps it
		}
		defer c.Close(ctx)
	} else if c.PgConn().TxStatus() != 'I' {
		c.Exec(ctx, "ROLLBACK") // a batch was told to stop
	}
	if _, err := c.Exec(ctx, "DROP TABLE IF EXISTS "+Dialect.Qualified(t.Schema, n.side)); err != nil {
		return d.fail("cannot take back what was made", err)
	}
	d.unlockSide(ctx, n.side)
	l.lanes = nil
	return nil
}

// closeMore ends the connections but the load's own.
func (n *lanes) closeMore() {
	ctx, cancel := context.WithTimeout(context.Background(), db.EndIn)
	defer cancel()
	for _, c := range n.more {
		c.Close(ctx)
	}
	n.more = nil
}
