// Package sqlserver starts a stand-in for SQL Server on a socket of this machine: its
// protocol (package tds), over an engine that executes what it knows of Transact-SQL
// (package engine).
package sqlserver

import (
	"log"
	"net"

	"ambertray/internal/standin/engine"
	"ambertray/internal/standin/socket"
	"ambertray/internal/standin/tds"
)

// Options are how a stand-in is.
type Options struct {
	// Listen is the address; empty: a free port of 127.0.0.1.
	Listen string
	// Logins are who may connect, with what they may do.
	Logins map[string]engine.Login
	engine.Settings
	// Plain leaves out the certificate, so that nothing is encrypted; Force refuses clients
	// that do not encrypt.
	Plain, Force bool
	Log          *log.Logger
}

// A Standin is one that runs.
type Standin struct {
	// Addr is its host and port.
	Addr string
	// CA is the certificate of its authority, in PEM.
	CA       []byte
	listener net.Listener
	server   *tds.Server
}

// Start starts one.
func Start(o Options) (*Standin, error) {
	l, err := socket.Listen(o.Listen)
	if err != nil {
		return nil, err
	}
	s := &Standin{Addr: l.Addr().String(), listener: l,
		server: &tds.Server{Engine: engine.New(o.Logins, o.Settings), Force: o.Force, Log: o.Log}}
	if !o.Plain {
		if s.server.TLS, s.CA, err = socket.TLS(); err != nil {
			l.Close()
			return nil, err
		}
	}
	go s.server.Serve(l)
	return s, nil
}

// Close ends it, and all its connections.
func (s *Standin) Close() {
	s.listener.Close()
	s.server.Close()
}
