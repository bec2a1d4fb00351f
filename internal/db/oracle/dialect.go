package oracle

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"ambertray/internal/db/dialect"
	"ambertray/internal/sqltype"
)

// Dialect is the SQL of Oracle Database 12.2 and later (SQL Language Reference, "Data
// Types"). Lengths are given in characters; a varchar2 holds at most 4,000
// bytes whatever its length. An empty text is a null there.
var Dialect = &dialect.Dialect{
	Name: "oracle", Title: "Oracle Database", NameLimit: 128, NameBytes: true,
	NumberedParameter: func(n int) string { return fmt.Sprintf(":%d", n) },
	FirstRows: func(columns, table string, n int) string {
		return fmt.Sprintf("SELECT %s FROM %s FETCH FIRST %d ROWS ONLY", columns, table, n)
	},
	OpenQuote: `"`, CloseQuote: `"`,
	Merges: dialect.UpdateByMerge,
	Distinct: func(t sqltype.Type, a, b string) string {
		if t.Kind == sqltype.Text || t.Kind == sqltype.VarChar && t.Length > 4000 {
			// A CLOB cannot be compared as a value (Oracle, DBMS_LOB.COMPARE).
			return fmt.Sprintf("(CASE WHEN %[1]s IS NULL AND %[2]s IS NULL THEN 0 WHEN %[1]s IS NULL OR %[2]s IS "+
				"NULL THEN 1 "+
				"ELSE DBMS_LOB.COMPARE(%[1]s, %[2]s) END <> 0)", a, b)
		}
		return "DECODE(" + a + ", " + b + ", 0, 1) = 1" // which takes nulls for the same
	},
	ColumnType: func(c dialect.Column, key bool) string {
		t := c.Type
		switch t.Kind {
		case sqltype.Boolean:
			return "NUMBER(1)"
		case sqltype.SmallInt:
			return "NUMBER(5)"
		case sqltype.Integer:
			return "NUMBER(10)"
		case sqltype.BigInt:
			return "NUMBER(19)"
		case sqltype.Decimal:
			return dialect.Numeric("NUMBER", t)
		case sqltype.Double:
			return "BINARY_DOUBLE"
		case sqltype.Date:
			return "DATE"
		case sqltype.Time:
			return dialect.Numbered("INTERVAL DAY(0) TO SECOND", t.Precision)
		case sqltype.Timestamp:
			return dialect.Numbered("TIMESTAMP", t.Precision)
		case sqltype.TimestampTZ:
			return dialect.Numbered("TIMESTAMP", t.Precision) + " WITH TIME ZONE"
		case sqltype.UUID:
			return "CHAR(36 CHAR)"
		case sqltype.Char:
			if t.Length <= 500 {
				return strings.Replace(dialect.Numbered("CHAR", t.Length), ")", " CHAR)", 1)
			}
		case sqltype.None, sqltype.Text, sqltype.VarChar:
		}
		if t.Kind == sqltype.VarChar || t.Kind == sqltype.Char {
			if t.Length <= 1000 || c.ASCII && t.Length <= 4000 {
				return strings.Replace(dialect.Numbered("VARCHAR2", t.Length), ")", " CHAR)", 1)
			}
		}
		if key {
			return "VARCHAR2(1000 CHAR)"
		}
		return "CLOB"
	},
	WriteLiteral: func(c dialect.Column, plain string) string {
		switch c.Type.Kind {
		case sqltype.Boolean:
			return map[string]string{"true": "1", "false": "0"}[plain]
		case sqltype.Time:
			return "INTERVAL " + dialect.Quoted("0 "+plain) + " DAY TO SECOND"
		case sqltype.TimestampTZ:
			return "TIMESTAMP " + dialect.Quoted(strings.Replace(plain, "+", " +", 1))
		case sqltype.BigInt, sqltype.Char, sqltype.Date, sqltype.Decimal, sqltype.Double, sqltype.Integer,
			sqltype.None, sqltype.SmallInt, sqltype.Text, sqltype.Timestamp, sqltype.UUID, sqltype.VarChar:
		}
		if c.Type.IsText() {
			return oracleText(plain)
		}
		return dialect.StandardLiteral(c, plain)
	},
	Comments: dialect.StandardComments,
}

// oraclePiece is how many characters of text stand in one WriteLiteral: a line of
// SQL*Plus holds 2,499, and a literal 4,000 bytes.
const oraclePiece = 800

// oracleText writes text in pieces on lines of their own where it is long, and
// control characters by their numbers, so that no line of it means anything to
// SQL*Plus.
func oracleText(s string) string {
	long := len(s) > 4000
	var parts []string
	for len(s) > 0 {
		n, runes := 0, 0
		for _, r := range s {
			if r < ' ' || runes == oraclePiece {
				break
			}
			n += utf8.RuneLen(r)
			runes++
		}
		if n > 0 {
			parts, s = append(parts, dialect.Quoted(s[:n])), s[n:]
			continue
		}
		parts, s = append(parts, fmt.Sprintf("CHR(%d)", s[0])), s[1:]
	}
	switch {
	case len(parts) == 0:
		return "''"
	case len(parts) == 1:
		return parts[0]
	}
	if long {
		for i := range parts {
			parts[i] = "TO_CLOB(" + parts[i] + ")"
		}
	}
	return strings.Join(parts, "\n|| ")
}
