package reading

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every currency is known before and behind a number, with and without spaces
// and signs, and nothing else is.
func TestCurrencies(t *testing.T) {
	for _, c := range currencies {
		for _, text := range []string{c + "12.50", c + " 12.50", "-" + c + "12.50", c + "-12.50", "12.50" + c, "12.50 " + c, "-12.50 " + c, "(" + c + "12.50)"} {
			var n NumberScan
			require.True(t, n.Scan([]byte(text)), text)
			assert.Equal(t, c, n.Currency, text)
			assert.Equal(t, "1250", string(n.Digits), text)
			assert.Equal(t, strings.ContainsAny(text, "-("), n.Negative, text)
		}
		for _, text := range []string{c, c + c + "1", c + "1" + c, c + "x1", c + " "} {
			var n NumberScan
			assert.False(t, n.Scan([]byte(text)), text)
		}
	}
	for _, text := range []string{"G05123", "XYZ12", "gbp12", "1 lock", "k1", "z1", "łz1", "\xa312", "12\xac"} {
		var n NumberScan
		assert.False(t, n.Scan([]byte(text)), text)
	}
}

// group puts a mark between groups of three digits.
func group(digits, mark string) string {
	for i := len(digits) - 3; i > 0; i -= 3 {
		digits = digits[:i] + mark + digits[i:]
	}
	return digits
}

// However a number is written, its digits come out, and where its point is.
func TestNumbersAsTheyAreWritten(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 12))
	marks := map[string]Mark{",": Comma, ".": Point}
	for range 5000 {
		whole, fraction := fmt.Sprint(r.Int64N([]int64{10, 1000, 1e6, 1e12}[r.IntN(4)])), ""
		if k := r.IntN(5); k > 0 {
			fraction = fmt.Sprintf("%0*d", k, r.IntN([]int{1, 10, 100, 1000, 10000}[k]))
		}
		point, between := ".", ","
		if r.IntN(2) == 0 {
			point, between = between, point
		}
		grouped := r.IntN(2) == 0 && len(whole) > 3
		text := whole
		if grouped {
			text = group(whole, between)
		}
		if fraction != "" {
			text += point + fraction
		}
		var n NumberScan
		require.True(t, n.Scan([]byte(text)), text)
		require.Equal(t, whole+fraction, string(n.Digits), text)
		switch {
		case n.Either != NoMark:
			// One mark before three digits: it may be of groups, or the point.
			require.True(t, grouped && fraction == "" && len(whole) <= 6 || !grouped && len(fraction) == 3 && len(whole) <= 3, text)
		case fraction != "":
			require.Equal(t, marks[point], n.Fraction, text)
			require.Equal(t, len(fraction), n.After, text)
		default:
			require.Equal(t, NoMark, n.Fraction, text)
		}
		if grouped && n.Either == NoMark {
			require.Equal(t, marks[between], n.Group, text)
		}
	}
	for _, text := range []string{"1,2,3", "12,34,567", "1.234,5.6", "1,,234", ",", ".", "1-2", "--1", "1 2", "1e", "e5", "0x12", "1,234.5,6", "+-1", "1%%", "(1", "1)"} {
		var n NumberScan
		assert.False(t, n.Scan([]byte(text)), text)
	}
}

// What Go writes by a layout of its own, the pattern that says the same reads.
func TestPatternsAgainstTime(t *testing.T) {
	r := rand.New(rand.NewPCG(21, 22))
	for pattern, layout := range map[string]string{
		"yyyy-MM-dd":                 "2006-01-02",
		"dd/MM/yyyy":                 "02/01/2006",
		"d.M.yyyy":                   "2.1.2006",
		"MM/dd/yyyy h:mm a":          "01/02/2006 3:04 PM",
		"dd MMM yyyy":                "02 Jan 2006",
		"d MMMM yyyy":                "2 January 2006",
		"EEE, d MMM yyyy":            "Mon, 2 Jan 2006",
		"yyyyMMdd":                   "20060102",
		"yyyy-MM-dd'T'HH:mm:ss":      "2006-01-02T15:04:05",
		"yyyy-MM-dd HH:mm:ss.SSS":    "2006-01-02 15:04:05.000",
		"yyyy-MM-dd HH:mm:ss.SSSSSS": "2006-01-02 15:04:05.000000",
		"yyyyMMddHHmmss":             "20060102150405",
		"dd.MM.yyyy HH:mm":           "02.01.2006 15:04",
		"yyyy-MM-dd'T'HH:mm:ssXXX":   "2006-01-02T15:04:05Z07:00",
	} {
		p, err := ParsePattern(pattern)
		require.NoError(t, err, pattern)
		for range 300 {
			at := time.Unix(r.Int64N(8e9)-4e9, int64(r.IntN(1e6))*1000).UTC()
			text := at.Format(layout)
			want, err := time.Parse(layout, text)
			require.NoError(t, err)
			var c Civil
			require.Equal(t, OK, p.Parse([]byte(text), &c), "%s: %s", pattern, text)
			require.Equal(t, want.UnixMicro(), c.Micros(true), "%s: %s", pattern, text)
			// A character more or less is no such date.
			require.NotEqual(t, OK, p.Parse([]byte(text+"1x"), &c), text)
			require.NotEqual(t, OK, p.Parse([]byte(text[:len(text)-1]+"x"), &c), text)
		}
	}
	for pattern, bad := range map[string][]string{
		"dd/MM/yyyy":          {"31/04/2025", "29/02/2025", "00/01/2025", "1/13/2025", "01-02-2025", "", "01/02/20255"},
		"HH:mm":               {"24:01", "12:60", "1260"},
		"yyyy-MM-dd HH:mm:ss": {"2025-01-01 10:00", "2025-01-01T10:00:00", "2025-01-01 10:00:61"},
	} {
		for _, text := range bad {
			var c Civil
			assert.NotEqual(t, OK, MustPattern(pattern).Parse([]byte(text), &c), "%s: %s", pattern, text)
		}
	}
}
