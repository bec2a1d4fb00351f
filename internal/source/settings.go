package source

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"ambertray/internal/source/workbook"
)

// A Setting is one thing that can be said of how a source is written. Everything
// about it stands here: plans, options, evidence and help are made from it.
type Setting struct {
	// Key is its name in plans, and in the evidence.
	Key string
	// Help says what it is, for --help.
	Help string
	// Number tells that its values are whole numbers.
	Number bool
	// Switch tells that it is yes where it is said without a value.
	Switch bool
	// Given, if not nil, says it in the words of a page: the field's value.
	Words func(value string) string

	option string // on the command line, where that is not Key
	needs  string // what a source is not where the setting cannot be given
	put    func(k *Known, value string) error
	given  func(k *Known) bool
	show   func(s *Source) (value string, is bool)
}

// Option is its name on the command line.
func (s *Setting) Option() string {
	if s.option != "" {
		return s.option
	}
	return s.Key
}

// Chooses reports whether it chooses a part of a file.
func (s *Setting) Chooses() bool { return s.needs != "" }

// Put takes a value, as a person wrote it, into what is known. The error says
// which values there are.
func (s *Setting) Put(k *Known, value string) error { return s.put(k, value) }

// Of is the value that a source was opened with, if a plan has to say it.
func (s *Setting) Of(src *Source) (value string, is bool) { return s.show(src) }

// Settings are all of them, in the order in which plans write them.
var Settings = []*Setting{
	{Key: "member", Help: "member of a zip archive, by name or pattern",
		needs: "no zip archive, so that it has no members",
		put:   func(k *Known, v string) error { k.Member = v; return nil },
		given: func(k *Known) bool { return k.Member != "" },
		show:  func(s *Source) (string, bool) { return s.Member, s.Member != "" }},
	{Key: "sheet", Help: "sheet of a workbook, by name or number; all, or a pattern, for several",
		needs: "no workbook, so that it has no sheets",
		put:   func(k *Known, v string) error { k.Sheet = v; return nil },
		given: func(k *Known) bool { return k.Sheet != "" },
		show:  func(s *Source) (string, bool) { return s.Sheet, s.Sheet != "" }},
	{Key: "range", Help: "cells of a sheet, like A5:H200, or a named range or table",
		Words: func(v string) string { return "cells " + v },
		needs: "no workbook, so that it has no cells",
		put:   func(k *Known, v string) error { k.Range = v; return nil },
		given: func(k *Known) bool { return k.Range != "" },
		show: func(s *Source) (string, bool) {
			return s.Range.String(), s.HasCells() && s.Range != workbook.All
		}},
	{Key: "visible", Switch: true, Help: "leave out rows and columns of a sheet that are hidden or filtered out",
		Words: func(string) string { return "without what is hidden" },
		needs: "no workbook, so that nothing is hidden",
		put: func(k *Known, v string) error {
			yes, err := either(v, "no", "yes")
			if err == nil {
				k.Visible = *yes
			}
			return err
		},
		given: func(k *Known) bool { return k.Visible },
		show:  func(s *Source) (string, bool) { return "yes", s.visible }},
	{Key: "encoding", Help: "character encoding, as its IANA name: utf-8, utf-16le, windows-1252, iso-8859-15 …",
		Words: func(v string) string { return v },
		put:   func(k *Known, v string) error { k.Encoding = v; return nil },
		show:  func(s *Source) (string, bool) { return s.Layout.Encoding, !s.own }},
	{Key: "delimiter",
		Help:  "what separates fields: a character, or comma, tab, pipe, semicolon, space, blanks (runs of them), none",
		Words: func(v string) string { return strconv.Quote(v) + " between fields" },
		put:   func(k *Known, v string) error { d := ParseDelimiter(v); k.Delimiter = &d; return nil },
		show: func(s *Source) (string, bool) {
			return formDelimiter(s.Layout.Form), !s.own && s.Layout.Form.Starts == nil
		}},
	{Key: "quote", Help: "what quotes fields: a character, or double, single, none",
		put: func(k *Known, v string) error {
			q, err := ParseQuote(v)
			k.Quote = &q
			return allowed(err, "use a character, or double, single or none")
		},
		show: func(s *Source) (string, bool) {
			return QuoteName(s.Layout.Form.Quote), !s.own && s.Layout.Form.Starts == nil
		}},
	{Key: "escape", Help: "how quotes are written inside quotes: doubled, backslash, or a character",
		put: func(k *Known, v string) error {
			e, err := ParseEscape(v)
			k.Escape = &e
			return allowed(err, "use a character, or doubled or backslash")
		},
		show: func(s *Source) (string, bool) {
			e := s.Layout.Form.Escape
			return EscapeName(e), !s.own && e != 0
		}},
	{Key: "columns",
		Help: "text in columns of fixed width: how many characters each has, like 8,20,10, where the last may be " +
			"*; or the names of the columns of a file without a header, like a,b,c",
		Words: func(v string) string { return "columns of " + v + " characters" },
		put: func(k *Known, v string) (err error) {
			k.Columns, err = ParseWidths(v)
			return allowed(err,
				"write the number of characters of each column, like 8,20,10; the last may be *, for the rest of "+
					"the line")
		},
		show: func(s *Source) (string, bool) {
			return widthsOf(s.Layout.Form.Starts), s.Layout.Form.Starts != nil
		}},
	{Key: "header", option: "header-row", Number: true,
		Help: "line that the column names stand on, from 1; 0 for none; names: wherever the plan's names are",
		Words: func(v string) string {
			switch v {
			case "0":
				return "no header"
			case byNames:
				return "header found by its names"
			}
			return "header in line " + v
		},
		put: func(k *Known, v string) error { return numberOr(byNames, v, &k.Header) },
		show: func(s *Source) (string, bool) {
			if s.byNames && !s.exactHeader {
				return byNames, true
			}
			return fmt.Sprint(s.Layout.Header), true
		}},
	{Key: "skip", Number: true,
		Help: "lines at the top that are not data, where there is no header; titles: all above the first record",
		put: func(k *Known, v string) error {
			err := numberOr(asTitles, v, &k.Skip)
			if k.Header == nil {
				none := int64(0)
				k.Header = &none
			}
			return err
		},
		show: func(s *Source) (string, bool) {
			if s.exactSkip {
				return fmt.Sprint(s.Layout.Skip), s.Layout.Skip > 0
			}
			return asTitles, s.Layout.Skip > 0
		}},
	{Key: "footer", Number: true,
		Help: "records at the end that are not data, totals and remarks: words (told by their words), none, or how " +
			"many",
		put: func(k *Known, v string) error {
			if v == "none" {
				v = "0"
			}
			var n *int64
			err := numberOr(byWords, v, &n)
			if n != nil {
				footer := int(*n)
				k.Footer = &footer
			}
			return err
		},
		show: func(s *Source) (string, bool) {
			switch {
			case s.noFooter:
				return "none", true
			case s.exactFooter:
				return fmt.Sprint(s.Layout.Footer), s.Layout.Footer > 0
			}
			return byWords, s.Layout.Footer != 0
		}},
	{Key: "totals", Help: "totals and subtotals among the records: skip (and count), or keep as records",
		put: func(k *Known, v string) error {
			_, err := either(v, SkipTotals, KeepTotals)
			k.Totals = v
			return err
		},
		show: func(s *Source) (string, bool) { return s.Layout.Totals, s.Layout.Totals != "" }},
	{Key: "comment", Help: "what begins lines that are no records: #, ;, //, --, %, !, or none",
		put: func(k *Known, v string) error {
			if v == "none" {
				v = ""
			}
			k.Comment = &v
			if len(v) > 4 || strings.ContainsAny(v, " \t\r\n\"") {
				return allowed(fmt.Errorf("%q is no mark of comments", v), "use a mark like #, ;, // or --, or none")
			}
			return nil
		},
		show: func(s *Source) (string, bool) { return s.Layout.Form.Comment, s.Layout.Form.Comment != "" }},
	{Key: "short_records", option: "short-records",
		Help: "records with fields left out at the end: reject, or null for what is left out",
		put: func(k *Known, v string) (err error) {
			k.ShortNull, err = either(v, "reject", "null")
			return err
		},
		show: func(s *Source) (string, bool) { return "null", s.Layout.ShortNull }},
	{Key: "marked_formulas", option: "marked-formulas",
		Help: "whether fields like =A1 have an apostrophe before them, as export --for-spreadsheet writes it: no, " +
			"or yes",
		put: func(k *Known, v string) (err error) {
			k.Marked, err = either(v, "no", "yes")
			return err
		},
		show: func(s *Source) (string, bool) { return "yes", s.Layout.Form.Marked }},
	{Key: "blank_records", option: "blank-records",
		Help: "records of delimiters only: skip (and count), or keep as rows of nulls",
		put: func(k *Known, v string) (err error) {
			k.KeepBlank, err = either(v, "skip", "keep")
			return err
		},
		show: func(s *Source) (string, bool) { return "keep", s.Layout.KeepBlank }},
}

// either reads one of two words, the second of which is true.
func either(v, no, yes string) (*bool, error) {
	is := v == yes
	if v != no && v != yes {
		return &is, allowed(fmt.Errorf("%q is neither", v), "use "+no+" or "+yes)
	}
	return &is, nil
}

// SettingOf finds a setting by its key, or returns nil.
func SettingOf(key string) *Setting {
	for _, s := range Settings {
		if s.Key == key {
			return s
		}
	}
	return nil
}

// allowed adds to an error what would be right.
func allowed(err error, what string) error {
	if err == nil {
		return nil
	}
	return &NotAllowed{err, what}
}

// NotAllowed says that a setting cannot have a value, and which it can have.
type NotAllowed struct {
	Err error
	Do  string
}

func (e *NotAllowed) Error() string { return e.Err.Error() }
func (e *NotAllowed) Unwrap() error { return e.Err }

// What stands in a plan for a line, or a number of lines, that is found.
const (
	byNames  = "names"
	asTitles = "titles"
	byWords  = "words"
)

// numberOr reads a whole number, or a word for what is found.
func numberOr(word, s string, to **int64) error {
	if s == word {
		n := int64(Found)
		*to = &n
		return nil
	}
	return number(s, to)
}

// number reads a whole number from 0.
func number(s string, to **int64) error {
	n, err := strconv.ParseInt(s, 10, 64)
	if err != nil || n < 0 {
		return allowed(fmt.Errorf("%q is no number of lines", s), "use a whole number from 0; lines count from 1")
	}
	*to = &n
	return nil
}

// ParseWidths reads how many characters each column of a text of fixed columns
// has, like 8,20,10, as the places at which they start; the last column takes
// the rest of the line, whatever its width.
func ParseWidths(s string) (starts []int, err error) {
	at := 0
	parts := strings.Split(s, ",")
	for i, part := range parts {
		starts = append(starts, at)
		part = strings.TrimSpace(part)
		if part == "*" && i == len(parts)-1 {
			return starts, nil
		}
		n, err := strconv.Atoi(part)
		if err != nil || n < 1 || n > 1<<20 {
			return nil, fmt.Errorf("%q is no width of a column", part)
		}
		at += n
	}
	if len(starts) < 1 {
		return nil, errors.New("there are no widths")
	}
	return starts, nil
}

// widthsOf writes what ParseWidths reads; the last column has the rest.
func widthsOf(starts []int) string {
	var parts []string
	for i := 1; i < len(starts); i++ {
		parts = append(parts, strconv.Itoa(starts[i]-starts[i-1]))
	}
	return strings.Join(append(parts, "*"), ",")
}
