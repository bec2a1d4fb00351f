package plan

import (
	"fmt"

	"ambertray/internal/derive"
)

// Expressions are those of a plan, compiled.
type Expressions struct {
	// Value and Fill are by column; nil where there is none.
	Value, Fill []*derive.Program
	Keep        *derive.Program
	Rules       []*derive.Program
	Variables   []derive.Variable
}

// Variables are the columns that expressions may use by their names: those
// that come from a header.
func (p *Plan) variables() (out []derive.Variable) {
	for _, c := range p.Columns {
		if c.Value == "" {
			out = append(out, derive.Variable{Name: c.Name, Type: c.SQLType(), Required: c.Required && c.Fill == ""})
		}
	}
	return
}

// Expressions compiles the plan's expressions; it returns nil if there are
// none.
func (p *Plan) Expressions() (*Expressions, error) {
	e, _, err := p.compile()
	return e, err
}

func (p *Plan) compile() (e *Expressions, path string, err error) {
	e = &Expressions{Variables: p.variables(), Value: make([]*derive.Program, len(p.Columns)),
		Fill: make([]*derive.Program, len(p.Columns))}
	some := false
	for i, c := range p.Columns {
		if c.Value != "" {
			some = true
			if e.Value[i], err = derive.Compile(c.Value, e.Variables, false); err != nil {
				return nil, fmt.Sprintf("$.columns[%d].value", i), fmt.Errorf("column %s: value: %w", c.Name, err)
			}
		}
		if c.Fill != "" {
			some = true
			if e.Fill[i], err = derive.Compile(c.Fill, e.Variables, false); err != nil {
				return nil, fmt.Sprintf("$.columns[%d].fill", i), fmt.Errorf("column %s: fill: %w", c.Name, err)
			}
		}
	}
	if p.Keep != "" {
		some = true
		if e.Keep, err = derive.Compile(p.Keep, e.Variables, true); err != nil {
			return nil, "$.keep", fmt.Errorf("keep: %w", err)
		}
	}
	for i, r := range p.Rules {
		some = true
		x, err := derive.Compile(r.If, e.Variables, true)
		if err != nil {
			return nil, fmt.Sprintf("$.check[%d].if", i), fmt.Errorf("check: %w", err)
		}
		e.Rules = append(e.Rules, x)
	}
	if !some {
		return nil, "", nil
	}
	return e, "", nil
}

func (p *Plan) checkExpressions(bad func(path, format string, args ...any) error) error {
	for i, c := range p.Columns {
		path := fmt.Sprintf("$.columns[%d]", i)
		switch {
		case c.Value != "" && c.From != "":
			return bad(path+".value", "column %s: it has both from: and value:; fill: is for blank fields", c.Name)
		case c.Value != "" && c.Fill != "":
			return bad(path+".fill", "column %s: it has both value: and fill:", c.Name)
		}
	}
	for i, r := range p.Rules {
		if r.Say == "" {
			return bad(fmt.Sprintf("$.check[%d]", i),
				"check: say: is missing: what is said of a record that does not meet it")
		}
		if r.What != "" && r.What != RuleReject && r.What != RuleCaution {
			return bad(fmt.Sprintf("$.check[%d].rule", i), "check: rule is %q; it can be reject or caution", r.What)
		}
	}
	_, path, err := p.compile()
	if err != nil {
		return bad(path, "%v", err)
	}
	return nil
}

// Derives reports whether the plan has expressions.
func (p *Plan) Derives() bool {
	e, _ := p.Expressions()
	return e != nil
}

// Fields are the headers that expressions name.
func (p *Plan) Fields() (out []string) {
	e, err := p.Expressions()
	if e == nil || err != nil {
		return nil
	}
	for _, list := range [][]*derive.Program{e.Value, e.Fill, {e.Keep}, e.Rules} {
		for _, x := range list {
			if x != nil {
				out = append(out, x.Fields...)
			}
		}
	}
	return
}
