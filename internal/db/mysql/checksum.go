package mysql

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"hash/crc32"
	"math/big"
	"strconv"
	"strings"
	"sync/atomic"

	driver "github.com/go-sql-driver/mysql"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/reading"
	"ambertray/internal/sqltype"
)

// The checksum of a row is two CRC-32 of its values as text, with tabs between:
// one of the first half of the columns, one of the others. Nulls are \N, as in
// what is sent. It would not show that what is sent was made wrong: most
// numbers and dates are therefore read again before, see reread, and the server
// is asked for the sums of the others. Two connections add them up side by side,
// each of half the keys.

// longRow is above how many bytes of text no checksum is relied on: the server
// makes no text beyond its max_allowed_packet.
const longRow = 256 << 10

// summing is how the checksums of a load are made.
type summing struct {
	columns []dialect.Column
	half    int // how many columns the first of the two has
	// spoilt is set where no checksum is to be relied on: a row is too long, or
	// what is sent for a value does not read as that value.
	spoilt atomic.Bool
}

// summing returns nil where there are no checksums: they are made for tables
// of our own definition, whose text is kept as it is sent, and of types that
// have one form as text.
func (l *load) summing() *summing {
	s := &summing{columns: l.spec.Table.Columns}
	if !l.spec.Mode.New() || l.spec.Like != nil || len(s.columns) < 2 {
		return nil
	}
	for _, c := range s.columns {
		if c.Type.Kind == sqltype.Double {
			return nil
		}
	}
	s.half = len(s.columns) / 2
	return s
}

// part is which of the two sums a column is in.
func (s *summing) part(column int) int {
	if column < s.half {
		return 0
	}
	return 1
}

// expr is the SQL for one of a row's two sums.
func (s *summing) expr(k int, of func(i int) string) string {
	var list []string
	for i, c := range s.columns {
		if s.part(i) != k {
			continue
		}
		x := of(i)
		if !c.Required {
			x = "ifnull(" + x + `, '\\N')`
		}
		list = append(list, x)
	}
	return `crc32(concat_ws('\t', ` + strings.Join(list, ", ") + "))"
}

// both puts two sums together.
func both(first, second uint64) uint64 { return first + second<<32 }

// of is the checksum of a row as it is sent, from its two parts.
func (s *summing) of(first, second []byte) uint64 {
	if len(first)+len(second) > longRow {
		s.spoilt.Store(true)
	}
	return both(uint64(crc32.ChecksumIEEE(first)), uint64(crc32.ChecksumIEEE(second)))
}

// unescaped is text as it was before what would be mistaken was marked.
func unescaped(dst, text []byte) []byte {
	for i := 0; i < len(text); i++ {
		c := text[i]
		if c == '\\' && text[i+1] != 'N' {
			i++
			switch c = text[i]; c {
			case 't':
				c = '\t'
			case 'n':
				c = '\n'
			}
		}
		dst = append(dst, c)
	}
	return dst
}

// Check implements db.Checker.
func (l *load) Check(ctx context.Context) (*db.Checks, error) {
	if err := l.settled(ctx); err != nil {
		return nil, err
	}
	if l.sums == nil || l.sums.spoilt.Load() {
		return nil, nil
	}
	if same, err := l.sameSum(ctx); err != nil || !same {
		return nil, err
	}
	columns := l.spec.Table.Columns
	where, err := l.halves(ctx)
	if err != nil {
		return nil, err
	}
	// Each connection asks for all of its half of the rows, or for its half of
	// the columns of all rows, and 0 for the others.
	var q [2]question
	for k := range q {
		of := func(part int, expr string) {
			if where[0] == "" && part != k {
				expr = "0"
			}
			q[k].list = append(q[k].list, expr)
		}
		of(0, "count(*)")
		for part := range 2 {
			of(part, "coalesce(sum("+l.sums.expr(part, func(i int) string { return l.names[i] })+"), 0)")
		}
		for i, c := range columns {
			if summed(c.Type) {
				of(l.sums.part(i), facts(l.names[i], c.Type, false, true)[1])
			}
		}
		q[k].from = l.table + where[k]
	}
	got, err := l.d.askTwice(ctx, q)
	if err != nil {
		return nil, err
	}
	c := &db.Checks{Totals: make([]*big.Int, len(columns))}
	for _, vals := range got {
		var numbers [3]uint64 // rows, and the two sums
		for i := range numbers {
			if numbers[i], err = strconv.ParseUint(*vals[i], 10, 64); err != nil {
				return nil, l.d.fail("cannot be checked", err)
			}
		}
		c.Rows += int64(numbers[0])
		c.Sum += both(numbers[1], numbers[2])
		totals, err := db.ParseTotals(columns, summed, vals[len(numbers):])
		if err != nil {
			return nil, l.d.fail("cannot be checked", err)
		}
		for i, n := range totals {
			if n != nil && c.Totals[i] != nil {
				n.Add(n, c.Totals[i])
			}
			c.Totals[i] = n
		}
	}
	return c, nil
}

// halves are the conditions for two parts of the table, by a key that is an
// integer, or nothing if there is none.
func (l *load) halves(ctx context.Context) (where [2]string, err error) {
	t := l.spec.Table
	for i, c := range t.Columns {
		if len(t.Key) == 0 || c.Name != t.Key[0] || !c.Type.IsInteger() {
			continue
		}
		var lo, hi sql.NullInt64
		if err := l.d.c.QueryRowContext(ctx,
			fmt.Sprintf("SELECT min(%[1]s), max(%[1]s) FROM %[2]s", l.names[i], l.table)).Scan(&lo, &hi); err != nil {
			return where, l.d.fail("cannot be checked", err)
		}
		middle := lo.Int64>>1 + hi.Int64>>1
		return [2]string{fmt.Sprintf(" WHERE %s <= %d", l.names[i], middle),
			fmt.Sprintf(" WHERE %s > %d", l.names[i], middle)}, nil
	}
	return where, nil
}

// sameSum asks the server for the checksum of a row of constants.
func (l *load) sameSum(ctx context.Context) (bool, error) {
	s := l.sums
	row := make([]reading.Value, len(s.columns))
	e := l.Encoder().(*encoder)
	casts := make([]string, len(s.columns))
	for i, c := range s.columns {
		text, v := db.Sample(c.Type)
		row[i] = v
		casts[i] = constant(c.Type, text)
	}
	e.Append(nil, row)
	var first, second uint64
	of := func(i int) string { return casts[i] }
	err := l.d.c.QueryRowContext(ctx, fmt.Sprintf("SELECT %s, %s", s.expr(0, of), s.expr(1, of))).Scan(&first, &second)
	var refused *driver.MySQLError
	if errors.As(err, &refused) {
		return false, nil // a server without the functions
	}
	if err != nil {
		return false, l.d.fail("cannot compute checksums", err)
	}
	return both(first, second) == e.Sum(), nil
}

// constant is the SQL for a value of a type.
func constant(t sqltype.Type, text string) string {
	as := func(typ string) string { return "CAST('" + text + "' AS " + typ + ")" }
	switch {
	case t.Kind == sqltype.Boolean:
		return text
	case t.IsInteger():
		return as("SIGNED")
	case t.Kind == sqltype.Decimal:
		return as(fmt.Sprintf("DECIMAL(%d,%d)", t.Precision, t.Scale))
	case t.Kind == sqltype.Date:
		return as("DATE")
	case t.Kind == sqltype.Time:
		return as(fmt.Sprintf("TIME(%d)", t.Precision))
	case t.IsTemporal():
		return strings.Replace(as(fmt.Sprintf("DATETIME(%d)", t.Precision)), "+00:00", "", 1)
	}
	return "'" + strings.ReplaceAll(text, "'", "''") + "'"
}
