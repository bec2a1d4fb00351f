// Package mysql loads into MySQL and MariaDB by LOAD DATA LOCAL from memory.
//
// The servers take LOCAL data as if IGNORE had been said: what would be an
// error becomes a warning, a row is skipped or a value changed. So each batch
// goes in under a savepoint, and unless the server took as many rows as were
// sent, without a warning, the batch is rolled back and sent again without the
// rows to blame. MariaDB says which they are; elsewhere they are searched for
// by dividing the batch.
//
// Definitions are committed at once by these servers. A new table is therefore
// made beside the one that is wanted, under a name of our own, and renamed when
// all is verified; a side table whose load has died is removed by the next load
// into the database. It is filled on two connections as long as all goes well,
// see convoy.
package mysql

import (
	"cmp"
	"context"
	"crypto/tls"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	driver "github.com/go-sql-driver/mysql"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/reading"
	"ambertray/internal/sink"
	"ambertray/internal/sqltype"
	"ambertray/internal/tally"
)

var quote = Dialect.Quote

// strictly are the modes of our sessions and scripts beside the strict ones: what
// the servers would change or let pass is an error.
const strictly = "NO_ZERO_DATE,NO_ZERO_IN_DATE,ERROR_FOR_DIVISION_BY_ZERO,NO_ENGINE_SUBSTITUTION,NO_AUTO_VALUE_ON_ZERO"

// config is how to connect.
type config struct {
	Where          string // without password
	User, Password string
	Host           string // with or without port
	Socket         string // instead of a host
	Database       string
	Query          url.Values // the driver's own parameters, like tls
	Timeout        time.Duration
	LockWait       time.Duration
	CreateDatabase bool
}

// DB is a connection.
type DB struct {
	db.Unprepared
	where    string
	database string
	host     string
	tls      *tls.Config // nil: none was asked for
	pool     *sql.DB
	c        *sql.Conn
	holder   *sql.Conn // keeps other loads from the table, or nil
	id       int64     // of the connection c
	maria    bool
	readOnly bool
	load     *load
	together *together // loads that wait for each other, or nil
}

func init() { driver.SetLogger(silent{}) }

// silent keeps the driver from writing to standard error.
type silent struct{}

func (silent) Print(...any) {}

// parameters are those that a URL may have.
const parameters = "the parameters are sslmode (disable, prefer, require, verify-ca, verify-full), sslrootcert, " +
	"sslcert, sslkey (files, PEM) and connect_timeout (seconds)"

// connect opens a session. It is strict, in UTC and in UTF-8.
func connect(ctx context.Context, c config) (*DB, error) {
	network := "tcp"
	if c.Socket != "" {
		network, c.Host = "unix", c.Socket
	} else if _, _, err := net.SplitHostPort(c.Host); err != nil {
		c.Host = net.JoinHostPort(c.Host, "3306")
	}
	cfg := driver.NewConfig()
	cfg.User, cfg.Passwd, cfg.Net, cfg.Addr, cfg.DBName = c.User, c.Password, network, c.Host, c.Database
	cfg.Timeout = c.Timeout
	// Whatever the server or the user's account has for sessions that say nothing. What is sorted is compared by
	// 4,096 bytes: a key has 3,072 at most.
	cfg.Params = map[string]string{"time_zone": "'+00:00'", "max_error_count": "65535", "autocommit": "1",
		"sql_select_limit": "18446744073709551615", "sql_safe_updates": "0", "sql_big_selects": "1",
		"max_sort_length": "4096", "group_concat_max_len": "1048576", "character_set_client": "utf8mb4",
		"character_set_results": "utf8mb4", "collation_connection": "utf8mb4_general_ci",
		"sql_mode": "'STRICT_ALL_TABLES,STRICT_TRANS_TABLES," + strictly + "'"}
	if wait := int(c.LockWait.Seconds()); wait > 0 {
		cfg.Params["lock_wait_timeout"], cfg.Params["innodb_lock_wait_timeout"] = strconv.Itoa(wait), strconv.Itoa(wait)
	}
	for k := range c.Query {
		switch k {
		case "socket", "tls", "sslmode", "sslrootcert", "sslcert", "sslkey":
		case "timeout", "connect_timeout":
			if n, err := strconv.Atoi(c.Query.Get(k)); err == nil {
				cfg.Timeout = time.Duration(n) * time.Second
			}
		default:
			return nil, &db.Error{Where: c.Where, What: fmt.Sprintf("the URL's parameter %q is not known", k),
				Do: parameters}
		}
	}
	if err := protect(cfg, c.Query, c.Host); err != nil {
		return nil, &db.Error{Where: c.Where, What: "the connection cannot be protected as the URL says", Err: err,
			Do: parameters}
	}
	cfg.Collation = "utf8mb4_bin"
	if c.CreateDatabase {
		if err := createDatabase(ctx, c, cfg.Clone()); err != nil {
			return nil, err
		}
	}
	connector, err := driver.NewConnector(cfg)
	if err != nil {
		return nil, explain(c.Where, "cannot connect", err)
	}
	d := &DB{where: c.Where, database: c.Database, host: c.Host, tls: cfg.TLS, pool: sql.OpenDB(connector)}
	if d.c, err = d.pool.Conn(ctx); err != nil {
		d.pool.Close()
		return nil, explain(c.Where, "cannot connect", err)
	}
	var version string
	if err := d.c.QueryRowContext(ctx, "SELECT version(), connection_id()").Scan(&version, &d.id); err != nil {
		d.Close()
		return nil, explain(c.Where, "cannot connect", err)
	}
	d.maria = strings.Contains(version, "MariaDB")
	return d, nil
}

func createDatabase(ctx context.Context, c config, cfg *driver.Config) error {
	cfg.DBName = ""
	connector, err := driver.NewConnector(cfg)
	if err != nil {
		return explain(c.Where, "cannot connect to create the database", err)
	}
	pool := sql.OpenDB(connector)
	defer pool.Close()
	if _, err := pool.ExecContext(ctx,
		"CREATE DATABASE IF NOT EXISTS "+quote(c.Database)+" CHARACTER SET utf8mb4 COLLATE utf8mb4_bin"); err != nil {
		return explain(c.Where, "cannot create the database", err)
	}
	return nil
}

// Dialect is Dialect.
func (d *DB) Dialect() *dialect.Dialect { return Dialect }

// Close ends the connection; the server rolls back what is open.
func (d *DB) Close() error {
	if d.load != nil {
		d.load.Rollback()
	}
	d.RollbackTogether()
	for _, c := range []*sql.Conn{d.c, d.holder} {
		if c != nil {
			c.Close()
		}
	}
	return d.pool.Close()
}

func (d *DB) fail(what string, err error) error { return explain(d.where, what, err) }

// tooLarge is the server's number for a row that does not fit into InnoDB's page.
const tooLarge = 1118

// explain adds to a failure what can be done about it.
func explain(where, what string, err error) error {
	e := &db.Error{Where: where, What: what, Err: err}
	var m *driver.MySQLError
	if errors.As(err, &m) {
		e.Err = fmt.Errorf("%s (error %d)", m.Message, m.Number)
		switch m.Number {
		case 1045, 1698:
			e.Do = fmt.Sprintf(db.HintPassword, "")
		case 1049:
			e.Do, e.Missing = db.HintDatabase, true
		case 1044, 1142, 1143, 1227:
			e.Do = "ask the owner for the right, for instance GRANT CREATE, INSERT, SELECT, DROP ON the database"
		case 1148, 3948, 4166:
			e.Do = noLocal
		case 1021, 1114:
			e.Do = db.HintDisk
		case duplicate:
			e.Twice = true
		case 1205, 1213:
			e.Do, e.Clash = db.HintLocked, m.Number == 1213
		case 1290, 1792, 1836:
			e.Do = "the server takes no changes: it is a replica, or read_only or tx_read_only is on"
		case 1709, 1071:
			e.Do = "InnoDB indexes 3,072 bytes of a column, or 767 where innodb_default_row_format is not dynamic: " +
				"choose another key, or ask for SET GLOBAL innodb_default_row_format = dynamic"
		case 1153:
			e.Do = "the server takes less at once than it is sent: its setting max_allowed_packet is too small"
		case 1412:
			e.Do = "somebody has changed a definition just now, perhaps another load; load again"
		case tooLarge:
			e.Do = "InnoDB keeps a row within half of its page, and of each text at least some 20 bytes (MySQL: " +
				"40) in it: leave columns out (--leave-out), or load the file into two tables"
		case 1047:
			e.Do = "this server of the cluster takes nothing yet; wait, or use another of its servers"
		}
		if strings.Contains(m.Message, "writeset size") {
			e.Do = "the cluster takes no larger transaction (wsrep_max_ws_size); commit on the way, for instance " +
				"with --commit-every 100000"
		}
		return e
	}
	e.Do = db.NetworkHint(err, "bind-address", db.SSLMode)
	if errors.Is(err, driver.ErrInvalidConn) || errors.Is(err, io.EOF) || errors.Is(err, sql.ErrConnDone) ||
		strings.Contains(fmt.Sprint(err), "bad connection") {
		e.Do = db.HintLost
	}
	return e
}

// likeSQL creates a table with the structure of another.
func likeSQL(name string, like *db.Name) string {
	return fmt.Sprintf("CREATE TABLE %s LIKE %s", name, Dialect.Qualified(like.Schema, like.Table))
}

const noLocal = `the server forbids LOAD DATA LOCAL, which is the bulk path; this program allows it, so it is the server's setting:
  SET GLOBAL local_infile = 1;   (needs SUPER or SYSTEM_VARIABLES_ADMIN; lasts until the server restarts)
  or local_infile = 1 under [mysqld] in the server's configuration
  Without it, --slow-path loads by inserts, several times slower`

// schemaOf is the database that a schema is here: its own name, or that of the
// connection.
func (d *DB) schemaOf(schema string) string { return cmp.Or(schema, d.database) }

// Find describes a table or view.
func (d *DB) Find(ctx context.Context, schema, table string) (*db.Table, error) {
	t := &db.Table{Schema: schema, Name: table}
	in := d.schemaOf(schema)
	var engine sql.NullString
	var kind string
	err := d.c.QueryRowContext(ctx,
		"SELECT engine, table_type, coalesce(table_comment, '') FROM information_schema.tables WHERE table_schema = "+
			"? AND table_name = ?", in, table).Scan(&engine, &kind, &t.Comment)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, d.fail(cannotRead, err)
	}
	t.View = strings.Contains(kind, "VIEW")
	if engine.Valid && engine.String != "InnoDB" && kind == "BASE TABLE" {
		t.Unsafe = fmt.Sprintf("the table's engine is %s, which has no transactions: a failed load could not be "+
			"undone; ALTER TABLE … ENGINE=InnoDB", engine.String)
	}
	t.Columns, err = d.columnsOf(ctx, in, table)
	return t, err
}

const cannotRead = "cannot be read"

// columnsOf are the columns of a table. What is asked of the catalogue has the table's name in it as a value:
// a query within another, for each column, would make the server open all tables it has, each time.
func (d *DB) columnsOf(ctx context.Context, schema, table string) (columns []db.Column, err error) {
	keys, err := d.questions().Rows(ctx, cannotRead, "SELECT column_name FROM information_schema.key_column_usage "+
		"WHERE table_schema = ? AND table_name = ? AND constraint_name = 'PRIMARY' ORDER BY ordinal_position",
		schema, table)
	if err != nil {
		return nil, err
	}
	key := map[string]int{}
	for i, k := range keys {
		key[*k[0]] = i + 1
	}
	rows, err := d.c.QueryContext(ctx, "SELECT column_name, column_type, is_nullable, column_default, extra, "+
		"coalesce(generation_expression, ''), coalesce(column_comment, '') FROM information_schema.columns WHERE "+
		"table_schema = ? AND table_name = ? ORDER BY ordinal_position", schema, table)
	if err != nil {
		return nil, d.fail(cannotRead, err)
	}
	defer rows.Close()
	for rows.Next() {
		var c db.Column
		var nullable, extra, generated string
		var def sql.NullString
		if err := rows.Scan(&c.Name, &c.Type, &nullable, &def, &extra, &generated, &c.Comment); err != nil {
			return nil, d.fail(cannotRead, err)
		}
		extra = strings.ToLower(extra)
		c.Key = key[c.Name]
		c.Required = nullable == "NO"
		c.Identity = strings.Contains(extra, "auto_increment")
		c.Generated = generated != "" || strings.Contains(extra, "virtual generated") ||
			strings.Contains(extra, "stored generated")
		c.Default = def.Valid && def.String != "NULL" || strings.Contains(extra, "default_generated")
		standardType(&c)
		columns = append(columns, c)
	}
	if err := rows.Err(); err != nil {
		return nil, d.fail(cannotRead, err)
	}
	return columns, nil
}

// Count implements db.Session.
func (d *DB) Count(ctx context.Context, t *db.Table) (int64, error) {
	return d.questions().Count(ctx, t.Schema, t.Name)
}

var label = regexp.MustCompile(`'((?:[^']|'')*)'`)

// labels are the words of an enum or a set, as the server writes its type.
func labels(typ string) (out []string) {
	for _, m := range label.FindAllStringSubmatch(typ, -1) {
		out = append(out, strings.ReplaceAll(m[1], "''", "'"))
	}
	return out
}

var typeForm = regexp.MustCompile(`^([a-z]+)(?:\(([\d,]+)\))?(.*)$`)

// standardType finds the standard type that a column's values are read as.
func standardType(c *db.Column) {
	m := typeForm.FindStringSubmatch(strings.ToLower(c.Type))
	if m == nil {
		return
	}
	unsigned := strings.Contains(m[3], "unsigned")
	precision, _ := strconv.Atoi(m[2])
	whole := func(k sqltype.Kind, lo, hi int64) {
		c.SQL, c.Lo, c.Hi = sqltype.Type{Kind: k}, lo, hi
		if unsigned {
			c.Lo, c.Hi = 0, hi-lo
			if k == sqltype.SmallInt && c.Hi > 1<<15-1 {
				c.SQL.Kind = sqltype.Integer
			} else if k == sqltype.Integer {
				c.SQL.Kind = sqltype.BigInt
			}
		}
	}
	switch m[1] {
	case "tinyint":
		whole(sqltype.SmallInt, -1<<7, 1<<7-1)
		c.Truth = m[2] == "1"
	case "smallint":
		whole(sqltype.SmallInt, -1<<15, 1<<15-1)
	case "mediumint":
		whole(sqltype.Integer, -1<<23, 1<<23-1)
	case "int":
		whole(sqltype.Integer, -1<<31, 1<<31-1)
	case "bigint":
		c.SQL = sqltype.Type{Kind: sqltype.BigInt}
		if unsigned {
			c.SQL = sqltype.Type{Kind: sqltype.Decimal, Precision: 20}
		}
	case "decimal":
		if t, err := sqltype.Parse("decimal(" + m[2] + ")"); err == nil {
			c.SQL = t
		}
	case "double":
		c.SQL = sqltype.Type{Kind: sqltype.Double}
	case "date":
		c.SQL = sqltype.Type{Kind: sqltype.Date}
	case "time":
		c.SQL = sqltype.Type{Kind: sqltype.Time, Precision: precision}
	case "datetime", "timestamp":
		c.SQL, c.UTC = sqltype.Type{Kind: sqltype.Timestamp, Precision: precision}, true
	case "char":
		c.SQL = sqltype.Type{Kind: sqltype.Char, Length: max(precision, 1)}
	case "varchar":
		c.SQL = sqltype.Type{Kind: sqltype.VarChar, Length: max(precision, 1)}
	case "tinytext", "text", "mediumtext", "longtext":
		c.SQL = sqltype.Type{Kind: sqltype.Text}
	case "uuid":
		c.SQL = sqltype.Type{Kind: sqltype.UUID}
	case "year":
		whole(sqltype.SmallInt, 1901, 2155) // and nothing else that is not made another year
	case "float":
		c.Keeps.Digits = 6
		if _, scale, is := strings.Cut(m[2], ","); is {
			c.Keeps.Decimals, _ = strconv.Atoi(scale)
		}
	case "bit":
		c.Unfit = "a column of bits takes text by its bytes, of 5 it would make 53; make it a whole number"
	case "enum", "set":
		// A number that is no word is taken for the place of one.
		c.Keeps = reading.Keeps{Labels: labels(c.Type), Set: m[1] == "set", AnyCase: true}
	}
}

type load struct {
	d       *DB
	spec    db.Spec
	table   string // quoted: where rows go
	final   string // quoted: its name in the end
	side    string // unquoted name of a side table, or ""
	names   []string
	loose   []bool
	main    *lane
	convoy  *convoy  // the lanes, once they are used
	batches int      // written
	rows    int      // written and not refused
	sums    *summing // how checksums are made, or nil
	keep    string   // the table that has the old rows
	made    bool     // the table is ours, under its own name, and nothing is committed in it
	stepped bool     // a step has been committed
	begun   string   // the note that the load has begun, if it is this one's
	refused []sink.Refusal
	record  []db.LedgerRow // still to be written
	mark    string         // by which the commit can be asked for
	unsure  bool           // the answer to what makes the load come to be was lost
}

// Begin implements db.Session.
func (d *DB) Begin(ctx context.Context, spec db.Spec) (db.Load, error) {
	t := spec.Table
	l := &load{d: d, spec: spec, final: Dialect.Qualified(t.Schema, t.Name)}
	l.table = l.final
	if !spec.SlowPath {
		var on bool
		if err := d.c.QueryRowContext(ctx, "SELECT @@local_infile").Scan(&on); err != nil {
			return nil, d.fail("cannot be set up", err)
		}
		if !on {
			return nil, &db.Error{Where: d.where, What: "cannot load in bulk", Do: noLocal}
		}
	}
	d.load = l
	l.main = newLane(d.c)
	if err := l.prepare(ctx); err != nil {
		l.Rollback()
		return nil, err
	}
	for _, c := range t.Columns {
		l.names = append(l.names, quote(c.Name))
	}
	l.sums = l.summing()
	return l, nil
}

// prepare makes the side table, or empties the existing one, and begins the
// transaction.
func (l *load) prepare(ctx context.Context) error {
	d, t := l.d, l.spec.Table
	if l.spec.Steps != "" {
		if err := l.stepwise(ctx); err != nil {
			return err
		}
	} else if l.spec.Mode.New() {
		if err := l.sweep(ctx); err != nil {
			return err
		}
		side := db.NewSide(t.Schema, t.Name)
		// The lock tells others that this load is alive.
		var got sql.NullInt64
		if err := d.c.QueryRowContext(ctx, "SELECT get_lock(?, 0)", side).Scan(&got); err != nil || got.Int64 != 1 {
			return d.fail("cannot mark the load as running", err)
		}
		made := t
		made.Name = side
		if d.together != nil {
			made.References = d.together.sides.Redirected(t.References)
		}
		statements := Dialect.Create(made)
		if l.spec.Like != nil {
			statements = []string{likeSQL(Dialect.Qualified(t.Schema, side), l.spec.Like)}
		}
		l.side, l.table = side, Dialect.Qualified(t.Schema, side)
		for _, s := range statements {
			if _, err := d.c.ExecContext(ctx, s); err != nil {
				return d.fail("refuses the definition", err)
			}
		}
	}
	l.beginMark(ctx)
	if err := l.keepTable(ctx); err != nil {
		return err
	}
	if err := l.start(ctx); err != nil {
		return err
	}
	if err := l.keepRows(ctx); err != nil {
		return err
	}
	if l.spec.Mode == db.Refill {
		if err := l.empty(ctx); err != nil {
			return err
		}
	}
	schema, name := t.Schema, t.Name
	if l.side != "" {
		name = l.side
	}
	found, err := l.described(ctx, schema, name)
	if err != nil {
		return err
	}
	if found == nil {
		return d.fail("does not have the table "+name, nil)
	}
	l.loose = db.LooseColumns(found, t.Columns)
	return nil
}

// described is the table that the rows go into.
func (l *load) described(ctx context.Context, schema, name string) (*db.Table, error) {
	if l.spec.Stage != nil {
		return l.spec.Stage.Stage, nil
	}
	return l.d.Find(ctx, schema, name)
}

// start begins a transaction of the load.
func (l *load) start(ctx context.Context) error {
	if t := l.d.together; t != nil && l.side == "" {
		if t.there {
			return nil
		}
		t.there = true
	}
	// Some servers insert into an empty table in bulk where unique_checks and
	// foreign_key_checks are off; but then a savepoint cannot be gone back to.
	for _, s := range []string{"SET SESSION unique_checks = 1, foreign_key_checks = 1",
		"SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ", "START TRANSACTION"} {
		if _, err := l.d.c.ExecContext(ctx, s); err != nil {
			return l.d.fail("cannot begin a transaction", err)
		}
	}
	return nil
}

// lockOf is the lock that a load holds as long as it needs a side table.
func lockOf(side string) string { return strings.TrimSuffix(side, "_old") }

// sweep removes side tables whose load has died, of whatever table in the same
// database. The server may still be rolling back one of the same table; up to
// ten seconds are given to that.
func (l *load) sweep(ctx context.Context) error {
	d, t := l.d, l.spec.Table
	in := d.schemaOf(t.Schema)
	rows, err := d.c.QueryContext(ctx,
		"SELECT table_name FROM information_schema.tables WHERE table_schema = ? AND left(table_name, ?) = ?", in,
		len(db.SidePrefix), db.SidePrefix)
	if err != nil {
		return d.fail("cannot list tables", err)
	}
	var stale []string
	for rows.Next() {
		var n string
		if err := rows.Scan(&n); err != nil {
			return d.fail("cannot list tables", err)
		}
		if db.IsSide.MatchString(n) {
			stale = append(stale, n)
		}
	}
	rows.Close()
	for _, n := range stale {
		if d.together.has(n) {
			continue
		}
		own, wait := strings.HasPrefix(n, db.SideNames(t.Schema, t.Name)), 0
		if own {
			wait = 10
		}
		var got sql.NullInt64
		if err := d.c.QueryRowContext(ctx, "SELECT get_lock(?, ?)", lockOf(n), wait).Scan(&got); err != nil {
			return d.fail("cannot see whether a load is running", err)
		}
		if got.Int64 != 1 {
			continue
		}
		_, err := d.c.ExecContext(ctx, "DROP TABLE IF EXISTS "+Dialect.Qualified(t.Schema, n))
		d.c.ExecContext(ctx, "DO release_lock(?)", lockOf(n))
		if err != nil && own { // of others, not everybody may
			return d.fail("cannot remove what a stopped load left", err)
		}
	}
	return nil
}

// Encoder implements db.Load.
func (l *load) Encoder() sink.Encoder {
	e := &encoder{sums: l.sums}
	for _, c := range l.spec.Table.Columns {
		e.types = append(e.types, c.Type)
		if l.sums != nil {
			e.reread = append(e.reread, rereads(c.Type))
		}
	}
	return e
}

// Write implements db.Load.
func (l *load) Write(ctx context.Context, b sink.Batch) ([]sink.Refusal, error) {
	if l.batches == 1 && l.alone() {
		l.convoy = l.newConvoy(ctx)
	}
	l.batches++
	if l.convoy != nil {
		if done, err := l.convoy.write(ctx, b); done || err != nil {
			return nil, err
		}
	}
	refused, err := l.write(ctx, b)
	l.rows += b.Rows - len(refused)
	return refused, err
}

// write loads a batch on the connection of the load.
func (l *load) write(ctx context.Context, b sink.Batch) ([]sink.Refusal, error) {
	l.refused = nil
	var numbers []int
	for i := range b.Rows {
		numbers = append(numbers, i)
	}
	if err := l.send(ctx, b.Data, numbers); err != nil {
		return nil, err
	}
	slices.SortFunc(l.refused, func(a, b sink.Refusal) int { return a.Row - b.Row })
	return l.refused, nil
}

// A complaint is a warning of the server's about a row.
type complaint struct {
	row     int // in what was sent, from 1; 0: not said
	code    int
	message string
}

// duplicate is the server's code for a key that is there already.
const duplicate = 1062

// send loads rows under a savepoint. numbers are their numbers in the batch.
func (l *load) send(ctx context.Context, data []byte, numbers []int) error {
	d := l.d
	for len(numbers) > 0 {
		if _, err := d.c.ExecContext(ctx, "SAVEPOINT segment"); err != nil {
			return d.fail("cannot go on", err)
		}
		complaints, clean, err := l.put(ctx, data, len(numbers))
		if err != nil {
			return err
		}
		if clean {
			return nil // the next savepoint of this name replaces it
		}
		if l.skipped(complaints, len(numbers)) {
			for _, c := range complaints {
				l.refuse(numbers[c.row-1], c)
			}
			return nil
		}
		if _, err := d.c.ExecContext(ctx, "ROLLBACK TO segment"); err != nil {
			return d.fail("cannot go on", err)
		}
		if len(numbers) == 1 {
			c := complaint{message: "the server skipped the row without a word"}
			if len(complaints) > 0 {
				c = complaints[0]
			}
			l.refuse(numbers[0], c)
			return nil
		}
		blamed := map[int]complaint{}
		changed := slices.ContainsFunc(complaints, func(c complaint) bool { return c.code != duplicate })
		for _, c := range complaints {
			// A value that was changed may have made others duplicates, so
			// that duplicates are believed only when nothing else is wrong.
			if c.row >= 1 && c.row <= len(numbers) && (c.code != duplicate || !changed) {
				if _, twice := blamed[c.row]; !twice {
					blamed[c.row] = c
				}
			}
		}
		if len(blamed) == 0 {
			return l.divide(ctx, data, numbers)
		}
		var kept []byte
		var left []int
		rest := data
		for i, n := range numbers {
			var row []byte
			row, rest = rows(rest, 1)
			if c, bad := blamed[i+1]; bad {
				l.refuse(n, c)
				continue
			}
			kept, left = append(kept, row...), append(left, n)
		}
		data, numbers = kept, left
	}
	return nil
}

// skipped reports whether all that happened was that rows with a key that is
// there already were left out, and which is known: then the others are in.
func (l *load) skipped(complaints []complaint, n int) bool {
	seen := map[int]bool{}
	for _, c := range complaints {
		if c.code != duplicate || c.row < 1 || c.row > n || seen[c.row] {
			return false
		}
		seen[c.row] = true
	}
	return !l.spec.SlowPath && len(seen) > 0 && l.main.took == int64(n-len(seen))
}

// divide sends the rows in parts, to find those to blame.
func (l *load) divide(ctx context.Context, data []byte, numbers []int) error {
	part := max((len(numbers)+15)/16, 1)
	for len(numbers) > 0 {
		n := min(part, len(numbers))
		head, rest := rows(data, n)
		if err := l.send(ctx, head, numbers[:n]); err != nil {
			return err
		}
		data, numbers = rest, numbers[n:]
	}
	return nil
}

var columnIn = regexp.MustCompile("for column [`']?(?:[^ ]*\\.)?[`']?([^`' ]+)[`']?( at row| for|$)")

// ownValue is the value in a message that names it.
var ownValue = regexp.MustCompile(`^(Duplicate entry|Incorrect [a-z ]+ value:) '.*?'( |$)`)

func (l *load) refuse(row int, c complaint) { l.refused = append(l.refused, refusalOf(row, c)) }

// refusalOf is what the server says of a row.
func refusalOf(row int, c complaint) sink.Refusal {
	column := ""
	if m := columnIn.FindStringSubmatch(c.message); m != nil {
		column = m[1]
	}
	return sink.Refusal{Row: row, Column: column, Message: fmt.Sprintf("%s (error %d)", c.message, c.code),
		Kind: fmt.Sprintf("%s (error %d)", ownValue.ReplaceAllString(c.message, "$1 "), c.code)}
}

// put sends rows and reports whether the server took them all as they are.
func (l *load) put(ctx context.Context, data []byte, n int) (complaints []complaint, clean bool, err error) {
	d := l.d
	if l.spec.SlowPath {
		return l.insert(ctx, data, n)
	}
	if clean, err = l.main.load(ctx, l.bulk, data, n); err != nil {
		var m *driver.MySQLError
		if errors.As(err, &m) && aboutRows(m.Number) {
			return []complaint{{code: int(m.Number), message: m.Message}}, false, nil
		}
		return nil, false, d.fail("cannot take the rows", err)
	}
	if clean {
		return nil, true, nil
	}
	complaints, err = l.complaints(ctx)
	return complaints, false, err
}

// charset is the one that the server is told. The columns of a new table are in
// UTF-8, as what is sent; told that it is bytes, the server does not look for
// the ends of characters in all of it.
func (l *load) charset() string {
	if l.spec.Mode.New() && l.spec.Like == nil {
		return "binary"
	}
	return "utf8mb4"
}

// located is up to how many warnings MariaDB is asked for their rows.
const located = 300

// complaints reads the warnings of the statement before.
func (l *load) complaints(ctx context.Context) ([]complaint, error) {
	d := l.d
	rows, err := d.c.QueryContext(ctx, "SHOW WARNINGS")
	if err != nil {
		return nil, d.fail("cannot see warnings", err)
	}
	var out []complaint
	for rows.Next() {
		var c complaint
		var level string
		if err := rows.Scan(&level, &c.code, &c.message); err != nil {
			rows.Close()
			return nil, d.fail("cannot see warnings", err)
		}
		if m := atRow.FindStringSubmatch(c.message); m != nil {
			c.row, _ = strconv.Atoi(m[1])
			c.message = strings.TrimSuffix(c.message, m[0])
		}
		out = append(out, c)
	}
	rows.Close()
	if err := rows.Err(); err != nil {
		return nil, d.fail("cannot see warnings", err)
	}
	if !d.maria || len(out) > located {
		return out, nil
	}
	// MariaDB 10.7 and later know the row of each (GET DIAGNOSTICS).
	var ask []string
	for i := range out {
		if out[i].row > 0 {
			continue
		}
		if _, err := d.c.ExecContext(ctx,
			fmt.Sprintf("GET DIAGNOSTICS CONDITION %d @ambertray_%d = ROW_NUMBER", i+1, i)); err != nil {
			return out, nil // an older server; the rows are searched for
		}
		ask = append(ask, strconv.Itoa(i))
	}
	if len(ask) == 0 {
		return out, nil
	}
	vals := make([]sql.NullInt64, len(ask))
	at := make([]any, len(ask))
	for i := range vals {
		at[i] = &vals[i]
	}
	if err := d.c.QueryRowContext(ctx, "SELECT @ambertray_"+strings.Join(ask,
		", @ambertray_")).Scan(at...); err != nil {
		return out, nil
	}
	for i, v := range vals {
		k, _ := strconv.Atoi(ask[i])
		out[k].row = int(v.Int64)
	}
	return out, nil
}

var atRow = regexp.MustCompile(` at row (\d+)$`)

// aboutRows reports an error that a row is to blame for.
func aboutRows(code uint16) bool {
	switch code {
	case 1048, 1062, 1063, 1169, 1216, 1264, 1265, 1292, 1364, 1366, 1406, 1411, 1451, 1452, 1557, 1586, 1644, 1690,
		1761, 3819, 4025:
		return true
	}
	return false
}

// insert is the slow path: inserts of many rows, under strict mode.
func (l *load) insert(ctx context.Context, data []byte, n int) ([]complaint, bool, error) {
	d := l.d
	one := "(?" + strings.Repeat(", ?", len(l.names)-1) + ")"
	most := max(1, min(500, 60000/len(l.names)))
	for n > 0 {
		k := min(n, most)
		var args []any
		for range k {
			args, data = fields(data, args)
		}
		_, err := d.c.ExecContext(ctx, fmt.Sprintf("INSERT INTO %s (%s) VALUES %s%s", l.table,
			strings.Join(l.names, ", "), one, strings.Repeat(", "+one, k-1)), args...)
		var m *driver.MySQLError
		if errors.As(err, &m) && aboutRows(m.Number) {
			return []complaint{{code: int(m.Number), message: atRow.ReplaceAllString(m.Message, "")}}, false, nil
		}
		if err != nil {
			return nil, false, d.fail("cannot take the rows", err)
		}
		n -= k
	}
	return nil, true, nil
}

// Tally implements db.Load.
func (l *load) Tally(ctx context.Context) (int64, []tally.Tally, error) {
	if err := l.settled(ctx); err != nil {
		return 0, nil, err
	}
	return l.d.tally(ctx, l.table, l.spec.Table.Columns, l.loose, l.spec.Mode.New() && l.spec.Like == nil)
}

// Tally implements db.Session.
func (d *DB) Tally(ctx context.Context, t dialect.Table) (int64, []tally.Tally, error) {
	found, err := d.Find(ctx, t.Schema, t.Name)
	if err != nil {
		return 0, nil, err
	}
	return d.tally(ctx, Dialect.Qualified(t.Schema, t.Name), t.Columns, db.LooseColumns(found, t.Columns), false)
}

// tally lets the server add up what a table holds. A new table is ours alone;
// it is added up on two connections side by side, of which the second sees the
// transaction's rows, too.
func (d *DB) tally(ctx context.Context, table string, columns []dialect.Column, loose []bool,
	ours bool) (int64, []tally.Tally, error) {
	lists := [2][]string{{"count(*)"}, nil}
	half := len(columns)
	if ours && len(columns) > 1 {
		half = (len(columns) + 1) / 2
	}
	for i, c := range columns {
		k := 0
		if i >= half {
			k = 1
		}
		lists[k] = append(lists[k], facts(quote(c.Name), c.Type, loose[i], ours)...)
	}
	vals, err := d.askTwice(ctx, [2]question{{lists[0], table}, {lists[1], table}})
	if err != nil {
		return 0, nil, err
	}
	return db.ParseFacts(columns, loose, append(vals[0], vals[1]...))
}

// A question asks for expressions, as text, from a table.
type question struct {
	list []string
	from string
}

// askTwice asks two questions side by side, the second on another connection,
// if one is to be had.
func (d *DB) askTwice(ctx context.Context, q [2]question) (vals [2][]*string, err error) {
	other := make(chan error, 1)
	if len(q[1].list) == 0 {
		other <- nil
	} else if c, err := d.uncommitted(ctx); err == nil {
		defer c.Close()
		go func() {
			var err error
			vals[1], err = scanFacts(ctx, c, q[1].list, q[1].from)
			other <- err
		}()
	} else {
		vals[1], err = scanFacts(ctx, d.c, q[1].list, q[1].from)
		other <- err
	}
	vals[0], err = scanFacts(ctx, d.c, q[0].list, q[0].from)
	if e := <-other; err == nil {
		err = e
	}
	if err != nil {
		return vals, d.fail("cannot be tallied", err)
	}
	return vals, nil
}

// uncommitted is another connection, which sees what the first has not
// committed.
func (d *DB) uncommitted(ctx context.Context) (*sql.Conn, error) {
	c, err := d.pool.Conn(ctx)
	if err != nil {
		return nil, err
	}
	if _, err = c.ExecContext(ctx, "SET SESSION TRANSACTION ISOLATION LEVEL READ UNCOMMITTED"); err != nil {
		c.Close()
		return nil, err
	}
	return c, nil
}

// scanFacts asks for facts, as text.
func scanFacts(ctx context.Context, c *sql.Conn, list []string, from string) ([]*string, error) {
	vals := make([]*string, len(list))
	at := make([]any, len(list))
	for i := range vals {
		at[i] = &vals[i]
	}
	return vals, c.QueryRowContext(ctx, "SELECT "+strings.Join(list, ", ")+" FROM "+from).Scan(at...)
}

// facts are the expressions for one column; see db.ParseFacts. byBytes
// tells that its text is UTF-8 and compared by its bytes as it is.
func facts(c string, t sqltype.Type, loose, byBytes bool) []string {
	n := "count(" + c + ")"
	if loose {
		return []string{n, "NULL", "NULL", "NULL"}
	}
	of := func(expr func(string) string) []string {
		return []string{n, "sum(" + expr(c) + ")", expr("min(" + c + ")"), expr("max(" + c + ")")}
	}
	switch {
	case t.Kind == sqltype.Double:
		return []string{n, "NULL", "min(" + c + ")", "max(" + c + ")"}
	case t.Kind == sqltype.Date:
		days := func(x string) string { return "datediff(" + x + ", '1970-01-01')" }
		// to_days takes half the time of datediff; 719,528 is the day of 1970-01-01.
		return []string{n, "sum(to_days(" + c + ") - 719528)", days("min(" + c + ")"), days("max(" + c + ")")}
	case t.Kind == sqltype.Time:
		return of(func(x string) string {
			return "timestampdiff(MICROSECOND, '1970-01-01', timestamp('1970-01-01', " + x + "))"
		})
	case t.IsTemporal():
		return of(func(x string) string { return "timestampdiff(MICROSECOND, '1970-01-01', " + x + ")" })
	case t.IsText():
		x := "cast(convert(" + c + " USING utf8mb4) AS BINARY)"
		if byBytes {
			x = c
		}
		return []string{n, "sum(length(" + x + "))", "min(" + x + ")", "max(" + x + ")"}
	case t.Kind == sqltype.UUID:
		x := "cast(" + c + " AS CHAR CHARACTER SET ascii)"
		return []string{n, "36 * count(" + c + ")", "min(" + x + ")", "max(" + x + ")"}
	}
	return of(func(x string) string { return x })
}

// Commit implements db.Load.
func (l *load) Commit(ctx context.Context) error {
	d, t := l.d, l.spec.Table
	if err := l.settled(ctx); err != nil {
		return err
	}
	if d.together != nil {
		return l.wait(ctx)
	}
	if l.spec.Steps != "" {
		if err := l.forget(ctx); err != nil {
			return err
		}
	}
	if l.side == "" {
		if err := l.sent(ctx, "cannot commit", "COMMIT"); err != nil {
			return err
		}
	} else if _, err := d.c.ExecContext(ctx, "COMMIT"); err != nil {
		return d.fail("cannot commit", err) // the side table has not its name yet
	}
	if l.spec.Steps != "" {
		d.tidy(ctx, t.Schema)
	}
	if l.side != "" {
		if err := l.takeName(ctx); err != nil {
			return err
		}
	}
	l.end()
	return nil
}

func (l *load) end() {
	l.main.end()
	if l.d.together == nil {
		l.d.c.ExecContext(context.Background(), "DO release_all_locks()")
	}
	l.d.load = nil
}

// Rollback implements db.Load.
func (l *load) Rollback() error {
	if l.d.load == nil {
		return nil
	}
	if l.convoy != nil {
		l.convoy.close()
	}
	if l.unsure {
		l.main.end() // what became of it is to be asked for, and nothing to be taken away
		l.d.load = nil
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), db.EndIn)
	defer cancel()
	_, err := l.d.c.ExecContext(ctx, "ROLLBACK")
	if err != nil {
		// The connection is gone, and the transaction with it; the side
		// table is removed over another one.
		if c, err2 := l.d.pool.Conn(ctx); err2 == nil {
			l.d.c.Close()
			l.d.c = c
		}
	}
	stepwise := l.spec.Steps != "" && !l.spec.Going && !l.stepped
	ours := !stepwise || l.owns(ctx)
	if l.side != "" || l.made && ours {
		if _, err2 := l.d.c.ExecContext(ctx, "DROP TABLE IF EXISTS "+l.table); err2 != nil && err == nil {
			err = err2
		}
		l.side = ""
	}
	if l.keep != "" {
		if _, err2 := l.d.c.ExecContext(ctx, "DROP TABLE IF EXISTS "+l.keep); err2 != nil && err == nil {
			err = err2
		}
	}
	if stepwise && ours {
		l.forget(ctx)
		l.d.tidy(ctx, l.spec.Home().Schema)
	}
	l.Unmark(ctx)
	l.end()
	if err != nil {
		return l.d.fail("cannot roll back", err)
	}
	return nil
}

// List implements db.Lister.
func (d *DB) List(ctx context.Context) ([]db.Listing, error) {
	rows, err := d.c.QueryContext(ctx, `SELECT table_name, IF(table_type LIKE '%VIEW%', 'view', 'table'), coalesce(table_rows, 0), coalesce(data_length, 0) + coalesce(index_length, 0)
		FROM information_schema.tables WHERE table_schema = ? ORDER BY 1`, d.database)
	if err != nil {
		return nil, d.fail("cannot list tables", err)
	}
	var list []db.Listing
	for rows.Next() {
		var x db.Listing
		if err := rows.Scan(&x.Name, &x.Kind, &x.Rows, &x.Bytes); err != nil {
			rows.Close()
			return nil, d.fail("cannot list tables", err)
		}
		list = append(list, x)
	}
	rows.Close()
	for i := range list {
		x := &list[i]
		if db.IsSide.MatchString(x.Name) {
			x.Kind = "unfinished"
			var free sql.NullInt64
			if err := d.c.QueryRowContext(ctx, "SELECT is_free_lock(?)", lockOf(x.Name)).Scan(&free); err == nil &&
				free.Int64 == 1 {
				x.Kind = "remains"
			}
		}
	}
	return list, d.questions().CountListed(ctx, list, db.ExactRows)
}

// Head implements db.Lister.
func (d *DB) Head(ctx context.Context, schema, table string, n int) ([][]*string, error) {
	return d.questions().Head(ctx, schema, table, n)
}

func (d *DB) questions() db.Questions {
	return db.Questions{Asker: asker{d.c}, Dialect: Dialect, Fail: d.fail}
}

// asker implements db.Asker.
type asker struct{ c *sql.Conn }

// Ask implements db.Asker.
func (a asker) Ask(ctx context.Context, sql string, args ...any) (out [][]*string, err error) {
	rows, err := a.c.QueryContext(ctx, sql, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return nil, err
	}
	for rows.Next() {
		row := make([]*string, len(names))
		at := make([]any, len(names))
		for i := range row {
			at[i] = &row[i]
		}
		if err := rows.Scan(at...); err != nil {
			return nil, err
		}
		out = append(out, row)
	}
	return out, rows.Err()
}
