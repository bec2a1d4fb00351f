package db

import (
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"net"
	"testing"

	"github.com/stretchr/testify/assert"
)

// What can be done goes by what happened, in the words of the database's own URL.
func TestNetworkHint(t *testing.T) {
	own := TLSHints{Name: "name", Certificate: "certificate", None: "none"}
	for text, want := range map[string]string{
		"dial tcp 127.0.0.1:1: connect: connection refused":                          "accepts TCP connections (listening)",
		"tls: failed to verify certificate: x509: certificate is valid for a, not b": "name",
		"x509: certificate signed by unknown authority":                              "certificate",
		"tls: first record does not look like a TLS handshake":                       "none",
		"lookup nowhere: no such host":                                               "check its spelling",
		"dial tcp: i/o timeout":                                                      "did not answer in time",
	} {
		assert.Contains(t, NetworkHint(errors.New(text), "listening", own), want, text)
	}
	assert.Empty(t, NetworkHint(nil, "listening", own))
	assert.Empty(t, NetworkHint(errors.New("a table is full"), "listening", own))
}

func TestLost(t *testing.T) {
	for _, err := range []error{io.EOF, net.ErrClosed, driver.ErrBadConn, fmt.Errorf("reading: %w", io.ErrUnexpectedEOF),
		errors.New("write tcp: broken pipe"), errors.New("read tcp: connection reset by peer")} {
		assert.True(t, Lost(err), "%v", err)
	}
	for _, err := range []error{errors.New("connection refused"), errors.New("duplicate key"), errors.New("i/o timeout")} {
		assert.False(t, Lost(err), "%v", err)
	}
}

// A name of a side table is told from others, and whose it is by how it begins.
func TestSideNames(t *testing.T) {
	a := NewSide("canal", "tolls")
	assert.True(t, IsSide.MatchString(a) && IsSide.MatchString(a+"_old"), a)
	assert.Contains(t, a, SideNames("canal", "tolls"))
	assert.NotEqual(t, a, NewSide("canal", "tolls"))
	assert.NotEqual(t, SideNames("canal", "tolls"), SideNames("canalt", "olls"))
	for _, other := range []string{LedgerTable, NotesTable, StageTable, ChangesTable, "ambertray_locks", a + "x", a[1:]} {
		assert.False(t, IsSide.MatchString(other), other)
	}
}
