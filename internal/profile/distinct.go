package profile

import (
	"encoding/binary"
	"math/bits"
	"strconv"
	"sync"
	"sync/atomic"

	"ambertray/internal/sketch"
	"ambertray/internal/source/delimited"
)

const (
	// fewValues is up to how many different values are listed and counted.
	fewValues = 64
	// estimateFrom is how many fields of a column each goroutine puts into
	// the estimate of how many different values there are.
	estimateFrom = 1 << 17
	registers    = 1 << 10 // of the estimate: about 3 % of error
)

// distinct counts different values: exactly up to fewValues, beyond that by
// an estimate (P. Flajolet et al., HyperLogLog, 2007).
type distinct struct {
	off   bool // not counted at all
	few   *fewSet
	many  bool // there are more than fewValues
	seen  int  // fields in the estimate
	sized sketch.Registers
}

type fewSet struct {
	used   int
	hashes [4 * fewValues]uint64
	counts [4 * fewValues]int64
	texts  [4 * fewValues]string
}

// wants reports whether another value could change the count.
func (d *distinct) wants() bool { return !d.off && (!d.many || d.seen < estimateFrom) }

func (d *distinct) add(h uint64, b []byte, times int64) {
	if d.off {
		return
	}
	if !d.many {
		if d.few == nil {
			d.few = &fewSet{}
		}
		f := d.few
		i := h % uint64(len(f.hashes))
		for f.hashes[i] != 0 {
			if f.hashes[i] == h {
				f.counts[i] += times
				return
			}
			i = (i + 1) % uint64(len(f.hashes))
		}
		if f.used < fewValues {
			f.used++
			f.hashes[i], f.counts[i], f.texts[i] = h, times, clip(b)
			return
		}
		d.spill()
	}
	if d.seen < estimateFrom {
		d.seen++
		d.sized.Add(h)
	}
}

// hold takes a value of a run: its hash is held back where there is an estimate, which takes all of them in the end.
func (d *distinct) hold(held []uint64, h uint64, b []byte) []uint64 {
	if d.many {
		return append(held, h)
	}
	d.add(h, b, 1)
	return held
}

// addAll takes the hashes that were held back, and keeps their memory.
func (d *distinct) addAll(s *scratch, held []uint64) {
	if len(held) > 0 {
		d.seen += len(held)
		d.sized.AddAll(held)
		s.held = held
	}
}

// spill turns to the estimate.
func (d *distinct) spill() {
	d.many = true
	d.sized = make(sketch.Registers, registers)
	for i, h := range d.few.hashes {
		if h != 0 {
			d.seen += int(min(d.few.counts[i], estimateFrom))
			d.sized.Add(h)
		}
	}
	d.few = nil
}

func (d *distinct) merge(o *distinct) {
	if o.few != nil {
		for i, h := range o.few.hashes {
			if h == 0 {
				continue
			}
			d.add(h, []byte(o.few.texts[i]), o.few.counts[i])
		}
		return
	}
	if !o.many {
		return
	}
	if !d.many {
		if d.few == nil {
			d.few = &fewSet{}
		}
		d.spill()
	}
	d.seen += o.seen
	d.sized.Merge(o.sized)
}

// count returns how many different values there are, and whether that is
// exact.
func (d *distinct) count() (int64, bool) {
	if !d.many {
		if d.few == nil {
			return 0, true
		}
		return int64(d.few.used), true
	}
	return max(d.sized.Estimate(), fewValues+1), false
}

// A memo holds back short values that come again and again, so that a value
// is taken apart once and counted many times. It is given up where values
// hardly ever come again.
type memo struct {
	slots []slot
	bits  int // of the number of slots
	hits  int
	tries int
	off   bool
}

// A slot holds a value of at most sixteen bytes: the first and the last eight
// of them, which overlap in a value of less than sixteen. A value of less than
// eight is filled up with zeros.
type slot struct {
	head, tail uint64
	n          int
	count      int64
	line       spot
}

// memoBits is how many slots a column has in a memo, as a power of two: such
// that those of all columns fit into a near cache.
func memoBits(columns int) int {
	const most, all = 11, 15
	return min(most, all-bits.Len(uint(columns)))
}

// longestInMemo is how many bytes a value has at most that is held back.
const longestInMemo = 16

// again takes the field if it can hold it back.
func (e *evidence) again(s *scratch, f []byte, line spot) bool {
	m := &e.memo
	n := len(f)
	if m.off || n == 0 || n > longestInMemo || cap(f) < 8 {
		return false
	}
	var head, tail uint64
	if n >= 8 {
		head, tail = binary.LittleEndian.Uint64(f), binary.LittleEndian.Uint64(f[n-8:])
	} else {
		head = binary.LittleEndian.Uint64(f[:8]) & (1<<(8*n) - 1)
	}
	if f[0] <= ' ' || f[n-1] <= ' ' {
		return false
	}
	e.remember(s, slot{head, tail, n, 1, line})
	return true
}

// remember counts a value that is held back.
func (e *evidence) remember(s *scratch, v slot) {
	m := &e.memo
	if m.slots == nil {
		m.slots = make([]slot, 1<<m.bits)
	}
	x := m.slotOf(v.head, v.tail)
	if x.head == v.head && x.tail == v.tail && x.n == v.n {
		x.count++
		m.hits++
		return
	}
	e.flush(s, x)
	*x = v
	if m.tries++; m.tries == 4<<m.bits {
		if m.hits < 2*m.tries {
			e.flushAll(s)
			m.off, m.slots = true, nil
		}
		m.tries, m.hits = 0, 0
	}
}

// slotOf is where a value would be. All of its bytes have a say: dates and numbered names differ in
// the last of them alone.
func (m *memo) slotOf(head, tail uint64) *slot {
	hi, lo := bits.Mul64(head^0x9e3779b97f4a7c15, tail^0xd6e8feb86659fd93)
	return &m.slots[(hi^lo)>>(64-m.bits)]
}

// runAgain takes fields as again does, up to the first that it cannot hold back, and returns how
// many. Blank ones are counted.
func (e *evidence) runAgain(s *scratch, text []byte, column []delimited.Span, lines []spot) (n int) {
	m := &e.memo
	blanks := 0
	for k, at := range column {
		from, size, in := at.Within()
		if !in || size > longestInMemo || from+longestInMemo > len(text) || size == 0 && at.Quoted() {
			break
		}
		if n++; size == 0 {
			blanks++
			continue
		}
		head, tail, last := binary.LittleEndian.Uint64(text[from:]), uint64(0), uint64(0)
		if size >= 8 {
			tail = binary.LittleEndian.Uint64(text[from+size-8:])
			last = tail >> 56
		} else {
			head &= 1<<(8*size&63) - 1
			last = head >> (8 * (size - 1) & 63)
		}
		if byte(head) <= ' ' || last <= ' ' {
			n--
			break
		}
		if m.slots != nil { // remember, without a call for what was there before
			if x := m.slotOf(head, tail); x.head == head && x.tail == tail && x.n == size {
				x.count++
				m.hits++
				continue
			}
		}
		if e.remember(s, slot{head, tail, size, 1, lines[k]}); m.off {
			break
		}
	}
	e.fields += int64(blanks)
	e.blanks += int64(blanks)
	return n
}

func (e *evidence) flush(s *scratch, x *slot) {
	if x.count == 0 {
		return
	}
	var b [24]byte
	binary.LittleEndian.PutUint64(b[:], x.head)
	if x.n >= 8 {
		binary.LittleEndian.PutUint64(b[x.n-8:], x.tail)
	}
	e.observeTimes(s, b[:x.n], false, x.line, false, x.count)
	x.count = 0
}

// flushAll takes all that is held back into the evidence.
func (e *evidence) flushAll(s *scratch) {
	for i := range e.memo.slots {
		e.flush(s, &e.memo.slots[i])
	}
}

// maxUnique is how many values of a column are remembered to prove that no
// two are equal: 64 MiB of hashes.
const maxUnique = 4 << 20

// maxDuplicates is how many repeated values a column may have before it is
// no longer worth watching as a key.
const maxDuplicates = 20

// longestKey is how many bytes a value has at most of a column that may be a key. Databases index no
// more than some hundreds: InnoDB 3,072 and SQL Server 900, with room for longer values of three
// or four bytes a character.
const longestKey = 255

// unique watches whether a column's values differ from each other, for all
// goroutines together. Whole numbers are kept as bits of pages, which for
// numbers in sequence takes next to nothing, other values as hashes.
type unique struct {
	gone atomic.Bool // no longer watched

	mu         sync.Mutex
	pages      map[int64]*page
	ints       int64 // in the pages
	table      []uint64
	used       int
	full       bool // more values than are remembered
	duplicates examples
}

// A page has one bit for each of 65,536 numbers in a row.
type page [1 << 10]uint64

// maxPages bounds the memory for pages: 16 MiB.
const maxPages = 2 << 10

// addInts takes one chunk's whole numbers, with their lines.
func (u *unique) addInts(ints []int64, lines []spot) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.gone.Load() {
		return
	}
	if u.pages == nil && u.table == nil {
		u.pages = map[int64]*page{}
	}
	var at int64
	var p *page
	for i, v := range ints {
		if u.pages == nil {
			if !u.remember(hashInt(v), lines[i]) {
				return
			}
			continue
		}
		if p == nil || v>>16 != at {
			at = v >> 16
			if p = u.pages[at]; p == nil {
				if len(u.pages) >= maxPages {
					if u.unpage(); u.full {
						return
					}
					if !u.remember(hashInt(v), lines[i]) {
						return
					}
					continue
				}
				p = &page{}
				u.pages[at] = p
			}
		}
		word, bit := &p[v&0xffff>>6], uint64(1)<<(v&63)
		if *word&bit != 0 {
			if !u.duplicate(lines[i]) {
				return
			}
		}
		*word |= bit
		u.ints++
	}
}

func hashInt(v int64) uint64 {
	var b [24]byte
	return sketch.Hash(strconv.AppendInt(b[:0], v, 10))
}

// unpage turns pages into hashes, unless there are too many of them.
func (u *unique) unpage() {
	if u.ints > maxUnique {
		u.pages = nil
		u.stop()
		return
	}
	for at, p := range u.pages {
		for i, w := range p {
			for ; w != 0; w &= w - 1 {
				u.remember(hashInt(at<<16|int64(i<<6+bits.TrailingZeros64(w))), 0)
			}
		}
	}
	u.pages = nil
}

// add takes one chunk's hashes, with their lines.
func (u *unique) add(hashes []uint64, lines []spot) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.gone.Load() {
		return
	}
	if u.pages != nil {
		if u.unpage(); u.full {
			return
		}
	}
	for i, h := range hashes {
		if h != 0 && !u.remember(h, lines[i]) {
			return
		}
	}
}

// remember reports whether to go on.
func (u *unique) remember(h uint64, line spot) bool {
	if 2*(u.used+1) > len(u.table) {
		if u.used >= maxUnique {
			u.stop()
			return false
		}
		u.grow()
	}
	return u.insert(h) || u.duplicate(line)
}

// leave ends the watch: the column is no key.
func (u *unique) leave() {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.drop()
}

// drop keeps nothing any more.
func (u *unique) drop() {
	u.gone.Store(true)
	u.table, u.pages = nil, nil
}

// stop gives up: there are more values than are remembered.
func (u *unique) stop() {
	u.full = true
	u.drop()
}

func (u *unique) duplicate(line spot) bool {
	u.duplicates.add(line, nil, 1)
	if u.duplicates.count > maxDuplicates {
		u.drop()
		return false
	}
	return true
}

func (u *unique) insert(h uint64) bool {
	mask := uint64(len(u.table) - 1)
	for j := h & mask; ; j = (j + 1) & mask {
		switch u.table[j] {
		case h:
			return false
		case 0:
			u.table[j] = h
			u.used++
			return true
		}
	}
}

func (u *unique) grow() {
	old, times := u.table, 4
	if len(old) >= 1<<18 {
		times = 2 // it is megabytes already
	}
	u.table = make([]uint64, max(1024, times*len(old)))
	u.used = 0
	for _, h := range old {
		if h != 0 {
			u.insert(h)
		}
	}
}
