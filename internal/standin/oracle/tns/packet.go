// Package tns speaks Oracle's protocol as a server: packets (Oracle Net), and in them the
// calls that clients make (connect, negotiation, login, execute with arrays of binds, fetch,
// large objects, commit, rollback, cancel), as far as two clients need them: go-ora, which
// the program uses, and oracledb for JavaScript, its thin mode. There is no public
// specification of it; it follows what those two open clients send and read. What it does not
// know it refuses.
//
// The model: a [Server] accepts connections. Of each, one goroutine reads packets, so that a
// client can interrupt a call, and another answers calls over a session of package engine.
package tns

import (
	"encoding/binary"
	"errors"
	"io"
	"net"
	"sync"
)

// The kinds of packets.
const (
	packetConnect = 1
	packetAccept  = 2
	packetRefuse  = 4
	packetData    = 6
	packetMarker  = 12
)

// The markers.
const (
	markBreak     = 1
	markReset     = 2
	markInterrupt = 3
)

const (
	header     = 8
	dataHeader = 10
	// accepted is the version of Oracle Net that is spoken: packets have lengths of four bytes
	// once a connection is accepted.
	accepted = 317
	// endOfFile in a data packet's flags tells that the client goes.
	endOfFile = 0x40
)

var errEnd = errors.New("the client has gone")

// A line is the packets of one connection.
type line struct {
	c      net.Conn
	wide   bool // lengths have four bytes
	unit   int  // the largest packet
	data   chan []byte
	resets chan struct{}
	// interrupted is called when the client interrupts a call.
	mu          sync.Mutex
	interrupted func()
	err         error
	out         []byte // of the answer that is being written
	in          []byte // of the call that is being read
}

// readPacket reads one.
func (l *line) readPacket() (kind byte, body []byte, err error) {
	var h [header]byte
	if _, err := io.ReadFull(l.c, h[:]); err != nil {
		return 0, nil, err
	}
	n := int(binary.BigEndian.Uint16(h[:]))
	if l.wide {
		n = int(binary.BigEndian.Uint32(h[:]))
	}
	if n < header || n > 1<<22 {
		return 0, nil, errors.New("a packet of a wrong length")
	}
	body = make([]byte, n-header)
	_, err = io.ReadFull(l.c, body)
	return h[4], body, err
}

// writePacket writes one.
func (l *line) writePacket(kind byte, body []byte) error {
	p := make([]byte, header, header+len(body))
	if l.wide {
		binary.BigEndian.PutUint32(p, uint32(header+len(body)))
	} else {
		binary.BigEndian.PutUint16(p, uint16(header+len(body)))
	}
	p[4] = kind
	_, err := l.c.Write(append(p, body...))
	return err
}

// receive reads packets until the connection ends.
func (l *line) receive() {
	defer close(l.data)
	for {
		kind, body, err := l.readPacket()
		if err != nil {
			l.err = err
			l.interrupt()
			return
		}
		switch kind {
		case packetData:
			if len(body) < 2 || body[1]&endOfFile != 0 {
				l.err = errEnd
				l.interrupt()
				return
			}
			l.data <- body[2:]
		case packetMarker:
			if len(body) == 3 && body[2] == markReset {
				select {
				case l.resets <- struct{}{}:
				default:
				}
				continue
			}
			l.interrupt()
		default:
			l.err = errors.New("a packet of a kind that is not known here")
			return
		}
	}
}

func (l *line) interrupt() {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.interrupted != nil {
		l.interrupted()
	}
}

// during has f called if the client interrupts what runs now.
func (l *line) during(f func()) {
	l.mu.Lock()
	l.interrupted = f
	l.mu.Unlock()
}

// more waits for the next data packet.
func (l *line) more() error {
	b, is := <-l.data
	if !is {
		if l.err == nil {
			return io.EOF
		}
		return l.err
	}
	l.in = append(l.in, b...)
	return nil
}

// flush sends what has been written, in as many packets as it takes.
func (l *line) flush() error {
	room := l.unit - dataHeader
	for {
		n := min(room, len(l.out))
		if err := l.writePacket(packetData, append([]byte{0, 0}, l.out[:n]...)); err != nil {
			return err
		}
		if l.out = l.out[n:]; len(l.out) == 0 {
			l.out = nil
			return nil
		}
	}
}

// broken goes through the exchange that follows an interrupt: each side resets the line.
func (l *line) broken() error {
	if err := l.writePacket(packetMarker, []byte{1, 0, markBreak}); err != nil {
		return err
	}
	for {
		select {
		case <-l.resets:
			l.in = nil
			return l.writePacket(packetMarker, []byte{1, 0, markReset})
		case _, is := <-l.data: // what was under way is void
			if !is {
				return errEnd
			}
		}
	}
}
