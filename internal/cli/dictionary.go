package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ambertray/internal/db"
	"ambertray/internal/db/connect"
	"ambertray/internal/db/dialect"
	"ambertray/internal/load"
	"ambertray/internal/report"
	"ambertray/internal/sqltype"
)

func (a *app) dictionaryCommand() *cobra.Command {
	var f inputFlags
	var d databaseFlags
	var out, format string
	var yes bool
	cmd := &cobra.Command{
		Use:   "dictionary SOURCE|PLAN | URL TABLE",
		Short: "Write a data dictionary of a file, a plan or a table",
		Long: `Writes a data dictionary: columns with type, required, key, default, description,
source column, number of blanks, smallest and largest value, and an example. Of
a file or plan, the facts are those of the whole file as the plan reads it; of a
table, the database adds them up.

The form is that of the output's name (.md, .html, .csv), or --format.`,
		Example: `  ambertray dictionary passages.yaml -o passages.md
  ambertray dictionary sqlite:harrowmere.db lock_passages -o passages.html
  ambertray dictionary postgres://keeper@localhost/canal tolls.passages --format csv`,
		Args: args(1, 2, "a file or plan, or a database URL and a table"),
		RunE: func(cmd *cobra.Command, args []string) error {
			form := format
			if form == "" {
				form = map[string]string{".html": "html", ".htm": "html", ".csv": "csv"}[strings.ToLower(filepath.Ext(out))]
			}
			var write func(*report.Dictionary, *output) error
			switch form {
			case "", "markdown", "md":
				write = func(d *report.Dictionary, o *output) error { return d.Markdown(o) }
			case "html":
				write = func(d *report.Dictionary, o *output) error { return d.HTML(o) }
			case "csv":
				write = func(d *report.Dictionary, o *output) error { return d.CSV(o) }
			default:
				return asked("--format %q: use markdown, html or csv", format)
			}
			var dict *report.Dictionary
			var err error
			if isURL := connect.Of(args[0]) != nil && !fileExists(args[0]); isURL {
				if len(args) < 2 {
					return asked("dictionary: name the table of %s\n  'ambertray peek URL' lists the tables", connect.Redact(args[0]))
				}
				dict, err = a.tableDictionary(cmd.Context(), args[0], args[1], &d)
			} else if len(args) > 1 {
				return asked("dictionary: %q is not a database URL that is known, so that no table can follow it", connect.Redact(args[0]))
			} else {
				dict, err = a.fileDictionary(cmd.Context(), args[0], &f)
			}
			if err != nil {
				return err
			}
			if a.json {
				return printJSON(a.out, dict)
			}
			o, err := a.newOutput(out, yes)
			if err != nil {
				return err
			}
			return o.finish(write(dict, o))
		},
	}
	f.add(cmd)
	f.addTable(cmd)
	d.addPassword(cmd)
	cmd.Flags().StringVarP(&out, "output", "o", "", "file to write to, instead of standard output")
	cmd.Flags().StringVar(&format, "format", "", "markdown, html or csv")
	cmd.Flags().BoolVar(&yes, "yes", false, "write over an existing file")
	return cmd
}

// fileDictionary describes the table that a file becomes.
func (a *app) fileDictionary(ctx context.Context, name string, f *inputFlags) (*report.Dictionary, error) {
	in, err := a.open(ctx, name, f, true)
	if err != nil {
		return nil, err
	}
	if err := in.blocked(); err != nil {
		return nil, err
	}
	at, err := load.Positions(in.plan, in.source)
	if err != nil {
		return nil, err
	}
	m := a.newMeter(ctx, "reading", in.size())
	check, err := load.DryRun(ctx, load.Job{Sources: in.sources, Plan: in.plan, MaxRejects: -1, Progress: m.set})
	m.end()
	if err != nil {
		return nil, err
	}
	def := in.plan.Definition()
	d := &report.Dictionary{Table: db.Qualified(def.Schema, def.Name), Description: def.Comment, Origin: in.source.Name, Rows: check.Records.Loaded}
	first := len(def.Columns) - len(in.plan.Columns)
	for i, c := range def.Columns {
		e := entryOf(c, def.Key)
		if i < len(check.Tally) {
			e.Blanks, e.Smallest, e.Largest = check.Tally[i].Nulls, check.Tally[i].Smallest(), check.Tally[i].Largest()
		}
		e.From = "(number of the record)"
		if k := i - first; k >= 0 {
			e.From, e.Description = in.plan.Columns[k].From, in.plan.Columns[k].Comment
			for _, r := range in.profile.First {
				if at[k] < len(r.Fields) && strings.TrimSpace(r.Fields[at[k]]) != "" {
					e.Example = r.Fields[at[k]]
					break
				}
			}
		}
		d.Columns = append(d.Columns, e)
	}
	return d, nil
}

func entryOf(c dialect.Column, key []string) report.Entry {
	return report.Entry{Name: c.Name, Type: c.Type.String(), Required: c.Required || slices.Contains(key, c.Name), Key: 1 + slices.Index(key, c.Name),
		Default: c.Default, Description: c.Comment}
}

// tableDictionary describes a table that there is.
func (a *app) tableDictionary(ctx context.Context, url, name string, f *databaseFlags) (*report.Dictionary, error) {
	conn, err := a.existing(ctx, url, f)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	t, err := findTable(ctx, conn, name)
	if err != nil {
		return nil, err
	}
	if t == nil {
		return nil, asked("dictionary: there is no table %s\n  'ambertray peek URL' lists the tables", name)
	}
	def := dialect.Table{Schema: t.Schema, Name: t.Name}
	for _, c := range t.Columns {
		x := dialect.Column{Name: c.Name, Type: c.SQL}
		if c.SQL.Kind == sqltype.None {
			x.Type.Kind = sqltype.Text
		}
		def.Columns = append(def.Columns, x)
	}
	rows, facts, err := conn.Tally(ctx, def)
	if err != nil {
		return nil, err
	}
	d := &report.Dictionary{Table: db.Qualified(t.Schema, t.Name), Description: t.Comment, Rows: rows,
		Origin: fmt.Sprintf("%s (%s)", connect.Redact(url), conn.Dialect().Title)}
	var first [][]*string
	if l, ok := conn.(db.Lister); ok {
		if first, err = l.Head(ctx, t.Schema, t.Name, 20); err != nil {
			return nil, err
		}
	}
	for i, c := range t.Columns {
		e := report.Entry{Name: c.Name, Type: c.Type, Required: c.Required, Key: c.Key, Description: c.Comment, Blanks: facts[i].Nulls}
		if !facts[i].Loose {
			e.Smallest, e.Largest = facts[i].Smallest(), facts[i].Largest()
		}
		switch {
		case c.Identity:
			e.Default = said("numbered by the database")
		case c.Generated:
			e.Default = said("computed by the database")
		case c.Default:
			e.Default = said("given by the database")
		}
		for _, r := range first {
			if r[i] != nil && *r[i] != "" {
				e.Example = *r[i]
				break
			}
		}
		d.Columns = append(d.Columns, e)
	}
	return d, nil
}

func said(s string) *string { return &s }
