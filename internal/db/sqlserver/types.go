package sqlserver

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/reading"
	"ambertray/internal/sqltype"
)

// A declared type is one as the server writes it, taken apart.
type declared struct {
	name string
	a, b int // length or precision, and scale; a is -1 for max
	// page is the code page of char and varchar; lcid, style and version are of their
	// collation (Transact-SQL reference, COLLATIONPROPERTY).
	page, lcid, style, version int
}

var typeForm = regexp.MustCompile(`^([a-z0-9_]+)(?:\((max|\d+)(?:,(\d+))?\))?`)

// declaredType reads a type such as decimal(8,2).
func declaredType(s string) (d declared) {
	m := typeForm.FindStringSubmatch(strings.ToLower(s))
	if m == nil {
		return declared{name: s}
	}
	d.name = m[1]
	d.a, _ = strconv.Atoi(m[2])
	d.b, _ = strconv.Atoi(m[3])
	switch {
	case m[2] == "max":
		d.a = -1
	case m[2] == "" && (d.name == "time" || d.name == "datetime2" || d.name == "datetimeoffset"):
		d.a = 7
	}
	return d
}

// writeType is a type as the catalog has it, in the words of a definition.
func writeType(name string, length, precision, scale int) string {
	switch name {
	case "char", "varchar", "binary", "varbinary":
		if length < 0 {
			return name + "(max)"
		}
		return dialect.Numbered(name, length)
	case "nchar", "nvarchar":
		if length < 0 {
			return name + "(max)"
		}
		return dialect.Numbered(name, length/2)
	case "decimal", "numeric":
		return fmt.Sprintf("%s(%d,%d)", name, precision, scale)
	case "time", "datetime2", "datetimeoffset":
		return dialect.Numbered(name, scale)
	case "timestamp":
		return "rowversion"
	}
	return name
}

// wholes are the integers, with their bounds where they are narrower than the standard's.
var wholes = map[string]db.Column{
	"bit": {SQL: sqltype.Type{Kind: sqltype.Boolean}}, "smallint": {SQL: sqltype.Type{Kind: sqltype.SmallInt}},
	"tinyint": {SQL: sqltype.Type{Kind: sqltype.SmallInt}, Lo: 0, Hi: 255},
	"int":     {SQL: sqltype.Type{Kind: sqltype.Integer}}, "bigint": {SQL: sqltype.Type{Kind: sqltype.BigInt}},
	"float": {SQL: sqltype.Type{Kind: sqltype.Double}}, "date": {SQL: sqltype.Type{Kind: sqltype.Date}},
	"uniqueidentifier": {SQL: sqltype.Type{Kind: sqltype.UUID}},
	"money":            {SQL: sqltype.Type{Kind: sqltype.Decimal, Precision: 19, Scale: 4}},
	"smallmoney":       {SQL: sqltype.Type{Kind: sqltype.Decimal, Precision: 10, Scale: 4}},
	// Hundredths are whole in units of 1/300 of a second; what is finer would be rounded.
	"datetime":      {SQL: sqltype.Type{Kind: sqltype.Timestamp, Precision: 3}, Keeps: reading.Keeps{Step: 10_000}},
	"smalldatetime": {SQL: sqltype.Type{Kind: sqltype.Timestamp}, Keeps: reading.Keeps{Step: 60_000_000}},
	"text":          {SQL: sqltype.Type{Kind: sqltype.Text}}, "ntext": {SQL: sqltype.Type{Kind: sqltype.Text}},
}

// unfit are types that no text can be loaded into, and why.
var unfit = map[string]string{
	"rowversion":  "the server numbers it with every change, and takes no values for it",
	"timestamp":   "the server numbers it with every change, and takes no values for it",
	"binary":      "its values are bytes, and those of the file are text",
	"varbinary":   "its values are bytes, and those of the file are text",
	"image":       "its values are bytes, and those of the file are text",
	"sql_variant": "each of its values has a type of its own, which a file does not say",
	"hierarchyid": "its values are places in a tree, in a form of the server's own",
	"geography":   "its values are shapes, in a form of the server's own",
	"geometry":    "its values are shapes, in a form of the server's own",
}

// standardType finds the standard type that a column's values are read as.
func standardType(c *db.Column, typ string) {
	d := declaredType(typ)
	if w, is := wholes[d.name]; is {
		c.SQL, c.Lo, c.Hi, c.Keeps = w.SQL, w.Lo, w.Hi, w.Keeps
		return
	}
	c.Unfit = unfit[d.name]
	c.AnyLength = d.a > 6 && (d.name == "time" || d.name == "datetime2" || d.name == "datetimeoffset")
	switch d.name {
	case "real":
		c.SQL, c.Keeps.Digits = sqltype.Type{Kind: sqltype.Double}, 6
	case "decimal", "numeric":
		c.SQL = sqltype.Type{Kind: sqltype.Decimal, Precision: d.a, Scale: d.b}
	case "time":
		c.SQL = sqltype.Type{Kind: sqltype.Time, Precision: min(d.a, 6)}
	case "datetime2":
		c.SQL = sqltype.Type{Kind: sqltype.Timestamp, Precision: min(d.a, 6)}
	case "datetimeoffset":
		c.SQL = sqltype.Type{Kind: sqltype.TimestampTZ, Precision: min(d.a, 6)}
	case "char", "nchar":
		c.SQL = sqltype.Type{Kind: sqltype.Char, Length: d.a}
	case "varchar", "nvarchar":
		if c.SQL = (sqltype.Type{Kind: sqltype.VarChar, Length: d.a}); d.a < 0 {
			c.SQL = sqltype.Type{Kind: sqltype.Text}
		}
	}
}
