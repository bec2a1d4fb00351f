package plan

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"reflect"
	"regexp"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/parser"

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
		return r.Dates, nil
	}
	type plain Reading
	return plain(r), nil
}

// UnmarshalYAML reads any of the forms, strictly.
func (r *Reading) UnmarshalYAML(b []byte) error {
	var one string
	if yaml.Unmarshal(b, &one) == nil && !bytes.HasPrefix(bytes.TrimSpace(b), []byte("{")) {
		r.Dates = []string{one}
		return nil
	}
	var many []string
	if yaml.Unmarshal(b, &many) == nil {
		r.Dates = many
		return nil
	}
	type plain Reading
	if err := yaml.UnmarshalWithOptions(b, (*plain)(r), yaml.Strict()); err != nil {
		r.wrong = err.Error()
		if m := position.FindStringSubmatch(r.wrong); m != nil {
			r.wrong = m[2]
		}
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
	return nil
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

var position = regexp.MustCompile(`^\[(\d+):\d+\] ([^\n]*)`)

// Parse reads a plan strictly: unknown keys, wrong types and contradictions
// are errors with their line.
func Parse(b []byte) (*Plan, error) {
	p := &Plan{}
	if err := yaml.UnmarshalWithOptions(b, p, yaml.Strict()); err != nil {
		e := &Error{What: err.Error()}
		if m := position.FindStringSubmatch(err.Error()); m != nil {
			e.Line, _ = strconv.Atoi(m[1])
			e.What = m[2]
		}
		return nil, e
	}
	if err := p.Check(); err != nil {
		var e *Error
		if errors.As(err, &e) {
			e.Line = lineOf(b, e.Path)
		}
		return nil, err
	}
	return p, nil
}

// lineOf finds the line of a path, or of the nearest one above it.
func lineOf(b []byte, path string) int {
	file, err := parser.ParseBytes(b, 0)
	if err != nil {
		return 0
	}
	for path != "" && path != "$" {
		if pp, err := yaml.PathString(path); err == nil {
			if n, err := pp.FilterFile(file); err == nil && n != nil && n.GetToken() != nil {
				return n.GetToken().Position.Line
			}
		}
		path = path[:max(strings.LastIndexAny(path, ".["), 0)]
	}
	return 0
}

// Comments are remarks beside the parts of a plan, by path. Above stand on a
// line of their own.
type Comments struct {
	Head   string            // at the top of the file
	Beside map[string]string // behind the value
	Above  map[string][]string
}

// Encode writes the plan as YAML.
func (p *Plan) Encode(c Comments) ([]byte, error) {
	m := yaml.CommentMap{}
	for path, text := range c.Beside {
		if p.isList(path) {
			// The package would put it between a key and its list.
			m[path] = append(m[path], yaml.HeadComment(" "+oneLine(text)))
			continue
		}
		m[path] = append(m[path], yaml.LineComment(" "+oneLine(text)))
	}
	for path, lines := range c.Above {
		var out []string
		for _, l := range lines {
			out = append(out, " "+oneLine(l))
		}
		m[path] = append(m[path], yaml.HeadComment(out...))
	}
	b, err := yaml.MarshalWithOptions(p, yaml.WithComment(m), yaml.IndentSequence(true))
	if err != nil {
		return nil, err
	}
	var head strings.Builder
	for _, l := range strings.Split(strings.TrimRight(c.Head, "\n"), "\n") {
		if l != "" {
			head.WriteString("# " + oneLine(l) + "\n")
		}
	}
	return append([]byte(head.String()), b...), nil
}

// oneLine keeps a comment a comment.
func oneLine(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f || r == '\u0085' || r == '\u2028' || r == '\u2029' {
			return ' '
		}
		return r
	}, s)
}

// isList reports whether a list stands at a path.
func (p *Plan) isList(path string) bool {
	var i int
	if n, _ := fmt.Sscanf(path, "$.columns[%d].reading", &i); n == 1 && strings.HasSuffix(path, ".reading") {
		return p.Columns[i].Reading != nil && len(p.Columns[i].Reading.Dates) > 1
	}
	return strings.HasSuffix(path, ".key") || strings.HasSuffix(path, ".null_words")
}
