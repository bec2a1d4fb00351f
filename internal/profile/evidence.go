package profile

import (
	"bytes"
	"encoding/binary"
	"math"

	"ambertray/internal/reading"
	"ambertray/internal/sketch"
	"ambertray/internal/source/delimited"
)

// evidence is what one goroutine has seen of one column. Every field of the
// column is counted in exactly one class; what the classes mean for the type
// is decided afterwards, in decide.go, over the merged evidence.
type evidence struct {
	fields int64 // all of them
	blanks int64 // nothing, or spaces only
	quoted int64 // of the blanks: written as an empty pair of quotes

	ints    intClass
	decs    decClass
	numbers []*numberForm // numbers in any other way of writing
	dates   []*dateShape
	words   []wordClass // words that may mean null, true or false
	uuids   int64
	texts   examples // everything else
	odd     *odd     // see odds

	maxRaw   int // characters with those spaces
	spaces   int // most characters of a field of spaces only
	minChars int // of fields that are not blank
	maxChars int
	maxBytes int
	lo, hi   bound // smallest and largest as text
	values   distinct

	hint    byte // the class of the field before, as a guess at the next
	numeric bool // the field before was a plain number, and the memo is of no use
	texty   bool // the same of a text
	memo    memo
}

// odd is what few columns have.
type odd struct {
	zeros    examples // whole numbers with a leading zero
	floats   floats
	numerals examples // those of the texts that are text cells and look like numbers
	padded   examples // spaces before or behind
	wide     examples // fields with a character beyond ASCII
	formulas examples // texts that a spreadsheet would take for formulas
}

var nothingOdd odd

// odds are to be looked at, and oddly to be added to.
func (e *evidence) odds() *odd {
	if e.odd == nil {
		return &nothingOdd
	}
	return e.odd
}

func (e *evidence) oddly() *odd {
	if e.odd == nil {
		e.odd = new(odd)
	}
	return e.odd
}

func (o *odd) merge(x *odd) {
	o.zeros.merge(x.zeros)
	o.numerals.merge(x.numerals)
	o.padded.merge(x.padded)
	o.wide.merge(x.wide)
	o.formulas.merge(x.formulas)
	o.floats.merge(&x.floats)
}

type intClass struct {
	count  int64
	last   int64 // the one counted last
	lo, hi int64
	// compact counts those of eight digits that read as yyyyMMdd between 1900
	// and 2100.
	compact int64
	first   examples
	alike   alike
}

// decClass is numbers with a point and nothing else: -12.50.
type decClass struct {
	count    int64
	whole    int   // most digits before the point
	fraction int   // most digits behind it
	nonzero  int64 // whose fraction is not all zeros
	lo, hi   scaled
	first    examples
	alike    alike
}

// numberForm is numbers written in one way.
type numberForm struct {
	group, mark, either reading.Mark
	sign                reading.Sign
	currency            string
	percent, exponent   bool
	plus                int64 // of them, how many begin with a plus

	count    int64
	whole    int    // most digits before the point, Either taken as the point
	digits   int    // most digits in all
	big      string // the longest, as written
	fraction int    // most digits behind Fraction or Either
	lo, hi   scaled
	ranged   bool // there are lo and hi: of numbers of at most 18 digits
	first    examples
}

type wordClass struct {
	word string
	examples
}

// bound is a smallest or largest text with its first bytes as a number.
type bound struct {
	prefix uint64
	text   []byte
	set    bool
}

func newEvidence() *evidence {
	e := &evidence{minChars: math.MaxInt}
	e.ints.lo, e.ints.hi = math.MaxInt64, math.MinInt64
	return e
}

// The words that may mean null, true or false. Other words are text.
var nullWords = []string{"NULL", "null", "Null", "N/A", "n/a", "NA", "#N/A", "-", "--", "?", "none", "None", "NONE",
	"nil", "\\N", "(null)", "NaN", "nan", ".", "n.a.", "N.A."}

// sureNulls are those that mean nothing else: a column of nothing but these has no
// value.
var sureNulls = []string{"NULL", "null", "Null", "#N/A", "\\N", "(null)", "NaN", "nan", "N/A", "n/a", "nil"}

var truthPairs = reading.DefaultWords

// A wordTable has the words that are counted one by one.
type wordTable struct {
	known map[string]bool
	// lengths has, per first byte, a bit for every length a word has.
	lengths [256]uint64
}

func newWordTable(more []string) *wordTable {
	t := &wordTable{known: map[string]bool{}}
	add := func(w string) {
		t.known[w] = true
		t.lengths[w[0]] |= 1 << min(len(w), 63)
	}
	for _, w := range nullWords {
		add(w)
	}
	for _, p := range truthPairs {
		for _, w := range p {
			for _, v := range variants(w) {
				add(v)
			}
		}
	}
	for _, w := range more {
		if w != "" {
			add(w)
		}
	}
	return t
}

// variants are the ways a word is cased.
func variants(w string) []string {
	upper := string(bytes.ToUpper([]byte(w)))
	return []string{w, upper, upper[:1] + w[1:]}
}

// observe counts one field. ascii tells that the field has no byte beyond
// ASCII for certain. It returns a hash of the field where
// the scratch asks for it, or 0 for a blank one.
func (e *evidence) observe(s *scratch, field []byte, quoted bool, line spot, ascii bool) uint64 {
	return e.observeTimes(s, field, quoted, line, ascii, 1)
}

// observeTimes counts a field that stands times times, first on line.
//
// It is long because it runs for every field, and calls as little as it can.
func (e *evidence) observeTimes(s *scratch, field []byte, quoted bool, line spot, ascii bool, times int64) uint64 {
	s.times = times
	e.fields += times
	b, padded := field, 0
	if len(b) == 0 {
		e.blanks += times
		if quoted {
			e.quoted += times
		}
		return 0
	}
	if b[0] <= ' ' || b[len(b)-1] <= ' ' || b[0] >= 0x80 || b[len(b)-1] >= 0x80 {
		if b = reading.TrimSpace(field); len(b) != len(field) {
			if len(b) == 0 {
				e.blanks += times
				e.spaces = max(e.spaces, reading.Characters(field))
				return 0
			}
			e.oddly().padded.add(line, field, times)
			before := cap(field) - cap(b)
			padded = reading.Characters(field[:before]) + reading.Characters(field[before+len(b):])
		}
	}
	// Lengths, bounds and distinctness are those of the text without the
	// spaces around it.
	chars := len(b)
	if chars > e.maxBytes {
		e.maxBytes = chars
	}
	if !ascii {
		if chars = reading.Characters(b); chars < len(b) {
			e.oddly().wide.add(line, b, times)
		}
	}
	if padded > 0 {
		e.maxRaw = max(e.maxRaw, chars+padded)
	}
	if chars < e.minChars {
		e.minChars = chars
	}
	if chars > e.maxChars {
		e.maxChars = chars
	}
	if p := reading.Prefix(b); p <= e.lo.prefix || p >= e.hi.prefix {
		e.bounds(p, b)
	}
	var h uint64
	if s.hashes || e.values.wants() {
		h = sketch.Hash(b)
		e.values.add(h, b, times)
	}

	if s.text && s.number.Scan(b) {
		e.oddly().numerals.add(line, b, times)
		e.texts.add(line, b, times)
		return h
	}
	c := b[0]
	e.texty = false
	if d := c - '0'; d <= 9 || c == '-' || c == '.' {
		if e.hint == 'd' && len(b) >= 6 && e.date(s, b, line) {
			return h
		}
		if e.plainNumber(s, b, line) {
			e.numeric = e.memo.off
			return h
		}
		e.numeric = false
		if len(b) >= 4 && e.date(s, b, line) {
			e.hint = 'd'
			return h
		}
		if len(b) == 36 && reading.IsUUID(b) {
			e.uuids += s.times
			return h
		}
		if e.number(s, b, line) || e.word(s, b, line) {
			return h
		}
	} else {
		e.numeric = false
		if e.other(s, b, line) {
			return h
		}
	}
	if (c < 'A' || c == 0xef) && delimited.Formula(b) {
		e.oddly().formulas.add(line, b, times)
	}
	e.texts.add(line, b, times)
	e.texty = (e.memo.off || len(b) > longestInMemo) && len(e.texts.first) == maxExamples
	return h
}

// other counts a field that begins with neither digit nor minus.
func (e *evidence) other(s *scratch, b []byte, line spot) bool {
	c := b[0]
	if s.words.lengths[c]&(1<<min(len(b), 63)) != 0 && e.word(s, b, line) {
		return true
	}
	if l := c | 0x20; l >= 'a' && l <= 'z' {
		if len(b) == 36 && reading.IsUUID(b) {
			e.uuids += s.times
			return true
		}
		if len(b) < 6 {
			return false
		}
		if startsDate(b) && e.date(s, b, line) {
			return true
		}
		return startsMoney(b) && e.number(s, b, line)
	}
	return e.number(s, b, line)
}

// startsMoney reports whether b, six bytes at least, may be a number behind a currency code, which
// has two or three letters.
func startsMoney(b []byte) bool {
	last := b[len(b)-1]
	return (last >= '0' && last <= '9' || last == '-') && (letterBit(b[2]) == 0 || letterBit(b[3]) == 0) &&
		reading.StartsWithCurrency(b)
}

// startsDate reports whether b begins like an English month or weekday.
func startsDate(b []byte) bool {
	const j, f, m, a, s, o, n, d, t, w = 'j' << 16, 'f' << 16, 'm' << 16, 'a' << 16, 's' << 16, 'o' << 16, 'n' << 16,
		'd' << 16, 't' << 16, 'w' << 16
	switch uint32(b[0]|0x20)<<16 | uint32(b[1]|0x20)<<8 | uint32(b[2]|0x20) {
	case j | 'a'<<8 | 'n', f | 'e'<<8 | 'b', m | 'a'<<8 | 'r', a | 'p'<<8 | 'r', m | 'a'<<8 | 'y', j | 'u'<<8 | 'n',
		j | 'u'<<8 | 'l',
		a | 'u'<<8 | 'g', s | 'e'<<8 | 'p', o | 'c'<<8 | 't', n | 'o'<<8 | 'v', d | 'e'<<8 | 'c',
		m | 'o'<<8 | 'n', t | 'u'<<8 | 'e', w | 'e'<<8 | 'd', t | 'h'<<8 | 'u', f | 'r'<<8 | 'i', s | 'a'<<8 | 't',
		s | 'u'<<8 | 'n':
		return true
	}
	return false
}

func letterBit(c byte) uint32 {
	if c |= 0x20; c < 'a' || c > 'z' {
		return 0
	}
	return 1 << (c - 'a')
}

// plainNumber counts [-]digits[.digits] of at most 18 digits.
//
// It is long because it runs for every field that begins like a number.
func (e *evidence) plainNumber(s *scratch, b []byte, line spot) bool {
	neg := b[0] == '-'
	d := b
	if neg {
		d = b[1:]
	}
	if len(d) == 0 || len(d) > 18 {
		return false
	}
	point := -1
	n, whole := eightDigits(d)
	if !whole {
		n = 0
		for i, c := range d {
			if v := c - '0'; v <= 9 {
				n = n*10 + int64(v)
			} else if c == '.' && point < 0 {
				point = i
			} else {
				return false
			}
		}
	}
	if neg {
		n = -n
	}
	if point < 0 {
		if d[0] == '0' && (len(d) > 1 || neg) {
			e.oddly().zeros.add(line, b, s.times)
			return true
		}
		i := &e.ints
		i.count += s.times
		i.last = n
		i.lo, i.hi = min(i.lo, n), max(i.hi, n)
		if len(d) == 8 && !neg && compactDate(n) {
			i.compact += s.times
		}
		if i.first.wants(line) {
			i.first.add(line, b, s.times)
		}
		e.hint = 'i'
		return true
	}
	after := len(d) - point - 1
	if after == 3 && point >= 1 && point <= 3 && d[0] != '0' {
		return false // 1.234 may be a thousand
	}
	if after == 0 {
		return false
	}
	if len(d) > 16 {
		e.oddly().floats.see(b, line, s.times)
	}
	f := &e.decs
	f.count += s.times
	f.whole, f.fraction = max(f.whole, point), max(f.fraction, after)
	v := scaled{n, after}
	if f.count == s.times {
		f.lo, f.hi = v, v
	} else if after == f.lo.scale && after == f.hi.scale {
		if n < f.lo.n {
			f.lo.n = n
		}
		if n > f.hi.n {
			f.hi.n = n
		}
	} else {
		f.lo, f.hi = minScaled(f.lo, v), maxScaled(f.hi, v)
	}
	if d[len(d)-1] != '0' || n%pow10[min(after, 18)] != 0 {
		f.nonzero += s.times
	}
	if f.first.wants(line) {
		f.first.add(line, b, s.times)
	}
	return true
}

// eightDigits reads one to eight digits at once.
func eightDigits(d []byte) (int64, bool) {
	if len(d) > 8 || cap(d) < 8 {
		return 0, false
	}
	unused := 64 - 8*len(d)
	w := binary.LittleEndian.Uint64(d[:8])<<unused | reading.Zeros&(1<<unused-1)
	if !reading.AllDigits(w) {
		return 0, false
	}
	return reading.EightDigits(w), true
}

func compactDate(n int64) bool {
	y, m, d := int(n/10000), int(n/100%100), int(n%100)
	return y >= 1900 && y <= 2100 && reading.ValidDate(y, m, d)
}

func (e *evidence) date(s *scratch, b []byte, line spot) bool {
	if !s.dates.scan(b) {
		return false
	}
	var shape *dateShape
	for i, d := range e.dates {
		if d.key == s.dates.shape {
			shape = d
			if i > 0 {
				e.dates[i], e.dates[i-1] = e.dates[i-1], e.dates[i]
			}
			break
		}
	}
	if shape == nil {
		c := resolve(s.dates.shape)
		if len(c) == 0 || len(e.dates) >= 64 {
			return false
		}
		shape = &dateShape{key: s.dates.shape, candidates: c}
		e.dates = append(e.dates, shape)
	}
	shape.observe(&s.dates, b, line, s.times)
	return true
}

// number counts a number written in some other way.
func (e *evidence) number(s *scratch, b []byte, line spot) bool {
	n := &s.number
	if !n.Scan(b) {
		return false
	}
	if len(n.Digits) > 1 && n.Digits[0] == '0' && n.After == 0 && !n.Exponent {
		return false // a code
	}
	var f *numberForm
	for _, g := range e.numbers {
		if g.group == n.Group && g.mark == n.Fraction && g.either == n.Either && g.sign == n.Sign &&
			g.percent == n.Percent && g.exponent == n.Exponent && g.currency == n.Currency {
			f = g
			break
		}
	}
	if f == nil {
		f = &numberForm{group: n.Group, mark: n.Fraction, either: n.Either, sign: n.Sign,
			currency: n.Currency, percent: n.Percent, exponent: n.Exponent}
		e.numbers = append(e.numbers, f)
	}
	f.first.add(line, b, s.times)
	if len(n.Digits) > 15 && n.After > 0 && len(n.Plain) == len(b) && n.Fraction == reading.Point && !n.Exponent {
		e.oddly().floats.see(b, line, s.times)
	}
	if n.Plus {
		f.plus += s.times
	}
	f.count += s.times
	f.whole, f.fraction = max(f.whole, len(n.Digits)-n.After), max(f.fraction, n.After)
	if len(n.Digits) > f.digits {
		f.digits = len(n.Digits)
		if f.digits > 18 {
			f.big = clip(b)
		}
	}
	if v, ok := scaledFrom(n.Negative, n.Digits, n.After); ok {
		f.reach(v, v)
	}
	return true
}

// reach makes the smallest and largest at most and at least these.
func (f *numberForm) reach(lo, hi scaled) {
	if f.ranged {
		lo, hi = minScaled(f.lo, lo), maxScaled(f.hi, hi)
	}
	f.lo, f.hi, f.ranged = lo, hi, true
}

// word counts a word that may mean null, true or false.
func (e *evidence) word(s *scratch, b []byte, line spot) bool {
	if !s.words.known[string(b)] {
		return false
	}
	for i := range e.words {
		if e.words[i].word == string(b) {
			e.words[i].add(line, b, s.times)
			return true
		}
	}
	e.words = append(e.words, wordClass{word: string(b)})
	e.words[len(e.words)-1].add(line, b, s.times)
	return true
}

// bounds keeps the smallest and largest text by bytes.
func (e *evidence) bounds(p uint64, b []byte) {
	if !e.lo.set || p < e.lo.prefix || p == e.lo.prefix && bytes.Compare(b, e.lo.text) < 0 {
		e.lo.keep(p, b)
	}
	if !e.hi.set || p > e.hi.prefix || p == e.hi.prefix && bytes.Compare(b, e.hi.text) > 0 {
		e.hi.keep(p, b)
	}
}

func (t *bound) keep(p uint64, b []byte) {
	if len(b) > 4096 {
		b = b[:4096]
	}
	t.prefix, t.text, t.set = p, append(t.text[:0], b...), true
}

// scratch is memory that a goroutine uses for every column.
type scratch struct {
	dates  dateScan
	number reading.NumberScan
	words  *wordTable
	times  int64    // how often the field at hand stands
	hashes bool     // the caller needs the field's hash
	text   bool     // the field at hand is a text cell of a sheet
	held   []uint64 // memory for hashes
}

// merge adds what another goroutine saw.
//
// It is long because it has a line or two for each kind of evidence.
func (e *evidence) merge(o *evidence) {
	e.fields += o.fields
	e.blanks += o.blanks
	e.quoted += o.quoted
	e.uuids += o.uuids
	e.texts.merge(o.texts)

	if o.odd != nil {
		e.oddly().merge(o.odd)
	}
	e.spaces = max(e.spaces, o.spaces)
	e.ints.count += o.ints.count
	e.ints.compact += o.ints.compact
	e.ints.lo, e.ints.hi = min(e.ints.lo, o.ints.lo), max(e.ints.hi, o.ints.hi)
	e.ints.first.merge(o.ints.first)

	if o.decs.count > 0 {
		if e.decs.count == 0 {
			e.decs.lo, e.decs.hi = o.decs.lo, o.decs.hi
		}
		e.decs.count += o.decs.count
		e.decs.nonzero += o.decs.nonzero
		e.decs.whole, e.decs.fraction = max(e.decs.whole, o.decs.whole), max(e.decs.fraction, o.decs.fraction)
		e.decs.lo, e.decs.hi = minScaled(e.decs.lo, o.decs.lo), maxScaled(e.decs.hi, o.decs.hi)
		e.decs.first.merge(o.decs.first)
	}
numbers:
	for _, n := range o.numbers {
		for _, g := range e.numbers {
			if g.group == n.group && g.mark == n.mark && g.either == n.either && g.sign == n.sign &&
				g.percent == n.percent && g.exponent == n.exponent && g.currency == n.currency {
				g.count += n.count
				g.plus += n.plus
				if n.digits > g.digits {
					g.big = n.big
				}
				g.whole, g.fraction, g.digits = max(g.whole, n.whole), max(g.fraction, n.fraction),
					max(g.digits, n.digits)
				if n.ranged {
					g.reach(n.lo, n.hi)
				}
				g.first.merge(n.first)
				continue numbers
			}
		}
		e.numbers = append(e.numbers, n)
	}
dates:
	for _, d := range o.dates {
		for _, g := range e.dates {
			if g.key == d.key {
				g.count += d.count
				g.first.merge(d.first)
				for i, c := range g.candidates {
					x := d.candidates[i]
					c.fits += x.fits
					c.timed += x.timed
					c.lo, c.hi = min(c.lo, x.lo), max(c.hi, x.hi)
					c.no.merge(x.no)
				}
				continue dates
			}
		}
		e.dates = append(e.dates, d)
	}
words:
	for _, w := range o.words {
		for i := range e.words {
			if e.words[i].word == w.word {
				e.words[i].merge(w.examples)
				continue words
			}
		}
		e.words = append(e.words, w)
	}

	e.maxRaw = max(e.maxRaw, o.maxRaw)
	e.minChars = min(e.minChars, o.minChars)
	if o.maxChars > e.maxChars {
		e.maxChars = o.maxChars
	}
	e.maxBytes = max(e.maxBytes, o.maxBytes)
	for _, t := range []bound{o.lo, o.hi} {
		if t.set {
			e.bounds(reading.Prefix(t.text), t.text)
		}
	}
	e.values.merge(&o.values)
}

// scaled is n·10^-scale.
type scaled struct {
	n     int64
	scale int
}

var pow10 = func() (p [19]int64) {
	p[0] = 1
	for i := 1; i < len(p); i++ {
		p[i] = p[i-1] * 10
	}
	return
}()

func scaledFrom(neg bool, digits []byte, scale int) (scaled, bool) {
	if len(digits) > 18 {
		return scaled{}, false
	}
	var n int64
	for _, c := range digits {
		n = n*10 + int64(c-'0')
	}
	if neg {
		n = -n
	}
	return scaled{n, scale}, true
}

// less compares exactly where both fit 18 digits at the larger scale, else by
// floating point, which is good enough to show a range.
func (a scaled) less(b scaled) bool {
	if a.scale == b.scale {
		return a.n < b.n
	}
	d := b.scale - a.scale
	if d > 0 && d <= 18 && abs(a.n) < pow10[18]/pow10[d] {
		return a.n*pow10[d] < b.n
	}
	if d < 0 && -d <= 18 && abs(b.n) < pow10[18]/pow10[-d] {
		return a.n < b.n*pow10[-d]
	}
	return a.float() < b.float()
}

func (a scaled) float() float64 { return float64(a.n) / math.Pow10(a.scale) }

func abs(n int64) int64 { return max(n, -n) }

func minScaled(a, b scaled) scaled {
	if b.less(a) {
		return b
	}
	return a
}

func maxScaled(a, b scaled) scaled {
	if a.less(b) {
		return b
	}
	return a
}
