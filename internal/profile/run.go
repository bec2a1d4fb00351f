package profile

import (
	"encoding/binary"
	"math/bits"
	"unicode/utf8"

	"ambertray/internal/reading"
	"ambertray/internal/sketch"
	"ambertray/internal/source/delimited"
)

// run counts plain numbers of at most eight bytes, and blank fields between them, up to the first
// other, and returns how many. It counts them as observe does, but what it knows stays in
// registers. Where keep is not nil, all are to be whole numbers, which it gets.
//
// It is long because it runs for every number, and calls nothing.
func (e *evidence) run(s *scratch, text []byte, column []delimited.Span, keep *[]int64) (n int) {
	if e.hint == 'd' {
		return 0
	}
	hashes, held := e.values.wants(), s.held[:0]
	least, most, wide := e.minChars, e.maxChars, e.maxBytes
	lowest, highest := e.lo.prefix, e.hi.prefix
	i, f := &e.ints, &e.decs
	ints, decs := len(i.first.first) == maxExamples, len(f.first.first) == maxExamples && keep == nil
	zeros := e.odd != nil && len(e.odd.zeros.first) == maxExamples && keep == nil
	var blanks, codes int64
	for _, at := range column {
		from, size, raw, is := word(text, at)
		if !is {
			break
		}
		if size == 0 {
			if keep != nil {
				break
			}
			blanks++
			n++
			continue
		}
		unused := uint(64 - 8*size)
		order := bits.ReverseBytes64(raw) >> unused << unused // as prefix has it
		digits, negative := size, byte(raw) == '-'
		if negative {
			raw >>= 8
			unused += 8
			if digits--; digits == 0 {
				break
			}
		}
		first := byte(raw)
		w := raw<<unused | reading.Zeros&(1<<unused-1)
		if reading.AllDigits(w) {
			v := reading.EightDigits(w)
			if negative {
				v = -v
			}
			if first == '0' && (digits > 1 || negative) {
				if !zeros {
					break
				}
				codes++
			} else {
				if !ints {
					break
				}
				i.count++
				i.last = v
				i.lo, i.hi = min(i.lo, v), max(i.hi, v)
				if digits == 8 && !negative && compactDate(v) {
					i.compact++
				}
				if keep != nil {
					*keep = append(*keep, v)
				}
			}
		} else {
			// With the point taken out, it has to be nothing but digits.
			x := w ^ '.'*reading.Ones
			points := (x - reading.Ones) &^ x & reading.Highs
			if points == 0 || !decs {
				break
			}
			point := uint(bits.TrailingZeros64(points)) &^ 7
			after := 7 - int(point/8)
			whole := digits - 1 - after
			d := w>>point>>8<<point<<8 | w&(1<<point-1)<<8 | '0'
			if !reading.AllDigits(d) || after == 0 || after == 3 && whole >= 1 && first != '0' {
				break
			}
			v := reading.EightDigits(d)
			if negative {
				v = -v
			}
			if f.count++; after == f.lo.scale && after == f.hi.scale {
				f.lo.n, f.hi.n = min(f.lo.n, v), max(f.hi.n, v)
			} else {
				f.lo, f.hi = minScaled(f.lo, scaled{v, after}), maxScaled(f.hi, scaled{v, after})
			}
			f.whole, f.fraction = max(f.whole, whole), max(f.fraction, after)
			if (d^reading.Zeros)>>(64-8*after) != 0 {
				f.nonzero++
			}
		}
		least, most, wide = min(least, size), max(most, size), max(wide, size)
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
	e.minChars, e.maxChars, e.maxBytes = least, most, wide
	e.fields += int64(n)
	e.blanks += blanks
	if codes > 0 {
		e.odd.zeros.count += codes
	}
	return n
}

// word is where a plain field of at most eight bytes lies, and the eight bytes from there on.
func word(text []byte, at delimited.Span) (from, size int, raw uint64, is bool) {
	from, size, is = at.Plain()
	if !is || size > 8 || from+8 > len(text) {
		return 0, 0, 0, false
	}
	return from, size, binary.LittleEndian.Uint64(text[from:]), true
}

// runTexts is run for texts that begin with a letter and can be nothing else: no word that means
// something, no date, no number behind a currency. They may have spaces behind them.
//
// It is long because it runs for every text, and calls as little as it can.
func (e *evidence) runTexts(s *scratch, b *delimited.Columns, column []delimited.Span, ascii bool) (n int) {
	least, most, wide, raw := e.minChars, e.maxChars, e.maxBytes, e.maxRaw
	trims := e.odd != nil && len(e.odd.padded.first) == maxExamples
	hashes, held := e.values.wants(), s.held[:0]
	var blanks, padded int64
	for _, at := range column {
		f := b.Field(at)
		size := len(f)
		if size == 0 && !at.Quoted() {
			blanks++
			n++
			continue
		}
		if trims && size > 0 && f[size-1] == ' ' {
			for size > 0 && f[size-1] == ' ' {
				size--
			}
			f = f[:size]
		}
		if size < 2 || size == 36 && reading.IsUUID(f) || size <= longestInMemo && !e.memo.off {
			break
		}
		c, last := f[0], f[size-1]
		if l := c | 0x20; l < 'a' || l > 'z' || last <= ' ' || last >= utf8.RuneSelf ||
			s.words.lengths[c]&(1<<min(size, 63)) != 0 ||
			size >= 6 && f[1]-'0' > 9 && (startsDate(f) || startsMoney(f)) {
			break
		}
		if !ascii && reading.Characters(f) < size {
			break
		}
		if spaces := at.Len() - size; spaces > 0 {
			padded++
			raw = max(raw, size+spaces)
		}
		least, most, wide = min(least, size), max(most, size), max(wide, size)
		if p := reading.Prefix(f); p <= e.lo.prefix || p >= e.hi.prefix {
			e.bounds(p, f)
		}
		if hashes {
			held = e.values.hold(held, sketch.Hash(f), f)
		}
		n++
	}
	e.values.addAll(s, held)
	e.minChars, e.maxChars, e.maxBytes, e.maxRaw = least, most, wide, raw
	e.fields += int64(n)
	e.blanks += blanks
	e.texts.count += int64(n) - blanks
	if padded > 0 {
		e.odd.padded.count += padded
	}
	return n
}
