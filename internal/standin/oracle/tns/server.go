package tns

import (
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"log"
	"net"
	"strings"
	"sync"

	"ambertray/internal/standin/oracle/engine"
)

// A Server answers clients.
type Server struct {
	Engine *engine.Server
	Log    *log.Logger
	// TLS, if not nil, is what every connection is protected with (protocol tcps).
	TLS   *tls.Config
	mu    sync.Mutex
	conns map[net.Conn]bool
	ended bool
}

// Serve accepts connections until the listener is closed.
func (s *Server) Serve(l net.Listener) {
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		if s.TLS != nil {
			c = tls.Server(c, s.TLS)
		}
		s.mu.Lock()
		if s.conns == nil {
			s.conns = map[net.Conn]bool{}
		}
		s.conns[c] = true
		ended := s.ended
		s.mu.Unlock()
		if ended {
			c.Close()
			return
		}
		go s.serve(c)
	}
}

// Close ends all connections.
func (s *Server) Close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.ended = true
	for c := range s.conns {
		c.Close()
	}
}

// A conn is one connection.
type conn struct {
	srv            *Server
	line           *line
	login          credentials
	session        *engine.Session
	scaleIsByte    bool
	cursors        map[int64]*cursor
	lastCursor     int64
	lobs           map[uint64]string
	lastLob        uint64
	refused        []engine.Refused
	wasInterrupted bool
}

func (s *Server) serve(c net.Conn) {
	k := &conn{srv: s, cursors: map[int64]*cursor{}, lobs: map[uint64]string{},
		line: &line{c: c, data: make(chan []byte, 64), resets: make(chan struct{}, 1)}}
	defer func() {
		c.Close()
		for range k.line.data { // so that the reader ends
		}
		if k.session != nil {
			k.session.Close()
		}
		s.mu.Lock()
		delete(s.conns, c)
		s.mu.Unlock()
	}()
	if err := k.accept(); err != nil {
		close(k.line.data)
		if !errors.Is(err, errEnd) && s.Log != nil && !errors.Is(err, net.ErrClosed) {
			s.Log.Printf("connect: %v", err)
		}
		return
	}
	go k.line.receive()
	err := k.calls()
	var w wrong
	if errors.As(err, &w) && s.Log != nil {
		s.Log.Print(err)
	}
}

// accept answers the packet that asks for a connection.
func (k *conn) accept() error {
	l := k.line
	kind, body, err := l.readPacket()
	if err != nil {
		return errEnd
	}
	if kind != packetConnect || len(body) < 26 {
		return wrong("a packet that asks for no connection")
	}
	// Places are counted from the packet's beginning.
	at := func(i int) uint16 { return binary.BigEndian.Uint16(body[i-header:]) }
	version, size, from := at(8), int(at(24)), int(at(26))
	if version < 315 {
		return k.refuse(12618)
	}
	var text []byte
	if from-header+size <= len(body) {
		text = body[from-header : from-header+size]
	} else { // it comes in a packet of its own
		kind, more, err := l.readPacket()
		if err != nil || kind != packetData || len(more) < 2 {
			return errEnd
		}
		text = more[2:]
	}
	if !serves(string(text)) {
		return k.refuse(12514)
	}
	l.unit = 8192
	if len(body) >= 62-header {
		l.unit = int(min(max(binary.BigEndian.Uint32(body[58-header:]), 512), 65535))
	}
	b := make([]byte, 45-header)
	put := func(i int, v uint16) { binary.BigEndian.PutUint16(b[i-header:], v) }
	put(8, accepted)
	put(12, uint16(l.unit))
	put(14, uint16(l.unit))
	put(16, 1)
	put(20, 45)
	b[22-header], b[23-header] = 4, 8 // no native services
	binary.BigEndian.PutUint32(b[32-header:], uint32(l.unit))
	binary.BigEndian.PutUint32(b[36-header:], uint32(l.unit))
	if err := l.writePacket(packetAccept, b); err != nil {
		return err
	}
	l.wide = true
	return nil
}

// serves reports whether a client asks for the service that there is.
func serves(text string) bool {
	text = strings.ToUpper(strings.ReplaceAll(text, " ", ""))
	_, rest, is := strings.Cut(text, "(SERVICE_NAME=")
	name, _, _ := strings.Cut(rest, ")")
	return is && name == engine.Service
}

func (k *conn) refuse(code int) error {
	text := fmt.Sprintf("(DESCRIPTION=(TMP=)(VSNNUM=318767104)(ERR=%d)(ERROR_STACK=(ERROR=(CODE=%d)(EMFI=4))))",
		code, code)
	b := append([]byte{0, 0, byte(len(text) >> 8), byte(len(text))}, text...)
	if err := k.line.writePacket(packetRefuse, b); err != nil {
		return err
	}
	return errEnd
}

// calls answers one call after the other.
func (k *conn) calls() (err error) {
	defer func() {
		if e := recover(); e != nil {
			switch e := e.(type) {
			case lost:
				err = e.err
			case wrong:
				err = e
			default:
				panic(e)
			}
		}
	}()
	for {
		goes, err := k.message()
		if err != nil {
			return err
		}
		if k.wasInterrupted {
			k.wasInterrupted = false
			if err := k.line.broken(); err != nil {
				return err
			}
		}
		if len(k.line.out) > 0 {
			if err := k.line.flush(); err != nil {
				return err
			}
		}
		if !goes {
			return nil
		}
	}
}

// message answers one.
func (k *conn) message() (goes bool, err error) {
	l := k.line
	switch kind := l.byte(); kind {
	case sayProtocol:
		k.protocol()
	case sayTypes:
		l.need(1)
		k.types()
	case sayBefore:
		return true, k.before()
	case sayCall:
		return k.call()
	default:
		return false, wrong(fmt.Sprintf("a message of kind %d", kind))
	}
	return true, nil
}

// before reads what a client has done before the next call, which has no answer.
func (k *conn) before() error {
	l := k.line
	what := l.byte()
	l.byte()
	switch what {
	case callClose, callCancel:
		l.byte()
		for range l.int() {
			id := l.int()
			if c := k.cursors[id]; c != nil && what == callClose {
				delete(k.cursors, id)
			} else if c != nil {
				c.open = false
			}
		}
	case callLob:
		k.freeLobs()
	default:
		return wrong(fmt.Sprintf("the call %d before another", what))
	}
	return nil
}

// call answers a call.
func (k *conn) call() (goes bool, err error) {
	l := k.line
	what := l.byte()
	l.byte() // its number
	if k.session == nil && what != callLoginOne && what != callLoginTwo {
		return false, wrong("a call before the login")
	}
	switch what {
	case callLoginOne:
		k.loginOne()
	case callLoginTwo:
		return k.loginTwo(), nil
	case callVersion:
		l.byte()
		l.int()
		l.skip(2)
		l.int()
		banner := "Oracle Database 19c (a stand-in, not Oracle's)"
		l.putByte(sayReturn)
		l.putInt(int64(len(banner)))
		l.putBytes([]byte(banner))
		l.putInt(k.version())
		l.putByte(9)
		l.ints0(2)
	case callExecute:
		k.execute()
	case callReexecute:
		k.reexecute(false)
	case callReexecuteFetch:
		k.reexecute(true)
	case callFetch:
		k.fetch()
	case callLob:
		k.callLob()
	case callCommit, callRollback:
		k.session.End(what == callCommit)
		l.putByte(9)
		l.ints0(2)
	case callPing:
		l.putByte(9)
		l.ints0(2)
	case callLogoff:
		l.putByte(9)
		l.ints0(2)
		return false, nil
	default:
		return false, wrong(fmt.Sprintf("the call %d", what))
	}
	return true, nil
}
