package sqlserver

import (
	"context"
	"crypto/tls"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"strconv"
	"sync"

	"ambertray/internal/db"
)

// A wire is the connection beneath the driver. It sees the packets of the protocol before
// they are encrypted, so that rows can be sent as they were made, without a pass through
// the driver for each value (see bulk.go). For that, it does the encryption itself: in the
// packet that opens a connection, the client says how it encrypts ([MS-TDS] 2.2.6.5); what
// the driver says there is changed to what is wanted, and the server's answer to none, when
// the handshake is done.
type wire struct {
	net.Conn // to the server; encrypted, once the handshake is done
	settings *tls.Config
	how      encryption
	state    tls.ConnectionState
	secure   bool

	mu      sync.Mutex
	opened  bool   // the first answer has come
	answer  []byte // of which the driver has not read all yet
	login   []byte // what came until the login was answered
	size    int    // of packets, as agreed on at the login
	loginIn bool
}

// encryption is how much of a connection is encrypted.
type encryption int

const (
	never    encryption = iota // the URL says so
	offered                    // where the server has it
	required                   // always
	strict                     // before the first packet (TDS 8.0)
)

// The types of packets, and where their fields are ([MS-TDS] 2.2.3.1).
const (
	packReply    = 4
	packBulk     = 7
	packPrelogin = 18
	headerSize   = 8
	statusEnd    = 1
	packetSize   = 4096 // until the login has agreed on another
)

// How the client encrypts, in the packet that opens the connection.
const (
	optEncryption = 1
	optEnd        = 0xff
	encryptOn     = 1
	encryptNot    = 2
	encryptReq    = 3
)

// A dialer makes wires, and remembers the last.
type dialer struct {
	net.Dialer
	settings *tls.Config
	how      encryption
	host     string
	last     *wire
}

// HostName makes the driver leave the looking up of names to the dialer.
func (d *dialer) HostName() string { return d.host }

// DialContext implements the driver's Dialer.
func (d *dialer) DialContext(ctx context.Context, network, addr string) (net.Conn, error) {
	c, err := d.Dialer.DialContext(ctx, network, addr)
	if err != nil {
		return nil, err
	}
	w := &wire{Conn: c, settings: d.settings, how: d.how, size: packetSize}
	if d.how == strict {
		s := d.settings.Clone()
		s.NextProtos = []string{"tds/8.0"}
		if err := w.encrypt(ctx, tls.Client(c, s)); err != nil {
			c.Close()
			return nil, err
		}
	}
	d.last = w
	return w, nil
}

func (w *wire) encrypt(ctx context.Context, t *tls.Conn) error {
	if err := t.HandshakeContext(ctx); err != nil {
		return fmt.Errorf("TLS: %w", err)
	}
	w.Conn, w.state, w.secure = t, t.ConnectionState(), true
	return nil
}

// encryptionAt is where an opening packet says how a side encrypts; -1: nowhere.
func encryptionAt(p []byte) int {
	for i := headerSize; i+5 <= len(p) && p[i] != optEnd; i += 5 {
		at := headerSize + int(binary.BigEndian.Uint16(p[i+1:]))
		if p[i] == optEncryption && at < len(p) {
			return at
		}
	}
	return -1
}

// Write implements net.Conn.
func (w *wire) Write(b []byte) (int, error) {
	w.mu.Lock()
	first := !w.opened
	w.mu.Unlock()
	if first && len(b) > headerSize && b[0] == packPrelogin && (w.how == offered || w.how == required) {
		if at := encryptionAt(b); at > 0 {
			b = append([]byte(nil), b...)
			b[at] = encryptOn
		}
	}
	return w.Conn.Write(b)
}

// Read implements net.Conn.
func (w *wire) Read(b []byte) (int, error) {
	w.mu.Lock()
	if !w.opened {
		if err := w.open(); err != nil {
			w.mu.Unlock()
			return 0, err
		}
	}
	if len(w.answer) > 0 {
		n := copy(b, w.answer)
		w.answer = w.answer[n:]
		w.mu.Unlock()
		return n, nil
	}
	w.mu.Unlock()
	n, err := w.Conn.Read(b)
	if !w.loginIn && n > 0 {
		w.watch(b[:n])
	}
	return n, err
}

// open reads the server's first answer, and encrypts as it says.
func (w *wire) open() error {
	p, err := readPacket(w.Conn)
	if err != nil {
		return err
	}
	w.opened = true
	at := encryptionAt(p)
	if at < 0 || w.how == never || w.secure {
		if w.secure && at > 0 {
			p[at] = encryptNot // it is, already
		}
		if at > 0 && p[at] == encryptReq {
			return fmt.Errorf("TLS: the server wants an encrypted connection, and the URL has encrypt=disable")
		}
		w.answer = p
		return nil
	}
	switch p[at] {
	case encryptOn, encryptReq:
		if err := w.handshake(); err != nil {
			return err
		}
	default:
		if w.how == required {
			return fmt.Errorf("TLS: the server does not encrypt; ask for a certificate there, or say " +
				"encrypt=optional on a " +
				"network that is yours alone")
		}
	}
	p[at] = encryptNot
	w.answer = p
	return nil
}

// handshake encrypts the connection; its first packets are wrapped.
func (w *wire) handshake() error {
	h := &wrapped{Conn: w.Conn}
	if err := w.encrypt(context.Background(), tls.Client(h, w.settings)); err != nil {
		return err
	}
	h.plain = true
	return nil
}

// readPacket reads one packet, with its header.
func readPacket(r io.Reader) ([]byte, error) {
	p := make([]byte, headerSize)
	if _, err := io.ReadFull(r, p); err != nil {
		return nil, err
	}
	n := int(binary.BigEndian.Uint16(p[2:]))
	if n < headerSize {
		return nil, fmt.Errorf("a packet of %d bytes", n)
	}
	p = append(p, make([]byte, n-headerSize)...)
	_, err := io.ReadFull(r, p[headerSize:])
	return p, err
}

// wrapped carries a handshake in packets, and after it everything as it is.
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
		c.rest = p[headerSize:]
	}
	n := copy(b, c.rest)
	c.rest = c.rest[n:]
	return n, nil
}

func (c *wrapped) Write(b []byte) (int, error) {
	if c.plain {
		return c.Conn.Write(b)
	}
	for rest := b; len(rest) > 0; {
		n := min(len(rest), packetSize-headerSize)
		p := appendHeader(nil, packPrelogin, n, n == len(rest), 1)
		if _, err := c.Conn.Write(append(p, rest[:n]...)); err != nil {
			return 0, err
		}
		rest = rest[n:]
	}
	return len(b), nil
}

func appendHeader(b []byte, kind byte, n int, last bool, id byte) []byte {
	status := byte(0)
	if last {
		status = statusEnd
	}
	b = append(b, kind, status)
	b = binary.BigEndian.AppendUint16(b, uint16(n+headerSize))
	return append(b, 0, 0, id, 0)
}

// watch looks in what comes until the login is answered for the size of packets that the
// server agrees to.
func (w *wire) watch(b []byte) {
	w.login = append(w.login, b...)
	var text []byte
	for rest := w.login; len(rest) >= headerSize; {
		n := int(binary.BigEndian.Uint16(rest[2:]))
		if n < headerSize || len(rest) < n {
			return // more is to come
		}
		text = append(text, rest[headerSize:n]...)
		if rest[0] == packReply && rest[1]&statusEnd != 0 {
			if size, done := agreed(text); done {
				w.loginIn, w.login = true, nil
				if size >= 512 {
					w.size = size
				}
			}
			text = nil
		}
		rest = rest[n:]
	}
}

// The tokens of a reply ([MS-TDS] 2.2.7).
const (
	tokenReturn   = 0x79
	tokenColumns  = 0x81
	tokenError    = 0xaa
	tokenInfo     = 0xab
	tokenLoginAck = 0xad
	tokenRow      = 0xd1
	tokenChange   = 0xe3
	tokenSSPI     = 0xed
	tokenDone     = 0xfd
	tokenDoneProc = 0xfe
	tokenDoneIn   = 0xff
)

// agreed finds the size of packets in the answer to a login; done tells that the login is
// over.
func agreed(b []byte) (size int, done bool) {
	for len(b) > 2 {
		switch b[0] {
		case tokenChange, tokenInfo, tokenError, tokenLoginAck, tokenSSPI:
			n := 3 + int(binary.LittleEndian.Uint16(b[1:]))
			if len(b) < n {
				return size, true
			}
			done = done || b[0] == tokenLoginAck
			if b[0] == tokenChange && n > 5 && b[3] == 4 && 5+2*int(b[4]) <= n {
				var digits []byte
				for i := range int(b[4]) {
					digits = append(digits, b[5+2*i])
				}
				size, _ = strconv.Atoi(string(digits))
			}
			b = b[n:]
		default:
			return size, done
		}
	}
	return size, done
}

// protection is what [db.Guarded] tells.
func (w *wire) protection(local bool) db.Protection {
	if !w.secure {
		return db.Protection{Local: local}
	}
	p := db.ProtectionOf(w.settings, local)
	p.TLS = tls.VersionName(w.state.Version)
	return p
}
