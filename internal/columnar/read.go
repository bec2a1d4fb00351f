package columnar

import (
	"context"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"strconv"

	pq "github.com/parquet-go/parquet-go"

	"ambertray/internal/reading"
)

// A File is one that is read.
type File struct {
	Path    string
	Columns []Column
	Rows    int64
	// Known is what the file says of its table, if this program wrote it.
	Known Known
	f     *os.File
	p     *pq.File
}

// Open opens a file. What is wrong with it is found now, or when its pages are read.
func Open(path string) (_ *File, err error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			f.Close()
		}
	}()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	out := &File{Path: path, f: f}
	defer recovered(path, &err)
	if out.p, err = pq.OpenFile(f, info.Size(), pq.SkipPageIndex(true), pq.SkipBloomFilters(true)); err != nil {
		return nil, fmt.Errorf("%s is no Parquet file that can be read: %w", path, err)
	}
	out.Columns, out.Known = columnsOf(out.p)
	out.Rows = out.p.NumRows()
	return out, nil
}

// Close ends the reading.
func (f *File) Close() error { return f.f.Close() }

// recovered makes an error of a panic about a file that is not what it says.
func recovered(path string, err *error) {
	if r := recover(); r != nil {
		*err = fmt.Errorf("%s is no Parquet file that can be read: %v", path, r)
	}
}

// Read calls row for each row, with the values of the columns wanted, by their places.
// They are valid until row returns.
func (f *File) Read(ctx context.Context, wanted []int, row func([]reading.Value) error) (err error) {
	var own *rowError
	defer recovered(f.Path, &err)
	for _, i := range wanted {
		if f.Columns[i].Unfit != "" {
			return fmt.Errorf("%s, column %s: %s; name the others, as in --query 'SELECT a, b FROM t'", f.Path,
				f.Columns[i].Name, f.Columns[i].Unfit)
		}
	}
	all := int64(0)
	for _, group := range f.p.RowGroups() {
		all += group.NumRows()
	}
	if all != f.Rows {
		return fmt.Errorf("%s says that it has %d rows, and its groups have %d", f.Path, f.Rows, all)
	}
	for _, group := range f.p.RowGroups() {
		if err := f.group(ctx, group, wanted, row); err != nil {
			if errors.As(err, &own) {
				return own.error
			}
			return fmt.Errorf("%s: %w", f.Path, err)
		}
	}
	return nil
}

// A rowError is one of the caller's.
type rowError struct{ error }

// group reads one group of rows.
func (f *File) group(ctx context.Context, group pq.RowGroup, wanted []int, row func([]reading.Value) error) error {
	cursors := make([]cursor, len(wanted))
	chunks := group.ColumnChunks()
	for k, i := range wanted {
		chunk := chunks[f.Columns[i].leaf]
		if n := chunk.NumValues(); n != group.NumRows() {
			return fmt.Errorf("column %s: %d values, and the group has %d rows", f.Columns[i].Name, n, group.NumRows())
		}
		cursors[k] = cursor{column: &f.Columns[i], pages: chunk.Pages()}
		defer cursors[k].close()
	}
	values := make([]reading.Value, len(wanted))
	for left := group.NumRows(); left > 0; {
		if err := ctx.Err(); err != nil {
			return err
		}
		n := int(min(left, stride))
		for k := range cursors {
			if err := cursors[k].fill(n); err != nil {
				return fmt.Errorf("column %s: %w", cursors[k].column.Name, err)
			}
		}
		for i := range n {
			for k := range cursors {
				if err := cursors[k].value(i, &values[k]); err != nil {
					return fmt.Errorf("column %s: %w", cursors[k].column.Name, err)
				}
			}
			if err := row(values); err != nil {
				return &rowError{err}
			}
		}
		left -= int64(n)
	}
	return nil
}

// A cursor goes along a column.
type cursor struct {
	column *Column
	pages  pq.Pages
	page   pq.Page
	reader pq.ValueReader
	values []pq.Value
	text   []byte // of the values
	buf    []byte // of one that is made
}

func (c *cursor) close() {
	if c.page != nil {
		pq.Release(c.page)
	}
	c.pages.Close()
}

// fill reads the next n values.
func (c *cursor) fill(n int) error {
	if cap(c.values) < n {
		c.values = make([]pq.Value, n)
	}
	c.values, c.text = c.values[:n], c.text[:0]
	for at := 0; at < n; {
		if c.reader == nil {
			page, err := c.pages.ReadPage()
			if errors.Is(err, io.EOF) {
				return errors.New("there are fewer values than rows")
			}
			if err != nil {
				return err
			}
			c.page, c.reader = page, page.Values()
		}
		got, err := c.reader.ReadValues(c.values[at:])
		c.keep(c.values[at : at+got])
		at += got
		if errors.Is(err, io.EOF) {
			pq.Release(c.page)
			c.page, c.reader = nil, nil
		} else if err != nil {
			return err
		} else if got == 0 {
			return errors.New("a page ends before its values")
		}
	}
	return nil
}

// keep makes texts the cursor's own: a page is used again when the next is read.
func (c *cursor) keep(values []pq.Value) {
	for i := range values {
		v := &values[i]
		if k := v.Kind(); v.IsNull() || k != pq.ByteArray && k != pq.FixedLenByteArray {
			continue
		}
		b := v.ByteArray()
		if len(c.text)+len(b) > cap(c.text) {
			c.text = make([]byte, 0, max(2*cap(c.text), len(b), 1<<16)) // what is in the old one stays
		}
		at := len(c.text)
		c.text = append(c.text, b...)
		*v = pq.ByteArrayValue(c.text[at:len(c.text):len(c.text)])
	}
}

// value is the i-th of those that were read.
func (c *cursor) value(i int, to *reading.Value) error {
	v := &c.values[i]
	*to = reading.Value{Null: v.IsNull()}
	if to.Null {
		return nil
	}
	switch c.column.form {
	case formTruth:
		if v.Boolean() {
			to.Int = 1
		}
	case formInt32:
		to.Int = int64(v.Int32())
	case formInt64:
		to.Int = v.Int64()
	case formMillis:
		if v.Kind() == pq.Int32 {
			to.Int = int64(v.Int32()) * 1000
			return nil
		}
		n := v.Int64()
		if n > math.MaxInt64/1000 || n < math.MinInt64/1000 {
			return fmt.Errorf("%d thousandths of a second are beyond what a timestamp holds", n)
		}
		to.Int = n * 1000
	case formUnsigned:
		if v.Kind() == pq.Int32 {
			to.Int = int64(uint32(v.Int32()))
		} else if n := uint64(v.Int64()); n <= math.MaxInt64 {
			to.Int = int64(n)
		} else {
			c.buf = strconv.AppendUint(c.buf[:0], n, 10)
			to.Wide = c.buf
		}
	case formDouble:
		to.Float = v.Double()
	case formFloat:
		to.Float = float64(v.Float())
	case formWide, formBytes:
		return c.wide(v.ByteArray(), to)
	case formUUID:
		c.buf = appendUUIDText(c.buf[:0], v.ByteArray())
		to.Text = c.buf
	case formText:
		to.Text = v.ByteArray()
	case formOld:
		n := v.Int96()
		nanos := int64(uint64(n[0]) | uint64(n[1])<<32)
		if nanos%1000 != 0 {
			return fmt.Errorf("a timestamp has billionths of a second (%d of the day), which no type here holds", nanos)
		}
		to.Int = (int64(n[2])-julian1970)*86400e6 + nanos/1000
	case formNone:
	}
	return nil
}

// julian1970 is the Julian day number of 1970-01-01.
const julian1970 = 2440588

// wide reads a decimal in bytes.
func (c *cursor) wide(b []byte, to *reading.Value) error {
	if len(b) == 16 {
		hi, lo := binary.BigEndian.Uint64(b), binary.BigEndian.Uint64(b[8:])
		if int64(hi) == int64(lo)>>63 {
			to.Int = int64(lo)
			return nil
		}
	}
	n := wideOf(b)
	if n.IsInt64() {
		to.Int = n.Int64()
		return nil
	}
	c.buf = n.Append(c.buf[:0], 10)
	to.Wide = c.buf
	return nil
}

func appendUUIDText(b, raw []byte) []byte {
	for i := range raw {
		if i == 4 || i == 6 || i == 8 || i == 10 {
			b = append(b, '-')
		}
		b = hex.AppendEncode(b, raw[i:i+1])
	}
	return b
}
