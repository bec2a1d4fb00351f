package engine

import (
	"encoding/hex"
	"math/big"
	"reflect"
	"strings"

	"ambertray/internal/standin/tsql"
)

// An expr is an expression that can be evaluated.
type expr struct {
	t Type
	f func(*frame) (Value, error)
	// sure tells that it is never null, as far as is known, and fixed that it is always the
	// same.
	sure, fixed bool
}

// A frame is what an expression is evaluated over: a row of each source of a query, and
// the frame of the query around it.
type frame struct {
	rows [][]Value
	cur  []*row // the rows themselves, for who changes them
	aggs []Value
	up   *frame
	s    *Session
	// windows are what the window functions come to, of the row at hand.
	windows []Value
}

// A slot is a source of a query, as names find it.
type slot struct {
	as, schema string
	cols       []Out
	table      *Table
}

// An Out is a column of what a query yields.
type Out struct {
	Name     string
	Type     Type
	Null     bool
	Identity bool
	Computed bool
}

// A scope is what the names in a query mean.
type scope struct {
	slots   []*slot
	up      *scope
	s       *Session
	grouped bool
	groups  []tsql.Expr
	aggs    []*aggregate
	inAgg   bool
	windows []*window
	// What is added up, and as what it was written.
	args     []*expr
	argTrees []tsql.Expr
}

// find finds a column: how many scopes up, which slot, which of its columns.
func (sc *scope) find(parts []string) (up, at, col int, t Out, err error) {
	name := parts[len(parts)-1]
	for x := sc; x != nil; x, up = x.up, up+1 {
		found := 0
		for i, sl := range x.slots {
			if len(parts) > 1 && !strings.EqualFold(parts[len(parts)-2], sl.as) {
				continue
			}
			if len(parts) > 2 && sl.schema != "" && !strings.EqualFold(parts[len(parts)-3], sl.schema) {
				continue
			}
			for k, c := range sl.cols {
				if strings.EqualFold(c.Name, name) {
					found++
					at, col, t = i, k, c
				}
			}
		}
		switch {
		case found > 1:
			return 0, 0, 0, t, fail(209, 16, "Ambiguous column name '%s'.", name)
		case found == 1:
			if x.grouped && !x.inAgg {
				return 0, 0, 0, t, fail(8120, 16, "Column '%s' is invalid in the select list because it is not "+
					"contained "+
					"in either an aggregate function or the GROUP BY clause.", strings.Join(parts, "."))
			}
			return up, at, col, t, nil
		}
	}
	if len(parts) > 1 {
		return 0, 0, 0, t, fail(4104, 16, "The multi-part identifier \"%s\" could not be bound.",
			strings.Join(parts, "."))
	}
	return 0, 0, 0, t, fail(207, 16, "Invalid column name '%s'.", name)
}

func constant(t Type, v Value) *expr {
	return &expr{t: t, f: func(*frame) (Value, error) { return v, nil }, sure: !v.Null, fixed: true}
}

// compile makes an expression ready. It is long because it has a line for each form.
func (sc *scope) compile(e tsql.Expr) (*expr, error) {
	if sc.grouped && !sc.inAgg {
		for _, g := range sc.groups {
			if reflect.DeepEqual(g, e) {
				free := *sc
				free.grouped = false
				return free.compile(e)
			}
		}
	}
	switch e := e.(type) {
	case *tsql.Lit:
		return sc.literal(e)
	case *tsql.Col:
		return sc.columnRef(e)
	case *tsql.Var:
		return sc.variable(e.Name)
	case *tsql.Unary:
		return sc.unary(e)
	case *tsql.Binary:
		return sc.binary(e)
	case *tsql.Call:
		return sc.call(e)
	case *tsql.Cast:
		return sc.cast(e)
	case *tsql.Case:
		return sc.cases(e)
	case *tsql.In:
		return sc.in(e)
	case *tsql.Between:
		lo, hi := tsql.Expr(&tsql.Binary{Op: ">=", L: e.X, R: e.Lo}), tsql.Expr(&tsql.Binary{Op: "<=", L: e.X, R: e.Hi})
		both := tsql.Expr(&tsql.Binary{Op: "AND", L: lo, R: hi})
		if e.Not {
			both = &tsql.Unary{Op: "NOT", X: both}
		}
		return sc.compile(both)
	case *tsql.Like:
		return sc.like(e)
	case *tsql.IsNull:
		x, err := sc.compile(e.X)
		if err != nil {
			return nil, err
		}
		return truth(func(fr *frame) (Value, error) {
			v, err := x.f(fr)
			return boolean(v.Null != e.Not), err
		}), nil
	case *tsql.Exists:
		return sc.exists(e)
	case *tsql.Sub:
		return sc.scalar(e.Select)
	case *tsql.Collate:
		x, err := sc.compile(e.X)
		if err != nil {
			return nil, err
		}
		c, err := CollationOf(e.Name)
		if err != nil {
			return nil, err
		}
		if !x.t.IsText() {
			return nil, fail(447, 16, "Expression type %s is invalid for COLLATE clause.", x.t)
		}
		t := x.t
		t.Coll, t.Explicit = c, true
		return &expr{t: t, f: x.f, sure: x.sure}, nil
	case *tsql.Next:
		return sc.nextValue(e)
	}
	return nil, unknown("this expression")
}

// The kind of a condition is bit; T-SQL has no values of it, but the parser lets none
// stand where one is stored.
var bitType = Type{Kind: Bit, Name: ""}

func boolean(b bool) Value {
	if b {
		return Value{N: 1}
	}
	return Value{}
}

func truth(f func(*frame) (Value, error)) *expr { return &expr{t: bitType, f: f} }

func (sc *scope) literal(e *tsql.Lit) (*expr, error) {
	coll := sc.s.db.Coll
	switch e.Kind {
	case "null":
		return constant(Type{Kind: Untyped}, null), nil
	case "int":
		n, ok := new(big.Int).SetString(e.Text, 10)
		if !ok {
			return nil, fail(102, 15, "Incorrect syntax near '%s'.", e.Text)
		}
		if n.IsInt64() && n.Int64() == int64(int32(n.Int64())) {
			return constant(Type{Kind: Int}, Value{N: n.Int64()}), nil
		}
		return constant(Type{Kind: Decimal, Prec: len(strings.TrimPrefix(e.Text, "-"))}, FromNumber(n)), nil
	case "decimal":
		whole, part, _ := strings.Cut(strings.TrimPrefix(e.Text, "-"), ".")
		digits := strings.TrimLeft(whole, "0") + part
		t := Type{Kind: Decimal, Prec: max(1, len(digits)), Scale: len(part)}
		if t.Prec > 38 {
			return nil, fail(1007, 15, "The number '%s' is out of the range for numeric representation (maximum "+
				"precision 38).", e.Text)
		}
		n, _ := new(big.Int).SetString("0"+digits, 10)
		if strings.HasPrefix(e.Text, "-") {
			n.Neg(n)
		}
		return constant(t, FromNumber(n)), nil
	case "float":
		v, err := toFloat(Value{S: e.Text}, Type{Kind: VarChar}, Type{Kind: Float})
		return constant(Type{Kind: Float}, v), err
	case "bytes":
		if len(e.Text)%2 == 1 {
			e.Text = "0" + e.Text
		}
		b, err := hex.DecodeString(e.Text)
		if err != nil {
			return nil, fail(102, 15, "Incorrect syntax near '0x%s'.", e.Text)
		}
		return constant(Type{Kind: VarBinary, Len: max(1, len(b))}, Value{S: string(b)}), nil
	case "wide":
		n := max(1, Units(e.Text))
		if n > 4000 {
			n = Max
		}
		return constant(Type{Kind: NVarChar, Len: n, Coll: coll}, Value{S: e.Text}), nil
	}
	s := e.Text
	if !ascii(s) {
		s = coll.Decode(coll.Encode(s)) // a literal without N is in the code page
	}
	n := max(1, len(coll.Encode(s)))
	if n > 8000 {
		n = Max
	}
	return constant(Type{Kind: VarChar, Len: n, Coll: coll}, Value{S: s}), nil
}

func (sc *scope) columnRef(e *tsql.Col) (*expr, error) {
	if len(e.Parts) == 1 && strings.HasPrefix(e.Parts[0], "$") {
		return nil, unknown("%s", e.Parts[0])
	}
	up, at, col, out, err := sc.find(e.Parts)
	if err != nil {
		return nil, err
	}
	return &expr{t: out.Type, sure: !out.Null, f: func(fr *frame) (Value, error) {
		for range up {
			fr = fr.up
		}
		r := fr.rows[at]
		if r == nil {
			return null, nil // of an outer join
		}
		return r[col], nil
	}}, nil
}

func (sc *scope) variable(name string) (*expr, error) {
	if strings.HasPrefix(name, "@@") {
		return sc.global(name)
	}
	v := sc.s.vars[name]
	if v == nil {
		return nil, fail(137, 15, "Must declare the scalar variable \"%s\".", name)
	}
	return &expr{t: v.t, f: func(fr *frame) (Value, error) {
		if x := fr.s.vars[name]; x != nil {
			return x.v, nil
		}
		return null, nil
	}}, nil
}

func (sc *scope) unary(e *tsql.Unary) (*expr, error) {
	x, err := sc.compile(e.X)
	if err != nil {
		return nil, err
	}
	switch e.Op {
	case "NOT":
		return truth(func(fr *frame) (Value, error) {
			v, err := x.f(fr)
			if err != nil || v.Null {
				return v, err
			}
			return boolean(v.N == 0), nil
		}), nil
	case "-":
		zero := constant(x.t, Value{})
		return sc.arithmetic("-", zero, x)
	}
	if !x.t.IsInteger() {
		return nil, fail(8117, 16, "Operand data type %s is invalid for '~' operator.", x.t.spec().name)
	}
	return &expr{t: x.t, f: func(fr *frame) (Value, error) {
		v, err := x.f(fr)
		if x.t.Kind == Bit {
			return Value{N: 1 - v.N, Null: v.Null}, err
		}
		return Value{N: ^v.N, Null: v.Null}, err
	}}, nil
}

func (sc *scope) binary(e *tsql.Binary) (*expr, error) {
	l, err := sc.compile(e.L)
	if err != nil {
		return nil, err
	}
	r, err := sc.compile(e.R)
	if err != nil {
		return nil, err
	}
	switch e.Op {
	case "AND", "OR":
		and := e.Op == "AND"
		return truth(func(fr *frame) (Value, error) {
			a, err := l.f(fr)
			if err != nil || !a.Null && (a.N == 0) == and {
				return a, err
			}
			b, err := r.f(fr)
			if err != nil || !b.Null && (b.N == 0) == and {
				return b, err
			}
			if a.Null || b.Null {
				return null, nil
			}
			return a, nil
		}), nil
	case "=", "<>", "<", "<=", ">", ">=":
		return sc.comparison(e.Op, l, r)
	}
	return sc.arithmetic(e.Op, l, r)
}

// unified is the type that two meet in.
func unified(a, b Type) (Type, error) {
	if a.Kind == Untyped {
		return b, nil
	}
	if b.Kind == Untyped || a == b {
		return a, nil
	}
	if a.Kind > b.Kind {
		a, b = b, a
	}
	t := b
	switch {
	case a.IsText() && b.IsText():
		t = longer(a, b)
		switch {
		case a.Explicit && b.Explicit && a.Coll.Name != b.Coll.Name,
			!a.Explicit && !b.Explicit && a.Coll != nil && b.Coll != nil && a.Coll.Name != b.Coll.Name:
			return t, fail(468, 16, "Cannot resolve the collation conflict between \"%s\" and \"%s\" in the operation.",
				a.Coll.Name, b.Coll.Name)
		case a.Explicit:
			t.Coll, t.Explicit = a.Coll, true
		}
	case a.IsBytes() && b.IsBytes():
		t = longer(a, b)
	case b.Kind == Decimal && a.IsExact():
		d := a.asDecimal()
		t.Scale = max(d.Scale, b.Scale)
		t.Prec = min(38, max(d.Prec-d.Scale, b.Prec-b.Scale)+t.Scale)
	case a.IsTime() && b.IsTime():
		t.Scale = max(a.Scale, b.Scale)
	case b.IsTime() && a.IsNumber() && b.Kind != DateTime && b.Kind != SmallDateTime:
		return t, fail(206, 16, "Operand type clash: %s is incompatible with %s", a.spec().name, b.spec().name)
	}
	return t, nil
}

func longer(a, b Type) Type {
	t := b
	if a.Len == Max || b.Len == Max {
		t.Len = Max
		return t
	}
	if t.Len = max(a.Len, b.Len); t.Kind == NText || t.Kind == Text {
		t.Len = Max
	}
	return t
}

// to makes an expression one of another type.
func (x *expr) to(t Type) *expr {
	same := x.t.Kind == t.Kind && x.t.Prec == t.Prec && x.t.Scale == t.Scale
	if x.t.Kind == Untyped || same && (x.t.Len == t.Len || t.Len == Max) ||
		x.t.IsText() && t.IsText() && (t.Kind == NVarChar || x.t.Kind == t.Kind) && (t.Len == Max || x.t.Len != Max &&
			x.t.Len <= t.Len) {
		return &expr{t: t, f: x.f, sure: x.sure}
	}
	return &expr{t: t, sure: x.sure, f: func(fr *frame) (Value, error) {
		v, err := x.f(fr)
		if err != nil || v.Null {
			return v, err
		}
		return convert(v, x.t, t, 0)
	}}
}

func (sc *scope) comparison(op string, l, r *expr) (*expr, error) {
	t, err := unified(l.t, r.t)
	if err != nil {
		return nil, err
	}
	if t.Kind == XML || t.Kind == Text || t.Kind == NText || t.Kind == Image {
		return nil, fail(402, 16, "The data types %s and %s are incompatible in the %s operator.", l.t, r.t, op)
	}
	if t.IsText() {
		t.Len = Max
		if t.Kind == Char || t.Kind == NChar {
			t.Kind += VarChar - Char
		}
	}
	a, b := l.to(t), r.to(t)
	return truth(func(fr *frame) (Value, error) {
		x, err := a.f(fr)
		if err != nil || x.Null {
			return x, err
		}
		y, err := b.f(fr)
		if err != nil || y.Null {
			return y, err
		}
		c := compare(t, x, y)
		switch op {
		case "=":
			return boolean(c == 0), nil
		case "<>":
			return boolean(c != 0), nil
		case "<":
			return boolean(c < 0), nil
		case "<=":
			return boolean(c <= 0), nil
		case ">":
			return boolean(c > 0), nil
		}
		return boolean(c >= 0), nil
	}), nil
}

func (sc *scope) cast(e *tsql.Cast) (*expr, error) {
	x, err := sc.compile(e.X)
	if err != nil {
		return nil, err
	}
	coll := sc.s.db.Coll
	if x.t.IsText() && x.t.Coll != nil {
		coll = x.t.Coll
	}
	n := e.Type
	if len(n.Args) == 0 && (strings.HasSuffix(n.Name, "char") || strings.HasSuffix(n.Name, "binary")) {
		n.Args = []int{30}
	}
	t, err := TypeOf(n, coll)
	if err != nil {
		return nil, err
	}
	t.Explicit = x.t.Explicit
	style := constant(Type{Kind: Int}, Value{})
	if e.Style != nil {
		if style, err = sc.compile(e.Style); err != nil {
			return nil, err
		}
	}
	return folded(&expr{t: t, sure: x.sure && !e.Try, fixed: x.fixed && style.fixed, f: func(fr *frame) (Value, error) {
		v, err := x.f(fr)
		if err != nil || v.Null {
			return null, err
		}
		st, err := style.f(fr)
		if err != nil {
			return null, err
		}
		out, err := convert(v, x.t, t, int(st.N))
		if err != nil && e.Try {
			return null, nil
		}
		return out, err
	}}, sc), nil
}

// folded is an expression that is always the same, evaluated once.
func folded(x *expr, sc *scope) *expr {
	if !x.fixed {
		return x
	}
	v, err := x.f(&frame{s: sc.s})
	if err != nil {
		x.fixed = false // it fails when it is wanted
		return x
	}
	c := constant(x.t, v)
	c.sure = x.sure
	return c
}

func (sc *scope) cases(e *tsql.Case) (*expr, error) {
	var when, then []*expr
	t := Type{Kind: Untyped}
	sure := e.Other != nil
	add := func(x tsql.Expr) (err error) {
		c, err := sc.compile(x)
		if err != nil {
			return err
		}
		then = append(then, c)
		sure = sure && c.sure
		t, err = unified(t, c.t)
		return err
	}
	for i := range e.When {
		cond := e.When[i]
		if e.X != nil {
			cond = &tsql.Binary{Op: "=", L: e.X, R: cond}
		}
		w, err := sc.compile(cond)
		if err != nil {
			return nil, err
		}
		when = append(when, w)
		if err := add(e.Then[i]); err != nil {
			return nil, err
		}
	}
	if e.Other != nil {
		if err := add(e.Other); err != nil {
			return nil, err
		}
	}
	for i := range then {
		then[i] = then[i].to(t)
	}
	return &expr{t: t, sure: sure, f: func(fr *frame) (Value, error) {
		for i, w := range when {
			v, err := w.f(fr)
			if err != nil {
				return null, err
			}
			if !v.Null && v.N != 0 {
				return then[i].f(fr)
			}
		}
		if len(then) > len(when) {
			return then[len(when)].f(fr)
		}
		return null, nil
	}}, nil
}

func (sc *scope) in(e *tsql.In) (*expr, error) {
	if e.Sub != nil {
		return sc.inQuery(e)
	}
	var any tsql.Expr
	for _, x := range e.List {
		eq := tsql.Expr(&tsql.Binary{Op: "=", L: e.X, R: x})
		if any != nil {
			eq = &tsql.Binary{Op: "OR", L: any, R: eq}
		}
		any = eq
	}
	if e.Not {
		any = &tsql.Unary{Op: "NOT", X: any}
	}
	return sc.compile(any)
}

func (sc *scope) like(e *tsql.Like) (*expr, error) {
	x, err := sc.compile(e.X)
	if err != nil {
		return nil, err
	}
	p, err := sc.compile(e.Pattern)
	if err != nil {
		return nil, err
	}
	esc := constant(x.t, null)
	if e.Escape != nil {
		if esc, err = sc.compile(e.Escape); err != nil {
			return nil, err
		}
	}
	coll := sc.s.db.Coll
	if x.t.Coll != nil {
		coll = x.t.Coll
	}
	return truth(func(fr *frame) (Value, error) {
		var v [3]Value
		for i, a := range []*expr{x, p, esc} {
			if v[i], err = a.f(fr); err != nil {
				return null, err
			}
			if i < 2 && v[i].Null {
				return null, nil
			}
		}
		fold := func(s string) string {
			if coll.IgnoreCase {
				return strings.ToUpper(strings.ToLower(s))
			}
			return s
		}
		is := likes([]rune(fold(v[0].S)), []rune(fold(v[1].S)), []rune(fold(v[2].S)))
		return boolean(is != e.Not), nil
	}), nil
}

// likes matches a pattern: % any text, _ any character, [] a set.
func likes(s, p, esc []rune) bool {
	for len(p) > 0 {
		switch {
		case len(esc) == 1 && p[0] == esc[0] && len(p) > 1:
			if len(s) == 0 || s[0] != p[1] {
				return false
			}
			s, p = s[1:], p[2:]
		case p[0] == '%':
			for i := 0; i <= len(s); i++ {
				if likes(s[i:], p[1:], esc) {
					return true
				}
			}
			return false
		case len(s) == 0:
			return false
		case p[0] == '_':
			s, p = s[1:], p[1:]
		case p[0] == '[':
			end := 1
			for end < len(p) && p[end] != ']' {
				end++
			}
			if end == len(p) || !inSet(s[0], p[1:end]) {
				return false
			}
			s, p = s[1:], p[end+1:]
		case s[0] != p[0]:
			return false
		default:
			s, p = s[1:], p[1:]
		}
	}
	return strings.TrimRight(string(s), " ") == ""
}

func inSet(r rune, set []rune) bool {
	not := len(set) > 0 && set[0] == '^'
	if not {
		set = set[1:]
	}
	for i := 0; i < len(set); i++ {
		if i+2 < len(set) && set[i+1] == '-' {
			if r >= set[i] && r <= set[i+2] {
				return !not
			}
			i += 2
		} else if r == set[i] {
			return !not
		}
	}
	return not
}
