package main

import (
	"bytes"
	"encoding/csv"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTable(t *testing.T) {
	text := table("about it", []result{
		{measure: measure{name: "`look`", baselineName: "reading", atMost: 0.5, aim: 0.35}, took: 0.4, base: 1, ratio: 0.4, low: 0.38, high: 0.44, memory: 27, counted: 15, taken: 0.042},
		{measure: measure{name: "load", baselineName: "COPY", atMost: 1}, ratio: 1.3, memory: 240, counted: 5},
		{measure: measure{name: "quick", baselineName: "slow", atMost: 0.5, aim: 0.35}, ratio: 0.3},
		{measure: measure{name: "for perspective", baselineName: "loop"}, ratio: 0.2},
	})
	assert.Contains(t, text, "| `look` | reading | 0.40 s | 1.00 s | 0.40 (0.38 to 0.44 of 15 pairs) | 0.50 | 0.35 | met | 27 MB | 4 % |")
	assert.Contains(t, text, "**missed** | 240 MB (**more than 160**)")
	assert.Contains(t, text, "met, and the aim")
	assert.Contains(t, text, "|  |  |  | 0 MB | 0 % |", "no bound, no verdict")
}

func TestWriteKeepsTheRest(t *testing.T) {
	path := filepath.Join(t.TempDir(), "b.md")
	require.NoError(t, os.WriteFile(path, []byte("# Title\n\n"+begins+"old\n"+ends+"\nwords\n"), 0o666))
	for range 2 {
		require.NoError(t, write(path, "about it", nil))
	}
	got, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(string(got), "# Title\n\n"+begins))
	assert.True(t, strings.HasSuffix(string(got), ends+"\nwords\n"))
	assert.NotContains(t, string(got), "old")
	require.NoError(t, os.WriteFile(path, []byte("# Title\n"), 0o666))
	assert.Error(t, write(path, "", nil))
	doc, err := os.ReadFile("../../docs/benchmarks.md")
	require.NoError(t, err)
	assert.Contains(t, string(doc), begins)
	assert.Contains(t, string(doc), ends)
}

// steals sets the share of processor time that is taken in one pair after the
// other.
func steals(t *testing.T, shares ...float64) {
	read := ticks
	t.Cleanup(func() { ticks = read })
	var c clock
	calls := 0
	ticks = func() clock {
		if calls++; calls%2 == 0 && len(shares) > 0 {
			c.used, c.taken = c.used+100*(1-shares[0]), c.taken+100*shares[0]
			shares = shares[1:]
		}
		return c
	}
}

func TestMeasuresAlternate(t *testing.T) {
	steals(t)
	*runs = 3
	var order []string
	one := func(name string, took time.Duration, rss int64) func() run {
		return func() run { order = append(order, name); return run{took, rss} }
	}
	r := measure{subject: one("a", 2*time.Second, 5e6), baseline: one("b", 4*time.Second, 9e6), often: 2}.take()
	assert.Equal(t, strings.Repeat("ab", 7), strings.Join(order, ""), "one pair is not counted")
	assert.Equal(t, []any{6, 0.5, 2.0, 4.0, 5.0}, []any{r.counted, r.ratio, r.took, r.base, r.memory})
}

func TestPairsOfAQuietMachine(t *testing.T) {
	*runs = 3
	calls := 0
	count := func() run { calls++; return run{time.Duration(calls) * time.Second, 0} }
	m := measure{subject: count, baseline: func() run { return run{time.Second, 0} }}
	steals(t, 0.4, 0.02, 0.5, 0.03, 0.01)
	r := m.take()
	assert.Equal(t, 6, calls, "one run is not counted, and five are enough for three quiet ones")
	assert.Equal(t, []any{3, 5.0}, []any{r.counted, r.ratio}, "the third, fifth and sixth")
	assert.InDelta(t, 0.03, r.taken, 1e-9)

	calls = 0
	steals(t, 0.4, 0.2, 0.5, 0.3, 0.6, 0.7, 0.01)
	r = m.take()
	assert.Equal(t, 7, calls, "no more than twice as many")
	assert.Equal(t, 3.0, r.ratio, "the second, third and fifth are the quietest")
	assert.InDelta(t, 0.4, r.taken, 1e-9)
}

func TestClock(t *testing.T) {
	assert.InDelta(t, 0.25, clock{130, 10}.since(clock{100, 0}), 1e-9)
	assert.Zero(t, clock{}.since(clock{}), "where the system does not say")
	if runtime.GOOS == "linux" {
		before := ticks()
		for start := time.Now(); time.Since(start) < 50*time.Millisecond; {
		}
		assert.Greater(t, ticks().used, before.used)
	}
}

// The files are the same each time, and what they are said to be.
func TestFiles(t *testing.T) {
	if testing.Short() {
		t.Skip("some seconds")
	}
	var a, b bytes.Buffer
	require.NoError(t, textFile(&a))
	require.NoError(t, textFile(&b))
	require.Equal(t, a.Len(), b.Len())
	require.True(t, bytes.Equal(a.Bytes(), b.Bytes()))
	rows, err := csv.NewReader(&a).ReadAll()
	require.NoError(t, err)
	assert.Len(t, rows, 250_001)
	a.Reset()
	require.NoError(t, wideFile(&a))
	r := csv.NewReader(&a)
	r.ReuseRecord = true
	n := 0
	for {
		rec, err := r.Read()
		if err != nil {
			break
		}
		require.Len(t, rec, 200)
		n++
	}
	assert.Equal(t, 60_001, n)
}
