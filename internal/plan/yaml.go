package plan

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"os"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v4"

	"ambertray/internal/phrase"
	"ambertray/internal/reading"
)

// A Reading says how a column's values are written. In a plan it is a date
// pattern, a list of patterns, or a mapping of the parts that apply.
type Reading struct {
	Dates     []string `yaml:"dates,flow,omitempty"`
	Pivot     int      `yaml:"pivot,omitempty"`
	Thousands string   `yaml:"thousands,omitempty"`
	Decimal   string   `yaml:"decimal,omitempty"`
	Currency  string   `yaml:"currency,omitempty"`
	Negative  string   `yaml:"negative,omitempty"` // brackets or trailing
	Percent   bool     `yaml:"percent,omitempty"`
	True      []string `yaml:"true,flow,omitempty"`
	False     []string `yaml:"false,flow,omitempty"`
	// Zone is where times without a zone were (IANA).
	Zone string `yaml:"zone,omitempty"`

	// wrong is a mistake inside, kept for Check, which knows the line.
	wrong string
}

// MarshalYAML writes the shortest form.
func (r Reading) MarshalYAML() (any, error) {
	rest := r
	rest.Dates = nil
	if len(r.Dates) > 0 && reflect.DeepEqual(rest, Reading{}) {
		if len(r.Dates) == 1 {
			return r.Dates[0], nil
		}
		n := &yaml.Node{}
		if err := n.Encode(r.Dates); err != nil {
			return nil, err
		}
		n.Style = yaml.FlowStyle
		return n, nil
	}
	type plain Reading
	return plain(r), nil
}

// UnmarshalYAML reads any of the forms. A mistake is kept for Check.
func (r *Reading) UnmarshalYAML(n *yaml.Node) error {
	type plain Reading
	var err error
	switch n.Kind {
	case yaml.ScalarNode:
		r.Dates = []string{n.Value}
	case yaml.SequenceNode:
		err = n.Decode(&r.Dates)
	default:
		known := map[string]bool{}
		for i := range reflect.TypeFor[Reading]().NumField() {
			name, _, _ := strings.Cut(reflect.TypeFor[Reading]().Field(i).Tag.Get("yaml"), ",")
			known[name] = name != ""
		}
		for i := 0; i+1 < len(n.Content); i += 2 {
			if k := n.Content[i].Value; !known[k] && r.wrong == "" {
				r.wrong = noKey(k, slices.Sorted(maps.Keys(known)))
			}
		}
		err = n.Decode((*plain)(r))
	}
	if err != nil && r.wrong == "" {
		r.wrong = "not a reading: " + mistake(err).What
	}
	return nil
}

func (g *Reading) apply(r *reading.Reader) (err error) {
	for _, s := range g.Dates {
		p, err := reading.ParsePattern(s)
		if err != nil {
			return err
		}
		r.Dates = append(r.Dates, p)
	}
	r.Pivot = g.Pivot
	if r.Number.Thousands, err = reading.ParseMark(g.Thousands); err != nil {
		return fmt.Errorf("thousands: %w", err)
	}
	if r.Number.Decimal, err = reading.ParseMark(g.Decimal); err != nil {
		return fmt.Errorf("decimal: %w", err)
	}
	if m := r.Number.Decimal; m != reading.NoMark && m != reading.Comma && m != reading.Point {
		return fmt.Errorf("decimal: use a point or a comma")
	}
	r.Number.Currency, r.Number.Percent = g.Currency, g.Percent
	switch g.Negative {
	case "", "leading":
	case "brackets":
		r.Number.Negative = reading.Brackets
	case "trailing":
		r.Number.Negative = reading.Trailing
	default:
		return fmt.Errorf("negative is %q; it can be leading, brackets or trailing", g.Negative)
	}
	r.True, r.False = g.True, g.False
	if g.Zone != "" {
		if r.Zone, err = time.LoadLocation(g.Zone); err != nil || g.Zone == "Local" {
			return fmt.Errorf("zone: %q is not known; use a name of the IANA database, like Europe/London, or UTC",
				g.Zone)
		}
	}
	return nil
}

// Words says the reading in a few words.
func (r *Reading) Words() string {
	var w []string
	add := func(is bool, text string) {
		if is {
			w = append(w, text)
		}
	}
	add(len(r.Dates) > 0, strings.Join(r.Dates, " or "))
	add(r.Pivot != 0, fmt.Sprintf("years of two digits from %d on in 19..", r.Pivot))
	add(r.Decimal == ",", "decimal comma")
	add(r.Thousands != "", fmt.Sprintf("%q between thousands", r.Thousands))
	add(r.Currency != "", "with "+r.Currency)
	add(r.Negative == "brackets", "negatives in brackets")
	add(r.Negative == "trailing", "the minus behind")
	add(r.Zone != "", "times without a zone are those of "+r.Zone)
	add(r.Percent, "a percent sign behind")
	add(len(r.True)+len(r.False) > 0, strings.Join(r.True, ", ")+" for true, "+strings.Join(r.False, ", ")+" for false")
	return strings.Join(w, ", ")
}

// ReadFile reads a plan from a file.
func ReadFile(name string) (*Plan, error) {
	b, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	p, err := Parse(b)
	var e *Error
	if errors.As(err, &e) {
		e.File = name
	}
	return p, err
}

// IsPlan reports whether a file's first bytes are those of a plan.
func IsPlan(head []byte) bool {
	for _, line := range bytes.Split(head, []byte("\n")) {
		line = bytes.TrimSpace(line)
		if len(line) == 0 || line[0] == '#' || string(line) == "---" {
			continue
		}
		return bytes.HasPrefix(line, []byte("ambertray:"))
	}
	return false
}

var unknownKey = regexp.MustCompile(`field (\S+) not found in type`)

// mistake finds line and message in an error of the YAML package.
func mistake(err error) *Error {
	e := &Error{What: err.Error()}
	var many *yaml.LoadErrors
	var one *yaml.LoadError
	if errors.As(err, &many) && len(many.Errors) > 0 {
		one = many.Errors[0]
	} else {
		errors.As(err, &one)
	}
	if one != nil {
		e.Line, e.What = one.Mark.Line, one.Message
	}
	if m := unknownKey.FindStringSubmatch(e.What); m != nil {
		e.What = noKey(m[1], allKeys)
	}
	return e
}

// allKeys are those of all parts of a plan, and what others call them.
var allKeys = func() (out []string) {
	for _, t := range []reflect.Type{reflect.TypeFor[Plan](), reflect.TypeFor[Table](), reflect.TypeFor[Column](),
		reflect.TypeFor[Rule](), reflect.TypeFor[Reference](), reflect.TypeFor[Expect](), reflect.TypeFor[Seen](),
		reflect.TypeFor[SheetRules]()} {
		for i := range t.NumField() {
			if name, _, _ := strings.Cut(t.Field(i).Tag.Get("yaml"), ","); name != "" && name != "-" &&
				!slices.Contains(out, name) {
				out = append(out, name)
			}
		}
	}
	return out
}()

// otherWords are keys that people write for what a plan calls otherwise.
var otherWords = map[string]string{"comment": "description", "comments": "description", "not_null": "required",
	"nullable": "required: false", "primary_key": "key", "nulls": "null_words", "format": "reading", "column": "name",
	"header_row": "header", "skip_columns": "leave_out", "rules": "check", "foreign_keys": "references",
	"indexes": "index"}

// noKey says that a key is none, and which may have been meant.
func noKey(key string, known []string) string {
	s := fmt.Sprintf("unknown key %q", key)
	if word := otherWords[strings.ToLower(key)]; word != "" {
		return s + "; did you mean " + word + "?"
	}
	if m := phrase.Meant(key, known); m != "" {
		return s + "; " + m
	}
	return s
}

// mostBytes is how large a plan may be: one of 100,000 columns takes half of it.
const mostBytes = 32 << 20

// another matches what may be an anchor or an alias of YAML.
var another = regexp.MustCompile(`(?m)(^|[\s,\[{:-])[&*][^\s,\]}]`)

// plain refuses plans that a program rather than a person has made large: by their
// bytes, or by aliases, which stand for parts of them again and again.
func plain(b []byte) error {
	if len(b) > mostBytes {
		return &Error{What: fmt.Sprintf("the plan takes more than %s", phrase.Size(mostBytes))}
	}
	if !another.Match(b) {
		return nil
	}
	var doc yaml.Node
	if err := yaml.Load(b, &doc); err != nil {
		return mistake(err)
	}
	var alias func(n *yaml.Node) *yaml.Node
	alias = func(n *yaml.Node) *yaml.Node {
		if n.Kind == yaml.AliasNode || n.Anchor != "" {
			return n
		}
		for _, c := range n.Content {
			if found := alias(c); found != nil {
				return found
			}
		}
		return nil
	}
	if n := alias(&doc); n != nil {
		return &Error{Line: n.Line, What: "a plan has no anchors and aliases (& and *): write it out"}
	}
	return nil
}

// Parse reads a plan strictly: unknown keys, wrong types and contradictions
// are errors with their line.
func Parse(b []byte) (*Plan, error) {
	if err := plain(b); err != nil {
		return nil, err
	}
	p := &Plan{}
	if err := yaml.Load(b, p, yaml.WithKnownFields()); err != nil {
		return nil, mistake(err)
	}
	if err := p.Check(); err != nil {
		var e *Error
		if errors.As(err, &e) {
			var doc yaml.Node
			if yaml.Load(b, &doc) == nil {
				e.Line = lineOf(&doc, e.Path)
			}
		}
		return nil, err
	}
	return p, nil
}

// find follows a path like $.columns[2].type. key is the node before a value
// in a mapping; of an element of a list it is the element.
func find(doc *yaml.Node, path string) (key, value *yaml.Node) {
	n := doc
	if n.Kind == yaml.DocumentNode && len(n.Content) > 0 {
		n = n.Content[0]
	}
	key = n
steps:
	for _, step := range strings.FieldsFunc(strings.TrimPrefix(path, "$"),
		func(r rune) bool { return r == '.' || r == '[' || r == ']' }) {
		if i, err := strconv.Atoi(step); err == nil && n.Kind == yaml.SequenceNode {
			if i >= len(n.Content) {
				return nil, nil
			}
			n = n.Content[i]
			key = n
			continue
		}
		if n.Kind == yaml.MappingNode {
			for i := 0; i+1 < len(n.Content); i += 2 {
				if n.Content[i].Value == step {
					key, n = n.Content[i], n.Content[i+1]
					continue steps
				}
			}
		}
		return nil, nil
	}
	return key, n
}

// lineOf is the line of a path, or of the nearest one above it.
func lineOf(doc *yaml.Node, path string) int {
	for path != "" {
		if key, _ := find(doc, path); key != nil {
			return max(key.Line, 1)
		}
		path = path[:max(strings.LastIndexAny(path, ".["), 0)]
	}
	return 1
}

// Comments are remarks beside the parts of a plan, by path. Above stand on
// lines of their own.
type Comments struct {
	Head   string            // at the top of the file
	Beside map[string]string // behind the value
	Above  map[string][]string
}

// Moved are the comments of one plan for another one of the same sources, which
// has columns of the same headers in other places.
func (c Comments) Moved(from, to *Plan) Comments {
	out := Comments{Beside: map[string]string{}, Above: map[string][]string{}}
	for path, text := range c.Beside {
		if strings.HasPrefix(path, "$.sources") {
			out.Beside[path] = text
		}
	}
	type origin struct{ from, value string }
	places := map[origin][]int{} // of columns in to
	for k, col := range to.Columns {
		places[origin{col.From, col.Value}] = append(places[origin{col.From, col.Value}], k)
	}
	moved := map[string][]string{} // from the path of a column
	for i, col := range from.Columns {
		as := origin{col.From, col.Value}
		for _, k := range places[as] {
			moved[columnPath(i)] = append(moved[columnPath(i)], columnPath(k))
		}
		delete(places, as) // the first of several alike counts
	}
	for path, text := range c.Beside {
		column, part, _ := strings.Cut(path, "].")
		for _, to := range moved[column+"]"] {
			out.Beside[to+"."+part] = text
		}
	}
	for path, lines := range c.Above {
		for _, to := range moved[path] {
			out.Above[to] = lines
		}
	}
	return out
}

// columnPath is the path of a plan's column, as YAML paths are written here.
func columnPath(i int) string { return fmt.Sprintf("$.columns[%d]", i) }

// RemarksIn reads the comments of a plan's file.
func RemarksIn(name string) (Comments, error) {
	b, err := os.ReadFile(name)
	if err != nil {
		return Comments{}, err
	}
	return Remarks(b)
}

// Remarks reads the comments of a plan.
func Remarks(b []byte) (Comments, error) {
	c := Comments{Beside: map[string]string{}, Above: map[string][]string{}}
	var doc yaml.Node
	if err := yaml.Load(b, &doc); err != nil {
		return c, err
	}
	text := func(comment string) (lines []string) {
		for l := range strings.Lines(comment) {
			if l = strings.TrimSpace(strings.TrimPrefix(strings.TrimSpace(l), "#")); l != "" {
				lines = append(lines, l)
			}
		}
		return
	}
	note := func(path string, key, value *yaml.Node) {
		if beside := text(value.LineComment); len(beside) > 0 {
			c.Beside[path] = strings.Join(beside, " ")
		}
		if above := text(key.HeadComment); len(above) > 0 {
			c.Above[path] = append(c.Above[path], above...)
		}
	}
	var walk func(path string, n *yaml.Node)
	walk = func(path string, n *yaml.Node) {
		switch n.Kind {
		case yaml.DocumentNode:
			for _, x := range n.Content {
				walk(path, x)
			}
		case yaml.SequenceNode:
			for i, x := range n.Content {
				item := fmt.Sprintf("%s[%d]", path, i)
				note(item, x, x)
				walk(item, x)
			}
		case yaml.MappingNode:
			for i := 0; i+1 < len(n.Content); i += 2 {
				part := path + "." + n.Content[i].Value
				note(part, n.Content[i], n.Content[i+1])
				walk(part, n.Content[i+1])
			}
		}
	}
	walk("$", &doc)
	return c, nil
}

// Encode writes the plan as YAML.
func (p *Plan) Encode(c Comments) ([]byte, error) {
	b, err := p.encode(c, encodedAtOnce)
	if err != nil {
		return nil, err
	}
	head := ""
	for _, l := range strings.Split(strings.TrimRight(c.Head, "\n"), "\n") {
		if l != "" {
			head += "# " + oneLine(l) + "\n"
		}
	}
	return append([]byte(head), b...), nil
}

// encodedAtOnce is how many columns are written at once: the package keeps some kilobytes for
// each until it is done.
const encodedAtOnce = 1000

// rest is what stands behind the columns of a plan.
type rest struct {
	Keep     string   `yaml:"keep,omitempty"`
	LeaveOut []string `yaml:"leave_out,omitempty"`
	Rules    []Rule   `yaml:"check,omitempty"`
	Missing  *Missing `yaml:"missing,omitempty"`
	Expect   *Expect  `yaml:"expect,omitempty"`
	Tolerate string   `yaml:"tolerate,omitempty"`
}

// encode writes a plan some columns at a time.
func (p *Plan) encode(c Comments, most int) ([]byte, error) {
	if len(p.Columns) <= most {
		return encodePart(p, c)
	}
	parts := c.parts(most)
	first := Plan{Version: p.Version, Sources: p.Sources, Table: p.Table, Columns: p.Columns[:most]}
	out, err := encodePart(&first, parts[0])
	for k := 1; k*most < len(p.Columns) && err == nil; k++ {
		var b []byte
		list := p.Columns[k*most : min(len(p.Columns), (k+1)*most)]
		b, err = encodePart(&struct {
			Columns []Column `yaml:"columns"`
		}{list}, parts[k])
		_, b, _ = bytes.Cut(b, []byte("columns:\n"))
		out = append(out, b...)
	}
	behind := rest{p.Keep, p.LeaveOut, p.Rules, p.Missing, p.Expect, p.Tolerate}
	if err == nil && !reflect.DeepEqual(behind, rest{}) {
		var b []byte
		b, err = encodePart(&behind, parts[0])
		out = append(out, b...)
	}
	return out, err
}

// ofColumn is where a comment stands that is about a column.
var ofColumn = regexp.MustCompile(`^\$\.columns\[(\d+)\](.*)$`)

// parts are the comments of so many columns each, with the numbers that these have among them;
// those about other things are among the first.
func (c *Comments) parts(most int) map[int]Comments {
	out := map[int]Comments{0: {Beside: map[string]string{}, Above: map[string][]string{}}}
	at := func(path string) (Comments, string) {
		m := ofColumn.FindStringSubmatch(path)
		if m == nil {
			return out[0], path
		}
		n, err := strconv.Atoi(m[1])
		if err != nil {
			return out[0], path
		}
		if _, is := out[n/most]; !is {
			out[n/most] = Comments{Beside: map[string]string{}, Above: map[string][]string{}}
		}
		return out[n/most], fmt.Sprintf("$.columns[%d]%s", n%most, m[2])
	}
	for path, text := range c.Beside {
		part, path := at(path)
		part.Beside[path] = text
	}
	for path, lines := range c.Above {
		part, path := at(path)
		part.Above[path] = lines
	}
	return out
}

// encodePart writes a part of a plan with its comments.
func encodePart(part any, c Comments) ([]byte, error) {
	var doc yaml.Node
	if err := doc.Encode(part); err != nil {
		return nil, err
	}
	for path, text := range c.Beside {
		if _, value := find(&doc, path); value != nil && text != "" {
			value.LineComment = "# " + oneLine(text)
		}
	}
	for path, lines := range c.Above {
		key, _ := find(&doc, path)
		if key == nil {
			continue
		}
		for i, l := range lines {
			if i > 0 {
				key.HeadComment += "\n"
			}
			key.HeadComment += "# " + oneLine(l)
		}
	}
	return yaml.Dump(&doc, yaml.WithLineWidth(-1), yaml.WithIndent(2), yaml.WithCompactSeqIndent(false),
		yaml.WithQuotePreference(yaml.QuoteDouble))
}

// oneLine keeps a comment a comment.
func oneLine(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f || r >= 0x80 && r < 0xa0 || r == '\u2028' || r == '\u2029' || r == '\ufeff' {
			return ' '
		}
		return r
	}, s)
}
