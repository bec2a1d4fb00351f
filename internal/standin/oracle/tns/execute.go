package tns

import (
	"context"
	"errors"

	"ambertray/internal/standin/oracle/engine"
)

// The options of an execution.
const (
	doParse   = 0x01
	doDefine  = 0x10
	doExecute = 0x20
	doFetch   = 0x40
	doCommit  = 0x100
	doPartly  = 0x80000
)

// A cursor is a statement that a client has sent, with what is left of its rows.
type cursor struct {
	id      int64
	st      *engine.Prepared
	binds   []bind
	columns []engine.Column
	defined []byte // as what types the columns are sent, if a client has said so
	rows    [][]engine.Value
	open    bool
}

func (k *conn) cursor(id int64) *cursor {
	if c := k.cursors[id]; c != nil {
		return c
	}
	return nil
}

// readTypes reads what a client says of variables, or of how it wants columns.
func (k *conn) readTypes(n int64) (out []bind) {
	l := k.line
	for range n {
		b := bind{typ: l.byte()}
		l.skip(3) // flags, precision, scale
		b.size = l.int()
		l.ints(2) // elements of an array, further flags
		l.long()  // an object's type
		l.ints(2) // its version, character set
		l.byte()  // its form
		l.ints(2) // length in characters, collation
		out = append(out, b)
	}
	return out
}

// readRows reads the values of variables, row by row.
func (k *conn) readRows(binds []bind, rows int64) (out [][]engine.Value, failed error) {
	l := k.line
	if len(binds) == 0 {
		return nil, nil
	}
	for range rows {
		if b := l.byte(); b != sayRow {
			panic(wrong("values of variables that do not begin as such"))
		}
		vals := make([]engine.Value, len(binds))
		for _, long := range []bool{false, true} {
			for i, b := range binds {
				if b.isLong() != long {
					continue
				}
				v, err := k.value(b)
				if err != nil && failed == nil {
					failed = err
				}
				vals[i] = v
			}
		}
		out = append(out, vals)
	}
	return out, failed
}

// execute answers a statement that is sent whole. It is long because the call has many fields.
func (k *conn) execute() {
	l := k.line
	options := l.int()
	id := l.int()
	l.byte()
	l.int() // length of the text
	l.byte()
	l.int() // thirteen numbers
	l.skip(2)
	l.byte()
	prefetch := l.int()
	l.int() // longest value
	l.byte()
	nbinds := l.int()
	l.skip(5)
	l.byte()
	ndefines := l.int()
	l.int()
	l.skip(2)
	l.byte()
	l.int()
	l.byte()
	l.ints(2) // a name, the other half of a registration
	l.byte()  // rows affected, one by one
	l.int()
	l.byte()
	l.byte() // signature and number of the statement
	l.int()
	l.byte()
	l.int()
	l.byte()
	l.byte() // pieces
	l.int()
	var text []byte
	if options&doParse != 0 {
		text = l.bytes()
	}
	var n [13]int64
	for i := range n {
		n[i] = l.int()
	}
	c := k.cursor(id)
	var failed error
	if text != nil {
		if c == nil {
			k.lastCursor++
			c = &cursor{id: k.lastCursor}
			k.cursors[c.id] = c
		}
		c.st, failed = engine.Prepare(string(text))
	}
	if c == nil || c.st == nil && failed == nil {
		failed = &engine.Error{Number: 1001, Text: "invalid cursor"}
	}
	if options&doDefine != 0 {
		defined := k.readTypes(ndefines)
		if failed == nil {
			c.defined = nil
			for _, d := range defined {
				c.defined = append(c.defined, d.typ)
			}
		}
		k.rowsOrEnd(c, failed, options&doFetch != 0, max(n[1], prefetch))
		return
	}
	binds := k.readTypes(nbinds)
	rows := int64(1)
	isQuery := failed == nil && c.st.IsQuery()
	if !isQuery && n[7] == 0 {
		rows = max(n[1], 1)
	}
	vals, err := k.readRows(binds, rows)
	if failed == nil {
		failed = err
	}
	if failed != nil {
		k.end(failed, 0, 0)
		return
	}
	c.binds = binds
	if options&doExecute == 0 {
		k.end(nil, c.id, 0)
		return
	}
	k.run(c, vals, options&doCommit != 0, options&doPartly != 0, prefetch)
}

// reexecute answers a statement that the client has sent before.
func (k *conn) reexecute(fetch bool) {
	l := k.line
	c := k.cursor(l.int())
	n := l.int()
	l.int()
	flags := l.int()
	if c == nil {
		k.end(&engine.Error{Number: 1001, Text: "invalid cursor"}, 0, 0)
		return
	}
	rows := n
	if fetch {
		rows = 1
	}
	vals, err := k.readRows(c.binds, max(rows, 1))
	if err != nil {
		k.end(err, c.id, 0)
		return
	}
	k.run(c, vals, flags&1 != 0, false, n)
}

// run executes a statement. The client may interrupt it.
func (k *conn) run(c *cursor, vals [][]engine.Value, commit, partly bool, prefetch int64) {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	interrupted := false
	k.line.during(func() { interrupted = true; cancel() })
	res, err := k.session.Execute(ctx, c.st, vals, partly)
	k.line.during(nil)
	if interrupted {
		k.wasInterrupted = true
	}
	if err != nil {
		affected := int64(0)
		if res != nil {
			affected = res.Affected
		}
		k.end(err, c.id, affected)
		return
	}
	if commit {
		k.session.End(true)
	}
	if !res.Query {
		k.endPartly(res, c.id)
		return
	}
	c.columns, c.rows, c.open = res.Columns, res.Rows, true
	if c.defined != nil && len(c.defined) != len(c.columns) {
		c.defined = nil
	}
	k.describe(c)
	k.rowsOrEnd(c, nil, prefetch > 0 && !c.hasLarge(), prefetch)
}

// hasLarge reports columns of which the client has to say how it wants them.
func (c *cursor) hasLarge() bool {
	if c.defined != nil {
		return false
	}
	for _, col := range c.columns {
		if wireType(col.Type) == typeClob {
			return true
		}
	}
	return false
}

// fetch answers with further rows.
func (k *conn) fetch() {
	l := k.line
	c := k.cursor(l.int())
	n := l.int()
	if c == nil || !c.open {
		k.end(&engine.Error{Number: 1002, Text: "fetch out of sequence"}, 0, 0)
		return
	}
	k.rowsOrEnd(c, nil, true, n)
}

// rowsOrEnd sends up to n rows, and how the call ended.
func (k *conn) rowsOrEnd(c *cursor, failed error, rows bool, n int64) {
	if failed != nil {
		k.end(failed, 0, 0)
		return
	}
	if !rows {
		k.end(nil, c.id, 0)
		return
	}
	l := k.line
	n = min(max(n, 1), int64(len(c.rows)))
	if n > 0 {
		l.putByte(sayRowHeader, 0)
		l.putInt(int64(len(c.columns) % 256))
		l.putInt(int64(len(c.columns) / 256))
		l.putInt(n)
		l.putInt(0)
		l.putInt(0)
		l.putInt(0)
	}
	for _, row := range c.rows[:n] {
		l.putByte(sayRow)
		for i, v := range row {
			as := wireType(c.columns[i].Type)
			if c.defined != nil {
				as = c.defined[i]
			}
			k.putValue(k.fitting(v, c.columns[i].Type), as, c.columns[i].Type)
		}
	}
	c.rows = c.rows[n:]
	if len(c.rows) == 0 {
		k.end(&engine.Error{Number: 1403, Text: "no data found"}, c.id, n)
		return
	}
	k.end(nil, c.id, n)
}

// fitting makes of a value one of the kind that its column is said to be of.
func (k *conn) fitting(v engine.Value, t engine.Type) engine.Value {
	if v.IsNull() || v.Kind == t.Kind {
		return v
	}
	return k.session.As(v, t)
}

// describe tells the columns of a query.
func (k *conn) describe(c *cursor) {
	l := k.line
	l.putByte(sayColumns, 0)
	l.putInt(0)
	l.putInt(int64(len(c.columns)))
	if len(c.columns) > 0 {
		l.putByte(0)
	}
	for i, col := range c.columns {
		k.describeColumn(i, col)
	}
	l.putInt(0)
	l.ints0(4)
	l.putInt(0)
}

func (l *line) ints0(n int) {
	for range n {
		l.putInt(0)
	}
}

func (k *conn) describeColumn(i int, col engine.Column) {
	l := k.line
	t := col.Type
	typ := wireType(t)
	size, chars := int64(22), int64(0)
	prec, scale := t.Prec, t.Scale
	form, set := byte(0), int64(0)
	switch typ {
	case typeText, typeChar:
		size, chars = int64(t.Length), int64(t.Length)
		if t.Chars {
			size = min(4*size, 4000)
		}
		form, set = 1, charset
		prec, scale = 0, 0
	case typeClob:
		size, form, set = 4000, 1, charset
	case typeNumber:
		if t.Free {
			scale = -127
			if prec == 0 {
				prec = 0
			}
		}
	case typeRowID:
		size = 18
	case typeDouble:
		size = 8
	case typeFloat:
		size = 4
	case typeRaw:
		size = int64(max(t.Length, 1))
	}
	l.putByte(typ, 0, byte(prec))
	switch {
	case k.scaleIsByte:
		l.putByte(byte(scale))
	case typ == typeNumber, typ == typeTimestamp, typ == typeZoned, typ == typeLocal, typ == typeInterval:
		l.putInt(int64(scale))
	default:
		l.putByte(byte(scale))
	}
	l.putInt(size)
	l.ints0(2)
	l.putInt(0) // no object
	l.putInt(0)
	l.putInt(set)
	l.putByte(form)
	l.putInt(max(chars, 0))
	l.putInt(0)
	nullable := byte(1)
	if col.Required {
		nullable = 0
	}
	l.putByte(nullable, byte(min(len(col.Name), 255)))
	l.putLong([]byte(col.Name))
	l.ints0(2) // schema and name of a type
	l.putInt(int64(i + 1))
	l.putInt(0)
}

// endPartly ends a call of which some rows may have been refused.
func (k *conn) endPartly(res *engine.Result, id int64) {
	if len(res.Refused) == 0 {
		k.end(nil, id, res.Affected)
		return
	}
	k.refused = res.Refused
	k.end(&engine.Error{Number: 24381, Text: "error(s) in array DML"}, id, res.Affected)
}

// end ends a call: with an error, if there is one, and how many rows it was about.
func (k *conn) end(failed error, id, rows int64) {
	l := k.line
	var e *engine.Error
	if failed != nil && !errors.As(failed, &e) {
		e = &engine.Error{Number: 600, Text: "internal error code, arguments: [" + failed.Error() + "]"}
	}
	code, at := int64(0), int64(0)
	if e != nil {
		code, at = int64(e.Number), int64(e.At)
		if code != 1403 && code != 24381 && id != 0 && k.cursors[id] != nil {
			k.cursors[id].open = false
		}
	}
	l.putByte(sayEnd)
	l.ints0(2) // status, number of the call
	l.putInt(min(rows, 0x7fffffff))
	l.putInt(code)
	l.ints0(2)
	l.putInt(id)
	l.putInt(at)
	l.putByte(0, 0, 0, 0, 0, 0)
	l.ints0(2) // address of a row
	l.putByte(0)
	l.ints0(2)
	l.ints0(1)
	l.putByte(0, 0)
	l.ints0(2)
	l.putInt(0)
	k.putRefused()
	l.putInt(code)
	l.putInt(rows)
	if code != 0 {
		l.putBytes([]byte(e.Error() + "\n"))
	}
}

// putRefused writes the rows of an array that were refused.
func (k *conn) putRefused() {
	l := k.line
	list := k.refused
	k.refused = nil
	n := int64(len(list))
	l.putInt(n)
	if n > 0 {
		l.putByte(0)
		for _, r := range list {
			l.putInt(int64(r.Err.Number))
		}
	}
	l.putInt(n)
	if n > 0 {
		l.putByte(0)
		for _, r := range list {
			l.putInt(int64(r.Row))
		}
	}
	l.putInt(n)
	if n > 0 {
		l.putByte(0)
		for _, r := range list {
			text := []byte(r.Err.Error() + "\n")
			l.putInt(int64(len(text)))
			l.putBytes(text)
			l.putByte(0, 0)
		}
	}
}
