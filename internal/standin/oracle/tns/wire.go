package tns

import (
	"encoding/binary"
)

// What calls and answers are made of. Integers are a length and as many bytes; bytes are a
// length and the bytes, or in pieces where there are more than 252.

// A short read is a panic of this, which the loop over calls returns.
type lost struct{ err error }

// need has so many bytes of the call at hand.
func (l *line) need(n int) {
	for len(l.in) < n {
		if err := l.more(); err != nil {
			panic(lost{err})
		}
	}
}

func (l *line) take(n int) []byte {
	l.need(n)
	b := l.in[:n:n]
	l.in = l.in[n:]
	return b
}

func (l *line) byte() byte { return l.take(1)[0] }

func (l *line) skip(n int) { l.take(n) }

// int reads an integer.
func (l *line) int() int64 {
	n := int(l.byte())
	negative := n&0x80 != 0
	if n &= 0x7f; n > 8 {
		panic(wrong("an integer of more than eight bytes"))
	}
	v := int64(0)
	for _, b := range l.take(n) {
		v = v<<8 | int64(b)
	}
	if negative {
		return -v
	}
	return v
}

func (l *line) ints(n int) {
	for range n {
		l.int()
	}
}

const (
	inPieces  = 0xfe
	nullBytes = 0xff
)

// bytes reads bytes with their length; nil: null.
func (l *line) bytes() []byte {
	n := l.byte()
	switch n {
	case 0, nullBytes:
		return nil
	case inPieces:
		var b []byte
		for {
			k := int(l.int())
			if k == 0 {
				return b
			}
			if k < 0 || k > 1<<26 || len(b) > 1<<28 {
				panic(wrong("a piece of a wrong length"))
			}
			b = append(b, l.take(k)...)
		}
	}
	return l.take(int(n))
}

// long reads bytes whose length comes twice.
func (l *line) long() []byte {
	if l.int() == 0 {
		return nil
	}
	return l.bytes()
}

// wrong is what a client has sent that is not of the protocol.
type wrong string

func (w wrong) Error() string { return "protocol: " + string(w) }

func (l *line) putByte(b ...byte) { l.out = append(l.out, b...) }

// putInt writes an integer.
func (l *line) putInt(v int64) {
	negative := byte(0)
	if v < 0 {
		negative, v = 0x80, -v
	}
	var b [8]byte
	binary.BigEndian.PutUint64(b[:], uint64(v))
	i := 0
	for i < 8 && b[i] == 0 {
		i++
	}
	l.putByte(byte(8-i) | negative)
	l.putByte(b[i:]...)
}

// piece is how many bytes a piece has.
const piece = 32767

// putBytes writes bytes with their length.
func (l *line) putBytes(b []byte) {
	if len(b) <= 252 {
		l.putByte(byte(len(b)))
		l.putByte(b...)
		return
	}
	l.putByte(inPieces)
	for len(b) > 0 {
		n := min(piece, len(b))
		l.putInt(int64(n))
		l.putByte(b[:n]...)
		b = b[n:]
	}
	l.putByte(0)
}

// putLong writes bytes whose length comes twice.
func (l *line) putLong(b []byte) {
	l.putInt(int64(len(b)))
	if len(b) > 0 {
		l.putBytes(b)
	}
}

// putPair writes a name, its value and a number.
func (l *line) putPair(key, value string, n int64) {
	l.putLong([]byte(key))
	l.putLong([]byte(value))
	l.putInt(n)
}
