// Package postgres loads into PostgreSQL by COPY from the client.
//
// All of a load is one transaction, under REPEATABLE READ so that what the
// table held before and after are seen without the work of others between. Rows
// go in as binary COPY, each batch under a savepoint. When the server refuses
// a row it names the line; the rows before it are sent again, the refused one
// is left out, and the batch goes on behind it. Where it names no line, as for
// foreign keys, the batch is halved until the row is found.
package postgres

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/sink"
	"ambertray/internal/sqltype"
	"ambertray/internal/tally"
)

var quote = Dialect.Quote

// DB is a connection.
type DB struct {
	where string // without password
	c     *pgx.Conn
	load  *load
	// together is the transaction that several loads are in, or nil.
	together  pgx.Tx
	deferred  bool   // its foreign keys are heeded at the end
	refitting pgx.Tx // of a change of a definition
	stage     *stage // of a merge, or nil
	lent      uint32 // the server's process that a pooler has lent, or 0
	wait      string // how long is waited for a lock; empty: as the server likes
}

// connect opens a session. Its settings are those under which values are
// compared: UTC, ISO dates, UTF-8.
func connect(ctx context.Context, where string, cfg *pgx.ConnConfig) (*DB, error) {
	wait := cfg.RuntimeParams[lockWait]
	prepare(cfg)
	c, err := pgx.ConnectConfig(ctx, cfg)
	if err != nil {
		return nil, explain(where, "cannot connect", err)
	}
	d := &DB{where: where, c: c, wait: wait}
	if err := d.behind(ctx); err != nil {
		c.Close(context.WithoutCancel(ctx))
		return nil, err
	}
	return d, nil
}

// Protection implements [db.Guarded].
func (d *DB) Protection(context.Context) (db.Protection, error) {
	cfg := d.c.Config()
	local := db.Loopback(cfg.Host)
	c, is := d.c.PgConn().Conn().(*tls.Conn)
	if !is {
		return db.Protection{Local: local}, nil
	}
	// Of the ways that were tried, the one to this server with TLS.
	settings := cfg.TLSConfig
	for _, f := range cfg.Fallbacks {
		if settings == nil {
			settings = f.TLSConfig
		}
	}
	p := db.ProtectionOf(settings, local)
	p.TLS = tls.VersionName(c.ConnectionState().Version)
	return p, nil
}

// version is the server's major version; 0: it is not known.
func (d *DB) version() int {
	major, _, _ := strings.Cut(d.c.PgConn().ParameterStatus("server_version"), ".")
	n, _ := strconv.Atoi(strings.TrimRightFunc(major, func(r rune) bool { return r < '0' || r > '9' }))
	return n
}

// inUTF8 reports a database whose texts have the bytes that they are sent with. SQL_ASCII keeps what it gets.
func (d *DB) inUTF8() bool {
	encoding := d.c.PgConn().ParameterStatus("server_encoding")
	return encoding == "UTF8" || encoding == "SQL_ASCII" || encoding == ""
}

// Dialect is Dialect.
func (d *DB) Dialect() *dialect.Dialect { return Dialect }

// Close ends the connection; the server rolls back what is open.
func (d *DB) Close() error { return d.c.Close(context.Background()) }

// explain adds to a failure what can be done about it. The driver's errors
// may hold the connection string, so that only the server's words are kept.
func explain(where, what string, err error) error {
	e := &db.Error{Where: where, What: what}
	var p *pgconn.PgError
	switch {
	case err == nil: // it is no error of the server's or the driver's
	case errors.As(err, &p):
		e.Err = fmt.Errorf("%s (SQLSTATE %s)", p.Message, p.Code)
		if p.Detail != "" {
			e.Err = fmt.Errorf("%s: %s (SQLSTATE %s)", p.Message, p.Detail, p.Code)
		}
		switch {
		case p.Code == "28P01" || p.Code == "28000":
			e.Do = fmt.Sprintf(db.HintPassword, "PGPASSWORD, ~/.pgpass, ")
		case p.Code == "3D000":
			e.Do, e.Missing = db.HintDatabase, true
		case p.Code == "42501":
			e.Do = "ask the owner for the right, for instance GRANT CREATE ON SCHEMA, or GRANT INSERT, SELECT ON " +
				"the table"
		case p.Code == "25006":
			e.Do = "the server takes no changes from this user: it is a standby, or default_transaction_read_only is " +
				"on for the user or the database"
		case p.Code == "57014":
			e.Do = "somebody has ended the statement, or statement_timeout of the user or the database is too short " +
				"for it: ALTER ROLE the user SET statement_timeout = 0"
		case p.Code == "53100":
			e.Do = db.HintDisk
		case p.Code == "2BP01":
			e.Do = "other objects depend on the table; use --mode refill, which keeps it"
		case p.Code == "55P03":
			e.Do = db.HintLocked
		case p.Code == "23505":
			e.Twice = true
		case p.Code == "40P01" || p.Code == "40001":
			e.Clash, e.Do = true, "another session and this one stood in each other's way, and the server ended this "+
				"one; load again"
		case p.Code == "57P01" || p.Code == "57P03":
			e.Do = "the server is shutting down or starting; try again later"
		case p.Code == "3F000":
			e.Do = "make the schema with --create-schema, or choose another with --schema"
		}
	case errors.Is(err, context.Canceled):
		e.Err = context.Canceled
	default:
		e.Err = plain(err)
		text := err.Error()
		e.Do = db.NetworkHint(err, "listen_addresses", db.SSLMode)
		switch {
		case e.Do != "":
		case strings.Contains(text, "TLS") || strings.Contains(text, "tls"):
			e.Do = "see sslmode in the URL: ?sslmode=disable, require or verify-full"
		case strings.Contains(text, "EOF") || strings.Contains(text, "closed") || strings.Contains(text, "reset"):
			e.Do = db.HintLost
		}
	}
	return e
}

// plain keeps of the driver's error only its innermost cause, which names no
// connection string.
func plain(err error) error {
	var many *pgconn.ConnectError
	if errors.As(err, &many) {
		for {
			next := errors.Unwrap(err)
			if next == nil {
				if j, ok := err.(interface{ Unwrap() []error }); ok && len(j.Unwrap()) > 0 {
					err = j.Unwrap()[0]
					continue
				}
				return err
			}
			err = next
		}
	}
	return err
}

func (d *DB) fail(what string, err error) error { return explain(d.where, what, err) }

// Find describes a table or view.
func (d *DB) Find(ctx context.Context, schema, table string) (*db.Table, error) {
	t := &db.Table{Schema: schema, Name: table}
	var oid uint32
	err := d.c.QueryRow(ctx, `SELECT c.oid, c.relkind IN ('v', 'm'), n.nspname, coalesce(obj_description(c.oid, 'pg_class'), '') FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE c.relname = $1 AND c.relkind IN ('r', 'p', 'v', 'f', 'm') AND n.nspname = coalesce(nullif($2, ''), current_schema())`, table, schema).Scan(&oid, &t.View, &t.Schema, &t.Comment)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, d.fail("cannot be read", err)
	}
	rows, err := d.c.Query(ctx, `SELECT a.attname, format_type(a.atttypid, a.atttypmod), a.attnotnull, coalesce(array_position(i.indkey::int2[], a.attnum) + 1, 0),
		a.atthasdef AND a.attgenerated = '', a.attidentity <> '' OR coalesce(pg_get_expr(df.adbin, df.adrelid) LIKE 'nextval(%', false), a.attgenerated <> '',
		coalesce(col_description(a.attrelid, a.attnum), ''),
		CASE WHEN y.typtype = 'd' THEN (WITH RECURSIVE b AS (SELECT y.typbasetype AS oid, y.typtypmod AS mod
			UNION ALL SELECT x.typbasetype, CASE WHEN b.mod = -1 THEN x.typtypmod ELSE b.mod END FROM b JOIN pg_type x ON x.oid = b.oid AND x.typtype = 'd')
			SELECT format_type(b.oid, b.mod) FROM b JOIN pg_type x ON x.oid = b.oid AND x.typtype <> 'd') ELSE '' END,
		ARRAY(SELECT e.enumlabel::text FROM pg_enum e WHERE e.enumtypid = a.atttypid ORDER BY e.enumsortorder)
		FROM pg_attribute a JOIN pg_type y ON y.oid = a.atttypid LEFT JOIN pg_index i ON i.indrelid = a.attrelid AND i.indisprimary
		LEFT JOIN pg_attrdef df ON df.adrelid = a.attrelid AND df.adnum = a.attnum
		WHERE a.attrelid = $1 AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attnum`, oid)
	if err != nil {
		return nil, d.fail("cannot be read", err)
	}
	t.Columns, err = pgx.CollectRows(rows, func(r pgx.CollectableRow) (c db.Column, err error) {
		var base string
		var labels []string
		if err = r.Scan(&c.Name, &c.Type, &c.Required, &c.Key, &c.Default, &c.Identity, &c.Generated,
			&c.Comment, &base, &labels); err == nil {
			standardType(&c, cmp.Or(base, c.Type))
			if len(labels) > 0 {
				c.SQL, c.Keeps.Labels = sqltype.Type{Kind: sqltype.Text}, labels
			}
		}
		return
	})
	if err != nil {
		return nil, d.fail("cannot be read", err)
	}
	return t, nil
}

// Count implements db.Session.
func (d *DB) Count(ctx context.Context, t *db.Table) (int64, error) {
	return d.questions(d.c).Count(ctx, t.Schema, t.Name)
}

// standardType finds the standard type that a column's values are read as, by the type
// that is declared, or that a domain is of.
func standardType(c *db.Column, declared string) {
	name := strings.NewReplacer("character varying", "varchar", "character", "char", "numeric", "decimal",
		" without time zone", "").Replace(declared)
	switch name {
	case "varchar", "text", "citext":
		c.SQL = sqltype.Type{Kind: sqltype.Text}
		return
	case "decimal":
		c.SQL, c.AnyLength = sqltype.Type{Kind: sqltype.Decimal, Precision: sqltype.MaxPrecision}, true
		return
	case "real":
		c.Keeps.Digits = 6 // which it gives back as they were, in any case
		return
	case "money":
		c.Keeps.Decimals = 2
		return
	case `"char"`:
		c.SQL = sqltype.Type{Kind: sqltype.VarChar, Length: 1} // of more it keeps the first
		return
	}
	if t, err := sqltype.Parse(name); err == nil {
		c.SQL = t
	}
}

type load struct {
	d     *DB
	tx    pgx.Tx
	spec  db.Spec
	table string // quoted
	*copier
	loose []bool
	sums  []summed // columns of which checksums are made, or nil
	names []string // of the columns that are loaded, quoted
	key   []string // still to be built
	// final is the table where rows go into a stage first, else empty; stageKey are
	// the columns of the stage that others refer to, quoted.
	final    string
	stageKey []string
	lanes    *lanes  // where rows go over several connections, or nil
	apart    *shards // the partitions to which rows go straight, or nil
	remarks  []string
}

// Begin implements db.Session.
func (d *DB) Begin(ctx context.Context, spec db.Spec) (db.Load, error) {
	l := &load{d: d, spec: spec, copier: &copier{on: d, binary: true}}
	t := spec.Table
	l.table = Dialect.Qualified(t.Schema, t.Name)
	if spec.Steps != "" && !spec.Shared {
		if err := d.claim(ctx, spec.Steps); err != nil {
			return nil, err
		}
	}
	name := t.Name
	d.load = l
	var err error
	if l.inLanes(ctx) {
		if err = l.makeSide(ctx); l.lanes != nil {
			name = l.lanes.side
		}
	} else if l.apart, err = l.goesStraight(ctx); err == nil {
		if err = l.begin(ctx); err == nil {
			err = l.makeReady(ctx)
		}
	}
	if err != nil {
		l.Rollback()
		return nil, err
	}
	l.loose = make([]bool, len(t.Columns))
	found, err := d.Find(ctx, t.Schema, name)
	if err == nil && found == nil {
		err = d.fail("does not have the table "+t.Name, nil)
	}
	if err != nil {
		l.Rollback()
		return nil, err
	}
	for i, c := range t.Columns {
		l.names = append(l.names, quote(c.Name))
		for _, f := range found.Columns {
			if f.Name == c.Name && f.SQL.Kind == sqltype.None {
				l.binary, l.loose[i] = false, true
			} else if f.Name == c.Name && f.SQL.Kind != c.Type.Kind {
				l.binary = false // the server converts
			}
		}
	}
	if l.apart == nil { // else each server adds up what it has
		l.sums, err = l.summedColumns(ctx, found)
	}
	if err != nil {
		l.Rollback()
		return nil, err
	}
	l.copier = d.copyInto(l.table, l.names, l.binary)
	if err := l.beginBeyond(ctx); err != nil {
		l.Rollback()
		return nil, err
	}
	return l, nil
}

// beginBeyond begins the transactions of the servers to which rows go straight.
func (l *load) beginBeyond(ctx context.Context) error {
	if l.apart == nil {
		return nil
	}
	return l.apart.begin(ctx, l)
}

// Remarks implements db.Remarker.
func (l *load) Remarks() []string { return l.remarks }

// makeReady empties the table, or makes it.
func (l *load) makeReady(ctx context.Context) error {
	var steps []string
	for _, sql := range l.spec.Alter {
		if _, err := l.tx.Exec(ctx, sql); err != nil {
			return l.d.fail("refuses: "+firstLine(sql), err)
		}
	}
	if l.spec.Keep != "" {
		for _, sql := range []string{"LOCK TABLE " + l.table + " IN ACCESS EXCLUSIVE MODE",
			Dialect.Keep(l.spec.Table.Schema, l.spec.Keep, l.spec.Table.Name)} {
			if _, err := l.tx.Exec(ctx, sql); err != nil {
				return l.d.fail("cannot keep the old rows", err)
			}
		}
	}
	switch l.spec.Mode {
	case db.Refill:
		switch {
		case len(l.spec.Referrers) > 0:
			return l.inPlace(ctx)
		case l.apart != nil:
			return l.apart.empty(ctx, l)
		}
		return l.d.empty(ctx, l.table)
	case db.Replace:
		steps = append(steps, "DROP TABLE IF EXISTS "+l.table)
	case db.Append, db.Create, db.Merge:
	}
	if l.spec.Mode.New() && !l.spec.Going {
		schema := l.spec.Table.Schema
		if l.spec.MakeSchema && schema != "" {
			there := false
			if err := l.tx.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM pg_namespace WHERE nspname = $1)", schema).Scan(
				&there); err != nil {
				return l.d.fail("cannot see whether the schema is there", err)
			}
			if !there { // who may not make schemas may use one that is there
				steps = append(steps, "CREATE SCHEMA "+quote(schema))
			}
		}
		steps = append(steps, l.definition()...)
	}
	for _, sql := range steps {
		if _, err := l.tx.Exec(ctx, sql); err != nil {
			return l.d.fail("refuses: "+firstLine(sql), err)
		}
	}
	return nil
}

// definition is the statements that make the table.
func (l *load) definition() []string {
	if like := l.spec.Like; like != nil {
		return []string{fmt.Sprintf("CREATE TABLE %s (LIKE %s INCLUDING ALL)", l.table,
			Dialect.Qualified(like.Schema, like.Table))}
	}
	// The key is built when all rows are in, which takes a fraction of the time;
	// see Finish. A table that others see before, or whose rows cannot be read
	// again, has it from the start.
	if l.spec.Steps != "" || l.spec.Once {
		return Dialect.Create(l.spec.Table)
	}
	l.key = l.spec.Table.Key
	return Dialect.Create(keyless(l.spec.Table))
}

// keyless is a table without its key, whose columns take no nulls all the same.
func keyless(t dialect.Table) dialect.Table {
	t.Columns = slices.Clone(t.Columns)
	for i := range t.Columns {
		t.Columns[i].Required = t.Columns[i].Required || slices.Contains(t.Key, t.Columns[i].Name)
	}
	t.Key = nil
	return t
}

// empty takes all rows out of a table: by TRUNCATE, or by DELETE where other
// tables refer to it, or only that is allowed.
func (d *DB) empty(ctx context.Context, table string) error {
	truncate, remove := "TRUNCATE "+table, "DELETE FROM "+table
	refused, err := d.attempt(ctx, truncate)
	switch {
	case err != nil || refused == nil:
		return err
	case refused.Code != "0A000" && refused.Code != "42501":
		return d.fail("refuses: "+truncate, refused)
	}
	if _, err := d.c.Exec(ctx, remove); err != nil {
		return d.fail("refuses: "+remove, err)
	}
	return nil
}

// begin starts a transaction of the load.
func (l *load) begin(ctx context.Context) error {
	tx := l.d.together
	if tx == nil {
		var err error
		level := pgx.RepeatableRead
		if l.spec.Opening != "" { // of what others do, it has to see the newest
			level = pgx.ReadCommitted
		}
		if tx, err = l.d.c.BeginTx(ctx, pgx.TxOptions{IsoLevel: level}); err != nil {
			return l.d.fail("cannot begin a transaction", err)
		}
	}
	err := l.d.stays(ctx)
	if err == nil {
		err = l.stand(ctx, tx)
	}
	if err != nil {
		tx.Rollback(context.Background())
		return err
	}
	steps := []string{"SET LOCAL synchronous_commit = on"}
	if !l.d.deferred {
		steps = append(steps, "SET CONSTRAINTS ALL IMMEDIATE")
	}
	if l.spec.Mode == db.Append || l.spec.Going {
		// Nobody may change the definition meanwhile.
		steps = append(steps, "LOCK TABLE "+l.table+" IN ROW EXCLUSIVE MODE")
	}
	for _, sql := range steps {
		if _, err := tx.Exec(ctx, sql); err != nil {
			tx.Rollback(context.Background())
			return l.d.fail("refuses: "+sql, err)
		}
	}
	l.tx = tx
	return nil
}

func firstLine(s string) string {
	s, _, _ = strings.Cut(s, "\n")
	return strings.TrimSuffix(s, " (")
}

// Encoder implements db.Load.
func (l *load) Encoder() sink.Encoder {
	var types []sqltype.Type
	for _, c := range l.spec.Table.Columns {
		types = append(types, c.Type)
	}
	if l.sums != nil {
		return &summing{binaryEncoder: binaryEncoder{types: types}, columns: l.sums}
	}
	if l.binary {
		return &binaryEncoder{types: types}
	}
	return &textEncoder{types}
}

// Write implements db.Load. A batch is sent as one segment, so that its
// refusals are known when Write returns.
func (l *load) Write(ctx context.Context, b sink.Batch) ([]sink.Refusal, error) {
	if l.lanes != nil {
		return l.lanes.Put(ctx, b)
	}
	return l.write(ctx, b)
}

// write is Write over the load's own connection.
func (l *load) write(ctx context.Context, b sink.Batch) ([]sink.Refusal, error) {
	if l.apart != nil {
		return l.apart.write(ctx, b, l.copier)
	}
	return l.take(ctx, b.Data, b.Rows)
}

// Finish implements db.Finisher: it builds the key. Rows that break it are
// those whose key an earlier row has; the rows of a new table lie in the order
// in which they came.
func (l *load) Finish(ctx context.Context) ([]sink.Refusal, error) {
	if l.final != "" {
		return nil, l.settleIn(ctx)
	}
	if l.lanes == nil {
		return l.buildKey(ctx)
	}
	for _, step := range []func(context.Context) error{l.lanes.Land, l.takeName, l.buildLoneKey, l.makeIndexes} {
		if err := step(ctx); err != nil {
			return nil, err
		}
	}
	return l.lanes.Found, nil
}

// buildKey is described at Finish.
func (l *load) buildKey(ctx context.Context) ([]sink.Refusal, error) {
	if len(l.key) == 0 {
		return nil, nil
	}
	var names []string
	for _, k := range l.key {
		names = append(names, quote(k))
	}
	key := strings.Join(names, ", ")
	build := fmt.Sprintf("ALTER TABLE %s ADD PRIMARY KEY (%s)", l.table, key)
	for _, s := range []string{"SET LOCAL maintenance_work_mem = '64MB'", "SET LOCAL work_mem = '64MB'",
		// A plain scan yields the rows as they lie.
		"SET LOCAL synchronize_seqscans = off", "SET LOCAL max_parallel_workers_per_gather = 0",
		// Sorting finds what stands twice in half the time that hashing takes.
		"SET LOCAL enable_hashagg = off", "SAVEPOINT key"} {
		if _, err := l.tx.Exec(ctx, s); err != nil {
			return nil, l.d.fail("cannot build the key", err)
		}
	}
	_, err := l.tx.Exec(ctx, build)
	if err == nil {
		_, err = l.tx.Exec(ctx,
			"SET LOCAL max_parallel_workers_per_gather = DEFAULT; SET LOCAL enable_hashagg = DEFAULT")
		if err != nil {
			return nil, l.d.fail("cannot go on", err)
		}
		return nil, nil
	}
	var p *pgconn.PgError
	if !errors.As(err, &p) || p.Code != "23505" {
		return nil, l.d.fail("cannot build the key", err)
	}
	if l.lanes != nil && l.lanes.Many() {
		return nil, &db.OutOfOrder{Err: l.d.fail("cannot build the key", err)}
	}
	if _, err := l.tx.Exec(ctx, "ROLLBACK TO key"); err != nil {
		return nil, l.d.fail("cannot go on", err)
	}
	rows, err := l.tx.Query(ctx, fmt.Sprintf(`WITH twice AS (SELECT %[1]s FROM %[2]s GROUP BY %[1]s HAVING count(*) > 1),
		numbered AS (SELECT %[1]s, ctid AS place, row_number() OVER () - 1 AS number FROM %[2]s),
		found AS (SELECT place, number, row_number() OVER (PARTITION BY %[1]s ORDER BY place) AS turn FROM numbered WHERE (%[1]s) IN (SELECT %[1]s FROM twice)),
		gone AS (DELETE FROM %[2]s WHERE ctid IN (SELECT place FROM found WHERE turn > 1))
		SELECT number FROM found WHERE turn > 1 ORDER BY 1`, key, l.table))
	if err != nil {
		return nil, l.d.fail("cannot find what breaks the key", err)
	}
	numbers, err := pgx.CollectRows(rows, pgx.RowTo[int64])
	if err != nil {
		return nil, l.d.fail("cannot find what breaks the key", err)
	}
	for _, s := range []string{build,
		"SET LOCAL max_parallel_workers_per_gather = DEFAULT; SET LOCAL enable_hashagg = DEFAULT"} {
		if _, err := l.tx.Exec(ctx, s); err != nil {
			return nil, l.d.fail("cannot build the key", err)
		}
	}
	var out []sink.Refusal
	for _, n := range numbers {
		reason := fmt.Sprintf("%s (SQLSTATE %s)", p.Message, p.Code)
		out = append(out, sink.Refusal{Row: int(n), Column: l.key[0], Message: reason, Kind: reason})
	}
	return out, nil
}

// Tally implements db.Load.
func (l *load) Tally(ctx context.Context) (int64, []tally.Tally, error) {
	if l.apart != nil {
		return l.apart.tally(ctx, l)
	}
	return l.d.tally(ctx, l.tx, l.spec.Table, l.loose)
}

// Tally implements db.Session.
func (d *DB) Tally(ctx context.Context, t dialect.Table) (int64, []tally.Tally, error) {
	found, err := d.Find(ctx, t.Schema, t.Name)
	if err != nil {
		return 0, nil, err
	}
	tx, err := d.within(ctx, pgx.ReadOnly)
	if err != nil {
		return 0, nil, d.fail("cannot begin a transaction", err)
	}
	defer tx.Rollback(ctx)
	return d.tally(ctx, tx, t, db.LooseColumns(found, t.Columns))
}

// within begins a transaction, or a savepoint in the one that is open: what begins another
// would end it.
func (d *DB) within(ctx context.Context, mode pgx.TxAccessMode) (pgx.Tx, error) {
	switch {
	case d.refitting != nil:
		return d.refitting.Begin(ctx)
	case d.together != nil:
		return d.together.Begin(ctx)
	}
	return d.c.BeginTx(ctx, pgx.TxOptions{AccessMode: mode})
}

// useProcessors lets processors share the work of going through a table; the
// transaction's own rows are seen by all of them.
func useProcessors(ctx context.Context, tx pgx.Tx) error {
	for _, s := range []string{"SET LOCAL jit = off", "SET LOCAL min_parallel_table_scan_size = 0",
		"SET LOCAL parallel_setup_cost = 0", "SET LOCAL parallel_tuple_cost = 0"} {
		if _, err := tx.Exec(ctx, s); err != nil {
			return err
		}
	}
	return nil
}

// tally lets the server add up what a table holds.
func (d *DB) tally(ctx context.Context, tx pgx.Tx, t dialect.Table, loose []bool) (int64, []tally.Tally, error) {
	return d.tallyFrom(ctx, tx, Dialect.Qualified(t.Schema, t.Name), t.Columns, loose)
}

// tallyFrom is tally of what stands behind FROM.
func (d *DB) tallyFrom(ctx context.Context, tx pgx.Tx, from string, columns []dialect.Column,
	loose []bool) (int64, []tally.Tally, error) {
	if err := useProcessors(ctx, tx); err != nil {
		return 0, nil, d.fail("cannot be set up", err)
	}
	var all []tally.Tally
	for first, rows := 0, int64(-1); ; first += tallied {
		last := min(first+tallied, len(columns))
		list := []string{"count(*)::text"}
		for i, c := range columns[first:last] {
			list = append(list, d.facts(quote(c.Name), c.Type, loose[first+i])...)
		}
		got, err := texts(ctx, tx, list, from)
		if err != nil {
			return 0, nil, d.fail("cannot be tallied", err)
		}
		n, some, err := db.ParseFacts(columns[first:last], loose[first:last], got)
		if err == nil && rows >= 0 && n != rows {
			err = d.fail("was changed while it was tallied", nil)
		}
		if rows, all = n, append(all, some...); err != nil || last == len(columns) {
			return rows, all, err
		}
	}
}

// tallied is how many columns are tallied at once: a query yields 1,664 values at most (MaxTupleAttributeNumber in
// src/include/access/htup_details.h), which are four of a column.
const tallied = 400

// texts asks for one row of texts.
func texts(ctx context.Context, tx pgx.Tx, list []string, from string) ([]*string, error) {
	rows, err := tx.Query(ctx, "SELECT "+strings.Join(list, ", ")+" FROM "+from)
	if err != nil {
		return nil, err
	}
	return pgx.CollectExactlyOneRow(rows, func(r pgx.CollectableRow) ([]*string, error) {
		vals := make([]*string, len(list))
		at := make([]any, len(vals))
		for i := range vals {
			at[i] = &vals[i]
		}
		return vals, r.Scan(at...)
	})
}

// facts are the expressions for one column: how many are not null, the sum,
// the smallest and the largest, as text, in the units of reading.Value.
func (d *DB) facts(c string, t sqltype.Type, loose bool) []string {
	n := "count(" + c + ")::text"
	if loose {
		return []string{n, "NULL", "NULL", "NULL"}
	}
	of := func(expr string) []string {
		return []string{n, "sum(" + expr + ")::text", "min(" + expr + ")::text", "max(" + expr + ")::text"}
	}
	switch {
	case t.Kind == sqltype.Boolean:
		return of(c + "::int")
	case t.IsInteger(), t.Kind == sqltype.Decimal:
		return of(c)
	case t.Kind == sqltype.Double:
		return []string{n, "NULL", "min(" + c + ")::text", "max(" + c + ")::text"}
	case t.Kind == sqltype.Date:
		return []string{n, "sum(" + c + " - DATE '1970-01-01')::text", "(min(" + c + ") - DATE '1970-01-01')::text",
			"(max(" + c + ") - DATE '1970-01-01')::text"}
	case t.IsTemporal():
		micros := func(x string) string { return "((extract(epoch from " + x + ") * 1000000)::numeric(30,0))" }
		if d.version() < 14 {
			// There, what is extracted is a double, of which 16 digits count.
			micros = func(x string) string {
				return fmt.Sprintf("(extract(epoch from date_trunc('second', %[1]s))::numeric(30,0) * 1000000 + "+
					"extract(microseconds from %[1]s)::numeric(30,0) %% 1000000)", x)
			}
		}
		return []string{n, "sum(" + micros(c) + ")::text", micros("min("+c+")") + "::text", micros("max("+c+")") +
			"::text"}
	case t.Kind == sqltype.UUID:
		return []string{n, "(36 * count(" + c + "))::text", "min(" + c + "::text COLLATE \"C\")", "max(" + c +
			"::text COLLATE \"C\")"}
	}
	if !d.inUTF8() {
		// Bytes are those of UTF-8, and compared so. Where the database has others, there is no smallest of
		// bytes before 18, but of their digits.
		bytes := "convert_to(" + c + "::text, 'UTF8')"
		of := func(which string) string {
			return fmt.Sprintf("convert_from(decode(%s(encode(%s, 'hex') COLLATE \"C\"), 'hex'), 'UTF8')", which, bytes)
		}
		return []string{n, "sum(octet_length(" + bytes + "))::text", of("min"), of("max")}
	}
	if t.Kind == sqltype.Char {
		// Char compares without the spaces that pad it, as its text does, and
		// its bytes can be told without making texts of all values, which takes
		// longer than all else: those with the padding, less the padding.
		return []string{n, fmt.Sprintf("sum(octet_length(%[1]s) - %[2]d + length(%[1]s))::text", c, t.Length), "min(" +
			c + " COLLATE \"C\")::text", "max(" + c + " COLLATE \"C\")::text"}
	}
	return []string{n, "sum(octet_length(" + c + "::text))::text", "min(" + c + "::text COLLATE \"C\")", "max(" + c +
		"::text COLLATE \"C\")"}
}

// Commit implements db.Load. Sequences behind loaded columns are set to go
// on above the largest value first; they do not take part in transactions.
func (l *load) Commit(ctx context.Context) error {
	table := cmp.Or(l.final, l.table)
	if l.spec.Stage != nil {
		table = Dialect.Qualified(l.spec.Home().Schema, l.spec.Home().Table)
	}
	for _, c := range l.spec.Table.Columns {
		if !c.Type.IsInteger() {
			continue
		}
		var seq *string
		if err := l.tx.QueryRow(ctx, "SELECT pg_get_serial_sequence($1, $2)", table, c.Name).Scan(&seq); err != nil {
			return l.d.fail("cannot find the sequence of "+c.Name, err)
		}
		if seq == nil {
			continue
		}
		if _, err := l.tx.Exec(ctx, fmt.Sprintf(`SELECT setval($1::regclass, m) FROM (SELECT max(%s) AS m FROM %s) x
			WHERE m >= 1 AND m > (SELECT CASE WHEN is_called THEN last_value ELSE last_value - 1 END FROM %s)`, quote(c.Name), table, *seq), *seq); err != nil {
			return l.d.fail("cannot move the sequence of "+c.Name, err)
		}
	}
	if l.spec.Steps != "" {
		if err := l.forget(ctx); err != nil {
			return err
		}
	}
	if err := l.clear(ctx); err != nil {
		return err
	}
	if err := l.commit(ctx); err != nil {
		return err
	}
	if l.lanes != nil {
		l.d.unlockSide(ctx, l.lanes.side)
		l.lanes = nil
	}
	l.apart.end()
	l.d.load = nil
	if l.spec.Steps != "" {
		l.d.tidy(ctx, l.spec.Home().Schema)
	}
	return nil
}

// Rollback implements db.Load.
func (l *load) Rollback() error {
	if l.d.load == nil {
		return nil
	}
	l.d.load = nil
	if l.d.together != nil {
		return nil
	}
	l.apart.end()
	if l.tx != nil {
		if err := l.tx.Rollback(context.Background()); err != nil && !errors.Is(err, pgx.ErrTxClosed) {
			return cmp.Or(l.dropSide(), l.d.fail("cannot roll back", err))
		}
	}
	return l.dropSide()
}

// List implements db.Lister.
func (d *DB) List(ctx context.Context) ([]db.Listing, error) {
	rows, err := d.c.Query(ctx, `SELECT n.nspname, c.relname, CASE WHEN c.relkind IN ('v', 'm') THEN 'view' ELSE 'table' END, c.reltuples::bigint, pg_total_relation_size(c.oid)
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND n.nspname NOT IN ('pg_catalog', 'information_schema') AND n.nspname NOT LIKE 'pg_toast%' AND n.nspname NOT LIKE 'pg_temp%'
		ORDER BY 1, 2`)
	if err != nil {
		return nil, d.fail("cannot list tables", err)
	}
	list, err := pgx.CollectRows(rows, func(r pgx.CollectableRow) (x db.Listing, err error) {
		err = r.Scan(&x.Schema, &x.Name, &x.Kind, &x.Rows, &x.Bytes)
		return
	})
	if err != nil {
		return nil, d.fail("cannot list tables", err)
	}
	for i := range list {
		if x := &list[i]; db.IsSide.MatchString(x.Name) {
			x.Kind = "unfinished"
			if free, err := d.freeSide(ctx, x.Name, false); err == nil && free {
				x.Kind = "remains"
			}
		}
	}
	return list, d.questions(d.c).CountListed(ctx, list, db.ExactRows)
}

// Head implements db.Lister.
func (d *DB) Head(ctx context.Context, schema, table string, n int) ([][]*string, error) {
	return d.questions(d.c).Head(ctx, schema, table, n)
}

func (d *DB) questions(c querier) db.Questions {
	return db.Questions{Asker: asker{c}, Dialect: Dialect, Fail: d.fail}
}

// querier is a connection or a transaction.
type querier interface {
	Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error)
	QueryRow(ctx context.Context, sql string, args ...any) pgx.Row
}

// asker implements db.Asker.
type asker struct{ c querier }

// Ask implements db.Asker. The simple protocol gives every type as text.
func (a asker) Ask(ctx context.Context, sql string, args ...any) (out [][]*string, err error) {
	rows, err := a.c.Query(ctx, sql, append([]any{pgx.QueryExecModeSimpleProtocol}, args...)...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var row []*string
		for _, v := range rows.RawValues() {
			if v == nil {
				row = append(row, nil)
				continue
			}
			s := string(v)
			row = append(row, &s)
		}
		out = append(out, row)
	}
	return out, rows.Err()
}

// createDatabase creates the database of a connection if it is not there.
func createDatabase(ctx context.Context, where string, cfg *pgx.ConnConfig) error {
	name := cfg.Database
	cfg.Database = "postgres"
	c, err := pgx.ConnectConfig(ctx, cfg)
	if err != nil {
		return explain(where, "cannot connect to create the database", err)
	}
	defer c.Close(ctx)
	var there bool
	if err := c.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_database WHERE datname = $1)",
		name).Scan(&there); err != nil || there {
		if err != nil {
			return explain(where, "cannot list databases", err)
		}
		return nil
	}
	if _, err := c.Exec(ctx, "CREATE DATABASE "+quote(name)+" ENCODING 'UTF8' TEMPLATE template0"); err != nil {
		return explain(where, "cannot create the database", err)
	}
	return nil
}
