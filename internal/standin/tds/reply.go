package tds

import (
	"encoding/binary"
	"slices"
	"strconv"

	"ambertray/internal/standin/engine"
)

// The bits of DONE ([MS-TDS] 2.2.7.6).
const (
	doneMore  = 1
	doneError = 2
	doneCount = 0x10
	doneAttn  = 0x20
)

// A reply writes what an engine tells as tokens. It implements [engine.Sink].
type reply struct {
	c    *conn
	w    *writer
	cols []engine.Out
	buf  []byte
	// last is a DONE that waits to know whether more comes.
	last []byte
	grow bool // packets get the size that was agreed on, behind the login
	ords int
}

// before writes the DONE that waits: more comes.
func (r *reply) before() {
	if r.last != nil {
		r.last[1] |= doneMore
		r.w.write(r.last)
		r.last = nil
	}
}

// token writes one that has its length in two bytes.
func (r *reply) token(code byte, data []byte) {
	r.before()
	r.w.write(append(le16([]byte{code}, len(data)), data...))
}

// Columns implements engine.Sink.
func (r *reply) Columns(cols []engine.Out) {
	r.before()
	r.cols = slices.Clone(cols)
	for i := range r.cols {
		r.cols[i].Type = r.c.known(r.cols[i].Type)
	}
	cols = r.cols
	b := le16([]byte{0x81}, len(cols))
	for _, c := range cols {
		flags, user := 0, 0
		if c.Null {
			flags |= 1
		}
		if c.Identity {
			flags |= 0x10
		}
		if c.Computed {
			flags |= 0x20
		} else {
			flags |= 4
		}
		if c.Type.Kind == engine.RowVersion {
			user = 80
		}
		b = le16(le32(b, user), flags)
		if code := fixedCode[c.Type.Kind]; code != 0 && !c.Null {
			b = append(b, code) // a type that has neither length nor null
		} else {
			b = typeInfo(b, c.Type)
		}
		if k := c.Type.Kind; k == engine.Text || k == engine.NText || k == engine.Image {
			b = longText(append(b, 1), "t") // one part of a name of a table
		}
		b = shortText(b, c.Name)
	}
	r.w.write(b)
}

// known is a type as the client can take it: to one that knows no UTF-8 in char, the server
// sends it in the code page of the collation's locale ([MS-TDS] 2.2.6.4, UTF8_SUPPORT).
func (c *conn) known(t engine.Type) engine.Type {
	if !c.utf8 && t.IsText() && !t.IsWide() && t.Coll != nil && t.Coll.CodePage == 65001 {
		t.Coll = t.Coll.Plain()
	}
	return t
}

// Row implements engine.Sink.
func (r *reply) Row(v []engine.Value) error {
	b := append(r.buf[:0], 0xd1)
	for i := range v {
		c := &r.cols[i]
		at := len(b)
		b = value(b, c.Type, v[i])
		if fixedCode[c.Type.Kind] != 0 && !c.Null {
			b = append(b[:at], b[at+1:]...) // without its length
		}
	}
	r.w.write(b)
	r.buf = b
	return r.w.err
}

// Done implements engine.Sink.
func (r *reply) Done(rows int64, failed bool, kind engine.DoneKind) {
	r.before()
	code := map[engine.DoneKind]byte{engine.DoneStatement: 0xfd, engine.DoneInProc: 0xff, engine.DoneProc: 0xfe}[kind]
	status := 0
	if failed {
		status |= doneError
	}
	if rows >= 0 {
		status |= doneCount
	}
	r.last = binary.LittleEndian.AppendUint64(le16(le16([]byte{code}, status), 0xc1), uint64(max(rows, 0)))
}

// Message implements engine.Sink.
func (r *reply) Message(e *engine.Error) {
	code := byte(0xaa)
	if e.Class <= 10 {
		code = 0xab
	}
	b := le32(nil, e.Number)
	b = append(b, byte(max(e.State, 1)), byte(e.Class))
	b = shortText(shortText(longText(b, e.Message), r.c.srv.Engine.Name), e.Proc)
	r.token(code, le32(b, max(e.Line, 1)))
}

// Changed implements engine.Sink.
func (r *reply) Changed(what engine.Change, now, before string) {
	if what == engine.ChangedDatabase {
		r.token(0xe3, shortText(shortText([]byte{byte(what)}, now), before))
		return
	}
	id := func(b []byte, s string) []byte {
		n, err := strconv.ParseUint(s, 10, 64)
		if err != nil {
			return append(b, 0)
		}
		return binary.LittleEndian.AppendUint64(append(b, 8), n)
	}
	if r.c.tran = 0; what == engine.BegunTran {
		r.c.tran, _ = strconv.ParseUint(now, 10, 64)
	}
	r.token(0xe3, id(id([]byte{byte(what)}, now), before))
}

// Status implements engine.Sink.
func (r *reply) Status(n int64) {
	r.before()
	r.w.write(le32([]byte{0x79}, int(int32(n))))
}

// Output implements engine.Sink.
func (r *reply) Output(name string, t engine.Type, v engine.Value) {
	r.before()
	b := shortText(le16([]byte{0xac}, r.ords), name)
	r.ords++
	b = le16(le32(append(b, 1), 0), 1)
	r.w.write(value(typeInfo(b, t), t, v))
}

// end ends the message; attn tells that what was asked has been cancelled.
func (r *reply) end(attn bool) error {
	if attn {
		r.before()
		r.last = binary.LittleEndian.AppendUint64(le16(le16([]byte{0xfd}, doneAttn), 0), 0)
	}
	if r.last != nil {
		r.w.write(r.last)
		r.last = nil
	}
	err := r.w.end()
	if r.grow {
		r.w.size, r.grow = r.c.size, false
	}
	r.ords = 0
	return err
}
