package sqlserver

import (
	"fmt"
	"strings"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/reading"
	"ambertray/internal/sqltype"
)

// fromFile is BULK INSERT (Transact-SQL reference, "BULK INSERT"), of SQL Server 2017 and
// later, which know FORMAT = 'CSV' and TRIM of characters.
var fromFile = &db.FileReader{
	Encodings: map[string]string{"utf-8": "65001", "us-ascii": "65001", "windows-1252": "1252", "iso-8859-1": "28591",
		"windows-1250": "1250", "windows-1251": "1251", "iso-8859-2": "28592", "iso-8859-15": "28605"},
	StageType: "NVARCHAR(MAX) COLLATE Latin1_General_100_BIN2", // which tells upper case from lower
	Fill: func(stage string, _ []string, f db.FileForm) []string {
		opt := []string{"CODEPAGE = " + dialect.Quoted(f.Encoding)}
		if f.Quote != 0 {
			opt = append(opt, "FORMAT = 'CSV'", "FIELDQUOTE = "+dialect.Quoted(string(rune(f.Quote))))
		}
		delimiter := f.Delimiter
		if delimiter == "\t" {
			delimiter = `\t`
		} else if delimiter == "" {
			delimiter = `0x1f`
		}
		end := "0x0a"
		if f.CRLF {
			end = "0x0d0a"
		}
		opt = append(opt, fmt.Sprintf("FIRSTROW = %d", f.Skip+1), "FIELDTERMINATOR = "+dialect.Quoted(delimiter),
			"ROWTERMINATOR = "+dialect.Quoted(end), "MAXERRORS = 0", "TABLOCK")
		return []string{fmt.Sprintf("BULK INSERT %s FROM N%s WITH (%s)", stage, dialect.Quoted(f.Path),
			strings.Join(opt, ", "))}
	},
	Text:  func(x string) string { return "COALESCE(" + x + ", N'')" },
	Trim:  func(x string) string { return "TRIM(CONCAT(N' ', NCHAR(9), NCHAR(160)) FROM " + x + ")" },
	Blank: func(x string) string { return "DATALENGTH(" + x + ") = 0" }, // which takes a blank for something
	Truth: func(is bool) string { return map[bool]string{true: "1", false: "0"}[is] },
	Replace: func(x, old, new string) string {
		return fmt.Sprintf("REPLACE(%s, N%s, N%s)", x, dialect.Quoted(old), dialect.Quoted(new))
	},
	Joined: func(x ...string) string { return "CONCAT(" + strings.Join(x, ", ") + ")" },
	Value: func(t sqltype.Type, x string) string {
		switch {
		case t.IsText():
			return x
		case t.IsInteger():
			x = "CAST(" + x + " AS decimal(38,10))"
		case t.Kind == sqltype.TimestampTZ:
			return fmt.Sprintf("CAST(%s AS %s) AT TIME ZONE 'UTC'", x, Dialect.TypeOf(t))
		}
		return "CAST(" + x + " AS " + Dialect.TypeOf(t) + ")"
	},
	Moment: fileMoment,
	Year:   func(x string) string { return "YEAR(" + x + ")" },
	Years:  func(_ sqltype.Type, x string, n int) string { return fmt.Sprintf("DATEADD(year, %d, %s)", n, x) },
	Fail: func(t sqltype.Type, x string) string {
		return "CAST(CONCAT(N'this is none: ', " + x + ") AS int)"
	},
	Remarks: []string{"the server reads the file itself, which takes the right ADMINISTER BULK OPERATIONS and a " +
		"path that " +
		"its service may read", "not run on a server: written by Microsoft's published reference"},
}

// styles are those of CONVERT by the form of a date, with a year of four digits; with two
// they are 100 less.
var styles = map[string]int{"d/M/y": 103, "M/d/y": 101, "d.M.y": 104, "d-M-y": 105, "y.M.d": 102, "y/M/d": 111,
	"y-M-d": 23}

// fileMoment is a date or time by CONVERT, of the forms for which it has a style.
func fileMoment(t sqltype.Type, p *reading.Pattern, x string) (sql, why string) {
	date, rest, short := "", "", false
	for _, o := range p.Parts() {
		switch {
		case o.Letter == 'S' || o.Letter == 's' || o.Letter == 'm' || o.Letter == 'H':
			rest += string(o.Letter)
		case o.Letter == 'M' && o.Count > 2 || strings.IndexByte("dMy", o.Letter) < 0 && o.Letter != 0:
			return "", fmt.Sprintf("%c in %q", o.Letter, p)
		case o.Letter == 'y':
			short = o.Count == 2
			date += "y"
		case o.Letter == 0 && (rest != "" || o.Literal == ' ' || o.Literal == 'T'):
			if rest += string(o.Literal); o.Literal == 'T' {
				x = "REPLACE(" + x + ", N'T', N' ')"
			}
		case o.Letter == 0:
			date += string(o.Literal)
		default:
			date += string(o.Letter)
		}
	}
	style, known := styles[date]
	if !known || short && style == 23 || strings.Trim(rest, " THms:.S") != "" {
		return "", fmt.Sprintf("%q, for which CONVERT has no style", p)
	}
	if short {
		style -= 100
	}
	return fmt.Sprintf("CONVERT(%s, %s, %d)", Dialect.TypeOf(t), x, style), ""
}
