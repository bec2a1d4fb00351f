// Package tds is the server's side of the Tabular Data Stream protocol, version 7.2 to 7.4
// and 8.0 ([MS-TDS]): packets, login, tokens, values on the wire, procedure calls, rows in
// bulk. What it gets, an engine executes.
package tds

import (
	"bufio"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
)

// The types of packets ([MS-TDS] 2.2.3.1.1).
const (
	packBatch     = 1
	packRPC       = 3
	packReply     = 4
	packAttention = 6
	packBulk      = 7
	packTran      = 14
	packLogin     = 16
	packPrelogin  = 18
)

const (
	statusEnd   = 1
	statusReset = 8
	header      = 8
)

// A packet is one that came.
type packet struct {
	kind, status byte
	data         []byte
}

// readPacket reads one packet.
func readPacket(r io.Reader) (p packet, err error) {
	var h [header]byte
	if _, err = io.ReadFull(r, h[:]); err != nil {
		return p, err
	}
	n := int(binary.BigEndian.Uint16(h[2:]))
	if n < header || n > 1<<15 {
		return p, fmt.Errorf("a packet of %d bytes", n)
	}
	p = packet{h[0], h[1], make([]byte, n-header)}
	_, err = io.ReadFull(r, p.data)
	return p, err
}

// A message is read from its packets as they come.
type message struct {
	next func() (packet, error)
	kind byte
	rest []byte
	last bool
}

var errShort = errors.New("the message ends within a value")

// more gets the next packet of the message.
func (m *message) more() error {
	if m.last {
		return errShort
	}
	p, err := m.next()
	if err != nil {
		return err
	}
	if p.kind != m.kind {
		return fmt.Errorf("a packet of type %d within a message of type %d", p.kind, m.kind)
	}
	m.rest = append(m.rest, p.data...)
	m.last = p.status&statusEnd != 0
	return nil
}

// bytes takes n bytes, which are valid until the next.
func (m *message) bytes(n int) ([]byte, error) {
	for len(m.rest) < n {
		if err := m.more(); err != nil {
			return nil, err
		}
	}
	b := m.rest[:n]
	m.rest = m.rest[n:]
	return b, nil
}

// done reports whether nothing is left.
func (m *message) done() bool {
	for len(m.rest) == 0 && !m.last {
		if m.more() != nil {
			return true
		}
	}
	return len(m.rest) == 0
}

// skip reads what is left of the message.
func (m *message) skip() {
	for !m.last {
		if m.more() != nil {
			return
		}
		m.rest = m.rest[:0]
	}
	m.rest = nil
}

func (m *message) u8() (byte, error) {
	b, err := m.bytes(1)
	if err != nil {
		return 0, err
	}
	return b[0], nil
}

func (m *message) u16() (int, error) {
	b, err := m.bytes(2)
	if err != nil {
		return 0, err
	}
	return int(binary.LittleEndian.Uint16(b)), nil
}

func (m *message) u32() (int, error) {
	b, err := m.bytes(4)
	if err != nil {
		return 0, err
	}
	return int(binary.LittleEndian.Uint32(b)), nil
}

func (m *message) u64() (uint64, error) {
	b, err := m.bytes(8)
	if err != nil {
		return 0, err
	}
	return binary.LittleEndian.Uint64(b), nil
}

// A writer cuts a message into packets.
type writer struct {
	to   *bufio.Writer
	buf  []byte
	size int
	id   byte
	spid int
	err  error
}

// flush sends what there is as a packet; end tells that it is the last.
func (w *writer) packet(end bool) {
	var h [header]byte
	h[0] = packReply
	if end {
		h[1] = statusEnd
	}
	binary.BigEndian.PutUint16(h[2:], uint16(header+len(w.buf)))
	binary.BigEndian.PutUint16(h[4:], uint16(w.spid))
	w.id++
	h[6] = w.id
	if w.err == nil {
		_, w.err = w.to.Write(h[:])
	}
	if w.err == nil {
		_, w.err = w.to.Write(w.buf)
	}
	w.buf = w.buf[:0]
}

func (w *writer) write(b []byte) {
	for len(b) > 0 {
		n := min(len(b), w.size-header-len(w.buf))
		w.buf = append(w.buf, b[:n]...)
		if b = b[n:]; len(w.buf) == w.size-header {
			w.packet(false)
		}
	}
}

// end sends the last packet of the message.
func (w *writer) end() error {
	w.packet(true)
	if w.err == nil {
		w.err = w.to.Flush()
	}
	return w.err
}

// wrapped carries the handshake of TLS in packets of the kind that opens a connection,
// and whatever comes after it as it is ([MS-TDS] 2.2.6.5).
type wrapped struct {
	net.Conn
	rest  []byte
	plain bool
}

func (c *wrapped) Read(b []byte) (int, error) {
	if len(c.rest) == 0 {
		if c.plain {
			return c.Conn.Read(b)
		}
		p, err := readPacket(c.Conn)
		if err != nil {
			return 0, err
		}
		c.rest = p.data
	}
	n := copy(b, c.rest)
	c.rest = c.rest[n:]
	return n, nil
}

func (c *wrapped) Write(b []byte) (int, error) {
	if c.plain {
		return c.Conn.Write(b)
	}
	h := []byte{packPrelogin, statusEnd, 0, 0, 0, 0, 0, 0}
	binary.BigEndian.PutUint16(h[2:], uint16(header+len(b)))
	if _, err := c.Conn.Write(append(h, b...)); err != nil {
		return 0, err
	}
	return len(b), nil
}

// secure makes a connection encrypted, with the handshake in packets.
func secure(c net.Conn, settings *tls.Config) (*tls.Conn, error) {
	w := &wrapped{Conn: c}
	t := tls.Server(w, settings)
	if err := t.Handshake(); err != nil {
		return nil, err
	}
	w.plain = true
	return t, nil
}
