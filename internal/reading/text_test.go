package reading

import (
	"math/rand/v2"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
)

func TestCharacters(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 3000 {
		var b strings.Builder
		for range r.IntN(200) {
			b.WriteString([]string{"a", "é", "水", "🚤", "Lock Keeper", "\u00a0"}[r.IntN(6)])
		}
		assert.Equal(t, utf8.RuneCountInString(b.String()), Characters([]byte(b.String())), "%q", b.String())
	}
	long := strings.Repeat("水", 50_000)
	assert.Equal(t, 50_000, Characters([]byte(long)))
	assert.Zero(t, Characters(nil))
}
