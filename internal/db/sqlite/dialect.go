package sqlite

import (
	"fmt"
	"strconv"
	"strings"

	"ambertray/internal/db/dialect"
	"ambertray/internal/sqltype"
)

// digits is how many digits of a decimal SQLite's numbers keep: those
// of a double (SQLite, "Floating Point Numbers"). Longer ones are text.
const digits = 15

// SQLite. The types are chosen for their affinity (SQLite, "Datatypes", 3.1):
// dates and times stay the ISO text that SQLite's own functions read.
var Dialect = &dialect.Dialect{
	LooseLengths: true,
	Name:         "sqlite", Title: "SQLite", NameLimit: 128,
	MostColumns: 2000, // sqlite.org/limits.html, "Maximum Number Of Columns"
	OpenQuote:   `"`, CloseQuote: `"`,
	LineComments: true,
	NumbersAs:    "INTEGER",
	ColumnType: func(c dialect.Column, key bool) string {
		t := c.Type
		switch t.Kind {
		case sqltype.Boolean:
			return "BOOLEAN"
		case sqltype.SmallInt:
			return "SMALLINT"
		case sqltype.Integer:
			return "INTEGER"
		case sqltype.BigInt:
			return "BIGINT"
		case sqltype.Decimal:
			if t.Precision > digits {
				return "TEXT"
			}
			return dialect.Numeric("DECIMAL", t)
		case sqltype.Double:
			return "DOUBLE PRECISION"
		case sqltype.Date:
			return "DATE"
		case sqltype.Time:
			return "TIME"
		case sqltype.Timestamp, sqltype.TimestampTZ:
			return "TIMESTAMP"
		case sqltype.Char:
			return dialect.Numbered("CHAR", t.Length)
		case sqltype.VarChar:
			return dialect.Numbered("VARCHAR", t.Length)
		case sqltype.UUID:
			return "CHAR(36)"
		case sqltype.None, sqltype.Text:
		}
		return "TEXT"
	},
	StrictTail: " STRICT",
	Temporary:  "TEMP ",
	Distinct:   func(_ sqltype.Type, a, b string) string { return a + " COLLATE BINARY IS NOT " + b },
	Whole: func(t sqltype.Type, x string) string {
		if t.IsText() {
			return "CAST(" + x + " AS BLOB)" // whatever the column's collation takes for the same
		}
		return x
	},
	StrictType: func(c dialect.Column) string { // SQLite, "STRICT Tables"
		t := c.Type
		short := t.Kind == sqltype.Decimal && t.Precision <= digits
		switch {
		case t.Kind == sqltype.Boolean, t.IsInteger(), short && t.Scale == 0:
			return "INTEGER"
		case t.Kind == sqltype.Double, short:
			return "REAL"
		}
		return "TEXT"
	},
	Cannot: func(c dialect.Column) (what, do string) {
		if c.Type.Kind != sqltype.Decimal || c.Type.Precision <= digits {
			return "", ""
		}
		return fmt.Sprintf("%s has more digits than SQLite's numbers keep, and is text there: exact, but compared and "+
				"sorted as text", c.Type),
			"compute with CAST(… AS REAL), or load it as a number of " + strconv.Itoa(digits) +
				" digits at most, or as double precision, with --type"
	},
	WriteLiteral: func(c dialect.Column, plain string) string {
		switch {
		case c.Type.Kind == sqltype.Boolean:
			return map[string]string{"true": "1", "false": "0"}[plain]
		case c.Type.Kind == sqltype.Decimal && c.Type.Precision > digits:
			return dialect.Quoted(plain)
		case c.Type.IsNumber():
			return plain
		}
		// A NUL cannot stand in a literal.
		if strings.ContainsRune(plain, 0) {
			plain = strings.ReplaceAll(plain, "\x00", "")
		}
		return dialect.Quoted(plain)
	},
}
