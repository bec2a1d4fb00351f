package reading

import "encoding/binary"

// shape is a pattern of digits and literals only, each at its place: dd/MM/yyyy, and yyyy-MM-dd
// HH:mm:ss. Texts of it are read eight bytes at a time.
type shape struct {
	size  int
	words []shapeWord
	// at is where the two digits of a part begin, of a year the last two; -1: there is none.
	year, month, day, hour, minute, second int
	fourDigits                             bool // of the year
}

// shapeWord is what stands in eight bytes.
type shapeWord struct {
	at       int
	literals uint64 // all ones where there is one
	want     uint64 // the literals
}

// What can be read so is at least a word long, and not so long that it is no date.
const (
	shortestShape = 8
	longestShape  = 24
)

// shaped is the shape of a pattern, or nil if it has parts of other kinds.
func (p *Pattern) shaped() *shape {
	s := &shape{year: -1, month: -1, day: -1, hour: -1, minute: -1, second: -1}
	var literal [longestShape]byte // 0: a digit
	for _, o := range p.ops {
		width := 1
		if o.code != 0 {
			if width = o.n; width != 2 && (o.code != 'y' || width != 4) {
				return nil
			}
			at := s.size + width - 2
			switch o.code {
			case 'y':
				s.year, s.fourDigits = at, width == 4
			case 'M':
				s.month = at
			case 'd':
				s.day = at
			case 'H':
				s.hour = at
			case 'm':
				s.minute = at
			case 's':
				s.second = at
			default:
				return nil
			}
		}
		if s.size+width > longestShape || o.code == 0 && o.lit == 0 {
			return nil
		}
		if o.code == 0 {
			literal[s.size] = o.lit
		}
		s.size += width
	}
	if s.size < shortestShape {
		return nil
	}
	for at := 0; ; at += 8 {
		at = min(at, s.size-8) // the last may lie over the one before
		w := shapeWord{at: at}
		for i, c := range literal[at : at+8] {
			if c != 0 {
				w.literals |= 0xff << (8 * i)
				w.want |= uint64(c) << (8 * i)
			}
		}
		if s.words = append(s.words, w); at == s.size-8 {
			return s
		}
	}
}

// read reads a text of the shape; ok is false for any other.
func (s *shape) read(b []byte, c *Civil, pivot int) (ok bool) {
	if len(b) != s.size {
		return false
	}
	for i := range s.words {
		w := &s.words[i]
		x := binary.LittleEndian.Uint64(b[w.at:])
		if x&w.literals != w.want || !AllDigits(x&^w.literals|Zeros&w.literals) {
			return false
		}
	}
	if s.year >= 0 {
		if c.Year = pair(b, s.year); s.fourDigits {
			c.Year += 100 * pair(b, s.year-2)
		} else {
			c.Year = PivotYear(c.Year, pivot)
		}
		c.Month, c.Day = pair(b, s.month), pair(b, s.day)
	}
	if s.hour >= 0 {
		c.Hour = pair(b, s.hour)
	}
	if s.minute >= 0 {
		c.Minute = pair(b, s.minute)
	}
	if s.second >= 0 {
		c.Second = pair(b, s.second)
	}
	return true
}

// pair is the number of two digits.
func pair(b []byte, at int) int { return 10*int(b[at]-'0') + int(b[at+1]-'0') }
