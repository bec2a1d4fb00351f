package delimited

import "math/bits"

// feedEnd marks an end of a field that is one of a record, too.
const feedEnd = 1 << 31

// ends are where the fields of a text end, found by whole blocks as far as it is well-formed:
// quotes open where fields begin, close where they end, and stand twice within.
type ends struct {
	list []uint32 // offsets of delimiters and line feeds outside quotes
	next int      // of the list, the first that was not taken
	from int      // where the record begins of which that is the first end
	to   int      // how far the text was looked at
	stop int      // the first offset that is not well-formed, or -1

	quotes  bool     // there are some
	twice   []uint32 // offsets of the quotes that are the second of two
	used    int      // of them
	inner   []int    // line feeds within quotes
	counted int      // of them
	inside  uint64   // all ones while a quote is open
	ended   uint64   // the last byte ends a field
	closed  uint64   // the last byte is a quote that closes

	blocks [windowBlocks]masks
}

// windowBlocks is how many blocks are looked at in one go.
const windowBlocks = 32

// reset forgets what was found: there is another text.
func (w *ends) reset() { w.list, w.next, w.from, w.to, w.stop = w.list[:0], 0, -1, -1, -1 }

// begin starts over at the beginning of a record.
func (w *ends) begin(at int) {
	w.list, w.next, w.from, w.to, w.stop = w.list[:0], 0, at, at, -1
	w.quotes, w.twice, w.used, w.inner, w.counted = false, w.twice[:0], 0, w.inner[:0], 0
	w.inside, w.ended, w.closed = 0, 1, 0
}

// meet reports whether the record that begins at an offset is one that was found, and passes over
// those before.
func (w *ends) meet(at int) bool {
	if w.from == at {
		return true
	}
	if w.to < at || w.from < 0 || w.from > at || w.stop >= 0 && w.stop < at {
		return false
	}
	for w.next < len(w.list) && int(w.list[w.next]&^feedEnd) < at {
		w.next++
	}
	if w.within(at - 1); w.next == 0 {
		return false
	}
	w.from = at
	return w.list[w.next-1] == uint32(at-1)|feedEnd
}

// within takes the line feeds within quotes up to an offset, and counts them.
func (w *ends) within(end int) (n int64) {
	for ; w.counted < len(w.inner) && w.inner[w.counted] < end; w.counted++ {
		n++
	}
	if w.counted == len(w.inner) {
		w.inner, w.counted = w.inner[:0], 0
	}
	return n
}

// doubled takes the second quotes of two between two offsets.
func (w *ends) doubled(from, to uint32) []uint32 {
	for w.used < len(w.twice) && w.twice[w.used] < from {
		w.used++
	}
	first := w.used
	for w.used < len(w.twice) && w.twice[w.used] < to {
		w.used++
	}
	of := w.twice[first:w.used]
	if w.used == len(w.twice) {
		w.twice, w.used = w.twice[:0], 0
	}
	return of
}

// scan finds the ends in the next blocks of a text. It reports whether it could go on.
func (w *ends) scan(text []byte, delimiter, quote byte) bool {
	if w.stop >= 0 || w.to >= len(text) {
		return false
	}
	w.list = w.list[:copy(w.list, w.list[w.next:])]
	w.next = 0
	blocks := w.look(text[w.to:], delimiter, quote)
	if need := len(w.list) + blocks*blockSize + 4; need > cap(w.list) {
		w.list = append(make([]uint32, 0, 2*need), w.list...)
	}
	for k := range blocks {
		m := &w.blocks[k]
		found := m.delimiters | m.feeds
		if quote != 0 && (m.quotes|w.inside|w.closed) != 0 {
			s := w.outside(m)
			if found = s.found; s.bad != 0 && !w.onlyReturns(text, m, s.bad) {
				found &= 1<<(w.stop-w.to) - 1
			}
			for twice := s.twice; twice != 0; twice &= twice - 1 {
				w.twice = append(w.twice, uint32(w.to+bits.TrailingZeros64(twice)))
			}
			for inner := s.inner; inner != 0; inner &= inner - 1 {
				w.inner = append(w.inner, w.to+bits.TrailingZeros64(inner))
			}
			w.quotes = true
		}
		w.ended = found >> 63
		if found != 0 {
			w.add(found, m.feeds)
		}
		if w.to += blockSize; w.stop >= 0 {
			break
		}
	}
	w.to = min(w.to, len(text))
	return true
}

// look sees what stands in the next blocks, and returns how many these are.
func (w *ends) look(text []byte, delimiter, quote byte) (blocks int) {
	if blocks = min(len(text)/blockSize, windowBlocks); blocks > 0 {
		masksOf(w.blocks[:blocks], text, delimiter, quote)
		return blocks
	}
	var last [blockSize]byte
	copy(last[:], text)
	masksOf(w.blocks[:1], last[:], delimiter, quote)
	m, there := &w.blocks[0], uint64(1)<<len(text)-1
	m.delimiters, m.feeds, m.quotes = m.delimiters&there, m.feeds&there, m.quotes&there
	m.within = prefixXor(m.quotes)
	return 1
}

// lastFeed is the offset behind the last line feed of a text that is outside quotes; 0: there is
// none, or the quotes are not as they should be.
func (w *ends) lastFeed(text []byte, delimiter, quote byte) (end int) {
	var feeds [windowBlocks]uint64
	for w.begin(0); w.to < len(text); {
		begin, blocks := w.to, w.look(text[w.to:], delimiter, quote)
		for k := range blocks {
			m := &w.blocks[k]
			s := w.outside(m)
			if s.bad != 0 && !w.onlyReturns(text, m, s.bad) {
				return 0
			}
			w.ended, feeds[k] = s.found>>63, s.found&m.feeds
			w.to += blockSize
		}
		for k := blocks - 1; k >= 0; k-- {
			if feeds[k] != 0 {
				end = begin + k*blockSize + bits.Len64(feeds[k])
				break
			}
		}
	}
	return end
}

// add takes the bits of the block at w.to. Four at a time are written, wanted or not: that is
// faster than to see when to end.
func (w *ends) add(found, feeds uint64) {
	n := len(w.list)
	out := w.list[n : n+blockSize+4]
	count := bits.OnesCount64(found)
	at, all := uint32(w.to), found
	for i := 0; i < count; i += 4 {
		four := (*[4]uint32)(out[i:])
		four[0] = at + uint32(bits.TrailingZeros64(found))
		found &= found - 1
		four[1] = at + uint32(bits.TrailingZeros64(found))
		found &= found - 1
		four[2] = at + uint32(bits.TrailingZeros64(found))
		found &= found - 1
		four[3] = at + uint32(bits.TrailingZeros64(found))
		found &= found - 1
	}
	for feeds &= all; feeds != 0; feeds &= feeds - 1 {
		out[bits.OnesCount64(all&(feeds&-feeds-1))] |= feedEnd
	}
	w.list = w.list[:n+count]
}

// seen is what quotes make of a block.
type seen struct {
	found uint64 // delimiters and line feeds outside quotes
	inner uint64 // line feeds within
	twice uint64 // quotes that are the second of two
	bad   uint64 // what is not as it should be
}

// outside sees what the quotes make of the next block.
func (w *ends) outside(m *masks) (s seen) {
	in := m.within ^ w.inside
	opening, closing := m.quotes&in, m.quotes&^in
	s.found, s.inner = (m.delimiters|m.feeds)&^in, m.feeds&in
	// A quote opens where a field begins, or right behind one that closes; and behind one that
	// closes a field ends, or a quote opens.
	behind := closing<<1 | w.closed
	s.twice = opening & behind
	s.bad = opening&^(s.found<<1|w.ended|behind) | behind&^(s.found|m.quotes)
	w.inside, w.closed = uint64(int64(in)>>63), closing>>63
	return s
}

// onlyReturns reports whether all that is bad in the block at w.to are carriage returns of a line's
// end. Else it stops at the first that is not.
func (w *ends) onlyReturns(text []byte, m *masks, bad uint64) bool {
	for ; bad != 0; bad &= bad - 1 {
		bit := bits.TrailingZeros64(bad)
		if i := w.to + bit; i+1 >= len(text) || text[i] != '\r' || text[i+1] != '\n' || m.quotes>>bit&1 != 0 {
			w.stop = i
			return false
		}
	}
	return true
}
