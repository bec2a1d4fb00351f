package export

import (
	"context"
	"io"

	"ambertray/internal/db"
	"ambertray/internal/spreadsheet"
)

// book writes all rows of a query as a workbook.
func (r *Result) book(ctx context.Context, w io.Writer, conn db.Session, query string, columns []db.Column,
	opt Options) error {
	var sheet []spreadsheet.Column
	for _, c := range columns {
		sheet = append(sheet, spreadsheet.Column{Name: c.Name, Type: c.SQL})
	}
	b, err := spreadsheet.New(w, opt.Book, sheet)
	if err != nil {
		return err
	}
	err = conn.Scan(ctx, query, columns, func(fields [][]byte) error {
		r.Rows++
		for i, f := range fields {
			if f == nil {
				r.Columns[i].Nulls++
			} else {
				r.Columns[i].see(f, false)
				if len(f) == 0 {
					r.Columns[i].Empty++
				}
			}
		}
		if opt.Progress != nil && r.Rows%4096 == 0 {
			opt.Progress(r.Rows)
		}
		return b.Add(fields)
	})
	if err2 := b.Close(); err == nil {
		err = err2
	}
	for i := range r.Columns {
		r.Columns[i].AsText = b.AsText(i)
		r.Columns[i].decide()
	}
	return err
}
