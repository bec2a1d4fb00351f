package tally

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"

	"ambertray/internal/reading"
	"ambertray/internal/sqltype"
)

func decimal(p, s int) sqltype.Type {
	return sqltype.Type{Kind: sqltype.Decimal, Precision: p, Scale: s}
}

func TestSumsAreExact(t *testing.T) {
	big := Column{Type: sqltype.Type{Kind: sqltype.BigInt}}
	for range 3 {
		big.Add(&reading.Value{Int: math.MaxInt64})
	}
	big.Add(&reading.Value{Int: -5})
	big.Add(&reading.Value{Null: true})
	assert.Equal(t, "27670116110564327416", big.Sum())
	assert.Equal(t, "-5", big.Smallest())
	assert.Equal(t, "9223372036854775807", big.Largest())

	wide := Column{Type: decimal(38, 2)}
	wide.Add(&reading.Value{Int: -250})
	wide.Add(&reading.Value{Wide: []byte("12345678901234567890123")})
	assert.Equal(t, "123456789012345678898.73", wide.Sum())
	assert.Equal(t, "-2.50", wide.Smallest())
	assert.Equal(t, "123456789012345678901.23", wide.Largest())
}

func TestMergeIsTheSameAsOne(t *testing.T) {
	for _, typ := range []sqltype.Type{decimal(30, 1), {Kind: sqltype.Text}, {Kind: sqltype.Double}, {Kind: sqltype.Date}} {
		one, a, b := Column{Type: typ}, Column{Type: typ}, Column{Type: typ}
		for i := range 20 {
			v := reading.Value{Int: int64(i*37%11 - 5), Float: float64(i*37%11) - 5, Text: []byte{'a' + byte(i*7%13)}, Null: i%6 == 5}
			if typ.Kind == sqltype.Decimal && i == 9 {
				v.Wide = []byte("-99999999999999999999")
			}
			one.Add(&v)
			if i%3 == 0 {
				a.Add(&v)
			} else {
				b.Add(&v)
			}
		}
		a.Merge(&b)
		assert.Empty(t, one.Differs(&a), typ)
	}
}

func TestDiffers(t *testing.T) {
	a, b := Column{Type: decimal(8, 2)}, Column{Type: decimal(8, 2)}
	a.Add(&reading.Value{Int: 100})
	b.Add(&reading.Value{Int: 101})
	assert.Equal(t, []string{"sum: 1.00 read, 1.01 in the table", "smallest: 1.00 read, 1.01 in the table", "largest: 1.00 read, 1.01 in the table"}, a.Differs(&b))
	d, e := Column{Type: sqltype.Type{Kind: sqltype.Date}}, Column{Type: sqltype.Type{Kind: sqltype.Date}}
	for _, n := range []int64{1, 5, 9} {
		d.Add(&reading.Value{Int: n})
	}
	for _, n := range []int64{1, 6, 9} {
		e.Add(&reading.Value{Int: n})
	}
	assert.Equal(t, []string{"the sum of all dates and times differs"}, d.Differs(&e))
}
