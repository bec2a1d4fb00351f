package engine

import (
	"strings"

	"github.com/shopspring/decimal"

	"ambertray/internal/standin/oracle/sql"
)

// aggregates are the functions of many rows.
var aggregates = map[string]bool{"COUNT": true, "SUM": true, "MIN": true, "MAX": true, "AVG": true, "LISTAGG": true}

// isGrouped reports whether a query's rows are groups of rows.
func isGrouped(q *sql.Select) bool {
	if len(q.Group) > 0 || q.Having != nil {
		return true
	}
	found := false
	for _, it := range q.Items {
		walk(it.Expr, func(x sql.Expr) {
			if f, is := x.(*sql.Func); is && f.Over == nil && aggregates[f.Name] {
				found = true
			}
		})
	}
	return found
}

// grouped makes groups of rows; without GROUP BY, all are one.
func (r *run) grouped(q *sql.Select, h *shape, envs []*env, outer *env) ([]*env, error) {
	var order []string
	groups := map[string][]*env{}
	for _, e := range envs {
		var k []byte
		for _, g := range q.Group {
			v, err := r.value(g, e)
			if err != nil {
				return nil, err
			}
			k = append(k, joinKey(v)...)
		}
		if groups[string(k)] == nil {
			order = append(order, string(k))
		}
		groups[string(k)] = append(groups[string(k)], e)
	}
	if len(order) == 0 && len(q.Group) == 0 {
		order = []string{""}
	}
	var out []*env
	for _, k := range order {
		rows := groups[k]
		e := &env{shape: h, vals: make([]Value, len(h.cols)), outer: outer, group: rows}
		if rows == nil {
			e.group = []*env{}
		} else {
			e.vals = rows[0].vals
		}
		if q.Having != nil {
			t, err := r.truth(q.Having, e)
			if err != nil {
				return nil, err
			}
			if t != isTrue {
				continue
			}
		}
		out = append(out, e)
	}
	return out, nil
}

// aggregate evaluates a function of a group.
func (r *run) aggregate(f *sql.Func, e *env) (Value, error) {
	if e == nil || e.group == nil {
		return null, fail(934, "group function is not allowed here")
	}
	return r.of(f, e.group)
}

// of evaluates a function of many rows.
func (r *run) of(f *sql.Func, rows []*env) (Value, error) {
	if f.Star {
		return whole(int64(len(rows))), nil
	}
	if f.Name == "LISTAGG" {
		return r.listed(f, rows)
	}
	if len(f.Args) != 1 {
		return null, fail(909, "invalid number of arguments")
	}
	sum, n := null, int64(0)
	seen := map[string]bool{}
	for _, e := range rows {
		v, err := r.value(f.Args[0], e)
		if err != nil {
			return null, err
		}
		if v.IsNull() {
			continue
		}
		if v.Kind == Clob && (f.Name != "COUNT" || f.Distinct) {
			return null, fail(932, "inconsistent datatypes: expected - got CLOB")
		}
		if f.Distinct {
			k := string(joinKey(v))
			if seen[k] {
				continue
			}
			seen[k] = true
		}
		n++
		if sum, err = r.added(f.Name, sum, v); err != nil {
			return null, err
		}
	}
	switch f.Name {
	case "COUNT":
		return whole(n), nil
	case "AVG":
		if n == 0 {
			return null, nil
		}
		return exact(sum.D.DivRound(decimal.NewFromInt(n), digits)), nil
	}
	return sum, nil
}

// added is the value of a function with one row more.
func (r *run) added(name string, sum, v Value) (Value, error) {
	switch name {
	case "SUM", "AVG":
		if v.Kind == Double {
			if sum.IsNull() {
				return v, nil
			}
			return double(sum.F + v.F), nil
		}
		v, err := asNumber(v)
		if err != nil || sum.IsNull() {
			return v, err
		}
		return exact(sum.D.Add(v.D)), nil
	case "MIN", "MAX":
		if sum.IsNull() {
			return v, nil
		}
		c, err := r.s.compare(v, sum)
		if c < 0 == (name == "MIN") && c != 0 {
			return v, err
		}
		return sum, err
	case "COUNT":
		return sum, nil
	}
	return null, unknown("the function %s", name)
}

// listed is LISTAGG.
func (r *run) listed(f *sql.Func, rows []*env) (Value, error) {
	var vals, keys [][]Value
	between := ""
	for _, e := range rows {
		v, err := r.textOf(f.Args[0], e)
		if err != nil {
			return null, err
		}
		if v.IsNull() {
			continue
		}
		if len(f.Args) > 1 {
			b, err := r.textOf(f.Args[1], e)
			if err != nil {
				return null, err
			}
			between = b.S
		}
		k, err := r.orderKeys(f.Within, nil, nil, e)
		if err != nil {
			return null, err
		}
		vals, keys = append(vals, []Value{v}), append(keys, k)
	}
	vals, err := r.sorted(vals, keys, f.Within)
	if err != nil {
		return null, err
	}
	var list []string
	for _, v := range vals {
		list = append(list, v[0].S)
	}
	out := strings.Join(list, between)
	if len(out) > most {
		return null, fail(1489, "result of string concatenation is too long")
	}
	return text(out), nil
}

// windows evaluates the functions that have OVER.
func (r *run) windows(q *sql.Select, envs []*env) error {
	var list []*sql.Func
	for _, it := range q.Items {
		walk(it.Expr, func(x sql.Expr) {
			if f, is := x.(*sql.Func); is && f.Over != nil {
				list = append(list, f)
			}
		})
	}
	for _, f := range list {
		parts := map[string][]*env{}
		var order []string
		for _, e := range envs {
			var k []byte
			for _, p := range f.Over.Part {
				v, err := r.value(p, e)
				if err != nil {
					return err
				}
				k = append(k, joinKey(v)...)
			}
			if parts[string(k)] == nil {
				order = append(order, string(k))
			}
			parts[string(k)] = append(parts[string(k)], e)
		}
		for _, k := range order {
			if err := r.window(f, parts[k]); err != nil {
				return err
			}
		}
	}
	return nil
}

// window evaluates a function over the rows of a part.
func (r *run) window(f *sql.Func, rows []*env) error {
	set := func(e *env, v Value) {
		if e.win == nil {
			e.win = map[*sql.Func]Value{}
		}
		e.win[f] = v
	}
	if f.Name != "ROW_NUMBER" {
		if len(f.Over.Order) > 0 || !aggregates[f.Name] {
			return unknown("%s over rows in an order", f.Name)
		}
		v, err := r.of(f, rows)
		for _, e := range rows {
			set(e, v)
		}
		return err
	}
	var at, keys [][]Value
	for i, e := range rows {
		k, err := r.orderKeys(f.Over.Order, nil, nil, e)
		if err != nil {
			return err
		}
		at, keys = append(at, []Value{whole(int64(i))}), append(keys, k)
	}
	at, err := r.sorted(at, keys, f.Over.Order)
	for n, v := range at {
		set(rows[v[0].D.IntPart()], whole(int64(n+1)))
	}
	return err
}
