package mysql

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	driver "github.com/go-sql-driver/mysql"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/sink"
	"ambertray/internal/sqltype"
	"ambertray/internal/tally"
)

// Stage implements db.Merger: by temporary tables, which these servers do not list. The
// key is made with the stage, for an index that is made later would commit.
func (d *DB) Stage(ctx context.Context, t *db.Table, m *dialect.Merge) (*db.Table, error) {
	m.Number = quote(db.StageNumber)
	m.Stage, m.Changes = Dialect.Qualified(t.Schema, db.StageTable), Dialect.Qualified(t.Schema, db.ChangesTable)
	stage := &db.Table{Schema: t.Schema, Name: db.StageTable}
	var names, key []string
	what := ""
	if m.Undoes {
		what = ", " + dialect.ChangeWhat + " VARCHAR(10)"
		stage.Columns = append(stage.Columns, db.Column{Name: dialect.ChangeWhat, Type: "varchar(10)",
			SQL: sqltype.Type{Kind: sqltype.VarChar, Length: 10}})
	}
	for _, c := range m.Columns {
		names = append(names, quote(c.Name))
		at := slices.IndexFunc(t.Columns, func(f db.Column) bool { return f.Name == c.Name })
		if at < 0 {
			return nil, d.fail("has no column "+c.Name, nil)
		}
		stage.Columns = append(stage.Columns, t.Columns[at])
	}
	for _, k := range m.Key {
		part := ""
		if at := slices.IndexFunc(t.Columns, func(f db.Column) bool { return f.Name == k }); at >= 0 &&
			(strings.HasSuffix(strings.ToLower(t.Columns[at].Type), "text") ||
				strings.HasSuffix(strings.ToLower(t.Columns[at].Type), "blob")) {
			part = "(191)" // such a column is indexed by its first letters only
		}
		key = append(key, quote(k)+part)
	}
	index := ""
	if len(key) > 0 {
		index = ", KEY (" + strings.Join(key, ", ") + ")"
	}
	const empty = " WHERE 1 = 0"
	from := m.Table
	if m.Undoes {
		from = "(SELECT 1 AS one) x LEFT JOIN " + m.Table + " t ON 1 = 0" // whose columns take nulls
	}
	for _, sql := range []string{
		"SET SESSION TRANSACTION READ WRITE",
		"DROP TEMPORARY TABLE IF EXISTS " + m.Stage,
		"DROP TEMPORARY TABLE IF EXISTS " + m.Changes,
		fmt.Sprintf("CREATE TEMPORARY TABLE %s (%s BIGINT NOT NULL AUTO_INCREMENT PRIMARY KEY%s%s) ENGINE=InnoDB "+
			"SELECT "+
			"%s FROM %s%s", m.Stage, m.Number, what, index, strings.Join(names, ", "), from, empty),
		// The columns of an outer join take nulls. The key has an index here, too: where the server believes
		// that the table has few rows, it begins with that, and would go through all changes for each row.
		fmt.Sprintf("CREATE TEMPORARY TABLE %s (%s BIGINT, %s VARCHAR(10), KEY (%s)%s) ENGINE=InnoDB SELECT %s "+
			"FROM (SELECT 1 AS one) x LEFT JOIN %s t ON 1 = 0%s", m.Changes, dialect.ChangeRow, dialect.ChangeWhat,
			dialect.ChangeRow, index, m.NoChanges("NULL", "NULL"), m.Table, empty),
	} {
		if err := d.execRoomy(ctx, sql); err != nil {
			return nil, d.fail(db.CannotStage, err)
		}
	}
	if d.readOnly {
		if _, err := d.c.ExecContext(ctx, "SET SESSION TRANSACTION READ ONLY"); err != nil {
			return nil, d.fail("cannot be read only", err)
		}
	}
	// A trigger, or a key of the table to itself, may change other rows than those that a
	// statement names.
	others, err := d.questions().Number(ctx, "cannot be read", `SELECT
		(SELECT count(*) FROM information_schema.triggers WHERE event_object_schema = ? AND event_object_table = ?) +
		(SELECT count(*) FROM information_schema.key_column_usage WHERE table_schema = ? AND table_name = ? AND
		referenced_table_schema = table_schema AND referenced_table_name = table_name)`, d.schemaOf(t.Schema), t.Name,
		d.schemaOf(t.Schema), t.Name)
	m.Quiet = others == 0
	return stage, err
}

// execRoomy makes a table of a merge, which has columns twice. Where they would not fit into InnoDB's page
// if all were as long as they can be, it is made all the same: it is for the rows that there are.
func (d *DB) execRoomy(ctx context.Context, sql string) error {
	_, err := d.c.ExecContext(ctx, sql)
	var m *driver.MySQLError
	if !errors.As(err, &m) || m.Number != tooLarge {
		return err
	}
	const strict = "SET SESSION innodb_strict_mode = "
	if _, e := d.c.ExecContext(ctx, strict+"OFF"); e != nil { // not everybody may
		return err
	}
	_, err = d.c.ExecContext(ctx, sql)
	if _, e := d.c.ExecContext(ctx, strict+"DEFAULT"); err == nil {
		err = e
	}
	return err
}

// Affect implements db.Merger.
func (d *DB) Affect(ctx context.Context, sql string) (int64, error) {
	res, err := d.c.ExecContext(ctx, sql)
	if err != nil {
		return 0, err
	}
	return res.RowsAffected()
}

// Within implements db.Merger.
func (d *DB) Within() db.Questions { return d.questions() }

// Blames implements db.Merger.
func (d *DB) Blames(err error) *sink.Refusal {
	var m *driver.MySQLError
	if !errors.As(err, &m) || !aboutRows(m.Number) {
		return nil
	}
	r := refusalOf(0, complaint{code: int(m.Number), message: atRow.ReplaceAllString(m.Message, "")})
	return &r
}

// TallyFrom implements db.Merger.
func (d *DB) TallyFrom(ctx context.Context, from string, columns []dialect.Column, loose []bool) (int64,
	[]tally.Tally, error) {
	return d.tally(ctx, from, columns, loose, false)
}

// Unstage implements db.Merger.
func (d *DB) Unstage(ctx context.Context) {
	for _, t := range []string{db.StageTable, db.ChangesTable} {
		// They are gone with the session at the latest.
		_, _ = d.c.ExecContext(ctx, "DROP TEMPORARY TABLE IF EXISTS "+quote(t))
	}
}

// Place implements db.Placed: by a key of one column. These servers show no other place of
// a row.
func (d *DB) Place(t *db.Table) string {
	if key := t.PrimaryKey(); len(key) == 1 {
		return quote(key[0])
	}
	return ""
}

// DropExactly implements db.Dropper.
func (d *DB) DropExactly(ctx context.Context, t *db.Table, rows int64) (bool, error) {
	q, name := d.questions(), Dialect.Qualified(t.Schema, t.Name)
	if err := q.Do(ctx, "cannot lock the table", "LOCK TABLES "+name+" WRITE"); err != nil {
		return false, err
	}
	defer q.Do(context.WithoutCancel(ctx), "cannot let go of the table", "UNLOCK TABLES")
	if n, err := q.Count(ctx, t.Schema, t.Name); err != nil || n != rows {
		return false, err
	}
	return true, q.Do(ctx, "cannot drop the table", "DROP TABLE "+name)
}
