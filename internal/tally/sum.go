package tally

import (
	"math/big"
	"math/bits"
)

// A Sum is an exact sum of integers. The zero Sum is 0.
type Sum struct {
	hi   int64 // of what fits 64 bits, in 128
	lo   uint64
	wide *big.Int // of what does not
}

// Add adds n.
func (s *Sum) Add(n int64) {
	var carry uint64
	s.lo, carry = bits.Add64(s.lo, uint64(n), 0)
	s.hi += n>>63 + int64(carry)
}

// AddBig adds n.
func (s *Sum) AddBig(n *big.Int) {
	if s.wide == nil {
		s.wide = new(big.Int)
	}
	s.wide.Add(s.wide, n)
}

// Merge adds another sum.
func (s *Sum) Merge(o *Sum) {
	var carry uint64
	s.lo, carry = bits.Add64(s.lo, o.lo, 0)
	s.hi += o.hi + int64(carry)
	if o.wide != nil {
		s.AddBig(o.wide)
	}
}

// Total is the sum.
func (s *Sum) Total() *big.Int {
	n := new(big.Int).Lsh(big.NewInt(s.hi), 64)
	n.Add(n, new(big.Int).SetUint64(s.lo))
	if s.wide != nil {
		n.Add(n, s.wide)
	}
	return n
}
