package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ambertray/internal/db/connect"
	"ambertray/internal/db/dialect"
	"ambertray/internal/plan"
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
				return asked("ddl: say for which database\n  --for %s", connect.Names())
			}
			d, err := connect.ByName(database)
			if err != nil {
				return asked("--for: %w", err)
			}
			p, err := a.planOf(cmd, args[0], &f)
			if err != nil {
				return err
			}
			t := p.Definition()
			if err := checkNames(d.Dialect, t); err != nil {
				return err
			}
			statements := d.Create(t)
			text := strings.Join(statements, ";\n") + ";\n"
			switch {
			case a.json:
				return printJSON(a.out, map[string]any{"database": d.Name, "table": t.Name, "statements": statements})
			case output != "":
				return writeFile(output, []byte(text), yes)
			}
			fmt.Fprint(a.out, text)
			return nil
		},
	}
	f.add(cmd)
	f.addTable(cmd)
	cmd.Flags().StringVar(&database, "for", "", "the database: "+connect.Names())
	cmd.Flags().StringVarP(&output, "output", "o", "", "file to write to, instead of standard output")
	cmd.Flags().BoolVar(&yes, "yes", false, "write over an existing file")
	return cmd
}

// planOf is the plan that an argument is, or that its source suggests.
func (a *app) planOf(cmd *cobra.Command, name string, f *inputFlags) (*plan.Plan, error) {
	if isPlan(name) {
		p, err := plan.ReadFile(name)
		if err == nil && f.table != "" {
			p.Table.Name = f.table
		}
		if err == nil && f.schema != "" {
			p.Table.Schema = f.schema
		}
		return p, err
	}
	in, err := a.open(cmd.Context(), name, f, false)
	if err != nil {
		return nil, err
	}
	return in.plan, in.blocked()
}

// checkNames makes sure that the database takes every name.
func checkNames(d *dialect.Dialect, t dialect.Table) error {
	for _, n := range append([]string{t.Name}, columnNames(t)...) {
		if err := d.Check(n); err != nil {
			return asked("%w\n  choose another name in the plan, or use --names safe", err)
		}
	}
	return nil
}

func columnNames(t dialect.Table) (names []string) {
	for _, c := range t.Columns {
		names = append(names, c.Name)
	}
	return
}
