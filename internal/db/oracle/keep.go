package oracle

import (
	"context"
	"fmt"
)

// keepTable makes the table that keeps the old rows. It is committed at once, and empty until
// the load commits.
func (l *load) keepTable(ctx context.Context) error {
	t := l.spec.Table
	if l.spec.Keep == "" {
		return nil
	}
	var err error
	if l.kept, err = l.d.questions().Given(ctx, l.d, t); err != nil {
		return err
	}
	l.keep = Dialect.Qualified(t.Schema, l.spec.Keep)
	err = l.d.do(ctx, "cannot keep the old rows", fmt.Sprintf("CREATE TABLE %s AS SELECT %s FROM %s WHERE 1 = 0",
		l.keep, l.kept, l.final))
	if err != nil {
		l.keep = ""
	}
	return err
}

// keepRows fills it, in the transaction of the load, which keeps others from changing the
// rows.
func (l *load) keepRows(ctx context.Context) error {
	if l.keep == "" {
		return nil
	}
	if l.side != "" {
		if err := l.hold(ctx, l.final); err != nil {
			return err
		}
	}
	return l.d.do(ctx, "cannot keep the old rows", fmt.Sprintf("INSERT INTO %s (%s) SELECT %[2]s FROM %s", l.keep,
		l.kept, l.final))
}
