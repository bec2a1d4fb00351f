package desk

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"ambertray/internal/db"
	"ambertray/internal/db/connect"
	"ambertray/internal/db/dialect"
	"ambertray/internal/match"
	"ambertray/internal/phrase"
	"ambertray/internal/plan"
	"ambertray/internal/profile"
	"ambertray/internal/reading"
	"ambertray/internal/rows"
	"ambertray/internal/source"
)

// What a load does before it meets the database: files, plan, evidence.

// open opens what is loaded, and makes sure that nothing is left open.
func (l *loading) open(ctx context.Context) (err error) {
	l.req.Input.into = l.req.destination()
	l.req.Input.Options.Again = true
	if l.in, err = l.Desk.settled(ctx, l.req.Input, opening{}); err != nil {
		return err
	}
	in := l.in
	if err := in.decided(); err != nil {
		return err
	}
	if in.Profile != nil && in.Profile.Records == 0 {
		return fmt.Errorf("%s: has a header and no records\n  "+
			"there is nothing to load; the definition alone comes with 'ambertray ddl'", in.First().Name)
	}
	if l.tolerate, err = in.tolerate(l.req.Options.Tolerate); err != nil {
		return err
	}
	l.cautions = nil
	if in.Given {
		if err := l.compare(ctx); err != nil {
			return err
		}
	}
	if _, err := plan.Bind(in.Plan, in.Sources[:1]); err != nil {
		return err
	}
	if l.req.Prove && slices.ContainsFunc(in.Sources, (*source.Source).Flows) {
		return need("--prove: it reads the source once more, and this pipe can be read once\n  write it to a file " +
			"first")
	}
	l.asked, in.Plan.Sources = in.Plan.Sources, nil
	for _, s := range in.Sources {
		in.Plan.Sources = append(in.Plan.Sources, plan.FromLayout(s))
	}
	if l.req.Limit == UsualLimit {
		// Whoever accepts more, by a share or by name, need not say it twice.
		l.req.Limit.Share = max(UsualLimit.Share, l.tolerate)
		if l.req.AcceptChanges {
			l.req.Limit = RejectLimit{Count: -1}
		}
	}
	l.job.Job = rows.Job{Sources: in.Sources, Plan: in.Plan, MaxRejects: l.req.Limit.Count,
		Habits: true}
	if l.req.Limit.Share > 0 && !slices.ContainsFunc(in.Sources, (*source.Source).Flows) {
		l.job.Hopeless = hopeless // a pipe may be one that is in already, which only all of it tells
	}
	l.job.MaxShare, l.job.MaxLeast, l.job.Every = l.req.Limit.Share, l.req.Limit.Least, l.req.Every
	return nil
}

// hopeless is how many records are read if all are rejected, where a share of them
// would be too many.
const hopeless = 10_000

// foundOut tells what was decided from the evidence.
func (l *loading) foundOut() {
	if l.req.destination() == intoTable && !l.in.Given {
		// The table tells whether they are names: they are its own, or block the load.
		l.in.Profile.Findings = slices.DeleteFunc(l.in.Profile.Findings,
			func(f profile.Finding) bool { return f.Code == profile.CodeHeaderUndecided })
	}
	l.decided, l.doubts = l.Desk.found(l.in, l.req.destination())
	l.decided = append(l.decided, l.ofDefinition()...)
	l.cautions = append(l.cautions, l.doubts...)
	if l.req.destination() == intoNew {
		l.cannot()
	}
	if len(l.hung) > 0 {
		l.tell(FoundEvent{l.where(), nil, l.hung})
		for _, f := range l.hung {
			if f.Weight == profile.Caution {
				l.cautions = append(l.cautions, f)
			}
		}
	}
}

// ofDefinition tells what the database's definition of a new table makes of the plan's.
func (l *loading) ofDefinition() (out []string) {
	d := connect.Of(l.req.Into.URL)
	if d == nil || l.req.destination() != intoNew {
		return nil
	}
	def := l.in.Plan.Definition()
	if fitted := d.Fitted(def); len(fitted) > 0 {
		out = append(out, "a row has no room for all columns as they are, so that these get another type: "+
			strings.Join(fitted, ", "))
	}
	if d.Compares != "" && slices.ContainsFunc(def.Columns, func(c dialect.Column) bool { return c.Type.IsText() }) {
		out = append(out, "texts are compared "+d.Compares)
	}
	if len(out) > 0 {
		l.tell(NoteEvent{d.Title + ": " + strings.Join(out, "; ")})
	}
	return out
}

// protected finds out how the connection is protected, and says where it leaves this
// machine without.
func (l *loading) protected(ctx context.Context) error {
	p, err := protection(ctx, l.conn)
	if err != nil || p == nil {
		return err
	}
	l.connection = p.String()
	const full = "sslmode=verify-full and sslrootcert=FILE in the URL ask for it, and check the server"
	switch {
	case p.Local:
	case p.TLS == "":
		l.hung = append(l.hung, profile.Finding{Weight: profile.Caution, Code: profile.CodeNotEncrypted,
			Text: "the connection is not encrypted: others on its way can read and change what goes over it",
			Do:   "let the server offer TLS; " + full})
	case !p.Certificate:
		l.hung = append(l.hung, profile.Finding{Weight: profile.Note, Code: profile.CodeNotVerified,
			Text: "the connection is encrypted (" + p.TLS + "), and nothing proves which server is at its end",
			Do:   full})
	}
	return nil
}

// protection is how a session's connection is protected, or nil: it has none.
func protection(ctx context.Context, conn db.Session) (*db.Protection, error) {
	g, is := conn.(db.Guarded)
	if !is {
		return nil, nil
	}
	p, err := g.Protection(ctx)
	return &p, err
}

// noEmptyTexts makes nulls of empty texts, and says so, where the database keeps none.
func (l *loading) noEmptyTexts() {
	d := connect.Of(l.req.Into.URL)
	if d == nil || !d.EmptyIsNull {
		return
	}
	for i := range l.in.Plan.Columns {
		c := &l.in.Plan.Columns[i]
		if c.KeepEmpty == "" || c.KeepEmpty == "none" || !c.SQLType().IsText() {
			continue
		}
		c.NoEmpty = true
		do := "load into a database that tells them apart, or mark them in the file"
		if c.Required {
			do = "the column is required, so that such records are rejected: give it a default in the plan, " +
				"or " + do
		}
		l.hung = append(l.hung, profile.Finding{Weight: profile.Caution, Code: profile.CodeNotInDatabase,
			Column: c.Name, Text: "empty texts go in as nulls: " + d.Title + " keeps none", Do: do})
	}
}

// cannot finds what the columns of a new table cannot do in this database.
func (l *loading) cannot() {
	d := connect.Of(l.req.Into.URL)
	if d == nil || d.Cannot == nil {
		return
	}
	for _, c := range l.in.Plan.Definition().Columns {
		if what, do := d.Cannot(c); what != "" {
			l.hung = append(l.hung, profile.Finding{Weight: profile.Caution, Code: profile.CodeNotInDatabase,
				Column: c.Name, Text: what, Do: do})
		}
	}
}

// firstLine makes sure that a first line was not taken for names where columns are
// paired by position, and the names are not looked at: it may be a record.
func (l *loading) firstLine(ctx context.Context) error {
	r, in := l.req, l.in
	if in.Given || r.Known.Header != nil || slices.ContainsFunc(in.Sources, (*source.Source).Flows) {
		return nil
	}
	records, unsure := 0, []string{}
	named, other := "", "" // a source of either
	lines := map[int64]bool{}
	for _, s := range in.Sources {
		if s.Layout.Header == 0 {
			continue
		}
		lines[s.Layout.Header] = true
		first := match.First(s, in.Plan, l.like, match.MapOptions{KeepIdentity: r.KeepIdentity})
		if first == match.Names {
			named = s.Name
			continue
		}
		if other = s.Name; first == match.Record {
			records++
		} else {
			unsure = append(unsure, fmt.Sprintf("%s, line %d: %s", s.Name, s.Layout.Header,
				reading.Shorten(strings.Join(s.Layout.Columns, " · "), 60)))
		}
	}
	if named != "" && other != "" {
		return need("%s: its first line holds names of the table, and that of %s does not\n  load them one by one, "+
			"with --header-row; nothing was changed", named, other)
	}
	taken := "taken: --header-row 0"
	switch {
	case len(unsure) > 0:
		const names, record = "names", "record"
		option := "--header-row"
		for line := range lines {
			option = fmt.Sprintf("--header-row %d", line)
		}
		q := Question{Code: Code(profile.CodeHeaderUndecided), Evidence: unsure,
			Ask: "no field of the first line is a column's name, and all of them would fit the table: is it names, " +
				"or a record?",
			Answer:  "say " + option + " for names, --header-row 0 for a record",
			Choices: []Choice{{names, "it is names", option}, {record, "it is a record", "--header-row 0"}}}
		if len(lines) > 1 {
			// One option cannot say it of sources whose names stand on different lines.
			q.Answer = "say --header-row 0 for records; for names, load the files one by one with --header-row"
			q.Choices[0].Option = ""
		}
		if l.Ask == nil {
			return &Need{&OpenQuestions{in.First().Name, []Question{q}}}
		}
		answer, err := l.choose(ctx, q)
		if err != nil {
			return err
		}
		if answer == names {
			l.tell(NoteEvent{"taken: " + cmp.Or(q.Choices[0].Option, "the first lines are names")})
			return nil
		}
	case records == 0:
		return nil
	default:
		taken += ": the first line fits the table's types, and has none of its names"
	}
	if err := r.Input.settle("header", "0"); err != nil {
		return err
	}
	l.tell(NoteEvent{taken})
	return l.open(ctx)
}

// tolerate is the share of values that may misfit, by the plan or as given.
func (o *Opened) tolerate(given float64) (float64, error) {
	if !o.Given || o.Plan.Tolerate == "" {
		return given, nil
	}
	v, err := phrase.ParseShare(o.Plan.Tolerate)
	if err != nil {
		return 0, need("tolerate in the plan: %q is no share", o.Plan.Tolerate)
	}
	return v, nil
}

// compare compares files that the plan was not made from with the plan, and
// stops where something is blocking.
func (l *loading) compare(ctx context.Context) error {
	in := l.in
	// The values are looked at here only where nothing else will before they are
	// loaded.
	values := l.req.destination() == intoNew
	a := &ChangesAnswer{Document: document("changes"), Changes: []match.Change{}, Values: values}
	blocked := ""
	add := func(changes []match.Change) {
		for i := range changes {
			c := &changes[i]
			switch {
			case c.New && l.req.NewColumns == NewStop:
				c.Weight = match.Blocking
			case c.New && l.req.NewColumns == NewLeave:
				c.Weight = match.Fine
			}
			if c.Weight != match.Blocking {
				continue
			}
			if c.Misfits && l.req.AcceptChanges {
				c.Weight = match.Caution
				continue
			}
			blocked += "\n  "
			if len(in.Sources) > 1 {
				blocked += c.Source + ": "
			}
			if c.Column != "" {
				blocked += c.Column + ": "
			}
			blocked += c.Text
		}
		a.Changes = append(a.Changes, changes...)
	}
	changed, leave := match.Sheets(in.Sources, in.Plan)
	add(changed)
	in.Sources = slices.DeleteFunc(in.Sources, func(s *source.Source) bool { return slices.Contains(leave, s) })
	m := l.meter(ctx, "comparing", in.Size())
	defer m.End()
	for _, src := range in.Sources {
		if in.Plan.Made(src) {
			continue
		}
		a.Compared++
		changes, err := match.Changes(ctx, src, in.Plan, values, l.tolerate)
		if err != nil {
			return err
		}
		if a.Compared == 1 {
			changes = append(match.Uncovered(in.Sources, in.Plan), changes...)
		}
		add(changes)
	}
	m.End()
	lacking := match.NothingToLeaveOut(in.Sources, in.Plan)
	if a.Changes = append(a.Changes, lacking...); a.Compared == 0 && len(lacking) == 0 {
		return nil
	}
	a.Blocked = blocked != ""
	l.tell(ComparedEvent{a})
	if a.Blocked {
		l.answer.Changes = a
		return need("nothing was loaded; the file is not what the plan was made for%s", blocked)
	}
	l.cautions = append(l.cautions, notAsPlanned(a.Changes)...)
	return nil
}
