package dialect

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSafeNames(t *testing.T) {
	for in, want := range map[string]string{
		"Passage ID": "passage_id", "Länge (m)": "lange_m", "Straße": "strasse", "customerID": "customer_id", "HTTPServer": "http_server",
		"2024": "n2024", "Toll £": "toll_gbp", "100 %": "n100_percent", "  a  b  ": "a_b", "日本": "ri_ben", "☃": "", "Город": "gorod", "": "", "Owner's": "owners",
		strings.Repeat("long name ", 20): "long_name_long_name_long_name_long_name_long_name_long_n",
	} {
		assert.Equal(t, want, SafeName(in), in)
	}
	assert.Equal(t, []string{"a", "a_2", "a_3", "column_4", "a_2_2"}, SafeNames([]string{"a", "A", " a ", "☃", "a 2"}, false))
	assert.Equal(t, []string{"a", "A_2", "x y"}, SafeNames([]string{"a", "A", "x y"}, true))
	same := SafeNames(make([]string, 10000), false)
	seen := map[string]bool{}
	for _, n := range same {
		require.False(t, seen[n])
		seen[n] = true
	}
	for path, want := range map[string]string{"dir/Lock passages 2024.csv": "lock_passages_2024", "x.csv.gz": "x", "☃.csv": "loaded", "2024.csv": "n2024"} {
		assert.Equal(t, want, TableName(path))
	}
}
