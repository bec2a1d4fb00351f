package oracle

import (
	"fmt"
	"path"
	"strings"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/reading"
	"ambertray/internal/sqltype"
)

// fromFile is an external table (Oracle, Database Utilities, "The ORACLE_LOADER Access
// Driver"), of version 12.2 and later, which know FIELDS CSV.
var fromFile = &db.FileReader{
	Encodings: map[string]string{"utf-8": "AL32UTF8", "us-ascii": "US7ASCII", "windows-1252": "WE8MSWIN1252",
		"iso-8859-1": "WE8ISO8859P1", "iso-8859-15": "WE8ISO8859P15", "iso-8859-2": "EE8ISO8859P2",
		"windows-1250": "EE8MSWIN1250", "windows-1251": "CL8MSWIN1251"},
	NeedsQuotes: true,
	StageType:   "VARCHAR2(4000 BYTE)",
	Stage: func(stage string, columns []string, f db.FileForm) []string {
		folder, file := path.Split(strings.ReplaceAll(f.Path, `\`, "/"))
		var defined, fields []string
		for _, c := range columns {
			defined, fields = append(defined, c+" VARCHAR2(4000 BYTE)"), append(fields, c+" CHAR(4000)")
		}
		skip := ""
		if f.Skip > 0 {
			skip = fmt.Sprintf(" SKIP %d", f.Skip)
		}
		delimiter := dialect.Quoted(f.Delimiter)
		if f.Delimiter < " " {
			delimiter = fmt.Sprintf("0X'%02X'", f.Delimiter)
		}
		end := "0X'0A'"
		if f.CRLF {
			end = "0X'0D0A'"
		}
		return []string{
			"CREATE OR REPLACE DIRECTORY ambertray_files AS " + dialect.Quoted(strings.TrimRight(folder, "/")),
			fmt.Sprintf("CREATE TABLE %s (%s)\nORGANIZATION EXTERNAL (TYPE ORACLE_LOADER DEFAULT DIRECTORY "+
				"ambertray_files\n"+
				"ACCESS PARAMETERS (RECORDS DELIMITED BY %s CHARACTERSET %s%s NOBADFILE NODISCARDFILE NOLOGFILE\n"+
				"FIELDS CSV WITH EMBEDDED TERMINATED BY %s OPTIONALLY ENCLOSED BY %s NOTRIM\n(%s))\n"+
				"LOCATION (%s)) REJECT LIMIT 0", stage, strings.Join(defined, ", "), end, f.Encoding, skip, delimiter,
				dialect.Quoted(string(rune(f.Quote))), strings.Join(fields, ", "), dialect.Quoted(file))}
	},
	Text: func(x string) string { return x },
	Trim: func(x string) string {
		const blanks = "' ' || CHR(9) || UNISTR('\\00A0')"
		return fmt.Sprintf("RTRIM(LTRIM(%s, %s), %s)", x, blanks, blanks)
	},
	Blank: func(x string) string { return x + " IS NULL" },
	Truth: func(is bool) string { return map[bool]string{true: "1", false: "0"}[is] },
	Replace: func(x, old, new string) string {
		return fmt.Sprintf("REPLACE(%s, %s, %s)", x, dialect.Quoted(old), dialect.Quoted(new))
	},
	Joined: func(x ...string) string { return strings.Join(x, " || ") },
	Value: func(t sqltype.Type, x string) string {
		iso := func(mask, typ string) string {
			return fmt.Sprintf("TO_TIMESTAMP%s(REPLACE(%s, 'T', ' '), '%s')", typ, x, mask)
		}
		switch t.Kind {
		case sqltype.SmallInt, sqltype.Integer, sqltype.BigInt, sqltype.Decimal:
			return "CAST(" + x + " AS " + Dialect.TypeOf(t) + ")"
		case sqltype.Double:
			return "TO_BINARY_DOUBLE(" + x + ")"
		case sqltype.Date:
			return "TO_DATE(" + x + ", 'YYYY-MM-DD')"
		case sqltype.Time:
			return "TO_DSINTERVAL('0 ' || " + x + ")"
		case sqltype.Timestamp:
			return iso("YYYY-MM-DD HH24:MI:SS.FF", "")
		case sqltype.TimestampTZ:
			return iso("YYYY-MM-DD HH24:MI:SS.FF TZH:TZM", "_TZ")
		case sqltype.UUID:
			return "LOWER(" + x + ")"
		case sqltype.None, sqltype.Boolean, sqltype.Char, sqltype.VarChar, sqltype.Text:
		}
		return x
	},
	Moment: fileMoment,
	Year:   func(x string) string { return "EXTRACT(YEAR FROM " + x + ")" },
	Years:  func(_ sqltype.Type, x string, n int) string { return fmt.Sprintf("ADD_MONTHS(%s, %d)", x, 12*n) },
	Fail:   func(_ sqltype.Type, x string) string { return "TO_NUMBER('this is none: ' || " + x + ")" },
	Remarks: []string{"the server reads the file itself, which takes the right CREATE ANY DIRECTORY, or a directory " +
		"ambertray_files that is there and may be read",
		"not run on a server: written by Oracle's published reference"},
}

// fileMoment is a date or time by TO_DATE or TO_TIMESTAMP.
func fileMoment(t sqltype.Type, p *reading.Pattern, x string) (sql, why string) {
	var f strings.Builder
	for _, o := range p.Parts() {
		switch o.Letter {
		case 0:
			f.WriteString(`"` + string(o.Literal) + `"`)
		case 'M':
			if o.Count >= 3 {
				f.WriteString("MON")
				x = fmt.Sprintf(`REGEXP_REPLACE(%s, '([A-Za-z]{3})[A-Za-z]+', '\1')`, x)
			} else {
				f.WriteString("MM")
			}
		case 'y':
			f.WriteString(strings.Repeat("Y", o.Count))
			if o.Count == 2 {
				return "", fmt.Sprintf("a year of two digits in %q", p)
			}
		case 'd', 'H', 'h', 'm', 's', 'S', 'a':
			f.WriteString(map[byte]string{'d': "DD", 'H': "HH24", 'h': "HH12", 'm': "MI", 's': "SS", 'S': "FF",
				'a': "AM"}[o.Letter])
		default:
			return "", fmt.Sprintf("%c in %q", o.Letter, p)
		}
	}
	switch t.Kind { // others: no moments
	case sqltype.Date:
		return fmt.Sprintf("TO_DATE(%s, %s, 'NLS_DATE_LANGUAGE=ENGLISH')", x, dialect.Quoted(f.String())), ""
	case sqltype.Timestamp:
		return fmt.Sprintf("TO_TIMESTAMP(%s, %s, 'NLS_DATE_LANGUAGE=ENGLISH')", x, dialect.Quoted(f.String())), ""
	}
	return "", fmt.Sprintf("%q as %s", p, t)
}
