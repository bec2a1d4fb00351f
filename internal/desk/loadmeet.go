package desk

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ambertray/internal/db"
	"ambertray/internal/db/connect"
	"ambertray/internal/db/dialect"
	"ambertray/internal/match"
	"ambertray/internal/phrase"
)

// What a load does when it meets the database, and the table that is there.

// connectOrMake connects. Where the server does not have the database, it asks whether
// to make it.
func (l *loading) connectOrMake(ctx context.Context, why purpose) (db.Session, error) {
	r := l.req
	conn, err := l.connect(ctx, r.Into, why)
	var no *db.Error
	if !errors.As(err, &no) || !no.Missing || l.Ask == nil || why != toLoad || r.destination() != intoNew {
		return conn, err
	}
	if err := l.confirm(ctx, Question{Code: MakesDatabase, Answer: "say --create-database",
		Ask: l.answer.Into + ": the server does not have this database; is it to be created?"}); err != nil {
		return nil, err
	}
	r.Into.Create = true
	l.tell(NoteEvent{"taken: --create-database"})
	return l.connect(ctx, r.Into, why)
}

// toBeMade reports whether the database is a file that the load would make.
func (l *loading) toBeMade() bool {
	d := connect.Of(l.req.Into.URL)
	return d != nil && d.File && l.req.destination() == intoNew && !FileExists(connect.File(l.req.Into.URL))
}

// where names the table in a message.
func (l *loading) where() string {
	t := l.in.Plan.Table
	return fmt.Sprintf("%s: the table %s", l.answer.Into, db.Qualified(t.Schema, t.Name))
}

// takesRows stops where the table takes no rows at all.
func (l *loading) takesRows(ctx context.Context) error {
	x, is := l.conn.(db.Refuser)
	if !is || l.found == nil {
		return nil
	}
	what, do, err := x.Refuses(ctx, l.found)
	if err == nil && what != "" {
		err = need("%s %s\n  %s; nothing was changed", l.where(), what, do)
	}
	return err
}

// watch tells, unless what it returns is called soon, that another session has to be
// waited for.
func (l *loading) watch(ctx context.Context) (done func()) {
	return db.Watch(ctx, l.conn, func(w db.Wait) { l.waits(l.where(), w, l.req.Into) })
}

// meet connects, and sees whether the table is there as the mode wants it.
func (l *loading) meet(ctx context.Context) (err error) {
	r := l.req
	why := toLoad
	if r.DryRun {
		why = toRead
	}
	if l.conn == nil { // else it is that of a set
		if l.conn, err = l.connectOrMake(ctx, why); err != nil {
			return err
		}
	}
	if err := l.protected(ctx); err != nil {
		return err
	}
	defer l.watch(ctx)()
	def := l.in.Plan.Definition()
	check := checkNames
	if r.Mode.New() && r.Like == "" {
		check = checkTable
	}
	if err := check(l.conn.Dialect(), def); err != nil {
		return err
	}
	if !r.DryRun {
		if err := l.hold(ctx, l.conn, db.Name{Schema: def.Schema, Table: def.Name}, r.Into); err != nil {
			return err
		}
	}
	if l.found, err = l.conn.Find(ctx, def.Schema, def.Name); err != nil {
		return err
	}
	switch {
	case r.Mode == db.Create && l.found != nil:
		rows, err := l.conn.Count(ctx, l.found)
		if r.Join != "" && (err != nil || rows == 0) {
			free, asked := l.free(ctx)
			if free {
				l.found = nil
				return l.met(ctx, def)
			}
			err = cmp.Or(err, asked)
		}
		if err != nil {
			return err
		}
		return need("%s exists already, with %s\n  "+
			"choose another name with --table, or say --mode append, merge, refill or replace; nothing was changed",
			l.where(),
			phrase.Count(rows, "row"))
	case !r.Mode.New() && l.found == nil:
		return need("%s does not exist\n  check the name and --schema, or create it with --mode create", l.where())
	}
	return l.met(ctx, def)
}

// met goes on where the table is as the mode wants it.
func (l *loading) met(ctx context.Context, def dialect.Table) error {
	r := l.req
	if err := l.takesRows(ctx); err != nil {
		return err
	}
	if err := l.survey(ctx); err != nil {
		return err
	}
	if err := l.keepLedger(ctx); err != nil {
		return err
	}
	if r.Mode == db.Append && !r.Again && !r.OnlyNew {
		if err := l.notAgain(ctx); err != nil {
			return err
		}
	}
	if l.nothing() {
		return nil
	}
	l.job.Session = l.conn
	l.job.Spec = db.Spec{Mode: r.Mode, Table: def, SlowPath: r.SlowPath, FileRows: r.FileRows, MakeSchema: r.MakeSchema,
		Lanes: r.Lanes, Bytes: l.in.Size()}
	switch {
	case r.Mode == db.Refill:
		l.job.Spec.Referrers = l.around.Referrers
	case r.Mode == db.Replace && r.KeepAttached:
		l.job.Spec.Again = l.around.Again
	}
	if _, is := l.conn.(db.Merger); r.KeepOld && !is {
		return need("--keep-old: %s cannot do that yet\n  copy the table before", l.conn.Dialect().Title)
	}
	l.like = l.found
	return l.meetLike(ctx)
}

// meetLike sees whether the table is there whose structure the new one takes.
func (l *loading) meetLike(ctx context.Context) error {
	r, def := l.req, l.in.Plan.Definition()
	if r.Like == "" {
		return nil
	}
	name := db.Name{Schema: def.Schema, Table: r.Like}
	if s, t, ok := strings.Cut(r.Like, "."); ok {
		name = db.Name{Schema: s, Table: t}
	}
	like, err := l.conn.Find(ctx, name.Schema, name.Table)
	if err != nil {
		return err
	}
	if like == nil {
		return need("--like: the table %s does not exist", r.Like)
	}
	l.job.Spec.Like = &name
	copied := *like
	copied.Schema, copied.Name = def.Schema, def.Name
	l.like = &copied
	return nil
}

// mapped pairs the columns of file and table, and stops where that cannot be.
func (l *loading) mapped(ctx context.Context) error {
	r, in := l.req, l.in
	key := in.Plan.Table.Key
	if !r.merges() && len(r.Wishes.Key) > 0 && len(key) > 0 &&
		!slices.EqualFunc(key, l.like.PrimaryKey(), strings.EqualFold) {
		return need("--key %s: the table %s exists, and that is not its primary key; a load makes none\n  "+
			"leave --key out, or give the table this key first", strings.Join(r.Wishes.Key, ","), l.like.Name)
	}
	defer l.watch(ctx)()
	m, err := match.Map(ctx, in.Sources, in.Plan, l.like,
		match.MapOptions{ByPosition: r.ByPosition, KeepIdentity: r.KeepIdentity, Tolerate: l.tolerate,
			Profile: in.Profile, Dialect: l.conn.Dialect(), Widen: r.Widen, Merges: r.Mode == db.Merge})
	if err != nil {
		return err
	}
	a := &MappingAnswer{Document: document("mapping"), DryRun: r.DryRun && !r.merges(), Schema: l.like.Schema,
		Table:   l.like.Name,
		Blocked: m.Blocked(), Mapping: list(m.Pairings),
		Source: in.First().Name, State: "a new table like " + r.Like}
	if r.Like == "" {
		if l.rowsBefore, err = l.conn.Count(ctx, l.found); err != nil {
			return err
		}
		a.State = phrase.Count(l.rowsBefore, "row")
	}
	if r.DryRun && !r.merges() {
		l.answer.Mapping = a
	} else {
		l.tell(MappedEvent{a})
	}
	if m.Blocked() {
		what := fmt.Sprintf("%s: nothing was loaded; these differences are blocking%s", in.First().Name, m.Summary())
		if !r.ByPosition && m.NoneNamed() {
			what = fmt.Sprintf("%s: nothing was loaded; none of its columns has a name of the table's\n  if they "+
				"stand in the table's order, say --by-position; else name them in a plan", in.First().Name)
		}
		if share := m.Tolerable(); share != "" {
			how := "say --tolerate " + share
			if in.Given {
				how = "write 'tolerate: " + share + "' into the plan"
			}
			what += "\n  mend the file, or " + how + ": then the others are loaded, and these records become rejects"
		}
		return need("%s", what)
	}
	if err := l.mergeWith(ctx, m); err != nil {
		return err
	}
	l.cautions = append(l.cautions, notAsTable(m.Pairings)...)
	l.job.Plan, l.job.Spec.Table, l.job.Spec.Alter = m.Plan, m.Plan.Definition(), m.Alter
	if err := l.refersToLoaded(); err != nil {
		return err
	}
	for i := range l.job.Spec.Table.Columns {
		l.job.Spec.Table.Columns[i].Comment = ""
	}
	return nil
}

// confirmed asks before a table with rows is emptied or dropped.
func (l *loading) confirmed(ctx context.Context) error {
	q := Question{Code: EmptiesTable, Answer: "say --yes if that is meant"}
	what := "emptied"
	switch {
	case l.found == nil || l.req.Yes:
		return nil
	case l.req.Mode == db.Replace:
		q.Code, what = ReplacesTable, "dropped"
	case l.req.Mode != db.Refill:
		return nil
	}
	q.Ask = fmt.Sprintf("%s, with %s, will be %s and loaded anew", l.where(), phrase.Count(l.rowsBefore, "row"), what)
	if l.req.Mode == db.Replace && len(l.around.Goes) > 0 {
		q.Evidence = []string{"with it go: " + strings.Join(l.around.Goes, "; ")}
	}
	if err := l.confirm(ctx, q); err != nil {
		return err
	}
	l.tell(NoteEvent{"taken: --yes"})
	return nil
}
