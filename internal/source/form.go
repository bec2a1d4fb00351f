package source

import (
	"bytes"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"ambertray/internal/phrase"
	"ambertray/internal/reading"
	"ambertray/internal/source/delimited"
)

// usual is how many of the delimiters, from the first, are so; the others are tried only
// where none of these gives columns.
const usual = 4

// delimiters are tried in this order.
var delimiters = []string{"\t", "|", ";", ",", "\x1f", "¦", "^", "~", ":", "#", "!", "*", "§", "\x01"}

func (s *Source) decideForm(text []byte, whole bool, known Known) error {
	if s.own {
		s.Layout.Form, s.Layout.Pad = sheetForm, true
		return nil
	}
	s.Undecided, s.ruled, s.Stray = nil, 0, ""
	if known.Columns != nil {
		s.Layout.Form = delimited.Form{Starts: known.Columns, Apart: true}
		for _, line := range linesOf(text, whole) {
			// Where the columns touch somewhere, they may touch anywhere.
			s.Layout.Form.Apart = s.Layout.Form.Apart && (keepsApart(line, known.Columns) || drawn(line) != nil)
		}
		s.note("columns", widthsOf(known.Columns), "", true)
		if err := s.Layout.Form.Validate(); err != nil {
			return &Problem{Source: s.Name, What: err.Error(), Decision: true}
		}
		return nil
	}
	f := formOf(known)
	s.decideComment(text, whole, known, &f)
	if known.Delimiter != nil {
		f = separated(f, *known.Delimiter)
		if err := f.Validate(); err != nil {
			return &Problem{Source: s.Name, What: err.Error(), Decision: true}
		}
		s.note("delimiter", DelimiterWord(*known.Delimiter), "", true)
	} else if done := s.findDelimiter(text, whole, known, &f); done {
		return nil
	}
	s.decideQuote(text, whole, known, &f)
	if err := f.Validate(); err != nil {
		return &Problem{Source: s.Name, What: err.Error(), Decision: true}
	}
	s.Layout.Form = f
	return nil
}

// formOf is the usual form, with what is known.
func formOf(known Known) delimited.Form {
	f := delimited.DefaultForm
	if known.Quote != nil {
		f.Quote = 0
		if *known.Quote != "" {
			f.Quote = (*known.Quote)[0]
		}
	}
	if known.Escape != nil && *known.Escape != "" {
		f.Escape = (*known.Escape)[0]
	}
	f.Marked = known.Marked != nil && *known.Marked
	return f
}

// separated is a form with a delimiter, which may be [Blanks].
func separated(f delimited.Form, d string) delimited.Form {
	if f.Delimiter = d; d == Blanks {
		f.Delimiter, f.Blanks = " ", true
	}
	return f
}

// A trial is what a text comes to with one delimiter.
type trial struct {
	delimiter   string
	fields      int // that most records have
	agree, rows int
	first       int64 // line of the first that agrees
	spaced      bool  // a blank follows on it everywhere, as in prose
	rest        bool  // all from the first on agree, and few stand above
	// left is how many fields the widest records have, if all below titles have more
	// than half as many: fields are left out at the end.
	left int
}

// try splits the text with a delimiter: does it give the same number of fields,
// again and again?
func try(text []byte, whole bool, f delimited.Form, d string) trial {
	t := trial{delimiter: d, fields: 1}
	if d == "," || d == ";" {
		all := bytes.Count(text, []byte(d))
		t.spaced = all > 0 && bytes.Count(text, []byte(d+" ")) == all
	}
	counts := map[int]int{}
	rows := sampleWith(text, whole, separated(f, d), sampleRecords, false)
	for _, r := range rows {
		if !r.record() {
			continue
		}
		n := len(r.fields)
		t.left = max(t.left, n)
		t.rows++
		counts[n]++
	}
	begun := 0
	for _, r := range rows {
		if fits := 2*len(r.fields) > t.left; fits && r.record() {
			begun++
		} else if r.record() && begun > 0 {
			t.left = 0
		}
	}
	if t.left < 3 || 3*counts[t.left] < t.rows || t.rows-begun > 5 {
		t.left = 0
	}
	for n, c := range counts {
		if n > 1 && (c > t.agree || c == t.agree && n > t.fields) {
			t.fields, t.agree = n, c
		}
	}
	above := 0
	for _, r := range rows {
		switch agrees := len(r.fields) == t.fields; {
		case !r.record():
		case agrees && t.first == 0:
			t.first, t.rest = r.line, true
		case !agrees && t.first == 0:
			above++
		case !agrees:
			t.rest = false
		}
	}
	t.rest = t.rest && above <= 5 && t.agree > 1 && t.fields > 2
	return t
}

// better reports whether a trial explains the text better than the best so far.
// A header that takes part counts for more than a few rows.
func (t trial) better(best trial) bool {
	switch {
	// Commas of prose stand in records, and in no header.
	case best.fields > 1 && best.spaced && !t.spaced && t.first < best.first:
		return true
	case best.fields > 1 && t.spaced && !best.spaced && best.first < t.first:
		return false
	case best.fields < 2 || t.agree*10 > best.agree*11:
		return true
	case t.agree*11 <= best.agree*10:
		return false
	case t.first != best.first:
		return t.first < best.first
	case t.agree != best.agree:
		return t.agree > best.agree
	case t.spaced != best.spaced:
		return best.spaced
	}
	return t.fields > best.fields
}

// tryAll tries the characters that separate fields, and returns the two that explain
// the text best.
func tryAll(text []byte, whole bool, f delimited.Form) (best, second trial) {
	var left trial // where fields are left out
	for i, d := range delimiters {
		if i == usual && best.fields > 1 {
			break
		}
		if i >= usual && lineBegins(text, d) || d == ":" && inValues(text) {
			continue // it marks lines, or belongs to values, and does not separate fields
		}
		t := try(text, whole, f, d)
		if t.left > left.left && !t.spaced {
			left = t
		}
		if t.fields < 2 || t.agree*2 < t.rows && !t.rest {
			continue
		}
		if t.better(best) {
			best, second = t, best
		} else if second.fields < 2 {
			second = t
		}
	}
	if left.left > 0 && left.delimiter != best.delimiter && (best.spaced || best.first > left.first) {
		left.fields = left.left
		best, second = left, best
	}
	return best, second
}

// findDelimiter finds the delimiter that explains the text best. done tells that
// the text has columns of fixed width instead.
func (s *Source) findDelimiter(text []byte, whole bool, known Known, f *delimited.Form) (done bool) {
	var fixed *columnsFound
	if known.Quote == nil && known.Escape == nil {
		fixed = fixedColumns(text, whole)
	}
	if fixed != nil && fixed.header > 0 {
		s.takeColumns(fixed)
		return true
	}
	best, second := tryAll(text, whole, *f)
	// Within quotes that blanks separate, commas may stand in every line.
	torn := (best.delimiter == "," || best.delimiter == ";") && tears(text, whole, *f, best.delimiter)
	if torn {
		best.agree, best.rest = 0, false
	}
	if best.fields < 2 || strings.Contains(":#!*", best.delimiter) || torn ||
		best.agree < best.rows && best.delimiter == "," {
		if blanks := byRuns(text, whole, *f, best, fixed); blanks.fields > 1 {
			best, second = blanks, trial{}
		} else if fixed != nil && best.fields < 2 {
			s.takeColumns(fixed)
			return true
		}
	}
	if best.fields < 2 {
		best, second = ragged(text, whole, *f), trial{}
	}
	if s.maybeOne(text, whole, *f, best) {
		best = trial{}
	}
	*f = separated(*f, best.delimiter)
	if best.fields < 2 {
		s.note("delimiter", "none", "no character separates the first records into the same number of fields", false)
		s.Stray = stray(text)
		return false
	}
	why := fmt.Sprintf("%d fields in %d of the first %s", best.fields, best.agree, phrase.Plain(best.rows, "line"))
	if second.fields > 1 {
		why += fmt.Sprintf("; %s only in %d", DelimiterWord(second.delimiter), second.agree)
	}
	s.note("delimiter", DelimiterWord(best.delimiter), why, false)
	return false
}

// decimals is a number with two digits behind a comma.
var decimals = regexp.MustCompile(`^[-+]?\d{1,3}(\.?\d{3})*,\d\d$`)

// maybeOne finds texts of what may be one column, whose values hold the delimiter once:
// below a lone name, or prices with a comma. A character that hardly ever is a delimiter
// is none there; with others the person is asked.
func (s *Source) maybeOne(text []byte, whole bool, f delimited.Form, best trial) bool {
	if best.fields != 2 || best.delimiter == "\t" || best.delimiter == Blanks {
		return false
	}
	in := pairsOf(sample(text, whole, separated(f, best.delimiter), sampleRecords))
	if in.table() || !in.belowName() && !(best.delimiter == "," && in.prices()) {
		return false
	}
	if !slices.Contains(delimiters[:usual], best.delimiter) {
		return true
	}
	word := DelimiterWord(best.delimiter)
	s.Undecided = &Undecided{What: fmt.Sprintf("every line but for a name holds one %s: it may separate two columns, "+
		"or belong to the values of one: %s", word, reading.Shorten(in.rows[0].raw, 60)),
		Do: fmt.Sprintf("say --delimiter %s for two columns, or --delimiter none for one", word)}
	return false
}

// pairs are rows of two fields, perhaps below one of one field.
type pairs struct {
	name string
	rows []sampleRow
	// others have another number of fields; quoted have quotes.
	others, quoted int
}

func pairsOf(rows []sampleRow) (p pairs) {
	for _, r := range rows {
		switch {
		case !r.record():
			continue
		case len(r.fields) == 2:
			p.rows = append(p.rows, r)
		case len(p.rows) == 0 && p.name == "" && len(r.fields) == 1:
			p.name = r.fields[0]
		default:
			p.others++
		}
		p.quoted += min(r.quoted, 1)
	}
	return p
}

// table reports whether the first row names a column of numbers or dates.
func (p *pairs) table() bool {
	if len(p.rows) < 2 || isData(p.rows[0].fields[0]) || isData(p.rows[0].fields[1]) {
		return false
	}
	typed := [2]bool{true, true}
	for _, r := range p.rows[1:] {
		for c := range typed {
			typed[c] = typed[c] && isData(r.fields[c])
		}
	}
	return typed[0] || typed[1]
}

// belowName reports whether all stand below a name, not in quotes, and their first
// fields do not count up.
func (p *pairs) belowName() bool {
	if p.name == "" || len(strings.Fields(p.name)) > 2 || p.others > 0 || p.quoted > 0 || len(p.rows) == 0 {
		return false
	}
	for i, r := range p.rows {
		if r.fields[0] != strconv.Itoa(i+1) {
			return true
		}
	}
	return false
}

// prices reports whether all are numbers with two digits behind a comma.
func (p *pairs) prices() bool {
	other := func(r sampleRow) bool { return !decimals.MatchString(strings.TrimSpace(r.raw)) }
	return p.name == "" && p.others == 0 && len(p.rows) > 1 && !slices.ContainsFunc(p.rows, other)
}

// colonsOf matches colons that stand in times, links, addresses of machines and paths.
var colonsOf = regexp.MustCompile(`(?i)\b\d{1,2}(:\d\d)+\b|[a-z]+://|\b[0-9a-f]{2}(:[0-9a-f]{2}){3,}\b|\b[a-z]:\\`)

// inValues reports whether all colons stand within values of which they are a part.
func inValues(text []byte) bool {
	return bytes.IndexByte(text, ':') < 0 || !bytes.ContainsRune(colonsOf.ReplaceAll(text, nil), ':')
}

// stray is a character in some lines of a text of one column that may separate fields
// after all; empty: there is none.
func stray(text []byte) string {
	for _, d := range []string{"\t", "|", ";", ","} {
		lines, least := 0, map[string]int{"\t": 1, "|": 1}[d]
		for line := range bytes.Lines(text) {
			line = bytes.TrimRight(line, "\r\n")
			quoted := len(line) > 1 && line[0] == '"' && bytes.IndexByte(line[1:], '"') == len(line)-2
			if n := bytes.Count(line, []byte(d)); !quoted && n > bytes.Count(line, []byte(d+" ")) {
				lines++
			}
		}
		if lines >= max(least, 2) || lines > 0 && least == 1 {
			return d
		}
	}
	return ""
}

// byRuns is the trial of runs of blanks, if it explains the text better than the best
// so far and than columns of fixed width: all lines, or nearly, have the same number
// of fields, and most of these are numbers.
func byRuns(text []byte, whole bool, f delimited.Form, best trial, fixed *columnsFound) trial {
	t := try(text, whole, f, Blanks)
	every := t.agree == t.rows
	if inQuotes(text, whole, f, every) || fixed != nil && every && !filledAll(linesOf(text, whole), fixed.starts) {
		// Columns of fixed width have no quotes; and blanks cannot separate so many
		// fields in every line where one of their fields is blank.
		fixed = nil
	}
	switch {
	case t.rows < 2 || t.fields < 2 || t.agree*20 < t.rows*19 || t.rows-t.agree > 20,
		best.rest, best.fields > 1 && (t.agree <= best.agree || t.agree < t.rows),
		fixed != nil && t.fields <= len(fixed.starts),
		t.fields == 2 && t.agree < t.rows,
		!numbersAfter(text, whole, f, fixed != nil):
		return trial{}
	}
	return t
}

// inQuotes reports whether a tenth of the rows, or any where one will do, have fields in
// quotes, if blanks separate them.
func inQuotes(text []byte, whole bool, f delimited.Form, one bool) bool {
	rows := sample(text, whole, separated(f, Blanks), 100)
	n := 0
	for _, r := range rows {
		if r.quoted > 0 && r.fault == delimited.NoFault {
			n++
		}
	}
	return n > 0 && (one || 10*n >= len(rows))
}

// tears reports whether a delimiter cuts through quotes in half of the rows.
func tears(text []byte, whole bool, f delimited.Form, d string) bool {
	rows := sample(text, whole, separated(f, d), 100)
	torn := 0
	for _, r := range rows {
		if r.fault == delimited.AfterQuote {
			torn++
			continue
		}
		for _, v := range r.fields {
			if r.quoted == 0 && strings.Count(v, `"`)%2 == 1 {
				torn++
				break
			}
		}
	}
	return torn > 0 && 2*torn >= len(rows)
}

// decideQuote tries the ways of quoting and takes the one with fewest faults.
func (s *Source) decideQuote(text []byte, whole bool, known Known, f *delimited.Form) {
	if known.Quote != nil {
		s.note("quote", QuoteName(f.Quote), "", true)
	} else if s.findQuote(text, whole, known, f) {
		return
	}
	if known.Escape != nil {
		name := "doubled quotes"
		if *known.Escape != "" {
			name = *known.Escape
		}
		s.note("escape", name, "", true)
	}
}

// A quoting is what a text comes to with one way of quoting.
type quoting struct {
	faults   int // records with text behind a quote, or an open quote
	unclosed bool
	quoted   int // fields
	needed   int // of them, that hold a delimiter or a line break
	modal    int // records of the most frequent number of fields
}

func quotingOf(text []byte, whole bool, f delimited.Form) (q quoting) {
	counts := map[int]int{}
	for _, r := range sample(text, whole, f, sampleRecords) {
		if r.fault == delimited.AfterQuote || r.fault == delimited.Unclosed {
			q.faults++
		}
		q.unclosed = q.unclosed || r.fault == delimited.Unclosed
		q.quoted += r.quoted
		counts[len(r.fields)]++
		for _, v := range r.fields {
			if f.Delimiter != "" && strings.Contains(v, f.Delimiter) ||
				strings.IndexByte(v, '\n') >= 0 || strings.IndexByte(v, '\r') >= 0 {
				q.needed++
			}
		}
	}
	for _, c := range counts {
		q.modal = max(q.modal, c)
	}
	return q
}

// findQuote finds how fields are quoted. escaped tells that the escape character
// was found with it, or that there is none.
func (s *Source) findQuote(text []byte, whole bool, known Known, f *delimited.Form) (escaped bool) {
	single, none, back := *f, *f, *f
	single.Quote, none.Quote, back.Escape = '\'', 0, '\\'
	var double, sq, nq, bq quoting
	apostrophes := bytes.IndexByte(text, single.Quote) >= 0
	if apostrophes || bytes.IndexByte(text, f.Quote) >= 0 { // else there is nothing to find
		double = quotingOf(text, whole, *f)
	}
	if apostrophes && double.quoted == 0 {
		sq = quotingOf(text, whole, single)
	}
	n := double.faults
	if n > 0 {
		nq, bq = quotingOf(text, whole, none), quotingOf(text, whole, back)
	}
	// Where a quote is never closed, a person has to say whether it is one.
	open := double.unclosed
	switch {
	case double.quoted == 0 && sq.quoted > 0 && sq.faults == 0 && sq.modal > double.modal:
		f.Quote = '\''
		s.note("quote", QuoteName('\''),
			fmt.Sprintf("%s in single quotes, and separators inside", phrase.Plain(sq.quoted, "field")), false)
	case n > 0 && known.Escape == nil && bq.faults < n && bq.modal >= double.modal:
		f.Escape = '\\'
		s.note("quote", QuoteName('"'), phrase.Plain(double.quoted, "field")+" quoted in the beginning", false)
		s.note("escape", "backslash",
			fmt.Sprintf(`quotes inside fields are written \"; doubled, %s would have text after the quote`,
				phrase.Plain(n, "record")), false)
		return true
	case n > 0 && !open && (nq.modal > double.modal || nq.modal == double.modal && n > 1 && 3*n >= 2*double.quoted):
		f.Quote = 0
		s.note("quote", "none", fmt.Sprintf("taken as quotes, %s would be faulty", phrase.Plain(n, "record")), false)
		return true
	case double.quoted == 0:
		s.note("quote", QuoteName('"'), "none in the beginning", false)
	case double.needed > 0:
		s.note("quote", QuoteName('"'),
			fmt.Sprintf("%s quoted in the beginning, %d of them around a delimiter or line break",
				phrase.Plain(double.quoted, "field"), double.needed), false)
	default:
		s.note("quote", QuoteName('"'),
			phrase.Plain(double.quoted, "field")+" quoted in the beginning, none that needs it", false)
	}
	return false
}
