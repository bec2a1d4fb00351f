package workbook

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// xlsb is a workbook whose parts are of an Office Open XML package, and binary
// ([MS-XLSB]): records instead of elements, in the same order.
type xlsb struct {
	formats
	rels     map[string]string // of the main part, by their ids
	pkg      *ooxml
	sharedAt string
	shared   shared
	loaded   bool
}

// The records that are read ([MS-XLSB] 2.3.2).
const (
	brtRowHdr       = 0
	brtCellBlank    = 1
	brtCellRk       = 2
	brtCellError    = 3
	brtCellBool     = 4
	brtCellReal     = 5
	brtCellSt       = 6
	brtCellIsst     = 7
	brtFmlaString   = 8
	brtFmlaNum      = 9
	brtFmlaBool     = 10
	brtFmlaError    = 11
	brtShortBlank   = 12
	brtShortRk      = 13
	brtShortError   = 14
	brtShortBool    = 15
	brtShortReal    = 16
	brtShortSt      = 17
	brtShortIsst    = 18
	brtSSTItem      = 19
	brtName         = 39
	brtFmt          = 44
	brtXF           = 47
	brtColInfo      = 60
	brtCellRString  = 62
	brtBeginSheet   = 145
	brtEndSheet     = 146
	brtWbProp       = 153
	brtBundleSh     = 156
	brtMergeCell    = 176
	brtSupBookSrc   = 355
	brtSupSelf      = 357
	brtSupSame      = 358
	brtExternSheet  = 362
	brtBeginCellXFs = 617
	brtEndCellXFs   = 618
	brtBeginList    = 660
	brtSupAddin     = 667
)

// longestRecord bounds one record: a cell's text has at most 32,767 characters, and
// formulas are passed over.
const longestRecord = 1 << 26

// records reads them one after the other.
type records struct {
	r    *bufio.Reader
	part string
	typ  int
	data []byte
	c    io.Closer
}

func (x *xlsb) records(part string) (*records, error) {
	b, err := x.pkg.bytes(part)
	if err != nil {
		return nil, err
	}
	return &records{r: bufio.NewReaderSize(b, 64<<10), part: part, c: b}, nil
}

func (r *records) close() { r.c.Close() }

// next reads a record; false is the end of the part.
func (r *records) next() (bool, error) {
	b, err := r.r.ReadByte()
	if err == io.EOF {
		return false, nil
	}
	if err != nil {
		return false, r.broken(err)
	}
	r.typ = int(b & 0x7f)
	if b&0x80 != 0 {
		if b, err = r.r.ReadByte(); err != nil {
			return false, r.broken(err)
		}
		r.typ |= int(b&0x7f) << 7
	}
	size := 0
	for shift := 0; ; shift += 7 {
		if b, err = r.r.ReadByte(); err != nil {
			return false, r.broken(err)
		}
		size |= int(b&0x7f) << shift
		if b&0x80 == 0 {
			break
		}
		if shift == 21 {
			return false, r.broken(errors.New("a record has a size of more than four bytes"))
		}
	}
	if size > longestRecord {
		return false, r.broken(fmt.Errorf("a record has %d bytes", size))
	}
	if cap(r.data) < size {
		// What a file says of itself is not believed: it grows as it comes.
		r.data = make([]byte, 0, min(size, 1<<16))
	}
	r.data = r.data[:0]
	for len(r.data) < size {
		n := min(size-len(r.data), max(cap(r.data)-len(r.data), 1<<16))
		if cap(r.data)-len(r.data) < n {
			r.data = append(make([]byte, 0, len(r.data)+n+len(r.data)/2), r.data...)
		}
		part := r.data[len(r.data) : len(r.data)+n]
		if _, err := io.ReadFull(r.r, part); err != nil {
			return false, r.broken(err)
		}
		r.data = r.data[:len(r.data)+n]
	}
	return true, nil
}

func (r *records) broken(err error) error {
	if err == io.EOF || err == io.ErrUnexpectedEOF {
		err = errors.New("it ends within a record")
	}
	return fmt.Errorf("the part %s is damaged: %w", r.part, err)
}

// each calls f with every record.
func (x *xlsb) each(part string, f func(r *records) error) error {
	r, err := x.records(part)
	if err != nil {
		return err
	}
	defer r.close()
	for {
		more, err := r.next()
		if err != nil || !more {
			return err
		}
		if err := f(r); err != nil {
			return err
		}
	}
}

// A field reads what a record holds, from the left. What is not there is zero.
type field struct {
	b   []byte
	bad bool
}

func (f *field) take(n int) []byte {
	if n < 0 || n > len(f.b) {
		f.b, f.bad = nil, true
		return make([]byte, min(max(n, 0), 16))
	}
	out := f.b[:n]
	f.b = f.b[n:]
	return out
}

func (f *field) u16() int    { return int(binary.LittleEndian.Uint16(f.take(2))) }
func (f *field) u32() uint32 { return binary.LittleEndian.Uint32(f.take(4)) }

// float is a number of eight bytes (IEEE 754).
func (f *field) float() float64 { return math.Float64frombits(binary.LittleEndian.Uint64(f.take(8))) }

// wide appends a text of UTF-16 behind its length ([MS-XLSB] 2.5.169, 2.5.166: of all ones,
// there is none).
func (f *field) wide(b []byte) []byte {
	n := f.u32()
	if n == 0xffffffff {
		return b
	}
	if int64(n) > int64(len(f.b))/2 {
		f.b, f.bad = nil, true
		return b
	}
	return appendUTF16(b, f.take(2*int(n)))
}

// text is wide as a string of its own.
func (f *field) text() string { return string(f.wide(nil)) }

// appendUTF16 appends little-endian UTF-16 as UTF-8. What XML could not have is
// replaced, as there.
func appendUTF16(b, u []byte) []byte {
	for i := 0; i+1 < len(u); i += 2 {
		c := rune(binary.LittleEndian.Uint16(u[i:]))
		switch {
		case c >= 0x20 && c < 0x80 || c == '\t' || c == '\n':
			b = append(b, byte(c))
			continue
		case c == '\r': // of a line break written as two characters
			continue
		case c < 0x20:
			c = utf8.RuneError
		case utf16.IsSurrogate(c) && i+3 < len(u):
			if both := utf16.DecodeRune(c, rune(binary.LittleEndian.Uint16(u[i+2:]))); both != utf8.RuneError {
				c = both
				i += 2
			}
		}
		b = utf8.AppendRune(b, c)
	}
	return b
}

// rk is a number in 30 bits ([MS-XLSB] 2.5.122, [MS-XLS] 2.5.217).
func rk(v uint32) float64 {
	var f float64
	if v&2 != 0 {
		f = float64(int32(v) >> 2)
	} else {
		f = math.Float64frombits(uint64(v&^3) << 32)
	}
	if v&1 != 0 {
		f /= 100
	}
	return f
}

// errorValues are those of cells in error ([MS-XLSB] 2.5.97.2, [MS-XLS] 2.5.10).
var errorValues = map[byte]string{0x00: "#NULL!", 0x07: "#DIV/0!", 0x0f: "#VALUE!", 0x17: "#REF!", 0x1d: "#NAME?",
	0x24: "#NUM!", 0x2a: "#N/A", 0x2b: "#GETTING_DATA"}

func errorValue(code byte) string {
	if s, is := errorValues[code]; is {
		return s
	}
	return "#ERROR!"
}

func openXLSB(pkg *ooxml, main string) (*Book, error) {
	x := &xlsb{pkg: pkg}
	var err error
	if x.rels, err = pkg.related(main, ""); err != nil {
		return nil, err
	}
	b := &Book{Kind: "a binary workbook"}
	if err := x.list(main, b); err != nil {
		return nil, err
	}
	if len(b.Sheets) == 0 {
		return nil, fmt.Errorf("the workbook has no sheets")
	}
	for _, to := range x.rels {
		switch low := strings.ToLower(to); {
		case strings.HasSuffix(low, "styles.bin"):
			if err := x.readStyles(to); err != nil {
				return nil, err
			}
		case strings.HasSuffix(low, "sharedstrings.bin"):
			x.sharedAt = to
		}
	}
	return b, nil
}

// list reads the sheets and names of the main part.
func (x *xlsb) list(main string, b *Book) error {
	var tabs []string // of all kinds
	var names []defined
	var refs []reference
	links, self := 0, 0
	err := x.each(main, func(r *records) error {
		f := field{b: r.data}
		switch r.typ {
		case brtWbProp:
			x.first1904 = f.u32()&1 != 0
		case brtBundleSh:
			state := f.u32()
			f.u32()
			part, name := x.rels[f.text()], f.text()
			tabs = append(tabs, name)
			if part == "" || !strings.Contains(strings.ToLower(part), "worksheet") || f.bad {
				b.Others = append(b.Others, Other{name, otherKind(part)})
				return nil
			}
			if err := x.tab(b, name, part, state != 0); err != nil {
				return err
			}
			b.Sheets[len(b.Sheets)-1].Kept = state == 2
		case brtExternSheet:
			for range min(f.u32(), 1<<16) {
				refs = append(refs, reference{int(f.u32()), int(int32(f.u32())), int(int32(f.u32()))})
			}
		case brtSupBookSrc, brtSupSelf, brtSupSame, brtSupAddin:
			switch links++; r.typ {
			case brtSupSelf:
				self = links - 1
			case brtSupBookSrc:
				b.Links++
			}
		case brtName:
			flags := f.u32()
			f.take(5)
			d := defined{name: f.text(), own: flags&0x20 == 0}
			formula := field{b: f.take(int(f.u32()))}
			d.area, d.ref, d.ok = formula.area(true)
			names = append(names, d)
		}
		return nil
	})
	for _, d := range names {
		d.addTo(b, refs, self, tabs)
	}
	return err
}

// tab adds a sheet, and its tables to the names.
func (x *xlsb) tab(b *Book, name, part string, hidden bool) error {
	tab := Sheet{Name: name, Hidden: hidden}
	tab.read(func(ctx context.Context, row func(*Row) error, merged *int64) error {
		return x.rows(ctx, part, row, merged)
	})
	b.Sheets = append(b.Sheets, tab)
	pivots, err := x.pkg.related(part, "pivotTable")
	if err != nil {
		return err
	}
	b.Sheets[len(b.Sheets)-1].Pivots = len(pivots)
	rels, err := x.pkg.related(part, "table")
	if err != nil {
		return err
	}
	for _, to := range rels {
		if !x.pkg.has(to) {
			continue
		}
		err := x.each(to, func(r *records) error {
			if r.typ != brtBeginList {
				return nil
			}
			f := field{b: r.data}
			at := [4]uint32{f.u32(), f.u32(), f.u32(), f.u32()}
			f.take(12 * 4)
			f.text()
			if n := f.text(); n != "" && !f.bad && at[1] < MaxRows && at[3] < MaxColumns {
				b.Names = append(b.Names, Name{n, name, Range{int(at[0]) + 1, int(at[1]) + 1, int(at[2]), int(at[3])}})
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// A defined name may be that of a range.
type defined struct {
	name string
	own  bool // of a person, and not of the program's
	area Range
	ref  int // to a reference
	ok   bool
}

// A reference is to sheets of a workbook, by their place among all tabs.
type reference struct{ book, first, last int }

// addTo adds the name of a range on one sheet of this workbook.
func (d *defined) addTo(b *Book, refs []reference, self int, tabs []string) {
	if !d.ok || !d.own || d.ref >= len(refs) {
		return
	}
	r := refs[d.ref]
	if r.book != self || r.first != r.last || r.first < 0 || r.first >= len(tabs) {
		return
	}
	b.Names = append(b.Names, Name{d.name, tabs[r.first], d.area})
}

// area reads a formula that is nothing but a range of cells on a sheet, in parsed form
// ([MS-XLSB] 2.5.97.20, 2.5.97.65; [MS-XLS] 2.5.198.28, 2.5.198.85). long rows have four
// bytes.
func (f *field) area(long bool) (r Range, ref int, ok bool) {
	row := func() int {
		if long {
			return int(f.u32())
		}
		return f.u16()
	}
	kind := f.take(1)[0]
	ref = f.u16()
	switch kind {
	case 0x3b, 0x5b, 0x7b: // PtgArea3d
		r.FromRow, r.ToRow = row()+1, row()+1
		r.FromColumn, r.ToColumn = f.u16()&0x3fff, f.u16()&0x3fff
	case 0x3a, 0x5a, 0x7a: // PtgRef3d
		r.FromRow = row() + 1
		r.FromColumn = f.u16() & 0x3fff
		r.ToRow, r.ToColumn = r.FromRow, r.FromColumn
	default:
		return r, 0, false
	}
	return r, ref, !f.bad && len(f.b) == 0 && r.ToRow >= r.FromRow && r.ToColumn >= r.FromColumn && r.ToRow <= MaxRows
}

func (x *xlsb) readStyles(part string) error {
	if !x.pkg.has(part) {
		return nil
	}
	codes := map[int]string{}
	in := false
	return x.each(part, func(r *records) error {
		f := field{b: r.data}
		switch r.typ {
		case brtFmt:
			id := f.u16()
			codes[id] = f.text()
		case brtBeginCellXFs, brtEndCellXFs:
			in = r.typ == brtBeginCellXFs
		case brtXF:
			if !in {
				return nil
			}
			f.u16()
			id := f.u16()
			code, own := codes[id]
			if x.add(id, code, own); len(x.styles) > 1<<20 {
				return fmt.Errorf("the workbook has too many styles")
			}
		}
		return nil
	})
}

func (x *xlsb) loadShared() error {
	if x.loaded || x.sharedAt == "" || !x.pkg.has(x.sharedAt) {
		return nil
	}
	x.shared = shared{}
	err := x.each(x.sharedAt, func(r *records) error {
		if r.typ != brtSSTItem {
			return nil
		}
		f := field{b: r.data}
		f.take(1)
		return x.shared.add(func(b []byte) ([]byte, error) { return f.wide(b), nil })
	})
	x.loaded = err == nil
	return err
}

// rows streams one sheet.
func (x *xlsb) rows(ctx context.Context, part string, f func(*Row) error, merged *int64) error {
	if err := x.loadShared(); err != nil {
		return err
	}
	g := &gathering{ctx: ctx, f: f}
	in, ended := false, false
	err := x.each(part, func(r *records) error {
		switch {
		case r.typ == brtBeginSheet:
			in = true
		case r.typ == brtEndSheet:
			in, ended = false, true
			return g.end()
		case r.typ == brtMergeCell:
			*merged++
		case in && r.typ == brtRowHdr:
			f := field{b: r.data}
			n := int(f.u32()) + 1
			f.take(7)
			hidden := f.take(1)[0]&0x10 != 0
			err := g.row(n)
			g.at.Hidden = hidden
			return err
		case r.typ == brtColInfo:
			f := field{b: r.data}
			from, to := int(f.u32()), int(f.u32())
			if f.take(8); f.u16()&1 != 0 {
				g.unseen.add(from, to)
			}
		case in && r.typ <= brtShortIsst || in && r.typ == brtCellRString:
			return x.cell(r, g)
		}
		return nil
	})
	if err == nil && in && !ended {
		err = fmt.Errorf("the part %s is damaged: it ends within a sheet", part)
	}
	return err
}

// cell reads a cell: its column, its style, and its value.
func (x *xlsb) cell(r *records, g *gathering) error {
	f := field{b: r.data}
	c := Cell{}
	if r.typ >= brtShortBlank && r.typ <= brtShortIsst {
		c.Column = g.column + 1 // the one behind the last
	} else {
		c.Column = int(f.u32())
	}
	g.column = c.Column
	style := int(f.u32() & 0xffffff)
	b := g.begin()
	switch r.typ {
	case brtCellBlank, brtShortBlank:
		return nil
	case brtCellRk, brtShortRk:
		b = x.append(b, rk(f.u32()), style, &c)
	case brtCellReal, brtFmlaNum, brtShortReal:
		b = x.append(b, f.float(), style, &c)
	case brtCellBool, brtFmlaBool, brtShortBool:
		b = append(b, map[bool]string{true: "true", false: "false"}[f.take(1)[0] != 0]...)
	case brtCellError, brtFmlaError, brtShortError:
		b = append(b, errorValue(f.take(1)[0])...)
	case brtCellSt, brtFmlaString, brtShortSt:
		b, c.Text = f.wide(b), true
	case brtCellRString:
		f.take(1)
		b, c.Text = f.wide(b), true
	case brtCellIsst, brtShortIsst:
		n := f.u32()
		t, ok := x.shared.get(int(n))
		if !ok {
			return fmt.Errorf("cell %s%d: there is no shared text %d", ColumnName(c.Column), g.at.Number, n)
		}
		b, c.Text = append(b, t...), true
	}
	if f.bad {
		return fmt.Errorf("row %d: the record of a cell is too short", g.at.Number)
	}
	return g.cell(c, b)
}
