package profile

import (
	"math/bits"

	"ambertray/internal/reading"
	"ambertray/internal/sketch"
	"ambertray/internal/source/delimited"
)

// alike is how far numbers written in the same way are known to lie between the smallest and the largest: as
// words, that of which the last digit is the lowest byte, in which they have the same order as numbers.
type alike struct {
	after  int    // digits behind the point
	lo, hi uint64 // 0, 0: none
}

// runAlike is run for the commonest of columns: numbers without a sign that have all as many digits behind the
// point as the first, or none. It reads none that lies between others that were read.
//
// It is long because it runs for every number, and calls nothing.
func (e *evidence) runAlike(s *scratch, text []byte, column []delimited.Span) (n int) {
	begin, size, _, is := word(text, column[0])
	if e.hint == 'd' || !is || size == 0 {
		return 0
	}
	after, class, first := 0, &e.ints.alike, &e.ints.first
	for k := 1; k < size; k++ {
		if text[begin+k] == '.' {
			after, class, first = size-1-k, &e.decs.alike, &e.decs.first
			if after == 0 || after == 3 { // 1.234 may be a thousand
				return 0
			}
		}
	}
	if len(first.first) < maxExamples {
		return 0
	}
	if class.after != after {
		*class = alike{after: after}
	}
	// The point is made a zero, and has to be there.
	shift, smallest := uint(8*after)&63, 1
	point, place, zero := uint64(0), uint64(0), uint64(0)
	if after > 0 {
		point, place, zero, smallest = ('.'^'0')<<shift, 0xff<<shift, '0'<<shift, after+2
	}
	fraction := uint64(1)<<shift - 1
	lo, hi := class.lo, class.hi
	least, most := size, size
	lowest, highest := e.lo.prefix, e.hi.prefix
	hashes, held := e.values.wants(), s.held[:0]
	var blanks, nonzero int
	for _, at := range column {
		from, size, raw, is := word(text, at)
		if !is {
			break
		}
		if size == 0 {
			blanks++
			n++
			continue
		}
		unused := uint(64-8*size) & 63
		w := bits.ReverseBytes64(raw) >> unused
		d := w ^ point | reading.Zeros&^(^uint64(0)>>unused)
		if !reading.AllDigits(d) || d&place != zero || size < smallest ||
			after == 0 && (size == 8 || size > 1 && byte(raw) == '0') {
			break
		}
		if (w^reading.Zeros)&fraction != 0 {
			nonzero++
		}
		if w < lo || w > hi {
			e.outside(class, d, w)
			lo, hi = class.lo, class.hi
		}
		least, most = min(least, size), max(most, size)
		order := w << unused
		if order <= lowest || order >= highest {
			e.bounds(order, text[from:from+size])
			lowest, highest = e.lo.prefix, e.hi.prefix
		}
		if hashes {
			held = e.values.hold(held, sketch.HashWord(bits.ReverseBytes64(order), size), text[from:from+size])
		}
		n++
	}
	e.values.addAll(s, held)
	if n > blanks {
		e.minChars, e.maxChars, e.maxBytes = min(e.minChars, least), max(e.maxChars, most), max(e.maxBytes, most)
		e.countAlike(after, int64(n-blanks), int64(nonzero), most-1-after)
	}
	e.fields += int64(n)
	e.blanks += int64(blanks)
	return n
}

// countAlike counts numbers that are alike.
func (e *evidence) countAlike(after int, count, nonzero int64, whole int) {
	if after == 0 {
		e.ints.count += count
		return
	}
	f := &e.decs
	f.count += count
	f.nonzero += nonzero
	f.whole, f.fraction = max(f.whole, whole), max(f.fraction, after)
}

// outside takes a number that may be the smallest or largest so far. d is its word with zeros before it, and one
// for its point.
func (e *evidence) outside(a *alike, d, word uint64) {
	if shift := uint(8 * a.after); shift > 0 {
		d = d>>(shift+8)<<shift | d&(1<<shift-1) | '0'<<56
	}
	v := reading.EightDigits(bits.ReverseBytes64(d))
	if a.after == 0 {
		e.ints.lo, e.ints.hi = min(e.ints.lo, v), max(e.ints.hi, v)
	} else {
		f, v := &e.decs, scaled{v, a.after}
		f.lo, f.hi = minScaled(f.lo, v), maxScaled(f.hi, v)
	}
	if a.hi == 0 {
		a.lo, a.hi = word, word
	}
	a.lo, a.hi = min(a.lo, word), max(a.hi, word)
}

// runCodes is runTexts for texts of two to eight bytes that begin with a letter and a digit.
func (e *evidence) runCodes(s *scratch, text []byte, column []delimited.Span) (n int) {
	if !e.memo.off {
		return 0
	}
	least, most := e.minChars, e.maxChars
	lowest, highest := e.lo.prefix, e.hi.prefix
	hashes, held := e.values.wants(), s.held[:0]
	blanks := 0
	for _, at := range column {
		from, size, raw, is := word(text, at)
		if !is {
			break
		}
		if size == 0 {
			blanks++
			n++
			continue
		}
		unused := uint(64-8*size) & 63
		x := raw << unused >> unused
		c := byte(raw)
		if l := c | 0x20; l < 'a' || l > 'z' || byte(raw>>8)-'0' > 9 || size < 2 || x>>(56-unused) <= ' ' ||
			x&reading.Highs != 0 || s.words.lengths[c]&(1<<size) != 0 {
			break
		}
		least, most = min(least, size), max(most, size)
		if order := bits.ReverseBytes64(x); order <= lowest || order >= highest {
			e.bounds(order, text[from:from+size])
			lowest, highest = e.lo.prefix, e.hi.prefix
		}
		if hashes {
			held = e.values.hold(held, sketch.HashWord(x, size), text[from:from+size])
		}
		n++
	}
	e.values.addAll(s, held)
	e.minChars, e.maxChars, e.maxBytes = least, most, max(e.maxBytes, most)
	e.fields += int64(n)
	e.blanks += int64(blanks)
	e.texts.count += int64(n - blanks)
	return n
}
