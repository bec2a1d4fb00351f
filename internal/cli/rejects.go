package cli

import (
	"cmp"
	"context"
	"fmt"
	"regexp"
	"slices"

	"github.com/spf13/cobra"

	"ambertray/internal/db"
	"ambertray/internal/tray"
)

func (a *app) rejectsCommand() *cobra.Command {
	var f entryFlags
	var all bool
	var limit int
	cmd := &cobra.Command{
		Use:   "rejects ENTRY",
		Short: "Show what a load refused: by reason, then record by record",
		Long: `Shows the rejects of a load that wait, grouped by reason and column, and by value
where few different ones occur; then each with line, value and its own text.
--all shows those that were mended or waived, too.

To mend them: correct the fields in rejects.csv of the entry, behind the column
"value", with a spreadsheet or an editor, and run 'ambertray mend'.

On a terminal, what is longer than the screen goes through the pager that PAGER
names, or less.`,
		Example: `  ambertray rejects latest
  ambertray rejects lock_passages --limit 200
  ambertray rejects lock_passages-20261123-061708 --json`,
		Args: args(1, 1, "an entry"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.rejects(cmd.Context(), args[0], &f, all, limit)
		},
	}
	f.add(cmd, false)
	cmd.Flags().BoolVar(&all, "all", false, "also those that were mended or waived")
	cmd.Flags().IntVar(&limit, "limit", 50, "how many to show record by record; 0 for all")
	return cmd
}

// A rejectGroup is rejects of one reason and column.
type rejectGroup struct {
	Column string       `json:"column"`
	Reason string       `json:"reason"`
	Count  int64        `json:"count"`
	Values []valueCount `json:"values,omitempty"` // where there are few

	values map[string]int64
}

type valueCount struct {
	Value string `json:"value"`
	Count int64  `json:"count"`
}

// A rejectRow is one reject with what became of it.
type rejectRow struct {
	Reject int64    `json:"reject"`
	State  string   `json:"state"` // see tray.Outcome
	Source string   `json:"source"`
	Line   int64    `json:"line"`
	Cell   string   `json:"cell,omitempty"`
	Column string   `json:"column"`
	Reason string   `json:"reason"`
	Value  string   `json:"value"`
	Fields []string `json:"fields"`
}

const fewValues = 5 // up to so many different ones are listed

func (a *app) rejects(ctx context.Context, name string, f *entryFlags, all bool, limit int) error {
	o, err := a.entry(name, f)
	if err != nil {
		return err
	}
	r := o.receipt
	if r == nil {
		return o.unsettled()
	}
	var rows []rejectRow
	var headers []string
	groups := map[[2]string]*rejectGroup{}
	shown := int64(0)
	headers, err = o.Outcomes(ctx, r, func(x *tray.Outcome) error {
		if x.State != tray.StillWaits && !all {
			return nil
		}
		row := rejectRow{Reject: x.Number, State: x.State, Source: x.Source, Line: x.Line, Cell: x.Cell, Column: x.Column, Reason: x.Reason, Value: x.Value}
		g := groups[[2]string{row.Column, kind(row.Reason)}]
		if g == nil {
			g = &rejectGroup{Column: row.Column, Reason: kind(row.Reason), values: map[string]int64{}}
			groups[[2]string{row.Column, g.Reason}] = g
		}
		g.Count++
		if len(g.values) <= fewValues {
			g.values[row.Value]++
		}
		if shown++; limit <= 0 || len(rows) < limit {
			for _, f := range x.Fields {
				row.Fields = append(row.Fields, f.Text)
			}
			rows = append(rows, row)
		}
		return nil
	})
	if err != nil {
		return err
	}
	list := inOrder(groups)
	if a.json {
		if rows == nil {
			rows = []rejectRow{}
		}
		return printJSON(a.out, map[string]any{"entry": o.Name, "headers": headers, "groups": list, "rejects": rows, "count": shown, "records": r.Records})
	}
	done := a.page()
	defer done()
	st := a.style(a.out)
	fmt.Fprintf(a.out, "%s  %s into %s\n\n", st.head("Rejects of "+o.Name), tray.Names(r.Sources), db.Qualified(r.Table.Schema, r.Table.Name))
	a.printAccount(st, r)
	if shown == 0 {
		fmt.Fprintf(a.out, "\n  %s\n", st.good("nothing waits"))
		a.printWaivers(st, r)
		return nil
	}
	fmt.Fprintf(a.out, "\n%s\n", st.title("By reason"))
	g := newGrid(st, ">records", "column", "reason", "values")
	for _, x := range list {
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
	for _, x := range rows {
		wrong := x.Column
		for _, c := range o.plan.Columns {
			if c.Name == x.Column {
				wrong = c.From
			}
		}
		a.printReject(st, x, headers, wrong, len(r.Sources) > 1)
	}
	if n := shown - int64(len(rows)); n > 0 {
		fmt.Fprintf(a.out, "\n  %s\n", st.dim(fmt.Sprintf("and %s more; --limit 0 shows all, and they are all in the file", grouped(n))))
	}
	a.printWaivers(st, r)
	if r.Verdict == tray.Waiting {
		fmt.Fprintf(a.out, "\n  correct  %s, behind the column \"value\"\n  then     ambertray mend %s\n  or       ambertray mend %s --waive NUMBERS --because TEXT\n", o.Path(tray.RejectsFile), o.Name, o.Name)
	}
	return nil
}

// ownNumbers are what a database puts of the record into its words.
var ownNumbers = regexp.MustCompile(`\([^()=]*\)=\([^()]*\)|'[^']*'`)

// kind is a reason without the value that it names, so that groups are of
// more than one.
func kind(reason string) string { return shorten(ownNumbers.ReplaceAllString(reason, "…"), 120) }

func inOrder(groups map[[2]string]*rejectGroup) []*rejectGroup {
	list := []*rejectGroup{}
	for _, g := range groups {
		if len(g.values) <= fewValues {
			for v, n := range g.values {
				g.Values = append(g.Values, valueCount{v, n})
			}
			slices.SortFunc(g.Values, func(a, b valueCount) int {
				return cmp.Or(cmp.Compare(b.Count, a.Count), cmp.Compare(a.Value, b.Value))
			})
		}
		list = append(list, g)
	}
	slices.SortFunc(list, func(a, b *rejectGroup) int {
		return cmp.Or(cmp.Compare(b.Count, a.Count), cmp.Compare(a.Column, b.Column), cmp.Compare(a.Reason, b.Reason))
	})
	return list
}

// printReject shows one record: what is wrong, then its fields, of which the
// one under the header wrong stands out.
func (a *app) printReject(st style, x rejectRow, headers []string, wrong string, many bool) {
	where := standsAt(x.Source, x.Line, x.Cell, many)
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
		fmt.Fprintf(a.out, "\n  %s  %s by %s on %s: %s\n", st.good("waived"), numbers(w.Rejects), w.By, w.At.Format("2006-01-02"), w.Because)
	}
}

// standsAt says where a record stands: in which line, or cell of a sheet, and in
// which source, where there are many.
func standsAt(source string, line int64, cell string, many bool) string {
	place := "line " + grouped(line)
	if cell != "" {
		place = cell
	}
	if many {
		place = source + ", " + place
	}
	return place
}
