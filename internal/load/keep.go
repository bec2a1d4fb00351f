package load

import (
	"context"
	"fmt"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/sqltype"
	"ambertray/internal/tray"
)

// keptOld notes what the rows come to that were put aside before the table was emptied or
// replaced.
func (r *run) keptOld(ctx context.Context) error {
	old := r.job.Old
	if old == nil {
		return nil
	}
	m, is := r.job.Session.(db.Merger)
	if !is {
		return fmt.Errorf("%s cannot keep the old rows", r.job.Session.Dialect().Title)
	}
	columns, loose := ColumnsOf(old)
	d := r.job.Session.Dialect()
	rows, held, err := m.TallyFrom(ctx, d.Qualified(old.Schema, r.job.Spec.Keep)+" t", columns, loose)
	if err != nil {
		return err
	}
	k := &tray.Kept{Table: r.job.Spec.Keep, Rows: rows}
	at := 0
	for _, c := range old.Columns {
		x := tray.KeptColumn{Name: c.Name, Type: c.Type}
		if !c.Generated {
			x.As, x.Facts = columns[at].Type.String(), tray.FactsOf(&held[at])
			at++
		}
		k.Columns = append(k.Columns, x)
	}
	r.job.Receipt.Kept = k
	return nil
}

// ColumnsOf are the columns of a table that a database has, but for those that it computes,
// as they are tallied; of loose ones, only the number of values is.
func ColumnsOf(t *db.Table) (columns []dialect.Column, loose []bool) {
	for _, c := range t.Columns {
		if c.Generated {
			continue
		}
		typ := c.SQL
		if typ.Kind == sqltype.None {
			typ.Kind = sqltype.Text
		}
		columns = append(columns, dialect.Column{Name: c.Name, Type: typ})
	}
	return columns, db.LooseColumns(t, columns)
}
