package cli

import (
	"bufio"
	"bytes"
	"encoding/json"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// anyJSON is a value of any form.
func anyJSON(r *rand.Rand, depth int) any {
	switch n := r.IntN(9); {
	case n < 2 && depth > 0:
		m := map[string]any{}
		for range r.IntN(4) {
			m[strings.Repeat(`k"\{,`, r.IntN(3))] = anyJSON(r, depth-1)
		}
		return m
	case n < 4 && depth > 0:
		list := []any{}
		for range r.IntN(4) {
			list = append(list, anyJSON(r, depth-1))
		}
		return list
	case n == 4:
		return nil
	case n == 5:
		return r.IntN(2) == 0
	case n == 6:
		return r.NormFloat64()
	}
	return strings.Repeat([]string{`\"[]`, "é\n", "{}: , ", `\\`, "<&>"}[r.IntN(5)], r.IntN(3))
}

// What is written is what the standard library makes of it, in whatever pieces it comes.
func TestIndented(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	for range 2000 {
		var plain, want, got bytes.Buffer
		e := json.NewEncoder(&plain)
		e.SetEscapeHTML(false)
		require.NoError(t, e.Encode(anyJSON(r, 26)))
		require.NoError(t, json.Indent(&want, plain.Bytes(), "", "  "))
		n := &indenter{w: bufio.NewWriter(&got)}
		for p := plain.Bytes(); len(p) > 0; {
			k := 1 + r.IntN(len(p))
			_, err := n.Write(p[:k])
			require.NoError(t, err)
			p = p[k:]
		}
		require.NoError(t, n.w.Flush())
		require.Equal(t, want.String(), got.String(), plain.String())
	}
	deep := strings.Repeat("[", 40) + "1" + strings.Repeat("]", 40)
	var want, got bytes.Buffer
	require.NoError(t, json.Indent(&want, []byte(deep), "", "  "))
	n := &indenter{w: bufio.NewWriter(&got)}
	n.Write([]byte(deep))
	require.NoError(t, n.w.Flush())
	assert.Equal(t, want.String(), got.String())
}
