package desk

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"ambertray/internal/phrase"
	"ambertray/internal/reading"
	"ambertray/internal/source"
)

// settled opens an input, and asks, where somebody is there, what the evidence
// leaves open and has few answers. Each answer is told as the option that would
// have given it. What is not asked stays open.
func (d *Desk) settled(ctx context.Context, in Input, how opening) (*Opened, error) {
	for {
		o, err := d.open(ctx, in, how)
		if d.Ask == nil || IsPlan(in.Names[0]) {
			return o, err
		}
		q := questionOf(o, err)
		if q == nil {
			return o, err
		}
		answer, err := d.choose(ctx, *q)
		if err != nil {
			return nil, err
		}
		if err := in.settle(q.settles, answer); err != nil {
			return nil, err
		}
		d.tell(NoteEvent{"taken: --" + optionOf(q.settles) + " " + phrase.ShellWord(answer)})
	}
}

// choose asks a question that has choices.
func (d *Desk) choose(ctx context.Context, q Question) (answer string, err error) {
	if answer, err = d.Ask(ctx, q); err != nil {
		return "", err
	}
	if !slices.ContainsFunc(q.Choices, func(c Choice) bool { return c.Answer == answer }) {
		return "", need("%s: %q is no answer\n  %s", q.Ask, answer, q.Answer)
	}
	return answer, nil
}

// questionOf is the first question with choices, or nil.
func questionOf(o *Opened, err error) *Question {
	var choice *source.Choice
	if errors.As(err, &choice) {
		return partQuestion(choice)
	}
	if err != nil {
		return nil
	}
	for _, q := range o.Questions() {
		if len(q.Choices) > 0 {
			return &q
		}
	}
	return nil
}

// partQuestion asks for a sheet or a member; nil: there are too many, or none.
func partQuestion(c *source.Choice) *Question {
	const most = 30
	if len(c.Parts) == 0 || len(c.Parts) > most {
		return nil
	}
	q := &Question{Code: WhichPart, Ask: fmt.Sprintf("%s has several %ss; which is to be read?", c.Source, c.What),
		Answer: "say --" + c.What, settles: c.What}
	for _, p := range c.Parts {
		text := p.Name
		if p.Hidden {
			text += " (hidden)"
		}
		switch {
		case p.Rows > 0:
			text += ", " + phrase.Count(p.Rows, "row")
		case p.Size > 0:
			text += ", " + phrase.Size(p.Size)
		}
		if p.View != "" {
			text += ": " + reading.Shorten(p.View, 50)
		}
		q.Choices = append(q.Choices, Choice{p.Name, text, "--" + c.What + " " + phrase.ShellWord(p.Name)})
	}
	if c.What == "sheet" {
		q.Choices = append(q.Choices, Choice{"all", "all of them, as one table", "--sheet all"})
	}
	return q
}

// optionOf is the option of a setting, or of what is none.
func optionOf(key string) string {
	if set := source.SettingOf(key); set != nil {
		return set.Option()
	}
	return key
}

// settle takes the answer to a question into the request.
func (in *Input) settle(option, value string) error {
	switch option {
	case "dates":
		in.Options.Dates = value
	case "decimal":
		in.Options.Decimal = map[string]reading.Mark{"point": reading.Point, "comma": reading.Comma}[value]
	case "same":
		from, to, _ := strings.Cut(value, "=")
		in.Options.Same = maps.Clone(in.Options.Same)
		if in.Options.Same == nil {
			in.Options.Same = map[string]string{}
		}
		in.Options.Same[from] = to
	case "tables":
		in.Tables = value
	default:
		set := source.SettingOf(option)
		if set == nil {
			return fmt.Errorf("no setting is called %q", option)
		}
		return set.Put(&in.Known, value)
	}
	return nil
}
