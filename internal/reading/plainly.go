package reading

import (
	"math"
	"strings"

	"ambertray/internal/sqltype"
)

// Plainly says which fields of a column can be read in a shorter way than by Read, which
// comes to the same.
type Plainly uint8

// The ways.
const (
	NotPlainly   Plainly = iota
	PlainWhole           // plain numbers of up to eight bytes, by ReadWord
	PlainDecimal         // the same, with a point perhaps
	PlainText            // texts that are Plain are what they are
	PlainDate            // fields that are the same are the same value
)

// Plainly is the way of the reader's column.
func (r *Reader) Plainly() Plainly {
	k := &r.Keeps
	if k.Codes || k.Digits > 0 || k.Decimals > 0 || len(k.Labels) > 0 || k.Lacks != nil {
		return NotPlainly
	}
	for _, w := range r.NullWords {
		if r.Type.IsText() || strings.ContainsAny(w, "0123456789") {
			return NotPlainly
		}
	}
	switch t := r.Type; {
	case t.IsInteger() && !r.Number.Percent:
		return PlainWhole
	case t.Kind == sqltype.Decimal && r.simple && t.Scale <= 10:
		return PlainDecimal
	case t.IsText():
		return PlainText
	case t.IsTemporal():
		return PlainDate
	}
	return NotPlainly
}

// ReadWord reads a field of up to eight bytes, the lowest of a word, if that is a plain number of
// the column's; else Read has to.
func (r *Reader) ReadWord(w uint64, size int, v *Value) bool {
	n, after, ok := WordNumber(w, size)
	if !ok {
		return false
	}
	if r.Type.Kind != sqltype.Decimal {
		if after > 0 || n < r.least || n > r.greatest {
			return false
		}
	} else {
		t := &r.Type
		if after > t.Scale {
			return false
		}
		if n *= pow10[t.Scale-after]; t.Precision < 18 && (n >= pow10[t.Precision] || -n >= pow10[t.Precision]) {
			return false
		}
	}
	v.Null, v.Wide, v.Int = false, nil, n
	return true
}

// Plain reports whether a text is what it is in the reader's column for certain: it is not too
// long, has something in it, and no space and nothing but ASCII at its ends.
func (r *Reader) Plain(f []byte) bool {
	n := len(f)
	return n > 0 && n <= r.most && f[0]-'!' < 0x5f && f[n-1]-'!' < 0x5f
}

// mostBytes is how many bytes a text may have and be short enough for certain.
func (r *Reader) mostBytes() int {
	if k := r.Type.Kind; k != sqltype.Char && k != sqltype.VarChar {
		return math.MaxInt
	}
	if r.Keeps.Bytes > 0 {
		return min(r.Type.Length, r.Keeps.Bytes)
	}
	return r.Type.Length
}
