// Package oracle starts a stand-in for Oracle on a socket of this machine: its protocol
// (package tns), over an engine that executes what it knows of Oracle's SQL (package engine).
package oracle

import (
	"log"
	"net"

	"ambertray/internal/standin/oracle/engine"
	"ambertray/internal/standin/oracle/tns"
	"ambertray/internal/standin/socket"
)

// Service is the name of the service that it has.
const Service = engine.Service

// Options are how a stand-in is.
type Options struct {
	// Listen is the address; empty: a free port of 127.0.0.1.
	Listen string
	// Logins are who may connect, with what they may do.
	Logins map[string]engine.Login
	engine.Settings
	// TLS protects every connection, by a certificate that the stand-in has signed itself.
	TLS bool
	Log *log.Logger
}

// A Standin is one that runs.
type Standin struct {
	// Addr is its host and port.
	Addr     string
	listener net.Listener
	server   *tns.Server
}

// Start starts one.
func Start(o Options) (*Standin, error) {
	l, err := socket.Listen(o.Listen)
	if err != nil {
		return nil, err
	}
	s := &Standin{Addr: l.Addr().String(), listener: l,
		server: &tns.Server{Engine: engine.New(o.Logins, o.Settings), Log: o.Log}}
	if o.TLS {
		if s.server.TLS, _, err = socket.TLS(); err != nil {
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
