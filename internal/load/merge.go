package load

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/phrase"
	"ambertray/internal/profile"
	"ambertray/internal/reading"
	"ambertray/internal/rows"
	"ambertray/internal/sink"
	"ambertray/internal/sqltype"
	"ambertray/internal/tally"
	"ambertray/internal/tray"
)

// A merge goes into a stage first, a table of the session that is loaded and verified as
// any other. Then the database is asked what each record does, before anything is done;
// what is to change is kept as it was. It is done in one go, or in parts where rows are
// refused; and then every record of the stage has to be equal to its row, and all other
// rows to come to what they had come to.

// A Merge is how records meet rows that are there.
type Merge struct {
	// Target is the table, and Key the columns by which rows are known. Without any, a row
	// is known by all of its values, which is for OnlyNew.
	Target *db.Table
	Key    []string
	// OnlyNew leaves known rows as they are.
	OnlyNew bool
	// LastWins takes of several records with one key the last.
	LastWins bool
	// Missing is what becomes of rows that the sources do not have.
	Missing tray.MissingRule
	// Marks are what they get, where they are marked.
	Marks []dialect.MarkedValue
	// Referrers are the foreign keys of other tables that refer to the target.
	Referrers []db.Reference
	// Preview stops when it is known what would happen, and rolls back.
	Preview bool
	// Show is how many changed rows are shown.
	Show int
	// Mind is called with the number of changes before anything is changed, and may end the
	// load. Keep writes them down, with the rows as they were. Both may be nil.
	Mind func(ctx context.Context, changes int64) error
	Keep func(ctx context.Context, query string, columns []db.Column) error
}

// A ChangedRow is a row that a merge changes.
type ChangedRow struct {
	Key     []*string  `json:"key"`
	Columns []Replaced `json:"columns"`
}

// Replaced is a value that becomes another; nil is null.
type Replaced struct {
	Column string  `json:"column"`
	Old    *string `json:"old"`
	New    *string `json:"new"`
}

// merging is a merge under way.
type merging struct {
	*Merge
	r      *run
	m      db.Merger
	sql    dialect.Merge
	loose  []bool
	counts map[dialect.Change]int64
	// before is how many rows the table had, restRows how many of them no record is about,
	// and rest what those come to.
	before   int64
	restRows int64
	rest     []tally.Tally
	// first is rest before rows were deleted or marked; old and made are what the rows come
	// to that change, as they were and as they become; staged what all records come to.
	first, old, made, staged []tally.Tally
	removed                  []int64 // numbers in the stage of rows that were taken out, in order
	gaps                     bool    // the numbers are not one by one
	refused                  map[int64]sink.Refusal
	shown                    []ChangedRow
	// fresh and gone are the keys of the first rows that are new, and that the sources do not
	// have.
	fresh, gone [][]*string
	// leaning is what the rows came to that refer to the table, before anything was changed.
	leaning []string
	// affected is how many rows the statements say that they have inserted or changed.
	affected int64
}

// stage makes the stage of a merge, into which the load then goes.
func (r *run) stage(ctx context.Context) (err error) {
	m, is := r.job.Session.(db.Merger)
	if !is {
		return fmt.Errorf("%s: rows cannot be merged there", r.job.Session.Dialect().Title)
	}
	x := &merging{Merge: r.job.Merge, r: r, m: m, refused: map[int64]sink.Refusal{}}
	r.merge = x
	t := r.job.Spec.Table
	x.loose = db.LooseColumns(x.Target, t.Columns)
	x.sql = dialect.Merge{Dialect: r.job.Session.Dialect(), Key: x.Key,
		Table: r.job.Session.Dialect().Qualified(x.Target.Schema, x.Target.Name)}
	for i, c := range t.Columns {
		if x.loose[i] {
			c.Type = sqltype.Type{}
		}
		x.sql.Columns = append(x.sql.Columns, c)
	}
	for _, c := range x.Target.Columns {
		x.sql.All = append(x.sql.All, c.Name)
	}
	stage, err := db.MakeStage(ctx, m, x.Target, &x.sql)
	if err != nil {
		return err
	}
	r.job.Spec.Mode = db.Append
	r.job.Spec.Stage = &db.Staged{Stage: stage, Target: x.Target}
	r.job.Spec.Table.Schema, r.job.Spec.Table.Name = stage.Schema, stage.Name
	return nil
}

func (x *merging) number(ctx context.Context, sql string) (int64, error) {
	return x.m.Within().Number(ctx, db.CannotCompare, sql)
}

func (x *merging) do(ctx context.Context, sql string) error {
	return x.m.Within().Do(ctx, db.CannotCompare, sql)
}

// took writes into the log how long a part of the merge took.
func (x *merging) took(what string) func() {
	began := time.Now()
	return func() { x.r.job.Log.Info(what, "took", time.Since(began).Round(time.Millisecond)) }
}

// settle does what the records of the stage are for, and returns the rows that do not go
// in, by their places among those that were written.
func (x *merging) settle(ctx context.Context) ([]sink.Refusal, error) {
	x.r.Report("comparing")
	defer x.took("settled")()
	if err := x.m.Ready(ctx, &x.sql); err != nil {
		return nil, err
	}
	if x.Missing != tray.MissingKept {
		if err := x.m.Seek(ctx, &x.sql); err != nil {
			return nil, err
		}
	}
	out, err := x.twice(ctx)
	if err != nil {
		return nil, err
	}
	if err := x.find(ctx); err != nil {
		return nil, err
	}
	if x.Missing == tray.MissingDeleted && x.counts[dialect.Gone] > 0 {
		if err := x.m.Within().ReferredTo(ctx, x.Referrers, x.sql.Table, x.sql.Absent()); err != nil {
			return nil, err
		}
	}
	if x.Preview {
		return out, x.show(ctx)
	}
	if err := x.bounded(int64(len(out))); err != nil {
		return nil, err
	}
	if x.Mind != nil {
		if err := x.Mind(ctx, x.total()); err != nil {
			return nil, err
		}
	}
	if err := x.tallies(ctx); err != nil {
		return nil, err
	}
	x.first = slices.Clone(x.rest)
	if x.leaning, err = x.m.Within().Leaning(ctx, x.Referrers); err != nil {
		return nil, err
	}
	x.r.Report("merging")
	if err := x.missing(ctx); err != nil {
		return nil, err
	}
	if err := x.apply(ctx); err != nil {
		return nil, err
	}
	if len(x.refused) > 0 {
		var numbers []int64
		for n := range x.refused {
			numbers = append(numbers, n)
		}
		slices.Sort(numbers)
		if err := x.stay(ctx, numbers); err != nil {
			return nil, err
		}
		places, err := x.takeOut(ctx, numbers)
		if err != nil {
			return nil, err
		}
		for i, n := range numbers {
			r := x.refused[n]
			r.Row = places[i]
			out = append(out, r)
		}
		if err := x.count(ctx); err != nil {
			return nil, err
		}
	}
	if err := cmp.Or(x.sides(ctx), x.keep(ctx), x.unmoved(ctx)); err != nil {
		return nil, err
	}
	slices.SortFunc(out, func(a, b sink.Refusal) int { return a.Row - b.Row })
	return out, nil
}

// unmoved makes sure that no rule of a foreign key has changed rows of other tables, which the
// account would say nothing of.
func (x *merging) unmoved(ctx context.Context) error {
	now, err := x.m.Within().Leaning(ctx, x.Referrers)
	if err != nil {
		return err
	}
	return db.Moved(x.Referrers, x.leaning, now)
}

// bounded ends the merge where rows that are missing would be deleted or marked for records
// that were rejected: one of them may be the row's own.
func (x *merging) bounded(twice int64) error {
	n := x.r.Records.Rejected + twice
	if x.Missing == tray.MissingKept || n == 0 {
		return nil
	}
	return &rows.TooManyRejects{Limit: 0, Of: x.r.Records, Reasons: x.r.Reasons(),
		Fate: "which rows the file does not have is not known as long as records are rejected; nothing was committed"}
}

// numbered finds out whether the rows of the stage are numbered one by one, from 1.
func (x *merging) numbered(ctx context.Context) error {
	if len(x.removed) > 0 {
		return nil // it was asked when all were there
	}
	last, err := x.number(ctx, fmt.Sprintf("SELECT coalesce(max(%s), 0) - count(*) FROM %s", x.sql.Number, x.sql.Stage))
	x.gaps = last != 0
	return err
}

const twiceReason = "its key is in more than one record"

// twice takes out records whose key stands more than once.
func (x *merging) twice(ctx context.Context) (out []sink.Refusal, err error) {
	defer x.took("looked for keys that stand twice")()
	if len(x.Key) == 0 || x.sql.Apart {
		return nil, nil
	}
	found, err := x.m.Within().Rows(ctx, "cannot look for keys that stand twice", x.sql.Twice())
	if err != nil || len(found) == 0 {
		return nil, err
	}
	list, err := x.m.Within().Rows(ctx, "cannot look for keys that stand twice", x.sql.TwiceRows(x.LastWins))
	if err != nil {
		return nil, err
	}
	var numbers []int64
	for _, r := range list {
		n, err := strconv.ParseInt(*r[0], 10, 64)
		if err != nil {
			return nil, err
		}
		numbers = append(numbers, n)
	}
	places, err := x.takeOut(ctx, numbers)
	if err != nil {
		return nil, err
	}
	for _, p := range places {
		r := sink.Refusal{Row: p, Column: x.Key[0], Message: twiceReason, Kind: twiceReason}
		if x.LastWins {
			r.Skip = tray.SkipSuperseded
		}
		out = append(out, r)
	}
	return out, nil
}

// atOnce is how many rows are named in one statement.
const atOnce = 1000

// takeOut takes rows out of the stage, and returns their places among all rows that were
// written into it.
func (x *merging) takeOut(ctx context.Context, numbers []int64) (places []int, err error) {
	if err := x.numbered(ctx); err != nil {
		return nil, err
	}
	for part := range slices.Chunk(numbers, atOnce) {
		if !x.gaps {
			for _, n := range part {
				places = append(places, int(n-1))
			}
			continue
		}
		list, err := x.m.Within().Rows(ctx, "cannot find the rows in the stage", x.sql.Ordinals(joinNumbers(part)))
		if err != nil {
			return nil, err
		}
		for _, r := range list {
			n, err := strconv.ParseInt(*r[0], 10, 64)
			if err != nil {
				return nil, err
			}
			place, err := strconv.Atoi(*r[1])
			if err != nil {
				return nil, err
			}
			// Those that were taken out before are not counted any more.
			before, _ := slices.BinarySearch(x.removed, n)
			places = append(places, place+before)
		}
	}
	if len(places) != len(numbers) {
		return nil, fmt.Errorf("%d rows of the stage are to be taken out, and %d are found", len(numbers), len(places))
	}
	for part := range slices.Chunk(numbers, atOnce) {
		for _, sql := range x.sql.Unstage(joinNumbers(part)) {
			if err := x.do(ctx, sql); err != nil {
				return nil, err
			}
		}
	}
	x.removed = append(x.removed, numbers...)
	slices.Sort(x.removed)
	return places, nil
}

func joinNumbers(numbers []int64) string {
	var b []byte
	for i, n := range numbers {
		if i > 0 {
			b = append(b, ',')
		}
		b = strconv.AppendInt(b, n, 10)
	}
	return string(b)
}

// find finds out what each record does.
func (x *merging) find(ctx context.Context) error {
	defer x.took("found what changes")()
	if err := db.FindChanges(ctx, x.m, &x.sql, x.OnlyNew); err != nil {
		return err
	}
	if x.Missing != tray.MissingKept {
		if err := x.do(ctx, x.sql.FindMissing()); err != nil {
			return err
		}
	}
	if err := x.m.Compared(ctx, &x.sql); err != nil {
		return err
	}
	return x.count(ctx)
}

// count counts the changes.
func (x *merging) count(ctx context.Context) error {
	list, err := x.m.Within().Rows(ctx, "cannot count the changes", x.sql.Counts())
	if err != nil {
		return err
	}
	x.counts = map[dialect.Change]int64{}
	for _, r := range list {
		if x.counts[dialect.Change(*r[0])], err = strconv.ParseInt(*r[1], 10, 64); err != nil {
			return err
		}
	}
	staged := x.r.Records.Loaded - int64(len(x.removed)) // which is verified behind
	x.r.job.Receipt.Merge = &tray.Merge{Key: x.Key, OnlyNew: x.OnlyNew, Inserted: x.counts[dialect.Inserted],
		Changed: x.counts[dialect.Changed], Unchanged: staged - x.counts[dialect.Inserted] - x.counts[dialect.Changed],
		Missing: x.counts[dialect.Gone], Rule: x.Missing, Columns: x.columns()}
	if x.OnlyNew {
		return x.knownOther(ctx)
	}
	if x.counts[dialect.Changed] == 0 {
		return nil
	}
	return x.countColumns(ctx)
}

// knownOther counts the records whose key is known and whose values are others: they stay out, and
// somebody has to know.
func (x *merging) knownOther(ctx context.Context) error {
	count, first := x.sql.KnownOther()
	if count == "" {
		return nil
	}
	n, err := x.number(ctx, count)
	if err != nil || n == 0 {
		return err
	}
	list, err := x.m.Within().Rows(ctx, "cannot look at known records", first)
	if err != nil {
		return err
	}
	var key []string
	for i, v := range list[0] {
		if v != nil {
			key = append(key, x.Key[i]+" "+*v)
		}
	}
	receipt := x.r.job.Receipt
	receipt.Merge.Differing = n
	receipt.Cautions = append(receipt.Cautions, profile.Finding{Weight: profile.Caution, Code: profile.CodeKnownDiffers,
		Count: n, Text: fmt.Sprintf("%s a key that the table has, and other values; the first: %s",
			map[bool]string{true: "1 record has", false: phrase.Grouped(n) + " records have"}[n == 1],
			strings.Join(key, ", ")),
		Do: "--only-new leaves their rows as they are; --mode merge changes them"})
	return nil
}

func (x *merging) columns() []tray.ChangedColumn { return []tray.ChangedColumn{} }

func (x *merging) countColumns(ctx context.Context) error {
	var counts []*string
	for _, query := range x.sql.CountColumns() {
		list, err := x.m.Within().Rows(ctx, "cannot count the changes", query)
		if err != nil {
			return err
		}
		counts = append(counts, list[0]...)
	}
	for _, c := range x.sql.Columns {
		if len(counts) == 0 {
			break
		}
		if x.sql.IsKey(c.Name) {
			continue
		}
		n, err := strconv.ParseInt(*counts[0], 10, 64)
		if err != nil {
			return err
		}
		if counts = counts[1:]; n > 0 {
			x.r.job.Receipt.Merge.Columns = append(x.r.job.Receipt.Merge.Columns, tray.ChangedColumn{Name: c.Name,
				Changed: n})
		}
	}
	return nil
}

// show reads the first rows that change, as they are and as they will be.
func (x *merging) show(ctx context.Context) error {
	if x.Show <= 0 || len(x.Key) == 0 {
		return nil
	}
	for what, to := range map[dialect.Change]*[][]*string{dialect.Inserted: &x.fresh, dialect.Gone: &x.gone} {
		if x.counts[what] == 0 {
			continue
		}
		var err error
		if *to, err = x.m.Within().Rows(ctx, "cannot read the changes", x.sql.Keys(what, x.Show)); err != nil {
			return err
		}
	}
	if x.counts[dialect.Changed] == 0 {
		return nil
	}
	were, err := x.rowsOf(ctx, x.sql.Were(x.Show))
	if err != nil {
		return err
	}
	become, err := x.rowsOf(ctx, x.sql.Become(x.Show))
	if err != nil {
		return err
	}
	if len(were) != len(become) {
		return x.m.Within().Fail("does not yield the same changes twice", nil)
	}
	for n, was := range were {
		row := ChangedRow{Columns: []Replaced{}}
		for _, k := range x.Key {
			at := slices.IndexFunc(x.sql.Columns, func(c dialect.Column) bool { return c.Name == k })
			row.Key = append(row.Key, was[at])
		}
		for i, c := range x.sql.Columns {
			was, is := was[i], become[n][i]
			if !x.sql.IsKey(c.Name) && ((was == nil) != (is == nil) || was != nil && *was != *is) {
				row.Columns = append(row.Columns, Replaced{c.Name, was, is})
			}
		}
		x.shown = append(x.shown, row)
	}
	return nil
}

// rowsOf reads rows that have the columns of the stage.
func (x *merging) rowsOf(ctx context.Context, query string) (rows [][]*string, err error) {
	var columns []db.Column
	for i, c := range x.sql.Columns {
		at := db.Column{Name: c.Name, SQL: x.r.job.Spec.Table.Columns[i].Type}
		if x.loose[i] {
			at.SQL = sqltype.Type{}
		}
		for _, f := range x.Target.Columns {
			if f.Name == c.Name {
				at.Type = f.Type
			}
		}
		columns = append(columns, at)
	}
	err = x.r.job.Session.Scan(ctx, query, columns, func(fields [][]byte) error {
		row := make([]*string, len(fields))
		for i, f := range fields {
			row[i] = textOf(f)
		}
		rows = append(rows, row)
		return nil
	})
	return rows, err
}

func textOf(b []byte) *string {
	if b == nil {
		return nil
	}
	s := string(b)
	return &s
}

// total is how many changes there are.
func (x *merging) total() (n int64) {
	for _, k := range x.counts {
		n += k
	}
	return n
}

// stay adds rows whose records were refused to those that no record is about.
func (x *merging) stay(ctx context.Context, numbers []int64) error {
	if x.OnlyNew {
		return nil // known rows are among them already
	}
	for part := range slices.Chunk(numbers, atOnce) {
		rows, known, err := x.m.TallyFrom(ctx, x.sql.KnownOf(joinNumbers(part)), x.r.job.Spec.Table.Columns, x.loose)
		if err != nil {
			return err
		}
		x.restRows += rows
		for i := range known {
			x.first[i] = merged(&x.first[i], &known[i])
			x.rest[i] = merged(&x.rest[i], &known[i])
		}
	}
	return nil
}

// merged is what two parts come to, which both stay as they are.
func merged(a, b *tally.Tally) tally.Tally {
	t := tally.Tally{Type: a.Type}
	t.Merge(a)
	t.Merge(b)
	return t
}

// keep has the changes written down, with the rows as they were.
func (x *merging) keep(ctx context.Context) error {
	defer x.took("kept the rows as they were")()
	if x.Keep == nil || x.total() == 0 {
		return nil
	}
	columns := []db.Column{{Name: dialect.ChangeWhat, SQL: sqltype.Type{Kind: sqltype.Text}}}
	return x.Keep(ctx, x.sql.Before(), append(columns, x.Target.Columns...))
}

// tallies adds up what of the table no record is about, or, where known rows stay as they
// are, all that it holds.
func (x *merging) tallies(ctx context.Context) (err error) {
	defer x.took("tallied the table before")()
	columns := x.r.job.Spec.Table.Columns
	if x.OnlyNew {
		if x.before, x.rest, err = x.m.TallyFrom(ctx, x.sql.Table+" t", columns, x.loose); err != nil {
			return err
		}
		x.restRows = x.before
		for i := range x.rest {
			x.r.typed = append(x.r.typed, !x.rest[i].Loose)
		}
		return nil
	}
	if x.before, err = x.number(ctx, "SELECT count(*) FROM "+x.sql.Table); err != nil {
		return err
	}
	m := x.r.job.Receipt.Merge
	if x.restRows = x.before - m.Changed - m.Unchanged; x.restRows == 0 {
		x.rest = x.nothing()
		return nil
	}
	rows, rest, err := x.tallyRest(ctx)
	if err != nil {
		return err
	}
	if rows != x.restRows {
		return fmt.Errorf("the table has %d rows, the records know %d of them, and %d are found that they do not "+
			"know; "+
			"is the key one?", x.before, x.before-x.restRows, rows)
	}
	x.rest = rest
	return nil
}

// tallyRest adds up what no record is about.
func (x *merging) tallyRest(ctx context.Context) (int64, []tally.Tally, error) {
	if err := x.m.Seek(ctx, &x.sql); err != nil {
		return 0, nil, err
	}
	return x.m.TallyFrom(ctx, x.sql.Rest(), x.r.job.Spec.Table.Columns, x.loose)
}

// nothing is what no rows come to.
func (x *merging) nothing() (out []tally.Tally) {
	for i, c := range x.r.job.Spec.Table.Columns {
		out = append(out, tally.Tally{Type: c.Type, Loose: x.loose[i]})
	}
	return out
}

// missing does with the rows that the sources do not have what is to be done.
func (x *merging) missing(ctx context.Context) error {
	if x.counts[dialect.Gone] == 0 {
		return nil
	}
	columns := x.r.job.Spec.Table.Columns
	switch x.Missing {
	case tray.MissingKept:
	case tray.MissingDeleted:
		if err := x.m.Within().Do(ctx, "cannot delete the rows that the file does not have",
			x.sql.DeleteMissing()); err != nil {
			return err
		}
		x.restRows, x.rest = 0, x.nothing()
	case tray.MissingMarked:
		if err := x.m.Within().Do(ctx, "cannot mark the rows that the file does not have",
			x.sql.MarkMissing(x.Marks)); err != nil {
			return err
		}
		n, err := x.number(ctx, x.sql.CountUnmarked(x.Marks))
		if err != nil {
			return err
		}
		if n > 0 {
			return &Unbalanced{[]string{phrase.Count(n, "row") +
				" that the file does not have are not marked as asked"},
				x.r.Fate()}
		}
		rows, rest, err := x.tallyRest(ctx)
		if err != nil {
			return err
		}
		var differences []string
		if rows != x.restRows {
			differences = append(differences, fmt.Sprintf("%d rows are not in the file, and %d when they are marked",
				x.restRows, rows))
		}
		for i, c := range columns {
			if slices.ContainsFunc(x.Marks, func(v dialect.MarkedValue) bool { return v.Name == c.Name }) {
				continue
			}
			for _, d := range x.rest[i].Differs(&rest[i]) {
				differences = append(differences, "column "+c.Name+" of the rows that the file does not have: "+d)
			}
		}
		if len(differences) > 0 {
			return &Unbalanced{differences, x.r.Fate()}
		}
		x.rest = rest
	}
	return nil
}

// savepoint is the name of those that parts of a merge go in under.
const savepoint = "ambertray_merge"

// apply brings all records in: in one go, or in parts where rows are refused.
func (x *merging) apply(ctx context.Context) error {
	defer x.took("brought the changes in")()
	if x.counts[dialect.Inserted]+x.counts[dialect.Changed] == 0 {
		return nil
	}
	last, err := x.number(ctx, fmt.Sprintf("SELECT coalesce(max(%s), 0) FROM %s", dialect.ChangeRow, x.sql.Changes))
	if err != nil {
		return err
	}
	refusal, err := x.try(ctx, 0, 0)
	if err != nil || refusal == nil {
		return err
	}
	if err := x.m.Divide(ctx, &x.sql); err != nil {
		return err
	}
	return x.divide(ctx, 1, last)
}

// parts is into how many parts rows are divided of which one is refused.
const parts = 16

func (x *merging) divide(ctx context.Context, lo, hi int64) error {
	size := max((hi-lo+parts)/parts, 1)
	for at := lo; at <= hi; at += size {
		end := min(at+size-1, hi)
		refusal, err := x.try(ctx, at, end)
		switch {
		case err != nil:
			return err
		case refusal == nil:
		case at < end:
			if err := x.divide(ctx, at, end); err != nil {
				return err
			}
		default:
			x.refused[at] = *refusal
			if err := x.enough(); err != nil {
				return err
			}
		}
	}
	return nil
}

// enough ends a merge of which so many rows are refused that it would not be committed.
func (x *merging) enough() error {
	of := x.r.Records
	of.Rejected += int64(len(x.refused))
	of.Loaded -= int64(len(x.refused))
	j := &x.r.job
	if x.Missing != tray.MissingKept {
		return &rows.TooManyRejects{Limit: 0, Of: of,
			Fate: "which rows the file does not have is not known as long as " +
				"records are rejected; nothing was committed", Reasons: x.reasons()}
	}
	if m := j.MaxRejects; m >= 0 && of.Rejected > m {
		return &rows.TooManyRejects{Limit: m, Reasons: x.reasons(), Fate: x.r.Fate()}
	}
	if j.MaxShare > 0 && of.Rejected > j.MaxLeast && float64(of.Rejected) > j.MaxShare*float64(of.Read) {
		return j.limited(of, x.reasons(), x.r.Fate())
	}
	return nil
}

func (x *merging) reasons() (out []tray.Reason) {
	for _, r := range x.refused {
		at := slices.IndexFunc(out, func(o tray.Reason) bool { return o.Column == r.Column && o.Reason == r.Kind })
		if at < 0 {
			out = append(out, tray.Reason{Column: r.Column, Reason: cmp.Or(r.Kind, r.Message)})
			at = len(out) - 1
		}
		out[at].Count++
	}
	slices.SortFunc(out, func(a, b tray.Reason) int { return cmp.Compare(b.Count, a.Count) })
	return out
}

// try brings records in under a savepoint. What it returns is why a row is refused; then
// none of them is in.
func (x *merging) try(ctx context.Context, lo, hi int64) (*sink.Refusal, error) {
	q, affected := x.m.Within(), int64(0)
	point, err := q.Savepoint(ctx, savepoint)
	if err != nil {
		return nil, err
	}
	for _, what := range []dialect.Change{dialect.Changed, dialect.Inserted} {
		if x.counts[what] == 0 {
			continue
		}
		n, err := x.m.Affect(ctx, x.sql.Do(what, lo, hi))
		if err == nil {
			x.affected += n
			affected += n
			continue
		}
		x.affected -= affected
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		refusal := x.m.Blames(err)
		if refusal == nil {
			return nil, q.Fail("cannot bring the rows into the table", err)
		}
		return refusal, point.Back(ctx)
	}
	return nil, point.Let(ctx)
}

// held verifies the stage against what was read, and the table against the stage; it
// returns what the table holds.
func (x *merging) held(ctx context.Context) (count int64, columns []tally.Tally, differences []string, err error) {
	r := x.r
	staged, stage, differences, err := r.stageHolds(ctx)
	if err != nil {
		return 0, nil, nil, err
	}
	if staged != r.Records.Loaded {
		differences = append(differences, fmt.Sprintf("%d records are to be merged, and the stage has %d",
			r.Records.Loaded, staged))
	}
	for i := range r.Total {
		for _, d := range r.Total[i].Differs(&stage[i]) {
			differences = append(differences, "column "+r.job.Spec.Table.Columns[i].Name+" of the stage: "+d)
		}
	}
	if err := x.same(ctx, staged, &differences); err != nil {
		return 0, nil, nil, err
	}
	if x.OnlyNew {
		known := r.Records.Loaded - x.counts[dialect.Inserted]
		r.Records.Loaded -= known
		r.Records.Skipped += known
		r.Pass(tray.SkipKnown, known)
		rows, loaded, err := x.m.TallyFrom(ctx, x.sql.NewRows(), r.job.Spec.Table.Columns, x.loose)
		if err != nil {
			return 0, nil, nil, err
		}
		if rows != x.counts[dialect.Inserted] {
			differences = append(differences, fmt.Sprintf("%d records are new, and %d were found",
				x.counts[dialect.Inserted],
				rows))
		}
		r.Total = loaded
	}
	r.before, r.job.Receipt.Table.Before = x.rest, x.before
	defer x.took("tallied the table")()
	if x.OnlyNew {
		count, columns, err = x.m.TallyFrom(ctx, x.sql.Table+" t", r.job.Spec.Table.Columns, x.loose)
		return count, columns, differences, err
	}
	// Each record of the stage is equal to its row, as was found, so that the table comes to
	// what they and the others come to.
	if count, err = x.number(ctx, "SELECT count(*) FROM "+x.sql.Table); err != nil {
		return 0, nil, nil, err
	}
	others := x.nothing()
	if count > staged {
		if _, others, err = x.tallyRest(ctx); err != nil {
			return 0, nil, nil, err
		}
	}
	x.staged = stage
	for i := range others {
		others[i] = merged(&others[i], &stage[i])
	}
	return count, others, differences, nil
}

// same makes sure that each record of the stage is equal to its row.
func (x *merging) same(ctx context.Context, staged int64, differences *[]string) error {
	defer x.took("compared the records with their rows")()
	if len(x.Key) == 0 {
		return nil // what is new is told by its number, and by what the table comes to
	}
	want, done := staged, x.counts[dialect.Inserted]+x.counts[dialect.Changed]
	if x.affected != done {
		*differences = append(*differences, fmt.Sprintf("%s are new or changed, and the database says that it has "+
			"inserted or changed %s", phrase.Count(done, "record"), phrase.Count(x.affected, "row")))
	}
	// Where nothing but our own statements changes rows, those that were the same before
	// still are.
	same := int64(0)
	if x.OnlyNew || x.sql.Quiet {
		want = done
		for _, what := range []dialect.Change{dialect.Changed, dialect.Inserted} {
			if x.counts[what] == 0 {
				continue
			}
			n, err := x.number(ctx, x.sql.CountDone(what))
			if err != nil {
				return err
			}
			same += n
		}
	} else {
		var err error
		if same, err = x.number(ctx, x.sql.CountSame()); err != nil {
			return err
		}
	}
	if same != want {
		*differences = append(*differences,
			fmt.Sprintf("%s of %s are in the table as they are in the file; a trigger, or "+
				"the type of a column, may change values", phrase.Grouped(same), phrase.Count(want, "record")))
	}
	return nil
}

// stageHolds tells what the stage holds, and whether that is known by checksums.
func (r *run) stageHolds(ctx context.Context) (int64, []tally.Tally, []string, error) {
	defer r.merge.took("verified the stage")()
	before := r.before
	r.before = nil
	defer func() { r.before = before }()
	rows, columns, differences, err := r.held(ctx)
	r.job.Receipt.Table.Checksums = r.job.Receipt.Table.Checksums && len(r.merge.Key) > 0
	return rows, columns, differences, err
}

// restRows is how many rows a table has beside those that are loaded.
func (r *run) restRows() int64 {
	if r.merge != nil {
		return r.merge.restRows
	}
	return r.job.Receipt.Table.Before
}

// sides adds up the rows that change: as they were, and as they become.
func (x *merging) sides(ctx context.Context) (err error) {
	columns := x.r.job.Spec.Table.Columns
	if x.old, x.made = x.nothing(), x.nothing(); x.OnlyNew {
		return nil
	}
	add := func(to []tally.Tally, from string) error {
		_, part, err := x.m.TallyFrom(ctx, from, columns, x.loose)
		for i := range part {
			to[i].Merge(&part[i])
		}
		return err
	}
	if x.counts[dialect.Changed] > 0 {
		if err := cmp.Or(add(x.old, x.sql.OldRows()), add(x.made, x.sql.ChangedRows())); err != nil {
			return err
		}
	}
	if x.counts[dialect.Inserted] > 0 {
		return add(x.made, x.sql.NewRows())
	}
	return nil
}

// wasBefore is what the table held before a merge: the rows that no record is about, and
// those of the records, with the values that they had.
func (x *merging) wasBefore(i int) *tray.Facts {
	t := tally.Tally{Type: x.first[i].Type}
	t.Merge(&x.first[i])
	t.Merge(&x.staged[i])
	t.Subtract(&x.made[i])
	t.Merge(&x.old[i])
	f := tray.FactsOf(&t)
	f.Smallest, f.Largest = "", "" // which no difference tells
	return &f
}

// A Preview is what a merge would do.
type Preview struct {
	Records tray.Records
	Skipped []tray.Skip
	Reasons []tray.Reason
	Merge   *tray.Merge
	// Before is how many rows the table has.
	Before int64
	First  []ChangedRow
	// New and Gone are keys of the first rows that are new, and that the file does not have.
	New, Gone [][]*string
}

// errPreviewed ends a load that is only to be looked at.
var errPreviewed = errors.New("this was a dry run")

// PreviewMerge finds out what a merge would do, and does nothing. The rows that the
// database itself would refuse are only known when they go in.
func PreviewMerge(ctx context.Context, job Job) (*Preview, error) {
	job.Merge.Preview = true
	out := &Preview{}
	job.previewed = func(r *run) error {
		var err error
		out.Records, out.Skipped, out.Reasons = r.Records, r.Skips(), r.Reasons()
		out.Merge, out.First = job.Receipt.Merge, r.merge.shown
		out.New, out.Gone = r.merge.fresh, r.merge.gone
		if out.Merge.OnlyNew {
			out.Records.Loaded -= out.Merge.Unchanged
			out.Records.Skipped += out.Merge.Unchanged
			out.Skipped = append(out.Skipped, tray.Skip{Kind: tray.SkipKnown, Count: out.Merge.Unchanged})
		}
		out.Before, err = r.merge.number(ctx, "SELECT count(*) FROM "+r.merge.sql.Table)
		return err
	}
	err := Run(ctx, job)
	if errors.Is(err, errPreviewed) {
		err = nil
	}
	return out, err
}

// KeyOf says how the key of a row is written in a message.
func KeyOf(key []*string) string {
	var out []string
	for _, k := range key {
		if k == nil {
			out = append(out, "null")
			continue
		}
		out = append(out, reading.Shorten(*k, 40))
	}
	return strings.Join(out, ", ")
}
