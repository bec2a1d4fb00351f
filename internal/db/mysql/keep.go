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
	given, err := l.d.questions().Given(ctx, l.d, t)
	if err != nil {
		return err
	}
	return l.d.questions().Do(ctx, "cannot keep the old rows", fmt.Sprintf("INSERT INTO %s (%s) SELECT %[2]s FROM %s",
		l.keep, given, Dialect.Qualified(t.Schema, t.Name)))
}
