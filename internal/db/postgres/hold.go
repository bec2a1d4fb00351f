package postgres

import (
	"cmp"
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"ambertray/internal/db"
)

// holdKey is the advisory lock of a table: of its own database, like all of them.
const holdKey = "hashtextextended('ambertray table ' || coalesce(nullif($1, ''), current_schema()) || '.' || $2, 0)"

// TryHold implements db.Holder.
func (d *DB) TryHold(ctx context.Context, t db.Name) (held bool, who string, err error) {
	var got *bool
	if err = d.c.QueryRow(ctx, "SELECT pg_try_advisory_lock("+holdKey+")", t.Schema, t.Table).Scan(&got); err != nil {
		return false, "", d.fail("cannot see whether the table is being loaded", err)
	}
	if got == nil {
		return false, "", &db.Error{Where: d.where, What: "has no schema for " + t.Table + ": none that the user's " +
			"search_path names is there", Do: "say one with --schema"}
	}
	if *got {
		return true, "", nil
	}
	// The lock may be gone by now; then there is nobody to name.
	d.c.QueryRow(ctx, `SELECT a.usename || coalesce(' from ' || a.client_addr, '') || ', process ' || a.pid || ', since ' || to_char(a.xact_start, 'HH24:MI:SS')
		FROM pg_locks l JOIN pg_stat_activity a ON a.pid = l.pid, (SELECT `+holdKey+` AS k) x
		WHERE l.locktype = 'advisory' AND l.granted AND (l.classid::bigint << 32) | l.objid::bigint = x.k LIMIT 1`, t.Schema, t.Table).Scan(&who)
	return false, who, nil
}

// Blockers implements db.Blocker, over a connection of its own.
func (d *DB) Blockers(ctx context.Context) (who string) {
	cfg := d.c.Config().Copy()
	cfg.ConnectTimeout = 2 * time.Second
	c, err := pgx.ConnectConfig(ctx, cfg)
	if err != nil {
		return ""
	}
	defer c.Close(ctx)
	c.QueryRow(ctx, `SELECT usename || coalesce(', ' || nullif(application_name, ''), '') || ', process ' || pid || ', ' || state
		FROM pg_stat_activity WHERE pid = ANY(pg_blocking_pids($1)) LIMIT 1`, int32(cmp.Or(d.lent, d.c.PgConn().PID()))).Scan(&who)
	return who
}
