package cli

import (
	"context"
	"io"

	"github.com/spf13/cobra"

	"ambertray/internal/db"
	"ambertray/internal/db/connect"
	"ambertray/internal/desk"
)

func (a *app) ddlCommand() *cobra.Command {
	var f inputFlags
	var at databaseFlags
	var database, output string
	var yes bool
	cmd := &cobra.Command{
		Use:   "ddl SOURCE|PLAN --for DATABASE, or ddl URL TABLE",
		Short: "Write the definition of the table for a database",
		Long: `Writes the CREATE TABLE statement, and the comments, that a load would run.
A source is read whole to find the types; a plan is taken as it is.

Of a database and a table, it writes the definition of the table that is there,
with what hangs on it, in its database's own words; with --for of another
database in that one's, where defaults, what is computed or numbered, and
constraints but the primary key are not carried over, and said.

The databases are ` + connect.Names() + `.`,
		Example: `  ambertray ddl lock-passages.csv --for sqlite
  ambertray ddl passages.yaml --for sqlserver -o passages.sql
  ambertray ddl boats.txt --for postgres --table fleet --key permit
  ambertray ddl postgres://keeper@localhost/canal boats
  ambertray ddl sqlite:harrowmere.db boats --for oracle`,
		Args: args(1, 2, "one file, or a database and a table"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if at.names(args[0]) && !desk.FileExists(args[0]) {
				return a.ddlOf(cmd.Context(), &at, args, database, desk.Output{File: output, To: a.raw, Over: yes})
			}
			if len(args) > 1 {
				return needed("ddl: %s is no database URL, and one file can be defined at a time", args[0])
			}
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
	at.addPassword(cmd)
	cmd.Flags().StringVar(&database, "for", "", "the database: "+connect.Names())
	cmd.Flags().StringVarP(&output, "output", "o", "", "file to write to, instead of standard output")
	cmd.Flags().BoolVar(&yes, "yes", false, "write over an existing file")
	return cmd
}

// ddlOf writes the definition of a table that exists.
func (a *app) ddlOf(ctx context.Context, at *databaseFlags, args []string, database string, out desk.Output) error {
	if len(args) != 2 {
		return needed("ddl: name a table of the database\n  'ambertray peek %s' lists them", connect.Redact(args[0]))
	}
	var base *db.Database
	if database != "" {
		var err error
		if base, err = connect.ByName(database); err != nil {
			return needed("--for: %w", err)
		}
	}
	def, err := a.desk.DefineTable(ctx, at.at(args[0]), args[1], base)
	if err != nil {
		return err
	}
	return a.written(out, def, func(w io.Writer) error { _, err := io.WriteString(w, def.Text()); return err })
}
