package source

import "ambertray/internal/source/delimited"

// A Layout says how a delimited text file is taken apart.
type Layout struct {
	// Encoding is the IANA name of the character encoding.
	Encoding string
	Form     delimited.Form
	// LineEnd is "lf", "crlf", "cr" or "crcrlf". The last two change how the file is
	// read.
	LineEnd string
	// Header is the line that the column names stand on, from 1, or 0 where
	// there is none. Lines above it are titles.
	Header int64
	// Skip is how many lines at the top are not data where there is no
	// header.
	Skip int64
	// Footer is how many records at the end are not data: totals and remarks. Of a pipe that
	// is read once it may be Found: its end is looked at when it comes.
	Footer int
	// Totals is what becomes of totals among the records: SkipTotals or KeepTotals; empty: nobody
	// has said. Typed are the columns that hold numbers and dates.
	Totals string
	Typed  []bool
	// KeepBlank takes records of delimiters only as data.
	KeepBlank bool
	// Lead is how many columns stand before those of the sender: in a file of
	// rejects that come back, the number of each.
	Lead int
	// ShortNull takes fields that are left out at the end of a record as blank.
	ShortNull bool
	// Pad fills records with blank fields up to the number of columns: in a
	// sheet, blank cells at the end of a row are not there.
	Pad bool
	// Columns are the names in the header, as they stand. Without a header
	// they are column_1, column_2 …
	Columns []string
}

// Evidence is why one decision about the layout was made.
type Evidence struct {
	What  string `json:"what"`  // encoding, delimiter, quote, header, footer …
	Value string `json:"value"` // what was decided
	Why   string `json:"why"`
	Given bool   `json:"given"` // by the caller, not found
	// Guess tells that it could well be otherwise.
	Guess bool `json:"guess,omitempty"`
}
