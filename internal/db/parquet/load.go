package parquet

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"hash/maphash"
	"math/big"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"ambertray/internal/columnar"
	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/db/standard"
	"ambertray/internal/reading"
	"ambertray/internal/sink"
	"ambertray/internal/sqltype"
	"ambertray/internal/tally"
)

// errEnough ends a reading that has what it wants.
var errEnough = errors.New("enough")

// A load writes files into its stage.
type load struct {
	d       *DB
	spec    db.Spec
	table   string
	stage   *stage
	columns []columnar.Column // of the files
	from    []int             // for each of them, where the row has it, or -1
	known   columnar.Known
	before  []string // files of a table that is added to
	files   []string // of the stage, by name
	out     *os.File
	buf     *bufio.Writer
	w       *columnar.Writer
	seed    maphash.Seed
	keys    *keys
	held    bool // by the load itself
	done    bool
}

// Begin implements db.Session.
func (d *DB) Begin(ctx context.Context, spec db.Spec) (_ db.Load, err error) {
	l := &load{d: d, spec: spec, table: spec.Home().Table, seed: maphash.MakeSeed()}
	if err := l.refuse(); err != nil {
		return nil, err
	}
	held := d.held[l.table] != nil
	if got, _, err := d.TryHold(ctx, spec.Home()); err != nil || !got {
		if err == nil {
			err = &db.Held{Table: spec.Home()}
		}
		return nil, err
	}
	l.held = !held
	defer func() {
		if err != nil {
			l.end()
		}
	}()
	stages, err := d.folder.stages(l.table)
	for _, s := range stages {
		if err == nil {
			err = d.folder.settle(s)
		}
	}
	if err != nil {
		return nil, d.fail("cannot settle what another load has left", err)
	}
	d.folder.sweep()
	if err := l.meet(); err != nil {
		return nil, err
	}
	if l.stage, err = d.folder.newStage(l.table); err != nil {
		return nil, d.fail("cannot write", err)
	}
	d.open = l
	return l, nil
}

// refuse says what a folder of files cannot do.
func (l *load) refuse() error {
	what := ""
	switch s := &l.spec; {
	case l.d.readOnly:
		what = "the connection only reads"
	case s.Keep != "":
		what = "old rows are not kept"
	case s.Like != nil:
		what = "a table is not made like another"
	case s.Stage != nil || s.Mode == db.Merge:
		what = "rows are not merged"
	case s.Steps != "":
		what = "a load does not commit on its way"
	case len(s.Table.References) > 0:
		what = "there are no references to other tables"
	case slices.ContainsFunc(s.Table.Columns, func(c dialect.Column) bool { return c.Identity }):
		what = "there is no column that numbers itself"
	case slices.ContainsFunc(s.Table.Columns, func(c dialect.Column) bool { return c.Default != nil }):
		what = "there are no defaults"
	}
	if what == "" {
		return nil
	}
	return &db.Error{Where: l.d.where, What: what + " in a folder of Parquet files"}
}

// meet finds out what is there, and what the files are to have.
func (l *load) meet() error {
	found, err := l.d.table(l.spec.Home().Schema, l.table)
	if err != nil {
		return l.d.fail("cannot read the table "+l.table, err)
	}
	defer closeAll(found)
	path := filepath.Join(l.d.folder.path, l.table)
	if found == nil && exists(path) {
		return &db.Error{Where: l.d.where,
			What: fmt.Sprintf("%s is there, and no table: a table's folder has files that "+
				"end in %s", path, ending), Do: "choose another name with --table, or move it away"}
	}
	switch {
	case found == nil && !l.spec.Mode.New():
		return &db.Error{Where: l.d.where, What: "there is no table " + l.table}
	case found != nil && l.spec.Mode == db.Create:
		return &db.Error{Where: l.d.where, What: "the table " + l.table + " is there already"}
	}
	if found != nil && l.spec.Mode != db.Append {
		others, err := strangers(path)
		if err != nil {
			return l.d.fail("cannot read the folder of the table", err)
		}
		if len(others) > 0 || !isFolder(path) {
			return &db.Error{Where: l.d.where,
				What: fmt.Sprintf("the folder of the table has files that are not its rows: "+
					"%s", strings.Join(append(others, "")[:max(1, len(others))], ", ")),
				Do: "move them away: a table that is emptied or replaced goes with its folder"}
		}
	}
	if l.spec.Mode.New() {
		l.define()
		return nil
	}
	return l.follow(found)
}

// define makes the columns of a new table.
func (l *load) define() {
	t := &l.spec.Table
	for i, c := range t.Columns {
		l.columns = append(l.columns, columnar.Column{Name: c.Name, Type: c.Type,
			Required: t.TakesNoNulls(&c), Comment: c.Comment})
		l.from = append(l.from, i)
	}
	l.known = columnar.Known{Comment: t.Comment, Key: t.Key, Unique: t.Unique}
	l.keys = newKeys(l)
}

// follow takes the columns of a table that is there.
func (l *load) follow(files []*columnar.File) error {
	l.known = files[0].Known
	if l.spec.Mode == db.Append {
		for _, f := range files {
			l.before = append(l.before, f.Path)
		}
	}
	given := l.spec.Table.Places()
	for _, c := range files[0].Columns {
		at, is := given[c.Name]
		if !is {
			at = -1
		}
		switch {
		case c.Unfit != "":
			return &db.Error{Where: l.d.where, What: fmt.Sprintf("column %s: %s", c.Name, c.Unfit)}
		case at < 0 && c.Required:
			return &db.Error{Where: l.d.where,
				What: fmt.Sprintf("column %s takes no nulls, and has no values in the load",
					c.Name)}
		case columnar.TypeName(c.Type) != c.Written:
			return &db.Error{Where: l.d.where,
				What: fmt.Sprintf("column %s is %s in the files that are there, and would be "+
					"%s in those of this load", c.Name, c.Written, columnar.TypeName(c.Type))}
		case at >= 0 && l.spec.Table.Columns[at].Type != c.Type:
			// The load reads values in a way of its own, as a longer text.
			c.Type = l.spec.Table.Columns[at].Type
			if columnar.TypeName(c.Type) != c.Written {
				return &db.Error{Where: l.d.where,
					What: fmt.Sprintf("column %s is %s, and values of type %s do not go into it",
						c.Name, c.Written, c.Type)}
			}
		}
		l.columns, l.from = append(l.columns, c), append(l.from, at)
	}
	l.keys = newKeys(l)
	return nil
}

// encoder makes bytes of rows in the order of the files' columns.
type encoder struct {
	e    *columnar.Encoder
	from []int
	row  []reading.Value
	seed maphash.Seed
	sum  uint64
}

// Encoder implements sink.Sink.
func (l *load) Encoder() sink.Encoder {
	return &encoder{e: columnar.NewEncoder(l.types()), from: l.from, row: make([]reading.Value, len(l.from)),
		seed: l.seed}
}

func (l *load) types() (types []sqltype.Type) {
	for _, c := range l.columns {
		types = append(types, c.Type)
	}
	return types
}

// Append implements sink.Encoder.
func (e *encoder) Append(b []byte, row []reading.Value) []byte {
	for i, at := range e.from {
		if at < 0 {
			e.row[i] = reading.Value{Null: true}
		} else {
			e.row[i] = row[at]
		}
	}
	n := len(b)
	b = e.e.Append(b, e.row)
	e.sum += maphash.Bytes(e.seed, b[n:])
	return b
}

// Sum implements sink.Summer.
func (e *encoder) Sum() uint64 {
	s := e.sum
	e.sum = 0
	return s
}

// Write implements sink.Sink.
func (l *load) Write(_ context.Context, b sink.Batch) ([]sink.Refusal, error) {
	data, refused := l.keys.first(b)
	for len(data) > 0 {
		if err := l.open(); err != nil {
			return nil, err
		}
		most := b.Rows
		if n := l.spec.FileRows; n > 0 {
			most = int(min(int64(most), n-l.w.Rows()))
		}
		var err error
		if data, err = l.w.Write(data, most); err != nil {
			return nil, l.d.fail("cannot write", err)
		}
		if l.spec.FileRows > 0 && l.w.Rows() >= l.spec.FileRows {
			if err := l.shut(); err != nil {
				return nil, err
			}
		}
	}
	return refused, nil
}

// open begins a file, unless one is open.
func (l *load) open() error {
	if l.w != nil {
		return nil
	}
	return l.openAs(fmt.Sprintf("%s-%s-%s-%05d%s", l.table, l.stage.begun.UTC().Format("20060102T150405"),
		l.stage.token,
		len(l.files)+1, ending)) // which are read in the order of their names
}

func (l *load) openAs(name string) error {
	f, err := os.OpenFile(filepath.Join(l.stage.path, rowsOf, name), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o666)
	if err != nil {
		return l.d.fail("cannot write", err)
	}
	l.out, l.buf, l.files = f, bufio.NewWriterSize(f, 1<<18), append(l.files, name)
	l.w = columnar.NewWriter(l.buf, l.table, l.known, l.columns)
	return nil
}

// shut ends the file that is open.
func (l *load) shut() error {
	if l.w == nil {
		return nil
	}
	err := errors.Join(l.w.Close(), l.buf.Flush(), l.out.Sync(), l.out.Close())
	l.w, l.out = nil, nil
	if err != nil {
		return l.d.fail("cannot write", err)
	}
	return nil
}

// staged opens the files that the load has written.
func (l *load) staged() ([]*columnar.File, error) {
	if err := l.shut(); err != nil {
		return nil, err
	}
	var paths []string
	for _, name := range l.files {
		paths = append(paths, filepath.Join(l.stage.path, rowsOf, name))
	}
	return open(paths)
}

// all opens the files that the table will have.
func (l *load) all() ([]*columnar.File, error) {
	files, err := l.staged()
	if err != nil || len(l.before) == 0 {
		return files, err
	}
	before, err := open(l.before)
	if err != nil {
		closeAll(files)
		return nil, err
	}
	return append(before, files...), nil
}

// Finish implements db.Finisher. A table without rows is a file without rows.
func (l *load) Finish(ctx context.Context) ([]sink.Refusal, error) {
	if len(l.files) == 0 {
		if err := l.open(); err != nil {
			return nil, err
		}
	}
	return l.keys.settle(ctx)
}

// Tally implements db.Load.
func (l *load) Tally(ctx context.Context) (int64, []tally.Tally, error) {
	files, err := l.all()
	if err != nil {
		return 0, nil, err
	}
	defer closeAll(files)
	return tallied(ctx, files, l.spec.Table.Columns)
}

// Check implements db.Checker: it reads back what was written.
func (l *load) Check(ctx context.Context) (*db.Checks, error) {
	files, err := l.staged()
	if err != nil {
		return nil, err
	}
	defer closeAll(files)
	var names []string
	for _, c := range l.columns {
		names = append(names, c.Name)
	}
	checks := &db.Checks{Totals: make([]*big.Int, len(l.spec.Table.Columns))}
	sums := make([]tally.Sum, len(l.columns))
	enc, row := columnar.NewEncoder(l.types()), []byte(nil)
	err = each(ctx, files, names, func(values []reading.Value) error {
		checks.Rows++
		row = enc.Append(row[:0], values)
		checks.Sum += maphash.Bytes(l.seed, row)
		for i := range values {
			if v := &values[i]; !v.Null && db.HasTotal(l.columns[i].Type) {
				add(&sums[i], v)
			}
		}
		return nil
	})
	for i, at := range l.from {
		if at >= 0 && db.HasTotal(l.columns[i].Type) {
			checks.Totals[at] = sums[i].Total()
		}
	}
	return checks, err
}

func add(s *tally.Sum, v *reading.Value) {
	if v.Wide != nil {
		s.AddBig(v.Big())
	} else {
		s.Add(v.Int)
	}
}

// Mark implements db.Marked.
func (l *load) Mark(context.Context) (string, error) { return markOf(l.stage), nil }

// Unmark implements db.Marked.
func (l *load) Unmark(ctx context.Context) { l.d.Settled(ctx, "", markOf(l.stage)) }

// Commit implements db.Load.
func (l *load) Commit(context.Context) error {
	if len(l.files) == 0 {
		if err := l.open(); err != nil {
			return err
		}
	}
	if err := l.shut(); err != nil {
		return err
	}
	if l.spec.Mode.New() {
		sql := strings.Join(standard.Dialect.Create(l.spec.Table), ";\n") + ";\n"
		if err := os.WriteFile(filepath.Join(l.stage.path, l.table+".sql"), []byte(sql), 0o666); err != nil {
			return l.d.fail("cannot write the definition", err)
		}
	}
	mode := l.spec.Mode
	if mode == "" {
		mode = db.Create
	}
	if err := l.stage.decide(mode, l.files); err != nil {
		return l.d.fail("cannot commit", err)
	}
	l.done = true
	defer l.end()
	if err := l.d.folder.settle(l.stage); err != nil {
		return &db.Unsure{Err: l.d.fail("the files are not all in their place yet", err)}
	}
	return nil
}

// Rollback implements db.Load.
func (l *load) Rollback() error {
	if l.done {
		return nil
	}
	l.done = true
	defer l.end()
	if l.out != nil {
		l.out.Close()
	}
	if err := os.RemoveAll(l.stage.path); err != nil {
		return l.d.fail("cannot take away what the load has written", err)
	}
	return nil
}

// end lets others at the table.
func (l *load) end() {
	l.d.open = nil
	if l.held {
		l.held = false
		l.d.held[l.table].release()
		delete(l.d.held, l.table)
	}
}
