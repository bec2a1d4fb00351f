// Package tally adds up what the values of a column come to, so that what was
// read and what a table holds can be compared without keeping either.
//
// The model: a [Tally] is fed values one by one, on any number of goroutines
// with one Tally each, and merged. Two columns [Tally.Differs] in nothing
// when their counts, nulls, exact sums, smallest and largest values and
// lengths agree. None of it depends on the order of the rows.
package tally

import (
	"bytes"
	"fmt"
	"math/big"

	"ambertray/internal/reading"
	"ambertray/internal/sqltype"
)

// A Tally is the account of one column.
type Tally struct {
	Type  sqltype.Type
	Rows  int64
	Nulls int64
	// Emptied are the nulls that were empty texts before.
	Emptied int64
	// Loose columns are of a type that cannot be compared by value; only rows
	// and nulls are.
	Loose bool
	// Octets is the length in bytes of all text, in UTF-8.
	Octets int64

	sum Sum // of Value.Int and Value.Wide

	some             bool
	minInt, maxInt   int64
	minFlt, maxFlt   float64
	minText, maxText []byte
	minWide, maxWide *big.Int // set once a wide decimal was seen
}

// Add counts one value.
func (c *Tally) Add(v *reading.Value) {
	c.Rows++
	if v.Null {
		c.addNull(v)
		return
	}
	switch {
	case c.Type.IsText() || c.Type.Kind == sqltype.UUID:
		c.addText(v.Text)
	case c.Type.Kind == sqltype.Double:
		if !c.some || v.Float < c.minFlt {
			c.minFlt = v.Float
		}
		if !c.some || v.Float > c.maxFlt {
			c.maxFlt = v.Float
		}
	case v.Wide != nil:
		n := v.Big()
		c.sum.AddBig(n)
		c.bound(n)
	default:
		n := v.Int
		c.sum.Add(n)
		if !c.some {
			c.minInt, c.maxInt = n, n
		} else if n < c.minInt {
			c.minInt = n
		} else if n > c.maxInt {
			c.maxInt = n
		}
		if c.minWide != nil {
			c.bound(big.NewInt(n))
		}
	}
	c.some = true
}

func (c *Tally) addNull(v *reading.Value) {
	if c.Nulls++; v.Emptied {
		c.Emptied++
	}
}

func (c *Tally) addText(b []byte) {
	c.Octets += int64(len(b))
	if !c.some {
		c.minText, c.maxText = append(c.minText[:0], b...), append(c.maxText[:0], b...)
		return
	}
	// Most values are neither, and their first byte says so.
	if len(b) > 0 && len(c.minText) > 0 && b[0] > c.minText[0] && b[0] < c.maxText[0] {
		return
	}
	if bytes.Compare(b, c.minText) < 0 {
		c.minText = append(c.minText[:0], b...)
	} else if bytes.Compare(b, c.maxText) > 0 {
		c.maxText = append(c.maxText[:0], b...)
	}
}

// bound moves to bounds of any size.
func (c *Tally) bound(n *big.Int) {
	if c.minWide == nil {
		if c.some {
			c.minWide, c.maxWide = big.NewInt(c.minInt), big.NewInt(c.maxInt)
		} else {
			c.minWide, c.maxWide = n, n
		}
	}
	if n.Cmp(c.minWide) < 0 {
		c.minWide = n
	}
	if n.Cmp(c.maxWide) > 0 {
		c.maxWide = n
	}
}

// Merge adds another account of the same column.
func (c *Tally) Merge(o *Tally) {
	c.Loose = c.Loose || o.Loose
	c.Rows += o.Rows
	c.Nulls += o.Nulls
	c.Emptied += o.Emptied
	c.Octets += o.Octets
	c.sum.Merge(&o.sum)
	if !o.some {
		return
	}
	switch {
	case c.Type.IsText() || c.Type.Kind == sqltype.UUID:
		if !c.some || bytes.Compare(o.minText, c.minText) < 0 {
			c.minText = append(c.minText[:0], o.minText...)
		}
		if !c.some || bytes.Compare(o.maxText, c.maxText) > 0 {
			c.maxText = append(c.maxText[:0], o.maxText...)
		}
	case c.Type.Kind == sqltype.Double:
		if !c.some || o.minFlt < c.minFlt {
			c.minFlt = o.minFlt
		}
		if !c.some || o.maxFlt > c.maxFlt {
			c.maxFlt = o.maxFlt
		}
	case c.minWide != nil || o.minWide != nil:
		for _, n := range []*big.Int{o.smallest(), o.largest()} {
			c.bound(n)
		}
	default:
		if !c.some || o.minInt < c.minInt {
			c.minInt = o.minInt
		}
		if !c.some || o.maxInt > c.maxInt {
			c.maxInt = o.maxInt
		}
	}
	c.some = true
}

// Subtract takes out an account of some of the values. What is smallest and largest among
// the others is not known then.
func (c *Tally) Subtract(o *Tally) {
	c.Loose = c.Loose || o.Loose
	c.Rows -= o.Rows
	c.Nulls -= o.Nulls
	c.Octets -= o.Octets
	c.sum.AddBig(new(big.Int).Neg(o.Total()))
	c.some = c.Rows > c.Nulls
}

func (c *Tally) smallest() *big.Int {
	if c.minWide != nil {
		return c.minWide
	}
	return big.NewInt(c.minInt)
}

func (c *Tally) largest() *big.Int {
	if c.maxWide != nil {
		return c.maxWide
	}
	return big.NewInt(c.maxInt)
}

// Total is the exact sum of the values' Int and Wide.
func (c *Tally) Total() *big.Int { return c.sum.Total() }

// Set makes the column what a database says of itself: sum, smallest and
// largest of Value.Int or Wide. Of text, sum is the length in bytes. A nil sum
// counts as 0, and nil bounds as none.
func (c *Tally) Set(rows, nulls int64, sum, smallest, largest *big.Int) {
	c.Rows, c.Nulls = rows, nulls
	if sum != nil {
		c.sum.AddBig(sum)
	}
	if smallest != nil && largest != nil {
		c.some = true
		c.minWide, c.maxWide = smallest, largest
		c.minInt, c.maxInt = smallest.Int64(), largest.Int64()
		if smallest.IsInt64() && largest.IsInt64() {
			c.minWide, c.maxWide = nil, nil
		}
	}
}

// SetText is Set for text and uuids.
func (c *Tally) SetText(rows, nulls, octets int64, smallest, largest []byte) {
	c.Rows, c.Nulls, c.Octets = rows, nulls, octets
	c.some = rows > nulls
	c.minText, c.maxText = smallest, largest
}

// SetFloat is Set for double precision.
func (c *Tally) SetFloat(rows, nulls int64, smallest, largest float64) {
	c.Rows, c.Nulls = rows, nulls
	c.some = rows > nulls
	c.minFlt, c.maxFlt = smallest, largest
}

// HasSum reports whether a sum of the column's values makes sense to people.
func (c *Tally) HasSum() bool {
	return c.Type.IsInteger() || c.Type.Kind == sqltype.Decimal || c.Type.Kind == sqltype.Boolean
}

// Sum is the exact sum in plain form, or "" where it makes no sense or there
// are no values. Of a boolean it is how many are true.
func (c *Tally) Sum() string {
	if !c.HasSum() || !c.some {
		return ""
	}
	scale := 0
	if c.Type.Kind == sqltype.Decimal {
		scale = c.Type.Scale
	}
	return reading.BigDecimal(c.Total(), scale)
}

// Smallest and Largest are in plain form, text by its bytes. They are "" when
// there are only nulls.
func (c *Tally) Smallest() string { return c.plain(c.minInt, c.minFlt, c.minText, c.minWide) }
func (c *Tally) Largest() string  { return c.plain(c.maxInt, c.maxFlt, c.maxText, c.maxWide) }

func (c *Tally) plain(n int64, f float64, text []byte, wide *big.Int) string {
	if !c.some {
		return ""
	}
	v := reading.Value{Int: n, Float: f, Text: text}
	if wide != nil {
		return reading.BigDecimal(wide, c.Type.Scale)
	}
	return v.Plain(c.Type)
}

// Differs lists in what two accounts differ: c of what was read, o of what a
// table holds. It is empty when they agree.
func (c *Tally) Differs(o *Tally) []string { return c.differs(o, "%s %v read, %v in the table") }

// Changes is Differs where c is what a table held, and o what it holds now.
func (c *Tally) Changes(o *Tally) []string { return c.differs(o, "%s %v after the load, %v now") }

func (c *Tally) differs(o *Tally, form string) (in []string) {
	say := func(what string, a, b any) {
		if a != b {
			in = append(in, fmt.Sprintf(form, what, a, b))
		}
	}
	say("rows:", c.Rows, o.Rows)
	say("nulls:", c.Nulls, o.Nulls)
	if c.Loose || o.Loose {
		return
	}
	say("sum:", c.Sum(), o.Sum())
	if !c.HasSum() && c.Type.IsTemporal() && c.Total().Cmp(o.Total()) != 0 {
		in = append(in, "the sum of all dates and times differs")
	}
	say("smallest:", c.Smallest(), o.Smallest())
	say("largest:", c.Largest(), o.Largest())
	say("bytes of text:", c.Octets, o.Octets)
	return
}
