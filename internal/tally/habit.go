package tally

import (
	"cmp"
	"encoding/binary"
	"math"
	"math/bits"
	"slices"
	"strconv"

	"ambertray/internal/reading"
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
	// sketch has for each of its parts the longest run of zeros that a hash began with
	// (Flajolet and others, HyperLogLog, 2007).
	sketch [sketchParts]uint8
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
		x := hashText(v.Text)
		h.sketched(x)
		h.word(x, v.Text, 1)
		return
	case h.Type.Kind == sqltype.Double:
		x := hashNumber(math.Float64bits(v.Float))
		h.sketched(x)
		h.word(x, nil, 1)
		h.number(v.Float)
	case v.Wide != nil:
		x := hashText(v.Wide)
		h.sketched(x)
		h.word(x, nil, 1)
		f, _ := strconv.ParseFloat(v.Big().String(), 64)
		h.number(f)
	default:
		x := hashNumber(uint64(v.Int))
		h.sketched(x)
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

func (h *Habit) sketched(x uint64) {
	if n := uint8(bits.LeadingZeros64(x<<8|1<<7)) + 1; n > h.sketch[x>>56] {
		h.sketch[x>>56] = n
	}
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
	n := float64(h.rows + o.rows)
	d := o.mean - h.mean
	h.mean += d * float64(o.rows) / n
	h.m2 += o.m2 + d*d*float64(h.rows)*float64(o.rows)/n
	h.rows += o.rows
	for i, k := range o.sketch {
		h.sketch[i] = max(h.sketch[i], k)
	}
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
	sum, empty := 0.0, 0
	for _, k := range h.sketch {
		sum += math.Ldexp(1, -int(k))
		if k == 0 {
			empty++
		}
	}
	const m = float64(sketchParts)
	x := 0.7213 / (1 + 1.079/m) * m * m / sum
	if x <= 2.5*m && empty > 0 {
		x = m * math.Log(m/float64(empty))
	}
	return min(int64(x+0.5), h.rows), false
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

const (
	odd1 = 0x9e3779b97f4a7c15
	odd2 = 0xd6e8feb86659fd93
)

func fold(a, b uint64) uint64 {
	hi, lo := bits.Mul64(a, b)
	return hi ^ lo
}

func hashNumber(x uint64) uint64 { return fold(fold(x^odd1, odd2)^x, odd1) }

// hashText makes 64 bits of a text, eight bytes at a time.
func hashText(b []byte) uint64 {
	h := uint64(len(b)) * odd1
	for ; len(b) >= 8; b = b[8:] {
		h = fold(h^binary.LittleEndian.Uint64(b), odd2)
	}
	var last uint64
	for i, c := range b {
		last |= uint64(c) << (8 * i)
	}
	return fold(fold(h^last^odd1, odd2)^h, odd1)
}
