package cli

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ambertray/internal/config"
	"ambertray/internal/db/connect"
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
	settings  map[string]*string // by key; see source.Settings
	maxRecord int                // MiB
	unpacked  int64              // GiB
	idle      int                // seconds

	dates     string
	decimal   string
	nullWords []string
	tolerate  string
	types     []string
	same      []string
	tables    string
	records   int64

	table, schema          string
	names                  string
	key                    []string
	rowNumber              string
	only, rename, nullable []string
	leaveOut               []string
	require                []string
	zone                   string
	keepEmpty              string
	provenance             bool
	strict                 bool
}

func (f *inputFlags) add(cmd *cobra.Command) {
	f.cmd = cmd
	p := cmd.Flags()
	f.settings = map[string]*string{}
	for _, set := range source.Settings {
		v := new(string)
		f.settings[set.Key] = v
		p.Var(&settingValue{v, set}, set.Option(), set.Help)
		if set.Switch {
			p.Lookup(set.Option()).NoOptDefVal = "yes"
		}
	}
	p.IntVar(&f.maxRecord, "max-record", 64, "longest record that is read, in MiB")
	p.Int64Var(&f.unpacked, "max-unpacked", source.DefaultUnpacked>>30,
		"most that an archive or workbook may unpack to, in GiB")
	p.IntVar(&f.idle, "timeout", int(source.DefaultIdle/time.Second), "seconds that a link's server may send nothing")
	p.StringVar(&f.dates, "dates", "",
		"order of dates where the values do not decide it: day-first, month-first, year-first, or a pattern like "+
			"dd/MM/yyyy")
	p.StringVar(&f.decimal, "decimal", "", "decimal mark where the values do not decide it: point or comma")
	p.StringArrayVar(&f.nullWords, "null-word", nil, "a word that means null in every column (may be repeated)")
	p.StringVar(&f.tolerate, "tolerate", "",
		"share of values that may misfit a narrower type and become rejects, like 0.1%")
	p.StringArrayVar(&f.same, "same", nil,
		"HEADER=OTHER: a column of one source is another's, by another name (may be repeated)")
	p.StringVar(&f.tables, "tables", "",
		"what several files or sheets are: one table, or a table of each (default: one, where they look like it)")
	p.StringArrayVar(&f.types, "type", nil, "COLUMN=TYPE, instead of the type found (may be repeated)")
}

func (f *inputFlags) addTable(cmd *cobra.Command) {
	p := cmd.Flags()
	p.StringVar(&f.table, "table", "", "name of the table (default: made of the file's name)")
	p.StringVar(&f.schema, "schema", "", "schema of the table")
	p.StringVar(&f.names, "names", "safe", "column names: safe (lower case, plain letters) or keep (as in the header)")
	p.StringSliceVar(&f.key, "key", nil,
		"columns of the primary key, separated by commas; or none, even if the file offers one")
	p.StringVar(&f.rowNumber, "row-number", "", "add a column of this name with the number of the record in the load")
	p.StringArrayVar(&f.leaveOut, "leave-out", nil, "columns that are not loaded, also by patterns like 'junk_*', or "+
		"'"+plan.AllBlank+"', or '"+plan.OneValue+"' (may be repeated)")
	p.StringArrayVar(&f.only, "only", nil, "columns that are loaded, also by patterns; all others are left out")
	p.StringArrayVar(&f.rename, "rename", nil, "the name of a column in the table (may be repeated)")
	p.StringArrayVar(&f.require, "require", nil, "columns that must not be blank, or all")
	p.StringArrayVar(&f.nullable, "nullable", nil, "columns that may be blank, although none is here; or all")
	p.BoolVar(&f.provenance, "provenance", false,
		"add columns with source file, sheet, line, time of the load and its entry")
	p.BoolVar(&f.strict, "strict-types", false, "a table that enforces its types, in SQLite (STRICT); elsewhere all do")
	p.StringVar(&f.zone, "assume-zone", "",
		"where times without a zone were, like Europe/London: they go into columns with "+
			"a zone")
	p.StringVar(&f.keepEmpty, "keep-empty", "", "empty fields that are empty texts, not nulls: quoted or all")
}

func (f *inputFlags) given(name string) bool { return f.cmd.Flags().Changed(name) }

// known is what the options say of the source.
func (f *inputFlags) known() (k source.Known, err error) {
	for _, set := range source.Settings {
		if !f.given(set.Option()) || set.Key == "columns" && f.columnNames() != nil {
			continue
		}
		if err := set.Put(&k, *f.settings[set.Key]); err != nil {
			var not *source.NotAllowed
			if errors.As(err, &not) {
				return k, needed("--%s: %w\n  %s", set.Option(), err, not.Do)
			}
			return k, needed("--%s: %w", set.Option(), err)
		}
	}
	if f.columnNames() != nil && k.Header == nil {
		none := int64(0)
		k.Header = &none // there are no names but these
	}
	if f.maxRecord < 1 || f.maxRecord > 1024 {
		return k, needed("--max-record %d: use 1 to 1024 MiB", f.maxRecord)
	}
	k.MaxRecord = f.maxRecord << 20
	if f.unpacked < 1 {
		return k, needed("--max-unpacked %d: use 1 GiB or more", f.unpacked)
	}
	k.MaxUnpacked = f.unpacked << 30
	k.Idle = time.Duration(f.idle) * time.Second
	return k, nil
}

// options is what the options say of the profile's decisions.
func (f *inputFlags) options() (o profile.Options, err error) {
	o.Limit = f.records
	if f.records < 0 {
		return o, needed("--records %d: cannot be negative", f.records)
	}
	switch f.dates {
	case "", "day-first", "month-first", "year-first":
	default:
		if _, err := reading.ParsePattern(f.dates); err != nil {
			return o, needed("--dates: %w\n  use day-first, month-first, year-first, or a pattern like dd/MM/yyyy", err)
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
		return o, needed("--decimal %q: use point or comma", f.decimal)
	}
	o.NullWords = f.nullWords
	if o.Tolerate, err = phrase.ParseShare(f.tolerate); err != nil {
		return o, needed("--tolerate %q: use a share from 0%% to 50%%, like 0.1%%", f.tolerate)
	}
	o.Same = map[string]string{}
	for _, s := range f.same {
		from, to, ok := strings.Cut(s, "=")
		if !ok || from == "" || to == "" {
			return o, needed("--same %q: write HEADER=OTHER, like --same 'Fee=Toll'", s)
		}
		o.Same[from] = to
	}
	for _, t := range f.types {
		i := strings.LastIndex(t, "=")
		if i < 1 {
			return o, needed("--type %q: write COLUMN=TYPE, like --type 'Toll=decimal(8,2)'", t)
		}
		typ, err := sqltype.Parse(t[i+1:])
		if err != nil {
			return o, needed("--type: %w", err)
		}
		if o.Types == nil {
			o.Types = map[string]sqltype.Type{}
		}
		o.Types[t[:i]] = typ
	}
	return o, nil
}

func (f *inputFlags) wishes() (plan.Wishes, error) {
	rename, err := f.renames()
	if err != nil {
		return plan.Wishes{}, err
	}
	f.splitTable()
	w := plan.Wishes{Schema: f.schema, Table: f.table, KeepNames: f.names == "keep", Key: f.key,
		RowNumber: f.rowNumber, LeaveOut: f.leaveOut, Only: f.only, Nullable: f.nullable, Rename: rename, Zone: f.zone,
		Required: f.require, KeepEmpty: f.keepEmpty, Tolerate: f.tolerate,
		Provenance: f.provenance, Strict: f.strict}
	if f.names != "safe" && f.names != "keep" {
		return w, needed("--names %q: use safe or keep", f.names)
	}
	switch f.keepEmpty {
	case "", "quoted", "all":
	default:
		return w, needed("--keep-empty %q: use quoted or all", f.keepEmpty)
	}
	return w, nil
}

// splitTable takes the schema off the name of a table. In a database in a file, which has other
// names before a point than schemas, only those that it always has are one.
func (f *inputFlags) splitTable() {
	schema, table, is := strings.Cut(f.table, ".")
	if !is || f.schema != "" || schema == "" || table == "" || strings.Contains(table, ".") {
		return
	}
	if into := f.cmd.Flags().Lookup("into"); into != nil && schema != "main" && schema != "temp" {
		url := into.Value.String()
		if known, is := f.cmd.Context().Value(configKey{}).(*config.Config); is && known.Connections[url] != nil {
			url = known.Connections[url].URL
		}
		if d := connect.Of(url); d != nil && d.File {
			return
		}
	}
	f.schema, f.table = schema, table
}

// renames are the names that columns get: those of --rename, and those that --columns gives to
// the columns of a text without a header.
func (f *inputFlags) renames() (map[string]string, error) {
	out := map[string]string{}
	for i, name := range f.columnNames() {
		out[fmt.Sprintf("column_%d", i+1)] = name
	}
	for _, r := range f.rename {
		from, to, is := strings.Cut(r, "=")
		if !is || from == "" || to == "" {
			return nil, needed("--rename %q: write OLD=NEW, like --rename 'Toll paid=toll'", r)
		}
		out[from] = to
	}
	return out, nil
}

// columnNames are those that --columns gives, where they are names and no widths.
func (f *inputFlags) columnNames() []string {
	if !f.given("columns") {
		return nil
	}
	words := strings.Split(*f.settings["columns"], ",")
	for i, w := range words {
		words[i] = strings.TrimSpace(w)
	}
	if strings.ContainsFunc(strings.Join(words, ""), func(r rune) bool { return r != '*' && (r < '0' || r > '9') }) {
		return words
	}
	return nil
}

// ofPlan are the other options whose place, with a plan, is the plan.
var ofPlan = []string{"same", "tables", "dates", "decimal", "null-word", "tolerate", "type", "names", "key",
	"row-number", "assume-zone", "leave-out", "only", "rename", "nullable", "require", "keep-empty", "provenance",
	"strict-types"}

// settingValue is a setting as an option.
type settingValue struct {
	text *string
	set  *source.Setting
}

func (v *settingValue) String() string {
	if v.text == nil {
		return ""
	}
	return *v.text
}
func (v *settingValue) Set(s string) error { *v.text = s; return nil }
func (v *settingValue) Type() string {
	if v.set.Switch {
		return "bool" // which says nothing of a value
	}
	return "string"
}

// request is what the options and files ask for.
func (f *inputFlags) request(files []string) (in desk.Input, err error) {
	in.Names, in.Tables = files, f.tables
	switch f.tables {
	case "", desk.OneTable, desk.TableEach:
	default:
		return in, needed("--tables %q: use one or each", f.tables)
	}
	if in.Known, err = f.known(); err != nil {
		return in, err
	}
	if in.Options, err = f.options(); err != nil {
		return in, err
	}
	if in.Wishes, err = f.wishes(); err != nil {
		return in, err
	}
	var names []string // of options
	for _, set := range source.Settings {
		names = append(names, set.Option())
	}
	for _, name := range append(names, ofPlan...) {
		if f.cmd.Flags().Lookup(name) != nil && f.given(name) {
			in.Set = append(in.Set, "--"+name)
		}
	}
	return in, nil
}
