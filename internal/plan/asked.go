package plan

import (
	"maps"
	"path/filepath"
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
	var ways []map[string]string
	var many []int                // forms of each way
	of := make([]int, len(forms)) // the way of each
	for i, f := range forms {
		way := maps.Clone(f.Settings)
		if asked.Sheet != "" {
			way["sheet"] = asked.Sheet
		}
		k := slices.IndexFunc(ways, func(w map[string]string) bool { return maps.Equal(w, way) })
		if k < 0 {
			k = len(ways)
			ways, many = append(ways, way), append(many, 0)
		}
		many[k]++
		of[i] = k
	}
	most := slices.Index(many, slices.Max(many))
	all := Source{File: forms[0].File, Settings: ways[most]}
	if asked.File != "" {
		all.File = asked.File
	}
	out := []Source{all}
	for i, f := range forms {
		if asked.File != "" {
			f.Seen[0].Name = filepath.Base(f.File)
		}
		k := slices.IndexFunc(out[0].Seen, func(s Seen) bool { return s.Is(f.Seen[0]) && s.Name == f.Seen[0].Name })
		if k < 0 {
			k = len(out[0].Seen)
			out[0].Seen = append(out[0].Seen, f.Seen[0])
		}
		if sheet := f.Settings["sheet"]; asked.Sheet != "" && of[i] == most {
			out[0].Seen[k].Sheets = append(out[0].Seen[k].Sheets, sheet)
		}
		if of[i] != most {
			out = append(out, f)
		}
	}
	return out
}
