package tally

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/reading"
	"ambertray/internal/sqltype"
)

// spreadOf counts values in their plain form, in so many parts.
func spreadOf(t *testing.T, typ string, parts int, values ...string) *Spread {
	st, err := sqltype.Parse(typ)
	require.NoError(t, err)
	r := reading.Plain(st)
	var c Tally
	c.Type = st
	row := make([]reading.Value, len(values))
	for i, s := range values {
		if s == "" && !st.IsText() {
			row[i].Null = true
		} else {
			require.Equal(t, reading.OK, r.Read([]byte(s), true, &row[i]), s)
			row[i].Text = append([]byte(nil), row[i].Text...)
			row[i].Wide = append([]byte(nil), row[i].Wide...)
			if len(row[i].Wide) == 0 {
				row[i].Wide = nil
			}
		}
		c.Add(&row[i])
	}
	all := make([]*Spread, parts)
	for i := range all {
		all[i] = NewSpread(st, c.Smallest(), c.Largest())
	}
	for i := range row {
		all[i%parts].Add(&row[i])
	}
	for _, s := range all[1:] {
		all[0].Merge(s)
	}
	return all[0]
}

func TestSpreadOfFewNumbers(t *testing.T) {
	for _, parts := range []int{1, 3} {
		s := spreadOf(t, "integer", parts, "3", "-1", "3", "", "0", "3")
		by, bars := s.Bars()
		assert.Equal(t, ByClass, by)
		assert.Equal(t, []Bar{{"-1", 1}, {"0", 1}, {"1", 0}, {"2", 0}, {"3", 3}}, bars, "a class for each whole number")
		assert.Equal(t, "1", s.Step())
		assert.EqualValues(t, 1, s.Nulls)
	}
	_, bars := spreadOf(t, "decimal(6,2)", 1, "7.50", "7.50").Bars()
	assert.Equal(t, []Bar{{"7.50", 2}}, bars)
	_, bars = spreadOf(t, "double", 1, "0.5", "0.5").Bars()
	assert.Equal(t, []Bar{{"0.5", 2}}, bars)
}

// Every value is in one class: the one that begins at or before it.
func TestSpreadCountsEach(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 11))
	for typ, value := range map[string]func() string{
		"smallint":       func() string { return fmt.Sprint(r.IntN(60000) - 30000) },
		"bigint":         func() string { return fmt.Sprint(r.Int64() - r.Int64()) },
		"decimal(8,2)":   func() string { return fmt.Sprintf("%d.%02d", r.IntN(900), r.IntN(100)) },
		"decimal(30,10)": func() string { return fmt.Sprintf("-%d%09d.%010d", r.IntN(1e9), r.IntN(1e9), r.IntN(1e9)) },
		"double":         func() string { return fmt.Sprint(r.NormFloat64() * 1e9) },
		"date":           func() string { return fmt.Sprintf("%04d-%02d-%02d", 1850+r.IntN(200), 1+r.IntN(12), 1+r.IntN(28)) },
		"time(0)":        func() string { return fmt.Sprintf("%02d:%02d:%02d", r.IntN(24), r.IntN(60), r.IntN(60)) },
		"timestamp(3)": func() string {
			return fmt.Sprintf("2025-%02d-%02d 10:00:00.%03d", 1+r.IntN(12), 1+r.IntN(28), r.IntN(1000))
		},
	} {
		var values []string
		for range 3000 {
			values = append(values, value())
		}
		one, many := spreadOf(t, typ, 1, values...), spreadOf(t, typ, 4, values...)
		assert.Equal(t, one, many, typ)
		by, bars := one.Bars()
		assert.Equal(t, ByClass, by, typ)
		assert.LessOrEqual(t, len(bars), mostClasses, typ)
		assert.Greater(t, len(bars), mostClasses*3/4, typ)
		sum := int64(0)
		for _, b := range bars {
			sum += b.Count
		}
		assert.EqualValues(t, len(values), sum, typ)
		assert.NotZero(t, bars[0].Count, "%s: the smallest value", typ)
		assert.NotZero(t, bars[len(bars)-1].Count, "%s: the largest value", typ)
		assert.NotEmpty(t, one.Step(), typ)
	}
}

func TestSpreadOfTexts(t *testing.T) {
	for _, parts := range []int{1, 2} {
		by, bars := spreadOf(t, "varchar(9)", parts, "up", "down", "up", "up").Bars()
		assert.Equal(t, ByValue, by)
		assert.Equal(t, []Bar{{"up", 3}, {"down", 1}}, bars)
		by, bars = spreadOf(t, "boolean", parts, "true", "false", "false").Bars()
		assert.Equal(t, ByValue, by)
		assert.Equal(t, []Bar{{"false", 2}, {"true", 1}}, bars)

		var names []string
		for i := range 20 {
			names = append(names, fmt.Sprintf("é%d", i))
		}
		s := spreadOf(t, "text", parts, names...)
		by, bars = s.Bars()
		assert.Equal(t, ByLength, by, "too many values")
		assert.Equal(t, []Bar{{"2", 10}, {"3", 10}}, bars, "in characters")
		assert.Equal(t, 3, s.Longest())
	}
	long := make([]byte, 10*mostLength)
	for i := range long {
		long[i] = 'x'
	}
	values := []string{string(long)}
	for i := range mostValues {
		values = append(values, fmt.Sprint(i))
	}
	s := spreadOf(t, "text", 1, values...)
	_, bars := s.Bars()
	assert.Equal(t, mostLength, s.Longest())
	assert.LessOrEqual(t, len(bars), mostClasses)
	assert.EqualValues(t, 1, bars[len(bars)-1].Count)
}

func TestSpreadOfNothing(t *testing.T) {
	for _, typ := range []string{"integer", "date", "text", "uuid", "double"} {
		by, bars := spreadOf(t, typ, 2).Bars()
		assert.Empty(t, by, typ)
		assert.Empty(t, bars, typ)
	}
	by, _ := spreadOf(t, "uuid", 1, "6f9619ff-8b86-d011-b42d-00cf4fc964ff").Bars()
	assert.Empty(t, by)
}
