// Package phrase says numbers as people read them, in English, and words as a shell
// does.
package phrase

import (
	"fmt"
	"strconv"
	"strings"
)

// Grouped writes a number with commas between thousands.
func Grouped(n int64) string {
	s := strconv.FormatInt(n, 10)
	for i := len(s) - 3; i > 0 && s[i-1] != '-'; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

// Count is a number of things: 1 record, 2,000 records.
func Count(n int64, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return Grouped(n) + " " + noun + "s"
}

// Plain is a number of things as evidence gives it: 1 line, 2000 lines.
func Plain(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// Size is a number of bytes, in powers of 1,000 and three digits.
func Size(n int64) string {
	f := float64(n)
	for _, u := range []string{"bytes", "kB", "MB", "GB", "TB"} {
		if f < 1000 || u == "TB" {
			if u == "bytes" {
				return Count(n, "byte")
			}
			return fmt.Sprintf("%.3g %s", f, u)
		}
		f /= 1000
	}
	return ""
}

// Share is a share of at most a half, rounded up to what a person would type:
// 0.1%, 2%.
func Share(share float64) string {
	for _, s := range []float64{0.0001, 0.001, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2} {
		if share <= s {
			return strconv.FormatFloat(s*100, 'f', -1, 64) + "%"
		}
	}
	return "50%"
}

// ParseShare reads 1% or 0.01, from 0 to a half; nothing is 0.
func ParseShare(s string) (float64, error) {
	if s == "" {
		return 0, nil
	}
	n, percent := strings.CutSuffix(s, "%")
	v, err := strconv.ParseFloat(n, 64)
	if percent {
		v /= 100
	}
	if err == nil && !(v >= 0 && v <= 0.5) {
		err = strconv.ErrRange
	}
	return v, err
}
