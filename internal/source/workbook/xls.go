package workbook

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"

	"golang.org/x/text/encoding"
)

// xls is an older binary workbook ([MS-XLS], BIFF8), or one of the form before it (BIFF5,
// of the years from 1993): one stream of records, the parts of the book behind each other.
type xls struct {
	formats
	open   func(at int64) (io.Reader, error) // the stream from a place on
	old    bool                              // BIFF5: texts are bytes of a code page
	page   encoding.Encoding
	key    *rc4Key
	shared shared
	tabs   []string // of all kinds
	others []Other

	codes  map[int]string
	names  []defined
	refs   []reference
	self   int // which of the books that are referred to is this one
	books  int
	links  int
	sheets []tab
	xfs    []int // the formats of the XF records; see settle
}

// A tab is a sheet, and where it begins in the stream.
type tab struct {
	name   string
	hidden bool
	kept   bool // and no menu shows it
	at     int64
}

// IsXLS reports whether a compound file has an older workbook in it.
func IsXLS(r io.ReaderAt, size int64) (bool, error) {
	f, err := stream(r, size, "Workbook", "Book")
	return f != nil, err
}

// openXLS reads the list of sheets, and what all of them share.
func openXLS(r io.ReaderAt, size int64) (*Book, error) {
	f, err := stream(r, size, "Workbook", "Book")
	if err != nil || f == nil {
		return nil, err
	}
	return bookOf(func(at int64) (io.Reader, error) {
		g := *f // with a place of its own
		if at > 0 {
			if _, err := g.Seek(at, io.SeekStart); err != nil {
				return nil, fmt.Errorf("the workbook is damaged: a sheet begins behind its end")
			}
		}
		return &g, nil
	})
}

// bookOf reads a book from its stream.
func bookOf(open func(at int64) (io.Reader, error)) (*Book, error) {
	x := &xls{open: open, page: codePage(1252), codes: map[int]string{}}
	if err := x.globals(); err != nil {
		return nil, err
	}
	b := &Book{Kind: "an older binary workbook (BIFF8)"}
	if x.old {
		b.Kind = "an older binary workbook (BIFF5)"
	}
	for _, t := range x.sheets {
		s := Sheet{Name: t.name, Hidden: t.hidden, Kept: t.kept}
		s.read(func(ctx context.Context, row func(*Row) error, merged *int64) error {
			return x.rows(ctx, t, row, merged)
		})
		b.Sheets = append(b.Sheets, s)
	}
	if len(b.Sheets) == 0 {
		return nil, fmt.Errorf("the workbook has no sheets")
	}
	b.Others, b.Links = x.others, x.links
	for _, d := range x.names {
		d.addTo(b, x.refs, x.self, x.tabs)
	}
	return b, nil
}

// from reads the stream from a place on.
func (x *xls) from(at int64) (*biff, error) {
	f, err := x.open(at)
	if err != nil {
		return nil, err
	}
	key := x.key
	if key != nil {
		own := *key
		own.c = nil
		key = &own
	}
	return newBIFF(f, at, key), nil
}

// globals reads what stands before the sheets.
func (x *xls) globals() error {
	r, err := x.from(0)
	if err != nil {
		return err
	}
	if more, err := r.read(); err != nil || !more || r.typ != recBOF || len(r.data) < 4 {
		return errors.Join(err, errors.New("the workbook does not begin as one"))
	}
	switch version := binary.LittleEndian.Uint16(r.data); version {
	case 0x600:
	case 0x500:
		x.old = true
	default:
		return fmt.Errorf("the workbook is of a version that is not read (%#x)", version)
	}
	for {
		more, err := r.read()
		if err != nil {
			return err
		}
		if !more || r.typ == recEOF {
			x.settle()
			return nil
		}
		if err := x.global(r); err != nil {
			return err
		}
	}
}

// global takes a record of those before the sheets.
func (x *xls) global(r *biff) (err error) {
	f := field{b: r.data}
	switch r.typ {
	case recFilePass:
		if x.key, err = keyOf(r.data, x.old); err != nil {
			return err
		}
		r.key = x.key
	case recCodePage:
		x.page = codePage(f.u16())
	case recDate1904:
		x.first1904 = f.u16() != 0
	case recFormat:
		id := f.u16()
		x.codes[id], err = x.short(r, 2, !x.old)
	case recXF:
		f.u16()
		if x.xfs = append(x.xfs, f.u16()); len(x.xfs) > 1<<16 {
			return fmt.Errorf("the workbook has too many styles")
		}
	case recBoundSheet:
		at := int64(f.u32())
		state, kind := f.take(1)[0], f.take(1)[0]
		name, err := x.short(r, 6, false)
		if err != nil {
			return err
		}
		if x.tabs = append(x.tabs, name); len(x.tabs) > 1<<16 {
			return fmt.Errorf("the workbook has too many sheets")
		}
		if kind == 0 { // and no chart, macro or module
			x.sheets = append(x.sheets, tab{name, state&3 != 0, state&3 == 2, at})
		} else {
			x.others = append(x.others, Other{name, map[byte]string{1: "macro", 2: "chart", 6: "macro"}[kind]})
		}
	case recSST:
		return x.sst(r)
	case recSupBook:
		f.u16()
		switch f.u16() { // the length of a name, or what it is
		case 0x0401:
			x.self = x.books
		case 0x3a01: // functions of the program
		default:
			x.links++
		}
		x.books++
	case recExternSheet:
		if !x.old {
			for range f.u16() {
				x.refs = append(x.refs, reference{f.u16(), int(int16(f.u16())), int(int16(f.u16()))})
			}
		}
	case recName:
		if !x.old {
			return x.name(r)
		}
	}
	return err
}

// settle makes the formats of cells, when all are known.
func (x *xls) settle() {
	for _, id := range x.xfs {
		code, own := x.codes[id]
		x.add(id, code, own)
	}
}

// short reads a text whose length has one byte, or two, at a place of the record.
func (x *xls) short(r *biff, at int, two bool) (string, error) {
	f := field{b: r.data[min(at, len(r.data)):]}
	n := int(f.take(1)[0])
	if two {
		n |= int(f.take(1)[0]) << 8
	}
	if x.old {
		b := f.take(n)
		if f.bad {
			return "", errEnds
		}
		return string(x.bytes(nil, b)), nil
	}
	flags := f.take(1)[0]
	if f.bad {
		return "", errEnds
	}
	b, _, err := r.chars(nil, n, len(r.data)-len(f.b), flags)
	return string(b), err
}

// bytes appends a text in the workbook's code page.
func (x *xls) bytes(b, text []byte) []byte {
	for _, c := range text {
		if c >= 0x80 || c < 0x20 {
			out, err := x.page.NewDecoder().Bytes(text)
			if err != nil {
				out = bytes.ToValidUTF8(text, []byte("\ufffd"))
			}
			for _, c := range out {
				switch {
				case c == '\r':
				case c < 0x20 && c != '\t' && c != '\n':
					b = append(b, "\ufffd"...)
				default:
					b = append(b, c)
				}
			}
			return b
		}
	}
	return append(b, text...)
}

// name adds a defined name, if it is that of a range ([MS-XLS] 2.4.150).
func (x *xls) name(r *biff) error {
	f := field{b: r.data}
	flags := f.u16()
	f.take(1)
	n := int(f.take(1)[0])
	size := f.u16()
	f.take(8)
	wide := f.take(1)[0]
	if f.bad {
		return nil
	}
	name, at, err := r.chars(nil, n, len(r.data)-len(f.b), wide)
	if err != nil || at+size > len(r.data) {
		return nil
	}
	formula := field{b: r.data[at : at+size]}
	d := defined{name: string(name), own: flags&0x20 == 0}
	d.area, d.ref, d.ok = formula.area(false)
	x.names = append(x.names, d)
	return nil
}

// sst reads the shared texts ([MS-XLS] 2.4.265, 2.5.293).
func (x *xls) sst(r *biff) error {
	f := field{b: r.data}
	f.u32()
	count := f.u32()
	if f.bad {
		return errEnds
	}
	at := 8
	for range count {
		if at >= len(r.data) {
			if typ, more, err := r.peek(); err != nil || !more || typ != recContinue {
				return err // fewer than it says
			}
			if _, err := r.goOn(); err != nil {
				return err
			}
			at = 0
		}
		err := x.shared.add(func(b []byte) (_ []byte, err error) {
			b, at, err = r.rich(b, at)
			return b, err
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// rich appends a text with its flags, and passes over what it has of fonts and of how it is
// pronounced.
func (r *biff) rich(b []byte, at int) ([]byte, int, error) {
	f := field{b: r.data[at:]}
	n, flags := f.u16(), f.take(1)[0]
	more := 0
	if flags&8 != 0 {
		more = 4 * f.u16()
	}
	if flags&4 != 0 {
		size := f.u32()
		if size > longestRecord {
			return b, 0, errEnds
		}
		more += int(size)
	}
	if f.bad {
		return b, 0, errEnds
	}
	b, at, err := r.chars(b, n, len(r.data)-len(f.b), flags)
	if err != nil {
		return b, 0, err
	}
	at, err = r.skip(more, at)
	return b, at, err
}

// rows streams one sheet. Where its cells are out of order, all of them are read first.
func (x *xls) rows(ctx context.Context, t tab, f func(*Row) error, merged *int64) error {
	ordered, err := x.ordered(t)
	if err != nil {
		return err
	}
	if !ordered {
		return x.sorted(ctx, t, f, merged)
	}
	g := &gathering{ctx: ctx, f: f}
	seen := &sight{columns: &g.unseen, rows: map[int]bool{}}
	err = x.cells(t, merged, seen, func(row int, _ Cell, value func([]byte) ([]byte, Cell, error)) error {
		if row != g.at.Number || !g.open {
			if err := g.row(row); err != nil {
				return err
			}
			g.at.Hidden = seen.rows[row]
		}
		b, c, err := value(g.begin())
		if err != nil {
			return err
		}
		return g.cell(c, b)
	})
	if err != nil {
		return err
	}
	return g.end()
}

// sorted is rows of a sheet whose cells are in any order.
func (x *xls) sorted(ctx context.Context, t tab, f func(*Row) error, merged *int64) error {
	byRow := map[int]map[int]Cell{}
	size, last := 0, 0
	g := &gathering{ctx: ctx, f: f}
	seen := &sight{columns: &g.unseen, rows: map[int]bool{}}
	err := x.cells(t, merged, seen, func(row int, _ Cell, value func([]byte) ([]byte, Cell, error)) error {
		b, c, err := value(nil)
		if err != nil {
			return err
		}
		if size += len(b) + 80; size > maxShared {
			return fmt.Errorf("its cells are out of order, and take more than %d MiB", maxShared>>20)
		}
		if byRow[row] == nil {
			byRow[row] = map[int]Cell{}
		}
		c.Value = b
		byRow[row][c.Column] = c
		last = max(last, row)
		return nil
	})
	if err != nil {
		return err
	}
	for n := 1; n <= last; n++ {
		row := byRow[n]
		if row == nil {
			continue
		}
		if err := g.row(n); err != nil {
			return err
		}
		g.at.Hidden = seen.rows[n]
		for column := range maxColumnsXLS {
			if c, is := row[column]; is {
				if err := g.cell(c, append(g.begin(), c.Value...)); err != nil {
					return err
				}
			}
		}
	}
	return g.end()
}

// maxColumnsXLS is how many columns a sheet has ([MS-XLS] 2.5.45).
const maxColumnsXLS = 256

// ordered reports whether the cells of a sheet come row by row, and each row from the left.
func (x *xls) ordered(t tab) (bool, error) {
	row, column, ordered := -1, -1, true
	err := x.sheet(t, func(r *biff) error {
		n, first, last, is := placeOf(r)
		if !is {
			return nil
		}
		if n < row || n == row && first <= column {
			ordered = false
			return errOrder
		}
		row, column = n, last
		return nil
	})
	if err == errOrder {
		err = nil
	}
	return ordered, err
}

var errOrder = errors.New("out of order")

// placeOf is where the cells of a record are.
func placeOf(r *biff) (row, first, last int, is bool) {
	switch r.typ {
	case recNumber, recRk, recLabel, recRString, recLabelSST, recBoolErr, recFormula, recMulRk:
	default:
		return 0, 0, 0, false
	}
	f := field{b: r.data}
	row, first = f.u16(), f.u16()
	last = first
	if n := len(r.data); r.typ == recMulRk && n >= 6 {
		last = int(binary.LittleEndian.Uint16(r.data[n-2:]))
	}
	return row, first, last, !f.bad
}

// sheet runs through the records of a sheet, but those of charts within.
func (x *xls) sheet(t tab, f func(r *biff) error) error {
	r, err := x.from(t.at)
	if err != nil {
		return err
	}
	if more, err := r.read(); err != nil || !more || r.typ != recBOF {
		return errors.Join(err, fmt.Errorf("the workbook is damaged: the sheet %q does not begin as one", t.name))
	}
	for depth := 1; ; {
		more, err := r.read()
		if err != nil {
			return err
		}
		switch {
		case !more:
			return errEnds
		case r.typ == recBOF:
			depth++
		case r.typ == recEOF:
			if depth--; depth == 0 {
				return nil
			}
		case depth == 1:
			if err := f(r); err != nil {
				return err
			}
		}
	}
}

// sight is what of a sheet a person does not see.
type sight struct {
	columns *hiddenColumns
	rows    map[int]bool // by their numbers
}

// see takes a record that is about that ([MS-XLS] 2.4.53, 2.4.221).
func (s *sight) see(r *biff) bool {
	f := field{b: r.data}
	switch r.typ {
	case recColInfo:
		from, to := f.u16(), f.u16()
		if f.take(4); f.u16()&1 != 0 {
			s.columns.add(from, to)
		}
	case recRow:
		n := f.u16() + 1
		if f.take(10); f.u16()&0x20 != 0 && len(s.rows) < MaxRows {
			s.rows[n] = true
		}
	default:
		return false
	}
	return true
}

// cells calls f with each cell of a sheet; value appends its value.
func (x *xls) cells(t tab, merged *int64, seen *sight, f func(row int, c Cell, value func([]byte) ([]byte, Cell,
	error)) error) error {
	return x.sheet(t, func(r *biff) error {
		if r.typ == recMergeCells {
			in := field{b: r.data}
			*merged += int64(in.u16())
			return nil
		}
		if seen.see(r) {
			return nil
		}
		row, first, last, is := placeOf(r)
		if !is {
			return nil
		}
		if r.typ != recMulRk {
			c := Cell{Column: first}
			return f(row+1, c, func(b []byte) ([]byte, Cell, error) { return x.value(r, b, c) })
		}
		for k := 0; k <= last-first; k++ {
			in := field{b: r.data[min(4+6*k, len(r.data)):]}
			style, v := in.u16(), in.u32()
			if in.bad {
				return errEnds
			}
			c := Cell{Column: first + k}
			err := f(row+1, c, func(b []byte) ([]byte, Cell, error) {
				b = x.append(b, rk(v), style, &c)
				return b, c, nil
			})
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// value appends the value of the cell that a record has.
func (x *xls) value(r *biff, b []byte, c Cell) ([]byte, Cell, error) {
	f := field{b: r.data}
	f.take(4)
	style := f.u16()
	var err error
	switch r.typ {
	case recRk:
		b = x.append(b, rk(f.u32()), style, &c)
	case recNumber:
		b = x.append(b, f.float(), style, &c)
	case recBoolErr:
		v, isError := f.take(1)[0], f.take(1)[0]
		b = x.truth(b, v, isError != 0)
	case recLabelSST:
		n := f.u32()
		t, ok := x.shared.get(int(n))
		if !ok {
			return b, c, fmt.Errorf("cell %s%d: there is no shared text %d", ColumnName(c.Column),
				binary.LittleEndian.Uint16(r.data)+1, n)
		}
		b, c.Text = append(b, t...), true
	case recLabel, recRString:
		b, err = x.label(r, b, &f)
		c.Text = true
	case recFormula:
		return x.result(r, b, c, style, f)
	}
	if err == nil && f.bad {
		err = errEnds
	}
	return b, c, err
}

func (x *xls) truth(b []byte, v byte, isError bool) []byte {
	switch {
	case isError:
		return append(b, errorValue(v)...)
	case v != 0:
		return append(b, "true"...)
	}
	return append(b, "false"...)
}

// label appends a text that stands in its record.
func (x *xls) label(r *biff, b []byte, f *field) ([]byte, error) {
	n := f.u16()
	if x.old {
		text := f.take(n)
		if f.bad {
			return b, errEnds
		}
		return x.bytes(b, text), nil
	}
	flags := f.take(1)[0]
	if f.bad {
		return b, errEnds
	}
	b, _, err := r.chars(b, n, len(r.data)-len(f.b), flags)
	return b, err
}

// result appends what a formula came to ([MS-XLS] 2.5.133): a text stands in a record of
// its own behind it.
func (x *xls) result(r *biff, b []byte, c Cell, style int, f field) ([]byte, Cell, error) {
	v := f.take(8)
	if f.bad {
		return b, c, errEnds
	}
	if v[6] != 0xff || v[7] != 0xff {
		return x.append(b, math.Float64frombits(binary.LittleEndian.Uint64(v)), style, &c), c, nil
	}
	switch v[0] {
	case 1, 2:
		return x.truth(b, v[2], v[0] == 2), c, nil
	case 3:
		c.Text = true
		return b, c, nil
	}
	for {
		typ, more, err := r.peek()
		switch {
		case err != nil || !more:
			return b, c, err
		case typ == recString:
			if _, err := r.read(); err != nil {
				return b, c, err
			}
			in := field{b: r.data}
			c.Text = true
			b, err = x.label(r, b, &in)
			return b, c, err
		case typ == 0x4bc || typ == 0x221 || typ == 0x236 || typ == recContinue: // of a formula that several share
			if _, err := r.read(); err != nil {
				return b, c, err
			}
		default:
			c.Unstored = true
			return b, c, nil
		}
	}
}
