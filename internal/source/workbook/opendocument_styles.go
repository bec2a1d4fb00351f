package workbook

import (
	"bytes"
	"io"
	"slices"
	"strings"
)

// isFlat reports whether a file that begins like this is a spreadsheet in one XML file
// (ODF 1.3 part 3, 3.1.2: office:document).
func isFlat(head []byte) bool {
	head = bytes.TrimPrefix(head, []byte("\xef\xbb\xbf"))
	return bytes.HasPrefix(head, []byte("<")) && bytes.Contains(head, []byte("office:document ")) &&
		bytes.Contains(head, []byte("opendocument.spreadsheet"))
}

// IsFlat reports whether a file is a spreadsheet in one XML file.
func IsFlat(r io.ReaderAt, size int64) (bool, error) {
	head := make([]byte, min(size, 4096))
	n, err := r.ReadAt(head, 0)
	if err == io.EOF {
		err = nil
	}
	return isFlat(head[:n]), err
}

// odsStyles are the styles of cells, as far as they show whole numbers with leading zeros.
type odsStyles struct {
	numbers map[string]mask   // data styles (16.29)
	cells   map[string]mask   // styles of cells
	data    map[string]string // the data styles of styles of cells, until all are known
	parents map[string]string
}

// read takes a style that has just begun (ODF 1.3 part 3, 16.2, 16.29).
func (o *odsStyles) read(s *scanner) error {
	attr, _ := s.attr("name")
	name := string(attr)
	if s.is("style") {
		if family, _ := s.attr("family"); string(family) == "table-cell" {
			of, _ := s.attr("data-style-name")
			o.data[name] = string(of)
			of, _ = s.attr("parent-style-name")
			o.parents[name] = string(of)
		}
		return nil
	}
	if s.self {
		return nil
	}
	m, err := numberStyle(s)
	if err == nil && m != "" {
		o.numbers[name] = m
	}
	return err
}

// numberStyle reads a style of numbers as the format code that says the same.
func numberStyle(s *scanner) (mask, error) {
	var code strings.Builder
	texts := map[int]string{} // within, by how many digits are behind
	digits, position := 0, 0
	in, behind := false, false // a text; the number
	for depth := 1; depth > 0; {
		t, err := s.next()
		switch {
		case err != nil:
			return "", err
		case t == eof:
			return "", s.broken("it ends within a style")
		case t == end:
			depth--
			in = false
		case t == text && in && position > 0:
			texts[position] += string(s.text)
		case t == text && in:
			if behind {
				return "", s.toEnd(depth)
			}
			code.WriteString(`"` + strings.ReplaceAll(string(s.text), `"`, "") + `"`)
		case t == start:
			depth++
			switch {
			case s.is("number"):
				group, _ := s.attr("grouping")
				if s.attrInt("decimal-places", 0) > 0 || string(group) == "true" || digits > 0 {
					return "", s.toEnd(depth)
				}
				digits, behind = min(s.attrInt("min-integer-digits", 0), 30), true
			case s.is("embedded-text"):
				position, in = s.attrInt("position", 0), true
			case s.is("text"):
				position, in = 0, true
			default: // a fraction, an exponent, a currency
				return "", s.toEnd(depth)
			}
		}
	}
	for i := digits; i > 0; i-- {
		if t, is := texts[i]; is && i < digits {
			code.WriteString(`"` + strings.ReplaceAll(t, `"`, "") + `"`)
		}
		code.WriteByte('0')
	}
	return maskOf(code.String()), nil
}

// settle finds the mask of each style of cells, when all are known.
func (o *odsStyles) settle() {
	for name := range o.data {
		at := name
		for range 8 { // what is derived from what
			if m := o.numbers[o.data[at]]; m != "" {
				o.cells[name] = m
			}
			if o.data[at] != "" || o.parents[at] == "" {
				break
			}
			at = o.parents[at]
		}
	}
	o.data, o.parents = nil, nil
}

// columnStyles are those that the columns of a sheet give their cells.
type columnStyles struct {
	ends  []int // each up to a column
	masks []mask
}

// end is the column behind all.
func (c *columnStyles) end() int {
	if n := len(c.ends); n > 0 {
		return c.ends[n-1]
	}
	return 0
}

// add adds some columns.
func (c *columnStyles) add(m mask, times int) {
	last := c.end()
	if len(c.ends) < MaxColumns {
		c.ends, c.masks = append(c.ends, last+min(times, MaxColumns)), append(c.masks, m)
	}
}

// at is the one of a column.
func (c *columnStyles) at(column int) mask {
	i, is := slices.BinarySearch(c.ends, column+1)
	if i == len(c.ends) && !is {
		return ""
	}
	return c.masks[i]
}
