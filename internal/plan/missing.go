package plan

import (
	"fmt"

	"go.yaml.in/yaml/v4"

	"ambertray/internal/derive"
)

// Missing is what becomes of rows that the sources do not have: one of two words, or
// columns that are set. In a plan it is written as either.
type Missing struct {
	Rule string // keep or delete; empty where Set has something
	Set  []MissingValue

	wrong string // a mistake inside, kept for Check, which knows the line
}

// A MissingValue is a column of such rows, and the expression whose value it gets.
type MissingValue struct{ Column, Value string }

// The rules for rows that the sources do not have.
const (
	KeepMissing   = "keep"
	DeleteMissing = "delete"
)

// MarshalYAML writes the word, or the columns.
func (m Missing) MarshalYAML() (any, error) {
	if len(m.Set) == 0 {
		return m.Rule, nil
	}
	n := &yaml.Node{Kind: yaml.MappingNode}
	for _, s := range m.Set {
		var k, v yaml.Node
		k.SetString(s.Column)
		v.SetString(s.Value)
		n.Content = append(n.Content, &k, &v)
	}
	return n, nil
}

// UnmarshalYAML reads either. A mistake is kept for Check.
func (m *Missing) UnmarshalYAML(n *yaml.Node) error {
	switch n.Kind {
	case yaml.ScalarNode:
		m.Rule = n.Value
	case yaml.MappingNode:
		for i := 0; i+1 < len(n.Content); i += 2 {
			if n.Content[i+1].Kind != yaml.ScalarNode {
				m.wrong = fmt.Sprintf("missing: %s: an expression is wanted", n.Content[i].Value)
			}
			m.Set = append(m.Set, MissingValue{n.Content[i].Value, n.Content[i+1].Value})
		}
	default:
		m.wrong = "missing: use keep, delete, or columns with expressions"
	}
	return nil
}

func (m *Missing) check() error {
	if m.wrong != "" {
		return fmt.Errorf("%s", m.wrong)
	}
	if len(m.Set) == 0 && m.Rule != KeepMissing && m.Rule != DeleteMissing {
		return fmt.Errorf("missing is %q; it can be keep, delete, or columns with expressions", m.Rule)
	}
	for _, s := range m.Set {
		if _, err := derive.Compile(s.Value, nil, false); err != nil {
			return fmt.Errorf("missing: %s: %w", s.Column, err)
		}
	}
	return nil
}
