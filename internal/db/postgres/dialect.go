package postgres

import (
	"fmt"
	"strings"

	"ambertray/internal/db/dialect"
	"ambertray/internal/sqltype"
)

// Dialect is the SQL of PostgreSQL (chapters 4 and 8 of its manual). Lengths of char
// and varchar count characters there.
var Dialect = &dialect.Dialect{
	Name: "postgres", Title: "PostgreSQL", NameLimit: 63, NameBytes: true,
	OpenQuote: `"`, CloseQuote: `"`, Folds: strings.ToLower,
	NumberedParameter: func(n int) string { return fmt.Sprintf("$%d", n) },
	ColumnType: func(c dialect.Column, key bool) string {
		t := c.Type
		switch t.Kind {
		case sqltype.Decimal:
			return dialect.Numeric("numeric", t)
		case sqltype.Char:
			return dialect.Numbered("char", t.Length)
		case sqltype.TimestampTZ:
			return dialect.Numbered("timestamptz", t.Precision)
		case sqltype.BigInt, sqltype.Boolean, sqltype.Date, sqltype.Double, sqltype.Integer, sqltype.None,
			sqltype.SmallInt, sqltype.Text, sqltype.Time, sqltype.Timestamp, sqltype.UUID, sqltype.VarChar:
		}
		return t.String()
	},
	WriteLiteral: dialect.StandardLiteral,
	Widen: func(table, column, typ string, _ bool) string {
		return fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s TYPE %s", table, column, typ)
	},
	WidensWithin: true,
	Distinct: func(t sqltype.Type, a, b string) string {
		return whole(t, a) + " IS DISTINCT FROM " + whole(t, b)
	},
	Whole:        whole,
	Temporary:    "TEMPORARY ",
	GiveIdentity: "OVERRIDING SYSTEM VALUE ",
	Comments:     dialect.StandardComments,
}

// whole is a value by which it is told from others: text by its letters, whatever its
// collation takes for the same; and what cannot be compared as its text.
func whole(t sqltype.Type, x string) string {
	if t.IsText() || t.Kind == sqltype.None {
		return x + "::text COLLATE \"C\""
	}
	return x
}
