package db

import (
	"context"
	"fmt"
	"strings"
)

// Around is what hangs on a table, beyond its columns and rows.
type Around struct {
	// Referrers are the foreign keys of other tables that refer to it.
	Referrers []Reference
	// Holds are other objects that keep it from being dropped: views.
	Holds []string
	// Goes are what goes with it when it is dropped: indexes, triggers, grants …,
	// in words.
	Goes []string
	// Again are the statements that make of it what can be made anew, for a table of
	// the same name.
	Again []string
}

// A Reference is a foreign key of another table.
type Reference struct {
	Schema, Table string // the table that has it
	Name          string
	Columns, To   []string // its columns, and those that they refer to
	OnDelete      string   // the rule, as SQL has it
}

func (r Reference) String() string {
	s := fmt.Sprintf("%s (%s)", Qualified(r.Schema, r.Table), strings.Join(r.Columns, ", "))
	if rule := strings.ToUpper(r.OnDelete); rule != "" && rule != "NO ACTION" && rule != "RESTRICT" {
		s += " ON DELETE " + rule
	}
	return s
}

// A Surveyor can tell what hangs on a table.
type Surveyor interface {
	Around(ctx context.Context, t *Table) (*Around, error)
}

// A Keeper is a Load that can make sure, before the commit, that every key which
// other tables refer to is in the table: those of Spec.Referrers.
type Keeper interface {
	KeepsKeys(ctx context.Context) error
}

// An Attacher is a Load that can make again what went with the table that it replaces:
// Spec.Again.
type Attacher interface {
	Attach(ctx context.Context) error
}

// between stands between names in one field of an answer.
const between = "\x1f"

// cannotSurvey is what fails when a database is asked what hangs on a table.
const cannotSurvey = "cannot see what hangs on the table"

// Referrers asks for foreign keys by a statement that gives schema, table, name,
// columns, columns referred to, and rule; lists of columns are joined by the
// character 31.
func (q Questions) Referrers(ctx context.Context, sql string, args ...any) (out []Reference, err error) {
	rows, err := q.Rows(ctx, cannotSurvey, sql, args...)
	text := func(s *string) string {
		if s == nil {
			return ""
		}
		return *s
	}
	for _, r := range rows {
		out = append(out, Reference{text(r[0]), text(r[1]), text(r[2]), strings.Split(text(r[3]), between),
			strings.Split(text(r[4]), between), text(r[5])})
	}
	return out, err
}

// Hanging asks for what hangs on a table by several statements, each of which gives
// rows of one field.
func (q Questions) Hanging(ctx context.Context, statements []string, args ...any) (out []string, err error) {
	for _, sql := range statements {
		rows, err := q.Rows(ctx, cannotSurvey, sql, args...)
		if err != nil {
			return nil, err
		}
		for _, r := range rows {
			if r[0] != nil {
				out = append(out, *r[0])
			}
		}
	}
	return out, nil
}

// Attach makes again what hung on a table, by its statements.
func (q Questions) Attach(ctx context.Context, statements []string) error {
	for _, sql := range statements {
		if err := q.Do(ctx, "cannot make again what hung on the table: "+sql, sql); err != nil {
			return err
		}
	}
	return nil
}

// Orphans is an error if a row of a referrer refers to a key that the table, by its
// quoted name, does not have. lock is what makes the question see the newest rows of
// others, and hold them.
func (q Questions) Orphans(ctx context.Context, referrers []Reference, table, lock string) error {
	for _, r := range referrers {
		var fields, filled, same []string
		for i, c := range r.Columns {
			own := "c." + q.Dialect.Quote(c)
			fields, filled = append(fields, own), append(filled, own+" IS NOT NULL")
			same = append(same, "p."+q.Dialect.Quote(r.To[i])+" = "+own)
		}
		from := fmt.Sprintf("%s c WHERE %s AND NOT EXISTS (SELECT 1 FROM %s p WHERE %s)",
			q.Dialect.Qualified(r.Schema, r.Table), strings.Join(filled, " AND "), table, strings.Join(same, " AND "))
		rows, err := q.Rows(ctx, "cannot see what refers to the table", strings.TrimSpace(
			q.Dialect.First(strings.Join(fields, ", "), from, 1)+" "+lock))
		if err != nil {
			return err
		}
		if len(rows) == 0 {
			continue
		}
		var values []string
		for _, v := range rows[0] {
			if v != nil {
				values = append(values, *v)
			}
		}
		return &Orphan{r, strings.Join(values, ", ")}
	}
	return nil
}

// An Orphan error says that a row of another table refers to a key that would be
// gone.
type Orphan struct {
	Reference
	Key string
}

func (e *Orphan) Error() string {
	return fmt.Sprintf("%s refers to '%s', which the file does not have; nothing was committed\n  a table that others "+
		"refer to can be refilled with a file that has every key they refer to", e.Reference, e.Key)
}
