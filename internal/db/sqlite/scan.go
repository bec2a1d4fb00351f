package sqlite

import (
	"context"
	"encoding/hex"
	"math"
	"strconv"

	lib "modernc.org/sqlite/lib"

	"ambertray/internal/db"
	"ambertray/internal/sqltype"
)

// Describe implements db.Session. Columns that are no table's have no
// type.
func (d *DB) Describe(ctx context.Context, query string) ([]db.Column, error) {
	s, err := d.c.prepare(query)
	if err != nil {
		return nil, d.fail("refuses the query", err)
	}
	defer s.close()
	if s.p == 0 || s.columns() == 0 {
		return nil, d.fail("the query yields no columns", nil)
	}
	var out []db.Column
	for i := range s.columns() {
		c := db.Column{Name: s.name(i), Type: s.declared(i)}
		standardType(&c)
		out = append(out, c)
	}
	return out, nil
}

// Scan implements db.Session. A number is written with as many digits as
// tell it from every other; a decimal with those of its type.
func (d *DB) Scan(ctx context.Context, query string, columns []db.Column, row func([][]byte) error) error {
	defer context.AfterFunc(ctx, d.c.interrupt)()
	s, err := d.c.prepare(query)
	if err != nil {
		return d.fail("refuses the query", err)
	}
	defer s.close()
	fields := make([][]byte, len(columns))
	made := make([][]byte, len(columns))
	for {
		more, err := s.step()
		if err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			return d.fail("cannot be read", err)
		}
		if !more {
			return nil
		}
		for i := range fields {
			b := made[i][:0]
			switch t := columns[i].SQL; s.kind(i) {
			case lib.SQLITE_NULL:
				fields[i] = nil
				continue
			case lib.SQLITE_INTEGER:
				n := s.int(i)
				if t.Kind == sqltype.Boolean && (n == 0 || n == 1) {
					b = strconv.AppendBool(b, n == 1)
				} else {
					b = strconv.AppendInt(b, n, 10)
					if t.Kind == sqltype.Decimal && t.Scale > 0 && t.Precision <= digits {
						b = append(append(b, '.'), zeros[:t.Scale]...) // as SQLite stores 200.00
					}
				}
			case lib.SQLITE_FLOAT:
				b = number(b, s.float(i), t)
			case lib.SQLITE_BLOB:
				b = append(hex.AppendEncode(append(b, "x'"...), s.text(i)), '\'')
			default:
				if b = s.text(i); b == nil {
					b = none[:0]
				}
				fields[i] = b
				continue
			}
			made[i], fields[i] = b, b
		}
		if err := row(fields); err != nil {
			return err
		}
	}
}

var none = make([]byte, 1)

const zeros = "000000000000000"

// number writes a float: a decimal that it stands for with that type's scale.
func number(b []byte, f float64, t sqltype.Type) []byte {
	if t.Kind == sqltype.Decimal && t.Precision <= digits {
		fixed := strconv.AppendFloat(b, f, 'f', t.Scale, 64)
		if back, err := strconv.ParseFloat(string(fixed[len(b):]), 64); err == nil && back == f {
			return fixed
		}
	}
	if t.Kind == sqltype.Double || f != math.Trunc(f) || math.Abs(f) >= 1e15 {
		return strconv.AppendFloat(b, f, 'g', -1, 64)
	}
	return strconv.AppendFloat(b, f, 'f', 1, 64) // a float that is whole stays one
}
