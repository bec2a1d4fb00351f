package export

import (
	"context"
	"fmt"
	"io"
	"strings"

	"ambertray/internal/columnar"
	"ambertray/internal/db"
	"ambertray/internal/reading"
	"ambertray/internal/sqltype"
)

// columnar writes all rows of a query as a file of columns. The rows are read twice: first
// to see which type all values of a column are of, since not every database keeps to what
// it has declared.
func (r *Result) columnar(ctx context.Context, w io.Writer, conn db.Session, query string, columns []db.Column,
	opt Options) error {
	err := conn.Scan(ctx, query, columns, func(fields [][]byte) error {
		r.Rows++
		for i, f := range fields {
			if f == nil {
				r.Columns[i].Nulls++
			} else {
				r.Columns[i].see(f, false)
			}
		}
		if opt.Progress != nil && r.Rows%4096 == 0 {
			opt.Progress(r.Rows / 2)
		}
		return nil
	})
	if err != nil {
		return err
	}
	file := make([]columnar.Column, len(columns))
	readers, types := make([]*reading.Reader, len(columns)), make([]sqltype.Type, len(columns))
	names := r.names()
	for i := range r.Columns {
		c := &r.Columns[i]
		c.decide()
		readers[i], types[i] = reading.Plain(c.Reads), c.Reads
		file[i] = columnar.Column{Name: names[i], Type: c.Reads, Required: c.Required && c.Nulls == 0,
			Comment: c.Comment}
	}
	out := columnar.NewWriter(w, opt.Columnar, columnar.Known{Key: opt.Key}, file)
	enc, row, buf := columnar.NewEncoder(types), make([]reading.Value, len(columns)), []byte(nil)
	n := int64(0)
	changed := func(what string) error {
		return fmt.Errorf("the table was changed while it was read: %s\n  no file was written; export again", what)
	}
	err = conn.Scan(ctx, query, columns, func(fields [][]byte) error {
		n++
		for i, f := range fields {
			switch row[i].Null = f == nil; {
			case f == nil && file[i].Required:
				return changed("a value of " + file[i].Name + " is null")
			case f != nil && readers[i].Read(f, true, &row[i]) != reading.OK:
				return changed(fmt.Sprintf("%s has the value %q", file[i].Name, reading.Shorten(string(f), 40)))
			}
		}
		if opt.Progress != nil && n%4096 == 0 {
			opt.Progress((r.Rows + n) / 2)
		}
		if buf = enc.Append(buf, row); len(buf) < 1<<20 {
			return nil
		}
		_, err := out.Write(buf, len(buf))
		buf = buf[:0]
		return err
	})
	if err != nil {
		return err
	}
	if n != r.Rows {
		return changed(fmt.Sprintf("it had %d rows, and has %d", r.Rows, n))
	}
	if _, err := out.Write(buf, len(buf)); err != nil {
		return err
	}
	return out.Close()
}

// names are those of the columns, each another.
func (r *Result) names() (names []string) {
	seen := map[string]int{}
	for i, c := range r.Columns {
		name := c.Name
		if name == "" {
			name = fmt.Sprintf("column_%d", i+1)
		}
		if n := seen[strings.ToLower(name)]; n > 0 {
			name = fmt.Sprintf("%s_%d", name, n+1)
		}
		seen[strings.ToLower(c.Name)]++
		names = append(names, name)
	}
	return names
}
