package source

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math"
	"regexp"
	"slices"
	"strings"

	"ambertray/internal/reading"
)

// decideHeader finds the row of column names and the titles above it. enough
// is false when the sample ends before the first record of data.
func (s *Source) decideHeader(text []byte, whole bool, known Known) (enough bool, err error) {
	l := &s.Layout
	rows := sample(text, whole, l.Form, sampleRecords)
	counts := map[int]int{}
	for _, r := range rows {
		if !r.blank && !r.ruler {
			counts[len(r.fields)]++
		}
	}
	fields, most := 1, 0
	for n, c := range counts {
		if c > most || c == most && n > fields {
			fields, most = n, c
		}
	}
	like := func(n int) bool { return n == fields } // as wide as a record
	if l.Pad {
		// Blank cells at the end of a row are not there: records are as wide
		// as nearly the widest, and a row half as wide may be one.
		var widths []int
		for _, r := range rows {
			if !r.blank {
				widths = append(widths, len(r.fields))
			}
		}
		slices.Sort(widths)
		if len(widths) > 0 {
			fields = widths[(len(widths)*9)/10]
		}
		like = func(n int) bool { return 2*n > fields || n >= fields }
	}
	filled := make([]int, 0, len(rows)) // indexes of rows with content
	for i, r := range rows {
		if !r.blank && !r.ruler {
			filled = append(filled, i)
		}
	}
	if len(filled) == 0 || len(filled) < 2 && !whole {
		if whole {
			return true, &Problem{Source: s.Name, What: "holds no records", Do: "nothing can be loaded from it; ask for the file again"}
		}
		return false, nil
	}
	l.Header, l.Skip, l.Columns, s.Titles, s.HeaderRuler, s.Doubt = 0, 0, nil, nil, false, ""
	header := -1 // index in rows
	switch {
	case known.Header != nil && *known.Header > 0:
		for i, r := range rows {
			if r.line == *known.Header {
				header = i
			}
		}
		if header < 0 || rows[header].blank {
			return true, &Problem{Source: s.Name, Line: *known.Header, What: "no row of column names starts on this line", Do: "count lines from 1, blank ones too", Asked: true}
		}
		s.note("header", fmt.Sprintf("line %d", *known.Header), "", true)
	case known.Header != nil:
		s.note("header", "none", "", true)
	default:
		first := 0 // in filled: the first row with as many fields as most
		for first < len(filled)-1 && first < titleLimit && !like(len(rows[filled[first]].fields)) {
			first++
		}
		if !like(len(rows[filled[first]].fields)) {
			first = 0
		}
		row := rows[filled[first]]
		if named, _ := looksNamed(row.fields); !named && first > 0 {
			// A header may have more or fewer names than the records fields.
			above := rows[filled[first-1]]
			if ok, _ := looksNamed(above.fields); ok && len(above.fields) > 1 && 2*len(above.fields) >= fields {
				first--
				row = above
			}
		}
		named, why := looksNamed(row.fields)
		if !named && first > 0 && len(filled) == first+1 {
			first, named = 0, true
		}
		if named {
			header = filled[first]
			typed := false
			for _, i := range filled[first+1:] {
				for c, v := range rows[i].fields {
					if c < len(row.fields) && v != "" && dataLike(v) {
						typed = true
					}
				}
			}
			why := "its fields are all different, filled and no numbers or dates"
			if typed {
				why += ", while records below have some"
			} else if len(filled) > first+1 {
				s.Doubt = "the records below are all text too; if this line is data, use --header-row 0"
			}
			s.note("header", fmt.Sprintf("line %d", row.line), why, false)
		} else {
			s.note("header", "none", why, false)
			// Without a header, rows above of another width are titles.
			if first > 0 {
				l.Skip = row.line - 1
			}
		}
	}
	if known.Skip != nil {
		l.Skip = *known.Skip
		if l.Skip > 0 {
			s.note("skip", count(int(l.Skip), "line"), "", true)
		}
	}
	start := -1 // index of the last row before the data
	if header >= 0 {
		l.Header = rows[header].line
		for _, f := range rows[header].fields {
			l.Columns = append(l.Columns, strings.TrimSpace(strings.Trim(f, "\ufeff")))
		}
		start = header
		if next := header + 1; next < len(rows) && rows[next].ruler {
			s.HeaderRuler = true
		}
	} else {
		for i, r := range rows {
			if r.line <= l.Skip {
				start = i
			}
		}
	}
	for i := 0; i <= start; i++ {
		if i != header && !rows[i].blank && !rows[i].ruler {
			s.Titles = append(s.Titles, rows[i].raw)
		}
	}
	if header >= 0 {
		// A table may be drawn with its delimiter at both ends.
		if n := len(l.Columns); n < fields {
			for i := n; i < fields; i++ {
				l.Columns = append(l.Columns, "")
			}
		}
	} else {
		for i := range fields {
			l.Columns = append(l.Columns, fmt.Sprintf("column_%d", i+1))
		}
	}
	s.start, s.startLine = 0, 1
	if start >= 0 {
		s.start = int64(rows[start].end)
		s.startLine = rows[start].line + int64(strings.Count(rows[start].raw, "\n")) + 1
	}
	if known.Footer != nil {
		l.Footer = *known.Footer
		if l.Footer > 0 {
			s.note("footer", count(l.Footer, "record"), "", true)
		}
	} else if err := s.decideFooter(); err != nil {
		return true, err
	}
	return true, nil
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
		if dataLike(f) {
			return false, fmt.Sprintf("the first record holds %q, which is no name", reading.Shorten(f, 30))
		}
		seen[f] = true
	}
	if len(seen) == 0 || blanks*3 > len(fields) {
		return false, "the first record has blank fields"
	}
	return true, ""
}

var dated = regexp.MustCompile(`^\d{1,4}[-/.]\d{1,2}[-/.]\d{1,4}([ T]\d|$)|^\d{1,2}:\d\d(:\d\d)?$`)

// dataLike reports a number, date or time.
func dataLike(v string) bool {
	v = strings.TrimSpace(v)
	var n reading.NumberScan
	if n.Scan([]byte(v)) {
		// A year may head a column.
		return !(len(v) == 4 && (v[:2] == "19" || v[:2] == "20"))
	}
	return v != "" && v[0] >= '0' && v[0] <= '9' && dated.MatchString(v)
}

// footerWords begin a record that sums up instead of telling.
var footerWords = regexp.MustCompile(`(?i)^\W*(((grand|sub|overall)[ -]?)?totals?|sum|count|average|end of (file|report|data|list|extract)|eof|\d[\d,. ]* (rows?|records?|lines?)( (affected|selected|returned|exported))?|(rows?|records?)( count)?\s*[:=]\s*\d.*)\b`)

// decideFooter looks at the end of the file for records that sum up.
func (s *Source) decideFooter() error {
	s.Layout.Footer = 0
	if s.flow != nil {
		return nil
	}
	tail, err := s.lastRows(32 << 10)
	if err != nil {
		return err
	}
	n := 0
	var texts []string
	for i := len(tail) - 1; i > 0 && n < 5; i-- {
		r := tail[i]
		if r.blank || r.ruler {
			continue
		}
		first := ""
		for _, f := range r.fields {
			if first = strings.TrimSpace(f); first != "" {
				break
			}
		}
		if !footerWords.MatchString(first) {
			break
		}
		// A full record that happens to begin with such a word is data, unless
		// it stands where others have numbers or dates.
		full := len(r.fields) == len(s.Layout.Columns) && len(r.fields) > 1 && !slices.ContainsFunc(r.fields, func(f string) bool { return strings.TrimSpace(f) == "" })
		above := i - 1
		for above > 0 && (tail[above].blank || tail[above].ruler || footerWords.MatchString(tail[above].fields[0])) {
			above--
		}
		if full && !dataLike(tail[above].fields[0]) {
			break
		}
		n++
		texts = append(texts, reading.Shorten(r.raw, 40))
	}
	if n > 0 {
		slices.Reverse(texts)
		s.Layout.Footer = n
		s.note("footer", count(n, "record"), fmt.Sprintf("sums up instead of telling: %s", strings.Join(texts, " ⏎ ")), false)
	}
	return nil
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
	r, err := decode(f, s.Layout.Encoding, s.Layout.LineEnd)
	if err != nil {
		return nil, err
	}
	text, err := io.ReadAll(io.LimitReader(r, 4*n))
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, &Problem{Source: s.Name, What: "cannot be read", Err: cause(err)}
	}
	if at == 0 {
		text = text[min(int(s.start), len(text)):]
	} else if i := bytes.IndexByte(text, '\n'); i >= 0 {
		// The first row is cut, and may even begin inside quotes; the last
		// few, which count, are whole.
		text = text[i+1:]
	}
	return sample(text, true, s.Layout.Form, math.MaxInt), nil
}
