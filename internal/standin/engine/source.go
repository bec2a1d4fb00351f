package engine

import (
	"slices"
	"strings"

	"ambertray/internal/standin/tsql"
)

// source makes FROM ready: its slots go into the scope. Of conjuncts, those that name a
// row of a table by the value of a column save going through all of it.
func (sc *scope) source(src tsql.Source, conjuncts []tsql.Expr) (iterator, error) {
	switch src := src.(type) {
	case *tsql.Table:
		return sc.tableSource(src, conjuncts)
	case *tsql.Derived:
		return sc.derived(src)
	case *tsql.Join:
		return sc.join(src, conjuncts)
	}
	return nil, unknown("this source of rows")
}

func (sc *scope) add(as, schema string, cols []Out, t *Table) (int, error) {
	for _, sl := range sc.slots {
		if strings.EqualFold(sl.as, as) && (sl.schema == schema || sl.table == nil) {
			return 0, fail(1011, 16, "The correlation name '%s' is specified multiple times in a FROM clause.", as)
		}
	}
	sc.slots = append(sc.slots, &slot{as: as, schema: schema, cols: cols, table: t})
	return len(sc.slots) - 1, nil
}

func (sc *scope) derived(d *tsql.Derived) (iterator, error) {
	if d.As == "" {
		return nil, fail(102, 15, "Incorrect syntax near ')': a derived table needs a name.")
	}
	if len(d.Select.Order) > 0 && d.Select.Top == nil && d.Select.Offset == nil {
		return nil, fail(1033, 15, "The ORDER BY clause is invalid in views, inline functions, derived tables, "+
			"subqueries, and common table expressions, unless TOP, OFFSET or FOR XML is also specified.")
	}
	p, err := sc.s.plan(d.Select, sc.up)
	if err != nil {
		return nil, err
	}
	return sc.planned(p, d.As, d.Columns)
}

// planned is a source of what a plan yields.
func (sc *scope) planned(p *plan, as string, names []string) (iterator, error) {
	cols := slices.Clone(p.cols)
	if len(names) > 0 && len(names) != len(cols) {
		return nil, fail(8158, 16, "'%s' has more columns than were specified in the column list.", as)
	}
	for i := range cols {
		if len(names) > 0 {
			cols[i].Name = names[i]
		}
		if cols[i].Name == "" {
			return nil, fail(8155, 16, "No column name was specified for column %d of '%s'.", i+1, as)
		}
		cols[i].Identity = false
	}
	at, err := sc.add(as, "", cols, nil)
	if err != nil {
		return nil, err
	}
	return func(fr *frame, next func() error) error {
		return p.run(fr.up, func(v []Value) error {
			fr.rows[at] = v
			return next()
		})
	}, nil
}

// outs are a table's columns as a query has them.
func (t *Table) outs() (list []Out) {
	for _, c := range t.Columns {
		list = append(list, Out{Name: c.Name, Type: c.Type, Null: c.Null, Identity: c.Identity,
			Computed: c.Computed != nil || c.Type.Kind == RowVersion})
	}
	return list
}

func (sc *scope) tableSource(src *tsql.Table, conjuncts []tsql.Expr) (iterator, error) {
	s := sc.s
	as := src.As
	if as == "" {
		as = src.Name.Object
	}
	if t, err := s.systemView(src); err != nil {
		return nil, err
	} else if t != nil {
		return sc.rowsOf(t, as, "sys", conjuncts)
	}
	if rows, is := s.pseudo[strings.ToLower(src.Name.Object)]; is && src.Name.Schema == "" {
		at, err := sc.add(as, "", s.pseudoOf.outs(), nil)
		return func(fr *frame, next func() error) error {
			for _, r := range rows {
				fr.rows[at] = r
				if err := next(); err != nil {
					return err
				}
			}
			return nil
		}, err
	}
	t, err := s.table(src.Name)
	if err != nil {
		return nil, err
	}
	if err := s.may("SELECT", t); err != nil {
		return nil, err
	}
	if t.view != nil {
		p, err := s.viewPlan(t)
		if err != nil {
			return nil, err
		}
		return sc.planned(p, as, nil)
	}
	if t.seq != nil {
		return nil, fail(208, 16, "Invalid object name '%s'.", src.Name.Object)
	}
	if err := s.lockToRead(src, &t); err != nil {
		return nil, err
	}
	return sc.rowsOf(t, as, t.schema, conjuncts)
}

// rowsOf is a source of a table's rows.
func (sc *scope) rowsOf(t *Table, as, schema string, conjuncts []tsql.Expr) (iterator, error) {
	at, err := sc.add(as, schema, t.outs(), t)
	if err != nil {
		return nil, err
	}
	by := sc.lookup(at, t, conjuncts)
	return func(fr *frame, next func() error) error {
		rows := t.rows
		if by != nil {
			if rows, err = by.find(fr); err != nil {
				return err
			}
		}
		for _, r := range rows {
			if r.dead {
				continue
			}
			fr.rows[at] = r.v
			if fr.cur != nil {
				fr.cur[at] = r
			}
			if err := next(); err != nil {
				return err
			}
		}
		return nil
	}, nil
}

// lockToRead waits until nobody is at a table who is not done, and holds it as hints say.
func (s *Session) lockToRead(src *tsql.Table, t **Table) error {
	has := func(h string) bool { return slices.Contains(src.Hints, h) }
	if has("NOLOCK") || has("READUNCOMMITTED") || s.isolation == "READ UNCOMMITTED" || (*t).temp {
		return nil
	}
	for {
		var err error
		hold := has("HOLDLOCK") || has("SERIALIZABLE") || s.isolation == "SERIALIZABLE" ||
			s.isolation == "REPEATABLE READ"
		if has("TABLOCKX") || has("XLOCK") || has("TABLOCK") && has("UPDLOCK") {
			err = s.statement.write(*t)
		} else {
			err = s.statement.read(*t, hold && s.statement == s.tx)
		}
		if err != nil {
			return err
		}
		again, err := s.table(src.Name)
		if err != nil || again == *t {
			return err
		}
		*t = again
	}
}

// viewPlan is the query of a view.
func (s *Session) viewPlan(t *Table) (*plan, error) {
	p, err := s.plan(t.view, nil)
	if err != nil {
		return nil, err
	}
	q := *p
	q.cols = slices.Clone(p.cols)
	for i, c := range t.Columns {
		if i < len(q.cols) {
			q.cols[i].Name = c.Name
		}
	}
	return &q, nil
}

// A lookup finds rows by the value of one column.
type lookup struct {
	t   *Table
	col int
	e   *expr
	m   map[string][]*row
	n   int // rows when it was made
	key []byte
}

// lookup finds a condition that says which rows of a table are meant.
func (sc *scope) lookup(at int, t *Table, conjuncts []tsql.Expr) *lookup {
	for _, c := range conjuncts {
		b, is := c.(*tsql.Binary)
		if !is || b.Op != "=" {
			continue
		}
		for _, side := range [][2]tsql.Expr{{b.L, b.R}, {b.R, b.L}} {
			col, is := side[0].(*tsql.Col)
			if !is {
				continue
			}
			up, slot, k, out, err := sc.find(col.Parts)
			if err != nil || up != 0 || slot != at {
				continue
			}
			switch other := side[1].(type) {
			case *tsql.Lit, *tsql.Var:
			case *tsql.Call:
				if slices.ContainsFunc(other.Args, func(a tsql.Expr) bool { _, is := a.(*tsql.Col); return is }) {
					continue
				}
			case *tsql.Col:
				if up, slot, _, _, err := sc.find(other.Parts); err != nil || up == 0 && slot >= at {
					continue
				}
			default:
				continue
			}
			e, err := sc.compile(side[1])
			if err != nil || e.t.Explicit || !(e.t.IsInteger() && out.Type.IsInteger() || e.t.Kind == out.Type.Kind &&
				(e.t.Coll == nil || e.t.Coll.Name == out.Type.Coll.Name) && e.t.digits() == out.Type.digits()) {
				continue
			}
			return &lookup{t: t, col: k, e: e}
		}
	}
	return nil
}

func (l *lookup) find(fr *frame) ([]*row, error) {
	v, err := l.e.f(fr)
	if err != nil || v.Null {
		return nil, err
	}
	typ := l.t.Columns[l.col].Type
	if l.m == nil || l.n != len(l.t.rows) {
		l.m, l.n = map[string][]*row{}, len(l.t.rows)
		for _, r := range l.t.rows {
			if !r.dead && !r.v[l.col].Null {
				l.key = appendKey(l.key[:0], typ, r.v[l.col])
				l.m[string(l.key)] = append(l.m[string(l.key)], r)
			}
		}
	}
	l.key = appendKey(l.key[:0], typ, v)
	return l.m[string(l.key)], nil
}

// join is two sources.
func (sc *scope) join(j *tsql.Join, conjuncts []tsql.Expr) (iterator, error) {
	if j.Kind == "RIGHT" {
		// The columns of * come in another order, which nobody may see.
		return sc.join(&tsql.Join{Kind: "LEFT", L: j.R, R: j.L, On: j.On}, nil)
	}
	if j.Kind == "FULL" {
		return nil, unknown("FULL JOIN")
	}
	outer := j.Kind == "LEFT" || j.Kind == "OUTER APPLY"
	l, err := sc.source(j.L, conjuncts)
	if err != nil {
		return nil, err
	}
	on := conjuncts
	if outer {
		on = nil
	}
	if j.On != nil {
		on = append(slices.Clone(on), split(j.On, nil)...)
	}
	from := len(sc.slots)
	r, err := sc.right(j, on)
	if err != nil {
		return nil, err
	}
	to := len(sc.slots)
	if outer {
		for _, sl := range sc.slots[from:to] {
			sl.cols = slices.Clone(sl.cols)
			for i := range sl.cols {
				sl.cols[i].Null = true
			}
		}
	}
	cond := constant(bitType, boolean(true))
	if j.On != nil {
		if cond, err = sc.compile(j.On); err != nil {
			return nil, err
		}
	}
	return func(fr *frame, next func() error) error {
		return l(fr, func() error {
			matched := false
			err := r(fr, func() error {
				v, err := cond.f(fr)
				if err != nil || v.Null || v.N == 0 {
					return err
				}
				matched = true
				return next()
			})
			if err != nil || matched || !outer {
				return err
			}
			for i := from; i < to; i++ {
				fr.rows[i] = nil
			}
			return next()
		})
	}, nil
}

// right is the right side of a join: of an APPLY it sees the left one.
func (sc *scope) right(j *tsql.Join, on []tsql.Expr) (iterator, error) {
	d, is := j.R.(*tsql.Derived)
	if !strings.HasSuffix(j.Kind, "APPLY") || !is {
		return sc.source(j.R, on)
	}
	left := *sc
	left.slots = slices.Clone(sc.slots)
	p, err := sc.s.plan(d.Select, &left)
	if err != nil {
		return nil, err
	}
	if _, err := sc.planned(p, d.As, d.Columns); err != nil {
		return nil, err
	}
	at := len(sc.slots) - 1
	return func(fr *frame, next func() error) error {
		return p.run(fr, func(v []Value) error {
			fr.rows[at] = v
			return next()
		})
	}, nil
}
