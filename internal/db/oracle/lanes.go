package oracle

import (
	"context"
	"database/sql"

	"ambertray/internal/db"
	"ambertray/internal/sink"
)

// The table beside the one that is wanted can be filled on several connections, each batch in a
// transaction of its own. It has no key and no indexes then, so that no row waits for another; they
// are made when all rows are in. Where the key then finds some to stand twice, the load begins
// anew, on one connection.

// lanes are the connections of a load, of which the first is its own.
type lanes struct {
	*db.Fleet
	more []*sql.Conn
}

// inLanes reports whether a load goes over several connections. Unasked it never does: what it
// gains could be measured on no real server.
func (l *load) inLanes() bool { return l.spec.Lanes > 1 && l.spec.Apart() && l.d.together == nil }

// newLanes prepares them.
func (l *load) newLanes() *lanes {
	n := &lanes{}
	n.Fleet = &db.Fleet{Fly: l.fly, Begin: func(ctx context.Context) error {
		n.closeMore()
		return l.start(ctx)
	}, Write: l.write, In: func(ctx context.Context) (int64, error) {
		return l.d.questions().Number(ctx, "cannot be asked which rows are in", "SELECT COUNT(*) FROM "+l.table)
	}}
	return n
}

// fly opens the connections. If there cannot be more than one, that takes all rows.
func (l *load) fly(ctx context.Context) []db.Lane {
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
	return all
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

// Finish implements db.Finisher: the table gets its key and its indexes. What went in over the load's
// own connection is committed with them, in a table that has not its name yet.
func (l *load) Finish(ctx context.Context) ([]sink.Refusal, error) {
	if l.lanes == nil {
		return nil, nil
	}
	if err := l.lanes.Land(ctx); err != nil {
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
	return l.lanes.Found, nil
}

// end ends the connections and what is under way on them.
func (n *lanes) end() {
	if n != nil {
		n.Close()
		n.closeMore()
	}
}

// closeMore ends the connections but the load's own.
func (n *lanes) closeMore() {
	for _, c := range n.more {
		c.Close()
	}
	n.more = nil
}
