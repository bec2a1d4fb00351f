package parquet

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"ambertray/internal/columnar"
	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/reading"
	"ambertray/internal/tally"
)

// DB is a folder of tables.
type DB struct {
	folder   folder
	where    string
	readOnly bool
	held     map[string]*hold
	// open is the load that is not committed yet, whose rows the session sees.
	open *load
}

// Dialect implements db.Session.
func (d *DB) Dialect() *dialect.Dialect { return Dialect }

// Close implements db.Session.
func (d *DB) Close() error {
	for _, h := range d.held {
		h.release()
	}
	clear(d.held)
	return nil
}

func (d *DB) fail(what string, err error) error {
	return &db.Error{Where: d.where, What: what, Err: err}
}

// named makes sure that a name can be that of a folder, everywhere.
func (d *DB) named(schema, table string) error {
	switch {
	case schema != "":
		return &db.Error{Where: d.where, What: fmt.Sprintf("%s.%s: there are no schemas in a folder of tables", schema,
			table), Do: "name the table alone; another folder is another URL"}
	case table == "" || hidden(table) || strings.ContainsAny(table, `/\:*?"<>|`) || strings.HasSuffix(table, ending) ||
		strings.ContainsFunc(table, func(r rune) bool { return r < ' ' }) || strings.TrimRight(table, ". ") != table:
		return &db.Error{Where: d.where,
			What: fmt.Sprintf("the table %q would be a folder of that name, which it cannot "+
				"be everywhere", table), Do: "use a name without / \\ : * ? \" < > |, that does not begin with . or _"}
	}
	return nil
}

// table opens the files of a table; nil if there is none.
func (d *DB) table(schema, name string) (files []*columnar.File, err error) {
	if err := d.named(schema, name); err != nil {
		return nil, err
	}
	if d.open != nil && d.open.table == name {
		return d.open.all()
	}
	paths, _, err := d.folder.files(name)
	if err != nil || len(paths) == 0 {
		return nil, err
	}
	return open(paths)
}

// open opens files, which must have the same columns.
func open(paths []string) (files []*columnar.File, err error) {
	defer func() {
		if err != nil {
			closeAll(files)
		}
	}()
	for _, p := range paths {
		f, err := columnar.Open(p)
		if err != nil {
			return files, err
		}
		files = append(files, f)
		if differs := columnar.Same(files[0].Columns, f.Columns); differs != "" {
			return files, fmt.Errorf("%s and %s are not of one table: %s", files[0].Path, p, differs)
		}
	}
	return files, nil
}

func closeAll(files []*columnar.File) {
	for _, f := range files {
		f.Close()
	}
}

// Find implements db.Session.
func (d *DB) Find(_ context.Context, schema, table string) (*db.Table, error) {
	files, err := d.table(schema, table)
	if err != nil {
		return nil, d.fail("cannot read the table "+table, err)
	}
	if files == nil {
		return nil, nil
	}
	defer closeAll(files)
	t := &db.Table{Name: table}
	for i := range files[0].Columns {
		t.Columns = append(t.Columns, standardType(&files[0].Columns[i]))
	}
	known := files[0].Known
	t.Comment = known.Comment
	for n, name := range known.Key {
		if i := slices.IndexFunc(t.Columns, func(c db.Column) bool { return c.Name == name }); i >= 0 {
			t.Columns[i].Key = n + 1
		}
	}
	return t, nil
}

// Refuses implements db.Refuser.
func (d *DB) Refuses(_ context.Context, t *db.Table) (what, do string, err error) {
	_, alone, err := d.folder.files(t.Name)
	if alone {
		return fmt.Sprintf("%s is a file, and not a folder of files that one could be added to", t.Name+ending),
			fmt.Sprintf("make the folder %s in %s and move the file into it", t.Name, d.folder.path), err
	}
	return "", "", err
}

// Count implements db.Session.
func (d *DB) Count(_ context.Context, t *db.Table) (n int64, err error) {
	files, err := d.table(t.Schema, t.Name)
	if err != nil {
		return 0, d.fail("cannot count the rows of "+t.Name, err)
	}
	defer closeAll(files)
	for _, f := range files {
		n += f.Rows
	}
	return n, nil
}

// Tally implements db.Session.
func (d *DB) Tally(ctx context.Context, t dialect.Table) (int64, []tally.Tally, error) {
	files, err := d.table(t.Schema, t.Name)
	if err != nil {
		return 0, nil, d.fail("cannot read the table "+t.Name, err)
	}
	defer closeAll(files)
	return tallied(ctx, files, t.Columns)
}

// tallied sums up columns of files.
func tallied(ctx context.Context, files []*columnar.File, columns []dialect.Column) (int64, []tally.Tally, error) {
	out := make([]tally.Tally, len(columns))
	for i, c := range columns {
		out[i].Type = c.Type
	}
	rows := int64(0)
	err := each(ctx, files, namesOf(columns), func(values []reading.Value) error {
		rows++
		for i := range values {
			out[i].Add(&values[i])
		}
		return nil
	})
	return rows, out, err
}

func namesOf(columns []dialect.Column) (names []string) {
	for _, c := range columns {
		names = append(names, c.Name)
	}
	return
}

// each reads columns of files, one after the other.
func each(ctx context.Context, files []*columnar.File, names []string, row func([]reading.Value) error) error {
	for _, f := range files {
		wanted, err := places(f.Columns, names)
		if err != nil {
			return fmt.Errorf("%s: %w", f.Path, err)
		}
		if err := f.Read(ctx, wanted, row); err != nil {
			return err
		}
	}
	return nil
}

// places finds columns by their names.
func places(columns []columnar.Column, names []string) (at []int, err error) {
	by := dialect.Places(columns, func(c *columnar.Column) string { return c.Name })
	for _, n := range names {
		i, is := by[n]
		if !is {
			return nil, fmt.Errorf("there is no column %s", n)
		}
		at = append(at, i)
	}
	return at, nil
}

// parse reads the one form of a query that is run here: SELECT of columns, or of all, FROM
// a table.
func (d *DB) parse(query string) (names []string, table string, err error) {
	refuse := &db.Error{Where: d.where, What: "there is no server that could run a query", Do: "name a table; what " +
		"is run here is SELECT, columns or *, FROM, and a table"}
	words, ok := split(query)
	n := len(words)
	if !ok || n < 4 || !strings.EqualFold(words[0], "SELECT") || !strings.EqualFold(words[n-2], "FROM") {
		return nil, "", refuse
	}
	table = bare(words[n-1])
	if n == 4 && words[1] == "*" {
		return nil, table, nil
	}
	for i, w := range words[1 : n-2] {
		if i%2 == 1 && w != "," || i%2 == 0 && (w == "," || w == "*") {
			return nil, "", refuse
		}
		if i%2 == 0 {
			names = append(names, bare(w))
		}
	}
	if n%2 == 1 {
		return nil, "", refuse
	}
	return names, table, nil
}

// split makes words of a query: names, bare or in quotes, and commas.
func split(query string) (words []string, ok bool) {
	for s := strings.TrimSpace(query); s != ""; s = strings.TrimLeft(s, " \t\r\n") {
		n := strings.IndexAny(s, " \t\r\n,")
		switch {
		case s[0] == ',':
			n = 1
		case s[0] == '"':
			for n = 1; n < len(s); n++ {
				if s[n] != '"' {
					continue
				}
				if n++; n >= len(s) || s[n] != '"' {
					break
				}
			}
		case n < 0:
			n = len(s)
		}
		words, s = append(words, s[:n]), s[n:]
	}
	for _, w := range words {
		if !strings.HasPrefix(w, `"`) && w != "," && w != "*" && strings.ContainsAny(w, `"'().;*+-/=<>|`) {
			return nil, false
		}
	}
	return words, true
}

func bare(word string) string {
	if len(word) < 2 || word[0] != '"' {
		return word
	}
	return strings.ReplaceAll(word[1:len(word)-1], `""`, `"`)
}

// queried opens what a query reads.
func (d *DB) queried(query string) (files []*columnar.File, names []string, err error) {
	names, table, err := d.parse(query)
	if err != nil {
		return nil, nil, err
	}
	if files, err = d.table("", table); err != nil {
		return nil, nil, d.fail("cannot read the table "+table, err)
	}
	if files == nil {
		return nil, nil, &db.Error{Where: d.where, What: "there is no table " + table}
	}
	if names == nil {
		for _, c := range files[0].Columns {
			names = append(names, c.Name)
		}
	}
	return files, names, nil
}

// Describe implements db.Session.
func (d *DB) Describe(_ context.Context, query string) (out []db.Column, err error) {
	files, names, err := d.queried(query)
	if err != nil {
		return nil, err
	}
	defer closeAll(files)
	at, err := places(files[0].Columns, names)
	if err != nil {
		return nil, d.fail("refuses the query", err)
	}
	for _, i := range at {
		out = append(out, standardType(&files[0].Columns[i]))
	}
	return out, nil
}

// Scan implements db.Session.
func (d *DB) Scan(ctx context.Context, query string, columns []db.Column, row func([][]byte) error) error {
	files, names, err := d.queried(query)
	if err != nil {
		return err
	}
	defer closeAll(files)
	at, err := places(files[0].Columns, names)
	if err != nil {
		return d.fail("refuses the query", err)
	}
	fields, made := make([][]byte, len(at)), make([][]byte, len(at))
	return each(ctx, files, names, func(values []reading.Value) error {
		for i := range values {
			t := files[0].Columns[at[i]].Type
			switch v := &values[i]; {
			case v.Null:
				fields[i] = nil
			default:
				made[i] = v.Append(made[i][:0], t)
				if fields[i] = made[i]; fields[i] == nil {
					fields[i] = []byte{}
				}
			}
		}
		return row(fields)
	})
}

// List implements db.Lister.
func (d *DB) List(ctx context.Context) (out []db.Listing, err error) {
	names, err := d.folder.tables()
	if err != nil {
		return nil, d.fail("cannot list the tables", err)
	}
	for _, name := range names {
		paths, _, err := d.folder.files(name)
		if err == nil && len(paths) == 0 {
			continue
		}
		x := db.Listing{Name: name, Kind: "table"}
		if err == nil {
			x.Rows, err = d.Count(ctx, &db.Table{Name: name})
		}
		if err != nil {
			x.Kind = "unreadable"
		}
		for _, p := range paths {
			if info, err := os.Stat(p); err == nil {
				x.Bytes += info.Size()
			}
		}
		out = append(out, x)
	}
	return out, nil
}

// Head implements db.Lister.
func (d *DB) Head(ctx context.Context, schema, table string, n int) (rows [][]*string, err error) {
	files, err := d.table(schema, table)
	if err != nil {
		return nil, d.fail("cannot read "+table, err)
	}
	defer closeAll(files)
	if len(files) == 0 {
		return nil, nil
	}
	var names []string
	for _, c := range files[0].Columns {
		if c.Unfit == "" {
			names = append(names, c.Name)
		}
	}
	at, err := places(files[0].Columns, names)
	if err != nil {
		return nil, err
	}
	err = each(ctx, files, names, func(values []reading.Value) error {
		if len(rows) == n {
			return errEnough
		}
		row := make([]*string, len(files[0].Columns))
		for i := range values {
			if v := &values[i]; !v.Null {
				text := v.Plain(files[0].Columns[at[i]].Type)
				row[at[i]] = &text
			}
		}
		rows = append(rows, row)
		return nil
	})
	if err == errEnough {
		err = nil
	}
	return rows, err
}

// TryHold implements db.Holder.
func (d *DB) TryHold(_ context.Context, t db.Name) (held bool, who string, err error) {
	if err := d.named(t.Schema, t.Table); err != nil {
		return false, "", err
	}
	if d.held[t.Table] != nil {
		return true, "", nil
	}
	h, err := d.folder.hold(t.Table)
	if err != nil {
		return false, "", d.fail("cannot see whether the table is being loaded", err)
	}
	if h == nil {
		return false, "", nil
	}
	d.held[t.Table] = h
	return true, "", nil
}

// DropExactly implements db.Dropper. A table's folder goes as a whole, if it has nothing else.
func (d *DB) DropExactly(ctx context.Context, t *db.Table, rows int64) (bool, error) {
	held, _, err := d.TryHold(ctx, db.Name{Table: t.Name})
	if err != nil || !held {
		return false, err
	}
	path := filepath.Join(d.folder.path, t.Name)
	n, err := d.Count(ctx, t)
	if err != nil || n != rows || !isFolder(path) {
		return false, err
	}
	others, err := strangers(path)
	if err != nil || len(others) > 0 {
		return false, err
	}
	// Into a stage first, at once: one that decides nothing goes, whoever ends it.
	s, err := d.folder.newStage(t.Name)
	if err == nil {
		err = os.Rename(path, filepath.Join(s.path, oldOf))
	}
	if err == nil {
		if err = os.Remove(path + ".sql"); errors.Is(err, fs.ErrNotExist) {
			err = nil
		}
	}
	if err == nil {
		err = os.RemoveAll(s.path)
	}
	if err != nil {
		return false, d.fail("cannot drop the table "+t.Name, err)
	}
	return true, nil
}

// Outcome implements db.Outcomer.
func (d *DB) Outcome(_ context.Context, _, mark string) (db.Outcome, error) {
	table, token, ok := cutMark(mark)
	if !ok {
		return db.Unknown, nil
	}
	if exists(filepath.Join(d.folder.path, markName+token)) {
		return db.Committed, nil
	}
	stages, err := d.folder.stages(table)
	if err != nil {
		return db.Unknown, err
	}
	for _, s := range stages {
		if s.token != token {
			continue
		}
		c, err := s.list()
		if err != nil {
			return db.Unknown, err
		}
		if c != nil {
			return db.Committed, nil
		}
		// It may still be on its way.
		held, _, err := d.TryHold(context.Background(), db.Name{Table: table})
		if err != nil || !held {
			return db.Unknown, err
		}
	}
	return db.RolledBack, nil
}

// Settled implements db.Outcomer.
func (d *DB) Settled(_ context.Context, _, mark string) {
	if _, token, ok := cutMark(mark); ok {
		os.Remove(filepath.Join(d.folder.path, markName+token))
	}
}

// A mark is the table and the token of a stage.
func markOf(s *stage) string { return "stage " + s.token + " " + s.table }

func cutMark(mark string) (table, token string, ok bool) {
	rest, ok := strings.CutPrefix(mark, "stage ")
	if !ok {
		return "", "", false
	}
	token, table, ok = strings.Cut(rest, " ")
	return table, token, ok
}
