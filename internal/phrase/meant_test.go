package phrase_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"ambertray/internal/phrase"
)

// What is meant is near, and is not offered where it could be anything.
func TestMeant(t *testing.T) {
	for word, want := range map[string]string{"laod": "did you mean load?", "Load": "did you mean load?", "lok": "did you mean look?",
		"dict": "", "x": "", "verifi": "did you mean verify?", "exprot": "did you mean export?", "load": "", "": ""} {
		assert.Equal(t, want, phrase.Meant(word, []string{"load", "look", "verify", "export", "dictionary"}), word)
	}
	assert.Empty(t, phrase.Meant("abcd", []string{"abce", "abcf", "abcg", "abch"}), "too many to be one of them")
}
