package db

import (
	"context"
	"fmt"
	"strings"

	"ambertray/internal/db/dialect"
)

// A Dropper is a Session that can drop a table in the certainty that it has just so many
// rows, and that nobody adds some meanwhile.
type Dropper interface {
	// DropExactly reports whether it has dropped the table.
	DropExactly(ctx context.Context, t *Table, rows int64) (bool, error)
}

// A Row of a table that has no key is known by what a database has for it: its place, or
// nothing.
type Placed interface {
	// Place is the expression that tells rows apart that have the same values, or empty.
	Place(t *Table) string
}

// undone is the mode that the ledger has of a load that was taken back.
const undone = "undone"

// TakeBack notes in the ledger that a load was taken back.
func (l Ledger) TakeBack(ctx context.Context, entry string) error {
	d := l.Dialect
	return l.Do(ctx, "cannot write into the table "+LedgerTable,
		fmt.Sprintf("UPDATE %s SET load_mode = %s WHERE load_entry = %s", l.table(), d.Parameter(1), d.Parameter(2)),
		undone, entry)
}

// Takes is a way to take rows back that a stage has, with a column that says what became
// of each; see dialect.Merge.
type Takes struct {
	*dialect.Merge
	// Set are the columns that are put back in rows that were changed.
	Set []string
}

func (t *Takes) same(a, b string) string {
	var out []string
	for _, k := range t.Key {
		out = append(out, a+t.Quote(k)+" = "+b+t.Quote(k))
	}
	return strings.Join(out, " AND ")
}

// was is the condition that a row of the stage was so.
func (t *Takes) was(what ...dialect.Change) string {
	var words []string
	for _, w := range what {
		words = append(words, dialect.Quoted(string(w)))
	}
	return "s." + dialect.ChangeWhat + " IN (" + strings.Join(words, ", ") + ")"
}

// Delete takes rows out of the table whose key is one of those that were inserted.
func (t *Takes) Delete() string {
	return fmt.Sprintf("DELETE FROM %s WHERE EXISTS (SELECT 1 FROM %s s WHERE %s AND %s)", t.Table, t.Stage,
		t.same(t.Table+".", "s."), t.was(dialect.Inserted))
}

// Change puts values back into rows that are still there: those that were changed, and
// with marked those that were marked.
func (t *Takes) Change(marked bool) string {
	what := []dialect.Change{dialect.Changed}
	if marked {
		what = append(what, dialect.Gone)
	}
	var set []string
	for _, c := range t.Set {
		left := t.Quote(c)
		if t.UpdateJoins {
			left = t.Table + "." + left
		}
		set = append(set, left+" = s."+t.Quote(c))
	}
	if t.UpdateJoins {
		return fmt.Sprintf("UPDATE %s s JOIN %s ON %s SET %s WHERE %s", t.Stage, t.Table, t.same(t.Table+".", "s."),
			strings.Join(set, ", "), t.was(what...))
	}
	return fmt.Sprintf("UPDATE %s%s SET %s FROM %s s WHERE %s AND %s", t.Or, t.Table, strings.Join(set, ", "), t.Stage,
		t.same(t.Table+".", "s."), t.was(what...))
}

// PutBack inserts rows that were deleted.
func (t *Takes) PutBack() string {
	var names, from []string
	for _, c := range t.Columns {
		names, from = append(names, t.Quote(c.Name)), append(from, "s."+t.Quote(c.Name))
	}
	return fmt.Sprintf("INSERT %sINTO %s (%s) %sSELECT %s FROM %s s WHERE %s", t.Or, t.Table, strings.Join(names, ", "),
		t.GiveIdentity, strings.Join(from, ", "), t.Stage, t.was(dialect.Gone))
}

// DeleteWhole takes as many rows out of the table as the stage has of the same values,
// those that lie last; place tells rows of the same values apart.
func (t *Takes) DeleteWhole(place string) string {
	var names, by []string
	for i, c := range t.Columns {
		n := fmt.Sprintf("c%d", i+1)
		names, by = append(names, t.Whole(c.Type, t.Quote(c.Name))+" AS "+n), append(by, n)
	}
	list, same := strings.Join(names, ", "), strings.Join(by, ", ")
	return fmt.Sprintf("DELETE FROM %[1]s WHERE %[2]s IN (SELECT p FROM (SELECT side, p, row_number() OVER "+
		"(PARTITION BY "+
		"%[3]s, side ORDER BY p DESC) AS place, sum(side) OVER (PARTITION BY %[3]s) AS times FROM (SELECT 0 AS side, "+
		"%[2]s AS p, %[4]s FROM %[1]s UNION ALL SELECT 1, NULL, %[4]s FROM %[5]s) u) x WHERE side = 0 AND place <= "+
		"times)",
		t.Table, place, same, list, t.Stage)
}

// DeleteKnown takes rows out of the table whose key the stage has.
func (t *Takes) DeleteKnown() string {
	return fmt.Sprintf("DELETE FROM %s WHERE EXISTS (SELECT 1 FROM %s s WHERE %s)", t.Table, t.Stage,
		t.same(t.Table+".", "s."))
}
