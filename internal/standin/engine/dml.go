package engine

import (
	"fmt"
	"slices"
	"strings"

	"ambertray/internal/standin/tsql"
)

// An entry is how rows come into a table.
type entry struct {
	s    *Session
	t    *Table
	cols []int  // of what comes
	from []Type // of what comes
	verb string
	// keepNulls leaves nulls where a column has a default; unchecked leaves constraints, and
	// untriggered triggers, alone.
	keepNulls, unchecked, untriggered bool

	defaults []*expr
	computed []*expr
	given    []bool
	fr       *frame
	rows     []*row // that went in, for triggers
	after    bool
}

// entry prepares.
func (s *Session) entry(t *Table, cols []int, from []Type) (*entry, error) {
	e, err := s.entryOf(t, cols, from)
	if err != nil {
		return nil, err
	}
	return e, s.statement.write(t)
}

// entryOf is entry without the lock.
func (s *Session) entryOf(t *Table, cols []int, from []Type) (*entry, error) {
	e := &entry{s: s, t: t, cols: cols, from: from, verb: "INSERT", given: make([]bool, len(t.Columns)),
		defaults: make([]*expr, len(t.Columns)), computed: make([]*expr, len(t.Columns))}
	for _, i := range cols {
		c := t.Columns[i]
		switch {
		case e.given[i]:
			return nil, fail(264, 16, "The column name '%s' is specified more than once in the SET clause or column "+
				"list of "+
				"an INSERT.", c.Name)
		case c.Computed != nil || c.period != "":
			return nil, fail(271, 16, "The column \"%s\" cannot be modified because it is either a computed column "+
				"or is the "+
				"result of a UNION operator.", c.Name)
		case c.Type.Kind == RowVersion:
			return nil, fail(273, 16, "Cannot insert an explicit value into a timestamp column. Use INSERT with a "+
				"column list "+
				"to exclude the timestamp column, or insert a DEFAULT into the timestamp column.")
		case c.Identity && s.identityOn != t:
			return nil, fail(544, 16, "Cannot insert explicit value for identity column in table '%s' when "+
				"IDENTITY_INSERT is "+
				"set to OFF.", t.name)
		}
		e.given[i] = true
	}
	if c := t.identity(); c != nil && s.identityOn == t && !e.given[c.ID-1] {
		return nil, fail(545, 16, "Explicit value must be specified for identity column in table '%s' either when "+
			"IDENTITY_INSERT is set to ON or when a replication user is inserting into a NOT FOR REPLICATION "+
			"identity column.",
			t.name)
	}
	if err := e.compile(); err != nil {
		return nil, err
	}
	e.after = slices.ContainsFunc(t.triggers, func(g *trigger) bool {
		return !g.off && slices.Contains(g.events,
			"INSERT")
	})
	return e, nil
}

// compile makes defaults, computed columns and checks ready.
func (e *entry) compile() error {
	sc := e.t.scope(e.s)
	e.fr = &frame{s: e.s, rows: make([][]Value, 1)}
	var err error
	for i, c := range e.t.Columns {
		if c.Default != nil {
			if e.defaults[i], err = sc.compile(c.Default); err != nil {
				return err
			}
		}
		if c.Computed != nil {
			if e.computed[i], err = sc.compile(c.Computed); err != nil {
				return err
			}
		}
	}
	for _, k := range e.t.checks {
		if k.compiled, err = sc.compile(k.e); err != nil {
			return err
		}
	}
	return nil
}

// scope is one in which a table's own columns are known.
func (t *Table) scope(s *Session) *scope {
	return &scope{s: s, slots: []*slot{{as: t.name, cols: t.outs(), table: t}}}
}

// add puts one row in.
func (e *entry) add(in []Value) error {
	t := e.t
	v := make([]Value, len(t.Columns))
	for k, i := range e.cols {
		x := in[k]
		if x == defaulted || x.Null && e.verb == "BULK INSERT" && !e.keepNulls && t.Columns[i].Default != nil {
			if err := e.def(v, i); err != nil {
				return err
			}
			continue
		}
		var err error
		if v[i], err = assign(x, e.from[k], t.Columns[i]); err != nil {
			return err
		}
	}
	if err := e.fill(v); err != nil {
		return err
	}
	return e.put(v)
}

// def gives a column its default.
func (e *entry) def(v []Value, i int) error {
	v[i] = null
	if e.defaults[i] == nil {
		return nil
	}
	x, err := e.defaults[i].f(e.fr)
	if err == nil {
		v[i], err = assign(x, e.defaults[i].t, e.t.Columns[i])
	}
	return err
}

// fill gives the columns their values that nothing was given for.
func (e *entry) fill(v []Value) error {
	t := e.t
	for i, c := range t.Columns {
		switch {
		case c.Identity && !e.given[i]:
			v[i] = Value{N: t.next}
			t.next += c.step
			t.used = true
			e.s.identity = v[i]
		case c.Identity:
			if !v[i].Null && (c.step > 0 && v[i].N >= t.next || c.step < 0 && v[i].N <= t.next) {
				t.next, t.used = v[i].N+c.step, true
			}
		case c.Type.Kind == RowVersion:
			t.db.stamp++
			v[i] = Value{S: stamp(t.db.stamp)}
		case c.period == "START":
			v[i] = Value{N: e.s.began()}
		case c.period == "END":
			v[i] = Value{N: lastTick}
		case e.given[i] || c.Computed != nil:
		default:
			if err := e.def(v, i); err != nil {
				return err
			}
		}
	}
	return e.compute(v)
}

func (s *Session) began() int64 { return ticksOf(s.statement.begun.UTC()) }

func stamp(n int64) string {
	var b [8]byte
	for i := range b {
		b[i] = byte(n >> (8 * (7 - i)))
	}
	return string(b[:])
}

func (e *entry) compute(v []Value) error {
	e.fr.rows[0] = v
	for i, x := range e.computed {
		if x == nil {
			continue
		}
		y, err := x.f(e.fr)
		if err != nil {
			return err
		}
		v[i] = y
	}
	return nil
}

// check holds a row against nulls, checks and the keys of others.
func (e *entry) check(v []Value) error {
	t := e.t
	for i, c := range t.Columns {
		if v[i].Null && !c.Null && c.Computed == nil {
			return fail(515, 16, "Cannot insert the value NULL into column '%s', table '%s'; column does not allow "+
				"nulls. %s "+
				"fails.", c.Name, t.whole(), strings.TrimPrefix(e.verb, "BULK "))
		}
	}
	if e.unchecked {
		return nil
	}
	e.fr.rows[0] = v
	for _, k := range t.checks {
		if k.off {
			continue
		}
		x, err := k.compiled.f(e.fr)
		if err != nil {
			return err
		}
		if !x.Null && x.N == 0 {
			col := ""
			if k.column >= 0 {
				col = fmt.Sprintf(", column '%s'", t.Columns[k.column].Name)
			}
			return fail(547, 16, "The %s statement conflicted with the CHECK constraint \"%s\". The conflict "+
				"occurred in "+
				"database \"%s\", table \"%s\"%s.", strings.TrimPrefix(e.verb, "BULK "), k.name, t.db.Name,
				t.dotted(), col)
		}
	}
	for _, f := range t.keys {
		if f.off {
			continue
		}
		found, err := f.has(e.s, v)
		if err != nil {
			return err
		}
		if !found {
			col := ""
			if len(f.cols) == 1 {
				col = fmt.Sprintf(", column '%s'", f.to.Columns[f.keys[0]].Name)
			}
			return fail(547, 16, "The %s statement conflicted with the FOREIGN KEY constraint \"%s\". The conflict "+
				"occurred in "+
				"database \"%s\", table \"%s\"%s.", strings.TrimPrefix(e.verb, "BULK "), f.name, t.db.Name,
				f.to.dotted(), col)
		}
	}
	return nil
}

// has reports whether the table that a foreign key refers to has a row's key.
func (f *foreign) has(s *Session, v []Value) (bool, error) {
	var b []byte
	for k, i := range f.cols {
		if v[i].Null {
			return true, nil
		}
		b = appendKey(b, f.to.Columns[f.keys[k]].Type, v[i])
	}
	if f.to != f.table {
		if err := s.statement.read(f.to, false); err != nil {
			return false, err
		}
	}
	x := f.to.indexOn(f.keys)
	return x != nil && x.rows[string(b)] != nil, nil
}

// indexOn is the unique index of columns.
func (t *Table) indexOn(cols []int) *index {
	for _, x := range t.indexes {
		if x.unique && slices.Equal(x.cols, cols) {
			return x
		}
	}
	return nil
}

// put checks a row and adds it.
func (e *entry) put(v []Value) error {
	if err := e.check(v); err != nil {
		return err
	}
	x, key := e.t.conflict(v, nil)
	if x != nil {
		if x.ignore {
			e.s.tell(&Error{Number: 3604, Class: 0, State: 1, Message: "Duplicate key was ignored."})
			return nil
		}
		return e.t.duplicate(x, key)
	}
	r := &row{v: v}
	e.t.put(r)
	if e.after {
		e.rows = append(e.rows, r)
	}
	return e.s.statement.note(undone{t: e.t, r: r}, size(v))
}

// conflict is a unique index that has a row's key already, by another row than itself.
func (t *Table) conflict(v []Value, itself *row) (*index, []Value) {
	for _, x := range t.indexes {
		if !x.unique {
			continue
		}
		if r := x.rows[t.keyOf(x, v)]; r != nil && r != itself {
			var key []Value
			for _, i := range x.cols {
				key = append(key, v[i])
			}
			return x, key
		}
	}
	return nil, nil
}

func (t *Table) duplicate(x *index, key []Value) error {
	var list []string
	for k, i := range x.cols {
		s := "<NULL>"
		if !key[k].Null {
			v, err := convert(key[k], t.Columns[i].Type, Type{Kind: NVarChar, Len: Max}, 0)
			if err == nil {
				s = v.S
			}
		}
		list = append(list, s)
	}
	value := strings.Join(list, ", ")
	if x.constraint {
		kind := "UNIQUE KEY"
		if x.primary {
			kind = "PRIMARY KEY"
		}
		return fail(2627, 14, "Violation of %s constraint '%s'. Cannot insert duplicate key in object '%s'. The "+
			"duplicate "+
			"key value is (%s).", kind, x.name, t.dotted(), value)
	}
	return fail(2601, 14, "Cannot insert duplicate key row in object '%s' with unique index '%s'. The duplicate key "+
		"value "+
		"is (%s).", t.dotted(), x.name, value)
}

// targets are the columns that are named, or all that can be given.
func (s *Session) targets(t *Table, names []string) (cols []int, err error) {
	for _, n := range names {
		i := t.column(n)
		if i < 0 {
			return nil, fail(207, 16, "Invalid column name '%s'.", n)
		}
		cols = append(cols, i)
	}
	if len(names) > 0 {
		return cols, nil
	}
	for i, c := range t.Columns {
		if c.Computed == nil && c.Type.Kind != RowVersion && c.period == "" && (!c.Identity || s.identityOn == t) {
			cols = append(cols, i)
		}
	}
	return cols, nil
}

func (s *Session) insert(st *tsql.Insert) (int64, error) {
	if st.Exec != nil {
		return -1, unknown("INSERT … EXEC")
	}
	t, err := s.table(st.Table)
	if err != nil {
		return -1, err
	}
	if err := s.may("INSERT", t); err != nil {
		return -1, err
	}
	if t.view != nil || slices.ContainsFunc(t.triggers, func(g *trigger) bool { return g.instead }) {
		return s.insertInstead(st, t)
	}
	if st.Default {
		e, err := s.entry(t, nil, nil)
		if err != nil {
			return -1, err
		}
		if err := e.add(nil); err != nil {
			return -1, err
		}
		return 1, e.finish(1)
	}
	cols, err := s.targets(t, st.Columns)
	if err != nil {
		return -1, err
	}
	p, err := s.plan(st.From, nil)
	if err != nil {
		return -1, err
	}
	if len(p.cols) != len(cols) {
		if len(st.Columns) == 0 {
			return -1, fail(213, 16, "Column name or number of supplied values does not match table definition.")
		}
		return -1, fail(110, 15, "There are fewer columns in the INSERT statement than values specified in the "+
			"VALUES clause, "+
			"or more.")
	}
	var from []Type
	for _, c := range p.cols {
		from = append(from, c.Type)
	}
	var rows [][]Value // a query may read the table that it goes into
	if err := p.run(nil, func(v []Value) error { rows = append(rows, v); return nil }); err != nil && err != errStop {
		return -1, err
	}
	return s.fill(t, cols, from, rows)
}

// fill puts rows of such types into columns of a table.
func (s *Session) fill(t *Table, cols []int, from []Type, rows [][]Value) (int64, error) {
	e, err := s.entry(t, cols, from)
	if err != nil {
		return -1, err
	}
	for _, r := range rows {
		if err := e.add(r); err != nil {
			return -1, err
		}
	}
	return int64(len(rows)), e.finish(int64(len(rows)))
}

// finish runs the triggers.
func (e *entry) finish(n int64) error {
	e.s.rowCount = n
	if e.untriggered || !e.after {
		return nil
	}
	var rows [][]Value
	for _, r := range e.rows {
		rows = append(rows, r.v)
	}
	return e.s.fire(e.t, "INSERT", false, rows, nil)
}

// insertInstead gives rows to the trigger that takes the place of an insert.
func (s *Session) insertInstead(st *tsql.Insert, t *Table) (int64, error) {
	if !slices.ContainsFunc(t.triggers, func(g *trigger) bool {
		return g.instead && slices.Contains(g.events,
			"INSERT")
	}) {
		return -1, unknown("INSERT into a view without an INSTEAD OF trigger")
	}
	cols, err := s.targets(t, st.Columns)
	if err != nil {
		return -1, err
	}
	p, err := s.plan(st.From, nil)
	if err != nil {
		return -1, err
	}
	var rows [][]Value
	err = p.run(nil, func(v []Value) error {
		r := make([]Value, len(t.Columns))
		for i := range r {
			r[i] = null
		}
		for k, i := range cols {
			if r[i], err = convert(v[k], p.cols[k].Type, t.Columns[i].Type, 0); err != nil {
				return err
			}
		}
		rows = append(rows, r)
		return nil
	})
	if err != nil {
		return -1, err
	}
	return int64(len(rows)), s.fire(t, "INSERT", true, rows, nil)
}

// fire runs the triggers of an event, with what came and what went.
func (s *Session) fire(t *Table, event string, instead bool, in, out [][]Value) error {
	for _, g := range t.triggers {
		if g.off || g.instead != instead || !slices.Contains(g.events, event) {
			continue
		}
		if s.triggers > 30 {
			return fail(217, 16, "Maximum stored procedure, function, trigger, or view nesting level exceeded "+
				"(limit 32).")
		}
		before, of, vars, st, auto := s.pseudo, s.pseudoOf, s.vars, s.statement, s.tx == nil
		s.pseudo, s.pseudoOf, s.vars = map[string][][]Value{"inserted": in, "deleted": out}, t, map[string]*variable{}
		if auto {
			s.tx, s.count = st, 1 // a trigger runs in the transaction of its statement
		}
		s.triggers++
		s.procs++
		err := s.runList(g.body)
		s.triggers--
		s.procs--
		s.pseudo, s.pseudoOf, s.vars = before, of, vars
		gone := s.tx == nil
		if auto {
			s.tx, s.count = nil, 0
		}
		if s.statement = st; gone {
			s.statement = nil
		}
		if err != nil && err != errReturn {
			return err
		}
	}
	return nil
}

// changed finds the rows of a table that an UPDATE or DELETE means, with the frame of each.
func (s *Session) changed(target tsql.Name, from tsql.Source, where tsql.Expr, perm string) (*Table, *scope, int,
	func(func(*frame, *row) error) error, error) {
	src := from
	if src == nil {
		src = &tsql.Table{Name: target}
	} else if !mentions(src, target) {
		return nil, nil, 0, nil, fail(208, 16, "Invalid object name '%s': the stand-in wants the table that changes "+
			"in FROM.",
			target.Object)
	}
	sc := &scope{s: s}
	var conjuncts []tsql.Expr
	if where != nil {
		conjuncts = split(where, nil)
	}
	it, err := sc.source(src, conjuncts)
	if err != nil {
		return nil, nil, 0, nil, err
	}
	at := slices.IndexFunc(sc.slots, func(sl *slot) bool {
		return strings.EqualFold(sl.as, target.Object) ||
			sl.table != nil && strings.EqualFold(sl.table.name, target.Object)
	})
	if at < 0 || sc.slots[at].table == nil {
		return nil, nil, 0, nil, unknown("a change of %s, which is no table", target.Object)
	}
	t := sc.slots[at].table
	if err := s.may(perm, t); err != nil {
		return nil, nil, 0, nil, err
	}
	if err := s.statement.write(t); err != nil {
		return nil, nil, 0, nil, err
	}
	cond := constant(bitType, boolean(true))
	if where != nil {
		if cond, err = sc.compile(where); err != nil {
			return nil, nil, 0, nil, err
		}
	}
	return t, sc, at, func(next func(*frame, *row) error) error {
		fr := &frame{s: s, rows: make([][]Value, len(sc.slots)), cur: make([]*row, len(sc.slots))}
		seen := map[*row]bool{}
		return it(fr, func() error {
			v, err := cond.f(fr)
			if err != nil || v.Null || v.N == 0 || seen[fr.cur[at]] {
				return err
			}
			seen[fr.cur[at]] = true
			return next(fr, fr.cur[at])
		})
	}, nil
}

// mentions reports whether a source has a table under a name.
func mentions(src tsql.Source, n tsql.Name) bool {
	switch src := src.(type) {
	case *tsql.Table:
		return strings.EqualFold(src.As, n.Object) || strings.EqualFold(src.Name.Object, n.Object)
	case *tsql.Join:
		return mentions(src.L, n) || mentions(src.R, n)
	}
	return false
}

func (s *Session) update(st *tsql.Update) (int64, error) {
	t, sc, _, each, err := s.changed(st.Target, st.From, st.Where, "UPDATE")
	if err != nil {
		return -1, err
	}
	e := &entry{s: s, t: t, verb: "UPDATE", computed: make([]*expr, len(t.Columns)), defaults: make([]*expr,
		len(t.Columns))}
	if err := e.compile(); err != nil {
		return -1, err
	}
	var cols []int
	var values []*expr
	for k, name := range st.Columns {
		i := t.column(name)
		switch {
		case i < 0:
			return -1, fail(207, 16, "Invalid column name '%s'.", name)
		case t.Columns[i].Identity:
			return -1, fail(8102, 16, "Cannot update identity column '%s'.", name)
		case t.Columns[i].Computed != nil || t.Columns[i].Type.Kind == RowVersion:
			return -1, fail(271, 16, "The column \"%s\" cannot be modified because it is either a computed column "+
				"or is the "+
				"result of a UNION operator.", name)
		}
		x, err := sc.compile(st.Values[k])
		if err != nil {
			return -1, err
		}
		cols, values = append(cols, i), append(values, x)
	}
	var rows []*row
	var next [][]Value
	err = each(func(fr *frame, r *row) error {
		v := slices.Clone(r.v)
		for k, i := range cols {
			x, err := values[k].f(fr)
			if err == nil {
				v[i], err = assign(x, values[k].t, t.Columns[i])
			}
			if err != nil {
				return err
			}
		}
		for i, c := range t.Columns {
			if c.Type.Kind == RowVersion {
				t.db.stamp++
				v[i] = Value{S: stamp(t.db.stamp)}
			}
		}
		if err := e.compute(v); err != nil {
			return err
		}
		if err := e.check(v); err != nil {
			return err
		}
		rows, next = append(rows, r), append(next, v)
		return nil
	})
	if err != nil {
		return -1, err
	}
	n := int64(len(rows))
	old, err := s.swap(t, rows, next)
	if err != nil {
		return -1, err
	}
	s.rowCount = n
	return n, s.fire(t, "UPDATE", false, next, old)
}

// swap gives rows their new values, all at once.
func (s *Session) swap(t *Table, rows []*row, next [][]Value) (old [][]Value, err error) {
	for i, r := range rows {
		if err := s.referred(t, r, next[i]); err != nil {
			return nil, err
		}
	}
	for _, r := range rows {
		t.unlist(r)
	}
	back := func(n int) {
		for i := range n {
			t.unlist(rows[i])
			rows[i].v = old[i]
		}
		for _, r := range rows {
			t.list(r)
		}
	}
	for i, r := range rows {
		if x, key := t.conflict(next[i], r); x != nil {
			back(i)
			return nil, t.duplicate(x, key)
		}
		old = append(old, r.v)
		r.v = next[i]
		t.list(r)
	}
	for i, r := range rows {
		if err := s.statement.note(undone{t: t, r: r, old: old[i]}, size(r.v)); err != nil {
			return nil, err
		}
	}
	return old, nil
}

func (s *Session) deleteFrom(st *tsql.Delete) (int64, error) {
	t, _, _, each, err := s.changed(st.Target, st.From, st.Where, "DELETE")
	if err != nil {
		return -1, err
	}
	most := -1
	if st.Top != nil {
		v, err := s.value(st.Top, bigintType)
		if err != nil {
			return -1, err
		}
		most = int(v.N)
	}
	var rows []*row
	if err := each(func(_ *frame, r *row) error {
		if len(rows) == most {
			return errStop
		}
		rows = append(rows, r)
		return nil
	}); err != nil && err != errStop {
		return -1, err
	}
	return int64(len(rows)), s.remove(t, rows)
}

// remove deletes rows, and does to those that refer to them what their rules say.
func (s *Session) remove(t *Table, rows []*row) error {
	var old [][]Value
	for _, r := range rows {
		if r.dead {
			continue
		}
		old = append(old, r.v)
		t.unlist(r)
		r.dead = true
		t.live--
		t.dead++
		if err := s.statement.note(undone{t: t, r: r, gone: true}, size(r.v)); err != nil {
			return err
		}
	}
	for _, r := range rows {
		if err := s.referred(t, r, nil); err != nil {
			return err
		}
	}
	s.rowCount = int64(len(rows))
	return s.fire(t, "DELETE", false, nil, old)
}

// referrers are the foreign keys that refer to a table.
func (t *Table) referrers() (list []*foreign) {
	for _, o := range t.db.objects {
		for _, f := range o.keys {
			if f.to == t {
				list = append(list, f)
			}
		}
	}
	return list
}

// referred does what the rules of others say when a row goes, or gets other values.
func (s *Session) referred(t *Table, r *row, next []Value) error {
	for _, f := range t.referrers() {
		if f.off {
			continue
		}
		var key []byte
		same := next != nil
		for _, k := range f.keys {
			key = appendKey(key, t.Columns[k].Type, r.v[k])
			same = same && string(appendKey(nil, t.Columns[k].Type, r.v[k])) == string(appendKey(nil,
				t.Columns[k].Type, next[k]))
		}
		if same {
			continue
		}
		if err := s.statement.read(f.table, false); err != nil {
			return err
		}
		children := f.children(t, string(key))
		if len(children) == 0 {
			continue
		}
		rule, verb := f.onDelete, "DELETE"
		if next != nil {
			rule, verb = f.onUpdate, "UPDATE"
		}
		switch {
		case rule == "CASCADE" && next == nil:
			if err := s.statement.write(f.table); err != nil {
				return err
			}
			if err := s.remove(f.table, children); err != nil {
				return err
			}
		case rule == "SET NULL" && next == nil:
			if err := s.statement.write(f.table); err != nil {
				return err
			}
			var after [][]Value
			for _, c := range children {
				v := slices.Clone(c.v)
				for _, i := range f.cols {
					v[i] = null
				}
				after = append(after, v)
			}
			if _, err := s.swap(f.table, children, after); err != nil {
				return err
			}
		case rule == "NO ACTION":
			return fail(547, 16, "The %s statement conflicted with the REFERENCE constraint \"%s\". The conflict "+
				"occurred in "+
				"database \"%s\", table \"%s\", column '%s'.", verb, f.name, t.db.Name, f.table.dotted(),
				f.table.Columns[f.cols[0]].Name)
		default:
			return unknown("ON %s %s", verb, rule)
		}
	}
	return nil
}

// children are the rows that refer to a key.
func (f *foreign) children(t *Table, key string) (list []*row) {
	for _, r := range f.table.rows {
		if r.dead {
			continue
		}
		var b []byte
		for k, i := range f.cols {
			b = appendKey(b, t.Columns[f.keys[k]].Type, r.v[i])
		}
		if string(b) == key {
			list = append(list, r)
		}
	}
	return list
}

func (s *Session) truncate(st *tsql.Truncate) error {
	t, err := s.table(st.Table)
	if err != nil {
		return err
	}
	if err := s.may("ALTER", t); err != nil {
		return err
	}
	if t.view != nil || t.seq != nil {
		return fail(4708, 16, "Could not truncate object '%s' because it is not a table.", t.name)
	}
	if len(t.referrers()) > 0 {
		return fail(4712, 16, "Cannot truncate table '%s' because it is being referenced by a FOREIGN KEY "+
			"constraint.", t.name)
	}
	if err := s.statement.write(t); err != nil {
		return err
	}
	rows, live, dead, next, used := t.rows, t.live, t.dead, t.next, t.used
	var indexes []map[string]*row
	for _, x := range t.indexes {
		indexes = append(indexes, x.rows)
		if x.rows = nil; x.unique {
			x.rows = map[string]*row{}
		}
	}
	t.rows, t.live, t.dead = nil, 0, 0
	if c := t.identity(); c != nil {
		t.next, t.used = c.seed, false
	}
	return s.statement.note(undone{do: func() {
		t.rows, t.live, t.dead, t.next, t.used = rows, live, dead, next, used
		for i, x := range t.indexes {
			x.rows = indexes[i]
		}
	}}, 100)
}
