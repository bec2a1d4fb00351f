package oracle

import (
	"context"
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
	f, err := d.find(ctx, t.Schema, t.Name)
	if err != nil {
		return 0, nil, err
	}
	if f == nil {
		return 0, nil, d.fail("does not have the table "+t.Name, nil)
	}
	return d.tally(ctx, Dialect.Qualified(t.Schema, t.Name), t.Columns, db.LooseColumns(f.Table, t.Columns), f.fixed)
}

// fixed reports whether a column is filled up with blanks, and large whether it is a large
// object.
func (f *found) fixed(name string) (fixed, large bool) {
	c := f.column(name)
	if c == nil {
		return false, false
	}
	return c.isFixed, strings.HasSuffix(c.typ, "LOB")
}

// atOnce is how many columns are asked for in one statement, which yields at most 1,000.
const atOnce = 200

// tally lets the server add up what a table holds. What it cannot add up as we do is read
// back: large objects, and text in a database of another character set.
func (d *DB) tally(ctx context.Context, from string, columns []dialect.Column, loose []bool,
	is func(name string) (fixed, large bool)) (rows int64, out []tally.Tally, err error) {
	out = make([]tally.Tally, len(columns))
	var back []int
	for first := 0; first == 0 || first < len(columns); first += atOnce {
		list := []string{"count(*)"}
		var asked []int
		for i := first; i < min(first+atOnce, len(columns)); i++ {
			c := columns[i]
			fixed, large := is(c.Name)
			if !loose[i] && c.Type.IsText() && (large || !d.inUTF8()) {
				back = append(back, i)
				continue
			}
			asked = append(asked, i)
			list = append(list, facts(quote(c.Name), c.Type, loose[i], fixed)...)
		}
		got, err := d.questions().Rows(ctx, "cannot be tallied", "SELECT "+strings.Join(list, ", ")+" FROM "+from)
		if err != nil {
			return 0, nil, err
		}
		var cols []dialect.Column
		var free []bool
		for _, i := range asked {
			cols, free = append(cols, columns[i]), append(free, loose[i])
		}
		n, some, err := db.ParseFacts(cols, free, got[0])
		if err != nil {
			return 0, nil, d.fail("cannot be tallied", err)
		}
		rows = n
		for k, i := range asked {
			out[i] = some[k]
		}
	}
	if len(back) > 0 {
		rows, err = d.readBack(ctx, from, columns, back, is, out)
	}
	return rows, out, err
}

// inUTF8 reports a database whose bytes of text are those of UTF-8.
func (d *DB) inUTF8() bool { return d.charset == "AL32UTF8" }

// readBack tallies columns of text by reading all their values.
func (d *DB) readBack(ctx context.Context, from string, columns []dialect.Column, back []int,
	is func(name string) (fixed, large bool), out []tally.Tally) (rows int64, err error) {
	var names []string
	var cols []db.Column
	var readers []*reading.Reader
	for _, i := range back {
		c := columns[i]
		name := quote(c.Name)
		if fixed, _ := is(c.Name); fixed {
			name = "RTRIM(" + name + ") AS " + name
		}
		names, cols = append(names, name), append(cols, db.Column{Name: c.Name, SQL: c.Type})
		readers = append(readers, reading.Plain(c.Type))
		out[i] = tally.Tally{Type: c.Type}
	}
	var v reading.Value
	err = d.Scan(ctx, "SELECT "+strings.Join(names, ", ")+" FROM "+from, cols, func(fields [][]byte) error {
		rows++
		for k, i := range back {
			v = reading.Value{Null: fields[k] == nil}
			if !v.Null {
				if m := readers[k].Read(fields[k], true, &v); m != reading.OK {
					return fmt.Errorf("column %s: %q is %s", cols[k].Name, fields[k], m.Reason(cols[k].SQL, fields[k]))
				}
			}
			out[i].Add(&v)
		}
		return nil
	})
	return rows, err
}

// days is a date's number of days since 1970-01-01, by its year, month and day: the server's
// own difference has another calendar before 1582.
func days(x string) string {
	part := func(p string) string { return "EXTRACT(" + p + " FROM " + x + ")" }
	year := "(" + part("YEAR") + " - CASE WHEN " + part("MONTH") + " <= 2 THEN 1 ELSE 0 END)"
	return fmt.Sprintf("(365 * %[1]s + FLOOR(%[1]s / 4) - FLOOR(%[1]s / 100) + FLOOR(%[1]s / 400) + "+
		"FLOOR((153 * MOD(%[2]s + 9, 12) + 2) / 5) + %[3]s - 719469)", year, part("MONTH"), part("DAY"))
}

// micros is a timestamp's number of microseconds since 1970-01-01.
func micros(x string) string {
	x = "CAST(" + x + " AS TIMESTAMP(6))"
	return fmt.Sprintf("(%s * 86400000000 + TO_NUMBER(TO_CHAR(%[2]s, 'SSSSS')) * 1000000 + "+
		"TO_NUMBER(TO_CHAR(%[2]s, 'FF6')))", days(x), x)
}

// facts are the expressions for one column: how many are not null, the sum, the smallest and
// the largest, in the units of reading.Value.
func facts(x string, t sqltype.Type, loose, fixed bool) []string {
	n := "count(" + x + ")"
	if loose {
		return []string{n, "NULL", "NULL", "NULL"}
	}
	of := func(unit func(string) string) []string {
		return []string{n, "sum(" + unit(x) + ")", unit("min(" + x + ")"), unit("max(" + x + ")")}
	}
	switch t.Kind {
	case sqltype.Double:
		return []string{n, "NULL", "min(" + x + ")", "max(" + x + ")"}
	case sqltype.Date:
		return of(days)
	case sqltype.Timestamp:
		return of(micros)
	case sqltype.TimestampTZ:
		return of(func(x string) string { return micros("SYS_EXTRACT_UTC(" + x + ")") })
	case sqltype.Time:
		return of(func(x string) string {
			return fmt.Sprintf("(EXTRACT(DAY FROM %[1]s) * 86400000000 + EXTRACT(HOUR FROM %[1]s) * 3600000000 + "+
				"EXTRACT(MINUTE FROM %[1]s) * 60000000 + EXTRACT(SECOND FROM %[1]s) * 1000000)", x)
		})
	case sqltype.UUID:
		return []string{n, "36 * " + n, "min(" + x + ")", "max(" + x + ")"}
	case sqltype.Char, sqltype.Text, sqltype.VarChar:
		if fixed {
			x = "RTRIM(" + x + ")"
		}
		return []string{n, "sum(LENGTHB(" + x + "))", "min(" + x + ")", "max(" + x + ")"}
	case sqltype.Boolean, sqltype.SmallInt, sqltype.Integer, sqltype.BigInt, sqltype.Decimal, sqltype.None:
	}
	return of(func(x string) string { return x })
}
