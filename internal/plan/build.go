package plan

import (
	"cmp"
	"fmt"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"unicode"

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
	KeepNames     bool // headers become names as they are
	// Key has headers or names; nil: the one that the file offers. None alone is no key, unless a
	// column is called so.
	Key       []string
	RowNumber string
	Strict    bool
	// LeaveOut and Only choose columns: headers, names, or patterns of either; LeaveOut also
	// by what is in them, see OneValue and AllBlank.
	LeaveOut, Only []string
	KeepEmpty      string
	// Required are columns that must not be blank, or All; Nullable those that may be,
	// whatever the file has.
	Required, Nullable []string
	// Rename are names in the table, by header or by the name that a column would have.
	Rename   map[string]string
	Tolerate string
	// Same names headers that mean another.
	Same map[string]string
	// Zone is where times without a zone were; their columns get one.
	Zone string
	// Provenance adds columns that tell where a record came from.
	Provenance bool
	// Decided is what a person has said of columns, by their places in the profile.
	Decided map[int]Decided
}

// Decided is what a person has said of a column.
type Decided struct {
	// As is the column as it is then, or nil: as the evidence has it.
	As       *profile.Column
	Name     string // in the table; empty: as it is without
	LeaveOut bool
	Nulls    []string // words that mean null in it, beside those of the evidence
}

// What stands for several columns in an option.
const (
	All      = "all"
	None     = "none"
	OneValue = "one value throughout"
	AllBlank = "blank in every record"
)

// A builder makes a plan from a profile.
type builder struct {
	sources  []*source.Source
	prof     *profile.Profile
	wishes   Wishes
	plan     *Plan
	comments Comments
	headers  []string
	names    []string // in the table, by header
	leave    map[int]bool
	required map[int]bool
	nullable map[int]bool
}

// Build makes the plan that a profile suggests, and the evidence for it.
func Build(sources []*source.Source, prof *profile.Profile, w Wishes) (*Plan, Comments, error) {
	if len(w.Decided) > 0 {
		own := *prof
		own.Columns = slices.Clone(prof.Columns)
		prof = &own
	}
	b := &builder{sources: sources, prof: prof, wishes: w, plan: &Plan{Version: Version, Tolerate: w.Tolerate},
		comments: Comments{Beside: map[string]string{}, Above: map[string][]string{}}, leave: map[int]bool{},
		required: map[int]bool{}, nullable: map[int]bool{}}
	b.plan.Sources = asAsked(sources)
	for _, col := range prof.Columns {
		b.headers = append(b.headers, col.Header)
	}
	b.names = dialect.SafeNames(b.headers, w.KeepNames)
	if err := b.rename(); err != nil {
		return nil, b.comments, err
	}
	b.decide()
	b.table()
	if err := b.choose(); err != nil {
		return nil, b.comments, err
	}
	if err := b.key(); err != nil {
		return nil, b.comments, err
	}
	b.plan.Columns = make([]Column, 0, len(prof.Columns)-len(b.leave))
	for i, col := range prof.Columns {
		if !b.leave[i] {
			b.column(i, col)
		}
	}
	if w.Provenance {
		b.plan.Columns = append(b.plan.Columns, provenance(sources, b.names)...)
	}
	b.remarks()
	return b.plan, b.comments, b.plan.Check()
}

// table names the table: as wished, else by the file or the part of it.
func (b *builder) table() {
	t, src := &b.plan.Table, b.sources[0]
	t.Schema, t.Name, t.RowNumber = b.wishes.Schema, b.wishes.Table, b.wishes.RowNumber
	t.Strict = b.wishes.Strict
	switch {
	case t.Name != "":
	case len(b.sources) > 1 && src.HasCells():
		t.Name = dialect.TableName(cmp.Or(src.Base, src.Path))
	case src.LoneSheet:
		t.Name = dialect.TableName(cmp.Or(src.Member, src.Base, src.Path))
	default:
		t.Name = dialect.TableName(cmp.Or(src.Sheet, src.Member, src.Base, src.Path))
	}
}

// unseen reports whether a column is hidden in every sheet that has it, and what is hidden
// is to be left out.
func (b *builder) unseen(i int, header string) bool {
	some := false
	for _, s := range b.sources {
		at := i
		if len(b.sources) > 1 {
			at = slices.Index(s.Layout.Columns, header)
		}
		if at < 0 {
			continue
		}
		if !s.Visible() || s.Unseen[at] == nil {
			return false
		}
		some = true
	}
	return some
}

// find finds a column by its header or its name, for an option.
func (b *builder) find(option, s string) (int, error) {
	for i := range b.headers {
		if b.headers[i] == s || b.names[i] == s {
			return i, nil
		}
	}
	for i := range b.headers {
		if Forgive(b.headers[i]) == Forgive(s) {
			return i, nil
		}
	}
	hint := "its columns are " + strings.Join(short(b.headers, 12), ", ")
	if m := phrase.Meant(s, b.headers); m != "" {
		hint = m
	} else if m := phrase.Meant(s, b.names); m != "" {
		hint = m
	}
	return 0, fmt.Errorf("%s: the file has no column %q; %s", option, s, hint)
}

// each are the words of an option: one that is no column and has commas is several.
func (b *builder) each(words []string) (out []string) {
	for _, s := range words {
		if _, err := b.find("", s); err == nil || !strings.Contains(s, ",") {
			out = append(out, s)
			continue
		}
		for _, part := range strings.Split(s, ",") {
			out = append(out, strings.TrimSpace(part))
		}
	}
	return out
}

// matching finds the columns that a word of an option stands for: one, or those of a pattern.
func (b *builder) matching(option, s string) (out []int, err error) {
	if !strings.ContainsAny(s, "*?[") {
		i, err := b.find(option, s)
		return []int{i}, err
	}
	for i := range b.headers {
		for _, name := range []string{b.headers[i], b.names[i]} {
			is, err := path.Match(strings.ToLower(s), strings.ToLower(name))
			if err != nil {
				return nil, fmt.Errorf("%s: the pattern %q is written wrongly", option, s)
			}
			if is {
				out = append(out, i)
				break
			}
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("%s: no column is like %q; they are %s", option, s, strings.Join(short(b.headers, 12),
			", "))
	}
	return out, nil
}

// rename gives columns the names that are wished.
func (b *builder) rename() error {
	for from, to := range b.wishes.Rename {
		i, err := b.find("--rename", from)
		if err != nil {
			return err
		}
		for k, name := range b.names {
			if k != i && strings.EqualFold(name, to) && b.wishes.Rename[name] == "" &&
				b.wishes.Rename[b.headers[k]] == "" {
				return fmt.Errorf("--rename: the column %q is called %s already", b.headers[k], name)
			}
		}
		defer func() { b.names[i] = to }() // when all are found by the names that they had
	}
	return nil
}

// decide takes what a person has said of columns.
func (b *builder) decide() {
	for i, d := range b.wishes.Decided {
		if d.Name != "" {
			b.names[i] = d.Name
		}
		if d.As != nil {
			b.prof.Columns[i] = d.As
		}
		if len(d.Nulls) == 0 {
			continue
		}
		col := *b.prof.Columns[i]
		col.Required = false
		for _, w := range d.Nulls {
			if !slices.Contains(col.Nulls, w) {
				col.Nulls = append(slices.Clone(col.Nulls), w)
			}
		}
		b.prof.Columns[i] = &col
	}
}

// like finds the columns that LeaveOut names by what is in them.
func (b *builder) like(s string) (out []int, is bool) {
	for i, col := range b.prof.Columns {
		blank := col.Blanks + col.NullWord
		if s == AllBlank && blank == col.Fields || s == OneValue && blank == 0 && col.Distinct == 1 {
			out = append(out, i)
		}
	}
	return out, s == AllBlank || s == OneValue
}

// choose finds the columns that are left out, and those that must not be blank.
func (b *builder) choose() error {
	for i, h := range b.headers {
		if h != "" && b.unseen(i, h) {
			b.leave[i] = true
			b.plan.LeaveOut = append(b.plan.LeaveOut, h)
		}
	}
	out := func(i int) {
		if !b.leave[i] {
			b.leave[i] = true
			b.plan.LeaveOut = append(b.plan.LeaveOut, b.headers[i])
		}
	}
	for i := range b.headers {
		if b.wishes.Decided[i].LeaveOut {
			out(i)
		}
	}
	for _, s := range b.each(b.wishes.LeaveOut) {
		list, is := b.like(s)
		if !is {
			var err error
			if list, err = b.matching("--leave-out", s); err != nil {
				return err
			}
		}
		for _, i := range list {
			out(i)
		}
	}
	if err := b.only(out); err != nil {
		return err
	}
	if err := b.marked("--require", b.wishes.Required, b.required); err != nil {
		return err
	}
	if err := b.marked("--nullable", b.wishes.Nullable, b.nullable); err != nil {
		return err
	}
	if len(b.leave) == len(b.headers) {
		return fmt.Errorf("--leave-out: no column is left")
	}
	return nil
}

// only leaves out what is not named, if something is.
func (b *builder) only(out func(int)) error {
	keep := map[int]bool{}
	for _, s := range b.each(b.wishes.Only) {
		list, err := b.matching("--only", s)
		if err != nil {
			return err
		}
		for _, i := range list {
			keep[i] = true
		}
	}
	for i := range b.headers {
		if len(keep) > 0 && !keep[i] {
			out(i)
		}
	}
	return nil
}

// marked marks the columns that an option names.
func (b *builder) marked(option string, wished []string, mark map[int]bool) error {
	for _, s := range b.each(wished) {
		if s == All {
			for i := range b.headers {
				mark[i] = true
			}
			continue
		}
		list, err := b.matching(option, s)
		if err != nil {
			return err
		}
		for _, i := range list {
			mark[i] = true
		}
	}
	return nil
}

// key takes the key that was wished, or one that the file offers and that looks
// meant to be one.
func (b *builder) key() error {
	w, t := b.wishes, &b.plan.Table
	switch {
	case b.noKey():
	case len(w.Key) > 0:
		t.Key = slices.Clone(w.Key)
		for k, s := range w.Key {
			if s == w.RowNumber && s != "" {
				continue
			}
			i, err := b.find("--key", s)
			if err != nil {
				return err
			}
			t.Key[k] = b.names[i]
		}
		b.comments.Beside["$.table.key"] = "as given"
	case len(b.prof.Keys) > 0:
		first := b.prof.Keys[0]
		i := b.identifies(first[0])
		if len(first) == 1 && !b.leave[i] && b.prof.KeyLike(b.prof.Columns[i]) && b.stillKey(i) {
			t.Key = []string{b.names[i]}
			b.comments.Beside["$.table.key"] = "unique and never blank in " + phrase.Count(b.prof.Records, "record")
		}
	}
	return nil
}

// noKey reports whether the table is to have no key.
func (b *builder) noKey() bool {
	if !slices.Equal(b.wishes.Key, []string{None}) {
		return false
	}
	_, err := b.find("--key", None)
	return err != nil
}

// stillKey reports whether a column that the evidence offers as a key can be one as a person
// has decided it.
func (b *builder) stillKey(i int) bool {
	d := b.wishes.Decided[i]
	if d.As == nil {
		return len(d.Nulls) == 0
	}
	return len(d.Nulls) == 0 && d.As.MayBeKey()
}

// Named are the findings about names that the columns got, and that their headers
// do not show.
func (p *Plan) Named() (out []profile.Finding) {
	var by []string
	for _, c := range p.Columns {
		if c.Value != "" || c.Name == c.From {
			continue
		}
		foreign := strings.ContainsFunc(c.From, func(r rune) bool {
			return unicode.IsLetter(r) && !unicode.In(r, unicode.Latin)
		})
		switch {
		case c.From != "" && placed.MatchString(c.Name) && !placed.MatchString(c.From):
			out = append(out, profile.Finding{Weight: profile.Caution, Code: profile.CodeNamedByPlace, Column: c.From,
				Text: fmt.Sprintf("its header has no letter or digit that a name could have; it is called %s", c.Name),
				Do:   "give it a name in the plan, or keep the headers with --names keep"})
		case foreign:
			by = append(by, c.Name+" for "+c.From)
		}
	}
	if len(by) > 0 {
		out = append(out, profile.Finding{Weight: profile.Note, Code: profile.CodeTransliterated, Count: int64(len(by)),
			Text: "names are written in Latin letters: " + strings.Join(short(by, 6), ", "),
			Do:   "to keep the headers as they are, say --names keep"})
	}
	return out
}

var placed = regexp.MustCompile(`^column_\d+$`)

// identifies is the place of the column of a key: of those of one name, the one whose
// values are all different.
func (b *builder) identifies(header string) int {
	i := slices.IndexFunc(b.prof.Columns, func(c *profile.Column) bool { return c.Header == header && c.Unique })
	if i < 0 {
		i = slices.Index(b.headers, header)
	}
	return i
}

// column adds the i-th column of the profile.
func (b *builder) column(i int, col *profile.Column) {
	path := fmt.Sprintf("$.columns[%d]", len(b.plan.Columns))
	c := Column{Name: b.names[i], From: col.Header, Type: col.Type.String(), Required: (b.required[i] ||
		slices.Contains(b.plan.Table.Key, b.names[i])) && !b.nullable[i],
		Nulls: col.Nulls,
		Trim:  col.Trim, Unicode: col.Type.IsText() && !col.ASCII, Reading: ReadingOf(col)}
	if col.Type.IsText() {
		c.KeepEmpty = b.wishes.KeepEmpty
		if t := col.Type; c.KeepEmpty != "" && t.Length > 0 && col.Spaces > t.Length {
			c.Type = profile.TextFor(col.Spaces).String() // spaces that are kept, too
		}
	}
	if b.wishes.Zone != "" && col.Type.Kind == sqltype.Timestamp {
		c.Type = sqltype.Type{Kind: sqltype.TimestampTZ, Precision: col.Type.Precision}.String()
		if c.Reading == nil {
			c.Reading = &Reading{}
		}
		c.Reading.Zone = b.wishes.Zone
	}
	if b.prof.Across != nil {
		b.across(&c, b.prof.Across[i], path)
	}
	b.plan.Columns = append(b.plan.Columns, c)
	beside := b.comments.Beside
	beside[path+".type"] = typeWhy(col)
	if c.Reading != nil && col.Type.IsTemporal() {
		if why := strings.SplitN(col.Why, "; ", 2); len(why) == 2 {
			beside[path+".reading"] = why[1]
		}
	}
	if len(c.Nulls) > 0 && col.NullWord > 0 {
		beside[path+".null_words"] = phrase.Count(col.NullWord, "value")
	}
	for _, f := range b.prof.Findings {
		if f.Column == col.Header && f.Weight != profile.Note {
			b.comments.Above[path] = append(b.comments.Above[path], remark(f))
		}
	}
}

// remark is a finding on one line.
func remark(f profile.Finding) string {
	line := fmt.Sprintf("%s: %s", strings.ToUpper(string(f.Weight)), f.Text)
	for _, e := range f.Examples[:min(len(f.Examples), 3)] {
		line += fmt.Sprintf("; %s '%s'", e.Place(), reading.Shorten(e.Value, 30))
	}
	return line
}

// across says of a column in which of several sources it is, and under which names.
func (b *builder) across(c *Column, x profile.Presence, path string) {
	if c.Optional = len(x.Missing) > 0; c.Optional {
		b.comments.Beside[path+".from"] = fmt.Sprintf("in %d of %d sources", x.In, len(b.sources))
	}
	for from, to := range b.wishes.Same {
		if to == c.From && from != to {
			c.Also = append(c.Also, from)
		}
	}
	slices.Sort(c.Also)
}

// remarks says what the plan was written from, and on what evidence.
func (b *builder) remarks() {
	src := b.sources[0]
	from := filepath.Base(src.Path)
	if len(b.sources) > 1 {
		from = fmt.Sprintf("%d sources", len(b.sources))
	}
	b.comments.Head = fmt.Sprintf("Amber Tray plan, written from %s (%s, %s); its keys: ambertray schema plan", from,
		phrase.Count(b.prof.Records, "record"), phrase.Size(source.FileBytes(b.sources)))
	for _, k := range source.SkippedAlways {
		if n := b.prof.Skipped[k]; n > 0 {
			b.comments.Head += "\n" + k.Words(n) + " skipped"
		}
	}
	for _, f := range b.prof.Findings {
		if f.Column == "" && f.Weight != profile.Note {
			b.comments.Head += "\n" + remark(f)
		}
	}
	for _, e := range src.Evidence {
		// What chose a part of the file says so by its name.
		set := source.SettingOf(e.What)
		if set == nil || set.Chooses() {
			continue
		}
		if v, is := set.Of(src); is && b.plan.Sources[0].Settings[set.Key] == v {
			b.comments.Beside["$.sources[0]."+set.Key] = e.Why
		}
	}
	if len(b.plan.Table.Key) > 0 || len(b.prof.Keys) == 0 {
		return
	}
	var offers []string
	for _, k := range b.prof.Keys {
		var names []string
		if slices.ContainsFunc(k, func(h string) bool { return b.leave[b.identifies(h)] }) || len(offers) == 3 {
			continue
		}
		for _, h := range k {
			names = append(names, b.names[b.identifies(h)])
		}
		offers = append(offers, "["+strings.Join(names, ", ")+"]")
	}
	if len(offers) == 0 {
		return
	}
	b.comments.Above["$.table.name"] = []string{"key: " + strings.Join(offers, " or ") + " would identify a record"}
}

// provenance are the columns that tell where a record came from.
func provenance(sources []*source.Source, taken []string) (out []Column) {
	add := func(name, typ, value string) {
		for slices.Contains(taken, name) {
			name += "_"
		}
		out = append(out, Column{Name: name, Type: typ, Value: value, Required: true,
			Unicode: strings.HasPrefix(typ, "varchar")})
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
	if c.Required && !c.Unique {
		why += "; never blank" // --require makes it NOT NULL
	}
	return strings.TrimPrefix(why, "; ")
}
