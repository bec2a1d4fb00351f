// Package source opens what records come from and finds out how it is
// written.
//
// The model: a [Source] is a file with a [Layout], which says all that is
// needed to take it apart: encoding, delimiter, quotes, where the header is
// and what is not data. [Open] decides the layout from the beginning of the
// file, keeps its [Evidence] for every decision, and takes whatever the
// caller already knows as given. [Source.Read] then yields the data as chunks
// of UTF-8, any number of times.
//
// Every line of a file is accounted for: it belongs to the header, to a
// record, or to one of the [Kind]s that are skipped and counted.
package source

import (
	"strings"
	"time"

	"ambertray/internal/phrase"
	"ambertray/internal/source/workbook"
)

// A Source is one file of records.
type Source struct {
	// Name is the path as given.
	Name string
	// Path is where the bytes are.
	Path     string
	Size     int64 // bytes of text
	Modified time.Time
	print    *fingerprint // of what was looked at: what is loaded has to be the same
	// FileSize is that of the file itself, which may be packed.
	FileSize int64
	// Base is the file's name where Path is no path: that of a link's answer.
	Base string
	// Member is the one of an archive, Sheet and Range of a workbook.
	Member    string
	Sheet     string
	Range     workbook.Range
	LoneSheet bool  // of its workbook
	Merged    int64 // ranges of cells that are merged
	Links     int   // other workbooks that its formulas refer to
	// Shown are the cells that are read as their number format shows them, and
	// Unstored those with a formula and no result, by their columns.
	Shown, Unstored map[int]*CellCount
	// Percent are those that are shown as percentages.
	Percent map[int]*CellCount
	// Unseen are cells in columns that a person does not see; UnseenRows are rows, and
	// LeftRows those of them that were left out.
	Unseen               map[int]*CellCount
	UnseenRows, LeftRows *CellCount
	visible              bool // they are left out
	// BelowRows is how many rows stand right below the range that was read, and BelowRange the
	// first of them.
	BelowRows  int
	BelowRange Line
	Layout     Layout
	Evidence   []Evidence
	// Others are the sheets or members with data that were there and not taken,
	// where nobody asked for several.
	Others []string
	// Asked are the patterns that the source was found by.
	Asked Asked
	// Titles are the lines above the header, or above the records where there is none; Footers are
	// those at the end that are no records. MaybeFooters look like some, and are taken as records.
	Titles, Footers, MaybeFooters []Line
	// HeaderRuler tells that a ruler line stands under the header.
	HeaderRuler bool
	// Undecided is what has to be decided before anything can be loaded, or nil.
	Undecided *Undecided
	// Stray is a character that may separate fields, in a text that is taken as one of a
	// single column; empty: there is none.
	Stray string
	// Possible are encodings that are as likely as the one taken; empty if none is.
	Possible []Possible
	// Mixed is an encoding in which all of a text that is UTF-8 only in part can be read.
	Mixed string
	// Doubt is set where the header was assumed, not recognised.
	Doubt string

	MaxRecord int // bytes; 0 means delimited.DefaultMaxRecord

	flow        *flow  // the rest of a pipe, or nil
	spool       *spool // its text, unpacked; nil: the file itself
	firstColumn int    // of a sheet, that holds something
	unpacked    int64  // bound
	sum         string // of the file itself, if it is packed
	stamp       string // of the file when it was opened, if it is read in place

	// own tells that the text is of our own form: a sheet, as we have written it.
	own bool

	// FooterLost tells that a footer was to be found by its words, and that there is none.
	FooterLost bool
	// byNames tells that the header would be found by its names.
	byNames bool
	// exactHeader, exactSkip and exactFooter tell that a plan says which line, and how many, or that
	// they would not be found by what they are.
	exactHeader, exactSkip, exactFooter bool
	// noFooter tells that a person has said that there is none.
	noFooter bool
	cutTail  bool // the lines at the end that were looked at do not begin with the first record

	ruled     int64 // the line of the header, where a ruler tells
	by        string
	start     int64 // bytes of decoded text before the first record of data
	startLine int64
}

// A Line of a source that is no record.
type Line struct {
	Number int64 // in the text, from 1; 0: it was not counted
	Raw    string
	Fields []string
}

// Found stands for a header, titles or footers that are found by what they are, in [Known].
const Found = -1

// ExactFooter reports whether it was said how many records at the end are footers.
func (s *Source) ExactFooter() bool { return s.exactFooter }

// Asked are patterns that a source is one of the answers to; each may be empty.
type Asked struct{ File, Sheet, Member string }

// IsPattern reports whether a name stands for all names that are like it.
func IsPattern(name string) bool { return strings.ContainsAny(name, "*?[") }

// ManySheets reports whether a name stands for several sheets of a workbook.
func ManySheets(name string) bool { return name == allSheets || IsPattern(name) }

// Possible is an encoding that a text may be in, and how a line of it reads then.
type Possible struct{ Encoding, Text string }

// An Undecided form is one that the evidence does not decide.
type Undecided struct{ What, Do string }

// FileBytes is the size of the files that sources are in, each once.
func FileBytes(sources []*Source) (n int64) {
	seen := map[string]bool{}
	for _, s := range sources {
		if !seen[s.Path] {
			n += s.FileSize
		}
		seen[s.Path] = true
	}
	return n
}

// NamedTogether is what several sources are called: the first by its name, and how many others
// there are, by their paths.
func NamedTogether(first string, paths []string) string {
	if len(paths) < 2 {
		return first
	}
	other := "other file"
	if paths[1] == paths[0] {
		other = "other sheet"
	}
	return first + " and " + phrase.Count(int64(len(paths)-1), other)
}
