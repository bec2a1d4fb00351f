package reading

import (
	"encoding/binary"
	"math/bits"
)

// Text is read eight bytes at a time: a word has the first of them in its lowest byte.

// Words of eight bytes that are all alike.
const (
	Ones  = 0x0101010101010101
	Zeros = '0' * Ones // digits
	Highs = 0x80 * Ones
)

// Word is up to eight bytes as the lowest of a word; the others are 0.
func Word(b []byte) uint64 {
	le := binary.LittleEndian
	switch n := len(b); {
	case n >= 8:
		return le.Uint64(b)
	case n >= 4:
		return uint64(le.Uint32(b)) | uint64(le.Uint32(b[n-4:]))<<(8*(n-4)&63)
	case n > 0:
		return uint64(b[0]) | uint64(b[n/2])<<(8*(n/2)&63) | uint64(b[n-1])<<(8*(n-1)&63)
	}
	return 0
}

// AllDigits reports whether a word is of eight digits.
func AllDigits(w uint64) bool {
	return ((w+0x46*Ones)|(w-Zeros))&Highs == 0
}

// EightDigits is the number that eight digits are: neighbours are joined to numbers of two, four
// and eight.
func EightDigits(w uint64) int64 {
	w -= Zeros
	w = w*10 + w>>8
	w = ((w&0x000000ff000000ff)*(100+1000000<<32) + (w>>16&0x000000ff000000ff)*(1+10000<<32)) >> 32
	return int64(w & 0xffffffff)
}

// WordNumber reads a plain number of up to eight bytes, the lowest of a word: digits, perhaps with
// a minus before them and a point among them. n is the number without its point, and after how
// many digits stand behind that.
func WordNumber(w uint64, size int) (n int64, after int, ok bool) {
	unused := uint(64 - 8*size)
	digits := size
	negative := byte(w) == '-'
	if negative {
		w >>= 8
		unused += 8
		digits--
	}
	if digits <= 0 {
		return 0, 0, false
	}
	d := w<<unused | Zeros&(1<<unused-1)
	if !AllDigits(d) {
		x := d ^ '.'*Ones
		points := (x - Ones) &^ x & Highs
		if points == 0 {
			return 0, 0, false
		}
		point := uint(bits.TrailingZeros64(points)) &^ 7
		// With the point taken out, it has to be nothing but digits, of which one is behind it.
		after = 7 - int(point/8)
		if d = d>>point>>8<<point<<8 | d&(1<<point-1)<<8 | '0'; !AllDigits(d) || after == 0 {
			return 0, 0, false
		}
	}
	if n = EightDigits(d); negative {
		n = -n
	}
	return n, after, true
}

// Prefix is the first eight bytes of a text as a number that orders as texts do; zeros stand for what
// is not there.
func Prefix(b []byte) uint64 {
	switch n := len(b); {
	case n >= 8:
		return binary.BigEndian.Uint64(b)
	case cap(b) >= 8:
		// The bytes behind b are read too, and shifted out.
		return binary.BigEndian.Uint64(b[:8]) >> (64 - 8*n) << (64 - 8*n)
	}
	var p uint64
	for i, c := range b {
		p |= uint64(c) << (56 - 8*i)
	}
	return p
}
