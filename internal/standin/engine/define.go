package engine

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"ambertray/internal/standin/tsql"
)

// table finds an object by its name, and waits for a transaction that is making or
// dropping it.
func (s *Session) table(n tsql.Name) (*Table, error) {
	t, err := s.lookup(n)
	if err == nil && t == nil {
		name := n.Object
		if n.Schema != "" {
			name = n.Schema + "." + n.Object
		}
		return nil, fail(208, 16, "Invalid object name '%s'.", name)
	}
	return t, err
}

// key is an object's name as a database's map has it.
func key(schema, name string) string {
	if schema == "" {
		schema = "dbo"
	}
	return strings.ToLower(schema) + "." + strings.ToLower(name)
}

// tempsOf is where a table of sessions is: of one that all see, the name begins with two
// signs.
func (s *Session) tempsOf(name string) map[string]*Table {
	if strings.HasPrefix(name, "##") {
		return s.srv.globals
	}
	return s.temps
}

func (s *Session) lookup(n tsql.Name) (*Table, error) {
	if strings.HasPrefix(n.Object, "#") {
		return s.tempsOf(n.Object)[strings.ToLower(n.Object)], nil
	}
	db := s.db
	if n.Database != "" {
		if db = s.srv.databases[strings.ToLower(n.Database)]; db == nil {
			return nil, fail(911, 16, "Database '%s' does not exist. Make sure that the name is entered correctly.",
				n.Database)
		}
	}
	k := key(n.Schema, n.Object)
	mine := func(x *tx) bool { return x == nil || x == s.tx || x == s.statement }
	for {
		t, going := db.objects[k], db.going[k]
		switch {
		case t != nil && !mine(t.born):
			err := s.statement.wait(func() []*tx {
				if x := db.objects[k]; x != nil && !mine(x.born) {
					return []*tx{x.born}
				}
				return nil
			})
			if err != nil {
				return nil, err
			}
		case t == nil && going != nil && !mine(going.writer):
			err := s.statement.wait(func() []*tx {
				if x := db.going[k]; x != nil && !mine(x.writer) {
					return []*tx{x.writer}
				}
				return nil
			})
			if err != nil {
				return nil, err
			}
		default:
			return t, nil
		}
	}
}

// may reports the error of a login that has not the right to do something.
func (s *Session) may(perm string, t *Table) error {
	if s.login.May == nil || slices.Contains(s.login.May, perm) || t != nil && t.temp || s.triggers > 0 {
		return nil
	}
	if t == nil {
		return fail(262, 14, "%s permission denied in database '%s'.", perm, s.db.Name)
	}
	return fail(229, 14, "The %s permission was denied on the object '%s', database '%s', schema '%s'.", perm, t.name,
		t.db.Name, t.schema)
}

// define runs statements that make, change and drop objects.
func (s *Session) define(st tsql.Statement) (int64, error) {
	switch st := st.(type) {
	case *tsql.CreateTable:
		return -1, s.createTable(st)
	case *tsql.AlterTable:
		return -1, s.alterTable(st)
	case *tsql.CreateIndex:
		return -1, s.createIndex(st)
	case *tsql.CreateView:
		return -1, s.createView(st)
	case *tsql.CreateTrigger:
		return -1, s.createTrigger(st)
	case *tsql.CreateSequence:
		return -1, s.createSequence(st)
	case *tsql.AlterSequence:
		t, err := s.table(st.Sequence)
		if err != nil {
			return -1, err
		}
		if t.seq == nil {
			return -1, fail(11727, 16, "'%s' is not a sequence object.", t.name)
		}
		old := t.seq.next
		t.seq.next = st.Restart
		return -1, s.statement.note(undone{do: func() { t.seq.next = old }}, 10)
	case *tsql.CreateSchema:
		if _, is := s.db.schemas[st.Schema]; is {
			return -1, fail(2714, 16, "There is already an object named '%s' in the database.", st.Schema)
		}
		db := s.db
		db.schemas[st.Schema] = s.srv.newID()
		return -1, s.statement.note(undone{do: func() { delete(db.schemas, st.Schema) }}, 10)
	case *tsql.CreateDatabase:
		return -1, s.createDatabase(st)
	case *tsql.Drop:
		return -1, s.drop(st)
	}
	return -1, unknown("this statement")
}

func (s *Session) createDatabase(st *tsql.CreateDatabase) error {
	if s.tx != nil {
		return fail(226, 16, "CREATE DATABASE statement not allowed within multi-statement transaction.")
	}
	if err := s.may("CREATE DATABASE", nil); err != nil {
		return err
	}
	if s.srv.databases[strings.ToLower(st.Database)] != nil {
		return fail(1801, 16, "Database '%s' already exists. Choose a different database name.", st.Database)
	}
	c := st.Collation
	if c == "" {
		c = DefaultCollation
	}
	if _, err := CollationOf(c); err != nil {
		return err
	}
	s.srv.addDatabase(st.Database, c)
	return nil
}

// enter puts a new object under its name.
func (s *Session) enter(t *Table, n tsql.Name) error {
	t.id, t.name, t.schema, t.db, t.made = s.srv.newID(), n.Object, n.Schema, s.db, time.Now()
	if strings.HasPrefix(n.Object, "#") {
		t.temp, t.schema = true, "dbo"
		k := strings.ToLower(n.Object)
		temps := s.tempsOf(n.Object)
		if temps[k] != nil {
			return fail(2714, 16, "There is already an object named '%s' in the database.", n.Object)
		}
		temps[k], t.owner = t, s
		return s.statement.note(undone{do: func() { delete(temps, k) }}, 10)
	}
	if t.schema == "" {
		t.schema = "dbo"
	}
	found := false
	for name := range s.db.schemas {
		if strings.EqualFold(name, t.schema) {
			t.schema, found = name, true
		}
	}
	if !found {
		return fail(2760, 16, "The specified schema name \"%s\" either does not exist or you do not have permission "+
			"to use "+
			"it.", t.schema)
	}
	if there, err := s.lookup(n); err != nil {
		return err
	} else if there != nil {
		return fail(2714, 16, "There is already an object named '%s' in the database.", n.Object)
	}
	db, k := s.db, key(t.schema, t.name)
	db.objects[k] = t
	t.born, t.writer = s.statement, s.statement
	s.statement.born = append(s.statement.born, t)
	s.statement.written[t] = true
	return s.statement.note(undone{do: func() { delete(db.objects, k) }}, 100)
}

func (s *Session) createTable(st *tsql.CreateTable) error {
	t := &Table{notes: map[string]string{}, next: 1}
	if !strings.HasPrefix(st.Table.Object, "#") {
		if err := s.may("CREATE TABLE", nil); err != nil {
			return err
		}
	}
	if err := s.enter(t, st.Table); err != nil {
		return err
	}
	for _, d := range st.Columns {
		if err := s.addColumn(t, d); err != nil {
			return err
		}
	}
	if len(t.Columns) > 1024 {
		return fail(1702, 16, "CREATE TABLE failed because column '%s' in table '%s' exceeds the maximum of 1024 "+
			"columns.",
			t.Columns[1024].Name, t.name)
	}
	for _, c := range st.Constraints {
		if err := s.constrain(t, c, ""); err != nil {
			return err
		}
	}
	return nil
}

func (s *Session) addColumn(t *Table, d tsql.ColumnDef) error {
	if t.column(d.Name) >= 0 {
		return fail(2705, 16, "Column names in each table must be unique. Column name '%s' in table '%s' is "+
			"specified more "+
			"than once.", d.Name, t.name)
	}
	c := &Column{table: t, ID: len(t.Columns) + 1, Name: d.Name, Null: true, Default: d.Default,
		defText:  "(" + d.Text + ")",
		Identity: d.Identity, seed: d.Seed, step: d.Step, Computed: d.Computed, text: d.Text, persisted: d.Persisted,
		sparse: d.Sparse, period: d.Period}
	if c.defName = d.DefName; d.Default != nil && c.defName == "" {
		c.defName = fmt.Sprintf("DF__%.9s__%.5s__%08X", t.name, d.Name, s.srv.newID())
	}
	if d.Computed != nil {
		e, err := t.scope(s).compile(d.Computed)
		if err != nil {
			return err
		}
		c.Type, c.Null = e.t, !e.sure
	} else {
		coll := s.db.Coll
		var err error
		if d.Collation != "" {
			if coll, err = CollationOf(d.Collation); err != nil {
				return err
			}
		}
		if c.Type, err = TypeOf(d.Type, coll); err != nil {
			return err
		}
	}
	if d.Null != nil {
		c.Null = *d.Null
	}
	if c.Type.Kind == RowVersion || d.Identity || d.Period != "" {
		c.Null = false
	}
	if d.Identity {
		if t.identity() != nil {
			return fail(2744, 16, "Multiple identity columns specified for table '%s'. Only one identity column per "+
				"table is "+
				"allowed.", t.name)
		}
		if !c.Type.IsExact() || c.Type.digits() > 0 {
			return fail(2749, 16, "Identity column '%s' must be of data type int, bigint, smallint, tinyint, or "+
				"decimal or numeric "+
				"with a scale of 0, unencrypted, and constrained to be nonnullable.", d.Name)
		}
		t.next = d.Seed
	}
	t.Columns = append(t.Columns, c)
	for _, m := range d.More {
		if err := s.constrain(t, m, d.Name); err != nil {
			return err
		}
	}
	return nil
}

// constrain adds a constraint; column is the one that it stands behind.
func (s *Session) constrain(t *Table, c tsql.Constraint, column string) error {
	names := c.Columns
	if len(names) == 0 && column != "" {
		names = []string{column}
	}
	cols, err := s.columnsOf(t, names)
	if err != nil {
		return err
	}
	name := func(prefix string) string {
		if c.Name != "" {
			return c.Name
		}
		return fmt.Sprintf("%s__%.9s__%016X", prefix, t.name, s.srv.newID())
	}
	if c.Name != "" && t.db.constraint(c.Name) {
		return fail(2714, 16, "There is already an object named '%s' in the database.", c.Name)
	}
	switch c.Kind {
	case "PRIMARY KEY", "UNIQUE":
		primary := c.Kind == "PRIMARY KEY"
		x := &index{id: len(t.indexes) + 1, cols: cols, unique: true, primary: primary, constraint: true,
			clustered: primary,
			ignore:    c.Ignore, name: name(map[bool]string{true: "PK", false: "UQ"}[primary])}
		if primary {
			for _, i := range cols {
				if t.live > 0 && t.Columns[i].Null {
					return fail(8111, 16, "Cannot define PRIMARY KEY constraint on nullable column in table '%s'.",
						t.name)
				}
				t.Columns[i].Null = false
			}
		}
		return s.addIndex(t, x)
	case "CHECK":
		k := &check{id: s.srv.newID(), name: name("CK"), e: c.Check, text: c.Text, column: -1}
		if column != "" {
			k.column = t.column(column)
		}
		if k.compiled, err = t.scope(s).compile(c.Check); err != nil {
			return err
		}
		t.checks = append(t.checks, k)
		if err := s.statement.note(undone{do: func() {
			t.checks = slices.DeleteFunc(t.checks,
				func(x *check) bool { return x == k })
		}}, 10); err != nil {
			return err
		}
		return s.holdAgainst(t, "ALTER TABLE")
	case "FOREIGN KEY":
		return s.refer(t, c, cols, name("FK"))
	}
	return unknown("this constraint")
}

// holdAgainst checks all rows.
func (s *Session) holdAgainst(t *Table, verb string) error {
	e := &entry{s: s, t: t, verb: verb, defaults: make([]*expr, len(t.Columns)), computed: make([]*expr,
		len(t.Columns))}
	if err := e.compile(); err != nil {
		return err
	}
	for _, r := range t.rows {
		if !r.dead {
			if err := e.check(r.v); err != nil {
				return err
			}
		}
	}
	return nil
}

func (db *Database) constraint(name string) bool {
	for _, t := range db.objects {
		if slices.ContainsFunc(t.checks, func(k *check) bool { return strings.EqualFold(k.name, name) }) ||
			slices.ContainsFunc(t.keys, func(k *foreign) bool { return strings.EqualFold(k.name, name) }) ||
			slices.ContainsFunc(t.indexes, func(k *index) bool {
				return k.constraint && strings.EqualFold(k.name,
					name)
			}) {
			return true
		}
	}
	return false
}

func (s *Session) columnsOf(t *Table, names []string) (cols []int, err error) {
	for _, n := range names {
		i := t.column(n)
		if i < 0 {
			return nil, fail(1911, 16, "Column name '%s' does not exist in the target table or view.", n)
		}
		cols = append(cols, i)
	}
	return cols, nil
}

func (s *Session) refer(t *Table, c tsql.Constraint, cols []int, name string) error {
	to, err := s.table(c.To)
	if err != nil {
		return fail(1767, 16, "Foreign key '%s' references invalid table '%s'.", name, c.To.Object)
	}
	keys, err := s.columnsOf(to, c.Keys)
	if err != nil {
		return err
	}
	if len(keys) == 0 {
		for _, x := range to.indexes {
			if x.primary {
				keys = x.cols
			}
		}
	}
	if to.indexOn(keys) == nil {
		return fail(1776, 16, "There are no primary or candidate keys in the referenced table '%s' that match the "+
			"referencing "+
			"column list in the foreign key '%s'.", to.name, name)
	}
	for k, i := range cols {
		if a, b := t.Columns[i].Type, to.Columns[keys[k]].Type; a.Kind != b.Kind || a.digits() != b.digits() {
			return fail(1778, 16, "Column '%s.%s' is not the same data type as referencing column '%s.%s' in "+
				"foreign key '%s'.",
				to.name, to.Columns[keys[k]].Name, t.name, t.Columns[i].Name, name)
		}
	}
	f := &foreign{id: s.srv.newID(), name: name, table: t, to: to, cols: cols, keys: keys, onDelete: c.Delete,
		onUpdate: c.Update}
	t.keys = append(t.keys, f)
	if err := s.statement.note(undone{do: func() {
		t.keys = slices.DeleteFunc(t.keys,
			func(x *foreign) bool { return x == f })
	}}, 10); err != nil {
		return err
	}
	return s.holdAgainst(t, "ALTER TABLE")
}

// addIndex builds an index; what breaks it is an error.
func (s *Session) addIndex(t *Table, x *index) error {
	for _, i := range x.cols {
		if y := t.Columns[i].Type; y.Len == Max || y.Kind == XML || y.Kind == Text {
			return fail(1919, 16, "Column '%s' in table '%s' is of a type that is invalid for use as a key column "+
				"in an index.",
				t.Columns[i].Name, t.name)
		}
	}
	if x.primary && slices.ContainsFunc(t.indexes, func(o *index) bool { return o.primary }) {
		return fail(1779, 16, "Table '%s' already has a primary key defined on it.", t.name)
	}
	if x.unique {
		x.rows = make(map[string]*row, t.live)
		for _, r := range t.rows {
			if r.dead {
				continue
			}
			k := t.keyOf(x, r.v)
			if x.rows[k] != nil {
				var vals []Value
				for _, i := range x.cols {
					vals = append(vals, r.v[i])
				}
				d := t.duplicate(x, vals).(*Error)
				_, value, _ := strings.Cut(d.Message, "The duplicate key value is ")
				return fail(1505, 16, "The CREATE UNIQUE INDEX statement terminated because a duplicate key was "+
					"found for the object "+
					"name '%s' and the index name '%s'. The duplicate key value is %s", t.dotted(), x.name, value)
			}
			x.rows[k] = r
		}
	}
	t.indexes = append(t.indexes, x)
	return s.statement.note(undone{do: func() {
		t.indexes = slices.DeleteFunc(t.indexes, func(o *index) bool { return o == x })
	}}, 10)
}

func (s *Session) createIndex(st *tsql.CreateIndex) error {
	t, err := s.altered(st.Table)
	if err != nil {
		return err
	}
	cols, err := s.columnsOf(t, st.Columns)
	if err != nil {
		return err
	}
	return s.addIndex(t, &index{id: len(t.indexes) + 2, name: st.Name, cols: cols, unique: st.Unique,
		clustered: st.Clustered})
}

// altered is a table that is to be changed.
func (s *Session) altered(n tsql.Name) (*Table, error) {
	t, err := s.table(n)
	if err != nil {
		return nil, err
	}
	if err := s.may("ALTER", t); err != nil {
		return nil, err
	}
	return t, s.statement.write(t)
}

func (s *Session) createView(st *tsql.CreateView) error {
	p, err := s.plan(st.Select, nil)
	if err != nil {
		return err
	}
	t := &Table{view: st.Select, viewText: st.Text, notes: map[string]string{}}
	for i, c := range p.cols {
		if len(st.Columns) > 0 {
			c.Name = st.Columns[i]
		}
		t.Columns = append(t.Columns, &Column{table: t, ID: i + 1, Name: c.Name, Type: c.Type, Null: c.Null})
	}
	return s.enter(t, st.View)
}

func (s *Session) createTrigger(st *tsql.CreateTrigger) error {
	t, err := s.altered(st.Table)
	if err != nil {
		return err
	}
	g := &trigger{id: s.srv.newID(), name: st.Trigger.Object, table: t, instead: st.Instead, events: st.Events,
		body: st.Body, text: st.Text}
	t.triggers = append(t.triggers, g)
	return s.statement.note(undone{do: func() {
		t.triggers = slices.DeleteFunc(t.triggers, func(x *trigger) bool { return x == g })
	}}, 10)
}

func (s *Session) createSequence(st *tsql.CreateSequence) error {
	typ, err := TypeOf(st.Type, nil)
	if err != nil {
		return err
	}
	return s.enter(&Table{seq: &sequence{typ: typ, next: st.Start, start: st.Start, step: st.Increment, last: st.Start},
		notes: map[string]string{}}, st.Sequence)
}

// nextValue is NEXT VALUE FOR; like identities, sequences take no part in transactions.
func (sc *scope) nextValue(e *tsql.Next) (*expr, error) {
	t, err := sc.s.table(e.Sequence)
	if err != nil {
		return nil, err
	}
	if t.seq == nil {
		return nil, fail(11727, 16, "'%s' is not a sequence object.", t.name)
	}
	return &expr{t: t.seq.typ, sure: true, f: func(*frame) (Value, error) {
		v := Value{N: t.seq.next}
		t.seq.last = v.N
		t.seq.next += t.seq.step
		return v, nil
	}}, nil
}

func (s *Session) drop(st *tsql.Drop) error {
	for _, n := range st.Names {
		if err := s.dropOne(st, n); err != nil {
			return err
		}
	}
	return nil
}

func (s *Session) dropOne(st *tsql.Drop, n tsql.Name) error {
	gone := func(number int) error {
		if st.IfExists {
			return nil
		}
		return fail(number, 11, "Cannot drop the %s '%s', because it does not exist or you do not have permission.",
			strings.ToLower(st.Kind), n.Object)
	}
	switch st.Kind {
	case "DATABASE":
		k := strings.ToLower(n.Object)
		if s.srv.databases[k] == nil {
			return gone(3701)
		}
		for _, o := range s.srv.sessions {
			if o.db == s.srv.databases[k] {
				return fail(3702, 16, "Cannot drop database \"%s\" because it is currently in use.", n.Object)
			}
		}
		delete(s.srv.databases, k)
		return nil
	case "SCHEMA":
		if _, is := s.db.schemas[n.Object]; !is {
			return gone(15151)
		}
		delete(s.db.schemas, n.Object)
		return nil
	case "INDEX":
		t, err := s.altered(st.On)
		if err != nil {
			return err
		}
		return s.dropIndex(t, n.Object)
	case "TRIGGER":
		for _, t := range s.db.objects {
			for i, g := range t.triggers {
				if strings.EqualFold(g.name, n.Object) {
					t.triggers = slices.Delete(t.triggers, i, i+1)
					return nil
				}
			}
		}
		return gone(3701)
	}
	return s.dropObject(st, n, gone)
}

func (s *Session) dropIndex(t *Table, name string) error {
	for i, x := range t.indexes {
		if strings.EqualFold(x.name, name) {
			t.indexes = slices.Delete(slices.Clone(t.indexes), i, i+1)
			return s.statement.note(undone{do: func() {
				x.rows = map[string]*row{}
				t.indexes = append(t.indexes, x)
				for _, r := range t.rows {
					if !r.dead && x.unique {
						x.rows[t.keyOf(x, r.v)] = r
					}
				}
			}}, 10)
		}
	}
	return fail(3701, 11, "Cannot drop the index '%s.%s', because it does not exist or you do not have permission.",
		t.dotted(),
		name)
}

func (s *Session) dropObject(st *tsql.Drop, n tsql.Name, gone func(int) error) error {
	t, err := s.lookup(n)
	if err != nil {
		return err
	}
	if t == nil || (st.Kind == "VIEW") != (t.view != nil) || (st.Kind == "SEQUENCE") != (t.seq != nil) {
		return gone(3701)
	}
	if t.temp {
		k := strings.ToLower(n.Object)
		temps := s.tempsOf(n.Object)
		delete(temps, k)
		return s.statement.note(undone{do: func() { temps[k] = t }}, 10)
	}
	if err := s.may("ALTER", t); err != nil {
		return err
	}
	for _, f := range t.referrers() {
		if f.table != t {
			return fail(3726, 16, "Could not drop object '%s' because it is referenced by a FOREIGN KEY "+
				"constraint.", t.name)
		}
	}
	if err := s.statement.write(t); err != nil {
		return err
	}
	db, k := t.db, key(t.schema, t.name)
	delete(db.objects, k)
	hidden := db.going[k]
	if t.born == nil {
		db.going[k] = t
		s.statement.going = append(s.statement.going, strings.ToLower(db.Name)+"\x00"+k)
	}
	return s.statement.note(undone{do: func() {
		db.objects[k] = t
		if db.going[k] = hidden; hidden == nil {
			delete(db.going, k)
		}
	}}, 100)
}

func (s *Session) alterTable(st *tsql.AlterTable) error {
	t, err := s.altered(st.Table)
	if err != nil {
		return err
	}
	switch {
	case st.Add != nil:
		return s.addLate(t, *st.Add)
	case st.Alter != nil:
		return s.alterColumn(t, *st.Alter)
	case st.Drop != "":
		return unknown("ALTER TABLE … DROP COLUMN")
	case st.Without != "":
		return s.dropConstraint(t, st.Without)
	case st.Enable != nil:
		return s.enable(t, st)
	}
	for _, c := range st.Adds {
		if err := s.constrain(t, c, ""); err != nil {
			return err
		}
	}
	return nil
}

// addLate adds a column to a table that may have rows.
func (s *Session) addLate(t *Table, d tsql.ColumnDef) error {
	before := slices.Clone(t.Columns)
	if err := s.addColumn(t, d); err != nil {
		return err
	}
	c := t.Columns[len(t.Columns)-1]
	if !c.Null && t.live > 0 && c.Default == nil && !c.Identity {
		t.Columns = before
		return fail(4901, 16, "ALTER TABLE only allows columns to be added that can contain nulls, or have a "+
			"DEFAULT definition "+
			"specified.")
	}
	if t.live > 0 && (c.Identity || c.Computed != nil) {
		t.Columns = before
		return unknown("such a column added to a table with rows")
	}
	for _, r := range t.rows {
		v := null
		if c.Default != nil && !c.Null {
			x, err := s.value(c.Default, c.Type)
			if err != nil {
				return err
			}
			v = x
		}
		r.v = append(slices.Clone(r.v), v)
	}
	return s.statement.note(undone{do: func() {
		t.Columns = before
		for _, r := range t.rows {
			r.v = r.v[:len(before)]
		}
	}}, 10)
}

func (s *Session) alterColumn(t *Table, d tsql.ColumnDef) error {
	i := t.column(d.Name)
	if i < 0 {
		return fail(4924, 16, "ALTER TABLE ALTER COLUMN failed because column '%s' does not exist in table '%s'.",
			d.Name, t.name)
	}
	old := *t.Columns[i]
	c := t.Columns[i]
	coll := old.Type.Coll
	if coll == nil {
		coll = s.db.Coll
	}
	typ, err := TypeOf(d.Type, coll)
	if err != nil {
		return err
	}
	for _, x := range t.indexes {
		if slices.Contains(x.cols, i) && (typ.Kind != old.Type.Kind || typ.Len == Max || typ.Len < old.Type.Len) {
			return fail(5074, 16, "The object '%s' is dependent on column '%s'.", x.name, d.Name)
		}
	}
	c.Type, c.Null = typ, d.Null == nil || *d.Null
	for _, r := range t.rows {
		if r.dead {
			continue
		}
		v, err := assign(r.v[i], old.Type, c)
		if err == nil && v.Null && !c.Null {
			err = fail(515, 16, "Cannot insert the value NULL into column '%s', table '%s'; column does not allow "+
				"nulls. UPDATE "+
				"fails.", d.Name, t.whole())
		}
		if err != nil {
			*c = old
			return err
		}
		r.v = slices.Clone(r.v)
		r.v[i] = v
	}
	return s.statement.note(undone{do: func() { *c = old }}, 10)
}

func (s *Session) dropConstraint(t *Table, name string) error {
	if slices.ContainsFunc(t.indexes, func(x *index) bool { return x.constraint && strings.EqualFold(x.name, name) }) {
		return s.dropIndex(t, name)
	}
	checks, keys := t.checks, t.keys
	t.checks = slices.DeleteFunc(slices.Clone(t.checks), func(k *check) bool { return strings.EqualFold(k.name, name) })
	t.keys = slices.DeleteFunc(slices.Clone(t.keys), func(k *foreign) bool { return strings.EqualFold(k.name, name) })
	if len(t.checks) == len(checks) && len(t.keys) == len(keys) {
		return fail(3728, 16, "'%s' is not a constraint.", name)
	}
	return s.statement.note(undone{do: func() { t.checks, t.keys = checks, keys }}, 10)
}

// enable turns constraints on or off. WITH CHECK holds all rows against them.
func (s *Session) enable(t *Table, st *tsql.AlterTable) error {
	meant := func(name string) bool { return st.Which == "" || strings.EqualFold(st.Which, name) }
	var back []func()
	found := st.Which == ""
	for _, k := range t.checks {
		if meant(k.name) {
			off, dis := k.off, k.distrust
			back = append(back, func() { k.off, k.distrust = off, dis })
			k.off, k.distrust, found = !*st.Enable, !*st.Enable || !st.Trust, true
		}
	}
	for _, k := range t.keys {
		if meant(k.name) {
			off, dis := k.off, k.distrust
			back = append(back, func() { k.off, k.distrust = off, dis })
			k.off, k.distrust, found = !*st.Enable, !*st.Enable || !st.Trust, true
		}
	}
	if !found {
		return fail(4917, 16, "Constraint '%s' does not exist.", st.Which)
	}
	undo := func() {
		for _, f := range back {
			f()
		}
	}
	if *st.Enable && st.Trust {
		if err := s.holdAgainst(t, "ALTER TABLE"); err != nil {
			undo()
			return err
		}
	}
	return s.statement.note(undone{do: undo}, 10)
}

// checkIdent is DBCC CHECKIDENT.
func (s *Session) checkIdent(st *tsql.CheckIdent) error {
	t, err := s.table(st.Table)
	if err != nil {
		return err
	}
	c := t.identity()
	if c == nil {
		return fail(7997, 16, "'%s' does not contain an identity column.", t.name)
	}
	if err := s.may("ALTER", t); err != nil {
		return err
	}
	largest, any := int64(0), false
	for _, r := range t.rows {
		if x := r.v[c.ID-1]; !r.dead && (!any || x.N > largest) {
			largest, any = x.N, true
		}
	}
	now := "NULL"
	if t.used {
		now = strconv.FormatInt(t.next-c.step, 10)
	}
	s.tell(&Error{Number: 7998, Class: 0, State: 1, Message: fmt.Sprintf("Checking identity information: current "+
		"identity "+
		"value '%s', current column value '%d'.", now, largest)})
	switch {
	case st.Value != nil:
		v, err := s.value(st.Value, bigintType)
		if err != nil {
			return err
		}
		if t.next = v.N + c.step; !t.used && t.live == 0 {
			t.next = v.N // nothing was ever in it
		}
		t.used = true
	case st.Reseed && any && largest >= t.next:
		t.next, t.used = largest+c.step, true
	}
	return nil
}
