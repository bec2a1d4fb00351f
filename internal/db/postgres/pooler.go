package postgres

import (
	"context"
	"errors"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
)

// A pooler may be between us and the server. It lends out connections that it has: for as long as we are connected
// (a session), or for a transaction at a time. What we rely on is of a session: locks, settings, temporary tables.

// asked are settings that any pooler takes as a connection is asked for; others are set behind.
var asked = map[string]string{"timezone": "UTC", "datestyle": "ISO", "client_encoding": "UTF8",
	"application_name": "ambertray", "standard_conforming_strings": "on"}

// settings are all others under which values are compared.
var settings = map[string]string{"extra_float_digits": "1", "intervalstyle": "postgres", "bytea_output": "hex"}

// lockWait and readOnly are settings of what is wanted now, which are set behind, too.
const (
	lockWait = "lock_timeout"
	readOnly = "default_transaction_read_only"
)

// prepare gives a connection its settings, and those that are copies of it.
func prepare(cfg *pgx.ConnConfig) {
	for k, v := range asked {
		cfg.RuntimeParams[k] = v
	}
	var set []string
	add := func(k, v string) { set = append(set, "SET "+k+" = "+dialect.Quoted(v)) }
	for k, v := range settings {
		delete(cfg.RuntimeParams, k)
		add(k, v)
	}
	for _, k := range []string{lockWait, readOnly} {
		if v, is := cfg.RuntimeParams[k]; is {
			delete(cfg.RuntimeParams, k)
			add(k, v)
		}
	}
	sql := strings.Join(set, "; ")
	cfg.AfterConnect = func(ctx context.Context, c *pgconn.PgConn) error {
		_, err := c.Exec(ctx, sql).ReadAll()
		return err
	}
}

// behind finds out whether a pooler is between, which says another number than the server for the process that we
// talk to, and makes sure that it does not give us another process for each transaction.
func (d *DB) behind(ctx context.Context) error {
	process, err := processOf(ctx, d.c)
	if err != nil {
		return d.fail("cannot be asked", err)
	}
	if process == d.c.PgConn().PID() {
		return nil
	}
	d.lent = process
	// Who lends by the session gives a second connection another process; who has no other makes it wait.
	other, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	c, err := pgx.ConnectConfig(other, d.c.Config().Copy())
	if err != nil {
		return ctx.Err()
	}
	defer c.Close(context.WithoutCancel(ctx))
	if process, err = processOf(other, c); err == nil && process == d.lent {
		return d.changes()
	}
	return ctx.Err()
}

// processOf is the number of the process that a connection is with.
func processOf(ctx context.Context, c *pgx.Conn) (uint32, error) {
	got, err := c.PgConn().Exec(ctx, "SELECT pg_backend_pid()").ReadAll()
	if err != nil {
		return 0, err
	}
	if len(got) != 1 || len(got[0].Rows) != 1 {
		return 0, errors.New("no process was named")
	}
	n, err := strconv.ParseUint(string(got[0].Rows[0][0]), 10, 32)
	return uint32(n), err
}

// stays makes sure that the process is still the one that it was.
func (d *DB) stays(ctx context.Context) error {
	if d.lent == 0 {
		return nil
	}
	process, err := processOf(ctx, d.c)
	if err != nil {
		return d.fail("cannot be asked", err)
	}
	if process != d.lent {
		return d.changes()
	}
	return nil
}

func (d *DB) changes() error {
	return &db.Error{Where: d.where,
		What: "is reached through a pooler that lends another connection for each transaction",
		Do:   "connect with the server itself, or with a pool that lends for a session (pool_mode = session)"}
}
