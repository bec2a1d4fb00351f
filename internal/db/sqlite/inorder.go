package sqlite

import (
	"context"
	"fmt"
	"slices"
	"strings"

	lib "modernc.org/sqlite/lib"

	"ambertray/internal/db/dialect"
)

// Where a table's key is its row number (SQLite, "ROWIDs and the INTEGER PRIMARY KEY"), SQLite
// looks for the place of each row from the root of the table on, although most go behind the
// last. A row that comes without a number goes there at once, and gets the number after the
// last. So rows whose keys follow on each other by one are sent without them, where the last row of
// the table is the one before theirs: that takes a quarter off the time.

// inOrder sends rows so.
type inOrder struct {
	put  *stmt // inserts what the feed holds, without keys; nil: the table cannot be filled so
	last *stmt // asks for the largest key
	rows int   // sent so
}

// runLength is how many keys have to follow on each other before the next are left out.
const runLength = 8

// mostTries is how often the last row of the table may be another than the keys say, one after the
// other, before it is not asked any more.
const mostTries = 20

// prepareInOrder prepares that, unless the table has no such key, or counts on by itself.
func (l *load) prepareInOrder(ctx context.Context, names, from []string) error {
	key, err := l.d.rowNumber(ctx, l.schema(), l.table.Name)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(l.table.Columns, func(c dialect.Column) bool { return strings.EqualFold(c.Name, key) })
	if at < 0 {
		return nil // there is none, or nobody gives its values
	}
	counts, err := l.d.questions().Number(ctx, "cannot be read", "SELECT count(*) FROM "+l.schema()+
		".sqlite_schema WHERE name = ? COLLATE NOCASE AND sql LIKE '%autoincrement%'", l.table.Name)
	if err != nil || counts > 0 {
		return err
	}
	without := slices.Clone(from)
	without[at] = "NULL"
	if l.ordered.put, err = l.d.c.prepare(l.insertAll(names, without)); err != nil {
		return err
	}
	l.feed.key, l.feed.tries = at, mostTries
	l.ordered.last, err = l.d.c.prepare("SELECT max(" + names[at] + ") FROM " +
		Dialect.Qualified(l.table.Schema, l.table.Name))
	return err
}

// rowNumber is the column of a table that is its row number, or nothing: a lone key of the type
// INTEGER that has no index.
func (d *DB) rowNumber(ctx context.Context, schema, table string) (string, error) {
	rows, err := d.questions().Rows(ctx, "cannot be read", `SELECT min(i.name) FROM pragma_table_info(?1, ?2) i
		WHERE i.pk > 0 HAVING count(*) = 1 AND max(upper(i.type) = 'INTEGER') = 1
			AND NOT EXISTS (SELECT 1 FROM pragma_index_list(?1, ?2) WHERE origin = 'pk')
			AND NOT EXISTS (SELECT 1 FROM pragma_table_list WHERE schema = ?2 AND name = ?1 COLLATE NOCASE AND wr)`,
		table, schema)
	if err != nil || len(rows) == 0 {
		return "", err
	}
	return *rows[0][0], nil
}

// inRun reports whether the rows that the feed shows next follow on the last of the table.
func (l *load) inRun(ctx context.Context) (bool, error) {
	f, s := l.feed, l.ordered.last
	if f.run <= runLength || f.tries == 0 {
		return false, nil
	}
	row, err := s.step()
	is := row && s.kind(0) == lib.SQLITE_INTEGER && s.int(0) == f.want-1
	s.reset()
	if err != nil {
		return false, l.cannot(ctx, err)
	}
	if is {
		f.tries = mostTries
	} else {
		f.tries, f.run = f.tries-1, 0
	}
	return is, nil
}

// numbered says whether the rows that went in without keys have theirs.
func (l *load) numbered() error {
	if got, want := l.d.c.lastRow(), l.feed.want-1; got != want {
		return l.d.fail(fmt.Sprintf("has given a row the number %d instead of %d", got, want), nil)
	}
	return nil
}
