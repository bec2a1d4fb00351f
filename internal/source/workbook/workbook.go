// Package workbook reads the sheets of workbooks: Office Open XML (ECMA-376, .xlsx and
// .xlsm), its binary form ([MS-XLSB], .xlsb), the binary form before it ([MS-XLS], .xls),
// and OpenDocument (ODF 1.3, .ods).
//
// The model: a [Book] lists its [Sheet]s; a sheet yields its rows one after
// the other, streamed, as [Row]s of typed cells in a plain form: a number as
// its shortest decimal, a date or time as ISO 8601, true and false as such,
// and text as it stands. What a number means is decided by its cell's style.
// Nothing of a sheet is kept but the row at hand; of an Office Open XML book
// the shared texts are.
//
// Whatever a file claims about its own size is not believed: rows and cells
// are counted as they come, and every part has a bound.
package workbook

import (
	"archive/zip"
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strconv"
	"strings"
)

// Bounds of both formats.
const (
	MaxRows    = 1 << 20
	MaxColumns = 1 << 14
)

// A Book is an open workbook.
type Book struct {
	Sheets []Sheet
	// Names are ranges that have a name, tables among them.
	Names []Name
	// Others are tabs without cells: charts, dialogues, macros.
	Others []Other
	// Links are how many other workbooks its formulas refer to.
	Links int
	Kind  string // what it is, for people
}

// An Other is a tab without cells.
type Other struct{ Name, Kind string }

// otherKind is what a tab is, by the name of its part.
func otherKind(part string) string {
	for _, kind := range []string{"chart", "dialog", "macro"} {
		if strings.Contains(strings.ToLower(part), kind) {
			return kind
		}
	}
	return "no cells"
}

// A Sheet is one tab.
type Sheet struct {
	Name   string
	Hidden bool
	// Kept tells that a person cannot make it seen in the program's menus, and Pivots how
	// many tables of it are summaries of others.
	Kept   bool
	Pivots int
	rows   func(ctx context.Context, row func(*Row) error) error
	merged func() int64
}

// read has the sheet read by a function, which counts merged ranges from nothing.
func (s *Sheet) read(rows func(ctx context.Context, row func(*Row) error, merged *int64) error) {
	var merged int64
	s.merged = func() int64 { return merged }
	s.rows = func(ctx context.Context, row func(*Row) error) error {
		merged = 0
		return rows(ctx, row, &merged)
	}
}

// A Name is a range that has a name.
type Name struct {
	Name, Sheet string
	Range       Range
}

// A Row is one row that has cells. It is valid until the next.
type Row struct {
	Number int // from 1
	Cells  []Cell
	// Hidden tells that a person does not see it: it is hidden, or filtered out.
	Hidden bool
}

// A Cell is one that holds something.
type Cell struct {
	Column int // from 0
	// Value is in plain form.
	Value []byte
	// Text tells that it is text, whatever it looks like.
	Text bool
	// Shown tells that Value is what the number format shows, 01234 for the number
	// 1234, which has no such form.
	Shown bool
	// Percent tells that the number is shown as a hundred times as much, with a sign.
	Percent bool
	// Hidden tells that its column is not seen.
	Hidden bool
	// Unstored tells that the cell has a formula and no result: Value is empty.
	Unstored bool
}

// Limits bound what a file may take.
type Limits struct {
	// Part is how many bytes one part may unpack to; 0 means DefaultPart.
	Part int64
}

// DefaultPart is the bound on one part of a workbook, unpacked.
const DefaultPart = 8 << 30

// maxShared bounds the shared texts with their ends, which are kept in memory.
const maxShared = 1 << 30

// ErrEncrypted says that a workbook has a password.
var ErrEncrypted = errors.New("the workbook has a password")

// Is reports whether a file that begins like this may be a workbook.
func Is(head []byte) bool { return bytes.HasPrefix(head, []byte("PK\x03\x04")) }

// families are the kinds of workbook, known by the parts that each has, and by a
// word in the name of another: texts and slides have parts like these, too.
var families = []struct {
	parts [2]string
	word  string
	open  func(*parts) (*Book, error)
}{
	{[2]string{"content.xml", "META-INF/manifest.xml"}, "", openODS},
	{[2]string{"[Content_Types].xml", "_rels/.rels"}, "workbook", openOOXML},
}

// Holds reports whether a zip archive has the parts of a workbook.
func Holds(r io.ReaderAt, size int64) (bool, error) {
	_, open, err := partsOf(r, size)
	return open != nil, err
}

// IsDocument reports whether a zip archive that is no workbook is a text or
// slides: of Office Open XML (ECMA-376 part 2, 10.1.2.4: content types) or
// OpenDocument (part 2, 3.3: mimetype).
func IsDocument(r io.ReaderAt, size int64) (bool, error) {
	p, open, err := partsOf(r, size)
	if err != nil || open != nil {
		return false, err
	}
	return p.has("[Content_Types].xml") || p.has("mimetype") && p.has("META-INF/manifest.xml"),
		nil
}

// Open reads the list of sheets. It returns nil without an error for a zip
// archive, or a compound file, that is no workbook.
func Open(r io.ReaderAt, size int64, limits Limits) (*Book, error) {
	var head [8]byte
	if n, _ := r.ReadAt(head[:], 0); string(head[:n]) == Compound {
		return openXLS(r, size)
	}
	if flat, err := IsFlat(r, size); err != nil || flat {
		p := &parts{limit: cmp.Or(limits.Part, DefaultPart), flat: func() io.ReadCloser {
			return io.NopCloser(io.NewSectionReader(r, 0, size))
		}}
		return openODS(p)
	}
	p, open, err := partsOf(r, size)
	if err != nil || open == nil {
		return nil, err
	}
	if p.limit = limits.Part; p.limit == 0 {
		p.limit = DefaultPart
	}
	return open(p)
}

func partsOf(r io.ReaderAt, size int64) (*parts, func(*parts) (*Book, error), error) {
	z, err := zip.NewReader(r, size)
	if err != nil {
		return nil, nil, fmt.Errorf("the zip archive is damaged: %w", err)
	}
	p := &parts{files: map[string]*zip.File{}}
	for _, f := range z.File {
		p.files[partName(f.Name)] = f
	}
	for _, x := range families {
		named := slices.ContainsFunc(z.File, func(f *zip.File) bool {
			return strings.Contains(partName(f.Name), x.word)
		})
		if p.has(x.parts[0]) && p.has(x.parts[1]) && named {
			return p, x.open, nil
		}
	}
	return p, nil, nil
}

// parts are the files within a workbook.
type parts struct {
	files map[string]*zip.File
	limit int64
	flat  func() io.ReadCloser // the only part, if there are no files
}

// open begins to read a part of XML, which must be there.
func (p *parts) open(name string) (*scanner, error) {
	b, err := p.bytes(name)
	if err != nil {
		return nil, err
	}
	return newScanner(b), nil
}

// bytes begins to read a part, which must be there.
func (p *parts) bytes(name string) (*bounded, error) {
	if p.flat != nil {
		return &bounded{r: p.flat(), left: p.limit, name: "of the file"}, nil
	}
	f := p.files[partName(name)]
	if f == nil {
		return nil, fmt.Errorf("the part %s is missing", name)
	}
	r, err := f.Open()
	if err != nil {
		return nil, fmt.Errorf("the part %s cannot be read: %w", name, err)
	}
	if f.UncompressedSize64 > worthAhead {
		r = newAhead(r)
	}
	return &bounded{r: r, left: p.limit, name: name}, nil
}

func (p *parts) has(name string) bool { return p.files[partName(name)] != nil }

// partName is a name by which parts are found: equal in any case (ECMA-376 part 2,
// 6.2.2.3), and with slashes, also where a program has written backslashes.
func partName(name string) string {
	return strings.ToLower(strings.TrimPrefix(path.Clean("/"+strings.ReplaceAll(name, `\`, "/")), "/"))
}

// bounded fails where a part is longer than it may be.
type bounded struct {
	r    io.ReadCloser
	left int64
	name string
}

func (b *bounded) Read(p []byte) (int, error) {
	if b.left <= 0 {
		return 0, fmt.Errorf("the part %s unpacks to more than is allowed", b.name)
	}
	n, err := b.r.Read(p[:min(int64(len(p)), b.left)])
	b.left -= int64(n)
	return n, err
}

func (b *bounded) Close() error { return b.r.Close() }

// Rows yields the rows that have cells, in order.
func (s *Sheet) Rows(ctx context.Context, row func(*Row) error) error { return s.rows(ctx, row) }

// Merged is how many ranges of cells are merged, known when all rows have been
// read. The value of such a range is in its first cell.
func (s *Sheet) Merged() int64 {
	if s.merged == nil {
		return 0
	}
	return s.merged()
}

// A Range is a rectangle of cells. Rows count from 1, columns from 0; a To of
// 0 rows or -1 columns is open.
type Range struct {
	FromRow, ToRow       int
	FromColumn, ToColumn int
}

// All is the whole sheet.
var All = Range{1, 0, 0, -1}

// Row reports whether a row lies within.
func (r Range) Row(n int) bool { return n >= r.FromRow && (r.ToRow == 0 || n <= r.ToRow) }

// Column reports whether a column lies within.
func (r Range) Column(n int) bool { return n >= r.FromColumn && (r.ToColumn < 0 || n <= r.ToColumn) }

// String is the range as people write it.
func (r Range) String() string {
	if r == All {
		return "all"
	}
	to := ColumnName(r.ToColumn)
	if r.ToColumn < 0 {
		to = ""
	}
	if r.ToRow > 0 {
		to += strconv.Itoa(r.ToRow)
	}
	return ColumnName(r.FromColumn) + strconv.Itoa(r.FromRow) + ":" + to
}

// ParseRange reads A5:H200, A5:H, A:H, 5:200 or C3.
func ParseRange(s string) (Range, error) {
	from, to, two := strings.Cut(strings.ReplaceAll(strings.ToUpper(strings.TrimSpace(s)), "$", ""), ":")
	r := All
	bad := fmt.Errorf("%q is not a range of cells like A5:H200", s)
	c1, n1, ok := parseCell(from)
	if !ok {
		return r, bad
	}
	r.FromColumn, r.FromRow = max(c1, 0), max(n1, 1)
	if !two {
		if c1 < 0 || n1 < 0 {
			return r, bad
		}
		r.ToColumn, r.ToRow = c1, n1
		return r, nil
	}
	c2, n2, ok := parseCell(to)
	if !ok || (c1 < 0) != (c2 < 0) || n2 >= 0 && n2 < n1 || c2 >= 0 && c2 < c1 {
		return r, bad
	}
	r.ToColumn, r.ToRow = c2, max(n2, 0)
	return r, nil
}

// parseCell reads C17, C or 17; what is missing is -1.
func parseCell(s string) (column, row int, ok bool) {
	column, row = -1, -1
	i := 0
	for i < len(s) && s[i] >= 'A' && s[i] <= 'Z' {
		column = (column+1)*26 + int(s[i]-'A')
		if i++; column >= MaxColumns {
			return 0, 0, false
		}
	}
	if i < len(s) {
		n, err := strconv.Atoi(s[i:])
		if err != nil || n < 1 || n > MaxRows {
			return 0, 0, false
		}
		row = n
	}
	return column, row, s != ""
}

// ColumnName is A for 0, AA for 26.
func ColumnName(n int) string {
	if n < 0 {
		return ""
	}
	s := ""
	for n++; n > 0; n = (n - 1) / 26 {
		s = string(rune('A'+(n-1)%26)) + s
	}
	return s
}
