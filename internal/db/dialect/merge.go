package dialect

import (
	"fmt"
	"slices"
	"strings"
)

// A Merge is a table into which the rows of another, the stage, are brought by
// a key. Its statements are those of a merge in one transaction: what is to
// change is found first and kept in a third table, with the rows as they are;
// then it is done.
type Merge struct {
	*Dialect
	Table string // quoted, as the next two
	Stage string
	// Changes is the table with what is to be done: for each record that changes
	// something its number in the stage, what it does, the row as it was, and of a row that
	// is changed the new values. Of a new row, the key is there. Lean tells that the new values are not
	// there, since those would be too many columns: they are taken from the stage.
	Changes string
	Lean    bool
	// Number is the column of the stage that numbers its rows, as the SQL has it.
	Number string
	// Key are the columns by which rows are found. Without any, rows are known by
	// all of their values, and as often as they are there.
	Key []string
	// Or stands behind INSERT and UPDATE, and says what happens where a row is refused.
	Or string
	// Columns are those of the stage; a type of Kind None is compared as text.
	Columns []Column
	// All are the names of the table's columns.
	All []string
	// Undoes tells that the stage has a column with what became of each row, to take that back.
	Undoes bool
	// Quiet tells that nothing but a statement itself changes rows of the table: it has no
	// triggers, and no such keys.
	Quiet bool
	// Apart tells that no key stands twice in the stage: an index that does not allow it has been made.
	Apart bool
}

// The columns of the table of changes, before those of the table.
const (
	ChangeRow  = "ambertray_row"
	ChangeWhat = "ambertray_what"
)

// A Change is what becomes of a row.
type Change string

// The changes.
const (
	Inserted Change = "inserted" // a key that the table did not have
	Changed  Change = "changed"  // a known key, with other values
	Gone     Change = "missing"  // a row whose key the file does not have
)

// newName is the column of changes with the new value of the i-th column of the stage.
func newName(i int) string { return fmt.Sprintf("ambertray_new_%d", i+1) }

// NoChanges is a query without rows that has the columns of the table of changes. number
// and what are nulls of their types.
func (m *Merge) NoChanges(number, what string) string {
	list := append([]string{fmt.Sprintf("%s AS %s, %s AS %s, t.*", number, ChangeRow, what, ChangeWhat)},
		m.kept(func(c Column, name string) string { return "t." + m.Quote(c.Name) + " AS " + name })...)
	return strings.Join(list, ", ")
}

// each writes something of each column that is not of the key, whose place in the stage is i.
func (m *Merge) each(write func(i int, c Column) string) (out []string) {
	for i, c := range m.Columns {
		if !m.IsKey(c.Name) && len(m.Key) > 0 {
			out = append(out, write(i, c))
		}
	}
	return out
}

// kept writes something of each column of changes that has a new value.
func (m *Merge) kept(write func(c Column, name string) string) []string {
	if m.Lean {
		return nil
	}
	return m.each(func(i int, c Column) string { return write(c, newName(i)) })
}

// newValue is the new value of the i-th column of the stage, in a query of becoming.
func (m *Merge) newValue(i int) string {
	if m.Lean {
		return "s." + m.Quote(m.Columns[i].Name)
	}
	return "b." + newName(i)
}

// becoming is the rows that change, as they were and with their new values, to stand behind FROM.
func (m *Merge) becoming() string {
	if m.Lean {
		return m.with(Changed)
	}
	return m.OldRows()
}

// Keep decides how what changes in a table of so many columns is kept, and reports whether it can be;
// wants is how many columns that takes.
func (m *Merge) Keep(columns int) (wants int, can bool) {
	wants = 2 + columns
	news := len(m.each(func(int, Column) string { return "" }))
	m.Lean = m.MostColumns > 0 && wants+news > m.MostColumns
	return wants, m.MostColumns == 0 || m.ColumnsVary || wants <= m.MostColumns
}

// Definitions make the tables of a merge, and the index by which changes are found. number is the
// type of the stage's numbers, which are its key, row of the same in the changes, and what of what
// becomes of a row. column defines one with the type of a column of the table, under a name that is
// quoted.
func (m *Merge) Definitions(number, row, what, index string, column func(name, as string) string) []string {
	what = ChangeWhat + " " + what
	stage, changes := []string{m.Number + " " + number + " PRIMARY KEY"}, []string{ChangeRow + " " + row, what}
	if m.Undoes {
		stage = append(stage, what)
	}
	for _, c := range m.Columns {
		stage = append(stage, column(c.Name, m.Quote(c.Name)))
	}
	for _, c := range m.All {
		changes = append(changes, column(c, m.Quote(c)))
	}
	changes = append(changes, m.kept(func(c Column, name string) string { return column(c.Name, name) })...)
	return []string{fmt.Sprintf("CREATE TABLE %s (%s)", m.Stage, strings.Join(stage, ", ")),
		fmt.Sprintf("CREATE TABLE %s (%s)", m.Changes, strings.Join(changes, ", ")),
		fmt.Sprintf("CREATE INDEX %s ON %s (%s)", index, m.Changes, ChangeRow)}
}

// Names are the columns, quoted.
func (m *Merge) Names() string { return m.names("") }

// names are the columns, quoted, with what stands before each.
func (m *Merge) names(before string) string {
	var out []string
	for _, c := range m.Columns {
		out = append(out, before+m.Quote(c.Name))
	}
	return strings.Join(out, ", ")
}

func (m *Merge) keys(before string) string {
	var out []string
	for _, k := range m.Key {
		out = append(out, before+m.Quote(k))
	}
	return strings.Join(out, ", ")
}

// on is the condition that two rows have the same key. The table's side stands first: it
// has the say in how texts are compared.
func (m *Merge) on(a, b string) string {
	var out []string
	for _, k := range m.Key {
		out = append(out, a+m.Quote(k)+" = "+b+m.Quote(k))
	}
	return strings.Join(out, " AND ")
}

// IsKey reports whether a column is one of the key.
func (m *Merge) IsKey(name string) bool { return slices.Contains(m.Key, name) }

// differs is the condition that two values of a column are not the same.
func (m *Merge) differs(c Column, a, b string) string {
	return m.Distinct(c.Type, a+m.Quote(c.Name), b+m.Quote(c.Name))
}

// other is the condition that two rows of one key are not the same; empty: they are.
func (m *Merge) other(a, b string) string {
	var out []string
	for _, c := range m.Columns {
		if !m.IsKey(c.Name) {
			out = append(out, m.differs(c, a, b))
		}
	}
	return anyOf(out)
}

// anyOf is the condition that one of many holds. SQLite takes expressions 1,000 deep
// (sqlite.org/limits.html, "Maximum Depth Of An Expression Tree"), which each OR behind others adds to.
func anyOf(conditions []string) string {
	if len(conditions) < 500 {
		return strings.Join(conditions, " OR ")
	}
	half := len(conditions) / 2
	return "(" + anyOf(conditions[:half]) + ") OR (" + anyOf(conditions[half:]) + ")"
}

// Twice finds one key that stands more than once in the stage.
func (m *Merge) Twice() string {
	return m.First(m.keys(""), fmt.Sprintf("%s GROUP BY %s HAVING count(*) > 1", m.Stage, m.keys("")), 1)
}

// CountNullKeys counts rows of the stage of which a part of the key is null: an index takes those for different.
func (m *Merge) CountNullKeys() string {
	var null []string
	for _, k := range m.Key {
		null = append(null, m.Quote(k)+" IS NULL")
	}
	return fmt.Sprintf("SELECT count(*) FROM %s WHERE %s", m.Stage, anyOf(null))
}

// TwiceRows are the numbers of all rows whose key stands more than once, or of all but
// the last of each.
func (m *Merge) TwiceRows(last bool) string {
	number := "count(*) OVER (PARTITION BY " + m.keys("") + ")"
	if last {
		number = "row_number() OVER (PARTITION BY " + m.keys("") + " ORDER BY " + m.Number + " DESC)"
	}
	return fmt.Sprintf("SELECT n FROM (SELECT %s AS n, %s AS c FROM %s) x WHERE c > 1 ORDER BY n", m.Number, number,
		m.Stage)
}

// Ordinals are the places of rows in the stage, from 0, by their numbers.
func (m *Merge) Ordinals(numbers string) string {
	return fmt.Sprintf("SELECT n, o FROM (SELECT %[1]s AS n, row_number() OVER (ORDER BY %[1]s) - 1 AS o FROM "+
		"%[2]s) x "+
		"WHERE n IN (%[3]s) ORDER BY n", m.Number, m.Stage, numbers)
}

// Unstage takes rows out of the stage.
func (m *Merge) Unstage(numbers string) []string {
	return []string{fmt.Sprintf("DELETE FROM %s WHERE %s IN (%s)", m.Stage, m.Number, numbers),
		fmt.Sprintf("DELETE FROM %s WHERE %s IN (%s)", m.Changes, ChangeRow, numbers)}
}

// Find fills the table of changes with what the records do; with onlyNew, known keys are
// left as they are.
func (m *Merge) Find(onlyNew bool) string {
	if len(m.Key) == 0 {
		return m.findWhole()
	}
	return "INSERT INTO " + m.Changes + " " + m.Changing(onlyNew, "")
}

// ChangeColumns are the columns of the table of changes, quoted.
func (m *Merge) ChangeColumns() []string {
	names := []string{ChangeRow, ChangeWhat}
	for _, c := range m.All {
		names = append(names, m.Quote(c))
	}
	return append(names, m.kept(func(_ Column, name string) string { return name })...)
}

// Changing is the query of what the records do, of a merge with a key; of some of them, called s, if there is a
// condition.
func (m *Merge) Changing(onlyNew bool, some string) string {
	is := "t." + m.Quote(m.Key[0]) + " IS NULL"
	where := is
	if other := m.other("t.", "s."); other != "" && !onlyNew {
		where += " OR " + other
	}
	if some != "" {
		where = "(" + where + ") AND " + some
	}
	var list []string
	for _, c := range m.All {
		x := "t." + m.Quote(c)
		if m.IsKey(c) {
			x = "coalesce(" + x + ", s." + m.Quote(c) + ")"
		}
		list = append(list, x)
	}
	list = append(list, m.kept(func(c Column, _ string) string { return "s." + m.Quote(c.Name) })...)
	return fmt.Sprintf("SELECT s.%s, CASE WHEN %s THEN '%s' ELSE '%s' END, %s FROM %s s "+
		"LEFT JOIN %s t ON %s WHERE %s", m.Number, is, Inserted, Changed, strings.Join(list, ", "), m.Stage,
		m.Table, m.on("t.", "s."), where)
}

// whole is by what whole rows are known: the values under names of their own, and the names.
func (m *Merge) whole() (list, names string) {
	var values, by []string
	for i, c := range m.Columns {
		n := fmt.Sprintf("c%d", i+1)
		values, by = append(values, m.Whole(c.Type, m.Quote(c.Name))+" AS "+n), append(by, n)
	}
	return strings.Join(values, ", "), strings.Join(by, ", ")
}

// findWhole finds rows that the table does not have as often as the stage. Windows take
// nulls for the same. Of the row as it was, there is nothing, which is said of each column: where the
// table takes no nulls, MariaDB has no default for what is made like it, either.
func (m *Merge) findWhole() string {
	list, same := m.whole()
	into, nulls := []string{ChangeRow, ChangeWhat}, ""
	for _, c := range m.All {
		into, nulls = append(into, m.Quote(c)), nulls+", NULL"
	}
	return fmt.Sprintf("INSERT INTO %[1]s (%[2]s) SELECT n, '%[3]s'%[4]s FROM (SELECT side, n, row_number() OVER "+
		"(PARTITION BY %[5]s ORDER BY side, n) AS place, count(*) OVER (PARTITION BY %[5]s) - sum(side) OVER "+
		"(PARTITION BY %[5]s) AS had FROM (SELECT 0 AS side, 0 AS n, %[6]s FROM %[7]s UNION ALL SELECT 1, %[8]s, "+
		"%[6]s "+
		"FROM %[9]s) u) x WHERE side = 1 AND place > 2 * had", m.Changes, strings.Join(into, ", "), Inserted, nulls,
		same, list, m.Table, m.Number, m.Stage)
}

// knownOther is the records whose key is known and whose values are others, to stand behind FROM;
// empty: all is key, and there can be none.
func (m *Merge) knownOther() string {
	other := m.other("t.", "s.")
	if other == "" || len(m.Key) == 0 {
		return ""
	}
	return fmt.Sprintf("%s s JOIN %s t ON %s WHERE %s", m.Stage, m.Table, m.on("t.", "s."), other)
}

// KnownOther are two queries: how many records have a known key and other values, and the key of
// the first. Both are empty where there can be none.
func (m *Merge) KnownOther() (count, first string) {
	from := m.knownOther()
	if from == "" {
		return "", ""
	}
	return "SELECT count(*) FROM " + from, m.First(m.keys("s."), from+" ORDER BY s."+m.Number, 1)
}

// FindMissing adds the rows of the table whose key the stage does not have.
func (m *Merge) FindMissing() string {
	list := "t.*"
	for range m.kept(func(Column, string) string { return "" }) {
		list += ", NULL"
	}
	return fmt.Sprintf("INSERT INTO %s SELECT NULL, '%s', %s FROM %s", m.Changes, Gone, list, m.Rest())
}

// Rest is what the stage does not have of the table, to stand behind FROM.
func (m *Merge) Rest() string { return m.Table + " t WHERE " + m.absent("t.") }

func (m *Merge) absent(table string) string {
	return fmt.Sprintf("NOT EXISTS (SELECT 1 FROM %s s WHERE %s)", m.Stage, m.on(table, "s."))
}

// Counts are how many rows there are of each change.
func (m *Merge) Counts() string {
	return fmt.Sprintf("SELECT %s, count(*) FROM %s GROUP BY %s", ChangeWhat, m.Changes, ChangeWhat)
}

// CountColumns are queries of in how many of the changed rows each column is another, columns that are
// not of the key one after the other. Each compares so many of them: PostgreSQL joins rows of 1,664 columns
// at most, and takes those of both sides together.
func (m *Merge) CountColumns() (queries []string) {
	out := m.each(func(i int, c Column) string {
		return "count(CASE WHEN " + m.Distinct(c.Type, "b."+m.Quote(c.Name), m.newValue(i)) + " THEN 1 END)"
	})
	for some := range slices.Chunk(out, 500) {
		queries = append(queries, fmt.Sprintf("SELECT %s FROM %s", strings.Join(some, ", "), m.becoming()))
	}
	return queries
}

// with is the changes of a kind with their records, to stand behind FROM.
func (m *Merge) with(what Change) string {
	return fmt.Sprintf("%s b JOIN %s s ON s.%s = b.%s WHERE b.%s = '%s'", m.Changes, m.Stage, m.Number, ChangeRow,
		ChangeWhat, what)
}

// Were are the first changed rows as they are, and Become as they will be. These are two queries: one
// could yield more columns than a database takes.
func (m *Merge) Were(n int) string { return m.firstOf(m.names("b."), n) }

// Become is described at Were. Of rows without a key, and where all is key, nothing changes.
func (m *Merge) Become(n int) string { return m.firstOf(strings.Join(m.after(), ", "), n) }

func (m *Merge) firstOf(list string, n int) string {
	return m.First(list, m.becoming()+" ORDER BY b."+ChangeRow, n)
}

// after are the columns of changed rows as they will be.
func (m *Merge) after() (list []string) {
	for i, c := range m.Columns {
		value, name := m.newValue(i), m.Quote(c.Name)
		if m.IsKey(c.Name) {
			value = "b." + name
		}
		list = append(list, value+" AS "+name)
	}
	return list
}

// Keys are those of the first rows of a change.
func (m *Merge) Keys(what Change, n int) string {
	return m.First(m.keys("b."), fmt.Sprintf("%s b WHERE b.%s = '%s' ORDER BY b.%s, %s", m.Changes, ChangeWhat, what,
		ChangeRow, m.keys("b.")), n)
}

// Before are the changes with the rows as they were; of a row that was not there, only
// the key, or where there is none, all that is put in.
func (m *Merge) Before() string {
	out := []string{"b." + ChangeWhat}
	for _, c := range m.All {
		x := "b." + m.Quote(c)
		if len(m.Key) == 0 && slices.ContainsFunc(m.Columns, func(k Column) bool { return k.Name == c }) {
			x = "s." + m.Quote(c)
		}
		out = append(out, x)
	}
	from := m.Changes + " b"
	if len(m.Key) == 0 {
		from += fmt.Sprintf(" JOIN %s s ON s.%s = b.%s", m.Stage, m.Number, ChangeRow)
	}
	return fmt.Sprintf("SELECT %s FROM %s ORDER BY b.%s", strings.Join(out, ", "), from, ChangeRow)
}

// KnownOf are rows of the table as they were, of the records with numbers, to stand behind
// FROM.
func (m *Merge) KnownOf(numbers string) string {
	return fmt.Sprintf("%s AND b.%s IN (%s)", m.OldRows(), ChangeRow, numbers)
}

// OldRows are the rows that change, as they were, and ChangedRows as they become; to stand
// behind FROM.
func (m *Merge) OldRows() string {
	return fmt.Sprintf("%s b WHERE b.%s = '%s'", m.Changes, ChangeWhat, Changed)
}

// ChangedRows is described at OldRows.
func (m *Merge) ChangedRows() string {
	return fmt.Sprintf("(SELECT %s FROM %s) x", strings.Join(m.after(), ", "), m.becoming())
}

// NewRows are the records that are inserted, to stand behind FROM.
func (m *Merge) NewRows() string {
	return fmt.Sprintf("(SELECT %s FROM %s) x", m.names("s."), m.with(Inserted))
}

// Do brings in the changes of a kind, of the records with numbers from lo to hi; of all
// where hi is not above 0.
func (m *Merge) Do(what Change, lo, hi int64) string {
	some := ""
	if hi > 0 {
		some = fmt.Sprintf(" AND b.%s BETWEEN %d AND %d", ChangeRow, lo, hi)
	}
	if what == Changed {
		var set []assignment
		m.each(func(i int, c Column) string {
			set = append(set, assignment{c.Name, m.newValue(i)})
			return ""
		})
		rows := fmt.Sprintf("b.%s = '%s'%s", ChangeWhat, Changed, some)
		if m.Lean {
			return m.updateBy(m.Stage, "s", set, fmt.Sprintf("s.%s IN (SELECT b.%s FROM %s b WHERE %s)", m.Number,
				ChangeRow, m.Changes, rows))
		}
		return m.updateBy(m.Changes, "b", set, rows)
	}
	return m.insertFrom(m.with(Inserted) + some)
}

// insertFrom inserts rows of the stage, by what stands behind FROM.
func (m *Merge) insertFrom(from string) string {
	return fmt.Sprintf("INSERT %sINTO %s (%s) %sSELECT %s FROM %s", m.Or, m.Table, m.names(""), m.GiveIdentity,
		m.names("s."), from)
}

// An assignment gives a column of the table a value.
type assignment struct{ column, value string }

// updateBy changes rows of the table by those of another that have the same key, and that
// where picks; the other one is called as.
func (m *Merge) updateBy(other, as string, set []assignment, where string) string {
	sets := func(before string) string {
		var out []string
		for _, a := range set {
			out = append(out, before+m.Quote(a.column)+" = "+a.value)
		}
		return strings.Join(out, ", ")
	}
	switch m.Merges {
	case UpdateJoin:
		return fmt.Sprintf("UPDATE %s %s JOIN %s ON %s SET %s WHERE %s", other, as, m.Table,
			m.on(m.Table+".", as+"."), sets(m.Table+"."), where)
	case UpdateAlias:
		return fmt.Sprintf("UPDATE t SET %s FROM %s t JOIN %s %s ON %s WHERE %s", sets(""), m.Table, other, as,
			m.on("t.", as+"."), where)
	case UpdateByMerge:
		return fmt.Sprintf("MERGE INTO %s t USING (SELECT * FROM %s %s WHERE %s) %[3]s ON (%[5]s) WHEN MATCHED THEN "+
			"UPDATE SET %[6]s", m.Table, other, as, where, m.on("t.", as+"."), sets("t."))
	case UpdateFrom:
	}
	return fmt.Sprintf("UPDATE %s%s SET %s FROM %s %s WHERE %s AND %s", m.Or, m.Table, sets(""), other, as,
		m.on(m.Table+".", as+"."), where)
}

// Absent is the condition that the stage does not have a row of the table, called p.
func (m *Merge) Absent() string { return m.absent("p.") }

// DeleteMissing takes out of the table what the stage does not have.
func (m *Merge) DeleteMissing() string {
	return fmt.Sprintf("DELETE FROM %s WHERE %s", m.Table, m.absent(m.Table+"."))
}

// A MarkedValue is what a column of the rows gets that the stage does not have, in
// plain form; nil: null.
type MarkedValue struct {
	Column
	Value *string
}

func (m *Merge) literal(v MarkedValue) string {
	if v.Value == nil {
		return "NULL"
	}
	return m.Literal(v.Column, *v.Value)
}

// MarkMissing sets columns of the rows that the stage does not have.
func (m *Merge) MarkMissing(values []MarkedValue) string {
	var set []string
	for _, v := range values {
		set = append(set, m.Quote(v.Name)+" = "+m.literal(v))
	}
	return fmt.Sprintf("UPDATE %s SET %s WHERE %s", m.Table, strings.Join(set, ", "), m.absent(m.Table+"."))
}

// CountUnmarked counts rows that MarkMissing has not made what it should.
func (m *Merge) CountUnmarked(values []MarkedValue) string {
	var not []string
	for _, v := range values {
		x := "t." + m.Quote(v.Name)
		if not = append(not, m.Distinct(v.Type, x, m.literal(v))); v.Value == nil {
			not[len(not)-1] = x + " IS NOT NULL"
		}
	}
	return fmt.Sprintf("SELECT count(*) FROM %s AND (%s)", m.Rest(), anyOf(not))
}

// CountSame counts the records that the table has as they are.
func (m *Merge) CountSame() string {
	where := ""
	if other := m.other("t.", "s."); other != "" {
		where = " WHERE NOT (" + other + ")"
	}
	return fmt.Sprintf("SELECT count(*) FROM %s s JOIN %s t ON %s%s", m.Stage, m.Table, m.on("t.", "s."), where)
}

// CountDone counts the records of a kind that the table has as they are.
func (m *Merge) CountDone(what Change) string {
	from, other := m.Changes+" b", m.other("t.", "s.")
	if what == Changed && !m.Lean {
		other = anyOf(m.each(func(i int, c Column) string {
			return m.Distinct(c.Type, "t."+m.Quote(c.Name), m.newValue(i))
		}))
	} else {
		from += fmt.Sprintf(" JOIN %s s ON s.%s = b.%s", m.Stage, m.Number, ChangeRow)
	}
	where := fmt.Sprintf(" WHERE b.%s = '%s'", ChangeWhat, what)
	if other != "" {
		where += " AND NOT (" + other + ")"
	}
	return fmt.Sprintf("SELECT count(*) FROM %s JOIN %s t ON %s%s", from, m.Table, m.on("t.", "b."), where)
}

// An UpdateForm is how a database writes that rows are changed by those of another table.
type UpdateForm int

// The forms.
const (
	UpdateFrom    UpdateForm = iota // UPDATE t SET … FROM s WHERE …
	UpdateJoin                      // UPDATE t JOIN s ON … SET …
	UpdateAlias                     // UPDATE t SET … FROM the table t JOIN s ON …
	UpdateByMerge                   // MERGE INTO t USING s ON … WHEN MATCHED THEN UPDATE …
)

// StageOf is the definition of a stage for rows of a table, with the key of a merge; it is
// of the session where the database has such tables.
func (d *Dialect) StageOf(t Table, key []string) (stage Table, definition string) {
	stage = Table{Name: d.TemporaryName + "ambertray_stage", Columns: slices.Clone(t.Columns), Key: key}
	if d.Temporary == "" && d.TemporaryName == "" {
		stage.Schema = t.Schema
	}
	for i := range stage.Columns {
		stage.Columns[i].Comment, stage.Columns[i].Identity = "", false
	}
	return stage, strings.Replace(d.Create(stage)[0], "CREATE TABLE", "CREATE "+d.Temporary+"TABLE", 1)
}

// Statements bring the rows of the stage into the table by its key, and with missing take
// out the rows that it does not have: for a script, which keeps no account of what
// changes.
func (m *Merge) Statements(missing bool) (out []string) {
	if missing {
		out = append(out, m.DeleteMissing())
	}
	on, other := m.on("t.", "s."), m.other("t.", "s.")
	set := func(left string) string {
		var list []string
		for _, c := range m.Columns {
			if !m.IsKey(c.Name) {
				list = append(list, left+m.Quote(c.Name)+" = s."+m.Quote(c.Name))
			}
		}
		return strings.Join(list, ", ")
	}
	if other != "" {
		form := ""
		switch m.Merges {
		case UpdateFrom:
			table := m.Table + "."
			form = fmt.Sprintf("UPDATE %s SET %s FROM %s s WHERE %s AND (%s)", m.Table, set(""), m.Stage, m.on(table,
				"s."),
				m.other(table, "s."))
		case UpdateJoin:
			form = fmt.Sprintf("UPDATE %s t JOIN %s s ON %s SET %s WHERE %s", m.Table, m.Stage, on, set("t."), other)
		case UpdateAlias:
			form = fmt.Sprintf("UPDATE t SET %s FROM %s t JOIN %s s ON %s WHERE %s", set(""), m.Table, m.Stage, on,
				other)
		case UpdateByMerge:
			form = fmt.Sprintf("MERGE INTO %s t USING %s s ON (%s) WHEN MATCHED THEN UPDATE SET %s WHERE %s", m.Table,
				m.Stage, on, set("t."), other)
		}
		out = append(out, form)
	}
	return append(out, m.insertFrom(fmt.Sprintf("%s s WHERE NOT EXISTS (SELECT 1 FROM %s t WHERE %s)", m.Stage, m.Table,
		on)))
}
