package account

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/phrase"
	"ambertray/internal/plan"
	"ambertray/internal/proof"
	"ambertray/internal/reading"
	"ambertray/internal/rows"
	"ambertray/internal/sink"
	"ambertray/internal/source"
	"ambertray/internal/sqltype"
	"ambertray/internal/tray"
)

// A DeepCheck compares every value that a load put into a table with what its
// sources hold.
type DeepCheck struct {
	*proof.Result
	// Names are those of the sources, by Row.Source: the files, and behind them
	// the records that were mended.
	Names []string
	// Columns are those of the rows; Key are the places of the key's.
	Columns []string
	Key     []int
	// Left are columns that cannot be compared by value.
	Left []Uncomparable
	// Within tells that the table was shared, so that only the presence of the
	// load's rows could be checked.
	Within bool
}

// An Uncomparable is a column with its type in the database.
type Uncomparable struct{ Column, Type string }

// NotCompared names the columns that are left, with their types.
func (d *DeepCheck) NotCompared() (names []string) {
	for _, u := range d.Left {
		names = append(names, u.Column+" ("+u.Type+")")
	}
	return names
}

// Deep rereads the sources of a load, and its mended rejects, and compares
// every value with the table. The sources must be unchanged: checked is what [Verify] says of them, and
// they are held against their SHA-256 once more as they are read.
func Deep(ctx context.Context, e *tray.Entry, r *tray.Receipt, p *plan.Plan, conn db.Session, checked []SourceCheck,
	progress func(stage string, rows int64)) (*DeepCheck, error) {
	sources, without, err := accounted(ctx, e, r, p, checked)
	if err != nil {
		return nil, err
	}
	return deep(ctx, sources, without, r, p, conn, tableOf(r, p), progress)
}

// A Proof is what a load has compared before its commit.
type Proof struct {
	Entry   *tray.Entry
	Receipt *tray.Receipt
	Plan    *plan.Plan // as it is run
	Sources []*source.Source
	Session db.Session // in the transaction of the load
	Table   db.Name    // that has the rows until the commit
}

// Prove reads the sources of a load again, and compares every value with what the table
// holds, in the load's own transaction.
func Prove(ctx context.Context, x Proof, progress func(stage string, rows int64)) (*DeepCheck, error) {
	var without []map[int64]bool
	at := map[string]int{}
	for i, s := range x.Sources {
		at[s.Name] = i
		without = append(without, map[int64]bool{})
	}
	if x.Receipt.Records.Rejected > 0 {
		if err := withoutRejects(ctx, x.Entry, at, without); err != nil {
			return nil, err
		}
	}
	t := x.Plan.Definition()
	t.Schema, t.Name = x.Table.Schema, x.Table.Table
	return deep(ctx, x.Sources, without, x.Receipt, x.Plan, x.Session, t, progress)
}

// deep compares the records of sources, but for some lines, with a table.
func deep(ctx context.Context, sources []*source.Source, without []map[int64]bool, r *tray.Receipt, p *plan.Plan,
	conn db.Session, t dialect.Table, progress func(stage string, rows int64)) (*DeepCheck, error) {
	d := &DeepCheck{Within: r.Table.Rows > r.Records.Loaded+r.Records.Mended}
	for _, s := range sources {
		d.Names = append(d.Names, s.Name)
	}
	found, err := conn.Find(ctx, t.Schema, t.Name)
	if err != nil {
		return nil, err
	}
	if found == nil {
		return nil, fmt.Errorf("the table %s does not exist any more", db.Qualified(t.Schema, t.Name))
	}
	side := &tableSide{conn: conn, table: t}
	opt := proof.Options{Within: d.Within, Progress: progress}
	places := found.Places()
	for i, c := range t.Columns {
		at, known := places[c.Name]
		if !known {
			return nil, fmt.Errorf("the table %s has no column %s any more", db.Qualified(t.Schema, t.Name), c.Name)
		}
		typ := c.Type
		if typ.IsText() {
			typ = sqltype.Type{Kind: sqltype.Text}
		}
		if found.Columns[at].SQL.Kind == sqltype.None {
			typ.Kind = sqltype.None
			d.Left = append(d.Left, Uncomparable{c.Name, found.Columns[at].Type})
		}
		is := found.Columns[at]
		is.SQL = typ
		side.columns, opt.Types = append(side.columns, is), append(opt.Types, typ)
		d.Columns = append(d.Columns, c.Name)
		if slices.Contains(p.Table.Key, c.Name) || len(p.Table.Key) == 0 && is.Key > 0 {
			d.Key = append(d.Key, i)
		}
	}
	job := rows.Job{Sources: sources, Plan: p, Without: without, Origins: origins(r, p), MaxRejects: -1,
		Entry: r.Entry, At: r.Started}
	were := r.Sources[:min(len(r.Sources), len(sources))]
	d.Result, err = proof.Compare(ctx, &sourceSide{job, were}, side, opt)
	return d, err
}

// accounted opens the sources of a load, and the files of its mends, with the
// records in each that did not go into the table.
func accounted(ctx context.Context, e *tray.Entry, r *tray.Receipt,
	p *plan.Plan, checked []SourceCheck) (sources []*source.Source, without []map[int64]bool, err error) {
	for _, s := range r.Skipped {
		if s.Kind == tray.SkipKnown || s.Kind == tray.SkipSuperseded {
			return nil, nil, fmt.Errorf("of its records, %s, and which ones was not noted, so that its values "+
				"cannot be "+
				"compared", s.Words())
		}
	}
	for _, check := range checked {
		if check.Answer != Agrees {
			return nil, nil, fmt.Errorf("%s: %s\n  a deep check needs the file as it was loaded", check.Path,
				check.Text)
		}
	}
	at := map[string]int{}
	for i, s := range r.Sources {
		path := s.Path
		if _, err := os.Stat(path); err != nil {
			path = s.File
		}
		known := p.Known(&p.Sources[min(i, len(p.Sources)-1)])
		src, err := source.Open(ctx, path, known)
		if err != nil {
			return nil, nil, err
		}
		src.Name = strings.Replace(src.Name, path, s.Path, 1)
		at[src.Name] = i
		sources, without = append(sources, src), append(without, map[int64]bool{})
	}
	if r.Rejects() > 0 {
		if err := withoutRejects(ctx, e, at, without); err != nil {
			return nil, nil, err
		}
	}
	for _, m := range r.Mends {
		src, err := openKept(ctx, e, m.Kept)
		if err != nil {
			return nil, nil, err
		}
		if sum, err := src.Sum(); err != nil || sum != m.SHA256 {
			return nil, nil, fmt.Errorf("%s is not as it was when it was loaded", e.Path(m.Kept))
		}
		mended := map[int64]bool{}
		for _, n := range m.Mended {
			mended[n] = true
		}
		left := map[int64]bool{}
		if err := eachKept(src, func(line, number int64) { left[line] = !mended[number] }); err != nil {
			return nil, nil, err
		}
		sources, without = append(sources, src), append(without, left)
	}
	return sources, without, nil
}

// withoutRejects adds the records that were rejected, by source and line.
func withoutRejects(ctx context.Context, e *tray.Entry, at map[string]int, without []map[int64]bool) error {
	_, err := tray.ReadRejects(ctx, e.Path(tray.OriginalFile), func(x *tray.Reject) error {
		if i, ok := at[x.Source]; ok {
			without[i][x.Line] = true
		}
		return nil
	})
	return err
}

// sourceSide yields the rows that were loaded.
type sourceSide struct {
	job  rows.Job
	were []tray.Source // what the first of them were
}

// Rows implements proof.Side.
func (s *sourceSide) Rows(ctx context.Context, encoder func() sink.Encoder, take func(int, []byte) error) error {
	read, err := rows.Into(ctx, s.job, &sideSink{encoder, take})
	if err != nil {
		return err
	}
	for i, was := range s.were {
		if was.SHA256 != "" && was.SHA256 != read.Sums[i] {
			return fmt.Errorf("%s: %w", was.Path, rows.ErrChanged)
		}
	}
	return nil
}

type sideSink struct {
	encoder func() sink.Encoder
	take    func(int, []byte) error
}

func (s *sideSink) Encoder() sink.Encoder { return s.encoder() }
func (s *sideSink) Write(_ context.Context, b sink.Batch) ([]sink.Refusal, error) {
	return nil, s.take(b.Rows, b.Data)
}

// tableSide yields the rows of a table.
type tableSide struct {
	conn    db.Session
	table   dialect.Table
	columns []db.Column
}

// Rows implements proof.Side.
func (s *tableSide) Rows(ctx context.Context, encoder func() sink.Encoder, take func(int, []byte) error) error {
	var names []string
	var readers []*reading.Reader
	for _, c := range s.columns {
		names = append(names, c.Name)
		t := c.SQL
		if t.Kind == sqltype.None {
			t.Kind = sqltype.Text
		}
		readers = append(readers, reading.Plain(t))
	}
	enc := encoder()
	row := make([]reading.Value, len(readers))
	var data []byte
	rows := 0
	query := fmt.Sprintf("SELECT %s FROM %s", s.conn.Dialect().List(names),
		s.conn.Dialect().Qualified(s.table.Schema, s.table.Name))
	x := db.Extract{Query: query, Columns: s.columns, Table: &db.Table{Schema: s.table.Schema, Name: s.table.Name}}
	err := db.Carry(ctx, s.conn, x, func(fields [][]byte, _ bool) error {
		for i, f := range fields {
			v := &row[i]
			if f == nil {
				v.Null = true
			} else if readers[i].Read(f, true, v) != reading.OK {
				*v = reading.Value{Wide: f} // not of the column's type
			}
		}
		data = enc.Append(data, row)
		if rows++; len(data) < 1<<16 {
			return nil
		}
		err := take(rows, data)
		data, rows = data[:0], 0
		return err
	})
	if err != nil {
		return err
	}
	return take(rows, data)
}

// Place says where a record of the source side is.
func (d *DeepCheck) Place(r proof.Row) string {
	line := "line " + phrase.Grouped(r.Line)
	if len(d.Names) == 1 {
		return line
	}
	return d.Names[r.Source] + ", " + line
}
