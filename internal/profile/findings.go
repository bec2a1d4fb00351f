package profile

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"ambertray/internal/phrase"
	"ambertray/internal/reading"
	"ambertray/internal/source"
	"ambertray/internal/source/charset"
	"ambertray/internal/source/delimited"
)

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
	p.find(Finding{Weight: Note, Code: code, Count: count, Text: fmt.Sprintf(text, len(columns), shortList(columns)),
		Do: do})
}

func (p *Profile) find(f Finding) { p.Findings = append(p.Findings, f) }

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

// sourceFindings are those about the file as a whole.
func (p *Profile) sourceFindings(src *source.Source, all *worker) {
	if u := src.Undecided; u != nil {
		p.find(Finding{Weight: Blocker, Code: CodeColumnsUndecided, Text: u.What, Do: u.Do})
	}
	if src.Doubt != "" {
		line := strconv.FormatInt(src.Layout.Header, 10)
		p.find(Finding{Weight: Blocker, Code: CodeHeaderUndecided, Count: src.Layout.Header, Text: src.Doubt,
			Do: "say --header-row " + line + " for names, or --header-row 0 for a record",
			Answers: []Answer{{"it holds the names of the columns", "header", line},
				{"it is a record; the columns have no names", "header", "0"}}})
	}
	if d := src.Stray; d != "" {
		p.find(Finding{Weight: Caution, Code: CodeStrayDelimiter,
			Text: "taken as one column, though some lines have a " + source.DelimiterWord(d),
			Do: "if that separates fields, say --delimiter " + phrase.ShellWord(source.DelimiterName(d)) +
				"; if not, --delimiter none"})
	}
	if src.Merged > 0 {
		p.find(Finding{Weight: Caution, Code: CodeMergedCells, Count: src.Merged,
			Text: groupIs(src.Merged, "range of cells is", "ranges of cells are") +
				" merged; the value is in the first cell, the others are blank",
			Do: "if the value belongs to all of them, fill them in the workbook"})
	}
	if src.Links > 0 {
		p.find(Finding{Weight: Note, Code: CodeLinked, Count: int64(src.Links),
			Text: "the workbook's formulas refer to " + phrase.Count(int64(src.Links), "other workbook") +
				"; what they came to when it was saved is read"})
	}
	p.cellFindings(src)
	p.unseenFindings(src)
	p.headerFindings(src.Layout.Columns)
	p.widthFindings(len(src.Layout.Columns))
	for _, fault := range slices.Sorted(maps.Keys(all.faults)) {
		p.find(faultFinding(fault, all.faults[fault], src))
	}
	if k := p.Skipped[source.BlankLine]; k > 0 && len(src.Layout.Columns) == 1 {
		p.find(Finding{Weight: Caution, Code: CodeBlankLines, Count: k,
			Text: group(k, "blank line") + " skipped; in a file of one column they may be meant as nulls"})
	}
	p.encodingFindings(src, all)
}

// encodingFindings are about an encoding that only the letters speak for.
func (p *Profile) encodingFindings(src *source.Source, all *worker) {
	if len(src.Possible) > 0 {
		f := Finding{Weight: Blocker, Code: CodeEncodingOpen, Text: "the encoding is not certain; a line reads",
			Do: "say which with --encoding, or another that you know"}
		for i, x := range src.Possible {
			text := reading.Shorten(x.Text, 60)
			f.Text += fmt.Sprintf("%s '%s' in %s", []string{"", " or"}[min(i, 1)], text, x.Encoding)
			f.Answers = append(f.Answers, Answer{"it reads " + text, "encoding", x.Encoding})
		}
		p.find(f)
		return
	}
	for _, ev := range src.Evidence {
		if ev.What == "encoding" && ev.Guess {
			var wide []Example
			for _, e := range all.cols {
				wide = append(wide, e.odds().wide.first...)
			}
			p.find(Finding{Weight: Caution, Code: CodeEncodingGuessed, Text: "the encoding is a guess: " + ev.Value,
				Examples: mergeExamples(wide),
				Do:       "if these look wrong, name the encoding with --encoding"})
		}
	}
}

// encodingAdvice is what to do about records that are not UTF-8.
func encodingAdvice(e *examples, mixed string) string {
	var text []byte
	for _, x := range e.first {
		text = append(append(text, x.Value...), '\n')
	}
	v, err := charset.Of(text, true)
	switch {
	case mixed != "":
		return "--encoding " + mixed + " reads them, and leaves all that is UTF-8 as it is"
	case err == nil && v.Mixed != "":
		return "--encoding " + v.Mixed + " reads them, and leaves all that is UTF-8 as it is"
	case err == nil && v.Guess && len(v.Others) == 0:
		return "if the file is not UTF-8, name its encoding: these look like --encoding " + v.Encoding
	}
	return "if the file is not UTF-8, name its encoding, for instance --encoding windows-1252"
}

// cellFindings are about what a sheet's cells have beside their values.
func (p *Profile) cellFindings(src *source.Source) {
	for i, h := range src.Layout.Columns {
		example := func(c *source.CellCount) []Example {
			return []Example{{Line: int64(c.First), Value: c.Value, Cell: src.Cell(int64(c.First), i)}}
		}
		if c := src.Shown[i]; c != nil {
			p.find(Finding{Weight: Caution, Code: CodeAsShown, Column: h, Count: c.Count, Examples: example(c),
				Text: groupIs(c.Count, "number is", "numbers are") +
					" taken as the sheet shows them, with the zeros and signs of their format",
				Do: "if they are numbers, and no codes, give the column's type with --type"})
		}
		if c := src.Percent[i]; c != nil {
			p.find(Finding{Weight: Note, Code: CodeShownPercent, Column: h, Count: c.Count, Examples: example(c),
				Text: groupIs(c.Count, "number is", "numbers are") + " shown as percentages, and " +
					"taken as what is behind them: 5 % is 0.05",
				Do: "where 5 is meant, the plan can have it: value: the column's name * 100"})
		}
		if c := src.Unstored[i]; c != nil {
			ex := example(c)
			p.find(Finding{Weight: Caution, Code: CodeNoResult, Column: h, Count: c.Count, Examples: ex,
				Text: fmt.Sprintf("%s a formula whose result the file does not hold, and read as blank; the first is "+
					"%s", groupIs(c.Count, "cell has", "cells have"), ex[0].Cell),
				Do: "open the workbook in a spreadsheet program and save it, so that the results are in it"})
		}
	}
}

// unseenFindings are about what of a sheet a person does not see.
func (p *Profile) unseenFindings(src *source.Source) {
	if c := src.UnseenRows; c != nil {
		f := Finding{Weight: Caution, Code: CodeHidden, Count: c.Count,
			Examples: []Example{{Line: int64(c.First), Value: c.Value}},
			Text: groupIs(c.Count, "row is", "rows are") +
				" hidden or filtered out in the workbook, and read all the " +
				"same; the first is row " + phrase.Grouped(int64(c.First)),
			Do: "if they are not meant, say --visible"}
		if src.LeftRows != nil {
			f.Weight, f.Do = Note, ""
			f.Text = groupIs(c.Count, "row is", "rows are") +
				" hidden or filtered out in the workbook, and left out; " +
				"the first is row " + phrase.Grouped(int64(c.First))
		}
		p.find(f)
	}
	for i, h := range src.Layout.Columns {
		if c := src.Unseen[i]; c != nil {
			f := Finding{Weight: Note, Code: CodeHidden, Column: h, Count: c.Count,
				Text: "the column is hidden in the workbook, and read all the same",
				Do:   "if it is not meant, --visible leaves out what is hidden"}
			if src.Visible() {
				f.Text, f.Do = "the column is hidden in the workbook, and left out", ""
			}
			p.find(f)
		}
	}
}

// headerFindings are about names that stand twice, or are not there.
func (p *Profile) headerFindings(headers []string) {
	seen := map[string]int{}
	var twice, unnamed []string
	for i, h := range headers {
		if h == "" {
			unnamed = append(unnamed, strconv.Itoa(i+1))
		} else if seen[h]++; seen[h] == 2 {
			twice = append(twice, h)
		}
	}
	if n := int64(len(twice)); n > 0 {
		p.find(Finding{Weight: Caution, Code: CodeSameHeader, Count: n,
			Text: fmt.Sprintf("%s more than one column: %s; they are told apart by numbers",
				groupIs(n, "name heads", "names head"), shortList(twice))})
	}
	if n := int64(len(unnamed)); n > 0 {
		p.find(Finding{Weight: Caution, Code: CodeNoHeader, Count: n,
			Text: fmt.Sprintf("%s without a name in the header: number %s", group(n, "column"), shortList(unnamed)),
			Do: "called column_" + unnamed[0] + " and so on, also for --type, --key and --leave-out; a plan can name " +
				"them (ambertray plan)"})
	}
}

// widthFindings are about records with another number of fields than columns.
func (p *Profile) widthFindings(columns int) {
	var odd examples
	for _, w := range p.Widths {
		odd.merge(w.examples)
	}
	if odd.count == 0 {
		return
	}
	var kinds []string
	for _, w := range p.Widths[:min(4, len(p.Widths))] {
		kinds = append(kinds, fmt.Sprintf("%s %d", groupIs(w.count, "has", "have"), w.Fields))
	}
	weight := Caution
	if odd.count*2 > p.Records {
		weight = Blocker
	}
	p.find(Finding{Weight: weight, Code: CodeFieldCount, Count: odd.count, Examples: odd.first,
		Text: fmt.Sprintf("%s another number of fields than the header's %d: %s",
			groupIs(odd.count, "record has", "records have"), columns, strings.Join(kinds, ", ")),
		Do: "they become rejects; if there are many, check delimiter, quote and header" + p.shortened(columns)})
}

// shortened offers to read fields that are left out as null, where nothing else is
// odd.
func (p *Profile) shortened(columns int) string {
	var n int64
	for _, w := range p.Widths {
		if w.Fields > columns {
			return ""
		}
		n += w.count
	}
	if n < 2 {
		return "" // a slip, rather than a way of writing
	}
	return "; if fields are left out at the end of records, --short-records null reads them as null"
}

// faultFinding is about records that do not read as one.
func faultFinding(fault delimited.Fault, e *examples, src *source.Source) Finding {
	f := Finding{Weight: Caution, Count: e.count, Examples: e.first, Do: "such records become rejects"}
	switch fault {
	case delimited.AfterQuote:
		f.Code, f.Text = CodeAfterQuote,
			groupIs(e.count, "record has", "records have")+" text between a closing quote and the next delimiter"
		f.Do += "; if quotes are ordinary characters here, use --quote none"
	case delimited.Unclosed:
		f.Code, f.Weight = CodeUnclosedQuote, Blocker
		f.Text = fmt.Sprintf("the quote opened in the record on line %d is never closed; all text behind it is one "+
			"field", e.first[0].Line)
		f.Do = "mend the file, or use --quote none if quotes are ordinary characters here"
		f.Examples = nil
	case delimited.OverEdge:
		f.Code, f.Text = CodeOverEdge, groupIs(e.count, "record has", "records have")+" text over the edge of a column"
		f.Do += "; if the columns start elsewhere, say --columns"
	case delimited.NulByte:
		f.Code, f.Text = CodeNULByte, groupIs(e.count, "record contains", "records contain")+" a NUL byte"
	case delimited.BadEncoding:
		f.Code = CodeBadEncoding
		f.Text = fmt.Sprintf("%s that are not %s; the first on line %d, %s",
			groupIs(e.count, "record has bytes", "records have bytes"), src.Layout.Encoding,
			e.first[0].Line, WrongByte(e.first[0].Value))
		if src.Layout.Encoding == "utf-8" {
			f.Do += "; " + encodingAdvice(e, src.Mixed)
		}
		for i := range f.Examples {
			f.Examples[i].Value = strings.ToValidUTF8(f.Examples[i].Value, "\ufffd")
		}
	case delimited.NoFault:
	}
	return f
}
