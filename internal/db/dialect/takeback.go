package dialect

import (
	"fmt"
	"strings"
)

// What follows takes back rows that a stage has, with a column that says what became of each,
// or the rows of a load that added them.

// was is the condition that a row of the stage was so.
func (m *Merge) was(what ...Change) string {
	var words []string
	for _, w := range what {
		words = append(words, Quoted(string(w)))
	}
	return "s." + ChangeWhat + " IN (" + strings.Join(words, ", ") + ")"
}

// DeleteStaged takes rows out of the table whose key the stage has; where the stage says what
// became of them, those that were inserted.
func (m *Merge) DeleteStaged() string {
	where := m.on(m.Table+".", "s.")
	if m.Undoes {
		where += " AND " + m.was(Inserted)
	}
	return fmt.Sprintf("DELETE FROM %s WHERE EXISTS (SELECT 1 FROM %s s WHERE %s)", m.Table, m.Stage, where)
}

// ChangeBack puts the values of columns back into rows that are still there: those that were
// changed, and with marked those that were marked.
func (m *Merge) ChangeBack(columns []string, marked bool) string {
	what := []Change{Changed}
	if marked {
		what = append(what, Gone)
	}
	var set []assignment
	for _, c := range columns {
		set = append(set, assignment{c, "s." + m.Quote(c)})
	}
	return m.updateBy(m.Stage, "s", set, m.was(what...))
}

// PutBack inserts rows that were deleted.
func (m *Merge) PutBack() string {
	return m.insertFrom(fmt.Sprintf("%s s WHERE %s", m.Stage, m.was(Gone)))
}

// DeleteWhole takes as many rows out of the table as the stage has of the same values,
// those that lie last; place tells rows of the same values apart.
func (m *Merge) DeleteWhole(place string) string {
	list, same := m.whole()
	return fmt.Sprintf("DELETE FROM %[1]s WHERE %[2]s IN (SELECT p FROM (SELECT side, p, row_number() OVER "+
		"(PARTITION BY %[3]s, side ORDER BY p DESC) AS place, sum(side) OVER (PARTITION BY %[3]s) AS times FROM "+
		"(SELECT 0 AS side, %[2]s AS p, %[4]s FROM %[1]s UNION ALL SELECT 1, NULL, %[4]s FROM %[5]s) u) x "+
		"WHERE side = 0 AND place <= times)", m.Table, place, same, list, m.Stage)
}
