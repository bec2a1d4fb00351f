package mysql

import (
	"ambertray/internal/db"
	"ambertray/internal/reading"
	"ambertray/internal/sqltype"
)

// rereads tells of which types every value is read again after it was written.
func rereads(t sqltype.Type) bool {
	return t.Kind == sqltype.Boolean || t.IsInteger() || t.Kind == sqltype.Date ||
		t.Kind == sqltype.Decimal && t.Precision <= 18
}

// summed tells of which types the server adds up the values instead.
func summed(t sqltype.Type) bool { return db.HasTotal(t) && !rereads(t) }

// reread reports whether a text that was written for a value is that value. It
// shares nothing with what writes.
func reread(text []byte, v *reading.Value, t sqltype.Type) bool {
	if t.Kind == sqltype.Date {
		return len(text) == 10 && text[4] == '-' && text[7] == '-' && v.Int ==
			reading.Days(100*pair2(text)+pair2(text[2:]), pair2(text[5:]), pair2(text[8:]))
	}
	minus := len(text) > 0 && text[0] == '-'
	if minus {
		text = text[1:]
	}
	point := len(text) // where it stands
	if t.Kind == sqltype.Decimal && t.Scale > 0 {
		if point -= t.Scale + 1; point < 1 || text[point] != '.' {
			return false
		}
	}
	if len(text) == 0 || len(text) > 20 || point > 19 {
		return false // more than fit n
	}
	var n uint64
	for i, c := range text {
		switch {
		case c-'0' <= 9:
			n = 10*n + uint64(c-'0')
		case i != point:
			return false
		}
	}
	if minus {
		n = -n
	}
	return v.Wide == nil && int64(n) == v.Int
}

// pair2 is the number that two digits make, or one that is none of a date.
func pair2(b []byte) int {
	x, y := b[0]-'0', b[1]-'0'
	if x > 9 || y > 9 {
		return -1 << 20
	}
	return 10*int(x) + int(y)
}
