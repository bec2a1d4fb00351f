package cli

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ambertray/internal/load"
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
	// once tells that the command reads its sources no more than once, but for
	// their beginnings.
	once bool
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
	if o.Tolerate, err = share(f.tolerate); err != nil {
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

// share reads 1% or 0.01.
func share(s string) (float64, error) {
	if s == "" {
		return 0, nil
	}
	n, percent := strings.CutSuffix(s, "%")
	v, err := strconv.ParseFloat(n, 64)
	if percent {
		v /= 100
	}
	if err == nil && (v < 0 || v > 0.5) {
		err = strconv.ErrRange
	}
	return v, err
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

// input is a file, its profile and its plan: given, or made of the profile.
type input struct {
	source   *source.Source   // the first
	sources  []*source.Source // all
	profile  *profile.Profile // nil for a given plan, unless asked for
	plan     *plan.Plan
	comments plan.Comments // with the evidence that there is for the plan
	given    bool          // the plan was given
}

// isPlan reports whether a file is a plan.
func isPlan(name string) bool {
	f, err := os.Open(name)
	if err != nil {
		return false
	}
	defer f.Close()
	head := make([]byte, 4096)
	n, _ := io.ReadFull(f, head)
	return plan.IsPlan(head[:n])
}

// open opens an argument that is a plan or a source. A source is profiled and
// planned; a plan only with profiled.
func (a *app) open(ctx context.Context, name string, f *inputFlags, profiled bool) (*input, error) {
	in, err := a.openAll(ctx, []string{name}, f, profiled)
	if err == nil && len(in.sources) > 1 {
		return nil, asked("%s: stands for %d sources\n  name one of them behind the plan: %s", name, len(in.sources), in.source.Name)
	}
	return in, err
}

// openAll opens a source, or a plan with all of its sources: those named
// behind it, else those that it names, where a name may be a pattern.
func (a *app) openAll(ctx context.Context, names []string, f *inputFlags, profiled bool) (*input, error) {
	name := names[0]
	in := &input{}
	known, err := f.known()
	if err != nil {
		return nil, err
	}
	known.Stdin = a.in
	opt, err := f.options()
	if err != nil {
		return nil, err
	}
	wishes, err := f.wishes()
	if err != nil {
		return nil, err
	}
	wishes.Same = opt.Same
	if isPlan(name) {
		in.given = true
		if in.plan, err = plan.ReadFile(name); err != nil {
			return nil, err
		}
		for _, flag := range []string{"delimiter", "quote", "escape", "encoding", "header-row", "skip", "footer", "member", "sheet", "range", "same", "dates", "decimal", "null-word", "tolerate", "type", "names", "key", "no-key", "row-number", "leave-out", "require", "keep-empty", "provenance"} {
			if f.cmd.Flags().Lookup(flag) != nil && f.given(flag) {
				return nil, asked("--%s: the plan %s already says this\n  change the plan, or use the source itself", flag, name)
			}
		}
		if f.table != "" {
			in.plan.Table.Name = f.table
		}
		if f.schema != "" {
			in.plan.Table.Schema = f.schema
		}
		known.Once = !profiled
		if in.sources, err = a.planSources(ctx, name, in.plan, names[1:], known); err != nil {
			return nil, err
		}
		if !slices.ContainsFunc(in.sources, func(s *source.Source) bool { return !in.plan.Made(s) }) {
			// The evidence in the plan is that of these files.
			if in.comments, err = plan.RemarksIn(name); err != nil {
				return nil, err
			}
		}
	} else {
		known.Once = f.once
		if in.sources, err = openSources(ctx, names, known); err != nil {
			return nil, err
		}
	}
	in.source = in.sources[0]
	a.opened = append(a.opened, in.sources...)
	if in.given && !profiled {
		return in, nil
	}
	m := a.newMeter(ctx, "looking", in.size())
	defer m.end()
	opt.Progress = func(bytes, records int64) {
		m.set(load.Progress{Stage: "looking", Bytes: bytes, Size: in.size(), Records: records})
	}
	if in.given {
		for _, c := range in.plan.Columns {
			for _, h := range c.Also {
				opt.Same[h] = c.From
			}
		}
	}
	if in.profile, _, err = profile.RunAll(ctx, in.sources, opt); err != nil {
		return nil, err
	}
	for h := range opt.Types {
		found := false
		for _, c := range in.profile.Columns {
			found = found || strings.EqualFold(c.Header, h)
		}
		if !found {
			return nil, asked("--type: the file has no column %q", h)
		}
	}
	if in.given {
		// What the plan has decided is no question any more.
		in.profile.Findings = slices.DeleteFunc(in.profile.Findings, func(f profile.Finding) bool {
			return f.Code == "dates-undecided" || f.Code == "mark-undecided" || f.Code == "mark-assumed" || f.Code == "mark-by-others" || f.Code == "renamed" || f.Code == "near-miss"
		})
		return in, nil
	}
	if in.plan, in.comments, err = plan.Build(in.sources, in.profile, wishes); err != nil {
		var pe *plan.Error
		if errors.As(err, &pe) {
			return nil, err
		}
		return nil, asked("%w", err)
	}
	return in, nil
}

// openSources opens files: each by itself, all that a pattern matches, or
// several sheets of a workbook.
func openSources(ctx context.Context, names []string, known source.Known) (out []*source.Source, err error) {
	for _, name := range names {
		files := []string{name}
		if strings.ContainsAny(name, "*?[") && !fileExists(name) && !source.IsLink(name) {
			if files, err = matching("", name); err != nil {
				return nil, err
			}
		}
		for _, file := range files {
			sheets := []string{known.Sheet}
			if known.Sheet == "all" || strings.ContainsAny(known.Sheet, "*?[") {
				if sheets, err = source.Sheets(ctx, file, known.Sheet, known); err != nil {
					return nil, err
				}
			}
			for _, sheet := range sheets {
				k := known
				k.Sheet = sheet
				src, err := source.Open(ctx, file, k)
				if err != nil {
					return nil, err
				}
				out = append(out, src)
			}
		}
	}
	return out, nil
}

// planSources opens the files of a plan, or others of their form.
func (a *app) planSources(ctx context.Context, planFile string, p *plan.Plan, files []string, given source.Known) (out []*source.Source, err error) {
	type one struct {
		file, sheet string
		form        *plan.Source
	}
	var all []one
	for _, file := range files {
		all = append(all, one{file, p.Sources[0].Sheet, &p.Sources[0]})
	}
	if len(files) == 0 {
		for i := range p.Sources {
			s := &p.Sources[i]
			found, err := matching(planFile, s.File)
			if err != nil {
				return nil, err
			}
			for _, file := range found {
				all = append(all, one{file, s.Sheet, s})
			}
		}
	}
	for _, x := range all {
		known := x.form.Known()
		known.MaxRecord, known.MaxUnpacked, known.Idle, known.Stdin, known.Once = given.MaxRecord, given.MaxUnpacked, given.Idle, given.Stdin, given.Once
		some, err := openSources(ctx, []string{x.file}, known)
		if err != nil {
			return nil, err
		}
		for _, src := range some {
			for _, other := range out {
				if other.Path == src.Path && other.Part() == src.Part() {
					return nil, asked("%s: is named twice\n  a file is loaded once in a load", src.Name)
				}
			}
			out = append(out, src)
		}
	}
	return out, nil
}

// matching lists the files that a plan's source stands for: one, or all that
// its pattern matches, in the order of their names. They are looked for where
// the program runs, else beside the plan.
func matching(planFile, file string) ([]string, error) {
	if file == source.Stdin || source.IsLink(file) {
		return []string{file}, nil
	}
	places := []string{file}
	if planFile != "" && !filepath.IsAbs(file) {
		places = append(places, filepath.Join(filepath.Dir(planFile), file))
	}
	for _, p := range places {
		if fileExists(p) {
			return []string{p}, nil
		}
	}
	if strings.ContainsAny(file, "*?[") {
		for _, p := range places {
			found, err := filepath.Glob(p)
			if err != nil {
				return nil, asked("%s: %q is not a pattern: %w", planFile, file, err)
			}
			if len(found) > 0 {
				return found, nil
			}
		}
		if planFile == "" {
			return nil, asked("no file matches %s", file)
		}
		return nil, asked("%s: no file matches %s\n  correct file: in the plan, or name the files behind the plan", planFile, file)
	}
	return places[:1], nil // opening it says what is wrong
}

func fileExists(name string) bool {
	_, err := os.Stat(name)
	return err == nil
}

// blocked is the error of a source whose findings need a decision first, or
// nil.
func (in *input) blocked() error {
	if in.profile == nil || in.given {
		return nil
	}
	text := ""
	n := 0
	for _, f := range in.profile.Findings {
		if f.Weight != profile.Blocker {
			continue
		}
		n++
		text += "\n  "
		if f.Column != "" {
			text += f.Column + ": "
		}
		text += f.Text
		for i, e := range f.Examples {
			if i == 3 {
				break
			}
			text += "\n    " + e.Place() + " '" + shorten(e.Value, 60) + "'"
		}
		if f.Do != "" {
			text += "\n    → " + f.Do
		}
	}
	if n == 0 {
		return nil
	}
	return asked("%s: a decision is needed first%s", in.source.Name, text)
}
