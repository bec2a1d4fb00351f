package rows

import (
	"sync"

	"ambertray/internal/source"
	"ambertray/internal/source/delimited"
)

// numbering hands out record numbers to chunks that are counted side by side.
type numbering struct {
	mu   sync.Mutex
	cond *sync.Cond
	seq  int   // the chunk whose turn it is
	sum  int64 // records before it
}

func newNumbering() *numbering {
	n := &numbering{}
	n.cond = sync.NewCond(&n.mu)
	return n
}

// next waits for the chunks before seq and returns how many records they
// have. Chunks are worked on in order, so the ones before have been begun.
func (n *numbering) next(seq int, records int64) int64 {
	n.mu.Lock()
	defer n.mu.Unlock()
	for n.seq != seq {
		n.cond.Wait()
	}
	before := n.sum
	n.sum += records
	n.seq++
	n.cond.Broadcast()
	return before
}

// count counts the records of a chunk.
func (c *converter) count(chunk *delimited.Chunk) (n int64) {
	c.rows.Reset(chunk)
	for {
		kind, ok := c.rows.Next(&c.rec)
		if !ok {
			return n
		}
		if kind == source.Data {
			n++
		}
	}
}
