package account

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"hash/maphash"
	"io/fs"
	"log/slog"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"ambertray/internal/db"
	"ambertray/internal/load"
	"ambertray/internal/plan"
	"ambertray/internal/rows"
	"ambertray/internal/source"
	"ambertray/internal/source/delimited"
	"ambertray/internal/tray"
)

// A MendJob is the loading of corrected rejects.
type MendJob struct {
	Entry   *tray.Entry
	Receipt *tray.Receipt // of the entry
	Plan    *plan.Plan    // as it was run
	// File has the corrected rejects; Name is how the person called it.
	File, Name string
	Session    db.Session
	SlowPath   bool
	Log        *slog.Logger
	Progress   func(rows.Progress)
	At         time.Time
}

// A Mended is what became of corrected rejects.
type Mended struct {
	Receipt *tray.Receipt // the entry's new one
	Tried   int
	Mended  []int64
	Refused []tray.RefusedAgain
	// Settled are numbers in the file that had been mended or waived before.
	Settled []int64
}

// Mend loads corrected rejects into the table that their load went to, under
// the same plan, and settles the account: a reject goes in once at most, even
// if the program is ended at any moment. Those that are still refused keep
// waiting, with their new reasons.
func Mend(ctx context.Context, job MendJob) (*Mended, error) {
	m := &mend{MendJob: job, out: &Mended{}}
	if err := m.originals(ctx); err != nil {
		return nil, err
	}
	name, err := m.keep(ctx)
	if err != nil {
		return nil, err
	}
	none := m.out.Tried == 0
	if m.out.Tried += len(m.refused); none {
		os.Remove(job.Entry.Path(name))
		m.out.Receipt, m.out.Refused = job.Receipt, m.refused
		return m.out, nil
	}
	if err := m.load(ctx, name); err != nil {
		var in *load.Committed
		var unsure *db.Unsure
		if !errors.As(err, &in) && !errors.As(err, &unsure) {
			os.Remove(job.Entry.Path(name))
		}
		return nil, err
	}
	return m.out, nil
}

type mend struct {
	MendJob
	out     *Mended
	seed    maphash.Seed
	rejects map[int64]original
	headers []string
	refused []tray.RefusedAgain // so far, in the order of the file
}

// original is what has to be known of a reject as it was.
type original struct {
	hash uint64 // of its fields
	// broken tells that it was no record of the source's columns, so that it
	// cannot be tried unless it is changed.
	broken                bool
	column, reason, value string
	code                  tray.Code
	source                string
	line                  int64
}

// originals reads the rejects as they were.
func (m *mend) originals(ctx context.Context) error {
	m.seed, m.rejects = maphash.MakeSeed(), map[int64]original{}
	widths := map[int64]int{}
	headers, err := tray.ReadRejects(ctx, m.Entry.Path(tray.OriginalFile), func(r *tray.Reject) error {
		o := original{hash: m.hash(r.Fields), column: r.Column, code: r.Code, reason: r.Reason, value: r.Value,
			source: r.Source, line: r.Line}
		o.broken = r.Code.Broken(r.Reason) ||
			slices.ContainsFunc(r.Fields, func(f tray.Field) bool { return strings.ContainsRune(f.Text, '\ufffd') })
		widths[r.Number] = len(r.Fields)
		m.rejects[r.Number] = o
		return nil
	})
	if err != nil {
		return err
	}
	m.headers = headers
	for n, o := range m.rejects {
		o.broken = o.broken || widths[n] != len(headers)
		m.rejects[n] = o
	}
	if int64(len(m.rejects)) != m.Receipt.Rejects() {
		return fmt.Errorf("%s has %d rejects, but the receipt tells of %d\n  the file has been changed; restore it",
			m.Entry.Path(tray.OriginalFile), len(m.rejects), m.Receipt.Rejects())
	}
	return nil
}

// hash is of a record's fields, without the empty ones that spreadsheets add
// at its end.
func (m *mend) hash(fields []tray.Field) uint64 {
	var h maphash.Hash
	h.SetSeed(m.seed)
	for _, f := range trimmed(fields) {
		h.WriteString(f.Text)
		h.WriteByte(0)
	}
	return h.Sum64()
}

func trimmed(fields []tray.Field) []tray.Field {
	for len(fields) > 0 && fields[len(fields)-1].Text == "" {
		fields = fields[:len(fields)-1]
	}
	return fields
}

// keep writes the records that are to be tried into a file of the entry, which
// then is loaded, and stays as the proof of what was.
func (m *mend) keep(ctx context.Context) (_ string, err error) {
	var name string
	for n := len(m.Receipt.Mends) + 1; ; n++ {
		name = fmt.Sprintf("mend-%d.csv", n)
		if _, err := os.Stat(m.Entry.Path(name)); errors.Is(err, fs.ErrNotExist) {
			break
		}
	}
	f, err := tray.CreateFile(m.Entry.Path(name))
	if err != nil {
		return "", fmt.Errorf("the entry cannot be written: %w", err)
	}
	defer func() {
		if err2 := f.Close(); err == nil {
			err = err2
		}
		if err != nil {
			os.Remove(m.Entry.Path(name))
		}
	}()
	w := bufio.NewWriter(f)
	head := []tray.Field{{Text: "reject"}, {Text: "record"}, {Text: "source"}, {Text: "line"}}
	for _, h := range m.headers {
		head = append(head, tray.Field{Text: h})
	}
	if _, err := w.Write(append(tray.AppendFields(nil, head), '\n')); err != nil {
		return "", err
	}
	mended, waived := m.Receipt.Settled()
	seen := map[int64]bool{}
	var buf []byte
	headers, err := tray.ReadRejects(ctx, m.File, func(r *tray.Reject) error {
		was, known := m.rejects[r.Number]
		switch {
		case !known:
			return m.wrong(fmt.Sprintf("names the reject %d, which the entry does not have", r.Number))
		case seen[r.Number]:
			return m.wrong(fmt.Sprintf("has the reject %d twice", r.Number))
		}
		seen[r.Number] = true
		if mended[r.Number] || waived[r.Number] {
			m.out.Settled = append(m.out.Settled, r.Number)
			return nil
		}
		if was.broken && m.hash(r.Fields) == was.hash {
			m.refused = append(m.refused,
				tray.RefusedAgain{Reject: r.Number, Column: was.column, Code: was.code, Reason: was.reason +
					"; it was not changed", Value: was.value})
			return nil
		}
		fields := r.Fields
		if len(fields) > len(m.headers) {
			fields = fields[:max(len(m.headers), len(trimmed(fields)))]
		}
		for len(fields) < len(m.headers) {
			fields = append(fields, tray.Field{})
		}
		buf = strconv.AppendInt(buf[:0], r.Number, 10)
		buf = strconv.AppendInt(append(buf, ','), r.Record, 10)
		// Where it came from is told by the rejects as they were.
		buf = tray.AppendFields(append(buf, ','), []tray.Field{{Text: was.source}})
		buf = strconv.AppendInt(append(buf, ','), was.line, 10)
		buf = append(tray.AppendFields(append(buf, ','), fields), '\n')
		m.out.Tried++
		_, err := w.Write(buf)
		return err
	})
	if err != nil {
		return "", err
	}
	if !slices.Equal(headers, m.headers) {
		return "", m.wrong(fmt.Sprintf("has other columns than the rejects had: %s, not %s", plan.List(headers),
			plan.List(m.headers)))
	}
	if err := w.Flush(); err != nil {
		return "", err
	}
	return name, f.Sync()
}

func (m *mend) wrong(what string) error {
	return &source.Problem{Source: m.Name, Decision: true, What: what, Do: "correct the file; " + tray.OriginalFile +
		" in the entry has the rejects as they were. Nothing was changed"}
}

// load loads the kept file as what it is: an addition to the table.
func (m *mend) load(ctx context.Context, name string) error {
	src, err := openKept(ctx, m.Entry, name)
	if err != nil {
		return err
	}
	def := m.Plan.Definition()
	for i := range def.Columns {
		def.Columns[i].Comment = ""
	}
	found, err := m.Session.Find(ctx, def.Schema, def.Name)
	if err != nil {
		return err
	}
	if found == nil {
		return fmt.Errorf("the table %s does not exist any more\n  nothing was changed",
			db.Qualified(def.Schema, def.Name))
	}
	for _, c := range def.Columns {
		if !slices.ContainsFunc(found.Columns, func(f db.Column) bool { return f.Name == c.Name }) {
			return fmt.Errorf("the table %s has no column %s any more\n  nothing was changed",
				db.Qualified(def.Schema, def.Name), c.Name)
		}
	}
	var merge *load.Merge
	if x := m.Receipt.Merge; x != nil {
		merge = &load.Merge{Target: found, Key: x.Key, OnlyNew: x.OnlyNew, Missing: tray.MissingKept}
	}
	kept := &refusedRejects{}
	run := load.Started(m.Receipt.Entry, []*source.Source{src}, m.Receipt.Database, m.Receipt.Version, m.At)
	numbers, err := numbersIn(src)
	if err != nil {
		return err
	}
	return load.Run(ctx, load.Job{
		Job: rows.Job{Sources: []*source.Source{src}, Plan: m.Plan, MaxRejects: -1, Progress: m.Progress, Rejects: kept,
			Origins: origins(m.Receipt, m.Plan), Entry: m.Receipt.Entry, At: m.Receipt.Started},
		Session: m.Session, Log: m.Log, Receipt: run, Merge: merge,
		Spec: db.Spec{Mode: db.Append, Table: def, SlowPath: m.SlowPath},
		BeforeCommit: func() error {
			still := map[int64]bool{}
			for _, x := range kept.list {
				still[x.Reject] = true
			}
			m.out.Refused = append(m.refused, kept.list...)
			slices.SortFunc(m.out.Refused, func(a, b tray.RefusedAgain) int { return int(a.Reject - b.Reject) })
			for _, n := range numbers {
				if !still[n] {
					m.out.Mended = append(m.out.Mended, n)
				}
			}
			in := run.Records.Loaded
			if merge != nil {
				in += run.Records.Skipped // known already
			}
			if int64(len(m.out.Mended)) != in {
				return &load.Unbalanced{Differences: []string{fmt.Sprintf("%d rejects tried and %d refused, but %d "+
					"loaded", len(numbers), len(kept.list), run.Records.Loaded)}, Fate: "nothing was committed"}
			}
			if err := m.settle(run, name); err != nil {
				return err
			}
			return m.Entry.PrepareReceipt(m.out.Receipt)
		},
		AfterCommit: func() error { return m.Entry.Settle(tray.ReceiptFile) },
	})
}

// settle makes the entry's new receipt.
func (m *mend) settle(run *tray.Receipt, name string) error {
	r := *m.Receipt
	r.Mends = append(slices.Clone(r.Mends),
		tray.Mend{File: m.Name, Kept: name, SHA256: run.Sources[0].SHA256, At: m.At.UTC().Truncate(time.Millisecond),
			Mended: m.out.Mended, Refused: m.out.Refused, Rows: run.Table.Rows})
	r.Table.Rows = run.Table.Rows
	if x := run.Merge; x != nil {
		sum := *r.Merge
		sum.Inserted, sum.Changed, sum.Unchanged = sum.Inserted+x.Inserted, sum.Changed+x.Changed,
			sum.Unchanged+x.Unchanged
		r.Merge = &sum
	}
	r.Columns = slices.Clone(r.Columns)
	before := m.Receipt.Records.Loaded + m.Receipt.Records.Mended
	for i := range r.Columns {
		c := &r.Columns[i]
		was, err := c.Facts.Tally(c.Type, before)
		if err != nil {
			return fmt.Errorf("the receipt's column %s: %w", c.Name, err)
		}
		added, err := run.Columns[i].Facts.Tally(c.Type, run.Records.Loaded)
		if err != nil {
			return err
		}
		was.Merge(added)
		c.Facts = tray.FactsOf(was)
		held := run.Columns[i].Held
		if c.Held = held; held != nil && run.Table.Rows == before+run.Records.Loaded && *held == c.Facts {
			c.Held = nil // the table has nothing but what this entry put in
		}
	}
	r.Table.Proved = false // of the load, and not of what was mended
	r.Prove()
	r.Settle()
	r.Mark = run.Mark
	m.out.Receipt = &r
	return nil
}

// refusedRejects keeps the rejects of a mend in the words of the account.
type refusedRejects struct{ list []tray.RefusedAgain }

func (k *refusedRejects) Add(x tray.Reject) error {
	n, err := strconv.ParseInt(x.Lead[0], 10, 64)
	if err != nil {
		return err
	}
	k.list = append(k.list, tray.RefusedAgain{Reject: n, Column: x.Column, Code: x.Code, Reason: x.Reason,
		Value: rows.Clip(x.Value)})
	return nil
}
func (k *refusedRejects) Finish() error { return nil }
func (k *refusedRejects) Kept() int64   { return int64(len(k.list)) }

// origins are a plan's sources, by the names that their rejects bear.
func origins(r *tray.Receipt, p *plan.Plan) map[string]rows.Origin {
	out := map[string]rows.Origin{}
	before := int64(0)
	for i := range p.Sources {
		s := &p.Sources[i]
		x := &source.Source{Path: s.File, Member: s.Settings["member"], Sheet: s.Settings["sheet"]}
		x.Name = x.FullName()
		out[x.Name] = rows.Origin{Source: x, Before: before}
		if i < len(r.Sources) {
			before += r.Sources[i].Records
		}
	}
	return out
}

// openKept opens a file that a mend kept.
func openKept(ctx context.Context, e *tray.Entry, name string) (*source.Source, error) {
	comma, quote, none := ",", `"`, ""
	header, zero, footer := int64(1), int64(0), 0
	src, err := source.Open(ctx, e.Path(name),
		source.Known{Encoding: "utf-8", Delimiter: &comma, Quote: &quote, Escape: &none, Header: &header, Skip: &zero,
			Footer: &footer, Totals: source.KeepTotals})
	if err != nil {
		return nil, err
	}
	src.Layout.Lead = rows.MendLead
	return src, nil
}

// numbersIn lists the rejects in a kept file, in its order.
func numbersIn(src *source.Source) (numbers []int64, err error) {
	err = eachKept(src, func(_, number int64) { numbers = append(numbers, number) })
	return
}

// eachKept reads the numbers in a kept file, with their lines.
func eachKept(src *source.Source, f func(line, number int64)) error {
	return src.Each(func(kind source.Kind, rec *delimited.Record) error {
		if kind != source.Data {
			return nil
		}
		n, err := strconv.ParseInt(string(rec.Fields[0]), 10, 64)
		if err != nil {
			return fmt.Errorf("%s, line %d: %w", src.Name, rec.Line, err)
		}
		f(rec.Line, n)
		return nil
	})
}
