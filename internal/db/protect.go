package db

import (
	"context"
	"crypto/tls"
	"net"
	"strings"
)

// Guarded is a session over a network, which tells how it is protected.
type Guarded interface {
	Protection(ctx context.Context) (Protection, error)
}

// A Protection is what keeps a connection from being read and changed on its way.
type Protection struct {
	// TLS is its version, like "TLS 1.3"; empty: there is none.
	TLS string
	// Certificate and Name tell what of the server was checked.
	Certificate, Name bool
	// Local tells that it does not leave this machine.
	Local bool
}

// String is for people.
func (p Protection) String() string {
	switch {
	case p.TLS == "" && p.Local:
		return "not encrypted, on this machine"
	case p.TLS == "":
		return "not encrypted"
	case p.Name:
		return p.TLS + ", the server's certificate and name checked"
	case p.Certificate:
		return p.TLS + ", the server's certificate checked, its name not"
	}
	return p.TLS + ", the server not checked"
}

// ProtectionOf is that of an encrypted connection under settings, but for its version.
func ProtectionOf(c *tls.Config, local bool) Protection {
	p := Protection{Local: local}
	if c != nil {
		p.Name = !c.InsecureSkipVerify
		p.Certificate = p.Name || c.VerifyConnection != nil || c.VerifyPeerCertificate != nil
	}
	return p
}

// Loopback reports whether a host is this machine: a name of it, an address that never
// leaves it, or the path of a socket.
func Loopback(host string) bool {
	if h, _, err := net.SplitHostPort(host); err == nil {
		host = h
	}
	if host == "" || strings.HasPrefix(host, "/") || strings.EqualFold(host, "localhost") {
		return true
	}
	ip := net.ParseIP(strings.Trim(host, "[]"))
	return ip != nil && ip.IsLoopback()
}
