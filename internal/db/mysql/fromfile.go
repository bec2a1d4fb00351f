package mysql

import (
	"fmt"
	"strings"

	"ambertray/internal/db"
	"ambertray/internal/reading"
	"ambertray/internal/sqltype"
)

// fromFile is LOAD DATA of a file of the server (MySQL manual, "LOAD DATA Statement"). The
// word NULL outside quotes is null there, and made a word again.
var fromFile = &db.FileReader{
	Encodings: map[string]string{"utf-8": "utf8mb4", "us-ascii": "utf8mb4", "windows-1252": "latin1",
		"iso-8859-2": "latin2", "windows-1250": "cp1250", "windows-1251": "cp1251"},
	StageType: "LONGTEXT CHARACTER SET utf8mb4 COLLATE utf8mb4_bin",
	Fill: func(stage string, _ []string, f db.FileForm) []string {
		delimiter, quote := f.Delimiter, ""
		if delimiter == "" {
			delimiter = "\x1f"
		}
		if f.Quote != 0 {
			quote = " OPTIONALLY ENCLOSED BY " + mysqlString(string(rune(f.Quote)))
		}
		end := "\n"
		if f.CRLF {
			end = "\r\n"
		}
		ignore := ""
		if f.Skip > 0 {
			ignore = fmt.Sprintf(" IGNORE %d LINES", f.Skip)
		}
		return []string{fmt.Sprintf("LOAD DATA INFILE %s INTO TABLE %s CHARACTER SET %s FIELDS TERMINATED BY %s%s "+
			"ESCAPED BY '' LINES TERMINATED BY %s%s", mysqlString(f.Path), stage, f.Encoding, mysqlString(delimiter),
			quote,
			mysqlString(end), ignore)}
	},
	Text:  func(x string) string { return "coalesce(" + x + ", 'NULL')" },
	Trim:  func(x string) string { return "regexp_replace(" + x + `, '^[ \\t\\x{a0}]+|[ \\t\\x{a0}]+$', '')` },
	Blank: func(x string) string { return x + " = ''" },
	Truth: func(is bool) string { return map[bool]string{true: "TRUE", false: "FALSE"}[is] },
	Replace: func(x, old, new string) string {
		return fmt.Sprintf("replace(%s, %s, %s)", x, mysqlString(old), mysqlString(new))
	},
	Joined: func(x ...string) string { return "concat(" + strings.Join(x, ", ") + ")" },
	Value:  fileValue,
	Moment: fileMoment,
	Year:   func(x string) string { return "year(" + x + ")" },
	Years:  func(_ sqltype.Type, x string, n int) string { return fmt.Sprintf("(%s + INTERVAL %d YEAR)", x, n) },
	Fail: func(_ sqltype.Type, x string) string {
		return fmt.Sprintf("cast(concat('this is none: ', %s) AS SIGNED)", x)
	},
	Remarks: []string{"the server reads the file itself, which takes the right FILE and a folder that " +
		"secure_file_priv " +
		"allows; for a file of the client, make LOAD DATA to LOAD DATA LOCAL"},
}

// fileValue is a text as a value. What has no form that CAST reads is an error in strict mode.
func fileValue(t sqltype.Type, x string) string {
	as := ""
	switch t.Kind {
	case sqltype.SmallInt, sqltype.Integer, sqltype.BigInt:
		return "cast(cast(" + x + " AS DECIMAL(38,10)) AS SIGNED)"
	case sqltype.Decimal:
		as = fmt.Sprintf("DECIMAL(%d,%d)", t.Precision, t.Scale)
	case sqltype.Double:
		as = "DOUBLE"
	case sqltype.Date:
		as = "DATE"
	case sqltype.Time:
		as = fmt.Sprintf("TIME(%d)", t.Precision)
	case sqltype.Timestamp:
		as = fmt.Sprintf("DATETIME(%d)", t.Precision)
	case sqltype.TimestampTZ:
		return zoned(t, x)
	case sqltype.UUID:
		h := "lower(replace(replace(replace(" + x + ", '-', ''), '{', ''), '}', ''))"
		return fmt.Sprintf("concat_ws('-', left(%[1]s, 8), substr(%[1]s, 9, 4), substr(%[1]s, 13, 4), "+
			"substr(%[1]s, 17, 4), "+
			"substr(%[1]s, 21))", h)
	case sqltype.None, sqltype.Boolean, sqltype.Char, sqltype.VarChar, sqltype.Text:
		return x
	}
	return "cast(" + x + " AS " + as + ")"
}

// zoned is a timestamp with Z, +hh, +hhmm or +hh:mm behind it, in UTC. Not by CONVERT_TZ,
// which leaves times before 1970 as they are.
func zoned(t sqltype.Type, x string) string {
	at := func(n int, minutes string) string {
		return fmt.Sprintf("cast(left(%[1]s, char_length(%[1]s) - %[2]d) AS DATETIME(%[3]d)) - INTERVAL "+
			"(concat(substr(%[1]s, "+
			"-%[2]d, 1), '1') * (substr(%[1]s, 1 - %[2]d, 2) * 60%[4]s)) MINUTE", x, n, t.Precision, minutes)
	}
	return fmt.Sprintf("CASE WHEN %[1]s LIKE '%%Z' THEN cast(trim(TRAILING 'Z' FROM %[1]s) AS DATETIME(%[2]d)) "+
		"WHEN %[1]s REGEXP '[+-][0-9]{2}:[0-9]{2}$' THEN %[3]s WHEN %[1]s REGEXP '[+-][0-9]{4}$' THEN %[4]s ELSE "+
		"%[5]s END",
		x, t.Precision, at(6, " + right("+x+", 2)"), at(5, " + right("+x+", 2)"), at(3, ""))
}

// fileMoment is a date or time by STR_TO_DATE.
func fileMoment(t sqltype.Type, p *reading.Pattern, x string) (sql, why string) {
	var f strings.Builder
	names := false
	for _, o := range p.Parts() {
		switch o.Letter {
		case 0:
			if f.WriteByte(o.Literal); o.Literal == '%' {
				f.WriteByte('%')
			}
		case 'M':
			if names = o.Count >= 3; names {
				f.WriteString("%b")
			} else {
				f.WriteString("%m")
			}
		case 'y':
			f.WriteString(map[int]string{2: "%y", 4: "%Y"}[o.Count])
		case 'd', 'H', 'h', 'm', 's', 'S', 'a':
			f.WriteString(map[byte]string{'d': "%d", 'H': "%H", 'h': "%h", 'm': "%i", 's': "%s", 'S': "%f",
				'a': "%p"}[o.Letter])
		default:
			return "", fmt.Sprintf("%c in %q", o.Letter, p)
		}
	}
	made := "str_to_date(" + x + ", " + mysqlString(f.String()) + ")"
	if names {
		made = fmt.Sprintf("CASE WHEN %s REGEXP '[A-Za-z]{4}' THEN str_to_date(%[1]s, %[2]s) ELSE %[3]s END", x,
			mysqlString(strings.ReplaceAll(f.String(), "%b", "%M")), made)
	}
	return fileValue(t, made), ""
}
