package engine

import (
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"ambertray/internal/standin/oracle/sql"
)

// A Type is what a column is of.
type Type struct {
	Kind Kind
	Name string // as DATA_TYPE of the catalog has it
	// Length of text is in characters if Chars is set, else in bytes; Fixed fills it up.
	Length int
	Chars  bool
	Fixed  bool
	// Prec and Scale are a number's; Free: it has neither. Scale is that of seconds, too.
	Prec, Scale int
	Free        bool
	Single      bool // BINARY_FLOAT
}

// most is the length of text in bytes: MAX_STRING_SIZE is STANDARD.
const most = 4000

// typeOf is the type that a definition means (SQL Language Reference, "Data Types").
func typeOf(n sql.TypeName) (Type, error) {
	arg := func(i, otherwise int) int {
		if i < len(n.Args) {
			return n.Args[i]
		}
		return otherwise
	}
	t := Type{Name: n.Name}
	switch n.Name {
	case "NUMBER", "DECIMAL", "NUMERIC":
		t.Name, t.Kind, t.Prec, t.Scale = "NUMBER", Number, arg(0, 0), arg(1, 0)
		if t.Free = len(n.Args) == 0 && n.Name == "NUMBER"; !t.Free && t.Prec == 0 {
			t.Prec = 38
		}
		if t.Prec > 38 {
			return t, fail(1727, "numeric precision specifier is out of range (1 to 38)")
		}
		if t.Scale < -84 || t.Scale > 127 {
			return t, fail(1728, "numeric scale specifier is out of range (-84 to 127)")
		}
	case "INTEGER", "INT", "SMALLINT":
		t.Name, t.Kind, t.Prec = "NUMBER", Number, 38
	case "FLOAT":
		t.Kind, t.Prec, t.Free = Number, arg(0, 126), true
	case "BINARY_DOUBLE", "BINARY_FLOAT":
		t.Kind, t.Single = Double, n.Name == "BINARY_FLOAT"
	case "VARCHAR2", "VARCHAR", "CHAR", "NVARCHAR2", "NCHAR":
		return textType(n, arg(0, 0))
	case "CLOB", "NCLOB", "LONG", "XMLTYPE", "JSON":
		t.Kind = Clob
	case "RAW":
		t.Kind, t.Length = Raw, arg(0, 0)
	case "BLOB":
		t.Kind = Raw
	case "DATE":
		t.Kind = Date
	case "TIMESTAMP":
		t.Kind, t.Scale = Timestamp, arg(0, 6)
		t.Name = fmt.Sprintf("TIMESTAMP(%d)", t.Scale)
		if n.Zone != "" {
			t.Kind = map[string]Kind{"TZ": Zoned, "LTZ": Local}[n.Zone]
			t.Name += map[string]string{"TZ": " WITH TIME ZONE", "LTZ": " WITH LOCAL TIME ZONE"}[n.Zone]
		}
		if t.Scale > 9 {
			return t, fail(30088, "datetime/interval precision is out of range")
		}
	case "INTERVAL":
		t.Kind, t.Prec, t.Scale = Interval, n.Args[0], n.Args[1]
		t.Name = fmt.Sprintf("INTERVAL DAY(%d) TO SECOND(%d)", t.Prec, t.Scale)
	case "ROWID":
		t.Kind = RowID
	default:
		return t, unknown("the type %s", n.Name)
	}
	return t, nil
}

func textType(n sql.TypeName, length int) (Type, error) {
	t := Type{Name: n.Name, Kind: Text, Length: length, Fixed: strings.HasSuffix(n.Name, "CHAR") && n.Name != "VARCHAR"}
	t.Chars = n.Unit == "CHAR" || strings.HasPrefix(n.Name, "N")
	if n.Name == "VARCHAR" {
		t.Name = "VARCHAR2"
	}
	if t.Length == 0 {
		if !t.Fixed || len(n.Args) > 0 {
			return t, fail(906, "missing left parenthesis")
		}
		t.Length = 1
	}
	limit := most
	if t.Fixed {
		limit = 2000
	}
	if strings.HasPrefix(n.Name, "N") {
		limit /= 2
	}
	if t.Length > limit {
		return t, fail(910, "specified length too long for its datatype")
	}
	return t, nil
}

// bytes is how many the values of a text type take at most.
func (t Type) bytes() int {
	if t.Chars {
		return min(4*t.Length, most)
	}
	return t.Length
}

// fit makes of a value one that a column holds, or says why it holds none such.
func (s *Session) fit(v Value, t Type, where place) (Value, error) {
	if v.IsNull() {
		return v, nil
	}
	switch t.Kind {
	case Number:
		return s.fitNumber(v, t)
	case Text, RowID:
		return s.fitText(v, t, where)
	case Clob:
		if v.Kind == Clob {
			return v, nil
		}
		v, err := s.asText(v)
		v.Kind, v.Fixed = Clob, false
		return v, err
	case Date, Timestamp, Zoned, Local:
		v, err := s.asMoment(v, t.Kind)
		if err != nil {
			return v, err
		}
		return s.asKind(v, t), nil
	case Interval:
		if v.Kind.isText() {
			var err error
			if v, err = parseInterval(v.S); err != nil {
				return v, err
			}
		}
		if v.Kind != Interval {
			return v, fail(932, "inconsistent datatypes: expected INTERVAL DAY TO SECOND got %s", v.Kind)
		}
		days := int64(v.I / (24 * time.Hour))
		if len(fmt.Sprint(max(days, -days))) > max(t.Prec, 0) && days != 0 {
			return v, fail(1873, "the leading precision of the interval is too small")
		}
		v.I = v.I.Round(unit(t.Scale))
		return v, nil
	case Double:
		return s.asDouble(v)
	case Raw:
		return v, nil
	case Null:
	}
	return v, unknown("a value of %s", t.Name)
}

// unit is the smallest step of seconds with so many decimals.
func unit(scale int) time.Duration {
	d := time.Second
	for range min(scale, 9) {
		d /= 10
	}
	return d
}

// asKind makes a date or timestamp one of another such type.
func (s *Session) asKind(v Value, t Type) Value {
	x := v.T
	if v.Kind == Zoned && t.Kind != Zoned && t.Kind != Local {
		x = time.Date(x.Year(), x.Month(), x.Day(), x.Hour(), x.Minute(), x.Second(), x.Nanosecond(), time.UTC)
	}
	if v.Kind != Zoned && v.Kind != Local && (t.Kind == Zoned || t.Kind == Local) {
		x = time.Date(x.Year(), x.Month(), x.Day(), x.Hour(), x.Minute(), x.Second(), x.Nanosecond(), s.zone)
	}
	if t.Kind == Local {
		x = x.In(s.zone)
	}
	if t.Kind == Date {
		return moment(Date, x.Truncate(time.Second))
	}
	return moment(t.Kind, x.Round(unit(t.Scale)))
}

func (s *Session) fitNumber(v Value, t Type) (Value, error) {
	v, err := asNumber(v)
	if err != nil || t.Free {
		return v, err
	}
	v.D = v.D.Round(int32(t.Scale))
	if !v.D.IsZero() && v.D.NumDigits()+int(v.D.Exponent()) > t.Prec-t.Scale {
		return v, fail(1438, "value larger than specified precision allowed for this column")
	}
	return v, nil
}

func (s *Session) fitText(v Value, t Type, where place) (Value, error) {
	v, err := s.asText(v)
	if err != nil {
		return v, err
	}
	n := len(v.S)
	if t.Chars {
		n = utf8.RuneCountInString(v.S)
	}
	if n > t.Length || len(v.S) > most {
		return v, fail(12899, "value too large for column %s (actual: %d, maximum: %d)", where, n, t.Length)
	}
	if v.Fixed = t.Fixed; t.Fixed {
		v.S += strings.Repeat(" ", t.Length-n)
	}
	return v, nil
}

// columnType is the type of what a query yields, by a value of it.
func columnType(v Value) Type {
	switch v.Kind { // others: text
	case Number:
		return Type{Kind: Number, Name: "NUMBER", Free: true}
	case Clob:
		return Type{Kind: Clob, Name: "CLOB"}
	case Date:
		return Type{Kind: Date, Name: "DATE"}
	case Timestamp, Zoned, Local:
		return Type{Kind: v.Kind, Name: v.Kind.String(), Scale: 9}
	case Interval:
		return Type{Kind: Interval, Name: v.Kind.String(), Prec: 9, Scale: 9}
	case Double:
		return Type{Kind: Double, Name: "BINARY_DOUBLE"}
	case Raw:
		return Type{Kind: Raw, Name: "RAW", Length: 2000}
	case RowID:
		return Type{Kind: RowID, Name: "ROWID"}
	}
	return Type{Kind: Text, Name: "VARCHAR2", Length: most}
}
