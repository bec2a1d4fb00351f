package cli

import (
	"bytes"
	"math"
	"strings"
	"testing"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/pflag"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The colours are bright only on a ground that says it is dark.
func TestColoursOnGrounds(t *testing.T) {
	for ground, dark := range map[string]bool{"15;0": true, "7;default;0": true, "0;15": false, "0;7": false, "": false, "x": false} {
		amber, green := coloursOn(ground)
		if dark {
			assert.Equal(t, []text.Color{text.Fg256Color(amberOnDark), text.FgGreen}, []text.Color{amber, green}, ground)
			continue
		}
		assert.Equal(t, []text.Color{text.Fg256Color(amberOnAny), text.Fg256Color(greenOnAny)}, []text.Color{amber, green}, ground)
	}
	// Where the ground is not known, both hold on black and on white (WCAG 2.2, "contrast ratio").
	for _, c := range []int{amberOnAny, greenOnAny} {
		l := luminance(c)
		assert.Greater(t, (l+0.05)/0.05, 4.4, "%d on black", c)
		assert.Greater(t, 1.05/(l+0.05), 4.4, "%d on white", c)
	}
}

// luminance is that of a colour of the cube of 216 that terminals have (WCAG 2.2, "relative
// luminance").
func luminance(c int) float64 {
	steps := []float64{0, 95, 135, 175, 215, 255}
	part := func(i int) float64 {
		v := steps[i] / 255
		if v <= 0.04045 {
			return v / 12.92
		}
		return math.Pow((v+0.055)/1.055, 2.4)
	}
	c -= 16
	return 0.2126*part(c/36) + 0.7152*part(c/6%6) + 0.0722*part(c%6)
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
