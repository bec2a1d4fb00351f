package desk

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ambertray/internal/db"
	"ambertray/internal/db/connect"
	"ambertray/internal/db/dialect"
	"ambertray/internal/plan"
	"ambertray/internal/report"
	"ambertray/internal/rows"
	"ambertray/internal/sqltype"
)

// FileDictionary describes the table that an input becomes.
func (d *Desk) FileDictionary(ctx context.Context, in Input) (*report.Dictionary, error) {
	o, err := d.open(ctx, in, opening{profiled: true, one: true})
	if err != nil {
		return nil, err
	}
	if err := o.decided(); err != nil {
		return nil, err
	}
	bound, err := plan.Bind(o.Plan, o.Sources[:1])
	if err != nil {
		return nil, err
	}
	m := d.meter(ctx, "reading", o.Size())
	check, err := rows.DryRun(ctx, o.job(m))
	m.End()
	if err != nil {
		return nil, err
	}
	def := o.Plan.Definition()
	out := &report.Dictionary{Table: db.Qualified(def.Schema, def.Name), Description: def.Comment,
		Origin: o.Name(), Rows: check.Records.Loaded}
	first := len(def.Columns) - len(o.Plan.Columns)
	for i, c := range def.Columns {
		e := report.Entry{Name: c.Name, Type: c.Type.String(), Required: c.Required || slices.Contains(def.Key, c.Name),
			Key:     1 + slices.Index(def.Key, c.Name),
			Default: c.Default, Description: c.Comment, From: "(number of the record)"}
		if i < len(check.Tally) {
			e.Blanks, e.Smallest, e.Largest = check.Tally[i].Nulls, check.Tally[i].Smallest(), check.Tally[i].Largest()
		}
		if k := i - first; k >= 0 {
			e.From, e.Description = o.Plan.Columns[k].From, o.Plan.Columns[k].Comment
			e.Example = example(o, bound.At[0][k])
		}
		out.Columns = append(out.Columns, e)
	}
	return out, nil
}

// example is the first field at a place that is not blank, among the first
// records.
func example(o *Opened, at int) string {
	for _, r := range o.Profile.First {
		if at >= 0 && at < len(r.Fields) && strings.TrimSpace(r.Fields[at]) != "" {
			return r.Fields[at]
		}
	}
	return ""
}

// TableDictionary describes a table that there is.
func (d *Desk) TableDictionary(ctx context.Context, at DatabaseRequest, name string) (*report.Dictionary, error) {
	conn, err := d.connect(ctx, at, toRead)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	t, err := findTable(ctx, conn, "dictionary", name)
	if err != nil {
		return nil, err
	}
	def := dialect.Table{Schema: t.Schema, Name: t.Name}
	for _, c := range t.Columns {
		x := dialect.Column{Name: c.Name, Type: c.SQL}
		if c.SQL.Kind == sqltype.None {
			x.Type.Kind = sqltype.Text
		}
		def.Columns = append(def.Columns, x)
	}
	n, facts, err := conn.Tally(ctx, def)
	if err != nil {
		return nil, err
	}
	out := &report.Dictionary{Table: db.Qualified(t.Schema, t.Name), Description: t.Comment, Rows: n,
		Origin: fmt.Sprintf("%s (%s)", connect.Redact(at.URL), conn.Dialect().Title)}
	var first [][]*string
	if l, ok := conn.(db.Lister); ok {
		if first, err = l.Head(ctx, t.Schema, t.Name, 20); err != nil {
			return nil, err
		}
	}
	for i, c := range t.Columns {
		e := report.Entry{Name: c.Name, Type: c.Type, Required: c.Required, Key: c.Key, Description: c.Comment,
			Blanks: facts[i].Nulls, Default: filledBy(&c)}
		if !facts[i].Loose {
			e.Smallest, e.Largest = facts[i].Smallest(), facts[i].Largest()
		}
		for _, r := range first {
			if r[i] != nil && *r[i] != "" {
				e.Example = *r[i]
				break
			}
		}
		out.Columns = append(out.Columns, e)
	}
	return out, nil
}

// filledBy says where the database fills a column by itself, or nil.
func filledBy(c *db.Column) *string {
	s := ""
	switch {
	case c.Identity:
		s = "numbered by the database"
	case c.Generated:
		s = "computed by the database"
	case c.Default:
		s = "given by the database"
	default:
		return nil
	}
	return &s
}

// A DictionaryAnswer is the document of a dictionary.
type DictionaryAnswer struct {
	Document
	*report.Dictionary
}

// DictionaryOf is the document of a dictionary.
func DictionaryOf(d *report.Dictionary) DictionaryAnswer {
	return DictionaryAnswer{document("dictionary"), d}
}
