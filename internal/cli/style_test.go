package cli

import (
	"bytes"
	"strings"
	"testing"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/pflag"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The colour is bright only on a ground that says it is dark.
func TestAmber(t *testing.T) {
	for ground, want := range map[string]text.Color{"15;0": text.Fg256Color(amberOnDark), "7;default;0": text.Fg256Color(amberOnDark),
		"0;15": text.Fg256Color(amberOnAny), "0;7": text.Fg256Color(amberOnAny), "": text.Fg256Color(amberOnAny), "x": text.Fg256Color(amberOnAny)} {
		assert.Equal(t, want, amber(ground), ground)
	}
}

// Where letters beyond ASCII are not shown, each is what it is.
func TestPlainTerminal(t *testing.T) {
	var b bytes.Buffer
	v := &visible{Writer: &b, plain: true}
	n, err := v.Write([]byte("load … → é\n"))
	require.NoError(t, err)
	assert.Equal(t, len("load … → é\n"), n)
	assert.Equal(t, "load ... -> <U+00E9>\n", b.String())
	t.Setenv("LC_ALL", "")
	t.Setenv("LC_CTYPE", "")
	for lang, want := range map[string]bool{"C": true, "POSIX": true, "C.UTF-8": false, "en_GB.UTF-8": false, "": false} {
		t.Setenv("LANG", lang)
		assert.Equal(t, want, asciiOnly(), lang)
	}
}

// A narrow screen gets fewer columns, and those that matter.
func TestGridFolds(t *testing.T) {
	draw := func(width int) string {
		g := newGrid(style{width: width}, "", "entry", ">read", "file")
		g.less = []int{3, 2}
		g.row("clear", "passages", "5,000", "lock-passages.csv")
		var b bytes.Buffer
		g.render(&b)
		return b.String()
	}
	assert.Contains(t, draw(80), "lock-passages.csv")
	assert.NotContains(t, draw(40), "lock-passages.csv")
	assert.Contains(t, draw(40), "5,000")
	narrow := draw(20)
	assert.Contains(t, narrow, "passages")
	assert.NotContains(t, narrow, "5,000")
	for _, l := range strings.Split(draw(40), "\n") {
		assert.LessOrEqual(t, width(l), 40)
	}
}

// Each option has its place in help.
func TestOptionsHaveGroups(t *testing.T) {
	known := map[string]bool{}
	for _, g := range groups {
		for _, n := range strings.Fields(optionGroups[g].first + " " + optionGroups[g].rest) {
			assert.False(t, known[n], "%s stands twice", n)
			known[n] = true
		}
	}
	root := Tree("1", "a")
	used := map[string]bool{"help": true, "version": true}
	see := func(f *pflag.Flag) {
		used[f.Name] = true
		assert.True(t, known[f.Name], "help.go does not say where --%s belongs", f.Name)
	}
	root.PersistentFlags().VisitAll(see)
	for _, c := range root.Commands() {
		c.LocalNonPersistentFlags().VisitAll(see)
	}
	for n := range known {
		assert.True(t, used[n], "--%s is no option", n)
	}
}
