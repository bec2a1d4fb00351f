package delimited

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
)

// All ways to find the marks of a block find those that a plain loop does.
func TestMarks(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	delimiters := []byte{',', ';', '\t', '|', ' ', 0x01, 0x1f, '0', 'a', 0x7f, 0x80, 0xfe, 0xff}
	for range 20_000 {
		var b [blockSize]byte
		delimiter := delimiters[r.IntN(len(delimiters))]
		near := []byte{delimiter, delimiter + 1, delimiter - 1, delimiter ^ 0x80, '\n', '\n' + 1, '\n' ^ 0x80, 0, 0xff, 'x'}
		for i := range b {
			b[i] = near[r.IntN(len(near))]
			if r.IntN(4) == 0 {
				b[i] = byte(r.IntN(256))
			}
		}
		var want uint64
		for i, c := range b {
			if c == delimiter || c == '\n' {
				want |= 1 << i
			}
		}
		assert.Equal(t, want, marksOf(&b, delimiter))
		for name, way := range ways() {
			var m [1]masks
			way(m[:], b[:], delimiter, delimiter)
			assert.Equal(t, want, m[0].delimiters|m[0].feeds, name)
			assert.Equal(t, m[0].delimiters, m[0].quotes, name)
		}
	}
}
