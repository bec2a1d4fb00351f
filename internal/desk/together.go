package desk

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ambertray/internal/db"
	"ambertray/internal/db/connect"
	"ambertray/internal/tray"
)

// A loadSet is several loads in one transaction: all of them are committed, or none.
type loadSet struct {
	loads []*loading
	conn  db.Session
	// deferred tells that foreign keys are looked at when all rows are in.
	deferred bool
}

// planSet are the inputs of several plans that stand behind each other; is tells whether
// they are.
func planSet(in Input) (inputs []Input, is bool) {
	if len(in.Names) < 2 {
		return nil, false
	}
	for _, name := range in.Names {
		if !IsPlan(name) {
			return nil, false
		}
		one := in
		one.Names = []string{name}
		inputs = append(inputs, one)
	}
	return inputs, true
}

// loadTogether loads several tables in one transaction.
func (d *Desk) loadTogether(ctx context.Context, r LoadRequest, inputs []Input) (*LoadAnswer, error) {
	answer := &LoadAnswer{Into: connect.Redact(r.Into.URL), Each: []*LoadAnswer{}}
	if err := togetherGoes(&r); err != nil {
		return answer, err
	}
	s := &loadSet{}
	defer func() {
		if s.conn != nil {
			s.conn.Close()
		}
	}()
	for _, in := range inputs {
		one := r
		one.Input = in
		l := &loading{Desk: d, req: &one, conn: s.conn, answer: &LoadAnswer{Into: answer.Into, at: r.Into,
			prove: r.Prove, set: s}}
		answer.Each = append(answer.Each, l.answer)
		ready, err := l.prepare(ctx)
		if s.conn == nil {
			s.conn = l.conn
		}
		if err != nil {
			return answer, err
		}
		if ready {
			s.loads = append(s.loads, l)
		}
	}
	if len(s.loads) == 0 {
		return answer, nil // a dry run, or nothing is new
	}
	if err := s.order(ctx); err != nil {
		return answer, err
	}
	answer.Each = slices.DeleteFunc(answer.Each, func(a *LoadAnswer) bool { return a.Nothing == nil })
	for _, l := range s.loads {
		answer.Each = append(answer.Each, l.answer)
	}
	return answer, s.run(ctx)
}

// togetherGoes refuses what cannot be in one transaction with others.
func togetherGoes(r *LoadRequest) error {
	d := connect.Of(r.Into.URL)
	switch {
	case d != nil && !d.Together:
		return need("several plans: %s cannot have them in one transaction yet\n  load them one by one", d.Title)
	case d != nil && d.AtOnce && r.KeepOld:
		return need("--keep-old: %s commits definitions at once\n  load the plans one by one", d.Title)
	case r.Every > 0:
		return need("--commit-every: several plans are committed together\n  leave it out, or load them one by one")
	case r.Wishes.Table != "":
		return need("--table %s: the name of one table, and there are several plans\n  leave it out: each names "+
			"its own",
			r.Wishes.Table)
	}
	return nil
}

// order puts the loads such that tables come before those that refer to them.
func (s *loadSet) order(ctx context.Context) error {
	before := map[*loading][]*loading{} // those that have to come before one
	for _, l := range s.loads {
		t := l.in.Plan.Table
		if slices.ContainsFunc(s.loads, func(o *loading) bool { return o != l && o.is(t.Schema, t.Name) }) {
			return need("two plans load into the table %s; load them one by one, or name both files behind one plan",
				db.Qualified(t.Schema, t.Name))
		}
		for _, ref := range l.in.Plan.Definition().References {
			for _, o := range s.loads {
				if o != l && o.is(ref.Schema, ref.Table) {
					before[l] = append(before[l], o)
				}
			}
		}
		survey, is := s.conn.(db.Surveyor)
		if !is || l.found == nil {
			continue
		}
		around, err := survey.Around(ctx, l.found)
		if err != nil {
			return err
		}
		for _, ref := range around.Referrers {
			for _, o := range s.loads {
				if o != l && o.is(ref.Schema, ref.Table) {
					before[o] = append(before[o], l)
				}
			}
		}
	}
	var sorted []*loading
	for len(sorted) < len(s.loads) {
		at := slices.IndexFunc(s.loads, func(l *loading) bool {
			return !slices.Contains(sorted, l) && !slices.ContainsFunc(before[l],
				func(o *loading) bool { return !slices.Contains(sorted, o) })
		})
		if at < 0 {
			circle := slices.DeleteFunc(slices.Clone(s.loads), func(l *loading) bool {
				return slices.Contains(sorted,
					l)
			})
			if err := s.circle(ctx, circle); err != nil {
				return err
			}
			sorted = append(sorted, circle...)
			break
		}
		sorted = append(sorted, s.loads[at])
	}
	s.loads = sorted
	return nil
}

// circle sees whether tables that refer to each other can be loaded in whatever order, since
// their foreign keys can wait.
func (s *loadSet) circle(ctx context.Context, loads []*loading) error {
	var names []string
	var tables []db.Name
	made := false
	for _, l := range loads {
		t := l.in.Plan.Table
		names, tables = append(names, t.Name), append(tables, db.Name{Schema: t.Schema, Table: t.Name})
		made = made || l.req.Mode.New()
	}
	refuse := func(why string) error {
		return need("the tables %s refer to each other in a circle, so that none can be loaded first%s; nothing was "+
			"changed", strings.Join(names, ", "), why)
	}
	d, is := s.conn.(db.Deferrer)
	switch {
	case made:
		return refuse(", and a table can only refer to one that is there")
	case !is:
		return refuse(", and foreign keys cannot wait in " + s.conn.Dialect().Title)
	}
	cannot, err := d.Defers(ctx, tables)
	if err != nil {
		return err
	}
	if len(cannot) > 0 {
		return refuse(": these keys would have to be deferrable: " + strings.Join(cannot, "; "))
	}
	s.deferred = true
	s.loads[0].tell(NoteEvent{"the tables " + strings.Join(names, ", ") + " refer to each other in a circle: their " +
		"foreign keys are looked at before the commit, and a row that refers to nothing ends the load"})
	return nil
}

// is reports whether the load goes into a table.
func (l *loading) is(schema, name string) bool {
	t := l.in.Plan.Table
	return strings.EqualFold(t.Name, name) && (schema == "" || t.Schema == "" || strings.EqualFold(t.Schema, schema))
}

// run loads all, and commits.
func (s *loadSet) run(ctx context.Context) (err error) {
	group, is := s.conn.(db.Grouper)
	if !is {
		return fmt.Errorf("%s cannot have several loads in one transaction", s.conn.Dialect().Title)
	}
	if err := group.BeginTogether(ctx); err != nil {
		return err
	}
	defer group.RollbackTogether()
	if s.deferred {
		if err := s.conn.(db.Deferrer).Defer(ctx); err != nil {
			return err
		}
	}
	for i, l := range s.loads {
		if err = l.run(ctx); err != nil {
			return s.failed(s.loads[:i], l, err)
		}
	}
	offer(ctx, s.conn, s.loads...)
	var names []string
	for _, l := range s.loads {
		names = append(names, l.answer.Entry.Name)
	}
	for _, l := range s.loads {
		r := l.answer.Receipt
		r.Together = slices.DeleteFunc(slices.Clone(names), func(n string) bool { return n == r.Entry })
		if err := l.answer.Entry.PrepareReceipt(r); err != nil {
			return s.failed(s.loads, nil, err)
		}
	}
	if err := group.CommitTogether(ctx); err != nil {
		var left *db.Left
		if errors.As(err, &left) {
			return errors.Join(err, s.settle(ctx, names))
		}
		if db.IsUnsure(err) {
			return fmt.Errorf("%w\n  'ambertray verify' settles each: %s", err, strings.Join(names, ", "))
		}
		return s.failed(s.loads, nil, err)
	}
	return s.settle(ctx, names)
}

// settle gives the receipts their names, when all is committed.
func (s *loadSet) settle(ctx context.Context, names []string) (err error) {
	for _, l := range s.loads {
		l.job.Log.Info("committed together", "entries", names)
		l.toldOffers()
		err = errors.Join(err, l.answer.Entry.Settle(tray.ReceiptFile))
	}
	// What the marks left is taken away when all papers know what they would say.
	asked, is := s.conn.(db.Outcomer)
	for _, l := range s.loads {
		if r := l.answer.Receipt; is && err == nil && r.Mark != "" {
			asked.Settled(ctx, r.Table.Schema, r.Mark)
		}
	}
	return err
}

// failed notes of loads that were done that they are not committed, since another failed.
func (s *loadSet) failed(done []*loading, by *loading, err error) error {
	why := "the commit failed: " + err.Error()
	if by != nil {
		why = fmt.Sprintf("the load into %s, in the same transaction, failed", by.in.Plan.Table.Name)
	}
	for _, l := range done {
		r := l.answer.Receipt
		r.Verdict, r.Error, r.Finished = tray.Failed, why, now()
		l.answer.Entry.DropBefore()
		if err2 := errors.Join(l.answer.Entry.Drop(), l.answer.Entry.WriteReceipt(r)); err2 != nil {
			l.job.Log.Error("the receipt could not be written", "error", err2)
		}
		l.job.Log.Error("failed", "error", why)
	}
	if len(done) > 0 && by != nil {
		err = fmt.Errorf("%w\n  nothing of the other tables was committed, either", err)
	}
	return err
}
