package postgres

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"ambertray/internal/db"
)

// branchOf connects with the server of a partition, unless that is done.
func (s *shards) branchOf(ctx context.Context, d *DB, p partition) (*branch, error) {
	if i := slices.IndexFunc(s.branches, func(b *branch) bool { return b.server == p.server }); i >= 0 {
		return s.branches[i], nil
	}
	cfg, err := d.beyond(p)
	if err != nil {
		return nil, err
	}
	where := fmt.Sprintf("postgres://%s@%s:%d/%s", cfg.User, cfg.Host, cfg.Port, cfg.Database)
	there, err := connect(ctx, where, cfg)
	if err != nil {
		return nil, detour(p.serverName + " cannot be reached from here")
	}
	b := &branch{DB: there, server: p.server, name: p.serverName}
	if err := d.serves(ctx, b); err != nil {
		b.Close()
		return nil, err
	}
	s.branches = append(s.branches, b)
	return b, nil
}

// serves makes sure that a server can do what a branch has to.
func (d *DB) serves(ctx context.Context, b *branch) error {
	var two int
	if err := b.c.QueryRow(ctx, "SELECT current_setting('max_prepared_transactions')::int").Scan(&two); err != nil {
		return b.fail("cannot be asked", err)
	}
	if safe, err := b.Protection(ctx); err != nil || !safe.Local && safe.TLS == "" {
		return detour("what goes to " + b.name + " from here would not be encrypted")
	}
	if two == 0 {
		return detour(b.name + " takes no prepared transactions (max_prepared_transactions)")
	}
	return d.isServer(ctx, b)
}

// beyond is how to connect with the server of a partition: as the first one does. Whatever that
// has of its own machine, or that is not known here, is left to it.
func (d *DB) beyond(p partition) (*pgx.ConnConfig, error) {
	if p.wrapper != "postgres_fdw" {
		return nil, detour("the server of " + p.name + " is not one of PostgreSQL")
	}
	known := map[string]string{"host": "", "port": "5432", "dbname": p.account["user"], "sslmode": "prefer"}
	for name, value := range p.of {
		if _, is := known[name]; is {
			known[name] = value
		} else if !slices.Contains(ownOptions, name) {
			return nil, detour(p.serverName + " is reached with the option " + name)
		}
	}
	for name := range p.account {
		if name != "user" && name != "password" && name != "password_required" {
			return nil, detour(p.serverName + " knows the account by the option " + name)
		}
	}
	switch {
	case p.account["user"] == "" || p.account["password"] == "":
		return nil, detour("as whom the account is known to " + p.serverName + " cannot be seen")
	case p.options["updatable"] == "false" || p.of["updatable"] == "false" && p.options["updatable"] == "":
		return nil, detour(p.name + " takes no rows")
	case known["host"] == "" || db.Loopback(known["host"]) && !db.Loopback(d.c.Config().Host):
		return nil, detour(p.serverName + " is on the machine of the first server")
	}
	var words []string
	for name, value := range known {
		words = append(words, name+"='"+strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(value)+"'")
	}
	cfg, err := pgx.ParseConfig(strings.Join(words, " "))
	if err != nil {
		return nil, detour(p.serverName + " cannot be reached from here")
	}
	cfg.User, cfg.Password, cfg.ConnectTimeout = p.account["user"], p.account["password"], 5*time.Second
	if d.wait != "" {
		cfg.RuntimeParams[lockWait] = d.wait
	}
	return cfg, nil
}

// ownOptions are those of a server that say how the first one asks it, not how it is reached.
var ownOptions = []string{"fetch_size", "batch_size", "use_remote_estimate", "fdw_startup_cost", "fdw_tuple_cost",
	"extensions", "async_capable", "truncatable", "updatable", "keep_connections", "parallel_commit", "parallel_abort",
	"analyze_sampling", "application_name"}

// isServer makes sure that a connection is with the server that the first one calls so: by that one, it
// sees our session there. The same address can be another machine's for another network.
func (d *DB) isServer(ctx context.Context, b *branch) error {
	var process int
	var began time.Time
	if err := b.c.QueryRow(ctx, "SELECT pid, backend_start FROM pg_stat_activity WHERE pid = pg_backend_pid()").Scan(
		&process, &began); err != nil {
		return b.fail("cannot be asked", err)
	}
	tx, err := d.c.Begin(ctx)
	if err != nil {
		return d.fail("cannot begin a transaction", err)
	}
	defer tx.Rollback(ctx)
	seen := 0
	_, err = tx.Exec(ctx, "CREATE FOREIGN TABLE pg_temp.ambertray_who (pid integer, backend_start timestamptz) SERVER "+
		quote(b.name)+" OPTIONS (schema_name 'pg_catalog', table_name 'pg_stat_activity')")
	if err == nil {
		err = tx.QueryRow(ctx, "SELECT count(*) FROM pg_temp.ambertray_who WHERE pid = $1 AND backend_start = $2",
			process, began).Scan(&seen)
	}
	if err != nil || seen != 1 {
		return detour("whether " + b.name + " is the same server from here could not be seen")
	}
	return nil
}
