package tds

import (
	"bufio"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"strings"
	"sync"

	"ambertray/internal/standin/engine"
)

// A Server listens for clients of an engine.
type Server struct {
	Engine *engine.Server
	// TLS has the certificate; without any, nothing is encrypted. Force refuses clients that
	// do not encrypt.
	TLS   *tls.Config
	Force bool
	// Log, if not nil, gets what is wrong with what clients send.
	Log *log.Logger

	mu    sync.Mutex
	conns map[*conn]bool
}

// Serve takes clients until the listener is closed.
func (s *Server) Serve(l net.Listener) error {
	s.conns = map[*conn]bool{}
	for {
		n, err := l.Accept()
		if err != nil {
			return err
		}
		c := &conn{srv: s, net: n, size: 4096}
		c.use(n)
		s.mu.Lock()
		s.conns[c] = true
		s.mu.Unlock()
		go c.serve()
	}
}

// Close ends all connections.
func (s *Server) Close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for c := range s.conns {
		c.net.Close()
	}
}

// A conn is a connection of a client.
type conn struct {
	srv        *Server
	net        net.Conn
	in         *bufio.Reader
	out        *bufio.Writer
	now        net.Conn // what in and out are on: with TLS or without
	w          *writer
	reply      *reply
	s          *engine.Session
	size       int
	tran       uint64 // the transaction that the client has been told
	afterLogin func()
	utf8       bool

	packets   chan packet
	broken    error
	attention chan bool
}

// use reads and writes over another connection.
func (c *conn) use(n net.Conn) {
	c.now, c.in, c.out = n, bufio.NewReaderSize(n, 1<<16), bufio.NewWriterSize(n, 1<<16)
	if c.w != nil {
		c.w.to = c.out
	}
}

// ahead is a connection of which something has been read already.
type ahead struct {
	net.Conn
	r io.Reader
}

func (a *ahead) Read(b []byte) (int, error) { return a.r.Read(b) }

// buffered is the connection with what has been read of it.
func (c *conn) buffered() net.Conn { return &ahead{c.now, c.in} }

func (c *conn) firstByte() byte {
	b, err := c.in.Peek(1)
	if err != nil {
		return 0
	}
	return b[0]
}

func (c *conn) serve() {
	defer func() {
		c.net.Close()
		if c.s != nil {
			c.s.Close()
		}
		c.srv.mu.Lock()
		delete(c.srv.conns, c)
		c.srv.mu.Unlock()
	}()
	err := c.open()
	if err == nil {
		err = c.login()
	}
	if err == nil {
		c.packets, c.attention = make(chan packet, 16), make(chan bool, 1)
		go c.read()
		for err == nil {
			err = c.request()
		}
		c.net.Close()
		for range c.packets { // until the reader has ended
		}
	}
	if err != nil && !errors.Is(err, io.EOF) && c.srv.Log != nil {
		c.srv.Log.Print(err)
	}
}

// read reads packets ahead of what is done with them, so that a cancellation is heard.
func (c *conn) read() {
	defer close(c.packets)
	for {
		p, err := readPacket(c.in)
		if err != nil {
			c.broken = err
			c.s.Cancel()
			return
		}
		if p.kind == packAttention {
			c.s.Cancel()
		}
		c.packets <- p
	}
}

func (c *conn) nextPacket() (packet, error) {
	p, ok := <-c.packets
	if !ok {
		if c.broken != nil {
			return p, c.broken
		}
		return p, io.EOF
	}
	return p, nil
}

// request answers one.
func (c *conn) request() error {
	p, err := c.nextPacket()
	if err != nil {
		return err
	}
	if p.kind == packAttention {
		return c.reply.end(true)
	}
	m := &message{next: c.nextPacket, kind: p.kind, rest: p.data, last: p.status&statusEnd != 0}
	if p.status&statusReset != 0 {
		c.s.Reset()
		c.tran = 0
		c.reply.token(0xe3, []byte{18, 0, 0})
	}
	switch p.kind {
	case packBatch:
		err = c.batch(m)
	case packRPC:
		err = c.rpc(m)
	case packTran:
		err = c.manage(m)
	case packBulk:
		err = c.bulk(m)
	default:
		err = fmt.Errorf("a packet of type %d", p.kind)
	}
	if err2 := c.reply.end(false); err == nil { // what is wrong is told, where it can be
		err = err2
	}
	return err
}

// headers reads what stands before a request, and holds the transaction in it against the
// session's ([MS-TDS] 2.2.5.3).
func (c *conn) headers(m *message) (bool, error) {
	total, err := m.u32()
	if err != nil {
		return false, err
	}
	var tran uint64
	for read := 4; read < total; {
		n, err := m.u32()
		if err != nil {
			return false, err
		}
		if n < 6 || read+n > total {
			return false, fmt.Errorf("a header of %d bytes", n)
		}
		b, err := m.bytes(n - 4)
		if err != nil {
			return false, err
		}
		if b[0] == 2 && b[1] == 0 && len(b) >= 10 {
			for i := range 8 {
				tran |= uint64(b[2+i]) << (8 * i)
			}
		}
		read += n
	}
	if tran != c.tran {
		m.skip()
		c.reply.Message(&engine.Error{Number: 3989, Class: 16, Message: "New request is not allowed to start " +
			"because it " +
			"should come with valid transaction descriptor."})
		c.reply.Done(-1, true, engine.DoneStatement)
		return false, nil
	}
	return true, nil
}

func (c *conn) batch(m *message) error {
	ok, err := c.headers(m)
	if err != nil || !ok {
		return err
	}
	var all []byte
	for !m.done() {
		all = append(all, m.rest...)
		m.rest = m.rest[:0]
	}
	c.s.Batch(engine.DecodeUTF16(all), c.reply)
	return c.reply.w.err
}

// procedures by their numbers.
var procedures = map[int]string{10: "sp_executesql", 11: "sp_prepare", 12: "sp_execute", 13: "sp_prepexec",
	15: "sp_unprepare"}

func (c *conn) rpc(m *message) error {
	ok, err := c.headers(m)
	if err != nil || !ok {
		return err
	}
	for {
		name, params, more, err := c.call(m)
		if err != nil {
			return err
		}
		c.s.Procedure(name, params, c.reply)
		if !more {
			return c.reply.w.err
		}
	}
}

// call reads a procedure's name and parameters.
func (c *conn) call(m *message) (name string, params []*engine.Param, more bool, err error) {
	n, err := m.u16()
	if err != nil {
		return
	}
	if n == 0xffff {
		id, err := m.u16()
		if err != nil {
			return "", nil, false, err
		}
		if name = procedures[id]; name == "" {
			name = fmt.Sprintf("number %d", id)
		}
	} else {
		b, err := m.bytes(2 * n)
		if err != nil {
			return "", nil, false, err
		}
		name = engine.DecodeUTF16(b)
		for i := len(name) - 1; i >= 0; i-- {
			if name[i] == '.' {
				name = name[i+1:] // of the schema sys
				break
			}
		}
	}
	if _, err = m.u16(); err != nil {
		return
	}
	for !m.done() {
		if b := m.rest[0]; b == 0xff || b == 0x80 {
			m.u8()
			return name, params, true, nil
		}
		p, err := c.param(m)
		if err != nil {
			return name, nil, false, err
		}
		params = append(params, p)
	}
	return name, params, false, nil
}

func (c *conn) param(m *message) (*engine.Param, error) {
	n, err := m.u8()
	if err != nil {
		return nil, err
	}
	b, err := m.bytes(2 * int(n))
	if err != nil {
		return nil, err
	}
	p := &engine.Param{Name: strings.ToLower(engine.DecodeUTF16(b))}
	status, err := m.u8()
	if err != nil {
		return nil, err
	}
	p.Output = status&1 != 0
	t, err := m.readType()
	if err != nil {
		return nil, err
	}
	if p.Type = t.Type; longKinds[t.code] != 0 {
		// A parameter of these has its length alone before it.
		n, err := m.u32()
		if err != nil || n == nothing32 {
			p.Value = engine.Value{Null: true}
			return p, err
		}
		b, err := m.bytes(n)
		p.Value = engine.Value{S: unraw(t, b)}
		return p, err
	}
	p.Value, err = m.readValue(t)
	return p, err
}

// manage is a request of the transaction manager.
func (c *conn) manage(m *message) error {
	ok, err := c.headers(m)
	if err != nil || !ok {
		return err
	}
	kind, err := m.u16()
	if err != nil {
		return err
	}
	level := byte(0)
	if kind == 5 {
		if level, err = m.u8(); err != nil {
			return err
		}
	}
	name := ""
	if !m.done() {
		n, err := m.u8()
		if err != nil {
			return err
		}
		b, err := m.bytes(int(n))
		if err != nil {
			return err
		}
		name = engine.DecodeUTF16(b)
	}
	verbs := map[int]string{5: "BEGIN", 7: "COMMIT", 8: "ROLLBACK", 9: "SAVE"}
	verb := verbs[kind]
	if verb == "" {
		return fmt.Errorf("a request %d of the transaction manager", kind)
	}
	m.skip()
	c.s.Tran(verb, name, isolation(level), c.reply)
	return c.reply.w.err
}

// bulk reads rows behind INSERT BULK ([MS-TDS] 2.2.6.1).
func (c *conn) bulk(m *message) error {
	code, err := m.u8()
	if err != nil || code != 0x81 {
		return fmt.Errorf("rows in bulk that begin with the token %#x (%v)", code, err)
	}
	n, err := m.u16()
	if err != nil {
		return err
	}
	types, cols := make([]wire, n), make([]engine.Out, n)
	for i := range cols {
		if _, err = m.bytes(6); err != nil { // the user's type, and flags
			return err
		}
		if types[i], err = m.readType(); err != nil {
			return err
		}
		if longKinds[types[i].code] != 0 {
			k, err := m.u16()
			if err == nil {
				_, err = m.bytes(2 * k)
			}
			if err != nil {
				return err
			}
		}
		k, err := m.u8()
		if err != nil {
			return err
		}
		b, err := m.bytes(2 * int(k))
		if err != nil {
			return err
		}
		cols[i] = engine.Out{Name: engine.DecodeUTF16(b), Type: types[i].Type}
	}
	return c.s.Bulk(cols, func() ([]engine.Value, error) { return c.bulkRow(m, types) }, c.reply)
}

// bulkRow reads one row; nil at the end.
func (c *conn) bulkRow(m *message, types []wire) ([]engine.Value, error) {
	if m.done() {
		return nil, c.broken
	}
	code, err := m.u8()
	if err != nil {
		return nil, err
	}
	switch code {
	case 0xfd:
		m.skip()
		return nil, nil
	case 0xd1, 0xd2:
	default:
		return nil, fmt.Errorf("a token %#x among rows in bulk", code)
	}
	var nulls []byte
	if code == 0xd2 {
		b, err := m.bytes((len(types) + 7) / 8)
		if err != nil {
			return nil, err
		}
		nulls = append(nulls, b...)
	}
	row := make([]engine.Value, len(types))
	for i := range types {
		if nulls != nil && nulls[i/8]&(1<<(i%8)) != 0 {
			row[i].Null = true
			continue
		}
		if row[i], err = m.readValue(types[i]); err != nil {
			return nil, fmt.Errorf("column %d of a row in bulk: %w", i+1, err)
		}
	}
	return row, nil
}
