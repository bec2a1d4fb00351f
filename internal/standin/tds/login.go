package tds

import (
	"bytes"
	"crypto/tls"
	"encoding/binary"
	"fmt"
	"io"

	"ambertray/internal/standin/engine"
)

// How a connection is encrypted ([MS-TDS] 2.2.6.5, ENCRYPTION).
const (
	encryptOff = 0
	encryptOn  = 1
	encryptNot = 2
	encryptReq = 3
)

// options of the packet that opens a connection.
const (
	optVersion    = 0
	optEncryption = 1
	optInstance   = 2
	optThread     = 3
	optMARS       = 4
	optEnd        = 0xff
)

// readPrelogin reads which options a client has.
func readPrelogin(b []byte) (map[byte][]byte, error) {
	out := map[byte][]byte{}
	for i := 0; i < len(b) && b[i] != optEnd; i += 5 {
		if i+5 > len(b) {
			return nil, fmt.Errorf("a list of options that is cut off")
		}
		at, n := int(binary.BigEndian.Uint16(b[i+1:])), int(binary.BigEndian.Uint16(b[i+3:]))
		if at+n > len(b) {
			return nil, fmt.Errorf("an option that is cut off")
		}
		out[b[i]] = b[at : at+n]
	}
	return out, nil
}

func prelogin(version string, encryption byte) []byte {
	var a, b, c int
	fmt.Sscanf(version, "%d.%d.%d", &a, &b, &c)
	values := []struct {
		opt  byte
		data []byte
	}{
		{optVersion, []byte{byte(a), byte(b), byte(c >> 8), byte(c), 0, 0}},
		{optEncryption, []byte{encryption}}, {optInstance, []byte{0}}, {optThread, nil}, {optMARS, []byte{0}},
	}
	at := 5*len(values) + 1
	var head, body []byte
	for _, v := range values {
		head = append(head, v.opt)
		head = binary.BigEndian.AppendUint16(head, uint16(at))
		head = binary.BigEndian.AppendUint16(head, uint16(len(v.data)))
		body = append(body, v.data...)
		at += len(v.data)
	}
	return append(append(head, optEnd), body...)
}

// open goes through what comes before the login: who encrypts what.
func (c *conn) open() error {
	strict := c.srv.TLS != nil && c.firstByte() == 0x16 // TLS before all else, as in version 8.0
	if strict {
		settings := c.srv.TLS.Clone()
		settings.NextProtos = []string{"tds/8.0"}
		t := tls.Server(c.buffered(), settings)
		if err := t.Handshake(); err != nil {
			return err
		}
		c.use(t)
	}
	p, err := readPacket(c.in)
	if err != nil {
		return err
	}
	if p.kind != packPrelogin {
		return fmt.Errorf("a packet of type %d before the login", p.kind)
	}
	opts, err := readPrelogin(p.data)
	if err != nil {
		return err
	}
	asked := byte(encryptNot)
	if e := opts[optEncryption]; len(e) == 1 {
		asked = e[0] & 0xf
	}
	answer := asked
	switch {
	case strict || c.srv.TLS == nil:
		answer = encryptNot
	case c.srv.Force && asked != encryptOn && asked != encryptReq:
		answer = encryptReq
	case asked == encryptReq:
		answer = encryptOn
	}
	w := &writer{to: c.out, size: 4096}
	w.write(prelogin(c.srv.Engine.Version, answer))
	if err := w.end(); err != nil {
		return err
	}
	if answer == encryptNot {
		return nil
	}
	if asked == encryptNot {
		return fmt.Errorf("the client does not encrypt, and has to")
	}
	settings := c.srv.TLS.Clone()
	settings.MaxVersion, settings.SessionTicketsDisabled = tls.VersionTLS12, true
	plain := c.buffered()
	t, err := secure(plain, settings)
	if err != nil {
		return err
	}
	c.use(t)
	if answer == encryptOff {
		c.afterLogin = func() { c.use(plain) } // only the password was worth it
	}
	return nil
}

// A login is what a client says of itself ([MS-TDS] 2.2.6.4).
type login struct {
	host, user, password, app, database string
	version                             uint32
	size                                int
	sspi                                bool
	utf8                                bool // it takes text of UTF-8 collations as it is
}

func readLogin(b []byte) (l login, err error) {
	if len(b) < 94 {
		return l, fmt.Errorf("a login of %d bytes", len(b))
	}
	l.version = binary.LittleEndian.Uint32(b[4:])
	l.size = int(binary.LittleEndian.Uint32(b[8:]))
	field := func(at int) []byte {
		off, n := int(binary.LittleEndian.Uint16(b[at:])), 2*int(binary.LittleEndian.Uint16(b[at+2:]))
		if off+n > len(b) {
			err = fmt.Errorf("a login that is cut off")
			return nil
		}
		return b[off : off+n]
	}
	str := func(at int) string { return engine.DecodeUTF16(field(at)) }
	l.host, l.user, l.app, l.database = str(36), str(40), str(48), str(68)
	l.sspi = b[25]&0x80 != 0
	hidden := bytes.Clone(field(44))
	for i, c := range hidden {
		c ^= 0xa5
		hidden[i] = c<<4 | c>>4
	}
	l.password = engine.DecodeUTF16(hidden)
	if b[27]&0x10 != 0 { // features follow, at the place that the field for extensions points to
		l.utf8 = hasFeature(b, 0x0a)
	}
	return l, err
}

// hasFeature looks for one in the list of what a client can do ([MS-TDS] 2.2.6.4,
// FeatureExt).
func hasFeature(b []byte, id byte) bool {
	at := int(binary.LittleEndian.Uint16(b[56:]))
	if at+4 > len(b) {
		return false
	}
	for i := int(binary.LittleEndian.Uint32(b[at:])); i >= 0 && i+5 <= len(b) && b[i] != 0xff; {
		if b[i] == id {
			return true
		}
		i += 5 + int(binary.LittleEndian.Uint32(b[i+1:]))
	}
	return false
}

// The versions of the protocol, as a login names them.
const (
	version72 = 0x72090002
	version74 = 0x74000004
)

// login lets a client in, or tells it why not.
func (c *conn) login() error {
	m := &message{next: c.nextPacket}
	p, err := readPacket(c.in)
	if err != nil {
		return err
	}
	if p.kind != packLogin {
		return fmt.Errorf("a packet of type %d instead of a login", p.kind)
	}
	m.kind, m.rest, m.last = p.kind, p.data, p.status&statusEnd != 0
	for !m.last {
		q, err := readPacket(c.in)
		if err != nil {
			return err
		}
		m.rest, m.last = append(m.rest, q.data...), q.status&statusEnd != 0
	}
	l, err := readLogin(m.rest)
	if err != nil {
		return err
	}
	if c.afterLogin != nil {
		c.afterLogin()
	}
	c.w = &writer{to: c.out, size: 4096}
	c.reply = &reply{c: c, w: c.w}
	refuse := func(e *engine.Error) error {
		c.reply.Message(e)
		c.reply.Done(-1, true, engine.DoneStatement)
		c.reply.end(false)
		return io.EOF // which is nothing to complain of
	}
	if l.version < version72 {
		return refuse(&engine.Error{Number: 17892, Class: 20, Message: "The stand-in speaks TDS 7.2 to 7.4."})
	}
	if l.sspi {
		return refuse(&engine.Error{Number: 18452, Class: 14, Message: "Login failed. The stand-in knows no Windows " +
			"sign-on."})
	}
	s, e := c.srv.Engine.Connect(l.user, l.password, l.database, l.host, l.app)
	if e != nil {
		return refuse(e.(*engine.Error))
	}
	c.s = s
	c.w.spid = s.ID
	c.greet(l)
	return c.reply.end(false)
}

// greet says what a session begins with.
func (c *conn) greet(l login) {
	r := c.reply
	c.utf8 = l.utf8
	if l.size >= 512 && l.size <= 32767 {
		c.size = l.size
	}
	r.Changed(engine.ChangedDatabase, c.s.Database(), "master")
	r.Message(&engine.Error{Number: 5701, State: 2, Message: "Changed database context to '" + c.s.Database() + "'."})
	w := c.s.Collation().Wire()
	r.token(0xe3, append([]byte{7, 5}, append(w[:], 0)...))
	r.token(0xe3, shortText(shortText([]byte{2}, "us_english"), ""))
	r.Message(&engine.Error{Number: 5703, State: 1, Message: "Changed language setting to us_english."})
	v := uint32(min(l.version, version74))
	ack := []byte{1, byte(v >> 24), byte(v >> 16), byte(v >> 8), byte(v)}
	ack = shortText(ack, "Microsoft SQL Server")
	var a, b, n int
	fmt.Sscanf(c.srv.Engine.Version, "%d.%d.%d", &a, &b, &n)
	r.token(0xad, append(ack, byte(a), byte(b), byte(n>>8), byte(n)))
	r.token(0xe3, shortText(shortText([]byte{4}, fmt.Sprint(c.size)), "4096"))
	if l.utf8 {
		r.before()
		r.w.write([]byte{0xae, 0x0a, 1, 0, 0, 0, 1, 0xff})
	}
	r.Done(-1, false, engine.DoneStatement)
	r.grow = true
}

// isolation is a level by its number in a request.
func isolation(n byte) string {
	return [...]string{"", "READ UNCOMMITTED", "READ COMMITTED", "REPEATABLE READ", "SERIALIZABLE",
		"SNAPSHOT"}[min(n, 5)]
}
