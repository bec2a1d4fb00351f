package profile

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"ambertray/internal/source"
	"ambertray/internal/sqltype"
)

// A Presence tells which of several sources have a column.
type Presence struct {
	In      int      // so many of them
	Missing []string // names of those that lack it
	// Types are those that the column would have by itself, with the sources.
	Types map[string][]string
}

// across adds what only shows when several sources are seen side by side:
// columns that some lack or that differ in type, names that may mean the same,
// and gaps in the sequence of the sources.
func (p *Profile) across(sources []*source.Source, each []*Profile, headers []string, at [][]int, opt Options) {
	p.Across = make([]Presence, len(headers))
	place := make([][]int, len(sources)) // of each column in each source, or -1
	for k := range sources {
		place[k] = make([]int, len(headers))
		for u := range headers {
			place[k][u] = slices.Index(at[k], u)
		}
	}
	for u, h := range headers {
		x := &p.Across[u]
		x.Types = map[string][]string{}
		for k, src := range sources {
			i := place[k][u]
			if i < 0 {
				x.Missing = append(x.Missing, short(src))
				continue
			}
			x.In++
			if c := each[k].Columns[i]; c.Fields > c.Blanks {
				t := c.Type.String()
				x.Types[t] = append(x.Types[t], short(src))
			}
		}
		if len(x.Missing) > 0 {
			p.find(Finding{Weight: Caution, Code: CodeMissingIn, Column: h, Count: int64(len(x.Missing)),
				Text: fmt.Sprintf("missing in %d of %d sources (%s); it is null there", len(x.Missing), len(sources),
					shortList(x.Missing))})
		}
		p.typesDiffer(u, h, x)
	}
	p.renames(sources, each, headers, place, opt)
	if !slices.ContainsFunc(p.Findings, func(f Finding) bool { return f.Code == CodeRenamed }) {
		p.apart(sources, at, opt) // with one name for both, they may be alike
	}
	var names []string
	for _, s := range sources {
		names = append(names, short(s))
	}
	if gaps := source.Gaps(names); len(gaps) > 0 {
		p.find(Finding{Weight: Caution, Code: CodeGap, Count: int64(len(gaps)),
			Text: fmt.Sprintf("the sources follow each other, but %s missing: %s",
				map[bool]string{true: "one is", false: "some are"}[len(gaps) == 1], shortList(gaps)),
			Do: "ask for them, if they should be there"})
	}
	for k, q := range each {
		for _, f := range q.Findings {
			if f.Column == "" {
				f.Text = short(sources[k]) + ": " + f.Text
				p.find(f)
			}
		}
	}
	slices.SortStableFunc(p.Findings, func(a, b Finding) int { return rank(a.Weight) - rank(b.Weight) })
}

// apart asks about sources that have few columns in common. at is the place of
// each source's columns among those of all.
func (p *Profile) apart(sources []*source.Source, at [][]int, opt Options) {
	has := make([]map[int]bool, len(at))
	for k, columns := range at {
		has[k] = map[int]bool{}
		for _, u := range columns {
			has[k][u] = true
		}
	}
	// Two are alike where more than half of the columns of the narrower one are those of the
	// other; what is like one of a group belongs to it.
	alike := func(a, b map[int]bool) bool {
		if len(a) > len(b) {
			a, b = b, a
		}
		n := 0
		for u := range a {
			if b[u] {
				n++
			}
		}
		return 2*n > len(a)
	}
	var groups [][]int // of sources, one for all that have the same columns
	same, first := make([][]int, len(has)), map[string]int{}
	for k := range has {
		columns := fmt.Sprint(slices.Sorted(maps.Keys(has[k])))
		if one, is := first[columns]; is {
			same[one] = append(same[one], k)
			continue
		}
		first[columns], same[k] = k, []int{k}
		one := []int{k}
		groups = slices.DeleteFunc(groups, func(g []int) bool {
			if !slices.ContainsFunc(g, func(other int) bool { return alike(has[k], has[other]) }) {
				return false
			}
			one = append(one, g...)
			return true
		})
		slices.Sort(one)
		groups = append(groups, one)
	}
	if len(groups) < 2 {
		return
	}
	slices.SortFunc(groups, func(a, b []int) int { return a[0] - b[0] })
	var parts []string
	for _, g := range groups[:min(len(groups), 4)] {
		var names []string
		var all []int
		for _, k := range g {
			all = append(all, same[k]...)
		}
		slices.Sort(all)
		for _, k := range all {
			names = append(names, short(sources[k]))
		}
		s := sources[g[0]]
		parts = append(parts, fmt.Sprintf("%s (%s)", shortList(names), shortList(s.Layout.Columns[s.Layout.Lead:])))
	}
	f := Finding{Weight: Blocker, Code: CodeSeveralTables, Count: int64(len(groups)),
		Text: "the sources have few columns in common, and do not look like one table: " + strings.Join(parts, "; "),
		Do:   "for a table of each, say --tables each; to join them all the same, --tables one",
		Answers: []Answer{{"a table of each", "tables", "each"},
			{"one table all the same; what a source lacks is null", "tables", "one"}}}
	if opt.Joined {
		f.Weight, f.Do, f.Answers = Caution, "", nil
	}
	p.find(f)
}

func rank(w Weight) int { return slices.Index([]Weight{Blocker, Caution, Note}, w) }

// typesDiffer tells where sources would give a column types of different
// families.
func (p *Profile) typesDiffer(u int, h string, x *Presence) {
	families := map[string]bool{}
	var parts []string
	for t, in := range x.Types {
		typ, _ := sqltype.Parse(t)
		switch {
		case typ.IsNumber():
			families["number"] = true
		case typ.IsText():
			families["text"] = true
		default:
			families[typ.String()] = true
		}
		parts = append(parts, fmt.Sprintf("%s in %s", t, shortList(in)))
	}
	if len(families) < 2 {
		return
	}
	slices.Sort(parts)
	p.find(Finding{Weight: Caution, Code: CodeTypesDiffer, Column: h,
		Text: fmt.Sprintf("%s; together %s", strings.Join(parts, ", "), p.Columns[u].Type)})
}

// renames asks about columns that one source has in the place of another's.
func (p *Profile) renames(sources []*source.Source, each []*Profile, headers []string, place [][]int, opt Options) {
	for u, h := range headers {
		if _, settled := opt.Same[h]; settled || p.Across[u].In*2 > len(sources) {
			continue
		}
		for v, other := range headers {
			if u == v || p.Across[v].In <= p.Across[u].In || p.Across[v].In+p.Across[u].In > len(sources) {
				continue
			}
			var in []string
			fits := true
			for k := range sources {
				if place[k][u] < 0 {
					continue
				}
				in = append(in, short(sources[k]))
				if len(sources) > 2 && p.alone(place[k]) {
					fits = false // another table, and not one column by another name
				}
				// In the same place, and of the same kind as elsewhere?
				same := false
				for q := range sources {
					same = same || place[q][v] == place[k][u]
				}
				a, b := each[k].Columns[place[k][u]].Type, p.Columns[v].Type
				fits = fits && same && (a.IsNumber() && b.IsNumber() || a.IsText() && b.IsText() || a.Kind == b.Kind)
			}
			if !fits || len(in) == 0 {
				continue
			}
			p.find(Finding{Weight: Blocker, Code: CodeRenamed, Column: h, Count: int64(len(in)),
				Text: fmt.Sprintf("only in %s, which %s no %q, and in its place: is it the same column?", shortList(in),
					map[bool]string{true: "has", false: "have"}[len(in) == 1], other),
				Do: fmt.Sprintf("if so, say --same '%s=%s'; if it is another, --same '%s=%s'", h, other, h, h),
				Answers: []Answer{{fmt.Sprintf("it is the same as %q", other), "same", h + "=" + other},
					{"it is another", "same", h + "=" + h}}})
			break
		}
	}
}

// alone reports whether none of a source's columns is in another one. at is the place of
// each column of all in it.
func (p *Profile) alone(at []int) bool {
	for u, i := range at {
		if i >= 0 && p.Across[u].In > 1 {
			return false
		}
	}
	return true
}

// short is a source's name where only sources of one file are compared: its
// sheet.
func short(s *source.Source) string {
	if s.HasCells() {
		return s.Sheet
	}
	return s.Name
}
