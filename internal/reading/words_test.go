package reading

import (
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/sqltype"
)

// What is read eight bytes at a time is what the way byte by byte reads.
func TestWordNumber(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 8))
	whole := &Reader{Type: sqltype.Type{Kind: sqltype.BigInt}}
	decimal := &Reader{Type: sqltype.Type{Kind: sqltype.Decimal, Precision: 18, Scale: 7}}
	require.NoError(t, whole.Prepare())
	require.NoError(t, decimal.Prepare())
	const signs = "0123456789.-+ ,e\x00\xb0"
	read := 0
	for range 200_000 {
		var word [8]byte
		n := 1 + r.IntN(8)
		for i := range word { // what lies behind is of other fields
			word[i] = signs[r.IntN(min(len(signs), 8+r.IntN(len(signs))))]
		}
		text := string(word[:n])
		got, after, ok := WordNumber(binary.LittleEndian.Uint64(word[:]), n)
		want, is := smallInt(word[:n])
		if ok && after == 0 {
			require.True(t, is, "%q", text)
			require.Equal(t, want, got, "%q", text)
			read++
			continue
		}
		require.False(t, is, "%q", text)
		var v Value
		plain := decimal.plainDecimal(word[:n], &v)
		require.Equal(t, plain, ok, "%q", text)
		if ok {
			require.Equal(t, v.Int, got*pow10[7-after], "%q", text)
			read++
		}
	}
	assert.Greater(t, read, 10_000)
}

// A shape reads what its pattern reads part by part, and nothing else.
func TestShapes(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 2))
	for _, s := range []string{"dd/MM/yyyy", "yyyy-MM-dd", "yyyyMMdd", "yyyy-MM-dd HH:mm:ss", "yyyy-MM-dd'T'HH:mm", "dd.MM.yy",
		"HH:mm:ss", "yyyyMMddHHmmss", "'on 'dd MM yyyy' at 'HH:mm"} {
		shaped := MustPattern(s)
		require.NotNil(t, shaped.shape, s)
		plain := *shaped
		plain.shape = nil
		good := 0
		for range 20_000 {
			var b []byte
			for _, p := range shaped.Parts() {
				switch {
				case p.Letter == 0:
					b = append(b, p.Literal)
				case p.Count == 4:
					b = fmt.Appendf(b, "%04d", r.IntN(2100))
				default:
					b = fmt.Appendf(b, "%02d", r.IntN(33))
				}
			}
			if r.IntN(4) == 0 {
				b[r.IntN(len(b))] = "0/:.-T a\x00\xff"[r.IntN(10)]
			}
			if r.IntN(50) == 0 {
				b = b[:r.IntN(len(b))]
			}
			var got, want Civil
			m := shaped.Parse(b, &got)
			require.Equal(t, plain.Parse(b, &want), m, "%s: %q", s, b)
			if m == OK {
				require.Equal(t, want, got, "%s: %q", s, b)
				good++
			}
		}
		assert.Greater(t, good, 500, s)
	}
	for _, s := range []string{"d/M/yyyy", "yyyy-MM-dd HH:mm:ss.SSS", "dd MMM yyyy", "hh:mm:ss a", "HH:mm", "yyyy-MM-dd HH:mm:ssX",
		"'a long text before the day 'dd/MM/yyyy"} {
		assert.Nil(t, MustPattern(s).shape, s)
	}
}
