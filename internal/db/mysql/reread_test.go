package mysql

import (
	"math"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"ambertray/internal/reading"
	"ambertray/internal/sqltype"
)

// What was written for a value reads as it, and with any other character in
// place of one does not.
func TestReread(t *testing.T) {
	decimal := func(precision, scale int) sqltype.Type {
		return sqltype.Type{Kind: sqltype.Decimal, Precision: precision, Scale: scale}
	}
	for _, c := range []struct {
		t      sqltype.Type
		values []int64
	}{
		{sqltype.Type{Kind: sqltype.SmallInt}, []int64{0, 1, -1, math.MinInt16, math.MaxInt16}},
		{sqltype.Type{Kind: sqltype.Integer}, []int64{7, -1903, math.MinInt32, math.MaxInt32}},
		{sqltype.Type{Kind: sqltype.BigInt}, []int64{math.MinInt64, math.MaxInt64, 1e18}},
		{decimal(8, 2), []int64{0, 1, -1, 99, 100, -100, 1247856, 99999999}},
		{decimal(6, 0), []int64{0, -12, 999999}},
		{decimal(18, 18), []int64{0, 1, -1, 999999999999999999}},
		{decimal(18, 1), []int64{-999999999999999999, 10}},
		{sqltype.Type{Kind: sqltype.Date}, []int64{0, -1, 59, 60, 19723, reading.Days(1, 1, 1), reading.Days(9999, 12, 31), reading.Days(2000, 2, 29)}},
	} {
		assert.True(t, rereads(c.t))
		for _, n := range c.values {
			v := reading.Value{Int: n}
			text := v.Append(nil, c.t)
			assert.True(t, reread(text, &v, c.t), "%s as %s", text, c.t)
			for i := range text {
				for _, other := range []byte("0123456789-. x") {
					if changed := slices.Clone(text); changed[i] != other {
						changed[i] = other
						assert.False(t, reread(changed, &v, c.t), "%s instead of %s", changed, text)
					}
				}
				assert.False(t, reread(text[:i], &v, c.t), "%s, cut", text[:i])
			}
			assert.False(t, reread(append(text, '9'), &v, c.t), "%s9", text)
		}
	}
	wide := reading.Value{Wide: []byte("5")}
	assert.False(t, reread([]byte("5"), &wide, decimal(18, 0)))
	assert.False(t, reread([]byte("18446744073709551617"), &reading.Value{Int: 1}, sqltype.Type{Kind: sqltype.BigInt}), "2^64 + 1")
	for _, is := range []sqltype.Type{decimal(19, 0), {Kind: sqltype.Timestamp}, {Kind: sqltype.Double}, {Kind: sqltype.Text}} {
		assert.False(t, rereads(is), "the server adds these up: %s", is)
	}
}

// A row that was written wrong is not believed, whatever its checksum.
func TestWrittenWrong(t *testing.T) {
	types := []sqltype.Type{{Kind: sqltype.Date}, {Kind: sqltype.VarChar, Length: 9}}
	for days, spoilt := range map[int64]bool{0: false, reading.Days(12345, 1, 1): true} {
		s := &summing{half: 1}
		e := &encoder{types: types, sums: s, reread: []bool{true, false}}
		e.Append(nil, []reading.Value{{Int: days}, {Text: []byte("up")}})
		assert.Equal(t, spoilt, s.spoilt.Load(), "a year of five digits is not written as such")
	}
}
