package postgres

import (
	"fmt"
	"strings"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/reading"
	"ambertray/internal/sqltype"
)

// fromFile is COPY of a file of the server (PostgreSQL, "COPY"). A field of nothing is null
// there and an empty text in quotes is not; here both are as the plan takes them.
var fromFile = &db.FileReader{
	Encodings: map[string]string{"utf-8": "UTF8", "us-ascii": "UTF8", "windows-1252": "WIN1252", "iso-8859-1": "LATIN1",
		"iso-8859-15": "LATIN9", "iso-8859-2": "LATIN2", "windows-1250": "WIN1250", "windows-1251": "WIN1251"},
	OneLine:   true,
	StageType: "text",
	Fill: func(stage string, _ []string, f db.FileForm) []string {
		opt := []string{"FORMAT csv", "ENCODING " + dialect.Quoted(f.Encoding)}
		char := func(s string) string {
			if s < " " {
				return fmt.Sprintf("E'\\x%02x'", s[0])
			}
			return dialect.Quoted(s)
		}
		delimiter, quote := f.Delimiter, string(rune(f.Quote))
		if delimiter == "" {
			delimiter = "\x1f" // that no line has
		}
		if f.Quote == 0 {
			quote = "\x01"
		}
		opt = append(opt, "DELIMITER "+char(delimiter), "QUOTE "+char(quote))
		if f.Skip > 0 {
			opt = append(opt, "HEADER true")
		}
		return []string{fmt.Sprintf("COPY %s FROM %s WITH (%s)", stage, dialect.Quoted(f.Path), strings.Join(opt,
			", "))}
	},
	Text:  func(x string) string { return "coalesce(" + x + ", '')" },
	Trim:  func(x string) string { return "btrim(" + x + `, E' \t\u00a0')` },
	Blank: func(x string) string { return x + " = ''" },
	Truth: func(is bool) string { return map[bool]string{true: "true", false: "false"}[is] },
	Replace: func(x, old, new string) string {
		return fmt.Sprintf("replace(%s, %s, %s)", x, dialect.Quoted(old), dialect.Quoted(new))
	},
	Joined: func(x ...string) string { return "concat(" + strings.Join(x, ", ") + ")" },
	Value: func(t sqltype.Type, x string) string {
		switch {
		case t.IsText():
			return x
		case t.IsInteger():
			return fmt.Sprintf("%s::numeric::%s", x, Dialect.TypeOf(t))
		}
		return fmt.Sprintf("%s::%s", x, Dialect.TypeOf(t))
	},
	Moment: fileMoment,
	Year:   func(x string) string { return "extract(year FROM " + x + ")" },
	Years: func(t sqltype.Type, x string, n int) string {
		return fmt.Sprintf("(%s + interval '%d years')::%s", x, n, Dialect.TypeOf(t))
	},
	Fail: func(t sqltype.Type, x string) string {
		return fmt.Sprintf("concat('this is none: ', %s)::numeric::%s", x, map[bool]string{true: "int::boolean",
			false: Dialect.TypeOf(t)}[t.Kind == sqltype.Boolean])
	},
	Remarks: []string{"the server reads the file itself, which takes the role pg_read_server_files; psql can do it " +
		"instead: make COPY to \\copy"},
}

// fileMoment is a date or time by to_timestamp (PostgreSQL, "Data Type Formatting Functions").
func fileMoment(t sqltype.Type, p *reading.Pattern, x string) (sql, why string) {
	var f strings.Builder
	for _, o := range p.Parts() {
		switch o.Letter {
		case 0:
			f.WriteString(`"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(string(o.Literal)) + `"`)
		case 'y':
			f.WriteString(strings.Repeat("Y", o.Count))
		case 'M':
			if o.Count < 3 {
				f.WriteString("MM")
				continue
			}
			// The name is short or long: its first three letters tell.
			f.WriteString("MON")
			x = fmt.Sprintf(`regexp_replace(%s, '([A-Za-z]{3})[A-Za-z]+', '\1')`, x)
		case 'd':
			f.WriteString("DD")
		case 'H':
			f.WriteString("HH24")
		case 'h':
			f.WriteString("HH12")
		case 'm':
			f.WriteString("MI")
		case 's':
			f.WriteString("SS")
		case 'S':
			f.WriteString("US")
		case 'a':
			f.WriteString("AM")
		default:
			return "", fmt.Sprintf("%c in %q", o.Letter, p)
		}
	}
	return fmt.Sprintf("to_timestamp(%s, %s)::%s", x, dialect.Quoted(f.String()), Dialect.TypeOf(t)), ""
}
