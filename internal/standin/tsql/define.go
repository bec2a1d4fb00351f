package tsql

import "strings"

func (p *parser) create(at At) Statement {
	p.must("CREATE")
	switch {
	case p.take("TABLE"):
		return p.createTable(at)
	case p.take("VIEW"):
		s := &CreateView{At: at, View: p.name(), Text: p.src}
		if p.is("(") {
			s.Columns = p.names()
		}
		p.must("AS")
		s.Select = p.query()
		return s
	case p.take("SCHEMA"):
		s := &CreateSchema{at, p.ident()}
		if p.take("AUTHORIZATION") {
			p.ident()
		}
		return s
	case p.take("DATABASE"):
		s := &CreateDatabase{At: at, Database: p.ident()}
		if p.take("COLLATE") {
			s.Collation = p.anyWord()
		}
		return s
	case p.take("SEQUENCE"):
		return p.sequence(at)
	case p.take("TRIGGER"):
		return p.trigger(at)
	}
	s := &CreateIndex{At: at, Unique: p.take("UNIQUE")}
	if s.Clustered = p.take("CLUSTERED"); !s.Clustered {
		p.take("NONCLUSTERED")
	}
	p.must("INDEX")
	s.Name = p.ident()
	p.must("ON")
	s.Table = p.name()
	s.Columns = p.names()
	return s
}

func (p *parser) sequence(at At) Statement {
	s := &CreateSequence{At: at, Sequence: p.name(), Type: TypeName{Name: "bigint"}, Start: 1, Increment: 1}
	for {
		switch {
		case p.take("AS"):
			s.Type = p.typeName()
		case p.take("START", "WITH"):
			s.Start = p.integer()
		case p.take("INCREMENT", "BY"):
			s.Increment = p.integer()
		default:
			return s
		}
	}
}

func (p *parser) trigger(at At) Statement {
	s := &CreateTrigger{At: at, Trigger: p.name(), Text: p.src}
	p.must("ON")
	s.Table = p.name()
	s.Instead = p.oneOf("AFTER", "FOR", "INSTEAD") == "INSTEAD"
	if s.Instead {
		p.must("OF")
	}
	for {
		s.Events = append(s.Events, p.oneOf("INSERT", "UPDATE", "DELETE"))
		if !p.take(",") {
			break
		}
	}
	p.must("AS")
	s.Body = p.statements()
	return s
}

func (p *parser) createTable(at At) Statement {
	s := &CreateTable{At: at, Table: p.name()}
	p.must("(")
	for {
		if p.take("PERIOD", "FOR", "SYSTEM_TIME") {
			p.names()
		} else if c, is := p.constraint(); is {
			s.Constraints = append(s.Constraints, c)
		} else {
			s.Columns = append(s.Columns, p.columnDef())
		}
		if !p.take(",") || p.is(")") {
			break
		}
	}
	p.must(")")
	if p.take("WITH", "(", "SYSTEM_VERSIONING") {
		p.must("=", "ON", ")")
	}
	if p.take("ON") || p.take("TEXTIMAGE_ON") {
		p.ident()
	}
	return s
}

// constraint is one of a table, or of a column that it stands behind.
func (p *parser) constraint() (c Constraint, is bool) {
	if p.take("CONSTRAINT") {
		c.Name, is = p.ident(), true
	}
	from := p.i
	switch {
	case p.take("PRIMARY", "KEY"), p.take("UNIQUE"):
		if c.Kind = "PRIMARY KEY"; p.toks[from].up == "UNIQUE" {
			c.Kind = "UNIQUE"
		}
		if !p.take("CLUSTERED") {
			p.take("NONCLUSTERED")
		}
		if p.is("(") {
			c.Columns = p.names()
		}
		if p.take("WITH", "(", "IGNORE_DUP_KEY") {
			p.must("=")
			c.Ignore = p.oneOf("ON", "OFF") == "ON"
			p.must(")")
		}
	case p.take("FOREIGN", "KEY"):
		c.Kind = "FOREIGN KEY"
		if p.is("(") {
			c.Columns = p.names()
		}
		p.must("REFERENCES")
		p.refers(&c)
	case p.take("REFERENCES"):
		c.Kind = "FOREIGN KEY"
		p.refers(&c)
	case p.take("CHECK"):
		c.Kind = "CHECK"
		p.must("(")
		from := p.i
		c.Check = p.expr()
		c.Text = "(" + p.textBetween(from) + ")"
		p.must(")")
	default:
		if is && !p.is("DEFAULT") {
			p.unexpected()
		}
		return c, is && p.is("DEFAULT")
	}
	return c, true
}

func (p *parser) refers(c *Constraint) {
	c.To, c.Delete, c.Update = p.name(), "NO ACTION", "NO ACTION"
	if p.is("(") {
		c.Keys = p.names()
	}
	for p.take("ON") {
		what := p.oneOf("DELETE", "UPDATE")
		rule := strings.ToUpper(p.anyWord())
		if rule == "NO" || rule == "SET" {
			rule += " " + strings.ToUpper(p.anyWord())
		}
		if what == "DELETE" {
			c.Delete = rule
		} else {
			c.Update = rule
		}
	}
}

func (p *parser) columnDef() ColumnDef {
	c := ColumnDef{Name: p.ident()}
	if p.take("AS") {
		from := p.i
		c.Computed = p.expr()
		c.Text = p.textBetween(from)
	} else {
		c.Type = p.typeName()
	}
	for p.more(&c) {
	}
	return c
}

// more reads one of what may stand behind a column's type.
func (p *parser) more(c *ColumnDef) bool {
	null := func(is bool) bool { c.Null = &is; return true }
	switch {
	case p.take("COLLATE"):
		c.Collation = p.anyWord()
	case p.take("NOT", "NULL"):
		return null(false)
	case p.take("NULL"):
		return null(true)
	case p.take("SPARSE"):
		c.Sparse = true
	case p.take("ROWGUIDCOL"):
		c.RowGUID = true
	case p.take("PERSISTED"):
		c.Persisted = true
	case p.take("HIDDEN"):
	case p.take("GENERATED", "ALWAYS", "AS", "ROW"):
		c.Period = p.oneOf("START", "END")
	case p.take("IDENTITY"):
		c.Identity, c.Seed, c.Step = true, 1, 1
		if p.take("(") {
			c.Seed = p.integer()
			p.must(",")
			c.Step = p.integer()
			p.must(")")
		}
	case p.is("DEFAULT"), p.is("CONSTRAINT") && p.isAt(2, "DEFAULT"):
		if p.take("CONSTRAINT") {
			c.DefName = p.ident()
		}
		p.must("DEFAULT")
		from := p.i
		c.Default = p.sum()
		c.Text = p.textBetween(from)
	default:
		x, is := p.constraint()
		if is {
			c.More = append(c.More, x)
		}
		return is
	}
	return true
}

func (p *parser) alter(at At) Statement {
	p.must("ALTER")
	if p.take("SEQUENCE") {
		s := &AlterSequence{At: at, Sequence: p.name()}
		p.must("RESTART", "WITH")
		s.Restart = p.integer()
		return s
	}
	p.must("TABLE")
	s := &AlterTable{At: at, Table: p.name()}
	if p.take("WITH") {
		s.Trust = p.oneOf("CHECK", "NOCHECK") == "CHECK"
	}
	switch {
	case p.take("ADD"):
		if p.are("CONSTRAINT") && p.isAt(2, "DEFAULT") || p.is("DEFAULT") {
			p.unexpected()
		}
		if c, is := p.constraint(); is {
			s.Adds = append(s.Adds, c)
		} else {
			c := p.columnDef()
			s.Add = &c
		}
	case p.take("ALTER", "COLUMN"):
		c := p.columnDef()
		s.Alter = &c
	case p.take("DROP", "COLUMN"):
		s.Drop = p.ident()
	case p.take("DROP", "CONSTRAINT"):
		s.Without = p.ident()
	case p.is("CHECK"), p.is("NOCHECK"):
		on := p.oneOf("CHECK", "NOCHECK") == "CHECK"
		s.Enable = &on
		p.must("CONSTRAINT")
		if !p.take("ALL") {
			s.Which = p.ident()
		}
	default:
		p.unexpected()
	}
	return s
}

func (p *parser) drop(at At) Statement {
	p.must("DROP")
	s := &Drop{At: at, Kind: p.oneOf("TABLE", "VIEW", "INDEX", "SCHEMA", "DATABASE", "SEQUENCE", "TRIGGER")}
	s.IfExists = p.take("IF", "EXISTS")
	for {
		s.Names = append(s.Names, p.name())
		if !p.take(",") {
			break
		}
	}
	if p.take("ON") {
		s.On = p.name()
	}
	return s
}
