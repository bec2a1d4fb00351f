package derive

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/reading"
	"ambertray/internal/source"
	"ambertray/internal/sqltype"
)

func typ(t *testing.T, s string) sqltype.Type {
	x, err := sqltype.Parse(s)
	require.NoError(t, err)
	return x
}

// record is one with values of every kind.
func record(t *testing.T) (*Record, []Variable) {
	vars := []Variable{{"n", typ(t, "integer"), true}, {"toll", typ(t, "decimal(8,2)"), false}, {"x", typ(t, "double precision"), true}, {"day", typ(t, "date"), true},
		{"at", typ(t, "timestamp(3)"), false}, {"paid", typ(t, "boolean"), true}, {"lock", typ(t, "varchar(20)"), true}, {"note", typ(t, "text"), false},
		{"source", typ(t, "text"), true}, {"not a name", typ(t, "text"), true}, {"clock", typ(t, "time(0)"), true}}
	src := &source.Source{Path: "in/tolls-2025.xlsx", Name: `in/tolls-2025.xlsx, sheet "March"`, Sheet: "March"}
	r := NewRecord(src, 3, vars, "entry-1", time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC))
	r.Next(7, 12)
	for name, text := range map[string]string{"n": "42", "toll": "12.50", "x": "1.5e3", "day": "2025-03-09", "at": "2025-03-09 10:11:12.500", "paid": "true", "lock": "Nether Lock", "clock": "23:59:00"} {
		for _, v := range vars {
			if v.Name == name {
				var val reading.Value
				require.Equal(t, reading.OK, reading.Plain(v.Type).Read([]byte(text), true, &val))
				r.Set(name, v.Type, &val)
			}
		}
	}
	r.Set("note", vars[7].Type, nil)
	r.Field("Day", []byte("9"))
	r.Field("Permit No.", []byte("417"))
	r.Field("Blank", nil)
	return r, vars
}

func TestExpressionsYield(t *testing.T) {
	r, vars := record(t)
	for _, tt := range []struct{ typ, text, want string }{
		{"date", `dateOf(2025, monthOf(source.sheet), field["Day"])`, "2025-03-09"},
		{"date", `dateOf("2024", 2.0, 29)`, "2024-02-29"},
		{"integer", `monthOf("Tolls of sept. 2025")`, "9"},
		{"integer", `int(part(source.file, "[0-9]{4}"))`, "2025"},
		{"text", `part("a-12-b", "-([0-9]+)-")`, "12"},
		{"text", `part("ab", "[0-9]")`, ""},
		{"char(6)", `pad(field["Permit No."], 6)`, "000417"},
		{"text", `pad(n, 5, "*")`, "***42"},
		{"text", `pad("toolong", 3)`, "toolong"},
		{"text", `filled(note, field["Blank"], "  ", lock, "x")`, "Nether Lock"},
		{"integer", `choose(lock, {"Nether Lock": 1, "Old Basin": 2})`, "1"},
		{"integer", `choose(n, {"42": 7}, 9)`, "7"},
		{"integer", `choose("z", {"a": 1}, 9)`, "9"},
		{"decimal(8,2)", `toll * 3`, "37.50"},
		{"decimal(8,2)", `0.1 + 0.2`, "0.30"},
		{"decimal(8,1)", `n`, "42"},
		{"integer", `n * 2 + record.line`, "96"},
		{"double precision", `x / 2`, "750"},
		{"boolean", `paid && n > 40`, "true"},
		{"date", `day`, "2025-03-09"},
		{"timestamp(0)", `day`, "2025-03-09 00:00:00"},
		{"timestamp(3)", `at`, "2025-03-09 10:11:12.5"},
		{"time(3)", `at`, "10:11:12.5"},
		{"timestamp(0) with time zone", `load.time`, "2026-11-23 09:00:00+00:00"},
		{"text", `load.entry + "/" + string(record.number)`, "entry-1/7"},
		{"text", `day`, "2025-03-09"},
		{"text", `source.path + " " + source.number`, "in/tolls-2025.xlsx 3"},
		{"text", `upper(trim(" a ")) + replace("b-b", "-", "+")`, "Ab+b"},
		{"text", `clock`, "23:59:00"},
		{"text", `note == nil ? "none" : note`, "none"},
		{"text", `""`, ""},
	} {
		p, err := Compile(tt.text, vars, false)
		require.NoError(t, err, tt.text)
		got, err := p.Text(r, typ(t, tt.typ))
		require.NoError(t, err, tt.text)
		require.NotNil(t, got, tt.text)
		assert.Equal(t, tt.want, string(got), tt.text)
	}
	for _, text := range []string{`note`, `nil`, `filled(note, field["Blank"])`} {
		p, err := Compile(text, vars, false)
		require.NoError(t, err, text)
		got, err := p.Text(r, typ(t, "text"))
		require.NoError(t, err)
		assert.Nil(t, got, text)
	}
	p, err := Compile(`field["Blank"]`, vars, false)
	require.NoError(t, err)
	got, err := p.Text(r, typ(t, "integer"))
	require.NoError(t, err)
	assert.Nil(t, got, "a blank is null but for text")
}

func TestMistakesInExpressions(t *testing.T) {
	_, vars := record(t)
	for text, want := range map[string]string{
		`n +`:                  "unexpected token",
		`nn + 1`:               "unknown name nn",
		`n + lock`:             "invalid operation",
		`source.month`:         `source has no "month"; it has file`,
		`record["page"]`:       `record has no "page"`,
		`load.user`:            `load has no "user"`,
		`dateOf(1, 2)`:         "not enough arguments",
		`pad(n, "x")`:          "pad",
		`monthOf(n)`:           "cannot use int",
		`part(lock, "[", "x")`: "too many arguments",
		`system("rm -rf /")`:   "unknown name system",
	} {
		_, err := Compile(text, vars, false)
		require.Error(t, err, text)
		assert.Contains(t, err.Error(), want, text)
	}
	_, err := Compile(`n + 1`, vars, true)
	assert.ErrorContains(t, err, "bool")
	var e *Error
	_, err = Compile(`n + nn`, vars, false)
	require.ErrorAs(t, err, &e)
	assert.Equal(t, 5, e.Column)
}

// What goes wrong with a record is an error of that record.
func TestExpressionsFail(t *testing.T) {
	r, vars := record(t)
	for text, want := range map[string]string{
		`dateOf(2025, 2, 30)`:    "there is no date 2025-02-30",
		`dateOf(2025, "x", 1)`:   `"x" is not a whole number`,
		`dateOf(2025, note, 1)`:  "a blank is not a whole number",
		`dateOf(2025, 1.5, 1)`:   "1.5 is not a whole number",
		`monthOf("Blursday")`:    "names no month",
		`choose("z", {"a": 1})`:  `has no "z"`,
		`pad(n, 100000)`:         "no length",
		`pad(n, 5, "")`:          "nothing to pad with",
		`part(lock, lock + "[")`: "is not a pattern",
		`note + 1`:               "nil",
		`int(lock)`:              "invalid",
		`[1, 2]`:                 "is no value of a column",
	} {
		p, err := Compile(text, vars, false)
		require.NoError(t, err, text)
		_, err = p.Text(r, typ(t, "date"))
		require.Error(t, err, text)
		assert.Contains(t, err.Error(), want, text)
	}
	p, err := Compile(`note == nil && paid`, vars, true)
	require.NoError(t, err)
	keep, err := p.Keep(r)
	require.NoError(t, err)
	assert.True(t, keep)
	p, err = Compile(`note > 1`, vars, true)
	require.NoError(t, err)
	_, err = p.Keep(r)
	assert.Error(t, err)
}

func TestFieldsThatAnExpressionNames(t *testing.T) {
	_, vars := record(t)
	p, err := Compile(`field["Day"] + field["Permit No."] + field[lock]`, vars, false)
	require.NoError(t, err)
	assert.ElementsMatch(t, []string{"Day", "Permit No."}, p.Fields)
}

// A plan may come from others: no expression of it takes the machine's memory or time.
func TestExpressionsHaveBounds(t *testing.T) {
	r, vars := record(t)
	r.Field("Long", []byte(strings.Repeat("ab ", 1<<20)))
	for _, text := range []string{
		`repeat(repeat("x", 1000000), 1000000)`,
		`repeat("x", -1)`,
		`replace(field["Long"], "a", field["Long"])`,
		`replace(field["Long"], "", field["Long"])`,
		`join(map(1..1000000, field["Long"]))`,
		`reduce(1..1000000, #acc + #acc, "x")`,
		`let a = field["Long"]; let b = a + a; let c = b + b; let d = c + c; let e = d + d; let f = e + e; let g = f + f; g`,
		`len(map(1..1000000, field["Long"] + "x"))`,
		`sum(map(1..1000, sum(map(split(field["Long"], " "), len(#)))))`,
		`toJSON(split(field["Long"], ""))`,
		`flatten(map(1..100000, split(field["Long"], "")))`,
	} {
		start := time.Now()
		p, err := Compile(text, vars, false)
		if err == nil {
			_, err = p.Text(r, typ(t, "text"))
		}
		require.Error(t, err, text)
		assert.NotEmpty(t, err.Error())
		assert.Less(t, time.Since(start), 30*time.Second, text)
	}
	// What is usual is not touched.
	for text, want := range map[string]string{
		`join(map(split("a b c", " "), # + "!"), "-")`: "a!-b!-c!",
		`replace("a.b.c", ".", "")`:                    "abc",
		`replace("a.b.c", ".", "", 1)`:                 "ab.c",
		`repeat("ab", 3)`:                              "ababab",
		`string(n + 1) + lock`:                         "43Nether Lock",
		`string(sum(1..10))`:                           "55",
		`string(count(split("a,b,a", ","), # == "a"))`: "2",
	} {
		p, err := Compile(text, vars, false)
		require.NoError(t, err, text)
		got, err := p.Text(r, typ(t, "text"))
		require.NoError(t, err, text)
		assert.Equal(t, want, string(got))
	}
}
