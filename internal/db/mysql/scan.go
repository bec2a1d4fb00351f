package mysql

import (
	"context"
	"database/sql"
	"encoding/hex"
	"fmt"
	"strings"

	"ambertray/internal/db"
	"ambertray/internal/sqltype"
)

// Describe implements db.Session.
func (d *DB) Describe(ctx context.Context, query string) ([]db.Column, error) {
	// No row is wanted; but two columns of one name cannot be put into a query
	// of their own.
	rows, err := d.c.QueryContext(ctx, "SELECT * FROM ("+query+"\n) q LIMIT 0")
	if err != nil {
		rows, err = d.c.QueryContext(ctx, query)
	}
	if err != nil {
		return nil, d.fail("refuses the query", err)
	}
	defer rows.Close()
	types, err := rows.ColumnTypes()
	if err != nil {
		return nil, d.fail("cannot describe the query", err)
	}
	var out []db.Column
	for _, t := range types {
		c := db.Column{Name: t.Name(), Type: strings.ToLower(t.DatabaseTypeName())}
		if unsigned, ok := strings.CutPrefix(c.Type, "unsigned "); ok {
			c.Type = unsigned + " unsigned"
		}
		switch precision, scale, ok := t.DecimalSize(); {
		case c.Type == "decimal" && ok:
			c.Type = fmt.Sprintf("decimal(%d,%d)", precision, scale)
		case (c.Type == "time" || c.Type == "datetime" || c.Type == "timestamp") && ok && precision > 0 &&
			precision <= 6:
			c.Type = fmt.Sprintf("%s(%d)", c.Type, precision)
		}
		standardType(&c)
		if c.Type == "char" || c.Type == "varchar" {
			c.SQL = sqltype.Type{Kind: sqltype.Text} // the driver does not tell the length
		}
		out = append(out, c)
	}
	return out, nil
}

// Scan implements db.Session: the server's text protocol gives every value
// as text, but for bytes, which are shown in hexadecimal.
func (d *DB) Scan(ctx context.Context, query string, columns []db.Column, row func([][]byte) error) error {
	rows, err := d.c.QueryContext(ctx, query)
	if err != nil {
		return d.fail("refuses the query", err)
	}
	defer rows.Close()
	fields := make([]sql.RawBytes, len(columns))
	at := make([]any, len(columns))
	made := make([][]byte, len(columns))
	for i := range fields {
		at[i] = &fields[i]
	}
	out := make([][]byte, len(columns))
	for rows.Next() {
		if err := rows.Scan(at...); err != nil {
			return d.fail("cannot be read", err)
		}
		for i, f := range fields {
			out[i] = f
			switch {
			case f == nil:
			case isBytes(columns[i].Type):
				made[i] = hex.AppendEncode(append(made[i][:0], "0x"...), f)
				out[i] = made[i]
			case columns[i].SQL.Kind == sqltype.TimestampTZ:
				// They are kept in UTC, without the zone.
				made[i] = append(append(made[i][:0], f...), "+00:00"...)
				out[i] = made[i]
			case len(f) == 0:
				out[i] = none[:0] // an empty text, not a null
			}
		}
		if err := row(out); err != nil {
			return err
		}
	}
	if err := rows.Err(); err != nil {
		return d.fail("cannot be read", err)
	}
	return nil
}

var none = make([]byte, 1)

// isBytes reports a type whose values are bytes and not text.
func isBytes(typ string) bool {
	name, _, _ := strings.Cut(typ, "(")
	switch name {
	case "binary", "varbinary", "tinyblob", "blob", "mediumblob", "longblob", "bit", "geometry":
		return true
	}
	return false
}
