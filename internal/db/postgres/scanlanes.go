package postgres

import (
	"context"
	"fmt"
	"runtime"
	"sync"

	"github.com/jackc/pgx/v5"

	"ambertray/internal/db"
)

// All rows of a table can be read over several connections, which see the same: the first exports its snapshot, and the
// others take it (PostgreSQL manual, SET TRANSACTION SNAPSHOT). The table's pages are divided into parts, which
// the connections read in turn, and which are passed on in their order: that of the table.

// partPages is how many pages a part has, and ahead how many pieces of text, of some 64 KB, a connection may be ahead:
// enough for two parts.
const (
	partPages = 256
	ahead     = 64
	pieceSize = 64 << 10
)

// scanLanes is over how many connections rows are read.
func (d *DB) scanLanes(ctx context.Context, x db.Extract) int {
	if x.Table == nil || x.Lanes == 1 || d.load != nil || d.together != nil || d.refitting != nil ||
		d.c.PgConn().TxStatus() != 'I' {
		return 1
	}
	_, bytes, err := d.pages(ctx, x.Table)
	if err != nil || bytes == 0 {
		return 1
	}
	if x.Lanes > 1 {
		return x.Lanes
	}
	if lanesFor(ctx, d.c, bytes) < 2 {
		return 1
	}
	return min(runtime.GOMAXPROCS(0), 4)
}

// pages is how many pages a table has, and how much that is; nothing where its rows cannot be read by them: it is no
// table that has all of its rows in pages of its own, or the server would go through all of it for each part (before
// 14).
func (d *DB) pages(ctx context.Context, t *db.Table) (n, bytes int64, err error) {
	err = d.c.QueryRow(ctx, "SELECT s / current_setting('block_size')::int, s FROM pg_class c, pg_am m, "+
		"pg_relation_size(c.oid) s WHERE c.oid = $1::regclass AND c.relkind = 'r' AND NOT c.relhassubclass "+
		"AND m.oid = c.relam AND m.amname = 'heap' AND current_setting('server_version_num')::int >= 140000 "+
		"AND NOT pg_is_in_recovery()", Dialect.Qualified(t.Schema, t.Name)).Scan(&n, &bytes)
	if err == pgx.ErrNoRows {
		return 0, 0, nil
	}
	return n, bytes, err
}

// scanInLanes is ScanText over several connections.
func (d *DB) scanInLanes(ctx context.Context, x db.Extract, lanes int, take func(rows []byte) error) error {
	ctx, cancel := context.WithCancel(ctx)
	const begin = "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY"
	all := []*pgx.Conn{d.c}
	var wg sync.WaitGroup
	defer func() {
		cancel()
		wg.Wait()
		for _, c := range all[1:] {
			c.Close(context.WithoutCancel(ctx))
		}
		if !d.c.IsClosed() {
			d.c.Exec(context.WithoutCancel(ctx), "ROLLBACK") // nothing was written
		}
	}()
	if _, err := d.c.Exec(ctx, begin); err != nil {
		return d.fail("cannot be read", err)
	}
	var snapshot string
	if err := d.c.QueryRow(ctx, "SELECT pg_export_snapshot()").Scan(&snapshot); err != nil {
		return d.fail("cannot be read", err)
	}
	// The pages that the table gets behind this have no rows that the snapshot sees.
	pages, _, err := d.pages(ctx, x.Table)
	if err != nil {
		return d.fail("cannot be read", err)
	}
	if pages == 0 { // it has been emptied, or made another
		return d.copyOut(ctx, d.c, copyOf(x.Query, x.Columns), take)
	}
	parts := int((pages + partPages - 1) / partPages)
	for len(all) < min(lanes, parts) {
		c, err := pgx.ConnectConfig(ctx, d.c.Config().Copy())
		if err != nil {
			break // there are as many as the server allows
		}
		if _, err := c.Exec(ctx, begin+"; SET TRANSACTION SNAPSHOT '"+snapshot+"'"); err != nil {
			c.Close(ctx)
			break // something between leads elsewhere
		}
		all = append(all, c)
	}
	sides := make([]scanLane, len(all))
	for i, c := range all {
		sides[i] = scanLane{full: make(chan []byte, ahead), empty: make(chan []byte, ahead)}
		wg.Go(func() {
			defer close(sides[i].full)
			for part := i; part < parts && sides[i].err == nil; part += len(all) {
				sides[i].err = d.readPart(ctx, c, x, part, part == parts-1, &sides[i])
			}
		})
	}
	for part := range parts {
		side := &sides[part%len(all)]
		for {
			piece, more := <-side.full
			if !more {
				return side.err
			}
			if len(piece) == 0 {
				break // of the part
			}
			if err := take(piece); err != nil {
				return err
			}
			select {
			case side.empty <- piece[:0]:
			default:
			}
		}
	}
	return nil
}

// A scanLane is what one connection has read: pieces of whole rows, and an empty one at the end of each part.
type scanLane struct {
	full, empty chan []byte
	err         error // when full is closed
}

// readPart reads a part of the table.
func (d *DB) readPart(ctx context.Context, c *pgx.Conn, x db.Extract, part int, last bool, to *scanLane) error {
	where := fmt.Sprintf("ctid >= '(%d,0)'", part*partPages)
	if !last {
		where += fmt.Sprintf(" AND ctid < '(%d,0)'", (part+1)*partPages)
	}
	var piece []byte
	pass := func(p []byte) error {
		select {
		case to.full <- p:
			return nil
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	err := d.copyOut(ctx, c, copyOf(x.Query+" WHERE "+where, x.Columns), func(rows []byte) error {
		if piece == nil {
			select {
			case piece = <-to.empty:
			default:
				piece = make([]byte, 0, pieceSize*5/4)
			}
		}
		if piece = append(piece, rows...); len(piece) < pieceSize {
			return nil
		}
		full := piece
		piece = nil
		return pass(full)
	})
	if err == nil && len(piece) > 0 {
		err = pass(piece)
	}
	if err == nil {
		err = pass(nil)
	}
	return err
}
