package mysql

import (
	"context"
	"fmt"

	"ambertray/internal/db"
)

// keepTable makes the table that keeps the old rows. It is committed at once, and empty
// until the load commits.
func (l *load) keepTable(ctx context.Context) error {
	if l.spec.Keep == "" {
		return nil
	}
	t := l.spec.Table
	l.keep = Dialect.Qualified(t.Schema, l.spec.Keep)
	if err := l.d.questions().Do(ctx, "cannot keep the old rows",
		likeSQL(l.keep, &db.Name{Schema: t.Schema, Table: t.Name})); err != nil {
		l.keep = ""
		return err
	}
	return nil
}

// keepRows fills it, in the transaction of the load.
func (l *load) keepRows(ctx context.Context) error {
	if l.keep == "" {
		return nil
	}
	t := l.spec.Table
	found, err := l.d.Find(ctx, t.Schema, t.Name)
	if err != nil {
		return err
	}
	if found == nil {
		return l.d.fail("has no table "+t.Name+" any more", nil)
	}
	return l.d.questions().Do(ctx, "cannot keep the old rows", fmt.Sprintf("INSERT INTO %s (%s) SELECT %[2]s FROM %s",
		l.keep, Dialect.List(found.Given()), Dialect.Qualified(t.Schema, t.Name)))
}
