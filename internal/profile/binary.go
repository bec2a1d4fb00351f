package profile

import (
	"bytes"
	"strconv"
	"unsafe"
)

// floats counts numbers of so many digits that they tell where they come from: from
// binary fractions (IEEE 754, binary64), of which seventeen digits are the most that
// mean something, or from elsewhere.
type floats struct {
	binary int64 // of seventeen digits, and just what a binary fraction is written as
	noise  int64 // of these and those of sixteen digits, with a run of zeros or nines
	other  int64 // of seventeen digits or more that no binary fraction is written as
	first  examples
	buf    []byte
}

const runOfNoise = 7

// see looks at a plain number with a point.
func (f *floats) see(b []byte, line spot, times int64) {
	digits := f.buf[:0]
	for _, c := range b {
		if c >= '0' && c <= '9' && (c != '0' || len(digits) > 0) {
			digits = append(digits, c)
		}
	}
	if len(digits) >= 16 {
		f.count(b, digits, line, times)
	}
	f.buf = digits[:0]
}

func (f *floats) count(b, digits []byte, line spot, times int64) {
	n := len(digits)
	// The text is only read, and not kept.
	v, err := strconv.ParseFloat(unsafe.String(&b[0], len(b)), 64)
	ours := false
	var form [32]byte
	for _, precision := range []int{-1, 16} {
		s := strconv.AppendFloat(form[:0], v, 'e', precision, 64)
		s = s[:bytes.IndexByte(s, 'e')]
		ours = ours || err == nil && n <= 17 && sameDigits(s, digits)
	}
	switch {
	case !ours && n >= 17:
		f.other += times
	case ours && n == 17:
		f.binary += times
		f.first.add(line, b, times)
	}
	if ours && hasRun(digits) {
		f.noise += times
	}
}

// sameDigits compares digits, of which the first may have a sign and a point; zeros at
// the end do not count.
func sameDigits(a, b []byte) bool {
	b = bytes.TrimRight(b, "0")
	k := 0
	for _, c := range a {
		if c < '0' || c > '9' {
			continue
		}
		if k == len(b) {
			if c != '0' {
				return false
			}
			continue
		}
		if c != b[k] {
			return false
		}
		k++
	}
	return k == len(b)
}

// hasRun reports whether zeros or nines follow each other, as where a decimal fraction
// is none in binary.
func hasRun(digits []byte) bool {
	run := 0
	for i, c := range digits {
		if i > 0 && c == digits[i-1] && (c == '0' || c == '9') {
			run++
		} else {
			run = 1
		}
		if run >= runOfNoise && (c == '0' || c == '9') {
			return true
		}
	}
	return false
}

func (f *floats) merge(o *floats) {
	f.binary += o.binary
	f.noise += o.noise
	f.other += o.other
	f.first.merge(o.first)
}

// isBinary reports whether the numbers were computed as binary fractions.
func (f *floats) isBinary() bool {
	return f.other == 0 && f.binary > 0 && (f.noise > 0 || f.binary >= 3)
}
