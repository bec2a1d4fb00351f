package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"ambertray/internal/desk"
	"ambertray/internal/source"
	"ambertray/internal/source/delimited"
)

type exportFlags struct {
	databaseFlags
	query, out, planOut string
	delimiter, null     string
	noHeader, yes       bool
	marked              bool
	lanes               int
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

A file whose name ends in .gz is compressed. One that ends in .xlsx is a workbook,
whose codes stay texts and whose dates are dates: for those who work on it in a
spreadsheet. What a cell would not hold exactly is a text there, and is said. One that
ends in .parquet is a Parquet file, with the types and the nulls of the table.

Values like =HYPERLINK(…) are written as they are, and a spreadsheet that opens the
file runs them. --for-spreadsheet writes an apostrophe before such values, which the
plan of --plan takes off again.`,
		Example: `  ambertray export sqlite:harrowmere.db lock_passages -o passages.csv --plan passages.yaml
  ambertray export postgres://keeper@localhost/canal tolls.passages -o passages.tsv.gz --delimiter tab
  ambertray export sqlite:harrowmere.db boats -o boats.xlsx --plan boats.yaml
  ambertray export sqlite:harrowmere.db boats -o boats.parquet
  ambertray export sqlite:harrowmere.db --query "SELECT lock, sum(toll) AS toll FROM lock_passages GROUP BY lock"`,
		Args: args(1, 2, "a database URL, and a table"),
		RunE: func(cmd *cobra.Command, args []string) error {
			table := ""
			if len(args) > 1 {
				table = args[1]
			}
			if (table == "") == (f.query == "") {
				return needed("export: name a table, or give a query with --query")
			}
			if a.json && f.out == "" {
				return needed("export: with --json, name the file with -o")
			}
			return a.export(cmd.Context(), args[0], table, &f)
		},
	}
	f.addPassword(cmd)
	p := cmd.Flags()
	p.StringVar(&f.query, "query", "", "write what this SELECT yields")
	p.StringVarP(&f.out, "output", "o", "", "file to write to, instead of standard output")
	p.StringVar(&f.planOut, "plan", "", "write the plan that loads the file back")
	p.StringVar(&f.delimiter, "delimiter", "comma",
		"what separates fields: a character, or comma, tab, pipe, semicolon")
	p.StringVar(&f.null, "null-word", "", "a word that stands for null, instead of nothing")
	p.BoolVar(&f.noHeader, "no-header", false, "no line with the column names")
	p.BoolVar(&f.marked, "for-spreadsheet", false, "an apostrophe before values that a spreadsheet would run as "+
		"formulas")
	p.IntVar(&f.lanes, "lanes", 0, "PostgreSQL: connections that the rows of a table come over (default: of 64 MB and "+
		"more, as many as there are processors, 4 at most; else 1)")
	p.BoolVar(&f.yes, "yes", false, "write over existing files")
	return cmd
}

func (a *app) export(ctx context.Context, url, table string, f *exportFlags) error {
	answer, err := a.desk.Export(ctx, desk.ExportRequest{From: f.at(url), Table: table, Query: f.query,
		Out:      desk.Output{File: f.out, To: a.raw, Over: f.yes},
		Plan:     f.planOut,
		Form:     delimited.Form{Delimiter: source.ParseDelimiter(f.delimiter), Quote: '"', Marked: f.marked},
		NullWord: f.null, NoHeader: f.noHeader, Lanes: f.lanes})
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(answer)
	}
	st := a.style(a.err)
	for _, x := range answer.Remarks {
		fmt.Fprintf(a.err, "%s %s\n", st.warn("caution"), x)
	}
	if f.out != "" {
		fmt.Fprintf(a.err, "%s  %s, %s, %s\n", st.head(f.out), plural(answer.Rows, "row"),
			plural(int64(answer.Columns), "column"), size(answer.Bytes))
	}
	return nil
}
