package source

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"iter"
	"math"
	"regexp"
	"slices"
	"strings"
	"sync"
	"unicode"

	"ambertray/internal/phrase"
	"ambertray/internal/reading"
)

// A head is the beginning of a file in rows, for the header to be found in.
type head struct {
	*Source
	rows   []sampleRow
	filled []int // indexes of rows with content
	fields int   // how many a record has
	// table is how many columns belong to the table; what stands to the right of it,
	// behind a blank column, is blank in all rows, or in a sheet remarks in a few.
	// They are columns without a name; wide is how many there are with them.
	table, wide int
	// like reports whether a row of so many fields is as wide as a record.
	like func(n int) bool
}

// decideHeader finds the row of column names and the titles above it. enough
// is false when the sample ends before the first record of data.
func (s *Source) decideHeader(text []byte, whole bool, known Known) (enough bool, err error) {
	l := &s.Layout
	h := s.headOf(text, whole)
	if len(h.filled) == 0 || len(h.filled) < 2 && !whole {
		if whole {
			return true, &Problem{Source: s.Name, What: "holds no records",
				Do: "nothing can be loaded from it; ask for the file again"}
		}
		return false, nil
	}
	l.KeepBlank = known.KeepBlank != nil && *known.KeepBlank
	l.ShortNull = known.ShortNull != nil && *known.ShortNull
	l.Totals = known.Totals
	l.Header, l.Skip, l.Columns, s.Titles, s.HeaderRuler, s.Doubt = 0, 0, nil, nil, false, ""
	s.byNames, s.exactHeader, s.exactSkip = false, false, false
	header := -1 // index in rows
	is := func(n *int64, value int64) bool { return n != nil && *n == value }
	if is(known.Header, Found) {
		header = h.named(known.Names)
	}
	switch {
	case header >= 0:
		s.note("header", fmt.Sprintf("line %d", h.rows[header].line), "it has the names that the plan takes", false)
	case known.Header != nil && *known.Header > 0:
		if header = h.onLine(*known.Header); header < 0 || h.rows[header].blank {
			return true, &Problem{Source: s.Name, Line: *known.Header,
				What: "no row of column names starts on this line",
				Do: "count lines from 1, blank ones too; or write header: names in the plan, which finds the row " +
					"by its names",
				Decision: true}
		}
		s.exactHeader = known.By != ""
		s.note("header", fmt.Sprintf("line %d", *known.Header), "", true)
	case is(known.Header, 0):
		s.note("header", "none", "", true)
		if first, _, _ := h.candidate(); known.By == "" || is(known.Skip, Found) {
			// What stands above the line that could be the header is no record: a person
			// says of that line that it is none.
			l.Skip = h.above(first)
		}
	case s.ruled > 0:
		header = h.onLine(s.ruled)
		s.note("header", fmt.Sprintf("line %d", s.ruled), "the ruler stands under it", false)
	default:
		header = h.find()
	}
	if known.Skip != nil && !is(known.Skip, Found) {
		first, _, _ := h.candidate()
		s.exactSkip = known.By != "" || h.above(first) != *known.Skip
		l.Skip = *known.Skip
		if l.Skip > 0 {
			s.note("skip", phrase.Plain(int(l.Skip), "line"), "", true)
		}
	}
	h.settle(header)
	s.byNames = header >= 0 && h.named(NamesOf(l.Columns)) == header
	return true, s.decideFooter(known)
}

// headOf splits the beginning, and finds out how wide a record is.
func (s *Source) headOf(text []byte, whole bool) *head {
	h := &head{Source: s, rows: sample(text, whole, s.Layout.Form, sampleRecords), fields: 1}
	counts := map[int]int{}
	for i, r := range h.rows {
		if r.filled() {
			counts[len(r.fields)]++
			h.filled = append(h.filled, i)
		}
	}
	most := 0
	for n, c := range counts {
		if c > most || c == most && n > h.fields {
			h.fields, most = n, c
		}
	}
	h.like = func(n int) bool { return n == h.fields }
	if !s.Layout.Pad {
		h.table, _ = h.leftBlock(0)
		return h
	}
	// Blank cells at the end of a row are not there: records are as wide as
	// nearly the widest, and a row half as wide may be one.
	var widths []int
	for _, r := range h.rows {
		if !r.blank {
			widths = append(widths, len(r.fields))
		}
	}
	slices.Sort(widths)
	if len(widths) > 0 {
		h.fields = widths[(len(widths)*9)/10]
	}
	h.table, h.wide = h.leftBlock(max(1, len(h.filled)/4))
	h.fields = min(h.fields, h.table)
	h.like = func(n int) bool { return 2*n > h.fields || n >= h.fields }
	return h
}

// leftBlock is how many columns stand before a blank one behind which no column is
// filled in more than few rows, and how many there are with what follows, if anything.
func (h *head) leftBlock(few int) (block, wide int) {
	var in []int // rows that fill each column
	for _, i := range h.filled {
		for c, v := range h.rows[i].fields {
			for len(in) <= c {
				in = append(in, 0)
			}
			if strings.TrimSpace(v) != "" {
				in[c]++
			}
		}
	}
	for c := 1; c < len(in); c++ {
		if in[c] == 0 && !slices.ContainsFunc(in[c:], func(n int) bool { return n > few }) {
			return c, len(in)
		}
	}
	return len(in), 0
}

// trimName takes off a name what does not belong to it.
func trimName(f string) string { return strings.TrimSpace(strings.Trim(f, "\ufeff")) }

// looksNamed reports whether the fields could be column names, of the table's
// columns.
func (h *head) looksNamed(fields []string) (bool, string) {
	if h.table > 0 && len(fields) > h.table {
		fields = fields[:h.table]
	}
	return looksNamed(fields)
}

// onLine is the index of the row that starts on a line, or -1.
func (h *head) onLine(line int64) int {
	return slices.IndexFunc(h.rows, func(r sampleRow) bool { return r.line == line })
}

// find finds the header by how its fields look; -1: there is none.
func (h *head) find() int {
	rows, filled := h.rows, h.filled
	if at := h.inComment(); at >= 0 {
		return at
	}
	if h.rowNames() {
		h.note("header", fmt.Sprintf("line %d", rows[filled[0]].line),
			"every record has one field more, the first of which names the row; it is called "+RowName, false)
		return filled[0]
	}
	first, named, why := h.candidate()
	row := rows[filled[first]]
	if !named {
		if at := h.namesAbove(first); at >= 0 {
			row = rows[filled[at]]
			h.Doubt = fmt.Sprintf("line %d may hold the names of the first columns, or be a title: %s",
				row.line, reading.Shorten(strings.Join(row.fields, " · "), 60))
			h.note("header", fmt.Sprintf("line %d", row.line), "it has several texts, right above the records", false)
			return filled[at]
		}
		h.note("header", "none", why, false)
		// Without a header, rows above of another width are titles.
		h.Layout.Skip = h.above(first)
		return -1
	}
	if data := h.alike(first); data != "" {
		h.note("header", "none", data, false)
		h.Layout.Skip = h.above(first)
		return -1
	}
	why = "its fields are all different, filled and no numbers or dates"
	if repeats(row.fields) {
		why = "its fields are filled and no numbers or dates, though not all different"
	}
	if slices.ContainsFunc(row.fields[:min(h.table, len(row.fields))], IsBlank) {
		why = "its fields are no numbers or dates, though some are blank"
	}
	if slices.ContainsFunc(row.fields, dataLike) {
		why = "most of its fields are no numbers or dates"
	}
	if h.typedBelow(first, len(row.fields)) {
		why += ", while records below have some"
	} else if len(filled) > first+1 && h.likeNames(first) {
		why += ", and they look like names, while those below do not"
	} else if len(filled) > first+1 {
		h.Doubt = fmt.Sprintf("line %d may hold the names, or be a record: it is text, and so is all below it: %s",
			row.line, reading.Shorten(strings.Join(row.fields, " · "), 60))
	}
	h.note("header", fmt.Sprintf("line %d", row.line), why, false)
	return filled[first]
}

// above is how many lines stand above the row of that index in filled, if rows do.
func (h *head) above(first int) int64 {
	if first == 0 {
		return 0
	}
	return h.rows[h.filled[first]].line - 1
}

// candidate is the index in filled of the row below the titles, and whether it could
// be the header, or why not.
func (h *head) candidate() (first int, named bool, why string) {
	rows, filled := h.rows, h.filled
	// The first row with as many fields as most.
	for first < len(filled)-1 && first < titleLimit && !h.like(len(rows[filled[first]].fields)) {
		first++
	}
	if !h.like(len(rows[filled[first]].fields)) {
		first = 0
	}
	if at := h.aboveOneColumn(); at > 0 {
		first = at
	}
	if first > 0 && h.recordsAbove(first) {
		first = 0 // the records have different numbers of fields
	}
	if at := h.underTitles(first); at > 0 {
		first = at
	}
	row := rows[filled[first]]
	if at := h.belowSummary(first); at > 0 {
		return at, true, ""
	}
	if named, why = h.looksNamed(row.fields); !named &&
		(h.namesSome(first) || h.namesTexts(first) || h.namesTyped(first)) {
		return first, true, ""
	}
	if !named && first > 0 {
		// A header may have more or fewer names than the records fields.
		above := rows[filled[first-1]]
		if ok, _ := h.looksNamed(above.fields); ok && len(above.fields) > 1 && 2*len(above.fields) >= h.fields {
			return first - 1, true, ""
		}
	}
	if !named && first > 0 && len(filled) == first+1 {
		return 0, true, ""
	}
	return first, named, why
}

// namesSome reports whether a row that is blank in many columns names the others: one
// of its texts stands above nothing but numbers and dates, and none is one itself.
func (h *head) namesSome(first int) bool {
	fields := h.rows[h.filled[first]].fields
	below := h.filled[first+1:]
	if len(below) < 3 || len(fields) < h.fields {
		return false
	}
	names, above := 0, false
	for c, f := range fields {
		if f = strings.TrimSpace(f); f == "" {
			continue
		}
		if names++; isData(f) {
			return false
		}
		filled, typed := h.content(c, below)
		above = above || filled >= 3 && typed == filled
	}
	return names > 1 && above
}

// namesTexts reports whether a row of texts alone leaves out only columns that are
// filled in half of the rows below: so it may name the others.
func (h *head) namesTexts(first int) bool {
	fields := h.rows[h.filled[first]].fields
	below := h.filled[first+1:]
	if len(below) < 3 || len(fields) < 2 {
		return false
	}
	names := 0
	for c, f := range fields {
		filled, _ := h.content(c, below)
		if f = strings.TrimSpace(f); f == "" && 2*filled < len(below) || dataLike(f) {
			return false
		} else if f != "" && filled > 0 {
			names++
		}
	}
	return names > 1
}

// namesTyped reports whether a row in which something is no name is one of names all
// the same: three columns or more of nothing but numbers and dates begin with a text,
// and less than half as many with one of their own kind.
func (h *head) namesTyped(first int) bool {
	names, records := map[string]bool{}, 0
	below := h.filled[first+1:]
	for c, f := range h.rows[h.filled[first]].fields {
		if len(below) < 3 || IsBlank(f) || !h.allData(c, below) {
			continue
		}
		if isData(f) {
			records++
		} else if strings.ContainsFunc(f, unicode.IsLetter) {
			names[f] = true // a word for null would stand again
		}
	}
	return len(names) >= 3 && len(names) > 2*records
}

// namesAbove is the index in filled of a row right above that of the index first which
// has several texts in cells of their own, as titles have not; -1: there is none.
func (h *head) namesAbove(first int) int {
	if !h.Layout.Pad || first == 0 || h.filled[first-1] != h.filled[first]-1 || len(h.filled) < first+3 {
		return -1
	}
	fields := h.rows[h.filled[first-1]].fields
	if named, _ := looksNamed(fields); !named || len(fields) < 3 || slices.ContainsFunc(fields, IsBlank) {
		return -1
	}
	return first - 1
}

// belowSummary finds the header of a table that stands below a small one of its sums or
// its sender: a wider row of texts, in a column that holds numbers or dates above and
// below it; 0: there is none.
func (h *head) belowSummary(first int) int {
	top := h.rows[h.filled[first]].fields
	for at := first + 2; at < min(first+1+titleLimit, len(h.filled)-1); at++ {
		fields := h.rows[h.filled[at]].fields
		named, _ := h.looksNamed(fields)
		if !named || slices.ContainsFunc(fields, IsBlank) || filledOf(top) >= len(fields) || yearsIn(fields) > 0 {
			continue
		}
		above := h.rows[h.filled[at-1]].fields
		for c := range top {
			if c < len(above) && isData(above[c]) && !isData(top[c]) && h.allData(c, h.filled[at+1:]) {
				return at
			}
		}
	}
	return 0
}

// allData reports whether a column holds something in rows, and nothing but numbers and
// dates.
func (h *head) allData(c int, rows []int) bool {
	filled, typed := h.content(c, rows)
	return filled > 0 && typed == filled
}

// content is in how many of the rows a column holds something, and in how many a number
// or a date.
func (h *head) content(c int, rows []int) (filled, typed int) {
	for v := range h.values(c, rows) {
		filled++
		if isData(v) {
			typed++
		}
	}
	return filled, typed
}

// RowName is the name of a column that the header leaves out: what statistics
// programs write in front of each record.
const RowName = "row_name"

// rowNames reports whether the header is one name short: it names all columns but
// the first.
func (h *head) rowNames() bool {
	if h.Layout.Pad || len(h.filled) < 3 || h.fields < 2 {
		return false
	}
	first := h.rows[h.filled[0]].fields
	if named, _ := looksNamed(first); !named || len(first) != h.fields-1 {
		return false
	}
	seen, last := map[string]bool{}, false
	for _, i := range h.filled[1:] {
		f := h.rows[i].fields
		if len(f) != h.fields || f[0] == "" || seen[f[0]] {
			return false
		}
		for c := range first {
			if first[c] != "" && (first[c] == f[c] || first[c] == f[c+1]) {
				return false // what stands again below is no name
			}
		}
		seen[f[0]] = true
		last = last || strings.TrimSpace(f[len(f)-1]) != ""
	}
	if h.fields > 2 || !last {
		return last // else every record ends with a delimiter
	}
	// Above two columns, one name is a title, rather, if it has several words, or if
	// what follows could be names.
	next, _ := looksNamed(h.rows[h.filled[1]].fields)
	return !next && len(strings.Fields(first[0])) < 3
}

// inComment is the row of a comment right above the first record that has its names;
// -1: there is none.
func (h *head) inComment() int {
	first := h.filled[0]
	if h.Layout.Form.Comment == "" || first == 0 || !h.rows[first-1].comment {
		return -1
	}
	if named, _ := looksNamed(h.rows[first].fields); named && h.typedBelow(0, len(h.rows[first].fields)) {
		return -1
	}
	row := h.rows[first-1]
	names := uncommented(row.raw, h.Layout.Form.Comment, h.Layout.Form)
	if named, _ := looksNamed(names); !named || len(names) != h.fields || h.fields < 2 {
		return -1
	}
	h.note("header", fmt.Sprintf("line %d", row.line), "a comment with as many names as the records have fields", false)
	if h.Layout.Form.Blanks && !called(names) {
		h.Doubt = fmt.Sprintf("the comment in line %d has as many words as the records have fields, and may hold the "+
			"names, or be a remark: %s", row.line, reading.Shorten(row.raw, 60))
	}
	return first - 1
}

// alike says in what the row of that index in filled, which could be names, is like
// the rows below it, so that it is a record; nothing if it is not.
func (h *head) alike(first int) string {
	fields := h.rows[h.filled[first]].fields
	below := h.others(first)
	if len(below) == 0 {
		return ""
	}
	years, other := 0, false // columns of numbers below a year, below another name
	again := ""
	for c, f := range fields {
		f = strings.TrimSpace(f)
		numbers, filled, same, dates := 0, 0, 0, 0
		for v := range h.values(c, below) {
			filled++
			if v == f {
				same++
			}
			if isNumber(v) {
				numbers++
				if len(v) == 4 {
					dates++
				}
			}
		}
		if filled > 0 && numbers == filled {
			if isYear(f) && 4*dates >= filled {
				years++
			} else if f != "" {
				other = true
			}
		}
		if same > 0 && f != "" && (same > 1 || filled < 20) && again == "" {
			again = f
		}
	}
	switch {
	case years > 0 && !other && years < 3:
		return "the first record has a number where the others have numbers, too"
	case again != "" && !h.mostlyTyped(first):
		return fmt.Sprintf("%q stands again in the same column below", reading.Shorten(again, 30))
	}
	return ""
}

// others are the rows below that of an index in filled, but for those that are the same
// as it: the header stands again where files were joined.
func (h *head) others(first int) (out []int) {
	trimmed := func(f string) string { return strings.TrimSpace(strings.Trim(f, "\ufeff")) }
	fields := h.rows[h.filled[first]].fields
	same := func(a, b string) bool { return trimmed(a) == trimmed(b) }
	for _, i := range h.filled[first+1:] {
		if len(fields) < 2 || !slices.EqualFunc(fields, h.rows[i].fields, same) {
			out = append(out, i)
		}
	}
	return out
}

// values are what a column holds in rows, where it holds something.
func (h *head) values(c int, rows []int) iter.Seq[string] {
	return func(yield func(string) bool) {
		for _, i := range rows {
			if f := h.rows[i].fields; c < len(f) {
				if v := strings.TrimSpace(f[c]); v != "" && !yield(v) {
					return
				}
			}
		}
	}
}

// yearsIn counts the fields that are years.
func yearsIn(fields []string) (n int) {
	for _, f := range fields {
		if isYear(strings.TrimSpace(f)) {
			n++
		}
	}
	return n
}

// isYear reports a year of the last or this century.
func isYear(v string) bool {
	return len(v) == 4 && (v[:2] == "19" || v[:2] == "20") && isNumber(v)
}

// scans are taken and given back: each is large, and a header may have very many fields.
var scans = sync.Pool{New: func() any { return new(reading.NumberScan) }}

func isNumber(v string) bool {
	n := scans.Get().(*reading.NumberScan)
	defer scans.Put(n)
	return n.Scan([]byte(v))
}

// aboveOneColumn is the index in filled of the name of a lone column of numbers or
// dates, under titles; 0: there is none.
func (h *head) aboveOneColumn() int {
	if h.fields != 1 {
		return 0
	}
	texts := 0
	typed := func(v string) bool { return v == "" || isData(v) }
	for texts < len(h.filled) && !typed(h.rows[h.filled[texts]].fields[0]) {
		texts++
	}
	if texts < 2 || texts > 5 || len(h.filled) < texts+2 {
		return 0
	}
	for _, i := range h.filled[texts:] {
		if !typed(h.rows[i].fields[0]) {
			return 0
		}
	}
	return texts - 1
}

// recordsAbove reports whether one of the rows above that of the index first in filled
// is no title, since it has more than half as many fields as a record, several of them;
// or since records have no number of fields to go by.
func (h *head) recordsAbove(first int) bool {
	if h.Layout.Pad {
		return false
	}
	alike := 0
	for _, i := range h.filled {
		if len(h.rows[i].fields) == h.fields {
			alike++
		}
	}
	if 2*alike < len(h.filled) {
		return true // there is no number of fields that most of them have
	}
	for _, i := range h.filled[:first] {
		if n := len(h.rows[i].fields); n > 2 && 2*n > h.fields {
			if named, _ := looksNamed(h.rows[i].fields); !named {
				return true
			}
		} else if n < h.fields && 2*n >= h.fields && isData(h.rows[i].fields[0]) && h.numbered(first) {
			return true // a record that leaves fields out at its end
		}
	}
	return false
}

// numbered reports whether all rows from that of an index in filled begin with a
// number or a date.
func (h *head) numbered(first int) bool {
	for _, i := range h.filled[first:] {
		if !isData(h.rows[i].fields[0]) {
			return false
		}
	}
	return true
}

var (
	betweenWords = regexp.MustCompile(`[^\pL]+`)
	plainName    = regexp.MustCompile(`^[\pL\pN _.()%/°-]+$`)
	betweenCases = regexp.MustCompile(`(\p{Ll})(\p{Lu})`)
)

// likeNames reports whether a row of texts looks like names, and not like the rows of
// texts below it: by what its words are, or by a column whose texts are all of one
// shape below, and of another here.
func (h *head) likeNames(first int) bool {
	fields := h.rows[h.filled[first]].fields
	below := h.filled[first+1:]
	for c, f := range fields {
		if f = strings.TrimSpace(f); f != "" && len(below) >= 3 && h.shaped(c, f, below) {
			return true
		}
	}
	if !called(fields) {
		return false
	}
	// Where records have such words, too, they tell nothing.
	also := 0
	for _, i := range below {
		if called(h.rows[i].fields) {
			also++
		}
	}
	return 10*also <= len(below)
}

// called reports whether a quarter of the texts have a word that columns are called by.
func called(fields []string) bool {
	words, named := 0, 0
	for _, f := range fields {
		if f = strings.TrimSpace(f); f == "" {
			continue
		}
		words++
		if len(f) > 60 || !plainName.MatchString(f) {
			continue
		}
		spaced := betweenCases.ReplaceAllString(f, "$1 $2")
		if slices.ContainsFunc(betweenWords.Split(strings.ToLower(spaced), -1), isNameWord) {
			named++
		}
	}
	return named > 0 && 4*named >= words
}

// shaped reports whether all texts of a column below have one shape: all have digits,
// or all are capitals of one length, and f has not.
func (h *head) shaped(c int, f string, below []int) bool {
	digits, capitals, filled := 0, 0, 0
	length := -1
	for v := range h.values(c, below) {
		filled++
		if strings.ContainsAny(v, "0123456789") {
			digits++
		}
		if strings.ToUpper(v) == v && strings.ToLower(v) != v {
			capitals++
		}
		if length < 0 {
			length = len(v)
		} else if length != len(v) {
			length = 0
		}
	}
	if filled < 3 {
		return false
	}
	return digits == filled && !strings.ContainsAny(f, "0123456789") ||
		capitals == filled && length > 0 && (strings.ToUpper(f) != f || len(f) != length)
}

// underTitles finds, under titles that are padded with delimiters to the width
// of the records, the row that could be the header; 0: there is none. A title
// has one text, or is filled to less than a third.
func (h *head) underTitles(first int) int {
	title := func(fields []string) bool {
		filled, text := 0, len(fields) > 5
		for _, f := range fields {
			if f = strings.TrimSpace(f); f != "" {
				filled++
				text = text || !dataLike(f)
			}
		}
		return text && (filled == 1 || 3*filled < max(len(fields), h.fields))
	}
	at := first
	for at < len(h.filled)-1 && at-first < titleLimit && h.fields > 1 && title(h.rows[h.filled[at]].fields) {
		at++
	}
	if at == first {
		return 0
	}
	fields := h.rows[h.filled[at]].fields
	unnamed := func(c int) bool { // over something
		for range h.values(c, h.filled[at+1:]) {
			return fields[c] == ""
		}
		return false
	}
	blank := false
	for c := range fields {
		blank = blank || unnamed(c)
	}
	if named, _ := h.looksNamed(fields); !named || blank || 2*yearsIn(fields) >= len(fields) ||
		len(fields) == 2 && !h.typedBelow(at, len(fields)) && !called(fields) ||
		!h.typedBelow(at, len(fields)) && at+1 < len(h.filled) && title(h.rows[h.filled[at+1]].fields) {
		return 0
	}
	return at
}

// typedBelow reports whether a row below the one of that index in filled has a
// number or date under one of so many names.
func (h *head) typedBelow(first, names int) bool {
	above := h.rows[h.filled[first]].fields
	names = min(names, len(above))
	lone := yearsIn(above) == 1 // which is no series of names
	for _, i := range h.filled[first+1:] {
		for c, v := range h.rows[i].fields {
			if c < names && dataLike(v) && strings.TrimSpace(above[c]) != "" && !(lone && isYear(above[c])) {
				return true
			}
		}
	}
	return false
}

// mostlyTyped reports whether a column that the row of that index in filled names holds
// numbers or dates in three quarters of the rows below that it is filled in.
func (h *head) mostlyTyped(first int) bool {
	below := h.others(first)
	for c, f := range h.rows[h.filled[first]].fields {
		filled, typed := h.content(c, below)
		if 4*typed > 3*filled && !IsBlank(f) && !dataLike(f) {
			return true
		}
	}
	return false
}

// settle puts into the layout what the header of that index, or none, means:
// names, titles, and where the data begins.
func (h *head) settle(header int) {
	l, rows := &h.Layout, h.rows
	start := -1 // index of the last row before the data
	if header >= 0 {
		l.Header = rows[header].line
		names := rows[header].fields
		if rows[header].comment {
			names = uncommented(rows[header].raw, l.Form.Comment, l.Form)
		}
		if !l.Pad && len(names) == h.fields-1 && h.rowNames() {
			l.Columns = append(l.Columns, RowName)
		}
		for _, f := range names {
			l.Columns = append(l.Columns, trimName(f))
		}
		start = header
		if next := header + 1; next < len(rows) && rows[next].ruler {
			h.HeaderRuler = true
		}
		// A table may be drawn with its delimiter at both ends.
		for i := len(l.Columns); i < max(h.fields, h.wide); i++ {
			l.Columns = append(l.Columns, "")
		}
	} else {
		for i, r := range rows {
			if r.line <= l.Skip {
				start = i
			}
		}
		for i := range max(h.fields, h.wide) {
			l.Columns = append(l.Columns, fmt.Sprintf("column_%d", i+1))
		}
	}
	for i := 0; i <= start; i++ {
		if i != header && (rows[i].filled() || rows[i].comment) {
			h.Titles = append(h.Titles, h.lineOf(&rows[i]))
		}
	}
	h.Layout.Typed = h.typedColumns(start + 1)
	h.start, h.startLine = 0, 1
	if start >= 0 {
		h.start = int64(rows[start].end)
		h.startLine = rows[start].line + int64(strings.Count(rows[start].raw, "\n")) + 1
	}
}

// looksNamed reports whether the fields could be column names.
func looksNamed(fields []string) (bool, string) {
	seen := map[string]bool{}
	blanks := 0
	for _, f := range fields {
		f = strings.TrimSpace(f)
		if f == "" {
			blanks++
			continue
		}
		if dataLike(f) || isAddress(f) {
			return false, fmt.Sprintf("the first record holds %q, which is no name", reading.Shorten(f, 30))
		}
		seen[f] = true
	}
	if len(seen) == 1 && len(fields)-blanks > 1 && !strings.ContainsFunc(fields[0], unicode.IsLetter) {
		return false, "the fields of the first record are all the same, and no words"
	}
	if len(seen) == 0 || blanks*3 > len(fields) {
		return false, "the first record has blank fields"
	}
	return true, ""
}

// IsBlank reports a field that holds nothing but blanks.
func IsBlank(f string) bool { return strings.TrimSpace(f) == "" }

// repeats reports whether a field stands twice.
func repeats(fields []string) bool {
	seen := map[string]bool{}
	for _, f := range fields {
		f = strings.TrimSpace(f)
		if seen[f] && f != "" {
			return true
		}
		seen[f] = true
	}
	return false
}

var dated = regexp.MustCompile(`^\d{1,4}[-/.]\d{1,2}[-/.]\d{1,4}([ T]\d|$)|^\d{1,2}:\d\d(:\d\d)?$`)

// address is a link or an e-mail address.
var address = regexp.MustCompile(`^[a-z]+://\S+$|^[^\s@]+@[^\s@]+\.[A-Za-z]{2,}$`)

func isAddress(v string) bool {
	return (strings.Contains(v, "@") || strings.Contains(v, "://")) && address.MatchString(v)
}

// isData reports a number, date or time.
func isData(v string) bool {
	v = strings.TrimSpace(v)
	return isNumber(v) || v != "" && v[0] >= '0' && v[0] <= '9' && dated.MatchString(v)
}

// dataLike reports data that is no year: that may head a column.
func dataLike(v string) bool { return isData(v) && !isYear(strings.TrimSpace(v)) }

// noteWords begin a line of remarks below a table.
var noteWords = regexp.MustCompile(`(?i)^\W*((foot)?notes?|source|remarks?|legend|disclaimer)\s*:`)

// footerWords begin a record that sums up instead of telling.
var footerWords = regexp.MustCompile(`(?i)^\W*(((grand|sub|overall)[ -]?)?totals?|sum|count|average|end of (file|report|data|list|extract)|eof|\d[\d,. ]* (rows?|records?|lines?)( (affected|selected|returned|exported))?|(rows?|records?)( count)?\s*[:=]\s*\d.*)\b`)

// mostFooters is how many records at the end of a file are taken for footers at most.
const mostFooters = 5

// decideFooter finds the records at the end of the file that sum up or remark, or takes as many
// as are said.
func (s *Source) decideFooter(known Known) error {
	s.Layout.Footer, s.Footers, s.MaybeFooters = 0, nil, nil
	s.noFooter = known.Footer != nil && *known.Footer == 0 && !known.FooterUnsaid
	s.exactFooter, s.FooterLost = false, false
	if s.flow != nil {
		if known.Footer != nil && *known.Footer != 0 {
			s.Layout.Footer = Found // its end is looked at when it comes
		}
		return nil
	}
	if s.noFooter {
		return nil
	}
	tail, err := s.lastRows(32 << 10)
	if err != nil {
		return err
	}
	var filled []Line
	for i := range tail {
		if tail[i].filled() {
			filled = append(filled, s.lineOf(&tail[i]))
			if l := &filled[len(filled)-1]; s.cutTail {
				l.Number = 0 // nobody has counted the lines above
			} else {
				l.Number += s.startLine - 1
			}
		}
	}
	n := footers(filled, len(s.Layout.Columns))
	if f := known.Footer; f != nil && *f > 0 {
		s.exactFooter = known.By != "" || n != *f
		n = min(*f, len(filled))
		s.Layout.Footer = *f
		s.note("footer", phrase.Plain(*f, "record"), "", true)
		s.Footers = filled[len(filled)-n:]
		return nil
	}
	found := filled[len(filled)-n:]
	s.FooterLost = n == 0 && known.Footer != nil && *known.Footer == Found
	if known.FooterUnsaid {
		s.MaybeFooters = found
		return nil
	}
	if n > 0 {
		s.Layout.Footer, s.Footers = n, found
		s.note("footer", phrase.Plain(n, "record"), "sums up instead of telling: "+Beginnings(found, 5), false)
	}
	return nil
}

// Beginnings are the first words of lines.
func Beginnings(lines []Line, most int) string {
	var texts []string
	for _, l := range lines[:min(len(lines), most)] {
		texts = append(texts, reading.Shorten(l.Raw, 40))
	}
	return strings.Join(texts, " ⏎ ")
}

// footers is how many of the last lines of a text sum up or remark, instead of being records.
func footers(lines []Line, columns int) (n int) {
	lone := 0 // texts alone in their line, below what may be a total
	for i := len(lines) - 1; i > 0 && n+lone < mostFooters; i-- {
		fields := lines[i].Fields
		first := firstOf(fields)
		remark := alone(fields) && (columns > 2 || len(fields) < columns)
		switch {
		case footerWords.MatchString(first) && !record(lines, i, columns):
			n += lone + 1
			lone = 0
		case remark && lone == 0 && noteWords.MatchString(first):
			n++
		case remark && !isData(first):
			lone++ // if a total stands above it
		default:
			return n
		}
	}
	return n
}

// record reports whether a line that begins as totals do is a record all the same: it is full, and
// the lines above it have no numbers or dates in the place of its first word. One that is called a
// total, and nothing else, above which no line is called so, and that holds numbers alone, is none.
func record(lines []Line, i, columns int) bool {
	fields := lines[i].Fields
	full := len(fields) == columns && len(fields) > 1 && !slices.ContainsFunc(fields, IsBlank)
	above := i - 1
	for above > 0 && footerWords.MatchString(firstOf(lines[above].Fields)) {
		above--
	}
	if !full || dataLike(lines[above].Fields[0]) {
		return false
	}
	called := strings.ToLower(strings.TrimRight(strings.TrimSpace(fields[0]), ":"))
	again := func(l Line) bool {
		return strings.EqualFold(strings.TrimSpace(l.Fields[0]), strings.TrimSpace(fields[0]))
	}
	return !slices.Contains(totalWords, called) || slices.ContainsFunc(lines[:i], again) ||
		slices.ContainsFunc(fields[1:], func(f string) bool { return !isNumber(strings.TrimSpace(f)) })
}

// firstOf is the first field that holds something.
func firstOf(fields []string) string {
	for _, f := range fields {
		if f = strings.TrimSpace(f); f != "" {
			return f
		}
	}
	return ""
}

// alone reports whether one of the fields holds something.
func alone(fields []string) bool { return filledOf(fields) == 1 }

// filledOf is how many of the fields hold something.
func filledOf(fields []string) (n int) {
	for _, f := range fields {
		if !IsBlank(f) {
			n++
		}
	}
	return n
}

// lastRows splits about the last n bytes of the file.
func (s *Source) lastRows(n int64) ([]sampleRow, error) {
	f, err := s.open()
	if err != nil {
		return nil, &Problem{Source: s.Name, What: "cannot be read", Err: cause(err)}
	}
	defer f.Close()
	at := int64(0)
	if s.Size > n {
		at = (s.Size - n) &^ 1 // whole units of UTF-16
	}
	if _, err := f.Seek(at, io.SeekStart); err != nil {
		return nil, &Problem{Source: s.Name, What: "cannot be read", Err: cause(err)}
	}
	r, err := decode(f, s.Layout.Encoding, s.Layout.LineEnd, s.Layout.Form)
	if err != nil {
		return nil, err
	}
	text, err := io.ReadAll(io.LimitReader(r, 4*n))
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, &Problem{Source: s.Name, What: "cannot be read", Err: cause(err)}
	}
	if s.cutTail = at > 0; !s.cutTail {
		text = text[min(int(s.start), len(text)):]
	} else if i := bytes.IndexByte(text, '\n'); i >= 0 {
		// The first row is cut, and may even begin inside quotes; the last
		// few, which count, are whole.
		text = text[i+1:]
	}
	return sample(text, true, s.Layout.Form, math.MaxInt), nil
}
