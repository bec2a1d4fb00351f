package workbook

import (
	"bytes"
	"context"
	"fmt"
	"path"
	"strconv"
	"strings"
)

// ooxml is an Office Open XML workbook (ECMA-376 part 1, chapter 18). Of a part,
// the elements of the namespace of its first one count, whichever that is: so the
// strict and the transitional form are read alike, and what other namespaces add is
// passed over.
type ooxml struct {
	rels map[string]string // of the main part, by their ids
	*parts
	formats  // of cellXfs
	shared   shared
	sharedAt string // the part; "" if there is none
	loaded   bool
}

func openOOXML(p *parts) (*Book, error) {
	x := &ooxml{parts: p}
	main := "xl/workbook.xml"
	if to, err := x.related("", "officeDocument"); err != nil {
		return nil, err
	} else if len(to) == 1 {
		for _, t := range to {
			main = t
		}
	}
	if !x.has(main) || !strings.Contains(strings.ToLower(main), "workbook") {
		return nil, nil // a document of another kind
	}
	if strings.HasSuffix(strings.ToLower(main), ".bin") {
		return openXLSB(x, main)
	}
	var err error
	if x.rels, err = x.related(main, ""); err != nil {
		return nil, err
	}
	b := &Book{Kind: "an Office Open XML workbook"}
	links, err := x.related(main, "externalLink")
	if err != nil {
		return nil, err
	}
	b.Links = len(links)
	at, err := x.list(main, b)
	if err != nil {
		return nil, err
	}
	if len(b.Sheets) == 0 {
		return nil, fmt.Errorf("the workbook has no sheets")
	}
	for i, part := range at {
		pivots, err := x.related(part, "pivotTable")
		if err != nil {
			return nil, err
		}
		b.Sheets[i].Pivots = len(pivots)
		if err := x.tables(b, b.Sheets[i].Name, part); err != nil {
			return nil, err
		}
	}
	for _, to := range x.rels {
		switch {
		case strings.HasSuffix(strings.ToLower(to), "styles.xml"):
			if err := x.readStyles(to); err != nil {
				return nil, err
			}
		case strings.HasSuffix(strings.ToLower(to), "sharedstrings.xml"):
			x.sharedAt = to
		}
	}
	return b, nil
}

// list reads the sheets and names of a workbook's main part (ECMA-376, 18.2), and
// returns the part of each sheet.
func (x *ooxml) list(main string, b *Book) (at []string, err error) {
	s, err := x.open(main)
	if err != nil {
		return nil, err
	}
	defer s.close()
	return at, s.each(func() error {
		switch string(s.name) {
		case "workbookPr":
			x.first1904 = s.attrTrue("date1904")
		case "sheet":
			if part := x.sheet(s, b); part != "" {
				at = append(at, part)
			}
		case "definedName":
			return definedName(s, b)
		}
		return nil
	}, "workbookPr", "sheet", "definedName")
}

// sheet adds the sheet that an element names, and returns its part, or nothing: a
// chart, or a dialogue.
func (x *ooxml) sheet(s *scanner, b *Book) (part string) {
	id, _ := s.attr("id") // r:id
	name, _ := s.attr("name")
	if part = x.rels[string(id)]; part == "" || !strings.Contains(strings.ToLower(part), "worksheet") {
		b.Others = append(b.Others, Other{string(name), otherKind(part)})
		return ""
	}
	state, _ := s.attr("state")
	tab := Sheet{Name: string(name), Hidden: string(state) == "hidden" || string(state) == "veryHidden",
		Kept: string(state) == "veryHidden"}
	tab.read(func(ctx context.Context, row func(*Row) error, merged *int64) error {
		return x.rows(ctx, part, row, merged)
	})
	b.Sheets = append(b.Sheets, tab)
	return part
}

// definedName adds a range that has a name, but those of the program's own.
func definedName(s *scanner, b *Book) error {
	attr, _ := s.attr("name")
	name := string(attr)
	if s.self {
		return nil
	}
	t, err := s.next()
	if err != nil || t != text {
		return err
	}
	if sheet, r, ok := ParseReference(string(s.text)); ok && !strings.HasPrefix(name, "_xlnm.") {
		b.Names = append(b.Names, Name{name, sheet, r})
	}
	return nil
}

// related reads the relations of a part: the parts by their id, or only those
// of a kind.
func (x *ooxml) related(part, kind string) (map[string]string, error) {
	dir, file := path.Split(part)
	name := dir + "_rels/" + file + ".rels"
	out := map[string]string{}
	if !x.has(name) {
		return out, nil
	}
	s, err := x.open(name)
	if err != nil {
		return nil, err
	}
	defer s.close()
	err = s.each(func() error {
		id, _ := s.attr("Id")
		key := string(id)
		typ, _ := s.attr("Type")
		if kind != "" && !strings.HasSuffix(string(typ), "/"+kind) {
			return nil
		}
		if mode, _ := s.attr("TargetMode"); string(mode) == "External" {
			return nil
		}
		to, _ := s.attr("Target")
		t := string(to)
		if !strings.HasPrefix(t, "/") {
			t = dir + t
		}
		out[key] = strings.TrimPrefix(path.Clean("/"+t), "/")
		return nil
	}, "Relationship")
	return out, err
}

// tables adds the tables of a sheet to the names.
func (x *ooxml) tables(b *Book, sheet, part string) error {
	rels, err := x.related(part, "table")
	if err != nil {
		return err
	}
	for _, to := range rels {
		if !x.has(to) {
			continue
		}
		s, err := x.open(to)
		if err != nil {
			return err
		}
		err = s.each(func() error {
			name, ok := s.attr("displayName")
			n := string(name)
			if !ok {
				name, _ = s.attr("name")
				n = string(name)
			}
			ref, _ := s.attr("ref")
			if r, err := ParseRange(string(ref)); err == nil && n != "" {
				b.Names = append(b.Names, Name{n, sheet, r})
			}
			return nil
		}, "table")
		s.close()
		if err != nil {
			return err
		}
	}
	return nil
}

// ParseReference reads Sheet1!$A$5:$H$200 or 'The tolls'!A5:H200.
func ParseReference(ref string) (sheet string, r Range, ok bool) {
	i := strings.LastIndexByte(ref, '!')
	if i < 0 {
		return "", All, false
	}
	sheet = ref[:i]
	if len(sheet) > 1 && sheet[0] == '\'' && sheet[len(sheet)-1] == '\'' {
		sheet = strings.ReplaceAll(sheet[1:len(sheet)-1], "''", "'")
	}
	r, err := ParseRange(ref[i+1:])
	return sheet, r, err == nil
}

func (x *ooxml) readStyles(part string) error {
	if !x.has(part) {
		return nil
	}
	s, err := x.open(part)
	if err != nil {
		return err
	}
	defer s.close()
	codes := map[int]string{}
	in := false
	for {
		t, err := s.next()
		if err != nil {
			return err
		}
		switch {
		case t == eof:
			return nil
		case t == start && s.is("numFmt"):
			id := s.attrInt("numFmtId", -1)
			code, _ := s.attr("formatCode")
			codes[id] = string(code)
		case s.is("cellXfs"):
			in = t == start && !s.self
		case t == start && in && s.is("xf"):
			id := s.attrInt("numFmtId", 0)
			code, own := codes[id]
			if x.add(id, code, own); len(x.styles) > 1<<20 {
				return fmt.Errorf("the workbook has too many styles")
			}
		}
	}
}

// shared are the shared texts, in parts of [sharedPart], so that they can grow without
// being there twice.
type shared struct {
	parts []sharedTexts
	size  int // bytes, with where texts end
}

// sharedPart is how many texts a part has.
const sharedPart = 4096

// sharedTexts are texts, end to end, with where each ends.
type sharedTexts struct {
	data []byte
	ends []uint32
}

func (t *shared) get(i int) ([]byte, bool) {
	if i < 0 || i/sharedPart >= len(t.parts) {
		return nil, false
	}
	p := &t.parts[i/sharedPart]
	if i %= sharedPart; i >= len(p.ends) {
		return nil, false
	}
	from := uint32(0)
	if i > 0 {
		from = p.ends[i-1]
	}
	return p.data[from:p.ends[i]], true
}

// next is the part that takes another text.
func (t *shared) next() *sharedTexts {
	if n := len(t.parts); n > 0 && len(t.parts[n-1].ends) < sharedPart {
		return &t.parts[n-1]
	}
	t.parts = append(t.parts, sharedTexts{})
	return &t.parts[len(t.parts)-1]
}

// add adds a text, which to appends.
func (t *shared) add(to func([]byte) ([]byte, error)) error {
	p := t.next()
	had := len(p.data)
	b, err := to(p.data)
	p.data, p.ends = b, append(p.ends, uint32(len(b)))
	if t.size += len(b) - had + 4; t.size > maxShared {
		return fmt.Errorf("the shared texts take more than %d MiB", maxShared>>20)
	}
	return err
}

func (x *ooxml) loadShared() error {
	if x.loaded || x.sharedAt == "" || !x.has(x.sharedAt) {
		return nil
	}
	s, err := x.open(x.sharedAt)
	if err != nil {
		return err
	}
	defer s.close()
	x.shared = shared{}
	err = s.each(func() error { return x.shared.add(s.richText) }, "si")
	x.loaded = err == nil
	return err
}

// richText appends the text of an si or is element that has just begun: its
// runs joined, phonetic hints left out.
func (s *scanner) richText(b []byte) ([]byte, error) {
	inText := false
	for depth := 1; depth > 0; {
		t, err := s.next()
		switch {
		case err != nil:
			return b, err
		case t == eof:
			return b, s.broken("it ends within a text")
		case t == start && (s.is("rPh") || s.is("phoneticPr")):
			if err := s.skip(); err != nil {
				return b, err
			}
		case t == start:
			depth++
			inText = s.is("t")
		case t == end:
			depth--
			inText = false
		case t == text && inText:
			b = appendEscaped(b, s.text)
		}
	}
	return b, nil
}

// appendEscaped appends text with the escapes _x000D_ that stand for
// characters which XML cannot have (22.9.2.19).
func appendEscaped(b, t []byte) []byte {
	for {
		i := bytes.Index(t, []byte("_x"))
		if i < 0 || i+7 > len(t) || t[i+6] != '_' {
			if i >= 0 {
				b, t = append(b, t[:i+2]...), t[i+2:]
				continue
			}
			return append(b, t...)
		}
		v, err := strconv.ParseUint(string(t[i+2:i+6]), 16, 16)
		if err != nil {
			b, t = append(b, t[:i+2]...), t[i+2:]
			continue
		}
		b = append(b, t[:i]...)
		switch {
		case v == '\r': // of a line break written as two characters
		case v < 0x20 && v != '\t' && v != '\n':
			b = append(b, "\ufffd"...)
		default:
			b = append(b, string(rune(v))...)
		}
		t = t[i+7:]
	}
}

// rows streams one sheet.
//
// It is long because it runs for every cell, and keeps what it knows of the row in
// registers.
func (x *ooxml) rows(ctx context.Context, part string, f func(*Row) error, merged *int64) error {
	if err := x.loadShared(); err != nil {
		return err
	}
	s, err := x.open(part)
	if err != nil {
		return err
	}
	defer s.close()
	row := &Row{}
	var arena []byte // values of the row at hand
	var at []uint32  // from and to in it, of each cell
	last, column := 0, -1
	inData := false
	var unseen hiddenColumns
	emit := func() error {
		if len(row.Cells) == 0 {
			return nil
		}
		for i := range row.Cells {
			row.Cells[i].Value = arena[at[2*i]:at[2*i+1]]
		}
		return f(row)
	}
	for {
		t, err := s.next()
		if err != nil {
			return err
		}
		if t == eof {
			if inData {
				err = s.broken("it ends within a sheet")
			}
			return err
		}
		if t == start && !inData {
			switch {
			case s.is("sheetData"):
				inData = true
			case s.is("mergeCell"):
				*merged++
			case s.is("col") && s.attrTrue("hidden"):
				unseen.add(s.attrInt("min", 0)-1, s.attrInt("max", 0)-1)
			}
			continue
		}
		if !inData {
			continue
		}
		switch {
		case t == start && s.is("row"):
			n := s.attrInt("r", last+1)
			if n <= last || n > MaxRows {
				return fmt.Errorf("row %d follows row %d", n, last)
			}
			last, column = n, -1
			row.Hidden = s.attrTrue("hidden")
			row.Number, row.Cells, arena, at = n, row.Cells[:0], arena[:0], at[:0]
			if n&0xfff == 0 && ctx.Err() != nil {
				return ctx.Err()
			}
		case t == end && s.is("row"):
			if err := emit(); err != nil {
				return err
			}
		case t == end && s.is("sheetData"):
			inData = false
		case t == start && s.is("c"):
			c := column + 1
			if ref, ok := s.attr("r"); ok {
				var r int
				if c, r, ok = cellAt(ref); !ok || r != last {
					return fmt.Errorf("row %d has a cell %q", last, ref)
				}
			}
			if c <= column || c >= MaxColumns {
				return fmt.Errorf("row %d: the cell %s is out of order", last, ColumnName(c)+strconv.Itoa(last))
			}
			column = c
			from := len(arena)
			cell := Cell{Column: c, Hidden: unseen.has(c)}
			if arena, err = x.cell(s, arena, &cell); err != nil {
				return fmt.Errorf("cell %s%d: %w", ColumnName(c), last, err)
			}
			if cell.Unstored = cell.Unstored && len(arena) == from; len(arena) > from || cell.Text || cell.Unstored {
				row.Cells = append(row.Cells, cell)
				at = append(at, uint32(from), uint32(len(arena)))
			}
			if len(arena) > longest {
				return fmt.Errorf("row %d has more than %d MiB", last, longest>>20)
			}
		}
	}
}

// cellAt reads a reference like C17.
func cellAt(ref []byte) (column, row int, ok bool) {
	column = -1
	i := 0
	for ; i < len(ref) && i < 4 && ref[i] >= 'A' && ref[i] <= 'Z'; i++ {
		column = (column+1)*26 + int(ref[i]-'A')
	}
	if i == 0 || i == len(ref) || len(ref)-i > 7 {
		return 0, 0, false
	}
	for ; i < len(ref); i++ {
		d := ref[i] - '0'
		if d > 9 {
			return 0, 0, false
		}
		row = row*10 + int(d)
	}
	return column, row, true
}

// cell appends the value of a c element that has just begun, and says of c what
// kind of value it is. Unstored it tells of a formula; whether it has a value, the
// caller sees.
//
// It is long because it runs for every cell, in one loop over what the cell has.
func (x *ooxml) cell(s *scanner, b []byte, c *Cell) (_ []byte, err error) {
	var kind byte // the first letter of t, but 'i' for inlineStr and 'f' for a formula's text
	if t, ok := s.attr("t"); ok && len(t) > 0 {
		switch string(t) {
		case "s":
			kind = 's'
		case "str":
			kind = 'f'
		case "inlineStr":
			kind = 'i'
		case "b", "e", "d":
			kind = t[0]
		}
	}
	st, m := plain, mask("")
	if n := s.attrInt("s", -1); n >= 0 && n < len(x.styles) {
		st, m = x.styles[n], x.masks[n]
	}
	if s.self {
		_, err = s.next()
		return b, err
	}
	for {
		t, err := s.next()
		switch {
		case err != nil:
			return b, err
		case t == eof:
			return b, s.broken("it ends within a cell")
		case t == end: // of c
			return b, nil
		case t == start && s.is("is"):
			if b, err = s.richText(b); err != nil {
				return b, err
			}
			c.Text = true
		case t == start && s.is("v"):
			if s.self {
				if _, err := s.next(); err != nil {
					return b, err
				}
				continue
			}
			var v []byte
			t, err := s.next()
			if err != nil {
				return b, err
			}
			if t == text {
				v = s.text
			}
			if kind == 0 && m != "" {
				b, c.Shown = m.append(b, bytes.TrimSpace(v))
			}
			c.Percent = kind == 0 && st == percent
			if !c.Shown {
				if b, c.Text, err = x.value(b, v, kind, st); err != nil {
					return b, err
				}
			}
			for t != end { // of v
				if t, err = s.next(); err == nil && t == eof {
					err = s.broken("it ends within a cell")
				}
				if err != nil {
					return b, err
				}
			}
		case t == start: // a formula, or an extension
			c.Unstored = c.Unstored || s.is("f")
			if err := s.skip(); err != nil {
				return b, err
			}
		}
	}
}

func (x *ooxml) value(b, v []byte, kind byte, st style) (_ []byte, isText bool, err error) {
	switch kind {
	case 's':
		i, err := strconv.Atoi(string(bytes.TrimSpace(v)))
		if err != nil {
			return b, true, fmt.Errorf("%q is no number of a shared text", v)
		}
		t, ok := x.shared.get(i)
		if !ok {
			return b, true, fmt.Errorf("there is no shared text %d", i)
		}
		return append(b, t...), true, nil
	case 'f':
		return appendEscaped(b, v), true, nil
	case 'i':
		return b, true, nil
	case 'b':
		if string(v) == "1" || string(v) == "true" {
			return append(b, "true"...), false, nil
		}
		return append(b, "false"...), false, nil
	case 'e':
		return append(b, v...), false, nil
	case 'd':
		return append(b, bytes.Replace(bytes.TrimSuffix(v, []byte("Z")), []byte("T"), []byte(" "), 1)...), false, nil
	}
	v = bytes.TrimSpace(v)
	if len(v) == 0 {
		return b, false, nil
	}
	switch st { // others: numbers, and text that holds one
	case date, clock, dateTime, duration:
		b, _ = appendDate(b, v, st, x.first1904)
	default:
		b, _ = appendNumber(b, v)
	}
	return b, false, nil
}
