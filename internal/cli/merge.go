package cli

import (
	"fmt"
	"strings"

	"ambertray/internal/db"
	"ambertray/internal/desk"
	"ambertray/internal/load"
	"ambertray/internal/tray"
)

// mergeRows say what a merge does to the rows of the table.
func (a *app) mergeRows(g *grid, st style, m *tray.Merge) {
	by := "by whole rows"
	if len(m.Key) > 0 {
		by = "by " + strings.Join(m.Key, ", ")
	}
	g.row("inserted", grouped(m.Inserted), st.dim("new, "+by))
	if m.OnlyNew {
		return // the others are among those that are skipped
	}
	var columns []string
	for _, c := range m.Columns {
		columns = append(columns, fmt.Sprintf("%s %s", c.Name, grouped(c.Changed)))
	}
	g.row("changed", grouped(m.Changed), st.dim(few(columns, 6)))
	g.row("unchanged", grouped(m.Unchanged), "")
	switch m.Rule {
	case tray.MissingKept:
	case tray.MissingDeleted:
		g.row("deleted", grouped(m.Missing), st.dim("the file does not have them"))
	case tray.MissingMarked:
		g.row("marked", grouped(m.Missing), st.dim("the file does not have them"))
	}
}

// printMerge shows what a merge would do.
func (a *app) printMerge(m *desk.MergeAnswer) {
	st := a.style(a.out)
	fmt.Fprintf(a.out, "%s  %s into %s; nothing was written\n\n", st.head("Dry run"), m.Source,
		db.Qualified(m.Schema, m.Table))
	g := newGrid(st, "", ">", "")
	g.row("read", grouped(m.Records.Read), st.dim("records"))
	a.mergeRows(g, st, m.Merge)
	g.row("rejected", grouped(m.Records.Rejected), "")
	skippedRows(g, st, m.Records.Skipped, m.Skipped)
	g.row("in table", grouped(m.After), st.dim(grouped(m.Before)+" before"))
	g.render(a.out)
	if len(m.Changed) > 0 {
		title := "What changes"
		if n := m.Merge.Changed - int64(len(m.Changed)); n > 0 {
			title += fmt.Sprintf(", the first %d of %s rows", len(m.Changed), grouped(m.Merge.Changed))
		}
		fmt.Fprintf(a.out, "\n%s\n", st.title(title))
		g := newGrid(st, strings.Join(m.Merge.Key, ", "), "column", "is", "becomes")
		for _, r := range m.Changed {
			key := load.KeyOf(r.Key)
			for _, c := range r.Columns {
				g.row(key, c.Column, st.dim(valueOf(c.Old)), valueOf(c.New))
				key = ""
			}
		}
		g.render(a.out)
	}
	a.printKeys(st, "New", m.New, m.Merge.Inserted)
	gone := "Deleted"
	if m.Merge.Rule == tray.MissingMarked {
		gone = "Marked"
	}
	a.printKeys(st, gone, m.Gone, m.Merge.Missing)
	if len(m.Reasons) > 0 {
		fmt.Fprintf(a.out, "\n%s\n", st.title("Rejects"))
		a.printReasons(st, m.Reasons)
	}
	fmt.Fprintf(a.out, "\n%s\n", st.dim("Rows that the database itself refuses are only known when they go in."))
}

// printKeys names the first of some rows.
func (a *app) printKeys(st style, title string, keys [][]*string, count int64) {
	if len(keys) == 0 {
		return
	}
	var names []string
	for _, k := range keys {
		names = append(names, load.KeyOf(k))
	}
	text := strings.Join(names, " · ")
	if n := count - int64(len(keys)); n > 0 {
		text += " and " + plural(n, "other")
	}
	fmt.Fprintf(a.out, "\n%s\n", st.title(title))
	for _, l := range fold(text, max(st.width-2, 40)) {
		fmt.Fprintln(a.out, "  "+l)
	}
}

// valueOf shows a value, and null as what no value is.
func valueOf(v *string) string {
	if v == nil {
		return "null"
	}
	if *v == "" {
		return "''"
	}
	return shorten(*v, 36)
}
