package db

import "strings"

// The hints that are the same for every server.
const (
	HintLost     = "the connection was lost; the server rolls back what was not committed"
	HintPassword = "check user and password; a password comes from --password-file, the URL, %sAMBERTRAY_PASSWORD, " +
		"or a prompt"
	HintDatabase = "create the database first, or say --create-database"
	HintDisk     = "the server's disk is full; make room and load again"
)

// NetworkHint is what can be done about a failure on the way to a server, or
// nothing. setting is the server's own that says where it listens.
func NetworkHint(err error, setting string) string {
	if err == nil {
		return ""
	}
	text := err.Error()
	has := func(words ...string) bool {
		for _, w := range words {
			if strings.Contains(text, w) {
				return true
			}
		}
		return false
	}
	switch {
	case has("connection refused", "Connection refused", "actively refused"): // Windows: error 10061
		return "no server listens there: check host and port, and that it runs and accepts TCP connections (" +
			setting + ")"
	case has("wanted to match", "certificate is valid for"):
		return "the server's certificate is for another name: say that name in the URL, if it is the server that is " +
			"meant"
	case has("x509", "certificate"):
		return "the server could not be proved to be the one that is meant: name the certificate of its authority " +
			"with sslrootcert=FILE in the URL; without that check, somebody between could read and change all"
	case has("TLS", "tls:"):
		return "the server has no TLS, or another: ask for it there, or say sslmode=disable on a network that is " +
			"yours alone"
	case has("no such host", "lookup"):
		return "the host name is not known: check its spelling"
	case has("timeout", "deadline"):
		return "the server did not answer in time: check host, port and firewall"
	}
	return ""
}
