package profile

import (
	"ambertray/internal/reading"
	"ambertray/internal/sketch"
	"ambertray/internal/source/delimited"
)

// batchFields is about how many fields a batch has: what fits into a near cache.
const batchFields = 8 << 10

// veryWide is how many columns a file has of which a batch holds few records, so that it takes
// little room.
const veryWide = 32 << 10

// newBatch holds the fields of some records, which are then taken column by column: a column's
// values are much alike, so that taking them one after the other is faster than going through
// each record.
func newBatch(columns int) *delimited.Columns {
	size := min(max(batchFields/max(columns, 1), 8), 200)
	if columns > veryWide {
		size = 2
	}
	return delimited.NewColumns(columns, size)
}

// observe counts the fields of the batch, and empties it.
func (w *worker) observe(watched []bool, ascii bool) {
	b := w.batch
	for _, line := range b.Lines[:b.N] {
		w.lines = append(w.lines, spotOf(w.source, line))
	}
	lines := w.lines[len(w.lines)-b.N:]
	typed := w.rows.Typed()
	for i, e := range w.cols {
		switch {
		case watched[i]:
			w.observeKey(i, lines, ascii)
		case !typed:
			w.observeColumn(e, b.Column(i), lines, ascii)
		default:
			for k, at := range b.Column(i) {
				f, quoted := b.Field(at), at.Quoted()
				w.scratch.text = quoted
				if quoted || !e.again(&w.scratch, f, lines[k]) {
					e.observe(&w.scratch, f, quoted, lines[k], ascii)
				}
			}
			w.scratch.text = false
		}
	}
	b.Clear()
}

// observeColumn counts the fields of a column, of which quotes tell nothing.
func (w *worker) observeColumn(e *evidence, column []delimited.Span, lines []spot, ascii bool) {
	b := w.batch
	for k := 0; k < len(column); k++ {
		if e.texty {
			k += e.runCodes(&w.scratch, b.Text(), column[k:])
			k += e.runTexts(&w.scratch, b, column[k:], ascii)
		}
		if e.numeric {
			if k += e.runAlike(&w.scratch, b.Text(), column[k:]); k == len(column) {
				return
			}
			k += e.run(&w.scratch, b.Text(), column[k:], nil)
		} else if !e.memo.off {
			k += e.runAgain(&w.scratch, b.Text(), column[k:], lines[k:])
		}
		if k == len(column) {
			return
		}
		f := b.Field(column[k])
		if e.memo.off || !e.again(&w.scratch, f, lines[k]) {
			e.observe(&w.scratch, f, column[k].Quoted(), lines[k], ascii)
		}
	}
}

// observeKey counts the fields of a column that is watched as a key.
func (w *worker) observeKey(i int, lines []spot, ascii bool) {
	b, e := w.batch, w.cols[i]
	typed := w.rows.Typed()
	column := b.Column(i)
	for k := 0; k < len(column); k++ {
		if e.numeric && !typed && len(w.ints[i]) == len(w.hashes[i]) {
			n := e.run(&w.scratch, b.Text(), column[k:], &w.ints[i])
			for range n {
				w.hashes[i] = append(w.hashes[i], intHash)
			}
			if k += n; k == len(column) {
				break
			}
		}
		f, quoted := b.Field(column[k]), column[k].Quoted()
		before := e.ints.count
		w.scratch.text = typed && quoted
		// Where all were whole numbers, these are enough.
		w.scratch.hashes = len(w.ints[i]) != len(w.hashes[i])
		h := e.observe(&w.scratch, f, quoted, lines[k], ascii)
		if e.ints.count != before {
			w.ints[i] = append(w.ints[i], e.ints.last)
			h = intHash
		} else if b := reading.TrimSpace(f); h == 0 && len(b) > 0 {
			h = sketch.Hash(b)
		}
		w.hashes[i] = append(w.hashes[i], h)
	}
	w.scratch.text, w.scratch.hashes = false, false
}
