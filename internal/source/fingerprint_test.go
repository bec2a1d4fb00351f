package source

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A file that was looked at is known again by its fingerprint, and a byte that is another is seen.
func TestFingerprint(t *testing.T) {
	text := []byte("boat,berth\n" + strings.Repeat("Heron,12\n", 200_000))
	name := filepath.Join(t.TempDir(), "in.csv")
	require.NoError(t, os.WriteFile(name, text, 0o666))
	src, err := Open(context.Background(), name, Known{})
	require.NoError(t, err)
	read := func() string {
		st, err := src.Read(true)
		require.NoError(t, err)
		defer st.Close()
		for {
			c, err := st.Next()
			if err == io.EOF {
				assert.Equal(t, src.Profiled == "", st.sum != nil, "the SHA-256 is taken once")
				return st.Sum()
			}
			require.NoError(t, err)
			c.Release()
		}
	}
	want := fmt.Sprintf("%x", sha256.Sum256(text))
	require.Equal(t, want, read())
	require.Equal(t, want, read())
	src.Profiled = want
	require.Equal(t, want, read())
	for _, at := range []int{11, len(text) / 2, len(text) - 2} {
		text[at] ^= 1
		require.NoError(t, os.WriteFile(name, text, 0o666))
		require.Empty(t, read(), at)
		text[at] ^= 1
	}
	require.NoError(t, os.WriteFile(name, text, 0o666))
	require.Equal(t, want, read())
}
