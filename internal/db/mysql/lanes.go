package mysql

import (
	"bytes"
	"cmp"
	"context"
	"database/sql"
	"fmt"
	"io"
	"strconv"
	"strings"
	"sync/atomic"

	"ambertray/internal/db"
	"ambertray/internal/sink"

	driver "github.com/go-sql-driver/mysql"
)

// A lane is a connection that rows go in through.
type lane struct {
	c      *sql.Conn
	reader string
	data   atomic.Pointer[[]byte]
	took   int64 // rows that the statement before took
}

var readers atomic.Uint64

func newLane(c *sql.Conn) *lane {
	n := &lane{c: c, reader: "ambertray" + strconv.FormatUint(readers.Add(1), 10)}
	driver.RegisterReaderHandler(n.reader, func() io.Reader { return bytes.NewReader(*n.data.Load()) })
	return n
}

func (n *lane) end() { driver.DeregisterReaderHandler(n.reader) }

// load sends n rows, and reports whether the server took them all as they are.
func (n *lane) load(ctx context.Context, bulk func(reader string) string, data []byte,
	rows int) (clean bool, err error) {
	n.data.Store(&data)
	res, err := n.c.ExecContext(ctx, bulk(n.reader))
	if err != nil {
		return false, err
	}
	if n.took, err = res.RowsAffected(); err != nil {
		return false, err
	}
	var warnings int
	err = n.c.QueryRowContext(ctx, "SHOW COUNT(*) WARNINGS").Scan(&warnings)
	return err == nil && warnings == 0 && n.took == int64(rows), err
}

// bulk is the statement that loads rows.
func (l *load) bulk(reader string) string {
	return fmt.Sprintf(`LOAD DATA LOCAL INFILE 'Reader::%s' INTO TABLE %s CHARACTER SET %s FIELDS TERMINATED BY '\t' ESCAPED BY '\\' LINES TERMINATED BY '\n' (%s)`,
		reader, l.table, l.charset(), strings.Join(l.names, ", "))
}

// alone reports whether rows may go in on several connections: into a side table,
// which nobody else sees until it is renamed, from sources that can be read
// again, and as long as nothing was refused.
func (l *load) alone() bool {
	return l.side != "" && l.spec.Lanes != 1 && l.spec.Like == nil && !l.spec.Once && !l.spec.SlowPath &&
		len(l.refused) == 0
}

// A convoy is the lanes of a load into a side table. As soon as one batch was not taken as it
// is, all that follow go over the connection of the load.
type convoy struct {
	*db.Convoy
	l       *load
	lanes   []*lane        // the first is the load's own
	refused []sink.Refusal // found too late to be returned by Write
}

// lockWait is for how long a batch waits for a row that another connection holds, in
// seconds: that there is one means that both have the same key.
const lockWait = 1

// lanesAtMost is how many connections rows go in over, where nobody says otherwise.
const lanesAtMost = 2

// newConvoy returns nil if there cannot be a second connection.
func (l *load) newConvoy(ctx context.Context) *convoy {
	v := &convoy{l: l, lanes: []*lane{l.main}}
	for len(v.lanes) < cmp.Or(l.spec.Lanes, lanesAtMost) {
		c, err := l.d.pool.Conn(ctx)
		if err != nil {
			break // it goes with those that there are
		}
		v.lanes = append(v.lanes, newLane(c))
	}
	set := fmt.Sprintf("SET SESSION innodb_lock_wait_timeout = %d, unique_checks = 1, foreign_key_checks = 1", lockWait)
	var err error
	lanes := make([]db.Lane, len(v.lanes))
	for i, n := range v.lanes {
		lanes[i] = &flown{n, l.bulk}
		if err == nil {
			_, err = n.c.ExecContext(ctx, set)
		}
	}
	if err == nil && len(v.lanes) > 1 {
		// What is in was taken as it is.
		_, err = l.main.c.ExecContext(ctx, "COMMIT")
	}
	v.Convoy = db.NewConvoy(ctx, lanes, l.rows)
	if err != nil || len(v.lanes) == 1 {
		v.close()
		return nil
	}
	return v
}

// flown implements db.Lane.
type flown struct {
	*lane
	bulk func(reader string) string
}

// Take implements db.Lane.
func (n *flown) Take(ctx context.Context, b sink.Batch) bool {
	if _, err := n.c.ExecContext(ctx, "START TRANSACTION"); err != nil {
		return false
	}
	clean, err := n.load(ctx, n.bulk, b.Data, b.Rows)
	return clean && err == nil
}

// End implements db.Lane.
func (n *flown) End(ctx context.Context, commit bool) error {
	_, err := n.c.ExecContext(ctx, map[bool]string{true: "COMMIT", false: "ROLLBACK"}[commit])
	return err
}

// Instead implements sink.Holder.
func (l *load) Instead(data []byte) []byte {
	if l.convoy == nil {
		return data
	}
	return l.convoy.Instead(data)
}

// write takes a batch, unless the convoy is over.
func (v *convoy) write(ctx context.Context, b sink.Batch) (taken bool, err error) {
	if v.Convoy.Write(b, v.l.rows) {
		v.l.rows += b.Rows
		return true, nil
	}
	return false, v.settle(ctx)
}

// settle ends the convoy: it waits for what is under way, and sends again what was rolled
// back, on the load's own connection.
func (v *convoy) settle(ctx context.Context) error {
	if v.Over() {
		return nil
	}
	l := v.l
	refused, err := v.Settle(ctx, l.in(ctx), func() error {
		v.close()
		if _, err := l.main.c.ExecContext(ctx, "SET SESSION innodb_lock_wait_timeout = DEFAULT"); err != nil {
			return l.d.fail("cannot go on", err)
		}
		return l.start(ctx)
	}, func(b sink.Batch) ([]sink.Refusal, error) { return l.write(ctx, b) })
	v.close()
	v.refused = append(v.refused, refused...)
	return err
}

// in asks how many rows are in.
func (l *load) in(ctx context.Context) func() (int64, error) {
	return func() (int64, error) {
		return l.d.questions().Number(ctx, "cannot be asked which rows are in", "SELECT count(*) FROM "+l.table)
	}
}

// Finish implements db.Finisher: it waits for what is under way.
func (l *load) Finish(ctx context.Context) ([]sink.Refusal, error) {
	if l.convoy == nil {
		return nil, nil
	}
	if err := l.convoy.settle(ctx); err != nil {
		return nil, err
	}
	refused := l.convoy.refused
	l.convoy.refused = nil
	return refused, nil
}

// settled makes sure that all rows are in, and that nothing is known of them
// that has not been said.
func (l *load) settled(ctx context.Context) error {
	refused, err := l.Finish(ctx)
	if err == nil && len(refused) > 0 {
		err = l.d.fail(fmt.Sprintf("%d rows were refused, and the load was not finished", len(refused)), nil)
	}
	return err
}

// close ends all lanes but the load's own, and what is under way.
func (v *convoy) close() {
	v.Close()
	for _, n := range v.lanes[1:] {
		n.end()
		// The connection goes back to the pool, and what was told to stop between two
		// statements has left a transaction open on it, which would keep the table from
		// being dropped.
		ctx, cancel := context.WithTimeout(context.Background(), db.EndIn)
		n.c.ExecContext(ctx, "ROLLBACK")
		cancel()
		n.c.Close()
	}
	v.lanes = v.lanes[:1]
}
