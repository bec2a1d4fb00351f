package desk

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/plan"
	"ambertray/internal/profile"
	"ambertray/internal/sqltype"
)

// Bounds of the search for tables that columns refer to.
const (
	mostLooked   = 60 // tables that are looked for
	mostAsked    = 10 // columns that are compared
	offersWithin = 20 * time.Second
)

// A parent is a table that a column may refer to: one with a key of one column.
type parent struct {
	schema, name string // as it will be called
	now          string // as it is called in the transaction
	key          string
	kind         sqltype.Type
}

// An offering looks for references that plans do not have.
type offering struct {
	conn   db.Session
	q      db.Questions
	loads  []*loading
	looked map[string]*parent // by schema and name; nil: there is none
	asked  int
}

// offer finds columns of new tables that are called as another table is, and whose values
// are all among its keys. It is asked within the transaction of the loads, before the
// commit; what cannot be asked is not offered.
func offer(ctx context.Context, conn db.Session, loads ...*loading) {
	merger, is := conn.(db.Merger)
	if !is || !slices.ContainsFunc(loads, (*loading).mayRefer) {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, offersWithin)
	defer cancel()
	o := &offering{conn: conn, q: merger.Within(), loads: loads, looked: map[string]*parent{}}
	point, err := o.q.Savepoint(ctx, "ambertray_offers")
	if err != nil {
		return
	}
	for _, l := range loads {
		if err := o.of(ctx, l); err != nil {
			l.job.Log.Debug("what columns refer to was not asked", "error", err)
			break
		}
	}
	// A question that failed would end the transaction.
	_ = point.Back(context.WithoutCancel(ctx))
}

// mayRefer reports whether the load makes a table, whose plan could say what it refers to.
func (l *loading) mayRefer() bool {
	return l.req.Mode.New() && l.req.Like == "" && l.req.Every == 0 && !l.req.DryRun
}

// of looks at the columns of one load.
func (o *offering) of(ctx context.Context, l *loading) error {
	if !l.mayRefer() {
		return nil
	}
	def := l.in.Plan.Definition()
	for _, c := range def.Columns {
		if len(def.Key) == 1 && def.Key[0] == c.Name || slices.ContainsFunc(def.References,
			func(r dialect.Reference) bool { return slices.Contains(r.Columns, c.Name) }) {
			continue
		}
		p, err := o.parentOf(ctx, l, &c)
		if err != nil {
			return err
		}
		if p == nil || p.now == l.side() || o.asked == mostAsked {
			continue
		}
		o.asked++
		among, err := o.among(ctx, l, def.Schema, c.Name, p)
		if err != nil {
			return err
		}
		if among {
			l.offered = append(l.offered, profile.Finding{Weight: profile.Note, Code: profile.CodeCouldRefer,
				Column: c.Name, Text: fmt.Sprintf("every value is a key of %s (%s)", db.Qualified(p.schema, p.name),
					p.key), Do: fmt.Sprintf("in the plan, below table: references: [{columns: [%s], table: %s, to: "+
					"[%s]}]",
					c.Name, db.Qualified(p.schema, p.name), p.key)})
		}
	}
	return nil
}

// side is the table that has the rows of the load until the commit.
func (l *loading) side() string {
	return cmp.Or(l.landed.Table, l.in.Plan.Table.Name)
}

// namesOf are the tables that a column may be called after.
func namesOf(column string) (out []string) {
	stem := strings.ToLower(column)
	for _, end := range []string{"_id", "_no", "_nr", "_code", "_number", "_key", "_ref"} {
		if s, cut := strings.CutSuffix(stem, end); cut && s != "" {
			stem = s
			break
		}
	}
	out = append(out, stem, stem+"s")
	switch {
	case strings.HasSuffix(stem, "y"):
		out = append(out, stem[:len(stem)-1]+"ies")
	case strings.HasSuffix(stem, "s"), strings.HasSuffix(stem, "x"), strings.HasSuffix(stem, "ch"):
		out = append(out, stem+"es")
	}
	return out
}

// parentOf is the table that a column is called after, and that has keys of its kind.
func (o *offering) parentOf(ctx context.Context, l *loading, c *dialect.Column) (*parent, error) {
	fits := func(p *parent) bool {
		return p != nil && (p.kind.IsInteger() && c.Type.IsInteger() || p.kind.IsText() && c.Type.IsText() ||
			p.kind == c.Type)
	}
	names := namesOf(c.Name)
	for _, other := range o.loads {
		t := other.in.Plan.Table
		if other == l || len(t.Key) != 1 || !other.req.Mode.New() || !slices.Contains(names, strings.ToLower(t.Name)) &&
			plan.Forgive(t.Key[0]) != plan.Forgive(c.Name) {
			continue
		}
		for _, k := range other.in.Plan.Definition().Columns {
			p := &parent{t.Schema, t.Name, other.side(), k.Name, k.Type}
			if k.Name == t.Key[0] && fits(p) {
				return p, nil
			}
		}
	}
	schema := l.in.Plan.Table.Schema
	for _, n := range names {
		if slices.ContainsFunc(o.loads, func(x *loading) bool { return strings.EqualFold(x.in.Plan.Table.Name, n) }) {
			continue
		}
		p, seen := o.looked[n]
		if !seen {
			if len(o.looked) == mostLooked {
				return nil, nil
			}
			t, err := o.conn.Find(ctx, schema, n)
			if err != nil {
				return nil, err
			}
			p = parentIn(t)
			o.looked[n] = p
		}
		if fits(p) {
			return p, nil
		}
	}
	return nil, nil
}

// parentIn is a table that the database has, if it has a key of one column.
func parentIn(t *db.Table) *parent {
	if t == nil || t.View {
		return nil
	}
	key := t.PrimaryKey()
	if len(key) != 1 {
		return nil
	}
	at := slices.IndexFunc(t.Columns, func(c db.Column) bool { return c.Name == key[0] })
	return &parent{t.Schema, t.Name, t.Name, key[0], t.Columns[at].SQL}
}

// among asks whether every value of a column is a key, and whether there are some.
func (o *offering) among(ctx context.Context, l *loading, schema, column string, p *parent) (bool, error) {
	d := o.q.Dialect
	own, c := d.Qualified(schema, l.side()), d.Quote(column)
	some, err := o.q.Number(ctx, "cannot be compared", fmt.Sprintf("SELECT CASE WHEN EXISTS (SELECT 1 FROM %s t "+
		"WHERE t.%s IS NOT NULL) AND NOT EXISTS (SELECT 1 FROM %[1]s t WHERE t.%[2]s IS NOT NULL AND NOT EXISTS "+
		"(SELECT 1 FROM %s p WHERE p.%s = t.%[2]s)) THEN 1 ELSE 0 END%[5]s", own, c, d.Qualified(p.schema, p.now),
		d.Quote(p.key), d.FromNothing))
	return some == 1, err
}

// toldOffers tells what the plan could say of references.
func (l *loading) toldOffers() {
	for _, f := range l.offered {
		l.job.Log.Info("offer", "code", f.Code, "column", f.Column, "text", f.Text)
	}
	if len(l.offered) > 0 {
		l.tell(FoundEvent{l.where(), nil, l.offered})
	}
	l.offered = nil
}
