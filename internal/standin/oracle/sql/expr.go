package sql

import "slices"

// expr reads an expression: OR binds least.
func (p *parser) expr() Expr {
	l := p.and()
	for p.words("OR") {
		l = &Binary{"OR", l, p.and()}
	}
	return l
}

func (p *parser) and() Expr {
	l := p.not()
	for p.words("AND") {
		l = &Binary{"AND", l, p.not()}
	}
	return l
}

func (p *parser) not() Expr {
	if p.words("NOT") {
		return &Unary{"NOT", p.not()}
	}
	return p.condition()
}

var comparisons = []string{"=", "<>", "<", ">", "<=", ">="}

// condition is a comparison, or what it compares.
func (p *parser) condition() Expr {
	if p.words("EXISTS") {
		p.open()
		s := p.query()
		p.close()
		return &Exists{s}
	}
	l := p.sum()
	for {
		t := p.peek()
		if t.kind == sign && slices.Contains(comparisons, t.s) {
			p.take()
			l = &Binary{t.s, l, p.sum()}
			continue
		}
		if p.words("IS") {
			not := p.words("NOT")
			p.need("NULL")
			l = &IsNull{l, not}
			continue
		}
		at := p.i
		not := p.words("NOT")
		switch {
		case p.words("IN"):
			l = p.in(l, not)
		case p.words("BETWEEN"):
			lo := p.sum()
			p.need("AND")
			l = &Between{l, lo, p.sum(), not}
		case p.words("LIKE"):
			k := &Like{X: l, Pattern: p.sum(), Not: not}
			if p.words("ESCAPE") {
				k.Escape = p.sum()
			}
			l = k
		default:
			p.i = at
			return l
		}
	}
}

func (p *parser) in(l Expr, not bool) Expr {
	in := &In{X: l, Not: not}
	p.open()
	if p.ahead("SELECT") {
		in.Sub = p.query()
		p.close()
		return in
	}
	in.List = many(p, p.expr)
	p.close()
	return in
}

func (p *parser) sum() Expr {
	l := p.product()
	for {
		switch {
		case p.sign("+"):
			l = &Binary{"+", l, p.product()}
		case p.sign("-"):
			l = &Binary{"-", l, p.product()}
		case p.sign("||"):
			l = &Binary{"||", l, p.product()}
		default:
			return l
		}
	}
}

func (p *parser) product() Expr {
	l := p.factor()
	for {
		switch {
		case p.sign("*"):
			l = &Binary{"*", l, p.factor()}
		case p.sign("/"):
			l = &Binary{"/", l, p.factor()}
		default:
			return l
		}
	}
}

func (p *parser) factor() Expr {
	if p.sign("-") {
		return &Unary{"-", p.factor()}
	}
	if p.sign("+") {
		return p.factor()
	}
	x := p.atom()
	if p.words("AT TIME ZONE") {
		return &Func{Name: "AT TIME ZONE", Args: []Expr{x, p.atom()}}
	}
	return x
}

func (p *parser) atom() Expr {
	t := p.peek()
	switch t.kind { // others: below
	case number:
		p.take()
		return &Lit{"number", t.s}
	case text:
		p.take()
		return &Lit{"text", t.s}
	case bind:
		p.take()
		p.names = append(p.names, t.s)
		return &Bind{len(p.names) - 1}
	case sign:
		if p.sign("(") {
			return p.inBrackets()
		}
		p.fail(936, "missing expression")
	case end:
		p.fail(936, "missing expression")
	case word, quoted:
	}
	if t.kind == word {
		if x := p.special(t.s); x != nil {
			return x
		}
	}
	return p.columnOrCall()
}

func (p *parser) inBrackets() Expr {
	if p.ahead("SELECT") {
		s := p.query()
		p.close()
		return &Sub{s}
	}
	list := many(p, p.expr)
	x := list[0]
	if len(list) > 1 {
		x = &Tuple{list}
	}
	p.close()
	return x
}

// special is an expression that begins with a word that has a meaning.
func (p *parser) special(w string) Expr {
	next := p.list[p.i+1]
	switch {
	case w == "NULL":
		p.take()
		return &Lit{"null", ""}
	case w == "DATE" && next.kind == text:
		p.take()
		return &Lit{"date", p.string()}
	case w == "TIMESTAMP" && next.kind == text:
		p.take()
		return &Lit{"timestamp", p.string()}
	case w == "INTERVAL" && next.kind == text:
		p.take()
		l := &Lit{"interval", p.string()}
		p.need("DAY")
		p.brackets()
		p.need("TO SECOND")
		p.brackets()
		return l
	case w == "CASE":
		p.take()
		return p.caseOf()
	case w == "CAST" && next.s == "(":
		p.i += 2
		c := &Cast{X: p.expr()}
		p.need("AS")
		c.Type = p.typ()
		p.close()
		return c
	case w == "EXTRACT" && next.s == "(":
		p.i += 2
		part := p.take().s
		p.need("FROM")
		x := p.expr()
		p.close()
		return &Func{Name: "EXTRACT", Args: []Expr{&Lit{"text", part}, x}}
	case w == "USER" || w == "SYSDATE" || w == "ROWNUM" || w == "ROWID" || w == "UID":
		p.take()
		return &Col{Name: w}
	}
	return nil
}

// brackets takes what stands between them, if they stand here.
func (p *parser) brackets() {
	if p.sign("(") {
		for !p.sign(")") {
			if p.take().kind == end {
				p.close()
			}
		}
	}
}

func (p *parser) caseOf() Expr {
	c := &Case{}
	if !p.ahead("WHEN") {
		c.X = p.expr()
	}
	for p.words("WHEN") {
		c.When = append(c.When, p.expr())
		p.need("THEN")
		c.Then = append(c.Then, p.expr())
	}
	if p.words("ELSE") {
		c.Other = p.expr()
	}
	p.need("END")
	return c
}

func (p *parser) columnOrCall() Expr {
	at := p.i
	if t := p.peek(); t.kind == word && reserved[t.s] && p.list[p.i+1].s != "(" {
		p.fail(936, "missing expression")
	}
	var parts []string
	for {
		t := p.take()
		if t.kind != word && t.kind != quoted {
			p.i = at
			p.fail(936, "missing expression")
		}
		parts = append(parts, t.s)
		if !p.sign(".") {
			break
		}
	}
	if p.peek().s == "(" && p.peek().kind == sign {
		name := parts[0]
		for _, s := range parts[1:] {
			name += "." + s
		}
		return p.call(name)
	}
	c := &Col{Name: parts[len(parts)-1]}
	switch len(parts) {
	case 1:
	case 2:
		c.Of.Object = parts[0]
	case 3:
		c.Of = Name{parts[0], parts[1]}
	default:
		p.unknown()
	}
	return c
}

func (p *parser) call(name string) Expr {
	f := &Func{Name: name}
	p.open()
	switch {
	case p.sign("*"):
		f.Star = true
		p.close()
	case p.sign(")"):
	default:
		f.Distinct = p.words("DISTINCT")
		f.Args = many(p, p.expr)
		p.close()
	}
	if p.words("WITHIN GROUP") {
		p.open()
		p.need("ORDER BY")
		f.Within = p.orders()
		p.close()
	}
	if p.words("OVER") {
		w := &Window{}
		p.open()
		if p.words("PARTITION BY") {
			w.Part = many(p, p.expr)
		}
		if p.words("ORDER BY") {
			w.Order = p.orders()
		}
		p.close()
		f.Over = w
	}
	return f
}
