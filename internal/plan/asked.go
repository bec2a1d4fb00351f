package plan

import (
	"maps"
	"slices"

	"ambertray/internal/source"
)

// asAsked describes sources as they were asked for: those that one pattern stood
// for are one source of the plan, so that the next month's files and the next
// year's sheets are, too. Those of them that are written otherwise than most
// stand behind it by themselves.
func asAsked(sources []*source.Source) []Source {
	var out []Source
	for i := 0; i < len(sources); {
		end := i + 1
		for end < len(sources) && together(sources[i], sources[end]) {
			end++
		}
		out = append(out, asOne(sources[i:end])...)
		i = end
	}
	return out
}

// together reports whether one pattern stood for both.
func together(a, b *source.Source) bool {
	return a.Asked == b.Asked && (a.Asked.File != "" || a.Asked.Sheet != "" && a.Path == b.Path)
}

// asOne describes sources that one pattern stood for.
func asOne(sources []*source.Source) []Source {
	asked := sources[0].Asked
	var forms []Source
	for _, s := range sources {
		f := FromLayout(s)
		if s.Asked.Member != "" {
			f.Settings["member"] = s.Asked.Member
		}
		forms = append(forms, f)
	}
	if len(sources) == 1 && asked == (source.Asked{Member: asked.Member}) {
		return forms
	}
	// How most are written: the settings, but for which part it is.
	common := func(f Source) map[string]string {
		m := maps.Clone(f.Settings)
		if asked.Sheet != "" {
			m["sheet"] = asked.Sheet
		}
		return m
	}
	best, most := 0, 0
	for i := range forms {
		n := 0
		for k := range forms {
			if maps.Equal(common(forms[i]), common(forms[k])) {
				n++
			}
		}
		if n > most {
			best, most = i, n
		}
	}
	all := Source{File: forms[0].File, Settings: common(forms[best])}
	if asked.File != "" {
		all.File = asked.File
	}
	out := []Source{all}
	for _, f := range forms {
		if !slices.ContainsFunc(out[0].Seen, f.Seen[0].Is) {
			out[0].Seen = append(out[0].Seen, f.Seen[0])
		}
		if !maps.Equal(common(f), all.Settings) {
			out = append(out, f)
		}
	}
	return out
}
