// Package sqlserver starts a stand-in for SQL Server on a socket of this machine: its
// protocol (package tds), over an engine that executes what it knows of Transact-SQL
// (package engine).
package sqlserver

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"log"
	"math/big"
	"net"
	"time"

	"ambertray/internal/standin/engine"
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
	if o.Listen == "" {
		o.Listen = "127.0.0.1:0"
	}
	l, err := net.Listen("tcp", o.Listen)
	if err != nil {
		return nil, err
	}
	s := &Standin{Addr: l.Addr().String(), listener: l,
		server: &tds.Server{Engine: engine.New(o.Logins, o.Settings), Force: o.Force, Log: o.Log}}
	if !o.Plain {
		var cert tls.Certificate
		if cert, s.CA, err = certificate(); err != nil {
			l.Close()
			return nil, err
		}
		s.server.TLS = &tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: tls.VersionTLS12}
	}
	go s.server.Serve(l)
	return s, nil
}

// Close ends it, and all its connections.
func (s *Standin) Close() {
	s.listener.Close()
	s.server.Close()
}

// certificate makes one for this machine, signed by itself.
func certificate() (tls.Certificate, []byte, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return tls.Certificate{}, nil, err
	}
	t := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()),
		Subject:   pkix.Name{CommonName: "Harrowmere stand-in"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(1, 0, 0), IsCA: true,
		BasicConstraintsValid: true,
		KeyUsage:              x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign, DNSNames: []string{"localhost"},
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1), net.IPv6loopback}}
	der, err := x509.CreateCertificate(rand.Reader, t, t, &key.PublicKey, key)
	if err != nil {
		return tls.Certificate{}, nil, err
	}
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key},
		pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), nil
}
