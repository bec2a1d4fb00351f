// Package export writes a table, or what a query yields, as delimited text
// that loads back equal.
//
// The model: every value is text in the plain form of its type. A null is
// nothing between two delimiters, an empty text is a pair of quotes; or a word
// of the caller's stands for null. While rows are written, each column is
// watched: which type all of its values read back as, and which values no
// program but that database could read. From that comes the plan that loads
// the file back.
package export

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"strings"

	"ambertray/internal/db"
	"ambertray/internal/phrase"
	"ambertray/internal/plan"
	"ambertray/internal/reading"
	"ambertray/internal/source"
	"ambertray/internal/source/delimited"
	"ambertray/internal/spreadsheet"
	"ambertray/internal/sqltype"
)

// Options say how text is written.
type Options struct {
	Form     delimited.Form
	NoHeader bool
	// NullWord stands for null; "" writes nothing.
	NullWord string
	// Book writes a workbook, with a sheet of this name.
	Book string
	// Columnar writes a Parquet file of a table of this name; Key is its key.
	Columnar string
	Key      []string
	// Progress is called now and then.
	Progress func(rows int64)
}

// loneNull stands for null in a single column, where nothing would be a blank
// line.
const loneNull = `\N`

// A Result is what was written.
type Result struct {
	Rows    int64
	Columns []Column
	// NullWord is the word that stands for null, or "".
	NullWord string
}

// A Column is what was seen of one column.
type Column struct {
	db.Column
	// Reads is the type that all values read back as.
	Reads sqltype.Type
	Nulls int64
	// AsText counts values that a cell of a workbook would not hold exactly.
	AsText int64
	// Empty counts empty texts, where the file does not tell them from nulls.
	Empty int64
	// NULs counts texts with a NUL character, which no file can carry.
	NULs int64

	candidates []*reading.Reader
	digits     [2]int // before and behind the point, of a decimal of any length
	fraction   int    // the digits of a second's fraction
	wide       bool   // some text is beyond ASCII
	way        reading.Plainly
	before     []byte        // a value that the candidate has read
	value      reading.Value // memory
}

// Remarks says what does not load back as what it was.
func (c *Column) Remarks() (out []string) {
	if c.SQL.Kind == sqltype.None {
		out = append(out, fmt.Sprintf("%s is of type %s, and written as the database shows it", c.Name, c.Type))
	} else if c.Reads.Kind == sqltype.Text && !c.SQL.IsText() {
		out = append(out, fmt.Sprintf("%s has values that are no %s in a form that others read; it is written as text",
			c.Name, c.SQL))
	}
	if c.AsText > 0 {
		out = append(out, fmt.Sprintf("%s has %s that a cell would not hold exactly, and that are texts there", c.Name,
			phrase.Count(c.AsText, "value")))
	}
	if c.Empty > 0 {
		out = append(out, fmt.Sprintf("%s has %s, which a workbook does not tell from nulls", c.Name,
			phrase.Count(c.Empty, "empty text")))
	}
	if c.NULs > 0 {
		out = append(out, fmt.Sprintf("%s has %d texts with a NUL character, which cannot be loaded", c.Name, c.NULs))
	}
	return
}

// writeBytes is about how much is written at once.
const writeBytes = 64 << 10

// Write writes all rows of an extract.
func Write(ctx context.Context, w io.Writer, conn db.Session, x db.Extract, opt Options) (*Result, error) {
	r, query, columns := &Result{NullWord: opt.NullWord}, x.Query, x.Columns
	if r.NullWord == "" && len(columns) == 1 {
		r.NullWord = loneNull
	}
	for _, c := range columns {
		r.Columns = append(r.Columns, watch(c))
	}
	if opt.Columnar != "" {
		r.NullWord = ""
		return r, r.columnar(ctx, w, conn, query, columns, opt)
	}
	if opt.Book != "" {
		r.NullWord = ""
		return r, r.book(ctx, w, conn, query, columns, opt)
	}
	var buf []byte
	if !opt.NoHeader {
		for i, c := range columns {
			if i > 0 {
				buf = append(buf, opt.Form.Delimiter...)
			}
			buf = opt.Form.AppendField(buf, []byte(c.Name), c.Name == "")
		}
		buf = append(buf, '\n')
	}
	word, pen, delimiter := []byte(r.NullWord), delimited.NewPen(opt.Form), []byte(opt.Form.Delimiter)
	err := db.Carry(ctx, conn, x, func(fields [][]byte, simple bool) error {
		r.Rows++
		b := buf
		for i, f := range fields {
			switch {
			case i == 0:
			case len(delimiter) == 1: // in a shorter way
				b = append(b, delimiter[0])
			default:
				b = append(b, delimiter...)
			}
			c := &r.Columns[i]
			if f == nil {
				c.Nulls++
				b = append(b, word...)
				continue
			}
			if len(word) > 0 && string(f) == r.NullWord {
				return fmt.Errorf("row %d, column %s: the value is %q, which stands for null in this file\n  "+
					"choose another word with --null-word", r.Rows, columns[i].Name, r.NullWord)
			}
			if !simple || !c.plainly(f) {
				c.see(f, simple)
			}
			b = pen.Append(b, f, len(f) == 0)
		}
		buf = append(b, '\n')
		if opt.Progress != nil && r.Rows%4096 == 0 {
			opt.Progress(r.Rows)
		}
		if len(buf) < writeBytes {
			return nil
		}
		_, err := w.Write(buf)
		buf = buf[:0]
		return err
	})
	if err == nil {
		_, err = w.Write(buf)
	}
	if err != nil {
		return nil, err
	}
	for i := range r.Columns {
		r.Columns[i].decide()
	}
	return r, nil
}

// watch prepares to see the values of a column.
func watch(c db.Column) Column {
	w := Column{Column: c}
	add := func(t sqltype.Type) { w.candidates = append(w.candidates, reading.Plain(t)) }
	switch t := c.SQL; {
	case t.Kind == sqltype.None:
	case t.Kind == sqltype.Decimal && c.AnyLength: // its digits are counted
	default:
		// A declared type may be narrower than what the database takes.
		if d, err := sqltype.Parse(c.Type); err == nil && d.IsInteger() && t.IsInteger() && d != t {
			add(d)
		}
		add(t)
		if c.UTC {
			t.Kind = sqltype.TimestampTZ
			add(t)
		}
		w.way = w.candidates[0].Plainly()
	}
	return w
}

// see notes what a value is like. simple tells that it has nothing but ASCII, and no NUL.
func (c *Column) see(f []byte, simple bool) {
	if !simple && (c.SQL.Kind == sqltype.None || c.SQL.IsText()) {
		if bytes.IndexByte(f, 0) >= 0 {
			c.NULs++
		}
		c.wide = c.wide || !delimited.IsASCII(f)
	}
	if c.SQL.Kind == sqltype.Decimal && c.AnyLength {
		whole, fraction, _ := strings.Cut(strings.TrimPrefix(string(f), "-"), ".")
		if strings.Trim(whole+fraction, "0123456789") != "" {
			c.digits[0] = sqltype.MaxPrecision + 1 // NaN, Infinity
		}
		c.digits[0], c.digits[1] = max(c.digits[0], len(strings.TrimLeft(whole, "0"))), max(c.digits[1], len(fraction))
		return
	}
	if c.AnyLength && c.SQL.IsTemporal() {
		if i := bytes.IndexByte(f, '.'); i >= 0 {
			n := len(f) - i - 1
			if k := bytes.IndexFunc(f[i+1:], func(r rune) bool { return r < '0' || r > '9' }); k >= 0 {
				n = k
			}
			c.fraction = max(c.fraction, n)
		}
	}
	if c.plainly(f) {
		return
	}
	for i := 0; i < len(c.candidates); {
		if c.candidates[i].Read(f, true, &c.value) == reading.OK {
			i++
			continue
		}
		c.candidates = append(c.candidates[:i:i], c.candidates[i+1:]...)
	}
}

// plainly reports whether a value is for certain one that the only candidate reads.
func (c *Column) plainly(f []byte) bool {
	if len(c.candidates) != 1 || c.AnyLength {
		return false
	}
	r, n := c.candidates[0], len(f)
	switch c.way {
	case reading.PlainWhole, reading.PlainDecimal:
		return n > 0 && n <= 8 && r.ReadWord(reading.Word(f), n, &c.value)
	case reading.PlainText:
		return r.Plain(f)
	case reading.PlainDate:
		if string(f) == string(c.before) {
			return n > 0
		}
		if r.Read(f, true, &c.value) != reading.OK {
			return false
		}
		c.before = append(c.before[:0], f...)
		return true
	case reading.NotPlainly:
	}
	return false
}

func (c *Column) decide() {
	text := sqltype.Type{Kind: sqltype.Text}
	switch t := c.SQL; {
	case t.Kind == sqltype.None:
		c.Reads = text
	case t.Kind == sqltype.Decimal && c.AnyLength:
		c.Reads = sqltype.Type{Kind: sqltype.Decimal, Precision: max(1, c.digits[0]+c.digits[1]), Scale: c.digits[1]}
		if c.Reads.Precision > sqltype.MaxPrecision {
			c.Reads = text
		}
	case len(c.candidates) == 0:
		c.Reads = text
	default:
		c.Reads = c.candidates[0].Type
		if c.Reads.IsTemporal() && c.Reads.Kind != sqltype.Date {
			if c.Reads.Precision = t.Precision; c.AnyLength {
				c.Reads.Precision = min(c.fraction, 6)
			}
		}
	}
}

// Plan is the plan that loads the file back. key names the table's key.
func (r *Result) Plan(file, table string, key []string, opt Options) *plan.Plan {
	header := int64(1)
	if opt.NoHeader {
		header = 0
	}
	written := &source.Source{Path: file, Layout: source.Layout{Encoding: "utf-8", Form: opt.Form, Header: header,
		Totals: source.KeepTotals}}
	p := &plan.Plan{Version: plan.Version, Table: plan.Table{Name: table, Key: key},
		Sources: []plan.Source{plan.FromLayout(written)}}
	p.Sources[0].Seen = nil
	if opt.Book != "" {
		p.Sources[0].Settings = map[string]string{"sheet": spreadsheet.SheetName(opt.Book), "header": "1",
			"totals": source.KeepTotals}
	}
	p.Sources[0].Settings["footer"] = "none" // a row is one, whatever it looks like
	names := r.names()
	for i, c := range r.Columns {
		x := plan.Column{Name: names[i], From: c.Name, Type: c.Reads.String(), Required: c.Required, Unicode: c.wide,
			Comment: c.Comment}
		if opt.NoHeader {
			x.From = fmt.Sprintf("column_%d", i+1)
		}
		if c.Reads.IsText() {
			x.KeepEmpty = "quoted"
		}
		if r.NullWord != "" {
			x.Nulls = []string{r.NullWord}
			if c.Reads.IsText() {
				x.KeepEmpty = "all"
			}
		}
		p.Columns = append(p.Columns, x)
	}
	return p
}
