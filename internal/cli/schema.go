package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"ambertray/internal/desk"
)

func (a *app) schemaCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "schema [NAME]",
		Short: "Print the JSON Schema of a plan, a receipt, or what a command prints with --json",
		Long: `Prints the JSON Schema (draft 2020-12) of a plan, a receipt, or a document that a
command prints with --json; without a name, the names that there are. An editor that
knows the schema of plans completes their keys, and marks those that are none.`,
		Example: `  ambertray schema
  ambertray schema plan > ambertray-plan.schema.json
  ambertray schema receipt`,
		Args:      args(0, 1, "at most one document"),
		ValidArgs: desk.Schemas(),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				if a.json {
					return a.printJSON(desk.Schemas())
				}
				for _, n := range desk.Schemas() {
					fmt.Fprintln(a.out, n)
				}
				return nil
			}
			b, err := a.desk.Schema(args[0])
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(a.raw, "%s\n", b)
			return err
		},
	}
}
