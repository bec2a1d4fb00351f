package reading

import (
	"bytes"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
)

// The shorter ways come to what the longer ones do.
func TestShorterWays(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 4))
	pieces := []string{" ", "\t", "\u00a0", "\xc2", "\xa0", "a", "é", "\n", "€", "-", "7", "£", "GB", "k"}
	for range 200_000 {
		var b []byte
		for range r.IntN(6) {
			b = append(b, pieces[r.IntN(len(pieces))]...)
		}
		assert.Equal(t, string(bytes.Trim(b, " \t\u00a0")), string(TrimSpace(b)), "%q", b)
		if len(b) > 1 {
			assert.Equal(t, currencyAt(b, true) != "", StartsWithCurrency(b), "%q", b)
		}
	}
	for _, c := range currencies {
		assert.True(t, StartsWithCurrency([]byte(c+"12")), c)
	}
}
