package tns

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/shopspring/decimal"
	driver "github.com/sijms/go-ora/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/standin/oracle/engine"
)

func start(t testing.TB) (addr, url string) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s := &Server{Engine: engine.New(map[string]engine.Login{"tray": {Password: "canal"}}, engine.Settings{})}
	go s.Serve(l)
	t.Cleanup(func() { l.Close(); s.Close() })
	return l.Addr().String(), "oracle://tray:canal@" + l.Addr().String() + "/" + engine.Service
}

// The bytes of NUMBERs, as they are published (OCI Programmer's Guide, "NUMBER"), and back.
func TestNumberBytes(t *testing.T) {
	for text, want := range map[string][]byte{
		"0": {0x80}, "1": {0xc1, 2}, "5": {193, 6}, "-5": {62, 96, 102}, "2767": {194, 28, 68}, "-2767": {61, 74, 34, 102},
		"100000": {195, 11}, "1234567": {196, 2, 24, 46, 68}, "0.05": {192, 6}, "-0.05": {63, 96, 102}, "12.5": {193, 13, 51}, "0.001": {191, 11},
	} {
		d := decimal.RequireFromString(text)
		assert.Equal(t, want, numberBytes(d), text)
		back, err := numberOf(want)
		require.NoError(t, err, text)
		assert.True(t, d.Equal(back), "%s is read as %s", text, back)
	}
	for _, text := range []string{"9999999999999999999999999999999999999999", "-0." + strings.Repeat("0", 100) + "1", "1e125", "-9.99e-129", "1234567890.0987654321"} {
		d := decimal.RequireFromString(text)
		back, err := numberOf(numberBytes(d))
		require.NoError(t, err, text)
		assert.True(t, d.Equal(back), "%s is read as %s", text, back)
	}
	for _, b := range [][]byte{{}, {0xc1}, {0xc1, 1}, {0xc1, 2, 1}, {0xc1, 200}, {62, 101, 102}} {
		_, err := numberOf(b)
		assert.Error(t, err, "%x is no number that a server would write", b)
	}
}

// Values of all types go there by the driver and come back, in arrays and one by one.
func TestDriver(t *testing.T) {
	_, url := start(t)
	db, err := sql.Open("oracle", url)
	require.NoError(t, err)
	defer db.Close()
	db.SetMaxOpenConns(1)
	_, err = db.Exec("CREATE TABLE kinds (id NUMBER(5) PRIMARY KEY, n NUMBER, v VARCHAR2(20 CHAR), c CHAR(5), l CLOB, f BINARY_DOUBLE, d DATE, ts TIMESTAMP(6), tz TIMESTAMP(3) WITH TIME ZONE)")
	require.NoError(t, err)
	at := time.Date(2024, 2, 29, 10, 11, 12, 125e6, time.FixedZone("", 2*3600))
	long := strings.Repeat("日本", 30000)
	_, err = db.Exec("INSERT INTO kinds VALUES (:1, :2, :3, :4, :5, :6, :7, :8, :9)", 1, "-1234.5678", "étang", "abc", driver.Clob{String: long, Valid: true}, 1.5,
		driver.TimeStamp(at), driver.TimeStamp(at), driver.TimeStampTZ(at))
	require.NoError(t, err)
	_, err = db.Exec("INSERT INTO kinds (id, v, l) VALUES (:1, :2, :3)", []int{2, 3, 4}, []string{"a", "", "c"}, []string{"", "x", "y"})
	require.NoError(t, err)
	var n, v, c, l string
	var f float64
	var ts, tz time.Time
	require.NoError(t, db.QueryRow("SELECT to_char(n), v, c, l, f, ts, tz FROM kinds WHERE id = :1 AND v = :2", 1, "étang").Scan(&n, &v, &c, &l, &f, &ts, &tz))
	assert.Equal(t, []any{"-1234.5678", "étang", "abc  ", 1.5}, []any{n, v, c, f})
	assert.Equal(t, long, l)
	assert.True(t, at.Equal(tz), "%s", tz)
	assert.Equal(t, "10:11:12.125", ts.Format("15:04:05.000"))
	_, err = db.Query("SELECT count(*) FROM kinds WHERE l = to_clob('x')")
	assert.ErrorContains(t, err, "ORA-00932", "a CLOB is no value to compare")
}

// A statement that is cancelled ends, and the next works; so does one behind an error.
func TestCancelled(t *testing.T) {
	_, url := start(t)
	db, err := sql.Open("oracle", url)
	require.NoError(t, err)
	defer db.Close()
	ctx, cancel := context.WithTimeout(context.Background(), 100*time.Millisecond)
	defer cancel()
	begun := time.Now()
	_, err = db.ExecContext(ctx, "BEGIN DBMS_SESSION.SLEEP(20); END;")
	assert.Error(t, err)
	assert.Less(t, time.Since(begun), 5*time.Second)
	_, err = db.Exec("SELECT nothing FROM dual")
	require.ErrorContains(t, err, "ORA-00904")
	require.NoError(t, db.Ping())
	for _, other := range []string{strings.Replace(url, "canal", "another", 1), strings.Replace(url, engine.Service, "nowhere", 1)} {
		x, err := sql.Open("oracle", other)
		require.NoError(t, err)
		assert.Error(t, x.Ping(), other)
		x.Close()
	}
}

// recorded is what the driver says in a session, packet by packet.
func recorded(t testing.TB, addr string) (said []byte) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	var tee bytes.Buffer
	done := make(chan bool)
	go func() {
		defer close(done)
		c, err := l.Accept()
		if err != nil {
			return
		}
		defer c.Close()
		s, err := net.Dial("tcp", addr)
		if err != nil {
			return
		}
		defer s.Close()
		go io.Copy(c, s)
		io.Copy(io.MultiWriter(s, &tee), c)
	}()
	db, err := sql.Open("oracle", "oracle://tray:canal@"+l.Addr().String()+"/"+engine.Service)
	require.NoError(t, err)
	db.SetMaxOpenConns(1)
	_, err = db.Exec("CREATE TABLE fuzzed (id NUMBER(5), v VARCHAR2(20))")
	require.NoError(t, err)
	_, err = db.Exec("INSERT INTO fuzzed VALUES (:1, :2)", []int{1, 2}, []string{"a", ""})
	require.NoError(t, err)
	require.NoError(t, db.QueryRow("SELECT count(*) FROM fuzzed").Scan(new(int)))
	db.Close()
	<-done
	return tee.Bytes()
}

// Whatever a client says, in the login or behind it, the server lives.
func FuzzRequests(f *testing.F) {
	addr, url := start(f)
	db, err := sql.Open("oracle", url)
	require.NoError(f, err)
	said := recorded(f, addr)
	for _, n := range []int{len(said), len(said) / 2, 100, 60} {
		f.Add(n, []byte{0, 0, 0, 30, 6, 0, 0, 0, 0, 0, 3, 94, 1})
	}
	f.Fuzz(func(t *testing.T, n int, b []byte) {
		c, err := net.Dial("tcp", addr)
		require.NoError(t, err)
		defer c.Close()
		c.SetDeadline(time.Now().Add(300 * time.Millisecond))
		c.Write(append(bytes.Clone(said[:min(max(n, 0), len(said))]), b...))
		c.(*net.TCPConn).CloseWrite()
		io.Copy(io.Discard, c)
		require.NoError(t, db.Ping(), fmt.Sprintf("%d %x", n, b))
	})
}
