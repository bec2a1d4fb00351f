package workbook

import (
	"bytes"
	"math"
	"strconv"
	"strings"
	"time"
)

// A style is what a number stands for.
type style uint8

const (
	plain style = iota
	date
	clock // time of day
	dateTime
	duration
	isText
	percent
)

// builtin are the styles of number formats that have no code of their own
// (ECMA-376 part 1, 18.8.30).
func builtin(id int) style {
	switch {
	case id >= 14 && id <= 17, id >= 27 && id <= 31, id == 36, id >= 50 && id <= 54, id == 57, id == 58:
		return date
	case id >= 18 && id <= 21, id >= 32 && id <= 35, id == 55, id == 56, id == 45, id == 47:
		return clock
	case id == 22:
		return dateTime
	case id == 46:
		return duration
	case id == 49:
		return isText
	case id == 9, id == 10:
		return percent
	}
	return plain
}

// styleOf reads a number format code (18.8.31), as far as it tells a date or
// time from a number.
//
// It is long because a format is read letter by letter, each with a meaning of its own.
func styleOf(code string) style {
	code, _, _ = strings.Cut(code, ";") // for positive numbers
	days, times, long, other := false, false, false, false
	months := 0
	for i := 0; i < len(code); {
		switch c := code[i]; c {
		case '"':
			n := strings.IndexByte(code[i+1:], '"')
			if n < 0 {
				i = len(code)
				continue
			}
			i += n + 2
			continue
		case '\\', '_', '*':
			i += 2
			continue
		case '[':
			n := strings.IndexByte(code[i:], ']')
			if n < 0 {
				i = len(code)
				continue
			}
			if in := strings.ToLower(code[i+1 : i+n]); in != "" && strings.Trim(in, "hms") == "" {
				long = true
			}
			i += n + 1
			continue
		case 'y', 'Y', 'd', 'D', 'e', 'b':
			if c == 'e' && (strings.HasPrefix(code[i+1:], "+") || strings.HasPrefix(code[i+1:], "-")) {
				other = true // an exponent
			} else {
				days = true
			}
		case 'E':
			other = true
		case 'h', 'H', 's', 'S':
			times = true
		case 'm', 'M':
			months++
		case 'A', 'a':
			if strings.HasPrefix(strings.ToUpper(code[i:]), "AM/PM") ||
				strings.HasPrefix(strings.ToUpper(code[i:]), "A/P") {
				times = true
				i += 3
				continue
			}
		case '@':
			return isText
		case '%':
			return percent
		case '0', '#', '?':
			other = other || !times // a fraction of a second may follow
		case 'G':
			if strings.HasPrefix(code[i:], "General") {
				return plain
			}
		}
		i++
	}
	switch {
	case long:
		return duration
	case other && !times && !days:
		return plain
	case days && times:
		return dateTime
	case days:
		return date
	case times:
		return clock
	case months > 0:
		return date
	}
	return plain
}

// appendNumber writes a number in plain form. Where the file has more than 15
// digits, they are those of a double that people see with 15.
func appendNumber(b, raw []byte) ([]byte, bool) {
	if simple(raw) {
		return append(b, raw...), true
	}
	f, err := strconv.ParseFloat(string(raw), 64)
	if err != nil || math.IsInf(f, 0) || math.IsNaN(f) {
		return append(b, raw...), false
	}
	return appendFloat(b, f), true
}

// simple reports a number that is in plain form already: up to 15 digits, no
// exponent, no needless zeros.
func simple(raw []byte) bool {
	d := raw
	if len(d) > 0 && d[0] == '-' {
		d = d[1:]
	}
	if len(d) == 0 || len(d) > 16 || d[0] == '0' && len(d) > 1 && d[1] != '.' || d[0] == '.' {
		return false
	}
	digits, point := 0, false
	for _, c := range d {
		switch {
		case c >= '0' && c <= '9':
			digits++
		case c == '.' && !point:
			point = true
		default:
			return false
		}
	}
	return digits <= 15 && !(point && (d[len(d)-1] == '0' || d[len(d)-1] == '.'))
}

func appendFloat(b []byte, f float64) []byte {
	if f == 0 {
		return append(b, '0')
	}
	if f == math.Trunc(f) && math.Abs(f) < 1<<53 {
		return strconv.AppendFloat(b, f, 'f', -1, 64)
	}
	// Fifteen digits, and then as few as say the same.
	if v, err := strconv.ParseFloat(strconv.FormatFloat(f, 'e', 14, 64), 64); err == nil {
		f = v
	}
	if a := math.Abs(f); a < 1e-30 || a >= 1e21 {
		return strconv.AppendFloat(b, f, 'e', -1, 64)
	}
	return strconv.AppendFloat(b, f, 'f', -1, 64)
}

// formats are what the styles of a workbook's cells make of numbers.
type formats struct {
	first1904 bool
	styles    []style // by the number of a cell's format
	masks     []mask  // the same
}

// add adds the format of cells that have the n-th number; code is that of the format, if
// it has one.
func (x *formats) add(id int, code string, own bool) {
	if !own {
		x.styles, x.masks = append(x.styles, builtin(id)), append(x.masks, "")
		return
	}
	x.styles, x.masks = append(x.styles, styleOf(code)), append(x.masks, maskOf(code))
}

// append appends a number as the format of its cell says.
func (x *formats) append(b []byte, f float64, format int, c *Cell) []byte {
	st, m := plain, mask("")
	if format >= 0 && format < len(x.styles) {
		st, m = x.styles[format], x.masks[format]
	}
	if m != "" && f >= 0 && f < 1e15 && f == math.Trunc(f) {
		var digits [20]byte
		if b, c.Shown = m.append(b, strconv.AppendInt(digits[:0], int64(f), 10)); c.Shown {
			return b
		}
	}
	switch st { // others: numbers, and text that holds one
	case date, clock, dateTime, duration:
		b, _ = appendSerial(b, f, st, x.first1904)
		return b
	case percent:
		c.Percent = true
	case plain, isText:
	}
	return appendFloat(b, f)
}

// appendDate writes a serial number of days as its style says. first1904
// tells which day is 0.
func appendDate(b, raw []byte, s style, first1904 bool) ([]byte, bool) {
	f, err := strconv.ParseFloat(string(raw), 64)
	if err != nil || math.IsNaN(f) || math.Abs(f) > 3e6 {
		return appendNumber(b, raw)
	}
	return appendSerial(b, f, s, first1904)
}

// appendSerial is appendDate of a number.
func appendSerial(b []byte, f float64, s style, first1904 bool) ([]byte, bool) {
	if math.IsNaN(f) || math.Abs(f) > 3e6 {
		return appendFloat(b, f), false
	}
	if s == duration {
		return appendDuration(b, f), true
	}
	// To the millisecond, which is what a double of this size carries.
	ms := int64(math.Round(f * 86400e3))
	day, rest := ms/86400e3, ms%86400e3
	if rest < 0 {
		day--
		rest += 86400e3
	}
	if s == clock && day == 0 {
		return appendClock(b, rest), true
	}
	if s == clock && (day > 0 || first1904) && day < 366 {
		return appendDuration(b, f), true // more hours than a day has; no date of the first year
	}
	if s == clock {
		s = dateTime
	}
	base := time.Date(1899, 12, 30, 0, 0, 0, 0, time.UTC)
	switch {
	case first1904:
		base = time.Date(1904, 1, 1, 0, 0, 0, 0, time.UTC)
	case day == 60:
		// The 1900 system counts a 29 February 1900, which there was not.
		b = append(b, "1900-02-29"...)
		if s == dateTime || rest != 0 {
			b = appendClock(append(b, ' '), rest)
		}
		return b, false
	case day < 60 && day >= 0:
		day++
	}
	if day < 0 && !first1904 || day == 1 && f < 1 && !first1904 && s != dateTime {
		return appendFloat(b, f), true // before the first day there is nothing
	}
	b = base.AddDate(0, 0, int(day)).AppendFormat(b, "2006-01-02")
	if s == dateTime || rest != 0 {
		b = appendClock(append(b, ' '), rest)
	}
	return b, true
}

func appendClock(b []byte, ms int64) []byte {
	t := time.UnixMilli(ms).UTC()
	if ms%1000 == 0 {
		return t.AppendFormat(b, "15:04:05")
	}
	return t.AppendFormat(b, "15:04:05.000")
}

// appendDuration writes hours, minutes and seconds, however many hours.
func appendDuration(b []byte, days float64) []byte {
	ms := int64(math.Round(days * 86400e3))
	if ms < 0 {
		b, ms = append(b, '-'), -ms
	}
	h := ms / 3600e3
	if h < 10 {
		b = append(b, '0')
	}
	b = strconv.AppendInt(b, h, 10)
	t := appendClock(nil, ms%3600e3)
	return append(b, t[2:]...)
}

// errors are the values of cells in error (18.18.11 and what followed).
func isError(b []byte) bool {
	return len(b) > 1 && b[0] == '#' && (bytes.IndexByte(b, '!') > 0 || bytes.IndexByte(b, '?') > 0 ||
		bytes.Equal(b, []byte("#N/A")))
}
