package desk

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/klauspost/compress/gzip"

	"ambertray/internal/db"
	"ambertray/internal/export"
	"ambertray/internal/phrase"
	"ambertray/internal/plan"
	"ambertray/internal/rows"
	"ambertray/internal/source"
	"ambertray/internal/source/delimited"
)

// An ExportRequest writes a table, or what a query yields, as delimited text.
type ExportRequest struct {
	From DatabaseRequest
	// Table or Query, one of them.
	Table, Query string
	Out          Output
	// Plan is a file for the plan that loads the result back, or empty.
	Plan     string
	Form     delimited.Form
	NullWord string
	NoHeader bool
	Lanes    int // connections; 0: as the database thinks best
}

// An ExportAnswer is what was written.
type ExportAnswer struct {
	Document
	File    string   `json:"file"`
	Plan    string   `json:"plan"`
	Rows    int64    `json:"rows"`
	Columns int      `json:"columns"`
	Bytes   int64    `json:"bytes"`
	Remarks []string `json:"remarks"`
}

// what is to be written, a short name for it and its key.
type extract struct {
	db.Extract
	name string
	key  []string
}

// Export writes all rows.
func (d *Desk) Export(ctx context.Context, r ExportRequest) (*ExportAnswer, error) {
	opt := export.Options{Form: r.Form, NoHeader: r.NoHeader, NullWord: r.NullWord}
	if err := r.checkForm(); err != nil {
		return nil, err
	}
	if err := opt.Form.Validate(); err != nil {
		return nil, need("--delimiter: %w", err)
	}
	if opt.Form.Delimiter == "" || strings.ContainsAny(r.NullWord, "\"\r\n"+opt.Form.Delimiter) {
		return nil,
			need("--delimiter %q, --null-word %q: fields need a delimiter, and the word must do without it, quotes "+
				"and line breaks",
				source.DelimiterName(r.Form.Delimiter), r.NullWord)
	}
	if r.Lanes < 0 || r.Lanes > mostLanes {
		return nil, need("--lanes %d: use 1 to %d", r.Lanes, mostLanes)
	}
	if r.Lanes > 1 && r.Table == "" {
		return nil, need("--lanes: it goes with a table; what a query yields comes over one connection\n  leave it out")
	}
	planOut := Output{File: r.Plan, Over: r.Out.Over}
	if err := planOut.free("--plan"); err != nil {
		return nil, err
	}
	conn, err := d.connect(ctx, r.From, toRead)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	what, err := extractOf(ctx, conn, r)
	if err != nil {
		return nil, err
	}
	if _, can := conn.(db.TextScanner); r.Lanes > 1 && !can {
		return nil, need("--lanes: rows of %s come over one connection\n  leave it out", conn.Dialect().Title)
	}
	switch {
	case r.Out.isBook():
		opt.Book = what.name
	case r.Out.isColumnar():
		opt.Columnar, opt.Key = what.name, what.key
	}
	a := &ExportAnswer{Document: document("export"), File: r.Out.File, Plan: r.Plan, Remarks: []string{}}
	result, err := d.write(ctx, conn, what, opt, r.Out, a)
	if err != nil {
		return nil, err
	}
	if r.Plan != "" {
		if err := writePlanBack(result, what, opt, r); err != nil {
			return nil, err
		}
	}
	a.Rows, a.Columns = result.Rows, len(result.Columns)
	for i := range result.Columns {
		a.Remarks = append(a.Remarks, result.Columns[i].Remarks()...)
	}
	return a, nil
}

// checkForm refuses what a file that is no text cannot have.
func (r *ExportRequest) checkForm() error {
	asText := r.NoHeader || r.NullWord != "" || r.Form.Marked || r.Form.Delimiter != ","
	const leave = "\n  leave out --no-header, --null-word, --delimiter and --for-spreadsheet"
	switch {
	case r.Out.isBook() && asText:
		return need("-o %s: a workbook has a row of names, cells without a value where something is null, and texts "+
			"as texts"+leave, r.Out.File)
	case r.Out.isColumnar() && asText:
		return need("-o %s: a Parquet file has names, types and nulls"+leave, r.Out.File)
	case r.Out.isColumnar() && r.Plan != "":
		return need("--plan: a Parquet file says itself which types its columns have, and is not loaded from here\n  " +
			"leave it out")
	}
	return nil
}

// extractOf finds out what is to be written.
func extractOf(ctx context.Context, conn db.Session, r ExportRequest) (x extract, err error) {
	x.Query, x.Lanes, x.name = strings.TrimRight(strings.TrimSpace(r.Query), "; \n\t"), r.Lanes, "query"
	if r.Table != "" {
		t, err := findTable(ctx, conn, "export", r.Table)
		if err != nil {
			return x, err
		}
		var names []string
		for _, c := range t.Columns {
			names = append(names, conn.Dialect().Quote(c.Name))
		}
		x.Table, x.Columns, x.key, x.name = t, t.Columns, t.PrimaryKey(), t.Name
		x.Query = "SELECT " + strings.Join(names, ", ") + " FROM " + conn.Dialect().Qualified(t.Schema, t.Name)
	} else if x.Columns, err = conn.Describe(ctx, x.Query); err != nil {
		return x, err
	}
	if len(x.Columns) == 0 {
		return x, errors.New("export: there are no columns to write")
	}
	return x, nil
}

// write writes the rows, compressed if the file's name ends in .gz.
func (d *Desk) write(ctx context.Context, conn db.Session, what extract, opt export.Options, to Output,
	a *ExportAnswer) (*export.Result, error) {
	out, err := to.begin()
	if err != nil {
		return nil, err
	}
	m := d.meter(ctx, "writing", 0)
	opt.Progress = func(n int64) { m.Set(rows.Progress{Stage: "writing", Records: n}) }
	var w io.Writer = out
	var zip *gzip.Writer
	if strings.HasSuffix(strings.ToLower(to.File), ".gz") {
		zip = gzip.NewWriter(out)
		w = zip
	}
	result, err := export.Write(ctx, w, conn, what.Extract, opt)
	if err == nil && zip != nil {
		err = zip.Close()
	}
	m.End()
	if err != nil && ctx.Err() != nil {
		err = &Stopped{"the file was not written"}
	}
	a.Bytes = out.n
	return result, out.finish(err)
}

// writePlanBack writes the plan that loads an exported file back.
func writePlanBack(result *export.Result, what extract, opt export.Options, r ExportRequest) error {
	file := r.Out.File
	if rel, err := filepath.Rel(filepath.Dir(r.Plan), r.Out.File); err == nil && r.Out.File != "" {
		file = rel
	}
	if file == "" {
		file = what.name + ".csv"
	}
	p := result.Plan(file, what.name, what.key, opt)
	if info, err := os.Stat(r.Out.File); err == nil {
		p.Sources[0].Seen = []plan.Seen{plan.SeenOf(&source.Source{FileSize: info.Size(), Modified: info.ModTime()})}
	}
	if err := p.Check(); err != nil {
		return fmt.Errorf("no plan can load this back: %w", err)
	}
	b, err := p.Encode(plan.Comments{Head: fmt.Sprintf("Amber Tray plan, written with %s (%s)", file,
		phrase.Count(result.Rows, "record"))})
	if err != nil {
		return err
	}
	return Output{File: r.Plan, Over: true}.Write(func(w io.Writer) error { _, err := w.Write(b); return err })
}
