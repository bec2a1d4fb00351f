package sqlite

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"unsafe"

	"modernc.org/libc"
	lib "modernc.org/sqlite/lib"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/sink"
	"ambertray/internal/sqltype"
	"ambertray/internal/tally"
)

// temporary is the schema of tables that are of the connection.
const temporary = "temp"

// schema is that of the table which is loaded, as SQLite calls it.
func (l *load) schema() string {
	if l.spec.Stage != nil {
		return temporary
	}
	return "main"
}

// Stage implements db.Merger. The stage has the types and the collations of the table,
// so that it keeps values as the table would, and takes the same keys for the same.
func (d *DB) Stage(ctx context.Context, t *db.Table, m *dialect.Merge) (*db.Table, error) {
	if err := d.onlyOwn(); err != nil {
		return nil, err
	}
	m.Number, m.Or = "rowid", "OR ABORT "
	m.Stage, m.Changes = Dialect.Qualified(temporary, db.StageTable), Dialect.Qualified(temporary, db.ChangesTable)
	triggers, err := d.questions().Number(ctx, "cannot be read",
		"SELECT count(*) FROM sqlite_schema WHERE type = 'trigger' AND tbl_name = ? COLLATE NOCASE", t.Name)
	if err != nil {
		return nil, err
	}
	own, err := d.questions().Number(ctx, "cannot be read",
		`SELECT count(*) FROM pragma_foreign_key_list(?1) WHERE "table" = ?1 COLLATE NOCASE`, t.Name)
	if err != nil {
		return nil, err
	}
	m.Quiet = triggers == 0 && own == 0
	number, err := d.rowNumber(ctx, "main", t.Name)
	if err != nil {
		return nil, err
	}
	d.staged = &staging{m: m, numbered: number != "" && len(m.Key) == 1 && strings.EqualFold(m.Key[0], number)}
	if triggers > 0 {
		m.Or = "" // what they do has a way of its own
	}
	stage := &db.Table{Schema: temporary, Name: db.StageTable}
	var definitions []string
	if m.Undoes {
		definitions = append(definitions, dialect.ChangeWhat+" TEXT")
		stage.Columns = append(stage.Columns, whatColumn)
	}
	for _, c := range m.Columns {
		at := columnNamed(t, c.Name)
		collation, err := d.c.collation(t.Name, c.Name)
		if err != nil {
			return nil, d.fail("cannot be read", err)
		}
		definitions = append(definitions,
			strings.TrimSpace(Dialect.Quote(c.Name)+" "+at.Type)+" COLLATE "+Dialect.Quote(collation))
		stage.Columns = append(stage.Columns, db.Column{Name: at.Name, Type: at.Type, SQL: at.SQL, Keeps: at.Keeps})
	}
	for _, sql := range []string{
		"PRAGMA temp.cache_size = -4096", "PRAGMA main.cache_size = -16384", // KB
		"DROP TABLE IF EXISTS " + m.Stage, "DROP TABLE IF EXISTS " + m.Changes,
		fmt.Sprintf("CREATE TEMP TABLE %s (%s)", Dialect.Quote(db.StageTable), strings.Join(definitions, ", ")),
		fmt.Sprintf("CREATE TEMP TABLE %s AS SELECT %s FROM %s t WHERE false", Dialect.Quote(db.ChangesTable),
			m.NoChanges("0", "''"), m.Table),
	} {
		if err := d.c.exec(sql); err != nil {
			return nil, d.fail(db.CannotStage, err)
		}
	}
	return stage, nil
}

// onlyOwn lets a session that may only read write into tables of its own: the file is
// opened once more, so that SQLite cannot write to it. What a program had left in its
// journal is undone by then.
func (d *DB) onlyOwn() error {
	if !d.readOnly {
		return nil
	}
	c, err := openConn(d.path, toRead)
	if err != nil {
		return d.fail("cannot be opened to be read", err)
	}
	c.patience = d.c.patience
	d.c.close()
	d.c = c
	return nil
}

// whatColumn is the one of a stage that says what became of a row.
var whatColumn = db.Column{Name: dialect.ChangeWhat, Type: "TEXT", SQL: sqltype.Type{Kind: sqltype.Text}}

func columnNamed(t *db.Table, name string) *db.Column {
	for i := range t.Columns {
		if strings.EqualFold(t.Columns[i].Name, name) {
			return &t.Columns[i]
		}
	}
	return &db.Column{Name: name}
}

// collation is how a column's texts are compared (SQLite, sqlite3_table_column_metadata).
func (c *conn) collation(table, column string) (string, error) {
	var texts [2]uintptr
	for i, s := range []string{table, column} {
		p, err := libc.CString(s)
		if err != nil {
			return "", err
		}
		defer libc.Xfree(c.tls, p)
		texts[i] = p
	}
	out := c.tls.Alloc(8)
	defer c.tls.Free(8)
	if rc := lib.Xsqlite3_table_column_metadata(c.tls, c.db, 0, texts[0], texts[1], 0, out, 0, 0,
		0); rc != lib.SQLITE_OK {
		return "", c.error(rc)
	}
	return cmp.Or(libc.GoString(*(*uintptr)(unsafe.Pointer(at(out)))), "BINARY"), nil
}

// staging is what is known of the stage of a merge.
type staging struct {
	m        *dialect.Merge
	numbered bool // the key is the number of the table's rows
	indexed  bool // by its key
	unique   bool // which the index holds no key twice of
}

// Ready implements db.Merger. An index on the key that does not allow a key twice tells at once whether one does; nulls
// it allows. Of keys that have come in order, that is known.
func (d *DB) Ready(ctx context.Context, m *dialect.Merge) error {
	if len(m.Key) == 0 {
		return nil
	}
	if is, err := d.ordered(ctx, m); err != nil || is && !m.Undoes {
		m.Apart = is
		return err
	}
	if err := d.Seek(ctx, m); err != nil || !d.staged.unique {
		return err
	}
	nulls, err := d.questions().Number(ctx, "cannot be read", m.CountNullKeys())
	m.Apart = nulls == 0
	return err
}

// Compared implements db.Merger.
func (d *DB) Compared(context.Context, *dialect.Merge) error { return nil }

// Divide implements db.Merger.
func (d *DB) Divide(_ context.Context, m *dialect.Merge) error {
	if err := d.c.exec(fmt.Sprintf("CREATE INDEX %s ON %s (%s)", Dialect.Qualified(temporary, db.ChangesTable+"_row"),
		Dialect.Quote(db.ChangesTable), dialect.ChangeRow)); err != nil {
		return d.fail("cannot go on", err)
	}
	return nil
}

// Affect implements db.Merger.
func (d *DB) Affect(_ context.Context, sql string) (int64, error) {
	err := d.c.exec(sql)
	return lib.Xsqlite3_changes64(d.c.tls, d.c.db), err
}

// Within implements db.Merger.
func (d *DB) Within() db.Questions { return d.questions() }

// Blames implements db.Merger.
func (d *DB) Blames(err error) *sink.Refusal {
	if !refusal(err) || d.c.autocommit() {
		return nil
	}
	var e *Error
	errors.As(err, &e)
	return &sink.Refusal{Column: d.load.columnOf(e.Message), Message: e.Error(), Kind: e.Error()}
}

// TallyFrom implements db.Merger.
func (d *DB) TallyFrom(ctx context.Context, from string, columns []dialect.Column, _ []bool) (int64, []tally.Tally,
	error) {
	defer context.AfterFunc(ctx, d.c.interrupt)()
	return d.tallyFrom(ctx, from, columns, false)
}

// Unstage implements db.Merger.
func (d *DB) Unstage(context.Context) {
	for _, t := range []string{db.StageTable, db.ChangesTable} {
		_ = d.c.exec("DROP TABLE IF EXISTS " + Dialect.Qualified(temporary,
			t)) // gone with the connection at the latest
	}
}

// Place implements db.Placed.
func (d *DB) Place(*db.Table) string { return "rowid" }

// DropExactly implements db.Dropper.
func (d *DB) DropExactly(ctx context.Context, t *db.Table, rows int64) (bool, error) {
	q := d.questions()
	if err := q.Do(ctx, "cannot be set up", "PRAGMA foreign_keys = 1"); err != nil {
		return false, err
	}
	if err := d.lock(); err != nil {
		return false, err
	}
	defer d.rollback()
	if n, err := q.Count(ctx, t.Schema, t.Name); err != nil || n != rows {
		return false, err
	}
	// Foreign keys are heeded, so that a table that others refer to stays.
	if err := q.Do(ctx, "cannot drop the table", "DROP TABLE "+Dialect.Qualified(t.Schema, t.Name)); err != nil {
		return false, err
	}
	return true, q.Do(ctx, "cannot commit", "COMMIT")
}
