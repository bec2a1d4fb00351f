// Package sketch estimates how many different values there are, in little memory.
package sketch

import (
	"encoding/binary"
	"math"
	"math/bits"
)

// Registers estimate how many different values there are, from their hashes, in a number
// of registers that is a power of two (P. Flajolet et al., HyperLogLog, 2007). The standard
// error is 1.04 by the root of that number.
type Registers []uint8

// Add takes a hash.
func (s Registers) Add(h uint64) {
	last := uint64(len(s) - 1)
	i := h & last
	if r := uint8(bits.LeadingZeros64(h|last)) + 1; r > s[i] {
		s[i] = r
	}
}

// AddAll takes hashes. Where the registers are far away, it waits for several of them at a time.
func (s Registers) AddAll(hashes []uint64) {
	last := uint64(len(s) - 1)
	for _, h := range hashes {
		i := h & last
		s[i] = max(s[i], uint8(bits.LeadingZeros64(h|last))+1)
	}
}

// Merge takes what another of the same size has.
func (s Registers) Merge(o Registers) {
	for i, r := range o {
		s[i] = max(s[i], r)
	}
}

// Estimate is how many different hashes there were.
func (s Registers) Estimate() int64 {
	sum, zero := 0.0, 0
	for _, r := range s {
		sum += math.Ldexp(1, -int(r))
		if r == 0 {
			zero++
		}
	}
	m := float64(len(s))
	est := 0.7213 / (1 + 1.079/m) * m * m / sum
	if est < 2.5*m && zero > 0 {
		est = m * math.Log(m/float64(zero))
	}
	return int64(est + 0.5)
}

// Hash is a fast 64-bit hash, never 0. It multiplies and folds, as several published
// hashes do; it need not resist an enemy, for equal hashes of different values only make
// us count, or offer as a key, one less.
func Hash(b []byte) uint64 {
	const k0, k1, k2 = 0x9e3779b97f4a7c15, 0xd6e8feb86659fd93, 0xa0761d6478bd642f
	h := uint64(len(b)) * k0
	for len(b) > 16 {
		hi, lo := bits.Mul64(binary.LittleEndian.Uint64(b)^k1^h, binary.LittleEndian.Uint64(b[8:])^k2)
		h = hi ^ lo
		b = b[16:]
	}
	var x, y uint64
	switch n := len(b); {
	case n > 8:
		x, y = binary.LittleEndian.Uint64(b), binary.LittleEndian.Uint64(b[n-8:])
	case n >= 4:
		x = uint64(binary.LittleEndian.Uint32(b)) | uint64(binary.LittleEndian.Uint32(b[n-4:]))<<(8*(n-4)&63)
	case n > 0:
		x = uint64(b[0]) | uint64(b[n/2])<<(8*(n/2)&63) | uint64(b[n-1])<<(8*(n-1)&63)
	}
	return finish(x, y, h)
}

// HashWord is Hash of the n lowest bytes of a word, at most eight, whose others are 0.
func HashWord(x uint64, n int) uint64 { return finish(x, 0, uint64(n)*0x9e3779b97f4a7c15) }

// HashNumber is Hash of a number.
func HashNumber(x uint64) uint64 { return finish(x, 0, 8) }

func finish(x, y, h uint64) uint64 {
	const k0, k1, k2 = 0x9e3779b97f4a7c15, 0xd6e8feb86659fd93, 0xa0761d6478bd642f
	hi, lo := bits.Mul64(x^k1^h, y^k2)
	hi, lo = bits.Mul64(hi^k0, lo^k1)
	if h = hi ^ lo; h == 0 {
		return 1
	}
	return h
}
