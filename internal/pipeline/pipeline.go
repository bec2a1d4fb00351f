// Package pipeline is where the program works side by side: one goroutine
// cuts the text into chunks, several work on chunks, and the caller's own
// goroutine collects the results in the order of the text.
//
// A chunk belongs to the goroutine that works on it; a result to the worker
// until it is returned, then to the collector. Nothing else is shared.
//
// Rows that come from a database go the other way, on a belt ([Carried]): one goroutine
// reads them, another works on them, in order.
package pipeline

import (
	"context"
	"errors"
	"io"
	"runtime"
	"sync"
	"sync/atomic"

	"ambertray/internal/fault"
	"ambertray/internal/source/delimited"
)

// processors is how many there were for us when the program began, whatever it
// says to the runtime later.
var processors = runtime.GOMAXPROCS(0)

// Workers is how many goroutines work on chunks.
func Workers() int { return max(2, processors) }

// Chunks yields chunks in order and io.EOF after the last.
type Chunks interface {
	Next() (*delimited.Chunk, error)
}

// Run works on every chunk. work is called side by side, with the number of
// its goroutine from 0 to workers-1. collect is called with each result, in order.
// Whichever of them is done with the chunk releases it. The first error ends everything and is
// returned; so does the end of ctx.
func Run[R any](ctx context.Context, chunks Chunks, workers int,
	work func(worker int, c *delimited.Chunk) (R, error), collect func(R) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()

	type result struct {
		r   R
		err error
	}
	type job struct {
		chunk *delimited.Chunk
		done  chan result
	}
	jobs := make(chan job)
	order := make(chan chan result, 2*workers) // bounds what is in memory
	var wg sync.WaitGroup
	wg.Add(1)
	go func() {
		defer wg.Done()
		defer close(jobs)
		defer close(order)
		for {
			c, err := next(chunks)
			if errors.Is(err, io.EOF) {
				return
			}
			done := make(chan result, 1)
			if err != nil {
				done <- result{err: err}
			}
			select {
			case order <- done:
			case <-ctx.Done():
				return
			}
			if err != nil {
				return
			}
			select {
			case jobs <- job{c, done}:
			case <-ctx.Done():
				return
			}
		}
	}()
	for w := range workers {
		wg.Add(1)
		go func() {
			defer wg.Done()
			for j := range jobs {
				var r result
				func() {
					defer fault.Recovered(&r.err)
					r.r, r.err = work(w, j.chunk)
				}()
				j.done <- r
			}
		}()
	}
	err := func() error {
		for done := range order {
			select {
			case r := <-done:
				if r.err != nil {
					return r.err
				}
				if err := collect(r.r); err != nil {
					return err
				}
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		return ctx.Err()
	}()
	cancel()
	wg.Wait()
	return err
}

// Each calls do with each number below n, side by side. A panic of one call is one of Each.
func Each(n int, do func(k int)) {
	var wg sync.WaitGroup
	var at atomic.Int64
	failed := make([]error, Workers())
	for w := range failed {
		wg.Go(func() {
			defer fault.Recovered(&failed[w])
			for k := at.Add(1); k <= int64(n); k = at.Add(1) {
				do(int(k - 1))
			}
		})
	}
	wg.Wait()
	for _, err := range failed {
		if err != nil {
			panic(err) // a *fault.Panic
		}
	}
}

func next(chunks Chunks) (c *delimited.Chunk, err error) {
	defer fault.Recovered(&err)
	return chunks.Next()
}
