package plan

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/profile"
	"ambertray/internal/source"
)

func build(t *testing.T, text string, w Wishes) (*Plan, []byte) {
	t.Helper()
	name := filepath.Join(t.TempDir(), "Toll Book 2024.csv")
	require.NoError(t, os.WriteFile(name, []byte(text), 0o666))
	src, err := source.Open(context.Background(), name, source.Known{})
	require.NoError(t, err)
	prof, err := profile.Run(context.Background(), src, profile.Options{})
	require.NoError(t, err)
	p, c, err := Build([]*source.Source{src}, prof, w)
	require.NoError(t, err)
	b, err := p.Encode(c)
	require.NoError(t, err)
	return p, b
}

const book = "Toll ID;Paid on;Paid at;Amount (£);Ok?;Owner\n" +
	"1;31/01/2024;2024-01-31;£1,250.50;yes;\" ann \"\n2;01/02/2024;01/02/2024 10:30;(£3.00);no;Señor\n3;02/02/2024;2024-02-02;N/A;no;bob: #1\n" +
	"4;02/02/2024;2024-02-02;£7.00;no;cat\n5;02/02/2024;2024-02-02;£7.50;no;dan\n"

func TestPlanReadsBackTheSame(t *testing.T) {
	p, b := build(t, book, Wishes{RowNumber: "record_no", KeepEmpty: "quoted", LeaveOut: []string{"paid at"}})
	assert.Equal(t, "toll_book_2024", p.Table.Name)
	assert.Equal(t, []string{"toll_id"}, p.Table.Key)
	again, err := Parse(b)
	require.NoError(t, err, string(b))
	assert.Equal(t, p, again, string(b))
	assert.Contains(t, string(b), "# unique and never blank in 5 records", "evidence stands beside decisions")
	// Written again, nothing changes.
	twice, err := again.Encode(Comments{})
	require.NoError(t, err)
	third, err := Parse(twice)
	require.NoError(t, err)
	assert.Equal(t, p, third)
}

func TestEveryReadingReadsBack(t *testing.T) {
	for _, r := range []*Reading{
		{Dates: []string{"dd/MM/yyyy"}}, {Dates: []string{"dd/MM/yyyy", "yyyy-MM-dd HH:mm"}}, {Dates: []string{"dd/MM/yy"}, Pivot: 1950},
		{Thousands: ",", Decimal: ".", Currency: "£", Negative: "brackets"}, {Thousands: " ", Decimal: ","}, {Percent: true},
		{True: []string{"yes"}, False: []string{"no"}},
	} {
		typ := "decimal(8,2)"
		if r.Dates != nil {
			typ = "timestamp(0)"
		} else if r.True != nil {
			typ = "boolean"
		}
		p := &Plan{Version: 1, Sources: []Source{{File: "x.csv"}}, Table: Table{Name: "x"}, Columns: []Column{{Name: "a", From: "A: #", Type: typ, Reading: r}}}
		require.NoError(t, p.Check())
		b, err := p.Encode(Comments{Beside: map[string]string{"$.columns[0].reading": "why\nso"}})
		require.NoError(t, err)
		again, err := Parse(b)
		require.NoError(t, err, string(b))
		assert.Equal(t, p, again, string(b))
	}
}

// Each row: a change to a good plan, the line of the mistake and what is said.
func TestMistakesHaveTheirLine(t *testing.T) {
	good := "ambertray: 1\nsources:\n  - file: x.csv\ntable:\n  name: x\n  key: [a]\ncolumns:\n  - name: a\n    from: A\n    type: date\n    reading: dd/MM/yyyy\n"
	_, err := Parse([]byte(good))
	require.NoError(t, err)
	for _, tt := range []struct {
		old, new string
		line     int
		says     string
	}{
		{"ambertray: 1", "ambertray: 2", 1, "version"},
		{"    from: A", "    form: A", 9, `"form"`},
		{"type: date", "type: dait", 10, "unknown"},
		{"type: date", "type: [date]", 10, ""},
		{"type: date", "type: integer\n    default: x", 8, "default"},
		{"dd/MM/yyyy", "dd/MM", 8, "needs year"},
		{"dd/MM/yyyy", "{dates: [dd/MM/yyyy], pivotal: 3}", 11, "pivotal"},
		{"dd/MM/yyyy", "{negative: red}", 8, "brackets"},
		{"key: [a]", "key: [b]", 6, `"b"`},
		{"  name: x", "  name: \"\"", 4, "no name"},
		{"type: date", "type: date\n    keep_empty: sometimes", 8, "keep_empty"},
		{"name: a", "name: a\n    from: B\n    type: text\n  - name: A", 11, "twice"},
		{"columns:", "columnz:", 7, "columnz"},
	} {
		text := []byte(replaceOnce(t, good, tt.old, tt.new))
		_, err := Parse(text)
		var e *Error
		require.ErrorAs(t, err, &e, "%s", text)
		assert.Equal(t, tt.line, e.Line, "%s: %v", tt.new, err)
		assert.Contains(t, err.Error(), tt.says)
	}
}

func replaceOnce(t *testing.T, s, old, new string) string {
	t.Helper()
	for i := 0; i+len(old) <= len(s); i++ {
		if s[i:i+len(old)] == old {
			return s[:i] + new + s[i+len(old):]
		}
	}
	t.Fatalf("%q is not in the plan", old)
	return ""
}

func TestPositions(t *testing.T) {
	p := &Plan{LeaveOut: []string{"Old Notes"}, Columns: []Column{{From: "Boat Name"}, {From: "n"}, {From: "n"}, {From: "Gone"}}}
	at, missing, extra := p.Positions([]string{"n", "boat_name", "old notes", "new", "n"})
	assert.Equal(t, []int{1, 0, 4, -1}, at)
	assert.Equal(t, []string{"Gone"}, missing)
	assert.Equal(t, []string{"new"}, extra)
}

func TestEveryFormReadsBack(t *testing.T) {
	for _, d := range []string{",", "\t", "|", ";", " ", ":", "#", "¦", "\x1f", ""} {
		for _, q := range []byte{0, '"', '\''} {
			s := &source.Source{Name: "x.csv", Path: "x.csv", Layout: source.Layout{Encoding: "utf-8", Header: 1}}
			s.Layout.Form.Delimiter, s.Layout.Form.Quote, s.Layout.Form.Escape = d, q, '\\'
			p := &Plan{Version: 1, Sources: []Source{FromLayout(s)}, Table: Table{Name: "x"}, Columns: []Column{{Name: "a", From: "a", Type: "text"}}}
			b, err := p.Encode(Comments{Beside: map[string]string{"$.sources[0].delimiter": "why"}})
			require.NoError(t, err)
			again, err := Parse(b)
			require.NoError(t, err, string(b))
			k := again.Known(&again.Sources[0])
			require.NotNil(t, k.Delimiter, string(b))
			assert.Equal(t, d, *k.Delimiter)
			assert.Equal(t, strings.TrimRight(string(rune(q)), "\x00"), *k.Quote)
			assert.Equal(t, `\`, *k.Escape)
		}
	}
}

// Whatever a header is, a plan carries it.
func TestEveryTextReadsBack(t *testing.T) {
	for _, s := range []string{"\t", "a\tb", "\ta", "a\t", " lead", "trail ", "a: b", "a:", ":a", "# c", "a #b", "- d", "-", "yes", "null", "~", "1", "1.50", "0x1", "1e5", "1_0", "2024-01-01", "'", `"`, `a"b`, `\`, `a\nb`,
		"{a}", "[b]", "a\nb", "\n", "a\r\nb", "a\n\nb\n", "é", "日本", "😀", "@x", "`", "%", "!x", "&x", "*x", "|", ">", "?", "? a", "<<", "=", "---", "...", "\u00a0", "\u2028", "\ufeff", "\x01", "\x7f", "\u0085", ".inf", ".nan", "true", "on", ", ", "a, b", "key: [x"} {
		p := &Plan{Version: 1, Sources: []Source{{File: s + ".csv"}}, Table: Table{Name: s, Key: []string{s}, Comment: s}, LeaveOut: []string{s, s},
			Columns: []Column{{Name: s, From: s, Type: "text", Nulls: []string{s}, Default: &s, Comment: s}}}
		b, err := p.Encode(Comments{Head: s, Beside: map[string]string{"$.columns[0].type": s}, Above: map[string][]string{"$.columns[0]": {s}}})
		require.NoError(t, err)
		again, err := Parse(b)
		if assert.NoError(t, err, "%q\n%s", s, b) {
			assert.Equal(t, p, again, "%q\n%s", s, b)
		}
	}
}

func TestWishes(t *testing.T) {
	p, b := build(t, book, Wishes{Key: []string{"Paid on", "owner"}, Required: []string{"Amount (£)"}, KeepNames: true, Table: "T"})
	assert.Equal(t, []string{"Paid on", "Owner"}, p.Table.Key)
	assert.Equal(t, "Amount (£)", p.Columns[3].Name)
	assert.True(t, p.Columns[3].Required)
	_, err := Parse(b)
	require.NoError(t, err, string(b))
	p, _ = build(t, book, Wishes{Key: []string{None}})
	assert.Empty(t, p.Table.Key)
}

func FuzzParse(f *testing.F) {
	f.Add("ambertray: 1\nsources:\n  - file: x.csv\ntable: {name: x}\ncolumns:\n  - {name: a, from: A, type: date, reading: dd/MM/yyyy}\n")
	f.Fuzz(func(t *testing.T, s string) {
		p, err := Parse([]byte(s))
		if err == nil {
			require.NoError(t, p.Check())
		}
	})
}

// The evidence that a plan's file has beside its parts can be read again.
func TestRemarks(t *testing.T) {
	written := Comments{Head: "of a file", Beside: map[string]string{"$.table.key": "unique", "$.columns[0].type": "1 … 9; # all different", "$.columns[1].reading": "why: 'so'", "$.sources[0].delimiter": "by the lines"},
		Above: map[string][]string{"$.columns[1]": {"CAUTION: \"a\"", "and another"}}}
	p := &Plan{Version: 1, Sources: []Source{{File: "a.csv", Settings: map[string]string{"delimiter": "comma"}}}, Table: Table{Name: "t", Key: []string{"id"}},
		Columns: []Column{{Name: "id", From: "ID", Type: "integer", Required: true}, {Name: "day", From: "Day", Type: "date", Reading: &Reading{Dates: []string{"dd/MM/yyyy"}}}}}
	b, err := p.Encode(written)
	require.NoError(t, err)
	read, err := Remarks(b)
	require.NoError(t, err)
	assert.Equal(t, written.Beside, read.Beside, string(b))
	assert.Equal(t, written.Above["$.columns[1]"], read.Above["$.columns[1]"], string(b))
	_, err = Remarks([]byte("a: [1"))
	assert.Error(t, err)

	// They go with their columns into a plan that has them elsewhere.
	other := &Plan{Columns: []Column{{Name: "extra", From: "Extra"}, {Name: "on_day", From: "Day"}}}
	moved := read.Moved(p, other)
	assert.Equal(t, map[string]string{"$.columns[1].reading": "why: 'so'", "$.sources[0].delimiter": "by the lines"}, moved.Beside)
	assert.Equal(t, map[string][]string{"$.columns[1]": {"CAUTION: \"a\"", "and another"}}, moved.Above)
}

func TestReadingInWords(t *testing.T) {
	for want, r := range map[string]Reading{
		"":                       {},
		"dd/MM/yyyy or yyyyMMdd": {Dates: []string{"dd/MM/yyyy", "yyyyMMdd"}},
		"decimal comma, \".\" between thousands, with £, negatives in brackets": {Decimal: ",", Thousands: ".", Currency: "£", Negative: "brackets"},
		"the minus behind, a percent sign behind":                               {Decimal: ".", Negative: "trailing", Percent: true},
		"yes, ja for true, no for false":                                        {True: []string{"yes", "ja"}, False: []string{"no"}},
	} {
		assert.Equal(t, want, r.Words())
	}
}

// A plan that a program has made large is not read.
func TestPlansHaveBounds(t *testing.T) {
	_, err := Parse([]byte("ambertray: 1\nsources:\n  - file: a.csv\ntable: &t\n  name: a\ncolumns: *t\n"))
	require.ErrorContains(t, err, "anchors and aliases")
	assert.ErrorContains(t, err, "4")
	_, err = Parse(bytes.Repeat([]byte("# of March\n"), 4<<20))
	require.ErrorContains(t, err, "takes more than")
	// These are texts like any other.
	p, err := Parse([]byte("ambertray: 1\nsources:\n  - file: a*b.csv\ntable:\n  name: a\n  description: locks & gates -*- \"*all\"\ncolumns:\n  - name: x\n    from: R&D\n    type: integer\n"))
	require.NoError(t, err)
	assert.Equal(t, "a*b.csv", p.Sources[0].File)
}

// A plan of many columns is written in parts, which are what it would be as a whole.
func TestEncodeInParts(t *testing.T) {
	var header, record strings.Builder
	for i := range 250 {
		fmt.Fprintf(&header, "Column %d,", i)
		fmt.Fprintf(&record, "%d,", i)
	}
	text := header.String() + "last\n"
	for i := range 20 {
		text += record.String() + fmt.Sprint("x", i) + "\n"
	}
	name := filepath.Join(t.TempDir(), "wide.csv")
	require.NoError(t, os.WriteFile(name, []byte(text), 0o666))
	src, err := source.Open(context.Background(), name, source.Known{})
	require.NoError(t, err)
	prof, err := profile.Run(context.Background(), src, profile.Options{})
	require.NoError(t, err)
	p, comments, err := Build([]*source.Source{src}, prof, Wishes{LeaveOut: []string{"Column 7"}, Tolerate: "1%"})
	require.NoError(t, err)
	p.Keep = "last != \"x\""
	comments.Above["$.columns[77].name"] = []string{"one", "two"}
	comments.Beside["$.keep"] = "since May"
	whole, err := p.encode(comments, 1000)
	require.NoError(t, err)
	for _, most := range []int{1, 7, 249, 250, 251} {
		parts, err := p.encode(comments, most)
		require.NoError(t, err)
		require.Equal(t, string(whole), string(parts), most)
	}
	back, err := Parse(whole)
	require.NoError(t, err)
	assert.Len(t, back.Columns, 250)
}

// What becomes of sheets, and how many rows a load may delete, are read strictly.
func TestSheetsAndDeletes(t *testing.T) {
	const rest = "table: {name: t}\ncolumns: [{name: a, from: a, type: text}]\n"
	for source, wrong := range map[string]string{
		"{file: a.xlsx, sheet: all, sheets: {new: take, missing: allow}}": "",
		"{file: a.xlsx, sheet: all, sheets: {new: perhaps}}":              `new is "perhaps"; it can be stop, take or leave`,
		"{file: a.xlsx, sheet: all, sheets: {missing: take}}":             `missing is "take"; it can be stop or allow`,
		"{file: a.xlsx, sheet: all, sheets: {other: take}}":               "other",
		"{file: a.csv, header: names, skip: titles, footer: words}":       "",
		"{file: a.csv, header: 3, footer: none, totals: keep}":            "",
		"{file: a.csv, header: words}":                                    "no number of lines",
		"{file: a.csv, totals: some}":                                     "use skip or keep",
	} {
		p, err := Parse([]byte("ambertray: 1\nsources: [" + source + "]\n" + rest))
		if wrong != "" {
			assert.ErrorContains(t, err, wrong, source)
			continue
		}
		require.NoError(t, err, source)
		b, err := p.Encode(Comments{})
		require.NoError(t, err)
		again, err := Parse(b)
		require.NoError(t, err, string(b))
		assert.Equal(t, p, again, string(b))
	}
	for text, allows := range map[string][3]bool{"10": {true, true, false}, "10%": {true, true, false}, "0": {}, "100%": {true, true, true}, "12": {true, true, false}} {
		l, err := ParseDeletes(text)
		require.NoError(t, err)
		assert.Equal(t, allows, [3]bool{l.Allows(1, 100), l.Allows(10, 100), l.Allows(100, 100)}, text)
	}
	for _, text := range []string{"-1", "0%", "101%", "x", "%"} {
		_, err := ParseDeletes(text)
		assert.Error(t, err, text)
	}
}
