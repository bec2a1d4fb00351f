package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ambertray/internal/db"
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
			conn, err := a.existing(cmd.Context(), args[0], &f)
			if err != nil {
				return err
			}
			defer conn.Close()
			lister, ok := conn.(db.Lister)
			if !ok {
				return asked("peek: %s cannot be listed", conn.Dialect().Title)
			}
			if len(args) == 1 {
				return a.peekTables(cmd.Context(), lister)
			}
			return a.peekTable(cmd.Context(), conn, lister, args[1], rows)
		},
	}
	f.addPassword(cmd)
	cmd.Flags().IntVar(&rows, "rows", 10, "how many of the first rows to show")
	return cmd
}

func (a *app) peekTables(ctx context.Context, conn db.Lister) error {
	list, err := conn.List(ctx)
	if err != nil {
		return err
	}
	if a.json {
		if list == nil {
			list = []db.Listing{}
		}
		return printJSON(a.out, map[string]any{"tables": list})
	}
	st := a.style(a.out)
	if len(list) == 0 {
		fmt.Fprintln(a.out, "no tables")
		return nil
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
	return nil
}

func (a *app) peekTable(ctx context.Context, conn db.Session, lister db.Lister, name string, n int) error {
	t, err := findTable(ctx, conn, name)
	if err != nil {
		return err
	}
	if t == nil {
		return asked("peek: there is no table %s\n  'ambertray peek URL' lists the tables", name)
	}
	count, err := conn.Count(ctx, t)
	if err != nil {
		return err
	}
	rows, err := lister.Head(ctx, t.Schema, t.Name, n)
	if err != nil {
		return err
	}
	if a.json {
		type column struct {
			Name     string `json:"name"`
			Type     string `json:"type"`
			Required bool   `json:"required"`
			Key      int    `json:"key"`
		}
		cols := []column{}
		for _, c := range t.Columns {
			cols = append(cols, column{c.Name, c.Type, c.Required, c.Key})
		}
		return printJSON(a.out, map[string]any{"schema": t.Schema, "name": t.Name, "rows": count, "columns": cols, "first": rows})
	}
	st := a.style(a.out)
	fmt.Fprintf(a.out, "%s  %s, %s\n\n", st.head(db.Qualified(t.Schema, t.Name)), plural(count, "row"), plural(int64(len(t.Columns)), "column"))
	g := newGrid(st, "column", "type", "", "key", "")
	var names []string
	for _, c := range t.Columns {
		names = append(names, c.Name)
		required, key := "", ""
		if c.Required {
			required = "required"
		}
		if c.Key > 0 {
			key = fmt.Sprint(c.Key)
		}
		var more []string
		for word, is := range map[string]bool{"numbered by the database": c.Identity, "computed": c.Generated, "has a default": c.Default && !c.Identity} {
			if is {
				more = append(more, word)
			}
		}
		g.row(shorten(c.Name, 40), c.Type, required, key, st.dim(strings.Join(more, ", ")))
	}
	g.render(a.out)
	if len(rows) > 0 {
		fmt.Fprintf(a.out, "\n%s\n", st.title("First "+plural(int64(len(rows)), "row")))
		var shown []profile.Preview
		for i, r := range rows {
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
	return nil
}
