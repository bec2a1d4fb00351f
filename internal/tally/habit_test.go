package tally

import (
	"fmt"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"

	"ambertray/internal/reading"
	"ambertray/internal/sqltype"
)

// What values are like does not depend on how they were shared out.
func TestHabit(t *testing.T) {
	var whole Habit
	parts := make([]Habit, 3)
	text := sqltype.Type{Kind: sqltype.VarChar, Length: 10}
	whole.Reset(text)
	for i := range parts {
		parts[i].Reset(text)
	}
	for i := range 1000 {
		v := reading.Value{Text: fmt.Appendf(nil, "w%d", i*i%7), Null: i%10 == 0}
		whole.Add(&v)
		parts[i%3].Add(&v)
	}
	parts[0].Merge(&parts[1])
	parts[0].Merge(&parts[2])
	assert.Equal(t, whole.Words(), parts[0].Words())
	assert.Len(t, whole.Words(), 4) // the squares modulo seven
	n, exact := parts[0].Distinct()
	assert.EqualValues(t, 4, n)
	assert.True(t, exact)
	_, is := whole.Spread()
	assert.False(t, is)

	for _, different := range []int{65, 200, 1000, 20000, 300000} {
		h, other := Habit{}, Habit{}
		h.Reset(sqltype.Type{Kind: sqltype.Decimal, Precision: 12, Scale: 2})
		other.Reset(h.Type)
		for i := range 300000 {
			v := reading.Value{Int: int64(i % different)}
			if i%2 == 0 {
				h.Add(&v)
			} else {
				other.Add(&v)
			}
		}
		h.Merge(&other)
		n, exact := h.Distinct()
		assert.False(t, exact)
		assert.InEpsilon(t, different, n, 0.2)
		spread, is := h.Spread()
		assert.True(t, is)
		assert.InEpsilon(t, float64(different)/math.Sqrt(12)/100, spread, 0.01)
		assert.Nil(t, h.Words())
	}

	// Names, which are all different, are not kept.
	whole.Reset(text)
	for i := range 20 {
		whole.Add(&reading.Value{Text: fmt.Appendf(nil, "name %d", i)})
	}
	assert.Nil(t, whole.Words())

	// There is no allocation per value.
	v := reading.Value{Text: []byte("A1")}
	assert.Zero(t, testing.AllocsPerRun(100, func() { whole.Add(&v) }))
}
