package profile

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"ambertray/internal/phrase"
	"ambertray/internal/reading"
	"ambertray/internal/source"
	"ambertray/internal/source/delimited"
	"ambertray/internal/sqltype"
)

// nearMiss is the share of values that may misfit a type for it to be worth
// telling that the column would have it but for those.
const nearMiss = 0.05

// ladder is the lengths that varchar columns get, in characters.
var ladder = []int{1, 2, 3, 5, 10, 15, 20, 30, 40, 50, 60, 80, 100, 120, 160, 200, 255, 400, 500, 1000, 2000, 4000}

// decide turns evidence into columns, keys and findings.
func (p *Profile) decide(src *source.Source, all *worker, uniques []*unique, opt Options) {
	p.Widths = all.widths
	slices.SortFunc(p.Widths, func(a, b WidthCount) int { return cmp.Compare(b.count, a.count) })
	for k, e := range all.skipped {
		p.Skipped[k] = e.count
		for _, x := range e.first {
			p.SkippedLines[k] = append(p.SkippedLines[k], lineIn(x.Line))
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
	p.decided = make(map[string]decision, len(all.cols))
	for i, e := range all.cols {
		header := src.Layout.Columns[i]
		d := decision{p: p, e: e, opt: opt, certain: certain,
			col:    &Column{Header: header, Position: i + 1, Fields: e.fields, Blanks: e.blanks, Quoted: e.quoted},
			values: e.fields - e.blanks,
		}
		u := uniques[i]
		d.col.Unique = e.blanks == 0 && d.values > 0 && !u.full && !u.gone.Load() && u.duplicates.count == 0
		d.column()
		p.decided[header] = d
		p.Columns = append(p.Columns, d.col)
		if n := u.duplicates.count; n > 0 && n*200 <= d.values && !u.gone.Load() && e.blanks == 0 && (d.col.Type.IsInteger() || d.col.Type.IsText()) {
			p.find(Finding{Weight: Note, Code: CodeNearlyUnique, Column: header, Count: n,
				Text:     fmt.Sprintf("would identify a record but for %s that stand twice", group(n, "value")),
				Examples: u.duplicates.first, Do: "look at these lines if the column should be a key"})
		}
	}
	p.together(CodeTrimmed, "%d columns (%s) have values with spaces before or behind; they are taken off", "to keep them, set trim: false in the plan")
	for i, c := range p.Columns {
		if c.Unique && c.Misfits == 0 && c.NullWord == 0 {
			switch c.Type.Kind {
			case sqltype.Double, sqltype.Text, sqltype.Boolean:
			default:
				if p.Records > 1 {
					p.Keys = append(p.Keys, []string{c.Header})
				}
			}
		}
		if uniques[i].full && c.Blanks == 0 && c.Fields > maxUnique {
			p.find(Finding{Weight: Note, Code: CodeUniqueUnknown, Column: c.Header,
				Text: fmt.Sprintf("no value stands twice among the first %s; beyond that it was not followed", group(maxUnique, "value"))})
		}
	}
	// The column that looks most like a key comes first.
	slices.SortStableFunc(p.Keys, func(a, b []string) int {
		return cmp.Compare(p.keyRank(a[0]), p.keyRank(b[0]))
	})
	if p.Limited {
		for _, c := range p.Columns {
			c.Why = strings.TrimSuffix(c.Why+fmt.Sprintf("; seen only in the first %s", group(p.Records, "record")), "; ")
		}
		p.find(Finding{Weight: Caution, Code: CodeLimited, Text: fmt.Sprintf("only the first %s were seen; every decision below rests on them alone", group(p.Records, "record")), Do: "leave out --records to read the whole file"})
	}
	slices.SortStableFunc(p.Findings, func(a, b Finding) int { return weightRank(a.Weight) - weightRank(b.Weight) })
}

// together makes one finding of those that say the same of several columns.
func (p *Profile) together(code Code, text, do string) {
	var columns []string
	var count int64
	for _, f := range p.Findings {
		if f.Code == code {
			columns = append(columns, f.Column)
			count += f.Count
		}
	}
	if len(columns) < 2 {
		return
	}
	p.Findings = slices.DeleteFunc(p.Findings, func(f Finding) bool { return f.Code == code })
	p.find(Finding{Weight: Note, Code: code, Count: count, Text: fmt.Sprintf(text, len(columns), shortList(columns)), Do: do})
}

func weightRank(w Weight) int { return map[Weight]int{Blocker: 0, Caution: 1, Note: 2}[w] }

// keyRank prefers whole numbers, then short codes, then the rest, each in the
// order of the file.
func (p *Profile) keyRank(header string) int {
	for i, c := range p.Columns {
		if c.Header != header {
			continue
		}
		switch {
		case c.Type.IsInteger():
			return i
		case c.Type.Kind == sqltype.UUID || c.Type.Kind == sqltype.Char || c.Type.Kind == sqltype.VarChar && c.Type.Length <= 40:
			return 1e4 + i
		}
		return 1e6 + i
	}
	return 1e9
}

func (p *Profile) find(f Finding) { p.Findings = append(p.Findings, f) }

// sourceFindings are those about the file as a whole.
func (p *Profile) sourceFindings(src *source.Source, all *worker) {
	if src.Doubt != "" {
		p.find(Finding{Weight: Caution, Code: CodeHeaderAssumed, Count: src.Layout.Header, Text: fmt.Sprintf("line %d was taken as the header; %s", src.Layout.Header, src.Doubt)})
	}
	if src.Merged > 0 {
		p.find(Finding{Weight: Caution, Code: CodeMergedCells, Count: src.Merged, Text: fmt.Sprintf("%s merged; the value is in the first cell, the others are blank", groupIs(src.Merged, "range of cells is", "ranges of cells are")),
			Do: "if the value belongs to all of them, fill them in the workbook"})
	}
	seen := map[string]int{}
	var twice, unnamed []string
	for i, c := range src.Layout.Columns {
		if c == "" {
			unnamed = append(unnamed, strconv.Itoa(i+1))
		} else if seen[c]++; seen[c] == 2 {
			twice = append(twice, c)
		}
	}
	if len(twice) > 0 {
		p.find(Finding{Weight: Caution, Code: CodeSameHeader, Count: int64(len(twice)),
			Text: fmt.Sprintf("%s more than one column: %s; they are told apart by numbers", groupIs(int64(len(twice)), "name heads", "names head"), shortList(twice))})
	}
	if len(unnamed) > 0 {
		p.find(Finding{Weight: Caution, Code: CodeNoHeader, Count: int64(len(unnamed)),
			Text: fmt.Sprintf("%s without a name in the header: number %s", group(int64(len(unnamed)), "column"), shortList(unnamed))})
	}
	var odd examples
	for _, w := range p.Widths {
		odd.merge(w.examples)
	}
	if odd.count > 0 {
		var kinds []string
		for _, w := range p.Widths[:min(4, len(p.Widths))] {
			kinds = append(kinds, fmt.Sprintf("%s %d", groupIs(w.count, "has", "have"), w.Fields))
		}
		weight := Caution
		if odd.count*2 > p.Records {
			weight = Blocker
		}
		p.find(Finding{Weight: weight, Code: CodeFieldCount, Count: odd.count, Examples: odd.first,
			Text: fmt.Sprintf("%s another number of fields than the header's %d: %s", groupIs(odd.count, "record has", "records have"), len(src.Layout.Columns), strings.Join(kinds, ", ")),
			Do:   "they become rejects; if there are many, check delimiter, quote and header"})
	}
	for fault, e := range all.faults {
		f := Finding{Weight: Caution, Count: e.count, Examples: e.first, Do: "such records become rejects"}
		switch fault {
		case delimited.AfterQuote:
			f.Code, f.Text = CodeAfterQuote, groupIs(e.count, "record has", "records have")+" text between a closing quote and the next delimiter"
			f.Do += "; if quotes are ordinary characters here, use --quote none"
		case delimited.Unclosed:
			f.Code, f.Weight = CodeUnclosedQuote, Blocker
			f.Text = fmt.Sprintf("the quote opened in the record on line %d is never closed; all text behind it is one field", lineIn(e.first[0].Line))
			f.Do = "mend the file, or use --quote none if quotes are ordinary characters here"
			f.Examples = nil
		case delimited.NulByte:
			f.Code, f.Text = CodeNULByte, groupIs(e.count, "record contains", "records contain")+" a NUL byte"
		case delimited.BadEncoding:
			f.Code = CodeBadEncoding
			f.Text = fmt.Sprintf("%s that are not %s; the first on line %d, %s", groupIs(e.count, "record has bytes", "records have bytes"), src.Layout.Encoding, lineIn(e.first[0].Line), WrongByte(e.first[0].Value))
			if src.Layout.Encoding == "utf-8" {
				f.Do += "; if the file is not UTF-8, name its encoding, for instance --encoding windows-1252"
			}
			for i := range f.Examples {
				f.Examples[i].Value = strings.ToValidUTF8(f.Examples[i].Value, "\ufffd")
			}
		}
		p.find(f)
	}
	if k := p.Skipped[source.BlankLine]; k > 0 && len(src.Layout.Columns) == 1 {
		p.find(Finding{Weight: Caution, Code: CodeBlankLines, Count: k, Text: fmt.Sprintf("%s skipped; in a file of one column they may be meant as nulls", group(k, "blank line"))})
	}
	for _, ev := range src.Evidence {
		if ev.What == "encoding" && !ev.Given && strings.Contains(ev.Why, "a guess") {
			var wide []Example
			for _, e := range all.cols {
				wide = append(wide, e.wide.first...)
			}
			p.find(Finding{Weight: Caution, Code: CodeEncodingGuessed, Text: "the encoding is a guess: " + ev.Value, Examples: mergeExamples(wide), Do: "if these look wrong, name the encoding with --encoding"})
		}
	}
}

// WrongByte tells where in raw the first byte stands that is not UTF-8.
func WrongByte(raw string) string {
	chars := 1
	for i := 0; i < len(raw); {
		r, n := utf8.DecodeRuneInString(raw[i:])
		if r == utf8.RuneError && n == 1 {
			return fmt.Sprintf("character %d, byte %02X", chars, raw[i])
		}
		chars++
		i += n
	}
	return "after the part shown"
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
}

func (d *decision) find(w Weight, code Code, text, do string, count int64, ex []Example) {
	d.p.find(Finding{Weight: w, Code: code, Column: d.col.Header, Text: text, Do: do, Count: count, Examples: ex})
}

// A candidate is a type that the column might have.
type candidate struct {
	family string
	fits   int64
	apply  func() // makes the column so
}

func (d *decision) column() {
	e, c := d.e, d.col
	c.Longest, c.LongestBytes, c.ASCII = e.maxChars, e.maxBytes, e.wide.count == 0
	c.Distinct, c.DistinctExact = e.values.count()
	c.Values = e.values.list()
	if c.Unique {
		c.Distinct, c.DistinctExact = d.values, true
	}
	if e.values.off {
		c.Distinct, c.DistinctExact = 0, false
	}
	if d.values == 0 {
		c.Type = sqltype.Type{Kind: sqltype.Text}
		c.Why = "no value to tell it from"
		if c.Blanks == 0 {
			d.override()
			return
		}
		c.Why = "blank in every record"
		d.find(Caution, CodeAllBlank, "blank in every record; the type is a guess", "leave the column out, or give its type", c.Blanks, nil)
		d.override()
		return
	}
	if n := e.numerals; n.count*2 > d.values {
		d.find(Note, CodeNumbersAsText, fmt.Sprintf("%s written as text in the sheet, and kept as text", groupIs(n.count, "number is", "numbers are")),
			"if they are numbers, give the column's type with --type", n.count, n.first)
	}
	// Words for null are left out of what has to fit; the wanted ones in any case.
	var nulls examples
	var nullWordList []string
	for _, w := range e.words {
		if slices.Contains(nullWords, w.word) || slices.Contains(d.opt.NullWords, w.word) {
			nulls.merge(w.examples)
			nullWordList = append(nullWordList, w.word)
		}
	}
	slices.Sort(nullWordList)
	d.nulls = nullWordList
	left := d.values - nulls.count

	// Of those that fit as well, the first is taken: whole numbers that all
	// read as dates are dates.
	cands := []candidate{d.truth(), d.date(), d.number(), {family: "uuid", fits: e.uuids, apply: func() {
		c.Type = sqltype.Type{Kind: sqltype.UUID}
		c.Smallest, c.Largest = strings.ToLower(string(e.lo.text)), strings.ToLower(string(e.hi.text))
		c.Why = "every value has the form of a uuid"
	}}}
	best := slices.MaxFunc(cands, func(a, b candidate) int { return cmp.Compare(a.fits, b.fits) })
	miss := left - best.fits
	share := float64(miss) / float64(max(left, 1))
	textNulls := d.textNulls(nullWordList)
	switch {
	case best.fits > 0 && (miss == 0 || share <= d.opt.Tolerate):
		c.Required = e.blanks == 0 && nulls.count == 0
		c.Nulls, c.NullWord, c.Misfits = nullWordList, nulls.count, miss
		best.apply()
		if nulls.count > 0 {
			d.find(Note, CodeNullWord, fmt.Sprintf("%s read as null: %s", groupIs(nulls.count, "value is", "values are"), quoteList(nullWordList)),
				"without that the column would be text; the plan lists the words", nulls.count, nulls.first)
		}
		if miss > 0 {
			d.find(Caution, CodeTolerated, fmt.Sprintf("%s not fit %s and will be rejected", groupIs(miss, "value does", "values do"), c.Type),
				"they are within the share that --tolerate allows", miss, d.misfits(best.family))
		}
	default:
		d.text(textNulls)
		if best.fits > 0 && (share <= nearMiss || miss <= 3 && left >= 10) {
			t := *c
			n := len(d.p.Findings)
			best.apply()
			would := c.Type
			*c = t
			d.p.Findings = d.p.Findings[:n]
			d.find(Caution, CodeNearMiss, fmt.Sprintf("would be %s but for %s of %s", would, grouped(miss), group(left, "value")),
				fmt.Sprintf("mend the file, or take them as rejects with --type %s, or --tolerate %s", flag(c.Header, would), phrase.Share(share)),
				miss, d.misfits(best.family))
		} else if e.zeros.count > 0 && e.zeros.count+e.ints.count == left {
			c.Why = fmt.Sprintf("%s with leading zeros, which a number would lose; %s", groupIs(e.zeros.count, "code", "codes"), c.Why)
		}
		if nulls.count > 0 && len(textNulls) == 0 {
			d.find(Note, CodeNullWordKept, fmt.Sprintf("%s %s, kept as text", groupIs(nulls.count, "value is", "values are"), quoteList(nullWordList)),
				"if they mean null, say --null-word "+shellWord(nullWordList[0]), nulls.count, nulls.first)
		}
	}
	if c.Type.IsText() && e.quoted > 0 && e.blanks > e.quoted {
		d.find(Note, CodeQuotedEmpty, fmt.Sprintf("%s written as \"\" and %s as nothing; both become null", groupIs(e.quoted, "blank is", "blanks are"), grouped(e.blanks-e.quoted)),
			"to keep \"\" as an empty text, use --keep-empty quoted", e.quoted, nil)
	}
	d.override()
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
		if strings.EqualFold(h, d.col.Header) {
			d.become(t)
		}
	}
}

// become makes the column one of a type that was given. The way of writing is
// still that of the evidence; what that leaves open for this type blocks, and
// what it had left open for the one that was found does not any more.
func (d *decision) become(t sqltype.Type) {
	c := d.col
	if t.Kind == c.Type.Kind {
		c.Type = t
		c.Why = "as given; " + c.Why
		return
	}
	found := c.Type
	wasRequired := d.e.blanks == 0
	own := func(f Finding) bool { return f.Weight == Blocker && f.Column == c.Header }
	d.p.Findings = slices.DeleteFunc(d.p.Findings, own)
	findings := len(d.p.Findings)
	var cand candidate
	switch {
	case t.IsNumber():
		cand = d.number()
	case t.IsTemporal():
		cand = d.date()
	case t.Kind == sqltype.Boolean:
		cand = d.truth()
	}
	if cand.apply != nil && cand.fits > 0 {
		cand.apply()
		c.Nulls = d.nulls
		wasRequired = wasRequired && len(d.nulls) == 0
	}
	made := slices.Clone(d.p.Findings[findings:])
	d.p.Findings = append(d.p.Findings[:findings], slices.DeleteFunc(made, func(f Finding) bool { return !own(f) })...)
	c.Type, c.Required = t, wasRequired
	c.Why = fmt.Sprintf("as given; the values would make it %s", found)
	if t.Kind >= sqltype.Timestamp && t.Kind <= sqltype.TimestampTZ || t.Kind == sqltype.Date || t.Kind == sqltype.Time {
		c.Dates = slices.DeleteFunc(c.Dates, func(p *reading.Pattern) bool {
			return p.HasDate() != (t.Kind != sqltype.Time) || p.HasZone() != (t.Kind == sqltype.TimestampTZ)
		})
	}
}

// As is a column as it would be if it were of another type: with the words for
// null, the marks and the forms that the evidence has for that. Blockers are
// what the evidence leaves open then. It is nil for a header that there is not.
func (p *Profile) As(header string, t sqltype.Type) (as *Column, blockers []Finding) {
	d, ok := p.decided[header]
	if !ok {
		return nil, nil
	}
	as = new(*d.col)
	d.col, d.p = as, &Profile{}
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
	lists = append(lists, e.zeros.first)
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
	slices.SortStableFunc(all, func(a, b Example) int { return cmp.Compare(a.Line, b.Line) })
	return slices.CompactFunc(all, func(a, b Example) bool { return a.Line == b.Line })
}

// truth is the candidate boolean: two words of one pair, and both of them.
func (d *decision) truth() candidate {
	var best candidate
	best.family = "truth"
	for _, pair := range truthPairs {
		var n [2]int64
		var word [2]string
		for _, w := range d.e.words {
			for i := range pair {
				if strings.EqualFold(w.word, pair[i]) {
					n[i] += w.count
					word[i] = w.word
				}
			}
		}
		if n[0] > 0 && n[1] > 0 && n[0]+n[1] > best.fits {
			best.fits = n[0] + n[1]
			best.apply = func() {
				c := d.col
				c.Type = sqltype.Type{Kind: sqltype.Boolean}
				c.True, c.False = word[0], word[1]
				c.Smallest, c.Largest = "false", "true"
				c.Why = fmt.Sprintf("%s %s, %s %s", grouped(n[0]), word[0], grouped(n[1]), word[1])
			}
		}
	}
	return best
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
	c.Required = e.blanks == 0 && c.NullWord == 0
	c.Smallest, c.Largest = string(e.lo.text), string(e.hi.text)
	longest, same := e.maxChars, e.minChars == e.maxChars
	if e.padded.count > 0 {
		c.Trim = e.padded.count*2 >= d.values
		if c.Trim {
			d.find(Note, CodeTrimmed, fmt.Sprintf("%s spaces before or behind; they are taken off", groupIs(e.padded.count, "value has", "values have")), "to keep them, set trim: false in the plan", e.padded.count, nil)
		} else {
			same = false
			longest = max(longest, e.maxRaw)
			c.Longest = longest
			d.find(Note, CodePadded, fmt.Sprintf("%s spaces before or behind, which are kept", groupIs(e.padded.count, "value has", "values have")), "to take them off, set trim: true in the plan", e.padded.count, e.padded.first)
		}
	}
	c.Type, c.Why = textType(longest, same && d.values >= 5 && e.wide.count == 0)
}

// textType is the type for text of at most longest characters, or of exactly
// so many.
func textType(longest int, same bool) (sqltype.Type, string) {
	if same && longest <= 64 {
		return sqltype.Type{Kind: sqltype.Char, Length: longest}, fmt.Sprintf("every value has %s", group(int64(longest), "character"))
	}
	why := fmt.Sprintf("longest %s", group(int64(longest), "character"))
	room := longest + (longest+4)/5
	for _, n := range ladder {
		if n >= room {
			return sqltype.Type{Kind: sqltype.VarChar, Length: n}, why
		}
	}
	return sqltype.Type{Kind: sqltype.Text}, why
}

// fits reports whether the form is read by f.
func (n *numberForm) fits(f *reading.Number) bool {
	if n.exponent {
		return false
	}
	s := reading.NumberScan{Group: n.group, Fraction: n.mark, Either: n.either, Percent: n.percent, Currency: n.currency, Sign: n.sign}
	_, ok := f.Fits(&s)
	return ok
}

// certainMarks are the decimal marks that a column proves.
func certainMarks(e *evidence) map[reading.Mark]bool {
	m := map[reading.Mark]bool{}
	if e.decs.count > 0 && e.decs.count*2 > e.texts.count {
		m[reading.Point] = true
	}
	for _, n := range e.numbers {
		if n.mark != reading.NoMark && n.count*2 > e.texts.count {
			m[n.mark] = true
		}
		// What groups thousands is not the decimal mark.
		if n.group == reading.Comma && n.mark == reading.NoMark && n.either == reading.NoMark {
			m[reading.Point] = true
		}
		if n.group == reading.Point && n.mark == reading.NoMark {
			m[reading.Comma] = true
		}
	}
	return m
}

// bestNumber is the way of writing that reads most of the column's numbers.
// ambiguous is the mark that stands once before three digits and that nothing
// in the column decides.
func (d *decision) bestNumber() (best reading.Number, ambiguous reading.Mark) {
	e := d.e
	currencies := []string{""}
	signs := []reading.Sign{reading.Leading}
	percents := []bool{false}
	for _, n := range e.numbers {
		if n.currency != "" && !slices.Contains(currencies, n.currency) {
			currencies = append(currencies, n.currency)
		}
		if !slices.Contains(signs, n.sign) {
			signs = append(signs, n.sign)
		}
		if n.percent && len(percents) == 1 {
			percents = append(percents, true)
		}
	}
	top := int64(-1)
	var tied []reading.Number
	for _, thousands := range []reading.Mark{reading.NoMark, reading.Comma, reading.Point, reading.Space, reading.Apostrophe} {
		for _, decimal := range []reading.Mark{reading.NoMark, reading.Point, reading.Comma} {
			if decimal != reading.NoMark && thousands == decimal {
				continue
			}
			for _, cur := range currencies {
				for _, sign := range signs {
					for _, pct := range percents {
						f := reading.Number{Thousands: thousands, Decimal: decimal, Currency: cur, Negative: sign, Percent: pct}
						fits := int64(0)
						if !pct {
							fits = e.ints.count
							if decimal == reading.Point {
								fits += e.decs.count
							}
						}
						for _, n := range e.numbers {
							if n.fits(&f) {
								fits += n.count
							}
						}
						if fits > top {
							top, tied = fits, nil
						}
						if fits == top {
							tied = append(tied, f)
						}
					}
				}
			}
		}
	}
	best = tied[0]
	for _, n := range e.numbers {
		if n.either == reading.NoMark || !n.fits(&best) {
			continue
		}
		asFraction, asGroup := -1, -1
		for i, f := range tied {
			if f.Decimal == n.either && asFraction < 0 {
				asFraction = i
			}
			if f.Thousands == n.either && f.Decimal != n.either && asGroup < 0 {
				asGroup = i
			}
		}
		if asFraction < 0 || asGroup < 0 {
			continue
		}
		ambiguous = n.either
		mark := d.opt.Decimal
		if mark == reading.NoMark && len(d.certain) == 1 {
			for m := range d.certain {
				mark = m
			}
		}
		if mark == reading.NoMark && n.either == reading.Point {
			mark = reading.Point
		}
		if mark == n.either || mark == reading.NoMark {
			best = tied[asFraction]
		} else {
			best = tied[asGroup]
		}
	}
	return best, ambiguous
}

// number is the candidate of the number types.
func (d *decision) number() candidate {
	e, c := d.e, d.col
	f, ambiguous := d.bestNumber()
	fits := int64(0)
	whole, fraction := 0, 0
	var lo, hi scaled
	some := false
	add := func(count int64, w, fr int, l, h scaled) {
		if count == 0 {
			return
		}
		fits += count
		whole, fraction = max(whole, w), max(fraction, fr)
		if !some {
			lo, hi, some = l, h, true
		} else {
			lo, hi = minScaled(lo, l), maxScaled(hi, h)
		}
	}
	if !f.Percent {
		if e.ints.count > 0 {
			add(e.ints.count, max(digits(e.ints.lo), digits(e.ints.hi)), 0, scaled{e.ints.lo, 0}, scaled{e.ints.hi, 0})
		}
		if f.Decimal == reading.Point {
			add(e.decs.count, e.decs.whole, e.decs.fraction, e.decs.lo, e.decs.hi)
		}
	}
	var grouped1, signed, percent, exponent int64
	var exponents []Example
	plainExponent := true // no exponent with a point or sign
	wide := 0             // most digits in all
	for _, n := range e.numbers {
		if n.exponent {
			exponent += n.count
			exponents = mergeExamples(exponents, n.first.first)
			for _, x := range n.first.first {
				if strings.ContainsAny(x.Value, ".+-") {
					plainExponent = false
				}
			}
			continue
		}
		if !n.fits(&f) {
			continue
		}
		l, h, w, fr := n.lo, n.hi, n.whole, n.fraction
		if n.either != reading.NoMark && f.Decimal != n.either {
			l.scale, h.scale, w, fr = 0, 0, n.whole+3, 0
		}
		if n.group != reading.NoMark || n.either != reading.NoMark && f.Decimal != n.either {
			grouped1 += n.count
		}
		if n.sign != reading.Leading {
			signed += n.count
		}
		if n.percent {
			percent += n.count
		}
		add(n.count, w, fr, l, h)
		wide = max(wide, n.digits)
	}
	// What is not seen is not written into the plan.
	if fraction == 0 {
		f.Decimal = reading.NoMark
	}
	if grouped1 == 0 {
		f.Thousands = reading.NoMark
	}
	asDouble := exponent > 0 && (e.decs.count > 0 || !plainExponent)
	if asDouble {
		fits += exponent
	}
	return candidate{family: "number", fits: fits, apply: func() {
		c.Number = f
		c.Smallest, c.Largest = lo.plain(fraction), hi.plain(fraction)
		var why []string
		switch {
		case asDouble || whole+fraction > sqltype.MaxPrecision:
			c.Type = sqltype.Type{Kind: sqltype.Double}
			if asDouble {
				why = append(why, fmt.Sprintf("%s an exponent", groupIs(exponent, "value has", "values have")))
				c.Smallest, c.Largest = "", ""
			} else {
				c.Type = sqltype.Type{Kind: sqltype.Text}
				why = append(why, fmt.Sprintf("up to %d digits, more than a decimal holds", whole+fraction))
			}
		case fraction == 0 && whole <= 18:
			c.Type = integerType(lo.n, hi.n, c.Unique)
		case fraction == 0 && wide <= 19 && d.fitsBigint():
			c.Type = sqltype.Type{Kind: sqltype.BigInt}
		default:
			room := min(whole+1+fraction, sqltype.MaxPrecision)
			c.Type = sqltype.Type{Kind: sqltype.Decimal, Precision: max(room, whole+fraction), Scale: fraction}
		}
		if wide > 18 {
			c.Smallest, c.Largest = "", ""
			why = append(why, fmt.Sprintf("up to %d digits", wide))
		}
		if grouped1 > 0 {
			why = append(why, fmt.Sprintf("%s %q between thousands", groupIs(grouped1, "value has", "values have"), f.Thousands.String()))
		}
		if f.Decimal == reading.Comma {
			why = append(why, "decimal comma")
		}
		if f.Currency != "" {
			why = append(why, "written with "+f.Currency)
		}
		if signed > 0 {
			how := "in brackets"
			if f.Negative == reading.Trailing {
				how = "with the minus behind"
			}
			why = append(why, fmt.Sprintf("%s %s", groupIs(signed, "negative", "negatives"), how))
		}
		if percent > 0 {
			d.find(Note, CodePercent, fmt.Sprintf("%s a percent sign; the number before it is what is loaded (12.5%% is 12.5)", groupIs(percent, "value has", "values have")), "", percent, nil)
		}
		c.Why = strings.Join(why, "; ")
		d.numberFindings(ambiguous, f)
	}}
}

// fitsBigint reports whether all numbers beyond 18 digits are within bigint.
func (d *decision) fitsBigint() bool {
	r := reading.Reader{Type: sqltype.Type{Kind: sqltype.BigInt}}
	if r.Prepare() != nil {
		return false
	}
	var v reading.Value
	for _, n := range d.e.numbers {
		if n.digits > 18 && (r.Read([]byte(n.big), false, &v) != reading.OK) {
			return false
		}
	}
	return true
}

func (d *decision) numberFindings(ambiguous reading.Mark, f reading.Number) {
	e, c := d.e, d.col
	if ambiguous != reading.NoMark {
		var ex []Example
		var count int64
		for _, n := range e.numbers {
			if n.either == ambiguous {
				ex, count = mergeExamples(ex, n.first.first), count+n.count
			}
		}
		as := "a decimal mark"
		if f.Decimal != ambiguous {
			as = "a thousands separator"
		}
		name := map[reading.Mark]string{reading.Comma: "comma", reading.Point: "point"}[ambiguous]
		switch {
		case d.opt.Decimal != reading.NoMark:
		case len(d.certain) == 1:
			other := ""
			for _, h := range d.certain {
				other = h
			}
			d.find(Caution, CodeMarkByOthers, fmt.Sprintf("the %s in %s is taken as %s, because of how %q is written", name, groupIs(count, "value", "values"), as, other),
				"if that is wrong, say --decimal comma or --decimal point", count, ex)
		case ambiguous == reading.Point:
			d.find(Caution, CodeMarkAssumed, fmt.Sprintf("the point in %s is taken as the decimal mark, as in SQL; nothing in the file says otherwise", groupIs(count, "value", "values")),
				"if it separates thousands, say --decimal comma", count, ex)
		default:
			d.find(Blocker, CodeMarkUndecided, fmt.Sprintf("the %s in %s may separate thousands or be the decimal mark; nothing in the file decides it", name, groupIs(count, "value", "values")),
				"say --decimal point (then commas separate thousands) or --decimal comma", count, ex)
		}
	}
	if c.Type.IsInteger() && e.ints.count > 1 {
		switch lo, hi := e.ints.lo, e.ints.hi; {
		case lo == 0 && hi == 1:
			d.find(Note, CodeZeroOne, "holds only 0 and 1; it is taken as a number", "if it means no and yes, use --type "+flag(c.Header, sqltype.Type{Kind: sqltype.Boolean}), e.ints.count, nil)
		case lo >= 946684800 && hi < 4102444800:
			d.find(Note, CodeUnixSeconds, fmt.Sprintf("could be Unix time in seconds: %s … %s", string(reading.AppendTimestamp(nil, lo*1e6, 0)), string(reading.AppendTimestamp(nil, hi*1e6, 0))), "", e.ints.count, nil)
		case lo >= 946684800000 && hi < 4102444800000:
			d.find(Note, CodeUnixMilliseconds, fmt.Sprintf("could be Unix time in milliseconds: %s … %s", string(reading.AppendTimestamp(nil, lo*1e3, 0)), string(reading.AppendTimestamp(nil, hi*1e3, 0))), "", e.ints.count, nil)
		}
	}
	if c.Type.Kind == sqltype.Decimal && c.Type.Scale > 0 && e.decs.count > 0 && e.decs.nonzero == 0 && len(e.numbers) == 0 {
		d.find(Note, CodeWhole, "every value is whole; only zeros stand behind the point", "", e.decs.count, nil)
	}
}

// integerType gives room for twice the largest value seen. A key may grow
// further and is never less than integer.
func integerType(lo, hi int64, key bool) sqltype.Type {
	reach := max(hi, -lo)
	switch {
	case reach <= 1<<14 && !key:
		return sqltype.Type{Kind: sqltype.SmallInt}
	case reach <= 1<<30:
		return sqltype.Type{Kind: sqltype.Integer}
	}
	return sqltype.Type{Kind: sqltype.BigInt}
}

func digits(n int64) int { return len(strconv.FormatInt(abs(n), 10)) }

// plain writes the number with at least so many decimals.
func (a scaled) plain(scale int) string {
	s := string(reading.AppendDecimal(nil, a.n, a.scale))
	if d := scale - a.scale; d > 0 {
		if a.scale == 0 {
			s += "."
		}
		s += strings.Repeat("0", d)
	}
	return s
}

// in is the candidate of a shape under an order, or nil.
func (s *dateShape) in(o order) *dateCandidate {
	for _, c := range s.candidates {
		if c.order == fixed || c.order == o {
			return c
		}
	}
	return nil
}

// bestOrder is the order that reads most values; undecided when another reads
// as many.
func (d *decision) bestOrder() (best order, undecided []order) {
	var fits [orders]int64
	numeric := false
	for _, s := range d.e.dates {
		for o := dayFirst; o < orders; o++ {
			if c := s.in(o); c != nil {
				fits[o] += c.fits
				numeric = numeric || c.order != fixed
			}
		}
	}
	best = dayFirst
	for o := dayFirst; o < orders; o++ {
		if fits[o] > fits[best] {
			best = o
		}
	}
	if !numeric {
		return best, nil
	}
	for o := dayFirst; o < orders; o++ {
		if fits[o] == fits[best] {
			undecided = append(undecided, o)
		}
	}
	if len(undecided) < 2 {
		return best, nil
	}
	if want := wantedOrder(d.opt.Dates); slices.Contains(undecided, want) {
		return want, nil
	}
	return best, undecided
}

// wantedOrder is what the option --dates says of the order.
func wantedOrder(s string) order {
	switch s {
	case "":
		return fixed
	case "day-first":
		return dayFirst
	case "month-first":
		return monthFirst
	case "year-first":
		return yearFirst
	}
	y, m, d := strings.IndexByte(s, 'y'), strings.IndexByte(s, 'M'), strings.IndexByte(s, 'd')
	switch {
	case y < 0 || m < 0 || d < 0:
		return fixed
	case d < m && m < y:
		return dayFirst
	case m < d && d < y:
		return monthFirst
	case y < m && m < d:
		return yearFirst
	}
	return fixed
}

// date is the candidate of dates, times and timestamps.
func (d *decision) date() candidate {
	e, c := d.e, d.col
	o, undecided := d.bestOrder()
	var used []*dateCandidate
	fits, timed := int64(0), int64(0)
	var zoned, local, clock int64
	var lo, hi int64
	for _, s := range e.dates {
		x := s.in(o)
		if x == nil || x.fits == 0 {
			continue
		}
		isZoned := hasLetter(x.parts, "Xz")
		switch {
		case x.y < 0:
			clock += x.fits
		case isZoned:
			zoned += x.fits
		default:
			local += x.fits
		}
		used = append(used, x)
	}
	// A column is either times of day, or with zones, or without.
	keep := func(x *dateCandidate) bool {
		isClock, isZoned := x.y < 0, hasLetter(x.parts, "Xz")
		switch {
		case clock > zoned && clock > local:
			return isClock
		case zoned > local:
			return isZoned && !isClock
		}
		return !isZoned && !isClock
	}
	used = slices.DeleteFunc(used, func(x *dateCandidate) bool { return !keep(x) })
	slices.SortStableFunc(used, func(a, b *dateCandidate) int { return cmp.Compare(b.fits, a.fits) })
	for i, x := range used {
		fits += x.fits
		timed += x.timed
		if i == 0 {
			lo, hi = x.lo, x.hi
		}
		lo, hi = min(lo, x.lo), max(hi, x.hi)
	}
	compact := e.ints.count > 0 && e.ints.compact == e.ints.count
	if compact && (len(used) == 0 || clock == 0 && zoned == 0) {
		fits += e.ints.count
		day := func(n int64) int64 { return reading.Days(int(n/10000), int(n/100%100), int(n%100)) * 86400e6 }
		if len(used) == 0 {
			lo, hi = day(e.ints.lo), day(e.ints.hi)
		}
		lo, hi = min(lo, day(e.ints.lo)), max(hi, day(e.ints.hi))
	} else {
		compact = false
	}
	return candidate{family: "date", fits: fits, apply: func() {
		var merged [][]component
		pivot := false
	shapes:
		for _, x := range used {
			pivot = pivot || x.yy
			for i, m := range merged {
				if w, ok := mergeParts(m, x.parts); ok {
					merged[i] = w
					continue shapes
				}
			}
			merged = append(merged, x.parts)
		}
		c.Dates = nil
		var names []string
		fraction := 0
		for _, m := range merged {
			s := patternOf(m)
			pat, err := reading.ParsePattern(s)
			if err != nil {
				continue // cannot be: every shape that resolves has a pattern
			}
			c.Dates = append(c.Dates, pat)
			names = append(names, s)
			for _, part := range m {
				if part.letter == 'S' {
					fraction = max(fraction, part.width)
				}
			}
		}
		if compact {
			c.Dates = append(c.Dates, reading.MustPattern("yyyyMMdd"))
			names = append(names, "yyyyMMdd")
		}
		precision := 0
		if fraction > 0 {
			if precision = 3; fraction > 3 {
				precision = 6
			}
		}
		first := func(us int64, t sqltype.Type) string {
			v := reading.Value{Int: us}
			if t.Kind == sqltype.Date {
				v.Int = floorDay(us)
			}
			return v.Plain(t)
		}
		switch {
		case len(used) > 0 && used[0].y < 0:
			c.Type = sqltype.Type{Kind: sqltype.Time, Precision: precision}
		case len(used) > 0 && hasLetter(used[0].parts, "Xz"):
			c.Type = sqltype.Type{Kind: sqltype.TimestampTZ, Precision: precision}
		case timed > 0:
			c.Type = sqltype.Type{Kind: sqltype.Timestamp, Precision: precision}
		default:
			c.Type = sqltype.Type{Kind: sqltype.Date}
		}
		c.Smallest, c.Largest = first(lo, c.Type), first(hi, c.Type)
		c.Why = strings.Join(names, " or ")
		if w := d.orderWhy(o); w != "" {
			c.Why += "; " + w
		}
		if c.Type.Kind == sqltype.Date && len(used) > 0 && hasLetter(used[0].parts, "Hh") {
			d.find(Note, CodeMidnight, "every time of day is midnight, so that a date holds it all", "", fits, nil)
		}
		if pivot {
			d.find(Note, CodeTwoDigitYear, fmt.Sprintf("years have two digits: 69 to 99 are read as 19.., 00 to 68 as 20..; dates run from %s to %s", c.Smallest, c.Largest), "to draw the line elsewhere, set pivot in the plan's reading", fits, nil)
		}
		if compact && len(used) == 0 && d.values < 20 {
			d.find(Caution, CodeCompactDate, "whole numbers that all read as dates yyyyMMdd", "if they are plain numbers, use --type "+flag(c.Header, sqltype.Type{Kind: sqltype.Integer}), e.ints.count, nil)
		}
		if len(undecided) > 1 {
			var ex []Example
			for _, s := range e.dates {
				ex = mergeExamples(ex, s.first.first)
			}
			names := []string{}
			for _, u := range undecided {
				names = append(names, []string{"", "day-first", "month-first", "year-first"}[u])
			}
			d.find(Blocker, CodeDatesUndecided, fmt.Sprintf("the dates read as well %s; no value decides it", strings.Join(names, " as ")),
				"say --dates "+strings.Join(names, " or --dates "), fits, ex)
		}
	}}
}

func floorDay(us int64) int64 {
	d := us / 86400e6
	if us%86400e6 < 0 {
		d--
	}
	return d
}

// orderWhy says which values decided the order of a numeric date.
func (d *decision) orderWhy(o order) string {
	var other [orders]int64 // values that other orders cannot read
	numeric := false
	for _, s := range d.e.dates {
		mine := s.in(o)
		if mine == nil || mine.order == fixed {
			continue
		}
		numeric = true
		for _, c := range s.candidates {
			if c.order != o {
				other[c.order] += mine.fits - min(c.fits, mine.fits)
			}
		}
	}
	if !numeric {
		return ""
	}
	switch o {
	case dayFirst:
		return fmt.Sprintf("%s a first part above 12, which only a day can be", groupIs(other[monthFirst], "value has", "values have"))
	case monthFirst:
		return fmt.Sprintf("%s a second part above 12, which only a day can be", groupIs(other[dayFirst], "value has", "values have"))
	}
	return "the values read only year first"
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

// Range is the smallest and largest value as a person reads them, numbers
// with commas between thousands. It is "" where there are none.
func (c *Column) Range() string {
	lo, hi := c.Smallest, c.Largest
	if c.Type.IsNumber() {
		lo, hi = groupPlain(lo), groupPlain(hi)
	}
	if lo == hi {
		return lo
	}
	return reading.Shorten(lo, 24) + " … " + reading.Shorten(hi, 24)
}

// grouped writes n with commas between thousands.
func grouped(n int64) string { return phrase.Grouped(n) }

func groupPlain(s string) string {
	neg := strings.HasPrefix(s, "-")
	s = strings.TrimPrefix(s, "-")
	whole, rest := s, ""
	if i := strings.IndexByte(s, '.'); i >= 0 {
		whole, rest = s[:i], s[i:]
	}
	var b bytes.Buffer
	if neg {
		b.WriteByte('-')
	}
	for i := range len(whole) {
		if i > 0 && (len(whole)-i)%3 == 0 {
			b.WriteByte(',')
		}
		b.WriteByte(whole[i])
	}
	return b.String() + rest
}

func group(n int64, noun string) string { return phrase.Count(n, noun) }

func groupIs(n int64, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return grouped(n) + " " + many
}

func quoteList(words []string) string {
	var q []string
	for _, w := range words {
		q = append(q, "'"+w+"'")
	}
	return shortList(q)
}

func shortList(s []string) string {
	if len(s) > 6 {
		return strings.Join(s[:6], ", ") + fmt.Sprintf(" and %d more", len(s)-6)
	}
	return strings.Join(s, ", ")
}

func flag(header string, t sqltype.Type) string {
	return shellWord(header + "=" + t.String())
}

// shellWord quotes s for a shell where it must be.
func shellWord(s string) string {
	if s != "" && strings.Trim(s, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-./=,:+@%") == "" {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}
