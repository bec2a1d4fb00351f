package db

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/db/dialect"
	"ambertray/internal/reading"
	"ambertray/internal/sqltype"
	"ambertray/internal/tally"
)

// facts is a row as a server gives it; "" is null.
func facts(texts ...string) (row []*string) {
	for _, s := range texts {
		if s == "" {
			row = append(row, nil)
			continue
		}
		row = append(row, &s)
	}
	return
}

// What a server says of a column agrees with a tally of the same values.
func TestParseFactsAgrees(t *testing.T) {
	for _, tt := range []struct {
		typ    string
		values []string
		facts  []string
	}{
		{"integer", []string{"5", "-7", "<null>"}, []string{"3", "2", "-2", "-7", "5"}},
		{"boolean", []string{"true", "false", "true"}, []string{"3", "3", "2", "0", "1"}},
		{"decimal(8,2)", []string{"12.50", "-0.75"}, []string{"2", "2", "11.75", "-0.75", "12.50"}},
		{"decimal(8,2)", []string{"12.50", "0.50"}, []string{"2", "2", "13", "0.5000", "12.5"}},
		{"decimal(38,2)", []string{"123456789012345678901234567890.25", "1.00"}, []string{"2", "2", "123456789012345678901234567891.25", "1.00", "123456789012345678901234567890.25"}},
		{"date", []string{"1970-01-03", "1969-12-31"}, []string{"2", "2", "1", "-1", "2"}},
		{"timestamp(6)", []string{"1970-01-01 00:00:00.000005"}, []string{"1", "1", "5", "5", "5"}},
		{"double precision", []string{"1.5", "-2"}, []string{"2", "2", "", "-2", "1.5"}},
		{"text", []string{"é", "b"}, []string{"2", "2", "3", "b", "é"}},
		{"text", []string{"<null>"}, []string{"1", "0", "", "", ""}},
	} {
		typ, err := sqltype.Parse(tt.typ)
		require.NoError(t, err)
		read := tally.Tally{Type: typ}
		r := reading.Reader{Type: typ, NullWords: []string{"<null>"}}
		require.NoError(t, r.Prepare())
		for _, s := range tt.values {
			var v reading.Value
			require.Equal(t, reading.OK, r.Read([]byte(s), false, &v), s)
			read.Add(&v)
		}
		rows, cols, err := ParseFacts([]dialect.Column{{Name: "c", Type: typ}}, []bool{false}, facts(tt.facts...))
		require.NoError(t, err)
		assert.EqualValues(t, len(tt.values), rows)
		assert.Empty(t, read.Differs(&cols[0]), tt.typ)
		// And differs where anything does.
		for i := range tt.facts {
			if tt.facts[i] == "" || i == 0 || tt.facts[1] == "0" || typ.Kind == sqltype.Boolean && i > 2 {
				continue
			}
			other := append([]string{}, tt.facts...)
			switch other[i] += "1"; {
			case typ.IsText() && i > 2:
			case i == 1:
				other[1] = "0"
			}
			_, cols, err := ParseFacts([]dialect.Column{{Name: "c", Type: typ}}, []bool{false}, facts(other...))
			if err == nil {
				assert.NotEmpty(t, read.Differs(&cols[0]), "%s: %v", tt.typ, other)
			}
		}
	}
}

func TestParseFactsRefuses(t *testing.T) {
	typ, err := sqltype.Parse("decimal(8,2)")
	require.NoError(t, err)
	for _, row := range [][]string{{"1"}, {"x", "1", "1", "1", "1"}, {"1", "1", "1.005", "1", "1"}, {"1", "1", "one", "1", "1"}} {
		_, _, err := ParseFacts([]dialect.Column{{Name: "c", Type: typ}}, []bool{false}, facts(row...))
		assert.Error(t, err, row)
	}
	_, cols, err := ParseFacts([]dialect.Column{{Name: "c", Type: typ}}, []bool{true}, facts("3", "2", "", "", ""))
	require.NoError(t, err)
	assert.True(t, cols[0].Loose)
	assert.EqualValues(t, 1, cols[0].Nulls)
}
