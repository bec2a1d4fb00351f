package plan

import (
	"cmp"
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"ambertray/internal/db/dialect"
	"ambertray/internal/phrase"
	"ambertray/internal/profile"
	"ambertray/internal/reading"
	"ambertray/internal/source"
	"ambertray/internal/sqltype"
)

// Wishes are what the person wants of a plan beyond what the file says.
type Wishes struct {
	Schema, Table string
	KeepNames     bool     // headers become names as they are
	Key           []string // headers or names; nil: the one that the file offers
	NoKey         bool
	RowNumber     string
	LeaveOut      []string // headers or names
	KeepEmpty     string
	Required      []string
	Tolerate      string
	// Same names headers that mean another.
	Same map[string]string
	// Provenance adds columns that tell where a record came from.
	Provenance bool
}

// Build makes the plan that a profile suggests, and the evidence for it.
func Build(sources []*source.Source, prof *profile.Profile, w Wishes) (*Plan, Comments, error) {
	src := sources[0]
	p := &Plan{Version: Version, Tolerate: w.Tolerate}
	for _, s := range sources {
		p.Sources = append(p.Sources, FromLayout(s))
	}
	c := Comments{Beside: map[string]string{}, Above: map[string][]string{}}
	p.Table.Schema, p.Table.Name = w.Schema, w.Table
	if p.Table.Name == "" {
		p.Table.Name = dialect.TableName(cmp.Or(src.Sheet, src.Member, src.Base, src.Path))
		if len(sources) > 1 && src.HasCells() {
			p.Table.Name = dialect.TableName(cmp.Or(src.Base, src.Path))
		}
	}
	headers := make([]string, len(prof.Columns))
	for i, col := range prof.Columns {
		headers[i] = col.Header
	}
	names := dialect.SafeNames(headers, w.KeepNames)
	find := func(what, s string) (int, error) {
		for i := range headers {
			if headers[i] == s || names[i] == s {
				return i, nil
			}
		}
		for i := range headers {
			if Forgive(headers[i]) == Forgive(s) {
				return i, nil
			}
		}
		return 0, fmt.Errorf("%s: the file has no column %q; its columns are %s", what, s, strings.Join(short(headers, 12), ", "))
	}
	leave := map[int]bool{}
	for _, s := range w.LeaveOut {
		i, err := find("--leave-out", s)
		if err != nil {
			return nil, c, err
		}
		leave[i] = true
		p.LeaveOut = append(p.LeaveOut, headers[i])
	}
	required := map[int]bool{}
	for _, s := range w.Required {
		i, err := find("--require", s)
		if err != nil {
			return nil, c, err
		}
		required[i] = true
	}
	if len(leave) == len(headers) {
		return nil, c, fmt.Errorf("--leave-out: no column is left")
	}
	p.Table.RowNumber = w.RowNumber
	var key []int
	switch {
	case w.NoKey:
	case len(w.Key) > 0:
		for _, s := range w.Key {
			if s == w.RowNumber && s != "" {
				continue
			}
			i, err := find("--key", s)
			if err != nil {
				return nil, c, err
			}
			key = append(key, i)
		}
		p.Table.Key = append(p.Table.Key, w.Key...)
		for k, i := range key {
			p.Table.Key[k] = names[i]
		}
		c.Beside["$.table.key"] = "as given"
	case len(prof.Keys) > 0:
		first := prof.Keys[0]
		i := slices.Index(headers, first[0])
		if len(first) == 1 && !leave[i] && keyLike(headers[i], i) {
			p.Table.Key = []string{names[i]}
			c.Beside["$.table.key"] = fmt.Sprintf("unique and never blank in %s", phrase.Count(prof.Records, "record"))
		}
	}
	for i, col := range prof.Columns {
		if leave[i] {
			continue
		}
		n := len(p.Columns)
		pc := Column{Name: names[i], From: col.Header, Type: col.Type.String(), Required: col.Required || required[i], Nulls: col.Nulls,
			Trim: col.Trim, Unicode: col.Type.IsText() && !col.ASCII}
		if w.KeepEmpty != "" && col.Type.IsText() {
			pc.KeepEmpty = w.KeepEmpty
		}
		pc.Reading = ReadingOf(col)
		if prof.Across != nil {
			x := prof.Across[i]
			pc.Optional = len(x.Missing) > 0
			if pc.Optional {
				c.Beside[fmt.Sprintf("$.columns[%d].from", n)] = fmt.Sprintf("in %d of %d sources", x.In, len(sources))
			}
			for from, to := range w.Same {
				if to == col.Header && from != to {
					pc.Also = append(pc.Also, from)
				}
			}
			slices.Sort(pc.Also)
		}
		p.Columns = append(p.Columns, pc)
		path := fmt.Sprintf("$.columns[%d]", n)
		c.Beside[path+".type"] = typeWhy(col)
		if pc.Reading != nil && col.Type.IsTemporal() {
			if why := strings.SplitN(col.Why, "; ", 2); len(why) == 2 {
				c.Beside[path+".reading"] = why[1]
			}
		}
		if len(pc.Nulls) > 0 {
			c.Beside[path+".null_words"] = phrase.Count(col.NullWord, "value")
		}
		for _, f := range prof.Findings {
			if f.Column == col.Header && f.Weight != profile.Note {
				line := fmt.Sprintf("%s: %s", strings.ToUpper(string(f.Weight)), f.Text)
				for i, e := range f.Examples {
					if i == 3 {
						break
					}
					line += fmt.Sprintf("; %s '%s'", e.Place(), reading.Shorten(e.Value, 30))
				}
				c.Above[path] = append(c.Above[path], line)
			}
		}
	}
	if w.Provenance {
		p.Columns = append(p.Columns, provenance(sources, names)...)
	}
	from := filepath.Base(src.Path)
	if len(sources) > 1 {
		from = fmt.Sprintf("%d sources", len(sources))
	}
	c.Head = fmt.Sprintf("Amber Tray plan, written from %s (%s, %s)", from, phrase.Count(prof.Records, "record"), phrase.Size(src.FileSize))
	for _, e := range src.Evidence {
		if path := map[string]string{"encoding": "encoding", "delimiter": "delimiter", "quote": "quote", "escape": "escape", "header": "header", "footer": "footer"}[e.What]; path != "" {
			c.Beside["$.sources[0]."+path] = e.Why
		}
	}
	if len(p.Table.Key) == 0 && len(prof.Keys) > 0 {
		var offers []string
		for _, k := range prof.Keys[:min(3, len(prof.Keys))] {
			var ns []string
			for _, h := range k {
				ns = append(ns, names[slices.Index(headers, h)])
			}
			offers = append(offers, "["+strings.Join(ns, ", ")+"]")
		}
		c.Above["$.table.name"] = []string{"key: " + strings.Join(offers, " or ") + " would identify a record"}
	}
	return p, c, p.Check()
}

// provenance are the columns that tell where a record came from.
func provenance(sources []*source.Source, taken []string) (out []Column) {
	add := func(name, typ, value string) {
		for slices.Contains(taken, name) {
			name += "_"
		}
		out = append(out, Column{Name: name, Type: typ, Value: value, Required: true, Unicode: strings.HasPrefix(typ, "varchar")})
	}
	add("source_file", "varchar(255)", "source.file")
	if slices.ContainsFunc(sources, (*source.Source).HasCells) {
		add("source_sheet", "varchar(100)", "source.sheet")
	}
	add("source_line", "bigint", "record.line")
	add("loaded_at", "timestamp(3)", "load.time")
	add("load_entry", "varchar(120)", "load.entry")
	return out
}

var keyWord = regexp.MustCompile(`(?i)(^|[ _-])(id|no|nr|num|number|code|key|ref|reference|uuid|guid|sku)$|id$`)

// keyLike reports whether a column that could be the key looks meant to be.
func keyLike(header string, place int) bool { return place == 0 || keyWord.MatchString(header) }

func short(s []string, n int) []string {
	if len(s) > n {
		return append(slices.Clone(s[:n]), "…")
	}
	return s
}

// ReadingOf is the part of a column's decisions that says how it is written.
func ReadingOf(c *profile.Column) *Reading {
	var r Reading
	switch {
	case c.Type.IsTemporal():
		for _, p := range c.Dates {
			r.Dates = append(r.Dates, p.String())
		}
	case c.Type.IsNumber():
		n := c.Number
		if n.Thousands != reading.NoMark || n.Decimal == reading.Comma {
			r.Thousands, r.Decimal = n.Thousands.String(), n.Decimal.String()
		}
		r.Currency, r.Percent = n.Currency, n.Percent
		switch n.Negative {
		case reading.Brackets:
			r.Negative = "brackets"
		case reading.Trailing:
			r.Negative = "trailing"
		case reading.Leading:
		}
	case c.Type.Kind == sqltype.Boolean && c.True != "":
		r.True, r.False = []string{c.True}, []string{c.False}
	}
	if len(r.Dates)+len(r.True) == 0 && r.Thousands+r.Decimal+r.Currency+r.Negative == "" && !r.Percent {
		return nil
	}
	return &r
}

func typeWhy(c *profile.Column) string {
	why := c.Why
	if c.Type.IsTemporal() {
		why = c.Range()
	} else if c.Type.IsNumber() {
		why = strings.Trim(c.Range()+"; "+why, "; ")
	}
	if c.Unique && c.Type.Kind != sqltype.Boolean {
		why += "; all different"
	}
	if c.Blanks > 0 && c.Blanks < c.Fields {
		why += "; " + phrase.Count(c.Blanks, "blank")
	}
	return why
}
