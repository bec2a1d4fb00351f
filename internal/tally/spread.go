package tally

import (
	"cmp"
	"fmt"
	"math"
	"math/big"
	"slices"
	"strconv"
	"time"

	"ambertray/internal/phrase"
	"ambertray/internal/reading"
	"ambertray/internal/sqltype"
)

// A Spread counts how a column's values lie: numbers, dates and times in classes
// of equal width between bounds that are known before; texts by value as long as
// there are few different ones, and by length.
type Spread struct {
	Type  sqltype.Type
	Nulls int64

	lo, width float64
	classes   []int64
	values    map[string]int64 // nil: too many
	lengths   []int64          // by number of characters, the last for all above
}

// Limits of what is counted.
const (
	mostClasses = 40
	mostValues  = 12
	mostLength  = 4000
)

// NewSpread takes the smallest and largest value in their plain form.
func NewSpread(t sqltype.Type, smallest, largest string) *Spread {
	s := &Spread{Type: t}
	switch {
	case t.Kind == sqltype.UUID: // all different
	case t.IsText() || t.Kind == sqltype.Boolean:
		s.values = map[string]int64{}
	default:
		lo, ok := s.read(smallest)
		hi, ok2 := s.read(largest)
		if !ok || !ok2 || hi < lo {
			return s
		}
		n := mostClasses
		if s.lo, s.width = lo, (hi-lo)/mostClasses; t.Kind != sqltype.Double {
			// As many steps in one class as in another.
			s.width = math.Ceil((hi - lo + 1) / mostClasses)
			n = min(int((hi-lo)/s.width)+1, mostClasses) // of large numbers, digits are lost
		}
		if s.width == 0 {
			s.width, n = 1, 1
		}
		s.classes = make([]int64, n)
	}
	return s
}

func (s *Spread) read(plain string) (x float64, ok bool) {
	var v reading.Value
	if r := reading.Plain(s.Type); r.Read([]byte(plain), false, &v) != reading.OK || v.Null {
		return 0, false
	}
	return s.at(&v), true
}

// at is where a value lies.
func (s *Spread) at(v *reading.Value) float64 {
	switch {
	case s.Type.Kind == sqltype.Double:
		return v.Float
	case v.Wide != nil:
		x, _ := new(big.Float).SetInt(v.Big()).Float64()
		return x
	}
	return float64(v.Int)
}

// Add counts one value.
func (s *Spread) Add(v *reading.Value) {
	switch {
	case v.Null:
		s.Nulls++
	case s.Type.Kind == sqltype.Boolean:
		s.values[strconv.FormatBool(v.Int != 0)]++
	case s.Type.IsText():
		s.addText(v.Text)
	case s.classes != nil:
		k := int((s.at(v) - s.lo) / s.width)
		s.classes[min(max(k, 0), len(s.classes)-1)]++
	}
}

func (s *Spread) addText(b []byte) {
	if s.values != nil {
		if _, known := s.values[string(b)]; known {
			s.values[string(b)]++
		} else if len(s.values) < mostValues {
			s.values[string(b)] = 1
		} else {
			s.values = nil
		}
	}
	n := min(reading.Characters(b), mostLength)
	for len(s.lengths) <= n {
		s.lengths = append(s.lengths, 0)
	}
	s.lengths[n]++
}

// Merge adds what was counted of the same column elsewhere.
func (s *Spread) Merge(o *Spread) {
	s.Nulls += o.Nulls
	for i, n := range o.classes {
		s.classes[i] += n
	}
	for len(s.lengths) < len(o.lengths) {
		s.lengths = append(s.lengths, 0)
	}
	for i, n := range o.lengths {
		s.lengths[i] += n
	}
	if s.values == nil || o.values == nil {
		s.values = nil
		return
	}
	for v, n := range o.values {
		s.values[v] += n
	}
	if len(s.values) > mostValues {
		s.values = nil
	}
}

// A Bar is one class, value or length, and how many values are of it.
type Bar struct {
	Value string `json:"value"` // the smallest of a class
	Count int64  `json:"count"`
}

// What bars are of.
const (
	ByClass  = "class"
	ByValue  = "value"
	ByLength = "length"
)

// Bars are the classes or lengths in their order, or the values, the most
// frequent first; by tells which. There are none of a column without values.
func (s *Spread) Bars() (by string, bars []Bar) {
	switch {
	case s.classes != nil:
		for i, n := range s.classes {
			bars = append(bars, Bar{s.plain(s.lo + float64(i)*s.width), n})
		}
		return ByClass, bars
	case len(s.values) > 0:
		for v, n := range s.values {
			bars = append(bars, Bar{v, n})
		}
		slices.SortFunc(bars, func(a, b Bar) int {
			return cmp.Or(cmp.Compare(b.Count, a.Count),
				cmp.Compare(a.Value, b.Value))
		})
		return ByValue, bars
	}
	first := slices.IndexFunc(s.lengths, func(n int64) bool { return n > 0 })
	if first < 0 {
		return "", nil
	}
	step := (len(s.lengths) - first + mostClasses - 1) / mostClasses
	for i := first; i < len(s.lengths); i += step {
		b := Bar{Value: strconv.Itoa(i)}
		for _, n := range s.lengths[i:min(i+step, len(s.lengths))] {
			b.Count += n
		}
		bars = append(bars, b)
	}
	return ByLength, bars
}

// Longest is how many characters the longest text has, up to 4,000.
func (s *Spread) Longest() int { return max(len(s.lengths)-1, 0) }

// Step is how wide a class is, as people say it.
func (s *Spread) Step() string {
	switch {
	case s.classes == nil:
		return ""
	case s.Type.Kind == sqltype.Date:
		return phrase.Count(int64(s.width), "day")
	case s.Type.IsTemporal():
		d := time.Duration(s.width) * time.Microsecond
		if days := d.Hours() / 24; days >= 2 {
			return fmt.Sprintf("%.3g days", days)
		}
		return d.Round(time.Millisecond).String()
	case s.Type.Kind == sqltype.Double:
		return strconv.FormatFloat(s.width, 'g', 3, 64)
	}
	return s.plain(s.width)
}

// plain is where something lies, as a value.
func (s *Spread) plain(x float64) string {
	v := reading.Value{Float: x}
	if s.Type.Kind != sqltype.Double {
		if math.Abs(x) >= 1<<63 {
			n, _ := big.NewFloat(x).Int(nil)
			return reading.BigDecimal(n, s.Type.Scale)
		}
		v.Int = int64(x)
	}
	return v.Plain(s.Type)
}
