package mysql

import (
	"cmp"
	"context"
	"errors"
	"fmt"

	driver "github.com/go-sql-driver/mysql"

	"ambertray/internal/db"
)

// takeName gives the side table the name of the table. The rename is atomic: there is
// never no table, or half of one.
func (l *load) takeName(ctx context.Context) error {
	d, t, side := l.d, l.spec.Table, l.side
	names, old, err := l.renamed(ctx)
	if err != nil {
		return err
	}
	if err := l.sent(ctx, "cannot give the table its name", "RENAME TABLE "+names); err != nil {
		return err
	}
	l.side = ""
	if old != "" {
		if err := l.drop(ctx, old, side); err != nil {
			return err
		}
	}
	if err := d.Ledger(t.Schema).Write(ctx, l.record); err != nil {
		return &db.Error{Where: d.where, What: "has the new table, but the ledger does not say so", Err: err}
	}
	return nil
}

// renamed is what RENAME TABLE has to say for the side table, and the name that a table which
// is replaced gets, if there is one.
func (l *load) renamed(ctx context.Context) (names, old string, err error) {
	t := l.spec.Table
	names = l.table + " TO " + l.final
	if l.spec.Mode != db.Replace {
		return names, "", nil
	}
	found, err := l.d.Find(ctx, t.Schema, t.Name)
	if err != nil || found == nil {
		return names, "", err
	}
	if err := l.replaceable(ctx, found); err != nil {
		return "", "", err
	}
	old = Dialect.Qualified(t.Schema, l.side+"_old")
	return l.final + " TO " + old + ", " + names, old, nil
}

// Side implements [db.Sider].
func (l *load) Side() string { return cmp.Or(l.side, l.spec.Table.Name) }

// replaceable makes sure that the table can still be replaced: what it is, and who
// refers to it, was asked before the first row.
func (l *load) replaceable(ctx context.Context, found *db.Table) error {
	fail := func(what string) error {
		return &db.Error{Where: l.d.where, What: l.final + " " + what + " while the load ran",
			Do: "look who did that, and load again"}
	}
	if found.View {
		return fail("became a view")
	}
	around, err := l.d.Around(ctx, found)
	if err != nil {
		return err
	}
	if len(around.Referrers) > 0 {
		return fail("came to be referred to by " + around.Referrers[0].String())
	}
	return nil
}

// drop drops the table that was replaced. Where the server refuses, it gets its name
// again: a key of a table that this account cannot see may refer to it.
func (l *load) drop(ctx context.Context, old, side string) error {
	_, err := l.d.c.ExecContext(ctx, "DROP TABLE "+old)
	var refused *driver.MySQLError
	switch {
	case err == nil:
		return nil
	case !errors.As(err, &refused):
		l.unsure = true
		return &db.Unsure{Err: l.d.fail("has the new table, but perhaps the one it replaced, too, as "+old, err)}
	}
	back := fmt.Sprintf("RENAME TABLE %s TO %s, %s TO %s", l.final, l.table, old, l.final)
	if _, again := l.d.c.ExecContext(ctx, back); again != nil {
		l.unsure = true
		return &db.Unsure{Err: l.d.fail("has the new table, and the one it replaced is left as "+old,
			errors.Join(err, again))}
	}
	l.side = side
	return l.d.fail("cannot drop the table that is to be replaced, which is in its place as it was", err)
}
