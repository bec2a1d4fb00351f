package source

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/source/delimited"
)

// Forms as they arrive: what separates the fields, which lines are comments, and
// whether the first line has the names.
func TestFormsAsTheyArrive(t *testing.T) {
	for name, tt := range map[string]struct {
		text      string
		delimiter string // as plans write it
		comment   string
		header    int64
		columns   string
		records   int
		doubt     bool
	}{
		"runs of blanks":                 {"Chins Situps Jumps\n5 162 60\n2 110  60\n12 101\t101\n", "blanks", "", 1, "Chins Situps Jumps", 3, false},
		"runs of blanks, quoted names":   {"\"\"  \"Method A\" \"Method B\"\n\"M\"  2  6\n\"T\"  10  16\n\"U\"  1  6\n", "blanks", "", 1, " Method A Method B", 3, false},
		"numbers of any width":           {strings.Repeat("59 2 32.1 101.0 157\n48 1 21.6 87 183\n7 1 2 103.25 5\n", 20), "blanks", "", 0, "column_1 column_2 column_3 column_4 column_5", 60, false},
		"prose is not separated":         {"the 1  and\ntwo  words\nthen three more words\n", "none", "", 1, "the 1  and", 2, true},
		"comments above":                 {"# made by hand\n# on Monday\nid,toll\n1,2.5\n2,3.5\n", ",", "#", 3, "id toll", 2, false},
		"comments between and below":     {"id,toll\n1,2.5\n# checked, so far, by \"A\n2,3.5\n3,4.5\n4,5.5\n5,6.5\n# the end\n", ",", "#", 1, "id toll", 5, false},
		"names in a comment":             {"# made by hand\n# id toll\n1 2.5\n2 3.5\n3 4.5\n", "blanks", "#", 2, "id toll", 3, false},
		"comments without names":         {"; colours\n; by hand\n0,0.5,3\n1,0.25,4\n", ",", ";", 0, "column_1 column_2 column_3", 2, false},
		"a mark that is data":            {"colour,n\n#fff,1\n#ccc,2\n#000,3\n", ",", "", 1, "colour n", 3, false},
		"a mark never separates":         {"# one\n# two # three\n1\n2\n3\n", "none", "#", 0, "column_1", 3, false},
		"row names":                      {"\"x\"\n\"RDA1\",820.1\n\"RDA2\",399.2\n\"RDA3\",12\n", ",", "", 1, "row_name x", 3, false},
		"delimiters at the end":          {"a,b\n1,2,\n1,3,\n2,4,\n", ",", "", 1, "a b ", 3, false},
		"a title above two columns":      {"Visits\ndate,visits\n2003-09-15,1\n2003-09-16,2\n", ",", "", 2, "date visits", 2, false},
		"a year above years":             {"Hacksaw;1987\nHart;1984\nRafael;1991\n", ";", "", 0, "column_1 column_2", 3, false},
		"years above numbers":            {"place,2023,2024\nx,1,2\ny,3,4\n", ",", "", 1, "place 2023 2024", 2, false},
		"a first line that comes again":  {"a,binge,binges\na,bane,banes\na,bark,barks\n", ",", "", 0, "column_1 column_2 column_3", 3, false},
		"names by their words":           {"sample_name,BARCODE\nfirst,AGT\nother,TGCA\n", ",", "", 1, "sample_name BARCODE", 2, false},
		"names by the codes below":       {"Funk,Rest\nA-1,x\nB-22,y\nC-3,z\n", ",", "", 1, "Funk Rest", 3, false},
		"all text, and nothing to go by": {"ability,ablity\naccept,acept\nwierd,weird\n", ",", "", 1, "ability ablity", 2, true},
		"line ends made twice":           {"id,note\r\r\n1,\"a\"\r\r\n2,\"b\"\r\r\n", ",", "", 1, "id note", 2, false},
		"ragged tabs":                    {"id\tcol1\tcol2\tcol3\nid1\t1\ta\nid2\t2\nid3\n", "tab", "", 1, "id col1 col2 col3", 3, false},
	} {
		t.Run(name, func(t *testing.T) {
			s, err := opened(t, tt.text, Known{})
			require.NoError(t, err)
			assert.Equal(t, tt.delimiter, formDelimiter(s.Layout.Form), s.Evidence)
			assert.Equal(t, tt.comment, s.Layout.Form.Comment)
			assert.Equal(t, tt.header, s.Layout.Header, s.Evidence)
			assert.Equal(t, tt.columns, strings.Join(s.Layout.Columns, " "))
			assert.Equal(t, tt.doubt, s.Doubt != "", s.Doubt)
			n := 0
			require.NoError(t, s.Each(func(k Kind, r *delimited.Record) error {
				if k == Data {
					n++
				}
				return nil
			}))
			assert.Equal(t, tt.records, n)
		})
	}
}

// Fields that are left out at the end are null where that is wanted.
func TestShortRecords(t *testing.T) {
	yes, comma := true, ","
	s, err := opened(t, "a,b,c\n1\n2,3\n4,5,6\n7,8,9,10\n", Known{ShortNull: &yes, Delimiter: &comma})
	require.NoError(t, err)
	var got []int
	require.NoError(t, s.Each(func(_ Kind, r *delimited.Record) error { got = append(got, len(r.Fields)); return nil }))
	assert.Equal(t, []int{3, 3, 3, 4}, got, "what is too long stays so")
}
