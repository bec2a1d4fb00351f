package postgres

import (
	"context"
	"encoding/binary"
	"fmt"
	"strings"

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

// Scan implements db.Session: by COPY to the client, in the binary form,
// which gives each text with its length.
func (d *DB) Scan(ctx context.Context, query string, columns []db.Column, row func([][]byte) error) error {
	var names, texts []string
	for i := range columns {
		n := fmt.Sprintf("c%d", i+1)
		names, texts = append(names, n), append(texts, n+"::text")
		if columns[i].Type == "real" {
			// A double shows all digits of it.
			texts[i] = n + "::float8::text"
		}
	}
	s := &splitter{fields: make([][]byte, len(columns)), row: row}
	_, err := d.c.PgConn().CopyTo(ctx, s,
		fmt.Sprintf("COPY (SELECT %s FROM (%s\n) AS q (%s)) TO STDOUT (FORMAT binary)",
			strings.Join(texts, ", "), query, strings.Join(names, ", ")))
	if s.err != nil {
		return s.err
	}
	if err != nil {
		return d.fail("cannot be read", err)
	}
	return nil
}

// splitter takes the binary form of COPY apart (PostgreSQL manual, COPY, "Binary
// Format"), however it is cut on the way.
type splitter struct {
	fields [][]byte
	row    func([][]byte) error
	rest   []byte
	begun  bool
	err    error
}

// Write implements io.Writer.
func (s *splitter) Write(p []byte) (int, error) {
	b := p
	if len(s.rest) > 0 {
		s.rest = append(s.rest, p...)
		b = s.rest
	}
	if !s.begun {
		if len(b) < len(copyHeader) {
			s.rest = append(s.rest[:0], b...)
			return len(p), nil
		}
		b, s.begun = b[len(copyHeader):], true
	}
	for {
		n, err := s.one(b)
		if err != nil {
			s.err = err
			return 0, err
		}
		if n == 0 {
			break
		}
		b = b[n:]
	}
	s.rest = append(s.rest[:0], b...)
	return len(p), nil
}

// one takes one row off b and returns its length; 0 if it is not all there.
func (s *splitter) one(b []byte) (int, error) {
	if len(b) < 2 || int16(binary.BigEndian.Uint16(b)) < 0 {
		return 0, nil
	}
	at := 2
	for i := range s.fields {
		if len(b) < at+4 {
			return 0, nil
		}
		n := int(int32(binary.BigEndian.Uint32(b[at:])))
		at += 4
		if n < 0 {
			s.fields[i] = nil
			continue
		}
		if len(b) < at+n {
			return 0, nil
		}
		s.fields[i] = b[at : at+n : at+n]
		at += n
	}
	return at, s.row(s.fields)
}

var _ db.Session = (*DB)(nil)
