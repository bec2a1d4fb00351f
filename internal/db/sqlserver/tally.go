package sqlserver

import (
	"context"
	"encoding/hex"
	"fmt"
	"strings"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/reading"
	"ambertray/internal/sqltype"
	"ambertray/internal/tally"
)

// Tally implements db.Session.
func (d *DB) Tally(ctx context.Context, t dialect.Table) (int64, []tally.Tally, error) {
	found, columns, err := d.find(ctx, t.Schema, t.Name)
	if err != nil {
		return 0, nil, err
	}
	if found == nil {
		return 0, nil, d.fail("does not have the table "+t.Name, nil)
	}
	for _, c := range columns {
		found.Columns = append(found.Columns, c.Column)
	}
	return d.tallyFrom(ctx, Dialect.Qualified(t.Schema, t.Name), t.Columns, columns, db.LooseColumns(found, t.Columns))
}

// atOnce is how many columns are asked for in one statement, which yields at most 4,096.
const atOnce = 500

// tallyFrom lets the server add up what stands behind FROM. What it cannot add up is read back: text
// before version 15, which knows no UTF-8, and sums beyond 38 digits.
func (d *DB) tallyFrom(ctx context.Context, from string, list []dialect.Column, columns []column,
	loose []bool) (rows int64, out []tally.Tally, err error) {
	out = make([]tally.Tally, len(list))
	var back []int
	for first := 0; first == 0 || first < len(list); first += atOnce {
		some := list[first:min(first+atOnce, len(list))]
		asks := []string{"COUNT_BIG(*)"}
		var asked []int
		for i, c := range some {
			k := columnOf(columns, c.Name)
			if k < 0 {
				return 0, nil, d.fail("does not have the column "+c.Name, nil)
			}
			if !loose[first+i] && !d.adds(c.Type) {
				back = append(back, first+i)
				continue
			}
			asked = append(asked, first+i)
			asks = append(asks, facts(columns[k], c.Type, loose[first+i])...)
		}
		got, err := d.questions().Rows(ctx, "cannot be tallied", "SELECT "+strings.Join(asks, ", ")+" FROM "+from)
		if m := asServer(err); m != nil && m.Number == 8115 {
			back = append(back, asked...)
			continue
		}
		if err != nil {
			return 0, nil, err
		}
		if rows, err = d.parse(list, loose, asked, got[0], out); err != nil {
			return 0, nil, d.fail("cannot be tallied", err)
		}
	}
	if len(back) > 0 {
		if rows, err = d.readBack(ctx, from, list, columns, loose, back, out); err != nil {
			return 0, nil, err
		}
	}
	return rows, out, nil
}

// parse reads what the server has added up of some columns.
func (d *DB) parse(list []dialect.Column, loose []bool, asked []int, got []*string, out []tally.Tally) (int64, error) {
	var cols []dialect.Column
	var free []bool
	for _, i := range asked {
		cols, free = append(cols, list[i]), append(free, loose[i])
	}
	for k, c := range cols {
		for _, p := range []**string{&got[3+4*k], &got[4+4*k]} {
			if c.Type.IsText() && !free[k] && *p != nil {
				b, err := hex.DecodeString(strings.TrimPrefix(**p, "0x"))
				if err != nil {
					return 0, err
				}
				s := strings.TrimSuffix(string(b), sentinel)
				*p = &s
			}
		}
	}
	n, some, err := db.ParseFacts(cols, free, got)
	if err != nil {
		return 0, err
	}
	for k, i := range asked {
		out[i] = some[k]
	}
	return n, nil
}

// adds reports whether the server can add up a column as we do.
func (d *DB) adds(t sqltype.Type) bool {
	return !t.IsText() || d.atLeast(15)
}

// sentinel stands behind texts that are compared, so that blanks at their end count.
const sentinel = "\x01"

// facts are the expressions for one column: how many are not null, the sum, the smallest and
// the largest, in the units of reading.Value.
func facts(c column, t sqltype.Type, loose bool) []string {
	x := quote(c.Column.Name)
	n := "COUNT_BIG(" + x + ")"
	if loose {
		return []string{n, "NULL", "NULL", "NULL"}
	}
	of := func(sum, of string) []string {
		return []string{n, "SUM(" + sum + ")", "MIN(" + of + ")", "MAX(" + of + ")"}
	}
	micros := func(from string) []string {
		since := func(x string) string { return "DATEDIFF_BIG(microsecond, " + from + ", " + x + ")" }
		return []string{n, "SUM(CAST(" + since(x) + " AS decimal(38,0)))", since("MIN(" + x + ")"),
			since("MAX(" + x + ")")}
	}
	switch t.Kind {
	case sqltype.Boolean:
		return of("CAST("+x+" AS bigint)", "CAST("+x+" AS tinyint)")
	case sqltype.SmallInt, sqltype.Integer, sqltype.BigInt:
		return of("CAST("+x+" AS decimal(38,0))", x)
	case sqltype.Decimal:
		if c.declared.name == "money" || c.declared.name == "smallmoney" {
			x = "CAST(" + x + " AS decimal(19,4))"
		}
		return of(x, x)
	case sqltype.Double:
		return []string{n, "NULL", "MIN(" + x + ")", "MAX(" + x + ")"}
	case sqltype.Date:
		since := func(x string) string { return "DATEDIFF(day, CAST('1970-01-01' AS date), " + x + ")" }
		return []string{n, "SUM(CAST(" + since(x) + " AS bigint))", since("MIN(" + x + ")"), since("MAX(" + x + ")")}
	case sqltype.Time:
		return micros("CAST('00:00:00' AS time(6))")
	case sqltype.Timestamp:
		return micros("CAST('1970-01-01T00:00:00' AS datetime2(6))")
	case sqltype.TimestampTZ:
		return micros("CAST('1970-01-01T00:00:00+00:00' AS datetimeoffset(6))")
	case sqltype.UUID:
		x = "LOWER(CONVERT(char(36), " + x + ")) COLLATE Latin1_General_BIN2"
		return []string{n, "36 * " + n, "MIN(" + x + ")", "MAX(" + x + ")"}
	case sqltype.Char, sqltype.None, sqltype.Text, sqltype.VarChar:
	}
	u := inUTF8(c, x)
	// As bytes, since a client that has not asked for UTF-8 gets another code page.
	bytes := func(of string) string { return "CAST(" + of + "(" + u + " + CHAR(1)) AS varbinary(max))" }
	return []string{n, "SUM(CAST(DATALENGTH(" + u + ") AS bigint))", bytes("MIN"), bytes("MAX")}
}

// inUTF8 is a column's text in UTF-8, which orders by its bytes. Char is without the blanks
// that fill it up.
func inUTF8(c column, x string) string {
	length := "max"
	switch c.declared.name {
	case "char", "nchar":
		x = "RTRIM(" + x + ")"
	case "text":
		x = "CAST(" + x + " AS varchar(max))"
	case "ntext":
		x = "CAST(" + x + " AS nvarchar(max))"
	}
	if n := 3 * c.a; c.a > 0 && n < 8000 {
		length = fmt.Sprint(n)
	}
	return fmt.Sprintf("CONVERT(varchar(%s), %s COLLATE Latin1_General_100_BIN2_UTF8)", length, x)
}

// readBack tallies columns by reading all their values.
func (d *DB) readBack(ctx context.Context, from string, list []dialect.Column, columns []column, loose []bool,
	back []int, out []tally.Tally) (rows int64, err error) {
	var names []string
	var cols []db.Column
	var readers []*reading.Reader
	for _, i := range back {
		c := list[i]
		k := columnOf(columns, c.Name)
		name := quote(c.Name)
		if n := columns[k].declared.name; n == "char" || n == "nchar" {
			name = "RTRIM(" + name + ")"
		}
		names, cols = append(names, name), append(cols, db.Column{Name: c.Name, Type: columns[k].Type, SQL: c.Type})
		readers = append(readers, reading.Plain(c.Type))
		out[i] = tally.Tally{Type: c.Type, Loose: loose[i]}
	}
	var v reading.Value
	err = d.Scan(ctx, "SELECT "+strings.Join(names, ", ")+" FROM "+from, cols,
		func(fields [][]byte) error {
			rows++
			for k, i := range back {
				v = reading.Value{Null: fields[k] == nil}
				if !v.Null && !loose[i] {
					if m := readers[k].Read(fields[k], true, &v); m != reading.OK {
						return fmt.Errorf("column %s: %q is %s", cols[k].Name, fields[k], m.Reason(cols[k].SQL,
							fields[k]))
					}
				}
				out[i].Add(&v)
			}
			return nil
		})
	return rows, err
}
