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
	// OnDelete and OnUpdate are the rules, as SQL has them.
	OnDelete, OnUpdate string
}

// Acts reports whether a rule of the key changes the rows that refer, where those referred to
// are deleted or get other keys.
func (r Reference) Acts() bool { return acts(r.OnDelete) || acts(r.OnUpdate) }

func acts(rule string) bool {
	rule = strings.ToUpper(rule)
	return rule != "" && rule != "NO ACTION" && rule != "RESTRICT"
}

func (r Reference) String() string {
	s := fmt.Sprintf("%s (%s)", Qualified(r.Schema, r.Table), strings.Join(r.Columns, ", "))
	if acts(r.OnDelete) {
		s += " ON DELETE " + strings.ToUpper(r.OnDelete)
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
// columns, columns referred to, and the rules on delete and on update; lists of columns are
// joined by the character 31.
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
			strings.Split(text(r[4]), between), text(r[5]), text(r[6])})
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
		fields, filled, same := q.refers(r)
		from := fmt.Sprintf("%s c WHERE %s AND NOT EXISTS (SELECT 1 FROM %s p WHERE %s)",
			q.Dialect.Qualified(r.Schema, r.Table), filled, table, same)
		key, is, err := q.firstKey(ctx, fields, from, lock)
		if err != nil {
			return err
		}
		if is {
			return &Orphan{r, key}
		}
	}
	return nil
}

// ReferredTo is an error if a row of a referrer refers to one of the table, by its quoted name, for
// which the condition is true; the condition calls that p.
func (q Questions) ReferredTo(ctx context.Context, referrers []Reference, table, condition string) error {
	for _, r := range referrers {
		fields, filled, same := q.refers(r)
		from := fmt.Sprintf("%s c WHERE %s AND EXISTS (SELECT 1 FROM %s p WHERE %s AND %s)",
			q.Dialect.Qualified(r.Schema, r.Table), filled, table, same, condition)
		key, is, err := q.firstKey(ctx, fields, from, "")
		if err != nil {
			return err
		}
		if is {
			return &ReferredTo{r, key}
		}
	}
	return nil
}

// refers are the columns of a referrer, called c, and the conditions that they are filled, and
// that they are the key of a row called p.
func (q Questions) refers(r Reference) (fields, filled, same string) {
	var f, n, s []string
	for i, c := range r.Columns {
		own := "c." + q.Dialect.Quote(c)
		f, n = append(f, own), append(n, own+" IS NOT NULL")
		s = append(s, "p."+q.Dialect.Quote(r.To[i])+" = "+own)
	}
	return strings.Join(f, ", "), strings.Join(n, " AND "), strings.Join(s, " AND ")
}

// firstKey is the first row of a question, if there is one.
func (q Questions) firstKey(ctx context.Context, fields, from, lock string) (key string, is bool, err error) {
	rows, err := q.Rows(ctx, "cannot see what refers to the table",
		strings.TrimSpace(q.Dialect.First(fields, from, 1)+" "+lock))
	if err != nil || len(rows) == 0 {
		return "", false, err
	}
	var values []string
	for _, v := range rows[0] {
		if v != nil {
			values = append(values, *v)
		}
	}
	return strings.Join(values, ", "), true, nil
}

// Leaning is what the columns come to by which other tables refer to one, of those keys whose
// rules change rows: if it is another behind a change, rows went with it that nobody named.
func (q Questions) Leaning(ctx context.Context, referrers []Reference) (out []string, err error) {
	for _, r := range referrers {
		if !r.Acts() {
			continue
		}
		what := []string{"count(*)"}
		for _, c := range r.Columns {
			own := q.Dialect.Quote(c)
			what = append(what, "count("+own+")", "count(DISTINCT "+own+")", "min("+own+")", "max("+own+")")
		}
		rows, err := q.Rows(ctx, "cannot see what refers to the table", "SELECT "+strings.Join(what, ", ")+" FROM "+
			q.Dialect.Qualified(r.Schema, r.Table))
		if err != nil {
			return nil, err
		}
		text := r.String()
		for _, v := range rows[0] {
			if text += " null"; v != nil {
				text = strings.TrimSuffix(text, "null") + *v
			}
		}
		out = append(out, text)
	}
	return out, nil
}

// Moved is the first of the referrers whose rows come to something else than before.
func Moved(referrers []Reference, before, after []string) error {
	i := 0
	for _, r := range referrers {
		if !r.Acts() {
			continue
		}
		if i >= len(before) || i >= len(after) || before[i] != after[i] {
			return &Went{r}
		}
		i++
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

// A ReferredTo error says that a row of another table refers to one that would be deleted.
type ReferredTo struct {
	Reference
	Key string
}

func (e *ReferredTo) Error() string {
	what := "a row that others refer to is not deleted"
	if acts(e.OnDelete) {
		what = "by that rule its rows would go or change, too, which the load could not account for"
	}
	return fmt.Sprintf("%s refers to '%s', which the file does not have; nothing was changed\n  %s: keep such rows, "+
		"mark them (missing: in the plan), or take out first what refers to them", e.Reference, e.Key, what)
}

// A Went error says that rows of another table were deleted or changed by its foreign key.
type Went struct{ Reference }

func (e *Went) Error() string {
	return fmt.Sprintf("rows of %s would be deleted or changed by the rule of that key; nothing was changed",
		e.Reference)
}
