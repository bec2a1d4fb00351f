package profile

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"ambertray/internal/reading"
	"ambertray/internal/sqltype"
)

// in is the candidate of a shape under an order, or nil.
func (s *dateShape) in(o order) *dateCandidate {
	for _, c := range s.candidates {
		if c.order == fixed || c.order == o {
			return c
		}
	}
	return nil
}

// bestOrder is the order that reads most values; undecided when another reads
// as many.
func (d *decision) bestOrder() (best order, undecided []order) {
	var fits [orders]int64
	numeric := false
	for _, s := range d.e.dates {
		for o := dayFirst; o < orders; o++ {
			if c := s.in(o); c != nil {
				fits[o] += c.fits
				numeric = numeric || c.order != fixed
			}
		}
	}
	best = dayFirst
	for o := dayFirst; o < orders; o++ {
		if fits[o] > fits[best] {
			best = o
		}
	}
	if !numeric {
		return best, nil
	}
	for o := dayFirst; o < orders; o++ {
		if fits[o] == fits[best] {
			undecided = append(undecided, o)
		}
	}
	if len(undecided) < 2 {
		return best, nil
	}
	if want := wantedOrder(d.opt.Dates); slices.Contains(undecided, want) {
		return want, nil
	}
	return best, undecided
}

// wantedOrder is what the option --dates says of the order.
func wantedOrder(s string) order {
	switch s {
	case "":
		return fixed
	case "day-first":
		return dayFirst
	case "month-first":
		return monthFirst
	case "year-first":
		return yearFirst
	}
	y, m, d := strings.IndexByte(s, 'y'), strings.IndexByte(s, 'M'), strings.IndexByte(s, 'd')
	switch {
	case y < 0 || m < 0 || d < 0:
		return fixed
	case d < m && m < y:
		return dayFirst
	case m < d && d < y:
		return monthFirst
	case y < m && m < d:
		return yearFirst
	}
	return fixed
}

func floorDay(us int64) int64 {
	d := us / 86400e6
	if us%86400e6 < 0 {
		d--
	}
	return d
}

// orderWhy says which values decided the order of a numeric date.
func (d *decision) orderWhy(o order) string {
	var other [orders]int64 // values that other orders cannot read
	numeric := false
	for _, s := range d.e.dates {
		mine := s.in(o)
		if mine == nil || mine.order == fixed {
			continue
		}
		numeric = true
		for _, c := range s.candidates {
			if c.order != o {
				other[c.order] += mine.fits - min(c.fits, mine.fits)
			}
		}
	}
	if !numeric {
		return ""
	}
	switch o { // others: read year first
	case dayFirst:
		return fmt.Sprintf("%s a first part above 12, which only a day can be",
			groupIs(other[monthFirst], "value has", "values have"))
	case monthFirst:
		return fmt.Sprintf("%s a second part above 12, which only a day can be",
			groupIs(other[dayFirst], "value has", "values have"))
	}
	return "the values read only year first"
}

// days are what a column's dates and times come to, in the order that reads most
// of them.
type days struct {
	order     order
	undecided []order // that read as many
	used      []*dateCandidate
	fits      int64
	timed     int64 // with a time of day that is not midnight
	lo, hi    int64 // microseconds
	// compact tells that whole numbers are dates yyyyMMdd.
	compact bool
}

// dayMicros is a day of a whole number yyyyMMdd, in microseconds.
func dayMicros(n int64) int64 {
	return reading.Days(int(n/10000), int(n/100%100), int(n%100)) * 86400e6
}

// daysOf adds up the column's dates and times.
func (d *decision) daysOf() *days {
	e := d.e
	x := &days{}
	x.order, x.undecided = d.bestOrder()
	var zoned, local, clock int64
	for _, s := range e.dates {
		c := s.in(x.order)
		if c == nil || c.fits == 0 {
			continue
		}
		switch {
		case c.isClock():
			clock += c.fits
		case c.isZoned():
			zoned += c.fits
		default:
			local += c.fits
		}
		x.used = append(x.used, c)
	}
	// A column is either times of day, or with zones, or without.
	x.used = slices.DeleteFunc(x.used, func(c *dateCandidate) bool {
		switch {
		case clock > zoned && clock > local:
			return !c.isClock()
		case zoned > local:
			return !c.isZoned() || c.isClock()
		}
		return c.isZoned() || c.isClock()
	})
	slices.SortStableFunc(x.used, func(a, b *dateCandidate) int { return cmp.Compare(b.fits, a.fits) })
	for i, c := range x.used {
		x.fits += c.fits
		x.timed += c.timed
		if i == 0 {
			x.lo, x.hi = c.lo, c.hi
		}
		x.lo, x.hi = min(x.lo, c.lo), max(x.hi, c.hi)
	}
	x.compact = e.ints.count > 0 && e.ints.compact == e.ints.count && (len(x.used) == 0 || clock == 0 && zoned == 0)
	if x.compact {
		x.fits += e.ints.count
		lo, hi := dayMicros(e.ints.lo), dayMicros(e.ints.hi)
		if len(x.used) == 0 {
			x.lo, x.hi = lo, hi
		}
		x.lo, x.hi = min(x.lo, lo), max(x.hi, hi)
	}
	return x
}

func (c *dateCandidate) isClock() bool { return c.y < 0 }
func (c *dateCandidate) isZoned() bool { return hasLetter(c.parts, "Xz") }

// patterns are those that read them, with their texts, and the most digits of a
// fraction of a second.
func (x *days) patterns() (list []*reading.Pattern, names []string, fraction int) {
	var merged [][]component
shapes:
	for _, c := range x.used {
		for i, m := range merged {
			if w, ok := mergeParts(m, c.parts); ok {
				merged[i] = w
				continue shapes
			}
		}
		merged = append(merged, c.parts)
	}
	for _, m := range merged {
		s := patternOf(m)
		pat, err := reading.ParsePattern(s)
		if err != nil {
			continue // cannot be: every shape that resolves has a pattern
		}
		list, names = append(list, pat), append(names, s)
		for _, part := range m {
			if part.letter == 'S' {
				fraction = max(fraction, part.width)
			}
		}
	}
	if x.compact {
		list, names = append(list, reading.MustPattern("yyyyMMdd")), append(names, "yyyyMMdd")
	}
	return list, names, fraction
}

// typ is their type; fraction is the most digits of a fraction of a second.
func (x *days) typ(fraction int) sqltype.Type {
	t := sqltype.Type{Kind: sqltype.Date}
	switch {
	case len(x.used) > 0 && x.used[0].isClock():
		t.Kind = sqltype.Time
	case len(x.used) > 0 && x.used[0].isZoned():
		t.Kind = sqltype.TimestampTZ
	case x.timed > 0:
		t.Kind = sqltype.Timestamp
	default:
		return t
	}
	switch {
	case fraction > 3:
		t.Precision = 6
	case fraction > 0:
		t.Precision = 3
	}
	return t
}

// date is the candidate of dates, times and timestamps.
func (d *decision) date() candidate {
	days := d.daysOf()
	x := candidate{family: "date", fits: days.fits}
	if days.fits == 0 {
		return x
	}
	patterns, names, fraction := days.patterns()
	x.dates, x.typ = patterns, days.typ(fraction)
	plain := func(us int64) string {
		v := reading.Value{Int: us}
		if x.typ.Kind == sqltype.Date {
			v.Int = floorDay(us)
		}
		return v.Plain(x.typ)
	}
	x.lo, x.hi = plain(days.lo), plain(days.hi)
	x.why = strings.Join(names, " or ")
	if w := d.orderWhy(days.order); w != "" {
		x.why += "; " + w
	}
	x.findings = d.dateFindings(days, &x)
	return x
}

// mixedDates tells of a column that is text because its dates are written in
// several orders. left is how many values are no words for null.
func (d *decision) mixedDates(left int64) bool {
	var all int64
	var not [orders]examples // that are no dates in an order
	var numeric [orders]bool
	for _, s := range d.e.dates {
		if len(s.candidates) > 0 {
			all += s.count
		}
		for _, c := range s.candidates {
			if c.order != fixed {
				numeric[c.order] = true
				not[c.order].merge(c.no)
			}
		}
	}
	day, month := not[dayFirst], not[monthFirst]
	if float64(left-all) > nearMiss*float64(left) || !numeric[dayFirst] || !numeric[monthFirst] ||
		day.count == 0 || month.count == 0 {
		return false
	}
	d.find(Caution, CodeMixedDates, fmt.Sprintf("dates in several orders, kept as text: %s not read month first, and "+
		"%s not day first", groupIs(month.count, "value does", "values do"), grouped(day.count)),
		"ask how the file was made; with --type "+flag(d.col.Header, sqltype.Type{Kind: sqltype.Date})+
			" and --dates, those of one order are loaded and the others become rejects", min(day.count, month.count),
		mergeExamples(day.first, month.first))
	return true
}

// dateFindings are what is remarkable about a column of dates.
func (d *decision) dateFindings(days *days, x *candidate) (out []Finding) {
	add := func(f Finding) { out = append(out, f) }
	if x.typ.Kind == sqltype.Date && len(days.used) > 0 && hasLetter(days.used[0].parts, "Hh") {
		add(d.finding(Note, CodeMidnight, "every time of day is midnight, so that a date holds it all", "", days.fits,
			nil))
	}
	if slices.ContainsFunc(days.used, func(c *dateCandidate) bool { return c.yy }) {
		add(d.finding(Note, CodeTwoDigitYear,
			fmt.Sprintf("years have two digits: 69 to 99 are read as 19.., 00 to 68 as 20..; dates run from %s to %s",
				x.lo, x.hi),
			"to draw the line elsewhere, set pivot in the plan's reading", days.fits, nil))
	}
	if days.compact && len(days.used) == 0 && d.values < 20 {
		add(d.finding(Caution, CodeCompactDate, "whole numbers that all read as dates yyyyMMdd",
			"if they are plain numbers, use --type "+flag(d.col.Header, sqltype.Type{Kind: sqltype.Integer}),
			d.e.ints.count, nil).answered("they are plain numbers", "type", "integer"))
	}
	if len(days.undecided) < 2 {
		return out
	}
	var ex []Example
	for _, s := range d.e.dates {
		ex = mergeExamples(ex, s.first.first)
	}
	var names []string
	var answers []Answer
	for _, o := range days.undecided {
		first := []string{"", "day", "month", "year"}[o]
		names = append(names, first+"-first")
		answers = append(answers, Answer{"the " + first + " comes first", "dates", first + "-first"})
	}
	f := d.finding(Blocker, CodeDatesUndecided,
		fmt.Sprintf("the dates read as well %s; no value decides it", strings.Join(names, " as ")),
		"say --dates "+strings.Join(names, " or --dates "), days.fits, ex)
	f.Answers = answers
	add(f)
	return out
}
