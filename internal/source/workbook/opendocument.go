package workbook

import (
	"bytes"
	"context"
	"fmt"
	"strconv"
	"strings"
)

// ods is an OpenDocument spreadsheet (ODF 1.3 part 3, chapter 9). All its
// sheets are in one part, so that reading the last means passing over the
// others.
type ods struct {
	*parts
	styles odsStyles
}

func openODS(p *parts) (*Book, error) {
	o := &ods{p, odsStyles{map[string]mask{}, map[string]mask{}, map[string]string{}, map[string]string{}}}
	b := &Book{Kind: "an OpenDocument spreadsheet"}
	if err := o.around(); err != nil {
		return nil, err
	}
	s, err := o.open("content.xml")
	if err != nil {
		return nil, err
	}
	defer s.close()
	hidden := map[string]bool{} // styles of tables that are not shown
	style, spreadsheet := "", false
	err = s.each(func() error {
		switch string(s.name) {
		case "spreadsheet":
			spreadsheet = true
		case "number-style":
			return o.styles.read(s)
		case "style":
			name, _ := s.attr("name")
			style = string(name)
			return o.styles.read(s)
		case "table-properties":
			if d, ok := s.attr("display"); ok && string(d) == "false" {
				hidden[style] = true
			}
		case "table":
			name, ok := s.attr("name")
			if !ok || !spreadsheet {
				return nil
			}
			n := len(b.Sheets)
			tab := Sheet{Name: string(name)}
			st, _ := s.attr("style-name")
			tab.Hidden = hidden[string(st)]
			tab.read(func(ctx context.Context, row func(*Row) error, merged *int64) error {
				return o.rows(ctx, n, row, merged)
			})
			b.Sheets = append(b.Sheets, tab)
			return s.skip()
		case "named-range":
			name, _ := s.attr("name")
			n := string(name)
			at, _ := s.attr("cell-range-address")
			if sheet, r, ok := parseAddress(string(at)); ok {
				b.Names = append(b.Names, Name{n, sheet, r})
			}
		case "database-range":
			name, _ := s.attr("name")
			n := string(name)
			at, _ := s.attr("target-range-address")
			if sheet, r, ok := parseAddress(string(at)); ok && !strings.HasPrefix(n, "__") {
				b.Names = append(b.Names, Name{n, sheet, r})
			}
		}
		return nil
	}, "spreadsheet", "style", "number-style", "table-properties", "table", "named-range", "database-range")
	if err != nil {
		return nil, err
	}
	o.styles.settle()
	if !spreadsheet {
		return nil, nil
	}
	if len(b.Sheets) == 0 {
		return nil, fmt.Errorf("the spreadsheet has no sheets")
	}
	return b, nil
}

// around reads the parts beside the content, where it is not alone.
func (o *ods) around() error {
	if o.flat != nil {
		return nil
	}
	m, err := o.open("META-INF/manifest.xml")
	if err != nil {
		return err
	}
	err = m.each(func() error { return ErrEncrypted }, "encryption-data")
	m.close()
	if err != nil {
		return err
	}
	return o.commonStyles()
}

// commonStyles reads the styles that a person has named.
func (o *ods) commonStyles() error {
	if !o.has("styles.xml") {
		return nil
	}
	s, err := o.open("styles.xml")
	if err != nil {
		return err
	}
	defer s.close()
	return s.each(func() error { return o.styles.read(s) }, "style", "number-style")
}

// parseAddress reads $March.$A$5:.$H$200, or with the sheet repeated.
func parseAddress(s string) (sheet string, r Range, ok bool) {
	from, to, two := strings.Cut(s, ":")
	i := strings.LastIndexByte(from, '.')
	if i < 0 {
		return "", All, false
	}
	sheet = strings.TrimPrefix(from[:i], "$")
	if len(sheet) > 1 && sheet[0] == '\'' && sheet[len(sheet)-1] == '\'' {
		sheet = strings.ReplaceAll(sheet[1:len(sheet)-1], "''", "'")
	}
	ref := from[i+1:]
	if two {
		ref += ":" + to[strings.LastIndexByte(to, '.')+1:]
	}
	r, err := ParseRange(ref)
	return sheet, r, err == nil
}

// rows streams the n-th sheet.
func (o *ods) rows(ctx context.Context, n int, f func(*Row) error, merged *int64) error {
	s, err := o.open("content.xml")
	if err != nil {
		return err
	}
	defer s.close()
	spreadsheet := false
	for at := -1; at < n; {
		t, err := s.next()
		if err != nil {
			return err
		}
		if t == eof {
			return fmt.Errorf("the sheet is not there any more")
		}
		if t != start {
			continue
		}
		if s.is("spreadsheet") {
			spreadsheet = true
		}
		if spreadsheet && s.is("table") {
			if at++; at < n {
				if err := s.skip(); err != nil {
					return err
				}
			}
		}
	}
	r := &odsRows{s: s, f: f, merged: merged, styles: o.styles.cells}
	return r.read(ctx)
}

type odsRows struct {
	s      *scanner
	f      func(*Row) error
	merged *int64
	row    Row
	arena  []byte
	at     []uint32
	number int // of the row before
	// styles are the masks of cells by their styles; columns and line are those of cells that
	// name none.
	styles  map[string]mask
	columns columnStyles
	line    mask
	unseen  hiddenColumns
}

// isHidden reports whether a row or a column is hidden, or filtered out (ODF 1.3 part 3,
// 19.749).
func isHidden(s *scanner) bool {
	v, _ := s.attr("visibility")
	return string(v) == "collapse" || string(v) == "filter"
}

func (r *odsRows) read(ctx context.Context) error {
	s := r.s
	for depth := 1; depth > 0; {
		t, err := s.next()
		switch {
		case err != nil:
			return err
		case t == eof:
			return s.broken("it ends within a sheet")
		case t == start && s.is("table-column"):
			style, _ := s.attr("default-cell-style-name")
			times := max(1, s.attrInt("number-columns-repeated", 1))
			if isHidden(s) {
				at := r.columns.end()
				r.unseen.add(at, at+min(times, MaxColumns)-1)
			}
			r.columns.add(r.styles[string(style)], times)
			depth++
		case t == start && s.is("table-row"):
			if ctx.Err() != nil {
				return ctx.Err()
			}
			if err := r.one(); err != nil {
				return err
			}
		case t == start && (s.is("table") || s.is("shapes") || s.is("forms") || s.is("annotation")):
			if err := s.skip(); err != nil { // a drawing, or a table within
				return err
			}
		case t == start:
			depth++
		case t == end:
			depth--
		}
	}
	return nil
}

// one reads a row, which may stand for many equal ones.
func (r *odsRows) one() error {
	s := r.s
	times := max(1, s.attrInt("number-rows-repeated", 1))
	style, _ := s.attr("default-cell-style-name")
	r.line = r.styles[string(style)]
	r.row.Hidden = isHidden(s)
	r.row.Cells, r.arena, r.at = r.row.Cells[:0], r.arena[:0], r.at[:0]
	column := 0
	if !s.self {
	cells:
		for {
			t, err := s.next()
			switch {
			case err != nil:
				return err
			case t == eof:
				return s.broken("it ends within a row")
			case t == end:
				break cells
			case t == start && (s.is("table-cell") || s.is("covered-table-cell")):
				if column, err = r.cell(column); err != nil {
					return err
				}
			case t == start:
				if err := s.skip(); err != nil {
					return err
				}
			}
		}
	} else if _, err := s.next(); err != nil {
		return err
	}
	first := r.number + 1
	r.number += times
	if len(r.row.Cells) == 0 {
		return nil // blank rows, however many
	}
	if r.number > MaxRows {
		return fmt.Errorf("the sheet has more than %d rows", MaxRows)
	}
	for i := range r.row.Cells {
		r.row.Cells[i].Value = r.arena[r.at[2*i]:r.at[2*i+1]]
	}
	for n := first; n <= r.number; n++ {
		r.row.Number = n
		if err := r.f(&r.row); err != nil {
			return err
		}
	}
	return nil
}

// cell reads a cell, which may stand for many, and returns the column behind.
func (r *odsRows) cell(column int) (next int, err error) {
	s := r.s
	covered := s.is("covered-table-cell")
	times := max(1, s.attrInt("number-columns-repeated", 1))
	if !covered && (s.attrInt("number-columns-spanned", 1) > 1 || s.attrInt("number-rows-spanned", 1) > 1) {
		*r.merged++
	}
	from := len(r.arena)
	_, formula := s.attr("formula")
	isText, failed := r.value()
	shown := r.masked(column, from)
	kind, _ := s.attr("value-type")
	hundredths := string(kind) == "percentage"
	switch typed := len(r.arena) > from; {
	case !s.self:
		if err := r.paragraphs(isText && !typed); err != nil {
			return 0, err
		}
	default:
		if _, err := s.next(); err != nil {
			return 0, err
		}
	}
	next = column + times
	if len(r.arena) > longest {
		return 0, fmt.Errorf("row %d has more than %d MiB", r.number+1, longest>>20)
	}
	formula = formula && !isText && len(r.arena) == from
	if !formula && (len(r.arena) == from && !isText || covered && len(r.arena) == from) {
		return next, nil
	}
	if failed && isError(r.arena[from:]) {
		isText = false
	}
	if next > MaxColumns {
		return 0, fmt.Errorf("row %d has more than %d columns", r.number+1, MaxColumns)
	}
	for c := column; c < next; c++ {
		r.row.Cells = append(r.row.Cells, Cell{Column: c, Text: isText, Shown: shown, Unstored: formula,
			Hidden: r.unseen.has(c), Percent: hundredths})
		r.at = append(r.at, uint32(from), uint32(len(r.arena)))
	}
	return next, nil
}

// masked makes of a whole number what the style of its cell shows.
func (r *odsRows) masked(column, from int) bool {
	if len(r.styles) == 0 || len(r.arena) == from {
		return false
	}
	s := r.s
	if kind, _ := s.attr("value-type"); string(kind) != "float" {
		return false
	}
	m := r.line
	if style, is := s.attr("style-name"); is {
		m = r.styles[string(style)]
	} else if m == "" {
		m = r.columns.at(column)
	}
	if m == "" {
		return false
	}
	out, shown := m.append(nil, r.arena[from:])
	if shown {
		r.arena = append(r.arena[:from], out...)
	}
	return shown
}

// value appends what the cell's attributes say of its value (ODF 1.3, 19.385).
// isText tells that it is a text, which may stand within the cell; failed that it
// is a formula's error.
func (r *odsRows) value() (isText, failed bool) {
	s := r.s
	kind, _ := s.attr("value-type")
	switch string(kind) {
	case "":
		return false, false
	case "float", "percentage", "currency":
		v, _ := s.attr("value")
		r.arena, _ = appendNumber(r.arena, v)
	case "date":
		v, _ := s.attr("date-value")
		r.arena = append(r.arena, bytes.Replace(v, []byte("T"), []byte(" "), 1)...)
	case "time":
		v, _ := s.attr("time-value")
		r.arena = appendPeriod(r.arena, string(v))
	case "boolean":
		v, _ := s.attr("boolean-value")
		r.arena = append(r.arena, v...)
	default:
		isText = true
		if v, ok := s.attr("string-value"); ok {
			r.arena = append(r.arena, v...)
		}
	}
	// LibreOffice writes the error's text as a string, and says so beside.
	return isText, bytes.Contains(s.attrs, []byte(`calcext:value-type="error"`))
}

// paragraphs reads a cell to its end. With wanted, the text of its paragraphs is
// appended, a line break between them.
func (r *odsRows) paragraphs(wanted bool) error {
	s := r.s
	paragraphs := 0
	for depth := 1; depth > 0; {
		t, err := s.next()
		switch {
		case err != nil:
			return err
		case t == eof:
			return s.broken("it ends within a cell")
		case t == start && (s.is("annotation") || s.is("frame") || s.is("shape") || s.is("ruby-text")):
			if err := s.skip(); err != nil {
				return err
			}
		case t == start:
			if depth++; wanted {
				if s.is("p") {
					paragraphs++
				}
				r.inline(paragraphs)
			}
		case t == end:
			depth--
		case t == text && paragraphs > 0 && depth > 1 && wanted:
			r.arena = append(r.arena, s.text...)
		}
	}
	return nil
}

// inline appends what an element within a cell stands for; paragraphs is how many
// have begun.
func (r *odsRows) inline(paragraphs int) {
	s := r.s
	switch {
	case s.is("p"):
		if paragraphs > 1 {
			r.arena = append(r.arena, '\n')
		}
	case s.is("s"):
		for range min(max(1, s.attrInt("c", 1)), 1000) {
			r.arena = append(r.arena, ' ')
		}
	case s.is("tab"):
		r.arena = append(r.arena, '\t')
	case s.is("line-break"):
		r.arena = append(r.arena, '\n')
	}
}

// appendPeriod writes a duration of XML Schema, PT10H30M00.5S, as a time.
func appendPeriod(b []byte, s string) []byte {
	rest, ok := strings.CutPrefix(strings.TrimPrefix(s, "-"), "P")
	if !ok {
		return append(b, s...)
	}
	days, clock, _ := strings.Cut(rest, "T")
	total := 0.0
	for _, part := range []struct {
		text string
		unit map[byte]float64
	}{{days, map[byte]float64{'D': 86400}}, {clock, map[byte]float64{'H': 3600, 'M': 60, 'S': 1}}} {
		for t := part.text; t != ""; {
			i := strings.IndexFunc(t, func(r rune) bool { return (r < '0' || r > '9') && r != '.' && r != ',' })
			if i < 1 || part.unit[t[i]] == 0 {
				return append(b, s...)
			}
			v, err := strconv.ParseFloat(strings.Replace(t[:i], ",", ".", 1), 64)
			if err != nil {
				return append(b, s...)
			}
			total += v * part.unit[t[i]]
			t = t[i+1:]
		}
	}
	if strings.HasPrefix(s, "-") {
		total = -total
	}
	return appendDuration(b, total/86400)
}
