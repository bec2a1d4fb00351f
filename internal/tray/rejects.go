package tray

import (
	"bufio"
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"

	"ambertray/internal/source"
	"ambertray/internal/source/delimited"
	"ambertray/internal/spreadsheet"
	"ambertray/internal/sqltype"
)

// A Reject is a record that could not be loaded.
type Reject struct {
	Number int64 // in its entry, from 1
	Source string
	Line   int64
	Cell   string // of a sheet, like C17
	Record int64  // its number in the source
	Column string
	Code   Code   // names the kind of reason, for programs
	Reason string // says it, for people
	Value  string
	Fields []Field // as they stand in the source
	// Kind is the reason without the record's own values, for grouping; if
	// empty, it is the reason.
	Kind string
	// Before tells that it has been counted already, and Skip that it is no reject, but
	// skipped, and of which kind.
	Before bool
	Skip   string
	// Lead is what stood before the fields; see source.Layout.
	Lead []string
}

// A Field is the text of a field, and whether it was written in quotes.
type Field struct {
	Text   string
	Quoted bool
}

// rejectColumns stand before the source's own headers: cell only where sources
// are sheets. Files of before have no code.
var rejectColumns = []string{"reject", "source", "line", "cell", "record", "column", "code", "reason", "value", marked}

// marked is the column of a file for spreadsheets: how many fields of the record have an
// apostrophe before them, since a spreadsheet would take them for formulas. With it, the
// apostrophes are no part of the fields.
const marked = "marked"

// mayLack are those that a file of rejects may be without.
var mayLack = []string{"cell", "code", marked}

// Rejects writes a file of rejects: made with the first of them, whole when
// Finish returns. It is a delimited text by RFC 4180 in UTF-8.
type Rejects struct {
	paths   []string
	to      io.Writer // instead of files
	headers []string
	files   []*os.File
	w       *bufio.Writer
	buf     []byte
	count   int64
	cells   bool
	marked  bool
	isBook  bool
	book    *spreadsheet.Writer // once it is begun
}

// RejectsToBook writes rejects as a workbook, whose fields are all texts.
func RejectsToBook(w io.Writer, headers []string) *Rejects {
	return &Rejects{to: w, headers: headers, isBook: true}
}

// ForSpreadsheet marks fields that a spreadsheet would take for formulas.
func (r *Rejects) ForSpreadsheet() *Rejects {
	r.marked = true
	return r
}

// Cells adds a column with the cell of each reject.
func (r *Rejects) Cells() *Rejects {
	r.cells = true
	return r
}

func (r *Rejects) columns() []string {
	return slices.DeleteFunc(slices.Clone(rejectColumns), func(c string) bool {
		return c == "cell" && !r.cells || c == marked && !r.marked
	})
}

// Rejects returns a writer of the entry's rejects, under the source's headers.
// They are written twice: to be corrected, and as they were.
func (e *Entry) Rejects(headers []string) *Rejects {
	return NewRejects(headers, e.Path(RejectsFile), e.Path(OriginalFile))
}

// NewRejects writes the same rejects to one or more files.
func NewRejects(headers []string, paths ...string) *Rejects {
	return &Rejects{paths: paths, headers: headers}
}

// RejectsTo writes rejects to a writer, which is the caller's to close.
func RejectsTo(w io.Writer, headers []string) *Rejects { return &Rejects{to: w, headers: headers} }

// Restart forgets what was written, and takes away the files that Finish has named.
func (r *Rejects) Restart() (err error) {
	if r.count > 0 {
		for _, p := range r.paths {
			err = cmp.Or(err, os.Remove(p))
		}
	}
	r.count = 0
	return err
}

// Kept is how many were added.
func (r *Rejects) Kept() int64 { return r.count }

// Add appends one reject and numbers it.
func (r *Rejects) Add(x Reject) error {
	r.count++
	x.Number = r.count
	return r.add(x)
}

// AddAs appends one reject under its own number.
func (r *Rejects) AddAs(x Reject) error {
	r.count++
	return r.add(x)
}

func (r *Rejects) add(x Reject) error {
	if r.isBook {
		return r.addToBook(x)
	}
	if r.w == nil {
		if err := r.begin(); err != nil {
			return fmt.Errorf("the rejects file cannot be written: %w", err)
		}
	}
	b := strconv.AppendInt(r.buf[:0], x.Number, 10)
	lead := r.lead(&x)
	form := r.form()
	if form.Marked {
		n := 0
		for _, f := range x.Fields {
			if delimited.NeedsMark([]byte(f.Text)) {
				n++
			}
		}
		lead = append(lead, strconv.Itoa(n))
	}
	for _, s := range lead {
		b = form.AppendField(append(b, ','), []byte(s), false)
	}
	b = appendFields(form, append(b, ','), x.Fields)
	r.buf = append(b, '\n')
	if _, err := r.w.Write(r.buf); err != nil {
		return fmt.Errorf("the rejects file cannot be written: %w", err)
	}
	return nil
}

// lead is what stands before the fields of a reject, behind its number.
func (r *Rejects) lead(x *Reject) []string {
	lead := []string{x.Source, strconv.FormatInt(x.Line, 10), x.Cell, strconv.FormatInt(x.Record, 10), x.Column,
		string(x.Code), x.Reason, x.Value}
	if !r.cells {
		lead = slices.Delete(lead, 2, 3)
	}
	return lead
}

// addToBook adds a row: our own numbers as numbers, all else as texts. A field with nothing
// in it, and without quotes, is no cell.
func (r *Rejects) addToBook(x Reject) error {
	if r.book == nil {
		var columns []spreadsheet.Column
		for i, n := range append(r.columns(), r.headers...) {
			c := spreadsheet.Column{Name: n, Type: sqltype.Type{Kind: sqltype.Text}}
			if i < len(r.columns()) && (n == "reject" || n == "line" || n == "record") {
				c.Type = sqltype.Type{Kind: sqltype.BigInt}
			}
			columns = append(columns, c)
		}
		var err error
		if r.book, err = spreadsheet.New(r.to, "rejects", columns); err != nil {
			return err
		}
	}
	row := [][]byte{[]byte(strconv.FormatInt(x.Number, 10))}
	for _, s := range r.lead(&x) {
		row = append(row, []byte(s))
	}
	for i := range r.headers {
		if i < len(x.Fields) && (x.Fields[i].Text != "" || x.Fields[i].Quoted) {
			row = append(row, []byte(x.Fields[i].Text))
		} else {
			row = append(row, nil)
		}
	}
	return r.book.Add(row)
}

// AppendFields writes the fields of a record between commas. An empty field
// keeps its quotes, since they may mean something.
func AppendFields(b []byte, fields []Field) []byte {
	return appendFields(delimited.DefaultForm, b, fields)
}

func appendFields(form delimited.Form, b []byte, fields []Field) []byte {
	for i, f := range fields {
		if i > 0 {
			b = append(b, ',')
		}
		b = form.AppendField(b, []byte(f.Text), f.Quoted && f.Text == "")
	}
	return b
}

// form is how the file is written.
func (r *Rejects) form() delimited.Form {
	f := delimited.DefaultForm
	f.Marked = r.marked
	return f
}

func (r *Rejects) begin() error {
	var all []io.Writer
	if r.to != nil {
		all = append(all, r.to)
	}
	for _, p := range r.paths {
		f, err := CreateFile(p + ".part")
		if err != nil {
			return err
		}
		r.files, all = append(r.files, f), append(all, f)
	}
	r.w = bufio.NewWriterSize(io.MultiWriter(all...), 64<<10)
	var head []Field
	for _, h := range append(r.columns(), r.headers...) {
		head = append(head, Field{Text: h})
	}
	_, err := r.w.Write(append(appendFields(r.form(), nil, head), '\n'))
	return err
}

// Finish puts the files on the disk under their names.
func (r *Rejects) Finish() error {
	if r.book != nil {
		return r.book.Close()
	}
	if r.w == nil {
		return nil
	}
	err := r.w.Flush()
	for i, f := range r.files {
		if err == nil {
			err = f.Sync()
		}
		if err2 := f.Close(); err == nil {
			err = err2
		}
		if err == nil {
			err = os.Rename(r.paths[i]+".part", r.paths[i])
		}
	}
	r.files, r.w = nil, nil
	if err != nil {
		return fmt.Errorf("the rejects file cannot be written: %w", err)
	}
	return nil
}

// ReadRejects reads a file of rejects, as this program wrote it or as a
// spreadsheet saved it: with another delimiter, in another encoding, with
// empty fields added at line ends. It returns the headers behind the columns
// of our own, and calls each for every reject.
func ReadRejects(ctx context.Context, path string, each func(*Reject) error) (headers []string, err error) {
	src, err := openRejects(ctx, path)
	if err != nil {
		return nil, err
	}
	ours := ownColumns(src.Layout.Columns)
	err = src.Each(func(kind source.Kind, rec *delimited.Record) error {
		if kind != source.Data {
			return nil
		}
		x, err := parseReject(path, rec, ours)
		if err != nil {
			return err
		}
		return each(x)
	})
	return src.Layout.Columns[len(ours):], err
}

// RejectHeaders are the headers of the fields in a file of rejects, and whether these
// have cells.
func RejectHeaders(ctx context.Context, path string) (headers []string, cells bool, err error) {
	src, err := openRejects(ctx, path)
	if err != nil {
		return nil, false, err
	}
	defer src.Close()
	ours := ownColumns(src.Layout.Columns)
	return src.Layout.Columns[len(ours):], slices.Contains(ours, "cell"), nil
}

// ownColumns are the first names of a file of rejects, which are ours; nil: it is
// none.
func ownColumns(names []string) []string {
	at := 0
	for _, c := range rejectColumns {
		if at < len(names) && names[at] == c {
			at++
		} else if !slices.Contains(mayLack, c) {
			return nil
		}
	}
	if at >= len(names) {
		return nil // no field of a record
	}
	return names[:at]
}

// FormOf says how a file of rejects is written, as it was found.
func FormOf(ctx context.Context, path string) (string, error) {
	src, err := openRejects(ctx, path)
	if err != nil {
		return "", err
	}
	defer src.Close()
	if src.HasCells() {
		return src.Part(), nil
	}
	return fmt.Sprintf("read as %s, %q between fields", src.Layout.Encoding, src.Layout.Form.Delimiter), nil
}

func openRejects(ctx context.Context, path string) (*source.Source, error) {
	header, zero, none := int64(1), int64(0), 0
	known := source.Known{Header: &header, Skip: &zero, Footer: &none, Totals: source.KeepTotals}
	// The first name is ours, and what follows it is the delimiter.
	if f, err := os.Open(path); err == nil {
		head := make([]byte, 64)
		n, _ := io.ReadFull(f, head)
		f.Close()
		if _, rest, ok := strings.Cut(string(head[:n]), rejectColumns[0]); ok {
			for _, d := range []string{",", ";", "\t", "|"} {
				if strings.HasPrefix(strings.TrimPrefix(rest, `"`), d) {
					known.Delimiter = &d
					quote := `"`
					known.Quote = &quote
				}
			}
		}
	}
	src, err := source.Open(ctx, path, known)
	if err != nil {
		return nil, err
	}
	ours := ownColumns(src.Layout.Columns)
	if slices.Contains(ours, marked) {
		src.Layout.Form.Marked = true
		for i, h := range src.Layout.Columns {
			src.Layout.Columns[i] = string(delimited.Unmark([]byte(h)))
		}
	}
	if ours == nil {
		return nil, &source.Problem{Source: path, Line: 1, Decision: true,
			What: "is not a file of rejects: its first columns are not " + strings.Join(rejectColumns, ", "),
			Do:   "correct the fields behind these columns, and leave the columns as they are"}
	}
	return src, nil
}

func parseReject(path string, rec *delimited.Record, ours []string) (*Reject, error) {
	bad := func(what string) error {
		return &source.Problem{Source: path, Line: rec.Line, Decision: true, What: what, Do: "restore the line from " +
			OriginalFile + ", or take it out"}
	}
	if rec.Fault != delimited.NoFault {
		return nil, bad(rec.Fault.String())
	}
	if len(rec.Fields) < len(ours) {
		return nil, bad("the line has too few fields for a reject")
	}
	x := &Reject{}
	for i, name := range ours {
		field := string(rec.Fields[i])
		var number *int64
		switch name {
		case "reject":
			number = &x.Number
		case "line":
			number = &x.Line
		case "record":
			number = &x.Record
		case "source":
			x.Source = field
		case "cell":
			x.Cell = field
		case "column":
			x.Column = field
		case "code":
			x.Code = Code(field)
		case "reason":
			x.Reason = field
		case "value":
			x.Value = field
		}
		if number == nil {
			continue
		}
		v, err := strconv.ParseInt(strings.TrimSpace(field), 10, 64)
		if err != nil || v < 0 {
			return nil, bad(fmt.Sprintf("%q is not the %s of a reject", field,
				map[bool]string{true: "number", false: name}[name == "reject"]))
		}
		*number = v
	}
	for i := len(ours); i < len(rec.Fields); i++ {
		x.Fields = append(x.Fields, Field{string(rec.Fields[i]), rec.Quoted(i)})
	}
	return x, nil
}
