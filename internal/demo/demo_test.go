package demo

import (
	"bytes"
	"encoding/csv"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSampleDataIsTheSameEveryTime(t *testing.T) {
	a, b := filepath.Join(t.TempDir(), "x", "a"), t.TempDir()
	require.NoError(t, Write(a))
	require.NoError(t, Write(b))
	for _, f := range files {
		x, err := os.ReadFile(filepath.Join(a, f.name))
		require.NoError(t, err)
		y, err := os.ReadFile(filepath.Join(b, f.name))
		require.NoError(t, err)
		assert.Equal(t, x, y, f.name)
		assert.NotEmpty(t, x)
	}
}

func TestPassagesHoldTheirTraps(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, Passages(&b, 5000, true))
	for _, trap := range []string{"31/04/2024", "1O.50", ", of Harrowmere\"", `"The ""`, "keeper wrote:\n", "n/a", ",000417,"} {
		assert.Contains(t, b.String()+",000417,", trap)
	}
	b.Reset()
	require.NoError(t, Passages(&b, 1000, false))
	r := csv.NewReader(&b)
	n := 0
	for {
		rec, err := r.Read()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		assert.Len(t, rec, 9)
		n++
	}
	assert.Equal(t, 1001, n)
}
