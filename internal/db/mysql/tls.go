package mysql

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"database/sql"
	"fmt"
	"net"
	"net/url"
	"os"
	"slices"
	"strings"

	driver "github.com/go-sql-driver/mysql"

	"ambertray/internal/db"
)

// A mode is how much a connection is protected. The words are those that clients of
// several servers have.
type mode string

const (
	noTLS      mode = "disable"
	ifOffered  mode = "prefer"  // TLS where the server has it; the server is not checked
	always     mode = "require" // TLS; the server is not checked
	verifyCA   mode = "verify-ca"
	verifyFull mode = "verify-full"
)

// older are the words of the driver's own parameter.
var older = map[string]mode{"true": verifyFull, "false": noTLS, "skip-verify": always, "preferred": ifOffered}

// protect sets how the connection is protected, as the URL says; else with TLS where
// the server has it, off this machine.
func protect(cfg *driver.Config, q url.Values, host string) error {
	m := mode(q.Get("sslmode"))
	if old := q.Get("tls"); old != "" && m == "" {
		if m = older[old]; m == "" {
			return fmt.Errorf("tls=%s is not known", old)
		}
	}
	ca, cert, key := q.Get("sslrootcert"), q.Get("sslcert"), q.Get("sslkey")
	switch {
	case m == "" && ca != "":
		m = verifyFull
	case m == "" && cert != "":
		m = always
	case m == "" && (cfg.Net == "unix" || db.Loopback(host)):
		m = noTLS
	case m == "":
		m = ifOffered
	case m == always && ca != "":
		m = verifyCA
	case !slices.Contains([]mode{noTLS, ifOffered, always, verifyCA, verifyFull}, m):
		return fmt.Errorf("sslmode=%s is not known", m)
	}
	if m == noTLS {
		return nil
	}
	name, _, err := net.SplitHostPort(host)
	if err != nil {
		name = host
	}
	c := &tls.Config{ServerName: name, MinVersion: tls.VersionTLS12, InsecureSkipVerify: m != verifyFull}
	if ca != "" {
		if c.RootCAs, err = roots(ca); err != nil {
			return err
		}
	}
	if cert != "" || key != "" {
		pair, err := tls.LoadX509KeyPair(cmp.Or(cert, key), cmp.Or(key, cert))
		if err != nil {
			return fmt.Errorf("sslcert, sslkey: %w", err)
		}
		c.Certificates = []tls.Certificate{pair}
	}
	if m == ifOffered {
		c.MinVersion = tls.VersionTLS10 // an old one is better than none, and is told
	}
	if m == verifyCA {
		c.VerifyConnection = func(s tls.ConnectionState) error { return signed(s, c.RootCAs) }
	}
	cfg.TLS, cfg.AllowFallbackToPlaintext = c, m == ifOffered
	return nil
}

// roots reads certificates of those who may sign.
func roots(path string) (*x509.CertPool, error) {
	pem, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("sslrootcert: %w", err)
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(pem) {
		return nil, fmt.Errorf("sslrootcert: %s has no certificate (PEM)", path)
	}
	return pool, nil
}

// signed checks that one of the roots has signed the server's certificate, whatever
// name it is for.
func signed(s tls.ConnectionState, by *x509.CertPool) error {
	between := x509.NewCertPool()
	for _, c := range s.PeerCertificates[1:] {
		between.AddCert(c)
	}
	_, err := s.PeerCertificates[0].Verify(x509.VerifyOptions{Roots: by, Intermediates: between})
	return err
}

// Protection implements [db.Guarded].
func (d *DB) Protection(ctx context.Context) (db.Protection, error) {
	var name string
	var version sql.NullString
	err := d.c.QueryRowContext(ctx, "SHOW SESSION STATUS LIKE 'Ssl_version'").Scan(&name, &version)
	if err != nil {
		return db.Protection{}, d.fail("cannot be asked how the connection is protected", err)
	}
	p := db.Protection{Local: db.Loopback(d.host)}
	if version.String == "" {
		return p, nil
	}
	p = db.ProtectionOf(d.tls, p.Local)
	p.TLS = strings.Replace(version.String, "TLSv", "TLS ", 1)
	return p, nil
}
