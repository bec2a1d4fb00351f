package engine

import (
	"slices"
	"strings"

	"ambertray/internal/standin/oracle/sql"
)

// A relation is rows with their shape. Of a single table, it knows which row is whose.
type relation struct {
	shape *shape
	rows  [][]Value
	from  []*row
	heap  *heap
	table *table
}

// A lookup is what rows of a relation were ordered by, for one query.
type lookup struct {
	source sql.Source
	column int
}

// selectAll runs a query that stands for itself.
func (r *run) selectAll(q *sql.Select) (*Result, error) {
	rows, cols, err := r.query(q, nil)
	if err != nil {
		return nil, err
	}
	res := &Result{Query: true, Rows: rows}
	for i, f := range cols {
		c := Column{Name: f.name, Type: f.typ, Required: f.full}
		if !f.known {
			c.Type = columnType(null)
			for _, row := range rows {
				if !row[i].IsNull() {
					c.Type = columnType(row[i])
					break
				}
			}
		}
		res.Columns = append(res.Columns, c)
	}
	return res, nil
}

// query runs a query with its unions, its order and its limit.
func (r *run) query(q *sql.Select, outer *env) ([][]Value, []field, error) {
	rows, cols, orders, err := r.one(q, outer)
	if err != nil {
		return nil, nil, err
	}
	for _, u := range q.More {
		more, fields, _, err := r.one(u.Select, outer)
		if err != nil {
			return nil, nil, err
		}
		if len(fields) != len(cols) {
			return nil, nil, fail(1789, "query block has incorrect number of result columns")
		}
		rows = united(u.Kind, rows, more)
		orders = nil
	}
	if len(q.Order) > 0 {
		if len(q.More) > 0 {
			if orders, err = r.orderedUnion(q, rows, cols); err != nil {
				return nil, nil, err
			}
		}
		if rows, err = r.sorted(rows, orders, q.Order); err != nil {
			return nil, nil, err
		}
	}
	if q.Fetch != nil {
		v, err := r.value(q.Fetch, nil)
		if err != nil {
			return nil, nil, err
		}
		if v, err = asNumber(v); err != nil {
			return nil, nil, err
		}
		rows = rows[:min(len(rows), int(max(v.D.IntPart(), 0)))]
	}
	return rows, cols, nil
}

// united puts the rows of two queries together.
func united(kind string, a, b [][]Value) [][]Value {
	key := func(row []Value) string {
		var k []byte
		for _, v := range row {
			k = v.key(k)
		}
		return string(k)
	}
	if kind == "UNION ALL" {
		return append(a, b...)
	}
	inB, seen := map[string]bool{}, map[string]bool{}
	for _, row := range b {
		inB[key(row)] = true
	}
	all := a
	if kind == "UNION" {
		all = append(slices.Clone(a), b...)
	}
	var out [][]Value
	for _, row := range all {
		k := key(row)
		if seen[k] || kind == "MINUS" && inB[k] || kind == "INTERSECT" && !inB[k] {
			continue
		}
		seen[k] = true
		out = append(out, row)
	}
	return out
}

// orderedUnion are what the rows of a union are ordered by: its columns.
func (r *run) orderedUnion(q *sql.Select, rows [][]Value, cols []field) ([][]Value, error) {
	h := &shape{cols: cols}
	var out [][]Value
	for _, row := range rows {
		keys, err := r.orderKeys(q.Order, cols, row, &env{shape: h, vals: row})
		if err != nil {
			return nil, err
		}
		out = append(out, keys)
	}
	return out, nil
}

// orderKeys are what one row is ordered by: numbers are places in the list, and names of the
// list count before those of the sources.
func (r *run) orderKeys(orders []sql.Order, cols []field, row []Value, e *env) ([]Value, error) {
	var keys []Value
	for _, o := range orders {
		if l, is := o.Expr.(*sql.Lit); is && l.Kind == "number" {
			n, ok := sql.ParseNumber(l.Text)
			if !ok || n < 1 || n > int64(len(row)) {
				return nil, fail(1785, "ORDER BY item must be the number of a SELECT-list expression")
			}
			keys = append(keys, row[n-1])
			continue
		}
		if c, is := o.Expr.(*sql.Col); is && c.Of.Object == "" {
			if i := slices.IndexFunc(cols, func(f field) bool { return f.name == c.Name }); i >= 0 {
				keys = append(keys, row[i])
				continue
			}
		}
		v, err := r.value(o.Expr, e)
		if err != nil {
			return nil, err
		}
		keys = append(keys, v)
	}
	return keys, nil
}

// sorted puts rows in an order.
func (r *run) sorted(rows, keys [][]Value, orders []sql.Order) ([][]Value, error) {
	at := make([]int, len(rows))
	for i := range at {
		at[i] = i
	}
	var failed error
	slices.SortStableFunc(at, func(a, b int) int {
		for k, o := range orders {
			x, y := keys[a][k], keys[b][k]
			c := 0
			switch {
			case x.IsNull() && y.IsNull():
				continue
			case x.IsNull() || y.IsNull():
				if x.IsNull() == o.NullsFirst {
					return -1
				}
				return 1
			default:
				var err error
				if c, err = r.s.compare(x, y); err != nil {
					failed = err
				}
			}
			if o.Desc {
				c = -c
			}
			if c != 0 {
				return c
			}
		}
		return 0
	})
	out := make([][]Value, len(rows))
	for i, k := range at {
		out[i] = rows[k]
	}
	return out, failed
}

// one runs one SELECT. orders are what its rows are ordered by.
func (r *run) one(q *sql.Select, outer *env) (rows [][]Value, cols []field, orders [][]Value, err error) {
	rel, err := r.sources(q, outer)
	if err != nil {
		return nil, nil, nil, err
	}
	if rel, err = r.filtered(q, rel, outer); err != nil {
		return nil, nil, nil, err
	}
	if q.ForUpdate {
		if rel, err = r.locked(q, rel, outer); err != nil {
			return nil, nil, nil, err
		}
	}
	envs := make([]*env, len(rel.rows))
	for i, row := range rel.rows {
		envs[i] = &env{shape: rel.shape, vals: row, outer: outer, rownum: int64(i + 1)}
	}
	if isGrouped(q) {
		if envs, err = r.grouped(q, rel.shape, envs, outer); err != nil {
			return nil, nil, nil, err
		}
	}
	if err = r.windows(q, envs); err != nil {
		return nil, nil, nil, err
	}
	cols = columnsOf(q, rel.shape)
	seen := map[string]bool{}
	for _, e := range envs {
		row, err := r.items(q, e)
		if err != nil {
			return nil, nil, nil, err
		}
		if q.Distinct {
			var k []byte
			for _, v := range row {
				k = v.key(k)
			}
			if seen[string(k)] {
				continue
			}
			seen[string(k)] = true
		}
		rows = append(rows, row)
		if len(q.Order) > 0 && len(q.More) == 0 {
			keys, err := r.orderKeys(q.Order, cols, row, e)
			if err != nil {
				return nil, nil, nil, err
			}
			orders = append(orders, keys)
		}
	}
	if len(envs) == 0 { // columns that there are not are found without a row, too
		if err := r.dry(q, rel.shape, outer); err != nil {
			return nil, nil, nil, err
		}
	}
	return rows, cols, orders, nil
}

// dry looks for the columns of a query that has no rows.
func (r *run) dry(q *sql.Select, h *shape, outer *env) error {
	e := &env{shape: h, vals: make([]Value, len(h.cols)), outer: outer}
	for _, it := range q.Items {
		if c, is := it.Expr.(*sql.Col); is {
			if _, err := r.column(c, e); err != nil {
				return err
			}
		}
	}
	return nil
}

// items evaluates the list of a query.
func (r *run) items(q *sql.Select, e *env) ([]Value, error) {
	var row []Value
	for _, it := range q.Items {
		if star, is := it.Expr.(*sql.Star); is {
			for i, f := range e.shape.cols {
				if f.name != "ROWID" && (star.Of == "" || f.of == star.Of) {
					row = append(row, e.vals[i])
				}
			}
			continue
		}
		v, err := r.value(it.Expr, e)
		if err != nil {
			return nil, err
		}
		row = append(row, v)
	}
	return row, nil
}

// columnsOf are the names and types of what a query yields.
func columnsOf(q *sql.Select, h *shape) (out []field) {
	for _, it := range q.Items {
		switch x := it.Expr.(type) {
		case *sql.Star:
			for _, f := range h.cols {
				if f.name != "ROWID" && (x.Of == "" || f.of == x.Of) {
					out = append(out, field{name: f.name, typ: f.typ, known: f.known, full: f.full})
				}
			}
			continue
		case *sql.Col:
			f := field{name: x.Name}
			if i, err := h.find(x); err == nil && i >= 0 {
				f.typ, f.known, f.full = h.cols[i].typ, h.cols[i].known, h.cols[i].full
			}
			if it.As != "" {
				f.name = it.As
			}
			out = append(out, f)
			continue
		case *sql.Cast:
			f := field{name: it.Text}
			if t, err := typeOf(x.Type); err == nil {
				f.typ, f.known = t, true
			}
			if it.As != "" {
				f.name = it.As
			}
			out = append(out, f)
			continue
		}
		f := field{name: it.Text}
		if it.As != "" {
			f.name = it.As
		}
		if fn, is := it.Expr.(*sql.Func); is && (fn.Name == "COUNT" || fn.Name == "ROW_NUMBER") {
			f.typ, f.known = Type{Kind: Number, Name: "NUMBER", Free: true}, true
		}
		out = append(out, f)
	}
	return out
}

// sources are the rows of FROM, before WHERE.
func (r *run) sources(q *sql.Select, outer *env) (*relation, error) {
	var rel *relation
	for i, src := range q.From {
		next, err := r.source(src, outer)
		if err != nil {
			return nil, err
		}
		if i == 0 {
			rel = next
			continue
		}
		if rel, err = r.joined("INNER", rel, next, q.Where, outer); err != nil {
			return nil, err
		}
	}
	return rel, nil
}

// source is one table, query or join.
func (r *run) source(src sql.Source, outer *env) (*relation, error) {
	switch x := src.(type) {
	case *sql.Table:
		return r.tableRows(x, outer)
	case *sql.Derived:
		rows, cols, err := r.query(x.Select, outer)
		if err != nil {
			return nil, err
		}
		h := &shape{}
		for i, f := range cols {
			f.of = x.As
			if !f.known {
				for _, row := range rows {
					if !row[i].IsNull() {
						f.typ, f.known = columnType(row[i]), true
						break
					}
				}
			}
			h.cols = append(h.cols, f)
		}
		return &relation{shape: h, rows: rows}, nil
	case *sql.Join:
		l, err := r.source(x.L, outer)
		if err != nil {
			return nil, err
		}
		k, err := r.source(x.R, outer)
		if err != nil {
			return nil, err
		}
		if x.Kind == "RIGHT" {
			return r.rightJoined(l, k, x.On, outer)
		}
		return r.joined(x.Kind, l, k, x.On, outer)
	}
	return nil, unknown("this source of rows")
}

// tableRows are those of a table, a view or a part of the catalog.
func (r *run) tableRows(x *sql.Table, outer *env) (*relation, error) {
	s := r.s
	as := x.As
	if as == "" {
		as = x.Name.Object
	}
	switch o := s.object(x.Name).(type) {
	case *table:
		if _, err := s.table(x.Name, "SELECT"); err != nil {
			return nil, err
		}
		if r.read[x] != nil {
			return r.read[x], nil
		}
		h := &shape{}
		for _, c := range o.cols {
			h.cols = append(h.cols, field{as, o.owner, c.name, c.typ, true, c.required})
		}
		if r.rowIDs {
			h.cols = append(h.cols, field{as, o.owner, "ROWID", Type{Kind: RowID, Name: "ROWID"}, true, true})
		}
		rel := &relation{shape: h, heap: o.rowsOf(s), table: o}
		for _, w := range rel.heap.rows {
			vals := w.seen(s.tx)
			if vals == nil {
				continue
			}
			rel.rows = append(rel.rows, r.withID(vals, o.id, w))
			rel.from = append(rel.from, w)
		}
		r.read[x] = rel
		return rel, nil
	case *view:
		if !s.allowed(o.owner, o.rights, "SELECT") {
			return nil, fail(942, "table or view does not exist")
		}
		return r.viewRows(o, as)
	}
	rel, err := r.catalog(x.Name)
	if err != nil {
		return nil, err
	}
	for i := range rel.shape.cols {
		rel.shape.cols[i].of = as
	}
	return rel, nil
}

// viewRows are those of a view, by its owner's rights.
func (r *run) viewRows(v *view, as string) (*relation, error) {
	s := r.s
	user, schema, ids := s.user, s.schema, r.rowIDs
	s.user, s.schema, r.rowIDs = s.srv.users[v.owner], v.owner, true // which its text may ask for
	defer func() { s.user, s.schema, r.rowIDs = user, schema, ids }()
	rel, err := r.source(&sql.Derived{Select: v.def.Select, As: as}, nil)
	if err != nil {
		return nil, err
	}
	rel.shape = &shape{cols: slices.Clone(rel.shape.cols)}
	for i := range rel.shape.cols {
		rel.shape.cols[i].schema = v.owner
		if i < len(v.def.Columns) {
			rel.shape.cols[i].name = v.def.Columns[i]
		}
	}
	return rel, nil
}

const rowLetters = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/"

// withID adds the address of a row to its values, where the statement may ask for it.
func (r *run) withID(vals []Value, object int, w *row) []Value {
	if !r.rowIDs {
		return vals
	}
	return append(vals[:len(vals):len(vals)], Value{Kind: RowID, S: rowID(object, w.n)})
}

// rowID is the address of a row: six letters of the object, three of a file, six of a block
// and three of a place in it.
func rowID(object int, n int64) string {
	letters := func(v int64, size int) string {
		b := make([]byte, size)
		for i := size - 1; i >= 0; i-- {
			b[i] = rowLetters[v&63]
			v >>= 6
		}
		return string(b)
	}
	return letters(int64(object), 6) + "AAB" + letters(n/1000, 6) + letters(n%1000, 3)
}

// conjuncts are the conditions that all have to be true.
func conjuncts(x sql.Expr) []sql.Expr {
	if b, is := x.(*sql.Binary); is && b.Op == "AND" {
		return append(conjuncts(b.L), conjuncts(b.R)...)
	}
	if x == nil {
		return nil
	}
	return []sql.Expr{x}
}

// inside reports whether a column is of a shape.
func inside(x sql.Expr, h *shape) (int, bool) {
	c, is := x.(*sql.Col)
	if !is {
		return 0, false
	}
	i, err := h.find(c)
	return i, err == nil && i >= 0
}

// equals finds among conditions those that say that a column of b is one of a.
func equals(on sql.Expr, a, b *shape) (ai, bi []int) {
	for _, c := range conjuncts(on) {
		eq, is := c.(*sql.Binary)
		if !is || eq.Op != "=" {
			continue
		}
		for _, p := range [][2]sql.Expr{{eq.L, eq.R}, {eq.R, eq.L}} {
			x, isA := inside(p[0], a)
			y, isB := inside(p[1], b)
			_, alsoB := inside(p[0], b)
			_, alsoA := inside(p[1], a)
			if isA && isB && !alsoB && !alsoA && a.cols[x].typ.Kind == b.cols[y].typ.Kind {
				ai, bi = append(ai, x), append(bi, y)
				break
			}
		}
	}
	return ai, bi
}

// joined puts two relations side by side.
func (r *run) joined(kind string, a, b *relation, on sql.Expr, outer *env) (*relation, error) {
	out := &relation{shape: &shape{cols: append(slices.Clone(a.shape.cols), b.shape.cols...)}}
	var byKey map[string][]int
	ai, bi := equals(on, a.shape, b.shape)
	hashed := len(ai) > 0
	if hashed {
		byKey = map[string][]int{}
		for i, row := range b.rows {
			k := joinKeys(row, bi)
			byKey[k] = append(byKey[k], i)
		}
	}
	e := &env{shape: out.shape, outer: outer}
	for _, left := range a.rows {
		found := false
		try := func(right []Value) error {
			e.vals = append(left[:len(left):len(left)], right...)
			if on != nil && kind != "CROSS" && (kind == "LEFT" || hashed || !partial(on, out.shape)) {
				t, err := r.truth(on, e)
				if err != nil || t != isTrue {
					return err
				}
			}
			found = true
			out.rows = append(out.rows, e.vals)
			return nil
		}
		if hashed {
			for _, i := range byKey[joinKeys(left, ai)] {
				if err := try(b.rows[i]); err != nil {
					return nil, err
				}
			}
		} else {
			for _, right := range b.rows {
				if err := try(right); err != nil {
					return nil, err
				}
			}
		}
		if !found && kind == "LEFT" {
			out.rows = append(out.rows, append(left[:len(left):len(left)], make([]Value, len(b.shape.cols))...))
		}
	}
	return out, nil
}

// joinKey is a value's key without the blanks that fill it up.
func joinKey(v Value) []byte { return appendKey(nil, v) }

func appendKey(key []byte, v Value) []byte {
	if v.Fixed {
		v.S = strings.TrimRight(v.S, " ")
	}
	return v.key(key)
}

// joinKeys is that of some values of a row.
func joinKeys(row []Value, at []int) string {
	var key []byte
	for _, i := range at {
		key = appendKey(key, row[i])
	}
	return string(key)
}

// partial reports a condition that speaks of sources that are not there yet.
func partial(on sql.Expr, h *shape) bool {
	missing := false
	walk(on, func(x sql.Expr) {
		if c, is := x.(*sql.Col); is {
			if i, err := h.find(c); err != nil || i < 0 {
				missing = true
			}
		}
	})
	return missing
}

func (r *run) rightJoined(a, b *relation, on sql.Expr, outer *env) (*relation, error) {
	out, err := r.joined("LEFT", b, a, on, outer)
	if err != nil {
		return nil, err
	}
	n := len(b.shape.cols)
	turned := &relation{shape: &shape{cols: append(slices.Clone(out.shape.cols[n:]), out.shape.cols[:n]...)}}
	for _, row := range out.rows {
		turned.rows = append(turned.rows, append(slices.Clone(row[n:]), row[:n]...))
	}
	return turned, nil
}

// filtered leaves the rows for which WHERE is true. Where it asks one table for a value from
// outside, the table's rows are put in order once.
func (r *run) filtered(q *sql.Select, rel *relation, outer *env) (*relation, error) {
	if q.Where == nil {
		return rel, nil
	}
	some, err := r.candidates(q, rel, outer)
	if err != nil {
		return nil, err
	}
	out := &relation{shape: rel.shape, heap: rel.heap, table: rel.table}
	e := &env{shape: rel.shape, outer: outer}
	for _, i := range some {
		e.vals, e.rownum = rel.rows[i], int64(len(out.rows)+1)
		t, err := r.truth(q.Where, e)
		if err != nil {
			return nil, err
		}
		if t != isTrue {
			continue
		}
		out.rows = append(out.rows, rel.rows[i])
		if rel.from != nil {
			out.from = append(out.from, rel.from[i])
		}
	}
	return out, nil
}

// candidates are the rows that WHERE may be true for.
func (r *run) candidates(q *sql.Select, rel *relation, outer *env) ([]int, error) {
	if outer != nil && len(q.From) == 1 {
		if t, is := q.From[0].(*sql.Table); is {
			for _, c := range conjuncts(q.Where) {
				eq, is := c.(*sql.Binary)
				if !is || eq.Op != "=" {
					continue
				}
				for _, p := range [][2]sql.Expr{{eq.L, eq.R}, {eq.R, eq.L}} {
					i, is := inside(p[0], rel.shape)
					if !is || !partial(p[1], &shape{}) || !allOutside(p[1], rel.shape) {
						continue
					}
					v, err := r.value(p[1], outer)
					if err != nil {
						return nil, err
					}
					if v.IsNull() {
						return nil, nil
					}
					if v.Kind != rel.shape.cols[i].typ.Kind {
						continue
					}
					return r.lookedUp(lookup{t, i}, rel, v), nil
				}
			}
		}
	}
	all := make([]int, len(rel.rows))
	for i := range all {
		all[i] = i
	}
	return all, nil
}

func allOutside(x sql.Expr, h *shape) bool {
	out := true
	walk(x, func(x sql.Expr) {
		if c, is := x.(*sql.Col); is {
			if i, err := h.find(c); err != nil || i >= 0 {
				out = false
			}
		}
	})
	return out
}

func (r *run) lookedUp(l lookup, rel *relation, v Value) []int {
	m := r.found[l]
	if m == nil {
		m = map[string][]int{}
		for i, row := range rel.rows {
			k := string(joinKey(row[l.column]))
			m[k] = append(m[k], i)
		}
		r.found[l] = m
	}
	return m[string(joinKey(v))]
}

// locked makes the rows of a query for update those of the transaction.
func (r *run) locked(q *sql.Select, rel *relation, outer *env) (*relation, error) {
	if rel.table == nil {
		return nil, fail(2014, "cannot select FOR UPDATE from view with DISTINCT, GROUP BY, etc.")
	}
	if err := r.s.lock(rel.table, rowExclusive, -1); err != nil {
		return nil, err
	}
	waited := false
	if q.Wait == sql.SkipLocked {
		free := &relation{shape: rel.shape, heap: rel.heap, table: rel.table}
		for i, w := range rel.from {
			if w.by == nil || w.by == r.s.tx {
				free.from, free.rows = append(free.from, w), append(free.rows, rel.rows[i])
			}
		}
		rel = free
	}
	for _, w := range rel.from {
		waited = waited || w.by != nil && w.by != r.s.tx
		if _, err := r.s.own(rel.heap, w, q.Wait); err != nil {
			return nil, err
		}
	}
	if !waited {
		return rel, nil
	}
	clear(r.read)
	again, err := r.sources(q, outer) // as it is behind the others
	if err != nil {
		return nil, err
	}
	return r.filtered(q, again, outer)
}

// walk visits an expression and those within, but not the queries.
func walk(x sql.Expr, visit func(sql.Expr)) {
	visit(x)
	each := func(list ...sql.Expr) {
		for _, y := range list {
			if y != nil {
				walk(y, visit)
			}
		}
	}
	switch x := x.(type) {
	case *sql.Unary:
		each(x.X)
	case *sql.Binary:
		each(x.L, x.R)
	case *sql.Func:
		each(x.Args...)
		if x.Over != nil {
			each(x.Over.Part...)
			for _, o := range x.Over.Order {
				each(o.Expr)
			}
		}
	case *sql.Cast:
		each(x.X)
	case *sql.Case:
		each(x.X, x.Other)
		each(x.When...)
		each(x.Then...)
	case *sql.In:
		each(x.X)
		each(x.List...)
	case *sql.Between:
		each(x.X, x.Lo, x.Hi)
	case *sql.Like:
		each(x.X, x.Pattern, x.Escape)
	case *sql.IsNull:
		each(x.X)
	case *sql.Tuple:
		each(x.List...)
	}
}
