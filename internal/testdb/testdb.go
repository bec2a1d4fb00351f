// Package testdb finds the database servers that tests run against. They are
// started by scripts/servers and named in the environment; a test that needs
// one which is not there is skipped, and the test command says so loudly.
package testdb

import (
	"crypto/rand"
	"database/sql"
	"encoding/hex"
	"io"
	"log"
	"net"
	"net/url"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	_ "github.com/go-sql-driver/mysql"  // registers "mysql"
	_ "github.com/jackc/pgx/v5/stdlib"  // registers "pgx"
	_ "github.com/microsoft/go-mssqldb" // registers "sqlserver"
	driver "github.com/sijms/go-ora/v2" // registers "oracle", too
	"github.com/stretchr/testify/require"

	"ambertray/internal/standin/engine"
	"ambertray/internal/standin/oracle"
	oracleengine "ambertray/internal/standin/oracle/engine"
	"ambertray/internal/standin/sqlserver"
)

// Password is that of the test servers, which must never be shown.
const Password = "canal-1777"

// Postgres returns the URL of a new database of its own, and a connection.
func Postgres(t testing.TB) (string, *sql.DB) {
	t.Helper()
	base := os.Getenv("AMBERTRAY_TEST_POSTGRES")
	if base == "" {
		t.Skip("no PostgreSQL server; 'make test' starts one")
	}
	admin, err := sql.Open("pgx", base)
	require.NoError(t, err)
	name := unique()
	_, err = admin.Exec("CREATE DATABASE " + name)
	require.NoError(t, err)
	u, err := url.Parse(base)
	require.NoError(t, err)
	u.Path = "/" + name
	// Plans are not kept, since tests change definitions.
	db, err := sql.Open("pgx", u.String()+"?default_query_exec_mode=exec")
	require.NoError(t, err)
	t.Cleanup(func() {
		db.Close()
		admin.Exec("DROP DATABASE " + name + " WITH (FORCE)")
		admin.Close()
	})
	return u.String(), db
}

// Pooled returns what Postgres does, by the URL of a pooler that lends connections for sessions; lent is
// that of a database for whose transactions it lends them.
func Pooled(t testing.TB) (pooled, lent string, db *sql.DB) {
	t.Helper()
	at := os.Getenv("AMBERTRAY_TEST_POOLER")
	if at == "" {
		t.Skip("no pooler of PostgreSQL; 'make test' starts one")
	}
	base, db := Postgres(t)
	u, err := url.Parse(base)
	require.NoError(t, err)
	u.Host = at
	pooled, u.Path = u.String(), "/lent"
	return pooled, u.String(), db
}

// Shards returns what Postgres does, with a database that knows two others as the servers shard2 and
// shard3, and connections with all three.
func Shards(t testing.TB) (string, *sql.DB, []*sql.DB) {
	t.Helper()
	base, first := Postgres(t)
	var may bool
	require.NoError(t, first.QueryRow("SELECT current_setting('max_prepared_transactions')::int > 0 AND "+
		"EXISTS (SELECT FROM pg_available_extensions WHERE name = 'postgres_fdw')").Scan(&may))
	if !may {
		t.Skip("the PostgreSQL server has no postgres_fdw, or no prepared transactions")
	}
	statements := []string{"CREATE EXTENSION postgres_fdw"}
	var others []*sql.DB
	for _, name := range []string{"shard2", "shard3"} {
		at, other := Postgres(t)
		u, err := url.Parse(at)
		require.NoError(t, err)
		others = append(others, other)
		statements = append(statements, "CREATE SERVER "+name+" FOREIGN DATA WRAPPER postgres_fdw OPTIONS (host '"+
			u.Hostname()+"', port '"+u.Port()+"', dbname '"+u.Path[1:]+"')",
			"CREATE USER MAPPING FOR CURRENT_USER SERVER "+name+" OPTIONS (user '"+u.User.Username()+"', password '"+
				Password+"')")
	}
	for _, s := range statements {
		_, err := first.Exec(s)
		require.NoError(t, err, s)
	}
	return base, first, others
}

// MySQL does the same on MariaDB.
func MySQL(t testing.TB) (string, *sql.DB) {
	t.Helper()
	base := os.Getenv("AMBERTRAY_TEST_MYSQL")
	if base == "" {
		t.Skip("no MariaDB server; 'make test' starts one")
	}
	u, err := url.Parse(base)
	require.NoError(t, err)
	open := func(name string) *sql.DB {
		db, err := sql.Open("mysql", u.User.Username()+":"+Password+"@tcp("+u.Host+")/"+name)
		require.NoError(t, err)
		return db
	}
	admin := open(strings.TrimPrefix(u.Path, "/"))
	name := unique()
	_, err = admin.Exec("CREATE DATABASE " + name + " CHARACTER SET latin1")
	require.NoError(t, err)
	u.Path = "/" + name
	db := open(name)
	t.Cleanup(func() {
		db.Close()
		admin.Exec("DROP DATABASE " + name)
		admin.Close()
	})
	return u.String(), db
}

// Relay listens on an address, carries what comes to another and back, and returns the
// address it listens on.
func Relay(t testing.TB, listen, to string) string {
	l, err := net.Listen("tcp", listen)
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer in.Close()
				out, err := net.Dial("tcp", to)
				if err != nil {
					return
				}
				defer out.Close()
				go func() { io.Copy(in, out); in.Close() }()
				io.Copy(out, in)
			}()
		}
	}()
	return l.Addr().String()
}

func unique() string {
	b := make([]byte, 6)
	rand.Read(b)
	return "canal_" + hex.EncodeToString(b)
}

var (
	standin     *sqlserver.Standin
	standinOnce sync.Once
)

// SQLServer does the same on SQL Server: the one that AMBERTRAY_TEST_SQLSERVER names, or a
// stand-in of its own.
func SQLServer(t testing.TB) (string, *sql.DB) {
	t.Helper()
	base := os.Getenv("AMBERTRAY_TEST_SQLSERVER")
	if base == "" {
		standinOnce.Do(func() {
			var err error
			standin, err = sqlserver.Start(sqlserver.Options{Logins: Logins(), Log: log.New(os.Stderr, "standin: ", 0)})
			require.NoError(t, err)
		})
		base = "sqlserver://tray:" + Password + "@" + standin.Addr + "?database=master&trustservercertificate=true"
	}
	admin, err := sql.Open("sqlserver", base)
	require.NoError(t, err)
	name := unique()
	_, err = admin.Exec("CREATE DATABASE " + name)
	require.NoError(t, err)
	u, err := url.Parse(base)
	require.NoError(t, err)
	q := u.Query()
	q.Set("database", name)
	u.RawQuery = q.Encode()
	db, err := sql.Open("sqlserver", u.String())
	require.NoError(t, err)
	t.Cleanup(func() {
		db.Close()
		admin.Exec("DROP DATABASE " + name)
		admin.Close()
	})
	return u.String(), db
}

// Logins are those of a stand-in: one that may do everything, and one that may only read.
func Logins() map[string]engine.Login {
	return map[string]engine.Login{"tray": {Password: Password}, "reader": {Password: Password,
		May: []string{"SELECT"}}}
}

var (
	oracleStandin     *oracle.Standin
	oracleStandinOnce sync.Once
)

// Oracle does the same on Oracle, where a user is what a database is elsewhere: on the server
// that AMBERTRAY_TEST_ORACLE names, as a user that may make others, or on a stand-in.
func Oracle(t testing.TB) (string, *sql.DB) {
	t.Helper()
	base := os.Getenv("AMBERTRAY_TEST_ORACLE")
	if base == "" {
		oracleStandinOnce.Do(func() {
			var err error
			oracleStandin, err = oracle.Start(oracle.Options{Logins: map[string]oracleengine.Login{
				"tray": {Password: Password}}, Log: log.New(os.Stderr, "oracle standin: ", 0)})
			require.NoError(t, err)
		})
		base = "oracle://tray:" + Password + "@" + oracleStandin.Addr + "/" + oracle.Service
	}
	admin, err := sql.Open("oracle", base)
	require.NoError(t, err)
	name := unique()
	for _, s := range []string{"CREATE USER " + name + ` IDENTIFIED BY "` + Password + `" QUOTA UNLIMITED ON users`,
		"GRANT CREATE SESSION, CREATE TABLE, CREATE VIEW, CREATE TRIGGER, CREATE SEQUENCE TO " + name} {
		_, err = admin.Exec(s)
		require.NoError(t, err, s)
	}
	u, err := url.Parse(base)
	require.NoError(t, err)
	u.User = url.UserPassword(name, Password)
	db, err := sql.Open("oracle", u.String())
	require.NoError(t, err)
	for k, v := range map[string]string{"nls_date_format": "YYYY-MM-DD", "nls_timestamp_format": "YYYY-MM-DD " +
		"HH24:MI:SS.FF",
		"nls_timestamp_tz_format": "YYYY-MM-DD HH24:MI:SS.FF TZH:TZM"} {
		require.NoError(t, driver.AddSessionParam(db, k, "'"+v+"'"))
	}
	t.Cleanup(func() {
		db.Close()
		for range 50 { // while a session of the user's is still there
			if _, err := admin.Exec("DROP USER " + name + " CASCADE"); err == nil {
				break
			}
			time.Sleep(20 * time.Millisecond)
		}
		admin.Close()
	})
	return u.String(), db
}
