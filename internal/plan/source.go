package plan

import (
	"errors"
	"fmt"
	"strconv"

	"go.yaml.in/yaml/v4"

	"ambertray/internal/source"
)

// MarshalYAML writes the file, the settings in their order, and what was seen.
func (s Source) MarshalYAML() (any, error) {
	n := &yaml.Node{Kind: yaml.MappingNode}
	add := func(key string, value any) (*yaml.Node, error) {
		var k, v yaml.Node
		k.SetString(key) // there may be thousands of sources, and an encoder is large
		if err := v.Encode(value); err != nil {
			return nil, err
		}
		n.Content = append(n.Content, &k, &v)
		return &v, nil
	}
	if _, err := add("file", s.File); err != nil {
		return nil, err
	}
	for _, set := range source.Settings {
		text, is := s.Settings[set.Key]
		if !is {
			continue
		}
		v, err := add(set.Key, text)
		if err != nil {
			return nil, err
		}
		if _, err := strconv.Atoi(text); set.Number && err == nil {
			v.Tag, v.Style, v.Value = "!!int", 0, text
		}
	}
	if s.Sheets != nil {
		v, err := add("sheets", s.Sheets)
		if err != nil {
			return nil, err
		}
		v.Style = yaml.FlowStyle
	}
	switch len(s.Seen) {
	case 0:
	case 1:
		v, err := add("seen", s.Seen[0])
		if err != nil {
			return nil, err
		}
		v.Style = yaml.FlowStyle
	default:
		v, err := add("seen", s.Seen)
		if err != nil {
			return nil, err
		}
		for _, x := range v.Content {
			x.Style = yaml.FlowStyle
		}
	}
	return n, nil
}

// UnmarshalYAML reads them in any order. A mistake is kept for Check.
func (s *Source) UnmarshalYAML(n *yaml.Node) error {
	s.Settings = nil
	fail := func(key, format string, args ...any) {
		if s.wrong == "" {
			s.wrongAt, s.wrong = key, fmt.Sprintf(format, args...)
		}
	}
	if n.Kind != yaml.MappingNode {
		fail("", "a source is a mapping of file: and how it is written")
		return nil
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		key, value := n.Content[i].Value, n.Content[i+1]
		switch {
		case key == "file":
			if err := value.Decode(&s.File); err != nil {
				fail(key, "file: is no name")
			}
		case key == "seen":
			var err error
			if value.Kind == yaml.SequenceNode {
				err = value.Decode(&s.Seen)
			} else {
				s.Seen = make([]Seen, 1)
				err = value.Decode(&s.Seen[0])
			}
			if err != nil {
				fail(key, "seen: %s", mistake(err).What)
			}
		case key == "sheets":
			s.Sheets = &SheetRules{}
			if err := value.Decode(s.Sheets); err != nil {
				fail(key, "sheets: is a mapping of new: and missing:")
			} else if wrong := s.Sheets.check(); wrong != "" {
				fail(key, "%s", wrong)
			}
			for j := 0; j+1 < len(value.Content); j += 2 {
				if k := value.Content[j].Value; k != "new" && k != "missing" {
					fail(key, "sheets: %s", noKey(k, []string{"new", "missing"}))
				}
			}
		case source.SettingOf(key) == nil:
			keys := []string{"file", "seen", "sheets"}
			for _, set := range source.Settings {
				keys = append(keys, set.Key)
			}
			fail(key, "%s", noKey(key, keys))
		case value.Kind != yaml.ScalarNode:
			fail(key, "%s: is no single value", key)
		case value.Tag != "!!null":
			if s.Settings == nil {
				s.Settings = map[string]string{}
			}
			s.Settings[key] = value.Value
		}
	}
	return nil
}

// check says what is wrong with a source, with the key that it is wrong at.
func (s *Source) check() *Error {
	if s.wrong != "" {
		return &Error{Path: s.wrongAt, What: s.wrong}
	}
	var k source.Known
	for _, set := range source.Settings {
		v, is := s.Settings[set.Key]
		if !is {
			continue
		}
		if err := set.Put(&k, v); err != nil {
			what := fmt.Sprintf("%s: %v", set.Key, err)
			var not *source.NotAllowed
			if errors.As(err, &not) {
				what += "; " + not.Do
			}
			return &Error{Path: set.Key, What: what}
		}
	}
	return nil
}
