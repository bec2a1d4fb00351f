package source

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/source/delimited"
)

func opened(t *testing.T, text string, known Known) (*Source, error) {
	name := filepath.Join(t.TempDir(), "in.txt")
	require.NoError(t, os.WriteFile(name, []byte(text), 0o666))
	return Open(context.Background(), name, known)
}

// fieldsOf are the fields of a source's records; a faulty one is its fault.
func fieldsOf(t *testing.T, s *Source) (out [][]string) {
	require.NoError(t, s.Each(func(k Kind, rec *delimited.Record) error {
		if k != Data {
			return nil
		}
		if rec.Fault != delimited.NoFault {
			out = append(out, []string{"fault: " + rec.Fault.String()})
			return nil
		}
		var fields []string
		for _, f := range rec.Fields {
			fields = append(fields, string(f))
		}
		out = append(out, fields)
		return nil
	}))
	return
}

const ruled = `Gauge readings of May

GAUGE      READ ON     LEVEL  REMARK
---------- ---------- ------ ---------------
Old Basin  2024-05-01   1.25 low
Étang      2024-05-02  12.50
Withy Cut                    not read
`

// Each row: a text in columns of fixed width, what is known of it, its columns and
// records.
func TestFixedColumns(t *testing.T) {
	wide := "lock         boat       toll\n"
	for range 4 {
		wide += "Alder Gate   Heron 1     1.25\nBridge Lock  Old Tansy  12.50\n"
	}
	for _, tt := range []struct {
		what, text string
		known      Known
		columns    []string
		first      []string
		evidence   string
	}{
		{"by a ruler", ruled, Known{}, []string{"GAUGE", "READ ON", "LEVEL", "REMARK"}, []string{"Old Basin", "2024-05-01", "1.25", "low"}, "a ruler in line 4 draws 4 columns"},
		{"by blanks", wide, Known{}, []string{"lock", "boat", "toll"}, []string{"Alder Gate", "Heron 1", "1.25"}, "2 columns of blanks run through all of the first 9 lines"},
		{"by widths", "0001Heron 1  0125\n0002Wren     1250\n", Known{Columns: []int{0, 4, 13}, Header: new(int64)}, []string{"column_1", "column_2", "column_3"}, []string{"0001", "Heron 1", "0125"}, ""},
	} {
		s, err := opened(t, tt.text, tt.known)
		require.NoError(t, err, tt.what)
		assert.Equal(t, tt.columns, s.Layout.Columns, tt.what)
		assert.Equal(t, tt.first, fieldsOf(t, s)[0], tt.what)
		assert.Nil(t, s.Undecided, tt.what)
		why := ""
		for _, e := range s.Evidence {
			if e.What == "columns" {
				why = e.Why
			}
		}
		assert.Contains(t, why, tt.evidence, tt.what)

		// What a plan writes opens it in the same way.
		value, is := SettingOf("columns").Of(s)
		require.True(t, is, tt.what)
		known := Known{Header: &s.Layout.Header, Skip: &s.Layout.Skip}
		require.NoError(t, SettingOf("columns").Put(&known, value))
		again, err := opened(t, tt.text, known)
		require.NoError(t, err, tt.what)
		assert.Equal(t, fieldsOf(t, s), fieldsOf(t, again), tt.what)
	}
	s, err := opened(t, ruled, Known{})
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"Old Basin", "2024-05-01", "1.25", "low"}, {"Étang", "2024-05-02", "12.50", ""}, {"Withy Cut", "", "", "not read"}}, fieldsOf(t, s), "characters, not bytes; short lines have blanks")
	assert.Equal(t, "Gauge readings of May", Beginnings(s.Titles, 2))
}

// A line that does not keep to the columns that were found is faulty.
func TestFixedColumnsOverTheEdge(t *testing.T) {
	s, err := opened(t, ruled+"A very long name that 1.00\n", Known{})
	if err == nil && len(fieldsOf(t, s)) == 4 {
		assert.Equal(t, []string{"fault: text runs over the edge of a column"}, fieldsOf(t, s)[3])
		return
	}
	// One of four lines is too many for the ruler to count.
	require.NoError(t, err)
	text := ruled + strings.Repeat("Old Basin  2024-05-01   1.25 low\n", 40) + "A very long name that 1.00\n"
	s, err = opened(t, text, Known{})
	require.NoError(t, err)
	assert.Equal(t, []string{"fault: text runs over the edge of a column"}, fieldsOf(t, s)[43])
}

// What may be chance is asked; what has something between its fields is not taken
// for it; a list of single values stays one.
func TestFixedColumnsUndecided(t *testing.T) {
	s, err := opened(t, strings.Repeat("Old Basin 12\nWithy Cut  7\nAlder Gat 33\n", 3), Known{})
	require.NoError(t, err)
	require.NotNil(t, s.Undecided)
	assert.Contains(t, s.Undecided.Do, "--columns")
	for _, text := range []string{
		"a,b,c\n1,2,3\n1,2,3\n1,2,3\n1,2,3\n1,2,3\n",
		"Old Basin\nWithy Cut\nAlder Gate\nNether Lock\nQuarry Lock\nHarrow Bridge Lock\n",
		"one\ntwo\nthree\n",
		"no 1  and\ntwo  words\n",
		"  1    x\n----- ---\n",
	} {
		s, err := opened(t, text, Known{})
		require.NoError(t, err)
		assert.Nil(t, s.Undecided, text)
		assert.Nil(t, s.Layout.Form.Starts, text)
	}
}

// Widths that a person gives may touch; where they do not, a line that does is
// faulty with a plan, too.
func TestGivenColumnsTouch(t *testing.T) {
	none := int64(0)
	s, err := opened(t, "0001Heron 0125\n0002Wren  1250\n", Known{Columns: []int{0, 4, 10}, Header: &none})
	require.NoError(t, err)
	assert.False(t, s.Layout.Form.Apart)
	s, err = opened(t, "0001 Heron 0125\n0002 Wren  1250\n", Known{Columns: []int{0, 5, 11}, Header: &none})
	require.NoError(t, err)
	assert.True(t, s.Layout.Form.Apart)
}

func TestParseWidths(t *testing.T) {
	starts, err := ParseWidths("8, 20,*")
	require.NoError(t, err)
	assert.Equal(t, []int{0, 8, 28}, starts)
	assert.Equal(t, "8,20,*", widthsOf(starts))
	for _, bad := range []string{"", "0", "8,x", "*,8", "-1", "8,,9"} {
		_, err := ParseWidths(bad)
		assert.Error(t, err, bad)
	}
}

// Every setting takes what it shows: a source that is opened with what a plan
// says of it is the same.
func TestSettingsReadBack(t *testing.T) {
	seen := map[string]bool{}
	for _, set := range Settings {
		assert.False(t, seen[set.Key] || seen[set.Option()], "the setting %s stands twice", set.Key)
		seen[set.Key], seen[set.Option()] = true, true
		assert.NotEmpty(t, set.Help)
		assert.Equal(t, set.needs != "", set.given != nil, "%s: what it needs, and whether it is given", set.Key)
	}
	s, err := opened(t, "x\na;'b;c';d\n1;2;3\n4;'5;6';7\nTotal;2\n", Known{})
	require.NoError(t, err)
	known := Known{}
	for _, set := range Settings {
		if v, is := set.Of(s); is {
			require.NoError(t, set.Put(&known, v), set.Key)
		}
	}
	again, err := opened(t, "x\na;'b;c';d\n1;2;3\n4;'5;6';7\nTotal;2\n", known)
	require.NoError(t, err)
	assert.Equal(t, s.Layout, again.Layout)
	for key, bad := range map[string]string{"quote": "xx", "escape": "xx", "columns": "a", "header": "-1", "skip": "x", "footer": "x"} {
		err := SettingOf(key).Put(&known, bad)
		var not *NotAllowed
		require.ErrorAs(t, err, &not, key)
		assert.NotEmpty(t, not.Do)
	}
}

// Every format in the table is recognised by a beginning, and can be opened, or
// says what to do.
func TestFormats(t *testing.T) {
	for _, x := range formats {
		assert.NotEmpty(t, x.name)
		assert.NotNil(t, x.is, x.name)
		assert.NotEqual(t, x.open == nil, x.lacks == "", "%s is opened, or lacks something", x.name)
		for _, key := range x.takes {
			assert.NotNil(t, SettingOf(key), "%s: the setting %s", x.name, key)
		}
	}
	for begins, want := range map[string]string{"%PDF-1.7": "PDF document", "\x89PNG\r\n": "picture", "PAR1": "Parquet", "BZh9": "bzip2", "\x28\xb5\x2f\xfd": "zstd",
		"SQLite format 3\x00": "SQLite", "\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1": ".xls"} {
		_, err := opened(t, begins+strings.Repeat("x", 600), Known{})
		assert.ErrorContains(t, err, want)
		assert.ErrorContains(t, err, "not delimited text")
	}
}
