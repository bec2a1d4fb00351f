package profile

import (
	"ambertray/internal/reading"
	"ambertray/internal/source/delimited"
)

// A batch holds the fields of some records, column by column. A column's
// values are much alike, so that taking them one after the other is faster
// than going through each record.
type batch struct {
	size   int      // records at most
	n      int      // records
	fields [][]byte // of the i-th column from i*size on
	quoted []bool   // the same
	some   bool     // there is one in quotes
}

// batchFields is about how many fields a batch has: what fits into a near cache.
const batchFields = 8 << 10

func (b *batch) init(columns int) {
	b.size = min(max(batchFields/max(columns, 1), 8), 200)
	b.fields = make([][]byte, b.size*columns)
	b.quoted = make([]bool, b.size*columns)
}

// add takes a record and reports whether the batch is full.
func (b *batch) add(rec *delimited.Record) (full bool) {
	at := b.n
	for _, f := range rec.Fields {
		b.fields[at] = f
		at += b.size
	}
	if some := rec.AnyQuoted(); some || b.some {
		if !b.some {
			clear(b.quoted)
			b.some = true
		}
		at = b.n
		for i := range rec.Fields {
			b.quoted[at] = rec.Quoted(i)
			at += b.size
		}
	}
	b.n++
	return b.n == b.size
}

// observe counts the fields of the batch, and empties it.
func (w *worker) observe(watched []bool, ascii bool) {
	b := &w.batch
	lines := w.lines[len(w.lines)-b.n:]
	typed := w.rows.Typed()
	for i, e := range w.cols {
		fields := b.fields[i*b.size:][:b.n]
		quoted := b.quoted[i*b.size:][:b.n]
		switch {
		case watched[i]:
			w.observeKey(i, fields, lines, ascii)
		case !b.some:
			for k, f := range fields {
				if !e.again(&w.scratch, f, lines[k]) {
					e.observe(&w.scratch, f, false, lines[k], ascii)
				}
			}
		default:
			for k, f := range fields {
				w.scratch.text = typed && quoted[k]
				if w.scratch.text || !e.again(&w.scratch, f, lines[k]) {
					e.observe(&w.scratch, f, quoted[k], lines[k], ascii)
				}
			}
			w.scratch.text = false
		}
	}
	b.n, b.some = 0, false
}

// observeKey counts the fields of a column that is watched as a key.
func (w *worker) observeKey(i int, fields [][]byte, lines []int64, ascii bool) {
	b, e := &w.batch, w.cols[i]
	typed := w.rows.Typed()
	for k, f := range fields {
		quoted := b.some && b.quoted[i*b.size+k]
		before := e.ints.count
		w.scratch.text = typed && quoted
		// Where all were whole numbers, these are enough.
		w.scratch.hashes = len(w.ints[i]) != len(w.hashes[i])
		h := e.observe(&w.scratch, f, quoted, lines[k], ascii)
		if e.ints.count != before {
			w.ints[i] = append(w.ints[i], e.ints.last)
			h = intHash
		} else if b := reading.TrimSpace(f); h == 0 && len(b) > 0 {
			h = hash(b)
		}
		w.hashes[i] = append(w.hashes[i], h)
	}
	w.scratch.text, w.scratch.hashes = false, false
}
