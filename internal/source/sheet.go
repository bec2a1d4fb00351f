package source

import (
	"bufio"
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"ambertray/internal/phrase"
	"ambertray/internal/source/delimited"
	"ambertray/internal/source/workbook"
)

// book opens the source as a workbook; nil: it is an archive of another kind.
func (s *Source) book() (*workbook.Book, io.Closer, error) {
	f, at, size, err := s.inPlaces()
	if err != nil {
		return nil, nil, err
	}
	book, err := workbook.Open(at, size, workbook.Limits{Part: s.unpacked})
	return book, f, err
}

// takeSheet takes a sheet out of a workbook.
func (s *Source) takeSheet(ctx context.Context, known Known) error {
	book, f, err := s.book()
	if f != nil {
		defer f.Close()
	}
	if err != nil {
		return s.unpackProblem(err)
	}
	if book == nil {
		return &Problem{Source: s.Name, What: "has the parts of a workbook, but is a document of another kind",
			Do: "ask for the data as a workbook or a delimited file"}
	}
	return s.chooseSheet(ctx, book, known)
}

// chooseSheet finds the sheet that is wanted, and reads it.
func (s *Source) chooseSheet(ctx context.Context, book *workbook.Book, known Known) error {
	within, sheet, err := s.rangeIn(book, known)
	if err != nil {
		return err
	}
	at, why := 0, "the only one"
	given := sheet != ""
	switch {
	case given:
		if at = sheetNamed(book, sheet); at < 0 {
			var names []string
			for _, x := range book.Sheets {
				names = append(names, x.Name)
			}
			if m := phrase.Meant(sheet, names); m != "" {
				return s.notInBook(book, "has no sheet %q; %s", sheet, m)
			}
			return s.notInBook(book, "has no sheet %q", sheet)
		}
	case len(book.Sheets) > 1:
		if at, err = s.onlyFilled(ctx, book); err != nil {
			return err
		}
		why = "the only one with data"
	}
	x := &book.Sheets[at]
	s.Sheet, s.LoneSheet = x.Name, len(book.Sheets) == 1
	if asked := s.Asked.Sheet; asked != allSheets {
		if s.Others, err = s.otherSheets(ctx, book, at); err != nil {
			return err
		}
		s.Others = slices.DeleteFunc(s.Others, func(name string) bool { return asked != "" && sheetLike(asked, name) })
	}
	if given {
		why = s.given()
	}
	if x.Hidden {
		why += "; it is hidden"
	}
	s.Name = s.FullName()
	old := s.spool
	s.spool = nil
	s.visible = known.Visible
	if err := s.spoolSheet(ctx, x, within); err != nil {
		s.spool = old
		return err
	}
	if old != nil {
		old.close()
	}
	s.Range, s.own = within, true
	s.Merged, s.Links = x.Merged(), book.Links
	s.Evidence = append(s.Evidence, Evidence{What: "workbook", Value: book.Kind, Why: "by its parts", Given: false},
		Evidence{What: "sheet", Value: x.Name, Why: why, Given: given})
	if within != workbook.All {
		s.Evidence = append(s.Evidence, Evidence{What: "range", Value: within.String(), Why: s.given(), Given: true})
	}
	return nil
}

// notInBook is the error of something that a person has named and the workbook
// does not have.
func (s *Source) notInBook(book *workbook.Book, format string, args ...any) error {
	const shown = 20
	var names []string
	for _, x := range book.Sheets[:min(len(book.Sheets), shown)] {
		names = append(names, strconv.Quote(x.Name))
	}
	do := "its sheets are " + strings.Join(names, ", ")
	if more := len(book.Sheets) - shown; more > 0 {
		do += fmt.Sprintf(" and %d others", more)
	}
	return &Problem{Source: s.Name, What: fmt.Sprintf(format, args...), Decision: true, Do: do}
}

// rangeIn is the range that is wanted, and the sheet: as given, or that of a named
// range.
func (s *Source) rangeIn(book *workbook.Book, known Known) (workbook.Range, string, error) {
	if known.Range == "" {
		return workbook.All, known.Sheet, nil
	}
	if r, err := workbook.ParseRange(known.Range); err == nil {
		return r, known.Sheet, nil
	}
	if sheet, r, is := workbook.ParseReference(known.Range); is && sheet != "" {
		if known.Sheet != "" && !strings.EqualFold(known.Sheet, sheet) {
			return workbook.All, "", s.notInBook(book, "the range %s is on the sheet %q, not %q", known.Range, sheet,
				known.Sheet)
		}
		return r, sheet, nil
	}
	i := slices.IndexFunc(book.Names, func(n workbook.Name) bool { return strings.EqualFold(n.Name, known.Range) })
	if i < 0 {
		var names []string
		for _, n := range book.Names {
			names = append(names, n.Name)
		}
		return workbook.All, "", s.notInBook(book,
			"has no range %q: neither cells like A5:H200 nor one of its named ranges and tables (%s)",
			known.Range, cmp.Or(strings.Join(names, ", "), "none"))
	}
	n := book.Names[i]
	if known.Sheet != "" && !strings.EqualFold(known.Sheet, n.Sheet) {
		return workbook.All, "", s.notInBook(book, "the range %s is on the sheet %q, not %q", known.Range, n.Sheet,
			known.Sheet)
	}
	return n.Range, cmp.Or(known.Sheet, n.Sheet), nil
}

// namesIn are the ranges of a book that have a name.
func namesIn(book *workbook.Book) (out []Named) {
	for _, n := range book.Names {
		out = append(out, Named{n.Name, n.Sheet, n.Range.String()})
	}
	return out
}

// othersIn are the tabs of a book without cells.
func othersIn(book *workbook.Book) (out []string) {
	for _, o := range book.Others {
		out = append(out, fmt.Sprintf("%s (%s)", o.Name, o.Kind))
	}
	return out
}

// sheetNamed is the sheet of a name, in any case, or of a number from 1; -1: there
// is none.
func sheetNamed(book *workbook.Book, name string) int {
	at := slices.IndexFunc(book.Sheets, func(x workbook.Sheet) bool { return x.Name == name })
	if at < 0 {
		at = slices.IndexFunc(book.Sheets, func(x workbook.Sheet) bool { return strings.EqualFold(x.Name, name) })
	}
	if n, err := strconv.Atoi(name); at < 0 && err == nil && n >= 1 && n <= len(book.Sheets) {
		at = n - 1
	}
	return at
}

// otherSheets are those with data but one, and but hidden ones.
func (s *Source) otherSheets(ctx context.Context, book *workbook.Book, but int) (out []string, err error) {
	for i := range book.Sheets {
		x := &book.Sheets[i]
		if i == but || x.Hidden {
			continue
		}
		some, err := s.fills(ctx, x)
		if err != nil {
			return nil, err
		}
		if some {
			out = append(out, x.Name)
		}
	}
	return out, nil
}

// allSheets stands for all sheets with data that are not hidden.
const allSheets = "all"

// sheetLike reports whether a pattern stands for a sheet.
func sheetLike(pattern, name string) bool {
	is, err := filepath.Match(strings.ToLower(pattern), strings.ToLower(name))
	return err == nil && is
}

// looked is what has been found in which sheets of which files: for each sheet of a workbook that is loaded as a table
// of its own, all others are looked at.
var looked struct {
	sync.Mutex
	at map[lookedAt]bool
}

// lookedAt is a sheet of a file as it was.
type lookedAt struct {
	path     string
	size     int64
	modified time.Time
	sheet    string
}

// fills reports whether a sheet has any data.
func (s *Source) fills(ctx context.Context, x *workbook.Sheet) (some bool, err error) {
	at := lookedAt{s.Path, s.FileSize, s.Modified, x.Name}
	known := s.Path != "" && s.Member == "" && !s.Modified.IsZero()
	if known {
		looked.Lock()
		defer looked.Unlock()
		if some, is := looked.at[at]; is {
			return some, nil
		}
		defer func() {
			if err == nil {
				if looked.at == nil {
					looked.at = map[lookedAt]bool{}
				}
				looked.at[at] = some
			}
		}()
	}
	err = x.Rows(ctx, func(*workbook.Row) error { some = true; return errEnough })
	if err != nil && err != errEnough {
		return false, s.unpackProblem(fmt.Errorf("sheet %q: %w", x.Name, err))
	}
	return some, nil
}

// onlyFilled is the only sheet with data. If there are several, one has to be
// chosen.
func (s *Source) onlyFilled(ctx context.Context, book *workbook.Book) (int, error) {
	at := -1
	for i := range book.Sheets {
		some, err := s.fills(ctx, &book.Sheets[i])
		if err != nil {
			return 0, err
		}
		if some && at >= 0 {
			parts, err := s.sheets(ctx, book)
			if err != nil {
				return 0, err
			}
			return 0, &Choice{Source: s.Name, What: "sheet", Parts: parts, Names: namesIn(book),
				Others: othersIn(book)}
		}
		if some {
			at = i
		}
	}
	if at < 0 {
		return 0, &Problem{Source: s.Name, What: "its sheets are all empty",
			Do: "nothing can be loaded from it; ask for the file again"}
	}
	return at, nil
}

var errEnough = fmt.Errorf("enough")

// sheets describes all sheets.
func (s *Source) sheets(ctx context.Context, book *workbook.Book) (parts []Part, err error) {
	for i := range book.Sheets {
		x := &book.Sheets[i]
		p := Part{Name: x.Name, Hidden: x.Hidden, Kept: x.Kept, Pivots: x.Pivots}
		used := workbook.Range{FromColumn: -1}
		var view [][]string
		err := x.Rows(ctx, func(r *workbook.Row) error {
			first, last := -1, -1
			var cells []string
			for _, c := range r.Cells {
				if len(c.Value) == 0 {
					continue
				}
				if first < 0 {
					first = c.Column
				}
				last = c.Column
				if len(view) < 3 && len(cells) < 12 {
					cells = append(cells, string(c.Value))
				}
			}
			if first < 0 {
				return nil
			}
			if len(view) < 3 {
				view = append(view, cells)
			}
			if p.Rows++; used.FromColumn < 0 {
				used = workbook.Range{FromRow: r.Number, ToRow: r.Number, FromColumn: first, ToColumn: last}
			}
			used.ToRow = r.Number
			used.FromColumn, used.ToColumn = min(used.FromColumn, first), max(used.ToColumn, last)
			return nil
		})
		if err != nil {
			return nil, s.unpackProblem(fmt.Errorf("sheet %q: %w", x.Name, err))
		}
		if p.Rows > 0 {
			p.Used, p.View, p.Merged = used.String(), sheetView(view), x.Merged()
		}
		parts = append(parts, p)
	}
	return parts, nil
}

// Sheets lists the sheets of a workbook that a pattern names: all, or those
// whose names match, in the order of the book. Hidden and empty ones are left
// out of all.
func Sheets(ctx context.Context, name, pattern string, known Known) ([]string, error) {
	s := &Source{Name: name, Path: name, unpacked: cmp.Or(known.MaxUnpacked, DefaultUnpacked)}
	f, err := os.Open(name)
	if err != nil {
		return nil, &Problem{Source: name, What: "cannot be read", Err: cause(err)}
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	book, err := workbook.Open(f, info.Size(), workbook.Limits{Part: s.unpacked})
	if err != nil {
		return nil, s.unpackProblem(err)
	}
	if book == nil {
		return nil, &Problem{Source: name, What: "is no workbook", Decision: true, Do: "leave out --sheet"}
	}
	var out []string
	for i := range book.Sheets {
		x := &book.Sheets[i]
		if pattern != allSheets {
			if !sheetLike(pattern, x.Name) {
				continue
			}
		} else if x.Hidden {
			continue
		}
		if some, err := s.fills(ctx, x); err != nil {
			return nil, err
		} else if some {
			out = append(out, x.Name)
		}
	}
	if len(out) == 0 {
		return nil, &Problem{Source: name, What: fmt.Sprintf("has no sheet with data that matches %q", pattern),
			Decision: true, Do: "'ambertray look " + name + "' lists them"}
	}
	return out, nil
}

// A CellCount counts cells of one column.
type CellCount struct {
	Count int64
	First int // row
	Value string
}

// count counts a cell of a column, from 0 in what is read.
func (c *CellCount) count(x *workbook.Cell, row int) *CellCount {
	if c == nil {
		c = &CellCount{First: row, Value: string(x.Value)}
	}
	c.Count++
	return c
}

// remark counts a cell that is remarkable by itself.
func (s *Source) remark(c *workbook.Cell, row int) {
	switch {
	case c.Shown:
		s.Shown[c.Column] = s.Shown[c.Column].count(c, row)
	case c.Unstored:
		s.Unstored[c.Column] = s.Unstored[c.Column].count(c, row)
	case c.Percent:
		s.Percent[c.Column] = s.Percent[c.Column].count(c, row)
	}
	if c.Hidden && len(c.Value) > 0 {
		s.Unseen[c.Column] = s.Unseen[c.Column].count(c, row)
	}
}

// Visible reports whether what is hidden in a workbook is left out.
func (s *Source) Visible() bool { return s.visible }

// unseen counts a row that a person does not see, and reports whether it is left out.
func (s *Source) unseen(r *workbook.Row) bool {
	for i := range r.Cells {
		if c := &r.Cells[i]; len(c.Value) > 0 {
			if s.UnseenRows = s.UnseenRows.count(c, r.Number); s.visible {
				s.LeftRows = s.LeftRows.count(c, r.Number)
			}
			break
		}
	}
	return s.visible
}

// shift takes the columns that are empty throughout out of the counts.
func shift(by map[int]*CellCount, least int) map[int]*CellCount {
	out := map[int]*CellCount{}
	for c, n := range by {
		if c >= least {
			out[c-least] = n
		}
	}
	return out
}

// lineBreak stands for a line break within a cell, so that a row of a sheet is
// one line.
const lineBreak = 0x1e

var sheetForm = delimited.Form{Delimiter: ",", Quote: '"', Breaks: lineBreak}

// spoolSheet writes a sheet as delimited text: a line for each row, from the
// first on, text in quotes and all else without.
func (s *Source) spoolSheet(ctx context.Context, sheet *workbook.Sheet, within workbook.Range) error {
	sp, err := newSpool(s.unpacked)
	if err != nil {
		return err
	}
	w := bufio.NewWriterSize(sp, 256<<10)
	var b []byte
	line, least := 1, -1
	s.Shown, s.Unstored, s.Unseen = map[int]*CellCount{}, map[int]*CellCount{}, map[int]*CellCount{}
	s.Percent = map[int]*CellCount{}
	s.UnseenRows, s.LeftRows, s.BelowRows = nil, nil, 0
	err = sheet.Rows(ctx, func(r *workbook.Row) error {
		if !within.Row(r.Number) {
			s.below(r, within)
			return nil
		}
		if r.Hidden && s.unseen(r) {
			return nil
		}
		b = b[:0]
		for ; line < r.Number; line++ {
			b = append(b, '\n')
		}
		start, column := len(b), 0
		for i := range r.Cells {
			c := &r.Cells[i]
			if !within.Column(c.Column) {
				continue
			}
			if c.Shown || c.Unstored || c.Hidden || c.Percent {
				s.remark(c, r.Number)
			}
			if len(c.Value) == 0 {
				continue
			}
			if least < 0 || c.Column < least {
				least = c.Column
			}
			for ; column < c.Column; column++ {
				b = append(b, ',')
			}
			b = appendCell(b, c)
		}
		if len(b) > start {
			b = append(b, '\n')
			line++
		}
		_, err := w.Write(b)
		return err
	})
	if err == nil {
		err = w.Flush()
	}
	if err == nil && least > 0 {
		err = sp.cutLeft(least, s.unpacked)
	}
	if err != nil {
		sp.close()
		return s.unpackProblem(err)
	}
	s.spool, s.firstColumn = sp, max(least, 0)
	s.Shown, s.Unstored = shift(s.Shown, s.firstColumn), shift(s.Unstored, s.firstColumn)
	s.Unseen, s.Percent = shift(s.Unseen, s.firstColumn), shift(s.Percent, s.firstColumn)
	return nil
}

// below notes a row that stands right below the range that is read: it may be one of its records.
func (s *Source) below(r *workbook.Row, within workbook.Range) {
	if within.ToRow == 0 || r.Number != within.ToRow+1+s.BelowRows {
		return
	}
	l := Line{Number: int64(r.Number)}
	for i := range r.Cells {
		c := &r.Cells[i]
		if !within.Column(c.Column) || len(c.Value) == 0 {
			continue
		}
		for len(l.Fields) < c.Column-within.FromColumn {
			l.Fields = append(l.Fields, "")
		}
		l.Fields = append(l.Fields, string(c.Value))
	}
	if len(l.Fields) == 0 {
		return
	}
	if s.BelowRows++; s.BelowRows == 1 {
		l.Raw = cellsOf(l.Fields)
		s.BelowRange = l
	}
}

func appendCell(b []byte, c *workbook.Cell) []byte {
	if !c.Text {
		return append(b, c.Value...)
	}
	b = append(b, '"')
	for i, x := range c.Value {
		switch x {
		case '"':
			b = append(b, '"', '"')
		case '\n':
			b = append(b, lineBreak)
		case '\r':
			if i+1 >= len(c.Value) || c.Value[i+1] != '\n' {
				b = append(b, lineBreak)
			}
		case lineBreak:
			b = append(b, "\ufffd"...)
		default:
			b = append(b, x)
		}
	}
	return append(b, '"')
}

// cutLeft takes n delimiters off every line that is not blank: columns that
// are empty throughout.
func (s *spool) cutLeft(n int, limit int64) error {
	out, err := newSpool(limit)
	if err != nil {
		return err
	}
	w := bufio.NewWriterSize(out, 256<<10)
	r := bufio.NewReaderSize(io.NewSectionReader(s.f, 0, s.size), 256<<10)
	fresh := true
	for {
		part, err := r.ReadSlice('\n')
		if len(part) > 0 {
			if fresh && part[0] != '\n' {
				part = part[min(n, len(part)):]
			}
			fresh = part[len(part)-1] == '\n'
			if _, err := w.Write(part); err != nil {
				out.close()
				return err
			}
		}
		if err == io.EOF {
			break
		}
		if err != nil && err != bufio.ErrBufferFull {
			out.close()
			return err
		}
	}
	if err := w.Flush(); err != nil {
		out.close()
		return err
	}
	s.close()
	*s = *out
	return nil
}

// sheetView is the beginning of a sheet on one line.
func sheetView(rows [][]string) string {
	var parts []string
	for _, r := range rows {
		var cells []string
		for _, c := range r {
			if c = strings.TrimSpace(c); c != "" {
				cells = append(cells, c)
			}
		}
		if len(cells) > 0 {
			parts = append(parts, strings.Join(cells, ", "))
		}
	}
	return strings.Join(parts, " / ")
}
