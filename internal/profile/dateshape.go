package profile

import (
	"math"
	"strings"

	"ambertray/internal/reading"
)

// A dateScan takes a field apart into numbers and what stands between them,
// without deciding which number is the day.
//
// The shape is the field with every number replaced by how many digits it
// has, every month name by M (short) or N (long), weekday by W, AM or PM by P
// and zone by X or U: "23/11/2026 06:17" is "2/2/4 2:2".
type dateScan struct {
	shape [28]byte
	n     int
	runs  [10]int // the numbers, month names and AM/PM, in order
	nruns int
	zone  int // seconds
}

// scan reports whether b could be a date or time.
//
// It is long because it runs for every field that may be a date, once over its bytes.
func (d *dateScan) scan(b []byte) bool {
	d.shape, d.n, d.nruns, d.zone = [28]byte{}, 0, 0, 0
	if len(b) < 4 || len(b) > 48 {
		return false
	}
	clock := false
	for i := 0; i < len(b); {
		if d.n >= len(d.shape)-1 || d.nruns >= len(d.runs)-1 {
			return false
		}
		c := b[i]
		switch {
		case c >= '0' && c <= '9':
			v, j := 0, i
			for j < len(b) && b[j] >= '0' && b[j] <= '9' {
				v = v*10 + int(b[j]-'0')
				j++
			}
			if j-i > 9 {
				return false
			}
			d.add(byte('0'+j-i), v)
			i = j
		case c == ':':
			clock = true
			d.put(c)
			i++
		case clock && (c == '+' || c == '-' || c == 'Z' || c == 'z'):
			off, n := reading.ZoneOffset(b[i:])
			if n == 0 {
				return false
			}
			d.zone = off
			d.put('X')
			i += n
		case c == '/' || c == '-' || c == '.' || c == ' ' || c == ',':
			d.put(c)
			i++
		case c == 'T' && i > 0 && i+1 < len(b) && b[i+1] >= '0' && b[i+1] <= '9':
			d.put('T')
			i++
		default:
			if c|0x20 < 'a' || c|0x20 > 'z' {
				return false
			}
			n, kind, v := name(b[i:], clock)
			if n == 0 {
				return false
			}
			if kind == 'M' || kind == 'N' || kind == 'P' {
				d.add(kind, v)
			} else {
				d.put(kind)
			}
			i += n
		}
	}
	return d.nruns >= 2
}

func (d *dateScan) put(c byte)        { d.shape[d.n] = c; d.n++ }
func (d *dateScan) add(c byte, v int) { d.put(c); d.runs[d.nruns] = v; d.nruns++ }

func name(b []byte, clock bool) (width int, kind byte, v int) {
	if clock {
		if l := b[0] | 0x20; l == 'a' || l == 'p' {
			for _, n := range [...]int{2, 4} {
				if len(b) >= n && (strings.EqualFold(string(b[:n]), "am") || strings.EqualFold(string(b[:n]), "a.m.")) {
					return n, 'P', 0
				}
				if len(b) >= n && (strings.EqualFold(string(b[:n]), "pm") || strings.EqualFold(string(b[:n]), "p.m.")) {
					return n, 'P', 1
				}
			}
		}
		if len(b) >= 3 && (strings.EqualFold(string(b[:3]), "utc") || strings.EqualFold(string(b[:3]), "gmt")) {
			return 3, 'U', 0
		}
		return 0, 0, 0
	}
	if m, n := reading.MonthName(b); n > 0 {
		if n > 4 || m == 5 && n == 3 {
			return n, 'N', m
		}
		return n, 'M', m
	}
	if n := reading.Weekday(b); n > 0 {
		return n, 'W', 0
	}
	return 0, 0, 0
}

// An order is which of a numeric date's parts comes first.
type order uint8

const (
	fixed      order = iota // the shape leaves no choice
	dayFirst                // 31/12/2026
	monthFirst              // 12/31/2026
	yearFirst               // 26/12/31
	orders
)

// A component is one part of a pattern: a letter and its width, or a literal.
type component struct {
	letter byte // 0 for a literal
	width  int
	lit    string
}

// A dateCandidate is one way of understanding a shape, with what the values
// said to it.
type dateCandidate struct {
	order                   order
	parts                   []component
	y, m, d, h, mi, s, f, p int // numbers of the runs, or -1
	fwidth                  int
	yy                      bool // the year has two digits

	fits   int64
	no     examples // of the shape, but no such date
	timed  int64    // not at midnight
	lo, hi int64    // in microseconds, of those that fit, in UTC
}

// A dateShape is what a column's fields of one shape have in common.
type dateShape struct {
	key        [28]byte
	count      int64
	first      examples
	candidates []*dateCandidate // none: the shape is no date
}

// observe tests every candidate against the scanned field.
func (s *dateShape) observe(d *dateScan, field []byte, line spot, times int64) {
	s.count += times
	if len(s.first.first) < maxExamples {
		s.first.add(line, field, times)
	}
	for _, c := range s.candidates {
		us, ok := c.value(d)
		if !ok {
			c.no.add(line, field, times)
			continue
		}
		c.fits += times
		c.lo, c.hi = min(c.lo, us), max(c.hi, us)
		if c.y < 0 || (us+int64(d.zone)*1e6)%86400e6 != 0 {
			c.timed += times
		}
	}
}

func (c *dateCandidate) value(d *dateScan) (us int64, ok bool) {
	get := func(i int) int {
		if i < 0 {
			return 0
		}
		return d.runs[i]
	}
	h, mi, s := get(c.h), get(c.mi), get(c.s)
	if c.p >= 0 {
		if h < 1 || h > 12 {
			return 0, false
		}
		h = h%12 + 12*d.runs[c.p]
	}
	if h > 23 || mi > 59 || s > 59 {
		return 0, false
	}
	us = int64((h*60+mi)*60+s) * 1e6
	if c.f >= 0 {
		f := int64(d.runs[c.f])
		for i := c.fwidth; i < 6; i++ {
			f *= 10
		}
		for i := 6; i < c.fwidth; i++ {
			if f%10 != 0 {
				return 0, false
			}
			f /= 10
		}
		us += f
	}
	if c.y >= 0 {
		y := d.runs[c.y]
		if c.yy {
			y = reading.PivotYear(y, reading.DefaultPivot)
		}
		if !reading.ValidDate(y, d.runs[c.m], d.runs[c.d]) {
			return 0, false
		}
		us += reading.Days(y, d.runs[c.m], d.runs[c.d])*86400e6 - int64(d.zone)*1e6
	}
	return us, true
}

// resolve lists the ways of understanding a shape.
func resolve(key [28]byte) []*dateCandidate {
	k := strings.TrimRight(string(key[:]), "\x00")
	var base dateCandidate
	base.y, base.m, base.d, base.h, base.mi, base.s, base.f, base.p = -1, -1, -1, -1, -1, -1, -1, -1
	base.lo, base.hi = math.MaxInt64, math.MinInt64

	// Split into a date and a time of day.
	clock := strings.IndexByte(k, ':')
	datePart, timePart := k, ""
	if clock > 0 {
		datePart, timePart = k[:clock-1], k[clock-1:]
	}
	run := 0
	var lead []component
	if rest, ok := strings.CutPrefix(datePart, "W"); ok {
		sep := rest[:len(rest)-len(strings.TrimLeft(rest, ", "))]
		lead = append(lead, component{letter: 'E', width: 3}, component{lit: sep})
		datePart = rest[len(sep):]
	}
	glue := ""
	if timePart != "" && datePart != "" {
		trimmed := strings.TrimRight(datePart, "T, ")
		glue = datePart[len(trimmed):]
		datePart = trimmed
		if glue == "" {
			return nil
		}
	}
	var dates []dateCandidate
	if datePart != "" {
		dates = dateForms(datePart, base)
		if len(dates) == 0 {
			return nil
		}
		run = 3
	} else {
		dates = []dateCandidate{base}
	}
	var out []*dateCandidate
	for _, c := range dates {
		c := c
		if run == 0 && (timePart == "" || len(lead) > 0) {
			return nil
		}
		c.parts = append(append([]component{}, lead...), c.parts...)
		if timePart != "" {
			if glue != "" {
				c.parts = append(c.parts, component{lit: glue})
			}
			if !timeForm(timePart, run, &c) {
				return nil
			}
		}
		out = append(out, &c)
	}
	return out
}

// dateForms understands three numbers, or two and a month's name.
//
// It is long because it tries each way to read a shape beside the others.
func dateForms(k string, base dateCandidate) (out []dateCandidate) {
	var runs []byte
	var seps []string
	for i := 0; i < len(k); {
		if !isRun(k[i]) {
			return nil
		}
		runs = append(runs, k[i])
		i++
		j := i
		for j < len(k) && !isRun(k[j]) {
			j++
		}
		seps = append(seps, k[i:j])
		i = j
	}
	if len(runs) != 3 || seps[2] != "" || seps[0] == "" || seps[1] == "" {
		return nil
	}
	named := -1
	for i, r := range runs {
		if r == 'M' || r == 'N' {
			if named >= 0 {
				return nil
			}
			named = i
		}
	}
	if named < 0 && seps[0] != seps[1] {
		return nil
	}
	for _, s := range seps[:2] {
		switch s {
		case "/", "-", ".", " ", ", ", ". ":
		default:
			return nil
		}
	}
	short := func(i int) bool { return runs[i] == '1' || runs[i] == '2' }
	form := func(o order, y, m, d int) {
		if runs[y] != '4' && runs[y] != '2' || !short(d) || named < 0 && !short(m) || named >= 0 && m != named {
			return
		}
		c := base
		c.order, c.y, c.m, c.d = o, y, m, d
		c.yy = runs[y] == '2'
		c.parts = nil
		for i := range runs {
			switch i {
			case y:
				c.parts = append(c.parts, component{letter: 'y', width: int(runs[i] - '0')})
			case m:
				w := int(runs[i] - '0')
				if runs[i] == 'M' {
					w = 3
				} else if runs[i] == 'N' {
					w = 4
				}
				c.parts = append(c.parts, component{letter: 'M', width: w})
			case d:
				c.parts = append(c.parts, component{letter: 'd', width: int(runs[i] - '0')})
			}
			if i < 2 {
				c.parts = append(c.parts, component{lit: seps[i]})
			}
		}
		out = append(out, c)
	}
	switch {
	case named == 1 && runs[0] == '4':
		form(fixed, 0, 1, 2)
	case named == 1:
		form(fixed, 2, 1, 0)
	case named == 0:
		form(fixed, 2, 0, 1)
	case named == 2:
		return nil
	case runs[0] == '4':
		form(fixed, 0, 1, 2)
	case runs[2] == '4':
		form(dayFirst, 2, 1, 0)
		form(monthFirst, 2, 0, 1)
	default:
		form(dayFirst, 2, 1, 0)
		form(monthFirst, 2, 0, 1)
		if seps[0] != "." {
			form(yearFirst, 0, 1, 2)
		}
	}
	return out
}

func isRun(c byte) bool { return c >= '1' && c <= '9' || c == 'M' || c == 'N' || c == 'P' }

// timeForm understands a time of day that starts with run number run.
func timeForm(k string, run int, c *dateCandidate) bool {
	half := strings.Contains(k, "P")
	field := func(letter byte, at *int) bool {
		if k == "" || k[0] != '1' && k[0] != '2' {
			return false
		}
		c.parts = append(c.parts, component{letter: letter, width: int(k[0] - '0')})
		*at = run
		run++
		k = k[1:]
		return true
	}
	literal := func(s string) bool {
		if !strings.HasPrefix(k, s) {
			return false
		}
		c.parts = append(c.parts, component{lit: s})
		k = k[len(s):]
		return true
	}
	hour := byte('H')
	if half {
		hour = 'h'
	}
	if !field(hour, &c.h) || !literal(":") || !field('m', &c.mi) {
		return false
	}
	if literal(":") {
		if !field('s', &c.s) {
			return false
		}
		if len(k) > 1 && (k[0] == '.' || k[0] == ',') && k[1] >= '1' && k[1] <= '9' {
			literal(k[:1])
			c.f, c.fwidth = run, int(k[0]-'0')
			c.parts = append(c.parts, component{letter: 'S', width: c.fwidth})
			run++
			k = k[1:]
		}
	}
	if half {
		literal(" ")
		if k == "" || k[0] != 'P' {
			return false
		}
		c.parts = append(c.parts, component{letter: 'a', width: 1})
		c.p = run
		k = k[1:]
	}
	if k != "" {
		literal(" ")
		switch k {
		case "X":
			c.parts = append(c.parts, component{letter: 'X', width: 3})
			k = ""
		case "U":
			c.parts = append(c.parts, component{letter: 'z', width: 1})
			k = ""
		}
	}
	return k == ""
}

// mergeParts widens a so that it also reads what b reads; false when they
// differ in more than widths.
func mergeParts(a, b []component) ([]component, bool) {
	if len(a) != len(b) {
		return nil, false
	}
	out := append([]component{}, a...)
	for i := range a {
		x, y := a[i], b[i]
		if x.letter != y.letter || x.lit != y.lit {
			return nil, false
		}
		switch x.letter {
		case 'y':
			if x.width != y.width {
				return nil, false
			}
		case 'M':
			if (x.width > 2) != (y.width > 2) {
				return nil, false
			}
			out[i].width = min(x.width, y.width)
		case 'S':
			out[i].width = max(x.width, y.width)
		default:
			out[i].width = min(x.width, y.width)
		}
	}
	return out, true
}

// patternOf writes components as a pattern.
func patternOf(parts []component) string {
	var b strings.Builder
	for _, p := range parts {
		if p.letter != 0 {
			b.WriteString(strings.Repeat(string(p.letter), p.width))
			continue
		}
		for _, r := range p.lit {
			if r >= 'A' && r <= 'z' {
				b.WriteString("'" + string(r) + "'")
			} else {
				b.WriteRune(r)
			}
		}
	}
	return b.String()
}

func hasLetter(parts []component, letters string) bool {
	for _, p := range parts {
		if p.letter != 0 && strings.IndexByte(letters, p.letter) >= 0 {
			return true
		}
	}
	return false
}
