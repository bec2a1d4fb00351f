package oracle

import (
	"context"
	"database/sql"

	"ambertray/internal/db"
	"ambertray/internal/sink"
)

// The table beside the one that is wanted can be filled on several connections, each batch in a
// transaction of its own. It has no key and no indexes then, so that no row waits for another; they are made when
// all rows are in. Where the key then finds some to stand twice, the load begins anew, on one
// connection.

// lanes are the connections of a load, of which the first is its own.
type lanes struct {
	*db.Convoy
	more   []*sql.Conn
	found  []sink.Refusal
	rows   int // written and not refused
	landed bool
}

// inLanes reports whether a load goes over several connections: into a new table in whose
// definition nothing refuses a row because of another. Unasked it never does: what it gains could be
// measured on no real server.
func (l *load) inLanes() bool {
	s, t := &l.spec, &l.spec.Table
	for _, c := range t.Columns {
		if c.Identity {
			return false
		}
	}
	return s.Lanes > 1 && s.Mode.New() && s.Steps == "" && !s.Once && s.Like == nil && s.Keep == "" && s.Stage == nil &&
		len(t.Unique)+len(t.References)+len(s.Alter) == 0 && l.d.together == nil
}

// fly opens the connections. If there cannot be more than one, that takes all rows.
func (l *load) fly(ctx context.Context) {
	n := l.lanes
	all := []db.Lane{l.lane(l.d.c)}
	for len(all) < l.spec.Lanes {
		c, err := l.d.session(ctx)
		if err != nil {
			break
		}
		n.more = append(n.more, c)
		all = append(all, l.lane(c))
	}
	n.Convoy = db.NewConvoy(ctx, all, 0)
}

// lane implements db.Lane: it is the load as far as it sends rows, over a connection.
type lane struct{ l *load }

func (l *load) lane(c *sql.Conn) *lane {
	d := &DB{where: l.d.where, c: c, schema: l.d.schema}
	return &lane{&load{d: d, spec: l.spec, table: l.table, side: l.side, into: l.into, loose: l.loose,
		insert: l.insert}}
}

// Take implements db.Lane.
func (n *lane) Take(ctx context.Context, b sink.Batch) bool {
	if n.l.d.begin() != nil {
		return false
	}
	refused, err := n.l.write(ctx, b)
	return err == nil && len(refused) == 0
}

// End implements db.Lane.
func (n *lane) End(_ context.Context, commit bool) error {
	switch d := n.l.d; {
	case d.tx == nil:
		return nil
	case commit:
		return d.commit()
	default:
		return d.rollback()
	}
}

// Instead implements sink.Holder.
func (l *load) Instead(data []byte) []byte {
	if l.lanes == nil {
		return data
	}
	return l.lanes.Instead(data)
}

// writeInLanes takes a batch over the lanes, or, when they are over, in the transaction.
func (l *load) writeInLanes(ctx context.Context, b sink.Batch) ([]sink.Refusal, error) {
	n := l.lanes
	if n.Convoy == nil {
		l.fly(ctx)
	}
	if n.Convoy.Write(b, n.rows) {
		n.rows += b.Rows
		return nil, nil
	}
	if err := l.land(ctx); err != nil {
		return nil, err
	}
	refused, err := l.write(ctx, b)
	n.rows += b.Rows - len(refused)
	return refused, err
}

// land ends the lanes, and begins the transaction of the load. What was rolled back is sent
// again there.
func (l *load) land(ctx context.Context) error {
	n := l.lanes
	if n.landed {
		return nil
	}
	n.landed = true
	if n.Convoy == nil { // no row has come
		return l.start(ctx)
	}
	refused, err := n.Settle(ctx, func() (int64, error) {
		return l.d.questions().Number(ctx, "cannot be asked which rows are in", "SELECT COUNT(*) FROM "+l.table)
	}, func() error {
		n.closeMore()
		return l.start(ctx)
	}, func(b sink.Batch) ([]sink.Refusal, error) { return l.write(ctx, b) })
	n.found = append(n.found, refused...)
	return err
}

// Finish implements db.Finisher: the table gets its key and its indexes. What went in over the load's
// own connection is committed with them, in a table that has not its name yet.
func (l *load) Finish(ctx context.Context) ([]sink.Refusal, error) {
	if l.lanes == nil {
		return nil, nil
	}
	if err := l.land(ctx); err != nil {
		return nil, err
	}
	t := l.spec.Table
	t.Name = l.side
	if len(t.Key) > 0 {
		err := l.d.do(ctx, "cannot build the key", "ALTER TABLE "+l.table+" ADD PRIMARY KEY ("+Dialect.List(t.Key)+")")
		if is(err, 2437) {
			return nil, &db.OutOfOrder{Err: err}
		}
		if err != nil {
			return nil, err
		}
	}
	for _, s := range Dialect.Indexes(t) {
		if err := l.d.do(ctx, "refuses: "+s, s); err != nil {
			return nil, err
		}
	}
	return l.lanes.found, nil
}

// end ends the connections and what is under way on them.
func (n *lanes) end() {
	if n == nil {
		return
	}
	if n.Convoy != nil {
		n.Close()
	}
	n.closeMore()
}

// closeMore ends the connections but the load's own.
func (n *lanes) closeMore() {
	for _, c := range n.more {
		c.Close()
	}
	n.more = nil
}
