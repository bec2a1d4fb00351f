package profile

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"ambertray/internal/phrase"
	"ambertray/internal/reading"
	"ambertray/internal/sqltype"
)

// A candidate is what a column would be as one family of types: a value, that is
// taken or not.
type candidate struct {
	family   string
	fits     int64 // values that it reads
	typ      sqltype.Type
	number   reading.Number
	dates    []*reading.Pattern
	yes, no  string // the words for true and false
	lo, hi   string // in plain form
	why      string
	findings []Finding
}

// finding is one about the column.
func (d *decision) finding(w Weight, code Code, text, do string, count int64, ex []Example) Finding {
	return Finding{Weight: w, Code: code, Column: d.col.Header, Text: text, Do: do, Count: count, Examples: ex}
}

// take makes the column what a candidate says.
func (d *decision) take(x candidate) {
	c := d.col
	c.Type, c.Number, c.Dates, c.True, c.False = x.typ, x.number, x.dates, x.yes, x.no
	c.Smallest, c.Largest, c.Why = x.lo, x.hi, x.why
	d.p.Findings = append(d.p.Findings, x.findings...)
}

// column decides what the column is.
func (d *decision) column() {
	e, c := d.e, d.col
	c.Longest, c.LongestBytes, c.ASCII = e.maxChars, e.maxBytes, e.odds().wide.count == 0
	c.Distinct, c.DistinctExact = e.values.count()
	c.Values = e.values.list()
	if c.Unique {
		c.Distinct, c.DistinctExact = d.values, true
	}
	if e.values.off {
		c.Distinct, c.DistinctExact = 0, false
	}
	if d.values == 0 {
		d.nothing()
		return
	}
	if n := e.odds().numerals; n.count*2 > d.values {
		d.find(Note, CodeNumbersAsText, fmt.Sprintf("%s written as text in the sheet, and kept as text",
			groupIs(n.count, "number is", "numbers are")),
			"if they are numbers, give the column's type with --type", n.count, n.first)
	}
	// Words for null are left out of what has to fit; the wanted ones in any case.
	var nulls examples
	for _, w := range e.words {
		if slices.Contains(nullWords, w.word) || slices.Contains(d.opt.NullWords, w.word) {
			nulls.merge(w.examples)
			d.nulls = append(d.nulls, w.word)
		}
	}
	slices.Sort(d.nulls)
	if nulls.count == d.values && !slices.ContainsFunc(d.nulls, func(w string) bool {
		return !slices.Contains(sureNulls, w)
	}) {
		d.noValue(&nulls)
		return
	}
	d.choose(&nulls)
	if c.Type.IsText() && e.quoted > 0 && e.blanks > e.quoted {
		d.find(Note, CodeQuotedEmpty, fmt.Sprintf("%s written as \"\" and %s as nothing; both become null",
			groupIs(e.quoted, "blank is", "blanks are"), grouped(e.blanks-e.quoted)),
			"to keep \"\" as an empty text, use --keep-empty quoted", e.quoted, nil)
	}
	d.override()
}

// nothing is the decision where there is no value.
func (d *decision) nothing() {
	c := d.col
	c.Type, c.Why = sqltype.Type{Kind: sqltype.Text}, "no value to tell it from"
	if c.Blanks > 0 {
		c.Why = "blank in every record"
		d.find(Caution, CodeAllBlank, "blank in every record; the type is a guess",
			"leave the column out, or give its type", c.Blanks, nil)
		d.answered("it is not loaded", "leave-out", c.Header)
	}
	d.override()
}

// noValue is the decision where all values are words for null.
func (d *decision) noValue(nulls *examples) {
	c := d.col
	c.Nulls, c.NullWord = d.nulls, nulls.count
	c.Type, c.Why = sqltype.Type{Kind: sqltype.Text}, "no value to tell it from"
	if !slices.ContainsFunc(d.nulls, func(w string) bool { return !strings.EqualFold(w, "nan") }) {
		c.Type, c.Why = sqltype.Type{Kind: sqltype.Double}, "NaN stands where a number is missing"
	}
	d.find(Caution, CodeAllBlank, fmt.Sprintf("%s in every record that is not blank, read as null; the type is a guess",
		quoteList(d.nulls)), "leave the column out, or give its type", nulls.count, nulls.first)
	d.answered("it is not loaded", "leave-out", c.Header)
	d.override()
}

// required reports whether the evidence says that the column is never blank. Few
// records do not.
func (d *decision) required() bool { return d.e.blanks == 0 && d.p.Records >= Few }

// choose takes the candidate that reads all values but the words for null, or all
// but the share that is tolerated; else the column is text.
func (d *decision) choose(nulls *examples) {
	c := d.col
	left := d.values - nulls.count
	// Of those that fit as well, the first is taken: whole numbers that all read
	// as dates are dates.
	best := slices.MaxFunc([]candidate{d.truth(), d.date(), d.number(), d.uuid()},
		func(a, b candidate) int { return cmp.Compare(a.fits, b.fits) })
	miss := left - best.fits
	share := float64(miss) / float64(max(left, 1))
	if best.fits == 0 || miss > 0 && share > d.opt.Tolerate {
		d.chooseText(best, nulls, left)
		return
	}
	c.Required = d.required() && nulls.count == 0
	c.Nulls, c.NullWord, c.Misfits = d.nulls, nulls.count, miss
	d.take(best)
	if nulls.count > 0 {
		d.find(Note, CodeNullWord, fmt.Sprintf("%s read as null: %s", groupIs(nulls.count, "value is", "values are"),
			quoteList(d.nulls)),
			"without that the column would be text; the plan lists the words", nulls.count, nulls.first)
	}
	if miss > 0 {
		d.find(Caution, CodeTolerated, fmt.Sprintf("%s not fit %s and will be rejected",
			groupIs(miss, "value does", "values do"), c.Type),
			"they are within the share that --tolerate allows", miss, d.misfits(best.family))
	}
}

// chooseText makes the column text, and says what it nearly is. left is how many
// values are no words for null.
func (d *decision) chooseText(best candidate, nulls *examples, left int64) {
	e, c := d.e, d.col
	wanted := d.textNulls(d.nulls)
	d.text(wanted)
	miss := left - best.fits
	share := float64(miss) / float64(max(left, 1))
	if best.fits > 0 && (share <= nearMiss || miss <= 3 && left >= 10) {
		d.find(Caution, CodeNearMiss, fmt.Sprintf("would be %s but for %s of %s", best.typ, grouped(miss),
			group(left, "value")),
			fmt.Sprintf("mend the file, or take them as rejects with --type %s, or --tolerate %s",
				flag(c.Header, best.typ), phrase.Share(share)),
			miss, d.misfits(best.family))
		d.answered("as most values are", "type", best.typ.String())
	} else if d.telephones() {
		c.Why = "every value begins with a plus, as telephone numbers do; " + c.Why
	} else if what := d.naming(d.numbersOf()); what != "" {
		c.Why = what + ", by the header, which are not counted with; " + c.Why
	} else if d.mixedDates(left) || d.mixedMarks(left) {
		// what was found says why
	} else if e.odds().zeros.count > 0 && e.odds().zeros.count+e.ints.count == left {
		c.Why = fmt.Sprintf("%s with leading zeros, which a number would lose; %s",
			groupIs(e.odds().zeros.count, "code", "codes"), c.Why)
	}
	if nulls.count > 0 && len(wanted) == 0 {
		d.find(Note, CodeNullWordKept, fmt.Sprintf("%s %s, kept as text",
			groupIs(nulls.count, "value is", "values are"), quoteList(d.nulls)),
			"if they mean null, say --null-word "+phrase.ShellWord(d.nulls[0]), nulls.count, nulls.first)
		for _, w := range d.nulls {
			d.answered("it means null", "null-word", w)
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
	d.given = true
	required := d.required()
	own := func(f Finding) bool { return f.Weight == Blocker && f.Column == c.Header }
	d.p.Findings = slices.DeleteFunc(d.p.Findings, own)
	var x candidate
	switch {
	case t.IsNumber():
		x = d.number()
	case t.IsTemporal():
		x = d.date()
	case t.Kind == sqltype.Boolean:
		x = d.truth()
	}
	if x.fits > 0 {
		x.findings = slices.DeleteFunc(x.findings, func(f Finding) bool { return !own(f) })
		d.take(x)
		c.Nulls = d.nulls
		required = required && len(d.nulls) == 0
	}
	c.Type, c.Required = t, required
	c.Why = fmt.Sprintf("as given; the values would make it %s", found)
	if t.IsTemporal() {
		c.Dates = slices.DeleteFunc(c.Dates, func(p *reading.Pattern) bool {
			return p.HasDate() != (t.Kind != sqltype.Time) || p.HasZone() != (t.Kind == sqltype.TimestampTZ)
		})
	}
}

// truth is the candidate boolean: two words of one pair, and both of them.
func (d *decision) truth() candidate {
	best := candidate{family: "truth"}
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
			best = candidate{family: "truth", fits: n[0] + n[1], typ: sqltype.Type{Kind: sqltype.Boolean}, yes: word[0],
				no: word[1], lo: "false", hi: "true",
				why: fmt.Sprintf("%s %s, %s %s", grouped(n[0]), word[0], grouped(n[1]), word[1])}
		}
	}
	return best
}

// uuid is the candidate of values that all have that form.
func (d *decision) uuid() candidate {
	return candidate{family: "uuid", fits: d.e.uuids, typ: sqltype.Type{Kind: sqltype.UUID},
		lo: strings.ToLower(string(d.e.lo.text)), hi: strings.ToLower(string(d.e.hi.text)),
		why: "every value has the form of a uuid"}
}
