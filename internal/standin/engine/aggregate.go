package engine

import (
	"math/big"
	"reflect"
	"slices"
	"strings"

	"ambertray/internal/standin/tsql"
)

var aggregates = map[string]bool{"COUNT": true, "COUNT_BIG": true, "SUM": true, "MIN": true, "MAX": true, "AVG": true,
	"STRING_AGG": true}

// hasAggregate reports whether a query adds up without saying by what.
func hasAggregate(q *tsql.Select) bool {
	return slices.ContainsFunc(q.Items, func(it tsql.Item) bool { return hasAgg(it.Expr) }) ||
		slices.ContainsFunc(q.Order, func(o tsql.Order) bool { return hasAgg(o.Expr) })
}

func hasAgg(e tsql.Expr) bool {
	any := func(list ...tsql.Expr) bool { return slices.ContainsFunc(list, hasAgg) }
	switch e := e.(type) {
	case *tsql.Call:
		return aggregates[e.Name] && !e.Over || any(e.Args...)
	case *tsql.Unary:
		return any(e.X)
	case *tsql.Binary:
		return any(e.L, e.R)
	case *tsql.Cast:
		return any(e.X)
	case *tsql.Case:
		return any(append(append([]tsql.Expr{e.X, e.Other}, e.When...), e.Then...)...)
	case *tsql.In:
		return any(append(e.List, e.X)...)
	case *tsql.Between:
		return any(e.X, e.Lo, e.Hi)
	case *tsql.Like:
		return any(e.X)
	case *tsql.IsNull:
		return any(e.X)
	case *tsql.Collate:
		return any(e.X)
	}
	return false
}

// An aggregate adds up a group.
type aggregate struct {
	name     string
	arg      *expr // nil: rows are counted
	of       int   // which of the query's arguments it is
	distinct bool
	t        Type
	between  *expr
	order    *expr
	desc     bool
}

// A state is one of a group.
type state struct {
	n     int64
	sum   int64
	big   *big.Int
	f     float64
	v     Value
	seen  map[string]bool
	texts []ordered
}

type ordered struct{ key, v Value }

func (sc *scope) aggregate(e *tsql.Call) (*expr, error) {
	if sc.inAgg {
		return nil, fail(130, 16, "Cannot perform an aggregate function on an expression containing an aggregate or a "+
			"subquery.")
	}
	a := &aggregate{name: e.Name, distinct: e.Distinct}
	in := *sc
	in.inAgg = true
	if !e.Star {
		if len(e.Args) < 1 {
			return nil, fail(174, 15, "The %s function requires 1 argument(s).", e.Name)
		}
		var err error
		if a.arg, a.of, err = sc.argument(&in, e.Args[0]); err != nil {
			return nil, err
		}
	}
	if err := a.typed(); err != nil {
		return nil, err
	}
	if e.Name == "STRING_AGG" {
		var err error
		if a.between, err = in.compile(e.Args[1]); err != nil {
			return nil, err
		}
		if len(e.Order) > 0 {
			if a.order, err = in.compile(e.Order[0].Expr); err != nil {
				return nil, err
			}
			a.desc = e.Order[0].Desc
		}
	}
	i := len(sc.aggs)
	sc.aggs = append(sc.aggs, a)
	counts := strings.HasPrefix(a.name, "COUNT")
	return &expr{t: a.t, sure: counts, f: func(fr *frame) (Value, error) { return fr.aggs[i], nil }}, nil
}

// argument makes what is added up ready; what several add up is evaluated once a row.
func (sc *scope) argument(in *scope, e tsql.Expr) (*expr, int, error) {
	for i, a := range sc.argTrees {
		if reflect.DeepEqual(a, e) {
			return sc.args[i], i, nil
		}
	}
	x, err := in.compile(e)
	if err == nil {
		sc.argTrees, sc.args = append(sc.argTrees, e), append(sc.args, x)
	}
	return x, len(sc.args) - 1, err
}

// typed finds the type of the result.
func (a *aggregate) typed() error {
	switch a.name {
	case "COUNT":
		a.t = Type{Kind: Int}
		return nil
	case "COUNT_BIG":
		a.t = Type{Kind: BigInt}
		return nil
	}
	if a.arg == nil {
		return fail(102, 15, "Incorrect syntax near '*'.")
	}
	t := a.arg.t
	bad := fail(8117, 16, "Operand data type %s is invalid for %s operator.", t.spec().name, strings.ToLower(a.name))
	switch a.name {
	case "STRING_AGG":
		if !t.IsText() {
			t = Type{Kind: NVarChar, Len: 4000, Coll: a.arg.t.Coll}
		}
		a.t = t
		return nil
	case "MIN", "MAX":
		if t.Kind == Bit || t.Kind == Text || t.Kind == NText || t.Kind == Image || t.Kind >= XML {
			return bad
		}
		a.t = t
		return nil
	}
	switch {
	case t.Kind == Bit || !t.IsNumber():
		return bad
	case t.IsFloat():
		a.t = Type{Kind: Float}
	case t.IsMoney():
		a.t = Type{Kind: Money}
	case t.Kind == Decimal:
		a.t = Type{Kind: Decimal, Prec: 38, Scale: t.Scale}
		if a.name == "AVG" {
			a.t.Scale = max(t.Scale, 6)
		}
	case t.Kind == BigInt:
		a.t = t
	default:
		a.t = Type{Kind: Int}
	}
	return nil
}

func (a *aggregate) add(fr *frame, args []Value, st *state) (err error) {
	if a.arg == nil {
		st.n++
		return nil
	}
	v := args[a.of]
	if v.Null {
		return nil
	}
	if a.distinct {
		k := string(appendKey(nil, a.arg.t, v))
		if st.seen == nil {
			st.seen = map[string]bool{}
		}
		if st.seen[k] {
			return nil
		}
		st.seen[k] = true
	}
	st.n++
	switch a.name {
	case "MIN":
		if st.n == 1 || compare(a.t, v, st.v) < 0 {
			st.v = v
		}
	case "MAX":
		if st.n == 1 || compare(a.t, v, st.v) > 0 {
			st.v = v
		}
	case "SUM", "AVG":
		a.sum(st, v)
	case "STRING_AGG":
		o := ordered{v: v}
		if a.order != nil {
			if o.key, err = a.order.f(fr); err != nil {
				return err
			}
		}
		if !a.arg.t.IsText() {
			if o.v, err = convert(v, a.arg.t, a.t, 0); err != nil {
				return err
			}
		}
		st.texts = append(st.texts, o)
	}
	return nil
}

func (a *aggregate) sum(st *state, v Value) {
	if a.arg.t.IsFloat() {
		st.f += v.Float()
		return
	}
	sum := st.sum + v.N
	if v.S == "" && (sum > st.sum) == (v.N > 0) {
		st.sum = sum
		return
	}
	if st.big == nil {
		st.big = new(big.Int)
	}
	st.big.Add(st.big, v.Number())
}

func (a *aggregate) result(st *state) (Value, error) {
	switch a.name {
	case "COUNT", "COUNT_BIG":
		return Value{N: st.n}, nil
	case "MIN", "MAX":
		if st.n == 0 {
			return null, nil
		}
		return st.v, nil
	}
	if st.n == 0 {
		return null, nil
	}
	switch {
	case a.name == "STRING_AGG":
		slices.SortStableFunc(st.texts, func(x, y ordered) int {
			if a.order == nil {
				return 0
			}
			c := orderOf(a.order.t, x.key, y.key)
			if a.desc {
				return -c
			}
			return c
		})
		sep, err := a.between.f(&frame{})
		var b strings.Builder
		for i, o := range st.texts {
			if i > 0 {
				b.WriteString(sep.S)
			}
			b.WriteString(o.v.S)
		}
		return Value{S: b.String()}, err
	case a.t.IsFloat():
		if a.name == "AVG" {
			return FromFloat(st.f / float64(st.n)), nil
		}
		return FromFloat(st.f), nil
	}
	n := big.NewInt(st.sum)
	if st.big != nil {
		n.Add(n, st.big)
	}
	digits := a.arg.t.digits()
	if a.name == "AVG" {
		n = rescaled(n, digits, a.t.digits())
		return FromNumber(n.Quo(n, big.NewInt(st.n))), nil
	}
	most := ranges[a.t.Kind]
	if a.t.Kind == Decimal && new(big.Int).Abs(n).Cmp(pow10(38)) >= 0 || a.t.Kind != Decimal &&
		(n.Cmp(big.NewInt(most[0])) < 0 || n.Cmp(big.NewInt(most[1])) > 0) {
		return null, fail(8115, 16, "Arithmetic overflow error converting expression to data type %s.", a.t.spec().name)
	}
	return FromNumber(n), nil
}
