package cli

import (
	"bytes"
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/desk"
	"ambertray/internal/load"
	"ambertray/internal/phrase"
	"ambertray/internal/plan"
	"ambertray/internal/profile"
	"ambertray/internal/source"
)

func TestFold(t *testing.T) {
	assert.Equal(t, []string{"one two", "three", "four"}, fold("one two three four", 8))
	assert.Equal(t, []string{"abcdefgh", "ijk lm"}, fold("abcdefghijk lm", 8))
	assert.Equal(t, []string{""}, fold("", 8))
	for _, l := range fold(strings.Repeat("日本語 ", 20), 13) {
		assert.LessOrEqual(t, width(l), 13)
	}
}

func TestNumbersForPeople(t *testing.T) {
	for n, want := range map[int64]string{0: "0", 999: "999", 1000: "1,000", 1234567: "1,234,567", -1000: "-1,000", -999: "-999"} {
		assert.Equal(t, want, grouped(n))
	}
	for n, want := range map[int64]string{0: "0 bytes", 1: "1 byte", 999: "999 bytes", 1000: "1 kB", 144077181: "144 MB", 12e12: "12 TB"} {
		assert.Equal(t, want, size(n))
	}
	assert.Equal(t, "1 record", plural(1, "record"))
	assert.Equal(t, "2,000 records", plural(2000, "record"))
	assert.Equal(t, "a⏎b⇥c…", shorten("a\nb\tcdef", 6))
	assert.NotContains(t, shorten("\x1b[31mred\x1b[0m", 40), "\x1b", "no value can colour the screen")
}

func TestShares(t *testing.T) {
	for in, want := range map[string]float64{"": 0, "0": 0, "1%": 0.01, "0.1%": 0.001, "0.05": 0.05, "50%": 0.5} {
		got, err := phrase.ParseShare(in)
		require.NoError(t, err)
		assert.InDelta(t, want, got, 1e-12, in)
	}
	for _, in := range []string{"x", "51%", "-1%", "2", "%"} {
		_, err := phrase.ParseShare(in)
		assert.Error(t, err, in)
	}
	for in, want := range map[string]desk.RejectLimit{"": desk.UsualLimit, "none": {Count: -1}, "0": {}, "12": {Count: 12}, "5%": {Count: -1, Share: 0.05}} {
		got, err := desk.ParseLimit(in)
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	for _, in := range []string{"-1", "x", "99%"} {
		_, err := desk.ParseLimit(in)
		assert.Error(t, err)
	}
}

func TestCommandLine(t *testing.T) {
	assert.Equal(t, `load 'a b.csv' --type 'Toll=decimal(8,2)' '' 'it'\''s'`, commandLine([]string{"load", "a b.csv", "--type", "Toll=decimal(8,2)", "", "it's"}))
}

func TestExitCodes(t *testing.T) {
	for want, err := range map[int]error{
		exitFailed:     errors.New("x"),
		exitNeeded:     fmt.Errorf("wrapped: %w", needed("x")),
		exitUnbalanced: fmt.Errorf("wrapped: %w", &load.Unbalanced{Differences: []string{"x"}}),
		exitWaiting:    &status{code: exitWaiting},
	} {
		assert.Equal(t, want, exitCode(err))
	}
	assert.Equal(t, exitNeeded, exitCode(&plan.Error{What: "x"}))
	assert.Equal(t, exitNeeded, exitCode(&source.Problem{What: "x", Decision: true}))
	assert.Equal(t, exitFailed, exitCode(&source.Problem{What: "x"}))
}

// Each finding stands with its weight, examples and remedy, and within the
// width.
func TestFindingsAreReadable(t *testing.T) {
	var b bytes.Buffer
	printFindings(&b, style{width: 60}, []profile.Finding{
		{Weight: profile.Blocker, Column: strings.Repeat("a long header ", 9), Text: strings.Repeat("words ", 30), Examples: []profile.Example{{Line: 1234, Value: strings.Repeat("v", 90)}, {Line: 5}}, Do: strings.Repeat("do this ", 12)},
		{Weight: profile.Note, Text: "short"},
	})
	out := b.String()
	assert.Contains(t, out, "  blocker  a long header")
	assert.Contains(t, out, "  note     short")
	assert.Contains(t, out, "line 1,234")
	assert.Contains(t, out, "'vvv")
	assert.Contains(t, out, "→ do this")
	for _, l := range strings.Split(out, "\n") {
		assert.LessOrEqual(t, width(l), 60, l)
	}
}

func TestRecordsFitTheScreen(t *testing.T) {
	var headers []string
	var fields []string
	for i := range 300 {
		headers = append(headers, fmt.Sprintf("column %d", i))
		fields = append(fields, fmt.Sprint(i*1000))
	}
	for _, w := range []int{60, 80, 200} {
		var b bytes.Buffer
		printRecords(&b, style{width: w}, "line", headers, []profile.Preview{{Line: 2, Fields: fields}, {Line: 3, Fields: fields[:2]}})
		for _, l := range strings.Split(b.String(), "\n") {
			assert.LessOrEqual(t, width(l), w, l)
		}
		assert.Contains(t, b.String(), "more columns")
	}
}

func TestGridAlignsNumbers(t *testing.T) {
	var b bytes.Buffer
	g := newGrid(style{}, "name", ">n")
	g.row("a", "1")
	g.row("bb", "1,000")
	g.render(&b)
	assert.Equal(t, "  name      n\n  a         1\n  bb    1,000\n", b.String())
}
