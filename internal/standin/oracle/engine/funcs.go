package engine

import (
	"crypto/sha1"
	"crypto/sha256"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/shopspring/decimal"

	"ambertray/internal/standin/oracle/sql"
)

// function calls one of a row.
func (r *run) function(f *sql.Func, e *env) (Value, error) {
	if f.Over != nil || f.Star || f.Distinct {
		return null, unknown("the function %s here", f.Name)
	}
	switch f.Name { // those that do not evaluate all of their arguments
	case "COALESCE", "NVL":
		for _, a := range f.Args {
			v, err := r.value(a, e)
			if err != nil || !v.IsNull() {
				return v, err
			}
		}
		return null, nil
	case "DECODE":
		return r.decode(f, e)
	case "NVL2":
		v, err := r.value(f.Args[0], e)
		if err != nil {
			return null, err
		}
		if v.IsNull() {
			return r.value(f.Args[2], e)
		}
		return r.value(f.Args[1], e)
	}
	args := make([]Value, len(f.Args))
	for i, a := range f.Args {
		var err error
		if args[i], err = r.value(a, e); err != nil {
			return null, err
		}
	}
	for _, group := range []map[string]function{conversions, texts, numbers, moments, others} {
		fn, is := group[f.Name]
		if !is {
			continue
		}
		if len(args) < fn.least || len(args) > max(fn.most, fn.least) {
			return null, fail(909, "invalid number of arguments")
		}
		return fn.call(r, args)
	}
	return null, fail(904, "%s: invalid identifier", quotedName(f.Name))
}

// A function takes from least to most arguments.
type function struct {
	least, most int
	call        func(r *run, args []Value) (Value, error)
}

// decode is DECODE, which takes nulls for the same.
func (r *run) decode(f *sql.Func, e *env) (Value, error) {
	if len(f.Args) < 3 {
		return null, fail(938, "not enough arguments for function")
	}
	of, err := r.value(f.Args[0], e)
	if err != nil {
		return null, err
	}
	rest := f.Args[1:]
	for len(rest) > 1 {
		v, err := r.value(rest[0], e)
		if err != nil {
			return null, err
		}
		same := of.IsNull() && v.IsNull()
		if !of.IsNull() && !v.IsNull() {
			t, err := r.related("=", of, v)
			if err != nil {
				return null, err
			}
			same = t == isTrue
		}
		if same {
			return r.value(rest[1], e)
		}
		rest = rest[2:]
	}
	if len(rest) == 1 {
		return r.value(rest[0], e)
	}
	return null, nil
}

// parsed is a function that makes a moment of text, by a mask or that of the session.
func parsed(k Kind, parameter string) function {
	return function{1, 3, func(r *run, a []Value) (Value, error) {
		if a[0].IsNull() || a[0].Kind.isMoment() {
			return a[0], nil
		}
		m := r.s.nls[parameter]
		if len(a) > 1 {
			m = a[1].S
		}
		return r.s.parseMoment(k, a[0].S, m)
	}}
}

var conversions = map[string]function{
	"TO_DATE":         parsed(Date, "NLS_DATE_FORMAT"),
	"TO_TIMESTAMP":    parsed(Timestamp, "NLS_TIMESTAMP_FORMAT"),
	"TO_TIMESTAMP_TZ": parsed(Zoned, "NLS_TIMESTAMP_TZ_FORMAT"),
	"TO_NUMBER":       {1, 1, func(_ *run, a []Value) (Value, error) { return asNumber(a[0]) }},
	"TO_BINARY_DOUBLE": {1, 1, func(r *run, a []Value) (Value, error) {
		return r.s.asDouble(a[0])
	}},
	"TO_DSINTERVAL": {1, 1, func(_ *run, a []Value) (Value, error) {
		if a[0].IsNull() {
			return null, nil
		}
		return parseInterval(a[0].S)
	}},
	"TO_CLOB": {1, 1, func(r *run, a []Value) (Value, error) { return r.s.fit(a[0], Type{Kind: Clob}, place{}) }},
	"TO_CHAR": {1, 2, func(r *run, a []Value) (Value, error) {
		if a[0].IsNull() || len(a) == 1 {
			return r.s.asText(a[0])
		}
		if a[0].Kind.isMoment() {
			return r.s.format(a[0], a[1].S)
		}
		if a[0].Kind == Number && strings.EqualFold(a[1].S, "TM9") {
			return text(NumberText(a[0].D)), nil
		}
		return null, unknown("TO_CHAR(%s, '%s')", a[0].Kind, a[1].S)
	}},
	"SYS_EXTRACT_UTC": {1, 1, func(_ *run, a []Value) (Value, error) {
		if a[0].IsNull() {
			return null, nil
		}
		return moment(Timestamp, a[0].T.UTC()), nil
	}},
	"AT TIME ZONE": {2, 2, func(_ *run, a []Value) (Value, error) {
		z, err := parseZone(a[1].S)
		if err != nil || a[0].IsNull() {
			return null, err
		}
		return moment(Zoned, a[0].T.In(z)), nil
	}},
	"RAWTOHEX": {1, 1, func(_ *run, a []Value) (Value, error) { return text(hexOf(a[0].S)), nil }},
}

// onText is a function of one text that yields another.
func onText(change func(string) string) function {
	return function{1, 1, func(r *run, a []Value) (Value, error) {
		v, err := r.s.asText(a[0])
		if err != nil || v.IsNull() {
			return null, err
		}
		x := text(change(v.S))
		if a[0].Kind == Clob && !x.IsNull() {
			x.Kind = Clob
		}
		return x, nil
	}}
}

// counted is a function of one text that yields a number.
func counted(count func(string) int) function {
	return function{1, 1, func(r *run, a []Value) (Value, error) {
		v, err := r.s.asText(a[0])
		if err != nil || v.IsNull() {
			return null, err
		}
		return whole(int64(count(v.S))), nil
	}}
}

// trimmed is LTRIM, RTRIM or both.
func trimmed(trim func(s, set string) string) function {
	return function{1, 2, func(r *run, a []Value) (Value, error) {
		v, err := r.s.asText(a[0])
		if err != nil || v.IsNull() {
			return null, err
		}
		set := " "
		if len(a) > 1 {
			set = a[1].S
		}
		return text(trim(v.S, set)), nil
	}}
}

var texts = map[string]function{
	"LOWER":   onText(strings.ToLower),
	"UPPER":   onText(strings.ToUpper),
	"LENGTH":  counted(utf8.RuneCountInString),
	"LENGTHB": counted(func(s string) int { return len(s) }),
	"LTRIM":   trimmed(strings.TrimLeft),
	"RTRIM":   trimmed(strings.TrimRight),
	"TRIM":    trimmed(strings.Trim),
	"SUBSTR": {2, 3, func(r *run, a []Value) (Value, error) {
		v, err := r.s.asText(a[0])
		if err != nil || v.IsNull() {
			return null, err
		}
		s := []rune(v.S)
		from, n := int(a[1].D.IntPart()), len(s)
		if len(a) > 2 {
			n = int(a[2].D.IntPart())
		}
		switch {
		case from < 0:
			from = max(len(s)+from, 0)
		case from > 0:
			from--
		}
		if from >= len(s) || n <= 0 {
			return null, nil
		}
		return text(string(s[from:min(from+n, len(s))])), nil
	}},
	"INSTR": {2, 2, func(_ *run, a []Value) (Value, error) {
		if a[0].IsNull() || a[1].IsNull() {
			return null, nil
		}
		i := strings.Index(a[0].S, a[1].S)
		if i > 0 {
			i = utf8.RuneCountInString(a[0].S[:i])
		}
		return whole(int64(i + 1)), nil
	}},
	"REPLACE": {2, 3, func(_ *run, a []Value) (Value, error) {
		with := ""
		if len(a) > 2 {
			with = a[2].S
		}
		if a[0].IsNull() || a[1].IsNull() {
			return a[0], nil
		}
		return text(strings.ReplaceAll(a[0].S, a[1].S, with)), nil
	}},
	"CHR": {1, 1, func(_ *run, a []Value) (Value, error) { return text(string(byte(a[0].D.IntPart()))), nil }},
	"DBMS_LOB.GETLENGTH": {1, 1, func(_ *run, a []Value) (Value, error) {
		if a[0].IsNull() {
			return null, nil
		}
		return whole(int64(utf8.RuneCountInString(a[0].S))), nil
	}},
	"DBMS_LOB.COMPARE": {2, 2, func(_ *run, a []Value) (Value, error) {
		if a[0].IsNull() || a[1].IsNull() {
			return null, nil
		}
		return whole(int64(strings.Compare(a[0].S, a[1].S))), nil
	}},
	"DBMS_LOB.SUBSTR": {2, 3, func(_ *run, a []Value) (Value, error) {
		s := []rune(a[0].S)
		return text(string(s[:min(len(s), int(a[1].D.IntPart()))])), nil
	}},
	"STANDARD_HASH": {1, 2, func(r *run, a []Value) (Value, error) {
		v, err := r.s.asText(a[0])
		if err != nil {
			return null, err
		}
		if len(a) > 1 && strings.EqualFold(a[1].S, "SHA256") {
			sum := sha256.Sum256([]byte(v.S))
			return Value{Kind: Raw, S: string(sum[:])}, nil
		}
		sum := sha1.Sum([]byte(v.S))
		return Value{Kind: Raw, S: string(sum[:])}, nil
	}},
}

// onNumber is a function of one number.
func onNumber(change func(decimal.Decimal) decimal.Decimal) function {
	return function{1, 1, func(_ *run, a []Value) (Value, error) {
		v, err := asNumber(a[0])
		if err != nil || v.IsNull() {
			return null, err
		}
		return exact(change(v.D)), nil
	}}
}

var numbers = map[string]function{
	"ABS":   onNumber(decimal.Decimal.Abs),
	"FLOOR": onNumber(decimal.Decimal.Floor),
	"CEIL":  onNumber(decimal.Decimal.Ceil),
	"SIGN":  onNumber(func(d decimal.Decimal) decimal.Decimal { return decimal.NewFromInt(int64(d.Sign())) }),
	"MOD": {2, 2, func(_ *run, a []Value) (Value, error) {
		x, err := asNumber(a[0])
		if err != nil || x.IsNull() {
			return null, err
		}
		y, err := asNumber(a[1])
		if err != nil || y.IsNull() || y.D.IsZero() {
			return x, err
		}
		return exact(x.D.Mod(y.D)), nil
	}},
	"ROUND": {1, 2, func(_ *run, a []Value) (Value, error) { return toPlaces(a, decimal.Decimal.Round) }},
	"TRUNC": {1, 2, func(_ *run, a []Value) (Value, error) {
		if a[0].Kind.isMoment() {
			t := a[0].T
			return moment(Date, time.Date(t.Year(), t.Month(), t.Day(), 0, 0, 0, 0, time.UTC)), nil
		}
		return toPlaces(a, decimal.Decimal.Truncate)
	}},
}

// toPlaces cuts a number to as many places as the second argument says, or to none.
func toPlaces(a []Value, cut func(d decimal.Decimal, places int32) decimal.Decimal) (Value, error) {
	v, err := asNumber(a[0])
	if err != nil || v.IsNull() {
		return null, err
	}
	n := int32(0)
	if len(a) > 1 {
		n = int32(a[1].D.IntPart())
	}
	return exact(cut(v.D, n)), nil
}

var moments = map[string]function{
	"EXTRACT": {2, 2, func(_ *run, a []Value) (Value, error) { return extract(a[0].S, a[1]) }},
	"ADD_MONTHS": {2, 2, func(_ *run, a []Value) (Value, error) {
		if a[0].IsNull() || a[1].IsNull() {
			return null, nil
		}
		return moment(Date, a[0].T.AddDate(0, int(a[1].D.IntPart()), 0)), nil
	}},
	"NUMTODSINTERVAL": {2, 2, func(_ *run, a []Value) (Value, error) {
		unit := map[string]time.Duration{"DAY": 24 * time.Hour, "HOUR": time.Hour, "MINUTE": time.Minute,
			"SECOND": time.Second}[strings.ToUpper(a[1].S)]
		if unit == 0 {
			return null, fail(1760, "illegal argument for function")
		}
		return span(time.Duration(a[0].D.Mul(decimal.NewFromInt(int64(unit))).Round(0).IntPart())), nil
	}},
}

// extract is EXTRACT of a part.
func extract(part string, v Value) (Value, error) {
	if v.IsNull() {
		return null, nil
	}
	if v.Kind == Interval {
		switch part {
		case "DAY":
			return whole(int64(v.I / (24 * time.Hour))), nil
		case "HOUR":
			return whole(int64(v.I / time.Hour % 24)), nil
		case "MINUTE":
			return whole(int64(v.I / time.Minute % 60)), nil
		case "SECOND":
			return exact(decimal.New(int64(v.I%time.Minute), -9)), nil
		}
		return null, fail(30076, "invalid extract field for extract source")
	}
	if !v.Kind.isMoment() {
		return null, fail(30076, "invalid extract field for extract source")
	}
	t := v.T
	if v.Kind == Zoned && part != "TIMEZONE_HOUR" && part != "TIMEZONE_MINUTE" {
		t = t.UTC()
	}
	_, offset := t.Zone()
	switch {
	case part == "YEAR":
		return whole(int64(t.Year())), nil
	case part == "MONTH":
		return whole(int64(t.Month())), nil
	case part == "DAY":
		return whole(int64(t.Day())), nil
	case v.Kind == Date:
		return null, fail(30076, "invalid extract field for extract source")
	case part == "HOUR":
		return whole(int64(t.Hour())), nil
	case part == "MINUTE":
		return whole(int64(t.Minute())), nil
	case part == "SECOND":
		return exact(decimal.New(int64(t.Second())*1e9+int64(t.Nanosecond()), -9)), nil
	case part == "TIMEZONE_HOUR":
		return whole(int64(offset / 3600)), nil
	case part == "TIMEZONE_MINUTE":
		return whole(int64(offset / 60 % 60)), nil
	}
	return null, fail(30076, "invalid extract field for extract source")
}

var others = map[string]function{
	"SYS_CONTEXT": {2, 2, func(r *run, a []Value) (Value, error) {
		switch strings.ToUpper(a[1].S) {
		case "CURRENT_SCHEMA":
			return text(r.s.schema), nil
		case "SESSION_USER", "CURRENT_USER":
			return text(r.s.user.name), nil
		case "SID", "SESSIONID":
			return whole(int64(r.s.ID)), nil
		case "DB_NAME", "SERVICE_NAME":
			return text(Service), nil
		}
		return null, fail(2003, "invalid USERENV parameter")
	}},
	"GREATEST": {1, 99, func(r *run, a []Value) (Value, error) { return r.extreme(a, 1) }},
	"LEAST":    {1, 99, func(r *run, a []Value) (Value, error) { return r.extreme(a, -1) }},
	"NULLIF": {2, 2, func(r *run, a []Value) (Value, error) {
		if t, err := r.related("=", a[0], a[1]); err != nil || t == isTrue {
			return null, err
		}
		return a[0], nil
	}},
}

// Service is the name of the service that the stand-in is.
const Service = "CANALPDB"

func (r *run) extreme(a []Value, sign int) (Value, error) {
	best := a[0]
	for _, v := range a {
		if v.IsNull() {
			return null, nil
		}
		c, err := r.s.compare(v, best)
		if err != nil {
			return null, err
		}
		if c*sign > 0 {
			best = v
		}
	}
	return best, nil
}
