package engine

import (
	"slices"

	"ambertray/internal/standin/oracle/sql"
)

// target is the table that a statement changes, locked against definitions.
func (r *run) target(n sql.Name, right string) (*table, *heap, error) {
	s := r.s
	t, err := s.table(n, right)
	if err != nil {
		return nil, nil, err
	}
	x := s.begin()
	if x.readOnly {
		return nil, nil, fail(1456, "may not perform insert, delete, update operation inside a READ ONLY transaction")
	}
	if r.begun > len(x.undo) {
		r.begun = len(x.undo)
	}
	h := t.rowsOf(s)
	for _, idx := range t.indexes {
		if idx.unique && h.keys[idx] == nil {
			h.rebuild(idx)
		}
	}
	if err := s.lock(t, rowExclusive, -1); err != nil {
		return nil, nil, err
	}
	if t.readOnly {
		return nil, nil, fail(12081, "update operation not allowed on table %s.%s", quotedName(t.owner),
			quotedName(t.name))
	}
	return t, h, nil
}

// insert is INSERT.
func (r *run) insert(x *sql.Insert) (*Result, error) {
	t, h, err := r.target(x.Table, "INSERT")
	if err != nil {
		return nil, err
	}
	cols, err := t.named(x.Columns)
	if err != nil {
		return nil, err
	}
	if x.From == nil {
		if len(x.Values) != len(cols) {
			return nil, countsDiffer(len(x.Values), len(cols))
		}
		return &Result{Affected: 1}, r.insertRow(t, h, cols, func(i int) (Value, bool, error) {
			if x.Values[i] == nil {
				return null, false, nil
			}
			v, err := r.value(x.Values[i], nil)
			return v, true, err
		})
	}
	rows, fields, err := r.query(x.From, nil)
	if err != nil {
		return nil, err
	}
	if len(fields) != len(cols) {
		return nil, countsDiffer(len(fields), len(cols))
	}
	for _, row := range rows {
		if err := r.insertRow(t, h, cols, func(i int) (Value, bool, error) { return row[i], true, nil }); err != nil {
			return nil, err
		}
	}
	return &Result{Affected: int64(len(rows))}, nil
}

func countsDiffer(have, want int) error {
	if have > want {
		return fail(913, "too many values")
	}
	return fail(947, "not enough values")
}

// named are the places of columns; of none, of all.
func (t *table) named(names []string) (out []int, err error) {
	if names == nil {
		for i := range t.cols {
			out = append(out, i)
		}
		return out, nil
	}
	for _, n := range names {
		i := t.column(n)
		if i < 0 {
			return nil, fail(904, "%s: invalid identifier", quotedName(n))
		}
		if slices.Contains(out, i) {
			return nil, fail(957, "duplicate column name")
		}
		out = append(out, i)
	}
	return out, nil
}

// insertRow puts one row in. given tells the value of the i-th of some columns, if one is given.
func (r *run) insertRow(t *table, h *heap, cols []int, given func(i int) (Value, bool, error)) error {
	vals := make([]Value, len(t.cols))
	have := make([]bool, len(t.cols))
	for i, c := range cols {
		v, is, err := given(i)
		if err != nil {
			return err
		}
		col := t.cols[c]
		if is && (col.computed != nil || col.identity == "ALWAYS") {
			if col.computed != nil {
				return fail(54013, "INSERT operation disallowed on virtual columns")
			}
			return fail(32795, "cannot insert into a generated always identity column")
		}
		vals[c], have[c] = v, is
	}
	for c, col := range t.cols {
		if have[c] && !(col.onNull && vals[c].IsNull()) {
			continue
		}
		switch {
		case col.identity != "":
			vals[c] = whole(t.identity)
			t.identity++
		case col.def != nil:
			v, err := r.value(col.def, nil)
			if err != nil {
				return err
			}
			vals[c] = v
		}
	}
	if err := r.ready(t, vals); err != nil {
		return err
	}
	w, err := r.s.add(t, h, vals)
	if err != nil {
		return err
	}
	return r.fire(t, "INSERT", w)
}

// ready makes values those of the table's types, and looks whether they obey its constraints.
func (r *run) ready(t *table, vals []Value) error {
	for c, col := range t.cols {
		v, err := r.s.fit(vals[c], col.typ, where(t, col))
		if err != nil {
			return err
		}
		vals[c] = v
	}
	h := r.shapes[t]
	if h == nil {
		h = t.shape()
		r.shapes[t] = h
	}
	e := &env{shape: h, vals: vals}
	for c, col := range t.cols {
		if col.computed != nil {
			v, err := r.value(col.computed, e)
			if err != nil {
				return err
			}
			if vals[c], err = r.s.fit(v, col.typ, where(t, col)); err != nil {
				return err
			}
		}
		if col.required && vals[c].IsNull() {
			return fail(1400, "cannot insert NULL into (%s)", where(t, col))
		}
	}
	for _, k := range t.cons {
		if k.Off {
			continue
		}
		switch k.Kind {
		case "C":
			is, err := r.truth(k.Check, e)
			if err != nil {
				return err
			}
			if is == isFalse {
				return fail(2290, "check constraint (%s.%s) violated", t.owner, k.Name)
			}
		case "R":
			if err := r.parent(t, k, vals); err != nil {
				return err
			}
		}
	}
	return nil
}

func where(t *table, c *column) place { return place{t, c} }

// A place is a column, as errors name it.
type place struct {
	t *table
	c *column
}

func (p place) String() string {
	if p.c == nil {
		return "CAST"
	}
	return quotedName(p.t.owner) + "." + quotedName(p.t.name) + "." + quotedName(p.c.name)
}

func (t *table) shape() *shape {
	h := &shape{}
	for _, c := range t.cols {
		h.cols = append(h.cols, field{t.name, t.owner, c.name, c.typ, true, c.required})
	}
	return h
}

// referred is the table that a foreign key refers to, and its columns there.
func (s *Session) referred(t *table, k *constraint) (*table, []int) {
	n := k.To
	if n.Schema == "" {
		n.Schema = t.owner
	}
	p, is := s.object(n).(*table)
	if !is {
		return nil, nil
	}
	if k.Keys != nil {
		cols, _ := p.named(k.Keys)
		return p, cols
	}
	for _, c := range p.cons {
		if c.Kind == "P" {
			return p, c.cols
		}
	}
	return p, nil
}

// parent looks for the row that a foreign key refers to.
func (r *run) parent(t *table, k *constraint, vals []Value) error {
	for _, c := range k.cols {
		if vals[c].IsNull() {
			return nil
		}
	}
	p, cols := r.s.referred(t, k)
	if p == nil {
		return nil
	}
	h := p.rowsOf(r.s)
	for _, idx := range p.indexes {
		if !idx.unique || !slices.Equal(idx.cols, cols) {
			continue
		}
		if h.keys[idx] == nil {
			h.rebuild(idx)
		}
		probe := make([]Value, len(p.cols))
		for i, c := range cols {
			probe[c] = vals[k.cols[i]]
		}
		key, _ := idx.key(probe)
		if w := h.keys[idx][key]; w != nil && w.seen(r.s.tx) != nil {
			return nil
		}
		return fail(2291, "integrity constraint (%s.%s) violated - parent key not found", t.owner, k.Name)
	}
	return fail(2270, "no matching unique or primary key for this column-list")
}

// children does with the rows that refer to one that goes what their keys say.
func (r *run) children(t *table, old []Value) error {
	for _, u := range r.s.srv.users {
		for _, o := range u.objects {
			c, is := o.(*table)
			if !is {
				continue
			}
			for _, k := range c.cons {
				if k.Kind != "R" || k.Off {
					continue
				}
				if p, cols := r.s.referred(c, k); p == t {
					if err := r.orphan(c, k, cols, old); err != nil {
						return err
					}
				}
			}
		}
	}
	return nil
}

func (r *run) orphan(c *table, k *constraint, cols []int, old []Value) error {
	h := c.rowsOf(r.s)
	for _, w := range slices.Clone(h.rows) {
		vals := w.seen(r.s.tx)
		if vals == nil && w.by != nil && w.by != r.s.tx {
			vals = w.vals // which may still come to be
		}
		same := vals != nil
		for i, col := range k.cols {
			same = same && string(joinKey(vals[col])) == string(joinKey(old[cols[i]]))
		}
		if !same {
			continue
		}
		if k.OnDelete == "NO ACTION" {
			return fail(2292, "integrity constraint (%s.%s) violated - child record found", c.owner, k.Name)
		}
		still, err := r.s.own(h, w, -1)
		if err != nil {
			return err
		}
		if !still {
			continue
		}
		if k.OnDelete == "CASCADE" {
			if err := r.removeRow(c, w); err != nil {
				return err
			}
			continue
		}
		now := slices.Clone(w.vals)
		for _, col := range k.cols {
			now[col] = null
		}
		if err := r.ready(c, now); err != nil {
			return err
		}
		if err := r.s.change(c, h, w, now); err != nil {
			return err
		}
	}
	return nil
}

func (r *run) removeRow(t *table, w *row) error {
	if err := r.children(t, w.vals); err != nil {
		return err
	}
	r.s.remove(w)
	return r.fire(t, "DELETE", w)
}

// fire runs the triggers of a table.
func (r *run) fire(t *table, event string, w *row) error {
	for _, g := range t.triggers {
		if g.Raises == 0 || !slices.Contains(g.Events, event) {
			continue
		}
		if g.When != nil {
			h := t.shape()
			for i := range h.cols {
				h.cols[i].of = "NEW"
			}
			is, err := r.truth(g.When, &env{shape: h, vals: w.vals})
			if err != nil {
				return err
			}
			if is != isTrue {
				continue
			}
		}
		return fail(g.Raises, "%s", g.Message)
	}
	return nil
}

// affected are the rows that a statement is about.
func (r *run) affected(t *table, n sql.Name, as string, where sql.Expr) (*relation, error) {
	q := &sql.Select{From: []sql.Source{&sql.Table{Name: n, As: as}}, Where: where}
	rel, err := r.sources(q, nil)
	if err != nil {
		return nil, err
	}
	return r.filtered(q, rel, nil)
}

// again reports whether a row that was waited for is still one that a statement is about.
func (r *run) again(rel *relation, where sql.Expr, w *row) (bool, error) {
	if where == nil {
		return true, nil
	}
	t, err := r.truth(where, &env{shape: rel.shape, vals: r.withID(w.vals, rel.table.id, w)})
	return t == isTrue, err
}

// each makes the rows of a statement its own, and does something with each.
func (r *run) each(rel *relation, where sql.Expr, do func(w *row) error) (n int64, err error) {
	for _, w := range rel.from {
		other := w.by != nil && w.by != r.s.tx
		still, err := r.s.own(rel.heap, w, -1)
		if err != nil {
			return 0, err
		}
		if still && other {
			if still, err = r.again(rel, where, w); err != nil {
				return 0, err
			}
		}
		if !still {
			continue
		}
		if err := do(w); err != nil {
			return 0, err
		}
		n++
	}
	return n, nil
}

// update is UPDATE.
func (r *run) update(x *sql.Update) (*Result, error) {
	t, h, err := r.target(x.Table, "UPDATE")
	if err != nil {
		return nil, err
	}
	rel, err := r.affected(t, x.Table, x.As, x.Where)
	if err != nil {
		return nil, err
	}
	n, err := r.each(rel, x.Where, func(w *row) error {
		return r.set(t, h, w, x.Sets, &env{shape: rel.shape, vals: r.withID(w.vals, t.id, w)})
	})
	return &Result{Affected: n}, err
}

// set gives columns of a row other values.
func (r *run) set(t *table, h *heap, w *row, sets []sql.Set, e *env) error {
	now := slices.Clone(w.vals)
	moved := false
	for _, s := range sets {
		i := t.column(s.Column)
		if i < 0 {
			return fail(904, "%s: invalid identifier", quotedName(s.Column))
		}
		var v Value
		var err error
		switch {
		case s.Value != nil:
			v, err = r.value(s.Value, e)
		case t.cols[i].def != nil:
			v, err = r.value(t.cols[i].def, nil)
		}
		if err != nil {
			return err
		}
		now[i] = v
	}
	if err := r.ready(t, now); err != nil {
		if number(err) == 1400 {
			err.(*Error).Number, err.(*Error).Text = 1407, "cannot update ("+err.(*Error).Text[len("cannot "+
				"insert NULL into ("):]
			err.(*Error).Text = err.(*Error).Text[:len(err.(*Error).Text)-1] + ") to NULL"
		}
		return err
	}
	for i := range now {
		moved = moved || string(joinKey(now[i])) != string(joinKey(w.vals[i]))
	}
	if moved && t.isKey(sets) {
		if err := r.children(t, w.vals); err != nil {
			return err
		}
	}
	if err := r.s.change(t, h, w, now); err != nil {
		return err
	}
	return r.fire(t, "UPDATE", w)
}

// isKey reports whether columns are of a key of the table.
func (t *table) isKey(sets []sql.Set) bool {
	for _, k := range t.cons {
		if k.Kind == "P" || k.Kind == "U" {
			for _, s := range sets {
				if slices.Contains(k.Columns, s.Column) {
					return true
				}
			}
		}
	}
	return false
}

// delete is DELETE.
func (r *run) delete(x *sql.Delete) (*Result, error) {
	t, _, err := r.target(x.Table, "DELETE")
	if err != nil {
		return nil, err
	}
	rel, err := r.affected(t, x.Table, x.As, x.Where)
	if err != nil {
		return nil, err
	}
	n, err := r.each(rel, x.Where, func(w *row) error { return r.removeRow(t, w) })
	return &Result{Affected: n}, err
}

// merge is MERGE.
func (r *run) merge(x *sql.Merge) (*Result, error) {
	t, h, err := r.target(x.Table, "UPDATE")
	if err != nil {
		return nil, err
	}
	into := &sql.Table{Name: x.Table, As: x.As}
	rel, err := r.source(into, nil)
	if err != nil {
		return nil, err
	}
	using, err := r.source(x.Using, nil)
	if err != nil {
		return nil, err
	}
	marked := &relation{shape: &shape{cols: append(slices.Clone(rel.shape.cols), field{of: "\x00", name: "\x00"})}}
	for i, row := range rel.rows {
		marked.rows = append(marked.rows, append(row[:len(row):len(row)], whole(int64(i))))
	}
	pairs, err := r.joined("LEFT", using, marked, x.On, nil)
	if err != nil {
		return nil, err
	}
	res := &Result{}
	done := map[int64]bool{}
	for _, p := range pairs.rows {
		e := &env{shape: pairs.shape, vals: p}
		place := p[len(p)-1]
		if place.IsNull() {
			if x.Values != nil {
				cols, err := t.named(x.Columns)
				if err != nil {
					return nil, err
				}
				err = r.insertRow(t, h, cols, func(i int) (Value, bool, error) {
					v, err := r.value(x.Values[i], e)
					return v, true, err
				})
				if err != nil {
					return nil, err
				}
				res.Affected++
			}
			continue
		}
		if x.Sets == nil {
			continue
		}
		if x.Where != nil {
			if is, err := r.truth(x.Where, e); err != nil || is != isTrue {
				if err != nil {
					return nil, err
				}
				continue
			}
		}
		i := place.D.IntPart()
		if done[i] {
			return nil, fail(30926, "unable to get a stable set of rows in the source tables")
		}
		done[i] = true
		w := rel.from[i]
		if still, err := r.s.own(h, w, -1); err != nil || !still {
			return nil, err
		}
		if err := r.set(t, h, w, x.Sets, e); err != nil {
			return nil, err
		}
		res.Affected++
	}
	return res, nil
}
