package cli

import (
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ambertray/internal/desk"
	"ambertray/internal/phrase"
	"ambertray/internal/plan"
	"ambertray/internal/profile"
	"ambertray/internal/reading"
	"ambertray/internal/source"
	"ambertray/internal/sqltype"
)

// inputFlags are the options about what is read and how it is understood.
type inputFlags struct {
	cmd       *cobra.Command
	delimiter string
	quote     string
	escape    string
	encoding  string
	header    int64
	skip      int64
	footer    int
	maxRecord int // MiB
	member    string
	sheet     string
	cells     string // range of a sheet
	unpacked  int64  // GiB
	idle      int    // seconds

	dates     string
	decimal   string
	nullWords []string
	tolerate  string
	types     []string
	same      []string
	records   int64

	table, schema string
	names         string
	key           []string
	noKey         bool
	rowNumber     string
	leaveOut      []string
	require       []string
	keepEmpty     string
	provenance    bool
}

func (f *inputFlags) add(cmd *cobra.Command) {
	f.cmd = cmd
	p := cmd.Flags()
	p.StringVar(&f.delimiter, "delimiter", "", `what separates fields: a character, or comma, tab, pipe, semicolon, space, none`)
	p.StringVar(&f.quote, "quote", "", `what quotes fields: a character, or double, single, none`)
	p.StringVar(&f.escape, "escape", "", `how quotes are written inside quotes: doubled, backslash, or a character`)
	p.StringVar(&f.encoding, "encoding", "", `character encoding, as its IANA name: utf-8, utf-16le, windows-1252, iso-8859-15 …`)
	p.Int64Var(&f.header, "header-row", 0, "line that the column names stand on, from 1; 0 for none")
	p.Int64Var(&f.skip, "skip", 0, "lines at the top that are not data, where there is no header")
	p.IntVar(&f.footer, "footer", 0, "records at the end that are not data: totals and remarks")
	p.IntVar(&f.maxRecord, "max-record", 64, "longest record that is read, in MiB")
	p.StringVar(&f.member, "member", "", "member of a zip archive, by name or pattern")
	p.StringVar(&f.sheet, "sheet", "", "sheet of a workbook, by name or number; all, or a pattern, for several")
	p.StringVar(&f.cells, "range", "", "cells of a sheet, like A5:H200, or a named range or table")
	p.Int64Var(&f.unpacked, "max-unpacked", source.DefaultUnpacked>>30, "most that an archive or workbook may unpack to, in GiB")
	p.IntVar(&f.idle, "timeout", int(source.DefaultIdle/time.Second), "seconds that a link's server may send nothing")
	p.StringVar(&f.dates, "dates", "", "order of dates where the values do not decide it: day-first, month-first, year-first, or a pattern like dd/MM/yyyy")
	p.StringVar(&f.decimal, "decimal", "", "decimal mark where the values do not decide it: point or comma")
	p.StringArrayVar(&f.nullWords, "null-word", nil, "a word that means null in every column (may be repeated)")
	p.StringVar(&f.tolerate, "tolerate", "", "share of values that may misfit a narrower type and become rejects, like 0.1%")
	p.StringArrayVar(&f.same, "same", nil, "HEADER=OTHER: a column of one source is another's, by another name (may be repeated)")
	p.StringArrayVar(&f.types, "type", nil, "COLUMN=TYPE, instead of the type found (may be repeated)")
}

func (f *inputFlags) addTable(cmd *cobra.Command) {
	p := cmd.Flags()
	p.StringVar(&f.table, "table", "", "name of the table (default: made of the file's name)")
	p.StringVar(&f.schema, "schema", "", "schema of the table")
	p.StringVar(&f.names, "names", "safe", "column names: safe (lower case, plain letters) or keep (as in the header)")
	p.StringSliceVar(&f.key, "key", nil, "columns of the primary key, separated by commas")
	p.BoolVar(&f.noKey, "no-key", false, "no primary key, even if the file offers one")
	p.StringVar(&f.rowNumber, "row-number", "", "add a column of this name with the number of the record")
	p.StringArrayVar(&f.leaveOut, "leave-out", nil, "a column that is not loaded (may be repeated)")
	p.StringArrayVar(&f.require, "require", nil, "a column that must not be blank (may be repeated)")
	p.BoolVar(&f.provenance, "provenance", false, "add columns with source file, sheet, line, time of the load and its entry")
	p.StringVar(&f.keepEmpty, "keep-empty", "", "empty fields that are empty texts, not nulls: quoted or all")
}

func (f *inputFlags) given(name string) bool { return f.cmd.Flags().Changed(name) }

// known is what the options say of the source.
func (f *inputFlags) known() (k source.Known, err error) {
	if f.given("delimiter") {
		d := source.ParseDelimiter(f.delimiter)
		k.Delimiter = &d
	}
	if f.given("quote") {
		q, err := source.ParseQuote(f.quote)
		if err != nil {
			return k, asked("--quote: %w\n  use a character, or double, single or none", err)
		}
		k.Quote = &q
	}
	if f.given("escape") {
		e, err := source.ParseEscape(f.escape)
		if err != nil {
			return k, asked("--escape: %w\n  use a character, or doubled or backslash", err)
		}
		k.Escape = &e
	}
	k.Encoding = f.encoding
	if f.given("header-row") {
		if f.header < 0 {
			return k, asked("--header-row %d: lines count from 1; 0 means none", f.header)
		}
		k.Header = &f.header
	}
	if f.given("skip") {
		if f.skip < 0 {
			return k, asked("--skip %d: cannot be negative", f.skip)
		}
		k.Skip = &f.skip
		if k.Header == nil {
			none := int64(0)
			k.Header = &none
		}
	}
	if f.given("footer") {
		if f.footer < 0 {
			return k, asked("--footer %d: cannot be negative", f.footer)
		}
		k.Footer = &f.footer
	}
	if f.maxRecord < 1 || f.maxRecord > 1024 {
		return k, asked("--max-record %d: use 1 to 1024 MiB", f.maxRecord)
	}
	k.MaxRecord = f.maxRecord << 20
	if f.unpacked < 1 {
		return k, asked("--max-unpacked %d: use 1 GiB or more", f.unpacked)
	}
	k.Member, k.Sheet, k.Range, k.MaxUnpacked = f.member, f.sheet, f.cells, f.unpacked<<30
	k.Idle = time.Duration(f.idle) * time.Second
	return k, nil
}

// options is what the options say of the profile's decisions.
func (f *inputFlags) options() (o profile.Options, err error) {
	o.Limit = f.records
	if f.records < 0 {
		return o, asked("--records %d: cannot be negative", f.records)
	}
	switch f.dates {
	case "", "day-first", "month-first", "year-first":
	default:
		if _, err := reading.ParsePattern(f.dates); err != nil {
			return o, asked("--dates: %w\n  use day-first, month-first, year-first, or a pattern like dd/MM/yyyy", err)
		}
	}
	o.Dates = f.dates
	switch f.decimal {
	case "":
	case "point", ".":
		o.Decimal = reading.Point
	case "comma", ",":
		o.Decimal = reading.Comma
	default:
		return o, asked("--decimal %q: use point or comma", f.decimal)
	}
	o.NullWords = f.nullWords
	if o.Tolerate, err = phrase.ParseShare(f.tolerate); err != nil {
		return o, asked("--tolerate %q: use a share from 0%% to 50%%, like 0.1%%", f.tolerate)
	}
	o.Same = map[string]string{}
	for _, s := range f.same {
		from, to, ok := strings.Cut(s, "=")
		if !ok || from == "" || to == "" {
			return o, asked("--same %q: write HEADER=OTHER, like --same 'Fee=Toll'", s)
		}
		o.Same[from] = to
	}
	for _, t := range f.types {
		i := strings.LastIndex(t, "=")
		if i < 1 {
			return o, asked("--type %q: write COLUMN=TYPE, like --type 'Toll=decimal(8,2)'", t)
		}
		typ, err := sqltype.Parse(t[i+1:])
		if err != nil {
			return o, asked("--type: %w", err)
		}
		if o.Types == nil {
			o.Types = map[string]sqltype.Type{}
		}
		o.Types[t[:i]] = typ
	}
	return o, nil
}

func (f *inputFlags) wishes() (plan.Wishes, error) {
	w := plan.Wishes{Schema: f.schema, Table: f.table, KeepNames: f.names == "keep", Key: f.key, NoKey: f.noKey,
		RowNumber: f.rowNumber, LeaveOut: f.leaveOut, Required: f.require, KeepEmpty: f.keepEmpty, Tolerate: f.tolerate, Provenance: f.provenance}
	if f.names != "safe" && f.names != "keep" {
		return w, asked("--names %q: use safe or keep", f.names)
	}
	switch f.keepEmpty {
	case "", "quoted", "all":
	default:
		return w, asked("--keep-empty %q: use quoted or all", f.keepEmpty)
	}
	return w, nil
}

// ofPlan are the options whose place, with a plan, is the plan.
var ofPlan = []string{"delimiter", "quote", "escape", "encoding", "header-row", "skip", "footer", "member", "sheet", "range", "same", "dates", "decimal",
	"null-word", "tolerate", "type", "names", "key", "no-key", "row-number", "leave-out", "require", "keep-empty", "provenance"}

// request is what the options and names ask for.
func (f *inputFlags) request(names []string) (in desk.Input, err error) {
	in.Names = names
	if in.Known, err = f.known(); err != nil {
		return in, err
	}
	if in.Options, err = f.options(); err != nil {
		return in, err
	}
	if in.Wishes, err = f.wishes(); err != nil {
		return in, err
	}
	for _, name := range ofPlan {
		if f.cmd.Flags().Lookup(name) != nil && f.given(name) {
			in.Set = append(in.Set, "--"+name)
		}
	}
	return in, nil
}
