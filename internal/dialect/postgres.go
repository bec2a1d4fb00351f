package dialect

import (
	"fmt"
	"strings"

	"ambertray/internal/sqltype"
)

// Postgres is PostgreSQL (chapters 4 and 8 of its manual). Lengths of char
// and varchar count characters there.
var Postgres = &Dialect{
	Name: "postgres", Title: "PostgreSQL", NameLimit: 63, NameBytes: true,
	open: `"`, close: `"`, folds: strings.ToLower,
	columnType: func(c Column, key bool) string {
		t := c.Type
		switch t.Kind {
		case sqltype.Decimal:
			return numeric("numeric", t)
		case sqltype.Char:
			return numbered("char", t.Length)
		case sqltype.TimestampTZ:
			return numbered("timestamptz", t.Precision)
		}
		return t.String()
	},
	literal:  standardLiteral,
	comments: standardComments,
}

func standardComments(d *Dialect, t Table) (out []string) {
	table := d.Qualified(t.Schema, t.Name)
	if t.Comment != "" {
		out = append(out, fmt.Sprintf("COMMENT ON TABLE %s IS %s", table, quoted(t.Comment)))
	}
	for _, c := range t.Columns {
		if c.Comment != "" {
			out = append(out, fmt.Sprintf("COMMENT ON COLUMN %s.%s IS %s", table, d.Quote(c.Name), quoted(c.Comment)))
		}
	}
	return
}
