package sqlserver

import (
	"context"
	"encoding/hex"
	"fmt"
	"strconv"
	"strings"
	"time"

	driver "github.com/microsoft/go-mssqldb"

	"ambertray/internal/db"
	"ambertray/internal/sqltype"
)

// Scan implements db.Session.
func (d *DB) Scan(ctx context.Context, query string, columns []db.Column, row func([][]byte) error) error {
	if !d.guarded {
		return d.scan(ctx, query, columns, row)
	}
	// The server knows no session that only reads.
	if len(columns) == 0 {
		return d.fail("refuses the query: it yields no columns, and nothing else is run here", nil)
	}
	begin, end := "BEGIN TRANSACTION", "ROLLBACK TRANSACTION"
	if d.load != nil { // whose rows stay
		begin, end = "SAVE TRANSACTION query", "ROLLBACK TRANSACTION query"
	}
	if err := d.do(ctx, "cannot begin a transaction", begin); err != nil {
		return err
	}
	err := d.scan(ctx, query, columns, row)
	if err2 := d.do(ctx, "has not undone what the query changed: it has ended the transaction around it",
		end); err == nil {
		err = err2
	}
	return err
}

// readable is a query whose text in UTF-8 collations comes as nvarchar: to a client that has
// not asked for UTF-8, the server sends it in a code page.
func (d *DB) readable(ctx context.Context, query string) string {
	if !d.atLeast(15) {
		return query // which knows none
	}
	described, err := d.describe(ctx, query)
	if err != nil {
		return query // and says so itself
	}
	var names, list []string
	found := false
	for i, c := range described {
		name := fmt.Sprintf("c%d", i+1)
		names, list = append(names, name), append(list, name)
		if strings.HasSuffix(strings.ToUpper(c.collation), "_UTF8") && !strings.HasPrefix(c.Type, "n") {
			list[i], found = "CAST("+name+" AS nvarchar(max))", true
		}
	}
	if !found {
		return query
	}
	return fmt.Sprintf("SELECT %s FROM (%s\n) AS q (%s)", strings.Join(list, ", "), query, strings.Join(names, ", "))
}

func (d *DB) scan(ctx context.Context, query string, columns []db.Column, row func([][]byte) error) error {
	query = d.readable(ctx, query)
	rows, err := d.c.QueryContext(ctx, query)
	if err != nil {
		return d.fail("refuses the query", err)
	}
	defer rows.Close()
	types, err := rows.ColumnTypes()
	if err != nil {
		return d.fail("cannot be read", err)
	}
	names := make([]string, len(columns))
	vals, at := make([]any, len(columns)), make([]any, len(columns))
	for i := range vals {
		at[i], names[i] = &vals[i], types[i].DatabaseTypeName()
	}
	made, out := make([][]byte, len(columns)), make([][]byte, len(columns))
	for rows.Next() {
		if err := rows.Scan(at...); err != nil {
			return d.fail("cannot be read", err)
		}
		for i, v := range vals {
			if v == nil {
				out[i] = nil
				continue
			}
			made[i] = shown(made[i][:0], v, names[i], columns[i].SQL)
			if out[i] = made[i]; out[i] == nil {
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

// shown adds a value in the plain form of the type that it is read as.
func shown(b []byte, v any, name string, t sqltype.Type) []byte {
	if at, is := v.(time.Time); is {
		switch t.Kind { // others: of a type of the server's own
		case sqltype.Time, sqltype.Timestamp, sqltype.TimestampTZ:
			return moment(b, at, t.Kind, t.Precision)
		}
	}
	if s, is := v.(string); is && t.Kind == sqltype.Char {
		return append(b, strings.TrimRight(s, " ")...) // without the blanks that fill it up
	}
	if x, is := v.(bool); is && t.Kind != sqltype.Boolean && t.Kind != sqltype.None {
		if x {
			return append(b, '1')
		}
		return append(b, '0')
	}
	return plain(b, v, name)
}

// moment adds a time with so many digits of a second, or more if there are more.
func moment(b []byte, at time.Time, k sqltype.Kind, digits int) []byte {
	form := "2006-01-02 15:04:05"
	if k == sqltype.Time {
		form = "15:04:05"
	}
	for n, unit := digits, at.Nanosecond(); n < 9 && unit%pow10[9-n] != 0; n++ {
		digits = n + 1
	}
	if digits > 0 {
		form += ".000000000"[:digits+1]
	}
	if k == sqltype.TimestampTZ {
		at = at.UTC()
		form += "+00:00"
	}
	return at.AppendFormat(b, form)
}

var pow10 = [10]int{1, 10, 100, 1_000, 10_000, 100_000, 1_000_000, 10_000_000, 100_000_000, 1_000_000_000}

// plain adds a value as the driver gives it, by the server's name of its type.
func plain(b []byte, v any, name string) []byte {
	switch x := v.(type) {
	case int64:
		return strconv.AppendInt(b, x, 10)
	case float64:
		if name == "REAL" {
			return strconv.AppendFloat(b, x, 'g', -1, 32)
		}
		return strconv.AppendFloat(b, x, 'g', -1, 64)
	case bool:
		return strconv.AppendBool(b, x)
	case string:
		return append(b, x...)
	case time.Time:
		switch name {
		case "DATE":
			return x.AppendFormat(b, "2006-01-02")
		case "TIME":
			return moment(b, x, sqltype.Time, 0)
		case "DATETIMEOFFSET":
			return moment(b, x, sqltype.TimestampTZ, 0)
		}
		return moment(b, x, sqltype.Timestamp, 0)
	case []byte:
		switch name {
		case "UNIQUEIDENTIFIER":
			var u driver.UniqueIdentifier
			if u.Scan(x) == nil {
				s, _ := u.MarshalText()
				for _, c := range s {
					if c >= 'A' && c <= 'Z' {
						c += 'a' - 'A'
					}
					b = append(b, c)
				}
				return b
			}
		case "DECIMAL", "NUMERIC", "MONEY", "SMALLMONEY", "XML", "TEXT", "NTEXT", "CHAR", "VARCHAR", "NCHAR",
			"NVARCHAR":
			return append(b, x...)
		}
		return hex.AppendEncode(append(b, "0x"...), x)
	}
	return b
}
