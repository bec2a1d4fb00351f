package db

import (
	"database/sql/driver"
	"errors"
	"io"
	"net"
	"slices"
	"strings"
)

// The hints that are the same for every server.
const (
	HintLost     = "the connection was lost; the server rolls back what was not committed"
	HintPassword = "check user and password; a password comes from --password-file, the URL, %sAMBERTRAY_PASSWORD, " +
		"or a prompt"
	HintDatabase = "create the database first, or say --create-database"
	HintDisk     = "the server's disk is full; make room and load again"
)

// A Spoken error is a server's, in our form.
type Spoken struct {
	Text string
	Err  error
}

func (s *Spoken) Error() string { return s.Text }

// Unwrap gives the driver's.
func (s *Spoken) Unwrap() error { return s.Err }

// Lost reports the failure of a connection that was there.
func Lost(err error) bool {
	if errors.Is(err, io.EOF) || errors.Is(err, net.ErrClosed) || errors.Is(err, driver.ErrBadConn) {
		return true
	}
	return contains(err.Error(), "bad connection", "closed connection", "EOF", "reset by peer", "broken pipe")
}

func contains(text string, words ...string) bool {
	return slices.ContainsFunc(words, func(w string) bool { return strings.Contains(text, w) })
}

// TLSHints are what can be done where a connection cannot be protected: the certificate is
// for another name, or cannot be checked, or there is no TLS.
type TLSHints struct{ Name, Certificate, None string }

// SSLMode are those where a URL has libpq's sslmode.
var SSLMode = TLSHints{
	Name: "the server's certificate is for another name: say that name in the URL, if it is the server that is meant",
	Certificate: "the server could not be proved to be the one that is meant: name the certificate of its authority " +
		"with sslrootcert=FILE in the URL; without that check, somebody between could read and change all",
	None: "the server has no TLS, or another: ask for it there, or say sslmode=disable on a network that is " +
		"yours alone",
}

// NetworkHint is what can be done about a failure on the way to a server, or
// nothing. setting is the server's own that says where it listens.
func NetworkHint(err error, setting string, tls TLSHints) string {
	if err == nil {
		return ""
	}
	text := err.Error()
	has := func(words ...string) bool { return contains(text, words...) }
	switch {
	case has("connection refused", "Connection refused", "actively refused"): // Windows: error 10061
		return "no server listens there: check host and port, and that it runs and accepts TCP connections (" +
			setting + ")"
	case has("wanted to match", "certificate is valid for"):
		return tls.Name
	case has("x509", "certificate"):
		return tls.Certificate
	case has("TLS", "tls:"):
		return tls.None
	case has("no such host", "lookup"):
		return "the host name is not known: check its spelling"
	case has("timeout", "deadline"):
		return "the server did not answer in time: check host, port and firewall"
	}
	return ""
}
