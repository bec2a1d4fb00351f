package reading

import (
	"fmt"
	"math/big"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/sqltype"
)

func typ(t testing.TB, s string) sqltype.Type {
	x, err := sqltype.Parse(s)
	require.NoError(t, err)
	return x
}

func patterns(s ...string) (p []*Pattern) {
	for _, x := range s {
		p = append(p, MustPattern(x))
	}
	return
}

// Each row: a type and reading, a field, and what it reads as ("" for null)
// or the misfit.
func TestRead(t *testing.T) {
	text := "x"
	for _, tt := range []struct {
		typ   string
		r     Reader
		field string
		want  string
		m     Misfit
	}{
		{"integer", Reader{}, "42", "42", OK},
		{"integer", Reader{}, " -7 ", "-7", OK},
		{"integer", Reader{}, "+7", "7", OK},
		{"integer", Reader{}, "", "", OK},
		{"integer", Reader{}, "   ", "", OK},
		{"integer", Reader{Required: true}, "", "", Blank},
		{"integer", Reader{}, "2147483648", "", OutOfRange},
		{"integer", Reader{}, "12.00", "12", OK},
		{"integer", Reader{}, "12.50", "", NotWhole},
		{"integer", Reader{}, "1O", "", NotANumber},
		{"integer", Reader{Number: Number{Thousands: Comma}}, "1,234,567", "1234567", OK},
		{"integer", Reader{Number: Number{Thousands: Comma}}, "12,34", "", NotANumber},
		{"integer", Reader{NullWords: []string{"N/A"}}, "N/A", "", OK},
		{"integer", Reader{NullWords: []string{"N/A"}}, "n/a", "", NotANumber},
		{"bigint", Reader{}, "9223372036854775807", "9223372036854775807", OK},
		{"bigint", Reader{}, "-9223372036854775808", "-9223372036854775808", OK},
		{"bigint", Reader{}, "9223372036854775808", "", OutOfRange},

		{"decimal(8,2)", Reader{}, "12.5", "12.50", OK},
		{"decimal(8,2)", Reader{}, "-0.05", "-0.05", OK},
		{"decimal(8,2)", Reader{}, ".5", "0.50", OK},
		{"decimal(8,2)", Reader{}, "12.500", "12.50", OK},
		{"decimal(8,2)", Reader{}, "12.505", "", TooManyDecimals},
		{"decimal(8,2)", Reader{}, "1234567", "", TooManyDigits},
		{"decimal(8,2)", Reader{}, "999999.99", "999999.99", OK},
		{"decimal(8,2)", Reader{Number: Number{Thousands: Point, Decimal: Comma}}, "1.234,5", "1234.50", OK},
		{"decimal(8,2)", Reader{Number: Number{Thousands: Point, Decimal: Comma}}, "1,234.5", "", NotANumber},
		{"decimal(8,2)", Reader{Number: Number{Thousands: Space, Decimal: Comma}}, "12 345,67", "12345.67", OK},
		{"decimal(8,2)", Reader{Number: Number{Thousands: Space, Decimal: Comma}}, "12\u202f345,67", "12345.67", OK},
		{"decimal(8,2)", Reader{Number: Number{Thousands: Apostrophe, Decimal: Point}}, "12'345.67", "12345.67", OK},
		{"decimal(8,2)", Reader{Number: Number{Thousands: Comma, Decimal: Point, Currency: "£"}}, "£1,250.00", "1250.00", OK},
		{"decimal(8,2)", Reader{Number: Number{Decimal: Point, Currency: "EUR"}}, "12.50 EUR", "12.50", OK},
		{"decimal(8,2)", Reader{Number: Number{Decimal: Point, Currency: "£"}}, "€12.50", "", NotANumber},
		{"decimal(8,2)", Reader{Number: Number{Decimal: Point, Negative: Brackets}}, "(12.50)", "-12.50", OK},
		{"decimal(8,2)", Reader{Number: Number{Decimal: Point}}, "(12.50)", "", NotANumber},
		{"decimal(8,2)", Reader{Number: Number{Decimal: Point, Negative: Trailing}}, "12.50-", "-12.50", OK},
		{"decimal(8,2)", Reader{Number: Number{Decimal: Point, Percent: true}}, "12.5 %", "12.50", OK},
		{"decimal(8,2)", Reader{Number: Number{Decimal: Point, Percent: true}}, "12.5", "", NotANumber},
		{"decimal(8,2)", Reader{}, "1e5", "", NotANumber},
		{"decimal(38,4)", Reader{}, "-1234567890123456789012345678901234.5", "-1234567890123456789012345678901234.5000", OK},
		{"decimal(20,0)", Reader{}, "00000000000000000000000001", "1", OK},
		{"double precision", Reader{}, "-1.5E-10", "-1.5e-10", OK},
		{"double precision", Reader{Number: Number{Decimal: Comma}}, "2,5", "2.5", OK},
		{"double precision", Reader{}, "NaN", "", NotANumber},

		{"date", Reader{}, "2024-02-29", "2024-02-29", OK},
		{"date", Reader{}, "2023-02-29", "", NoSuchDate},
		{"date", Reader{Dates: patterns("dd/MM/yyyy")}, "31/12/2025", "2025-12-31", OK},
		{"date", Reader{Dates: patterns("dd/MM/yyyy")}, "1/2/2025", "", NotADate},
		{"date", Reader{Dates: patterns("d/M/yyyy")}, "1/2/2025", "2025-02-01", OK},
		{"date", Reader{Dates: patterns("MM/dd/yyyy")}, "02/01/2025", "2025-02-01", OK},
		{"date", Reader{Dates: patterns("d MMM yyyy")}, "4 Sept 2025", "2025-09-04", OK},
		{"date", Reader{Dates: patterns("MMMM d, yyyy")}, "september 4, 2025", "2025-09-04", OK},
		{"date", Reader{Dates: patterns("EEE, d MMM yyyy")}, "Mon, 23 Nov 2026", "2026-11-23", OK},
		{"date", Reader{Dates: patterns("yyyyMMdd")}, "20251231", "2025-12-31", OK},
		{"date", Reader{Dates: patterns("dd.MM.yy")}, "31.12.68", "2068-12-31", OK},
		{"date", Reader{Dates: patterns("dd.MM.yy")}, "31.12.69", "1969-12-31", OK},
		{"date", Reader{Dates: patterns("dd.MM.yy"), Pivot: 1930}, "31.12.29", "2029-12-31", OK},
		{"date", Reader{Dates: patterns("dd.MM.yy"), Pivot: 1930}, "31.12.30", "1930-12-31", OK},
		{"date", Reader{Dates: patterns("yyyy-MM-dd HH:mm:ss")}, "2025-12-31 00:00:00", "2025-12-31", OK},
		{"date", Reader{Dates: patterns("yyyy-MM-dd HH:mm:ss")}, "2025-12-31 00:00:01", "", NotADate},
		{"date", Reader{Dates: patterns("dd/MM/yyyy", "yyyy-MM-dd")}, "2025-12-31", "2025-12-31", OK},
		{"date", Reader{}, "0001-01-01", "0001-01-01", OK},
		{"date", Reader{}, "9999-12-31", "9999-12-31", OK},
		{"date", Reader{}, "0000-01-01", "", NoSuchDate},
		{"time(0)", Reader{}, "23:59:59", "23:59:59", OK},
		{"time(0)", Reader{}, "24:00:00", "", NoSuchDate},
		{"time(0)", Reader{Dates: patterns("h:mm a")}, "12:05 am", "00:05:00", OK},
		{"time(0)", Reader{Dates: patterns("h:mm a")}, "12:05 p.m.", "12:05:00", OK},
		{"time(0)", Reader{Dates: patterns("h:mm a")}, "13:05 pm", "", NoSuchDate},
		{"timestamp(3)", Reader{}, "2025-12-31 23:59:59.25", "2025-12-31 23:59:59.250", OK},
		{"timestamp(3)", Reader{}, "2025-12-31T23:59:59.2501", "", TooFine},
		{"timestamp(6)", Reader{}, "2025-12-31T23:59:59.123456000", "2025-12-31 23:59:59.123456", OK},
		{"timestamp(6)", Reader{}, "2025-12-31T23:59:59.1234567", "", TooFine},
		{"timestamp(0)", Reader{}, "1931-01-02", "1931-01-02 00:00:00", OK},
		{"timestamp(0) with time zone", Reader{}, "2025-12-31T23:30:00-01:00", "2026-01-01 00:30:00+00:00", OK},
		{"timestamp(0) with time zone", Reader{}, "2025-12-31 23:30:00+0530", "2025-12-31 18:00:00+00:00", OK},
		{"timestamp(0) with time zone", Reader{}, "2025-12-31 23:30:00Z", "2025-12-31 23:30:00+00:00", OK},
		{"timestamp(0) with time zone", Reader{}, "9999-12-31 23:30:00-01:00", "", NoSuchDate},

		{"boolean", Reader{}, "Yes", "true", OK},
		{"boolean", Reader{}, "0", "false", OK},
		{"boolean", Reader{True: []string{"ja"}, False: []string{"nein"}}, "JA", "true", OK},
		{"boolean", Reader{True: []string{"ja"}, False: []string{"nein"}}, "yes", "", NotTruth},
		{"uuid", Reader{}, "6F9619FF-8B86-D011-B42D-00CF4FC964FF", "6f9619ff-8b86-d011-b42d-00cf4fc964ff", OK},
		{"uuid", Reader{}, "6F9619FF-8B86-D011-B42D", "", NotUUID},
		{"char(3)", Reader{}, "abc", "abc", OK},
		{"varchar(3)", Reader{}, "äöü", "äöü", OK},
		{"varchar(3)", Reader{}, "äöüß", "", TooLong},
		{"varchar(3)", Reader{Keeps: Keeps{Bytes: 4}}, "äöx", "", TooManyBytes},
		{"varchar(3)", Reader{Keeps: Keeps{Bytes: 4}}, "äö", "äö", OK},
		{"text", Reader{}, " a ", " a ", OK},
		{"text", Reader{Trim: true}, " a ", "a", OK},
		{"varchar(9)", Reader{Default: &text}, "", "x", OK},
		{"varchar(9)", Reader{Default: &text, Required: true}, "", "x", OK},
	} {
		t.Run(fmt.Sprintf("%s/%s", tt.typ, tt.field), func(t *testing.T) {
			r := tt.r
			r.Type = typ(t, tt.typ)
			require.NoError(t, r.Prepare())
			var v Value
			m := r.Read([]byte(tt.field), false, &v)
			require.Equal(t, tt.m, m, m.Reason(r.Type, []byte(tt.field)))
			if m == OK {
				assert.Equal(t, tt.want, v.Plain(r.Type))
				assert.Equal(t, tt.want == "" && !r.Type.IsText(), v.Null && !r.Type.IsText())
			} else {
				assert.NotContains(t, m.Reason(r.Type, []byte(tt.field)), "misfit", "has a reason in words")
			}
		})
	}
}

func TestEmptyAgainstNothing(t *testing.T) {
	for _, tt := range []struct {
		r      Reader
		quoted bool
		null   bool
	}{
		{Reader{}, false, true},
		{Reader{}, true, true},
		{Reader{KeepQuoted: true}, false, true},
		{Reader{KeepQuoted: true}, true, false},
		{Reader{KeepBlank: true}, false, false},
	} {
		r := tt.r
		r.Type = sqltype.Type{Kind: sqltype.Text}
		require.NoError(t, r.Prepare())
		var v Value
		require.Equal(t, OK, r.Read(nil, tt.quoted, &v))
		assert.Equal(t, tt.null, v.Null, "%+v", tt)
	}
}

func TestPrepareRefuses(t *testing.T) {
	bad := "x"
	for name, r := range map[string]Reader{
		"zone lost":    {Type: typ(t, "timestamp"), Dates: patterns("yyyy-MM-dd HH:mmX")},
		"zone missing": {Type: typ(t, "timestamp with time zone"), Dates: patterns("yyyy-MM-dd HH:mm")},
		"no date":      {Type: typ(t, "date"), Dates: patterns("HH:mm")},
		"same marks":   {Type: typ(t, "integer"), Number: Number{Thousands: Comma, Decimal: Comma}},
		"default":      {Type: typ(t, "integer"), Default: &bad},
	} {
		assert.Error(t, r.Prepare(), name)
	}
	for _, p := range []string{"dd/MM", "yyy-MM-dd", "q", "yyyy-MM-dd h:mm", "dd/MM/yyyy dd", "'open", "SSS", "yyyy-MM-dd HHHH"} {
		_, err := ParsePattern(p)
		assert.Error(t, err, p)
	}
}

func TestDaysAgainstTime(t *testing.T) {
	for d := time.Date(1, 1, 1, 0, 0, 0, 0, time.UTC); d.Year() < 10000; d = d.AddDate(0, 0, 37) {
		n := Days(d.Year(), int(d.Month()), d.Day())
		require.Equal(t, d.Unix()/86400-map[bool]int64{true: 1}[d.Unix()%86400 < 0], n)
		y, m, day := Date(n)
		require.Equal(t, d, time.Date(y, time.Month(m), day, 0, 0, 0, 0, time.UTC))
	}
}

func TestReadAllocatesNothing(t *testing.T) {
	var v Value
	for typ1, field := range map[string]string{"integer": "12345", "decimal(10,2)": "1234.50", "date": "2026-11-23", "timestamp": "2026-11-23 06:17:08",
		"varchar(40)": "Nether Lock", "boolean": "yes", "double precision": "1.5e3", "decimal(38,2)": "123456789012345678901234.50"} {
		r := Reader{Type: typ(t, typ1)}
		require.NoError(t, r.Prepare())
		b := []byte(field)
		assert.Zero(t, testing.AllocsPerRun(50, func() { r.Read(b, false, &v) }), typ1)
	}
}

// Whatever is read as a decimal has the value of the text.
func FuzzDecimal(f *testing.F) {
	for _, s := range []string{"1", "-0.5", "1,234.50", "£12", "(3)", "4-", "99999999999999999999.123", "1.2.3", "１"} {
		f.Add(s)
	}
	r := Reader{Type: sqltype.Type{Kind: sqltype.Decimal, Precision: 38, Scale: 6}, Number: Number{Thousands: Comma, Decimal: Point, Currency: "£", Negative: Brackets}}
	if err := r.Prepare(); err != nil {
		f.Fatal(err)
	}
	f.Fuzz(func(t *testing.T, s string) {
		var v Value
		if r.Read([]byte(s), false, &v) != OK || v.Null {
			return
		}
		plain := strings.NewReplacer(",", "", "£", "", " ", "", "\t", "", "\u00a0", "", "+", "", "−", "-").Replace(s)
		if strings.HasPrefix(plain, "(") {
			plain = "-" + strings.Trim(plain, "()")
		}
		want, ok := new(big.Rat).SetString(plain)
		require.True(t, ok, "%q reads as %s", s, v.Plain(r.Type))
		got, _ := new(big.Rat).SetString(v.Plain(r.Type))
		require.Zero(t, want.Cmp(got), "%q reads as %s", s, v.Plain(r.Type))
	})
}

// Whatever is read as a date is written back as the standard library has it.
func FuzzDate(f *testing.F) {
	f.Add("31/12/2025 23:59")
	f.Add("1/1/0001 0:00")
	r := Reader{Type: sqltype.Type{Kind: sqltype.Timestamp}, Dates: patterns("d/M/yyyy H:mm")}
	if err := r.Prepare(); err != nil {
		f.Fatal(err)
	}
	f.Fuzz(func(t *testing.T, s string) {
		var v Value
		m := r.Read([]byte(s), true, &v)
		want, err := time.Parse("2/1/2006 15:04", strings.Trim(s, " \t\u00a0"))
		if m == OK && !v.Null {
			require.NoError(t, err, s)
			require.Equal(t, want.Format("2006-01-02 15:04:05"), v.Plain(r.Type))
		} else if err == nil && want.Year() > 0 && len(strings.Split(s, ":")[1]) == 2 && !v.Null {
			require.NotEqual(t, OK, m)
		}
	})
}

// A time without a zone is that of the clocks of a place: what they never showed is none, and
// what they showed twice is told.
func TestAssumedZone(t *testing.T) {
	for _, tt := range []struct {
		zone, in, want string
		m              Misfit
	}{
		{"Europe/London", "2025-01-15 12:00:00", "2025-01-15 12:00:00+00:00", OK},
		{"Europe/London", "2025-07-01 12:00:00", "2025-07-01 11:00:00+00:00", OK},
		{"Europe/London", "2025-07-01 12:00:00+02:00", "2025-07-01 10:00:00+00:00", OK},
		{"Europe/London", "2025-03-30 01:30:00", "", NoSuchDate},
		{"Europe/London", "2025-03-30 02:00:00", "2025-03-30 01:00:00+00:00", OK},
		{"Europe/London", "2025-03-30 00:59:59", "2025-03-30 00:59:59+00:00", OK},
		{"Europe/London", "2025-10-26 00:59:59", "2025-10-25 23:59:59+00:00", OK},
		{"Europe/London", "2025-10-26 01:00:00", "", TwoMoments},
		{"Europe/London", "2025-10-26 01:59:59", "", TwoMoments},
		{"Europe/London", "2025-10-26 02:00:00", "2025-10-26 02:00:00+00:00", OK},
		{"Australia/Lord_Howe", "2025-04-06 01:45:00", "", TwoMoments}, // by half an hour
		{"Australia/Lord_Howe", "2025-04-06 01:15:00", "2025-04-05 14:15:00+00:00", OK},
		{"Pacific/Apia", "2011-12-30 12:00:00", "", NoSuchDate}, // a day that there was not
		{"UTC", "2025-10-26 01:30:00", "2025-10-26 01:30:00+00:00", OK},
	} {
		zone, err := time.LoadLocation(tt.zone)
		require.NoError(t, err)
		r := &Reader{Type: sqltype.Type{Kind: sqltype.TimestampTZ}, Zone: zone}
		require.NoError(t, r.Prepare())
		var v Value
		m := r.Read([]byte(tt.in), false, &v)
		assert.Equal(t, tt.m, m, "%s in %s", tt.in, tt.zone)
		if m == OK {
			assert.Equal(t, tt.want, v.Plain(r.Type), "%s in %s", tt.in, tt.zone)
		}
	}
}
