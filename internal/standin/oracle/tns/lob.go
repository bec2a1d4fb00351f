package tns

import (
	"encoding/binary"

	"ambertray/internal/standin/oracle/engine"
)

// A locator names a large object of the connection: 40 bytes, of which eight are its number.
const locatorSize = 40

// locate makes an object of text, and names it.
func (k *conn) locate(s string) []byte {
	k.lastLob++
	k.lobs[k.lastLob] = s
	loc := make([]byte, locatorSize)
	loc[1] = locatorSize - 2
	loc[7] = 1 // a temporary one
	binary.BigEndian.PutUint64(loc[10:], k.lastLob)
	return loc
}

func (k *conn) lob(loc []byte) (string, bool) {
	if len(loc) < 18 {
		return "", false
	}
	s, is := k.lobs[binary.BigEndian.Uint64(loc[10:])]
	return s, is
}

// The operations on large objects.
const (
	lobLength   = 0x0001
	lobRead     = 0x0002
	lobTrim     = 0x0020
	lobWrite    = 0x0040
	lobChunk    = 0x4000
	lobCreate   = 0x0110
	lobFree     = 0x0111
	lobFreeMany = 0x80111
	lobOpen     = 0x8000
	lobClose    = 0x10000
)

// A lobCall is what a client asks of one.
type lobCall struct {
	op, from, amount int64
	sized, makes     bool
	charset          bool
	locator          []byte
}

// readLob reads a call.
func (k *conn) readLob() lobCall {
	l := k.line
	var c lobCall
	l.byte()
	size := l.int()
	l.byte()
	l.ints(1) // length of a second one
	l.ints(2) // offsets of an older form
	c.charset = l.byte() != 0
	l.byte()
	c.makes = l.byte() != 0
	c.op = l.int()
	scn := l.byte() != 0
	scns := l.int()
	c.from = l.int()
	l.int()
	c.sized = l.byte() != 0
	l.skip(6)
	if size > 0 && size < 1<<20 {
		c.locator = append([]byte{}, l.take(int(size))...)
	}
	if c.charset {
		l.int()
	}
	if scn {
		l.ints(int(min(scns, 16)))
	}
	return c
}

// callLob answers one.
func (k *conn) callLob() {
	l := k.line
	c := k.readLob()
	var data []byte
	if c.op == lobWrite {
		if l.byte() != sayLob {
			panic(wrong("a large object without its data"))
		}
		data = l.bytes()
	}
	if c.sized {
		c.amount = l.int()
	}
	text, known := k.lob(c.locator)
	runes := []rune(text)
	from := int(max(c.from-1, 0))
	switch c.op {
	case lobCreate:
		c.locator = append(k.locate(""), make([]byte, max(0, len(c.locator)-locatorSize))...)
	case lobWrite:
		if !known || from > len(runes) {
			k.end(&engine.Error{Number: 22275, Text: "invalid LOB locator specified"}, 0, 0)
			return
		}
		k.lobs[binary.BigEndian.Uint64(c.locator[10:])] = string(runes[:from]) + string(data)
	case lobRead:
		n := len(runes) - min(from, len(runes))
		if c.amount > 0 {
			n = min(n, int(c.amount))
		}
		if n > 0 {
			l.putByte(sayLob)
			l.putBytes([]byte(string(runes[from : from+n])))
		}
		c.amount = int64(n)
	case lobLength:
		c.amount = int64(len(runes))
	case lobChunk:
		c.amount = 8132
	case lobFree:
		if known {
			delete(k.lobs, binary.BigEndian.Uint64(c.locator[10:]))
		}
	case lobTrim, lobOpen, lobClose:
	default:
		k.end(&engine.Error{Number: 3115, Text: "unsupported network datatype or representation"}, 0, 0)
		return
	}
	l.putByte(sayReturn)
	l.putByte(c.locator...)
	if c.charset {
		l.putInt(charset)
	}
	if c.sized {
		l.putInt(c.amount)
	}
	if c.makes {
		l.putInt(0)
	}
	k.end(nil, 0, 0)
}

// freeLobs reads the piggyback that gives several back.
func (k *conn) freeLobs() {
	c := k.readLob()
	if c.op != lobFreeMany && c.op != lobFree {
		panic(wrong("an operation on large objects that is not known here"))
	}
	for b := c.locator; len(b) >= locatorSize; b = b[locatorSize:] {
		delete(k.lobs, binary.BigEndian.Uint64(b[10:]))
	}
}
