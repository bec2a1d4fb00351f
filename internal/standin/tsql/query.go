package tsql

import "strings"

// query is a SELECT with what is united with it, and its order.
func (p *parser) query() *Select {
	s := p.one()
	for p.is("UNION") {
		p.i++
		all := p.take("ALL")
		s.More = append(s.More, Union{all, p.one()})
	}
	if p.is("EXCEPT") || p.is("INTERSECT") {
		p.unexpected()
	}
	if p.take("ORDER", "BY") {
		s.Order = p.orders()
		if p.take("OFFSET") {
			s.Offset = p.sum()
			p.oneOf("ROW", "ROWS")
			if p.take("FETCH") {
				p.oneOf("FIRST", "NEXT")
				s.Fetch = p.sum()
				p.oneOf("ROW", "ROWS")
				p.must("ONLY")
			}
		}
	}
	if p.take("OPTION", "(") {
		for !p.take(")") {
			p.i++ // how to run it is the server's business
			if p.is("") {
				p.unexpected()
			}
		}
	}
	return s
}

// one is a SELECT alone, or one between brackets, or VALUES.
func (p *parser) one() *Select {
	if p.is("VALUES") {
		return p.values()
	}
	if p.take("(") {
		s := p.query()
		p.must(")")
		return s
	}
	s := &Select{}
	p.must("SELECT")
	if s.Distinct = p.take("DISTINCT"); !s.Distinct {
		p.take("ALL")
	}
	s.Top = p.top()
	for {
		s.Items = append(s.Items, p.item())
		if !p.take(",") {
			break
		}
	}
	if p.take("INTO") {
		n := p.name()
		s.Into = &n
	}
	if p.take("FROM") {
		s.From = p.sources()
	}
	if p.take("WHERE") {
		s.Where = p.expr()
	}
	if p.take("GROUP", "BY") {
		s.Group = p.list()
	}
	if p.take("HAVING") {
		s.Having = p.expr()
	}
	return s
}

func (p *parser) top() (e Expr) {
	if !p.take("TOP") {
		return nil
	}
	if p.take("(") {
		e = p.expr()
		p.must(")")
	} else {
		e = p.primary()
	}
	if p.is("PERCENT") || p.are("WITH", "TIES") {
		p.unexpected()
	}
	return e
}

func (p *parser) values() *Select {
	s := &Select{}
	p.must("VALUES")
	for {
		p.must("(")
		var row []Expr
		for {
			if p.take("DEFAULT") {
				row = append(row, nil)
			} else {
				row = append(row, p.expr())
			}
			if !p.take(",") {
				break
			}
		}
		p.must(")")
		s.Rows = append(s.Rows, row)
		if !p.take(",") {
			return s
		}
	}
}

func (p *parser) item() (it Item) {
	t := p.cur()
	switch {
	case t.kind == variable && p.isAt(1, "="):
		p.i += 2
		return Item{Expr: p.expr(), Var: strings.ToLower(t.text)}
	case (t.kind == word && !reserved[t.up] || t.kind == quoted) && p.isAt(1, "="):
		p.i += 2
		return Item{Expr: p.expr(), As: t.text}
	}
	it.Expr = p.expr()
	it.As = p.alias()
	return it
}

// alias is another name for what stands before it, if there is one.
func (p *parser) alias() string {
	as := p.take("AS")
	t := p.cur()
	switch {
	case as && (t.kind == text || t.kind == wideText):
		p.i++
		return t.text
	case as, t.kind == quoted, t.kind == word && !reserved[t.up] && starts[t.up] == nil && !follows[t.up]:
		return p.ident()
	}
	return ""
}

// follows are words that may stand behind a table, and are no alias.
var follows = map[string]bool{"OFFSET": true, "WITHIN": true}

func (p *parser) sources() Source {
	l := p.joined()
	for p.take(",") {
		l = &Join{"CROSS", l, p.joined(), nil}
	}
	return l
}

func (p *parser) joined() Source {
	l := p.source()
	for {
		kind := ""
		switch {
		case p.take("JOIN"), p.take("INNER", "JOIN"):
			kind = "INNER"
		case p.take("LEFT", "JOIN"), p.take("LEFT", "OUTER", "JOIN"):
			kind = "LEFT"
		case p.take("RIGHT", "JOIN"), p.take("RIGHT", "OUTER", "JOIN"):
			kind = "RIGHT"
		case p.take("FULL", "JOIN"), p.take("FULL", "OUTER", "JOIN"):
			kind = "FULL"
		case p.take("CROSS", "JOIN"):
			kind = "CROSS"
		case p.take("CROSS", "APPLY"):
			kind = "CROSS APPLY"
		case p.take("OUTER", "APPLY"):
			kind = "OUTER APPLY"
		default:
			return l
		}
		j := &Join{Kind: kind, L: l}
		if j.R = p.source(); kind != "CROSS" && !strings.HasSuffix(kind, "APPLY") {
			p.must("ON")
			j.On = p.expr()
		}
		l = j
	}
}

func (p *parser) source() Source {
	if p.take("(") {
		if !p.is("SELECT") && !p.is("VALUES") {
			s := p.sources()
			p.must(")")
			return s
		}
		d := &Derived{Select: p.query()}
		p.must(")")
		if d.As = p.alias(); d.As != "" && p.is("(") {
			d.Columns = p.names()
		}
		return d
	}
	t := &Table{Name: p.name()}
	if p.take("(") {
		t.Args = []Expr{}
		if !p.is(")") {
			t.Args = p.list()
		}
		p.must(")")
	}
	t.As = p.alias()
	t.Hints = p.hints()
	if t.As == "" {
		t.As = p.alias() // older texts have it behind the hints
	}
	return t
}

func (p *parser) hints() (list []string) {
	if !p.take("WITH", "(") {
		return nil
	}
	for !p.take(")") {
		if h := strings.ToUpper(p.anyWord()); !known[h] {
			p.fail("The stand-in does not know the table hint %s.", h)
		} else {
			list = append(list, h)
		}
		p.take(",")
	}
	return list
}

var known = map[string]bool{"NOLOCK": true, "READUNCOMMITTED": true, "HOLDLOCK": true, "SERIALIZABLE": true,
	"TABLOCK": true, "TABLOCKX": true, "UPDLOCK": true, "XLOCK": true, "ROWLOCK": true, "PAGLOCK": true,
	"READPAST": true}

func (p *parser) insert(at At) Statement {
	p.must("INSERT")
	if p.take("BULK") {
		return p.insertBulk(at)
	}
	p.take("INTO")
	s := &Insert{At: at, Table: p.name()}
	p.hints()
	if p.is("(") && !p.isAt(1, "SELECT") {
		s.Columns = p.names()
	}
	switch {
	case p.take("DEFAULT", "VALUES"):
		s.Default = true
	case p.is("EXEC"), p.is("EXECUTE"):
		s.Exec = p.exec(at)
	default:
		s.From = p.query()
	}
	return s
}

func (p *parser) insertBulk(at At) Statement {
	s := &InsertBulk{At: at, Table: p.name(), Options: map[string]bool{}}
	p.must("(")
	for {
		c := ColumnDef{Name: p.anyWord(), Type: p.typeName()}
		if p.take("COLLATE") {
			c.Collation = p.anyWord()
		}
		s.Columns = append(s.Columns, c)
		if !p.take(",") {
			break
		}
	}
	p.must(")")
	if p.take("WITH", "(") {
		for !p.take(")") {
			o := strings.ToUpper(p.anyWord())
			switch o {
			case "CHECK_CONSTRAINTS", "FIRE_TRIGGERS", "KEEP_NULLS", "KEEP_IDENTITY", "TABLOCK":
			case "ROWS_PER_BATCH", "KILOBYTES_PER_BATCH":
				p.must("=")
				p.integer()
			case "ORDER":
				p.names()
			default:
				p.fail("The stand-in does not know the option %s of INSERT BULK.", o)
			}
			s.Options[o] = true
			p.take(",")
		}
	}
	return s
}

func (p *parser) update(at At) Statement {
	p.must("UPDATE")
	s := &Update{At: at, Top: p.top(), Target: p.name()}
	p.hints()
	p.must("SET")
	for {
		c := p.ident()
		if p.take(".") {
			c = p.ident()
		}
		s.Columns = append(s.Columns, c)
		op := p.oneOf("=", "+=", "-=")
		v := p.expr()
		if op != "=" {
			v = &Binary{op[:1], &Col{[]string{c}}, v}
		}
		s.Values = append(s.Values, v)
		if !p.take(",") {
			break
		}
	}
	if p.take("FROM") {
		s.From = p.sources()
	}
	if p.take("WHERE") {
		s.Where = p.expr()
	}
	return s
}

func (p *parser) delete(at At) Statement {
	p.must("DELETE")
	s := &Delete{At: at, Top: p.top()}
	p.take("FROM")
	s.Target = p.name()
	p.hints()
	if p.take("FROM") {
		s.From = p.sources()
	}
	if p.take("WHERE") {
		s.Where = p.expr()
	}
	return s
}
