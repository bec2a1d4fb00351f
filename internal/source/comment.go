package source

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"ambertray/internal/source/delimited"
)

// commentMarks begin lines that are no records, in one file or another.
var commentMarks = []string{"#", "//", "--", ";", "%", "!"}

// decideComment finds the mark that begins comments. Lines that it begins have to be
// unlike the records: another number of fields, whatever the delimiter is; a last one
// of them, right above the records, may hold their names.
func (s *Source) decideComment(text []byte, whole bool, known Known, f *delimited.Form) {
	if known.Comment != nil {
		f.Comment = *known.Comment
		if f.Comment != "" {
			s.note("comment", f.Comment, "", true)
		}
		return
	}
	if known.Header != nil && known.By != "" {
		return // a plan says it where there are comments
	}
	lines := linesOf(text, whole)
	for _, mark := range commentMarks {
		if n := commented(lines, mark, *f); n > 0 {
			f.Comment = mark
			s.note("comment", mark, fmt.Sprintf("begins %s, which are unlike the others", count(n, "line")), false)
			return
		}
	}
}

// commented is how many lines are comments of a mark; 0: it is none.
func commented(lines [][]byte, mark string, f delimited.Form) int {
	var marked, others [][]byte
	top := true // before any other line
	below := 0  // marked lines that are not
	for _, l := range lines {
		switch {
		case len(bytes.TrimSpace(l)) == 0:
		case bytes.HasPrefix(l, []byte(mark)):
			if mark == "--" && len(bytes.Trim(l, "- +|")) == 0 {
				return 0 // a ruler
			}
			if marked = append(marked, l); !top {
				below++
			}
		default:
			top = false
			others = append(others, l)
		}
	}
	if len(marked) == 0 || len(others) == 0 {
		return 0
	}
	if below > 0 && 2*below > len(others) {
		return 0 // so many are data, rather
	}
	// Under some delimiter, the others have the same number of fields, and the marked
	// lines do not.
	for _, d := range []string{"\t", "|", ";", ",", Blanks} {
		if d == mark {
			continue
		}
		fields := func(l []byte) int {
			g := f
			if g.Delimiter = d; d == Blanks {
				g.Delimiter, g.Blanks = " ", true
			}
			sp := delimited.NewSplitter(g)
			var rec delimited.Record
			sp.Reset(&delimited.Chunk{Data: l, Line: 1})
			sp.Next(&rec)
			return len(rec.Fields)
		}
		counts := map[int]int{}
		for _, l := range others[:min(len(others), 100)] {
			counts[fields(l)]++
		}
		n, most := 0, 0
		for k, c := range counts {
			if c > most {
				n, most = k, c
			}
		}
		if n < 2 || most*10 < 7*min(len(others), 100) {
			continue
		}
		alike := 0
		for _, l := range marked {
			if fields(l) == n {
				alike++
			}
		}
		if alike == 0 || alike == 1 && below == 0 && fields(marked[len(marked)-1]) == n && len(marked) > 1 {
			return len(marked) - alike
		}
		return 0
	}
	// One column: only a block at the top, in words, above numbers.
	prose := func(l []byte) bool { return !dataLike(string(l)) }
	if below == 0 && len(marked) > 1 && !slices.ContainsFunc(others, prose) {
		return len(marked)
	}
	return 0
}

// lineBegins reports whether a line begins with a character.
func lineBegins(text []byte, d string) bool {
	return bytes.HasPrefix(text, []byte(d)) || bytes.Contains(text, []byte("\n"+d))
}

// numbersAfter reports whether text that blanks may separate is no prose: in most of
// its columns most fields are numbers, but for the first line. Where columns of fixed
// width explain it, too, there have to be more of them.
func numbersAfter(text []byte, whole bool, f delimited.Form, fixed bool) bool {
	f.Delimiter, f.Blanks = " ", true
	numbers, fields := 0, 0
	for i, r := range sample(text, whole, f, 200) {
		if i == 0 || !r.filled() {
			continue
		}
		for _, v := range r.fields {
			fields++
			if dataLike(v) || v == "NA" || v == "." || v == "-" {
				numbers++
			}
		}
	}
	if fixed {
		return fields > 0 && 3*numbers >= 2*fields
	}
	return fields > 0 && 3*numbers >= fields
}

// ragged finds a delimiter that nearly every line has, and most of them several times,
// where they have different numbers of fields.
func ragged(text []byte, whole bool, f delimited.Form) (best trial) {
	for _, d := range []string{"\t", "|", ";", ","} {
		if lineBegins(text, d) && d != "\t" {
			continue
		}
		f.Delimiter = d
		rows, with, fields, most := 0, 0, 0, 0
		for _, r := range sampleWith(text, whole, f, sampleRecords, false) {
			if r.blank || r.ruler || r.comment {
				continue
			}
			rows++
			if n := len(r.fields); n > 1 {
				with++
				fields += n
				most = max(most, n)
			}
		}
		// Commas stand in prose, too.
		least := map[string]int{"\t": 2, "|": 3, ";": 3, ",": 5}[d]
		nearly := with*10 >= rows*9 || d == "\t" && with*4 >= rows*3
		if rows > 1 && nearly && fields >= least*rows && most > 2 {
			return trial{delimiter: d, fields: most, agree: with, rows: rows}
		}
	}
	return trial{}
}

// uncommented are the fields of a commented header, without the mark.
func uncommented(raw, mark string, f delimited.Form) []string {
	f.Comment = ""
	rows := sample([]byte(strings.TrimLeft(strings.TrimPrefix(raw, mark), " ")+"\n"), true, f, 1)
	if len(rows) == 0 {
		return nil
	}
	return rows[0].fields
}
