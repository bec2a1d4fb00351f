package sqlserver

import (
	"cmp"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"fmt"

	"ambertray/internal/db"
)

// TryHold implements db.Holder.
func (d *DB) TryHold(ctx context.Context, t db.Name) (held bool, who string, err error) {
	sum := sha256.Sum256([]byte(cmp.Or(t.Schema, d.schema) + "\x00" + t.Table))
	lock := "ambertray table " + hex.EncodeToString(sum[:12])
	held, err = d.tryLock(ctx, lock, 0)
	if err != nil {
		return false, "", d.fail("cannot see whether the table is being loaded", err)
	}
	if held {
		return true, "", nil
	}
	// Not everybody may see whose it is; what it is called is cut to 32 characters there.
	return false, whose(d.c.QueryRowContext(ctx, `SELECT s.login_name, s.host_name, s.program_name, s.session_id FROM sys.dm_tran_locks l
		JOIN sys.dm_exec_sessions s ON s.session_id = l.request_session_id WHERE l.resource_type = 'APPLICATION'
		AND l.request_status = 'GRANT' AND CHARINDEX(@p1, l.resource_description) > 0`, lock[:32])), nil
}

// Blockers implements db.Blocker, over a connection of its own.
func (d *DB) Blockers(ctx context.Context) (who string) {
	if d.again == nil {
		return ""
	}
	o, err := d.again(ctx)
	if err != nil {
		return ""
	}
	defer o.Close()
	return whose(o.c.QueryRowContext(ctx, `SELECT s.login_name, s.host_name, s.program_name, s.session_id FROM sys.dm_exec_requests r
		JOIN sys.dm_exec_sessions s ON s.session_id = r.blocking_session_id WHERE r.session_id = @p1
		AND r.blocking_session_id <> 0`, d.id))
}

// whose is a session in words; nothing if there is none, or it may not be seen.
func whose(row *sql.Row) string {
	var user, host, program sql.NullString
	var id int
	if row.Scan(&user, &host, &program, &id) != nil {
		return ""
	}
	return fmt.Sprintf("%s from %s, %s, session %d", user.String, host.String, program.String, id)
}
