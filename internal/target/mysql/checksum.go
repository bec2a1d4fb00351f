package mysql

import (
	"context"
	"errors"
	"fmt"
	"hash/crc32"
	"strconv"
	"strings"
	"sync/atomic"

	driver "github.com/go-sql-driver/mysql"

	"ambertray/internal/dialect"
	"ambertray/internal/reading"
	"ambertray/internal/sqltype"
	"ambertray/internal/target"
)

// The checksum of a row is two CRC-32 of its values as text, with tabs between:
// one of the first half of the columns, one of the others, since two
// connections add them up side by side. Nulls are \N, as in what is sent.

// longRow is above how many bytes of text no checksum is relied on: the server
// makes no text beyond its max_allowed_packet.
const longRow = 256 << 10

// summing is how the checksums of a load are made.
type summing struct {
	columns []dialect.Column
	half    int // how many columns the first of the two has
	long    atomic.Bool
}

// summing returns nil where there are no checksums: they are made for tables
// of our own definition, whose text is kept as it is sent, and of types that
// have one form as text.
func (l *load) summing() *summing {
	s := &summing{columns: l.spec.Table.Columns}
	if !l.spec.Mode.New() || l.spec.Like != "" || len(s.columns) < 2 {
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
		s.long.Store(true)
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

// Check implements target.Checker.
func (l *load) Check(ctx context.Context) (*target.Checks, error) {
	if err := l.settled(ctx); err != nil {
		return nil, err
	}
	if l.sums == nil || l.sums.long.Load() {
		return nil, nil
	}
	if same, err := l.sameSum(ctx); err != nil || !same {
		return nil, err
	}
	var lists [2][]string
	for k := range lists {
		lists[k] = []string{"count(*)", "coalesce(sum(" + l.sums.expr(k, func(i int) string { return l.names[i] }) + "), 0)"}
	}
	columns := l.spec.Table.Columns
	for i, c := range columns {
		if target.HasTotal(c.Type) {
			k := l.sums.part(i)
			lists[k] = append(lists[k], facts(l.names[i], c.Type, false, true)[1])
		}
	}
	got, err := l.d.askTwice(ctx, lists, l.table)
	if err != nil {
		return nil, err
	}
	var numbers [2][2]uint64 // rows and sum, of both
	for k := range got {
		for i := range numbers[k] {
			if numbers[k][i], err = strconv.ParseUint(*got[k][i], 10, 64); err != nil {
				return nil, l.d.fail("cannot be checked", err)
			}
		}
	}
	if numbers[0][0] != numbers[1][0] {
		return nil, l.d.fail(fmt.Sprintf("counts %d rows on one connection and %d on another", numbers[0][0], numbers[1][0]), nil)
	}
	c := &target.Checks{Rows: int64(numbers[0][0]), Sum: both(numbers[0][1], numbers[1][1])}
	if c.Totals, err = target.ParseTotals(columns, append(got[0][2:], got[1][2:]...)); err != nil {
		return nil, l.d.fail("cannot be checked", err)
	}
	return c, nil
}

// sameSum asks the server for the checksum of a row of constants.
func (l *load) sameSum(ctx context.Context) (bool, error) {
	s := l.sums
	row := make([]reading.Value, len(s.columns))
	e := l.Encoder().(*encoder)
	casts := make([]string, len(s.columns))
	for i, c := range s.columns {
		text, v := target.Sample(c.Type)
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
