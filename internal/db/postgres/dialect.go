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
	Comments:     dialect.StandardComments,
}
