package tally

import (
	"cmp"
	"math"
	"slices"
	"strconv"

	"ambertray/internal/reading"
	"ambertray/internal/sketch"
	"ambertray/internal/sqltype"
)

// A Habit is what a column's values are like, so that one load can be put beside another:
// how many are different, which words they are, as long as they are few, and how far
// numbers lie apart. It does not depend on the order of the rows, but for the last digits
// of what numbers come to.
type Habit struct {
	Type sqltype.Type

	rows     int64 // without nulls
	mean, m2 float64
	sketch   [sketchParts]uint8 // see sketch.Registers
	// words are those that there are, by their hashes, in a table without gaps in a search.
	words [2 * MostWords]word
	count int    // of words
	many  bool   // more than are kept
	texts []byte // of the words, behind each other
}

// A word is a text or a number, and how often it is there.
type word struct {
	hash     uint64
	count    int64
	from, to int32
}

// Limits of what is kept.
const (
	MostWords   = 64
	longestWord = 40 // bytes
	sketchParts = 256
)

// Reset begins anew, in the memory that is there.
func (h *Habit) Reset(t sqltype.Type) {
	texts := h.texts[:0]
	*h = Habit{Type: t, texts: texts}
}

// Add counts one value.
func (h *Habit) Add(v *reading.Value) {
	if v.Null {
		return
	}
	h.rows++
	switch {
	case h.Type.IsText() || h.Type.Kind == sqltype.UUID:
		x := sketch.Hash(v.Text)
		sketch.Registers(h.sketch[:]).Add(x)
		h.word(x, v.Text, 1)
		return
	case h.Type.Kind == sqltype.Double:
		x := sketch.HashNumber(math.Float64bits(v.Float))
		sketch.Registers(h.sketch[:]).Add(x)
		h.word(x, nil, 1)
		h.number(v.Float)
	case v.Wide != nil:
		x := sketch.Hash(v.Wide)
		sketch.Registers(h.sketch[:]).Add(x)
		h.word(x, nil, 1)
		f, _ := strconv.ParseFloat(v.Big().String(), 64)
		h.number(f)
	default:
		x := sketch.HashNumber(uint64(v.Int))
		sketch.Registers(h.sketch[:]).Add(x)
		h.word(x, nil, 1)
		h.number(float64(v.Int))
	}
}

// number takes one into mean and spread (Welford, 1962).
func (h *Habit) number(x float64) {
	d := x - h.mean
	h.mean += d / float64(h.rows)
	h.m2 += d * (x - h.mean)
}

// word counts one, as long as there are few.
func (h *Habit) word(x uint64, text []byte, n int64) {
	if h.many {
		return
	}
	at := x % (2 * MostWords)
	for h.words[at].count > 0 {
		if h.words[at].hash == x {
			h.words[at].count += n
			return
		}
		at = (at + 1) % (2 * MostWords)
	}
	if h.count == MostWords || len(text) > longestWord {
		h.many = true
		return
	}
	h.count++
	from := int32(len(h.texts))
	h.texts = append(h.texts, text...)
	h.words[at] = word{x, n, from, int32(len(h.texts))}
}

// Merge adds what was counted of the same column elsewhere.
func (h *Habit) Merge(o *Habit) {
	if o.rows == 0 {
		return
	}
	h.spread(o.rows, o.mean, o.m2)
	sketch.Registers(h.sketch[:]).Merge(o.sketch[:])
	if h.many = h.many || o.many; h.many {
		return
	}
	for _, w := range o.words {
		if w.count > 0 {
			h.word(w.hash, o.texts[w.from:w.to], w.count)
		}
	}
}

// Distinct is how many different values there are, and whether that is exact; else it may
// be a fifth off.
func (h *Habit) Distinct() (n int64, exact bool) {
	if !h.many {
		return int64(h.count), true
	}
	return min(sketch.Registers(h.sketch[:]).Estimate(), h.rows), false
}

// Spread is the standard deviation of numbers, in the units of their type.
func (h *Habit) Spread() (float64, bool) {
	if h.rows == 0 || !h.Type.IsNumber() {
		return 0, false
	}
	return math.Sqrt(max(h.m2, 0)/float64(h.rows)) / math.Pow10(h.Type.Scale), true
}

// A Word is a text and how often it is there.
type Word struct {
	Text  string `json:"text"`
	Count int64  `json:"count"`
}

// Words are the texts of a column, in their order; nil if there are too many, or as many as
// values.
func (h *Habit) Words() (out []Word) {
	if h.many || !h.Type.IsText() || h.rows < 2*int64(h.count) {
		return nil
	}
	for _, w := range h.words {
		if w.count > 0 {
			out = append(out, Word{string(h.texts[w.from:w.to]), w.count})
		}
	}
	slices.SortFunc(out, func(a, b Word) int { return cmp.Compare(a.Text, b.Text) })
	return out
}
