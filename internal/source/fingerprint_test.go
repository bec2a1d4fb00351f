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

// A file that was looked at is known again, and a byte that is another is seen.
func TestFingerprint(t *testing.T) {
	text := []byte("boat,berth\n" + strings.Repeat("Heron,12\n", 200_000))
	name := filepath.Join(t.TempDir(), "in.csv")
	require.NoError(t, os.WriteFile(name, text, 0o666))
	src, err := Open(context.Background(), name, Known{})
	require.NoError(t, err)
	all := func(st *Stream, err error) *Stream {
		require.NoError(t, err)
		defer st.Close()
		for {
			c, err := st.Next()
			if err == io.EOF {
				return st
			}
			require.NoError(t, err)
			c.Release()
		}
	}
	st := all(src.Read(true))
	sum := st.Sum()
	assert.Equal(t, fmt.Sprintf("%x", sha256.Sum256(text)), sum)
	assert.False(t, st.Another(), "nobody has looked")
	all(src.Look()).Seen()
	for range 2 {
		st = all(src.Read(true))
		assert.False(t, st.Another())
		assert.Equal(t, sum, st.Sum())
	}
	for _, at := range []int{11, len(text) / 2, len(text) - 2} {
		text[at] ^= 1
		require.NoError(t, os.WriteFile(name, text, 0o666))
		assert.True(t, all(src.Read(true)).Another(), at)
		text[at] ^= 1
	}
	require.NoError(t, os.WriteFile(name, text, 0o666))
	assert.False(t, all(src.Read(true)).Another())
}
