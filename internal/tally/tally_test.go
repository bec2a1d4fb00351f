package tally

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/reading"
	"ambertray/internal/sqltype"
)

func decimal(p, s int) sqltype.Type {
	return sqltype.Type{Kind: sqltype.Decimal, Precision: p, Scale: s}
}

func TestSumsAreExact(t *testing.T) {
	big := Tally{Type: sqltype.Type{Kind: sqltype.BigInt}}
	for range 3 {
		big.Add(&reading.Value{Int: math.MaxInt64})
	}
	big.Add(&reading.Value{Int: -5})
	big.Add(&reading.Value{Null: true})
	assert.Equal(t, "27670116110564327416", big.Sum())
	assert.Equal(t, "-5", big.Smallest())
	assert.Equal(t, "9223372036854775807", big.Largest())

	wide := Tally{Type: decimal(38, 2)}
	wide.Add(&reading.Value{Int: -250})
	wide.Add(&reading.Value{Wide: []byte("12345678901234567890123")})
	assert.Equal(t, "123456789012345678898.73", wide.Sum())
	assert.Equal(t, "-2.50", wide.Smallest())
	assert.Equal(t, "123456789012345678901.23", wide.Largest())
}

func TestMergeIsTheSameAsOne(t *testing.T) {
	for _, typ := range []sqltype.Type{decimal(30, 1), {Kind: sqltype.Text}, {Kind: sqltype.Double}, {Kind: sqltype.Date}} {
		one, a, b := Tally{Type: typ}, Tally{Type: typ}, Tally{Type: typ}
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
	a, b := Tally{Type: decimal(8, 2)}, Tally{Type: decimal(8, 2)}
	a.Add(&reading.Value{Int: 100})
	b.Add(&reading.Value{Int: 101})
	assert.Equal(t, []string{"sum: 1.00 read, 1.01 in the table", "smallest: 1.00 read, 1.01 in the table", "largest: 1.00 read, 1.01 in the table"}, a.Differs(&b))
	d, e := Tally{Type: sqltype.Type{Kind: sqltype.Date}}, Tally{Type: sqltype.Type{Kind: sqltype.Date}}
	for _, n := range []int64{1, 5, 9} {
		d.Add(&reading.Value{Int: n})
	}
	for _, n := range []int64{1, 6, 9} {
		e.Add(&reading.Value{Int: n})
	}
	assert.Equal(t, []string{"the sum of all dates and times differs"}, d.Differs(&e))
}

// values makes values of a type, as many as are wanted, with every extreme.
func values(typ sqltype.Type, n int, seed uint64) (out []reading.Value) {
	r := rand.New(rand.NewPCG(seed, 99))
	for range n {
		v := reading.Value{Null: r.IntN(9) == 0}
		switch {
		case typ.IsText():
			b := make([]byte, r.IntN(6))
			for i := range b {
				b[i] = byte(r.IntN(256))
			}
			v.Text = b
		case typ.Kind == sqltype.Double:
			v.Float = r.NormFloat64() * 1e9
		case typ.Kind == sqltype.Decimal && typ.Precision > 18 && r.IntN(3) == 0:
			v.Wide = []byte(fmt.Sprintf("%s%d%018d", []string{"", "-"}[r.IntN(2)], 1+r.Int64N(1e15), r.Int64N(1e18)))
		default:
			v.Int = []int64{0, 1, -1, math.MaxInt64, math.MinInt64, r.Int64() - r.Int64()}[r.IntN(6)]
		}
		out = append(out, v)
	}
	return
}

// What a server says of stretches of a table, put together, is what it says of
// the whole, in any order, and however the stretches are cut.
func TestStretchesPutTogether(t *testing.T) {
	for _, typ := range []sqltype.Type{{Kind: sqltype.BigInt}, decimal(12, 3), decimal(38, 2), {Kind: sqltype.Text}, {Kind: sqltype.Double}, {Kind: sqltype.Timestamp, Precision: 6}, {Kind: sqltype.Boolean}} {
		for seed := range uint64(20) {
			all := values(typ, 60, seed)
			if typ.Kind == sqltype.Boolean {
				for i := range all {
					all[i].Int &= 1
				}
			}
			read := Tally{Type: typ}
			held := Tally{Type: typ}
			for len(all) > 0 {
				n := 1 + int(seed*7)%len(all)
				stretch := Tally{Type: typ}
				for i := range all[:n] {
					read.Add(&all[i])
					stretch.Add(&all[i])
				}
				all = all[n:]
				said := said(&stretch)
				held.Merge(&said)
			}
			require.Empty(t, read.Differs(&held), "%s, seed %d", typ, seed)
			require.Equal(t, read.Smallest(), held.Smallest())
			require.Equal(t, read.Largest(), held.Largest())
			require.Equal(t, read.Sum(), held.Sum())
		}
	}
}

// said is a column as Set makes it of what a server says.
func said(c *Tally) Tally {
	out := Tally{Type: c.Type}
	switch {
	case c.Type.IsText():
		out.SetText(c.Rows, c.Nulls, c.Octets, []byte(c.Smallest()), []byte(c.Largest()))
	case c.Type.Kind == sqltype.Double:
		out.SetFloat(c.Rows, c.Nulls, c.minFlt, c.maxFlt)
	case c.Rows == c.Nulls:
		out.Set(c.Rows, c.Nulls, nil, nil, nil)
	default:
		out.Set(c.Rows, c.Nulls, c.Total(), c.smallest(), c.largest())
	}
	return out
}

// Every single change of a value is seen, in the number of rows, the nulls, the
// sum or the bounds; of texts only where its length or a bound changes.
func TestEveryChangeOfANumberIsSeen(t *testing.T) {
	typ := decimal(38, 2)
	all := values(typ, 40, 5)
	was := Tally{Type: typ}
	for i := range all {
		was.Add(&all[i])
	}
	for i := range all {
		is := Tally{Type: typ}
		for k, v := range all {
			if k == i {
				switch {
				case v.Null:
					v.Null = false
				case v.Wide != nil:
					v.Wide = append(slices.Clone(v.Wide), '0')
				case v.Int == math.MaxInt64:
					v.Int--
				default:
					v.Int++
				}
			}
			is.Add(&v)
		}
		assert.NotEmpty(t, was.Differs(&is), "value %d", i)
		assert.NotEmpty(t, was.Changes(&is), "value %d", i)
	}
}
