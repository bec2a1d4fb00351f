package engine

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"ambertray/internal/standin/oracle/sql"
)

// define changes the catalog, or the session.
func (r *run) define(st sql.Statement) (*Result, error) {
	s := r.s
	res := &Result{}
	switch x := st.(type) {
	case *sql.CreateTable:
		return res, r.createTable(x)
	case *sql.AlterTable:
		return res, r.alterTable(x)
	case *sql.CreateIndex:
		return res, r.createIndex(x)
	case *sql.RenameIndex:
		for _, o := range s.srv.users[s.schema].objects {
			if t, is := o.(*table); is {
				for _, i := range t.indexes {
					if i.name == x.Index.Object {
						i.name = x.To
						return res, nil
					}
				}
			}
		}
		return nil, fail(1418, "specified index does not exist")
	case *sql.CreateView:
		return res, r.createView(x)
	case *sql.CreateTrigger:
		return res, r.createTrigger(x)
	case *sql.CreateSequence:
		return res, s.put(x.Sequence, "CREATE SEQUENCE", &sequence{x.Sequence.Object, x.Start})
	case *sql.Drop:
		return res, r.drop(x)
	case *sql.Comment:
		return res, r.comment(x)
	case *sql.Truncate:
		t, err := r.held(x.Table, "DELETE")
		if err != nil {
			return nil, err
		}
		if c := r.referrer(t); c != nil {
			return nil, fail(2266, "unique/primary keys in table referenced by enabled foreign keys")
		}
		if t.temporary {
			t.own[s] = newHeap()
		} else {
			t.heap = newHeap()
		}
		return res, nil
	case *sql.CreateUser:
		if !s.user.may("CREATE USER") {
			return nil, fail(1031, "insufficient privileges")
		}
		if s.srv.users[x.User] != nil {
			return nil, fail(1920, "user name '%s' conflicts with another user or role name", x.User)
		}
		s.srv.users[x.User] = &user{name: x.User, password: x.Password, rights: map[string]bool{},
			objects: map[string]any{}}
		return res, nil
	case *sql.DropUser:
		if !s.user.may("DROP USER") {
			return nil, fail(1031, "insufficient privileges")
		}
		for other := range s.srv.sessions {
			if other.user.name == x.User {
				return nil, fail(1940, "cannot drop a user that is currently connected")
			}
		}
		delete(s.srv.users, x.User)
		return res, nil
	case *sql.Grant:
		return res, s.grant(x)
	}
	return nil, unknown("%T", st)
}

func (s *Session) grant(g *sql.Grant) error {
	if g.On == nil {
		u := s.srv.users[g.To]
		if u == nil {
			return fail(1917, "user or role '%s' does not exist", g.To)
		}
		for _, right := range g.Rights {
			if right == "ALL PRIVILEGES" {
				u.rights = nil
				return nil
			}
			u.rights[right] = true
		}
		return nil
	}
	var rights map[string]map[string]bool
	switch o := s.object(*g.On).(type) {
	case *table:
		rights = o.rights
	case *view:
		rights = o.rights
	default:
		return fail(942, "table or view does not exist")
	}
	if rights[g.To] == nil {
		rights[g.To] = map[string]bool{}
	}
	for _, right := range g.Rights {
		rights[g.To][right] = true
	}
	return nil
}

// put gives a new object its name.
func (s *Session) put(n sql.Name, right string, o any) error {
	owner := n.Schema
	if owner == "" {
		owner = s.schema
	}
	u := s.srv.users[owner]
	if u == nil {
		return fail(1918, "user '%s' does not exist", owner)
	}
	if owner != s.user.name {
		right = strings.Replace(right, " ", " ANY ", 1)
	}
	if !s.user.may(right) {
		return fail(1031, "insufficient privileges")
	}
	if u.objects[n.Object] != nil {
		return fail(955, "name is already used by an existing object")
	}
	u.objects[n.Object] = o
	return nil
}

// held is a table that a definition is about, which nobody else has locked.
func (r *run) held(n sql.Name, right string) (*table, error) {
	t, err := r.s.table(n, right)
	if err != nil {
		return nil, err
	}
	wait := 0
	fmt.Sscan(r.s.nls["DDL_LOCK_TIMEOUT"], &wait)
	return t, r.s.lock(t, exclusive, wait)
}

func (r *run) createTable(x *sql.CreateTable) error {
	s := r.s
	t := &table{name: x.Table.Object, owner: x.Table.Schema, temporary: x.Temporary, preserve: x.Preserve,
		heap: newHeap(), own: map[*Session]*heap{}, locks: map[*tx]lockMode{}, rights: map[string]map[string]bool{},
		made: time.Now(), identity: 1}
	if t.owner == "" {
		t.owner = s.schema
	}
	var rows [][]Value
	if x.As != nil {
		res, err := r.selectAll(x.As)
		if err != nil {
			return err
		}
		rows = res.Rows
		for _, c := range res.Columns {
			if c.Type.Kind == Text && c.Type.Length == 0 {
				return fail(1723, "zero-length columns are not allowed")
			}
			t.cols = append(t.cols, &column{name: c.Name, typ: c.Type})
		}
		if src, is := x.As.From[0].(*sql.Table); is && len(x.As.From) == 1 {
			if from, is := s.object(src.Name).(*table); is { // NOT NULL comes along
				for _, c := range t.cols {
					if i := from.column(c.name); i >= 0 {
						c.required = from.cols[i].required && !from.inKey(i)
					}
				}
			}
		}
	}
	for i := range x.Columns {
		if err := r.addColumn(t, &x.Columns[i]); err != nil {
			return err
		}
	}
	if len(t.cols) > 1000 {
		return fail(1792, "maximum number of columns in a table or view is 1000")
	}
	cons := x.Constraints
	for _, c := range x.Columns {
		cons = append(cons, c.More...)
	}
	for i := range cons {
		if err := r.constrain(t, &cons[i]); err != nil {
			return err
		}
	}
	t.id = s.srv.next()
	if err := s.put(x.Table, "CREATE TABLE", t); err != nil {
		return err
	}
	h := t.rowsOf(s)
	for _, vals := range rows {
		if err := r.ready(t, vals); err != nil {
			delete(s.srv.users[t.owner].objects, t.name)
			return err
		}
		if _, err := s.add(t, h, vals); err != nil {
			return err
		}
	}
	return nil
}

// inKey reports whether a column is in the primary key.
func (t *table) inKey(i int) bool {
	return slices.ContainsFunc(t.cons, func(k *constraint) bool { return k.Kind == "P" && slices.Contains(k.cols, i) })
}

func (r *run) addColumn(t *table, d *sql.ColumnDef) error {
	if t.column(d.Name) >= 0 {
		return fail(957, "duplicate column name")
	}
	if !d.HasType && d.Computed == nil {
		return fail(2263, "need to specify the datatype for this column")
	}
	c := &column{name: d.Name, def: d.Default, defText: d.Text, computed: d.Computed, identity: d.Identity,
		onNull: d.OnNull}
	if d.HasType {
		var err error
		if c.typ, err = typeOf(d.Type); err != nil {
			return err
		}
		if r.s.nls["NLS_LENGTH_SEMANTICS"] == "CHAR" && d.Type.Unit == "" && c.typ.Kind == Text {
			c.typ.Chars = true
		}
	} else {
		c.typ = Type{Kind: Number, Name: "NUMBER", Free: true}
	}
	c.required = d.Null != nil && !*d.Null || d.Identity != ""
	t.cols = append(t.cols, c)
	return nil
}

// constrain adds a constraint to a table, whose rows have to obey it.
func (r *run) constrain(t *table, d *sql.Constraint) error {
	k := &constraint{Constraint: *d}
	if k.Name == "" {
		k.Name = fmt.Sprintf("SYS_C%07d", r.s.srv.next())
	}
	var err error
	if k.Columns != nil {
		if k.cols, err = t.named(k.Columns); err != nil {
			return err
		}
	}
	switch k.Kind {
	case "P", "U":
		for _, c := range k.cols {
			if t.cols[c].typ.Kind == Clob {
				return fail(2329, "column of datatype LOB cannot be unique or a primary key")
			}
		}
		if k.Kind == "P" {
			if slices.ContainsFunc(t.cons, func(o *constraint) bool { return o.Kind == "P" }) {
				return fail(2260, "table can have only one primary key")
			}
			for _, c := range k.cols {
				t.cols[c].required = true
			}
		}
		k.index = &index{name: k.Name, cols: k.cols, unique: true, made: true}
		if !t.rowsOf(r.s).rebuild(k.index) {
			return fail(2437, "cannot validate (%s.%s) - primary key violated", t.owner, k.Name)
		}
		t.indexes = append(t.indexes, k.index)
	case "R":
		p, cols := r.s.referred(t, k)
		if p == nil && (k.To.Object != t.name || k.To.Schema != "" && k.To.Schema != t.owner) {
			return fail(942, "table or view does not exist")
		}
		if p != nil && !slices.ContainsFunc(p.cons, func(o *constraint) bool {
			return (o.Kind == "P" || o.Kind == "U") && slices.Equal(o.cols, cols)
		}) {
			return fail(2270, "no matching unique or primary key for this column-list")
		}
	case "C":
		bad := false
		h := t.shape()
		walk(k.Check, func(x sql.Expr) {
			if c, is := x.(*sql.Col); is {
				if i, err := h.find(c); err != nil || i < 0 {
					bad = true
				}
			}
		})
		if bad {
			return fail(904, "invalid identifier in a check")
		}
	}
	t.cons = append(t.cons, k)
	for _, w := range t.rowsOf(r.s).rows {
		if w.dead {
			continue
		}
		if err := r.ready(t, slices.Clone(w.vals)); err != nil {
			t.cons = t.cons[:len(t.cons)-1]
			return err
		}
	}
	return nil
}

// alterTable is ALTER TABLE. It is long because it does many things.
func (r *run) alterTable(x *sql.AlterTable) error {
	s := r.s
	t, err := r.held(x.Table, "ALTER")
	if err != nil {
		return err
	}
	objects := s.srv.users[t.owner].objects
	switch {
	case x.Rename != "":
		if objects[x.Rename] != nil {
			return fail(955, "name is already used by an existing object")
		}
		for _, u := range s.srv.users { // the keys of others follow the table
			for _, o := range u.objects {
				if c, is := o.(*table); is {
					for _, k := range c.cons {
						if p, _ := s.referred(c, k); k.Kind == "R" && p == t {
							k.To = sql.Name{Schema: t.owner, Object: x.Rename}
						}
					}
				}
			}
		}
		delete(objects, t.name)
		t.name = x.Rename
		objects[t.name] = t
	case x.Constrain != nil:
		return r.constrain(t, x.Constrain)
	case x.Without != "":
		i := slices.IndexFunc(t.cons, func(k *constraint) bool { return k.Name == x.Without })
		if i < 0 {
			return fail(2443, "Cannot drop constraint  - nonexistent constraint")
		}
		if idx := t.cons[i].index; idx != nil {
			t.indexes = slices.DeleteFunc(t.indexes, func(o *index) bool { return o == idx })
		}
		t.cons = slices.Delete(t.cons, i, i+1)
	case x.Switch != "":
		i := slices.IndexFunc(t.cons, func(k *constraint) bool { return k.Name == x.Switch })
		if i < 0 {
			return fail(2430, "cannot enable constraint (%s) - no such constraint", x.Switch)
		}
		t.cons[i].Off = !x.On
	case x.RenameColumn[0] != "":
		i := t.column(x.RenameColumn[0])
		if i < 0 {
			return fail(904, "%s: invalid identifier", quotedName(x.RenameColumn[0]))
		}
		t.cols[i].name = x.RenameColumn[1]
	case x.Writes != nil:
		t.readOnly = !*x.Writes
	case x.Drop != "":
		return unknown("ALTER TABLE … DROP COLUMN")
	case x.Add != nil:
		for i := range x.Add {
			if err := r.addColumn(t, &x.Add[i]); err != nil {
				return err
			}
			c := t.cols[len(t.cols)-1]
			v := null
			if c.def != nil {
				if v, err = r.value(c.def, nil); err != nil {
					return err
				}
			}
			for _, w := range t.rowsOf(s).rows {
				w.vals = append(w.vals[:len(w.vals):len(w.vals)], v)
			}
		}
	case x.Modify != nil:
		for i := range x.Modify {
			if err := r.modify(t, &x.Modify[i]); err != nil {
				return err
			}
		}
	}
	return nil
}

func (r *run) modify(t *table, d *sql.ColumnDef) error {
	i := t.column(d.Name)
	if i < 0 {
		return fail(904, "%s: invalid identifier", quotedName(d.Name))
	}
	c := t.cols[i]
	if d.Identity != "" && c.identity != "" {
		for _, w := range t.rowsOf(r.s).rows { // START WITH LIMIT VALUE
			if !w.dead && w.vals[i].Kind == Number {
				t.identity = max(t.identity, w.vals[i].D.IntPart()+1)
			}
		}
		return nil
	}
	if d.HasType {
		typ, err := typeOf(d.Type)
		if err != nil {
			return err
		}
		for _, w := range t.rowsOf(r.s).rows {
			if w.dead || w.vals[i].IsNull() {
				continue
			}
			if typ.Kind != c.typ.Kind {
				return fail(1439, "column to be modified must be empty to change datatype")
			}
			if _, err := r.s.fit(w.vals[i], typ, where(t, c)); err != nil {
				if typ.Kind == Number {
					return fail(1440, "column to be modified must be empty to decrease precision or scale")
				}
				return fail(1441, "cannot decrease column length because some value is too big")
			}
		}
		c.typ = typ
	}
	if d.Null != nil {
		for _, w := range t.rowsOf(r.s).rows {
			if !*d.Null && !w.dead && w.vals[i].IsNull() {
				return fail(2296, "cannot enable (%s.) - null values found", t.owner)
			}
		}
		c.required = !*d.Null
	}
	if d.Default != nil {
		c.def, c.defText = d.Default, d.Text
	}
	return nil
}

func (r *run) createIndex(x *sql.CreateIndex) error {
	t, err := r.held(x.Table, "INDEX")
	if err != nil {
		return err
	}
	cols, err := t.named(x.Columns)
	if err != nil {
		return err
	}
	for _, o := range t.indexes {
		if slices.Equal(o.cols, cols) {
			return fail(1408, "such column list already indexed")
		}
		if o.name == x.Index.Object {
			return fail(955, "name is already used by an existing object")
		}
	}
	idx := &index{name: x.Index.Object, cols: cols, unique: x.Unique}
	if x.Unique && !t.rowsOf(r.s).rebuild(idx) {
		return fail(1452, "cannot CREATE UNIQUE INDEX; duplicate keys found")
	}
	t.indexes = append(t.indexes, idx)
	return nil
}

func (r *run) createView(x *sql.CreateView) error {
	v := &view{id: r.s.srv.next(), name: x.View.Object, owner: x.View.Schema, def: x,
		rights: map[string]map[string]bool{}}
	if v.owner == "" {
		v.owner = r.s.schema
	}
	if _, _, err := r.query(x.Select, nil); err != nil {
		return err
	}
	if old, is := r.s.object(x.View).(*view); is && x.Replace {
		delete(r.s.srv.users[v.owner].objects, old.name)
	}
	return r.s.put(x.View, "CREATE VIEW", v)
}

func (r *run) createTrigger(x *sql.CreateTrigger) error {
	if !r.s.user.may("CREATE TRIGGER") {
		return fail(1031, "insufficient privileges")
	}
	switch o := r.s.object(x.Table).(type) {
	case *table:
		o.triggers = append(o.triggers, x)
		return nil
	case *view:
		o.triggers = append(o.triggers, x)
		return nil
	}
	return fail(942, "table or view does not exist")
}

// referrer is a table with a foreign key to one.
func (r *run) referrer(t *table) *table {
	for _, u := range r.s.srv.users {
		for _, o := range u.objects {
			c, is := o.(*table)
			if !is || c == t {
				continue
			}
			for _, k := range c.cons {
				if k.Kind == "R" && !k.Off {
					if p, _ := r.s.referred(c, k); p == t {
						return c
					}
				}
			}
		}
	}
	return nil
}

func (r *run) drop(x *sql.Drop) error {
	s := r.s
	switch x.Kind {
	case "TABLE":
		t, err := r.held(x.Name, "DROP")
		if err != nil {
			return err
		}
		for c := r.referrer(t); c != nil; c = r.referrer(t) {
			if !x.Cascade {
				return fail(2449, "unique/primary keys in table referenced by foreign keys")
			}
			c.cons = slices.DeleteFunc(c.cons, func(k *constraint) bool {
				p, _ := s.referred(c, k)
				return k.Kind == "R" && p == t
			})
		}
		delete(s.srv.users[t.owner].objects, t.name)
	case "VIEW":
		v, is := s.object(x.Name).(*view)
		if !is {
			return fail(942, "table or view does not exist")
		}
		delete(s.srv.users[v.owner].objects, v.name)
	case "SEQUENCE":
		if _, is := s.object(x.Name).(*sequence); !is {
			return fail(2289, "sequence does not exist")
		}
		delete(s.srv.users[s.schema].objects, x.Name.Object)
	case "INDEX":
		for _, o := range s.srv.users[s.schema].objects {
			if t, is := o.(*table); is {
				n := len(t.indexes)
				t.indexes = slices.DeleteFunc(t.indexes, func(i *index) bool {
					return i.name == x.Name.Object &&
						!i.made
				})
				if len(t.indexes) < n {
					return nil
				}
			}
		}
		return fail(1418, "specified index does not exist")
	default:
		return unknown("DROP %s", x.Kind)
	}
	return nil
}

func (r *run) comment(x *sql.Comment) error {
	t, err := r.s.table(x.Table, "ALTER")
	if err != nil {
		return err
	}
	if x.Column == "" {
		t.comment = x.Text
		return nil
	}
	i := t.column(x.Column)
	if i < 0 {
		return fail(904, "%s: invalid identifier", quotedName(x.Column))
	}
	t.cols[i].comment = x.Text
	return nil
}
