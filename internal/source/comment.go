package source

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"ambertray/internal/phrase"
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
			s.note("comment", mark, fmt.Sprintf("begins %s, which are unlike the others",
				phrase.Plain(n, "line")), false)
			return
		}
	}
}

// commented is how many lines are comments of a mark; 0: it is none.
func commented(lines [][]byte, mark string, f delimited.Form) int {
	marked, others, below := splitMarked(lines, mark)
	switch {
	case len(marked) == 0 || len(others) == 0,
		2*below > len(others),                 // so many are data, rather
		4*holding(others, mark) > len(others), // it separates fields, or is part of them
		mark == "--" && slices.ContainsFunc(marked, isDrawn):
		return 0
	}
	for _, d := range []string{"\t", "|", ";", ",", Blanks} {
		if d == mark {
			continue
		}
		n := modalFields(others, d, f)
		if n < 2 {
			continue
		}
		// Under this delimiter, the others have the same number of fields.
		alike := 0
		for _, l := range marked {
			if fieldsOfLine(l, d, f) == n && !(d == Blanks && remark(l, mark)) {
				alike++
			}
		}
		last := fieldsOfLine(marked[len(marked)-1], d, f) == n
		if alike == 0 || alike == 1 && below == 0 && last && len(marked) > 1 {
			return len(marked) - alike
		}
		return 0
	}
	return aboutNumbers(marked, others)
}

// splitMarked parts the lines that a mark begins from the others, but for blank ones. below
// is how many of the marked follow another.
func splitMarked(lines [][]byte, mark string) (marked, others [][]byte, below int) {
	for _, l := range lines {
		switch {
		case len(bytes.TrimSpace(l)) == 0:
		case !bytes.HasPrefix(l, []byte(mark)):
			others = append(others, l)
		default:
			if marked = append(marked, l); len(others) > 0 {
				below++
			}
		}
	}
	return marked, others, below
}

// holding is how many lines have a mark somewhere.
func holding(lines [][]byte, mark string) (n int) {
	for _, l := range lines {
		if bytes.Contains(l, []byte(mark)) {
			n++
		}
	}
	return n
}

// isDrawn reports a ruler.
func isDrawn(l []byte) bool { return len(bytes.Trim(l, "- +|")) == 0 }

// fieldsOfLine is how many fields a line has under a delimiter.
func fieldsOfLine(l []byte, d string, f delimited.Form) int {
	sp := delimited.NewSplitter(separated(f, d))
	var rec delimited.Record
	sp.Reset(&delimited.Chunk{Data: l, Line: 1})
	sp.Next(&rec)
	return len(rec.Fields)
}

// modalFields is how many fields seven tenths of the first lines have under a
// delimiter; 0: there is no such number.
func modalFields(lines [][]byte, d string, f delimited.Form) int {
	lines = lines[:min(len(lines), 100)]
	counts := map[int]int{}
	for _, l := range lines {
		counts[fieldsOfLine(l, d, f)]++
	}
	for n, c := range counts {
		if 10*c >= 7*len(lines) {
			return n
		}
	}
	return 0
}

// aboutNumbers is how many lines are comments of a lone column of numbers: words
// behind a mark.
func aboutNumbers(marked, others [][]byte) int {
	numbers := 0
	for _, l := range others {
		if v := strings.Trim(string(l), `"`); v == "" || isData(v) {
			numbers++
		}
	}
	wordless := func(l []byte) bool { return !bytes.ContainsAny(l, " \t") }
	if len(marked) > 1 && !slices.ContainsFunc(marked, wordless) && numbers > 0 &&
		len(others)-numbers <= min(5, 1+numbers/2) {
		return len(marked)
	}
	return 0
}

// remark reports whether a line is words behind a mark and a blank, without digits.
func remark(line []byte, mark string) bool {
	return bytes.HasPrefix(line[len(mark):], []byte(" ")) && !bytes.ContainsAny(line, "0123456789\"")
}

// lineBegins reports whether a line begins with a character.
func lineBegins(text []byte, d string) bool {
	return bytes.HasPrefix(text, []byte(d)) || bytes.Contains(text, []byte("\n"+d))
}

// numbersAfter reports whether text that blanks may separate is no prose: many of its
// fields have digits or quotes, but for the first line. Where columns of fixed
// width explain it, too, there have to be more of them.
func numbersAfter(text []byte, whole bool, f delimited.Form, fixed bool) bool {
	numbers, fields := 0, 0
	for i, r := range sample(text, whole, separated(f, Blanks), 200) {
		if i == 0 || !r.filled() {
			continue
		}
		numbers += r.quoted
		for _, v := range r.fields {
			fields++
			if strings.ContainsAny(v, "0123456789") || v == "NA" || v == "." || v == "-" {
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
		rows, with, fields, most := 0, 0, 0, 0
		for _, r := range sampleWith(text, whole, separated(f, d), sampleRecords, false) {
			if !r.record() {
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
