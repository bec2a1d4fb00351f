package postgres

import (
	"context"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/sink"
	"ambertray/internal/tally"
)

// Stage implements db.Merger: by temporary tables, which also a session that may not
// write is allowed to fill once they are there.
func (d *DB) Stage(ctx context.Context, t *db.Table, m *dialect.Merge) (*db.Table, error) {
	m.Number = quote(db.StageNumber)
	const cannot = "cannot make the tables of a merge"
	var columns []string
	for _, c := range m.Columns {
		columns = append(columns, c.Name)
	}
	names := Dialect.List(columns)
	// It counts for a session that has no temporary table yet.
	if d.together == nil {
		_, _ = d.c.Exec(ctx, "SET temp_buffers = '64MB'")
	}
	tx, err := d.within(ctx, pgx.ReadWrite)
	if err != nil {
		return nil, d.fail(cannot, err)
	}
	defer tx.Rollback(context.Background())
	if m.Undoes {
		names = "''::text AS " + dialect.ChangeWhat + ", " + names
	}
	for _, sql := range []string{
		"DROP TABLE IF EXISTS pg_temp." + quote(db.StageTable) + ", pg_temp." + quote(db.ChangesTable),
		fmt.Sprintf("CREATE TEMPORARY TABLE %s AS SELECT %s FROM %s WITH NO DATA", quote(db.StageTable), names,
			m.Table),
		fmt.Sprintf("ALTER TABLE pg_temp.%s ADD %s bigint GENERATED ALWAYS AS IDENTITY", quote(db.StageTable),
			m.Number),
		fmt.Sprintf("CREATE TEMPORARY TABLE %s AS SELECT %s FROM %s t WITH NO DATA", quote(db.ChangesTable),
			m.NoChanges("0::bigint", "''::text"), m.Table),
	} {
		if _, err := tx.Exec(ctx, sql); err != nil {
			return nil, d.fail(cannot, err)
		}
	}
	// A rule, a trigger, or a key of the table to itself may change other rows than those
	// that a statement names.
	if err := tx.QueryRow(ctx, `SELECT NOT EXISTS (SELECT FROM pg_trigger WHERE tgrelid = $1::regclass AND NOT tgisinternal)
		AND NOT EXISTS (SELECT FROM pg_rewrite WHERE ev_class = $1::regclass)
		AND NOT EXISTS (SELECT FROM pg_constraint WHERE contype = 'f' AND conrelid = $1::regclass AND confrelid = conrelid)
		AND NOT EXISTS (SELECT FROM pg_inherits WHERE inhparent = $1::regclass)`, m.Table).Scan(&m.Quiet); err != nil {
		return nil, d.fail(cannot, err)
	}
	if err := tx.Commit(ctx); err != nil {
		return nil, d.fail(cannot, err)
	}
	var schema string
	if err := d.c.QueryRow(ctx, "SELECT nspname FROM pg_namespace WHERE oid = pg_my_temp_schema()").Scan(
		&schema); err != nil {
		return nil, d.fail(cannot, err)
	}
	m.Stage, m.Changes = Dialect.Qualified(schema, db.StageTable), Dialect.Qualified(schema, db.ChangesTable)
	return &db.Table{Schema: schema, Name: db.StageTable}, nil
}

// Ready implements db.Merger: nobody has counted the rows of a temporary table, and the
// server would go through it row by row.
func (d *DB) Ready(ctx context.Context, m *dialect.Merge) error {
	for _, sql := range []string{analyze(m.Stage, m.Number, m), "SET LOCAL work_mem = '64MB'", "SET LOCAL jit = off",
		// Sorting finds what stands twice sooner than hashing does.
		"SET LOCAL enable_hashagg = off"} {
		if _, err := d.c.Exec(ctx, sql); err != nil {
			return d.fail("cannot go on", err)
		}
	}
	return nil
}

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

// Unstage implements db.Merger.
func (d *DB) Unstage(ctx context.Context) {
	// They are gone with the session at the latest.
	_, _ = d.c.Exec(ctx, "DROP TABLE IF EXISTS pg_temp."+quote(db.StageTable)+", pg_temp."+quote(db.ChangesTable))
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
