package postgres

import (
	"bytes"
	"context"
	"fmt"
	"regexp"
	"strings"

	"github.com/jackc/pgx/v5"

	"ambertray/internal/db"
)

// Describe implements db.Session.
func (d *DB) Describe(ctx context.Context, query string) ([]db.Column, error) {
	s, err := d.c.Prepare(ctx, "", query)
	if err != nil {
		return nil, d.fail("refuses the query", err)
	}
	var out []db.Column
	for _, f := range s.Fields {
		c := db.Column{Name: f.Name}
		if err := d.c.QueryRow(ctx, "SELECT format_type($1, $2)", f.DataTypeOID,
			f.TypeModifier).Scan(&c.Type); err != nil {
			return nil, d.fail("cannot describe the query", err)
		}
		standardType(&c, c.Type)
		out = append(out, c)
	}
	return out, nil
}

// asIs are the types whose text in COPY is what a cast to text makes of them.
var asIs = regexp.MustCompile(`^(smallint|integer|bigint|numeric|text|character varying|date|time|timestamp|` +
	`double precision|uuid)\b`)

// Scan implements db.Session: by COPY to the client, in the text form, which costs the server
// less than others.
func (d *DB) Scan(ctx context.Context, query string, columns []db.Column, row func([][]byte) error) error {
	apart := d.Apart(len(columns))
	return d.ScanText(ctx, db.Extract{Query: query, Columns: columns, Lanes: 1}, func(rows []byte) error {
		return apart(rows, row)
	})
}

// ScanText implements db.TextScanner.
func (d *DB) ScanText(ctx context.Context, x db.Extract, take func(rows []byte) error) error {
	if lanes := d.scanLanes(ctx, x); lanes > 1 {
		return d.scanInLanes(ctx, x, lanes, take)
	}
	return d.copyOut(ctx, d.c, copyOf(x.Query, x.Columns), take)
}

// copyOf is the statement that sends the rows of a query.
func copyOf(query string, columns []db.Column) string {
	var names, texts []string
	for i := range columns {
		n := fmt.Sprintf("c%d", i+1)
		names, texts = append(names, n), append(texts, n)
		switch typ := columns[i].Type; {
		case typ == "real":
			texts[i] = n + "::float8" // which shows all digits of it
		case !asIs.MatchString(typ):
			texts[i] = n + "::text"
		}
	}
	return fmt.Sprintf("COPY (SELECT %s FROM (%s\n) AS q (%s)) TO STDOUT",
		strings.Join(texts, ", "), query, strings.Join(names, ", "))
}

// copyOut calls take with the rows that a statement sends.
func (d *DB) copyOut(ctx context.Context, c *pgx.Conn, sql string, take func(rows []byte) error) error {
	s := &gatherer{take: take}
	_, err := c.PgConn().CopyTo(ctx, s, sql)
	if s.err != nil {
		return s.err
	}
	if err != nil {
		return d.fail("cannot be read", err)
	}
	if len(s.rest) > 0 {
		return fmt.Errorf("the server has sent a row without its end")
	}
	return nil
}

// A gatherer passes on whole rows, however they are cut on the way.
type gatherer struct {
	take func([]byte) error
	rest []byte // of a row
	err  error  // of take
}

// Write implements io.Writer.
func (s *gatherer) Write(p []byte) (int, error) {
	n := bytes.LastIndexByte(p, '\n') + 1
	if rows := p[:n]; n > 0 {
		if len(s.rest) > 0 {
			s.rest = append(s.rest, rows...)
			rows = s.rest
		}
		s.err = s.take(rows)
		s.rest = s.rest[:0]
		if s.err != nil {
			return 0, s.err
		}
	}
	s.rest = append(s.rest, p[n:]...)
	return len(p), nil
}

// Apart implements db.TextScanner.
func (d *DB) Apart(columns int) func([]byte, func([][]byte) error) error {
	s := &splitter{fields: make([][]byte, columns)}
	return func(rows []byte, row func([][]byte) error) error {
		for len(rows) > 0 {
			n := bytes.IndexByte(rows, '\n')
			if err := s.line(rows[:n], row); err != nil {
				return err
			}
			rows = rows[n+1:]
		}
		return nil
	}
}

// splitter takes the text form of COPY apart (PostgreSQL manual, COPY, "Text Format").
type splitter struct {
	fields [][]byte
	plain  []byte // memory
}

// line is one row.
func (s *splitter) line(b []byte, row func([][]byte) error) error {
	marked := bytes.IndexByte(b, '\\') >= 0
	s.plain = s.plain[:0]
	for i := range s.fields {
		f := b
		if n := bytes.IndexByte(b, '\t'); n >= 0 {
			f, b = b[:n:n], b[n+1:]
		} else if i < len(s.fields)-1 {
			return fmt.Errorf("the server has sent a row of %d fields instead of %d", i+1, len(s.fields))
		}
		if marked {
			f = s.unmarked(f)
		}
		s.fields[i] = f
	}
	return row(s.fields)
}

// unmarked is a field without the marks of the form; nil: a null.
func (s *splitter) unmarked(f []byte) []byte {
	if string(f) == `\N` {
		return nil
	}
	if bytes.IndexByte(f, '\\') < 0 {
		return f
	}
	from := len(s.plain)
	for i := 0; i < len(f); i++ {
		c := f[i]
		if c == '\\' && i+1 < len(f) {
			i++
			if c = f[i]; strings.IndexByte("bfnrtv", c) >= 0 {
				c = "\b\f\n\r\t\v"[strings.IndexByte("bfnrtv", c)]
			}
		}
		s.plain = append(s.plain, c)
	}
	return s.plain[from:len(s.plain):len(s.plain)]
}

var (
	_ db.Session     = (*DB)(nil)
	_ db.TextScanner = (*DB)(nil)
)
