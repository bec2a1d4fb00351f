package derive

import (
	"fmt"
	"strings"
	"time"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/ast"

	"ambertray/internal/phrase"
)

// Expressions may come with a plan from others. So each has bounds for one record: on
// what its texts take, on the steps of its loops, and on time.
const (
	mostText  = 16 << 20 // bytes of one text
	mostTexts = 64 << 20 // bytes of all that are put together
	mostSteps = 1_000_000
	mostTime  = 10 * time.Second
)

// A meter counts what an expression takes.
type meter struct {
	steps, bytes int
	began        time.Time
}

// take counts a value that was made.
func (m *meter) take(v any) error {
	if s, is := v.(string); is {
		m.bytes += len(s)
	}
	switch m.steps++; {
	case m.bytes > mostTexts:
		return fmt.Errorf("the texts that it puts together take more than %s", phrase.Size(mostTexts))
	case m.steps > mostSteps:
		return fmt.Errorf("it takes more than %s steps", phrase.Grouped(mostSteps))
	case time.Since(m.began) > mostTime:
		return fmt.Errorf("it takes longer than %s", mostTime)
	}
	return nil
}

// meterName is what expressions know the meter by, which nobody can write.
const meterName = " meter"

// bounds makes an expression count what it does: each round of a loop, and each text
// that is put together.
type bounds struct{}

// Visit implements ast.Visitor.
func (bounds) Visit(n *ast.Node) {
	counted := func(x ast.Node) ast.Node {
		return &ast.CallNode{Callee: &ast.IdentifierNode{Value: " take"},
			Arguments: []ast.Node{x, &ast.IdentifierNode{Value: meterName}}}
	}
	switch x := (*n).(type) {
	case *ast.PredicateNode:
		x.Node = counted(x.Node)
	case *ast.BinaryNode:
		if t := x.Type(); x.Operator == "+" && (t == nil || t.String() == "string" || t.String() == "interface {}") {
			ast.Patch(n, counted(x))
		}
	}
}

// bounded are the functions of the language that can make much of little, with bounds;
// those that nobody needs for a value of a column are not there.
var bounded = []expr.Option{
	expr.DisableBuiltin("toJSON"), expr.DisableBuiltin("flatten"), expr.DisableBuiltin("concat"),
	expr.DisableBuiltin("repeat"), expr.DisableBuiltin("replace"), expr.DisableBuiltin("join"),
	expr.Function(" take", func(a ...any) (any, error) {
		m, is := a[1].(*meter)
		if !is {
			return a[0], nil
		}
		return a[0], m.take(a[0])
	}, new(func(any, any) any)),
	expr.Function("repeat", func(a ...any) (any, error) {
		text, n := a[0].(string), a[1].(int)
		if n < 0 || len(text) > 0 && n > mostText/len(text) {
			return nil, tooLong("repeat")
		}
		return strings.Repeat(text, n), nil
	}, new(func(string, int) string)),
	expr.Function("replace", func(a ...any) (any, error) {
		text, old, by, n := a[0].(string), a[1].(string), a[2].(string), -1
		if len(a) > 3 {
			n = a[3].(int)
		}
		count := strings.Count(text, old)
		if n >= 0 {
			count = min(count, n)
		}
		if len(by) > 0 && count > mostText/len(by) {
			return nil, tooLong("replace")
		}
		return strings.Replace(text, old, by, n), nil
	}, new(func(string, string, string) string), new(func(string, string, string, int) string)),
	expr.Function("join", func(a ...any) (any, error) {
		parts, between := a[0].([]any), ""
		if len(a) > 1 {
			between = a[1].(string)
		}
		var b strings.Builder
		for i, p := range parts {
			text, is := p.(string)
			if !is {
				return nil, fmt.Errorf("join: %v is no text", p)
			}
			if b.Len()+len(text)+len(between) > mostText {
				return nil, tooLong("join")
			}
			if i > 0 {
				b.WriteString(between)
			}
			b.WriteString(text)
		}
		return b.String(), nil
	}, new(func([]any, string) string), new(func([]any) string)),
}

func tooLong(what string) error {
	return fmt.Errorf("%s: the text would be longer than %s", what, phrase.Size(mostText))
}
