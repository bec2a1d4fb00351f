package profile

import (
	"context"
	"encoding/csv"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/reading"
	"ambertray/internal/source"
	"ambertray/internal/sqltype"
)

// profiled writes columns side by side into a file and profiles it. The first
// column, n, numbers the records.
func profiled(t testing.TB, opt Options, columns map[string][]string) *Profile {
	t.Helper()
	var names []string
	rows := 0
	for n, v := range columns {
		names = append(names, n)
		rows = max(rows, len(v))
	}
	var b strings.Builder
	w := csv.NewWriter(&b)
	w.Comma = '\t'
	require.NoError(t, w.Write(append([]string{"n"}, names...)))
	for i := range rows {
		rec := []string{fmt.Sprint(i + 1)}
		for _, n := range names {
			v := ""
			if i < len(columns[n]) {
				v = columns[n][i]
			}
			rec = append(rec, v)
		}
		require.NoError(t, w.Write(rec))
	}
	w.Flush()
	return profileText(t, opt, b.String())
}

func profileText(t testing.TB, opt Options, text string) *Profile {
	t.Helper()
	name := filepath.Join(t.TempDir(), "in.txt")
	require.NoError(t, os.WriteFile(name, []byte(text), 0o666))
	src, err := source.Open(context.Background(), name, source.Known{})
	require.NoError(t, err)
	p, err := Run(context.Background(), src, opt)
	require.NoError(t, err)
	return p
}

func (p *Profile) column(name string) *Column {
	for _, c := range p.Columns {
		if c.Header == name {
			return c
		}
	}
	return nil
}

func (p *Profile) codes(column string) (codes []string) {
	for _, f := range p.Findings {
		if f.Column == column {
			codes = append(codes, string(f.Code))
		}
	}
	return
}

func repeat(v string, n int) (out []string) {
	for range n {
		out = append(out, v)
	}
	return
}

// Each row: the values of one column, separated by bars; the type and reading
// that they lead to; the codes of the findings.
func TestTypes(t *testing.T) {
	for _, tt := range []struct {
		values  string
		typ     string
		reading string
		finds   string
	}{
		// Whole numbers have room for twice the largest.
		{"1|2|3|3", "smallint", "", ""},
		{"1|16384|1", "smallint", "", ""},
		{"1|16385|1", "integer", "", ""},
		{"-1073741824|5|5", "integer", "", ""},
		{"1073741825|5|5", "bigint", "", ""},
		{"9223372036854775807|5|5", "bigint", "", ""},
		{"9223372036854775808|5|5", "decimal(20,0)", "", ""},
		{"1|2|3|4", "integer", "", ""}, // all different: may be a key
		{"0|1|1", "smallint", "", "zero-one"},
		{"1700000000|1700000000|1600000000", "bigint", "", "unix-seconds"},
		// Decimals have room for one digit more.
		{"0.50|12.25|12.25", "decimal(5,2)", "", ""},
		{"10.00|12.00|12.00", "decimal(5,2)", "", "whole"},
		{"1.5|2|33", "decimal(4,1)", "", ""},
		{"1e5|2.5e-3|1.0", "double precision", "", ""},
		{"1E5|2E7|3E9", "varchar(5)", "", ""}, // codes
		{strings.Repeat("9", 39) + "|1|1", "(text)", "", ""},
		// Numbers as people write them.
		{"1,234.50|12.00|7.00", "decimal(7,2)", `thousands ",", decimal "."`, ""},
		{"1.234,50|12,00|7,00", "decimal(7,2)", `thousands ".", decimal ","`, ""},
		{"1 234,50|12,00|7,00", "decimal(7,2)", `thousands " ", decimal ","`, ""},
		{"1'234.50|12.00|7.00", "decimal(7,2)", `thousands "'", decimal "."`, ""},
		{"1,234|2,345,678|17", "integer", `thousands ","`, ""},
		{"1,234|0,5|17", "decimal(6,3)", `decimal ","`, ""},
		{"1,234|5,678|9,123", "decimal(5,3)", `decimal ","`, "mark-undecided"},
		{"1.234|5.678|9.123", "decimal(5,3)", `decimal "."`, "mark-assumed"},
		{"£5.00|£1,250.00|£7.25", "decimal(7,2)", `thousands ",", decimal ".", currency £`, ""},
		{"5.00 EUR|12.50 EUR|1.00", "decimal(5,2)", `decimal ".", currency EUR`, ""},
		{"(5.00)|12.50|1.00", "decimal(5,2)", `decimal ".", negatives in brackets`, ""},
		{"5.00-|12.50|1.00", "decimal(5,2)", `decimal ".", minus behind`, ""},
		{"5%|12.5%|1%", "decimal(4,1)", `decimal ".", percent`, "percent"},
		{"+5|-7|+5", "smallint", "", ""},
		// Leading zeros make text.
		{"007|042|100|100|007", "varchar(5)", "", ""},
		{"0|7|42|7", "smallint", "", ""},
		// Dates; the order is decided by the values.
		{"2024-01-31|2024-02-29|2024-01-31", "date", "yyyy-MM-dd", ""},
		{"31/01/2024|01/02/2024|01/02/2024", "date", "dd/MM/yyyy", ""},
		{"01/31/2024|02/01/2024|02/01/2024", "date", "MM/dd/yyyy", ""},
		{"01/02/2024|03/04/2024|03/04/2024", "date", "dd/MM/yyyy", "dates-undecided"},
		{"1/2/2024|13/4/2024|13/12/2024", "date", "d/M/yyyy", ""},
		{"31.01.24|01.02.24|01.02.24", "date", "dd.MM.yy", "two-digit-year"},
		{"24-01-31|24-02-01|99-02-28", "date", "yy-MM-dd", "two-digit-year"},
		{"4 Jan 2024|23 Feb 2024|4 Jan 2024", "date", "d MMM yyyy", ""},
		{"January 4, 2024|May 23, 2024|May 23, 2024", "date", "MMMM d, yyyy", ""},
		{"Mon, 23 Nov 2026|Tue, 24 Nov 2026|Tue, 24 Nov 2026", "date", "EEE, dd MMM yyyy", ""},
		{"20240131|20240201|20240201", "date", "yyyyMMdd", "compact-date"},
		{"20240131|20240201|20240299", "integer", "", ""},
		{"2024-01-31 00:00:00|2024-02-01 00:00:00|2024-02-01 00:00:00", "date", "yyyy-MM-dd HH:mm:ss", "midnight"},
		{"2024-01-31T10:00:00.5|2024-02-01T00:00:00.25|2024-02-01T00:00:00.25", "timestamp(3)", "yyyy-MM-dd'T'HH:mm:ss.SS", ""},
		{"2024-01-31|2024-02-01 10:30|2024-02-01 10:30", "timestamp(0)", "yyyy-MM-dd HH:mm or yyyy-MM-dd", ""},
		{"2024-01-31T10:00:00Z|2024-02-01T00:00:00+01:00|2024-02-01T00:00:00+01:00", "timestamp(0) with time zone", "yyyy-MM-dd'T'HH:mm:ssXXX", ""},
		{"10:30|23:59|10:30", "time(0)", "HH:mm", ""},
		{"1:30 pm|11:59 AM|1:30 pm", "time(0)", "h:mm a", ""},
		{"25:30|23:59|25:30", "varchar(10)", "", "near"},
		// Words.
		{"yes|no|yes", "boolean", "", ""},
		{"Y|N|Y", "boolean", "", ""},
		{"Y|Y|Y|Y|Y", "varchar(2)", "", ""},
		{strings.Repeat("Y|", 60) + "Y", "char(1)", "", ""},
		{codes(60) + codes(60), "char(4)", "", ""},
		{strings.Repeat(codes(20), 30), "varchar(5)", "", ""}, // C120 may be followed by C1000
		{"6f9619ff-8b86-d011-b42d-00cf4fc964ff|6F9619FF-8B86-D011-B42D-00CF4FC964AA|6F9619FF-8B86-D011-B42D-00CF4FC964AA", "uuid", "", ""},
		{"5|N/A|7|5", "smallint", "", "null-word"},
		{"2024-01-31|-|2024-02-01|2024-02-01", "date", "yyyy-MM-dd", "null-word"},
		{"ann|N/A|bob|bob", "varchar(5)", "", "null-word-kept"},
		// Text has room for a fifth more, up a ladder.
		{"a|abcdefghij|a", "varchar(15)", "", ""},
		{"ab|cd|ef|ab|ab", "varchar(3)", "", ""},
		{strings.Repeat("x", 3334) + "|y|y", "text", "", ""},
		{" ab | cd| ef |ab", "varchar(3)", "", "trimmed"},
		{" ab|cd|ef|ab", "varchar(5)", "", "padded"},
	} {
		t.Run(reading.Shorten(tt.values, 60), func(t *testing.T) {
			p := profiled(t, Options{}, map[string][]string{"x": strings.Split(tt.values, "|")})
			c := p.column("x")
			switch tt.typ {
			case "(text)":
				assert.Equal(t, sqltype.Text, c.Type.Kind)
			default:
				assert.Equal(t, tt.typ, c.Type.String(), c.Why)
			}
			var how []string
			for _, d := range c.Dates {
				how = append(how, d.String())
			}
			got := strings.Join(how, " or ")
			if c.Type.IsNumber() && c.Type.Kind != sqltype.Double {
				if got = c.Number.String(); got == `decimal "."` && !strings.Contains(tt.reading, "decimal") {
					got = ""
				}
			}
			if tt.reading != "" || c.Type.IsNumber() {
				assert.Equal(t, tt.reading, got)
			}
			if tt.finds != "near" {
				assert.Equal(t, tt.finds, strings.Join(p.codes("x"), " "))
			}
			consistent(t, c, strings.Split(tt.values, "|"))
		})
	}
}

// consistent makes sure that what the profile says fits is what the reader
// reads.
func consistent(t *testing.T, c *Column, values []string) {
	r := reading.Reader{Type: c.Type, Number: c.Number, Dates: c.Dates, NullWords: c.Nulls, Trim: c.Trim, Required: c.Required}
	require.NoError(t, r.Prepare())
	misfits := int64(0)
	for _, s := range values {
		var v reading.Value
		if m := r.Read([]byte(s), false, &v); m != reading.OK {
			misfits++
		}
	}
	assert.Equal(t, c.Misfits, misfits, "misfits of %s", c.Type)
}

// What a number means is more than its form: it may name something, be noise of binary
// fractions, or stand for nothing.
func TestWhatNumbersMean(t *testing.T) {
	var phones, codes, measures, calls, noise, exact, nans, depths, gaps []string
	for i := range 60 {
		phones = append(phones, fmt.Sprint(4930123400+i*7))
		codes = append(codes, fmt.Sprint(10115+i*3))
		calls = append(calls, fmt.Sprint(i))
		tenth := 0.1 // a variable: constants are computed exactly
		noise = append(noise, strconv.FormatFloat(tenth*float64(i), 'f', -1, 64))
		exact = append(exact, fmt.Sprintf("0.12345%012d", 1000+i*i*i))
		measures = append(measures, fmt.Sprintf("%d.%d", i, i%7))
		nans = append(nans, "NaN")
		depths = append(depths, fmt.Sprint(i*i+3))
		gaps = append(gaps, fmt.Sprint(i+700))
	}
	p := profiled(t, Options{}, map[string][]string{"Telefon (privat)": phones, "phone calls": calls, "zipCode": codes,
		"code postal": codes, "zipper": codes, "noise": noise, "exact": exact, "measure": measures, "v": nans})
	for name, want := range map[string]string{"Telefon (privat)": "varchar(15)", "zipCode": "char(5)",
		"code postal": "char(5)", "zipper": "integer", "phone calls": "integer", "noise": "double precision",
		"exact": "decimal(19,17)", "measure": "decimal(4,1)", "v": "double precision"} {
		assert.Equal(t, want, p.column(name).Type.String(), name)
	}
	assert.Contains(t, p.column("zipCode").Why, "postal codes, by the header")
	assert.True(t, slices.ContainsFunc(p.Findings, func(f Finding) bool {
		return f.Code == CodeBinaryFractions && f.Column == "noise" && strings.Contains(f.Do, "noise=decimal")
	}))
	assert.Zero(t, p.column("v").Distinct-1)
	assert.EqualValues(t, 60, p.column("v").NullWord)
	// With a type that is given, the header says nothing.
	as, blockers := p.As("zipCode", sqltype.Type{Kind: sqltype.Integer})
	assert.Empty(t, blockers)
	assert.Equal(t, sqltype.Integer, as.Type.Kind)

	for name, want := range map[string]bool{"n": true, "measure": false, "noise": false, "depth": false, "gapless": true,
		"depth_no": true} {
		p := profiled(t, Options{}, map[string][]string{"measure": measures, "noise": noise, "depth": depths,
			"depth_no": depths, "gapless": gaps})
		assert.Equal(t, want, p.KeyLike(p.column(name)), name)
	}
	few := profiled(t, Options{}, map[string][]string{"id": {"1", "2", "3", "4"}})
	assert.Empty(t, few.Keys)
	assert.False(t, few.column("id").Required)
}

func TestNearMiss(t *testing.T) {
	values := append(repeat("12.50", 60), "1O.50", "7.25")
	p := profiled(t, Options{}, map[string][]string{"x": values})
	assert.Equal(t, sqltype.VarChar, p.column("x").Type.Kind)
	require.Equal(t, []string{"near-miss"}, p.codes("x"))
	f := p.Findings[0]
	assert.Equal(t, Caution, f.Weight)
	assert.Equal(t, "would be decimal(5,2) but for 1 of 62 values", f.Text)
	assert.Equal(t, []Example{{Line: 62, Value: "1O.50"}}, f.Examples)

	p = profiled(t, Options{Tolerate: 0.02}, map[string][]string{"x": values})
	assert.Equal(t, "decimal(5,2)", p.column("x").Type.String())
	assert.EqualValues(t, 1, p.column("x").Misfits)

	p = profiled(t, Options{}, map[string][]string{"x": append(repeat("12/05/2024", 30), "31/04/2024", "30/04/2024")})
	f = p.Findings[0]
	assert.Equal(t, "would be date but for 1 of 32 values", f.Text)
	assert.Equal(t, []Example{{Line: 32, Value: "31/04/2024"}}, f.Examples)
}

// A column can be asked what it would be as another type, in the way of writing
// that most of its values have.
func TestAs(t *testing.T) {
	date := sqltype.Type{Kind: sqltype.Date}
	values := append(repeat("13/05/2024", 30), "31/04/2024", "n/a")
	p := profiled(t, Options{}, map[string][]string{"x": values, "y": append(repeat("1.234,50", 31), "six")})
	as, open := p.As("x", date)
	assert.Empty(t, open)
	assert.Equal(t, date, as.Type)
	require.Len(t, as.Dates, 1)
	assert.Equal(t, "dd/MM/yyyy", as.Dates[0].String())
	assert.Equal(t, []string{"n/a"}, as.Nulls)
	assert.True(t, p.column("x").Type.IsText(), "the column itself stays what it is")
	assert.Empty(t, p.column("x").Dates)
	as, open = p.As("y", sqltype.Type{Kind: sqltype.Decimal, Precision: 9, Scale: 2})
	assert.Empty(t, open)
	assert.Equal(t, reading.Comma, as.Number.Decimal)
	assert.Equal(t, reading.Point, as.Number.Thousands)
	as, _ = p.As("z", date)
	assert.Nil(t, as)

	// What the values leave open is not taken for one or the other in silence.
	values = append(repeat("01/02/2024", 30), "closed")
	p = profiled(t, Options{}, map[string][]string{"x": values})
	_, open = p.As("x", date)
	require.Len(t, open, 1)
	assert.Equal(t, CodeDatesUndecided, open[0].Code)
	assert.NotContains(t, p.codes("x"), "dates-undecided", "as a text it leaves nothing open")
	_, open = profiled(t, Options{Dates: "month-first"}, map[string][]string{"x": values}).As("x", date)
	assert.Empty(t, open)
	p = profiled(t, Options{Types: map[string]sqltype.Type{"x": date}}, map[string][]string{"x": values})
	assert.Contains(t, p.codes("x"), "dates-undecided", "neither if the type is given")
	p = profiled(t, Options{Types: map[string]sqltype.Type{"x": {Kind: sqltype.Text}}}, map[string][]string{"x": repeat("01/02/2024", 30)})
	assert.Empty(t, p.codes("x"), "who wants the text is not asked how to read it")
}

// Whether evidence is kept for later or not, what is decided is the same, of one source and
// of several.
func TestSettledIsTheSame(t *testing.T) {
	ctx := context.Background()
	var sources []*source.Source
	for k, text := range []string{"id\tday\tnote\n1\t2024-01-31\ta\n2\t2024-02-01\t\n", "id\tday\tmore\n3\t2024-03-31\t1,5\n3\tlate\t2,5\n"} {
		name := filepath.Join(t.TempDir(), fmt.Sprintf("in%d.txt", k))
		require.NoError(t, os.WriteFile(name, []byte(text), 0o666))
		src, err := source.Open(ctx, name, source.Known{})
		require.NoError(t, err)
		sources = append(sources, src)
	}
	for _, some := range [][]*source.Source{sources[:1], sources} {
		kept, _, err := RunAll(ctx, some, Options{})
		require.NoError(t, err)
		let, _, err := RunAll(ctx, some, Options{Settled: true})
		require.NoError(t, err)
		assert.Equal(t, kept.Columns, let.Columns)
		assert.Equal(t, kept.Findings, let.Findings)
		assert.Equal(t, kept.Keys, let.Keys)
	}
}

func TestGivenDecisions(t *testing.T) {
	dates := map[string][]string{"x": {"01/02/2024", "03/04/2024"}}
	for opt, want := range map[string]string{"day-first": "dd/MM/yyyy", "month-first": "MM/dd/yyyy", "dd/MM/yyyy": "dd/MM/yyyy", "MM/dd/yyyy": "MM/dd/yyyy"} {
		p := profiled(t, Options{Dates: opt}, dates)
		assert.Equal(t, want, p.column("x").Dates[0].String(), opt)
		assert.Empty(t, p.codes("x"))
	}
	marks := map[string][]string{"x": {"1,234", "5,678"}}
	assert.True(t, profiled(t, Options{Decimal: reading.Point}, marks).column("x").Type.IsInteger())
	assert.Equal(t, "decimal(5,3)", profiled(t, Options{Decimal: reading.Comma}, marks).column("x").Type.String())
	// Another column of the file may decide it, and that is said.
	p := profiled(t, Options{}, map[string][]string{"x": {"1,234", "5,678"}, "y": {"1.5", "2.25"}})
	assert.Equal(t, []string{"mark-by-others"}, p.codes("x"))
	assert.True(t, p.column("x").Type.IsInteger())

	p = profiled(t, Options{NullWords: []string{"missing"}}, map[string][]string{"x": {"5", "missing", "5"}, "y": {"a", "missing", "b"}})
	assert.Equal(t, "smallint", p.column("x").Type.String())
	assert.Equal(t, []string{"missing"}, p.column("y").Nulls)

	p = profiled(t, Options{Types: map[string]sqltype.Type{"X": {Kind: sqltype.Integer}}}, map[string][]string{"x": {"5", "six", "5"}})
	assert.Equal(t, "integer", p.column("x").Type.String())
}

func TestKeys(t *testing.T) {
	var id, name, day, code []string
	for i := range 3000 {
		id = append(id, fmt.Sprint(90000-i*7))
		name = append(name, fmt.Sprintf("boat %d", i%900))
		day = append(day, fmt.Sprintf("2024-%02d-%02d", i/250+1, i%250%28+1))
		code = append(code, fmt.Sprintf("%c%04d", 'A'+i%26, i))
	}
	p := profiled(t, Options{}, map[string][]string{"id": id, "name": name, "day": day, "code": code})
	assert.ElementsMatch(t, [][]string{{"n"}, {"id"}, {"code"}}, p.Keys)

	id[2999] = id[0]
	p = profiled(t, Options{}, map[string][]string{"id": id})
	assert.Equal(t, [][]string{{"n"}}, p.Keys)
	require.Equal(t, []string{"nearly-unique"}, p.codes("id"))
	assert.Equal(t, []Example{{Line: 3001}}, p.Findings[0].Examples)

	// Two columns together, where no single one will do.
	var b strings.Builder
	b.WriteString("gauge,day,level\n")
	for i := range 400 {
		fmt.Fprintf(&b, "G%d,2024-%02d-%02d,0.5\n", i%4, i/4/28+1, i/4%28+1)
	}
	p = profileText(t, Options{}, b.String())
	assert.Equal(t, [][]string{{"gauge", "day"}}, p.Keys)
}

// A column of long texts is no key, wherever the longest stands: databases could not index it.
func TestLongTextsAreNoKeys(t *testing.T) {
	table := func(records, long, at int) string {
		var b strings.Builder
		b.WriteString("remark,gauge\n")
		for i := range records {
			remark := fmt.Sprintf("Remark %d", i)
			if i == at {
				remark += strings.Repeat("x", long-len(remark))
			}
			fmt.Fprintf(&b, "%s,G%d\n", remark, i%4)
		}
		return b.String()
	}
	for _, records := range []int{400, 40_000} { // one chunk, and several
		for _, at := range []int{0, records / 2, records - 1} {
			p := profileText(t, Options{}, table(records, longestKey, at))
			assert.Equal(t, [][]string{{"remark"}}, p.Keys)
			assert.True(t, p.column("remark").Unique)
			p = profileText(t, Options{}, table(records, longestKey+1, at))
			assert.Empty(t, p.Keys, "line %d of %d", at+2, records)
			assert.False(t, p.column("remark").Unique)
			assert.InEpsilon(t, records, p.column("remark").Distinct, 0.1)
		}
	}
	// Nor are two together, of which each alone would be short enough.
	for long, want := range map[int][][]string{120: {{"gauge", "watch"}}, 130: nil} {
		var b strings.Builder
		b.WriteString("gauge,watch,level\n")
		for i := range 400 {
			fmt.Fprintf(&b, "G%d%s,W%03d%s,0.5\n", i%4, strings.Repeat("g", long-2), i/4, strings.Repeat("w", long-4))
		}
		assert.Equal(t, want, profileText(t, Options{}, b.String()).Keys, "twice %d bytes", long)
	}
}

func TestManyKeysAcrossChunks(t *testing.T) {
	// Sparse numbers outgrow the pages and go on as hashes; texts mix in.
	for _, last := range []string{"x1", "77"} {
		var b strings.Builder
		b.WriteString("id,s\n")
		for i := range 300000 {
			fmt.Fprintf(&b, "%d,a\n", int64(i)*7919*7919)
		}
		fmt.Fprintf(&b, "%s,b\n0,c\n", last)
		p := profileText(t, Options{}, b.String())
		assert.NotContains(t, p.Keys, []string{"id"})
		require.Contains(t, p.codes("id"), "nearly-unique", last)
	}
}

func TestDistinct(t *testing.T) {
	var few, many []string
	for i := range 20000 {
		few = append(few, fmt.Sprintf("v%d", i%7))
		many = append(many, fmt.Sprintf("w%d", i%5000))
	}
	p := profiled(t, Options{}, map[string][]string{"few": few, "many": many})
	c := p.column("few")
	assert.EqualValues(t, 7, c.Distinct)
	assert.True(t, c.DistinctExact)
	assert.Equal(t, ValueCount{"v0", 2858}, c.Values[0])
	c = p.column("many")
	assert.False(t, c.DistinctExact)
	assert.InEpsilon(t, 5000, c.Distinct, 0.12)
}

func TestRecordsThatDoNotRead(t *testing.T) {
	p := profileText(t, Options{}, "a,b\n1,x\n2\n3,y,z\n4,\"q\"r\n5,\xff\n6,w\x00\n7,v\n8,\"é\"\n9,\"ü, é\"\n")
	assert.EqualValues(t, 9, p.Records)
	codes := strings.Join(p.codes(""), " ")
	for _, want := range []string{"field-count", "after-quote", "bad-encoding", "nul-byte"} {
		assert.Contains(t, codes, want)
	}
	for _, f := range p.Findings {
		if f.Code == "bad-encoding" {
			assert.Contains(t, f.Text, "line 6, character 3, byte FF")
		}
	}
	p = profileText(t, Options{}, "a,b\n1,x\n2,\"p, q\"\n3,\"y")
	assert.Equal(t, Blocker, p.Findings[0].Weight)
	assert.Contains(t, p.Findings[0].Text, "line 4 is never closed")
}

func TestLimitSaysSo(t *testing.T) {
	p := profileText(t, Options{Limit: 10}, "a,b\n"+strings.Repeat("1,x\n", 500))
	assert.EqualValues(t, 10, p.Records)
	assert.True(t, p.Limited)
	for _, c := range p.Columns {
		assert.Contains(t, c.Why, "seen only in the first 10 records")
	}
	assert.Equal(t, CodeLimited, p.Findings[0].Code)
}

// However work is shared out, the profile is the same.
func TestParallelIsTheSame(t *testing.T) {
	var b strings.Builder
	b.WriteString("id,day,amount,who,flag\n")
	for i := range 60000 {
		day, amount := fmt.Sprintf("%02d/%02d/2024", i%28+1, i%12+1), fmt.Sprintf("%d.%02d", i%977, i%100)
		if i == 40000 {
			day = "31/02/2024"
		}
		if i%5000 == 3 {
			amount = fmt.Sprintf("\"%d,%03d.50\"", i%9+1, i%1000)
		}
		fmt.Fprintf(&b, "%d,%s,%s,keeper %d,%s\n", i, day, amount, i%333, []string{"yes", "no", "N/A"}[i%3])
	}
	first := profileText(t, Options{}, b.String())
	for range 3 {
		p := profileText(t, Options{}, b.String())
		assert.Equal(t, first.Findings, p.Findings)
		for i := range p.Columns {
			a, b := *first.Columns[i], *p.Columns[i]
			a.Dates, b.Dates = nil, nil
			a.Distinct, b.Distinct = 0, 0 // estimates
			assert.Equal(t, a, b)
		}
	}
	assert.Equal(t, "decimal(7,2)", first.column("amount").Type.String())
	assert.Equal(t, "0.00 … 9,003.50", first.column("amount").Range())
}

func FuzzDateShapes(f *testing.F) {
	f.Add("31/12/2024")
	f.Add("Mon, 4 Sept 2024 10:30:00.5 pm +01:00")
	f.Add("2024-01-31T10:00:00Z")
	f.Fuzz(func(t *testing.T, s string) {
		var d dateScan
		if !d.scan([]byte(s)) {
			return
		}
		for _, c := range resolve(d.shape) {
			us, ok := c.value(&d)
			p, err := reading.ParsePattern(patternOf(c.parts))
			require.NoError(t, err, "%q", s)
			var civil reading.Civil
			m := p.Parse([]byte(s), &civil)
			if !ok {
				require.NotEqual(t, reading.OK, m, "%q with %s", s, p)
				continue
			}
			require.Equal(t, reading.OK, m, "%q with %s", s, p)
			require.Equal(t, us, civil.Micros(p.HasDate())-int64(civil.Offset)*1e6*map[bool]int64{true: 1}[p.HasDate()], "%q with %s", s, p)
		}
	})
}

func TestEightDigits(t *testing.T) {
	buf := make([]byte, 0, 32)
	for _, n := range []int64{0, 7, 42, 999, 1000, 54321, 987654, 1234567, 12345678, 99999999} {
		got, ok := eightDigits(fmt.Appendf(buf, "%d", n))
		require.True(t, ok)
		require.Equal(t, n, got)
	}
	for _, s := range []string{"1a", "1.5", "12:4", "/2", "123456789", "-1", "1\x00", "\xb1"} {
		_, ok := eightDigits(append(buf, s...))
		assert.False(t, ok, s)
	}
}

// codes are as many different values of one length.
func codes(n int) (s string) {
	for i := range n {
		s += fmt.Sprintf("C%d|", 100+i)
	}
	return s
}

func TestHeaderWords(t *testing.T) {
	for in, want := range map[string]string{
		"Telephone No.": "telephone no", "postCode": "post code", "ZIP": "zip", "código_postal": "código postal",
		"Tel1": "tel1", "éTé": "é té", " - ": "", "": "", "ISBN13-code": "isbn13 code",
	} {
		assert.Equal(t, want, strings.Join(headerWords(in), " "), in)
	}
}
