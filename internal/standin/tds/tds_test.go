package tds_test

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	driver "github.com/microsoft/go-mssqldb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/standin/engine"
	"ambertray/internal/standin/sqlserver"
)

func start(t testing.TB, o sqlserver.Options) (*sqlserver.Standin, string) {
	o.Logins = map[string]engine.Login{"tray": {Password: "canal"}}
	s, err := sqlserver.Start(o)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s, "sqlserver://tray:canal@" + s.Addr + "?database=master&trustservercertificate=true"
}

// The driver's own loop for rows in bulk, its parameters of all types and its rows go there
// and back.
func TestDriver(t *testing.T) {
	_, url := start(t, sqlserver.Options{})
	db, err := sql.Open("sqlserver", url)
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec("CREATE TABLE all_kinds (i int NOT NULL, b bigint, d decimal(20,4), n nvarchar(20), v varchar(20), m nvarchar(max), f float, x varbinary(10), t datetime2(3), day date, bit bit NOT NULL, g uniqueidentifier)")
	require.NoError(t, err)
	at := time.Date(2024, 2, 29, 10, 11, 12, 125e6, time.UTC)
	rows := [][]any{{1, int64(1) << 60, "-1234.5678", "étang", "abc", strings.Repeat("日本", 3000), 1.5, []byte{0, 255}, at, at, true, nil}, {2, nil, nil, nil, nil, nil, nil, nil, nil, nil, false, nil}}
	tx, err := db.Begin()
	require.NoError(t, err)
	stmt, err := tx.Prepare(driver.CopyIn("all_kinds", driver.BulkOptions{Tablock: true, KeepNulls: true}, "i", "b", "d", "n", "v", "m", "f", "x", "t", "day", "bit", "g"))
	require.NoError(t, err)
	for _, r := range rows {
		_, err = stmt.Exec(r...)
		require.NoError(t, err)
	}
	done, err := stmt.Exec()
	require.NoError(t, err)
	n, err := done.RowsAffected()
	require.NoError(t, err)
	assert.EqualValues(t, 2, n)
	require.NoError(t, tx.Commit())
	var d, name, m string
	var x []byte
	var when time.Time
	err = db.QueryRow("SELECT d, n, m, x, t FROM all_kinds WHERE i = @p1 AND n = @p2 AND f = @p3 AND t = @p4 AND bit = @p5 AND b > @p6", 1, "ÉTANG", 1.5, at, true, int64(7)).Scan(&d, &name, &m, &x, &when)
	require.NoError(t, err)
	assert.Equal(t, []any{"-1234.5678", "étang", strings.Repeat("日本", 3000), []byte{0, 255}, at}, []any{d, name, m, x, when.UTC()})

	// A statement that is cancelled ends, and the connection with it or not: the next works.
	ctx, cancel := context.WithTimeout(context.Background(), 100*time.Millisecond)
	defer cancel()
	begun := time.Now()
	_, err = db.ExecContext(ctx, "WAITFOR DELAY '00:00:20'")
	assert.Error(t, err)
	assert.Less(t, time.Since(begun), 5*time.Second)
	require.NoError(t, db.Ping())
}

// hello is the packet that opens a connection without encryption, and a login.
func hello() []byte {
	pre := []byte{0, 0, 11, 0, 6, 1, 0, 17, 0, 1, 0xff, 16, 0, 0, 0, 0, 0, 2}
	login := make([]byte, 94)
	binary.LittleEndian.PutUint32(login[4:], 0x74000004)
	binary.LittleEndian.PutUint32(login[8:], 4096)
	put := func(at int, text string, hide bool) {
		b := engine.EncodeUTF16(text)
		for i := range b {
			if hide {
				b[i] = (b[i]<<4 | b[i]>>4) ^ 0xa5
			}
		}
		binary.LittleEndian.PutUint16(login[at:], uint16(len(login)))
		binary.LittleEndian.PutUint16(login[at+2:], uint16(len(b)/2))
		login = append(login, b...)
	}
	put(40, "tray", false)
	put(44, "canal", true)
	binary.LittleEndian.PutUint32(login, uint32(len(login)))
	return append(packet(18, pre), packet(16, login)...)
}

func packet(kind byte, data []byte) []byte {
	h := []byte{kind, 1, 0, 0, 0, 0, 1, 0}
	binary.BigEndian.PutUint16(h[2:], uint16(8+len(data)))
	return append(h, data...)
}

// batch is a text as a client sends it, outside of a transaction.
func batch(text string) []byte {
	head := make([]byte, 22)
	binary.LittleEndian.PutUint32(head, 22)
	binary.LittleEndian.PutUint32(head[4:], 18)
	head[8] = 2
	binary.LittleEndian.PutUint32(head[18:], 1)
	return packet(1, append(head, engine.EncodeUTF16(text)...))
}

// talk sends bytes, and returns all that comes until the server ends, or is silent.
func talk(t testing.TB, addr string, b []byte) []byte {
	c, err := net.Dial("tcp", addr)
	require.NoError(t, err)
	defer c.Close()
	c.Write(b)
	if w, is := c.(*net.TCPConn); is {
		w.CloseWrite()
	}
	c.SetReadDeadline(time.Now().Add(2 * time.Second))
	var all bytes.Buffer
	io.Copy(&all, c)
	return all.Bytes()
}

// What is no request of the protocol ends the connection, and nothing else.
func TestMalformed(t *testing.T) {
	s, url := start(t, sqlserver.Options{Plain: true})
	url = strings.Replace(url, "trustservercertificate=true", "encrypt=disable", 1)
	good := append(hello(), batch("SELECT 12345678")...)
	answer := talk(t, s.Addr, good)
	require.Contains(t, string(answer), "\x4e\x61\xbc\x00", "the number in the answer")
	for cut := range len(good) {
		talk(t, s.Addr, good[:cut:cut])
	}
	for _, b := range [][]byte{{}, []byte("GET / HTTP/1.1\r\n\r\n"), packet(18, []byte{0, 0, 200, 0, 9}), packet(16, make([]byte, 20)), {1, 1, 0, 2}} {
		talk(t, s.Addr, b)
	}
	bulk := func(b ...byte) []byte { return append(hello(), packet(7, b)...) }
	for _, b := range [][]byte{bulk(), bulk(0x81, 1, 0), bulk(0x81, 0xff, 0xff), bulk(0x81, 1, 0, 0, 0, 0, 0, 0, 0, 0x99), bulk(0xd1, 0)} {
		talk(t, s.Addr, b)
	}
	// A transaction that is not the session's is refused.
	wrong := batch("SELECT 1")
	wrong[18] = 7
	assert.Contains(t, string(talk(t, s.Addr, append(hello(), wrong...))), string(engine.EncodeUTF16("valid transaction descriptor")))
	db, err := sql.Open("sqlserver", url)
	require.NoError(t, err)
	defer db.Close()
	require.NoError(t, db.Ping(), "it lives")
}

// Values out of range and rows of another shape than was announced are refused; what was
// there stays.
func TestWrongRows(t *testing.T) {
	s, url := start(t, sqlserver.Options{Plain: true})
	db, err := sql.Open("sqlserver", strings.Replace(url, "trustservercertificate=true", "encrypt=disable", 1))
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec("CREATE TABLE r (d decimal(5,2), t time(0)); INSERT r VALUES (1, '10:00')")
	require.NoError(t, err)
	done := []byte{0xfd, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0}
	column := func(name string, typ ...byte) []byte {
		b := append([]byte{0, 0, 0, 0, 9, 0}, typ...)
		return append(append(b, byte(len(name))), engine.EncodeUTF16(name)...)
	}
	shape := append(append([]byte{0x81, 2, 0}, column("d", 0x6a, 5, 5, 2)...), column("t", 0x29, 0)...)
	send := func(rows ...byte) string {
		b := append(hello(), batch("INSERT BULK r (d decimal(5,2), t time(0)) WITH (KEEP_NULLS)")...)
		return string(talk(t, s.Addr, append(b, packet(7, append(append(bytes.Clone(shape), rows...), done...))...)))
	}
	count := func() (n int) {
		require.NoError(t, db.QueryRow("SELECT COUNT(*) FROM r").Scan(&n))
		return n
	}
	send(0xd1, 5, 1, 100, 0, 0, 0, 3, 0, 0, 0)
	assert.Equal(t, 2, count(), "a row as it should be")
	for name, row := range map[string][]byte{"digits": {0xd1, 5, 1, 0xff, 0xff, 0xff, 0x7f, 3, 0, 0, 0}, "hour": {0xd1, 5, 1, 1, 0, 0, 0, 3, 0xff, 0xff, 0xff},
		"length": {0xd1, 9, 1, 1, 0, 0, 0, 3, 0, 0, 0}, "token": {0xd3, 5, 1, 1, 0, 0, 0, 3, 0, 0, 0}} {
		send(row...)
		assert.Equal(t, 2, count(), name)
	}
	b := append(hello(), packet(7, append(bytes.Clone(shape), done...))...)
	assert.Contains(t, string(talk(t, s.Addr, b)), string(engine.EncodeUTF16("no INSERT BULK had announced")))
}

// Whatever comes behind a login, the server lives.
func FuzzRequests(f *testing.F) {
	s, url := start(f, sqlserver.Options{Plain: true})
	db, err := sql.Open("sqlserver", strings.Replace(url, "trustservercertificate=true", "encrypt=disable", 1))
	require.NoError(f, err)
	for _, text := range []string{"SELECT 1", "CREATE TABLE #t (a int); INSERT #t VALUES (1)", "INSERT BULK x (a int)", "BEGIN TRAN; SAVE TRAN a; ROLLBACK TRAN a"} {
		f.Add(batch(text))
	}
	f.Add(packet(7, []byte{0x81, 1, 0, 0, 0, 0, 0, 9, 0, 0x26, 4, 1, 'a', 0, 0xd1, 4, 1, 0, 0, 0}))
	f.Add(packet(3, []byte{22, 0, 0, 0, 18, 0, 0, 0, 2, 0, 0, 0, 0, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0xff, 0xff, 10, 0, 0, 0, 0, 0, 0xe7, 8, 0, 0, 0, 0, 0, 0, 2, 0, 'x', 0}))
	f.Fuzz(func(t *testing.T, b []byte) {
		talk(t, s.Addr, append(hello(), b...))
		require.NoError(t, db.Ping(), fmt.Sprintf("%x", b))
	})
}
