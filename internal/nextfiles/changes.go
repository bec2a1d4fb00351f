package main

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf16"

	"github.com/xuri/excelize/v2"
)

// A table is what a file of the corpus holds.
type table struct {
	name    string
	comma   rune
	header  []string
	records [][]string
}

// A drawing is a file that is to be written: titles, header, records, a total; of a workbook, on
// several sheets.
type drawing struct {
	titles  [][]string
	between int // blank lines between titles and header
	header  []string
	records [][]string
	total   []string // nil: there is none
	comma   rune
	ends    string // of lines
	wide    bool   // in UTF-16
	cut     int    // bytes at the end that are missing
	sheets  []string
}

// drawn is the file that a plan is made from.
func (t *table) drawn() *drawing {
	d := &drawing{titles: [][]string{{"Harrowmere Canal Trust"}, {"Extract of the month"}},
		header: slices.Clone(t.header), comma: t.comma, ends: "\n", sheets: []string{"North", "South", "West"}}
	for _, r := range t.records {
		d.records = append(d.records, slices.Clone(r))
	}
	d.total = make([]string, len(t.header))
	d.total[0] = "Total"
	some := false
	for c := 1; c < len(t.header); c++ {
		sum, is := 0.0, true
		for _, r := range t.records {
			x, err := strconv.ParseFloat(r[c], 64)
			is = is && (err == nil && !math.IsInf(x, 0) && !math.IsNaN(x) || r[c] == "")
			sum += x
		}
		if is && sum != 0 {
			d.total[c], some = strconv.FormatFloat(sum, 'f', 2, 64), true
		}
	}
	if !some {
		d.total[len(d.total)-1] = strconv.Itoa(len(t.records))
	}
	return d
}

// A change is what a sender may do to the next file. other tells that the table has to become
// another, so that it has to be said.
type change struct {
	name  string
	other bool
	do    func(w *workplace, d *drawing) (is bool)
}

var changes = []change{
	{"the footer is gone", false, func(_ *workplace, d *drawing) bool { d.total = nil; return true }},
	{"one title more", false, func(_ *workplace, d *drawing) bool {
		d.titles = append([][]string{{"Printed on Friday"}}, d.titles...)
		return true
	}},
	{"the header a line lower", false, func(_ *workplace, d *drawing) bool { d.between = 1; return true }},
	{"no titles", false, func(_ *workplace, d *drawing) bool { d.titles = nil; return true }},
	{"columns in another order", false, func(_ *workplace, d *drawing) bool {
		slices.Reverse(d.header)
		for _, r := range d.records {
			slices.Reverse(r)
		}
		first := d.total[0]
		slices.Reverse(d.total)
		d.total[len(d.total)-1] = ""
		d.total[0] = first
		return true
	}},
	{"a column renamed", false, func(_ *workplace, d *drawing) bool {
		d.header[len(d.header)-1] = "Something else"
		return true
	}},
	{"a new column", true, func(_ *workplace, d *drawing) bool {
		d.header = append(d.header, "Remarks of the keeper")
		for i := range d.records {
			d.records[i] = append(d.records[i], "seen")
		}
		d.total = append(d.total, "")
		return true
	}},
	{"a sheet less", false, func(w *workplace, d *drawing) bool { d.sheets = d.sheets[:2]; return w.form == "book" }},
	{"a sheet more", false, func(w *workplace, d *drawing) bool {
		d.sheets = append(d.sheets, "East")
		return w.form == "book"
	}},
	{"a header only", false, func(_ *workplace, d *drawing) bool { d.records, d.total = nil, nil; return true }},
	{"the last record cut", true, func(w *workplace, d *drawing) bool {
		last := d.records[len(d.records)-1]
		line := len(strings.Join(last, ","))
		d.total, d.cut = nil, line/2+1
		return w.form == "text" && line > 4 && !strings.ContainsAny(strings.Join(last, ""), "\"\n,;\t|")
	}},
	{"dates in the other order", true, otherDates},
	{"a number ten times as large", true, tenTimes},
	{"another encoding", false, func(w *workplace, d *drawing) bool { d.wide = true; return w.form == "text" }},
	{"other line ends", false, func(w *workplace, d *drawing) bool { d.ends = "\r\n"; return w.form == "text" }},
	{"another delimiter", false, func(w *workplace, d *drawing) bool {
		if d.comma = ';'; w.table.comma == ';' {
			d.comma = ','
		}
		return w.form == "text"
	}},
}

// planned are the columns of a plan that have a type like one of those, by their headers.
var planned = regexp.MustCompile(`(?m)^ +from: (.*)\n +(?:also: .*\n +|optional: .*\n +)*type: (\w+)[^\n]*\n(?: +reading: ([^ #\n]+))?`)

// otherDates writes days before months, or months before days, where both are possible.
func otherDates(w *workplace, d *drawing) bool {
	forms := map[string]string{"dd/MM/yyyy": "02/01/2006", "MM/dd/yyyy": "01/02/2006", "d/M/yyyy": "2/1/2006",
		"M/d/yyyy": "1/2/2006", "dd.MM.yyyy": "02.01.2006", "yyyy-MM-dd": "2006-01-02", "yyyy/MM/dd": "2006/01/02",
		"dd-MM-yyyy": "02-01-2006", "MM/dd/yy": "01/02/06", "M/d/yy": "1/2/06", "d/M/yy": "2/1/06"}
	others := map[string]string{"dd/MM/yyyy": "01/02/2006", "MM/dd/yyyy": "02/01/2006", "d/M/yyyy": "1/2/2006",
		"M/d/yyyy": "2/1/2006", "dd.MM.yyyy": "01.02.2006", "yyyy-MM-dd": "2006-02-01", "yyyy/MM/dd": "2006/02/01",
		"dd-MM-yyyy": "01-02-2006", "MM/dd/yy": "02/01/06", "M/d/yy": "2/1/06", "d/M/yy": "1/2/06"}
	for _, m := range planned.FindAllStringSubmatch(w.plan, -1) {
		c := slices.Index(d.header, strings.Trim(m[1], `'"`))
		form, is := forms[m[3]]
		if m[2] != "date" || c < 0 || !is || w.form == "book" {
			continue
		}
		changed := false
		for _, r := range d.records {
			if at, err := time.Parse(form, r[c]); err == nil {
				r[c] = at.Format(others[m[3]])
				changed = changed || at.Day() != int(at.Month())
			}
		}
		if changed {
			return true
		}
	}
	return false
}

// tenTimes makes all values of a column of numbers ten times as large, of those that are no key.
func tenTimes(w *workplace, d *drawing) bool {
	for _, m := range planned.FindAllStringSubmatch(w.plan, -1) {
		c := slices.Index(d.header, strings.Trim(m[1], `'"`))
		if c < 0 || !slices.Contains([]string{"smallint", "integer", "decimal", "double"}, m[2]) ||
			strings.Contains(w.plan, "key: [") {
			continue
		}
		sum := 0.0
		for _, r := range d.records {
			x, err := strconv.ParseFloat(r[c], 64)
			if err != nil && r[c] != "" {
				return false
			}
			sum += x
			if r[c] != "" {
				r[c] = strconv.FormatFloat(10*x, 'f', -1, 64)
			}
		}
		return sum != 0
	}
	return false
}

// file is the name of a file of the workplace.
func (w *workplace) file(name string) string {
	if w.form == "book" {
		return name + ".xlsx"
	}
	return name + ".csv"
}

// write writes a drawing.
func (w *workplace) write(d *drawing, name string) error {
	path := filepath.Join(w.folder, w.file(name))
	if w.form == "book" {
		return d.book(path)
	}
	text, err := d.text()
	if err != nil {
		return err
	}
	return os.WriteFile(path, text, 0o666)
}

// text is the drawing as delimited text.
func (d *drawing) text() ([]byte, error) {
	var b bytes.Buffer
	for _, t := range d.titles {
		fmt.Fprintln(&b, t[0])
	}
	for range d.between {
		fmt.Fprintln(&b)
	}
	out := csv.NewWriter(&b)
	out.Comma = d.comma
	if err := out.WriteAll(slices.Concat([][]string{d.header}, d.records)); err != nil {
		return nil, err
	}
	if d.total != nil {
		if err := out.WriteAll([][]string{d.total}); err != nil {
			return nil, err
		}
	}
	text := b.Bytes()
	text = text[:len(text)-min(d.cut, len(text))]
	text = bytes.ReplaceAll(text, []byte("\n"), []byte(d.ends))
	if !d.wide {
		return text, nil
	}
	wide := []byte{0xff, 0xfe}
	for _, u := range utf16.Encode([]rune(string(text))) {
		wide = append(wide, byte(u), byte(u>>8))
	}
	return wide, nil
}

// book is the drawing on sheets of a workbook, numbers as numbers.
func (d *drawing) book(path string) error {
	f := excelize.NewFile()
	defer f.Close()
	for i, sheet := range d.sheets {
		if i == 0 {
			if err := f.SetSheetName("Sheet1", sheet); err != nil {
				return err
			}
		} else if _, err := f.NewSheet(sheet); err != nil {
			return err
		}
		rows := slices.Concat(d.titles, make([][]string, d.between), [][]string{d.header}, d.records)
		if d.total != nil {
			rows = append(rows, d.total)
		}
		for k, r := range rows {
			cells := make([]any, len(r))
			for c, v := range r {
				if cells[c] = v; v == "" {
					cells[c] = nil
				} else if x, err := strconv.ParseFloat(v, 64); err == nil && strconv.FormatFloat(x, 'f', -1, 64) == v {
					cells[c] = x
				}
			}
			if err := f.SetSheetRow(sheet, fmt.Sprintf("A%d", k+1), &cells); err != nil {
				return err
			}
		}
	}
	return f.SaveAs(path)
}
