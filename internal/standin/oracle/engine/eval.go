package engine

import (
	"strings"
	"time"

	"github.com/shopspring/decimal"

	"ambertray/internal/standin/oracle/sql"
)

// A shape is the columns of rows: those of one source, or of several side by side.
type shape struct {
	cols []field
	at   map[*sql.Col]int // where a column was found; -1: not here
}

// A field is one of a shape.
type field struct {
	of     string // the source's name
	schema string
	name   string
	typ    Type
	known  bool // typ is
	full   bool // it takes no nulls
}

// An env is what an expression is evaluated in: a row, and what is around it.
type env struct {
	shape  *shape
	vals   []Value
	group  []*env // the rows of a group
	win    map[*sql.Func]Value
	rownum int64
	outer  *env
}

// column finds a column's value.
func (r *run) column(c *sql.Col, e *env) (Value, error) {
	for at := e; at != nil; at = at.outer {
		if at.shape == nil {
			continue
		}
		i, known := at.shape.at[c]
		if !known {
			var err error
			if i, err = at.shape.find(c); err != nil {
				return null, err
			}
			if at.shape.at == nil {
				at.shape.at = map[*sql.Col]int{}
			}
			at.shape.at[c] = i
		}
		if i >= 0 {
			return at.vals[i], nil
		}
	}
	switch {
	case c.Of.Object != "":
	case c.Name == "USER":
		return text(r.s.user.name), nil
	case c.Name == "SYSDATE":
		n := r.now
		return moment(Date, time.Date(n.Year(), n.Month(), n.Day(), n.Hour(), n.Minute(), n.Second(), 0, time.UTC)), nil
	case c.Name == "SYSTIMESTAMP" || c.Name == "CURRENT_TIMESTAMP":
		return moment(Zoned, r.now.Truncate(time.Microsecond)), nil
	case c.Name == "DBTIMEZONE", c.Name == "SESSIONTIMEZONE":
		_, offset := r.now.Zone()
		if c.Name == "DBTIMEZONE" {
			offset = 0
		}
		v, err := r.s.format(moment(Zoned, time.Now().In(time.FixedZone("", offset))), "TZR")
		return v, err
	case c.Name == "UID":
		return whole(1), nil
	case c.Name == "ROWNUM" && e != nil:
		return whole(e.rownum), nil
	}
	name := quotedName(c.Name)
	if c.Of.Object != "" {
		name = quotedName(c.Of.Object) + "." + name
	}
	return null, fail(904, "%s: invalid identifier", name)
}

func quotedName(s string) string { return `"` + s + `"` }

// find is where a column stands in a shape; -1: nowhere.
func (h *shape) find(c *sql.Col) (int, error) {
	found := -1
	for i, f := range h.cols {
		if f.name != c.Name || c.Of.Object != "" && f.of != c.Of.Object || c.Of.Schema != "" &&
			f.schema != c.Of.Schema {
			continue
		}
		if c.Name == "ROWID" && found >= 0 {
			continue
		}
		if found >= 0 {
			return 0, fail(918, "column ambiguously defined")
		}
		found = i
	}
	return found, nil
}

// value evaluates an expression. It is long because there are many forms of them.
func (r *run) value(x sql.Expr, e *env) (Value, error) {
	switch x := x.(type) {
	case *sql.Lit:
		return r.literal(x)
	case *sql.Col:
		return r.column(x, e)
	case *sql.Bind:
		return r.binds[x.N], nil
	case *sql.Unary:
		if x.Op == "-" {
			v, err := r.value(x.X, e)
			if err != nil || v.IsNull() {
				return null, err
			}
			if v.Kind == Double {
				return double(-v.F), nil
			}
			if v.Kind == Interval {
				return span(-v.I), nil
			}
			if v, err = asNumber(v); err != nil {
				return null, err
			}
			return exact(v.D.Neg()), nil
		}
	case *sql.Binary:
		if len(x.Op) == 1 && strings.Contains("+-*/", x.Op) || x.Op == "||" {
			return r.operate(x, e)
		}
	case *sql.Func:
		if v, is := windowed(x, e); is {
			return v, nil
		}
		if aggregates[x.Name] && x.Over == nil {
			return r.aggregate(x, e)
		}
		return r.function(x, e)
	case *sql.Cast:
		v, err := r.value(x.X, e)
		if err != nil {
			return null, err
		}
		t, err := typeOf(x.Type)
		if err != nil {
			return null, err
		}
		return r.cast(v, t)
	case *sql.Case:
		return r.caseOf(x, e)
	case *sql.Sub:
		return r.scalar(x.Select, e)
	case *sql.Tuple:
		return null, unknown("several values in one place")
	}
	return null, fail(936, "missing expression")
}

func windowed(f *sql.Func, e *env) (Value, bool) {
	for at := e; at != nil; at = at.outer {
		if v, is := at.win[f]; is {
			return v, true
		}
	}
	return null, false
}

// cast is CAST, which cuts no text.
func (r *run) cast(v Value, t Type) (Value, error) {
	if v.Kind == Double && t.Kind == Number {
		var err error
		if v, err = asNumber(v); err != nil {
			return null, err
		}
	}
	if t.Kind == Text && t.Length < len(v.S) && v.Kind.isText() {
		v.S = cut(v.S, t)
	}
	if t.Kind == Date && v.Kind.isMoment() {
		return r.s.asKind(v, t), nil
	}
	return r.s.fit(v, t, place{})
}

func cut(s string, t Type) string {
	if !t.Chars {
		return s[:t.Length]
	}
	runes := []rune(s)
	return string(runes[:min(len(runes), t.Length)])
}

func (r *run) literal(x *sql.Lit) (Value, error) {
	switch x.Kind {
	case "number":
		d, err := parseNumber(x.Text)
		return exact(d), err
	case "text":
		v := text(x.Text)
		v.Fixed = true
		return v, nil
	case "date":
		return r.s.parseMoment(Date, x.Text, "YYYY-MM-DD")
	case "timestamp":
		if strings.ContainsAny(strings.TrimSpace(x.Text)[10:], "+") || strings.Count(x.Text, "-") > 2 {
			return r.s.parseMoment(Zoned, x.Text, "YYYY-MM-DD HH24:MI:SS.FF TZH:TZM")
		}
		return r.s.parseMoment(Timestamp, x.Text, "YYYY-MM-DD HH24:MI:SS.FF")
	case "interval":
		return parseInterval(x.Text)
	}
	return null, nil
}

// operate is arithmetic and ||.
func (r *run) operate(x *sql.Binary, e *env) (Value, error) {
	a, err := r.value(x.L, e)
	if err != nil {
		return null, err
	}
	b, err := r.value(x.R, e)
	if err != nil {
		return null, err
	}
	if x.Op == "||" {
		return r.concat(a, b)
	}
	if a.IsNull() || b.IsNull() {
		return null, nil
	}
	if a.Kind.isMoment() || b.Kind.isMoment() || a.Kind == Interval || b.Kind == Interval {
		return r.timeMath(x.Op, a, b)
	}
	if a.Kind == Double || b.Kind == Double {
		return r.floatMath(x.Op, a, b)
	}
	if a, err = asNumber(a); err != nil {
		return null, err
	}
	if b, err = asNumber(b); err != nil {
		return null, err
	}
	switch x.Op {
	case "+":
		return exact(a.D.Add(b.D)), nil
	case "-":
		return exact(a.D.Sub(b.D)), nil
	case "*":
		return exact(a.D.Mul(b.D)), nil
	}
	if b.D.IsZero() {
		return null, fail(1476, "divisor is equal to zero")
	}
	return exact(a.D.DivRound(b.D, digits)), nil
}

func (r *run) concat(a, b Value) (Value, error) {
	long := a.Kind == Clob || b.Kind == Clob
	x, err := r.s.asText(a)
	if err != nil {
		return null, err
	}
	y, err := r.s.asText(b)
	if err != nil {
		return null, err
	}
	v := text(x.S + y.S)
	if long && !v.IsNull() {
		v.Kind = Clob
	}
	if !long && len(v.S) > most {
		return null, fail(1489, "result of string concatenation is too long")
	}
	return v, nil
}

func (r *run) floatMath(op string, a, b Value) (Value, error) {
	x, err := r.s.asDouble(a)
	if err != nil {
		return null, err
	}
	y, err := r.s.asDouble(b)
	if err != nil {
		return null, err
	}
	switch op {
	case "+":
		return double(x.F + y.F), nil
	case "-":
		return double(x.F - y.F), nil
	case "*":
		return double(x.F * y.F), nil
	}
	return double(x.F / y.F), nil
}

// timeMath is arithmetic with dates, timestamps and intervals.
func (r *run) timeMath(op string, a, b Value) (Value, error) {
	const day = 24 * time.Hour
	switch {
	case op == "-" && a.Kind == Date && b.Kind == Date:
		seconds := a.T.Unix() - b.T.Unix()
		return exact(decimal.NewFromInt(seconds).DivRound(decimal.NewFromInt(86400), digits)), nil
	case op == "-" && a.Kind.isMoment() && b.Kind.isMoment():
		return span(a.T.Sub(b.T)), nil
	case a.Kind.isMoment() && b.Kind == Interval:
		if op == "-" {
			b.I = -b.I
		}
		return moment(max(a.Kind, Timestamp), a.T.Add(b.I)), nil
	case a.Kind.isMoment():
		n, err := asNumber(b)
		if err != nil {
			return null, err
		}
		if op == "-" {
			n.D = n.D.Neg()
		}
		seconds := n.D.Mul(decimal.NewFromInt(86400)).Round(0).IntPart()
		return moment(Date, a.T.Truncate(time.Second).Add(time.Duration(seconds)*time.Second)), nil
	case b.Kind.isMoment() && op == "+":
		return r.timeMath(op, b, a)
	case a.Kind == Interval && b.Kind == Interval:
		if op == "-" {
			return span(a.I - b.I), nil
		}
		return span(a.I + b.I), nil
	case a.Kind == Interval && op == "*":
		n, err := asNumber(b)
		if err != nil {
			return null, err
		}
		return span(time.Duration(n.D.Mul(decimal.NewFromInt(int64(a.I))).Round(0).IntPart())), nil
	}
	_ = day
	return null, fail(30081, "invalid data type for datetime/interval arithmetic")
}

func (r *run) caseOf(x *sql.Case, e *env) (Value, error) {
	var of Value
	var err error
	if x.X != nil {
		if of, err = r.value(x.X, e); err != nil {
			return null, err
		}
	}
	for i, w := range x.When {
		is := isFalse
		if x.X == nil {
			is, err = r.truth(w, e)
		} else {
			var v Value
			if v, err = r.value(w, e); err == nil && !v.IsNull() && !of.IsNull() {
				var c int
				c, err = r.s.compare(of, v)
				is = truthOf(c == 0)
			}
		}
		if err != nil {
			return null, err
		}
		if is == isTrue {
			return r.value(x.Then[i], e)
		}
	}
	if x.Other == nil {
		return null, nil
	}
	return r.value(x.Other, e)
}

// scalar is a query as a value.
func (r *run) scalar(q *sql.Select, e *env) (Value, error) {
	rows, _, err := r.query(q, e)
	switch {
	case err != nil || len(rows) == 0:
		return null, err
	case len(rows) > 1:
		return null, fail(1427, "single-row subquery returns more than one row")
	case len(rows[0]) != 1:
		return null, fail(913, "too many values")
	}
	return rows[0][0], nil
}

// A tri is true, false or unknown.
type tri int8

const (
	isFalse tri = iota
	isTrue
	isUnknown
)

func truthOf(b bool) tri {
	if b {
		return isTrue
	}
	return isFalse
}

func (t tri) not() tri {
	switch t {
	case isTrue:
		return isFalse
	case isFalse:
		return isTrue
	case isUnknown:
	}
	return isUnknown
}

// truth evaluates a condition.
func (r *run) truth(x sql.Expr, e *env) (tri, error) {
	switch x := x.(type) {
	case *sql.Unary:
		if x.Op == "NOT" {
			t, err := r.truth(x.X, e)
			return t.not(), err
		}
	case *sql.Binary:
		switch x.Op {
		case "AND", "OR":
			return r.both(x, e)
		case "=", "<>", "<", ">", "<=", ">=":
			return r.relation(x, e)
		}
	case *sql.IsNull:
		v, err := r.value(x.X, e)
		return truthOf(v.IsNull() != x.Not), err
	case *sql.In:
		t, err := r.in(x, e)
		if x.Not {
			t = t.not()
		}
		return t, err
	case *sql.Between:
		t, err := r.both(&sql.Binary{Op: "AND", L: &sql.Binary{Op: ">=", L: x.X, R: x.Lo},
			R: &sql.Binary{Op: "<=", L: x.X, R: x.Hi}}, e)
		if x.Not {
			t = t.not()
		}
		return t, err
	case *sql.Like:
		return r.like(x, e)
	case *sql.Exists:
		rows, _, err := r.query(x.Sub, e)
		return truthOf(len(rows) > 0), err
	}
	return isFalse, fail(920, "invalid relational operator")
}

func (r *run) both(x *sql.Binary, e *env) (tri, error) {
	a, err := r.truth(x.L, e)
	if err != nil {
		return a, err
	}
	end := isFalse
	if x.Op == "OR" {
		end = isTrue
	}
	if a == end {
		return end, nil
	}
	b, err := r.truth(x.R, e)
	if err != nil || b == end {
		return b, err
	}
	if a == isUnknown || b == isUnknown {
		return isUnknown, nil
	}
	return b, nil
}

func (r *run) relation(x *sql.Binary, e *env) (tri, error) {
	if l, is := x.L.(*sql.Tuple); is {
		k, is := x.R.(*sql.Tuple)
		if !is || x.Op != "=" || len(k.List) != len(l.List) {
			return isFalse, unknown("this comparison of several values")
		}
		all := isTrue
		for i := range l.List {
			t, err := r.relation(&sql.Binary{Op: "=", L: l.List[i], R: k.List[i]}, e)
			if err != nil || t == isFalse {
				return t, err
			}
			if t == isUnknown {
				all = t
			}
		}
		return all, nil
	}
	a, err := r.value(x.L, e)
	if err != nil {
		return isFalse, err
	}
	b, err := r.value(x.R, e)
	if err != nil {
		return isFalse, err
	}
	return r.related(x.Op, a, b)
}

func (r *run) related(op string, a, b Value) (tri, error) {
	if a.IsNull() || b.IsNull() {
		return isUnknown, nil
	}
	if a.Kind == Clob || b.Kind == Clob {
		return isFalse, fail(932, "inconsistent datatypes: expected - got CLOB")
	}
	c, err := r.s.compare(a, b)
	if err != nil {
		return isFalse, err
	}
	switch op {
	case "=":
		return truthOf(c == 0), nil
	case "<>":
		return truthOf(c != 0), nil
	case "<":
		return truthOf(c < 0), nil
	case ">":
		return truthOf(c > 0), nil
	case "<=":
		return truthOf(c <= 0), nil
	}
	return truthOf(c >= 0), nil
}

func (r *run) in(x *sql.In, e *env) (tri, error) {
	var list [][]Value
	if x.Sub != nil {
		rows, _, err := r.query(x.Sub, e)
		if err != nil {
			return isFalse, err
		}
		list = rows
	}
	var of []sql.Expr
	if t, is := x.X.(*sql.Tuple); is {
		of = t.List
	} else {
		of = []sql.Expr{x.X}
	}
	left := make([]Value, len(of))
	for i, o := range of {
		var err error
		if left[i], err = r.value(o, e); err != nil {
			return isFalse, err
		}
	}
	for _, o := range x.List {
		v, err := r.value(o, e)
		if err != nil {
			return isFalse, err
		}
		list = append(list, []Value{v})
	}
	some := isFalse
	for _, row := range list {
		if len(row) != len(left) {
			return isFalse, fail(913, "too many values")
		}
		all := isTrue
		for i := range row {
			t, err := r.related("=", left[i], row[i])
			if err != nil {
				return isFalse, err
			}
			if t == isFalse || all == isTrue {
				all = t
			}
			if t == isFalse {
				break
			}
		}
		switch all {
		case isTrue:
			return isTrue, nil
		case isUnknown:
			some = isUnknown
		case isFalse:
		}
	}
	return some, nil
}

func (r *run) like(x *sql.Like, e *env) (tri, error) {
	v, err := r.textOf(x.X, e)
	if err != nil {
		return isFalse, err
	}
	p, err := r.textOf(x.Pattern, e)
	if err != nil {
		return isFalse, err
	}
	if v.IsNull() || p.IsNull() {
		return isUnknown, nil
	}
	escape := rune(-1)
	if x.Escape != nil {
		k, err := r.textOf(x.Escape, e)
		if err != nil {
			return isFalse, err
		}
		escape = []rune(k.S)[0]
	}
	return truthOf(likes([]rune(v.S), []rune(p.S), escape) != x.Not), nil
}

func likes(s, p []rune, escape rune) bool {
	for len(p) > 0 {
		switch c := p[0]; {
		case c == escape && len(p) > 1:
			if len(s) == 0 || s[0] != p[1] {
				return false
			}
			s, p = s[1:], p[2:]
		case c == '%':
			for i := 0; i <= len(s); i++ {
				if likes(s[i:], p[1:], escape) {
					return true
				}
			}
			return false
		case c == '_':
			if len(s) == 0 {
				return false
			}
			s, p = s[1:], p[1:]
		default:
			if len(s) == 0 || s[0] != c {
				return false
			}
			s, p = s[1:], p[1:]
		}
	}
	return len(s) == 0
}

// textOf evaluates an expression as text.
func (r *run) textOf(x sql.Expr, e *env) (Value, error) {
	v, err := r.value(x, e)
	if err != nil {
		return v, err
	}
	if v.Kind == Clob {
		return v, nil
	}
	return r.s.asText(v)
}
