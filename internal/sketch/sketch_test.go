package sketch

import (
	"encoding/binary"
	"fmt"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
)

// The estimate lies within four standard errors, and does not depend on how values were
// shared out.
func TestEstimate(t *testing.T) {
	for _, m := range []int{256, 1024} {
		for _, n := range []int{1, 10, 300, 700, 5000, 100_000, 1_000_000} {
			all, a, b := make(Registers, m), make(Registers, m), make(Registers, m)
			numbers := make(Registers, m)
			for i := range n {
				h := Hash(fmt.Appendf(nil, "value %d", i))
				all.Add(h)
				all.Add(h)
				if i%3 == 0 {
					a.Add(h)
				} else {
					b.Add(h)
				}
				numbers.Add(HashNumber(uint64(i)))
			}
			a.Merge(b)
			assert.Equal(t, all, a)
			within := 4*1.04/math.Sqrt(float64(m))*float64(n) + 1
			assert.InDelta(t, n, all.Estimate(), within, "%d in %d registers", n, m)
			assert.InDelta(t, n, numbers.Estimate(), within, "numbers: %d in %d registers", n, m)
		}
	}
	assert.Zero(t, make(Registers, 256).Estimate())
}

// Texts of all lengths have hashes of their own, and none is 0.
func TestHash(t *testing.T) {
	seen := map[uint64]bool{}
	var b []byte
	for range 200 {
		h := Hash(b)
		assert.NotZero(t, h)
		assert.False(t, seen[h], "%d bytes", len(b))
		seen[h] = true
		b = append(b, 'a')
	}
	for n := range 9 {
		var word [8]byte
		copy(word[:], "harrowme"[:n])
		assert.Equal(t, Hash([]byte("harrowme")[:n]), HashWord(binary.LittleEndian.Uint64(word[:]), n))
	}
	assert.Equal(t, Hash([]byte("a")), Hash([]byte("a")))
	assert.NotEqual(t, Hash([]byte("ab")), Hash([]byte("ba")))
	assert.Zero(t, testing.AllocsPerRun(100, func() { Hash(b) }))
}
