package delimited

import (
	"bytes"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
)

// All ways to find the marks of blocks find those that a plain loop does.
func TestMarks(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	all := []byte{',', ';', '\t', '|', ' ', 0x01, 0x1f, '0', 'a', 0x7f, 0x80, 0xfe, 0xff}
	for range 10_000 {
		blocks := 1 + r.IntN(3)
		data := make([]byte, blocks*blockSize)
		delimiter, quote := all[r.IntN(len(all))], all[r.IntN(len(all))]
		near := []byte{delimiter, delimiter + 1, delimiter - 1, delimiter ^ 0x80, '\n', '\n' + 1, '\n' ^ 0x80, 0, 0xff, 'x', quote}
		for i := range data {
			data[i] = near[r.IntN(len(near))]
			if r.IntN(4) == 0 {
				data[i] = byte(r.IntN(256))
			}
		}
		want := make([]masks, blocks)
		for k := range want {
			m, inside := &want[k], false
			for i, c := range data[k*blockSize:][:blockSize] {
				bit := uint64(1) << i
				if c == delimiter {
					m.delimiters |= bit
				}
				if c == '\n' {
					m.feeds |= bit
				}
				if c == quote {
					m.quotes |= bit
					inside = !inside
				}
				if inside {
					m.within |= bit
				}
			}
		}
		assert.Equal(t, want[0].delimiters|want[0].feeds, marksOf((*[blockSize]byte)(data), delimiter))
		for name, way := range ways() {
			got := make([]masks, blocks)
			way(got, data, delimiter, quote)
			assert.Equal(t, want, got, name)
		}
	}
}

// Whether all is ASCII, and whether a byte is zero, is seen wherever such a byte stands.
func TestByteRange(t *testing.T) {
	for _, n := range []int{0, 1, 7, 63, 64, 65, 128, 191, 200, 1000} {
		plain := bytes.Repeat([]byte("Withy Cut\x01\x7f\n"), n/12+1)[:n]
		see := func(ascii, zero bool) {
			gotASCII, gotZero := ByteRange(plain)
			assert.Equal(t, []bool{ascii, zero}, []bool{gotASCII, gotZero}, "%d bytes", n)
			assert.Equal(t, ascii, IsASCII(plain), "%d bytes", n)
			if whole := n &^ (blockSize - 1); whole == n {
				gotASCII, gotZero = rangeByWords(plain)
				assert.Equal(t, []bool{ascii, zero}, []bool{gotASCII, gotZero}, "%d bytes by words", n)
			}
		}
		see(true, false)
		for i := range plain {
			was := plain[i]
			for _, c := range []byte{0, 0x80, 0xff} {
				plain[i] = c
				see(c < 0x80, c == 0)
			}
			if i > 0 {
				plain[i-1], plain[i] = 0xc3, 0
				see(false, true)
				plain[i-1] = "Withy Cut\x01\x7f\n"[(i-1)%12]
			}
			plain[i] = was
		}
	}
}
