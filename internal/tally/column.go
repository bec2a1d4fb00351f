package tally

import (
	"math"
	"math/bits"

	"ambertray/internal/reading"
	"ambertray/internal/sketch"
	"ambertray/internal/sqltype"
)

// Values of one column are counted together: what is known of them stays in registers. They are
// those of rows that lie behind each other, of so many values each: the first of rows is the first
// of the column.

// AddColumn counts the values of a column, as Add does.
func (c *Tally) AddColumn(rows []reading.Value, width int) {
	switch {
	case c.Type.IsText() || c.Type.Kind == sqltype.UUID:
		c.addTexts(rows, width)
	case c.Type.Kind == sqltype.Double || c.minWide != nil:
		for k := 0; k < len(rows); k += width {
			c.Add(&rows[k])
		}
	default:
		c.addNumbers(rows, width)
	}
}

// addTexts looks at the first bytes of each, which mostly say that it is neither the smallest nor
// the largest.
func (c *Tally) addTexts(rows []reading.Value, width int) {
	lowest, highest := reading.Prefix(c.minText), reading.Prefix(c.maxText)
	octets := 0
	for k := 0; k < len(rows); k += width {
		v := &rows[k]
		if v.Null {
			c.addNull(v)
			continue
		}
		if p := reading.Prefix(v.Text); p > lowest && p < highest {
			octets += len(v.Text)
			continue
		}
		c.addText(v.Text)
		c.some = true
		lowest, highest = reading.Prefix(c.minText), reading.Prefix(c.maxText)
	}
	c.Octets += int64(octets)
	c.Rows += int64((len(rows) + width - 1) / width)
}

// addNumbers is for those that are whole numbers to us.
func (c *Tally) addNumbers(rows []reading.Value, width int) {
	least, most := int64(math.MaxInt64), int64(math.MinInt64)
	var lo, carry uint64
	var hi, n int64
	for k := 0; k < len(rows); k += width {
		v := &rows[k]
		if v.Null {
			c.Rows++
			c.addNull(v)
			continue
		}
		if v.Wide != nil {
			c.Add(v)
			continue
		}
		lo, carry = bits.Add64(lo, uint64(v.Int), 0)
		hi += v.Int>>63 + int64(carry)
		least, most = min(least, v.Int), max(most, v.Int)
		n++
	}
	if n > 0 {
		c.Merge(&Tally{Type: c.Type, Rows: n, sum: Sum{lo: lo, hi: hi}, some: true, minInt: least, maxInt: most})
	}
}

// AddColumn counts the values of a column, as Add does.
func (h *Habit) AddColumn(rows []reading.Value, width int) {
	switch {
	case h.Type.IsText() || h.Type.Kind == sqltype.UUID:
		h.addTexts(rows, width)
	case h.Type.Kind == sqltype.Double:
		for k := 0; k < len(rows); k += width {
			h.Add(&rows[k])
		}
	default:
		h.addNumbers(rows, width)
	}
}

func (h *Habit) addTexts(rows []reading.Value, width int) {
	for k := 0; k < len(rows); k += width {
		if v := &rows[k]; !v.Null {
			x := sketch.Hash(v.Text)
			sketch.Registers(h.sketch[:]).Add(x)
			h.word(x, v.Text, 1)
			h.rows++
		}
	}
}

// addNumbers takes the mean and spread of all together into those before.
func (h *Habit) addNumbers(rows []reading.Value, width int) {
	n, sum := int64(0), 0.0
	for k := 0; k < len(rows); k += width {
		v := &rows[k]
		if v.Null {
			continue
		}
		if v.Wide != nil {
			h.Add(v)
			continue
		}
		x := sketch.HashNumber(uint64(v.Int))
		sketch.Registers(h.sketch[:]).Add(x)
		if !h.many {
			h.word(x, nil, 1)
		}
		sum += float64(v.Int)
		n++
	}
	if n == 0 {
		return
	}
	mean, m2 := sum/float64(n), 0.0
	for k := 0; k < len(rows); k += width {
		if v := &rows[k]; !v.Null && v.Wide == nil {
			d := float64(v.Int) - mean
			m2 += d * d
		}
	}
	h.spread(n, mean, m2)
}

// spread takes mean and spread of some values into those of all (Chan, Golub and LeVeque, 1983).
func (h *Habit) spread(rows int64, mean, m2 float64) {
	n := float64(h.rows + rows)
	d := mean - h.mean
	h.mean += d * float64(rows) / n
	h.m2 += m2 + d*d*float64(h.rows)*float64(rows)/n
	h.rows += rows
}
