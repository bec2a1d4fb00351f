package oracle

import (
	"context"
	"database/sql"
	"encoding/binary"
	"fmt"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unsafe"

	driver "github.com/sijms/go-ora/v2"
	"github.com/sijms/go-ora/v2/network"

	"ambertray/internal/db"
	"ambertray/internal/reading"
	"ambertray/internal/sink"
	"ambertray/internal/sqltype"
)

// most is how many bytes of text a row may bring as text; more goes as a large object.
const most = 4000

// encoder makes rows for arrays: for each field its length and its text. Nothing is null.
type encoder struct{ types []sqltype.Type }

// Encoder implements db.Load.
func (l *load) Encoder() sink.Encoder {
	e := &encoder{}
	for i, c := range l.spec.Table.Columns {
		t := c.Type
		if l.loose[i] {
			t = sqltype.Type{Kind: sqltype.Text}
		}
		e.types = append(e.types, t)
	}
	return e
}

// Append implements sink.Encoder.
func (e *encoder) Append(b []byte, row []reading.Value) []byte {
	for i := range row {
		v := &row[i]
		at := len(b)
		b = append(b, 0, 0, 0, 0)
		if v.Null {
			continue
		}
		switch t := e.types[i]; {
		case t.Kind == sqltype.Boolean:
			b = append(b, byte('0'+v.Int))
		case t.IsText():
			b = append(b, v.Text...)
		case t.Kind == sqltype.Time:
			b = v.Append(append(b, "0 "...), t) // an interval: no day, and the time
		default:
			b = v.Append(b, t)
		}
		binary.LittleEndian.PutUint32(b[at:], uint32(len(b)-at-4))
	}
	return b
}

// settle makes the statement that takes rows.
func (l *load) settle() error {
	var names, values []string
	for i, c := range l.spec.Table.Columns {
		own := l.into.column(c.Name)
		if own == nil {
			return l.d.fail(fmt.Sprintf("does not have the column %s in the table %s", c.Name, l.spec.Table.Name), nil)
		}
		names = append(names, quote(c.Name))
		values = append(values, reads(c.Type, l.loose[i], i+1))
	}
	if l.spec.Stage != nil {
		names, values = append(names, quote(db.StageNumber)), append(values, fmt.Sprintf(":%d", len(names)+1))
	}
	l.insert = fmt.Sprintf("INSERT INTO %s (%s) VALUES (%s)", l.table, strings.Join(names, ", "),
		strings.Join(values, ", "))
	return nil
}

// reads is how the statement makes a value of the text of a field.
func reads(t sqltype.Type, loose bool, n int) string {
	x := fmt.Sprintf(":%d", n)
	if loose {
		return x
	}
	fraction := ""
	if t.Precision > 0 {
		fraction = ".FF"
	}
	switch t.Kind { // others: as they are
	case sqltype.Date:
		return "TO_DATE(" + x + ", 'YYYY-MM-DD')"
	case sqltype.Timestamp:
		return "TO_TIMESTAMP(" + x + ", 'YYYY-MM-DD HH24:MI:SS" + fraction + "')"
	case sqltype.TimestampTZ:
		return "TO_TIMESTAMP_TZ(" + x + ", 'YYYY-MM-DD HH24:MI:SS" + fraction + "TZH:TZM')"
	case sqltype.Time:
		return "TO_DSINTERVAL(" + x + ")"
	case sqltype.Double:
		return "TO_BINARY_DOUBLE(" + x + ")"
	}
	return x
}

// rows is encoded rows taken apart: column by column, the fields as texts within the batch.
type rows struct {
	columns [][]string
	numbers []int  // of the rows in the batch
	long    []bool // rows that have a text above what may go as such
}

// apart takes a batch apart. Its texts are in one piece, which lives as long as they do.
func (l *load) apart(b sink.Batch) *rows {
	fields := len(l.spec.Table.Columns)
	r := &rows{columns: make([][]string, fields, fields+1), numbers: make([]int, b.Rows), long: make([]bool, b.Rows)}
	for i := range r.columns {
		r.columns[i] = make([]string, b.Rows)
	}
	if l.spec.Stage != nil {
		r.columns = append(r.columns, l.places(b.Rows))
	}
	at := 0
	for n := range b.Rows {
		r.numbers[n] = n
		for i := range fields {
			size := int(binary.LittleEndian.Uint32(b.Data[at:]))
			at += 4
			if size > 0 {
				r.columns[i][n] = unsafe.String(&b.Data[at], size)
			}
			r.long[n] = r.long[n] || size > most
			at += size
		}
	}
	return r
}

// places number some more rows of a stage, from 1.
func (l *load) places(n int) []string {
	out := make([]string, n)
	var b []byte
	for i := range out {
		l.written++
		at := len(b)
		if cap(b)-at < 20 {
			b, at = make([]byte, 0, 4096), 0
		}
		b = strconv.AppendInt(b, l.written, 10)
		out[i] = unsafe.String(&b[at], len(b)-at)
	}
	return out
}

// slice are some of the rows.
func (r *rows) slice(from, to int) *rows {
	out := &rows{columns: make([][]string, len(r.columns)), numbers: r.numbers[from:to], long: r.long[from:to]}
	for i, c := range r.columns {
		out.columns[i] = c[from:to]
	}
	return out
}

// Write implements db.Load.
func (l *load) Write(ctx context.Context, b sink.Batch) ([]sink.Refusal, error) {
	if l.lanes != nil {
		return l.lanes.Put(ctx, b)
	}
	return l.write(ctx, b)
}

// write is Write over the load's own connection.
func (l *load) write(ctx context.Context, b sink.Batch) ([]sink.Refusal, error) {
	l.refused = nil
	all := l.apart(b)
	// Rows with long texts go as others do, but not together with those that have none.
	for from := 0; from < b.Rows; {
		to := from + 1
		for to < b.Rows && all.long[to] == all.long[from] {
			to++
		}
		if err := l.send(ctx, all.slice(from, to)); err != nil {
			return nil, err
		}
		from = to
	}
	slices.SortFunc(l.refused, func(a, b sink.Refusal) int { return a.Row - b.Row })
	return l.refused, nil
}

// step is how many rows go in one exchange.
const step = 8000

// send sends rows behind savepoints; what the server refuses is left out. It says of all rows
// of an exchange which it refuses, and why. Where it does not, rows are divided: behind a
// refusal it goes on with as few rows as were good before it, and with more again while all
// goes well.
func (l *load) send(ctx context.Context, r *rows) error {
	for n := step; len(r.numbers) > 0; {
		n = min(n, len(r.numbers))
		m, err := l.try(ctx, r.slice(0, n))
		switch {
		case err != nil:
			return err
		case m == nil:
			r = r.slice(n, len(r.numbers))
			n = min(4*n, step)
		case n == 1:
			l.refused = append(l.refused, l.refusal(r.numbers[0], m.ErrMsg))
			r = r.slice(1, len(r.numbers))
		default:
			n /= 2
		}
	}
	return nil
}

// try sends rows behind a savepoint. It returns the server's refusal if a row is to blame for
// it and the server does not say which; then none of them is in.
func (l *load) try(ctx context.Context, r *rows) (*network.OracleError, error) {
	d := l.d
	if err := d.do(ctx, "cannot go on", "SAVEPOINT segment"); err != nil {
		return nil, err
	}
	// A statement of its own each time: one that is executed again would stop at the first row
	// that is refused.
	st, err := d.c.PrepareContext(ctx, l.insert)
	if err != nil {
		return nil, d.fail("cannot take the rows", err)
	}
	defer st.Close()
	res, err := st.ExecContext(ctx, l.arguments(r)...)
	if err == nil {
		if n, err := affected(ctx, res); err != nil || n != int64(len(r.numbers)) {
			return nil, d.fail(fmt.Sprintf("has taken %d of %d rows without a word", n, len(r.numbers)), err)
		}
		return nil, nil
	}
	m := asServer(err)
	if m == nil {
		return nil, d.fail("cannot take the rows", err)
	}
	if list := d.refusedRows(len(r.numbers)); list != nil {
		for _, x := range list {
			if !aboutRows(x.code) {
				return nil, d.fail("cannot take the rows", &network.OracleError{ErrCode: x.code, ErrMsg: x.text})
			}
			l.refused = append(l.refused, l.refusal(r.numbers[x.row], x.text))
		}
		return nil, nil
	}
	if !aboutRows(m.ErrCode) {
		return nil, d.fail("cannot take the rows", err)
	}
	return m, d.do(ctx, "cannot go on", "ROLLBACK TO segment")
}

// affected is how many rows a statement took. One that was told to stop has no result, and the driver
// says nothing of that.
func affected(ctx context.Context, res sql.Result) (int64, error) {
	if ctx.Err() != nil {
		return 0, ctx.Err()
	}
	return res.RowsAffected()
}

// arguments are the columns of some rows, as the driver takes them.
func (l *load) arguments(r *rows) []any {
	args := make([]any, len(r.columns))
	if len(r.numbers) == 1 {
		for i, c := range r.columns { // alone, as a value: what the server says is about it
			if args[i] = any(c[0]); len(c[0]) > most {
				args[i] = driver.Clob{String: c[0], Valid: true}
			}
		}
		return args
	}
	for i, c := range r.columns {
		args[i] = c
		if !r.long[0] || !isLong(c) {
			continue
		}
		large := make([]driver.Clob, len(c))
		for k, s := range c {
			large[k] = driver.Clob{String: s, Valid: s != ""}
		}
		args[i] = large
	}
	return args
}

// A refusedRow is one of an exchange that the server has refused, while the others are in.
type refusedRow struct {
	row, code int
	text      string
}

// refusedRows are those of the last exchange of n rows; nil: the server, or the driver, does
// not say. The driver has read them, and keeps them to itself: they are read from its last
// answer by their names, so that another version of it that has others yields nil.
func (d *DB) refusedRows(n int) (out []refusedRow) {
	d.c.Raw(func(c any) error {
		at := reflect.ValueOf(c)
		for _, name := range []string{"session", "Summary", "bindErrors"} {
			for at.Kind() == reflect.Pointer && !at.IsNil() {
				at = at.Elem()
			}
			if at.Kind() != reflect.Struct {
				return nil
			}
			at = at.FieldByName(name)
		}
		if at.Kind() != reflect.Slice {
			return nil
		}
		for i := range at.Len() {
			row, code, text := at.Index(i).FieldByName("rowOffset"), at.Index(i).FieldByName("errorCode"),
				at.Index(i).FieldByName("errorMsg")
			if !row.CanInt() || !code.CanInt() || text.Kind() != reflect.Slice || row.Int() < 0 ||
				row.Int() >= int64(n) {
				out = nil
				return nil
			}
			out = append(out, refusedRow{int(row.Int()), int(code.Int()), string(text.Bytes())})
		}
		return nil
	})
	return out
}

func isLong(c []string) bool {
	return slices.ContainsFunc(c, func(s string) bool { return len(s) > most })
}

// aboutRows reports errors that a row is to blame for: keys, checks, nulls, lengths, ranges,
// conversions, and what triggers raise.
func aboutRows(code int) bool {
	switch code {
	case 1, 1400, 1407, 1426, 1438, 1461, 1722, 1727, 1830, 1839, 1840, 1841, 1843, 1847, 1850, 1851, 1852, 1858, 1861,
		1867, 1873, 1882, 2290, 2291, 2292, 12899, 4088, 6502, 14400, 24381, 28115, 30926, 40478, 932:
		return true
	}
	return code >= 20000 && code < 21000
}

var (
	columnIn = regexp.MustCompile(`"[^"]*"\."[^"]*"\."([^"]*)"`)
	actual   = regexp.MustCompile(`\(actual: \d+, maximum: `)
)

// refusal is the server's, of a row. Its kind leaves out the row's own values.
func (l *load) refusal(row int, message string) sink.Refusal {
	if l.side != "" {
		message = strings.ReplaceAll(message, catalogued(l.side), catalogued(l.spec.Table.Name))
	}
	return refusal(row, message)
}

func refusal(row int, message string) sink.Refusal {
	text, _, _ := strings.Cut(strings.TrimSpace(message), "\n")
	r := sink.Refusal{Row: row, Message: text, Kind: actual.ReplaceAllString(text, "(maximum: ")}
	if c := columnIn.FindStringSubmatch(text); c != nil {
		r.Column = shown(c[1])
	}
	return r
}
