package source

import (
	"fmt"
	"strings"

	"ambertray/internal/source/delimited"
)

// delimiters are tried in this order; the later ones only where none of the
// first five gives columns.
var delimiters = []string{"\t", "|", ";", ",", "\x1f", "¦", "^", "~", ":", "#", "!", "*", "§", "\x01"}

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
