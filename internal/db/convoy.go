package db

import (
	"cmp"
	"context"
	"slices"
	"sync"

	"ambertray/internal/fault"
	"ambertray/internal/sink"
)

// A Lane is a connection that batches go in over.
type Lane interface {
	// Take sends a batch in a transaction of its own, which stays open, and reports whether
	// the server took all of it as it is.
	Take(ctx context.Context, b sink.Batch) (clean bool)
	// End commits what was taken, or rolls it back.
	End(ctx context.Context, commit bool) error
}

// A Convoy sends batches over several lanes in turn, each batch in a transaction of its own. A
// batch is committed when all before it are. As soon as the server does anything but take a
// batch as it is, that batch and those behind it are rolled back: they, and all that follow,
// are for the load's own connection, one after the other. Which of two rows with one key is
// refused is so never left to chance.
type Convoy struct {
	lanes []Lane
	ctx   context.Context
	stop  context.CancelFunc
	wait  sync.WaitGroup

	mu       sync.Mutex
	changed  *sync.Cond
	next     int   // the batch whose turn it is to be committed
	bad      int   // the first batch that was not taken as it is; 0: none
	finished int   // batches whose goroutine has ended
	in       int64 // rows that are committed
	unsure   bool  // whether the bad batch is

	begun  int // batches, numbered from 1
	flying []flight
	kept   bool   // the batch written last is kept
	spare  []byte // memory in place of it
	over   bool
}

// OutOfOrder is why a load has to begin anew, on one connection: which rows are to blame can
// only be told where they lie in the order in which they came.
type OutOfOrder struct{ Err error }

func (e *OutOfOrder) Error() string { return e.Err.Error() }
func (e *OutOfOrder) Unwrap() error { return e.Err }

// A flight is a batch under way.
type flight struct {
	number int // 0: none
	first  int // the number of its first row, as Write was told
	sink.Batch
}

// NewConvoy sends over lanes; in rows are committed already.
func NewConvoy(ctx context.Context, lanes []Lane, in int) *Convoy {
	c := &Convoy{lanes: lanes, flying: make([]flight, len(lanes)), next: 1, in: int64(in)}
	c.changed = sync.NewCond(&c.mu)
	c.ctx, c.stop = context.WithCancel(ctx)
	return c
}

// Instead is what [sink.Holder] says of the batch that was written last.
func (c *Convoy) Instead(data []byte) []byte {
	if c == nil || !c.kept {
		return data
	}
	return c.spare
}

// Over reports that nothing more goes over the lanes.
func (c *Convoy) Over() bool { return c.over }

// Write takes a batch; where it does not, the convoy is to be settled. Batches are under way
// on all lanes at most.
func (c *Convoy) Write(b sink.Batch, first int) (taken bool) {
	c.kept = false
	c.mu.Lock()
	for c.finished <= c.begun-len(c.lanes) {
		c.changed.Wait()
	}
	bad := c.bad > 0
	c.mu.Unlock()
	if bad || c.over {
		return false
	}
	c.begun++
	at := c.begun % len(c.lanes)
	c.kept, c.spare = true, c.flying[at].Data[:0]
	c.flying[at] = flight{c.begun, first, b}
	c.wait.Add(1)
	go c.fly(c.lanes[at], c.flying[at])
	return true
}

// fly takes one batch, and commits it when all before it are.
func (c *Convoy) fly(n Lane, f flight) {
	defer c.wait.Done()
	clean := c.take(n, f.Batch)
	c.mu.Lock()
	defer c.mu.Unlock()
	for clean && c.next != f.number {
		if clean = c.bad == 0 || f.number < c.bad; clean {
			c.changed.Wait()
		}
	}
	if !clean && (c.bad == 0 || f.number < c.bad) {
		c.bad = f.number
	}
	c.mu.Unlock()
	err := n.End(c.ctx, clean)
	c.mu.Lock()
	switch {
	case clean && err == nil:
		c.next++
		c.in += int64(f.Rows)
	case clean:
		c.unsure, c.bad = true, f.number // its rows may be in or not
	}
	c.finished++
	c.changed.Broadcast()
}

// take sends a batch over a lane. A fault there is no end of the program: the batch is sent again over the
// load's own connection, which says it if it has it, too.
func (c *Convoy) take(n Lane, b sink.Batch) (clean bool) {
	var err error
	func() {
		defer fault.Recovered(&err)
		clean = n.Take(c.ctx, b)
	}()
	return clean && err == nil
}

// Settle waits for what is under way, and begins what follows on the load's own connection:
// write sends again there what was rolled back, in order. What that refuses is returned, with
// numbers among all rows. Where the commit of a batch was not answered, in is asked how many
// rows there are.
func (c *Convoy) Settle(ctx context.Context, in func() (int64, error), begin func() error,
	write func(sink.Batch) ([]sink.Refusal, error)) (refused []sink.Refusal, err error) {
	c.over = true
	c.wait.Wait()
	c.stop()
	again, err := c.rolledBack(in)
	if err = cmp.Or(ctx.Err(), err); err != nil {
		return nil, err
	}
	if err := begin(); err != nil {
		return nil, err
	}
	for _, f := range again {
		here, err := write(f.Batch)
		if err != nil {
			return nil, err
		}
		for _, r := range here {
			r.Row += f.first
			refused = append(refused, r)
		}
	}
	return refused, nil
}

// rolledBack are the batches that are to be sent again, in order.
func (c *Convoy) rolledBack(in func() (int64, error)) (again []flight, err error) {
	if c.bad == 0 {
		return nil, nil
	}
	if c.unsure {
		n, err := in()
		if err != nil {
			return nil, err
		}
		if n > c.in {
			c.bad++
		}
	}
	for _, f := range c.flying {
		if f.number >= c.bad {
			again = append(again, f)
		}
	}
	slices.SortFunc(again, func(a, b flight) int { return a.number - b.number })
	return again, nil
}

// Wait waits for what is under way.
func (c *Convoy) Wait() { c.wait.Wait() }

// Close ends what is under way.
func (c *Convoy) Close() {
	c.stop()
	c.wait.Wait()
	c.over = true
}
