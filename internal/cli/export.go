package cli

import (
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"ambertray/internal/db"
	"ambertray/internal/export"
	"ambertray/internal/load"
	"ambertray/internal/plan"
	"ambertray/internal/source"
	"ambertray/internal/source/delimited"
)

type exportFlags struct {
	databaseFlags
	query, out, planOut string
	delimiter, null     string
	noHeader, yes       bool
}

func (a *app) exportCommand() *cobra.Command {
	var f exportFlags
	cmd := &cobra.Command{
		Use:   "export URL TABLE | --query SQL",
		Short: "Write a table or a query to a delimited file that loads back equal",
		Long: `Writes all rows as delimited text in UTF-8, by RFC 4180. Every value is exact: a
null is nothing between two delimiters, an empty text is "", decimals have all
their digits, dates and times are ISO 8601, times with zone in UTC.

--plan writes the plan beside it that loads the file back equal, with the types
and the key of the table. What no other program could read back (types without
a plain form, NUL characters) is said.

A file whose name ends in .gz is compressed.`,
		Example: `  ambertray export sqlite:harrowmere.db lock_passages -o passages.csv --plan passages.yaml
  ambertray export postgres://keeper@localhost/canal tolls.passages -o passages.tsv.gz --delimiter tab
  ambertray export sqlite:harrowmere.db --query "SELECT lock, sum(toll) AS toll FROM lock_passages GROUP BY lock"`,
		Args: args(1, 2, "a database URL, and a table"),
		RunE: func(cmd *cobra.Command, args []string) error {
			table := ""
			if len(args) > 1 {
				table = args[1]
			}
			if (table == "") == (f.query == "") {
				return asked("export: name a table, or give a query with --query")
			}
			if a.json && f.out == "" {
				return asked("export: with --json, name the file with -o")
			}
			return a.export(cmd.Context(), args[0], table, &f)
		},
	}
	f.addPassword(cmd)
	p := cmd.Flags()
	p.StringVar(&f.query, "query", "", "write what this SELECT yields")
	p.StringVarP(&f.out, "output", "o", "", "file to write to, instead of standard output")
	p.StringVar(&f.planOut, "plan", "", "write the plan that loads the file back")
	p.StringVar(&f.delimiter, "delimiter", "comma", "what separates fields: a character, or comma, tab, pipe, semicolon")
	p.StringVar(&f.null, "null-word", "", "a word that stands for null, instead of nothing")
	p.BoolVar(&f.noHeader, "no-header", false, "no line with the column names")
	p.BoolVar(&f.yes, "yes", false, "write over existing files")
	return cmd
}

func (a *app) export(ctx context.Context, url, name string, f *exportFlags) error {
	opt := export.Options{Form: delimited.Form{Delimiter: source.ParseDelimiter(f.delimiter), Quote: '"'}, NoHeader: f.noHeader, NullWord: f.null}
	if err := opt.Form.Validate(); err != nil {
		return asked("--delimiter: %w", err)
	}
	if opt.Form.Delimiter == "" || strings.ContainsAny(f.null, "\"\r\n"+opt.Form.Delimiter) {
		return asked("--delimiter %q, --null-word %q: fields need a delimiter, and the word must do without it, quotes and line breaks", f.delimiter, f.null)
	}
	if f.planOut != "" && fileExists(f.planOut) && !f.yes {
		return asked("--plan %s: the file exists\n  choose another name, or say --yes to write over it", f.planOut)
	}
	conn, err := a.existing(ctx, url, &f.databaseFlags)
	if err != nil {
		return err
	}
	defer conn.Close()
	query := strings.TrimRight(strings.TrimSpace(f.query), "; \n\t")
	var columns []db.Column
	var key []string
	short := "query"
	if name != "" {
		t, err := findTable(ctx, conn, name)
		if err != nil {
			return err
		}
		if t == nil {
			return asked("export: there is no table %s\n  'ambertray peek URL' lists the tables", name)
		}
		columns, key, short = t.Columns, keyOf(t), t.Name
		var names []string
		for _, c := range columns {
			names = append(names, conn.Dialect().Quote(c.Name))
		}
		query = "SELECT " + strings.Join(names, ", ") + " FROM " + conn.Dialect().Qualified(t.Schema, t.Name)
	} else if columns, err = conn.Describe(ctx, query); err != nil {
		return err
	}
	if len(columns) == 0 {
		return fmt.Errorf("export: there are no columns to write")
	}
	o, err := a.newOutput(f.out, f.yes)
	if err != nil {
		return err
	}
	m := a.newMeter(ctx, "writing", 0)
	opt.Progress = func(rows int64) { m.set(load.Progress{Stage: "writing", Records: rows}) }
	bytes := &counting{Writer: o}
	var w io.Writer = bytes
	var zip *gzip.Writer
	if strings.HasSuffix(strings.ToLower(f.out), ".gz") {
		zip = gzip.NewWriter(bytes)
		w = zip
	}
	r, err := export.Write(ctx, w, conn, query, columns, opt)
	if err == nil && zip != nil {
		err = zip.Close()
	}
	m.end()
	if err != nil && ctx.Err() != nil {
		err = fmt.Errorf("stopped; the file was not written")
	}
	if err = o.finish(err); err != nil {
		return err
	}
	if f.planOut != "" {
		if err := a.exportPlan(ctx, r, short, key, opt, f); err != nil {
			return err
		}
	}
	remarks := []string{}
	for i := range r.Columns {
		remarks = append(remarks, r.Columns[i].Remarks()...)
	}
	if a.json {
		return printJSON(a.out, map[string]any{"file": f.out, "plan": f.planOut, "rows": r.Rows, "columns": len(r.Columns), "bytes": bytes.n, "remarks": remarks})
	}
	st := a.style(a.err)
	for _, x := range remarks {
		fmt.Fprintf(a.err, "%s %s\n", st.warn("caution"), x)
	}
	if f.out != "" {
		fmt.Fprintf(a.err, "%s  %s, %s, %s\n", st.head(f.out), plural(r.Rows, "row"), plural(int64(len(r.Columns)), "column"), size(bytes.n))
	}
	return nil
}

// exportPlan writes the plan that loads an exported file back.
func (a *app) exportPlan(ctx context.Context, r *export.Result, table string, key []string, opt export.Options, f *exportFlags) error {
	file := f.out
	if rel, err := filepath.Rel(filepath.Dir(f.planOut), f.out); err == nil && f.out != "" {
		file = rel
	}
	if file == "" {
		file = table + ".csv"
	}
	p := r.Plan(file, table, key, opt)
	if info, err := os.Stat(f.out); err == nil {
		p.Sources[0].Seen = plan.SeenOf(&source.Source{FileSize: info.Size(), Modified: info.ModTime()})
	}
	if err := p.Check(); err != nil {
		return fmt.Errorf("no plan can load this back: %w", err)
	}
	b, err := p.Encode(plan.Comments{Head: fmt.Sprintf("Amber Tray plan, written with %s (%s)", file, plural(r.Rows, "record"))})
	if err != nil {
		return err
	}
	return writeFile(f.planOut, b, true)
}

// findTable finds a table by its name, or by schema and name.
func findTable(ctx context.Context, conn db.Session, name string) (*db.Table, error) {
	t, err := conn.Find(ctx, "", name)
	if schema, table, ok := strings.Cut(name, "."); err == nil && t == nil && ok {
		t, err = conn.Find(ctx, schema, table)
	}
	return t, err
}

// keyOf lists the columns of a table's primary key in their order.
func keyOf(t *db.Table) []string {
	var key []string
	for n := 1; ; n++ {
		found := false
		for _, c := range t.Columns {
			if c.Key == n {
				key, found = append(key, c.Name), true
			}
		}
		if !found {
			return key
		}
	}
}
