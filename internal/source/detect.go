package source

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"ambertray/internal/reading"
	"ambertray/internal/source/delimited"
)

const (
	sampleSize    = 256 << 10 // bytes of the file that the layout is decided from
	sampleRecords = 500
	titleLimit    = 40 // lines above a header at most
	// headRoom is how far into the file a first record of data is looked for.
	headRoom = 1 << 20
)

// detect decides the layout from the first bytes.
func (s *Source) detect(ctx context.Context, known Known) error {
	head, whole, err := s.readHead(sampleSize)
	if err != nil {
		return &Problem{Source: s.Name, What: "cannot be read", Err: cause(err)}
	}
	if err := s.decideEncoding(head, known); err != nil {
		return err
	}
	for size := sampleSize; ; size *= 4 {
		if size > sampleSize {
			if head, whole, err = s.readHead(size); err != nil {
				return &Problem{Source: s.Name, What: "cannot be read", Err: cause(err)}
			}
		}
		text, err := s.decodeHead(head)
		if err != nil {
			return err
		}
		if len(bytes.TrimSpace(text)) == 0 && whole {
			return &Problem{Source: s.Name, What: "holds nothing but blank lines", Do: "nothing can be loaded from it; ask for the file again"}
		}
		s.Evidence = slices.DeleteFunc(s.Evidence, func(e Evidence) bool {
			return !slices.Contains([]string{"encoding", "packing", "member", "workbook", "sheet", "range"}, e.What)
		})
		if err := s.decideForm(text, whole, known); err != nil {
			return err
		}
		limit := delimited.DefaultMaxRecord
		if s.MaxRecord > 0 {
			limit = s.MaxRecord
		}
		enough, err := s.decideHeader(text, whole || size > headRoom, known)
		if err != nil || enough || whole || size > limit {
			return err
		}
	}
}

// readHead reads the first n bytes of the text.
func (s *Source) readHead(n int) (head []byte, whole bool, err error) {
	f, err := s.open()
	if err != nil {
		return nil, false, err
	}
	defer f.Close()
	head, err = io.ReadAll(io.LimitReader(f, int64(n)+1))
	if len(head) > n {
		return head[:n], false, err
	}
	return head, s.flow == nil, err
}

func (s *Source) note(what, value, why string, given bool) {
	if given {
		if why = s.by; why == "" {
			why = "as given"
		}
	}
	s.Evidence = append(s.Evidence, Evidence{what, value, why, given})
}

// binaries are files that people mistake for text, by their first bytes.
var binaries = []struct{ magic, name, do string }{
	{"PK\x03\x04", "a zip archive within archives", "unpack it first"},
	{"\x1f\x8b", "gzip data within gzip data", "unpack it first"},
	{"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1", "an older binary workbook (.xls), or one with a password", "open it, and save it as .xlsx without a password"},
	{"%PDF", "a PDF document", "ask for the data as a delimited file"},
	{"\x89PNG", "a picture", ""},
	{"\xff\xd8\xff", "a picture", ""},
	{"SQLite format 3\x00", "an SQLite database", "it is a place to load into, with --into"},
	{"\x28\xb5\x2f\xfd", "zstd data", "unpack it first"},
	{"BZh", "bzip2 data", "unpack it first"},
	{"PAR1", "a Parquet file", "ask for the data as a delimited file"},
}

func (s *Source) decideEncoding(head []byte, known Known) error {
	l := &s.Layout
	if s.Sheet != "" {
		l.Encoding = "utf-8"
		return nil
	}
	if known.Encoding != "" {
		name, err := canonical(known.Encoding)
		if err != nil {
			return &Problem{Source: s.Name, What: err.Error(), Do: "use an IANA name, like utf-8, utf-16le, windows-1252 or iso-8859-15", Asked: true}
		}
		l.Encoding = name
		s.note("encoding", name, "", true)
		return nil
	}
	for _, b := range binaries {
		if bytes.HasPrefix(head, []byte(b.magic)) {
			return &Problem{Source: s.Name, What: "is " + b.name + ", not delimited text", Do: b.do}
		}
	}
	if len(head) > 3 {
		switch {
		case bytes.HasPrefix(head, utf8Mark):
			l.Encoding = "utf-8"
			s.note("encoding", "utf-8", "begins with the UTF-8 mark EF BB BF", false)
			return nil
		case head[0] == 0xff && head[1] == 0xfe:
			l.Encoding = "utf-16le"
			s.note("encoding", "utf-16le", "begins with the mark FF FE", false)
			return nil
		case head[0] == 0xfe && head[1] == 0xff:
			l.Encoding = "utf-16be"
			s.note("encoding", "utf-16be", "begins with the mark FE FF", false)
			return nil
		}
	}
	var odd, even int // NUL bytes by place
	for i, c := range head {
		if c == 0 {
			if i%2 == 0 {
				even++
			} else {
				odd++
			}
		}
	}
	half := len(head) / 2
	switch {
	case odd > half*7/10 && even < half/20:
		l.Encoding = "utf-16le"
		s.note("encoding", "utf-16le", "nearly every second byte is NUL", false)
		return nil
	case even > half*7/10 && odd < half/20:
		l.Encoding = "utf-16be"
		s.note("encoding", "utf-16be", "nearly every other byte is NUL", false)
		return nil
	case odd+even > 3 && (odd+even)*100 > len(head):
		return &Problem{Source: s.Name, What: fmt.Sprintf("looks like a binary file: %d of its first %d bytes are NUL", odd+even, len(head)),
			Do: "if it is text after all, name its encoding with --encoding"}
	}
	odd = 0
	for _, c := range head {
		if c < ' ' && c != '\t' && c != '\n' && c != '\r' && c != '\f' && c != 0x1a && c != 0x1b && c != 0x1f && c != 1 || c == 0x7f {
			odd++
		}
	}
	if odd > 3 && odd*50 > len(head) {
		return &Problem{Source: s.Name, What: fmt.Sprintf("looks like a binary file: %d of its first %d bytes are control characters", odd, len(head)),
			Do: "if it is text after all, name its encoding with --encoding"}
	}
	good, bad, controls := 0, 0, false // characters beyond ASCII; bytes that are not UTF-8
	for i := 0; i < len(head); {
		if head[i] < 0x80 {
			i++
			continue
		}
		r, n := utf8.DecodeRune(head[i:])
		if r == utf8.RuneError && n == 1 {
			if len(head)-i < utf8.UTFMax && len(head) >= sampleSize {
				break // cut off
			}
			bad++
			controls = controls || head[i] < 0xa0
		} else {
			good++
		}
		i += n
	}
	switch {
	case bad == 0 && good == 0:
		l.Encoding = "utf-8"
		s.note("encoding", "utf-8", "the beginning is plain ASCII", false)
	case bad == 0:
		l.Encoding = "utf-8"
		s.note("encoding", "utf-8", fmt.Sprintf("%s beyond ASCII in the beginning, all valid UTF-8", count(good, "character")), false)
	case good > bad:
		l.Encoding = "utf-8"
		s.note("encoding", "utf-8", fmt.Sprintf("%s valid UTF-8, but %s not", count(good, "character"), count(bad, "byte")), false)
	default:
		l.Encoding = "windows-1252"
		why := fmt.Sprintf("%s in the beginning cannot be UTF-8", count(bad, "byte"))
		if controls {
			why += ", some in 80 to 9F, where windows-1252 has characters"
		}
		s.note("encoding", "windows-1252", why+"; a guess", false)
	}
	return nil
}

func count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

func (s *Source) decodeHead(head []byte) ([]byte, error) {
	l := &s.Layout
	l.LineEnd = ""
	r, err := decode(bytes.NewReader(head), l.Encoding, "")
	if err != nil {
		return nil, &Problem{Source: s.Name, What: err.Error(), Asked: true}
	}
	text, err := io.ReadAll(r)
	if err != nil {
		return nil, &Problem{Source: s.Name, What: "cannot be decoded as " + l.Encoding, Err: err}
	}
	if s.Sheet != "" {
		l.LineEnd = "lf"
		return text, nil
	}
	switch lf, crlf, cr := bytes.Count(text, []byte("\n")), bytes.Count(text, []byte("\r\n")), bytes.Count(text, []byte("\r")); {
	case lf == 0 && cr > 0:
		l.LineEnd = "cr"
		text = bytes.ReplaceAll(text, []byte("\r"), []byte("\n"))
	case lf > 0 && crlf*2 > lf:
		l.LineEnd = "crlf"
	default:
		l.LineEnd = "lf"
	}
	return text, nil
}

// sample splits text in some form, leaving out a last record that may be cut
// off. Fields are copied.
func sample(text []byte, whole bool, f delimited.Form, most int) (rows []sampleRow) {
	return sampleWith(text, whole, f, most, true)
}

// sampleWith can leave the texts of rows and fields out, where only their
// number counts.
func sampleWith(text []byte, whole bool, f delimited.Form, most int, texts bool) (rows []sampleRow) {
	ch := &delimited.Chunk{Data: text, Line: 1}
	sp := delimited.NewSplitter(f)
	sp.Reset(ch)
	var rec delimited.Record
	var offset int
	for len(rows) < most && sp.Next(&rec) {
		r := sampleRow{line: rec.Line, fault: rec.Fault, blank: rec.IsBlank()}
		if !r.blank {
			r.ruler = IsRuler(&rec)
		}
		r.fields = make([]string, len(rec.Fields))
		if texts {
			r.raw = string(rec.Raw)
			for i, f := range rec.Fields {
				r.fields[i] = string(f)
				if rec.Quoted(i) {
					r.quoted++
				}
			}
		}
		offset += len(rec.Raw)
		for _, end := range []string{"\r\n", "\n"} {
			if bytes.HasPrefix(text[offset:], []byte(end)) {
				offset += len(end)
				break
			}
		}
		r.end = offset
		if offset == len(text) && !whole {
			break
		}
		rows = append(rows, r)
	}
	return rows
}

type sampleRow struct {
	line         int64
	end          int // offset behind the row
	fields       []string
	quoted       int
	fault        delimited.Fault
	blank, ruler bool
	raw          string
}

// delimiters are tried in this order; the later ones only where none of the
// first five gives columns.
var delimiters = []string{"\t", "|", ";", ",", "\x1f", "¦", "^", "~", ":", "#", "!", "*", "§", "\x01"}

func delimiterName(d string) string {
	switch d {
	case "":
		return "none"
	case ",":
		return "comma"
	case "\t":
		return "tab"
	case "|":
		return "pipe"
	case ";":
		return "semicolon"
	case " ":
		return "space"
	case ":":
		return "colon"
	}
	return fmt.Sprintf("%q", d)
}

// Characters that people and plans call by a name.
var (
	delimiterNames = map[string]string{"comma": ",", "tab": "\t", "\\t": "\t", "pipe": "|", "semicolon": ";", "colon": ":", "space": " ", "none": ""}
	quoteNames     = map[string]string{"double": `"`, "single": "'", "none": ""}
	escapeNames    = map[string]string{"doubled": "", "backslash": `\`}
)

// ParseDelimiter reads a delimiter given as itself or by its name.
func ParseDelimiter(s string) string { return named(delimiterNames, s) }

// ParseQuote reads a quote given as itself or by its name: one ASCII
// character, or none.
func ParseQuote(s string) (string, error) { return one(named(quoteNames, s)) }

// ParseEscape reads an escape character given as itself or by its name; none
// means that quotes are doubled.
func ParseEscape(s string) (string, error) { return one(named(escapeNames, s)) }

func named(names map[string]string, s string) string {
	if c, ok := names[strings.ToLower(s)]; ok {
		return c
	}
	return s
}

func one(s string) (string, error) {
	if len(s) > 1 {
		return "", fmt.Errorf("%q is not one ASCII character", s)
	}
	return s, nil
}

// DelimiterName, QuoteName and EscapeName are what plans write.
func DelimiterName(d string) string {
	for n, c := range delimiterNames {
		if c == d && n != "comma" && n != "pipe" && n != "semicolon" && n != "colon" && n != `\t` {
			return n
		}
	}
	return d
}

// QuoteName is the quote as plans write it.
func QuoteName(q byte) string { return quoteName(q) }

// EscapeName is the escape character as plans write it.
func EscapeName(e byte) string {
	if e == '\\' {
		return "backslash"
	}
	return string(rune(e))
}

func (s *Source) decideForm(text []byte, whole bool, known Known) error {
	if s.Sheet != "" {
		s.Layout.Form, s.Layout.Pad = sheetForm, true
		return nil
	}
	f := delimited.Form{Delimiter: ",", Quote: '"'}
	if known.Quote != nil {
		f.Quote = 0
		if *known.Quote != "" {
			f.Quote = (*known.Quote)[0]
		}
	}
	if known.Escape != nil && *known.Escape != "" {
		f.Escape = (*known.Escape)[0]
	}
	// Which delimiter gives the same number of fields, again and again?
	type trial struct {
		delimiter   string
		fields      int // that most records have
		agree, rows int
		first       int64 // line of the first that agrees
	}
	try := func(d string) trial {
		g := f
		g.Delimiter = d
		t := trial{delimiter: d, fields: 1}
		counts := map[int]int{}
		rows := sampleWith(text, whole, g, sampleRecords, false)
		for _, r := range rows {
			if r.blank || r.ruler {
				continue
			}
			t.rows++
			counts[len(r.fields)]++
		}
		for n, c := range counts {
			if n > 1 && (c > t.agree || c == t.agree && n > t.fields) {
				t.fields, t.agree = n, c
			}
		}
		for _, r := range rows {
			if len(r.fields) == t.fields && !r.blank && !r.ruler {
				t.first = r.line
				break
			}
		}
		return t
	}
	switch {
	case known.Delimiter != nil:
		f.Delimiter = *known.Delimiter
		if err := f.Validate(); err != nil {
			return &Problem{Source: s.Name, What: err.Error(), Asked: true}
		}
		s.note("delimiter", delimiterName(f.Delimiter), "", true)
	default:
		var best, second trial
		for i, d := range delimiters {
			if i == 4 && best.fields > 1 {
				break
			}
			t := try(d)
			if t.fields < 2 || t.agree*2 < t.rows {
				continue
			}
			// A header that takes part counts for more than a few rows.
			better := best.fields < 2 || t.agree*10 > best.agree*11 ||
				t.agree*11 > best.agree*10 && (t.first < best.first || t.first == best.first && t.agree > best.agree ||
					t.first == best.first && t.agree == best.agree && t.fields > best.fields)
			if better {
				best, second = t, best
			} else if second.fields < 2 {
				second = t
			}
		}
		f.Delimiter = best.delimiter
		if best.fields < 2 {
			s.note("delimiter", "none", "no character separates the first records into the same number of fields", false)
		} else {
			why := fmt.Sprintf("%d fields in %d of the first %s", best.fields, best.agree, count(best.rows, "line"))
			if second.fields > 1 {
				why += fmt.Sprintf("; %s only in %d", delimiterName(second.delimiter), second.agree)
			}
			s.note("delimiter", delimiterName(best.delimiter), why, false)
		}
	}
	s.decideQuote(text, whole, known, &f)
	if err := f.Validate(); err != nil {
		return &Problem{Source: s.Name, What: err.Error(), Asked: true}
	}
	s.Layout.Form = f
	return nil
}

// decideQuote tries the ways of quoting and takes the one with fewest faults.
func (s *Source) decideQuote(text []byte, whole bool, known Known, f *delimited.Form) {
	unclosed := false
	faults := func(g delimited.Form) (faults, quoted, needed, modal int) {
		counts := map[int]int{}
		for _, r := range sample(text, whole, g, sampleRecords) {
			if r.fault == delimited.AfterQuote || r.fault == delimited.Unclosed {
				faults++
			}
			unclosed = unclosed || r.fault == delimited.Unclosed
			quoted += r.quoted
			counts[len(r.fields)]++
			for _, v := range r.fields {
				if g.Delimiter != "" && strings.Contains(v, g.Delimiter) || strings.ContainsAny(v, "\n\r") {
					needed++
				}
			}
		}
		for _, c := range counts {
			modal = max(modal, c)
		}
		return
	}
	if known.Quote != nil {
		s.note("quote", quoteName(f.Quote), "", true)
	} else {
		n, quoted, needed, steady := faults(*f)
		open := unclosed // then a person has to say whether it is a quote
		single := *f
		single.Quote = '\''
		sn, squoted, _, ssteady := faults(single)
		none := *f
		none.Quote = 0
		_, _, _, nsteady := faults(none)
		back := *f
		back.Escape = '\\'
		bn, _, _, bsteady := faults(back)
		switch {
		case quoted == 0 && squoted > 0 && sn == 0 && ssteady > steady:
			f.Quote = '\''
			s.note("quote", quoteName('\''), fmt.Sprintf("%s in single quotes, and separators inside", count(squoted, "field")), false)
		case n > 0 && known.Escape == nil && bn < n && bsteady >= steady:
			f.Escape = '\\'
			s.note("quote", quoteName('"'), count(quoted, "field")+" quoted in the beginning", false)
			s.note("escape", "backslash", fmt.Sprintf(`quotes inside fields are written \"; doubled, %s would have text after the quote`, count(n, "record")), false)
			return
		case n > 0 && !open && (nsteady > steady || nsteady == steady && n > 1 && 3*n >= 2*quoted):
			f.Quote = 0
			s.note("quote", "none", fmt.Sprintf("taken as quotes, %s would be faulty", count(n, "record")), false)
			return
		case quoted == 0:
			s.note("quote", quoteName('"'), "none in the beginning", false)
		case needed > 0:
			s.note("quote", quoteName('"'), fmt.Sprintf("%s quoted in the beginning, %d of them around a delimiter or line break", count(quoted, "field"), needed), false)
		default:
			s.note("quote", quoteName('"'), count(quoted, "field")+" quoted in the beginning, none that needs it", false)
		}
	}
	if known.Escape != nil {
		name := "doubled quotes"
		if *known.Escape != "" {
			name = *known.Escape
		}
		s.note("escape", name, "", true)
	}
}

func quoteName(q byte) string {
	switch q {
	case 0:
		return "none"
	case '"':
		return "double"
	case '\'':
		return "single"
	}
	return string(rune(q))
}

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
