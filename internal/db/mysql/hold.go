package mysql

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"fmt"

	"ambertray/internal/db"
)

// TryHold implements db.Holder. The lock is on a connection of its own: that of the
// load lets all of its locks go at the commit, and the papers come after it.
func (d *DB) TryHold(ctx context.Context, t db.Name) (held bool, who string, err error) {
	fail := func(err error) (bool, string, error) {
		return false, "", d.fail("cannot see whether the table is being loaded", err)
	}
	if d.holder == nil {
		if d.holder, err = d.pool.Conn(ctx); err != nil {
			return fail(err)
		}
	}
	sum := sha256.Sum256([]byte(d.schemaOf(t.Schema) + "\x00" + t.Table))
	lock := "ambertray table " + hex.EncodeToString(sum[:12])
	var got, by sql.NullInt64
	if err := d.holder.QueryRowContext(ctx, "SELECT get_lock(?, 0)", lock).Scan(&got); err != nil {
		return fail(err)
	}
	if got.Int64 == 1 {
		return true, "", nil
	}
	var user, host sql.NullString
	if err := d.holder.QueryRowContext(ctx, "SELECT is_used_lock(?)", lock).Scan(&by); err == nil && by.Valid {
		who = fmt.Sprintf("connection %d", by.Int64)
		if err := d.holder.QueryRowContext(ctx, "SELECT user, host FROM information_schema.processlist WHERE id = ?",
			by.Int64).Scan(&user, &host); err == nil {
			who = user.String + " from " + host.String + ", " + who
		}
	}
	return false, who, nil
}

// Blockers implements db.Blocker, over a connection of its own. It knows of locks on
// rows; who holds a definition, these servers do not tell.
func (d *DB) Blockers(ctx context.Context) (who string) {
	c, err := d.pool.Conn(ctx)
	if err != nil {
		return ""
	}
	defer c.Close()
	var user, host string
	var id int64
	if err := c.QueryRowContext(ctx, `SELECT p.user, p.host, p.id FROM information_schema.innodb_lock_waits w
		JOIN information_schema.innodb_trx r ON r.trx_id = w.requesting_trx_id JOIN information_schema.innodb_trx b ON b.trx_id = w.blocking_trx_id
		JOIN information_schema.processlist p ON p.id = b.trx_mysql_thread_id WHERE r.trx_mysql_thread_id = ? LIMIT 1`, d.id).Scan(&user, &host, &id); err != nil {
		return ""
	}
	return fmt.Sprintf("%s from %s, connection %d", user, host, id)
}
