package source

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/source/delimited"
)

// kinds are the rows of a text by their kinds, each as its first letter in capitals or not: D data,
// t total, f footer, h header again.
func kinds(t *testing.T, text string, known Known) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "a.csv")
	require.NoError(t, os.WriteFile(path, []byte(text), 0o666))
	s, err := Open(t.Context(), path, known)
	require.NoError(t, err)
	return kindsOf(t, s)
}

func kindsOf(t *testing.T, s *Source) string {
	t.Helper()
	letters := map[Kind]string{Data: "D", Total: "t", Footer: "f", Header: "h"}
	var out strings.Builder
	require.NoError(t, s.Each(func(k Kind, _ *delimited.Record) error {
		out.WriteString(letters[k])
		return nil
	}))
	return out.String()
}

// Totals are told by their words and their shape.
func TestTotals(t *testing.T) {
	for _, tt := range []struct{ what, text, want, skipped string }{
		{"in the place of numbers", "day,toll\n1,2.50\nTotal,2.50\n2,3.50\n", "DtD", "DtD"},
		{"with something blank", "lock,boat,toll\nAlder,a,2\nAlder Total,,2\nWithy,b,3\n", "DtD", "DtD"},
		{"without a number", "lock,boat,toll\nAlder,a,2\nTotal,,\nWithy,b,3\n", "DDD", "DDD"},
		{"a full record that is called so", "lock,boat,toll\nAlder,a,2\nTotal,b,2\nWithy,b,3\n", "DDD", "DDD"},
		{"a name that begins so", "firm,note,toll\nAlder,a,2\nTotal Gas,,2\nWithy,b,3\n", "DDD", "DtD"},
		{"words of other languages", "ort,boot,zoll\nA,a,2\nZwischensumme,,2\nB,b,3\nSumme,,5\nC,c,1\nsous-total,,1\nD,d,1\n", "DtDtDtD", "DtDtDtD"},
		{"in a later column", "day,lock,toll\n1,Alder,2\n,Subtotal Alder,2\n2,Withy,3\n", "DtD", "DtD"},
		{"behind a blank first column, a text", "id,lock,toll\n1,Alder,2\n,Withy,2\n2,Nether,3\n", "DDD", "DDD"},
		{"subtle words", "id,lock,toll\n1,Totals Lane,2\n2,Sumner,\n3,Grand,3\n", "DDD", "DDD"},
		{"in quotes", "day,toll\n1,2.50\n\"Total\",\"2.50\"\n2,3.50\n", "DtD", "DtD"},
		{"short of fields", "day,lock,toll,boat\n1,A,2.50,x\nTotal,,2.50\n2,B,3.50,y\n", "DtD", "DtD"},
	} {
		assert.Equal(t, tt.want, kinds(t, tt.text, Known{}), tt.what)
		assert.Equal(t, tt.skipped, kinds(t, tt.text, Known{Totals: SkipTotals}), tt.what)
		assert.Equal(t, strings.ReplaceAll(tt.skipped, "t", "D"), kinds(t, tt.text, Known{Totals: KeepTotals}), tt.what)
	}
	// Among very many records, they are found as well: nearly all of those are read in blocks.
	var text strings.Builder
	text.WriteString("lock,boat,toll\n")
	for range 20_000 {
		text.WriteString("Tansy,Grebe,2\n")
	}
	text.WriteString("Tansy total,,40000\n" + strings.Repeat("Gorse,Sedge,1\n", 10))
	got := kinds(t, text.String(), Known{})
	assert.Equal(t, 1, strings.Count(got, "t"))
	assert.Equal(t, 20_010, strings.Count(got, "D"))
}

// The row of column names is found by the names, wherever it stands.
func TestHeaderByNames(t *testing.T) {
	found := int64(Found)
	names := Names{Columns: [][]string{{"Day"}, {"Toll", "Fee"}}, Others: []string{"Remarks"}}
	for _, tt := range []struct {
		what, text string
		line       int64
		titles     int
	}{
		{"first", "day,toll\n1,2\n", 1, 0},
		{"below titles, with a name that is another's", "Trust\nof May\n\nDay,Fee,Remarks\n1,2,x\n", 4, 2},
		{"below rows that are wider", "a,b,c,d\nday,toll\n1,2\n3,4\n", 2, 1},
		{"half of the names are enough", "Trust\nday,price\n1,2\n", 2, 1},
		{"the row with all of them before one with half", "day,note\nx,y\nday,toll\n1,2\n", 3, 2},
		{"of two with half of them, the first", "day,price\nday,cost\n1,2\n", 1, 0},
		{"none: as without a plan", "when,how much\n1,2\n3,4\n", 1, 0},
	} {
		path := filepath.Join(t.TempDir(), "a.csv")
		require.NoError(t, os.WriteFile(path, []byte(tt.text), 0o666))
		s, err := Open(t.Context(), path, Known{Header: &found, Names: names, By: "as the plan says"})
		require.NoError(t, err, tt.what)
		assert.Equal(t, tt.line, s.Layout.Header, tt.what)
		assert.Len(t, s.Titles, tt.titles, tt.what)
	}
}

// Footers are told by their words at the end of a pipe, too, which is known when it comes.
func TestFooterOfAPipe(t *testing.T) {
	found, words := int64(1), Found
	was := flowFrom
	flowFrom = 4 << 10
	t.Cleanup(func() { flowFrom = was })
	long := "day,toll\n" + strings.Repeat("1,2\n", 20_000)
	for text, want := range map[string]string{
		"Total,5\nprinted in May\n": "ff",
		"2,3\n":                     "D",
	} {
		s, err := Open(t.Context(), Stdin, Known{Stdin: strings.NewReader(long + text), Once: true, Header: &found, Footer: &words,
			By: "as the plan says", Names: NamesOf([]string{"day", "toll"})})
		require.NoError(t, err)
		require.True(t, s.Flows())
		assert.Equal(t, strings.Repeat("D", 20_000)+want, kindsOf(t, s), text)
		s.Close()
	}
	path := filepath.Join(t.TempDir(), "a.csv")
	require.NoError(t, os.WriteFile(path, []byte("day,toll\n1,2\n2,3\nTotal,5\n"), 0o666))
	none := 0
	s, err := Open(t.Context(), path, Known{Header: &found, Footer: &none, FooterUnsaid: true, By: "as the plan says"})
	require.NoError(t, err)
	assert.Zero(t, s.Layout.Footer)
	assert.Equal(t, "Total,5", Beginnings(s.MaybeFooters, 3))
	s, err = Open(t.Context(), path, Known{Header: &found, Footer: &none, By: "as the plan says"})
	require.NoError(t, err)
	assert.Empty(t, s.MaybeFooters, "it was said that there are none")
}
