// Package derive computes values by expressions: derived columns, fillings of
// blank fields, and conditions that keep or leave out records. The language is
// that of github.com/expr-lang/expr; what a record offers, and the functions
// of our own, are listed in docs/plan.md.
//
// The model: a [Program] is one expression, compiled and checked once against
// the columns of a plan. A [Record] is what it sees of the record at hand. It
// is for one goroutine.
package derive

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/ast"
	"github.com/expr-lang/expr/file"
	"github.com/expr-lang/expr/types"
	"github.com/expr-lang/expr/vm"

	"ambertray/internal/reading"
	"ambertray/internal/source"
	"ambertray/internal/sqltype"
)

// A Variable is a column whose value expressions may use by its name.
type Variable struct {
	Name string
	Type sqltype.Type
	// Required values are never null, so that their type can be checked.
	Required bool
}

// A Program is a compiled expression.
type Program struct {
	program *vm.Program
	text    string
	// Fields are the headers that the expression names, as far as they are
	// written out.
	Fields []string
	// Names are the identifiers in it: columns, and what else it looks at.
	Names []string
}

// env is what an expression sees, by example.
func env(vars []Variable) map[string]any {
	e := map[string]any{
		"source": map[string]string{}, "record": map[string]int{},
		"load":  map[string]any{"time": time.Time{}, "entry": ""},
		"field": map[string]string{},
	}
	for _, v := range vars {
		if _, taken := e[v.Name]; taken || !identifier.MatchString(v.Name) {
			continue
		}
		e[v.Name] = unknown
		if v.Required {
			e[v.Name] = example(v.Type)
		}
	}
	return e
}

// unknown is of any type, or nil.
var unknown = types.Any

var identifier = regexp.MustCompile(`^[A-Za-z_]\w*$`)

func example(t sqltype.Type) any {
	switch {
	case t.Kind == sqltype.Boolean:
		return false
	case t.IsInteger():
		return 0
	case t.IsNumber():
		return 0.0
	case t.Kind == sqltype.Date, t.Kind == sqltype.Timestamp, t.Kind == sqltype.TimestampTZ:
		return time.Time{}
	}
	return ""
}

// An Error is a mistake in an expression.
type Error struct {
	Text, What string
	Column     int // from 1; 0: unknown
}

func (e *Error) Error() string {
	s := e.What
	if e.Column > 0 {
		s += fmt.Sprintf(" (at character %d of %q)", e.Column, e.Text)
	}
	return s
}

// sourceKeys and recordKeys are what their maps have.
var (
	sourceKeys = []string{"file", "path", "sheet", "member", "name", "number"}
	recordKeys = []string{"number", "line"}
)

// Compile checks an expression. condition tells that it has to be true or
// false.
func Compile(text string, vars []Variable, condition bool) (*Program, error) {
	known := types.Map{}
	for name, v := range env(vars) {
		if known[name] = types.TypeOf(v); v == unknown {
			known[name] = types.Any
		}
	}
	opts := []expr.Option{expr.Env(known)}
	known[meterName] = types.Any
	opts = append(opts, functions...)
	opts = append(opts, bounded...)
	if condition {
		opts = append(opts, expr.AsBool())
	}
	look := &visitor{}
	opts = append(opts, expr.Patch(look), expr.Patch(bounds{}))
	p, err := expr.Compile(text, opts...)
	if err == nil && look.wrong != "" {
		return nil, &Error{Text: text, What: look.wrong}
	}
	if err != nil {
		e := &Error{Text: text, What: err.Error()}
		if fe, ok := err.(*file.Error); ok {
			e.What, e.Column = fe.Message, fe.Column+1
		}
		e.What, _, _ = strings.Cut(e.What, "\n")
		return nil, e
	}
	return &Program{p, text, look.fields, look.names}, nil
}

// visitor finds what an expression names, and members that are not there.
type visitor struct {
	fields, names []string
	wrong         string
}

// Visit implements ast.Visitor.
func (v *visitor) Visit(n *ast.Node) {
	if i, is := (*n).(*ast.IdentifierNode); is {
		v.names = append(v.names, i.Value)
	}
	m, ok := (*n).(*ast.MemberNode)
	if !ok {
		return
	}
	of, ok := m.Node.(*ast.IdentifierNode)
	if !ok {
		return
	}
	key, ok := m.Property.(*ast.StringNode)
	if !ok {
		return
	}
	has := func(keys []string) bool {
		for _, k := range keys {
			if k == key.Value {
				return true
			}
		}
		v.wrong = fmt.Sprintf("%s has no %q; it has %s", of.Value, key.Value, strings.Join(keys, ", "))
		return false
	}
	switch of.Value {
	case "field":
		v.fields = append(v.fields, key.Value)
	case "source":
		has(sourceKeys)
	case "record":
		has(recordKeys)
	case "load":
		has([]string{"time", "entry"})
	}
}

// A Record is what expressions see of the record at hand.
type Record struct {
	env    map[string]any
	source map[string]string
	record map[string]int
	field  map[string]string
	names  map[string]bool // of variables that there are
	vm     vm.VM
	meter  meter
	buf    []byte
}

// NewRecord prepares for records of one source. entry and at are of the load.
func NewRecord(src *source.Source, number int, vars []Variable, entry string, at time.Time) *Record {
	base := src.Path
	if i := strings.LastIndexAny(base, `/\`); i >= 0 {
		base = base[i+1:]
	}
	r := &Record{source: map[string]string{"file": base, "path": src.Path, "sheet": src.Sheet, "member": src.Member,
		"name": src.Name, "number": strconv.Itoa(number)},
		record: map[string]int{}, field: map[string]string{}, names: map[string]bool{}}
	r.env = env(vars)
	for k := range r.env {
		r.names[k] = true
	}
	r.env["source"], r.env["record"], r.env["field"] = r.source, r.record, r.field
	r.env[meterName] = &r.meter
	r.env["load"] = map[string]any{"time": at, "entry": entry}
	return r
}

// Next goes to another record.
func (r *Record) Next(number, line int64) {
	r.record["number"], r.record["line"] = int(number), int(line)
}

// Field sets the text of a field, under its header.
func (r *Record) Field(header string, text []byte) { r.field[header] = string(text) }

// Set sets a column's value; a nil value is null.
func (r *Record) Set(name string, t sqltype.Type, v *reading.Value) {
	if !r.names[name] {
		return
	}
	if v == nil || v.Null {
		r.env[name] = nil
		return
	}
	switch {
	case t.Kind == sqltype.Boolean:
		r.env[name] = v.Int != 0
	case t.IsInteger():
		r.env[name] = int(v.Int)
	case t.Kind == sqltype.Double:
		r.env[name] = v.Float
	case t.Kind == sqltype.Decimal:
		r.buf = v.Append(r.buf[:0], t)
		f, _ := strconv.ParseFloat(string(r.buf), 64)
		r.env[name] = f
	case t.Kind == sqltype.Date:
		r.env[name] = time.Unix(v.Int*86400, 0).UTC()
	case t.Kind == sqltype.Timestamp, t.Kind == sqltype.TimestampTZ:
		r.env[name] = time.UnixMicro(v.Int).UTC()
	default:
		r.env[name] = v.Plain(t)
	}
}

// run evaluates; what goes wrong within is an error, never a panic.
func (p *Program) run(r *Record) (out any, err error) {
	defer func() {
		if x := recover(); x != nil {
			err = fmt.Errorf("%v", x)
		}
	}()
	r.meter = meter{began: time.Now()}
	out, err = r.vm.Run(p.program, r.env)
	if err != nil {
		text := err.Error()
		if fe, ok := err.(*file.Error); ok {
			text = fe.Message
		}
		text, _, _ = strings.Cut(text, "\n")
		return nil, fmt.Errorf("%s", text)
	}
	return out, nil
}

// Keep evaluates a condition.
func (p *Program) Keep(r *Record) (bool, error) {
	v, err := p.run(r)
	if err != nil {
		return false, err
	}
	b, ok := v.(bool)
	if !ok {
		return false, fmt.Errorf("the condition is neither true nor false")
	}
	return b, nil
}

// Text evaluates an expression to the plain form of a type; null is nil.
func (p *Program) Text(r *Record, t sqltype.Type) ([]byte, error) {
	v, err := p.run(r)
	if err != nil {
		return nil, err
	}
	b, null, err := appendResult(nil, v, t)
	if null || err != nil {
		return nil, err
	}
	return b, nil
}

// appendResult writes what an expression came to in the plain form of a type.
// Floating point numbers are rounded to a decimal's places.
func appendResult(b []byte, v any, t sqltype.Type) (_ []byte, null bool, err error) {
	switch x := v.(type) {
	case nil:
		return b, true, nil
	case string:
		if x == "" && !t.IsText() {
			return b, true, nil
		}
		if b = append(b, x...); b == nil {
			b = []byte{}
		}
		return b, false, nil
	case bool:
		return strconv.AppendBool(b, x), false, nil
	case int:
		return strconv.AppendInt(b, int64(x), 10), false, nil
	case int64:
		return strconv.AppendInt(b, x, 10), false, nil
	case float64:
		switch {
		case t.Kind == sqltype.Decimal:
			return strconv.AppendFloat(b, x, 'f', t.Scale, 64), false, nil
		case t.IsInteger():
			return strconv.AppendFloat(b, x, 'f', -1, 64), false, nil
		}
		return strconv.AppendFloat(b, x, 'g', -1, 64), false, nil
	case time.Time:
		if x.IsZero() {
			return b, true, nil
		}
		x = x.UTC()
		switch t.Kind {
		case sqltype.Date:
			return x.AppendFormat(b, "2006-01-02"), false, nil
		case sqltype.TimestampTZ:
			return x.AppendFormat(b, "2006-01-02 15:04:05.999999+00:00"), false, nil
		case sqltype.Time:
			return x.AppendFormat(b, "15:04:05.999999"), false, nil
		case sqltype.Timestamp:
			return x.AppendFormat(b, "2006-01-02 15:04:05.999999"), false, nil
		case sqltype.BigInt, sqltype.Boolean, sqltype.Char, sqltype.Decimal, sqltype.Double, sqltype.Integer,
			sqltype.None, sqltype.SmallInt, sqltype.Text, sqltype.UUID, sqltype.VarChar:
		}
		if x.Hour()+x.Minute()+x.Second()+x.Nanosecond() == 0 {
			return x.AppendFormat(b, "2006-01-02"), false, nil
		}
		return x.AppendFormat(b, "2006-01-02 15:04:05.999999"), false, nil
	}
	return b, false, fmt.Errorf("the expression yields a %T, which is no value of a column", v)
}

// functions are those of our own.
var functions = []expr.Option{
	expr.Function("dateOf", func(a ...any) (any, error) {
		var n [3]int
		for i := range n {
			v, err := whole(a[i])
			if err != nil {
				return nil, fmt.Errorf("dateOf: %w", err)
			}
			n[i] = v
		}
		d := time.Date(n[0], time.Month(n[1]), n[2], 0, 0, 0, 0, time.UTC)
		if d.Year() != n[0] || int(d.Month()) != n[1] || d.Day() != n[2] {
			return nil, fmt.Errorf("there is no date %04d-%02d-%02d", n[0], n[1], n[2])
		}
		return d, nil
	}, new(func(any, any, any) time.Time)),
	expr.Function("monthOf", func(a ...any) (any, error) {
		text, _ := a[0].(string)
		for _, w := range words.FindAllString(text, -1) {
			if n := source.MonthOf(w); n > 0 {
				return n, nil
			}
		}
		return nil, fmt.Errorf("monthOf: %q names no month", text)
	}, new(func(string) int)),
	expr.Function("part", func(a ...any) (any, error) {
		text, _ := a[0].(string)
		pattern, _ := a[1].(string)
		re, err := patternOf(pattern)
		if err != nil {
			return nil, err
		}
		m := re.FindStringSubmatch(text)
		switch {
		case m == nil:
			return "", nil
		case len(m) > 1:
			return m[1], nil
		}
		return m[0], nil
	}, new(func(string, string) string)),
	expr.Function("pad", func(a ...any) (any, error) {
		if a[0] == nil {
			return nil, nil
		}
		text := fmt.Sprint(a[0])
		n, err := whole(a[1])
		if err != nil || n > 10000 {
			return nil, fmt.Errorf("pad: %v is no length", a[1])
		}
		with := "0"
		if len(a) > 2 {
			if with, _ = a[2].(string); with == "" {
				return nil, fmt.Errorf("pad: nothing to pad with")
			}
		}
		for utf8.RuneCountInString(text) < n {
			text = with + text
		}
		return text, nil
	}, new(func(any, int) string), new(func(any, int, string) string)),
	expr.Function("filled", func(a ...any) (any, error) {
		for _, v := range a {
			if s, ok := v.(string); v != nil && (!ok || strings.TrimSpace(s) != "") {
				return v, nil
			}
		}
		return nil, nil
	}),
	expr.Function("choose", func(a ...any) (any, error) {
		table, ok := a[1].(map[string]any)
		if !ok {
			return nil, fmt.Errorf("choose: the second argument is a table like {\"a\": 1}")
		}
		if v, ok := table[fmt.Sprint(a[0])]; ok {
			return v, nil
		}
		if len(a) > 2 {
			return a[2], nil
		}
		return nil, fmt.Errorf("choose: the table has no %q", fmt.Sprint(a[0]))
	}, new(func(any, map[string]any) any), new(func(any, map[string]any, any) any)),
}

var words = regexp.MustCompile(`\pL+`)

// whole reads a whole number from a number or its text.
func whole(v any) (int, error) {
	switch x := v.(type) {
	case int:
		return x, nil
	case float64:
		if x == float64(int(x)) {
			return int(x), nil
		}
	case string:
		if n, err := strconv.Atoi(strings.TrimSpace(x)); err == nil {
			return n, nil
		}
		return 0, fmt.Errorf("%q is not a whole number", x)
	case nil:
		return 0, fmt.Errorf("a blank is not a whole number")
	}
	return 0, fmt.Errorf("%v is not a whole number", v)
}

var patterns sync.Map // text → *regexp.Regexp

func patternOf(s string) (*regexp.Regexp, error) {
	if re, ok := patterns.Load(s); ok {
		return re.(*regexp.Regexp), nil
	}
	re, err := regexp.Compile(s)
	if err != nil {
		return nil, fmt.Errorf("part: %q is not a pattern: %w", s, err)
	}
	patterns.Store(s, re)
	return re, nil
}
