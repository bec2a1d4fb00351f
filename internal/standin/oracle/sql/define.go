package sql

import (
	"strconv"
	"strings"
)

// definition reads a statement that changes the catalog or the session.
func (p *parser) definition() Statement {
	switch {
	case p.words("CREATE"):
		return p.create()
	case p.words("ALTER TABLE"):
		return p.alterTable()
	case p.words("ALTER INDEX"):
		x := &RenameIndex{Index: p.name()}
		p.need("RENAME TO")
		x.To = p.ident()
		return x
	case p.words("ALTER SESSION SET"):
		a := &AlterSession{}
		for p.peek().kind == word {
			k := p.take().s
			if !p.sign("=") {
				p.fail(922, "missing or invalid option")
			}
			a.Set = append(a.Set, [2]string{k, p.take().s})
		}
		return a
	case p.words("DROP USER"):
		u := &DropUser{p.ident()}
		p.words("CASCADE")
		return u
	case p.words("DROP"):
		return p.drop()
	case p.words("TRUNCATE TABLE"):
		return &Truncate{p.name()}
	case p.words("COMMENT ON"):
		return p.comment()
	case p.words("GRANT"):
		return p.grant()
	}
	p.fail(900, "invalid SQL statement")
	return nil
}

func (p *parser) drop() Statement {
	d := &Drop{}
	for _, k := range []string{"TABLE", "VIEW", "INDEX", "SEQUENCE", "TRIGGER"} {
		if p.words(k) {
			d.Kind, d.Name = k, p.name()
			d.Cascade = p.words("CASCADE CONSTRAINTS")
			p.words("PURGE")
			return d
		}
	}
	p.fail(950, "invalid DROP option")
	return nil
}

func (p *parser) comment() Statement {
	c := &Comment{}
	if p.words("TABLE") {
		c.Table = p.name()
	} else {
		p.need("COLUMN")
		var parts []string
		for {
			parts = append(parts, p.ident())
			if !p.sign(".") {
				break
			}
		}
		n := len(parts)
		if n < 2 || n > 3 {
			p.fail(903, "invalid table name")
		}
		c.Column, c.Table.Object = parts[n-1], parts[n-2]
		if n == 3 {
			c.Table.Schema = parts[0]
		}
	}
	p.need("IS")
	c.Text = p.string()
	return c
}

func (p *parser) grant() Statement {
	g := &Grant{}
	for {
		right := p.take().s
		for p.peek().kind == word && p.peek().s != "ON" && p.peek().s != "TO" {
			right += " " + p.take().s
		}
		g.Rights = append(g.Rights, right)
		if !p.sign(",") {
			break
		}
	}
	if p.words("ON") {
		n := p.name()
		g.On = &n
	}
	p.need("TO")
	if p.words("PUBLIC") {
		g.To = "PUBLIC"
		return g
	}
	g.To = p.ident()
	return g
}

func (p *parser) create() Statement {
	replace := p.words("OR REPLACE")
	switch {
	case p.words("TABLE"):
		return p.createTable(false)
	case p.words("GLOBAL TEMPORARY TABLE"):
		return p.createTable(true)
	case p.words("UNIQUE INDEX"), p.words("INDEX"):
		x := &CreateIndex{Unique: p.list[p.i-2].s == "UNIQUE"}
		x.Index = p.name()
		p.need("ON")
		x.Table = p.name()
		x.Columns = p.idents()
		return x
	case p.words("VIEW"), p.words("FORCE VIEW"):
		v := &CreateView{View: p.name(), Replace: replace}
		if p.peek().s == "(" {
			v.Columns = p.idents()
		}
		p.need("AS")
		at := p.peek().at
		v.Select = p.query()
		v.Text = p.src[at:p.list[p.i-1].to]
		return v
	case p.words("SEQUENCE"):
		s := &CreateSequence{Sequence: p.name(), Start: 1}
		for p.peek().kind == word {
			if p.words("START WITH") {
				s.Start = int64(p.int())
			} else if p.words("INCREMENT BY") {
				p.int()
			} else {
				p.take()
			}
		}
		return s
	case p.words("USER"):
		u := &CreateUser{User: p.ident()}
		p.need("IDENTIFIED BY")
		t := p.take()
		u.Password = p.src[t.at:t.to]
		if t.kind == quoted {
			u.Password = t.s
		}
		if p.words("QUOTA UNLIMITED ON") {
			p.ident()
		}
		return u
	case p.words("TRIGGER"):
		return p.trigger()
	}
	p.fail(901, "invalid CREATE command")
	return nil
}

// trigger reads a trigger that raises an error for some rows, or does nothing.
func (p *parser) trigger() Statement {
	t := &CreateTrigger{Trigger: p.name()}
	switch {
	case p.words("BEFORE"):
		t.Before = true
	case p.words("INSTEAD OF"):
		t.Instead = true
	default:
		p.need("AFTER")
	}
	for {
		t.Events = append(t.Events, p.take().s)
		if !p.words("OR") {
			break
		}
	}
	p.need("ON")
	t.Table = p.name()
	p.words("FOR EACH ROW")
	if p.words("WHEN") {
		p.open()
		t.When = p.expr()
		p.close()
	}
	p.need("BEGIN")
	if p.words("NULL") {
		if !p.sign(";") {
			p.unknown()
		}
	} else {
		p.need("RAISE_APPLICATION_ERROR")
		p.open()
		t.Raises = -p.int()
		if !p.sign(",") {
			p.unknown()
		}
		t.Message = p.string()
		p.close()
		if !p.sign(";") {
			p.unknown()
		}
	}
	p.need("END")
	return t
}

func (p *parser) createTable(temporary bool) Statement {
	t := &CreateTable{Table: p.name(), Temporary: temporary}
	if p.sign("(") {
		for {
			if c, is := p.constraint(); is {
				t.Constraints = append(t.Constraints, c)
			} else {
				t.Columns = append(t.Columns, p.column())
			}
			if !p.sign(",") {
				break
			}
		}
		p.close()
	}
	if p.words("ON COMMIT PRESERVE ROWS") {
		t.Preserve = true
	} else {
		p.words("ON COMMIT DELETE ROWS")
	}
	if p.words("AS") {
		t.As = p.query()
	} else if len(t.Columns) == 0 {
		p.fail(906, "missing left parenthesis")
	}
	return t
}

// constraint reads one that stands for itself, if there is one.
func (p *parser) constraint() (c Constraint, is bool) {
	if p.words("CONSTRAINT") {
		c.Name = p.ident()
	}
	switch {
	case p.words("PRIMARY KEY"):
		c.Kind, c.Columns = "P", p.idents()
	case p.words("UNIQUE"):
		c.Kind, c.Columns = "U", p.idents()
	case p.words("FOREIGN KEY"):
		c.Columns = p.idents()
		p.need("REFERENCES")
		p.references(&c)
	case p.words("CHECK"):
		p.check(&c)
	default:
		if c.Name != "" {
			p.fail(905, "missing keyword")
		}
		return c, false
	}
	p.states(&c)
	return c, true
}

func (p *parser) check(c *Constraint) {
	c.Kind = "C"
	p.open()
	at := p.peek().at
	c.Check = p.expr()
	c.Text = p.src[at:p.list[p.i-1].to]
	p.close()
}

func (p *parser) references(c *Constraint) {
	c.Kind, c.To, c.OnDelete = "R", p.name(), "NO ACTION"
	if p.peek().s == "(" {
		c.Keys = p.idents()
	}
	if p.words("ON DELETE") {
		switch {
		case p.words("CASCADE"):
			c.OnDelete = "CASCADE"
		case p.words("SET NULL"):
			c.OnDelete = "SET NULL"
		default:
			p.fail(905, "missing keyword")
		}
	}
}

func (p *parser) states(c *Constraint) {
	for {
		switch {
		case p.words("DEFERRABLE"):
			c.Deferred = true
		case p.words("INITIALLY DEFERRED"), p.words("INITIALLY IMMEDIATE"), p.words("NOT DEFERRABLE"),
			p.words("ENABLE"),
			p.words("VALIDATE"):
		case p.words("DISABLE"):
			c.Off = true
		default:
			return
		}
	}
}

// column reads a column's definition; of MODIFY, the type may be missing.
func (p *parser) column() ColumnDef {
	c := ColumnDef{Name: p.ident()}
	if t := p.peek(); t.kind == word && types[t.s] {
		c.Type, c.HasType = p.typ(), true
	}
	for {
		switch {
		case p.words("DEFAULT"):
			c.OnNull = p.words("ON NULL")
			at := p.peek().at
			c.Default = p.sum()
			c.Text = p.src[at:p.list[p.i-1].to]
		case p.words("GENERATED ALWAYS AS IDENTITY"):
			c.Identity = "ALWAYS"
			p.brackets()
		case p.words("GENERATED BY DEFAULT ON NULL AS IDENTITY"):
			c.Identity, c.OnNull = "BY DEFAULT", true
			p.brackets()
		case p.words("GENERATED BY DEFAULT AS IDENTITY"):
			c.Identity = "BY DEFAULT"
			p.brackets()
		case p.words("GENERATED ALWAYS AS"), p.ahead("AS") && p.words("AS"):
			p.open()
			at := p.peek().at
			c.Computed = p.expr()
			c.Text = p.src[at:p.list[p.i-1].to]
			p.close()
			p.words("VIRTUAL")
		case p.words("NOT NULL"):
			no := false
			c.Null = &no
			p.words("ENABLE")
		case p.words("NULL"):
			yes := true
			c.Null = &yes
		default:
			k, is := p.columnConstraint(c.Name)
			if !is {
				return c
			}
			c.More = append(c.More, k)
		}
	}
}

func (p *parser) columnConstraint(column string) (c Constraint, is bool) {
	if p.words("CONSTRAINT") {
		c.Name = p.ident()
	}
	c.Columns = []string{column}
	switch {
	case p.words("PRIMARY KEY"):
		c.Kind = "P"
	case p.words("UNIQUE"):
		c.Kind = "U"
	case p.words("REFERENCES"):
		p.references(&c)
	case p.words("CHECK"):
		p.check(&c)
	default:
		return c, false
	}
	p.states(&c)
	return c, true
}

var types = map[string]bool{"NUMBER": true, "INTEGER": true, "INT": true, "SMALLINT": true, "DECIMAL": true,
	"NUMERIC": true, "FLOAT": true, "VARCHAR2": true, "VARCHAR": true, "NVARCHAR2": true, "CHAR": true, "NCHAR": true,
	"CLOB": true, "NCLOB": true, "BLOB": true, "RAW": true, "LONG": true, "DATE": true, "TIMESTAMP": true,
	"INTERVAL": true, "BINARY_DOUBLE": true, "BINARY_FLOAT": true, "ROWID": true, "XMLTYPE": true, "JSON": true}

// typ reads a type.
func (p *parser) typ() TypeName {
	t := TypeName{Name: p.take().s}
	if !types[t.Name] {
		p.i--
		p.fail(902, "invalid datatype")
	}
	if t.Name == "INTERVAL" {
		switch {
		case p.words("DAY"):
			day, second := 2, 6
			if p.sign("(") {
				day = p.int()
				p.close()
			}
			p.need("TO SECOND")
			if p.sign("(") {
				second = p.int()
				p.close()
			}
			t.Args = []int{day, second}
			return t
		case p.words("YEAR"):
			p.unknown()
		}
		p.fail(905, "missing keyword")
	}
	if p.sign("(") {
		for {
			if p.sign("*") {
				t.Args = append(t.Args, 0)
			} else {
				t.Args = append(t.Args, p.int())
			}
			if p.words("CHAR") {
				t.Unit = "CHAR"
			} else if p.words("BYTE") {
				t.Unit = "BYTE"
			}
			if !p.sign(",") {
				break
			}
		}
		p.close()
	}
	if t.Name == "TIMESTAMP" {
		if p.words("WITH LOCAL TIME ZONE") {
			t.Zone = "LTZ"
		} else if p.words("WITH TIME ZONE") {
			t.Zone = "TZ"
		}
	}
	return t
}

func (p *parser) alterTable() Statement {
	a := &AlterTable{Table: p.name()}
	switch {
	case p.words("RENAME TO"):
		a.Rename = p.ident()
	case p.words("RENAME COLUMN"):
		a.RenameColumn[0] = p.ident()
		p.need("TO")
		a.RenameColumn[1] = p.ident()
	case p.words("ADD"):
		if c, is := p.constraint(); is {
			a.Constrain = &c
			break
		}
		a.Add = p.columns()
	case p.words("MODIFY"):
		a.Modify = p.columns()
	case p.words("READ ONLY"):
		a.Writes = new(bool)
	case p.words("READ WRITE"):
		yes := true
		a.Writes = &yes
	case p.words("DROP COLUMN"):
		a.Drop = p.ident()
	case p.words("DROP CONSTRAINT"):
		a.Without = p.ident()
		p.words("CASCADE")
	case p.words("ENABLE CONSTRAINT"):
		a.Switch, a.On = p.ident(), true
	case p.words("DISABLE CONSTRAINT"):
		a.Switch = p.ident()
	default:
		p.unknown()
	}
	return a
}

func (p *parser) columns() (out []ColumnDef) {
	if !p.sign("(") {
		return []ColumnDef{p.column()}
	}
	out = many(p, p.column)
	p.close()
	return out
}

// ParseNumber is a literal number as an integer, if it is one.
func ParseNumber(s string) (int64, bool) {
	n, err := strconv.ParseInt(strings.TrimSpace(s), 10, 64)
	return n, err == nil
}
