// Package spreadsheet writes one sheet of a workbook (Office Open XML), row by row, so that
// people can work on it in the program that they have and nothing is lost: texts stay
// texts, whatever they look like, and dates are dates.
package spreadsheet

import (
	"fmt"
	"io"
	"math"
	"strconv"
	"strings"
	"time"
	"unicode/utf16"

	"github.com/xuri/excelize/v2"

	"ambertray/internal/sqltype"
)

// Limits of a sheet (ECMA-376 part 1, 18.3.1.73; and of the programs that read it).
const (
	MaxRows    = 1 << 20
	MaxColumns = 1 << 14
	MaxText    = 32767 // characters of a cell, in UTF-16
)

// A Column is one of a sheet.
type Column struct {
	Name string
	// Type decides what values become; texts of any other type than a number, a date, a
	// time or a truth are texts.
	Type sqltype.Type
}

// A Writer writes a sheet.
type Writer struct {
	w       io.Writer
	file    *excelize.File
	stream  *excelize.StreamWriter
	columns []Column
	styles  []int // of values that are no text, by column
	text    int
	row     int
	cells   []any
	written []int64 // values by column that had to become texts
}

// New begins a sheet, with the names of its columns in the first row.
func New(w io.Writer, sheet string, columns []Column) (*Writer, error) {
	if len(columns) > MaxColumns {
		return nil, fmt.Errorf("a sheet has %d columns at most, and these are %d", MaxColumns, len(columns))
	}
	b := &Writer{w: w, file: excelize.NewFile(), columns: columns, cells: make([]any, len(columns)),
		written: make([]int64, len(columns))}
	var err error
	if err = b.file.SetSheetName("Sheet1", SheetName(sheet)); err != nil {
		return nil, err
	}
	if b.stream, err = b.file.NewStreamWriter(SheetName(sheet)); err != nil {
		return nil, err
	}
	if b.text, err = b.style("@"); err != nil {
		return nil, err
	}
	for _, c := range columns {
		id, err := b.style(formatOf(c.Type))
		if err != nil {
			return nil, err
		}
		b.styles = append(b.styles, id)
	}
	bold, err := b.file.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true}})
	if err != nil {
		return nil, err
	}
	for i, c := range columns {
		width := float64(min(max(len([]rune(c.Name))+2, 10), 40))
		if c.Type.Kind == sqltype.Timestamp {
			width = max(width, 20)
		}
		if err := b.stream.SetColWidth(i+1, i+1, width); err != nil {
			return nil, err
		}
	}
	if err := b.stream.SetPanes(&excelize.Panes{Freeze: true, YSplit: 1, TopLeftCell: "A2",
		ActivePane: "bottomLeft"}); err != nil {
		return nil, err
	}
	for i, c := range columns {
		b.cells[i] = excelize.Cell{StyleID: bold, Value: c.Name}
	}
	return b, b.flush()
}

// SheetName makes a name that a sheet can have of any text.
func SheetName(s string) string {
	s = strings.Map(func(r rune) rune {
		if strings.ContainsRune(`:\/?*[]`, r) || r < ' ' {
			return '_'
		}
		return r
	}, strings.Trim(s, "'"))
	if r := []rune(s); len(r) > 31 {
		s = string(r[:31])
	}
	if s == "" {
		return "Sheet1"
	}
	return s
}

func (b *Writer) style(format string) (int, error) {
	if format == "" {
		return 0, nil
	}
	return b.file.NewStyle(&excelize.Style{CustomNumFmt: &format})
}

// formatOf is the number format of a type.
func formatOf(t sqltype.Type) string {
	switch {
	case t.Kind == sqltype.Decimal && t.Scale > 0:
		return "0." + strings.Repeat("0", t.Scale)
	case t.Kind == sqltype.Decimal, t.IsInteger():
		return "0"
	case t.Kind == sqltype.Date:
		return "yyyy-mm-dd"
	case t.Kind == sqltype.Timestamp:
		return "yyyy-mm-dd hh:mm:ss" + thousandths(t)
	case t.Kind == sqltype.Time:
		return "hh:mm:ss" + thousandths(t)
	case t.Kind == sqltype.Double, t.Kind == sqltype.Boolean:
		return ""
	}
	return "@"
}

func thousandths(t sqltype.Type) string {
	if t.Precision > 0 {
		return ".000"
	}
	return ""
}

// Add adds a row. Fields are in the plain form of the columns' types; nil is null, and
// makes no cell.
func (b *Writer) Add(fields [][]byte) error {
	if b.row == MaxRows {
		return fmt.Errorf("a sheet has %d rows at most; write delimited text, or less", MaxRows)
	}
	for i, f := range fields {
		b.cells[i] = nil
		if f == nil {
			continue
		}
		if v, is := valueOf(f, b.columns[i].Type); is {
			b.cells[i] = excelize.Cell{StyleID: b.styles[i], Value: v}
			continue
		}
		if t := b.columns[i].Type; !t.IsText() && t.Kind != sqltype.None {
			b.written[i]++
		}
		if len(f) > MaxText && len(utf16.Encode([]rune(string(f)))) > MaxText {
			return fmt.Errorf("row %d, column %s: a cell holds %d characters at most; write delimited text", b.row,
				b.columns[i].Name, MaxText)
		}
		b.cells[i] = excelize.Cell{StyleID: b.text, Value: string(f)}
	}
	return b.flush()
}

func (b *Writer) flush() error {
	b.row++
	return b.stream.SetRow("A"+strconv.Itoa(b.row), b.cells)
}

// AsText is how many values of a column had to become texts, since a cell would not hold
// them exactly.
func (b *Writer) AsText(column int) int64 { return b.written[column] }

// Close ends the sheet, and writes the workbook.
func (b *Writer) Close() error {
	err := b.stream.Flush()
	if err == nil {
		_, err = b.file.WriteTo(b.w)
	}
	if err2 := b.file.Close(); err == nil {
		err = err2
	}
	return err
}

// valueOf is what a cell holds that is no text; false: it has to be one, for a cell holds
// 15 digits, thousandths of a second, and no day before March 1900.
func valueOf(f []byte, t sqltype.Type) (any, bool) {
	s := string(f)
	switch {
	case t.IsInteger() || t.Kind == sqltype.Decimal:
		return number(s)
	case t.Kind == sqltype.Double:
		x, err := strconv.ParseFloat(s, 64)
		if err != nil || math.IsInf(x, 0) || math.IsNaN(x) {
			return nil, false
		}
		y, _ := strconv.ParseFloat(strconv.FormatFloat(x, 'e', 14, 64), 64)
		return x, x == y
	case t.Kind == sqltype.Boolean:
		return s == "true", s == "true" || s == "false"
	case t.Kind == sqltype.Date:
		d, err := time.Parse("2006-01-02", s)
		return serial(d), err == nil && serial(d) > 60
	case t.Kind == sqltype.Timestamp:
		d, err := time.Parse("2006-01-02 15:04:05", s)
		return serial(d), err == nil && serial(d) > 60 && fine(d)
	case t.Kind == sqltype.Time:
		d, err := time.Parse("15:04:05", s)
		day := float64(d.Hour()*3600+d.Minute()*60+d.Second()) + float64(d.Nanosecond())/1e9
		return day / 86400, err == nil && fine(d)
	}
	return nil, false
}

// number is a number of up to 15 digits.
func number(s string) (any, bool) {
	digits := strings.TrimLeft(strings.Replace(strings.TrimPrefix(s, "-"), ".", "", 1), "0")
	if strings.Contains(s, ".") {
		digits = strings.TrimRight(digits, "0")
	}
	x, err := strconv.ParseFloat(s, 64)
	return x, err == nil && len(digits) <= 15
}

// serial counts days from the one that all programs agree on (ECMA-376 part 1, 18.17.4.1).
func serial(t time.Time) float64 {
	first := time.Date(1899, 12, 30, 0, 0, 0, 0, time.UTC)
	seconds := t.Unix() - first.Unix()
	return float64(seconds/86400) + (float64(seconds%86400)+float64(t.Nanosecond())/1e9)/86400
}

// fine reports whether a time has thousandths of a second at most.
func fine(t time.Time) bool { return t.Nanosecond()%1e6 == 0 }
