package cli

import (
	"context"
	"fmt"
	"io"

	"ambertray/internal/desk"

	"github.com/spf13/cobra"
)

func (a *app) planCommand() *cobra.Command {
	var f inputFlags
	var output string
	var yes, ask bool
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
  ambertray plan lock-passages.csv --ask -o passages.yaml
  ambertray look passages.yaml
  ambertray load passages.yaml --into sqlite:harrowmere.db`,
		Args: args(1, -1, "one or more files"),
		RunE: func(cmd *cobra.Command, args []string) error {
			in, err := f.request(args)
			if err != nil {
				return err
			}
			to := desk.Output{File: output, To: a.raw, Over: yes}
			review, err := a.reviewed(ask, to)
			if err != nil {
				return err
			}
			o, err := a.desk.Plan(cmd.Context(), in, review)
			if err != nil {
				return err
			}
			b, err := o.Plan.Encode(o.Comments)
			if err != nil {
				return err
			}
			write := func(w io.Writer) error { _, err := w.Write(b); return err }
			err = a.written(to, o.Plan, write)
			if err != nil && ask && !a.json {
				write(a.raw) // what a person has decided is not lost
				return fmt.Errorf("%w\n  the plan as you have decided it is above", err)
			}
			if err != nil || output == "" || a.json {
				return err
			}
			fmt.Fprintf(a.out, "%s: %s of %s into table %s\n", output, plural(int64(len(o.Plan.Columns)), "column"),
				o.Name(), o.Plan.Table.Name)
			return nil
		},
	}
	f.add(cmd)
	f.addTable(cmd)
	cmd.Flags().Int64Var(&f.records, "records", 0,
		"look only at the first so many records; every decision then says so")
	cmd.Flags().StringVarP(&output, "output", "o", "", "file to write to, instead of standard output")
	cmd.Flags().BoolVar(&ask, "ask", false,
		"go through the columns that have a caution first, and decide each on the screen")
	cmd.Flags().BoolVar(&yes, "yes", false, "write over an existing file")
	return cmd
}

// reviewed is the screen on which a plan is decided, if it is asked for and there can be one.
func (a *app) reviewed(ask bool, to desk.Output) (func(context.Context, *desk.Review) error, error) {
	if !ask {
		return nil, nil
	}
	person, is := a.person()
	if !is {
		return nil, needed("--ask needs a terminal to ask on\n  leave it out, and edit the plan, or say " +
			"--type, --rename, --leave-out and --null-word")
	}
	if err := to.Free(); err != nil {
		return nil, err
	}
	return a.decides(person), nil
}
