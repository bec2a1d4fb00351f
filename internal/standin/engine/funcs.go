package engine

import (
	"crypto/md5"
	"crypto/rand"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"math/big"
	"strings"
	"time"

	"ambertray/internal/standin/tsql"
)

// A function is one of the server's: what it yields by the types of what it is given,
// and how.
type function struct {
	least, most int
	typ         func(sc *scope, args []*expr) Type
	f           func(s *Session, args []*expr, v []Value) (Value, error)
	nulls       bool // it wants to see nulls
}

func is(t Type) func(*scope, []*expr) Type { return func(*scope, []*expr) Type { return t } }

func text(n int) func(*scope, []*expr) Type {
	return func(sc *scope, _ []*expr) Type { return Type{Kind: NVarChar, Len: n, Coll: sc.s.db.Coll} }
}

// as1 is the type of the first argument, of varying length.
func as1(_ *scope, a []*expr) Type {
	t := a[0].t
	if t.Kind == Char || t.Kind == NChar {
		t.Kind += VarChar - Char
	}
	return t
}

func asMax(sc *scope, a []*expr) Type {
	t := as1(sc, a)
	if !t.IsText() && !t.IsBytes() {
		return Type{Kind: VarChar, Len: 8000, Coll: sc.s.db.Coll}
	}
	if t.Len != Max {
		if t.Len = 8000; t.IsWide() {
			t.Len = 4000
		}
	}
	return t
}

func simple(f func(v []Value) Value) func(*Session, []*expr, []Value) (Value, error) {
	return func(_ *Session, _ []*expr, v []Value) (Value, error) { return f(v), nil }
}

var (
	intType    = Type{Kind: Int}
	bigintType = Type{Kind: BigInt}
)

// runes cuts text as the server does, by UTF-16 units, but never within a character.
func mid(s string, from, n int) string {
	at, begin, end := 1, len(s), len(s)
	for i, r := range s {
		if at >= from && i < begin {
			begin = i
		}
		if at >= from+n {
			end = i
			break
		}
		at += Units(string(r))
	}
	if begin > end {
		return ""
	}
	return s[begin:end]
}

var functions map[string]function

// It is long because each function has a line.
func init() {
	functions = map[string]function{
		"LEN": {1, 1, is(intType), func(_ *Session, a []*expr, v []Value) (Value, error) {
			return Value{N: int64(Units(strings.TrimRight(v[0].S, " ")))}, nil
		}, false},
		"DATALENGTH": {1, 1, func(_ *scope, a []*expr) Type {
			if a[0].t.Len == Max {
				return bigintType
			}
			return intType
		}, dataLength, false},
		"SUBSTRING": {3, 3, as1, func(_ *Session, a []*expr, v []Value) (Value, error) {
			if a[0].t.IsBytes() {
				from := min(max(int(v[1].N)-1, 0), len(v[0].S))
				return Value{S: v[0].S[from:min(len(v[0].S), from+int(v[2].N))]}, nil
			}
			return Value{S: mid(v[0].S, int(v[1].N), int(v[2].N))}, nil
		}, false},
		"LEFT": {2, 2, as1, simple(func(v []Value) Value { return Value{S: mid(v[0].S, 1, int(v[1].N))} }), false},
		"RIGHT": {2, 2, as1, simple(func(v []Value) Value {
			return Value{S: mid(v[0].S, max(1, Units(v[0].S)-int(v[1].N)+1), int(v[1].N))}
		}), false},
		"LOWER": {1, 1, as1, simple(func(v []Value) Value { return Value{S: strings.ToLower(v[0].S)} }), false},
		"UPPER": {1, 1, as1, simple(func(v []Value) Value { return Value{S: strings.ToUpper(v[0].S)} }), false},
		"LTRIM": {1, 1, as1, simple(func(v []Value) Value { return Value{S: strings.TrimLeft(v[0].S, " ")} }), false},
		"RTRIM": {1, 1, as1, simple(func(v []Value) Value { return Value{S: strings.TrimRight(v[0].S, " ")} }),
			false},
		"TRIM":    {1, 1, as1, simple(func(v []Value) Value { return Value{S: strings.Trim(v[0].S, " ")} }), false},
		"REVERSE": {1, 1, as1, simple(reversed), false},
		"REPLACE": {3, 3, asMax, simple(func(v []Value) Value {
			if v[1].S == "" {
				return v[0]
			}
			return Value{S: strings.ReplaceAll(v[0].S, v[1].S, v[2].S)}
		}), false},
		"CHARINDEX": {2, 3, is(intType), func(_ *Session, a []*expr, v []Value) (Value, error) {
			i := strings.Index(a[1].t.Coll.fold(v[1].S), a[1].t.Coll.fold(v[0].S))
			if i >= 0 {
				i = Units(a[1].t.Coll.fold(v[1].S)[:i])
			}
			return Value{N: int64(i + 1)}, nil
		}, false},
		"REPLICATE": {2, 2, asMax, simple(func(v []Value) Value {
			return Value{S: strings.Repeat(v[0].S, int(min(max(v[1].N, 0), 1<<24)))}
		}), false},
		"SPACE": {1, 1, func(sc *scope, _ []*expr) Type { return Type{Kind: VarChar, Len: 8000, Coll: sc.s.db.Coll} },
			simple(func(v []Value) Value { return Value{S: strings.Repeat(" ", int(v[0].N))} }), false},
		"CHAR": {1, 1, func(sc *scope, _ []*expr) Type { return Type{Kind: Char, Len: 1, Coll: sc.s.db.Coll} },
			func(s *Session, _ []*expr, v []Value) (Value, error) {
				return Value{S: s.db.Coll.Decode([]byte{byte(v[0].N)})}, nil
			}, false},
		"NCHAR": {1, 1, text(2), simple(func(v []Value) Value { return Value{S: string(rune(v[0].N))} }), false},
		"UNICODE": {1, 1, is(intType), simple(func(v []Value) Value {
			for _, r := range v[0].S {
				return Value{N: int64(r)}
			}
			return null
		}), false},
		"QUOTENAME": {1, 1, text(258), simple(func(v []Value) Value {
			return Value{S: "[" + strings.ReplaceAll(v[0].S, "]", "]]") + "]"}
		}), false},
		"CONCAT": {2, 254, func(sc *scope, a []*expr) Type {
			for _, x := range a {
				if x.t.IsWide() {
					return Type{Kind: NVarChar, Len: Max, Coll: sc.s.db.Coll}
				}
			}
			return Type{Kind: VarChar, Len: Max, Coll: sc.s.db.Coll}
		}, concat, true},
		"ABS":       {1, 1, func(_ *scope, a []*expr) Type { return a[0].t }, abs, false},
		"HASHBYTES": {2, 2, is(Type{Kind: VarBinary, Len: 8000}), hashBytes, false},
		"NEWID": {0, 0, is(Type{Kind: UniqueIdentifier}), func(*Session, []*expr, []Value) (Value, error) {
			var b [16]byte
			rand.Read(b[:])
			return Value{S: string(b[:])}, nil
		}, false},
		"SWITCHOFFSET": {2, 2, func(_ *scope, a []*expr) Type {
			return Type{Kind: DateTimeOffset,
				Scale: a[0].t.Scale}
		},
			switchOffset, false},
		"ISNUMERIC": {1, 1, is(intType), func(_ *Session, a []*expr, v []Value) (Value, error) {
			_, err := convert(v[0], a[0].t, Type{Kind: Float}, 0)
			return boolean(err == nil), nil
		}, false},
	}
	now := func(k Kind, scale int, utc bool) function {
		return function{0, 0, is(Type{Kind: k, Scale: scale}), func(*Session, []*expr, []Value) (Value, error) {
			return convert(Value{N: ticksOf(time.Now().UTC())}, Type{Kind: DateTime2, Scale: 7}, Type{Kind: k,
				Scale: scale}, 0)
		}, false}
	}
	for name, f := range map[string]function{"GETDATE": now(DateTime, 3, false), "GETUTCDATE": now(DateTime, 3, true),
		"CURRENT_TIMESTAMP": now(DateTime, 3, false), "SYSDATETIME": now(DateTime2, 7, false),
		"SYSUTCDATETIME": now(DateTime2, 7, true), "SYSDATETIMEOFFSET": now(DateTimeOffset, 7, true)} {
		functions[name] = f
	}
	for name, f := range serverFunctions() {
		functions[name] = f
	}
}

func dataLength(_ *Session, a []*expr, v []Value) (Value, error) {
	t := a[0].t
	switch {
	case t.IsText() && t.IsWide():
		return Value{N: int64(2 * Units(v[0].S))}, nil
	case t.IsText():
		return Value{N: int64(t.length(v[0].S))}, nil
	case t.IsBytes():
		return Value{N: int64(len(v[0].S))}, nil
	}
	return Value{N: int64(t.Bytes())}, nil
}

func reversed(v []Value) Value {
	r := []rune(v[0].S)
	for i, k := 0, len(r)-1; i < k; i, k = i+1, k-1 {
		r[i], r[k] = r[k], r[i]
	}
	return Value{S: string(r)}
}

func concat(_ *Session, a []*expr, v []Value) (Value, error) {
	var b strings.Builder
	for i := range v {
		if v[i].Null {
			continue
		}
		x, err := convert(v[i], a[i].t, Type{Kind: NVarChar, Len: Max}, 0)
		if err != nil {
			return null, err
		}
		b.WriteString(x.S)
	}
	return Value{S: b.String()}, nil
}

func abs(_ *Session, a []*expr, v []Value) (Value, error) {
	if a[0].t.IsFloat() {
		if v[0].Float() < 0 {
			return FromFloat(-v[0].Float()), nil
		}
		return v[0], nil
	}
	return FromNumber(new(big.Int).Abs(v[0].Number())), nil
}

func hashBytes(_ *Session, a []*expr, v []Value) (Value, error) {
	b := []byte(v[1].S)
	switch {
	case a[1].t.IsWide():
		b = EncodeUTF16(v[1].S)
	case a[1].t.IsText():
		b = a[1].t.Coll.Encode(v[1].S)
	case !a[1].t.IsBytes():
		return null, fail(8116, 16, "Argument data type %s is invalid for argument 2 of hashbytes function.", a[1].t)
	}
	var sum []byte
	switch strings.ToUpper(v[0].S) {
	case "MD5":
		x := md5.Sum(b)
		sum = x[:]
	case "SHA1", "SHA":
		x := sha1.Sum(b)
		sum = x[:]
	case "SHA2_256":
		x := sha256.Sum256(b)
		sum = x[:]
	case "SHA2_512":
		x := sha512.Sum512(b)
		sum = x[:]
	default:
		return null, nil
	}
	return Value{S: string(sum)}, nil
}

func switchOffset(_ *Session, _ []*expr, v []Value) (Value, error) {
	_, off, ok := parseTime("2000-01-01 00:00" + v[1].S)
	if !ok {
		return null, fail(9812, 16, "The timezone provided to builtin function switchoffset is invalid.")
	}
	return Value{N: v[0].N, Off: off}, nil
}

// call is a function with its arguments. It is long because some are forms of their own.
func (sc *scope) call(e *tsql.Call) (*expr, error) {
	if e.Over {
		return sc.window(e)
	}
	if aggregates[e.Name] {
		return sc.aggregate(e)
	}
	switch e.Name {
	case "COALESCE":
		c := &tsql.Case{Other: e.Args[len(e.Args)-1]}
		for _, a := range e.Args[:len(e.Args)-1] {
			c.When, c.Then = append(c.When, &tsql.IsNull{X: a, Not: true}), append(c.Then, a)
		}
		x, err := sc.compile(c)
		return x, err
	case "NULLIF":
		return sc.compile(&tsql.Case{When: []tsql.Expr{&tsql.Binary{Op: "=", L: e.Args[0], R: e.Args[1]}},
			Then: []tsql.Expr{&tsql.Lit{Kind: "null"}}, Other: e.Args[0]})
	case "IIF":
		return sc.compile(&tsql.Case{When: e.Args[:1], Then: e.Args[1:2], Other: e.Args[2]})
	}
	var args []*expr
	for _, a := range e.Args {
		x, err := sc.compile(a)
		if err != nil {
			return nil, err
		}
		args = append(args, x)
	}
	switch e.Name {
	case "ISNULL":
		if len(args) != 2 {
			return nil, fail(174, 15, "The isnull function requires 2 argument(s).")
		}
		return isNull(args[0], args[1]), nil
	case "DATEDIFF", "DATEDIFF_BIG":
		return dateDiff(e, args)
	case "DATEADD":
		return dateAdd(e, args)
	case "FLOOR", "CEILING", "ROUND":
		return rounded(e.Name, args)
	}
	f, is := functions[e.Name]
	if !is {
		return nil, fail(195, 15, "'%s' is not a function name that the stand-in knows.", e.Name)
	}
	if len(args) < f.least || len(args) > f.most {
		return nil, fail(174, 15, "The %s function requires %d argument(s).", strings.ToLower(e.Name), f.least)
	}
	return &expr{t: f.typ(sc, args), sure: e.Name == "GETDATE", f: func(fr *frame) (Value, error) {
		v := make([]Value, len(args))
		for i, a := range args {
			var err error
			if v[i], err = a.f(fr); err != nil || v[i].Null && !f.nulls {
				return null, err
			}
		}
		return f.f(fr.s, args, v)
	}}, nil
}

func isNull(a, b *expr) *expr {
	t := a.t
	if t.Kind == Untyped {
		t = b.t
	}
	return &expr{t: t, sure: b.sure, f: func(fr *frame) (Value, error) {
		v, err := a.f(fr)
		if err != nil || !v.Null {
			return v, err
		}
		if v, err = b.f(fr); err != nil || v.Null {
			return v, err
		}
		return convert(v, b.t, t, 0)
	}}
}

// parts are how many units of 100 ns a part of a time has.
var parts = map[string]int64{"microsecond": 10, "mcs": 10, "millisecond": 10_000, "ms": 10_000, "second": 10_000_000,
	"ss": 10_000_000, "s": 10_000_000, "minute": 600_000_000, "mi": 600_000_000, "n": 600_000_000,
	"hour": 36_000_000_000,
	"hh":   36_000_000_000, "day": ticksADay, "dd": ticksADay, "d": ticksADay}

// moment makes an expression one of datetime2(7), in UTC where it has a zone.
func moment(x *expr) *expr {
	if x.t.Kind == DateTimeOffset {
		return &expr{t: Type{Kind: DateTime2, Scale: 7}, f: x.f} // its N is in UTC
	}
	return x.to(Type{Kind: DateTime2, Scale: 7})
}

func dateDiff(e *tsql.Call, args []*expr) (*expr, error) {
	unit := parts[e.Args[0].(*tsql.Lit).Text]
	if unit == 0 || len(args) != 3 {
		return nil, unknown("%s of %s", e.Name, e.Args[0].(*tsql.Lit).Text)
	}
	a, b := moment(args[1]), moment(args[2])
	t := intType
	if e.Name == "DATEDIFF_BIG" {
		t = bigintType
	}
	return &expr{t: t, f: func(fr *frame) (Value, error) {
		x, y, ok, err := two(fr, a, b)
		if !ok {
			return null, err
		}
		n := y.N/unit - x.N/unit
		if t.Kind == Int && n != int64(int32(n)) {
			return null, fail(535, 16, "The datediff function resulted in an overflow. The number of dateparts "+
				"separating "+
				"two date/time instances is too large. Try to use datediff with a less precise datepart.")
		}
		return Value{N: n}, nil
	}}, nil
}

func dateAdd(e *tsql.Call, args []*expr) (*expr, error) {
	unit := parts[e.Args[0].(*tsql.Lit).Text]
	if unit == 0 || len(args) != 3 || args[2].t.Kind == Date && unit < ticksADay {
		return nil, unknown("%s of %s", e.Name, e.Args[0].(*tsql.Lit).Text)
	}
	x := args[2]
	if x.t.IsText() {
		x = x.to(Type{Kind: DateTime, Scale: 3})
	}
	return &expr{t: x.t, f: func(fr *frame) (Value, error) {
		n, v, ok, err := two(fr, args[1], x)
		if !ok {
			return null, err
		}
		if x.t.Kind == Date {
			return Value{N: v.N + n.N}, nil
		}
		return Value{N: v.N + n.N*unit, Off: v.Off}, nil
	}}, nil
}

// rounded is FLOOR, CEILING and ROUND of exact numbers.
func rounded(name string, args []*expr) (*expr, error) {
	x := args[0]
	if x.t.IsFloat() || !x.t.IsExact() || name == "ROUND" && len(args) != 2 {
		return nil, unknown("%s of %s", name, x.t)
	}
	d := x.t.digits()
	t := x.t
	if name != "ROUND" && t.Kind == Decimal {
		t.Scale = 0
	}
	return &expr{t: t, f: func(fr *frame) (Value, error) {
		v, err := x.f(fr)
		if err != nil || v.Null || d == 0 {
			return v, err
		}
		n := v.Number()
		if name == "ROUND" {
			k, err := args[1].f(fr)
			if err != nil || k.Null {
				return k, err
			}
			return FromNumber(rescaled(rescaled(n, d, int(k.N)), int(k.N), d)), nil
		}
		q, m := new(big.Int).DivMod(n, pow10(d), new(big.Int))
		if name == "CEILING" && m.Sign() > 0 {
			q.Add(q, big.NewInt(1))
		}
		if t.Kind != Decimal {
			return FromNumber(rescaled(q, 0, d)), nil
		}
		return FromNumber(q), nil
	}}, nil
}
