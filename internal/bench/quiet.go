package main

import (
	"bytes"
	"cmp"
	"os"
	"slices"
	"strconv"
)

// Where the machine is a virtual one, others may take its processors away, for
// whole seconds and mostly from the one of a pair that runs at that moment.
// Linux says how much was taken ("steal" in proc_stat(5)). Pairs during which
// it was much are taken again, to a bound; then the quietest ones count.

// much is the share of the processors' work and what was taken from them
// together.
const much = 0.1

// tries bounds how many pairs are taken for each that counts.
const tries = 2

// A pair is a subject's run and the baseline's after it.
type pair struct {
	subject, baseline run
	taken             float64 // share of processor time
}

// clock is the processor time since the machine's start, in ticks.
type clock struct{ used, taken float64 }

// ticks reads the clock: zeros where the system does not say.
var ticks = func() (c clock) {
	text, _ := os.ReadFile("/proc/stat")
	line, _, _ := bytes.Cut(text, []byte("\n"))
	fields := bytes.Fields(line)
	for i, f := range fields {
		n, _ := strconv.ParseFloat(string(f), 64)
		switch i {
		case 1, 2, 3, 6, 7: // user, nice, system, irq, softirq
			c.used += n
		case 8:
			c.taken = n
		}
	}
	return c
}

// since is the share that was taken from work since then.
func (c clock) since(then clock) float64 {
	used, taken := c.used-then.used, c.taken-then.taken
	if used+taken == 0 {
		return 0
	}
	return taken / (used + taken)
}

// pairs takes n quiet pairs, or the n quietest of several times as many.
func (m measure) pairs(n int) []pair {
	var all []pair
	for quiet := 0; quiet < n && len(all) < tries*n; {
		start := ticks()
		p := pair{subject: m.subject(), baseline: m.baseline()}
		if p.taken = ticks().since(start); p.taken <= much {
			quiet++
		}
		all = append(all, p)
	}
	return quietest(all, n)
}

func quietest(all []pair, n int) []pair {
	slices.SortStableFunc(all, func(a, b pair) int { return cmp.Compare(a.taken, b.taken) })
	return all[:n]
}
