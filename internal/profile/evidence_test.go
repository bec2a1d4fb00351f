package profile

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/sketch"
)

// observed feeds values to n workers in turn and merges them.
func observed(n int, values []string, memos bool) *evidence {
	team := make([]*evidence, n)
	scratches := make([]scratch, n)
	for i := range team {
		team[i] = newEvidence()
		scratches[i].words = newWordTable([]string{"missing"})
		team[i].memo.off = !memos
	}
	for i, v := range values {
		w := i / 7 % n
		buf := append(make([]byte, 0, len(v)+16), v...)
		if !team[w].again(&scratches[w], buf, spot(i+2)) {
			team[w].observe(&scratches[w], buf, v == "", spot(i+2), false)
		}
	}
	for i, e := range team {
		e.flushAll(&scratches[i])
		if i > 0 {
			team[0].merge(e)
		}
	}
	return team[0]
}

// Evidence is the same however values are shared out and held back.
func TestEvidenceIsAdditive(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	kinds := []func() string{
		func() string { return fmt.Sprint(r.IntN(2000) - 1000) },
		func() string { return fmt.Sprintf("%d.%02d", r.IntN(100), r.IntN(100)) },
		func() string { return fmt.Sprintf("%d,%03d.5", r.IntN(9)+1, r.IntN(1000)) },
		func() string { return fmt.Sprintf("(£%d)", r.IntN(90)) },
		func() string { return fmt.Sprintf("%02d/%02d/2024", r.IntN(28)+1, r.IntN(12)+1) },
		func() string {
			return fmt.Sprintf("2024-%02d-%02dT%02d:00:00Z", r.IntN(12)+1, r.IntN(30)+1, r.IntN(24))
		},
		func() string { return []string{"", " ", "N/A", "yes", "no", "missing", "-", "NULL"}[r.IntN(8)] },
		func() string { return fmt.Sprintf("%04d", r.IntN(50)) },
		func() string {
			return []string{"é", "Nether Lock", " padded ", "a very long text that no memo holds back", "日本語"}[r.IntN(5)]
		},
		func() string { return fmt.Sprintf("6f9619ff-8b86-d011-b42d-%012x", r.IntN(99)) },
		func() string { return "12345678901234567890123" },
		func() string { return "1.5e-10" },
	}
	for range 20 {
		var values []string
		some := kinds[r.IntN(len(kinds)):]
		for range 3000 {
			values = append(values, some[r.IntN(len(some))]())
		}
		one := observed(1, values, false)
		for n := 1; n <= 4; n++ {
			many := observed(n, values, true)
			assert.Equal(t, summary(one), summary(many), "%d workers", n)
		}
	}
}

// summary is all that decisions are made of, in an order of its own.
func summary(e *evidence) map[string]any {
	m := map[string]any{
		"fields": e.fields, "blanks": e.blanks, "quoted": e.quoted, "uuids": e.uuids,
		"ints": []int64{e.ints.count, e.ints.lo, e.ints.hi, e.ints.compact}, "zeros": e.odds().zeros.count, "texts": e.texts.count, "padded": e.odds().padded.count,
		"decs":  []any{e.decs.count, e.decs.whole, e.decs.fraction, e.decs.nonzero, e.decs.lo.plain(4), e.decs.hi.plain(4)},
		"chars": []int{e.minChars, e.maxChars, e.maxBytes, e.maxRaw}, "wide": e.odds().wide.count, "lo": string(e.lo.text), "hi": string(e.hi.text),
	}
	var parts []string
	for _, n := range e.numbers {
		parts = append(parts, fmt.Sprint("number ", n.group, n.mark, n.either, n.sign, n.currency, n.percent, n.exponent, n.count, n.whole, n.digits, n.fraction, n.lo.plain(4), n.hi.plain(4)))
	}
	for _, d := range e.dates {
		for _, c := range d.candidates {
			parts = append(parts, fmt.Sprint("date ", string(d.key[:d.keyLen()]), d.count, c.order, c.fits, c.timed, c.lo, c.hi, c.no.count))
		}
	}
	for _, w := range e.words {
		parts = append(parts, fmt.Sprint("word ", w.word, w.count))
	}
	slices.Sort(parts)
	m["parts"] = parts
	if !e.values.many {
		m["values"] = e.values.list()
	}
	return m
}

func (s *dateShape) keyLen() int {
	return slices.Index(append(slices.Clone(s.key[:]), 0), 0)
}

// The first examples are those of the lowest lines, each value once where it
// was held back.
func TestExamplesAreTheFirst(t *testing.T) {
	var e examples
	for _, line := range []spot{50, 9, 70, 3, 12, 8, 90, 1} {
		e.add(line, []byte(fmt.Sprint(line)), 2)
	}
	assert.EqualValues(t, 16, e.count)
	var lines []int64
	for _, x := range e.first {
		lines = append(lines, x.Line)
	}
	assert.Equal(t, []int64{1, 3, 8, 9, 12}, lines)
}

func TestDistinctCounts(t *testing.T) {
	for _, n := range []int{1, 63, 64, 65, 1000, 50000} {
		var all, a, b distinct
		for i := range 3 * n {
			v := []byte(fmt.Sprintf("value %d", i%n))
			all.add(sketch.Hash(v), v, 1)
			if i%2 == 0 {
				a.add(sketch.Hash(v), v, 1)
			} else {
				b.add(sketch.Hash(v), v, 1)
			}
		}
		a.merge(&b)
		for _, d := range []*distinct{&all, &a} {
			got, exact := d.count()
			assert.Equal(t, n <= fewValues, exact, n)
			if exact {
				assert.EqualValues(t, n, got)
				total := int64(0)
				for _, v := range d.list() {
					total += v.Count
				}
				assert.EqualValues(t, 3*n, total)
			} else {
				assert.InEpsilon(t, n, got, 0.12)
			}
		}
	}
}

// Uniqueness is found whatever way values are remembered.
func TestUnique(t *testing.T) {
	lines := func(n int) (l []spot) {
		for i := range n {
			l = append(l, spot(i+2))
		}
		return
	}
	ints := func(n int, of func(i int) int64) (v []int64) {
		for i := range n {
			v = append(v, of(i))
		}
		return
	}
	for name, of := range map[string]func(i int) int64{
		"in a row": func(i int) int64 { return int64(i) }, "falling": func(i int) int64 { return int64(-i) },
		"sparse": func(i int) int64 { return int64(i) * 1_000_003 }, "negative and sparse": func(i int) int64 { return int64(-i) * 99_991 },
	} {
		const n = 20000
		u := &unique{}
		u.addInts(ints(n, of), lines(n))
		assert.Zero(t, u.duplicates.count, name)
		u.addInts([]int64{of(17)}, []spot{n + 2})
		assert.EqualValues(t, 1, u.duplicates.count, name)
		// A text that reads the same as a number of before is the same value.
		u.add([]uint64{sketch.Hash([]byte(fmt.Sprint(of(18)))), sketch.Hash([]byte("new"))}, []spot{n + 3, n + 4})
		require.EqualValues(t, 2, u.duplicates.count, name)
		assert.EqualValues(t, n+3, u.duplicates.first[1].Line)
	}
	u := &unique{}
	for i := range 100 {
		u.addInts([]int64{7}, []spot{spot(i)})
	}
	assert.True(t, u.gone.Load(), "given up where values come again and again")
	assert.Nil(t, u.pages)
}

func TestHashTellsValuesApart(t *testing.T) {
	seen := map[uint64]string{}
	for i := range 200000 {
		for _, v := range []string{fmt.Sprint(i), fmt.Sprintf("%08d", i), fmt.Sprintf("a longer value with number %d in it", i)} {
			h := sketch.Hash([]byte(v))
			require.NotZero(t, h)
			if was, ok := seen[h]; ok && was != v {
				t.Fatalf("%q and %q", was, v)
			}
			seen[h] = v
		}
	}
}

// Values that differ in a few of their bytes, wherever these are, lie in places of their own: 84 dates
// once shared twelve, and pushed each other out.
func TestMemoPlaces(t *testing.T) {
	for name, value := range map[string]func(i int) string{
		"dates":             func(i int) string { return fmt.Sprintf("2025-%02d-%02d", i/28%12+1, i%28+1) },
		"dates, day first":  func(i int) string { return fmt.Sprintf("%02d/%02d/2025", i%28+1, i/28%12+1) },
		"numbered names":    func(i int) string { return fmt.Sprintf("Keeper, %d", i) },
		"numbers in front":  func(i int) string { return fmt.Sprintf("%d. gate lock", i) },
		"numbers within":    func(i int) string { return fmt.Sprintf("Lock %03d Withy", i) },
		"codes of a letter": func(i int) string { return fmt.Sprintf("A%03d", i) },
		"codes with zeros":  func(i int) string { return fmt.Sprintf("000%d", i) },
	} {
		e, s := newEvidence(), &scratch{words: newWordTable(nil)}
		e.memo.bits = memoBits(4)
		const values = 300
		for range 3 {
			for i := range values {
				require.True(t, e.again(s, append(make([]byte, 0, 32), value(i)...), spotOf(0, int64(i+2))), name)
			}
		}
		// Of three hundred that have 2,048 places, some forty share one with another by chance.
		assert.Greater(t, e.memo.hits, 2*values-150, name)
		held := 0
		for _, x := range e.memo.slots {
			if x.count > 0 {
				held++
			}
		}
		assert.Greater(t, held, values-50, name)
	}
}

// What is smallest and largest does not depend on how a value is counted: alone, or many times at once because it
// was held back; nor on whether it is nothing.
func TestSmallest(t *testing.T) {
	for _, tt := range []struct{ values, lo, hi string }{
		{"1.25", "1.25", "1.25"}, {"-1.25", "-1.25", "-1.25"}, {"7", "7", "7"}, {"0", "0", "0"}, {"-7|-8", "-8", "-7"},
		{"1.25|3.50", "1.25", "3.50"}, {"0.00|3.50", "0.00", "3.50"}, {"-3.5|-0.5", "-3.5", "-0.5"},
		{"$0|$5|$7", "0", "7"}, {"$5|$0|$7", "0", "7"}, {"+0|+5|+7", "0", "7"}, {"1,234|5,678|1,234.50", "1234.00", "5678.00"},
		{"(7)|(8)", "-8", "-7"}, {"5%|7%", "5", "7"}, {"2024-02-29", "2024-02-29", "2024-02-29"},
		{"10:30|09:15", "09:15:00", "10:30:00"}, {"Withy Cut|Alder Gate", "Alder Gate", "Withy Cut"},
	} {
		values := strings.Split(tt.values, "|")
		for _, columns := range []int{1, 400} { // watched as keys, which are not held back, and not
			var text strings.Builder
			for range 40 {
				for _, v := range values {
					text.WriteString(strings.Repeat(`"`+v+`",`, columns) + "x\n")
				}
			}
			header := ""
			for c := range columns {
				header += fmt.Sprintf("gauge_%d,", c)
			}
			p := profileText(t, Options{}, header+"last\n"+text.String())
			for _, c := range p.Columns[:columns] {
				assert.Equal(t, []string{tt.lo, tt.hi}, []string{c.Smallest, c.Largest}, "%s in %d columns", tt.values, columns)
			}
		}
	}
}
