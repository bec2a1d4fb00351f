package source

import (
	"bytes"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"ambertray/internal/source/delimited"
)

// Totals among records are told by the word that the line begins with, and by its shape: it holds
// a number, and the word stands where records have numbers or dates, or something in the line is
// blank. A total at the end of a file is a footer; see decideFooter.

// What a plan says of totals among records; while nothing is said, nobody has decided.
const (
	SkipTotals = "skip"
	KeepTotals = "keep"
)

// totalWords are what lines are called that add up others, in the languages of nameWords.
var totalWords = phrases(`total; totals; subtotal; subtotals; sub-total; sub total; grand total; overall total; sum; sums;
summe; gesamt; gesamtsumme; zwischensumme; endsumme; insgesamt; somme; sous-total; total général; total general;
totale; totale generale; subtotale; somma; suma; totaal; subtotaal; eindtotaal`)

// totalBegins begin such lines, whatever follows; of the others, "total" and its like may begin a
// name, too.
var totalBegins = phrases(`subtotal; sub-total; sub total; grand total; overall total; zwischensumme; gesamtsumme;
sous-total; subtotale; subtotaal; total for; total of; total in; totals for; totals of`)

// totalFirst and totalLast are the first and the last word of lines that may be totals: what stands
// beside them is what they add up.
var (
	totalFirst = phrases(`total; totals; summe; gesamt; totale; totaal; somme`)
	totalLast  = phrases(`total; totals; subtotal; gesamt; insgesamt; totale; totaal`)
)

func phrases(text string) (out []string) {
	for _, p := range strings.Split(text, ";") {
		out = append(out, strings.TrimSpace(strings.ReplaceAll(p, "\n", " ")))
	}
	return out
}

// longestTotal is how many bytes the words of a total have at most.
const longestTotal = 60

// totalHeads are how the words of totals begin, and totalTails how they end: most other words are
// told from them by three letters.
var totalHeads, totalTails = func() (heads, tails map[[3]byte]bool) {
	heads, tails = map[[3]byte]bool{}, map[[3]byte]bool{}
	for _, w := range slices.Concat(totalWords, totalBegins, totalFirst) {
		heads[[3]byte([]byte(w))] = true
	}
	for _, w := range totalLast {
		tails[[3]byte([]byte(w[len(w)-3:]))] = true
	}
	return
}()

// likeTotal reports whether a text of three letters or more may be the words of a total.
func likeTotal(text []byte) bool {
	at := func(i int) byte {
		if c := text[i]; c < 'A' || c > 'Z' {
			return c
		}
		return text[i] | 0x20
	}
	n := len(text)
	switch at(0) { // what they begin with
	case 't', 's', 'g', 'o', 'z', 'e', 'i':
		if totalHeads[[3]byte{at(0), at(1), at(2)}] {
			return true
		}
	}
	switch at(n - 1) {
	case 'l', 's', 't', 'e':
		return totalTails[[3]byte{at(n - 3), at(n - 2), at(n - 1)}]
	}
	return false
}

// A totalLabel is how surely the words of a line are those of a total.
type totalLabel uint8

const (
	noTotal   totalLabel = iota
	nameTotal            // it may also be a name that begins so
	sureTotal
)

// labelOf tells it of the first text of a line.
func labelOf(text []byte) totalLabel {
	text = bytes.TrimRight(bytes.TrimSpace(text), ":.= ")
	if len(text) < 3 || len(text) > longestTotal || !likeTotal(text) {
		return noTotal
	}
	s := strings.ToLower(string(text))
	if slices.Contains(totalWords, s) {
		return sureTotal
	}
	begins := func(word string) bool {
		rest, is := strings.CutPrefix(s, word)
		c, _ := utf8.DecodeRuneInString(rest)
		return is && rest != "" && !unicode.IsLetter(c) && c != '_' && c != '-'
	}
	ends := func(word string) bool { return strings.HasSuffix(s, " "+word) }
	switch {
	case slices.ContainsFunc(totalBegins, begins), slices.ContainsFunc(totalLast, ends):
		return sureTotal
	case slices.ContainsFunc(totalFirst, begins):
		return nameTotal
	}
	return noTotal
}

// maybeTotal reports whether a record, which begins a text, could be a total by the beginning and
// the end of its first field that holds something.
func (r *Rows) maybeTotal(text []byte) bool {
	d := r.layout.Form.Delimiter[0]
	i := 0
	for i < len(text) && (text[i] == d || text[i] == ' ' || text[i] == '"') {
		i++
	}
	text = text[i:min(len(text), i+longestTotal+8)]
	end := 0
	for end < len(text) && text[end] != d && text[end] != '\n' {
		end++
	}
	for end > 0 && (text[end-1] <= ' ' || text[end-1] == '"' || text[end-1] == ':' || text[end-1] == '.') {
		end--
	}
	return end >= 3 && likeTotal(text[:end])
}

// isTotal reports whether a record is a total.
func (r *Rows) isTotal(rec *delimited.Record) bool {
	if len(rec.Fields) > len(r.layout.Columns) || rec.Fault != delimited.NoFault {
		return false
	}
	return r.layout.totalAt(len(rec.Fields), func(i int) []byte { return rec.Fields[i] })
}

// totalAt is isTotal of so many fields.
func (l *Layout) totalAt(n int, field func(int) []byte) bool {
	at := 0
	for at < n && blank(field(at)) {
		at++
	}
	if at == n {
		return false
	}
	label := labelOf(field(at))
	if label == noTotal || label == nameTotal && l.Totals != SkipTotals {
		return false
	}
	gap, numbers := n < len(l.Columns) || at > 0, 0
	for i := at + 1; i < n; i++ {
		if f := field(i); blank(f) {
			gap = true
		} else if isNumber(string(bytes.TrimSpace(f))) {
			numbers++
		}
	}
	return numbers > 0 && (gap || at < len(l.Typed) && l.Typed[at])
}

func blank(f []byte) bool { return len(f) == 0 || f[0] <= ' ' && len(bytes.TrimSpace(f)) == 0 }

// typedColumns are the columns that hold numbers and dates in nearly all of the rows from an index
// on, totals aside.
func (h *head) typedColumns(from int) []bool {
	filled, typed := make([]int, len(h.Layout.Columns)), make([]int, len(h.Layout.Columns))
	for _, r := range h.rows[min(from, len(h.rows)):] {
		if !r.filled() || labelOf([]byte(firstOf(r.fields))) != noTotal {
			continue
		}
		for c, f := range r.fields[:min(len(r.fields), len(filled))] {
			if IsBlank(f) {
				continue
			}
			if filled[c]++; isData(f) {
				typed[c]++
			}
		}
	}
	out := make([]bool, len(filled))
	for c := range out {
		out[c] = filled[c] > 0 && 10*typed[c] >= 9*filled[c]
	}
	return out
}
