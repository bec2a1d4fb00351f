package db

import (
	"strings"

	"ambertray/internal/reading"
	"ambertray/internal/sqltype"
)

// Sample is a value of a type, in plain form: checksums of such are compared
// to see that a server makes them as we do.
func Sample(t sqltype.Type) (text string, v reading.Value) {
	fraction := func(digits int) string {
		if digits == 0 {
			return ""
		}
		return "." + "5" + strings.Repeat("0", digits-1)
	}
	switch t.Kind {
	case sqltype.Boolean:
		text = "true"
	case sqltype.SmallInt, sqltype.Integer, sqltype.BigInt:
		text = "-7777"
	case sqltype.Double:
		text = "-0.1"
	case sqltype.Decimal:
		text = "-1" + fraction(t.Scale)
		if t.Scale == t.Precision {
			text = "-0" + fraction(t.Scale)
		}
	case sqltype.Date:
		text = "1999-12-31"
	case sqltype.Time:
		text = "01:02:03" + fraction(t.Precision)
	case sqltype.Timestamp:
		text = "1999-12-31 01:02:03" + fraction(t.Precision)
	case sqltype.TimestampTZ:
		text = "1999-12-31 01:02:03" + fraction(t.Precision) + "+00:00"
	case sqltype.UUID:
		text = "00112233-4455-6677-8899-aabbccddeeff"
	case sqltype.Char, sqltype.None, sqltype.Text, sqltype.VarChar:
		letters := []rune("étang d'écluse")
		if t.Length > 0 && t.Length < len(letters) {
			letters = letters[:t.Length]
		}
		text = strings.TrimRight(string(letters), " ")
	}
	reading.Plain(t).Read([]byte(text), true, &v)
	return text, v
}
