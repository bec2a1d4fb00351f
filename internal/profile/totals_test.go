package profile

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/source"
)

// A total among very many records, which are read in blocks, is found, with what it adds up; what is
// said of it settles it.
func TestTotalAmongMany(t *testing.T) {
	text := "lock,boat,toll\n" + strings.Repeat("Tansy,Grebe,2\n", 20_000) + "Tansy total,,40000\n" + strings.Repeat("Gorse,Sedge,1\n", 10)
	path := filepath.Join(t.TempDir(), "a.csv")
	require.NoError(t, os.WriteFile(path, []byte(text), 0o666))
	for said, records := range map[string]int64{"": 20_010, source.SkipTotals: 20_010, source.KeepTotals: 20_011} {
		src, err := source.Open(t.Context(), path, source.Known{Totals: said})
		require.NoError(t, err)
		p, err := Run(t.Context(), src, Options{})
		require.NoError(t, err)
		assert.Equal(t, records, p.Records, said)
		assert.Equal(t, 20_011-records, p.Skipped[source.Total], said)
		var found []Finding
		for _, f := range p.Findings {
			if f.Code == CodeTotals {
				found = append(found, f)
			}
		}
		if said != "" {
			assert.Empty(t, found, said)
			continue
		}
		require.Len(t, found, 1)
		assert.Contains(t, found[0].Text, "each of them holds the sum of lines above in toll")
		assert.EqualValues(t, 20_002, found[0].Examples[0].Line)
	}
}
