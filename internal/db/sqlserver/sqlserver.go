// Package sqlserver loads into Microsoft SQL Server by INSERT BULK.
//
// All of a load is one transaction, definitions included, since the server rolls them
// back. Rows go in as typed values of the protocol, each batch behind a savepoint; when the
// server refuses a batch, it is divided until the rows to blame are found. What the values
// of a column look like on the wire is settled once, by the column that the table has
// (types.go); rows are encoded side by side, and sent beneath the driver, which does all
// else (wire.go, bulk.go).
//
// Where a table has triggers, an error within one ends the whole transaction. There, rows go
// into a table of the session first, and from there into the table: what ends the
// transaction is found by attempts that are rolled back (stage.go).
package sqlserver

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strconv"
	"strings"
	"time"

	driver "github.com/microsoft/go-mssqldb"
	_ "github.com/microsoft/go-mssqldb/integratedauth/krb5" // Kerberos, where a URL asks for it
	"github.com/microsoft/go-mssqldb/msdsn"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
)

var quote = Dialect.Quote

// DB is a connection.
type DB struct {
	db.Unprepared
	where  string // without password
	host   string
	pool   *sql.DB
	c      *sql.Conn
	wire   *wire
	load   *load
	id     int    // of the session
	major  int    // the server's version: 13 is 2016, 14 2017, 15 2019, 16 2022
	azure  bool   // Azure SQL, whose number says nothing
	schema string // the default one
	again  func(ctx context.Context) (*DB, error)
	// patience is how long locks are waited for; 0: as long as it takes.
	patience time.Duration
	// guarded tells that nothing may be changed: queries run in transactions that are rolled
	// back.
	guarded bool
	// staged are the columns of the tables of a merge, or nil; together loads in one
	// transaction.
	staged   []column
	together *together
}

// parameters are those that a URL may have, in the driver's own words.
var parameters = map[string]bool{"database": true, "encrypt": true, "trustservercertificate": true, "certificate": true,
	"hostnameincertificate": true, "dial timeout": true, "connection timeout": true, "packet size": true,
	"authenticator": true, "krb5-configfile": true, "krb5-keytabfile": true, "krb5-credcachefile": true,
	"krb5-realm":        true,
	"krb5-dnslookupkdc": true, "krb5-udppreferencelimit": true, "serverspn": true, "multisubnetfailover": true,
	"tlsmin": true, "failoverpartner": true, "failoverport": true, "applicationintent": true}

const knownParameters = "the parameters are the driver's: database, encrypt (mandatory, optional, strict, disable), " +
	"trustservercertificate, certificate (file, PEM), hostnameincertificate, authenticator, serverspn, dial timeout"

// ways are the words for how much a connection is encrypted.
var ways = map[string]encryption{"": required, "mandatory": required, "yes": required, "true": required, "1": required,
	"optional": offered, "no": offered, "false": offered, "0": offered, "disable": never, "strict": strict}

// settings are the driver's, from a URL.
func settings(at db.Address) (cfg msdsn.Config, how encryption, err error) {
	u := *at.URL
	q := u.Query()
	clean := url.Values{}
	for k, v := range q {
		k = strings.ToLower(k)
		if !parameters[k] {
			return cfg, 0, &db.Error{Where: at.Where, What: fmt.Sprintf("the URL's parameter %q is not known", k),
				Do: knownParameters}
		}
		clean[k] = v[:1]
	}
	how, is := ways[strings.ToLower(clean.Get("encrypt"))]
	if !is {
		return cfg, 0, &db.Error{Where: at.Where, What: fmt.Sprintf("encrypt=%s is not known", clean.Get("encrypt")),
			Do: knownParameters}
	}
	clean.Set("encrypt", "true")
	clean.Set("app name", "ambertray")
	if clean.Get("dial timeout") == "" && at.Timeout > 0 {
		clean.Set("dial timeout", strconv.Itoa(max(1, int(at.Timeout.Seconds()))))
	}
	user, password, err := at.Login()
	if err != nil {
		return cfg, 0, err
	}
	u.User = nil
	u.RawQuery = clean.Encode()
	if cfg, err = msdsn.Parse(u.String()); err != nil {
		return cfg, 0, &db.BadURL{What: fmt.Sprintf("%q has a parameter that is wrong", at.Where)}
	}
	cfg.User, cfg.Password = user, password
	cfg.Encryption = msdsn.EncryptionDisabled // the wire does it
	if clean.Get("packet size") == "" {
		cfg.PacketSize = 16383
	}
	return cfg, how, nil
}

// connect opens a session.
func connect(ctx context.Context, at db.Address) (*DB, error) {
	cfg, how, err := settings(at)
	if err != nil {
		return nil, err
	}
	if at.CreateDatabase {
		if err := createDatabase(ctx, at, cfg, how); err != nil {
			return nil, err
		}
	}
	d, err := open(ctx, at.Where, cfg, how)
	if err != nil {
		return nil, err
	}
	if d.patience = at.LockWait; d.patience > 0 {
		if err := d.waitForLocks(ctx); err != nil {
			d.Close()
			return nil, err
		}
	}
	d.guarded = at.ReadOnly
	d.again = func(ctx context.Context) (*DB, error) { return open(ctx, at.Where, cfg, how) }
	return d, nil
}

// open opens one connection.
func open(ctx context.Context, where string, cfg msdsn.Config, how encryption) (*DB, error) {
	tlsSettings := cfg.TLSConfig
	if tlsSettings != nil {
		tlsSettings = tlsSettings.Clone()
		tlsSettings.DynamicRecordSizingDisabled = true // servers want a packet in one piece
	}
	dial := &dialer{settings: tlsSettings, how: how, host: cfg.Host, Dialer: net.Dialer{Timeout: cfg.DialTimeout}}
	if how == offered && tlsSettings != nil && cfg.TrustServerCertificate {
		tlsSettings.InsecureSkipVerify = true
	}
	connector := driver.NewConnectorConfig(cfg)
	connector.Dialer = dial
	d := &DB{where: where, host: cfg.Host, pool: sql.OpenDB(connector)}
	d.pool.SetMaxOpenConns(1)
	var err error
	if d.c, err = d.pool.Conn(ctx); err != nil {
		d.pool.Close()
		return nil, explain(where, "cannot connect", err)
	}
	d.wire = dial.last
	// Values are compared under these; the rest is what the driver sets.
	if err := d.do(ctx, "cannot be set up", "SET XACT_ABORT OFF; SET NOCOUNT ON; SET DATEFORMAT ymd; "+
		"SET TRANSACTION ISOLATION LEVEL READ COMMITTED"); err != nil {
		d.Close()
		return nil, err
	}
	var version, edition string
	var schema sql.NullString
	if err := d.c.QueryRowContext(ctx, "SELECT CAST(SERVERPROPERTY('ProductVersion') AS nvarchar(128)), "+
		"CAST(SERVERPROPERTY('EngineEdition') AS nvarchar(128)), SCHEMA_NAME(), @@SPID").Scan(&version, &edition,
		&schema,
		&d.id); err != nil {
		d.Close()
		return nil, explain(where, "cannot connect", err)
	}
	first, _, _ := strings.Cut(version, ".")
	d.major, _ = strconv.Atoi(first)
	d.azure = edition == "5" || edition == "8"
	if d.schema = cmp.Or(schema.String, "dbo"); d.major < 13 {
		d.Close()
		return nil, &db.Error{Where: where, What: "is version " + version + " of SQL Server",
			Do: "version 13 (SQL Server 2016) and later can be loaded; script --for sqlserver writes what an older " +
				"one may take"}
	}
	return d, nil
}

// atLeast reports whether the server is of a version or later; Azure SQL is the latest.
func (d *DB) atLeast(major int) bool { return d.azure || d.major >= major }

// createDatabase creates the database of a connection if it is not there.
func createDatabase(ctx context.Context, at db.Address, cfg msdsn.Config, how encryption) error {
	name := cfg.Database
	cfg.Database = "master"
	d, err := open(ctx, at.Where, cfg, how)
	if err != nil {
		return err
	}
	defer d.Close()
	there, err := d.questions().Rows(ctx, "cannot list databases", "SELECT 1 WHERE DB_ID(@p1) IS NOT NULL", name)
	if err != nil || len(there) > 0 {
		return err
	}
	return d.do(ctx, "cannot create the database", "CREATE DATABASE "+quote(name))
}

// Dialect is Dialect.
func (d *DB) Dialect() *dialect.Dialect { return Dialect }

// Protection implements [db.Guarded].
func (d *DB) Protection(context.Context) (db.Protection, error) {
	return d.wire.protection(db.Loopback(d.host)), nil
}

// Close ends the connection; the server rolls back what is open.
func (d *DB) Close() error {
	if d.load != nil {
		d.load.Rollback()
	}
	d.RollbackTogether()
	if d.c != nil {
		d.c.Close()
	}
	return d.pool.Close()
}

// waitForLocks makes the session wait for locks as long as was asked for.
func (d *DB) waitForLocks(ctx context.Context) error {
	wait := int64(-1)
	if d.patience > 0 {
		wait = d.patience.Milliseconds()
	}
	return d.do(ctx, "cannot be set up", fmt.Sprintf("SET LOCK_TIMEOUT %d", wait))
}

// do runs statements that yield nothing.
func (d *DB) do(ctx context.Context, what, statement string) error {
	if _, err := d.c.ExecContext(ctx, statement); err != nil {
		return d.fail(what, err)
	}
	return nil
}

func (d *DB) fail(what string, err error) error { return explain(d.where, what, err) }

// asServer is the server's own error within another, or nil.
func asServer(err error) *driver.Error {
	var m driver.Error
	if errors.As(err, &m) {
		return &m
	}
	return nil
}

// hints are what can be done about the server's errors, by their numbers.
var hints = map[int32]string{
	4060: db.HintDatabase,
	911:  db.HintDatabase,
	262: "ask the owner for the right, for instance GRANT CREATE TABLE TO the user, and GRANT ALTER ON " +
		"SCHEMA::dbo TO the user",
	2760:  "make the schema with --create-schema, or choose another with --schema",
	229:   "ask the owner for the right, for instance GRANT SELECT, INSERT, DELETE ON the table TO the user",
	230:   "ask the owner for the right, for instance GRANT SELECT, INSERT ON the table TO the user",
	1088:  "ask the owner for the right: GRANT ALTER ON the table TO the user",
	4701:  "ask the owner for the right: GRANT ALTER ON the table TO the user",
	1205:  "another session and this one waited for each other, and the server ended this one; load again",
	1222:  db.HintLocked,
	9002:  "the server's transaction log is full: back it up or make it larger; --commit-every N takes less of it",
	1105:  "the server's filegroup is full; make room and load again",
	1101:  "the server's filegroup is full; make room and load again",
	3726:  "other tables refer to it; use --mode refill, which keeps it",
	3902:  "the server has ended the transaction; nothing of it is in",
	10928: "the server has reached its limit of resources; load again later",
	40613: "the database is not available at the moment; load again later",
}

const unproved = "the server could not be proved to be the one that is meant: name the certificate of its authority " +
	"with certificate=FILE in the URL, or the name that it is for with hostnameincertificate=NAME; " +
	"trustservercertificate=true does without, and somebody between could read and change all"

var tlsHints = db.TLSHints{Name: unproved, Certificate: unproved}

// explain adds to a failure what can be done about it. The driver's errors hold no
// password.
func explain(where, what string, err error) error {
	e := &db.Error{Where: where, What: what, Err: err}
	if m := asServer(err); m != nil {
		e.Err = &db.Spoken{Text: fmt.Sprintf("%s (error %d)", strings.TrimPrefix(m.Message, "login error: "),
			m.Number), Err: err}
		switch m.Number {
		case 18456, 18452:
			e.Do = fmt.Sprintf(db.HintPassword, "")
		default:
			e.Do = hints[m.Number]
		}
		e.Missing = m.Number == 4060 || m.Number == 911
		e.Clash, e.Twice = m.Number == 1205, m.Number == 2627 || m.Number == 2601
		return e
	}
	if err == nil {
		return e
	}
	if errors.Is(err, context.Canceled) {
		e.Err = context.Canceled
		return e
	}
	if e.Do = db.NetworkHint(err, "TCP/IP in its network configuration", tlsHints); db.Lost(err) {
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
	rows, err := a.c.QueryContext(ctx, statement, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	types, err := rows.ColumnTypes()
	if err != nil {
		return nil, err
	}
	return db.Texts(rows, len(types), func(i int, v any) string {
		return string(plain(nil, v, types[i].DatabaseTypeName()))
	})
}

// List implements db.Lister.
func (d *DB) List(ctx context.Context) ([]db.Listing, error) {
	rows, err := d.questions().Rows(ctx, "cannot list tables", `SELECT s.name, o.name, o.type, p.row_count, p.reserved
		FROM sys.objects o JOIN sys.schemas s ON s.schema_id = o.schema_id
		LEFT JOIN (SELECT object_id, sum(CASE WHEN index_id < 2 THEN row_count ELSE 0 END) AS row_count,
			sum(reserved_page_count) AS reserved FROM sys.dm_db_partition_stats GROUP BY object_id) p ON p.object_id = o.object_id
		WHERE o.type IN ('U', 'V') AND o.is_ms_shipped = 0 ORDER BY s.name, o.name`)
	if err != nil {
		// Who may not see the sizes sees the tables.
		rows, err = d.questions().Rows(ctx, "cannot list tables", `SELECT s.name, o.name, o.type, NULL, NULL FROM sys.objects o
			JOIN sys.schemas s ON s.schema_id = o.schema_id WHERE o.type IN ('U', 'V') AND o.is_ms_shipped = 0
			ORDER BY s.name, o.name`)
	}
	if err != nil {
		return nil, err
	}
	var list []db.Listing
	for _, r := range rows {
		x := db.Listing{Schema: *r[0], Name: *r[1], Kind: "table"}
		if x.Schema == d.schema {
			x.Schema = "" // as people write it
		}
		if strings.TrimSpace(*r[2]) == "V" {
			x.Kind = "view"
		}
		if db.IsSide.MatchString(x.Name) {
			if x.Kind = "unfinished"; d.free(ctx, sideLock(x.Name)) {
				x.Kind = "remains"
			}
		}
		if r[3] != nil {
			x.Rows, _ = strconv.ParseInt(*r[3], 10, 64)
			pages, _ := strconv.ParseInt(*r[4], 10, 64)
			x.Bytes = pages * 8192
		}
		list = append(list, x)
	}
	return list, d.questions().CountListed(ctx, list, db.ExactRows)
}

// Head implements db.Lister.
func (d *DB) Head(ctx context.Context, schema, table string, n int) ([][]*string, error) {
	query := d.readable(ctx, Dialect.First("*", Dialect.Qualified(schema, table), n))
	return d.questions().Rows(ctx, "cannot read "+table, query)
}

// Count implements db.Session.
func (d *DB) Count(ctx context.Context, t *db.Table) (int64, error) {
	return d.questions().Count(ctx, t.Schema, t.Name)
}

// lockWait is how long a lock of the program's own is waited for.
const lockWait = 30 * time.Second
