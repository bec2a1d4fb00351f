package mysql

import (
	"strings"

	"ambertray/internal/db/dialect"
	"ambertray/internal/sqltype"
)

// rowLimit is how many bytes the columns of a row may take in MySQL and
// MariaDB, BLOB and TEXT aside (MySQL manual, 8.4.7), less some room for
// lengths and null bits.
const rowLimit = 65535 - 1024

// pageLimit is how many bytes of a row InnoDB keeps within its page: somewhat less than half of 16 KB (MySQL manual,
// 17.22), less some for what a row has besides. A column that may have 256 bytes and more can lie outside, and then
// takes outsideMySQL bytes of the page, or outsideMaria. Any other lies within, at its longest.
const (
	pageLimit    = 8126 - 126
	offPage      = 256
	outsideMySQL = 41
	outsideMaria = 21
)

// Dialect is the SQL of MySQL and MariaDB. Text is utf8mb4 and compared by its bytes, so
// that values which differ do not count as equal. Timestamps with time zone
// are datetimes in UTC, since TIMESTAMP ends in 2038.
var Dialect = &dialect.Dialect{
	Name: "mysql", Title: "MySQL/MariaDB", NameLimit: 64,
	MostColumns: 1017, // MySQL manual, "InnoDB Limits"
	OpenQuote:   "`", CloseQuote: "`",
	ColumnType: mysqlType,
	WriteLiteral: func(c dialect.Column, plain string) string {
		if c.Type.Kind == sqltype.Boolean {
			return strings.ToUpper(plain)
		}
		if c.Type.IsNumber() {
			return plain
		}
		if c.Type.Kind == sqltype.TimestampTZ {
			plain = strings.TrimSuffix(plain, "+00:00")
		}
		return mysqlString(plain)
	},
	Widen: func(table, column, typ string, required bool) string {
		s := "ALTER TABLE " + table + " MODIFY " + column + " " + typ
		if required {
			s += " NOT NULL"
		}
		return s
	},
	Distinct: func(t sqltype.Type, a, b string) string {
		return "NOT (" + whole(t, a) + " <=> " + whole(t, b) + ")"
	},
	Whole:       whole,
	IndexWithin: true,
	Merges:      dialect.UpdateJoin,
	Temporary:   "TEMPORARY ",
	Numbers:     "AUTO_INCREMENT",
	Inline:      func(comment string) string { return " COMMENT " + mysqlString(clipRunes(comment, 1024)) },
	Tail: func(t dialect.Table) string {
		s := " ENGINE=InnoDB ROW_FORMAT=DYNAMIC DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin"
		if t.Comment != "" {
			s += " COMMENT " + mysqlString(clipRunes(t.Comment, 2048))
		}
		return s
	},
	Compares: "byte by byte, so that capitals count (utf8mb4_bin)",
	Fit: func(t *dialect.Table) {
		fitPage(t, outsideMySQL)
		fitPage(t, outsideMaria)
		fitRow(t)
	},
}

// fitPage lets the longest columns that would have to lie within the page be so long that they can lie outside, until
// the row fits.
func fitPage(t *dialect.Table, outside int) {
	for {
		sum, longest, most := 0, -1, outside
		for i, c := range t.Columns {
			n := inPage(c, outside)
			sum += n
			if (c.Type.Kind == sqltype.VarChar || c.Type.Kind == sqltype.Char) && n > most && !t.Indexed(c.Name) {
				longest, most = i, n
			}
		}
		if sum <= pageLimit || longest < 0 {
			return
		}
		t.Columns[longest].Type = sqltype.Type{Kind: sqltype.VarChar, Length: offPage / 4}
	}
}

// inPage is how much of InnoDB's page a column may take.
func inPage(c dialect.Column, outside int) int {
	switch n := mysqlOctets(c) - 2; c.Type.Kind { // others: they have one length
	case sqltype.Char, sqltype.VarChar:
		if n < offPage {
			return n + 1
		}
		return outside
	case sqltype.Text:
		return outside
	case sqltype.UUID:
		return 37
	}
	return mysqlOctets(c)
}

// fitRow turns the longest varchars into text until the row fits.
func fitRow(t *dialect.Table) {
	for {
		sum, longest := 0, -1
		for i, c := range t.Columns {
			n := mysqlOctets(c)
			sum += n
			if c.Type.Kind == sqltype.VarChar && (longest < 0 || n > mysqlOctets(t.Columns[longest])) {
				longest = i
			}
		}
		if sum <= rowLimit || longest < 0 {
			return
		}
		t.Columns[longest].Type = sqltype.Type{Kind: sqltype.Text}
	}
}

// whole is a value by which it is told from others: text by its bytes, whatever its collation takes for the
// same, and those by their hash. The servers compare what they sort by its first bytes only, as many as
// max_sort_length says (MySQL manual, "Server System Variables"); two texts may differ behind them.
func whole(t sqltype.Type, x string) string {
	if t.IsText() || t.Kind == sqltype.None {
		return "sha2(" + x + ", 256)"
	}
	return x
}

func mysqlType(c dialect.Column, key bool) string {
	t := c.Type
	switch t.Kind {
	case sqltype.Boolean:
		return "BOOLEAN"
	case sqltype.SmallInt:
		return "SMALLINT"
	case sqltype.Integer:
		return "INT"
	case sqltype.BigInt:
		return "BIGINT"
	case sqltype.Decimal:
		return dialect.Numeric("DECIMAL", t)
	case sqltype.Double:
		return "DOUBLE"
	case sqltype.Date:
		return "DATE"
	case sqltype.Time:
		return dialect.Numbered("TIME", t.Precision)
	case sqltype.Timestamp, sqltype.TimestampTZ:
		return dialect.Numbered("DATETIME", t.Precision)
	case sqltype.Char:
		if t.Length <= 255 {
			return dialect.Numbered("CHAR", t.Length)
		}
		return dialect.Numbered("VARCHAR", t.Length)
	case sqltype.VarChar:
		if t.Length <= 16000 {
			return dialect.Numbered("VARCHAR", t.Length)
		}
		if t.Length <= 1<<24/4 {
			return "MEDIUMTEXT"
		}
	case sqltype.UUID:
		return "CHAR(36) CHARACTER SET ascii COLLATE ascii_bin"
	case sqltype.Text:
		if key {
			return "VARCHAR(700)" // 2,800 of the 3,072 bytes that an index takes
		}
	case sqltype.None:
	}
	return "LONGTEXT"
}

// mysqlOctets is how much of a row a column may take.
func mysqlOctets(c dialect.Column) int {
	switch c.Type.Kind {
	case sqltype.Char, sqltype.VarChar:
		if c.Type.Length > 16000 {
			return 12
		}
		return 4*c.Type.Length + 2
	case sqltype.Decimal:
		return c.Type.Precision/2 + 2
	case sqltype.Text:
		return 12
	case sqltype.BigInt, sqltype.Boolean, sqltype.Date, sqltype.Double, sqltype.Integer, sqltype.None,
		sqltype.SmallInt, sqltype.Time, sqltype.Timestamp, sqltype.TimestampTZ, sqltype.UUID:
	}
	return 8
}

// mysqlString quotes text for any sql_mode but NO_BACKSLASH_ESCAPES, which
// our own sessions never set (MySQL manual, 9.1.1).
func mysqlString(s string) string {
	return "'" + strings.NewReplacer(`\`, `\\`, "'", "''", "\x00", `\0`, "\n", `\n`, "\r", `\r`, "\x1a",
		`\Z`).Replace(s) + "'"
}

func clipRunes(s string, n int) string {
	if r := []rune(s); len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return s
}
