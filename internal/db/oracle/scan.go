package oracle

import (
	"context"
	"database/sql"
	"encoding/hex"
	"strconv"
	"strings"
	"time"

	"ambertray/internal/db"
	"ambertray/internal/sqltype"
)

// Describe implements db.Session.
func (d *DB) Describe(ctx context.Context, query string) ([]db.Column, error) {
	if !isQuery(query) {
		return nil, d.fail("refuses the query: it yields no columns, and nothing else is run here", nil)
	}
	// No row is wanted; but two columns of one name cannot be put into a query of their own.
	rows, err := d.c.QueryContext(ctx, "SELECT * FROM ("+query+"\n) WHERE 1 = 0")
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
		out = append(out, described(t))
	}
	return out, nil
}

// described is a column of a query, by what the driver knows of it.
func described(t *sql.ColumnType) db.Column {
	c := db.Column{Name: shown(t.Name())}
	prec, scale, _ := t.DecimalSize()
	length, _ := t.Length()
	nullable, known := t.Nullable()
	c.Required = known && !nullable
	switch name := t.DatabaseTypeName(); name {
	case "NUMBER":
		if scale == 255 { // neither precision nor scale
			c.Type = "number"
			numberType(&c, 0, 0, false)
			break
		}
		c.Type = "number(" + strconv.FormatInt(prec, 10) + "," + strconv.FormatInt(scale, 10) + ")"
		numberType(&c, int(prec), int(scale), true)
	case "NCHAR", "CHAR":
		kind := map[string]string{"NCHAR": "varchar2", "CHAR": "char"}[name]
		c.Type = kind + "(" + strconv.FormatInt(length, 10) + " char)"
		c.SQL = sqltype.Type{Kind: sqltype.VarChar, Length: max(int(length), 1)}
		if name == "CHAR" {
			c.SQL.Kind = sqltype.Char
		}
	case "DATE":
		c.Type, c.SQL = "date", sqltype.Type{Kind: sqltype.Timestamp}
	case "TimeStampDTY":
		c.Type, c.SQL = "timestamp", sqltype.Type{Kind: sqltype.Timestamp, Precision: 6}
	case "TimeStampTZ_DTY", "TimeStampLTZ_DTY":
		c.Type, c.SQL = "timestamp with time zone", sqltype.Type{Kind: sqltype.TimestampTZ, Precision: 6}
	case "IntervalDS_DTY":
		c.Type, c.SQL = "interval day to second", sqltype.Type{Kind: sqltype.Time, Precision: 6}
	case "IBDouble":
		c.Type, c.SQL = "binary_double", sqltype.Type{Kind: sqltype.Double}
	case "IBFloat":
		c.Type = "binary_float"
	case "OCIClobLocator", "LongVarChar", "LONG":
		c.Type, c.SQL = "clob", sqltype.Type{Kind: sqltype.Text}
	default:
		c.Type = strings.ToLower(name)
	}
	return c
}

// Scan implements db.Session.
func (d *DB) Scan(ctx context.Context, query string, columns []db.Column, row func([][]byte) error) error {
	if !isQuery(query) {
		return d.fail("refuses the query: it yields no columns, and nothing else is run here", nil)
	}
	rows, err := d.c.QueryContext(ctx, query)
	if err != nil {
		return d.fail("refuses the query", err)
	}
	defer rows.Close()
	vals, at := make([]any, len(columns)), make([]any, len(columns))
	for i := range vals {
		at[i] = &vals[i]
	}
	made, out := make([][]byte, len(columns)), make([][]byte, len(columns))
	for rows.Next() {
		if err := rows.Scan(at...); err != nil {
			return d.fail("cannot be read", err)
		}
		for i, v := range vals {
			if out[i] = nil; v != nil {
				made[i] = as(made[i][:0], v, columns[i].SQL)
				out[i] = made[i]
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

// as adds a value in the plain form of the type that it is read as.
func as(b []byte, v any, t sqltype.Type) []byte {
	switch x := v.(type) {
	case time.Time:
		if t.Kind == sqltype.Date {
			return x.AppendFormat(b, "2006-01-02")
		}
		if t.Kind == sqltype.Timestamp || t.Kind == sqltype.TimestampTZ {
			return moment(b, x, t)
		}
	case string:
		switch t.Kind { // others: as they are
		case sqltype.Char, sqltype.UUID:
			return append(b, strings.TrimRight(x, " ")...)
		case sqltype.Time:
			return clock(b, x, t.Precision)
		case sqltype.Decimal:
			return decimals(b, x, t.Scale)
		}
	}
	return plain(b, v)
}

// moment adds a time with so many digits of a second, or more if there are more.
func moment(b []byte, at time.Time, t sqltype.Type) []byte {
	form, digits := "2006-01-02 15:04:05", t.Precision
	for n, unit := digits, at.Nanosecond(); n < 9 && unit%pow10[9-n] != 0; n++ {
		digits = n + 1
	}
	if digits > 0 {
		form += ".000000000"[:digits+1]
	}
	if t.Kind == sqltype.TimestampTZ {
		at = at.UTC()
		form += "+00:00"
	}
	return at.AppendFormat(b, form)
}

var pow10 = [10]int{1, 10, 100, 1_000, 10_000, 100_000, 1_000_000, 10_000_000, 100_000_000, 1_000_000_000}

// clock adds a time of the day, which the driver gives as an interval: +00 hh:mm:ss.ffffff.
func clock(b []byte, s string, digits int) []byte {
	day, rest, is := strings.Cut(s, " ")
	if !is || strings.Trim(day, "+0") != "" {
		return append(b, s...)
	}
	whole, fraction, _ := strings.Cut(rest, ".")
	b = append(b, whole...)
	for len(fraction) > digits && fraction[len(fraction)-1] == '0' {
		fraction = fraction[:len(fraction)-1]
	}
	if fraction != "" {
		b = append(append(b, '.'), fraction...)
	}
	return b
}

// decimals adds a number with at least as many digits behind the point as its type has.
func decimals(b []byte, s string, scale int) []byte {
	b = append(b, s...)
	if scale == 0 {
		return b
	}
	have := 0
	if i := strings.IndexByte(s, '.'); i >= 0 {
		have = len(s) - i - 1
	} else {
		b = append(b, '.')
	}
	for ; have < scale; have++ {
		b = append(b, '0')
	}
	return b
}

// plain adds a value as the driver gives it.
func plain(b []byte, v any) []byte {
	switch x := v.(type) {
	case string:
		return append(b, x...)
	case int64:
		return strconv.AppendInt(b, x, 10)
	case float64:
		return strconv.AppendFloat(b, x, 'g', -1, 64)
	case float32:
		return strconv.AppendFloat(b, float64(x), 'g', -1, 32)
	case bool:
		return strconv.AppendBool(b, x)
	case time.Time:
		return moment(b, x, sqltype.Type{Kind: sqltype.Timestamp})
	case []byte:
		return hex.AppendEncode(append(b, "0x"...), x)
	}
	return b
}
