package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ambertray/internal/desk"
	"ambertray/internal/profile"
	"ambertray/internal/reading"
	"ambertray/internal/rows"
	"ambertray/internal/source"
)

func (a *app) lookCommand() *cobra.Command {
	var f inputFlags
	var first int
	cmd := &cobra.Command{
		Use:   "look SOURCE|PLAN…",
		Short: "Show what is in a file: form, columns, types, evidence, first records",
		Long: `Reads each file whole and shows what is in it: how it is written, how many
records it has, each column with the narrowest type that every value fits, and
findings that are worth a person's eye. Nothing is written.

With a plan, it also shows how many values of the file would not fit it.`,
		Example: `  ambertray look lock-passages.csv
  ambertray look lock-passages.csv --rows 25
  ambertray look export.txt --delimiter pipe --encoding windows-1252
  ambertray look passages.yaml
  ambertray look lock-passages.csv --json`,
		Args: args(1, -1, "one or more files"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.look(cmd.Context(), args, &f, first)
		},
	}
	f.names = "safe"
	f.add(cmd)
	cmd.Flags().Int64Var(&f.records, "records", 0,
		"look only at the first so many records; every decision then says so")
	cmd.Flags().IntVar(&first, "rows", 10, "how many of the first records to show")
	return cmd
}

func (a *app) look(ctx context.Context, names []string, f *inputFlags, first int) error {
	in, err := f.request(names)
	if err != nil {
		return err
	}
	if first < 0 {
		return needed("--rows %d: cannot be negative", first)
	}
	shown := 0
	answer, err := a.desk.Look(ctx, desk.LookRequest{Input: in, First: first}, func(x *desk.LookSource) {
		if a.json {
			return
		}
		if shown++; shown > 1 {
			fmt.Fprintln(a.out)
		}
		a.printLook(x)
	})
	if err != nil {
		return err
	}
	if a.json {
		if err := a.printJSON(answer.JSON()); err != nil {
			return err
		}
	} else if answer.Choice != nil {
		a.printChoice(answer.Choice)
	}
	return ends(answer.Outcome)
}

// printChoice shows the sheets of a workbook, or the members of an archive,
// where one has to be chosen.
func (a *app) printChoice(c *source.Choice) {
	st := a.style(a.out)
	fmt.Fprintf(a.out, "%s  %s\n\n", st.head(c.Source), plural(int64(len(c.Parts)), c.What))
	heads := []string{">#", c.What, "cells", ">rows", "", "begins"}
	if c.What == "member" {
		heads = []string{">#", c.What, ">unpacked"}
	}
	g := newGrid(st, heads...)
	for i, p := range c.Parts {
		if c.What == "member" {
			g.row(fmt.Sprint(i+1), p.Name, size(p.Size))
			continue
		}
		var notes []string
		if p.Hidden {
			notes = append(notes, map[bool]string{true: "very hidden", false: "hidden"}[p.Kept])
		}
		if p.Rows == 0 {
			notes = append(notes, "empty")
		}
		if p.Merged > 0 {
			notes = append(notes, plural(p.Merged, "merged range"))
		}
		if p.Pivots > 0 {
			notes = append(notes, plural(int64(p.Pivots), "pivot table"))
		}
		rows := ""
		if p.Rows > 0 {
			rows = grouped(p.Rows)
		}
		g.row(fmt.Sprint(i+1), shorten(p.Name, 30), p.Used, rows, st.dim(strings.Join(notes, ", ")),
			st.dim(shorten(p.View, max(st.width-76, 30))))
	}
	g.render(a.out)
	again := "--sheet NAME, or --sheet all for one table of them all"
	if c.What == "member" {
		again = "--member NAME, or a pattern"
	}
	if len(c.Others) > 0 {
		fmt.Fprintf(a.out, "\n  tabs without cells  %s\n", few(c.Others, 8))
	}
	if len(c.Names) > 0 {
		var names []string
		for _, n := range c.Names {
			names = append(names, fmt.Sprintf("%s (%s %s)", n.Name, n.Sheet, n.Range))
		}
		fmt.Fprintf(a.out, "\n  named ranges  %s\n", few(names, 8))
		again += ", or --range with a name"
	}
	fmt.Fprintf(a.out, "\n  choose one with %s\n", again)
}

// written writes what a command makes: to its file, and with --json the document
// to standard output; without a file only the one or the other.
func (a *app) written(to desk.Output, doc any, write func(io.Writer) error) error {
	if !a.json || to.File != "" {
		if err := to.Write(write); err != nil {
			return err
		}
	}
	if !a.json {
		return nil
	}
	return a.printJSON(doc)
}

func (a *app) printLook(x *desk.LookSource) {
	st := a.style(a.out)
	o, w := x.Opened, a.out
	src, p := o.First(), o.Profile
	records := plural(p.Records, "record")
	if p.Limited {
		records = "the first " + records
	}
	name := src.Name
	if n := len(o.Sources); n > 1 {
		name = fmt.Sprintf("%s and %s", src.Name, plural(int64(n-1), "other source"))
	}
	fmt.Fprintf(w, "%s  %s, %s, %s\n\n", st.head(name), size(source.FileBytes(o.Sources)), records,
		plural(int64(len(p.Columns)), "column"))
	if len(o.Sources) > 1 {
		a.printSources(st, o)
	}
	printFacts(w, st, factsOf(o))

	fmt.Fprintf(w, "\n%s\n", st.title("Columns"))
	a.printColumns(st, o, x.Check)

	if len(p.Findings) > 0 {
		fmt.Fprintf(w, "\n%s\n", st.title("Findings"))
		printFindings(w, st, p.Findings)
	}
	if x.Check != nil {
		fmt.Fprintf(w, "\n%s\n", st.title("With this plan"))
		a.printCheck(st, x.Check)
	}
	a.printMade(st, x)
	if n := len(x.First); n > 0 {
		fmt.Fprintf(w, "\n%s\n", st.title("First "+plural(int64(n), "record")))
		printRecords(w, st, map[bool]string{true: "row", false: "line"}[src.HasCells()], headersOf(p), p.First[:n])
	}
}

// A fact is one decision about how a file is written, and why.
type fact struct{ what, value, why string }

func factsOf(o *desk.Opened) (facts []fact) {
	p := o.Profile
	if len(o.Sources) == 1 {
		for _, e := range o.First().Evidence {
			facts = append(facts, fact{e.What, e.Value, e.Why})
		}
	}
	for _, k := range source.SkippedAlways {
		if n := p.Skipped[k]; n > 0 {
			facts = append(facts, fact{"skipped", k.Words(n), whereSkipped(o, k)})
		}
	}
	if len(p.Keys) == 0 {
		switch {
		case p.Records >= profile.Few:
			facts = append(facts, fact{"key", "none", "no column is unique and never blank"})
		case p.Records > 0:
			facts = append(facts, fact{"key", "none",
				fmt.Sprintf("fewer than %d records do not tell, nor which columns are never blank", profile.Few)})
		}
		return facts
	}
	var names []string
	for _, k := range p.Keys[:min(len(p.Keys), 3)] {
		names = append(names, strings.Join(k, " + "))
	}
	if c := p.ColumnOf(p.Keys[0]); c != nil && !p.KeyLike(c) {
		is := " is"
		if len(names) > 1 {
			is = " are"
		}
		return append(facts, fact{"key", "none", strings.Join(names, ", ") + is + " unique and never blank, but " +
			"perhaps by chance; --key takes it"})
	}
	why := "unique and never blank"
	if len(names) > 1 {
		why += "; so is " + strings.Join(names[1:], ", ")
	}
	return append(facts, fact{"key", names[0], why})
}

// whereSkipped says where lines of a kind stand.
func whereSkipped(o *desk.Opened, k source.Kind) string {
	lines, n := o.Profile.SkippedLines[k], o.Profile.Skipped[k]
	if len(lines) > 0 {
		where := "line " + grouped(lines[0])
		for _, l := range lines[1:] {
			where += ", " + grouped(l)
		}
		if n > int64(len(lines)) {
			where += " …"
		}
		return where
	}
	if k != source.Title {
		return ""
	}
	where := "above the header"
	if o.First().Layout.Header == 0 {
		where = "above the records"
	}
	if titles := o.First().Titles; len(o.Sources) == 1 && len(titles) > 0 {
		where += ": " + shorten(source.Beginnings(titles, 3), 60)
	}
	return where
}

func printFacts(w io.Writer, st style, facts []fact) {
	wide := 0
	for _, x := range facts {
		wide = max(wide, min(width(x.value), 24))
	}
	for _, x := range facts {
		for i, l := range fold(x.why, st.width-16-wide) {
			what, value := "", ""
			if i == 0 {
				what, value = x.what, shorten(x.value, 24)
			}
			line := fmt.Sprintf("  %-10s  %s%s  %s", what, value, strings.Repeat(" ", max(wide-width(value), 0)),
				st.dim(l))
			fmt.Fprintln(w, strings.TrimRight(line, " "))
		}
	}
}

// printMade shows the first records of each of the first sources as the plan
// makes them.
func (a *app) printMade(st style, x *desk.LookSource) {
	var names []string
	for _, c := range x.Opened.Plan.Definition().Columns {
		names = append(names, c.Name)
	}
	for _, m := range x.Made {
		if m.Err != nil {
			fmt.Fprintf(a.out, "\n  %s\n", st.bad(m.Err.Error()))
			return
		}
		fmt.Fprintf(a.out, "\n%s\n", st.title("As the plan makes them: "+m.Source))
		printRecords(a.out, st, "", names, m.Records)
	}
	if n := len(x.Opened.Sources) - len(x.Made); n > 0 && len(x.Made) > 0 {
		fmt.Fprintf(a.out, "  %s\n", st.dim("and "+plural(int64(n), "other source")))
	}
}

// printSources lists several sources with what tells them apart.
func (a *app) printSources(st style, o *desk.Opened) {
	g := newGrid(st, "source", "header", ">columns", "lacks")
	lacks := lacksOf(o)
	for k, s := range o.Sources {
		if k == 40 {
			g.row(st.dim(fmt.Sprintf("and %d more", len(o.Sources)-k)))
			break
		}
		header := "none"
		if s.Layout.Header > 0 {
			header = s.Place(s.Layout.Header, -1)
		}
		name := s.Name
		if s.HasCells() && k > 0 && o.Sources[k-1].Path == s.Path {
			name = fmt.Sprintf("… sheet %q", s.Sheet)
		}
		g.row(shorten(name, 50), header, fmt.Sprint(len(s.Layout.Columns)),
			st.dim(shorten(strings.Join(lacks(s), ", "), 40)))
	}
	g.render(a.out)
	fmt.Fprintln(a.out)
}

// lacksOf tells which columns a source does not have, by none of their names.
func lacksOf(o *desk.Opened) func(s *source.Source) []string {
	also := map[string][]string{} // by header
	if o.Given {
		for _, c := range o.Plan.Columns {
			also[c.From] = append(also[c.From], c.Also...)
		}
	}
	return func(s *source.Source) (lacks []string) {
		has := map[string]bool{}
		for _, h := range s.Layout.Columns {
			has[source.Forgive(h)] = true
		}
		for _, c := range o.Profile.Columns {
			if !has[source.Forgive(c.Header)] && !slices.ContainsFunc(also[c.Header],
				func(h string) bool { return has[source.Forgive(h)] }) {
				lacks = append(lacks, c.Header)
			}
		}
		return lacks
	}
}

// printColumns lists columns one below the other, so that any number of them
// stays readable. Detail at the right is dropped where the screen ends.
func (a *app) printColumns(st style, o *desk.Opened, check *rows.Check) {
	heads := []string{">#", "column", "type", ">blank", ">distinct", "values"}
	cells := columnCells
	if check != nil {
		heads = []string{">#", "column", "plan", "type", ">do not fit", "values"}
		cells = plannedCells(o, check)
	}
	const values = 5 // the place of the values
	wide := make([]int, len(heads))
	for i, h := range heads {
		wide[i] = len(strings.TrimPrefix(h, ">"))
	}
	// There may be very many columns: their cells are made twice, and not kept.
	for i, c := range o.Profile.Columns {
		for k, x := range cells(i, c) {
			wide[k] = max(wide[k], width(x))
		}
	}
	total := 0
	for _, n := range wide {
		total += n + 2
	}
	room := st.width - total - 2
	if room >= 16 {
		heads = append(heads, "why")
		wide = append(wide, 0)
	} else if total > st.width {
		// The values may give way, but not the type.
		wide[values] = max(wide[values]-(total-st.width), 12)
	}
	g := newGrid(st, heads...)
	g.widths = wide
	for i, c := range o.Profile.Columns {
		line := cells(i, c)
		line[values] = shorten(line[values], wide[values])
		if check != nil {
			line[4] = st.bad(line[4])
		}
		if room >= 16 {
			line = append(line, st.dim(shorten(c.Why, room)))
		}
		if g.row(line...); len(g.rows) == 1000 {
			g.draw(a.out)
		}
	}
	if len(g.rows) > 0 || len(o.Profile.Columns) == 0 {
		g.draw(a.out)
	}
}

// columnCells are what is shown of a column of a file.
func columnCells(i int, c *profile.Column) []string {
	blank, distinct := "", ""
	if n := c.Blanks + c.NullWord; n > 0 {
		blank = grouped(n)
	}
	if c.Distinct > 0 {
		distinct = grouped(c.Distinct)
		if !c.DistinctExact {
			distinct = "~" + distinct
		}
	}
	return []string{fmt.Sprint(i + 1), shorten(c.Header, 30), c.Type.String(), blank, distinct, shorten(c.Range(), 44)}
}

// plannedCells are what is shown of it beside a plan.
func plannedCells(o *desk.Opened, check *rows.Check) func(i int, c *profile.Column) []string {
	planned := map[int]int{} // by place in the file
	used := o.Plan.Fields()  // in expressions
	headers := o.First().Layout.Columns
	if len(o.Sources) > 1 {
		headers = o.Plan.Headers(o.Sources)
	}
	at, _, _ := o.Plan.Positions(headers)
	for i, place := range at {
		planned[place] = i + 1
	}
	return func(i int, c *profile.Column) []string {
		name, typ, miss := "left out", "", ""
		if slices.Contains(used, c.Header) {
			name = "in expressions"
		}
		if k := planned[i]; k > 0 {
			pc := o.Plan.Columns[k-1]
			name, typ = pc.Name, pc.SQLType().String()
			if n := check.Misfits[k-1].Count; n > 0 {
				miss = grouped(n)
			}
		}
		return []string{fmt.Sprint(i + 1), shorten(c.Header, 30), shorten(name, 30), typ, miss, shorten(c.Range(), 44)}
	}
}

func printFindings(w io.Writer, st style, findings []profile.Finding) {
	for _, f := range findings {
		text := f.Text
		if f.Column != "" {
			text = shorten(f.Column, 40) + ": " + text
		}
		const margin = 11
		for i, l := range fold(text, st.width-margin-1) {
			if i == 0 {
				fmt.Fprintf(w, "  %s%s%s\n", st.weight(f.Weight), strings.Repeat(" ", margin-2-len(f.Weight)), l)
			} else {
				fmt.Fprintf(w, "%*s%s\n", margin, "", l)
			}
		}
		var ex []string
		for _, e := range f.Examples {
			s := e.Place()
			if e.Value != "" {
				s += " '" + shorten(e.Value, 40) + "'"
			}
			ex = append(ex, s)
		}
		if len(ex) > 0 {
			for _, l := range fold(strings.Join(ex, ", "), st.width-margin-1) {
				fmt.Fprintf(w, "%*s%s\n", margin, "", st.dim(l))
			}
		}
		if f.Do != "" {
			for i, l := range fold(f.Do, st.width-margin-3) {
				mark := "→ "
				if i > 0 {
					mark = "  "
				}
				fmt.Fprintf(w, "%*s%s%s\n", margin, "", mark, l)
			}
		}
	}
}

// printCheck shows the account that a dry run came to.
func (a *app) printCheck(st style, c *rows.Check) {
	g := newGrid(st, "", ">", "")
	g.row("read", grouped(c.Records.Read), "")
	g.row("would load", grouped(c.Records.Loaded), "")
	g.row("would reject", grouped(c.Records.Rejected), "")
	skippedRows(g, st, c.Records.Skipped, c.Skipped)
	g.render(a.out)
	if len(c.Reasons) > 0 {
		fmt.Fprintf(a.out, "\n%s\n", st.title("Would be rejected"))
		a.printReasons(st, c.Reasons)
	}
}

// printRecords shows records as a table, as many columns as fit.
func printRecords(w io.Writer, st style, number string, headers []string, records []profile.Preview) {
	const most = 24 // characters of one value
	wide := make([]int, len(headers))
	for i, h := range headers {
		wide[i] = min(width(h), most)
		for _, r := range records {
			if i < len(r.Fields) {
				wide[i] = max(wide[i], min(width(shorten(strings.TrimSpace(r.Fields[i]), most)), most))
			}
		}
	}
	shown, total := 0, 8
	for shown < len(headers) && total+wide[shown]+2 <= st.width {
		total += wide[shown] + 2
		shown++
	}
	shown = max(shown, 1)
	heads := []string{">" + number}
	for i, h := range headers[:shown] {
		if h = shorten(h, most); numeric(records, i) {
			h = ">" + h
		}
		heads = append(heads, h)
	}
	g := newGrid(st, heads...)
	for _, r := range records {
		cells := []string{st.dim(grouped(r.Line))}
		for i := range shown {
			v := ""
			if i < len(r.Fields) {
				v = shorten(strings.TrimSpace(r.Fields[i]), most)
			}
			cells = append(cells, v)
		}
		g.row(cells...)
	}
	g.render(w)
	if left := len(headers) - shown; left > 0 {
		fmt.Fprintf(w, "  %s\n", st.dim(fmt.Sprintf("beyond the edge: %s: %s", plural(int64(left), "more column"),
			shorten(strings.Join(headers[shown:], ", "), st.width-50))))
	}
}

// numeric reports whether a column of the preview is best aligned right.
func numeric(records []profile.Preview, i int) bool {
	some := false
	var n reading.NumberScan
	for _, r := range records {
		if i >= len(r.Fields) {
			continue
		}
		v := strings.TrimSpace(r.Fields[i])
		if v == "" || v == "-" {
			continue
		}
		if !n.Scan([]byte(v)) || len(n.Digits) > 1 && n.Digits[0] == '0' && n.After == 0 {
			return false
		}
		some = true
	}
	return some
}

func headersOf(p *profile.Profile) (out []string) {
	for _, c := range p.Columns {
		out = append(out, c.Header)
	}
	return
}
