package pipeline

import (
	"context"
	"errors"
	"io"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

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
