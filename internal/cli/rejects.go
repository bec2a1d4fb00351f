package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"ambertray/internal/db"
	"ambertray/internal/desk"
	"ambertray/internal/phrase"
	"ambertray/internal/profile"
	"ambertray/internal/tray"
)

func (a *app) rejectsCommand() *cobra.Command {
	var f entryFlags
	var all, marked, yes bool
	var limit int
	var out string
	cmd := &cobra.Command{
		Use:   "rejects ENTRY",
		Short: "Show what a load refused: by reason, then record by record",
		Long: `Shows the rejects of a load that wait, grouped by reason and column, and by value
where few different ones occur; then each with line, value and its own text.
--all shows those that were mended or waived, too.

To mend them: correct the fields in rejects.csv of the entry, behind the column
"value", with a spreadsheet or an editor, and run 'ambertray mend'.
-o writes those that wait to a file of that form. Values like =HYPERLINK(…) stand
in these files as they are, and a spreadsheet that opens them runs them; with
--for-spreadsheet they have an apostrophe before them, which mend takes off again.
A file whose name ends in .xlsx is a workbook: all fields are texts in it, so that a
spreadsheet neither runs them nor takes their zeros, and mend reads it back.

On a terminal, what is longer than the screen goes through the pager that PAGER
names, or less.`,
		Example: `  ambertray rejects latest
  ambertray rejects lock_passages --limit 200
  ambertray rejects lock_passages-20261123-061708 --json
  ambertray rejects latest -o mend.xlsx`,
		Args: args(1, 1, "an entry"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if marked && out == "" {
				return needed("--for-spreadsheet: it is about a file; name one with -o")
			}
			return a.rejects(cmd.Context(), desk.RejectsRequest{Entry: args[0], All: all, Limit: limit,
				Out: desk.Output{File: out, Over: yes}, ForSpreadsheet: marked}, &f)
		},
	}
	f.add(cmd, false)
	cmd.Flags().BoolVar(&all, "all", false, "also those that were mended or waived")
	cmd.Flags().StringVarP(&out, "output", "o", "", "file to write them to, for 'ambertray mend ENTRY FILE'")
	cmd.Flags().BoolVar(&marked, "for-spreadsheet", false, "in it, an apostrophe before what a spreadsheet would run")
	cmd.Flags().BoolVar(&yes, "yes", false, "write over an existing file")
	cmd.Flags().IntVar(&limit, "limit", 50, "how many to show record by record; 0 for all")
	return cmd
}

func (a *app) rejects(ctx context.Context, r desk.RejectsRequest, f *entryFlags) error {
	a.desk.Tray = trayDir(f.tray)
	x, err := a.desk.Rejects(ctx, r)
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(x)
	}
	if x.File != "" {
		st := a.style(a.err)
		fmt.Fprintf(a.err, "%s  %s; mend them there, and run: ambertray mend %s %s\n", st.head(x.File),
			plural(x.Count, "reject"), x.Entry, phrase.ShellWord(x.File))
		return nil
	}
	a.printRejects(x)
	return nil
}

func (a *app) printRejects(answer *desk.RejectsAnswer) {
	r := answer.Of.Receipt
	done := a.page()
	defer done()
	st := a.style(a.out)
	fmt.Fprintf(a.out, "%s  %s into %s\n\n", st.head("Rejects of "+answer.Entry), tray.Names(r.Sources),
		db.Qualified(r.Table.Schema, r.Table.Name))
	a.printAccount(st, r)
	var others []profile.Finding
	for _, f := range r.Cautions {
		if !f.Code.OfRejects() {
			f.Do = ""
			others = append(others, f)
		}
	}
	if n := len(others); n > 0 {
		fmt.Fprintf(a.out, "\n%s\n", st.title("Cautions at the load"))
		printFindings(a.out, st, others[:min(n, mostFound)])
		if n > mostFound {
			fmt.Fprintf(a.out, "  and %s more in %s\n", grouped(int64(n-mostFound)), tray.ReceiptFile)
		}
	}
	if answer.Count == 0 {
		fmt.Fprintf(a.out, "\n  %s\n", st.good("nothing waits"))
		a.printWaivers(st, r)
		return
	}
	fmt.Fprintf(a.out, "\n%s\n", st.title("By reason"))
	g := newGrid(st, ">records", "column", "reason", "values")
	for _, x := range answer.Groups {
		values := ""
		for i, v := range x.Values {
			if i > 0 {
				values += ", "
			}
			values += "'" + shorten(v.Value, 30) + "'"
			if v.Count > 1 {
				values += fmt.Sprintf(" %s×", grouped(v.Count))
			}
		}
		g.row(grouped(x.Count), x.Column, shorten(x.Reason, 60), st.dim(shorten(values, max(st.width-70, 30))))
	}
	g.render(a.out)
	fmt.Fprintf(a.out, "\n%s\n", st.title("Record by record"))
	for _, x := range answer.Rejects {
		wrong := x.Column
		for _, c := range answer.Of.Plan.Columns {
			if c.Name == x.Column {
				wrong = c.From
			}
		}
		a.printReject(st, x, answer.Headers, wrong, len(r.Sources) > 1)
	}
	if n := answer.Count - int64(len(answer.Rejects)); n > 0 {
		fmt.Fprintf(a.out, "\n  %s\n",
			st.dim(fmt.Sprintf("and %s more; --limit 0 shows all, and they are all in the file", grouped(n))))
	}
	a.printWaivers(st, r)
	if r.Verdict == tray.Waiting {
		fmt.Fprintf(a.out,
			"\n  correct  %s, behind the column \"value\"\n  then     ambertray mend %s\n  "+
				"or       ambertray mend %s --waive NUMBERS --because TEXT\n", answer.Of.Path(tray.RejectsFile),
			answer.Entry, answer.Entry)
	}
}

// printReject shows one record: what is wrong, then its fields, of which the
// one under the header wrong stands out.
func (a *app) printReject(st style, x desk.RejectRow, headers []string, wrong string, many bool) {
	where := desk.StandsAt(x.Source, x.Line, x.Cell, many)
	what := x.Reason
	if x.Column != "" {
		what = x.Column + ": " + what
	}
	state := ""
	if x.State != tray.StillWaits {
		state = "  " + st.good(x.State)
	}
	fmt.Fprintf(a.out, "\n  %s  %s  %s%s\n", st.title(fmt.Sprintf("%d", x.Reject)), st.dim(where), st.warn(what), state)
	var parts []string
	for i, f := range x.Fields {
		name := ""
		if i < len(headers) {
			name = st.dim(shorten(headers[i], 20) + " ")
		}
		if f == "" {
			f = st.dim("·")
		} else {
			f = shorten(f, 40)
		}
		if i < len(headers) && headers[i] == wrong {
			f = st.warn(f)
		}
		parts = append(parts, name+f)
	}
	line := "    "
	for i, p := range parts {
		if i > 0 && width(line)+width(p)+3 > st.width {
			fmt.Fprintln(a.out, line)
			line = "    "
		} else if i > 0 {
			line += "   "
		}
		line += p
	}
	fmt.Fprintln(a.out, line)
}

func (a *app) printWaivers(st style, r *tray.Receipt) {
	for _, w := range r.Waivers {
		fmt.Fprintf(a.out, "\n  %s  %s by %s on %s: %s\n", st.good("waived"), desk.Numbers(w.Rejects), w.By,
			w.At.Format("2006-01-02"), w.Because)
	}
}
