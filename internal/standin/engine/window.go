package engine

import (
	"slices"

	"ambertray/internal/standin/tsql"
)

// A window is a function over the rows of a part: ROW_NUMBER, or one that adds up all of the
// part, in no order.
type window struct {
	part, order []*expr
	desc        []bool
	agg         *aggregate // nil: rows are numbered
}

// window makes one ready; its value is found when all rows are known.
func (sc *scope) window(e *tsql.Call) (*expr, error) {
	if sc.grouped || sc.inAgg {
		return nil, unknown("window functions over groups")
	}
	w := &window{}
	for _, p := range e.Part {
		x, err := sc.compile(p)
		if err != nil {
			return nil, err
		}
		w.part = append(w.part, x)
	}
	for _, o := range e.Order {
		x, err := sc.compile(o.Expr)
		if err != nil {
			return nil, err
		}
		w.order, w.desc = append(w.order, x), append(w.desc, o.Desc)
	}
	t := Type{Kind: BigInt}
	switch {
	case e.Name == "ROW_NUMBER" && len(e.Order) == 0:
		return nil, fail(4112, 15, "The function 'ROW_NUMBER' must have an OVER clause with ORDER BY.")
	case e.Name == "ROW_NUMBER":
	case !aggregates[e.Name] || e.Name == "STRING_AGG" || len(e.Order) > 0 || e.Distinct:
		return nil, unknown("this window function (%s … OVER)", e.Name)
	default:
		w.agg = &aggregate{name: e.Name}
		if !e.Star {
			var err error
			if w.agg.arg, err = sc.compile(e.Args[0]); err != nil {
				return nil, err
			}
		}
		if err := w.agg.typed(); err != nil {
			return nil, err
		}
		t = w.agg.t
	}
	i := len(sc.windows)
	sc.windows = append(sc.windows, w)
	return &expr{t: t, sure: w.agg == nil, f: func(fr *frame) (Value, error) { return fr.windows[i], nil }}, nil
}

// A windowed is a row, and what the windows come to for it.
type windowed struct {
	rows [][]Value
	vals []Value
	keys []Value // what the window at hand orders by
}

// runWindows calls next for each row, when what its windows come to is known.
func (x *selection) runWindows(fr *frame, next func() error) error {
	var all []*windowed
	err := x.runRows(fr, func() error {
		all = append(all, &windowed{rows: slices.Clone(fr.rows), vals: make([]Value, len(x.sc.windows))})
		return nil
	})
	if err != nil {
		return err
	}
	for i, w := range x.sc.windows {
		parts, err := w.parts(fr, all)
		if err != nil {
			return err
		}
		for _, part := range parts {
			if w.agg == nil {
				w.number(i, part)
			} else if err := w.add(fr, i, part); err != nil {
				return err
			}
		}
	}
	for _, o := range all {
		fr.rows, fr.windows = o.rows, o.vals
		if err := next(); err != nil {
			return err
		}
	}
	return nil
}

// parts are the rows by what PARTITION BY says, with what they are ordered by.
func (w *window) parts(fr *frame, all []*windowed) (map[string][]*windowed, error) {
	parts := map[string][]*windowed{}
	for _, o := range all {
		fr.rows = o.rows
		var key []byte
		for _, e := range w.part {
			v, err := e.f(fr)
			if err != nil {
				return nil, err
			}
			key = appendKey(key, e.t, v)
		}
		o.keys = o.keys[:0]
		for _, e := range w.order {
			v, err := e.f(fr)
			if err != nil {
				return nil, err
			}
			o.keys = append(o.keys, v)
		}
		parts[string(key)] = append(parts[string(key)], o)
	}
	return parts, nil
}

// number numbers the rows of a part in their order.
func (w *window) number(i int, part []*windowed) {
	slices.SortStableFunc(part, func(a, b *windowed) int {
		for k, e := range w.order {
			if c := orderOf(e.t, a.keys[k], b.keys[k]); c != 0 {
				if w.desc[k] {
					return -c
				}
				return c
			}
		}
		return 0
	})
	for n, o := range part {
		o.vals[i] = Value{N: int64(n + 1)}
	}
}

// add adds the rows of a part up.
func (w *window) add(fr *frame, i int, part []*windowed) error {
	var st state
	for _, o := range part {
		fr.rows = o.rows
		var args []Value
		if w.agg.arg != nil {
			v, err := w.agg.arg.f(fr)
			if err != nil {
				return err
			}
			args = []Value{v}
		}
		if err := w.agg.add(fr, args, &st); err != nil {
			return err
		}
	}
	v, err := w.agg.result(&st)
	for _, o := range part {
		o.vals[i] = v
	}
	return err
}

// selectInto makes a table of what a query yields.
func (s *Session) selectInto(q *tsql.Select) (int64, error) {
	one := *q
	one.Into = nil
	p, err := s.plan(&one, nil)
	if err != nil {
		return -1, err
	}
	var rows [][]Value
	if err := p.run(nil, func(v []Value) error { rows = append(rows, slices.Clone(v)); return nil }); err != nil &&
		err != errStop {
		return -1, err
	}
	if q.Into.Object[0] != '#' {
		if err := s.may("CREATE TABLE", nil); err != nil {
			return -1, err
		}
	}
	t := &Table{notes: map[string]string{}, next: 1}
	if err := s.enter(t, *q.Into); err != nil {
		return -1, err
	}
	var from []Type
	var cols []int
	for i, c := range p.cols {
		if c.Name == "" {
			return -1, fail(1038, 15, "An object or column name is missing or empty.")
		}
		// That a column is numbered is not taken over here, but for a server it is.
		t.Columns = append(t.Columns, &Column{table: t, ID: i + 1, Name: c.Name, Type: c.Type, Null: c.Null})
		from, cols = append(from, c.Type), append(cols, i)
	}
	return s.fill(t, cols, from, rows)
}
