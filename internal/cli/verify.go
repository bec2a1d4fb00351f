package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ambertray/internal/account"
	"ambertray/internal/db"
	"ambertray/internal/desk"
	"ambertray/internal/proof"
	"ambertray/internal/tray"
)

func (a *app) verifyCommand() *cobra.Command {
	var f entryFlags
	var deep bool
	var limit int
	cmd := &cobra.Command{
		Use:   "verify ENTRY",
		Short: "Check source and table against the receipt again",
		Long: `Checks, at any time after a load, whether the source is still the file that was
loaded (SHA-256), whether the table still holds what the receipt says (rows, and
per column nulls, exact sum, smallest and largest value, bytes of text), and
whether the papers are those that the tray's chain has sealed.

Where rows were added to a table that had others, that can be told only as long
as nobody else has changed it; then only --deep tells.

--deep reads source and table again and compares every value, in any order of
rows, in bounded memory, and names the first records that differ. In a table
that has other rows, too, it looks for each record of the source.

A load or mend that was ended at its commit is settled here: the table tells
whether that came to be.

Exit status: 0 agrees; 1 cannot be told; 3 agrees, and rejects wait; 4 differs.`,
		Example: `  ambertray verify latest
  ambertray verify lock_passages --deep
  ambertray verify lock_passages-20261123-061708 --into postgres://keeper@standby/canal`,
		Args: args(1, 1, "an entry"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.verify(cmd.Context(), args[0], &f, deep, limit)
		},
	}
	f.add(cmd, true)
	cmd.Flags().BoolVar(&deep, "deep", false, "compare every value of the table with the source")
	cmd.Flags().IntVar(&limit, "limit", 10, "how many differing records to name")
	return cmd
}

func (a *app) verify(ctx context.Context, name string, f *entryFlags, deep bool, limit int) error {
	a.desk.Tray = trayDir(f.tray)
	v, err := a.desk.Verify(ctx, desk.VerifyRequest{Entry: name, At: f.at(f.into), Deep: deep, Limit: limit})
	if err != nil {
		return err
	}
	if a.json {
		if err := a.printJSON(v); err != nil {
			return err
		}
	} else {
		a.printVerification(v, limit)
	}
	return ends(v.Outcome())
}

func (s style) answer(x account.Answer) string {
	switch x {
	case account.Agrees:
		return s.good(string(x))
	case account.Differs:
		return s.bad(string(x))
	case account.Unknown:
	}
	return s.warn(string(x))
}

func (a *app) printVerification(v *desk.VerifyAnswer, limit int) {
	st := a.style(a.out)
	r, d := v.Receipt, v.Check
	fmt.Fprintf(a.out, "%s  %s into %s, loaded %s\n\n", st.head("Check of "+v.Entry), tray.Names(r.Sources),
		db.Qualified(r.Table.Schema, r.Table.Name),
		r.Finished.Format("2006-01-02 15:04 MST"))
	g := newGrid(st, "", "", "")
	for _, s := range v.Sources {
		g.row("source", st.answer(s.Answer), shorten(s.Path, 30)+": "+s.Text)
	}
	text := v.Rows.Text
	if text == "" {
		text = plural(v.Rows.Now, "row") + ", as after the load"
		if r.Records.Mended > 0 {
			text += " and the mending"
		}
	} else if v.Rows.Now > 0 {
		text = plural(v.Rows.Now, "row") + ": " + text
	}
	g.row("rows", st.answer(v.Rows.Answer), text)
	agree := 0
	var nulls []string
	for _, c := range v.Columns {
		switch c.Answer {
		case account.Agrees:
			agree++
		case account.Differs:
			g.row("column", st.answer(c.Answer), c.Name+": "+strings.Join(c.Differences, "; "))
		case account.Unknown:
			if c.NullsOnly {
				nulls = append(nulls, c.Name)
			}
		}
	}
	if agree > 0 {
		g.row("columns", st.good("agrees"),
			fmt.Sprintf("%d of %d: nulls, sums, smallest and largest, bytes of text", agree, len(v.Columns)))
	}
	if len(nulls) > 0 {
		g.row("columns", st.answer(account.Unknown), fmt.Sprintf("%d of %d: only the nulls of %s are compared",
			len(nulls), len(v.Columns), few(nulls, 8)))
	} else if agree == 0 && len(v.Columns) > 0 && v.Rows.Answer == account.Unknown {
		g.row("columns", st.answer(account.Unknown), "")
	}
	if d != nil {
		a.deepRow(g, st, d)
	}
	g.row("papers", st.answer(v.Papers.Answer), v.Papers.Text)
	g.render(a.out)
	if d != nil && !d.Same() {
		a.printDeep(st, d, limit)
	}
	why := ""
	if v.Answer == account.Unknown && v.Rows.Answer == account.Agrees {
		why = ": the table agrees, and the source could not be compared"
	}
	if v.Answer == account.Agrees && len(nulls) > 0 && d == nil {
		why = ", in what is compared; --deep compares more"
	}
	fmt.Fprintf(a.out, "\n  answer  %s%s%s\n", st.answer(v.Answer), why, st.dim(" in "+round(v.Took)))
	if r.Verdict == tray.Waiting {
		fmt.Fprintf(a.out, "  account %s: %s to be mended or waived\n", st.warn(string(r.Verdict)),
			plural(r.Records.Rejected, "reject"))
	}
}

func (a *app) deepRow(g *grid, st style, d *account.DeepCheck) {
	text := fmt.Sprintf("every value of %s compared with %s of the table", plural(d.Source, "record"),
		plural(d.Table, "row"))
	if d.Within {
		text = fmt.Sprintf("every record of %s looked for among %s of the table", grouped(d.Source),
			plural(d.Table, "row"))
	}
	if len(d.Left) > 0 {
		text += "; not " + strings.Join(d.NotCompared(), ", ") + ", which cannot be compared by value"
	}
	x := account.Agrees
	if !d.Same() {
		x = account.Differs
	}
	g.row("deep", st.answer(x), text)
}

// printDeep names the records that differ.
func (a *app) printDeep(st style, d *account.DeepCheck, limit int) {
	pairs, missing, extra := d.Pairs(d.Key)
	least := ""
	if d.AtLeast {
		least = "at least "
	}
	if len(pairs) > 0 {
		fmt.Fprintf(a.out, "\n%s\n", st.title("Records with other values in the table"))
		g := newGrid(st, "record", "column", "in the source", "in the table")
		for _, p := range pairs[:min(len(pairs), limit)] {
			for k, c := range p.Columns {
				where := ""
				if k == 0 {
					where = d.Place(p.Row)
				}
				g.row(where, d.Columns[c], shownValue(st, p.Values[c]), shownValue(st, p.Table[k]))
			}
		}
		g.render(a.out)
		if n := len(pairs) - limit; n > 0 {
			fmt.Fprintf(a.out, "  %s\n", st.dim("and "+plural(int64(n), "other record")))
		}
	}
	list := func(title string, rows []proof.Row, count int64) {
		if len(rows) == 0 {
			return
		}
		fmt.Fprintf(a.out, "\n%s\n", st.title(title+": "+least+grouped(count)))
		for _, r := range rows[:min(len(rows), limit)] {
			place := ""
			if r.Line > 0 {
				place = d.Place(r) + "  "
			}
			var values []string
			for i, v := range r.Values {
				values = append(values, st.dim(d.Columns[i]+" ")+shownValue(st, v))
			}
			fmt.Fprintf(a.out, "  %s%s\n", place, strings.Join(values, "  "))
		}
		if n := count - int64(min(len(rows), limit)); n > 0 {
			fmt.Fprintf(a.out, "  %s\n", st.dim("and "+grouped(n)+" more"))
		}
	}
	paired := int64(len(pairs))
	list("Records that the table lacks", missing, d.MissingCount-paired)
	list("Rows that are not of the source", extra, d.ExtraCount-paired)
}

func shownValue(st style, v *string) string {
	if v == nil {
		return st.dim("null")
	}
	if *v == "" {
		return "''"
	}
	return shorten(*v, 40)
}
