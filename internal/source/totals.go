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

// firstOfTotal are the first words of all of them, lastOfTotal those of totalLast; behind those of
// beforeTotal, the total is still to come.
var firstOfTotal, lastOfTotal, beforeTotal = func() (first, last, before map[string]bool) {
	first, last, before = map[string]bool{}, map[string]bool{}, map[string]bool{}
	for _, w := range slices.Concat(totalWords, totalBegins, totalFirst) {
		word, rest, _ := strings.Cut(w, " ")
		first[word] = true
		before[word] = strings.HasPrefix(rest, "tot")
	}
	for _, w := range totalLast {
		last[w] = true
	}
	return
}()

// longestTotal is how many bytes the words of a total have at most.
const longestTotal = 60

// likeTotal reports whether a text of three letters or more may be the words of a total: most other
// words are told from them by their first three letters, or by their last.
func likeTotal(text []byte) bool {
	return initials[text[0]] && likeFirst(text) || finals[text[len(text)-1]] && likeLast(text)
}

// initials and finals are the letters that begin and end the words of totals.
var initials, finals = letters("tsgozei"), letters("lste")

func letters(of string) (is [256]bool) {
	for i := range len(of) {
		is[of[i]], is[of[i]-'a'+'A'] = true, true
	}
	return is
}

// plainly reports whether a first field is surely not that of a total, by its first and last letter.
func plainly(f []byte) bool {
	n := len(f)
	return n > 2 && f[0] > ' ' && !initials[f[0]] && f[n-1] > ' ' && f[n-1] != ':' && f[n-1] != '.' && !finals[f[n-1]]
}

// likeFirst reports whether three letters begin one of totalWords, totalBegins or totalFirst, and
// likeLast whether they end one of totalLast.
func likeFirst(text []byte) bool {
	switch three(text) { // others: begin other words
	case ofTot, ofSub, ofSum, ofSom, ofSou, ofGra, ofGes,
		ofOve, ofZwi, ofEnd, ofEin, ofIns:
		return true
	}
	return false
}

func likeLast(text []byte) bool {
	switch three(text[len(text)-3:]) { // others: end other words
	case ofTal, ofAls, ofAmt, ofAle, ofAal:
		return true
	}
	return false
}

// Three letters in one number, as three makes it.
const (
	ofTot = 't'<<16 | 'o'<<8 | 't'
	ofSub = 's'<<16 | 'u'<<8 | 'b'
	ofSum = 's'<<16 | 'u'<<8 | 'm'
	ofSom = 's'<<16 | 'o'<<8 | 'm'
	ofSou = 's'<<16 | 'o'<<8 | 'u'
	ofGra = 'g'<<16 | 'r'<<8 | 'a'
	ofGes = 'g'<<16 | 'e'<<8 | 's'
	ofOve = 'o'<<16 | 'v'<<8 | 'e'
	ofZwi = 'z'<<16 | 'w'<<8 | 'i'
	ofEnd = 'e'<<16 | 'n'<<8 | 'd'
	ofEin = 'e'<<16 | 'i'<<8 | 'n'
	ofIns = 'i'<<16 | 'n'<<8 | 's'
	ofTal = 't'<<16 | 'a'<<8 | 'l'
	ofAls = 'a'<<16 | 'l'<<8 | 's'
	ofAmt = 'a'<<16 | 'm'<<8 | 't'
	ofAle = 'a'<<16 | 'l'<<8 | 'e'
	ofAal = 'a'<<16 | 'a'<<8 | 'l'
)

// three are three letters in one number, in lower case.
func three(text []byte) uint32 {
	_ = text[2]
	return (uint32(text[0])<<16 | uint32(text[1])<<8 | uint32(text[2])) | 0x202020
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
	for len(text) > 0 && text[0] <= ' ' {
		text = text[1:]
	}
	for n := len(text); n > 0 && (text[n-1] <= ' ' || text[n-1] == ':' || text[n-1] == '.'); n-- {
		text = text[:n-1]
	}
	if len(text) < 3 || len(text) > longestTotal || !likeTotal(text) {
		return noTotal
	}
	var lower [longestTotal]byte
	for i, c := range text {
		if 'A' <= c && c <= 'Z' {
			c |= 0x20
		}
		lower[i] = c
	}
	// Most texts that come as far as this are told by their first and last words, without a string
	// being made.
	low := lower[:len(text)]
	first, last := low, low
	if i := bytes.IndexByte(low, ' '); i > 0 {
		first, last = low[:i], low[bytes.LastIndexByte(low, ' ')+1:]
	}
	if !firstOfTotal[string(first)] && !lastOfTotal[string(last)] ||
		beforeTotal[string(first)] && !bytes.Contains(low, []byte("tot")) {
		return noTotal
	}
	s := string(low)
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
	end := bytes.IndexByte(text, d)
	if end < 0 {
		if end = bytes.IndexByte(text, '\n'); end < 0 {
			return false
		}
	}
	for end > 0 && (text[end-1] <= ' ' || text[end-1] == '"' || text[end-1] == ':' || text[end-1] == '.') {
		end--
	}
	return end >= 3 && likeTotal(text[:end]) && labelOf(text[:end]) != noTotal
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
