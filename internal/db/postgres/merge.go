package postgres

import (
	"context"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5/pgconn"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/sink"
	"ambertray/internal/tally"
)

// analyze has the server look at the columns by which a table is joined.
func analyze(table, number string, m *dialect.Merge) string {
	sql := "ANALYZE " + table + " (" + number
	for _, k := range m.Key {
		sql += ", " + quote(k)
	}
	return sql + ")"
}

// Compared implements db.Merger.
func (d *DB) Compared(ctx context.Context, m *dialect.Merge) error {
	if _, err := d.c.Exec(ctx, analyze(m.Changes, dialect.ChangeRow, m)); err != nil {
		return d.fail("cannot go on", err)
	}
	return nil
}

// Divide implements db.Merger.
func (d *DB) Divide(ctx context.Context, m *dialect.Merge) error {
	for _, sql := range []string{fmt.Sprintf("CREATE INDEX ON %s (%s)", m.Changes, dialect.ChangeRow),
		fmt.Sprintf("CREATE INDEX ON %s (%s)", m.Stage, m.Number)} {
		if _, err := d.c.Exec(ctx, sql); err != nil {
			return d.fail("cannot go on", err)
		}
	}
	return nil
}

// Affect implements db.Merger.
func (d *DB) Affect(ctx context.Context, sql string) (int64, error) {
	tag, err := d.c.Exec(ctx, sql)
	return tag.RowsAffected(), err
}

// Within implements db.Merger.
func (d *DB) Within() db.Questions { return d.questions(d.c) }

// Blames implements db.Merger.
func (d *DB) Blames(err error) *sink.Refusal {
	var p *pgconn.PgError
	if !errors.As(err, &p) || !aboutRows(p.Code) {
		return nil
	}
	r := refusalOf(p)
	return &r
}

// TallyFrom implements db.Merger.
func (d *DB) TallyFrom(ctx context.Context, from string, columns []dialect.Column, loose []bool) (int64,
	[]tally.Tally, error) {
	return d.tallyFrom(ctx, d.load.tx, from, columns, loose)
}

// Place implements db.Placed.
func (d *DB) Place(*db.Table) string { return "ctid" }

// DropExactly implements db.Dropper.
func (d *DB) DropExactly(ctx context.Context, t *db.Table, rows int64) (bool, error) {
	tx, err := d.c.Begin(ctx)
	if err != nil {
		return false, d.fail("cannot begin a transaction", err)
	}
	defer tx.Rollback(context.WithoutCancel(ctx))
	name := Dialect.Qualified(t.Schema, t.Name)
	var n int64
	if _, err := tx.Exec(ctx, "LOCK TABLE "+name+" IN ACCESS EXCLUSIVE MODE"); err != nil {
		return false, d.fail("cannot lock the table", err)
	}
	if err := tx.QueryRow(ctx, "SELECT count(*) FROM "+name).Scan(&n); err != nil || n != rows {
		return false, err
	}
	if _, err := tx.Exec(ctx, "DROP TABLE "+name); err != nil {
		return false, d.fail("cannot drop the table", err)
	}
	if err := tx.Commit(ctx); err != nil {
		return false, d.fail("cannot commit", err)
	}
	return true, nil
}
