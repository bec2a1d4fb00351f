package engine

import (
	"strings"

	"ambertray/internal/standin/tsql"
)

// A Param is an argument of a procedure with its value.
type Param struct {
	Name   string // with @, in lower case; empty: by place
	Type   Type
	Value  Value
	Output bool
	out    string // the variable that it comes back into
}

// exec is EXEC.
func (s *Session) exec(st *tsql.Exec) error {
	if st.Text != nil {
		v, err := s.value(st.Text, Type{Kind: NVarChar, Len: Max, Coll: s.db.Coll})
		if err != nil {
			return err
		}
		return s.inner(v.S, map[string]*variable{})
	}
	var params []*Param
	for _, a := range st.Args {
		p := &Param{Name: a.Name, Output: a.Output}
		if a.Value == nil {
			p.Value, p.Type = null, Type{Kind: Untyped}
		} else {
			x, err := (&scope{s: s}).compile(bareWord(a.Value))
			if err != nil {
				return err
			}
			if p.Value, err = x.f(&frame{s: s}); err != nil {
				return err
			}
			p.Type = x.t
		}
		if v, is := a.Value.(*tsql.Var); is && a.Output {
			p.out = v.Name
		}
		params = append(params, p)
	}
	s.returned = 0
	if err := s.procedure(strings.ToLower(st.Proc.Object), params); err != nil {
		return err
	}
	for _, p := range params {
		if v := s.vars[p.out]; v != nil {
			x, err := convert(p.Value, p.Type, v.t, 0)
			if err != nil {
				return err
			}
			v.v = x
		}
	}
	if v := s.vars[st.Into]; v != nil {
		v.v = Value{N: s.returned}
	}
	return nil
}

// bareWord makes a word without quotes the text that it is as an argument.
func bareWord(e tsql.Expr) tsql.Expr {
	if c, is := e.(*tsql.Col); is && len(c.Parts) == 1 {
		return &tsql.Lit{Kind: "wide", Text: c.Parts[0]}
	}
	return e
}

// inner runs a text within a batch, with variables of its own.
func (s *Session) inner(text string, vars map[string]*variable) error {
	if s.procs > 30 {
		return fail(217, 16, "Maximum stored procedure, function, trigger, or view nesting level exceeded (limit 32).")
	}
	before, st, set := s.vars, s.statement, s.options
	defer func() { s.options = set }()
	s.vars = vars
	s.procs++
	own := s.tx == nil
	if own {
		st.done(true) // its statements have transactions of their own
		s.statement = nil
	}
	err := s.runText(text)
	s.procs--
	s.vars = before
	if s.statement = s.tx; own && s.tx == nil {
		s.statement = s.begin()
	}
	if err == errReturn {
		err = nil
	}
	return err
}

func arg(params []*Param, name string, at int) *Param {
	for i, p := range params {
		if p.Name == name || p.Name == "" && i == at {
			return p
		}
	}
	return nil
}

func (s *Session) textArg(params []*Param, name string, at int) (string, error) {
	p := arg(params, name, at)
	if p == nil {
		return "", fail(201, 16, "Procedure expects parameter '%s', which was not supplied.", name)
	}
	v, err := convert(p.Value, p.Type, Type{Kind: NVarChar, Len: Max, Coll: s.db.Coll}, 0)
	return v.S, err
}

func intArg(params []*Param, name string, at int, otherwise int64) (int64, error) {
	p := arg(params, name, at)
	if p == nil || p.Value.Null {
		return otherwise, nil
	}
	v, err := convert(p.Value, p.Type, bigintType, 0)
	return v.N, err
}

// procedures are those of the system that the stand-in knows.
var procedures map[string]func(*Session, []*Param) error

func init() {
	procedures = map[string]func(*Session, []*Param) error{
		"sp_executesql":                (*Session).executeSQL,
		"sp_prepare":                   (*Session).prepare,
		"sp_execute":                   (*Session).execPrepared,
		"sp_unprepare":                 (*Session).unprepare,
		"sp_prepexec":                  (*Session).prepExec,
		"sp_addextendedproperty":       (*Session).addNote,
		"sp_getapplock":                (*Session).appLock,
		"sp_releaseapplock":            (*Session).releaseAppLock,
		"sp_describe_first_result_set": (*Session).describe,
		"sp_reset_connection":          func(s *Session, _ []*Param) error { s.end(); s.defaults(); return nil },
		"sp_rename":                    (*Session).rename,
		"sp_refreshview":               func(*Session, []*Param) error { return nil },
	}
}

func (s *Session) procedure(name string, params []*Param) error {
	f := procedures[name]
	if f == nil {
		return fail(2812, 16, "Could not find stored procedure '%s', or the stand-in does not know it.", name)
	}
	return f(s, params)
}

// Procedure is one that a client calls by name ([MS-TDS] 2.2.6.6, RPC Request).
func (s *Session) Procedure(name string, params []*Param, sink Sink) {
	s.srv.mu.Lock()
	defer s.srv.mu.Unlock()
	s.ready(sink)
	s.returned = 0
	own := s.tx == nil
	if own {
		s.statement = s.begin()
	} else {
		s.statement = s.tx
	}
	err := s.procedure(strings.ToLower(name), params)
	if x := s.statement; own && x != nil && x != s.tx {
		x.done(err == nil)
	}
	s.statement = s.tx
	failed := err != nil
	if failed && err != errBatch {
		s.handle(err, 1)
	}
	if !failed {
		s.sink.Status(s.returned)
		for _, p := range params {
			if p.Output {
				s.sink.Output(p.Name, p.Type, p.Value)
			}
		}
	}
	s.sink.Done(-1, failed, DoneProc)
	s.finish()
}

// executeSQL is sp_executesql: a text, the definitions of its parameters, and their values.
func (s *Session) executeSQL(params []*Param) error {
	if len(params) == 0 {
		return fail(201, 16, "Procedure or function 'sp_executesql' expects parameter '@statement', which was not "+
			"supplied.")
	}
	text, err := s.textArg(params[:1], params[0].Name, 0)
	if err != nil {
		return err
	}
	def := ""
	if len(params) > 1 {
		if def, err = s.textArg(params[1:2], params[1].Name, 0); err != nil {
			return err
		}
	}
	return s.runWith(text, def, params[min(2, len(params)):])
}

// runWith runs a text with parameters.
func (s *Session) runWith(text, def string, params []*Param) error {
	vars := map[string]*variable{}
	var names []string
	if strings.TrimSpace(def) != "" {
		list, err := tsql.Parse("DECLARE " + strings.ReplaceAll(strings.ReplaceAll(def, " OUTPUT", ""), " output", ""))
		if err != nil {
			return fail(102, 15, "%s", err.Error())
		}
		d := list[0].(*tsql.Declare)
		for i, n := range d.Names {
			t, err := TypeOf(d.Types[i], s.db.Coll)
			if err != nil {
				return err
			}
			vars[n] = &variable{t, null}
			names = append(names, n)
		}
	}
	for i, p := range params {
		name := p.Name
		if name == "" && i < len(names) {
			name = names[i]
		}
		v := vars[name]
		if v == nil {
			return fail(8145, 16, "%s is not a parameter for procedure sp_executesql.", name)
		}
		x, err := convert(p.Value, p.Type, v.t, 0)
		if err != nil {
			return err
		}
		v.v = x
	}
	err := s.inner(text, vars)
	for i, p := range params {
		name := p.Name
		if name == "" && i < len(names) {
			name = names[i]
		}
		if p.Output {
			p.Type, p.Value = vars[name].t, vars[name].v
		}
	}
	return err
}

func (s *Session) prepare(params []*Param) error {
	if len(params) < 3 {
		return fail(201, 16, "Procedure or function 'sp_prepare' expects parameter '@stmt', which was not supplied.")
	}
	def, _ := s.textArg(params[1:2], params[1].Name, 0)
	text, err := s.textArg(params[2:3], params[2].Name, 0)
	if err != nil {
		return err
	}
	s.last++
	s.prepared[s.last] = preparedText{def, text}
	params[0].Type, params[0].Value = intType, Value{N: s.last}
	return nil
}

func (s *Session) execPrepared(params []*Param) error {
	if len(params) == 0 {
		return fail(8179, 16, "Could not find prepared statement with handle 0.")
	}
	p, is := s.prepared[params[0].Value.N]
	if !is {
		return fail(8179, 16, "Could not find prepared statement with handle %d.", params[0].Value.N)
	}
	return s.runWith(p.text, p.params, params[1:])
}

func (s *Session) unprepare(params []*Param) error {
	if len(params) > 0 {
		delete(s.prepared, params[0].Value.N)
	}
	return nil
}

func (s *Session) prepExec(params []*Param) error {
	if err := s.prepare(params); err != nil {
		return err
	}
	p := s.prepared[s.last]
	return s.runWith(p.text, p.params, params[3:])
}

// addNote is sp_addextendedproperty, of tables and their columns.
func (s *Session) addNote(params []*Param) error {
	var a [8]string
	for i, n := range []string{"@name", "@value", "@level0type", "@level0name", "@level1type", "@level1name",
		"@level2type",
		"@level2name"} {
		if arg(params, n, i) != nil {
			var err error
			if a[i], err = s.textArg(params, n, i); err != nil {
				return err
			}
		}
	}
	t, err := s.table(tsql.Name{Schema: a[3], Object: a[5]})
	if err != nil {
		return fail(15135, 16, "Object is invalid. Extended properties are not permitted on '%s.%s', or the object "+
			"does not "+
			"exist.", a[3], a[5])
	}
	if a[6] != "" && t.column(a[7]) < 0 {
		return fail(15135, 16, "Object is invalid. Extended properties are not permitted on '%s.%s.%s', or the "+
			"object does not "+
			"exist.", a[3], a[5], a[7])
	}
	k := a[7] + "\x00" + a[0]
	if _, is := t.notes[k]; is {
		return fail(15233, 16, "Property cannot be added. Property '%s' already exists for '%s.%s'.", a[0], a[3], a[5])
	}
	t.notes[k] = a[1]
	return s.statement.note(undone{do: func() { delete(t.notes, k) }}, 10)
}

// rename gives a table another name, in its schema.
func (s *Session) rename(params []*Param) error {
	old, err := s.textArg(params, "@objname", 0)
	if err != nil {
		return err
	}
	name, err := s.textArg(params, "@newname", 1)
	if err != nil {
		return err
	}
	if p := arg(params, "@objtype", 2); p != nil {
		if kind, err := s.textArg(params, "@objtype", 2); err != nil || !strings.EqualFold(kind, "OBJECT") {
			return unknown("sp_rename of a %s", kind)
		}
	}
	n, err := tsql.ParseName(old)
	if err != nil {
		return fail(15253, 11, "Syntax error parsing SQL identifier '%s'.", old)
	}
	t, err := s.altered(n)
	if err != nil {
		if e, is := err.(*Error); is && e.Number == 208 {
			return fail(15225, 11, "No item by the name of '%s' could be found in the current database '%s', given "+
				"that @itemtype was input as '(null)'.", old, s.db.Name)
		}
		return err
	}
	before, after := key(t.schema, t.name), key(t.schema, name)
	if o, err := s.lookup(tsql.Name{Schema: t.schema, Object: name}); err != nil {
		return err
	} else if o != nil {
		return fail(15335, 11, "Error: The new name '%s' is already in use as a OBJECT name and would cause a "+
			"duplicate that is not permitted.", name)
	}
	was := t.name
	move := func(from, to, name string) {
		delete(t.db.objects, from)
		t.name, t.db.objects[to] = name, t
	}
	move(before, after, name)
	return s.statement.note(undone{do: func() { move(after, before, was) }}, 100)
}

func (s *Session) appLock(params []*Param) error {
	name, err := s.textArg(params, "@resource", 0)
	if err != nil {
		return err
	}
	if Units(name) > 255 {
		return fail(15600, 15, "An invalid parameter or option was specified for procedure 'sys.sp_getapplock'.")
	}
	mode, err := s.textArg(params, "@lockmode", 1)
	if err != nil {
		return err
	}
	own := "Transaction"
	if arg(params, "@lockowner", 2) != nil {
		if own, err = s.textArg(params, "@lockowner", 2); err != nil {
			return err
		}
	}
	session := strings.EqualFold(own, "session")
	if !session && s.tx == nil {
		s.tell(fail(15212, 16, "The transaction owner needs an open transaction."))
		s.returned = -999
		return nil
	}
	wait, err := intArg(params, "@locktimeout", 3, s.lockTimeout)
	if err != nil {
		return err
	}
	n, err := s.getAppLock(s.db.Name+"\x00"+name, strings.EqualFold(mode, "exclusive"), session, wait)
	s.returned = int64(n)
	return err
}

func (s *Session) releaseAppLock(params []*Param) error {
	name, err := s.textArg(params, "@resource", 0)
	if err != nil {
		return err
	}
	l := s.srv.locks[s.db.Name+"\x00"+name]
	if l != nil {
		l.release(func(o *owner) bool { return o.s == s })
		s.srv.cond.Broadcast()
	}
	s.returned = 0
	return nil
}

// describe is sp_describe_first_result_set.
func (s *Session) describe(params []*Param) error {
	text, err := s.textArg(params, "@tsql", 0)
	if err != nil {
		return err
	}
	list, err := tsql.Parse(text)
	if err != nil {
		return fail(102, 15, "%s", err.Error())
	}
	coll := s.db.Coll
	n := func(k Kind, l int) Type { return Type{Kind: k, Len: l, Coll: coll} }
	cols := []Out{{Name: "is_hidden", Type: bitType}, {Name: "column_ordinal", Type: intType},
		{Name: "name", Type: n(NVarChar, 128), Null: true}, {Name: "is_nullable", Type: bitType},
		{Name: "system_type_id", Type: intType}, {Name: "system_type_name", Type: n(NVarChar, 256), Null: true},
		{Name: "max_length", Type: Type{Kind: SmallInt}}, {Name: "precision", Type: Type{Kind: TinyInt}},
		{Name: "scale", Type: Type{Kind: TinyInt}}, {Name: "collation_name", Type: n(NVarChar, 128), Null: true},
		{Name: "user_type_id", Type: intType, Null: true}}
	var rows [][]Value
	for _, st := range list {
		q, is := st.(*tsql.Query)
		if !is {
			continue
		}
		p, err := s.plan(q.Select, nil)
		if err != nil {
			return err
		}
		for i, c := range p.cols {
			row := []any{false, i + 1, c.Name, c.Null, c.Type.spec().id, c.Type.String(), c.Type.Bytes(),
				c.Type.Precision(),
				c.Type.Digits(), collationName(c.Type), nil}
			if c.Name == "" {
				row[2] = nil
			}
			var v []Value
			for _, x := range row {
				v = append(v, goValue(x))
			}
			rows = append(rows, v)
		}
		break
	}
	s.sink.Columns(cols)
	for _, r := range rows {
		if err := s.sink.Row(r); err != nil {
			return err
		}
	}
	s.procs++
	s.done(int64(len(rows)), false)
	s.procs--
	return nil
}
