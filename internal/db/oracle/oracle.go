// Package oracle loads into Oracle Database by arrays of rows.
//
// Definitions are committed at once by this server. A new table is therefore made beside the
// one that is wanted, under a name of our own, and renamed when all is verified (swap.go);
// what a load that has died leaves is removed by the next (sweep.go). Rows of a table that
// exists go in, in one transaction, which holds the table against other writers.
//
// Rows go as text, column by column, in one exchange for some thousands of them, each such
// behind a savepoint; the statement says how the text of a date or a time is read. When the
// server refuses some, they are divided until those to blame are found (send.go).
//
// An empty text is a null for this server, in every type. The load says so before, see
// db.Database.EmptyIsNull.
//
// Locks of the program's own are rows of a small table, which a session of their own holds as
// long as the load lives (lock.go): the server's package for such locks is not everybody's.
package oracle

import (
	"cmp"
	"context"
	"database/sql"
	sqldriver "database/sql/driver"
	"errors"
	"fmt"
	"net"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	driver "github.com/sijms/go-ora/v2"
	"github.com/sijms/go-ora/v2/network"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
)

var quote = Dialect.Quote

// DB is a connection.
type DB struct {
	db.Unprepared
	where   string // without password
	host    string
	tls     bool
	checked bool // the server's certificate is
	pool    *sql.DB
	c       *sql.Conn
	tx      sqldriver.Tx // open, or nil: then every statement commits
	load    *load
	locks   map[string]*lock
	// together are loads that wait for each other, or nil; staged the tables of merges.
	together *together
	staged   []staging
	wait     time.Duration
	id       string // of the session
	major    int    // the server's version
	charset  string
	schema   string // the default one, as the catalog has it
	// guarded tells that nothing may be changed.
	guarded bool
	// waiting tells that a lock is waited for.
	waiting atomic.Bool
}

// parameters are those that a URL may have, in the driver's own words. Those that would write
// what is sent into a file are not among them.
var parameters = map[string]bool{"ssl": true, "ssl verify": true, "wallet": true, "wallet password": true,
	"auth type": true, "sid": true, "service name": true, "server": true, "instance name": true, "encryption": true,
	"data integrity": true, "unix socket": true, "dba privilege": true, "connection timeout": true,
	"prefetch_rows": true, "proxy client name": true}

const knownParameters = "the parameters are the driver's: ssl (true: over TLS, whose port is often 2484), ssl " +
	"verify, wallet (folder), sid, server (further host:port), encryption and data integrity (required), auth " +
	"type, connection timeout (seconds)"

// settings are the driver's, from a URL.
func settings(at db.Address) (dsn string, wait time.Duration, q url.Values, err error) {
	u := *at.URL
	q = url.Values{}
	for k, v := range u.Query() {
		k = strings.ToLower(k)
		if !parameters[k] {
			return "", 0, nil, &db.Error{Where: at.Where, What: fmt.Sprintf("the URL's parameter %q is not known", k),
				Do: knownParameters}
		}
		q[k] = v
	}
	user, password, err := at.Login()
	if err != nil {
		return "", 0, nil, err
	}
	wait = at.Timeout
	if n, err := strconv.Atoi(q.Get("connection timeout")); err == nil {
		wait = time.Duration(n) * time.Second
	}
	q.Del("connection timeout")
	full := url.Values{}
	for k, v := range q {
		full[k] = v
	}
	// An answer may take long: a table is emptied, or added up. Dates have no zone.
	full.Set("timeout", "0")
	full.Set("server location", "UTC")
	full.Set("program", "ambertray")
	if full.Get("prefetch_rows") == "" {
		full.Set("prefetch_rows", "1000")
	}
	u.Scheme, u.User, u.RawQuery = "oracle", url.UserPassword(user, password), full.Encode()
	if u.Host != "" && u.Port() == "" {
		u.Host = net.JoinHostPort(u.Hostname(), "1521")
	}
	return u.String(), wait, q, nil
}

// A dialer connects within a time. When the load is told to end, an answer that is still to
// come is waited for a moment only: the driver waits for ever.
type dialer struct {
	net.Dialer
	ended context.Context
}

// DialContext is what the driver calls.
func (d *dialer) DialContext(ctx context.Context, network, address string) (net.Conn, error) {
	c, err := d.Dialer.DialContext(ctx, network, address)
	if err != nil {
		return nil, err
	}
	p := &patient{Conn: c, ended: d.ended}
	p.stop = context.AfterFunc(d.ended, func() { c.SetReadDeadline(time.Now().Add(lastAnswer)) })
	return p, nil
}

// lastAnswer is how long an answer is waited for when the load is told to end.
const lastAnswer = time.Second

// patient is a connection of such a dialer.
type patient struct {
	net.Conn
	ended context.Context
	stop  func() bool
}

// SetReadDeadline is called by the driver before it reads.
func (p *patient) SetReadDeadline(t time.Time) error {
	if p.ended.Err() != nil && t.IsZero() {
		t = time.Now().Add(lastAnswer)
	}
	return p.Conn.SetReadDeadline(t)
}

// Close is the end.
func (p *patient) Close() error {
	p.stop()
	return p.Conn.Close()
}

// connect opens a session.
func connect(ctx context.Context, at db.Address) (*DB, error) {
	if at.CreateDatabase {
		return nil, &db.Error{Where: at.Where, What: "a database is made by its administrator, not by a load",
			Do: "leave out --create-database, and name a service that there is"}
	}
	dsn, wait, q, err := settings(at)
	if err != nil {
		return nil, err
	}
	connector, is := driver.NewConnector(dsn).(*driver.OracleConnector)
	if !is {
		return nil, &db.Error{Where: at.Where, What: "cannot connect"}
	}
	connector.Dialer(&dialer{net.Dialer{Timeout: wait}, ctx})
	d := &DB{where: at.Where, host: at.URL.Host, tls: isOn(q.Get("ssl")),
		checked: !q.Has("ssl verify") || isOn(q.Get("ssl verify")),
		pool:    sql.OpenDB(connector), locks: map[string]*lock{}, wait: at.LockWait}
	if d.c, err = d.session(ctx); err != nil {
		d.pool.Close()
		return nil, err
	}
	if err := d.know(ctx); err != nil {
		d.Close()
		return nil, err
	}
	if at.ReadOnly {
		d.guarded = true
		if err := d.begin(); err != nil {
			d.Close()
			return nil, err
		}
		if err := d.do(ctx, "cannot be read only", "SET TRANSACTION READ ONLY"); err != nil {
			d.Close()
			return nil, err
		}
	}
	return d, nil
}

// isOn is which words the driver takes for yes; all others are no to it.
func isOn(word string) bool {
	return slices.Contains([]string{"true", "enable", "enabled"}, strings.ToLower(word))
}

// session is one more connection, under our settings: what text means, how it is compared,
// and in which zone times are.
func (d *DB) session(ctx context.Context) (*sql.Conn, error) {
	c, err := d.pool.Conn(ctx)
	if err != nil {
		return nil, explain(d.where, "cannot connect", err)
	}
	for _, s := range []string{"ALTER SESSION SET NLS_NUMERIC_CHARACTERS = '.,' NLS_SORT = BINARY NLS_COMP = BINARY " +
		"NLS_LENGTH_SEMANTICS = CHAR NLS_DATE_LANGUAGE = 'AMERICAN' NLS_DATE_FORMAT = 'YYYY-MM-DD HH24:MI:SS' " +
		"NLS_TIMESTAMP_FORMAT = 'YYYY-MM-DD HH24:MI:SS.FF' " +
		"NLS_TIMESTAMP_TZ_FORMAT = 'YYYY-MM-DD HH24:MI:SS.FF TZH:TZM'", "ALTER SESSION SET TIME_ZONE = '+00:00'",
		fmt.Sprintf("ALTER SESSION SET DDL_LOCK_TIMEOUT = %d", d.lockSeconds())} {
		if _, err := c.ExecContext(ctx, s); err != nil {
			c.Close()
			return nil, explain(d.where, "cannot be set up", err)
		}
	}
	return c, nil
}

// lockSeconds is how long others' locks are waited for, within what the server takes.
func (d *DB) lockSeconds() int {
	return min(max(int(cmp.Or(d.wait, db.LockWait).Seconds()), 1), 1_000_000)
}

// know asks what the server is.
func (d *DB) know(ctx context.Context) error {
	rows, err := d.questions().Rows(ctx, "cannot connect", `SELECT v.version, n.value,
		SYS_CONTEXT('USERENV', 'CURRENT_SCHEMA'), SYS_CONTEXT('USERENV', 'SID')
		FROM product_component_version v JOIN nls_database_parameters n ON n.parameter = 'NLS_CHARACTERSET'
		WHERE v.product LIKE 'Oracle%'`)
	if err != nil {
		return err
	}
	if len(rows) == 0 {
		return d.fail("does not say what it is", nil)
	}
	r := rows[0]
	version := *r[0]
	first, rest, _ := strings.Cut(version, ".")
	d.major, _ = strconv.Atoi(first)
	second, _, _ := strings.Cut(rest, ".")
	d.charset, d.schema, d.id = *r[1], *r[2], *r[3]
	if d.major < 12 || d.major == 12 && second < "2" {
		return &db.Error{Where: d.where, What: "is version " + version + " of Oracle Database",
			Do: "version 12.2 and later can be loaded; script --for oracle writes what an older one may take"}
	}
	return nil
}

// Dialect is Dialect.
func (d *DB) Dialect() *dialect.Dialect { return Dialect }

// Protection implements [db.Guarded]. What the driver encrypts by the server's own means is
// not known here.
func (d *DB) Protection(context.Context) (db.Protection, error) {
	p := db.Protection{Local: db.Loopback(d.host)}
	if d.tls {
		p.TLS, p.Certificate, p.Name = "TLS", d.checked, d.checked
	}
	return p, nil
}

// Close ends the connection; the server rolls back what is open.
func (d *DB) Close() error {
	if d.load != nil {
		d.load.Rollback()
	}
	d.RollbackTogether()
	d.rollback()
	d.Unstage(context.Background())
	d.unlockAll()
	if d.c != nil {
		d.c.Close()
	}
	return d.pool.Close()
}

// begin starts a transaction: until its end, the driver commits nothing by itself.
func (d *DB) begin() (err error) {
	if d.tx, err = begun(d.c); err != nil {
		return d.fail("cannot begin a transaction", err)
	}
	return nil
}

// begun is a transaction of a connection's, of which the server is told nothing.
func begun(c *sql.Conn) (tx sqldriver.Tx, err error) {
	err = c.Raw(func(c any) error {
		tx, err = c.(sqldriver.ConnBeginTx).BeginTx(context.Background(), sqldriver.TxOptions{})
		return err
	})
	return tx, err
}

// commit ends it well. Where no answer came, it may have been.
func (d *DB) commit() error {
	tx := d.tx
	d.tx = nil
	err := d.c.Raw(func(any) error { return tx.Commit() })
	switch {
	case err == nil:
		return nil
	case asServer(err) == nil:
		return &db.Unsure{Err: d.fail("cannot commit", err)}
	}
	return d.fail("cannot commit", err)
}

func (d *DB) rollback() error {
	if d.tx == nil {
		return nil
	}
	tx := d.tx
	d.tx = nil
	if err := d.c.Raw(func(any) error { return tx.Rollback() }); err != nil && !errors.Is(err, sql.ErrConnDone) {
		return d.fail("cannot roll back", err)
	}
	return nil
}

// do runs a statement that yields nothing.
func (d *DB) do(ctx context.Context, what, statement string) error {
	if _, err := d.c.ExecContext(ctx, statement); err != nil {
		return d.fail(what, err)
	}
	return nil
}

func (d *DB) fail(what string, err error) error { return explain(d.where, what, err) }

// asServer is the server's own error within another, or nil.
func asServer(err error) *network.OracleError {
	var m *network.OracleError
	if errors.As(err, &m) && !m.Bad() {
		return m
	}
	return nil
}

// said is what the server says, in one line.
func said(m *network.OracleError) string {
	text := m.ErrMsg
	if text == "" {
		text = m.Error()
	}
	text, _, _ = strings.Cut(strings.TrimSpace(text), "\n")
	return strings.TrimSpace(text)
}

// hints are what can be done about the server's errors, by their numbers.
var hints = map[int]string{
	1031: "ask the owner for the right, for instance GRANT CREATE TABLE TO the user, or GRANT INSERT, SELECT " +
		"ON the table",
	942:   "check the name, and that the user may read the table",
	1950:  "ask the administrator for room: ALTER USER the user QUOTA UNLIMITED ON the tablespace",
	1536:  "the user's room in the tablespace is used up; ask the administrator for more",
	1653:  db.HintDisk,
	1652:  "the server's room for sorting is used up; ask the administrator for more",
	30036: "the server keeps no more of what would be rolled back; ask for more undo, or say --commit-every N",
	1555:  "the server has not kept the old rows long enough; load again at a quieter time",
	54:    db.HintLocked,
	30006: db.HintLocked,
	60:    "another session and this one waited for each other, and the server ended this one; load again",
	12514: "the listener knows no such service: check the name behind the host, or name a SID with sid=NAME",
	12505: "the listener knows no such SID",
	28000: "the account is locked; ask the administrator",
	28001: "the password has expired; change it with the server's own client",
	1792: "leave columns out with --leave-out, or load groups of them, with --only, into tables of their own; " +
		"since 23ai the administrator can allow 4,096 (MAX_COLUMNS)",
	2449: "other tables refer to it; use --mode refill, which keeps it",
}

var tlsHints = db.TLSHints{
	Name: "the server's certificate is for another name: write that name as the host of the URL, if it is the server " +
		"that is meant",
	Certificate: "the server could not be proved to be the one that is meant: name a wallet that has the certificate " +
		"of its authority, with wallet=FOLDER in the URL; ssl verify=false does without, and somebody between could " +
		"read and change all",
	None: "the server has no TLS at that port, or another: ask which port has it (often 2484), or leave out ssl on a " +
		"network that is yours alone",
}

// explain adds to a failure what can be done about it. The driver's errors hold no password.
func explain(where, what string, err error) error {
	e := &db.Error{Where: where, What: what, Err: err}
	var m *network.OracleError
	if errors.As(err, &m) {
		e.Err = &db.Spoken{Text: said(m), Err: err}
		if e.Do = hints[m.ErrCode]; m.ErrCode == 1017 {
			e.Do = fmt.Sprintf(db.HintPassword, "")
		}
		if m.Bad() {
			e.Do = db.HintLost
		}
		e.Missing = m.ErrCode == 12514 || m.ErrCode == 12505
		e.Clash, e.Twice = m.ErrCode == 60, m.ErrCode == 1
		return e
	}
	if err == nil {
		return e
	}
	if errors.Is(err, context.Canceled) {
		e.Err = context.Canceled
		return e
	}
	if e.Do = db.NetworkHint(err, "the listener's address", tlsHints); db.Lost(err) {
		e.Do = db.HintLost
	}
	return e
}

func (d *DB) questions() db.Questions {
	return db.Questions{Asker: asker{d.c}, Dialect: Dialect, Fail: d.fail}
}

// asker implements db.Asker.
type asker struct{ c *sql.Conn }

// Ask implements db.Asker.
func (a asker) Ask(ctx context.Context, statement string, args ...any) (out [][]*string, err error) {
	if !isQuery(statement) {
		_, err := a.c.ExecContext(ctx, statement, args...)
		return nil, err
	}
	rows, err := a.c.QueryContext(ctx, statement, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return nil, err
	}
	return db.Texts(rows, len(names), func(_ int, v any) string { return string(plain(nil, v)) })
}

// isQuery reports a statement that yields rows.
func isQuery(statement string) bool {
	s := strings.TrimLeft(statement, " \t\r\n(")
	return len(s) >= 6 && strings.EqualFold(s[:6], "SELECT") || len(s) >= 4 && strings.EqualFold(s[:4], "WITH")
}

// List implements db.Lister.
func (d *DB) List(ctx context.Context) ([]db.Listing, error) {
	rows, err := d.questions().Rows(ctx, "cannot list tables", `SELECT o.object_name, o.object_type, t.num_rows
		FROM all_objects o LEFT JOIN all_tables t ON t.owner = o.owner AND t.table_name = o.object_name
		WHERE o.owner = :1 AND o.object_type IN ('TABLE', 'VIEW') ORDER BY 1`, d.schema)
	if err != nil {
		return nil, err
	}
	var list []db.Listing
	for _, r := range rows {
		x := db.Listing{Name: shown(*r[0]), Kind: strings.ToLower(*r[1])}
		if x.Name == locksTable {
			continue // while somebody holds one
		}
		if r[2] != nil {
			x.Rows, _ = strconv.ParseInt(*r[2], 10, 64)
		}
		if db.IsSide.MatchString(x.Name) {
			x.Kind = "unfinished"
			if free, err := d.free(ctx, "", lockOf(x.Name)); err == nil && free {
				x.Kind = "remains"
			}
		}
		list = append(list, x)
	}
	return list, d.questions().CountListed(ctx, list, db.ExactRows)
}

// Head implements db.Lister.
func (d *DB) Head(ctx context.Context, schema, table string, n int) ([][]*string, error) {
	return d.questions().Head(ctx, schema, table, n)
}

// Count implements db.Session.
func (d *DB) Count(ctx context.Context, t *db.Table) (int64, error) {
	return d.questions().Count(ctx, t.Schema, t.Name)
}
