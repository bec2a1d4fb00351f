package engine

import (
	"errors"
	"slices"
	"strconv"
	"strings"

	"ambertray/internal/standin/tsql"
)

// A plan is a query that can be run.
type plan struct {
	cols []Out
	run  func(up *frame, emit func([]Value) error) error
}

// errStop ends a query that has yielded enough.
var errStop = errors.New("enough")

// An iterator puts each row of a source into a frame, and calls next for it.
type iterator func(fr *frame, next func() error) error

// plan makes a query ready: each of what it unites, and the order of all.
func (s *Session) plan(q *tsql.Select, up *scope) (*plan, error) {
	if len(q.More) == 0 {
		return s.planOne(q, up, q.Order)
	}
	list := []*plan{}
	first, err := s.planOne(q, up, nil)
	if err != nil {
		return nil, err
	}
	list = append(list, first)
	cols := slices.Clone(first.cols)
	distinct := false
	for _, m := range q.More {
		p, err := s.plan(m.Select, up)
		if err != nil {
			return nil, err
		}
		if len(p.cols) != len(cols) {
			return nil, fail(205, 16, "All queries combined using a UNION, INTERSECT or EXCEPT operator must have "+
				"an equal "+
				"number of expressions in their target lists.")
		}
		for i := range cols {
			if cols[i].Type, err = unified(cols[i].Type, p.cols[i].Type); err != nil {
				return nil, err
			}
			cols[i].Null = cols[i].Null || p.cols[i].Null
		}
		distinct = distinct || !m.All
		list = append(list, p)
	}
	all := &plan{cols: cols, run: func(up *frame, emit func([]Value) error) error {
		seen := map[string]bool{}
		for _, p := range list {
			err := p.run(up, func(v []Value) error {
				out := make([]Value, len(v))
				var key []byte
				for i := range v {
					var err error
					if out[i], err = convert(v[i], p.cols[i].Type, cols[i].Type, 0); err != nil {
						return err
					}
					key = appendKey(key, cols[i].Type, out[i])
				}
				if distinct && seen[string(key)] {
					return nil
				}
				if distinct {
					seen[string(key)] = true
				}
				return emit(out)
			})
			if err != nil {
				return err
			}
		}
		return nil
	}}
	return s.ordered(all, q.Order)
}

// ordered sorts by what a query yields: by place or name.
func (s *Session) ordered(p *plan, order []tsql.Order) (*plan, error) {
	if len(order) == 0 {
		return p, nil
	}
	var at []int
	for _, o := range order {
		i := -1
		switch e := o.Expr.(type) {
		case *tsql.Lit:
			n, _ := strconv.Atoi(e.Text)
			i = n - 1
		case *tsql.Col:
			i = slices.IndexFunc(p.cols, func(c Out) bool { return strings.EqualFold(c.Name, e.Parts[len(e.Parts)-1]) })
		}
		if i < 0 || i >= len(p.cols) {
			return nil, fail(104, 16, "ORDER BY items must appear in the select list if the statement contains a "+
				"UNION, "+
				"INTERSECT or EXCEPT operator.")
		}
		at = append(at, i)
	}
	return &plan{cols: p.cols, run: func(up *frame, emit func([]Value) error) error {
		var rows [][]Value
		if err := p.run(up, func(v []Value) error { rows = append(rows, slices.Clone(v)); return nil }); err != nil {
			return err
		}
		slices.SortStableFunc(rows, func(a, b []Value) int {
			for k, i := range at {
				if c := orderOf(p.cols[i].Type, a[i], b[i]); c != 0 {
					if order[k].Desc {
						return -c
					}
					return c
				}
			}
			return 0
		})
		return emitAll(rows, emit)
	}}, nil
}

func emitAll(rows [][]Value, emit func([]Value) error) error {
	for _, r := range rows {
		if err := emit(r); err != nil {
			return err
		}
	}
	return nil
}

// orderOf orders values, null first.
func orderOf(t Type, a, b Value) int {
	switch {
	case a.Null && b.Null:
		return 0
	case a.Null:
		return -1
	case b.Null:
		return 1
	}
	return compare(t, a, b)
}

// A selection is one SELECT while it is made ready.
type selection struct {
	s     *Session
	q     *tsql.Select
	sc    *scope
	from  iterator
	where *expr
	items []*expr
	cols  []Out
	sorts []*expr
	desc  []bool
	group []*expr
	have  *expr
	top   *expr
	skip  *expr
}

func (s *Session) planOne(q *tsql.Select, up *scope, order []tsql.Order) (*plan, error) {
	if len(q.Rows) > 0 {
		return s.planValues(q, up)
	}
	x := &selection{s: s, q: q, sc: &scope{up: up, s: s}}
	if err := x.sources(); err != nil {
		return nil, err
	}
	x.sc.grouped = len(q.Group) > 0 || q.Having != nil || hasAggregate(q)
	x.sc.groups = q.Group
	if err := x.outputs(order); err != nil {
		return nil, err
	}
	var err error
	for _, e := range []struct {
		e  tsql.Expr
		to **expr
	}{{q.Having, &x.have}, {q.Top, &x.top}, {q.Fetch, &x.top}, {q.Offset, &x.skip}} {
		if e.e != nil {
			if *e.to, err = x.sc.compile(e.e); err != nil {
				return nil, err
			}
		}
	}
	return &plan{cols: x.cols, run: x.run}, nil
}

// sources makes FROM and WHERE ready.
func (x *selection) sources() error {
	x.from = func(_ *frame, next func() error) error { return next() }
	var conjuncts []tsql.Expr
	if x.q.Where != nil {
		conjuncts = split(x.q.Where, nil)
	}
	if x.q.From != nil {
		var err error
		if x.from, err = x.sc.source(x.q.From, conjuncts); err != nil {
			return err
		}
	}
	if x.q.Where != nil {
		if hasAgg(x.q.Where) {
			return fail(147, 15, "An aggregate may not appear in the WHERE clause.")
		}
		var err error
		if x.where, err = x.sc.compile(x.q.Where); err != nil {
			return err
		}
	}
	for _, g := range x.q.Group {
		e, err := x.sc.compile(g)
		if err != nil {
			return err
		}
		x.group = append(x.group, e)
	}
	return nil
}

// split takes what AND joins apart.
func split(e tsql.Expr, list []tsql.Expr) []tsql.Expr {
	if b, is := e.(*tsql.Binary); is && b.Op == "AND" {
		return split(b.R, split(b.L, list))
	}
	return append(list, e)
}

// outputs makes what is selected, and what it is ordered by, ready.
func (x *selection) outputs(order []tsql.Order) error {
	for _, it := range x.q.Items {
		if st, is := it.Expr.(*tsql.Star); is {
			if err := x.star(st); err != nil {
				return err
			}
			continue
		}
		e, err := x.sc.compile(it.Expr)
		if err != nil {
			return err
		}
		o := Out{Name: it.As, Type: e.t, Null: !e.sure}
		if c, is := it.Expr.(*tsql.Col); is {
			if o.Name == "" {
				o.Name = c.Parts[len(c.Parts)-1]
			}
			if up, _, _, found, err := x.sc.find(c.Parts); err == nil && up == 0 {
				o.Identity, o.Computed = found.Identity, found.Computed
			}
		}
		if o.Type.Kind == Untyped {
			o.Type = Type{Kind: Int}
		}
		x.items, x.cols = append(x.items, e), append(x.cols, o)
	}
	for _, o := range order {
		e, err := x.sortBy(o.Expr)
		if err != nil {
			return err
		}
		x.sorts, x.desc = append(x.sorts, e), append(x.desc, o.Desc)
	}
	return nil
}

func (x *selection) star(st *tsql.Star) error {
	if x.sc.grouped || len(x.sc.slots) == 0 {
		return fail(8120, 16, "Column '*' is invalid in the select list.")
	}
	found := false
	for i, sl := range x.sc.slots {
		if st.Table != "" && !strings.EqualFold(st.Table, sl.as) {
			continue
		}
		found = true
		for k, c := range sl.cols {
			x.cols = append(x.cols, c)
			x.items = append(x.items, &expr{t: c.Type, sure: !c.Null, f: func(fr *frame) (Value, error) {
				if fr.rows[i] == nil {
					return null, nil
				}
				return fr.rows[i][k], nil
			}})
		}
	}
	if !found {
		return fail(107, 15, "The column prefix '%s' does not match with a table name or alias name used in the query.",
			st.Table)
	}
	return nil
}

// sortBy is a place, the name of something selected, or an expression.
func (x *selection) sortBy(e tsql.Expr) (*expr, error) {
	if l, is := e.(*tsql.Lit); is && l.Kind == "int" {
		n, _ := strconv.Atoi(l.Text)
		if n < 1 || n > len(x.items) {
			return nil, fail(108, 15, "The ORDER BY position number %s is out of range of the number of items in the "+
				"select list.", l.Text)
		}
		return x.items[n-1], nil
	}
	if c, is := e.(*tsql.Col); is && len(c.Parts) == 1 {
		for i, o := range x.cols {
			if strings.EqualFold(o.Name, c.Parts[0]) {
				return x.items[i], nil
			}
		}
	}
	return x.sc.compile(e)
}

// limit is a number of rows; -1: none is said.
func limit(e *expr, fr *frame) (int, error) {
	if e == nil {
		return -1, nil
	}
	v, err := e.f(fr)
	if err == nil && (v.Null || v.N < 0) {
		err = fail(1060, 15, "The number of rows provided for a TOP or FETCH clauses row count parameter must be an "+
			"integer.")
	}
	return int(v.N), err
}

// run runs the query. It is long because the rows, their order and their number depend on
// each other.
func (x *selection) run(up *frame, emit func([]Value) error) error {
	fr := &frame{rows: make([][]Value, len(x.sc.slots)), up: up, s: x.s}
	most, err := limit(x.top, fr)
	if err != nil {
		return err
	}
	skip, err := limit(x.skip, fr)
	if err != nil {
		return err
	}
	var rows [][]Value // with what they are ordered by behind
	seen := map[string]bool{}
	out := func() error {
		if len(x.sorts) == 0 && most == 0 {
			return errStop
		}
		v := make([]Value, len(x.items), len(x.items)+len(x.sorts))
		var key []byte
		for i, e := range x.items {
			var err error
			if v[i], err = e.f(fr); err != nil {
				return err
			}
			if x.q.Distinct {
				key = appendKey(key, x.cols[i].Type, v[i])
			}
		}
		if x.q.Distinct {
			if seen[string(key)] {
				return nil
			}
			seen[string(key)] = true
		}
		if len(x.sorts) == 0 {
			most--
			return emit(v)
		}
		for _, e := range x.sorts {
			k, err := e.f(fr)
			if err != nil {
				return err
			}
			v = append(v, k)
		}
		rows = append(rows, v)
		return nil
	}
	if x.sc.grouped {
		err = x.runGroups(fr, out)
	} else if len(x.sc.windows) > 0 {
		err = x.runWindows(fr, out)
	} else {
		err = x.runRows(fr, out)
	}
	if err != nil && err != errStop {
		return err
	}
	if len(x.sorts) == 0 {
		return nil
	}
	n := len(x.items)
	slices.SortStableFunc(rows, func(a, b []Value) int {
		for k, e := range x.sorts {
			if c := orderOf(e.t, a[n+k], b[n+k]); c != 0 {
				if x.desc[k] {
					return -c
				}
				return c
			}
		}
		return 0
	})
	rows = rows[min(len(rows), max(skip, 0)):]
	if most >= 0 {
		rows = rows[:min(len(rows), most)]
	}
	for _, r := range rows {
		if err := emit(r[:n]); err != nil {
			return err
		}
	}
	return nil
}

// runRows calls next for each row that WHERE lets through.
func (x *selection) runRows(fr *frame, next func() error) error {
	return x.from(fr, func() error {
		if x.where != nil {
			v, err := x.where.f(fr)
			if err != nil || v.Null || v.N == 0 {
				return err
			}
		}
		return next()
	})
}

// runGroups adds rows up by group, and calls next for each group.
func (x *selection) runGroups(fr *frame, next func() error) error {
	type group struct {
		rows  [][]Value
		state []state
	}
	groups := map[string]*group{}
	var order []*group
	var key []byte
	args := make([]Value, len(x.sc.args))
	make1 := func() *group {
		g := &group{state: make([]state, len(x.sc.aggs))}
		order = append(order, g)
		return g
	}
	err := x.runRows(fr, func() error {
		key = key[:0]
		for _, e := range x.group {
			v, err := e.f(fr)
			if err != nil {
				return err
			}
			key = appendKey(key, e.t, v)
		}
		g := groups[string(key)]
		if g == nil {
			g = make1()
			g.rows = slices.Clone(fr.rows)
			groups[string(key)] = g
		}
		for i, a := range x.sc.args {
			var err error
			if args[i], err = a.f(fr); err != nil {
				return err
			}
		}
		for i, a := range x.sc.aggs {
			if err := a.add(fr, args, &g.state[i]); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	if len(order) == 0 && len(x.q.Group) == 0 {
		make1().rows = make([][]Value, len(fr.rows))
	}
	for _, g := range order {
		fr.rows = g.rows
		fr.aggs = make([]Value, len(x.sc.aggs))
		for i, a := range x.sc.aggs {
			if fr.aggs[i], err = a.result(&g.state[i]); err != nil {
				return err
			}
		}
		if x.have != nil {
			v, err := x.have.f(fr)
			if err != nil {
				return err
			}
			if v.Null || v.N == 0 {
				continue
			}
		}
		if err := next(); err != nil {
			return err
		}
	}
	return nil
}

func (s *Session) planValues(q *tsql.Select, up *scope) (*plan, error) {
	sc := &scope{up: up, s: s}
	var rows [][]*expr
	cols := make([]Out, len(q.Rows[0]))
	for _, r := range q.Rows {
		if len(r) != len(cols) {
			return nil, fail(10709, 16, "The number of columns for each row in a table value constructor must be "+
				"the same.")
		}
		var list []*expr
		for i, e := range r {
			if e == nil {
				list = append(list, nil)
				continue
			}
			c, err := sc.compile(e)
			if err != nil {
				return nil, err
			}
			if cols[i].Type, err = unified(cols[i].Type, c.t); err != nil {
				return nil, err
			}
			cols[i].Null = cols[i].Null || !c.sure
			list = append(list, c)
		}
		rows = append(rows, list)
	}
	return &plan{cols: cols, run: func(up *frame, emit func([]Value) error) error {
		fr := &frame{up: up, s: s}
		for _, r := range rows {
			out := make([]Value, len(r))
			for i, e := range r {
				if e == nil {
					out[i] = defaulted
					continue
				}
				v, err := e.f(fr)
				if err == nil {
					out[i], err = convert(v, e.t, cols[i].Type, 0)
				}
				if err != nil {
					return err
				}
			}
			if err := emit(out); err != nil {
				return err
			}
		}
		return nil
	}}, nil
}

// defaulted stands for DEFAULT in a row of VALUES.
var defaulted = Value{Null: true, N: 1}

// scalar is a query as a value: one row of one column, or null.
func (sc *scope) scalar(q *tsql.Select) (*expr, error) {
	p, err := sc.s.plan(q, sc)
	if err != nil {
		return nil, err
	}
	if len(p.cols) != 1 {
		return nil, fail(116, 16, "Only one expression can be specified in the select list when the subquery is not "+
			"introduced with EXISTS.")
	}
	return &expr{t: p.cols[0].Type, f: func(fr *frame) (Value, error) {
		out, n := null, 0
		err := p.run(fr, func(v []Value) error {
			if n++; n > 1 {
				return fail(512, 16, "Subquery returned more than 1 value. This is not permitted when the subquery "+
					"follows "+
					"=, !=, <, <= , >, >= or when the subquery is used as an expression.")
			}
			out = v[0]
			return nil
		})
		return out, err
	}}, nil
}

func (sc *scope) exists(e *tsql.Exists) (*expr, error) {
	q := *e.Sub
	if len(q.Items) == 1 {
		if _, star := q.Items[0].Expr.(*tsql.Star); star {
			q.Items = []tsql.Item{{Expr: &tsql.Lit{Kind: "int", Text: "1"}}}
		}
	}
	p, err := sc.s.plan(&q, sc)
	if err != nil {
		return nil, err
	}
	return truth(func(fr *frame) (Value, error) {
		found := false
		err := p.run(fr, func([]Value) error { found = true; return errStop })
		if err == errStop {
			err = nil
		}
		return boolean(found), err
	}), nil
}

func (sc *scope) inQuery(e *tsql.In) (*expr, error) {
	x, err := sc.compile(e.X)
	if err != nil {
		return nil, err
	}
	p, err := sc.s.plan(e.Sub, sc)
	if err != nil {
		return nil, err
	}
	if len(p.cols) != 1 {
		return nil, fail(116, 16, "Only one expression can be specified in the select list when the subquery is not "+
			"introduced with EXISTS.")
	}
	t, err := unified(x.t, p.cols[0].Type)
	if err != nil {
		return nil, err
	}
	x = x.to(t)
	return truth(func(fr *frame) (Value, error) {
		v, err := x.f(fr)
		if err != nil || v.Null {
			return v, err
		}
		found, nulls := false, false
		err = p.run(fr, func(r []Value) error {
			w, err := convert(r[0], p.cols[0].Type, t, 0)
			if err != nil {
				return err
			}
			if w.Null {
				nulls = true
			} else if compare(t, v, w) == 0 {
				found = true
				return errStop
			}
			return nil
		})
		if err != nil && err != errStop {
			return null, err
		}
		if !found && nulls {
			return null, nil
		}
		return boolean(found != e.Not), nil
	}), nil
}
