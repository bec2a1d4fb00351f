package mysql

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"

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

// alone reports whether rows may go in on two connections: into a side table,
// which nobody else sees until it is renamed, from sources that can be read
// again, and as long as nothing was refused.
func (l *load) alone() bool {
	return l.side != "" && l.spec.Like == nil && !l.spec.Once && !l.spec.SlowPath && len(l.refused) == 0
}

// A pair sends batches over two connections in turn, each batch in a
// transaction of its own. A batch is committed when all before it are. As soon
// as the server does anything but take a batch as it is, that batch and the
// one behind it are rolled back and sent again, one after the other, over the
// connection of the load, as all others are from then on: which of two rows
// with one key is refused is so never left to chance.
type pair struct {
	l     *load
	lanes [2]*lane
	ctx   context.Context
	stop  context.CancelFunc
	wait  sync.WaitGroup

	mu       sync.Mutex
	changed  *sync.Cond
	next     int  // the batch whose turn it is to be committed
	bad      int  // the first batch that was not taken as it is; 0: none
	finished int  // batches whose goroutine has ended
	in       int  // rows that are committed
	unsure   bool // whether the bad batch is

	batches int // begun, numbered from 1
	flying  [2]flight
	kept    bool   // the batch written last is kept
	spare   []byte // memory in place of it
	over    bool
	refused []sink.Refusal // found too late to be returned by Write
}

// A flight is a batch under way.
type flight struct {
	number int // 0: none
	first  int // of its rows, among all that were written and not refused
	batch  sink.Batch
}

// lockWait is for how long a batch waits for a row that the other connection
// holds, in seconds: that there is one means that both have the same key.
const lockWait = 1

// newPair returns nil if there cannot be a second connection.
func (l *load) newPair(ctx context.Context) *pair {
	c, err := l.d.pool.Conn(ctx)
	if err != nil {
		return nil
	}
	p := &pair{l: l, lanes: [2]*lane{l.main, newLane(c)}, next: 1, in: l.rows}
	p.changed = sync.NewCond(&p.mu)
	p.ctx, p.stop = context.WithCancel(ctx)
	set := fmt.Sprintf("SET SESSION innodb_lock_wait_timeout = %d, unique_checks = 1, foreign_key_checks = 1", lockWait)
	if _, err = c.ExecContext(ctx, set); err == nil {
		if _, err = l.main.c.ExecContext(ctx, set); err == nil {
			// What is in was taken as it is.
			_, err = l.main.c.ExecContext(ctx, "COMMIT")
		}
	}
	if err != nil {
		p.close()
		return nil
	}
	return p
}

// Instead implements sink.Holder.
func (l *load) Instead(data []byte) []byte {
	if l.pair == nil || !l.pair.kept {
		return data
	}
	return l.pair.spare
}

// write takes a batch, unless the pair is over.
func (p *pair) write(ctx context.Context, b sink.Batch) (taken bool, err error) {
	p.kept = false
	if p.over {
		return false, nil
	}
	// Two batches are under way at most.
	p.mu.Lock()
	for p.finished < p.batches-1 {
		p.changed.Wait()
	}
	bad := p.bad > 0
	p.mu.Unlock()
	if bad {
		return false, p.settle(ctx)
	}
	p.batches++
	f := &p.flying[p.batches%2]
	f.number, f.first = p.batches, p.l.rows
	p.kept, p.spare = true, f.batch.Data[:0]
	f.batch = b
	p.l.rows += b.Rows
	p.wait.Add(1)
	go p.fly(p.lanes[p.batches%2], *f)
	return true, nil
}

// fly loads one batch, and commits it when all before it are.
func (p *pair) fly(n *lane, f flight) {
	defer p.wait.Done()
	clean := false
	if _, err := n.c.ExecContext(p.ctx, "START TRANSACTION"); err == nil {
		if clean, err = n.load(p.ctx, p.l.bulk, f.batch.Data, f.batch.Rows); err != nil {
			clean = false
		}
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	for clean && p.next != f.number {
		if clean = p.bad == 0 || f.number < p.bad; clean {
			p.changed.Wait()
		}
	}
	end := "ROLLBACK"
	if clean {
		end = "COMMIT"
	} else if p.bad == 0 || f.number < p.bad {
		p.bad = f.number
	}
	p.mu.Unlock()
	_, err := n.c.ExecContext(p.ctx, end)
	p.mu.Lock()
	switch {
	case clean && err == nil:
		p.next++
		p.in += f.batch.Rows
	case clean:
		p.unsure, p.bad = true, f.number // its rows may be in or not
	}
	p.finished++
	p.changed.Broadcast()
}

// settle ends the pair: it waits for what is under way, and sends again what
// was rolled back, on the load's own connection.
func (p *pair) settle(ctx context.Context) error {
	if p.over {
		return nil
	}
	p.over = true
	p.wait.Wait()
	p.close()
	if err := ctx.Err(); err != nil {
		return err
	}
	l := p.l
	if _, err := l.main.c.ExecContext(ctx, "SET SESSION innodb_lock_wait_timeout = DEFAULT"); err != nil {
		return l.d.fail("cannot go on", err)
	}
	if err := l.start(ctx); err != nil || p.bad == 0 {
		return err
	}
	if p.unsure {
		var n int
		if err := l.main.c.QueryRowContext(ctx, "SELECT count(*) FROM "+l.table).Scan(&n); err != nil {
			return l.d.fail("cannot be asked which rows are in", err)
		}
		if n > p.in {
			p.bad++
		}
	}
	var again []flight
	for _, f := range p.flying {
		if f.number >= p.bad {
			again = append(again, f)
		}
	}
	slices.SortFunc(again, func(a, b flight) int { return a.number - b.number })
	for _, f := range again {
		refused, err := l.write(ctx, f.batch)
		if err != nil {
			return err
		}
		for _, r := range refused {
			r.Row += f.first
			p.refused = append(p.refused, r)
		}
	}
	return nil
}

// Finish implements db.Finisher: it waits for what is under way.
func (l *load) Finish(ctx context.Context) ([]sink.Refusal, error) {
	if l.pair == nil {
		return nil, nil
	}
	if err := l.pair.settle(ctx); err != nil {
		return nil, err
	}
	refused := l.pair.refused
	l.pair.refused = nil
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

// close ends the second lane, and what is under way.
func (p *pair) close() {
	p.stop()
	p.wait.Wait()
	if n := p.lanes[1]; n != nil {
		n.end()
		// The connection goes back to the pool, and what was told to stop between two
		// statements has left a transaction open on it, which would keep the table from
		// being dropped.
		ctx, cancel := context.WithTimeout(context.Background(), endIn)
		n.c.ExecContext(ctx, "ROLLBACK")
		cancel()
		n.c.Close()
		p.lanes[1] = nil
	}
}
