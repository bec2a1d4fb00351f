package cli

import (
	"fmt"
	"io"

	"ambertray/internal/desk"

	"github.com/spf13/cobra"
)

func (a *app) planCommand() *cobra.Command {
	var f inputFlags
	var output string
	var yes bool
	cmd := &cobra.Command{
		Use:   "plan SOURCE [-o FILE]",
		Short: "Write the plan of a load, with the evidence for every decision",
		Long: `Reads a file whole and writes the plan of its load: how it is taken apart, and
each column with its name, type and reading. Every decision has its evidence
beside it as a comment. Edit the plan, keep it under version control, and use
it wherever a source is taken: look shows what an edit does to the file.

Take a column out by moving its header to leave_out. docs/plan.md lists the keys.`,
		Example: `  ambertray plan lock-passages.csv
  ambertray plan lock-passages.csv --table passages --tolerate 0.1% -o passages.yaml
  ambertray look passages.yaml
  ambertray load passages.yaml --into sqlite:harrowmere.db`,
		Args: args(1, -1, "one or more files"),
		RunE: func(cmd *cobra.Command, args []string) error {
			in, err := f.request(args)
			if err != nil {
				return err
			}
			o, err := a.desk.Plan(cmd.Context(), in)
			if err != nil {
				return err
			}
			b, err := o.Plan.Encode(o.Comments)
			if err != nil {
				return err
			}
			if err := a.written(desk.Output{File: output, To: a.raw, Over: yes}, o.Plan,
				func(w io.Writer) error { _, err := w.Write(b); return err }); err != nil || output == "" || a.json {
				return err
			}
			fmt.Fprintf(a.out, "%s: %s of %s into table %s\n", output, plural(int64(len(o.Plan.Columns)), "column"),
				o.First().Name, o.Plan.Table.Name)
			return nil
		},
	}
	f.add(cmd)
	f.addTable(cmd)
	cmd.Flags().Int64Var(&f.records, "records", 0,
		"look only at the first so many records; every decision then says so")
	cmd.Flags().StringVarP(&output, "output", "o", "", "file to write to, instead of standard output")
	cmd.Flags().BoolVar(&yes, "yes", false, "write over an existing file")
	return cmd
}
