package postgres

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"ambertray/internal/sink"
)

// A copier sends rows by COPY within the transaction of a connection. What the server
// refuses is left out.
type copier struct {
	on      *DB
	copySQL string
	binary  bool
	refused []sink.Refusal // of the rows at hand
}

// copyInto is a copier into columns of a table, all of which are quoted.
func (d *DB) copyInto(table string, columns []string, binary bool) *copier {
	sql := fmt.Sprintf("COPY %s (%s) FROM STDIN", table, strings.Join(columns, ", "))
	if binary {
		sql += " (FORMAT binary)"
	}
	return &copier{on: d, copySQL: sql, binary: binary}
}

// take sends rows, and returns those that are refused, by their numbers among them.
func (c *copier) take(ctx context.Context, data []byte, rows int) ([]sink.Refusal, error) {
	c.refused = nil
	if err := c.send(ctx, data, 0, rows); err != nil {
		return nil, err
	}
	return c.refused, nil
}

// send copies rows of data, of which the first has the number first in the
// batch, under savepoints; what the server refuses is left out. It begins with
// all of them. Behind a refusal it goes on with as few rows as were good before
// it, and with more again while all goes well, so that rows are hardly sent in
// vain, whether one in a million is refused or all of them.
func (c *copier) send(ctx context.Context, data []byte, first, rows int) error {
	head := func(n int) []byte {
		if n == rows {
			return data
		}
		return data[:c.offset(data, n)]
	}
	next := func(n int) {
		data, first, rows = data[len(head(n)):], first+n, rows-n
	}
	for n := rows; rows > 0; {
		n = min(n, rows)
		p, err := c.try(ctx, head(n))
		if err != nil {
			return err
		}
		line := 0
		if p != nil {
			line = lineOf(p.Where)
		}
		switch {
		case p == nil:
			next(n)
			n = min(4*n, step)
		case n > 2*step:
			n = step // what is refused stands rarely alone
		case n == 1:
			c.refuse(first, p)
			next(1)
		case line < 1 || line > n:
			n /= 2
		default:
			good := line - 1
			if err := c.send(ctx, head(good), first, good); err != nil {
				return err
			}
			next(good)
			c.refuse(first, p)
			next(1)
			n = max(good, 1)
		}
	}
	return nil
}

// try copies rows under a savepoint, and returns the server's refusal, if a row
// is to blame for it; then none of them is in.
func (c *copier) try(ctx context.Context, data []byte) (*pgconn.PgError, error) {
	if err := c.on.simple(ctx, "SAVEPOINT segment"); err != nil {
		return nil, err
	}
	err := c.copy(ctx, data)
	if err == nil {
		return nil, c.on.simple(ctx, "RELEASE segment")
	}
	var p *pgconn.PgError
	if !errors.As(err, &p) || !aboutRows(p.Code) {
		return nil, c.on.fail("cannot take the rows", err)
	}
	return p, c.on.simple(ctx, "ROLLBACK TO segment; RELEASE segment")
}

// simple runs statements in one exchange with the server.
func (d *DB) simple(ctx context.Context, sql string) error {
	if _, err := d.c.PgConn().Exec(ctx, sql).ReadAll(); err != nil {
		return d.fail("cannot go on", err)
	}
	return nil
}

// step is how many rows are sent at once in a batch that has been refused.
const step = 4000

func (c *copier) refuse(row int, p *pgconn.PgError) {
	r := refusalOf(p)
	r.Row = row
	c.refused = append(c.refused, r)
}

// refusalOf is what the server says of a row.
func refusalOf(p *pgconn.PgError) sink.Refusal {
	msg := p.Message
	if p.Detail != "" {
		msg += ": " + p.Detail
	}
	column := p.ColumnName
	if column == "" {
		if m := columnIn.FindStringSubmatch(p.Where); m != nil {
			column = m[1]
		} else if m := keyIn.FindStringSubmatch(p.Detail); m != nil {
			column = m[1]
		}
	}
	return sink.Refusal{Column: column, Message: fmt.Sprintf("%s (SQLSTATE %s)", msg, p.Code),
		Kind: fmt.Sprintf("%s (SQLSTATE %s)", p.Message, p.Code)}
}

var (
	lineIn   = regexp.MustCompile(`COPY .*, line (\d+)`)
	columnIn = regexp.MustCompile(`COPY .*, line \d+, column ([^:\n]+)`)
	keyIn    = regexp.MustCompile(`^Key \(([^()]+)\)=`)
)

func lineOf(where string) int {
	m := lineIn.FindStringSubmatch(where)
	if m == nil {
		return 0
	}
	n, _ := strconv.Atoi(m[1])
	return n
}

// aboutRows reports an SQLSTATE class that a row is to blame for: data
// exceptions, integrity, check options, and errors that triggers raise.
func aboutRows(code string) bool {
	switch code[:2] {
	case "22", "23", "44", "P0":
		return true
	}
	return false
}

// offset is where row n begins.
func (c *copier) offset(data []byte, n int) int {
	i := 0
	for range n {
		i = c.end(data, i)
	}
	return i
}

func (c *copier) end(data []byte, i int) int {
	if c.binary {
		return rowEnd(data, i)
	}
	return lineEnd(data, i)
}

func (c *copier) copy(ctx context.Context, rows []byte) error {
	_, err := copyTo(ctx, c.on.c, c.copySQL, c.binary, rows)
	return err
}

// copyTo sends rows over a connection, and returns how many the server took.
func copyTo(ctx context.Context, c *pgx.Conn, copySQL string, binary bool, rows []byte) (int64, error) {
	r := io.Reader(bytes.NewReader(rows))
	if binary {
		r = io.MultiReader(bytes.NewReader(copyHeader), r, bytes.NewReader(copyTrailer))
	}
	tag, err := c.PgConn().CopyFrom(ctx, r, copySQL)
	return tag.RowsAffected(), err
}
