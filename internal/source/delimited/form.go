// Package delimited splits text into records and fields.
//
// The model is that of RFC 4180, widened to what people really send:
//
//   - A record ends at a line feed, or at a carriage return and line feed.
//     Inside quotes both belong to the field.
//   - Fields are separated by one delimiter, any single character.
//   - A field that begins with the quote is quoted up to the closing quote.
//     Inside it a quote is written twice, or behind an escape character.
//   - A quote anywhere else is an ordinary character: 5" pipe is a value.
//   - What follows a closing quote before the next delimiter is a fault of
//     that record, never silently joined or dropped.
//
// The work is in two steps, so that it can run on several processors. A
// [Chunker] cuts the stream at record ends, in order and quickly; it only
// follows quotes. A [Splitter] takes one chunk apart; any number of them work
// side by side. Both follow the same rules, so a chunk never starts inside a
// record.
//
// The package knows nothing of headers, blank lines or types, and expects
// UTF-8; see package source for both.
package delimited

import (
	"fmt"
	"unicode/utf8"
)

// Form says how a text is delimited. The zero Form is not valid; start from
// [DefaultForm].
type Form struct {
	// Delimiter separates fields: exactly one character, of one to four bytes,
	// neither a line break nor the quote. Empty means that a record is one
	// field.
	Delimiter string
	// Quote opens and closes a quoted field. 0 means that no character does.
	Quote byte
	// Escape, inside a quoted field, takes its meaning from a quote or escape
	// that follows; outside quotes also from a delimiter. Before any other
	// character it is an ordinary one. 0 means that quotes are doubled.
	Escape byte
	// Breaks, inside a quoted field, stands for a line break. 0 means that no
	// character does. It is for texts that we have written ourselves.
	Breaks byte
	// Blanks tells that runs of blanks and tabs separate fields, and that those at the
	// ends of a line do not count. Delimiter is a blank then, and a quoted field ends
	// on its line.
	Blanks bool
	// Comment begins lines that are no records; empty: there are none.
	Comment string
	// Starts, if not nil, are the characters of a line, from 0, at which its fields
	// start; the last one goes to the end of the line. Then nothing separates or
	// quotes fields, and blanks around them do not count. A line that is too short
	// has blank fields at its end.
	Starts []int
	// Apart, where fields have Starts, tells that columns are blank before each of
	// them. A line that is not is faulty.
	Apart bool
	// Marked tells that fields which a spreadsheet would take for formulas have an
	// apostrophe before them, which is no part of them.
	Marked bool
}

// DefaultForm is that of RFC 4180: commas, double quotes, quotes doubled.
var DefaultForm = Form{Delimiter: ",", Quote: '"'}

// Validate says what is wrong with the form, or nil.
func (f Form) Validate() error {
	for i, at := range f.Starts {
		if at < 0 || i > 0 && at <= f.Starts[i-1] {
			return fmt.Errorf("a column starts at character %d, and the one before it at %d", at, f.Starts[max(i-1, 0)])
		}
	}
	if f.Delimiter != "" {
		r, n := utf8.DecodeRuneInString(f.Delimiter)
		if n != len(f.Delimiter) || r == utf8.RuneError {
			return fmt.Errorf("delimiter %q: must be exactly one character", f.Delimiter)
		}
		if r == '\n' || r == '\r' || r == 0 {
			return fmt.Errorf("delimiter %q: a line break or NUL cannot separate fields", f.Delimiter)
		}
	}
	if f.Quote >= utf8.RuneSelf || f.Escape >= utf8.RuneSelf {
		return fmt.Errorf("quote and escape must be ASCII characters")
	}
	if f.Quote == '\n' || f.Quote == '\r' || f.Escape == '\n' || f.Escape == '\r' {
		return fmt.Errorf("a line break cannot be a quote or escape character")
	}
	if f.Quote != 0 && f.Delimiter == string(rune(f.Quote)) {
		return fmt.Errorf("delimiter and quote are both %q", f.Delimiter)
	}
	if f.Escape != 0 && f.Delimiter == string(rune(f.Escape)) {
		return fmt.Errorf("delimiter and escape are both %q", f.Delimiter)
	}
	return nil
}

// escapes reports whether quotes are escaped with a character of its own.
func (f Form) escapes() bool { return f.Escape != 0 && f.Escape != f.Quote }

// A Fault is what makes a record unreadable as a whole.
type Fault uint8

const (
	// NoFault: the record reads cleanly.
	NoFault Fault = iota
	// AfterQuote: text follows a closing quote before the next delimiter.
	AfterQuote
	// Unclosed: a quote was opened and the text ended before it was closed.
	Unclosed
	// BadEncoding: a byte does not decode in the source's encoding.
	BadEncoding
	// OverEdge: text stands where the columns of a text of fixed columns are apart.
	OverEdge
	// NulByte: the record contains a NUL byte, which no table can hold as text.
	NulByte
	kinds // how many there are
)

// Faults are all of them but NoFault.
func Faults() (list []Fault) {
	for f := NoFault + 1; f < kinds; f++ {
		list = append(list, f)
	}
	return
}

// Code names the fault, for programs.
func (f Fault) Code() string {
	return [kinds]string{NoFault: "no-fault", AfterQuote: "after-quote", Unclosed: "unclosed-quote",
		BadEncoding: "bad-encoding", OverEdge: "over-edge",
		NulByte: "nul-byte"}[f]
}

// String is the fault as a reject's reason.
func (f Fault) String() string {
	switch f {
	case NoFault:
		return "no fault"
	case AfterQuote:
		return "text follows the closing quote"
	case Unclosed:
		return "the quote is never closed"
	case BadEncoding:
		return "a byte does not decode"
	case OverEdge:
		return "text runs over the edge of a column"
	case NulByte:
		return "contains a NUL byte"
	}
	return fmt.Sprintf("fault %d", uint8(f))
}
