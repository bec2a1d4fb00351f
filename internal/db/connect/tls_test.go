package connect_test

import (
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/db"
	"ambertray/internal/db/connect"
	"ambertray/internal/testdb"
)

// certificates is the folder with those of a server, of its authority and of a client.
func certificates(t testing.TB, server string) string {
	folder := os.Getenv("AMBERTRAY_TEST_" + strings.ToUpper(server) + "_TLS")
	if folder == "" {
		t.Skip("no server with certificates of ours; 'make test' starts one")
	}
	return folder
}

// How a connection is protected is as the URL says, and is told.
func TestProtection(t *testing.T) {
	for name, find := range networked {
		if name == "sqlserver" {
			continue // its URLs have words of their own: TestEncryption in its folder
		}
		t.Run(name, func(t *testing.T) {
			folder := certificates(t, name)
			url := find(t)
			ca := filepath.Join(folder, "ca.pem")
			other := filepath.Join(folder, "client.pem") // which has signed nothing
			byName := strings.Replace(url, "127.0.0.1", "localhost", 1)
			for _, tt := range []struct{ url, want, fails string }{
				{url + "?sslmode=disable", "not encrypted, on this machine", ""},
				{url + "?sslmode=require", "TLS 1.3, the server not checked", ""},
				{url + "?sslmode=verify-ca&sslrootcert=" + ca, "TLS 1.3, the server's certificate checked, its name not", ""},
				{url + "?sslmode=verify-full&sslrootcert=" + ca, "TLS 1.3, the server's certificate and name checked", ""},
				{byName + "?sslmode=verify-ca&sslrootcert=" + ca, "TLS 1.3, the server's certificate checked, its name not", ""},
				{byName + "?sslmode=verify-full&sslrootcert=" + ca, "", "is for another name"},
				{url + "?sslmode=verify-ca&sslrootcert=" + other, "", "signed by unknown authority"},
				{url + "?sslmode=verify-full", "", "signed by unknown authority"},
				{url + "?sslmode=verify-full&sslrootcert=" + ca + "x", "", "ca.pemx"},
				{url + "?sslmode=perhaps", "", "sslmode"},
			} {
				conn, err := connect.Open(t.Context(), tt.url, connect.Options{})
				if tt.fails != "" {
					// The driver of PostgreSQL does not say which of a URL's parameters is wrong.
					if name == "postgres" && (strings.Contains(tt.url, "pemx") || strings.Contains(tt.url, "perhaps")) {
						tt.fails = "a parameter that is not known or wrong"
					}
					require.ErrorContains(t, err, tt.fails, tt.url)
					continue
				}
				require.NoError(t, err, tt.url)
				p, err := conn.(db.Guarded).Protection(t.Context())
				require.NoError(t, err)
				assert.Equal(t, tt.want, p.String(), tt.url)
				require.NoError(t, conn.Close())
			}
		})
	}
}

// A server that lets in only who shows a certificate.
func TestClientCertificate(t *testing.T) {
	folder := certificates(t, "mysql")
	url, admin := testdb.MySQL(t)
	_, err := admin.Exec("CREATE USER 'lock'@'127.0.0.1' IDENTIFIED BY '" + testdb.Password + "' REQUIRE X509")
	require.NoError(t, err)
	t.Cleanup(func() { admin.Exec("DROP USER 'lock'@'127.0.0.1'") })
	_, err = admin.Exec("GRANT ALL ON *.* TO 'lock'@'127.0.0.1'")
	require.NoError(t, err)
	url = strings.Replace(url, "tray:", "lock:", 1)
	_, err = connect.Open(t.Context(), url, connect.Options{})
	require.ErrorContains(t, err, "Access denied")
	conn, err := connect.Open(t.Context(), url+"?sslrootcert="+filepath.Join(folder, "ca.pem")+"&sslcert="+
		filepath.Join(folder, "client.pem")+"&sslkey="+filepath.Join(folder, "client.key"), connect.Options{})
	require.NoError(t, err)
	require.NoError(t, conn.Close())
}

// Off this machine TLS is used where the server has it, though nobody asks.
func TestProtectionOffThisMachine(t *testing.T) {
	addrs, err := net.InterfaceAddrs()
	require.NoError(t, err)
	here := ""
	for _, a := range addrs {
		if n, is := a.(*net.IPNet); is && n.IP.To4() != nil && !n.IP.IsLoopback() {
			here = n.IP.String()
		}
	}
	if here == "" {
		t.Skip("this machine has no address but the loopback")
	}
	for name, find := range networked {
		if name == "sqlserver" {
			continue
		}
		t.Run(name, func(t *testing.T) {
			certificates(t, name)
			url := find(t)
			address := url[strings.Index(url, "@")+1 : strings.LastIndex(url, "/")]
			url = strings.Replace(url, address, testdb.Relay(t, here+":0", address), 1)
			conn, err := connect.Open(t.Context(), url, connect.Options{})
			require.NoError(t, err)
			defer conn.Close()
			p, err := conn.(db.Guarded).Protection(t.Context())
			require.NoError(t, err)
			assert.Equal(t, "TLS 1.3, the server not checked", p.String())
			assert.False(t, p.Local)
		})
	}
}

func TestLoopback(t *testing.T) {
	for host, want := range map[string]bool{"localhost": true, "127.0.0.1:5432": true, "[::1]:3306": true, "": true,
		"/run/postgresql": true, "db.example": false, "10.0.0.7:3306": false, "[2001:db8::1]:5432": false} {
		assert.Equal(t, want, db.Loopback(host), host)
	}
}
