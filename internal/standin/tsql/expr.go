package tsql

import "strings"

// expr reads an expression: OR binds least, then AND, NOT, comparisons, and what
// counts.
func (p *parser) expr() Expr {
	l := p.and()
	for p.take("OR") {
		l = &Binary{"OR", l, p.and()}
	}
	return l
}

func (p *parser) and() Expr {
	l := p.not()
	for p.take("AND") {
		l = &Binary{"AND", l, p.not()}
	}
	return l
}

func (p *parser) not() Expr {
	if p.take("NOT") {
		return &Unary{"NOT", p.not()}
	}
	return p.comparison()
}

func (p *parser) comparison() Expr {
	l := p.sum()
	for {
		not := p.is("NOT") && (p.isAt(1, "IN") || p.isAt(1, "LIKE") || p.isAt(1, "BETWEEN"))
		if not {
			p.i++
		}
		switch {
		case p.take("IS"):
			n := p.take("NOT")
			p.must("NULL")
			l = &IsNull{l, n}
		case p.take("IN"):
			l = p.in(l, not)
		case p.take("LIKE"):
			x := &Like{X: l, Pattern: p.sum(), Not: not}
			if p.take("ESCAPE") {
				x.Escape = p.sum()
			}
			l = x
		case p.take("BETWEEN"):
			lo := p.sum()
			p.must("AND")
			l = &Between{l, lo, p.sum(), not}
		default:
			op := ""
			for _, o := range []string{"=", "<>", "!=", "<", "<=", ">", ">=", "!<", "!>"} {
				if p.is(o) {
					op = o
				}
			}
			if op == "" {
				return l
			}
			p.i++
			switch op {
			case "!=":
				op = "<>"
			case "!<":
				op = ">="
			case "!>":
				op = "<="
			}
			l = &Binary{op, l, p.sum()}
		}
	}
}

func (p *parser) in(x Expr, not bool) Expr {
	p.must("(")
	in := &In{X: x, Not: not}
	if p.is("SELECT") {
		in.Sub = p.query()
	} else {
		in.List = p.list()
	}
	p.must(")")
	return in
}

// list is expressions with commas between.
func (p *parser) list() (list []Expr) {
	for {
		list = append(list, p.expr())
		if !p.take(",") {
			return list
		}
	}
}

func (p *parser) sum() Expr {
	l := p.product()
	for {
		op := ""
		for _, o := range []string{"+", "-", "&", "|", "^"} {
			if p.is(o) {
				op = o
			}
		}
		if op == "" {
			return l
		}
		p.i++
		l = &Binary{op, l, p.product()}
	}
}

func (p *parser) product() Expr {
	l := p.unary()
	for {
		op := ""
		for _, o := range []string{"*", "/", "%"} {
			if p.is(o) {
				op = o
			}
		}
		if op == "" {
			return l
		}
		p.i++
		l = &Binary{op, l, p.unary()}
	}
}

func (p *parser) unary() Expr {
	switch {
	case p.take("-"):
		if t := p.cur(); t.kind == number {
			p.i++
			return p.collated(numberLit("-" + t.text))
		}
		return &Unary{"-", p.unary()}
	case p.take("+"):
		return p.unary()
	case p.take("~"):
		return &Unary{"~", p.unary()}
	}
	return p.collated(p.primary())
}

func (p *parser) collated(e Expr) Expr {
	for p.take("COLLATE") {
		e = &Collate{e, p.anyWord()}
	}
	return e
}

func numberLit(s string) *Lit {
	switch {
	case strings.ContainsAny(s, "eE"):
		return &Lit{"float", s}
	case strings.Contains(s, "."):
		return &Lit{"decimal", s}
	}
	return &Lit{"int", s}
}

func (p *parser) primary() Expr {
	t := p.cur()
	switch t.kind {
	case number:
		p.i++
		return numberLit(t.text)
	case text:
		p.i++
		return &Lit{"text", t.text}
	case wideText:
		p.i++
		return &Lit{"wide", t.text}
	case bytes:
		p.i++
		return &Lit{"bytes", t.text}
	case variable:
		p.i++
		return &Var{strings.ToLower(t.text)}
	case symbol:
		if p.take("*") {
			return &Star{}
		}
		p.must("(")
		if p.is("SELECT") {
			s := p.query()
			p.must(")")
			return &Sub{s}
		}
		e := p.expr()
		p.must(")")
		return e
	case word:
		if e := p.special(t); e != nil {
			return e
		}
	case end, quoted:
	}
	return p.column()
}

// special are the words that begin something of their own; nil: it is none.
func (p *parser) special(t token) Expr {
	switch t.up {
	case "NULL":
		p.i++
		return &Lit{"null", ""}
	case "CASE":
		return p.cases()
	case "EXISTS":
		p.must("EXISTS", "(")
		s := p.query()
		p.must(")")
		return &Exists{s}
	case "CAST", "TRY_CAST":
		p.i++
		p.must("(")
		c := &Cast{X: p.expr(), Try: t.up != "CAST"}
		p.must("AS")
		c.Type = p.typeName()
		p.must(")")
		return c
	case "CONVERT", "TRY_CONVERT":
		p.i++
		p.must("(")
		c := &Cast{Type: p.typeName(), Try: t.up != "CONVERT"}
		p.must(",")
		c.X = p.expr()
		if p.take(",") {
			c.Style = p.expr()
		}
		p.must(")")
		return c
	case "NEXT":
		if p.take("NEXT", "VALUE", "FOR") {
			return &Next{p.name()}
		}
	case "CURRENT_TIMESTAMP", "CURRENT_USER", "SESSION_USER", "SYSTEM_USER", "USER":
		p.i++
		return &Call{Name: t.up}
	case "COALESCE", "NULLIF", "LEFT", "RIGHT", "IDENTITY":
		p.i++
		return p.callOf(t.up)
	}
	return nil
}

func (p *parser) cases() Expr {
	p.must("CASE")
	c := &Case{}
	if !p.is("WHEN") {
		c.X = p.expr()
	}
	for p.take("WHEN") {
		c.When = append(c.When, p.expr())
		p.must("THEN")
		c.Then = append(c.Then, p.expr())
	}
	if p.take("ELSE") {
		c.Other = p.expr()
	}
	p.must("END")
	return c
}

// column is a column, or a function by its name.
func (p *parser) column() Expr {
	parts := []string{p.ident()}
	for p.take(".") {
		if p.take("*") {
			return &Star{parts[len(parts)-1]}
		}
		if p.is(".") {
			parts = append(parts, "")
			continue
		}
		parts = append(parts, p.anyWord())
	}
	if p.is("(") {
		return p.callOf(strings.ToUpper(strings.Join(parts, ".")))
	}
	return &Col{parts}
}

func (p *parser) callOf(name string) Expr {
	p.must("(")
	c := &Call{Name: name}
	switch {
	case p.is("*") && p.isAt(1, ")"):
		p.i++
		c.Star = true
	case !p.is(")"):
		c.Distinct = p.take("DISTINCT")
		switch name {
		case "DATEDIFF", "DATEDIFF_BIG", "DATEADD", "DATEPART", "DATENAME":
			c.Args = append(c.Args, &Lit{"text", strings.ToLower(p.anyWord())})
			p.must(",")
		}
		c.Args = append(c.Args, p.list()...)
	}
	p.must(")")
	if p.take("WITHIN", "GROUP", "(", "ORDER", "BY") {
		c.Order = p.orders()
		p.must(")")
	}
	if p.take("OVER", "(") {
		c.Over = true
		if p.take("PARTITION", "BY") {
			c.Part = p.list()
		}
		if p.take("ORDER", "BY") {
			c.Order = p.orders()
		}
		p.must(")")
	}
	return c
}

func (p *parser) orders() (list []Order) {
	for {
		o := Order{Expr: p.expr()}
		if o.Desc = p.take("DESC"); !o.Desc {
			p.take("ASC")
		}
		list = append(list, o)
		if !p.take(",") {
			return list
		}
	}
}
