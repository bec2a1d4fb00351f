package oracle

import (
	"context"
	"crypto/sha256"
	"database/sql"
	sqldriver "database/sql/driver"
	"encoding/hex"
	"fmt"
	"time"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/sqltype"
)

// A lock is a row of a small table that a session of its own holds, in a transaction that
// ends with it. Who wants the same lock sees that the row is held. Rows are put in, and taken
// out, by whoever gets the lock; the table goes with the last.
type lock struct {
	c      *sql.Conn
	tx     sqldriver.Tx
	schema string
	name   string
}

// locksTable has the rows.
const locksTable = "ambertray_locks"

// lockWait is how long a lock of the program's own is waited for.
const lockWait = 30 * time.Second

func locks(schema string) dialect.Table {
	return dialect.Table{Schema: schema, Name: locksTable, Key: []string{"lock_name"}, Columns: []dialect.Column{
		{Name: "lock_name", Type: sqltype.Type{Kind: sqltype.VarChar, Length: 100}, Required: true}}}
}

// brief is a name of a lock, of any text.
func brief(what, text string) string {
	sum := sha256.Sum256([]byte(text))
	return what + " " + hex.EncodeToString(sum[:16])
}

// claimOf is the lock of whoever is at a load, and lockOf that of a side table.
func claimOf(load string) string { return brief("load", load) }

// lock gets a lock for as long as the connection lives, or until unlock.
func (d *DB) lock(ctx context.Context, schema, name, without string, wait time.Duration) error {
	got, err := d.tryLock(ctx, schema, name, wait)
	if err != nil {
		return err
	}
	if !got {
		return d.fail(without, nil)
	}
	return nil
}

// tryLock gets a lock within a time, or reports that another has it.
func (d *DB) tryLock(ctx context.Context, schema, name string, wait time.Duration) (bool, error) {
	key := d.owner(schema) + "\x00" + name
	if d.holds(schema, name) {
		return true, nil
	}
	c, err := d.session(ctx)
	if err != nil {
		return false, err
	}
	l := &lock{c: c, schema: schema, name: name}
	got, err := l.get(ctx, wait)
	if !got {
		c.Close()
		if err != nil {
			return false, d.fail("cannot lock by the table "+locksTable, err)
		}
		return false, nil
	}
	d.locks[key] = l
	return true, nil
}

// holds reports a lock that this session has.
func (d *DB) holds(schema, name string) bool { return d.locks[d.owner(schema)+"\x00"+name] != nil }

// get makes the row if there is none, and holds it. Others may take it, or all of the table,
// away meanwhile.
func (l *lock) get(ctx context.Context, wait time.Duration) (bool, error) {
	table := Dialect.Qualified(l.schema, locksTable)
	for range 20 {
		_, err := l.c.ExecContext(ctx, "INSERT INTO "+table+" SELECT :1 FROM dual WHERE NOT EXISTS (SELECT 1 "+
			"FROM "+table+
			" WHERE lock_name = :2)", l.name, l.name)
		if m := asServer(err); m != nil && m.ErrCode == 942 {
			if _, err := l.c.ExecContext(ctx, Dialect.Create(locks(l.schema))[0]); err != nil && !is(err, 955) {
				return false, err
			}
			continue
		}
		if err != nil && !is(err, 1) && !is(err, 54) {
			return false, err
		}
		if l.tx, err = begun(l.c); err != nil {
			return false, err
		}
		held := "NOWAIT"
		if wait > 0 {
			held = fmt.Sprintf("WAIT %d", max(int(wait.Seconds()), 1))
		}
		var n string
		err = l.c.QueryRowContext(ctx, "SELECT lock_name FROM "+table+" WHERE lock_name = :1 FOR UPDATE "+held,
			l.name).Scan(&n)
		if err == nil {
			return true, nil
		}
		l.end(false)
		if is(err, 54) || is(err, 30006) {
			return false, nil
		}
		if err != sql.ErrNoRows && !is(err, 942) {
			return false, err
		}
	}
	return false, nil
}

// is reports an error of the server's by its number.
func is(err error, number int) bool {
	m := asServer(err)
	return m != nil && m.ErrCode == number
}

func (l *lock) end(commit bool) {
	if l.tx == nil {
		return
	}
	l.c.Raw(func(any) error {
		if commit {
			return l.tx.Commit()
		}
		return l.tx.Rollback()
	})
	l.tx = nil
}

// let takes the row away, lets go of it, and takes the table away if it was the last.
func (l *lock) let() {
	ctx, cancel := context.WithTimeout(context.Background(), db.EndIn)
	defer cancel()
	table := Dialect.Qualified(l.schema, locksTable)
	// Rows that nobody holds are those of sessions that have died. What fails here is left for
	// the next lock.
	dead, _ := (db.Questions{Asker: asker{l.c}, Dialect: Dialect}).Ask(ctx, "SELECT lock_name FROM "+table+
		" FOR UPDATE SKIP LOCKED")
	for _, r := range dead {
		l.c.ExecContext(ctx, "DELETE FROM "+table+" WHERE lock_name = :1", *r[0])
	}
	l.end(true)
	var n int
	if l.c.QueryRowContext(ctx, "SELECT count(*) FROM "+table).Scan(&n) == nil && n == 0 {
		l.c.ExecContext(ctx, "ALTER SESSION SET DDL_LOCK_TIMEOUT = 0")
		l.c.ExecContext(ctx, "DROP TABLE "+table+" PURGE")
	}
	l.c.Close()
}

// unlock lets go of a lock.
func (d *DB) unlock(schema, name string) {
	key := d.owner(schema) + "\x00" + name
	if l := d.locks[key]; l != nil {
		delete(d.locks, key)
		l.let()
	}
}

func (d *DB) unlockAll() {
	for _, l := range d.locks {
		d.unlock(l.schema, l.name)
	}
}

// free reports whether nobody has a lock.
func (d *DB) free(ctx context.Context, schema, name string) (bool, error) {
	if d.holds(schema, name) {
		return false, nil
	}
	f, err := d.find(ctx, schema, locksTable)
	if err != nil || f == nil {
		return err == nil, err
	}
	got, err := d.tryLock(ctx, schema, name, 0)
	if got {
		d.unlock(schema, name)
	}
	return got, err
}

// TryHold implements db.Holder. Who may not make the table for locks is not kept from
// loading: the table that is loaded is locked as well, as long as rows go in.
func (d *DB) TryHold(ctx context.Context, t db.Name) (held bool, who string, err error) {
	held, err = d.tryLock(ctx, t.Schema, brief("table", catalogued(t.Table)), 0)
	if is(err, 1031) || is(err, 1950) || is(err, 1536) {
		return true, "", nil
	}
	return held, "", err
}
