package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ambertray/internal/load"
	"ambertray/internal/profile"
	"ambertray/internal/reading"
	"ambertray/internal/source"
)

func (a *app) lookCommand() *cobra.Command {
	var f inputFlags
	var rows int
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
			return a.look(cmd.Context(), args, &f, rows)
		},
	}
	f.names = "safe"
	f.add(cmd)
	cmd.Flags().Int64Var(&f.records, "records", 0, "look only at the first so many records; every decision then says so")
	cmd.Flags().IntVar(&rows, "rows", 10, "how many of the first records to show")
	return cmd
}

func (a *app) look(ctx context.Context, names []string, f *inputFlags, rows int) error {
	var docs []lookSource
	blockers := 0
	for i, name := range names {
		f.once = true
		in, err := a.openAll(ctx, []string{name}, f, true)
		var choice *source.Choice
		if errors.As(err, &choice) {
			return a.printChoice(choice)
		}
		if err != nil {
			return err
		}
		var check *load.Check
		if in.given {
			if check, err = load.DryRun(ctx, load.Job{Sources: in.sources, Plan: in.plan, MaxRejects: -1}); err != nil {
				return err
			}
		}
		for _, x := range in.profile.Findings {
			if x.Weight == profile.Blocker {
				blockers++
			}
		}
		if a.json {
			docs = append(docs, lookDocument(in, check, rows))
			continue
		}
		if i > 0 {
			fmt.Fprintln(a.out)
		}
		a.printLook(in, check, rows)
	}
	if a.json {
		if err := printJSON(a.out, map[string]any{"sources": docs}); err != nil {
			return err
		}
	}
	if blockers > 0 {
		return &status{code: exitAsked}
	}
	return nil
}

// printChoice shows the sheets of a workbook, or the members of an archive,
// where one has to be chosen.
func (a *app) printChoice(c *source.Choice) error {
	if a.json {
		if err := printJSON(a.out, map[string]any{"source": c.Source, c.What + "s": c.Parts}); err != nil {
			return err
		}
		return &status{code: exitAsked}
	}
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
			notes = append(notes, "hidden")
		}
		if p.Rows == 0 {
			notes = append(notes, "empty")
		}
		if p.Merged > 0 {
			notes = append(notes, plural(p.Merged, "merged range"))
		}
		rows := ""
		if p.Rows > 0 {
			rows = grouped(p.Rows)
		}
		g.row(fmt.Sprint(i+1), shorten(p.Name, 30), p.Used, rows, st.dim(strings.Join(notes, ", ")), st.dim(shorten(p.View, max(st.width-76, 30))))
	}
	g.render(a.out)
	again := "--sheet NAME, or --sheet all for one table of them all"
	if c.What == "member" {
		again = "--member NAME, or a pattern"
	}
	fmt.Fprintf(a.out, "\n  choose one with %s\n", again)
	return &status{code: exitAsked}
}

func printJSON(w io.Writer, v any) error {
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

func (a *app) printLook(in *input, check *load.Check, rows int) {
	st := a.style(a.out)
	src, p, w := in.source, in.profile, a.out
	records := plural(p.Records, "record")
	if p.Limited {
		records = "the first " + records
	}
	name, bytes := src.Name, src.FileSize
	if n := len(in.sources); n > 1 {
		name = fmt.Sprintf("%s and %s", src.Name, plural(int64(n-1), "other source"))
		bytes = 0
		paths := map[string]bool{}
		for _, s := range in.sources {
			if !paths[s.Path] {
				bytes += s.FileSize
			}
			paths[s.Path] = true
		}
	}
	fmt.Fprintf(w, "%s  %s, %s, %s\n\n", st.head(name), size(bytes), records, plural(int64(len(p.Columns)), "column"))

	// How it is written, and why we think so.
	type fact struct{ what, value, why string }
	var facts []fact
	if len(in.sources) > 1 {
		a.printSources(st, in)
	} else {
		for _, e := range src.Evidence {
			facts = append(facts, fact{e.What, e.Value, e.Why})
		}
	}
	for _, k := range []source.Kind{source.Title, source.Ruler, source.BlankLine, source.Footer} {
		if n := p.Skipped[k]; n > 0 {
			where := ""
			if k == source.Title {
				where = "above the header"
			}
			if lines := p.SkippedLines[k]; len(lines) > 0 {
				where = "line " + grouped(lines[0])
				for _, l := range lines[1:] {
					where += ", " + grouped(l)
				}
				if n > int64(len(lines)) {
					where += " …"
				}
			} else if k == source.Title && len(in.sources) == 1 && len(src.Titles) > 0 {
				where += ": " + shorten(strings.Join(src.Titles, " ⏎ "), 60)
			}
			facts = append(facts, fact{"skipped", plural(n, k.String()+" line"), where})
		}
	}
	switch len(p.Keys) {
	case 0:
		if p.Records > 1 {
			facts = append(facts, fact{"key", "none", "no column is unique and never blank"})
		}
	default:
		var names []string
		for _, k := range p.Keys[:min(len(p.Keys), 3)] {
			names = append(names, strings.Join(k, " + "))
		}
		facts = append(facts, fact{"key", names[0], "unique and never blank" + map[bool]string{true: "; so is " + strings.Join(names[min(1, len(names)-1):], ", ")}[len(names) > 1]})
	}
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
			fmt.Fprintf(w, "  %-10s  %s%s  %s\n", what, value, strings.Repeat(" ", max(wide-width(value), 0)), st.dim(l))
		}
	}

	fmt.Fprintf(w, "\n%s\n", st.title("Columns"))
	a.printColumns(st, in, check)

	if len(p.Findings) > 0 {
		fmt.Fprintf(w, "\n%s\n", st.title("Findings"))
		printFindings(w, st, p.Findings)
	}
	if check != nil {
		fmt.Fprintf(w, "\n%s\n", st.title("With this plan"))
		a.printCheck(st, check)
	}
	if rows > 0 && in.given && in.plan.Derives() {
		a.printMade(st, in, rows)
	}
	if rows > 0 && len(p.First) > 0 {
		n := min(rows, len(p.First))
		fmt.Fprintf(w, "\n%s\n", st.title("First "+plural(int64(n), "record")))
		printRecords(w, st, map[bool]string{true: "row", false: "line"}[src.Sheet != ""], headersOf(p), p.First[:n])
	}
}

// printMade shows the first records of each of the first sources as the plan
// makes them.
func (a *app) printMade(st style, in *input, rows int) {
	var names []string
	for _, c := range in.plan.Definition().Columns {
		names = append(names, c.Name)
	}
	for k, src := range in.sources {
		if k == 3 {
			fmt.Fprintf(a.out, "  %s\n", st.dim("and "+plural(int64(len(in.sources)-k), "other source")))
			break
		}
		each := max(1, rows/min(len(in.sources), 3))
		made, err := load.Preview(context.Background(), src, in.plan, each)
		if err != nil {
			fmt.Fprintf(a.out, "\n  %s\n", st.bad(err.Error()))
			return
		}
		fmt.Fprintf(a.out, "\n%s\n", st.title("As the plan makes them: "+src.Name))
		for i := range made {
			made[i].Line = int64(i + 1)
		}
		printRecords(a.out, st, "", names, made)
	}
}

// printSources lists several sources with what tells them apart.
func (a *app) printSources(st style, in *input) {
	g := newGrid(st, "source", "header", ">columns", "lacks")
	for k, s := range in.sources {
		if k == 40 {
			g.row(st.dim(fmt.Sprintf("and %d more", len(in.sources)-k)))
			break
		}
		header := "none"
		if s.Layout.Header > 0 {
			header = s.Place(s.Layout.Header, -1)
		}
		var lacks []string
		for _, c := range in.profile.Columns {
			names := []string{source.Forgive(c.Header)}
			if in.given {
				for _, pc := range in.plan.Columns {
					for _, h := range pc.Also {
						if pc.From == c.Header {
							names = append(names, source.Forgive(h))
						}
					}
				}
			}
			if !slices.ContainsFunc(s.Layout.Columns, func(h string) bool { return slices.Contains(names, source.Forgive(h)) }) {
				lacks = append(lacks, c.Header)
			}
		}
		name := s.Name
		if s.Sheet != "" && k > 0 && in.sources[k-1].Path == s.Path {
			name = fmt.Sprintf("… sheet %q", s.Sheet)
		}
		g.row(shorten(name, 50), header, fmt.Sprint(len(s.Layout.Columns)), st.dim(shorten(strings.Join(lacks, ", "), 40)))
	}
	g.render(a.out)
	fmt.Fprintln(a.out)
}

// printColumns lists columns one below the other, so that any number of them
// stays readable. Detail at the right is dropped where the screen ends.
func (a *app) printColumns(st style, in *input, check *load.Check) {
	p := in.profile
	planned := map[int]int{} // by place in the file
	var used []string        // in expressions
	if check != nil {
		used = in.plan.Fields()
		headers := in.source.Layout.Columns
		if len(in.sources) > 1 {
			headers = load.Headers(in.sources, in.plan)
		}
		at, _, _ := in.plan.Positions(headers)
		for i, place := range at {
			planned[place] = i + 1
		}
	}
	heads := []string{">#", "column", "type", ">blank", ">distinct", "values"}
	if check != nil {
		heads = []string{">#", "column", "plan", "type", ">do not fit", "values"}
	}
	type line struct {
		cells []string
		why   string
	}
	var lines []line
	wide := make([]int, len(heads))
	for i, h := range heads {
		wide[i] = len(strings.TrimPrefix(h, ">"))
	}
	for i, c := range p.Columns {
		blank, distinct := "", ""
		if c.Blanks > 0 {
			blank = grouped(c.Blanks)
		}
		if c.NullWord > 0 {
			blank = grouped(c.Blanks + c.NullWord)
		}
		if c.Distinct > 0 {
			distinct = grouped(c.Distinct)
			if !c.DistinctExact {
				distinct = "~" + distinct
			}
		}
		cells := []string{fmt.Sprint(i + 1), shorten(c.Header, 30), c.Type.String(), blank, distinct, shorten(c.Range(), 44)}
		if check != nil {
			name, typ, miss := "left out", "", ""
			if slices.Contains(used, c.Header) {
				name = "in expressions"
			}
			if k := planned[i]; k > 0 {
				pc := in.plan.Columns[k-1]
				name, typ = pc.Name, pc.SQLType().String()
				if n := check.Misfits[k-1].Count; n > 0 {
					miss = grouped(n)
				}
			}
			cells = []string{fmt.Sprint(i + 1), shorten(c.Header, 30), shorten(name, 30), typ, miss, shorten(c.Range(), 44)}
		}
		for k, x := range cells {
			wide[k] = max(wide[k], width(x))
		}
		lines = append(lines, line{cells, c.Why})
	}
	total := 0
	for _, n := range wide {
		total += n + 2
	}
	room := st.width - total - 2
	if room >= 16 {
		heads = append(heads, "why")
	} else if total > st.width {
		// The values may give way, but not the type.
		cut := max(wide[5]-(total-st.width), 12)
		for i := range lines {
			lines[i].cells[5] = shorten(lines[i].cells[5], cut)
		}
	}
	g := newGrid(st, heads...)
	for _, l := range lines {
		cells := l.cells
		if check != nil && cells[4] != "" {
			cells[4] = st.bad(cells[4])
		}
		if room >= 16 {
			cells = append(cells, st.dim(shorten(l.why, room)))
		}
		g.row(cells...)
	}
	g.render(a.out)
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
func (a *app) printCheck(st style, c *load.Check) {
	g := newGrid(st, "", ">")
	g.row("read", grouped(c.Records.Read))
	g.row("would load", grouped(c.Records.Loaded))
	g.row("would reject", grouped(c.Records.Rejected))
	g.row("skipped", grouped(c.Records.Skipped))
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
		fmt.Fprintf(w, "  %s\n", st.dim(fmt.Sprintf("beyond the edge: %s: %s", plural(int64(left), "more column"), shorten(strings.Join(headers[shown:], ", "), st.width-50))))
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

// lookSource is one source of look --json; see docs/json.md.
type lookSource struct {
	Path      string            `json:"path"`
	Size      int64             `json:"size"`
	Encoding  string            `json:"encoding"`
	Delimiter string            `json:"delimiter"`
	Quote     string            `json:"quote"`
	Escape    string            `json:"escape"`
	Header    int64             `json:"header"`
	Evidence  []source.Evidence `json:"evidence"`
	Records   int64             `json:"records"`
	Limited   bool              `json:"limited"`
	Skipped   map[string]int64  `json:"skipped"`
	Columns   []lookColumn      `json:"columns"`
	Keys      [][]string        `json:"keys"`
	Findings  []profile.Finding `json:"findings"`
	First     []lookRecord      `json:"first"`
	Plan      *lookPlan         `json:"plan,omitempty"`
}

type lookColumn struct {
	Position      int                  `json:"position"`
	Name          string               `json:"name"`
	Header        string               `json:"header"`
	Type          string               `json:"type"`
	Required      bool                 `json:"required"`
	Blanks        int64                `json:"blanks"`
	QuotedBlanks  int64                `json:"quoted_blanks"`
	NullWords     []string             `json:"null_words,omitempty"`
	NullWordCount int64                `json:"null_word_count,omitempty"`
	Misfits       int64                `json:"misfits,omitempty"`
	Reading       any                  `json:"reading,omitempty"`
	Smallest      string               `json:"smallest"`
	Largest       string               `json:"largest"`
	Longest       int                  `json:"longest"`
	LongestBytes  int                  `json:"longest_bytes"`
	ASCII         bool                 `json:"ascii"`
	Distinct      int64                `json:"distinct"`
	DistinctExact bool                 `json:"distinct_exact"`
	Unique        bool                 `json:"unique"`
	Values        []profile.ValueCount `json:"values,omitempty"`
	Why           string               `json:"why"`
}

type lookRecord struct {
	Line   int64    `json:"line"`
	Fields []string `json:"fields"`
}

// lookPlan is what a plan would do to the file.
type lookPlan struct {
	Read     int64         `json:"read"`
	Loaded   int64         `json:"would_load"`
	Rejected int64         `json:"would_reject"`
	Skipped  int64         `json:"skipped"`
	Columns  []planMisfits `json:"columns"`
}

type planMisfits struct {
	Name     string            `json:"name"`
	Type     string            `json:"type"`
	Misfits  int64             `json:"misfits"`
	Examples []profile.Example `json:"examples,omitempty"`
}

func lookDocument(in *input, check *load.Check, rows int) lookSource {
	src, p := in.source, in.profile
	form := src.Layout.Form
	d := lookSource{Path: src.Name, Size: src.Size, Encoding: src.Layout.Encoding, Delimiter: form.Delimiter, Header: src.Layout.Header,
		Evidence: src.Evidence, Records: p.Records, Limited: p.Limited, Skipped: map[string]int64{}, Keys: p.Keys, Findings: p.Findings,
		Columns: []lookColumn{}, First: []lookRecord{}}
	if d.Keys == nil {
		d.Keys = [][]string{}
	}
	if d.Findings == nil {
		d.Findings = []profile.Finding{}
	}
	if form.Quote != 0 {
		d.Quote = string(rune(form.Quote))
	}
	if form.Escape != 0 {
		d.Escape = string(rune(form.Escape))
	}
	for k, n := range p.Skipped {
		d.Skipped[k.String()] = n
	}
	byHeader := map[int]string{}
	if !in.given {
		k := 0
		for i := range p.Columns {
			byHeader[i] = in.plan.Columns[k].Name
			k++
		}
	}
	for i, c := range p.Columns {
		x := lookColumn{Position: c.Position, Name: byHeader[i], Header: c.Header, Type: c.Type.String(), Required: c.Required, Blanks: c.Blanks,
			QuotedBlanks: c.Quoted, NullWords: c.Nulls, NullWordCount: c.NullWord, Misfits: c.Misfits, Smallest: c.Smallest, Largest: c.Largest,
			Longest: c.Longest, LongestBytes: c.LongestBytes, ASCII: c.ASCII, Distinct: c.Distinct, DistinctExact: c.DistinctExact,
			Unique: c.Unique, Why: c.Why}
		if x.Name == "" {
			x.Name = c.Header
		}
		if len(c.Values) <= 20 {
			x.Values = c.Values
		}
		if !in.given && in.plan.Columns[i].Reading != nil {
			x.Reading, _ = in.plan.Columns[i].Reading.MarshalYAML()
		}
		d.Columns = append(d.Columns, x)
	}
	for _, r := range p.First[:min(rows, len(p.First))] {
		d.First = append(d.First, lookRecord{r.Line, r.Fields})
	}
	if check != nil {
		d.Plan = &lookPlan{Read: check.Records.Read, Loaded: check.Records.Loaded, Rejected: check.Records.Rejected, Skipped: check.Records.Skipped}
		for i, c := range in.plan.Columns {
			d.Plan.Columns = append(d.Plan.Columns, planMisfits{c.Name, c.Type, check.Misfits[i].Count, check.Misfits[i].First})
		}
	}
	return d
}

func headersOf(p *profile.Profile) (out []string) {
	for _, c := range p.Columns {
		out = append(out, c.Header)
	}
	return
}
