package match

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"ambertray/internal/plan"
	"ambertray/internal/source"
)

// Sheets compares the sheets of each workbook with those that the plan was made from, where a
// pattern of its stands for several: one that is missing and one that is new block the load,
// unless the plan says otherwise. leave are the new ones that are not to be taken.
func Sheets(sources []*source.Source, p *plan.Plan) (out []Change, leave []*source.Source) {
	for i := range p.Sources {
		form := &p.Sources[i]
		if !source.ManySheets(form.Settings["sheet"]) {
			continue
		}
		known, always := sheetsSeen(form)
		if len(known) == 0 {
			continue // a plan that does not say what it was made from
		}
		for _, book := range booksOf(sources, form) {
			if p.Made(book[0]) {
				continue
			}
			x := compareSheets(book, known, always, form.Sheets)
			out, leave = append(out, x.out...), append(leave, x.leave...)
		}
	}
	return out, leave
}

// sheetsSeen are the sheets of the files that a source of a plan was made from, and those that each
// of them had.
func sheetsSeen(form *plan.Source) (any, all []string) {
	for i, seen := range form.Seen {
		for _, name := range seen.Sheets {
			if !slices.Contains(any, name) {
				any = append(any, name)
			}
		}
		if i == 0 {
			all = slices.Clone(seen.Sheets)
		}
		all = slices.DeleteFunc(all, func(n string) bool { return !slices.Contains(seen.Sheets, n) })
	}
	return any, all
}

// booksOf are the sources of each file that stand for a pattern of sheets.
func booksOf(sources []*source.Source, form *plan.Source) (out [][]*source.Source) {
	at := map[string]int{}
	for _, s := range sources {
		if s.Asked.Sheet != form.Settings["sheet"] {
			continue
		}
		k, is := at[s.Path]
		if !is {
			k = len(out)
			at[s.Path], out = k, append(out, nil)
		}
		out[k] = append(out[k], s)
	}
	return out
}

type sheets struct {
	changes
	leave []*source.Source
}

var yearIn = regexp.MustCompile(`(19|20)\d\d`)

// compareSheets compares the sheets of one file. Where a name has a year, any other year does.
func compareSheets(book []*source.Source, known, always []string, rules *plan.SheetRules) *sheets {
	x := &sheets{}
	x.src = book[0]
	same := func(a, b string) bool {
		bare := func(s string) string { return strings.ToLower(yearIn.ReplaceAllString(strings.TrimSpace(s), "####")) }
		return bare(a) == bare(b)
	}
	has := func(names []string, name string) bool {
		return slices.ContainsFunc(names, func(n string) bool { return same(n, name) })
	}
	var present []string
	for _, s := range book {
		present = append(present, s.Sheet)
	}
	var missing []string
	for _, name := range always {
		if !has(present, name) {
			missing = append(missing, name)
		}
	}
	for _, s := range book {
		if has(known, s.Sheet) {
			continue
		}
		hint := ""
		if len(missing) == 1 {
			hint = fmt.Sprintf(", perhaps a new name of %q", missing[0])
		}
		switch rules.New() {
		case plan.TakeSheet:
			x.add("", Caution, false, "its sheet %q is new%s; it is loaded, as the plan says", s.Sheet, hint)
		case plan.LeaveSheet:
			x.add("", Caution, false, "its sheet %q is new%s; it is not loaded, as the plan says", s.Sheet, hint)
			x.leave = append(x.leave, s)
		default: // others: there is only stop
			x.add("", Blocking, false, "its sheet %q is new%s: the file that the plan was made from had none of that "+
				"name; write sheets: {new: take} or {new: leave} under the source in the plan", s.Sheet, hint)
		}
	}
	for _, name := range missing {
		if rules.Missing() == plan.AllowMissing {
			x.add("", Caution, false, "has no sheet %q with data, as the plan allows", name)
			continue
		}
		x.add("", Blocking, false, "has no sheet %q with data, and the file that the plan was made from had one; ask "+
			"for it, or write sheets: {missing: allow} under the source in the plan", name)
	}
	for i := range x.out {
		x.out[i].Source = book[0].Path // it is said of the file
	}
	return x
}
