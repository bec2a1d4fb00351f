package cli

import (
	"io"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"ambertray/internal/db/connect"
	"ambertray/internal/desk"
	"ambertray/internal/report"
)

func (a *app) dictionaryCommand() *cobra.Command {
	var f inputFlags
	var d databaseFlags
	var out, format string
	var yes, marked bool
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
				form = map[string]string{".html": "html", ".htm": "html",
					".csv": "csv"}[strings.ToLower(filepath.Ext(out))]
			}
			var write func(*report.Dictionary, io.Writer) error
			switch form {
			case "", "markdown", "md":
				write = func(d *report.Dictionary, o io.Writer) error { return d.Markdown(o) }
			case "html":
				write = func(d *report.Dictionary, o io.Writer) error { return d.HTML(o) }
			case "csv":
				write = func(d *report.Dictionary, o io.Writer) error { return d.CSV(o, marked) }
			default:
				return needed("--format %q: use markdown, html or csv", format)
			}
			var dict *report.Dictionary
			var err error
			if isURL := d.names(args[0]) && !desk.FileExists(args[0]); isURL {
				if len(args) < 2 {
					return needed("dictionary: name the table of %s\n  'ambertray peek URL' lists the tables",
						connect.Redact(args[0]))
				}
				dict, err = a.desk.TableDictionary(cmd.Context(), d.at(args[0]), args[1])
			} else if len(args) > 1 {
				return needed("dictionary: %q is not a database URL that is known, so that no table can follow it",
					connect.Redact(args[0]))
			} else {
				var in desk.Input
				if in, err = f.request(args); err != nil {
					return err
				}
				dict, err = a.desk.FileDictionary(cmd.Context(), in)
			}
			if err != nil {
				return err
			}
			return a.written(desk.Output{File: out, To: a.raw, Over: yes}, desk.DictionaryOf(dict),
				func(w io.Writer) error { return write(dict, w) })
		},
	}
	f.add(cmd)
	f.addTable(cmd)
	d.addPassword(cmd)
	cmd.Flags().StringVarP(&out, "output", "o", "", "file to write to, instead of standard output")
	cmd.Flags().StringVar(&format, "format", "", "markdown, html or csv")
	cmd.Flags().BoolVar(&marked, "for-spreadsheet", false, "in CSV, an apostrophe before values that a spreadsheet "+
		"would run")
	cmd.Flags().BoolVar(&yes, "yes", false, "write over an existing file")
	return cmd
}
