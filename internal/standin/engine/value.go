package engine

import (
	"cmp"
	"encoding/hex"
	"math"
	"math/big"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf16"

	"golang.org/x/text/unicode/norm"
)

// A Value is of a [Type], which has to be known to read it. N is an integer, an exact
// number without its point, the bits of a float, days since 0001-01-01, or units of 100
// ns since midnight or since 0001-01-01 00:00; S is text in UTF-8, bytes, or an exact
// number that N cannot hold, in decimal.
type Value struct {
	S    string
	N    int64
	Off  int16 // minutes from UTC, of datetimeoffset
	Null bool
}

// null is NULL.
var null = Value{Null: true}

// ticksADay is a day in units of 100 ns.
const ticksADay = 864_000_000_000

// Number is an exact number without its point.
func (v Value) Number() *big.Int {
	if v.S == "" {
		return big.NewInt(v.N)
	}
	n, _ := new(big.Int).SetString(v.S, 10)
	return n
}

// FromNumber is the value of an exact number without its point.
func FromNumber(n *big.Int) Value {
	if n.IsInt64() {
		return Value{N: n.Int64()}
	}
	return Value{S: n.String()}
}

// Float is the value of a float.
func (v Value) Float() float64 { return math.Float64frombits(uint64(v.N)) }

// FromFloat makes one.
func FromFloat(f float64) Value {
	if f == 0 {
		f = 0 // no negative zero
	}
	return Value{N: int64(math.Float64bits(f))}
}

func pow10(n int) *big.Int { return new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(n)), nil) }

// rescaled moves the point of an exact number, rounding half away from zero.
func rescaled(n *big.Int, from, to int) *big.Int {
	switch {
	case to > from:
		return new(big.Int).Mul(n, pow10(to-from))
	case to < from:
		p := pow10(from - to)
		q, r := new(big.Int).QuoRem(n, p, new(big.Int))
		if new(big.Int).Abs(r).Lsh(new(big.Int).Abs(r), 1).Cmp(p) >= 0 {
			q.Add(q, big.NewInt(int64(n.Sign())))
		}
		return q
	}
	return n
}

// Exact writes an exact number with its point.
func Exact(v Value, digits int) string {
	s := v.S
	if s == "" {
		s = strconv.FormatInt(v.N, 10)
	}
	if digits == 0 {
		return s
	}
	neg := strings.HasPrefix(s, "-")
	s = strings.TrimPrefix(s, "-")
	if len(s) <= digits {
		s = strings.Repeat("0", digits-len(s)+1) + s
	}
	s = s[:len(s)-digits] + "." + s[len(s)-digits:]
	if neg {
		return "-" + s
	}
	return s
}

// Units is the length of text in UTF-16.
func Units(s string) int {
	n := 0
	for _, r := range s {
		n += max(utf16.RuneLen(r), 1)
	}
	return n
}

// key is what text is compared by: blanks at the end do not count, nor, as the collation
// says, case and accents.
func (c *Collation) key(s string) string { return c.fold(strings.TrimRight(s, " ")) }

// fold takes away what the collation does not heed.
func (c *Collation) fold(s string) string {
	if c == nil || c.Binary {
		return s
	}
	if c.IgnoreAccent {
		s = strings.Map(func(r rune) rune {
			if unicode.Is(unicode.Mn, r) {
				return -1
			}
			return r
		}, norm.NFD.String(s))
	}
	if c.IgnoreCase {
		s = strings.ToUpper(strings.ToLower(s))
	}
	return s
}

// compare orders two texts.
func (c *Collation) compare(a, b string) int {
	if c == nil || c.Binary {
		return comparePadded(a, b)
	}
	if x := cmp.Compare(c.key(a), c.key(b)); x != 0 {
		// Letters stand together whatever their case: by folded text first.
		fa, fb := strings.ToUpper(strings.TrimRight(a, " ")), strings.ToUpper(strings.TrimRight(b, " "))
		return cmp.Or(cmp.Compare(fa, fb), x)
	}
	return 0
}

// comparePadded compares as if the shorter had blanks behind it.
func comparePadded(a, b string) int {
	n := min(len(a), len(b))
	if x := cmp.Compare(a[:n], b[:n]); x != 0 {
		return x
	}
	for _, c := range []byte(a[n:]) {
		if c != ' ' {
			return cmp.Compare(c, ' ')
		}
	}
	for _, c := range []byte(b[n:]) {
		if c != ' ' {
			return cmp.Compare(' ', c)
		}
	}
	return 0
}

// compare orders two values of one type, neither null.
func compare(t Type, a, b Value) int {
	switch {
	case t.IsText():
		return t.Coll.compare(a.S, b.S)
	case t.IsBytes():
		return cmp.Compare(strings.TrimRight(a.S, "\x00"), strings.TrimRight(b.S, "\x00"))
	case t.Kind == UniqueIdentifier:
		return cmp.Compare(guidOrder(a.S), guidOrder(b.S))
	case t.IsFloat():
		return cmp.Compare(a.Float(), b.Float())
	case a.S != "" || b.S != "":
		return a.Number().Cmp(b.Number())
	}
	return cmp.Compare(a.N, b.N)
}

// guidOrder puts the bytes of a uniqueidentifier in the order in which they count: the
// last six first.
func guidOrder(s string) string {
	if len(s) != 16 {
		return s
	}
	return s[10:16] + s[8:10] + s[7:8] + s[6:7] + s[5:6] + s[4:5] + s[3:4] + s[2:3] + s[1:2] + s[0:1]
}

// appendKey adds to a key of an index what tells a value from others.
func appendKey(b []byte, t Type, v Value) []byte {
	switch {
	case v.Null:
		return append(b, 0)
	case t.IsText():
		k := t.Coll.key(v.S)
		b = append(b, 2)
		b = strconv.AppendInt(b, int64(len(k)), 36)
		b = append(b, ':')
		return append(b, k...)
	case v.S != "":
		b = append(b, 3)
		b = strconv.AppendInt(b, int64(len(v.S)), 36)
		b = append(b, ':')
		return append(b, v.S...)
	}
	n := uint64(v.N)
	return append(b, 1, byte(n), byte(n>>8), byte(n>>16), byte(n>>24), byte(n>>32), byte(n>>40), byte(n>>48),
		byte(n>>56))
}

// GUID is a uniqueidentifier as text. Its first three parts lie in reverse on the wire.
func GUID(s string) string {
	b := []byte(s)
	order := []int{3, 2, 1, 0, 5, 4, 7, 6, 8, 9, 10, 11, 12, 13, 14, 15}
	var x [16]byte
	for i, k := range order {
		x[i] = b[k]
	}
	h := strings.ToUpper(hex.EncodeToString(x[:]))
	return h[:8] + "-" + h[8:12] + "-" + h[12:16] + "-" + h[16:20] + "-" + h[20:]
}

func parseGUID(s string) (string, bool) {
	s = strings.Trim(s, "{} ")
	if len(s) < 36 || s[8] != '-' || s[13] != '-' || s[18] != '-' || s[23] != '-' {
		return "", false
	}
	b, err := hex.DecodeString(strings.ReplaceAll(s[:36], "-", ""))
	if err != nil || len(b) != 16 {
		return "", false
	}
	b[0], b[1], b[2], b[3] = b[3], b[2], b[1], b[0]
	b[4], b[5] = b[5], b[4]
	b[6], b[7] = b[7], b[6]
	return string(b), true
}
