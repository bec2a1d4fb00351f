package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ambertray/internal/db"
	"ambertray/internal/desk"
	"ambertray/internal/profile"
)

func (a *app) peekCommand() *cobra.Command {
	var f databaseFlags
	var rows int
	cmd := &cobra.Command{
		Use:   "peek URL [TABLE]",
		Short: "Show a database's tables with their counts, or a table's columns and first rows",
		Long: `Without a table: lists tables and views with rows and size. Rows are counted up
to a million; above that they are the database's own estimate, marked ~.
With a table: its columns, key and first rows. Nothing is written.`,
		Example: `  ambertray peek sqlite:harrowmere.db
  ambertray peek sqlite:harrowmere.db lock_passages --rows 20
  ambertray peek postgres://keeper@localhost/canal tolls.lock_passages`,
		Args: args(1, 2, "a database URL, and a table"),
		RunE: func(cmd *cobra.Command, args []string) error {
			table := ""
			if len(args) > 1 {
				table = args[1]
			}
			answer, err := a.desk.Peek(cmd.Context(), f.at(args[0]), table, rows)
			if err != nil {
				return err
			}
			switch {
			case a.json:
				return a.printJSON(answer.JSON())
			case answer.Tables != nil:
				a.printTables(answer.Tables.Tables)
			default:
				a.printTable(answer.Table)
			}
			return nil
		},
	}
	f.addPassword(cmd)
	cmd.Flags().IntVar(&rows, "rows", 10, "how many of the first rows to show")
	return cmd
}

func (a *app) printTables(list []db.Listing) {
	st := a.style(a.out)
	if len(list) == 0 {
		fmt.Fprintln(a.out, "no tables")
		return
	}
	g := newGrid(st, "table", "kind", ">rows", ">size")
	for _, x := range list {
		rows, bytes := grouped(x.Rows), ""
		if x.Estimated {
			rows = "~" + rows
		}
		if x.Bytes > 0 {
			bytes = size(x.Bytes)
		}
		g.row(db.Qualified(x.Schema, x.Name), st.dim(x.Kind), rows, bytes)
	}
	g.render(a.out)
}

func (a *app) printTable(t *desk.TableAnswer) {
	st := a.style(a.out)
	fmt.Fprintf(a.out, "%s  %s, %s\n\n", st.head(db.Qualified(t.Schema, t.Name)), plural(t.Rows, "row"),
		plural(int64(len(t.Columns)), "column"))
	g := newGrid(st, "column", "type", "", "key", "")
	var names []string
	for _, x := range t.Columns {
		c := x.Column
		names = append(names, c.Name)
		required, key := "", ""
		if c.Required {
			required = "required"
		}
		if c.Key > 0 {
			key = fmt.Sprint(c.Key)
		}
		var more []string
		for _, x := range []struct {
			word string
			is   bool
		}{{"numbered by the database", c.Identity}, {"computed", c.Generated},
			{"has a default", c.Default && !c.Identity}} {
			if x.is {
				more = append(more, x.word)
			}
		}
		g.row(shorten(c.Name, 40), c.Type, required, key, st.dim(strings.Join(more, ", ")))
	}
	g.render(a.out)
	if len(t.First) > 0 {
		fmt.Fprintf(a.out, "\n%s\n", st.title("First "+plural(int64(len(t.First)), "row")))
		var shown []profile.Preview
		for i, r := range t.First {
			p := profile.Preview{Line: int64(i + 1)}
			for _, v := range r {
				if v == nil {
					p.Fields = append(p.Fields, "")
				} else {
					p.Fields = append(p.Fields, *v)
				}
			}
			shown = append(shown, p)
		}
		printRecords(a.out, st, "row", names, shown)
	}
}
