package source

import (
	"fmt"

	"ambertray/internal/phrase"
	"ambertray/internal/source/workbook"
)

// HasCells reports whether records are rows of a sheet, whose places are cells.
func (s *Source) HasCells() bool { return s.Sheet != "" }

// Part names what of the file the source is, or is "".
func (s *Source) Part() string {
	part := s.Member
	if s.HasCells() {
		if part != "" {
			part += ", "
		}
		part += fmt.Sprintf("sheet %q", s.Sheet)
		if s.Range != workbook.All {
			part += " " + s.Range.String()
		}
	}
	return part
}

// FullName is the name of a source: its file, and what of that it is.
func (s *Source) FullName() string {
	name := s.Path
	if s.Member != "" {
		name += ", " + s.Member
	}
	if s.HasCells() {
		name += fmt.Sprintf(", sheet %q", s.Sheet)
	}
	return name
}

// Place is where a field is: its line, or the cell of a sheet. A field below 0
// is the whole record.
func (s *Source) Place(line int64, field int) string {
	if !s.HasCells() {
		return "line " + phrase.Grouped(line)
	}
	if field < 0 {
		return fmt.Sprintf("row %d", line)
	}
	return s.Cell(line, field)
}

// Cell is the name of a cell, or "" where there are no sheets.
func (s *Source) Cell(line int64, field int) string {
	if !s.HasCells() || field < 0 {
		return ""
	}
	return fmt.Sprintf("%s%d", workbook.ColumnName(s.firstColumn+field), line)
}
