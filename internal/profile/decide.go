package profile

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"ambertray/internal/pipeline"
	"ambertray/internal/reading"
	"ambertray/internal/source"
	"ambertray/internal/sqltype"
)

// nearMiss is the share of values that may misfit a type for it to be worth
// telling that the column would have it but for those.
const nearMiss = 0.05

// ladder is the lengths that varchar columns get, in characters.
var ladder = []int{1, 2, 3, 5, 10, 15, 20, 30, 40, 50, 60, 80, 100, 120, 160, 200, 255, 400, 500, 1000, 2000, 4000}

// decide turns evidence into columns, keys and findings.
//
// It is long because the order in which things are decided matters, and is to be seen.
func (p *Profile) decide(src *source.Source, all *worker, uniques []*unique, opt Options) {
	p.Widths = all.widths
	slices.SortFunc(p.Widths, func(a, b WidthCount) int { return cmp.Compare(b.count, a.count) })
	for k, e := range all.skipped {
		p.Skipped[k] = e.count
		for _, x := range e.first {
			p.SkippedLines[k] = append(p.SkippedLines[k], x.Line)
		}
	}
	if len(src.Titles) > 0 {
		p.Skipped[source.Title] = int64(len(src.Titles))
	}
	if all.rows != nil { // of several sources, each has its own
		p.sourceFindings(src, all)
	}
	if p.Records == 0 {
		p.find(Finding{Weight: Caution, Code: CodeNoRecords, Text: "the file has a header and no records"})
	}

	// Marks that are certain somewhere in the file decide where a column
	// alone does not.
	certain := map[reading.Mark]string{}
	for i, e := range all.cols {
		for m := range certainMarks(e) {
			if certain[m] == "" {
				certain[m] = src.Layout.Columns[i]
			}
		}
	}
	p.decideAll(src.Layout.Columns, all, uniques, decision{opt: opt, certain: certain})
	if all.rows != nil {
		p.totalFindings(src, all)
	}
	p.together(CodeTrimmed, "%d columns (%s) have values with spaces before or behind; they are taken off",
		"to keep them, set trim: false in the plan")
	for i, c := range p.Columns {
		if c.MayBeKey() && p.Records >= Few && c.Header != "" {
			p.Keys = append(p.Keys, []string{c.Header})
		}
		if uniques[i].full && c.Blanks == 0 && c.Fields > maxUnique {
			p.find(Finding{Weight: Note, Code: CodeUniqueUnknown, Column: c.Header,
				Text: fmt.Sprintf("no value stands twice among the first %s; beyond that it was not followed",
					group(maxUnique, "value"))})
		}
	}
	// The column that looks most like a key comes first.
	slices.SortStableFunc(p.Keys, func(a, b []string) int {
		return cmp.Compare(p.keyRank(a[0]), p.keyRank(b[0]))
	})
	if p.Limited {
		for _, c := range p.Columns {
			c.Why = strings.TrimSuffix(c.Why+fmt.Sprintf("; seen only in the first %s", group(p.Records, "record")),
				"; ")
		}
		p.find(Finding{Weight: Caution, Code: CodeLimited,
			Text: fmt.Sprintf("only the first %s were seen; every decision below rests on them alone",
				group(p.Records, "record")), Do: "leave out --records to read the whole file"})
	}
	slices.SortStableFunc(p.Findings, func(a, b Finding) int { return rank(a.Weight) - rank(b.Weight) })
}

// sideBySide is how many columns one goroutine takes in a row.
const sideBySide = 500

// eachRow calls do, side by side, with where rows of columns begin and end.
func eachRow(columns int, do func(from, to int)) {
	pipeline.Each((columns+sideBySide-1)/sideBySide, func(k int) {
		do(k*sideBySide, min((k+1)*sideBySide, columns))
	})
}

// decideAll decides the columns, each by its evidence alone.
func (p *Profile) decideAll(headers []string, all *worker, uniques []*unique, of decision) {
	decided, found := make([]decision, len(headers)), make([][]Finding, len(headers))
	eachRow(len(headers), func(from, to int) {
		own := &Profile{Records: p.Records} // for the findings of one column
		for i := from; i < to; i++ {
			d := of
			d.p, d.e = own, all.cols[i]
			if d.decide(headers[i], i+1, uniques[i]); of.opt.Settled {
				d.e, all.cols[i] = nil, nil
			}
			decided[i], found[i], own.Findings = d, own.Findings, nil
		}
	})
	for i, d := range decided {
		p.Columns, p.Findings = append(p.Columns, d.col), append(p.Findings, found[i]...)
		if d.p = p; !of.opt.Settled {
			p.decided = append(p.decided, d)
		}
	}
}

// decide decides the column of that header.
func (d *decision) decide(header string, position int, u *unique) {
	e := d.e
	d.values = e.fields - e.blanks
	d.col = &Column{Header: header, Position: position, Fields: e.fields, Blanks: e.blanks, Quoted: e.quoted,
		Spaces: e.spaces}
	d.col.Unique = e.blanks == 0 && d.values > 0 && !u.full && !u.gone.Load() && u.duplicates.count == 0
	d.column()
	if n := u.duplicates.count; n > 0 && n*200 <= d.values && !u.gone.Load() && e.blanks == 0 &&
		(d.col.Type.IsInteger() || d.col.Type.IsText()) {
		d.p.find(Finding{Weight: Note, Code: CodeNearlyUnique, Column: header, Count: n,
			Text:     fmt.Sprintf("would identify a record but for %s that stand twice", group(n, "value")),
			Examples: u.duplicates.first, Do: "look at these lines if the column should be a key"})
	}
}

// MayBeKey reports whether the column identifies a record, and is of a type for that.
func (c *Column) MayBeKey() bool {
	if !c.Unique || c.Misfits > 0 || c.NullWord > 0 {
		return false
	}
	switch c.Type.Kind { // others: may be keys
	case sqltype.Double, sqltype.Text, sqltype.Boolean:
		return false
	}
	return true
}

// keyRank prefers what looks meant to be a key; of these, whole numbers, then short
// codes, then the rest, each in the order of the file.
func (p *Profile) keyRank(header string) int {
	for i, c := range p.Columns {
		if c.Header != header {
			continue
		}
		if !p.KeyLike(c) {
			i += 1e8
		}
		switch {
		case c.Type.IsInteger():
			return i
		case c.Type.Kind == sqltype.UUID || c.Type.Kind == sqltype.Char || c.Type.Kind == sqltype.VarChar &&
			c.Type.Length <= 40:
			return 1e4 + i
		}
		return 1e6 + i
	}
	return 1e9
}

// decision is the work on one column.
type decision struct {
	p       *Profile
	e       *evidence
	col     *Column
	opt     Options
	certain map[reading.Mark]string
	values  int64    // fields that are not blank
	nulls   []string // words for null that some of them are
	given   bool     // a type was given: the header says nothing then
}

// answered adds what can be said to the finding that was made last.
func (d *decision) answered(text, option, value string) {
	f := &d.p.Findings[len(d.p.Findings)-1]
	*f = f.answered(text, option, value)
}

// answered is a finding with one answer more.
func (f Finding) answered(text, option, value string) Finding {
	f.Answers = append(f.Answers, Answer{text, option, value})
	return f
}

func (d *decision) find(w Weight, code Code, text, do string, count int64, ex []Example) {
	d.p.find(Finding{Weight: w, Code: code, Column: d.col.Header, Text: text, Do: do, Count: count, Examples: ex})
}

// textNulls are the null words that the caller asked for, which count in text
// columns too.
func (d *decision) textNulls(found []string) (out []string) {
	for _, w := range found {
		if slices.Contains(d.opt.NullWords, w) {
			out = append(out, w)
		}
	}
	return
}

// override puts the caller's type in the place of the one found.
func (d *decision) override() {
	for h, t := range d.opt.Types {
		if d.col.Called(h) {
			d.become(t)
		}
	}
}

// As is a column as it would be if it were of another type: with the words for
// null, the marks and the forms that the evidence has for that. Blockers are
// what the evidence leaves open then. It is nil for a header that there is not.
func (p *Profile) As(header string, t sqltype.Type) (as *Column, blockers []Finding) {
	for i := range p.decided {
		if p.decided[i].col.Header == header {
			return p.AsAt(i, Wanted{Type: t})
		}
	}
	return nil, nil
}

// Wanted is what a column is to be.
type Wanted struct {
	Type sqltype.Type // of no kind: the one that was found
	// Dates and Decimal decide, as those of Options do, what the evidence leaves open.
	Dates   string
	Decimal reading.Mark
}

// AsAt is what As is, of the column at a place.
func (p *Profile) AsAt(i int, w Wanted) (as *Column, blockers []Finding) {
	d, t := p.decided[i], w.Type
	d.opt.Dates, d.opt.Decimal = cmp.Or(w.Dates, d.opt.Dates), cmp.Or(w.Decimal, d.opt.Decimal)
	as = new(*d.col)
	d.col, d.p = as, &Profile{Records: p.Records}
	d.become(t)
	return as, d.p.Findings
}

// misfits gathers the first values that are not of a family.
func (d *decision) misfits(family string) []Example {
	e := d.e
	lists := [][]Example{e.texts.first}
	if family != "number" {
		lists = append(lists, e.ints.first.first, e.decs.first.first)
		for _, n := range e.numbers {
			lists = append(lists, n.first.first)
		}
	} else {
		f, _ := d.bestNumber()
		for _, n := range e.numbers {
			if !n.fits(&f) {
				lists = append(lists, n.first.first)
			}
		}
	}
	lists = append(lists, e.odds().zeros.first)
	for _, s := range e.dates {
		if family != "date" {
			lists = append(lists, s.first.first)
			for _, c := range s.candidates {
				lists = append(lists, c.no.first)
			}
			continue
		}
		o, _ := d.bestOrder()
		if c := s.in(o); c != nil {
			lists = append(lists, c.no.first)
		} else {
			lists = append(lists, s.candidates[0].no.first)
		}
	}
	for _, w := range e.words {
		if !slices.Contains(nullWords, w.word) && family != "truth" {
			lists = append(lists, w.first)
		}
	}
	all := mergeExamples(lists...)
	slices.SortStableFunc(all, func(a, b Example) int { return cmp.Compare(a.at, b.at) })
	return slices.CompactFunc(all, func(a, b Example) bool { return a.at == b.at })
}

// text makes the column text of the right size.
func (d *decision) text(nulls []string) {
	e, c := d.e, d.col
	c.Nulls = nulls
	for _, w := range e.words {
		if slices.Contains(nulls, w.word) {
			c.NullWord += w.count
		}
	}
	c.Required = d.required() && c.NullWord == 0
	c.Smallest, c.Largest = string(e.lo.text), string(e.hi.text)
	longest, same := e.maxChars, e.minChars == e.maxChars
	padded := &e.odds().padded
	if padded.count > 0 {
		c.Trim = padded.count*2 >= d.values
		if c.Trim {
			d.find(Note, CodeTrimmed, fmt.Sprintf("%s spaces before or behind; they are taken off",
				groupIs(padded.count, "value has", "values have")), "to keep them, set trim: false in the plan",
				padded.count, nil)
		} else {
			same = false
			longest = max(longest, e.maxRaw)
			c.Longest = longest
			d.find(Note, CodePadded, fmt.Sprintf("%s spaces before or behind, which are kept",
				groupIs(padded.count, "value has", "values have")), "to take them off, set trim: true in the plan",
				padded.count, padded.first)
		}
	}
	c.Type, c.Why = textType(longest, same && d.oneLength() && e.odds().wide.count == 0)
	if n := e.odds().formulas.count; n > 0 {
		d.find(Note, CodeFormulas, groupIs(n, "value begins like a formula", "values begin like formulas")+
			": text here; a spreadsheet that opens rejects.csv or an export of it would run it",
			"write such files with --for-spreadsheet", n, e.odds().formulas.first)
	}
}

// oneLength reports whether there is enough to go by that values of one length
// are of that length always: G01 to G20 are followed by G100. It takes many
// values, and many different ones, but for single characters.
func (d *decision) oneLength() bool {
	const many = 50
	return d.values >= many && (d.col.Longest == 1 || d.col.Distinct >= many) && d.naming(d.numbersOf()) != telephones
}

// textType is the type for text of at most longest characters, or of exactly
// so many.
func textType(longest int, same bool) (sqltype.Type, string) {
	if same && longest <= 64 {
		return sqltype.Type{Kind: sqltype.Char, Length: longest},
			fmt.Sprintf("every value has %s", group(int64(longest), "character"))
	}
	return TextFor(longest), fmt.Sprintf("longest %s", group(int64(longest), "character"))
}

// TextFor is the type of text with some room beyond the longest value.
func TextFor(longest int) sqltype.Type {
	room := longest + (longest+4)/5
	for _, n := range ladder {
		if n >= room {
			return sqltype.Type{Kind: sqltype.VarChar, Length: n}
		}
	}
	return sqltype.Type{Kind: sqltype.Text}
}

// list returns few values, the most frequent first.
func (d *distinct) list() (out []ValueCount) {
	if d.few == nil || d.many {
		return nil
	}
	for i, h := range d.few.hashes {
		if h != 0 {
			out = append(out, ValueCount{d.few.texts[i], d.few.counts[i]})
		}
	}
	slices.SortFunc(out, func(a, b ValueCount) int {
		return cmp.Or(cmp.Compare(b.Count, a.Count), cmp.Compare(a.Value, b.Value))
	})
	return
}
