package engine

import (
	"fmt"
	"strconv"
	"strings"
	"time"
	"unicode"
)

// The elements of a mask, the longest first (SQL Language Reference, "Datetime Format
// Models").
var elements = []string{"SSSSS", "MONTH", "YYYY", "RRRR", "HH24", "HH12", "TZH", "TZM", "TZR", "FF1", "FF2", "FF3",
	"FF4",
	"FF5", "FF6", "FF7", "FF8", "FF9", "MON", "DAY", "DDD", "FF", "YY", "RR", "MM", "DD", "DY", "HH", "MI", "SS", "AM",
	"PM", "FM", "FX", "J", "X"}

// mask takes one apart: elements in upper case, and what stands between as it is.
func mask(m string) (out []string, err error) {
	for i := 0; i < len(m); {
		if m[i] == '"' {
			k := strings.IndexByte(m[i+1:], '"')
			if k < 0 {
				return nil, fail(1821, "date format not recognized")
			}
			out = append(out, "="+m[i+1:i+1+k])
			i += k + 2
			continue
		}
		found := ""
		for _, e := range elements {
			if len(m)-i >= len(e) && strings.EqualFold(m[i:i+len(e)], e) {
				found = e
				break
			}
		}
		switch {
		case found != "":
			out = append(out, found)
			i += len(found)
		case unicode.IsLetter(rune(m[i])):
			return nil, fail(1821, "date format not recognized")
		default:
			out = append(out, "="+m[i:i+1])
			i++
		}
	}
	return out, nil
}

// julian is the number of the day 1970-01-01 (element J).
const julian = 2440588

// format is TO_CHAR of a date or timestamp.
func (s *Session) format(v Value, m string) (Value, error) {
	list, err := mask(m)
	if err != nil {
		return null, err
	}
	var b strings.Builder
	t := v.T
	_, offset := t.Zone()
	for _, e := range list {
		switch e {
		case "YYYY", "RRRR":
			fmt.Fprintf(&b, "%04d", t.Year())
		case "YY", "RR":
			fmt.Fprintf(&b, "%02d", t.Year()%100)
		case "MM":
			fmt.Fprintf(&b, "%02d", int(t.Month()))
		case "MON":
			b.WriteString(strings.ToUpper(t.Month().String()[:3]))
		case "MONTH":
			fmt.Fprintf(&b, "%-9s", strings.ToUpper(t.Month().String()))
		case "DD":
			fmt.Fprintf(&b, "%02d", t.Day())
		case "DDD":
			fmt.Fprintf(&b, "%03d", t.YearDay())
		case "HH24":
			fmt.Fprintf(&b, "%02d", t.Hour())
		case "HH", "HH12":
			fmt.Fprintf(&b, "%02d", (t.Hour()+11)%12+1)
		case "MI":
			fmt.Fprintf(&b, "%02d", t.Minute())
		case "SS":
			fmt.Fprintf(&b, "%02d", t.Second())
		case "SSSSS":
			fmt.Fprintf(&b, "%05d", t.Hour()*3600+t.Minute()*60+t.Second())
		case "AM", "PM":
			b.WriteString(t.Format("PM"))
		case "J":
			day := time.Date(t.Year(), t.Month(), t.Day(), 0, 0, 0, 0, time.UTC).Unix() / 86400
			fmt.Fprintf(&b, "%07d", day+julian)
		case "TZH":
			fmt.Fprintf(&b, "%+03d", offset/3600)
		case "TZM":
			fmt.Fprintf(&b, "%02d", max(offset, -offset)/60%60)
		case "TZR":
			fmt.Fprintf(&b, "%+03d:%02d", offset/3600, max(offset, -offset)/60%60)
		case "X":
			b.WriteByte('.')
		case "FM", "FX":
		default:
			switch {
			case strings.HasPrefix(e, "="):
				b.WriteString(e[1:])
			case strings.HasPrefix(e, "FF"):
				n := 6
				if len(e) == 3 {
					n = int(e[2] - '0')
				}
				b.WriteString(fmt.Sprintf("%09d", t.Nanosecond())[:n])
			default:
				return null, fail(1821, "date format not recognized")
			}
		}
	}
	return text(b.String()), nil
}

// clock is a moment on its way from text.
type clock struct {
	year, month, day, hour, minute, second, nanos int
	pm, twelve, zoned                             bool
	zoneHour, zoneMinute                          int
	negative                                      bool
}

// parseMoment is TO_DATE, TO_TIMESTAMP or TO_TIMESTAMP_TZ.
func (s *Session) parseMoment(k Kind, src, m string) (Value, error) {
	list, err := mask(m)
	if err != nil {
		return null, err
	}
	now := s.now()
	c := clock{year: now.Year(), month: int(now.Month()), day: 1}
	rest := strings.TrimSpace(src)
	for _, e := range list {
		if rest, err = c.element(e, rest); err != nil {
			return null, err
		}
	}
	if rest != "" {
		return null, fail(1830, "date format picture ends before converting entire input string")
	}
	if c.twelve {
		c.hour %= 12
		if c.pm {
			c.hour += 12
		}
	}
	loc := time.UTC
	if k == Zoned || k == Local {
		if loc = s.zone; c.zoned {
			offset := c.zoneHour*3600 + c.zoneMinute*60
			if c.negative {
				offset = -offset
			}
			loc = time.FixedZone("", offset)
		}
	}
	t := time.Date(c.year, time.Month(c.month), c.day, c.hour, c.minute, c.second, c.nanos, loc)
	if t.Day() != c.day || int(t.Month()) != c.month {
		return null, fail(1839, "date not valid for month specified")
	}
	if c.year == 1582 && c.month == 10 && c.day > 4 && c.day < 15 {
		t = t.AddDate(0, 0, 15-c.day) // days that there were not
	}
	if k == Date {
		t = t.Truncate(time.Second)
	}
	return moment(k, t), nil
}

// number takes up to n digits.
func digitsOf(s string, n int) (int, string, bool) {
	i := 0
	for i < len(s) && i < n && s[i] >= '0' && s[i] <= '9' {
		i++
	}
	v, err := strconv.Atoi(s[:i])
	return v, s[i:], err == nil
}

// element reads what an element of a mask stands for. It is long because there are many.
func (c *clock) element(e, s string) (string, error) {
	within := func(at *int, n, lo, hi, code int, what string) (string, error) {
		v, rest, ok := digitsOf(s, n)
		if !ok {
			if s == "" {
				return s, fail(1840, "input value not long enough for date format")
			}
			return s, fail(1858, "a non-numeric character was found where a numeric was expected")
		}
		if v < lo || v > hi {
			return s, fail(code, "%s", what)
		}
		*at = v
		return rest, nil
	}
	switch {
	case e == "X":
		return strings.TrimPrefix(s, "."), nil
	case strings.HasPrefix(e, "="):
		if s == "" {
			return s, nil
		}
		if strings.HasPrefix(s, e[1:]) {
			return s[len(e)-1:], nil
		}
		if len(e) == 2 && !unicode.IsLetter(rune(s[0])) && !unicode.IsDigit(rune(s[0])) {
			return s[1:], nil
		}
		return s, fail(1861, "literal does not match format string")
	case e == "YYYY" || e == "RRRR":
		return within(&c.year, 4, 1, 9999, 1841, "(full) year must be between -4713 and +9999, and not be 0")
	case e == "MM":
		return within(&c.month, 2, 1, 12, 1843, "not a valid month")
	case e == "MON" || e == "MONTH":
		return c.monthName(e, s)
	case e == "DD":
		return within(&c.day, 2, 1, 31, 1847, "day of month must be between 1 and last day of month")
	case e == "HH24":
		return within(&c.hour, 2, 0, 23, 1850, "hour must be between 0 and 23")
	case e == "HH" || e == "HH12":
		c.twelve = true
		return within(&c.hour, 2, 1, 12, 1849, "hour must be between 1 and 12")
	case e == "MI":
		return within(&c.minute, 2, 0, 59, 1851, "minutes must be between 0 and 59")
	case e == "SS":
		return within(&c.second, 2, 0, 59, 1852, "seconds must be between 0 and 59")
	case e == "AM" || e == "PM":
		if len(s) < 2 {
			return s, fail(1855, "AM/A.M. or PM/P.M. required")
		}
		c.pm = strings.EqualFold(s[:2], "PM")
		return s[2:], nil
	case strings.HasPrefix(e, "FF"):
		return c.fraction(e, s)
	case e == "TZH":
		c.zoned = true
		if s != "" && (s[0] == '+' || s[0] == '-') {
			c.negative = s[0] == '-'
			s = s[1:]
		}
		return within(&c.zoneHour, 2, 0, 15, 1874, "time zone hour must be between -15 and 15")
	case e == "TZM":
		return within(&c.zoneMinute, 2, 0, 59, 1875, "time zone minute must be between -59 and 59")
	case e == "FM" || e == "FX":
		return s, nil
	}
	return s, unknown("the element %s of a date's mask", e)
}

func (c *clock) monthName(e, s string) (string, error) {
	for m := time.January; m <= time.December; m++ {
		name := m.String()
		if e == "MON" {
			name = name[:3]
		}
		if len(s) >= len(name) && strings.EqualFold(s[:len(name)], name) {
			c.month = int(m)
			return s[len(name):], nil
		}
	}
	return s, fail(1843, "not a valid month")
}

func (c *clock) fraction(e, s string) (string, error) {
	most := 9
	if len(e) == 3 {
		most = int(e[2] - '0')
	}
	n := 0
	for n < len(s) && n < most && s[n] >= '0' && s[n] <= '9' {
		n++
	}
	c.nanos, _ = strconv.Atoi((s[:n] + "000000000")[:9])
	return s[n:], nil
}

// IntervalText writes an interval.
func IntervalText(d time.Duration, scale int) string {
	sign := "+"
	if d < 0 {
		sign, d = "-", -d
	}
	s := fmt.Sprintf("%s%02d %02d:%02d:%02d", sign, d/(24*time.Hour), d/time.Hour%24, d/time.Minute%60,
		d/time.Second%60)
	if scale > 0 {
		s += "." + fmt.Sprintf("%09d", d%time.Second)[:scale]
	}
	return s
}

// parseInterval is TO_DSINTERVAL, and what stands in INTERVAL '…' DAY TO SECOND.
func parseInterval(src string) (Value, error) {
	wrong := fail(1867, "the interval is invalid")
	s := strings.TrimSpace(src)
	negative := strings.HasPrefix(s, "-")
	s = strings.TrimLeft(s, "+-")
	days, rest, ok := strings.Cut(s, " ")
	n, err := strconv.Atoi(days)
	parts := strings.Split(strings.TrimSpace(rest), ":")
	if !ok || err != nil || len(parts) != 3 {
		return null, wrong
	}
	h, err1 := strconv.Atoi(parts[0])
	m, err2 := strconv.Atoi(parts[1])
	whole, fraction, _ := strings.Cut(parts[2], ".")
	sec, err3 := strconv.Atoi(whole)
	if err1 != nil || err2 != nil || err3 != nil || h > 23 || m > 59 || sec > 59 || len(fraction) > 9 {
		return null, wrong
	}
	nanos, err := strconv.Atoi((fraction + "000000000")[:9])
	if err != nil {
		return null, wrong
	}
	d := time.Duration(n)*24*time.Hour + time.Duration(h)*time.Hour + time.Duration(m)*time.Minute +
		time.Duration(sec)*time.Second + time.Duration(nanos)
	if negative {
		d = -d
	}
	return span(d), nil
}
