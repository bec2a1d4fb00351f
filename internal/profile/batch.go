package profile

import (
	"ambertray/internal/reading"
	"ambertray/internal/sketch"
	"ambertray/internal/source/delimited"
)

// A batch holds the fields of some records, which are then taken column by
// column: a column's values are much alike, so that taking them one after the
// other is faster than going through each record.
type batch struct {
	columns int
	size    int      // records at most
	n       int      // records
	fields  [][]byte // one record behind the other
	quoted  []bool   // the same
	some    bool     // there is one in quotes
}

// batchFields is about how many fields a batch has: what fits into a near cache.
const batchFields = 4 << 10

// veryWide is how many columns a file has of which a batch holds few records, so that it takes
// little room.
const veryWide = 32 << 10

func (b *batch) init(columns int) {
	b.columns = columns
	b.size = min(max(batchFields/max(columns, 1), 8), 200)
	if columns > veryWide {
		b.size = 2
	}
	b.fields = make([][]byte, b.size*columns)
	b.quoted = make([]bool, b.size*columns)
}

// room is where the next record's fields go.
func (b *batch) room() [][]byte {
	at := b.n * b.columns
	return b.fields[at : at : at+b.columns]
}

// add takes a record that was read into the batch's room, and reports whether
// the batch is full.
func (b *batch) add(rec *delimited.Record) (full bool) {
	if some := rec.AnyQuoted(); some || b.some {
		if !b.some {
			clear(b.quoted)
			b.some = true
		}
		quoted := b.quoted[b.n*b.columns:]
		for i := range rec.Fields {
			quoted[i] = rec.Quoted(i)
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
		switch {
		case watched[i]:
			w.observeKey(i, lines, ascii)
		case !b.some:
			for k, at := 0, i; k < b.n; k, at = k+1, at+b.columns {
				f := b.fields[at]
				if len(f) == 0 {
					e.fields++
					e.blanks++
				} else if e.memo.off || !e.again(&w.scratch, f, lines[k]) {
					e.observe(&w.scratch, f, false, lines[k], ascii)
				}
			}
		default:
			for k, at := 0, i; k < b.n; k, at = k+1, at+b.columns {
				f, quoted := b.fields[at], b.quoted[at]
				w.scratch.text = typed && quoted
				if w.scratch.text || !e.again(&w.scratch, f, lines[k]) {
					e.observe(&w.scratch, f, quoted, lines[k], ascii)
				}
			}
			w.scratch.text = false
		}
	}
	b.n, b.some = 0, false
}

// observeKey counts the fields of a column that is watched as a key.
func (w *worker) observeKey(i int, lines []spot, ascii bool) {
	b, e := &w.batch, w.cols[i]
	typed := w.rows.Typed()
	for k, at := 0, i; k < b.n; k, at = k+1, at+b.columns {
		f, quoted := b.fields[at], b.some && b.quoted[at]
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
