package desk

import (
	"context"
	"fmt"
	"strings"

	"ambertray/internal/db"
	"ambertray/internal/db/connect"
	"ambertray/internal/db/dialect"
	"ambertray/internal/phrase"
	"ambertray/internal/plan"
	"ambertray/internal/profile"
	"ambertray/internal/sqltype"
)

// Plan suggests the plan of a load. Its document is the plan itself. With a review, a person
// goes through the columns first; an error of theirs ends it.
func (d *Desk) Plan(ctx context.Context, in Input, review func(context.Context, *Review) error) (*Opened, error) {
	if IsPlan(in.Names[0]) {
		return nil, need("plan: %s is a plan already\n  to see what it does, use 'ambertray look %s'", in.Names[0],
			in.Names[0])
	}
	o, err := d.settled(ctx, in, opening{profiled: true, once: review == nil})
	if err != nil {
		return nil, err
	}
	if err := o.decided(); err != nil {
		return o, err
	}
	if review == nil {
		d.found(o, intoNew)
		return o, nil
	}
	r := newReview(in, o)
	if err := review(ctx, r); err != nil {
		return o, err
	}
	o.Plan, o.Comments, err = r.Plan()
	return o, err
}

// A DefineAnswer is the definition of a table.
type DefineAnswer struct {
	Document
	Database   string   `json:"database"`
	Table      string   `json:"table"`
	Statements []string `json:"statements"`
}

// Text is the definition as a script.
func (a *DefineAnswer) Text() string { return joined(a.Statements) }

func joined(statements []string) string { return strings.Join(statements, ";\n") + ";\n" }

// Define writes the definition of the table that an input becomes.
func (d *Desk) Define(ctx context.Context, in Input, base *db.Database) (*DefineAnswer, error) {
	p, err := d.planOf(ctx, in)
	if err != nil {
		return nil, err
	}
	t := p.Definition()
	if err := checkTable(base.Dialect, t); err != nil {
		return nil, err
	}
	return &DefineAnswer{document("ddl"), base.Name, t.Name, base.Create(t)}, nil
}

// DefineTable writes the definition of a table that exists: in its own database's words, or
// in those of another.
func (d *Desk) DefineTable(ctx context.Context, at DatabaseRequest, name string, base *db.Database) (*DefineAnswer,
	error) {
	conn, err := d.connect(ctx, at, toRead)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	t, err := findTable(ctx, conn, "ddl", name)
	if err != nil {
		return nil, err
	}
	own := connect.Of(at.URL)
	if definer, is := conn.(db.Definer); is && (base == nil || base == own) {
		statements, err := definer.Definition(ctx, t)
		return &DefineAnswer{document("ddl"), own.Name, t.Name, statements}, err
	}
	if base == nil {
		base = own // which has no words of its own for it
	}
	def := dialect.Table{Name: t.Name, Key: t.PrimaryKey(), Comment: t.Comment}
	var lost []profile.Finding
	loses := func(c *db.Column, format string, args ...any) {
		lost = append(lost, profile.Finding{Weight: profile.Caution, Code: profile.CodeNotInDatabase, Column: c.Name,
			Text: fmt.Sprintf(format, args...), Do: "write it by hand, if it is needed"})
	}
	for i := range t.Columns {
		c := &t.Columns[i]
		x := dialect.Column{Name: c.Name, Type: c.SQL, Required: c.Required, Comment: c.Comment}
		switch {
		case c.SQL.Kind == sqltype.None:
			x.Type = sqltype.Type{Kind: sqltype.Text}
			loses(c, "its type %s has no counterpart, and becomes text", c.Type)
		case c.Generated:
			loses(c, "it is computed by the database, and becomes a column like others")
		case c.Identity:
			loses(c, "it is numbered by the database, and becomes a column like others")
		case c.Default:
			loses(c, "its default is not written")
		}
		def.Columns = append(def.Columns, x)
	}
	if len(lost) > 0 {
		d.tell(FoundEvent{db.Qualified(t.Schema, t.Name), nil, lost})
	}
	if err := checkTable(base.Dialect, def); err != nil {
		return nil, err
	}
	return &DefineAnswer{document("ddl"), base.Name, t.Name, base.Create(def)}, nil
}

// planOf is the plan that an input is, or that its source suggests.
func (d *Desk) planOf(ctx context.Context, in Input) (*plan.Plan, error) {
	if IsPlan(in.Names[0]) {
		p, err := plan.ReadFile(in.Names[0])
		if err == nil {
			takeName(p, in.Wishes)
		}
		return p, err
	}
	o, err := d.open(ctx, in, opening{one: true})
	if err != nil {
		return nil, err
	}
	return o.Plan, o.decided()
}

// checkNames makes sure that the database takes every name.
func checkNames(d *dialect.Dialect, t dialect.Table) error {
	names := []string{t.Name}
	for _, c := range t.Columns {
		names = append(names, c.Name)
	}
	for _, n := range names {
		if err := d.Check(n); err != nil {
			return need("%w\n  choose another name in the plan, or use --names safe", err)
		}
	}
	return nil
}

// checkTable makes sure that the database takes every name of a new table, and so many columns.
func checkTable(d *dialect.Dialect, t dialect.Table) error {
	if n := len(t.Columns); d.MostColumns > 0 && n > d.MostColumns && !d.ColumnsVary {
		return need("%s: %s columns, and a table of %s has %s at most\n  leave columns out with --leave-out, or load "+
			"groups of them, with --only, into tables of their own", t.Name, phrase.Grouped(int64(n)), d.Title,
			phrase.Grouped(int64(d.MostColumns)))
	}
	return checkNames(d, t)
}
