package cli

import (
	"io"

	"github.com/spf13/cobra"

	"ambertray/internal/db/connect"
	"ambertray/internal/desk"
)

func (a *app) ddlCommand() *cobra.Command {
	var f inputFlags
	var database, output string
	var yes bool
	cmd := &cobra.Command{
		Use:   "ddl SOURCE|PLAN --for DATABASE",
		Short: "Write the definition of the table for a database",
		Long: `Writes the CREATE TABLE statement, and the comments, that a load would run.
A source is read whole to find the types; a plan is taken as it is.

The databases are ` + connect.Names() + `.`,
		Example: `  ambertray ddl lock-passages.csv --for sqlite
  ambertray ddl passages.yaml --for sqlserver -o passages.sql
  ambertray ddl boats.txt --for postgres --table fleet --key permit`,
		Args: args(1, 1, "one file"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if database == "" {
				return needed("ddl: say for which database\n  --for %s", connect.Names())
			}
			d, err := connect.ByName(database)
			if err != nil {
				return needed("--for: %w", err)
			}
			in, err := f.request(args)
			if err != nil {
				return err
			}
			def, err := a.desk.Define(cmd.Context(), in, d)
			if err != nil {
				return err
			}
			return a.written(desk.Output{File: output, To: a.raw, Over: yes}, def,
				func(w io.Writer) error { _, err := io.WriteString(w, def.Text()); return err })
		},
	}
	f.add(cmd)
	f.addTable(cmd)
	cmd.Flags().StringVar(&database, "for", "", "the database: "+connect.Names())
	cmd.Flags().StringVarP(&output, "output", "o", "", "file to write to, instead of standard output")
	cmd.Flags().BoolVar(&yes, "yes", false, "write over an existing file")
	return cmd
}
