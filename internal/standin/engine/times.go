package engine

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"
)

var epoch = time.Date(1, 1, 1, 0, 0, 0, 0, time.UTC)

// ticksOf is a time in units of 100 ns since 0001-01-01.
func ticksOf(t time.Time) int64 {
	return (t.Unix()-epoch.Unix())*10_000_000 + int64(t.Nanosecond()/100)
}

func timeOf(ticks int64) time.Time {
	return time.Unix(epoch.Unix()+ticks/10_000_000, ticks%10_000_000*100).UTC()
}

// The first and last moments of datetime and smalldatetime.
var (
	firstDateTime = ticksOf(time.Date(1753, 1, 1, 0, 0, 0, 0, time.UTC))
	year1900      = ticksOf(time.Date(1900, 1, 1, 0, 0, 0, 0, time.UTC))
	lastSmall     = ticksOf(time.Date(2079, 6, 6, 23, 59, 59, 0, time.UTC))
	lastTick      = ticksOf(time.Date(9999, 12, 31, 23, 59, 59, 999999900, time.UTC))
)

// roundTicks rounds to so many digits of a second.
func roundTicks(n int64, scale int) int64 {
	unit := int64(1)
	for range 7 - scale {
		unit *= 10
	}
	r := (n + unit/2) / unit * unit
	if r > lastTick {
		r -= unit
	}
	return r
}

// toDateTime rounds to 1/300 of a second, and gives back that moment.
func toDateTime(n int64) (ticks, days, ticks300 int64) {
	days = n / ticksADay
	ticks300 = (n%ticksADay*3 + 50_000) / 100_000
	if ticks300 == 300*86400 {
		days, ticks300 = days+1, 0
	}
	return days*ticksADay + (ticks300*100_000+1)/3, days, ticks300
}

// DateTime takes datetime apart as the wire has it: days since 1900-01-01 and 1/300 of a
// second.
func (v Value) DateTime() (days, ticks int64) {
	_, d, t := toDateTime(v.N)
	return d - year1900/ticksADay, t
}

// FromDateTime puts it together.
func FromDateTime(days, ticks int64) Value {
	return Value{N: (days+year1900/ticksADay)*ticksADay + (ticks*100_000+1)/3}
}

// Small takes smalldatetime apart: days since 1900-01-01, and minutes.
func (v Value) Small() (days, minutes int64) {
	n := v.N - year1900
	return n / ticksADay, n % ticksADay / 600_000_000
}

// FromSmall puts it together.
func FromSmall(days, minutes int64) Value {
	return Value{N: year1900 + days*ticksADay + minutes*600_000_000}
}

var timeForm = regexp.MustCompile(`^\s*(?:(\d{4})-(\d{1,2})-(\d{1,2})|(\d{4})(\d{2})(\d{2}))?(?:[T ]\s*|^)?` +
	`(?:(\d{1,2}):(\d{2})(?::(\d{2})(?:\.(\d{1,9}))?)?)?\s*(?:(Z)|([+-])(\d{2}):(\d{2}))?\s*$`)

// parseTime reads a date, a time or both, and the minutes from UTC. Ticks are those of
// the local time.
func parseTime(s string) (ticks int64, off int16, ok bool) {
	m := timeForm.FindStringSubmatch(s)
	if m == nil || strings.TrimSpace(s) != "" && m[1]+m[4]+m[7] == "" {
		return 0, 0, false
	}
	num := func(i int) int { n, _ := strconv.Atoi(m[i]); return n }
	y, mo, d := num(1)+num(4), num(2)+num(5), num(3)+num(6)
	if m[1]+m[4] == "" {
		y, mo, d = 1900, 1, 1
	}
	nanos, _ := strconv.Atoi((m[10] + "000000000")[:9])
	t := time.Date(y, time.Month(mo), d, num(7), num(8), num(9), nanos, time.UTC)
	if y < 1 || t.Day() != d || int(t.Month()) != mo || num(7) > 23 || num(8) > 59 || num(9) > 59 || num(13) > 14 {
		return 0, 0, false
	}
	off = int16(num(13)*60 + num(14))
	if m[12] == "-" {
		off = -off
	}
	return ticksOf(t) + int64(nanos%100)/50, off, true
}

// formatTime writes a moment as text, by a style of CONVERT. It is long because each style
// has a line.
func formatTime(t Type, v Value, style int) (string, error) {
	n := v.N
	if t.Kind == Date {
		n *= ticksADay
	}
	at := timeOf(n + int64(v.Off)*600_000_000)
	if t.Kind == DateTime {
		at = at.Round(time.Millisecond) // it shows three digits of the 1/300 of a second
	}
	fraction := func(scale int) string {
		if scale == 0 {
			return ""
		}
		return "." + fmt.Sprintf("%07d", at.Nanosecond()/100)[:scale]
	}
	clock := at.Format("15:04:05")
	day := at.Format("2006-01-02")
	zone := func() string {
		sign, o := '+', int(v.Off)
		if o < 0 {
			sign, o = '-', -o
		}
		return fmt.Sprintf(" %c%02d:%02d", sign, o/60, o%60)
	}
	switch {
	case t.Kind == Date:
		if style == 112 {
			return at.Format("20060102"), nil
		}
		return day, nil
	case t.Kind == Time:
		return clock + fraction(t.Scale), nil
	case style == 112:
		return at.Format("20060102"), nil
	case style == 23:
		return day, nil
	case t.Kind == DateTime2 && (style == 0 || style == 121 || style == 20 || style == 120 || style == 25 ||
		style == 21):
		return day + " " + clock + fraction(t.Scale), nil
	case t.Kind == DateTimeOffset && (style == 0 || style == 121 || style == 25 || style == 21):
		return day + " " + clock + fraction(t.Scale) + zone(), nil
	case style == 126 && t.Kind == DateTime2:
		return day + "T" + clock + fraction(t.Scale), nil
	case style == 126 && t.Kind == DateTime:
		return day + "T" + clock + fraction(3), nil
	case (t.Kind == DateTime || t.Kind == SmallDateTime) && (style == 121 || style == 21 || style == 25):
		return day + " " + clock + fraction(3), nil
	case (t.Kind == DateTime || t.Kind == SmallDateTime) && (style == 120 || style == 20):
		return day + " " + clock, nil
	case t.Kind == SmallDateTime && style == 126:
		return day + "T" + clock, nil
	case (t.Kind == DateTime || t.Kind == SmallDateTime) && style == 0:
		return strings.Replace(at.Format("Jan _2 2006  3:04PM"), "  0", "  ", 1), nil
	}
	return "", unknown("style %d of %s as text", style, t)
}
