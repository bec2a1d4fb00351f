package sqlserver

import (
	"fmt"
	"strings"

	"ambertray/internal/db/dialect"
	"ambertray/internal/sqltype"
)

// Dialect is the SQL of Microsoft SQL Server 2016 and later (Transact-SQL reference,
// "Data types"). Lengths of char and varchar count bytes there, those of
// nchar and nvarchar pairs of bytes.
var Dialect = &dialect.Dialect{
	Name: "sqlserver", Title: "SQL Server", NameLimit: 128,
	MostColumns:       1024, // SQL Server, "Maximum capacity specifications"
	NumberedParameter: func(n int) string { return fmt.Sprintf("@p%d", n) },
	FirstRows: func(columns, table string, n int) string {
		return fmt.Sprintf("SELECT TOP (%d) %s FROM %s", n, columns, table)
	},
	IfMissing: func(d *dialect.Dialect, t dialect.Table) string {
		return fmt.Sprintf("IF OBJECT_ID(N%s) IS NULL %s", dialect.Quoted(d.Qualified(t.Schema, t.Name)),
			d.Create(t)[0])
	},
	CountAll:      "COUNT_BIG(*)",
	Merges:        dialect.UpdateAlias,
	TemporaryName: "#",
	Distinct: func(t sqltype.Type, a, b string) string {
		same := a + " = " + b
		if t.IsText() {
			// By its letters, whatever the column's collation takes for the same; and also by
			// the spaces at its end, which no comparison sees. In UTF-16, for another code page
			// may not have all letters.
			a16, b16 := "CAST("+a+" AS nvarchar(max))", "CAST("+b+" AS nvarchar(max))"
			if t.Kind == sqltype.Char {
				a16, b16 = "RTRIM("+a16+")", "RTRIM("+b16+")"
			}
			same = fmt.Sprintf("%[1]s COLLATE Latin1_General_BIN2 = %[2]s COLLATE Latin1_General_BIN2 AND "+
				"DATALENGTH(%[1]s) = DATALENGTH(%[2]s)", a16, b16)
		}
		return fmt.Sprintf("CASE WHEN %s IS NULL AND %s IS NULL OR %s THEN 0 ELSE 1 END = 1", a, b, same)
	},
	Whole: func(t sqltype.Type, x string) string {
		if t.IsText() {
			return "CAST(" + x + " AS varbinary(max))" // whatever the collation takes for the same
		}
		return x
	},
	Savepoints: dialect.Savepoints{Set: "SAVE TRANSACTION", Back: "ROLLBACK TRANSACTION"},
	Widen: func(table, column, typ string, required bool) string {
		return fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s %s %s", table, column, typ,
			map[bool]string{true: "NOT NULL", false: "NULL"}[required])
	},
	WidensWithin: true,
	OpenQuote:    "[", CloseQuote: "]",
	Numbers: "IDENTITY(1,1)",
	ColumnType: func(c dialect.Column, key bool) string {
		t := c.Type
		switch t.Kind {
		case sqltype.Boolean:
			return "bit"
		case sqltype.SmallInt:
			return "smallint"
		case sqltype.Integer:
			return "int"
		case sqltype.BigInt:
			return "bigint"
		case sqltype.Decimal:
			return dialect.Numeric("decimal", t)
		case sqltype.Double:
			return "float(53)"
		case sqltype.Date:
			return "date"
		case sqltype.Time:
			return dialect.Numbered("time", t.Precision)
		case sqltype.Timestamp:
			return dialect.Numbered("datetime2", t.Precision)
		case sqltype.TimestampTZ:
			return dialect.Numbered("datetimeoffset", t.Precision)
		case sqltype.UUID:
			return "uniqueidentifier"
		case sqltype.Char:
			if c.ASCII && t.Length <= 8000 {
				return dialect.Numbered("char", t.Length)
			}
			if t.Length <= 4000 {
				return dialect.Numbered("nchar", t.Length)
			}
		case sqltype.VarChar:
			if c.ASCII && t.Length <= 8000 {
				return dialect.Numbered("varchar", t.Length)
			}
			if t.Length <= 4000 {
				return dialect.Numbered("nvarchar", t.Length)
			}
		case sqltype.None, sqltype.Text:
		}
		switch {
		case key && c.ASCII:
			return "varchar(900)" // what an index key takes
		case key:
			return "nvarchar(450)"
		case c.ASCII:
			return "varchar(max)"
		}
		return "nvarchar(max)"
	},
	WriteLiteral: func(c dialect.Column, plain string) string {
		switch {
		case c.Type.Kind == sqltype.Boolean:
			return map[string]string{"true": "1", "false": "0"}[plain]
		case c.Type.IsNumber():
			return plain
		case c.Type.IsText():
			return sqlServerText(plain, !c.ASCII)
		case c.Type.Kind >= sqltype.Timestamp && c.Type.Kind <= sqltype.TimestampTZ && len(plain) > 10:
			// With T the text does not depend on the session's DATEFORMAT.
			plain = plain[:10] + "T" + plain[11:]
		}
		return dialect.Quoted(plain)
	},
	Comments: func(d *dialect.Dialect, t dialect.Table) (out []string) {
		schema := t.Schema
		if schema == "" {
			schema = "dbo"
		}
		describe := func(text, column string) {
			s := fmt.Sprintf("EXEC sys.sp_addextendedproperty @name = N'MS_Description', @value = N%s, @level0type "+
				"= N'SCHEMA', @level0name = N%s, @level1type = N'TABLE', @level1name = N%s",
				dialect.Quoted(text), dialect.Quoted(schema), dialect.Quoted(t.Name))
			if column != "" {
				s += ", @level2type = N'COLUMN', @level2name = N" + dialect.Quoted(column)
			}
			out = append(out, s)
		}
		if t.Comment != "" {
			describe(t.Comment, "")
		}
		for _, c := range t.Columns {
			if c.Comment != "" {
				describe(c.Comment, c.Name)
			}
		}
		return
	},
}

// sqlServerText writes text so that no client tool reads anything else into
// it: a line break would let a line of it end the batch, and $( names a
// variable in sqlcmd.
func sqlServerText(s string, wide bool) string {
	prefix, char, most, long := "", "CHAR(%d)", 8000, "varchar(max)"
	if wide {
		prefix, char, most, long = "N", "NCHAR(%d)", 4000, "nvarchar(max)"
	}
	var parts []string
	for len(s) > 0 {
		i := strings.IndexFunc(s, func(r rune) bool { return r < ' ' })
		if k := strings.Index(s, "$("); k >= 0 && (i < 0 || k < i) {
			i = k + 1
			parts, s = append(parts, prefix+dialect.Quoted(s[:i])), s[i:]
			continue
		}
		if i < 0 {
			i = len(s)
		}
		if i > 0 {
			parts = append(parts, prefix+dialect.Quoted(s[:i]))
		}
		if s = s[i:]; s != "" {
			parts, s = append(parts, fmt.Sprintf(char, s[0])), s[1:]
		}
	}
	if len(parts) == 0 {
		return prefix + "''"
	}
	text := strings.Join(parts, " + ")
	if len(parts) > 1 && len(text) > most {
		// Pieces are joined within the length of the first.
		text = "CAST(" + prefix + "'' AS " + long + ") + " + text
	}
	return text
}
