package pipeline

import (
	"context"
	"errors"
	"io"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/fault"
	"ambertray/internal/source/delimited"
)

// counted yields n empty chunks, then err.
type counted struct {
	n, seq int
	err    error
}

func (c *counted) Next() (*delimited.Chunk, error) {
	if c.seq == c.n {
		return nil, c.err
	}
	c.seq++
	return &delimited.Chunk{Seq: c.seq - 1}, nil
}

func TestRunKeepsOrder(t *testing.T) {
	var got []int
	err := Run(context.Background(), &counted{n: 200, err: io.EOF}, 4, func(_ int, c *delimited.Chunk) (int, error) {
		time.Sleep(time.Duration((c.Seq*7919)%13) * 50 * time.Microsecond)
		return c.Seq, nil
	}, func(seq int) error { got = append(got, seq); return nil })
	require.NoError(t, err)
	require.Len(t, got, 200)
	assert.IsIncreasing(t, got)
}

func TestRunStops(t *testing.T) {
	boom := errors.New("boom")
	pass := func(_ int, c *delimited.Chunk) (int, error) { return c.Seq, nil }
	keep := func(int) error { return nil }
	assert.ErrorIs(t, Run(context.Background(), &counted{n: 3, err: boom}, 2, pass, keep), boom, "reading")
	assert.ErrorIs(t, Run(context.Background(), &counted{n: 99, err: io.EOF}, 2,
		func(_ int, c *delimited.Chunk) (int, error) {
			if c.Seq == 5 {
				return 0, boom
			}
			return 0, nil
		}, keep), boom, "working")
	assert.ErrorIs(t, Run(context.Background(), &counted{n: 99, err: io.EOF}, 2, pass, func(i int) error {
		if i == 7 {
			return boom
		}
		return nil
	}), boom, "collecting")
	ctx, cancel := context.WithCancel(context.Background())
	assert.ErrorIs(t, Run(ctx, &counted{n: 1 << 30, err: io.EOF}, 2, pass, func(i int) error {
		if i == 7 {
			cancel()
		}
		return nil
	}), context.Canceled)
}

// Whatever the number of workers, each has its own number, no chunk is worked on
// twice, and no more are in memory than are bounded.
func TestRunBoundsWhatIsInMemory(t *testing.T) {
	for _, workers := range []int{1, 2, 7} {
		var open, most, busy atomic.Int64
		inUse := make([]atomic.Bool, workers)
		seen := map[int]bool{}
		err := Run(context.Background(), opened{&counted{n: 300, err: io.EOF}, &open, &most}, workers, func(w int, c *delimited.Chunk) (int, error) {
			assert.False(t, inUse[w].Swap(true), "a worker does one thing at a time")
			assert.LessOrEqual(t, busy.Add(1), int64(workers))
			time.Sleep(20 * time.Microsecond)
			busy.Add(-1)
			inUse[w].Store(false)
			return c.Seq, nil
		}, func(seq int) error {
			assert.False(t, seen[seq])
			seen[seq] = true
			open.Add(-1)
			time.Sleep(50 * time.Microsecond) // the collector is the slow one
			return nil
		})
		require.NoError(t, err)
		assert.Len(t, seen, 300)
		assert.LessOrEqual(t, most.Load(), int64(3*workers+3))
	}
	assert.GreaterOrEqual(t, Workers(), 2)
}

// opened counts the chunks that have been read and not yet collected.
type opened struct {
	*counted
	open, most *atomic.Int64
}

func (o opened) Next() (*delimited.Chunk, error) {
	c, err := o.counted.Next()
	if err == nil {
		if n := o.open.Add(1); n > o.most.Load() {
			o.most.Store(n)
		}
	}
	return c, err
}

// The first error in the order of the text is the one that is told.
func TestRunTellsTheFirstError(t *testing.T) {
	for range 20 {
		err := Run(context.Background(), &counted{n: 50, err: io.EOF}, 4, func(_ int, c *delimited.Chunk) (int, error) {
			if c.Seq == 9 {
				time.Sleep(time.Millisecond)
				return 0, errors.New("the earlier")
			}
			if c.Seq == 10 {
				return 0, errors.New("the later")
			}
			return 0, nil
		}, func(int) error { return nil })
		require.EqualError(t, err, "the earlier")
	}
}

// Each calls with every number once, and a panic of one call comes out of it with its stack.
func TestEach(t *testing.T) {
	var seen [100]atomic.Int64
	Each(len(seen), func(k int) { seen[k].Add(1) })
	for k := range seen {
		assert.Equal(t, int64(1), seen[k].Load())
	}
	Each(0, func(int) { t.Error("called for nothing") })
	var err error
	func() {
		defer fault.Recovered(&err)
		Each(3, func(k int) {
			if k == 1 {
				panic("the second")
			}
		})
	}()
	var own *fault.Panic
	require.ErrorAs(t, err, &own)
	assert.Equal(t, "the second", own.What)
	assert.Contains(t, string(own.Stack), "TestEach")
}
