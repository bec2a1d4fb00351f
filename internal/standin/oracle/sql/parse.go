package sql

import (
	"slices"
	"strconv"
	"strings"
)

// A parser reads tokens from left to right. What it does not find is a panic of an [Error],
// which Parse returns.
type parser struct {
	src   string
	list  []token
	i     int
	names []string // of binds, in the order in which they stand
}

// Parse reads one statement. Binds are the names of its variables, one for each place.
func Parse(src string) (st Statement, binds []string, err error) {
	p := &parser{src: src}
	if p.list, err = lex(src); err != nil {
		return nil, nil, err
	}
	defer func() {
		if e := recover(); e != nil {
			bad, is := e.(*Error)
			if !is {
				panic(e)
			}
			st, binds, err = nil, nil, bad
		}
	}()
	st = p.statement()
	switch st.(type) {
	case *Block, *CreateTrigger: // PL/SQL ends with a semicolon, and SQL does not
		if !p.sign(";") {
			p.fail(6550, "PLS-00103: Encountered the symbol \"end-of-file\"")
		}
	}
	if p.peek().kind != end {
		p.fail(933, "SQL command not properly ended")
	}
	return st, p.names, nil
}

func (p *parser) fail(number int, what string) { panic(&Error{number, what, p.peek().at}) }

// unknown refuses what Oracle may know, and the stand-in does not.
func (p *parser) unknown() {
	t := p.peek()
	panic(&Error{900, "the stand-in does not know this: " + near(p.src, t.at), t.at})
}

func near(src string, at int) string {
	s := []rune(src[at:])
	if len(s) > 40 {
		s = append(s[:40], '…')
	}
	return string(s)
}

func (p *parser) peek() token { return p.list[p.i] }

func (p *parser) take() token {
	t := p.list[p.i]
	if t.kind != end {
		p.i++
	}
	return t
}

// words takes a run of words, if it stands here.
func (p *parser) words(run string) bool {
	at := p.i
	for _, w := range strings.Fields(run) {
		if t := p.list[at]; t.kind != word || t.s != w {
			return false
		}
		at++
	}
	p.i = at
	return true
}

// ahead reports whether a run of words stands here.
func (p *parser) ahead(run string) bool {
	at := p.i
	defer func() { p.i = at }()
	return p.words(run)
}

func (p *parser) need(run string) {
	if !p.words(run) {
		p.fail(905, "missing keyword")
	}
}

func (p *parser) sign(s string) bool {
	if t := p.peek(); t.kind == sign && t.s == s {
		p.i++
		return true
	}
	return false
}

func (p *parser) open() {
	if !p.sign("(") {
		p.fail(906, "missing left parenthesis")
	}
}

func (p *parser) close() {
	if !p.sign(")") {
		p.fail(907, "missing right parenthesis")
	}
}

// ident is a name.
func (p *parser) ident() string {
	t := p.take()
	if t.kind == word && !reserved[t.s] || t.kind == quoted {
		if len(t.s) > 128 {
			p.i--
			p.fail(972, "identifier is too long")
		}
		return t.s
	}
	p.i--
	p.fail(904, ": invalid identifier")
	return ""
}

// reserved are the words that are no names (SQL Language Reference, "Oracle SQL Reserved
// Words").
var reserved = func() map[string]bool {
	m := map[string]bool{}
	for _, w := range strings.Fields("ACCESS ADD ALL ALTER AND ANY AS ASC AUDIT BETWEEN BY CHAR CHECK CLUSTER COLUMN " +
		"COLUMN_VALUE COMMENT COMPRESS CONNECT CREATE CURRENT DATE DECIMAL DEFAULT DELETE DESC DISTINCT DROP ELSE " +
		"EXCLUSIVE EXISTS FILE FLOAT FOR FROM GRANT GROUP HAVING IDENTIFIED IMMEDIATE IN INCREMENT INDEX INITIAL " +
		"INSERT INTEGER INTERSECT INTO IS LEVEL LIKE LOCK LONG MAXEXTENTS MINUS MLSLABEL MODE MODIFY NESTED_TABLE_ID " +
		"NOAUDIT NOCOMPRESS NOT NOWAIT NULL NUMBER OF OFFLINE ON ONLINE OPTION OR ORDER PCTFREE PRIOR PUBLIC RAW " +
		"RENAME RESOURCE REVOKE ROW ROWID ROWNUM ROWS SELECT SESSION SET SHARE SIZE SMALLINT START SUCCESSFUL " +
		"SYNONYM SYSDATE TABLE THEN TO TRIGGER UID UNION UNIQUE UPDATE USER VALIDATE VALUES VARCHAR VARCHAR2 VIEW " +
		"WHENEVER WHERE WITH") {
		m[w] = true
	}
	return m
}()

func (p *parser) name() Name {
	a := p.ident()
	if p.sign(".") {
		return Name{a, p.ident()}
	}
	return Name{"", a}
}

// many are one thing or more, with commas between.
func many[T any](p *parser, one func() T) (out []T) {
	for {
		out = append(out, one())
		if !p.sign(",") {
			return out
		}
	}
}

// within are such things between brackets.
func within[T any](p *parser, one func() T) []T {
	p.open()
	out := many(p, one)
	p.close()
	return out
}

func (p *parser) idents() []string { return within(p, p.ident) }

func (p *parser) int() int {
	neg := p.sign("-")
	t := p.take()
	n, err := strconv.Atoi(t.s)
	if t.kind != number || err != nil {
		p.i--
		p.fail(1722, "invalid number")
	}
	if neg {
		return -n
	}
	return n
}

func (p *parser) string() string {
	t := p.take()
	if t.kind != text {
		p.i--
		p.fail(1780, "string literal required")
	}
	return t.s
}

// statement reads one.
func (p *parser) statement() Statement {
	switch {
	case p.ahead("SELECT") || p.peek().s == "(" || p.ahead("WITH"):
		return p.query()
	case p.words("INSERT INTO"):
		return p.insert()
	case p.words("UPDATE"):
		return p.update()
	case p.words("DELETE"):
		p.words("FROM")
		d := &Delete{Table: p.name(), As: p.alias()}
		if p.words("WHERE") {
			d.Where = p.expr()
		}
		return d
	case p.words("MERGE INTO"):
		return p.merge()
	case p.words("COMMIT"):
		p.words("WORK")
		return &Commit{}
	case p.words("ROLLBACK"):
		p.words("WORK")
		if p.words("TO") {
			p.words("SAVEPOINT")
			return &Rollback{p.ident()}
		}
		return &Rollback{}
	case p.words("SAVEPOINT"):
		return &Savepoint{p.ident()}
	case p.words("LOCK TABLE"):
		return p.lock()
	case p.words("SET TRANSACTION"):
		switch {
		case p.words("READ ONLY"):
			return &SetTransaction{ReadOnly: true}
		case p.words("ISOLATION LEVEL SERIALIZABLE"):
			return &SetTransaction{Serializable: true}
		case p.words("ISOLATION LEVEL READ COMMITTED"), p.words("READ WRITE"):
			return &SetTransaction{}
		}
	case p.words("BEGIN"):
		return p.block()
	}
	return p.definition()
}

// block is a block of PL/SQL, of the few statements that are known here, behind BEGIN.
func (p *parser) block() Statement {
	b := &Block{Body: p.steps()}
	if p.words("EXCEPTION WHEN OTHERS THEN") {
		b.Handler = p.steps()
	}
	p.need("END")
	return b
}

// steps are statements up to EXCEPTION or END.
func (p *parser) steps() (out []Statement) {
	for !p.ahead("EXCEPTION") && !p.ahead("END") {
		switch {
		case p.words("BEGIN"):
			out = append(out, p.block())
		case p.words("EXECUTE IMMEDIATE"):
			out = append(out, &Immediate{p.string()})
		case p.words("RAISE"):
			out = append(out, &Raise{})
		case p.words("NULL"):
		case p.words("IF SQLCODE"):
			if !p.sign("<>") {
				p.unknown()
			}
			out = append(out, &Raise{-p.int()})
			p.need("THEN RAISE")
			if !p.sign(";") {
				p.unknown()
			}
			p.need("END IF")
		default:
			out = append(out, p.procedure())
		}
		if !p.sign(";") {
			p.unknown()
		}
	}
	return out
}

// procedure is a call of one.
func (p *parser) procedure() Statement {
	name := p.ident()
	for p.sign(".") {
		name += "." + p.ident()
	}
	c := &CallProc{Name: name}
	if p.sign("(") {
		if !p.sign(")") {
			c.Args = many(p, p.expr)
			p.close()
		}
	}
	return c
}

func (p *parser) lock() Statement {
	l := &LockTable{Table: p.name(), Wait: -1}
	p.need("IN")
	for !p.words("MODE") {
		if p.peek().kind != word {
			p.fail(1737, "valid modes: [ROW] SHARE, [[SHARE] ROW] EXCLUSIVE, SHARE UPDATE")
		}
		l.Mode = strings.TrimSpace(l.Mode + " " + p.take().s)
	}
	l.Wait = p.wait()
	return l
}

// SkipLocked stands for rows that others have being passed over.
const SkipLocked = -2

// wait is NOWAIT, WAIT n, or nothing.
func (p *parser) wait() int {
	switch {
	case p.words("NOWAIT"):
		return 0
	case p.words("WAIT"):
		return p.int()
	case p.words("SKIP LOCKED"):
		return SkipLocked
	}
	return -1
}

func (p *parser) insert() Statement {
	s := &Insert{Table: p.name()}
	if p.peek().s == "(" && p.list[p.i+1].s != "SELECT" {
		s.Columns = p.idents()
	}
	if p.words("VALUES") {
		s.Values = p.list1()
		return s
	}
	s.From = p.query()
	return s
}

// list1 is expressions between brackets.
func (p *parser) list1() []Expr { return within(p, p.value) }

// value is an expression, or DEFAULT, which is nil.
func (p *parser) value() Expr {
	if p.words("DEFAULT") {
		return nil
	}
	return p.expr()
}

func (p *parser) update() Statement {
	u := &Update{Table: p.name(), As: p.alias()}
	p.need("SET")
	u.Sets = p.sets()
	if p.words("WHERE") {
		u.Where = p.expr()
	}
	return u
}

func (p *parser) sets() []Set {
	return many(p, func() Set {
		c := p.name().Object
		if !p.sign("=") {
			p.fail(927, "missing equal sign")
		}
		return Set{c, p.value()}
	})
}

func (p *parser) merge() Statement {
	m := &Merge{Table: p.name(), As: p.alias()}
	p.need("USING")
	m.Using = p.primary()
	p.need("ON")
	p.open()
	m.On = p.expr()
	p.close()
	for p.words("WHEN") {
		if p.words("MATCHED THEN UPDATE SET") {
			m.Sets = p.sets()
			if p.words("WHERE") {
				m.Where = p.expr()
			}
			continue
		}
		p.need("NOT MATCHED THEN INSERT")
		if p.peek().s == "(" {
			m.Columns = p.columnsOf()
		}
		p.need("VALUES")
		m.Values = p.list1()
	}
	return m
}

// columnsOf is columns between brackets, of which each may name its table.
func (p *parser) columnsOf() []string { return within(p, func() string { return p.name().Object }) }

// alias is a name behind a table, if there is one.
func (p *parser) alias() string {
	t := p.peek()
	if t.kind == quoted || t.kind == word && !reserved[t.s] && !slices.Contains(notAliases, t.s) {
		return p.ident()
	}
	return ""
}

// notAliases are the words that stand behind a table and are no name for it.
var notAliases = []string{"JOIN", "LEFT", "RIGHT", "FULL", "INNER", "CROSS", "USING", "FETCH", "OFFSET", "WHEN",
	"PARTITION", "NATURAL", "LOG"}

// query reads a SELECT with what may follow it.
func (p *parser) query() *Select {
	s := p.term()
	for {
		kind := ""
		switch {
		case p.words("UNION ALL"):
			kind = "UNION ALL"
		case p.words("UNION"):
			kind = "UNION"
		case p.words("MINUS"):
			kind = "MINUS"
		case p.words("INTERSECT"):
			kind = "INTERSECT"
		}
		if kind == "" {
			break
		}
		s.More = append(s.More, Union{kind, p.term()})
	}
	if p.words("ORDER BY") {
		s.Order = p.orders()
	}
	if p.words("FETCH") {
		if !p.words("FIRST") {
			p.need("NEXT")
		}
		s.Fetch = &Lit{"number", "1"}
		if !p.ahead("ROW") && !p.ahead("ROWS") {
			s.Fetch = p.sum()
		}
		if !p.words("ROWS") {
			p.need("ROW")
		}
		p.need("ONLY")
	}
	if p.words("FOR UPDATE") {
		s.ForUpdate = true
		s.Wait = p.wait()
	}
	return s
}

func (p *parser) orders() []Order {
	return many(p, func() Order {
		o := Order{Expr: p.expr()}
		o.Desc = p.words("DESC")
		if !o.Desc {
			p.words("ASC")
		}
		o.NullsFirst = o.Desc
		if p.words("NULLS FIRST") {
			o.NullsFirst = true
		} else if p.words("NULLS LAST") {
			o.NullsFirst = false
		}
		return o
	})
}

// term is one SELECT, or a query between brackets.
func (p *parser) term() *Select {
	if p.sign("(") {
		s := p.query()
		p.close()
		return s
	}
	p.need("SELECT")
	s := &Select{Distinct: p.words("DISTINCT") || p.words("UNIQUE")}
	if !s.Distinct {
		p.words("ALL")
	}
	s.Items = many(p, p.item)
	if !p.words("FROM") {
		p.fail(923, "FROM keyword not found where expected")
	}
	s.From = many(p, p.source)
	if p.words("WHERE") {
		s.Where = p.expr()
	}
	if p.words("GROUP BY") {
		s.Group = many(p, p.expr)
	}
	if p.words("HAVING") {
		s.Having = p.expr()
	}
	return s
}

func (p *parser) item() Item {
	if p.sign("*") {
		return Item{Expr: &Star{}}
	}
	if t := p.peek(); (t.kind == word || t.kind == quoted) && p.list[p.i+1].s == "." && p.list[p.i+2].kind == sign &&
		p.list[p.i+2].s == "*" {
		p.i += 3
		return Item{Expr: &Star{t.s}}
	}
	at := p.peek().at
	it := Item{Expr: p.expr()}
	it.Text = strings.ToUpper(strings.Join(strings.Fields(p.src[at:p.list[p.i-1].to]), ""))
	if p.words("AS") {
		it.As = p.ident()
	} else {
		it.As = p.alias()
	}
	return it
}

// source is a table or a join of several.
func (p *parser) source() Source {
	l := p.primary()
	for {
		kind := ""
		switch {
		case p.words("JOIN"), p.words("INNER JOIN"):
			kind = "INNER"
		case p.words("LEFT JOIN"), p.words("LEFT OUTER JOIN"):
			kind = "LEFT"
		case p.words("RIGHT JOIN"), p.words("RIGHT OUTER JOIN"):
			kind = "RIGHT"
		case p.words("CROSS JOIN"):
			kind = "CROSS"
		}
		if kind == "" {
			return l
		}
		j := &Join{Kind: kind, L: l, R: p.primary()}
		if kind != "CROSS" {
			p.need("ON")
			j.On = p.expr()
		}
		l = j
	}
}

func (p *parser) primary() Source {
	if p.sign("(") {
		if p.ahead("SELECT") || p.peek().s == "(" {
			d := &Derived{Select: p.query()}
			p.close()
			d.As = p.alias()
			return d
		}
		s := p.source()
		p.close()
		return s
	}
	return &Table{p.name(), p.alias()}
}
