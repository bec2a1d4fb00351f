package tsql

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

type parser struct {
	src  string
	toks []token
	i    int
}

// Parse reads a batch. Whole is the text that a statement stands in, for those that
// keep it.
func Parse(src string) (list []Statement, err error) {
	toks, err := lex(src)
	if err != nil {
		return nil, err
	}
	p := &parser{src: src, toks: toks}
	defer p.rescue(&err)
	list = p.statements()
	if !p.is("") {
		p.unexpected()
	}
	return list, nil
}

// ParseExpr reads an expression alone, such as one that a definition keeps.
func ParseExpr(src string) (e Expr, err error) {
	toks, err := lex(src)
	if err != nil {
		return nil, err
	}
	p := &parser{src: src, toks: toks}
	defer p.rescue(&err)
	e = p.expr()
	if !p.is("") {
		p.unexpected()
	}
	return e, nil
}

// ParseName reads the name of a table as people write it.
func ParseName(src string) (n Name, err error) {
	toks, err := lex(src)
	if err != nil {
		return n, err
	}
	p := &parser{src: src, toks: toks}
	defer p.rescue(&err)
	n = p.name()
	if !p.is("") {
		p.unexpected()
	}
	return n, nil
}

// rescue turns what the parser stopped at into an error.
func (p *parser) rescue(err *error) {
	if x := recover(); x != nil {
		e, is := x.(*SyntaxError)
		if !is {
			panic(x)
		}
		*err = e
	}
}

func (p *parser) fail(what string, args ...any) {
	panic(&SyntaxError{p.cur().line, fmt.Sprintf(what, args...)})
}

func (p *parser) unexpected() {
	if p.cur().kind == end {
		p.fail("Incorrect syntax near the end of the batch.")
	}
	p.fail("Incorrect syntax near '%s', or the stand-in does not know it.", p.cur().text)
}

func (p *parser) cur() token { return p.toks[p.i] }
func (p *parser) peek(n int) token {
	return p.toks[min(p.i+n, len(p.toks)-1)]
}

// is reports whether the next token is a word or symbol, in upper case; "" is the end.
func (p *parser) is(s string) bool { return p.isAt(0, s) }

func (p *parser) isAt(n int, s string) bool {
	t := p.peek(n)
	if s == "" {
		return t.kind == end
	}
	return (t.kind == word || t.kind == symbol) && t.up == s
}

// are reports whether the next tokens are so.
func (p *parser) are(list ...string) bool {
	for i, s := range list {
		if !p.isAt(i, s) {
			return false
		}
	}
	return true
}

// take goes on behind tokens if they are next.
func (p *parser) take(list ...string) bool {
	if !p.are(list...) {
		return false
	}
	p.i += len(list)
	return true
}

func (p *parser) must(list ...string) {
	for _, s := range list {
		if !p.take(s) {
			p.unexpected()
		}
	}
}

// oneOf takes one of several words, and returns it.
func (p *parser) oneOf(list ...string) string {
	for _, s := range list {
		if p.take(s) {
			return s
		}
	}
	p.unexpected()
	return ""
}

// ident is a name.
func (p *parser) ident() string {
	t := p.cur()
	if t.kind == quoted || t.kind == word && !reserved[t.up] {
		p.i++
		return t.text
	}
	p.unexpected()
	return ""
}

// anyWord is a word, also one that is reserved.
func (p *parser) anyWord() string {
	t := p.cur()
	if t.kind != word && t.kind != quoted {
		p.unexpected()
	}
	p.i++
	return t.text
}

func (p *parser) integer() int64 {
	neg := p.take("-")
	t := p.cur()
	n, err := strconv.ParseInt(t.text, 10, 64)
	if t.kind != number || err != nil {
		p.unexpected()
	}
	p.i++
	if neg {
		return -n
	}
	return n
}

// name is one of up to three parts; an empty part means the default.
func (p *parser) name() (n Name) {
	parts := []string{p.ident()}
	for p.take(".") {
		if p.is(".") {
			parts = append(parts, "")
			continue
		}
		parts = append(parts, p.anyWord())
	}
	switch len(parts) {
	case 1:
		n.Object = parts[0]
	case 2:
		n.Schema, n.Object = parts[0], parts[1]
	case 3:
		n.Database, n.Schema, n.Object = parts[0], parts[1], parts[2]
	default:
		p.fail("The object name '%s' contains more than the maximum number of prefixes.", strings.Join(parts, "."))
	}
	return n
}

func (p *parser) names() (list []string) {
	p.must("(")
	for {
		list = append(list, p.ident())
		if p.take("ASC") || p.take("DESC") {
			continue
		}
		if !p.take(",") {
			p.must(")")
			return list
		}
	}
}

// reserved are words that no bare name can be.
var reserved = map[string]bool{}

func init() {
	for _, w := range strings.Fields(`ADD ALL ALTER AND ANY AS ASC BEGIN BETWEEN BREAK BULK BY CASE CHECK CLOSE
		CLUSTERED COALESCE COLLATE COLUMN COMMIT CONSTRAINT CONTINUE CONVERT CREATE CROSS CURRENT CURRENT_TIMESTAMP
		CURRENT_USER CURSOR DATABASE DBCC DECLARE DEFAULT DELETE DESC DISTINCT DROP ELSE END ESCAPE EXCEPT EXEC
		EXECUTE EXISTS FETCH FOR FOREIGN FROM FULL FUNCTION GO GRANT GROUP HAVING IDENTITY IDENTITY_INSERT IF IN INDEX
		INNER INSERT INTERSECT INTO IS JOIN KEY LEFT LIKE MERGE NOCHECK NOT NULL NULLIF OF OFF ON OPTION OR ORDER
		OUTER OVER PERCENT PRIMARY PRINT PROC PROCEDURE REFERENCES RETURN REVOKE RIGHT ROLLBACK SAVE
		SCHEMA SELECT SESSION_USER SET SOME SYSTEM_USER TABLE THEN TO TOP TRAN TRANSACTION TRIGGER TRUNCATE
		TRY_CONVERT UNION UNIQUE UPDATE USE USER VALUES VIEW WAITFOR WHEN WHERE WHILE WITH`) {
		reserved[w] = true
	}
}

// typeName is a type, with what stands in its brackets.
func (p *parser) typeName() (t TypeName) {
	t.Name = strings.ToLower(p.anyWord())
	for p.take(".") {
		t.Name = strings.ToLower(p.anyWord()) // of the schema sys
	}
	switch t.Name {
	case "double":
		p.must("PRECISION")
		t.Name = "float"
	case "national":
		t.Name = "n" + strings.ToLower(p.anyWord())
		if p.take("VARYING") {
			t.Name = "nvarchar"
		}
	case "char", "character":
		t.Name = "char"
		if p.take("VARYING") {
			t.Name = "varchar"
		}
	case "integer":
		t.Name = "int"
	case "dec":
		t.Name = "decimal"
	}
	if p.take("(") {
		for {
			if p.take("MAX") {
				t.Args = append(t.Args, -1)
			} else {
				t.Args = append(t.Args, int(p.integer()))
			}
			if !p.take(",") {
				break
			}
		}
		p.must(")")
	}
	return t
}

// textBetween is the source from a token to the one before the current.
func (p *parser) textBetween(from int) string {
	return strings.TrimSpace(p.src[p.toks[from].at:p.cur().at])
}

func (p *parser) statements() (list []Statement) {
	for {
		for p.take(";") {
		}
		if p.is("") || p.is("END") {
			return list
		}
		list = append(list, p.statement())
	}
}

// starts are the statements by their first word.
var starts map[string]func(*parser, At) Statement

func init() {
	starts = map[string]func(*parser, At) Statement{
		"SELECT": func(p *parser, at At) Statement { return &Query{at, p.query()} },
		"INSERT": (*parser).insert, "UPDATE": (*parser).update, "DELETE": (*parser).delete,
		"SET": (*parser).set, "DECLARE": (*parser).declare, "IF": (*parser).ifs, "BEGIN": (*parser).begin,
		"WHILE":    func(p *parser, at At) Statement { p.i++; return &While{at, p.expr(), p.statement()} },
		"TRUNCATE": func(p *parser, at At) Statement { p.must("TRUNCATE", "TABLE"); return &Truncate{at, p.name()} },
		"CREATE":   (*parser).create, "ALTER": (*parser).alter, "DROP": (*parser).drop,
		"USE":    func(p *parser, at At) Statement { p.i++; return &Use{at, p.ident()} },
		"COMMIT": (*parser).tran, "ROLLBACK": (*parser).tran, "SAVE": (*parser).tran,
		"EXEC": (*parser).exec, "EXECUTE": (*parser).exec, "THROW": (*parser).throw,
		"RAISERROR": (*parser).raise, "DBCC": (*parser).dbcc, "WAITFOR": (*parser).wait,
		"PRINT": func(p *parser, at At) Statement { p.i++; return &Print{at, p.expr()} },
		"RETURN": func(p *parser, at At) Statement {
			p.i++
			if p.is("") || p.is(";") || p.is("END") || p.cur().kind == word && starts[p.cur().up] != nil {
				return &Return{at, nil}
			}
			return &Return{at, p.expr()}
		},
		"WITH": func(p *parser, at At) Statement {
			p.fail("The stand-in does not know common table expressions.")
			return nil
		},
	}
}

func (p *parser) statement() Statement {
	t := p.cur()
	f := starts[t.up]
	if t.kind != word || f == nil {
		// The first of a batch may be a procedure without EXEC.
		if p.i == 0 && (t.kind == word || t.kind == quoted) && !reserved[t.up] {
			return p.call(At(t.line), "")
		}
		p.unexpected()
	}
	s := f(p, At(t.line))
	p.take(";")
	return s
}

func (p *parser) set(at At) Statement {
	p.must("SET")
	if t := p.cur(); t.kind == variable {
		p.i++
		op := p.oneOf("=", "+=", "-=", "*=")
		value := p.expr()
		if op != "=" {
			value = &Binary{op[:1], &Var{strings.ToLower(t.text)}, value}
		}
		return &Assign{at, strings.ToLower(t.text), value}
	}
	s := &Set{At: at}
	if p.take("TRANSACTION", "ISOLATION", "LEVEL") {
		s.Option = "TRANSACTION ISOLATION LEVEL"
		words := []string{strings.ToUpper(p.anyWord())}
		for p.cur().kind == word && slices.Contains([]string{"READ", "COMMITTED", "UNCOMMITTED"}, p.cur().up) {
			words = append(words, strings.ToUpper(p.anyWord()))
		}
		s.Value = strings.Join(words, " ")
		return s
	}
	s.Option = strings.ToUpper(p.anyWord())
	if s.Option == "IDENTITY_INSERT" {
		n := p.name()
		s.Name = &n
	}
	for p.take(",") { // several options at once
		s.Option += "," + strings.ToUpper(p.anyWord())
	}
	switch t := p.cur(); t.kind { // others: a number
	case word, text, wideText:
		p.i++
		s.Value = strings.ToUpper(t.text)
	default:
		s.Value = strconv.FormatInt(p.integer(), 10)
	}
	return s
}

func (p *parser) declare(at At) Statement {
	p.must("DECLARE")
	d := &Declare{At: at}
	for {
		t := p.cur()
		if t.kind != variable {
			p.unexpected()
		}
		p.i++
		p.take("AS")
		d.Names = append(d.Names, strings.ToLower(t.text))
		d.Types = append(d.Types, p.typeName())
		var value Expr
		if p.take("=") {
			value = p.expr()
		}
		d.Values = append(d.Values, value)
		if !p.take(",") {
			return d
		}
	}
}

func (p *parser) ifs(at At) Statement {
	p.must("IF")
	s := &If{At: at, Cond: p.expr(), Then: p.statement()}
	if p.take("ELSE") {
		s.Else = p.statement()
	}
	return s
}

func (p *parser) begin(at At) Statement {
	switch {
	case p.isAt(1, "TRAN") || p.isAt(1, "TRANSACTION"):
		return p.tran(at)
	case p.take("BEGIN", "TRY"):
		s := &Try{At: at, Body: p.statements()}
		p.must("END", "TRY")
		p.take(";")
		p.must("BEGIN", "CATCH")
		s.Catch = p.statements()
		p.must("END", "CATCH")
		return s
	}
	p.must("BEGIN")
	s := &Block{At: at, Body: p.statements()}
	p.must("END")
	return s
}

func (p *parser) tran(at At) Statement {
	s := &Tran{At: at, Verb: strings.ToUpper(p.anyWord())}
	if !p.take("TRAN") && !p.take("TRANSACTION") {
		p.take("WORK")
		return s
	}
	if t := p.cur(); t.kind == quoted || t.kind == word && !reserved[t.up] && starts[t.up] == nil {
		s.Name = p.ident()
	}
	return s
}

func (p *parser) exec(at At) Statement {
	p.i++
	if p.take("(") {
		s := &Exec{At: at, Text: p.expr()}
		p.must(")")
		return s
	}
	into := ""
	if t := p.cur(); t.kind == variable {
		into = strings.ToLower(t.text)
		p.i++
		p.must("=")
	}
	return p.call(at, into)
}

// call is a procedure with its arguments.
func (p *parser) call(at At, into string) Statement {
	s := &Exec{At: at, Into: into, Proc: p.name()}
	for first := true; ; first = false {
		t := p.cur()
		if first && (t.kind == end || p.is(";") || p.is("END") ||
			t.kind == word && (starts[t.up] != nil || reserved[t.up]) && t.up != "DEFAULT" && t.up != "NULL") {
			return s
		}
		var a Arg
		if t.kind == variable && p.isAt(1, "=") {
			a.Name = strings.ToLower(t.text)
			p.i += 2
		}
		if !p.take("DEFAULT") {
			a.Value = p.expr()
		}
		a.Output = p.take("OUTPUT") || p.take("OUT")
		s.Args = append(s.Args, a)
		if !p.take(",") {
			return s
		}
	}
}

func (p *parser) throw(at At) Statement {
	p.must("THROW")
	if p.is("") || p.is(";") || p.is("END") {
		return &Throw{At: at}
	}
	s := &Throw{At: at, Number: p.expr()}
	p.must(",")
	s.Message = p.expr()
	p.must(",")
	s.State = p.expr()
	return s
}

func (p *parser) raise(at At) Statement {
	p.must("RAISERROR", "(")
	s := &Raise{At: at, Message: p.expr()}
	p.must(",")
	s.Severity = p.expr()
	p.must(",")
	s.State = p.expr()
	for p.take(",") {
		s.Args = append(s.Args, p.expr())
	}
	p.must(")")
	if p.take("WITH") {
		p.oneOf("NOWAIT")
	}
	return s
}

func (p *parser) dbcc(at At) Statement {
	p.must("DBCC", "CHECKIDENT", "(")
	s := &CheckIdent{At: at}
	if t := p.cur(); t.kind == text || t.kind == wideText {
		n, err := ParseName(t.text)
		if err != nil {
			p.unexpected()
		}
		s.Table = n
		p.i++
	} else {
		s.Table = p.name()
	}
	if p.take(",") && p.oneOf("RESEED", "NORESEED") == "RESEED" {
		s.Reseed = true
		if p.take(",") {
			s.Value = p.expr()
		}
	}
	p.must(")")
	if p.take("WITH") {
		p.must("NO_INFOMSGS")
	}
	return s
}

func (p *parser) wait(at At) Statement {
	p.must("WAITFOR", "DELAY")
	t := p.cur()
	if t.kind != text {
		p.unexpected()
	}
	p.i++
	return &Wait{at, t.text}
}
