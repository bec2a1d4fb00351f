package reading

import (
	"fmt"
	"strings"
)

// A Pattern reads dates and times of one form. It is written in the letters
// of the Unicode date field symbols (UTS #35, part 4), of which it knows:
//
//	yyyy  year, four digits           H HH  hour 0 to 23
//	yy    year, two digits            h hh  hour 1 to 12, with a
//	M MM  month, digits               m mm  minute
//	MMM   month, English name         s ss  second
//	d dd  day of the month            S…    fraction of a second, up to as many digits
//	E…    English weekday, not checked  a     AM or PM
//	X…    Z, +hh, +hhmm or +hh:mm      z     UTC or GMT
//
// One letter reads one or two digits, two letters exactly two. A name is read
// short or long, in any case. Other letters stand in quotes: 'T'.
type Pattern struct {
	source string
	ops    []op
	has    uint8
	pivot  int
	shape  *shape // nil: not all parts have a width of their own
}

type op struct {
	code byte // the letter, or 0 for a literal
	n    int  // how often the letter stands
	lit  byte
}

const (
	hasYear uint8 = 1 << iota
	hasMonth
	hasDay
	hasHour
	hasHalf // AM or PM
	hasZone
	hasHour12
)

// DefaultPivot is the first of the hundred years that two-digit years stand
// for: 69 is 1969 and 68 is 2068, as POSIX strptime has it.
const DefaultPivot = 1969

// ParsePattern compiles a pattern.
func ParsePattern(s string) (*Pattern, error) {
	p := &Pattern{source: s, pivot: DefaultPivot}
	bad := func(format string, args ...any) (*Pattern, error) {
		return nil, fmt.Errorf("date pattern %q: %s", s, fmt.Sprintf(format, args...))
	}
	for i := 0; i < len(s); {
		c := s[i]
		if c == '\'' {
			end := strings.IndexByte(s[i+1:], '\'')
			if end < 0 {
				return bad("a quote is not closed")
			}
			lit := s[i+1 : i+1+end]
			if lit == "" {
				lit = "'"
			}
			for k := range len(lit) {
				p.ops = append(p.ops, op{lit: lit[k]})
			}
			i += end + 2
			continue
		}
		if c < 'A' || c > 'z' || c > 'Z' && c < 'a' {
			p.ops = append(p.ops, op{lit: c})
			i++
			continue
		}
		n := 1
		for i+n < len(s) && s[i+n] == c {
			n++
		}
		l, known := patternLetters[c]
		switch {
		case !known:
			return bad("the letter %c is not known; put text in single quotes", c)
		case c == 'y' && n != 4 && n != 2:
			return bad("write the year yyyy or yy")
		case n > l.limit:
			return bad("%s is longer than %d letters", s[i:i+n], l.limit)
		}
		has := l.has
		if c == 'x' {
			c = 'X'
		}
		if p.has&has&^hasZone != 0 {
			return bad("%c stands twice", c)
		}
		p.has |= has
		p.ops = append(p.ops, op{code: c, n: n})
		i += n
	}
	const date = hasYear | hasMonth | hasDay
	if d := p.has & date; d != 0 && d != date {
		return bad("a date needs year, month and day")
	}
	if p.has&(date|hasHour) == 0 {
		return bad("it has neither a date nor an hour")
	}
	if (p.has&hasHour12 != 0) != (p.has&hasHalf != 0) {
		return bad("h and a belong together")
	}
	p.shape = p.shaped()
	return p, nil
}

// patternLetters are the letters that mean something: how many of them there may
// be, and what they read.
var patternLetters = map[byte]struct {
	limit int
	has   uint8
}{
	'y': {4, hasYear}, 'M': {4, hasMonth}, 'd': {2, hasDay}, 'H': {2, hasHour}, 'h': {2, hasHour | hasHour12},
	'm': {2, 0}, 's': {2, 0}, 'S': {9, 0},
	'a': {1, hasHalf}, 'E': {4, 0}, 'X': {3, hasZone}, 'x': {3, hasZone}, 'z': {1, hasZone},
}

// MustPattern is ParsePattern for patterns known to be right.
func MustPattern(s string) *Pattern {
	p, err := ParsePattern(s)
	if err != nil {
		panic(err)
	}
	return p
}

// String is the pattern as written.
func (p *Pattern) String() string { return p.source }

// HasDate, HasTime and HasZone tell what the pattern reads.
func (p *Pattern) HasDate() bool { return p.has&hasYear != 0 }
func (p *Pattern) HasTime() bool { return p.has&hasHour != 0 }
func (p *Pattern) HasZone() bool { return p.has&hasZone != 0 }

// TwoDigitYear reports whether the pattern's years need a pivot.
func (p *Pattern) TwoDigitYear() bool {
	for _, o := range p.ops {
		if o.code == 'y' && o.n == 2 {
			return true
		}
	}
	return false
}

// A Civil is a date and time as read.
type Civil struct {
	Year, Month, Day     int
	Hour, Minute, Second int
	Micro                int
	Offset               int // seconds east of UTC
}

// Parse reads b whole. Besides success it tells a text of another form
// (NotThisForm) from one of this form that names no real date (NoSuchDate) or
// a fraction finer than a microsecond (TooFine).
func (p *Pattern) Parse(b []byte, c *Civil) Misfit {
	*c = Civil{}
	if p.shape != nil {
		if !p.shape.read(b, c, p.pivot) {
			return NotThisForm
		}
		return p.real(c)
	}
	i := 0
	x := extra{half: -1}
	for _, o := range p.ops {
		if o.code == 0 {
			if i >= len(b) || b[i] != o.lit {
				return NotThisForm
			}
			i++
			continue
		}
		n := p.part(o, b[i:], c, &x)
		if n == 0 {
			return NotThisForm
		}
		i += n
	}
	if i != len(b) {
		return NotThisForm
	}
	if x.half >= 0 {
		if c.Hour < 1 || c.Hour > 12 {
			return NoSuchDate
		}
		c.Hour = c.Hour%12 + 12*x.half
	}
	if m := p.real(c); m != OK || !x.fine {
		return m
	}
	return TooFine
}

// real says whether there is such a date and time.
func (p *Pattern) real(c *Civil) Misfit {
	if p.has&hasYear != 0 && !ValidDate(c.Year, c.Month, c.Day) {
		return NoSuchDate
	}
	if c.Hour > 23 || c.Minute > 59 || c.Second > 59 {
		return NoSuchDate
	}
	return OK
}

// extra is what a text says beside a date and time.
type extra struct {
	half int  // of the day: 0 before noon, 1 after, -1 not said
	fine bool // digits of a second beyond the microsecond
}

// part reads one part of a pattern from the beginning of b, and returns how many
// bytes it took; 0: it is not there.
func (p *Pattern) part(o op, b []byte, c *Civil, x *extra) (n int) {
	v := 0
	switch o.code {
	case 'd', 'H', 'h', 'm', 's':
		v, n = upToTwo(b, o.n)
		switch o.code {
		case 'd':
			c.Day = v
		case 'm':
			c.Minute = v
		case 's':
			c.Second = v
		default:
			c.Hour = v
		}
	case 'y':
		if o.n == 4 {
			if len(b) < 4 {
				return 0
			}
			year, ok := fixed(b[:4])
			if !ok {
				return 0
			}
			c.Year = year
			return 4
		}
		v, n = upToTwo(b, 2)
		c.Year = PivotYear(v, p.pivot)
	case 'M':
		if o.n >= 3 {
			c.Month, n = MonthName(b)
		} else {
			c.Month, n = upToTwo(b, o.n)
		}
	case 'S':
		c.Micro, n, x.fine = fractionOf(b, o.n)
	case 'a':
		x.half, n = halfDay(b)
	case 'E':
		n = Weekday(b)
	case 'X':
		c.Offset, n = ZoneOffset(b)
	case 'z':
		if len(b) >= 3 && (equalFold(b[:3], "utc") || equalFold(b[:3], "gmt")) {
			n = 3
		}
	}
	return n
}

// fractionOf reads at most so many digits of a second as microseconds. fine tells
// that there are others than zeros behind.
func fractionOf(b []byte, most int) (micro, n int, fine bool) {
	for n < most && n < len(b) && b[n] >= '0' && b[n] <= '9' {
		if n < 6 {
			micro = micro*10 + int(b[n]-'0')
		} else if b[n] != '0' {
			fine = true
		}
		n++
	}
	for k := n; k < 6; k++ {
		micro *= 10
	}
	return micro, n, fine
}

// PivotYear is the year that two digits stand for when the hundred years
// begin with pivot.
func PivotYear(two, pivot int) int {
	y := pivot - pivot%100 + two
	if y < pivot {
		y += 100
	}
	return y
}

func fixed(b []byte) (int, bool) {
	v := 0
	for _, c := range b {
		if c < '0' || c > '9' {
			return 0, false
		}
		v = v*10 + int(c-'0')
	}
	return v, true
}

// upToTwo reads exactly two digits, or one or two when n is 1.
func upToTwo(b []byte, n int) (v, width int) {
	if len(b) == 0 || b[0] < '0' || b[0] > '9' {
		return 0, 0
	}
	if len(b) > 1 && b[1] >= '0' && b[1] <= '9' {
		return int(b[0]-'0')*10 + int(b[1]-'0'), 2
	}
	if n == 1 {
		return int(b[0] - '0'), 1
	}
	return 0, 0
}

var months = [...]string{"january", "february", "march", "april", "may", "june", "july", "august", "september",
	"october", "november", "december"}
var weekdays = [...]string{"monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"}

// MonthName reads an English month at the start of b, short or long, in any
// case, and returns its number from 1 and how many bytes it takes.
func MonthName(b []byte) (month, width int) {
	for i, m := range months {
		if n := nameAt(b, m); n > 0 {
			return i + 1, n
		}
	}
	if len(b) >= 4 && equalFold(b[:4], "sept") && (len(b) == 4 || !letter(b[4])) {
		return 9, 4
	}
	return 0, 0
}

// Weekday returns how many bytes of an English weekday stand at the start of
// b, or 0.
func Weekday(b []byte) int {
	for _, d := range weekdays {
		if n := nameAt(b, d); n > 0 {
			return n
		}
	}
	return 0
}

// nameAt matches the whole name or its first three letters at the start of b.
func nameAt(b []byte, name string) int {
	if len(b) < 3 || b[0]|0x20 != name[0] {
		return 0
	}
	for _, n := range [...]int{len(name), 3} {
		if len(b) >= n && equalFold(b[:n], name[:n]) && (len(b) == n || !letter(b[n])) {
			return n
		}
	}
	return 0
}

func letter(c byte) bool { c |= 0x20; return c >= 'a' && c <= 'z' }

func equalFold(b []byte, lower string) bool {
	if len(b) != len(lower) {
		return false
	}
	for i := range b {
		c := b[i]
		if c >= 'A' && c <= 'Z' {
			c |= 0x20
		}
		if c != lower[i] {
			return false
		}
	}
	return true
}

func halfDay(b []byte) (half, width int) {
	for _, n := range [...]int{4, 2} {
		if len(b) < n {
			continue
		}
		for h, w := range [...]string{"am", "pm"} {
			if n == 4 {
				w = w[:1] + "." + w[1:] + "."
			}
			if equalFold(b[:n], w) {
				return h, n
			}
		}
	}
	return 0, 0
}

// ZoneOffset reads Z, ±hh, ±hhmm or ±hh:mm at the start of b.
func ZoneOffset(b []byte) (seconds, width int) {
	if len(b) == 0 {
		return 0, 0
	}
	if b[0] == 'Z' || b[0] == 'z' {
		return 0, 1
	}
	if b[0] != '+' && b[0] != '-' || len(b) < 3 {
		return 0, 0
	}
	h, ok := fixed(b[1:3])
	if !ok || h > 15 {
		return 0, 0
	}
	m, n := 0, 3
	rest := b[3:]
	if len(rest) > 0 && rest[0] == ':' {
		rest, n = rest[1:], 4
	}
	if len(rest) >= 2 {
		if m, ok = fixed(rest[:2]); !ok || m > 59 {
			return 0, 0
		}
		n += 2
	} else if n == 4 {
		return 0, 0
	}
	s := h*3600 + m*60
	if b[0] == '-' {
		s = -s
	}
	return s, n
}

// ValidDate reports whether year 1 to 9999 has such a month and day, in the
// Gregorian calendar throughout.
func ValidDate(y, m, d int) bool {
	if y < 1 || y > 9999 || m < 1 || m > 12 || d < 1 {
		return false
	}
	return d <= 28 || d <= monthDays(y, m)
}

func monthDays(y, m int) int {
	switch m {
	case 2:
		if y%4 == 0 && (y%100 != 0 || y%400 == 0) {
			return 29
		}
		return 28
	case 4, 6, 9, 11:
		return 30
	}
	return 31
}

// Days counts days from 1970-01-01 to a valid date.
func Days(y, m, d int) int64 {
	// Years begin in March, so that leap days come last.
	if m <= 2 {
		y--
		m += 12
	}
	return int64(365*y+y/4-y/100+y/400+(153*(m-3)+2)/5+d) - 719469
}

// Date is the inverse of Days.
func Date(days int64) (y, m, d int) {
	z := days + 719468
	era := z / 146097
	doe := z - era*146097
	yoe := (doe - doe/1460 + doe/36524 - doe/146096) / 365
	doy := doe - (365*yoe + yoe/4 - yoe/100)
	mp := (5*doy + 2) / 153
	d = int(doy - (153*mp+2)/5 + 1)
	m = int(mp + 3)
	y = int(yoe + era*400)
	if m > 12 {
		m -= 12
		y++
	}
	return
}

// Micros is the time of day, or the time since 1970-01-01T00:00:00 when the
// date counts, in microseconds and without regard to the offset.
func (c *Civil) Micros(withDate bool) int64 {
	us := int64((c.Hour*60+c.Minute)*60+c.Second)*1e6 + int64(c.Micro)
	if withDate {
		us += Days(c.Year, c.Month, c.Day) * 86400e6
	}
	return us
}

// A Part is one of a pattern: letters that mean something, or a character that stands for
// itself, whose Letter is 0.
type Part struct {
	Letter  byte
	Count   int
	Literal byte
}

// Parts are those of the pattern, in order.
func (p *Pattern) Parts() (out []Part) {
	for _, o := range p.ops {
		out = append(out, Part{o.code, o.n, o.lit})
	}
	return out
}

// Pivot is the first of the hundred years that two-digit years stand for.
func (p *Pattern) Pivot() int { return p.pivot }
