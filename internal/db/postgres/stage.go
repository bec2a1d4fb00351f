package postgres

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
)

// A stage is the tables of a merge. They are ordinary ones where those can be made, which all processors go
// through: they are made and dropped in the transaction of the load, so that nobody else ever sees them. Else
// they are temporary, which also a session that may not write is allowed to fill once they are there.
type stage struct {
	ordinary bool
	tables   [2]string // the stage and the changes, with their schema and quoted
	make     []string  // statements
}

// stageOf is the stage of a merge, of tables of these names. With ordinary, kind is what they are.
func stageOf(m *dialect.Merge, ordinary bool, schema string, names [2]string) *stage {
	s, kind, columns := &stage{ordinary: ordinary}, "UNLOGGED", ""
	if !ordinary {
		kind = "TEMPORARY"
	}
	for i, n := range names {
		s.tables[i] = Dialect.Qualified(schema, n)
	}
	if m.Undoes {
		columns = "''::text AS " + dialect.ChangeWhat + ", "
	}
	columns += m.Names()
	s.make = []string{
		fmt.Sprintf("CREATE %s TABLE %s AS SELECT %s FROM %s WITH NO DATA", kind, s.tables[0],
			columns, m.Table),
		// Numbers are taken from the sequence many at a time.
		fmt.Sprintf("ALTER TABLE %s ADD %s bigint GENERATED ALWAYS AS IDENTITY (CACHE 1000)", s.tables[0], m.Number),
		fmt.Sprintf("CREATE %s TABLE %s AS SELECT %s FROM %s t WITH NO DATA", kind, s.tables[1],
			m.NoChanges("0::bigint", "''::text"), m.Table)}
	return s
}

// drop takes the tables away.
func (s *stage) drop() string { return "DROP TABLE IF EXISTS " + strings.Join(s.tables[:], ", ") }

// Stage implements db.Merger.
func (d *DB) Stage(ctx context.Context, t *db.Table, m *dialect.Merge) (*db.Table, error) {
	m.Number = quote(db.StageNumber)
	name := db.NewSide(t.Schema, t.Name)
	made := &db.Table{Schema: t.Schema, Name: name}
	d.stage = stageOf(m, true, t.Schema, [2]string{name, name + db.ChangesEnd})
	// Whether they can be made is tried: rights, a session that only reads, what triggers of the database say.
	if d.tryStage(ctx) != nil {
		made = &db.Table{Schema: "pg_temp", Name: db.StageTable}
		d.stage = stageOf(m, false, made.Schema, [2]string{db.StageTable, db.ChangesTable})
		var err error
		if made.Schema, err = d.temporaryStage(ctx); err != nil {
			return nil, err
		}
	}
	m.Stage, m.Changes = d.stage.tables[0], d.stage.tables[1]
	return made, d.quiet(ctx, m)
}

// tryStage makes the tables, and takes that back.
func (d *DB) tryStage(ctx context.Context) error {
	tx, err := d.within(ctx, "") // as the session is set, and the load will be
	if err != nil {
		return err
	}
	defer tx.Rollback(context.WithoutCancel(ctx))
	return makeStage(ctx, tx, d.stage)
}

func makeStage(ctx context.Context, tx pgx.Tx, s *stage) error {
	for _, sql := range s.make {
		if _, err := tx.Exec(ctx, sql); err != nil {
			return err
		}
	}
	return nil
}

// temporaryStage makes temporary tables, and returns their schema.
func (d *DB) temporaryStage(ctx context.Context) (schema string, err error) {
	// It counts for a session that has no temporary table yet.
	if d.together == nil {
		_, _ = d.c.Exec(ctx, "SET temp_buffers = '64MB'")
	}
	tx, err := d.within(ctx, pgx.ReadWrite)
	if err != nil {
		return "", d.fail(db.CannotStage, err)
	}
	defer tx.Rollback(context.WithoutCancel(ctx))
	if _, err := tx.Exec(ctx, d.stage.drop()); err != nil {
		return "", d.fail(db.CannotStage, err)
	}
	if err := makeStage(ctx, tx, d.stage); err != nil {
		return "", d.fail(db.CannotStage, err)
	}
	if err := tx.QueryRow(ctx, "SELECT nspname FROM pg_namespace WHERE oid = pg_my_temp_schema()").Scan(
		&schema); err != nil {
		return "", d.fail(db.CannotStage, err)
	}
	if err := tx.Commit(ctx); err != nil {
		return "", d.fail(db.CannotStage, err)
	}
	return schema, nil
}

// quiet finds out whether a rule, a trigger, or a key of the table to itself may change other rows than those
// that a statement names.
func (d *DB) quiet(ctx context.Context, m *dialect.Merge) error {
	if err := d.c.QueryRow(ctx, `SELECT NOT EXISTS (SELECT FROM pg_trigger WHERE tgrelid = $1::regclass AND NOT tgisinternal)
		AND NOT EXISTS (SELECT FROM pg_rewrite WHERE ev_class = $1::regclass)
		AND NOT EXISTS (SELECT FROM pg_constraint WHERE contype = 'f' AND conrelid = $1::regclass AND confrelid = conrelid)
		AND NOT EXISTS (SELECT FROM pg_inherits WHERE inhparent = $1::regclass)`, m.Table).Scan(&m.Quiet); err != nil {
		return d.fail(db.CannotStage, err)
	}
	return nil
}

// stage is that of a load, where it is of ordinary tables, or nil.
func (l *load) stage() *stage {
	if s := l.d.stage; l.spec.Stage != nil && s != nil && s.ordinary {
		return s
	}
	return nil
}

// stand makes the stage of a load.
func (l *load) stand(ctx context.Context, tx pgx.Tx) error {
	if s := l.stage(); s != nil {
		if err := makeStage(ctx, tx, s); err != nil {
			return l.d.fail(db.CannotStage, err)
		}
	}
	return nil
}

// clear takes the stage of a load away before the commit.
func (l *load) clear(ctx context.Context) error {
	if s := l.stage(); s != nil {
		if _, err := l.tx.Exec(ctx, s.drop()); err != nil {
			return l.d.fail("cannot take the tables of a merge away", err)
		}
	}
	return nil
}

// Unstage implements db.Merger.
func (d *DB) Unstage(ctx context.Context) {
	if d.stage != nil {
		// They are gone with the transaction or the session at the latest.
		_, _ = d.c.Exec(ctx, d.stage.drop())
		d.stage = nil
	}
}

// Ready implements db.Merger.
func (d *DB) Ready(ctx context.Context, m *dialect.Merge) error {
	// Nobody has counted the rows, and the server would go through them one by one.
	settings := []string{analyze(m.Stage, m.Number, m), "SET LOCAL work_mem = '64MB'", "SET LOCAL jit = off",
		// Sorting finds what stands twice sooner than hashing does.
		"SET LOCAL enable_hashagg = off"}
	if d.stage.ordinary {
		// Where to look is to be known, and no more.
		settings[0] = "SET LOCAL default_statistics_target = 10; " + settings[0]
		settings = append(settings, "SET LOCAL maintenance_work_mem = '64MB'",
			"SET LOCAL enable_parallel_hash = off") // see FindChanges
	}
	for _, sql := range settings {
		if err := d.simple(ctx, sql); err != nil {
			return err
		}
	}
	if !d.stage.ordinary || len(m.Key) == 0 {
		return nil
	}
	if err := useProcessors(ctx, d.load.tx); err != nil {
		return d.fail("cannot be set up", err)
	}
	return d.indexStage(ctx, m)
}

// indexStage makes an index of the stage that does not allow a key twice: sorted by several processes, it tells
// whether one is. Nulls it allows.
func (d *DB) indexStage(ctx context.Context, m *dialect.Merge) error {
	refused, err := d.attempt(ctx, fmt.Sprintf("CREATE UNIQUE INDEX ON %s (%s)", m.Stage, Dialect.List(m.Key)))
	if err != nil || refused != nil { // what is twice, or too long for an index, is found without
		return err
	}
	n, err := d.questions(d.c).Number(ctx, "cannot look for keys that stand twice", m.CountNullKeys())
	m.Apart = n == 0
	return err
}

// Seek implements db.Merger: the index is made before anything is asked.
func (d *DB) Seek(context.Context, *dialect.Merge) error { return nil }

// attempt runs statements that may be refused, which nothing is left of then.
func (d *DB) attempt(ctx context.Context, sql ...string) (refused *pgconn.PgError, err error) {
	if err := d.simple(ctx, "SAVEPOINT attempt"); err != nil {
		return nil, err
	}
	for _, s := range append(sql, "RELEASE attempt") {
		if _, err := d.c.PgConn().Exec(ctx, s).ReadAll(); err != nil {
			if !errors.As(err, &refused) {
				return nil, d.fail("cannot go on", err)
			}
			return refused, d.simple(ctx, "ROLLBACK TO attempt; RELEASE attempt")
		}
	}
	return nil, nil
}

// FindChanges implements db.ChangesFinder: by a query that makes the table, since of one that fills a table only one
// process takes part. The memory that they share for the join may be short (the container of a server has 64 MB
// of it, if nothing else is said): then they do without.
func (d *DB) FindChanges(ctx context.Context, m *dialect.Merge, onlyNew bool) (done bool, err error) {
	if !d.stage.ordinary || len(m.Key) == 0 {
		return false, nil
	}
	make := []string{"DROP TABLE " + m.Changes, fmt.Sprintf("CREATE UNLOGGED TABLE %s (%s) AS %s", m.Changes,
		strings.Join(m.ChangeColumns(), ", "), m.Changing(onlyNew, ""))}
	refused, err := d.attempt(ctx, append([]string{"SET LOCAL enable_parallel_hash = on"},
		append(make, "SET LOCAL enable_parallel_hash = off")...)...)
	if err != nil || refused == nil {
		return true, err
	}
	if !strings.HasPrefix(refused.Code, "53") { // insufficient resources (appendix A of the manual)
		return true, d.fail(db.CannotCompare, refused)
	}
	for _, sql := range make {
		if _, err := d.c.Exec(ctx, sql); err != nil {
			return true, d.fail(db.CannotCompare, err)
		}
	}
	return true, nil
}
