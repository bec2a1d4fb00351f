package profile

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/source/delimited"
)

// mixed is a text with columns of every kind, in which fields are in quotes
// here and there, as spreadsheets do it.
func mixed(records, columns int, quotes bool) string {
	r := rand.New(rand.NewPCG(uint64(records), uint64(columns)))
	var b strings.Builder
	for c := range columns {
		if c > 0 {
			b.WriteByte(',')
		}
		fmt.Fprintf(&b, "Column %d", c+1)
	}
	b.WriteByte('\n')
	for i := range records {
		for c := range columns {
			if c > 0 {
				b.WriteByte(',')
			}
			var f string
			switch c % 8 {
			case 0:
				f = fmt.Sprint(i + 1)
			case 1:
				f = fmt.Sprintf("%02d/%02d/2025", r.IntN(28)+1, r.IntN(12)+1)
			case 2:
				f = []string{"up", "down", "", "N/A"}[r.IntN(4)]
			case 3:
				f = fmt.Sprintf("%d.%02d", r.IntN(900), r.IntN(100))
			case 4:
				f = fmt.Sprintf("G%05d", r.IntN(90000))
			case 5:
				f = fmt.Sprintf("keeper é %d", r.IntN(2000))
			case 6:
				f = fmt.Sprintf("%06d", r.IntN(9999))
			default:
				f = fmt.Sprintf("£%d.50", r.IntN(99))
			}
			if quotes && r.IntN(5) == 0 && f != "" {
				f = `"` + f + `"`
			}
			b.WriteString(f)
		}
		b.WriteByte('\n')
	}
	return b.String()
}

// Neither quotes nor the size of batches change what is found.
func TestBatchesDoNotMatter(t *testing.T) {
	for _, columns := range []int{1, 8, 17, 120} {
		records := 24_000 / columns
		plain := profileText(t, Options{}, mixed(records, columns, false))
		quoted := profileText(t, Options{}, mixed(records, columns, true))
		require.Len(t, plain.Columns, columns)
		for i, c := range plain.Columns {
			q := quoted.Columns[i]
			assert.Equal(t, c.Type, q.Type, c.Header)
			want := map[int]string{0: "integer", 1: "date", 3: "decimal(6,2)", 4: "char(6)", 6: "char(6)"}
			if w := want[i%8]; w != "" && records > 400 {
				assert.Equal(t, w, c.Type.String(), c.Header)
			}
			assert.Equal(t, int64(records), c.Fields, c.Header)
			assert.Equal(t, c.Fields, q.Fields, c.Header)
		}
		assert.Equal(t, int64(records), plain.Records)
		assert.True(t, plain.Columns[0].Unique)
		assert.True(t, quoted.Columns[0].Unique)
	}
}

// The same text in quotes throughout, or not, is the same profile.
func TestQuotesDoNotMatter(t *testing.T) {
	text := mixed(5000, 8, false)
	lines := strings.Split(strings.TrimSuffix(text, "\n"), "\n")
	for i := 1; i < len(lines); i++ {
		fields := strings.Split(lines[i], ",")
		for k, f := range fields {
			if f != "" {
				fields[k] = `"` + f + `"`
			}
		}
		lines[i] = strings.Join(fields, ",")
	}
	plain, quoted := profileText(t, Options{}, text), profileText(t, Options{}, strings.Join(lines, "\n")+"\n")
	for i, c := range plain.Columns {
		q := *quoted.Columns[i]
		assert.Equal(t, *c, q, c.Header)
	}
	assert.Equal(t, plain.Keys, quoted.Keys)
}

func TestBatch(t *testing.T) {
	for columns, size := range map[int]int{1: 200, 9: 200, 200: 40, 5000: 8, veryWide + 1: 2} {
		assert.Equal(t, size, newBatch(columns).Size)
	}
}

// A run of numbers, of texts, or of what comes again and again is counted as each of them would be.
func TestRunDoesNotMatter(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 3))
	kinds := []func() string{
		func() string { return fmt.Sprint(r.IntN(1_000_000)) },
		func() string { return fmt.Sprint(r.IntN(20_000) - 10_000) },
		func() string { return fmt.Sprintf("%d.%02d", r.IntN(9_000), r.IntN(100)) },
		func() string { return fmt.Sprintf("-%d.%d", r.IntN(90), r.IntN(1000)) },
		func() string { return fmt.Sprintf("%05d", r.IntN(50_000)) },
		func() string { return fmt.Sprintf("20%02d%02d%02d", r.IntN(30), r.IntN(13), r.IntN(32)) },
		func() string { return "" },
		func() string { return fmt.Sprintf("G%05d", r.IntN(90_000)) },
		func() string { return strings.Repeat("Withy Cut ", 1+r.IntN(30)) + "é"[:2*r.IntN(2)] + "x" },
		func() string { return strings.Repeat("Withy Cut ", 1+r.IntN(30)) + strings.Repeat(" ", r.IntN(3)) },
		func() string { return `"` + strings.Repeat("Nether, Lock ", 1+r.IntN(3)) + `"` },
		func() string {
			return []string{`"up"`, `"down"`, `""`, `"7"`, `"2024-01-31"`, `" up"`, `"up "`, `"say ""up"""`, "up", "7",
				"Withy Cut\t ", "Withy Cut\u00a0 ", "Withy Cut \u00a0", `"N/A"`, `" "`, "  "}[r.IntN(16)]
		},
		func() string {
			return []string{"June 7", "EUR 12.50", "EUR12", "USD", "true", "N/A", "null", "January", "Eustace 7", "Mon",
				"6f1c2d3e-0000-4000-8000-0123456789ab", "no", "=1+1", "x", "Alder Gate", "CHF-12"}[r.IntN(16)]
		},
		func() string {
			return []string{".5", "5.", "-", "-0", "0.500", "1.234", "0.123", "12.000", "1.2.3", "12a", "--1", "1234567.8",
				"99999999", "999999999", "-9999999", "-99999999", " 7", "up", "7/8/2025", "٣"}[r.IntN(20)]
		},
	}
	// Those that are nearly all written in the same way, with something else now and then.
	rarely := func(common func() string, others ...string) func() string {
		return func() string {
			if r.IntN(30) == 0 {
				return others[r.IntN(len(others))]
			}
			return common()
		}
	}
	kinds = append(kinds,
		rarely(func() string { return fmt.Sprint(r.IntN(9_000)) }, "", "0", "00", "07", "7.5", "-3", "12345678", "20240131",
			"123456789", "1/2", "1.", "x", `"7"`, "4/", "9999999", " 5"),
		rarely(func() string { return fmt.Sprintf("%d.%02d", r.IntN(40), r.IntN(100)) }, "", "12/34", "1/.23", "0.00", "00.50",
			".50", "12345.67", "123456.78", "1.5", "2.500", "3", "-4.25", "5.", `"7.25"`, "1.2.34", "7:30", "99999.99", "0.0"),
		rarely(func() string { return fmt.Sprintf("%d.%d", r.IntN(4000), r.IntN(10)) }, "1.234", "5.0", "1234567.8", "7/8"),
		rarely(func() string { return fmt.Sprintf("%d.%03d", r.IntN(4000), r.IntN(1000)) }, "1.234", "0.125", "1000.500"),
		rarely(func() string { return fmt.Sprintf("G%04d", r.IntN(9000)) }, "", "G", "G5", "R2 ", "r2d2", "é2", "G2é", "G12345678",
			"N/A", "0", "G2\u00a0", `"G2"`, "R$1234", "M8", "Jan 4", "W2025", "\x01G2", "G-4"))
	for round := range 240 {
		mix := kinds[round%len(kinds):][:1]
		if round >= 2*len(kinds) {
			mix = nil
			for range 4 {
				mix = append(mix, kinds[r.IntN(len(kinds))])
			}
		}
		var text strings.Builder
		for range 400 {
			text.WriteString(mix[r.IntN(len(mix))]() + ",x\n")
		}
		by := func(run, held bool) *evidence {
			e := newEvidence()
			e.memo.off, e.memo.bits = !held, 7
			w := &worker{scratch: scratch{words: newWordTable(nil)}, batch: delimited.NewColumns(2, 400)}
			s := delimited.NewSplitter(delimited.DefaultForm)
			s.Reset(&delimited.Chunk{Data: []byte(text.String()), Line: 2})
			s.TakePlain(w.batch, func([]byte) bool { return true })
			require.Equal(t, 400, w.batch.N)
			lines := make([]spot, 400)
			for k, line := range w.batch.Lines {
				lines[k] = spotOf(0, line)
			}
			if run {
				w.observeColumn(e, w.batch.Column(0), lines, false)
			} else {
				for k, at := range w.batch.Column(0) {
					e.observe(&w.scratch, w.batch.Field(at), at.Quoted(), lines[k], false)
				}
			}
			e.flushAll(&w.scratch)
			e.ints.first.count, e.decs.first.count = 0, 0
			e.numeric, e.texty, e.hint, e.ints.last, e.memo = false, false, 0, 0, memo{}
			e.ints.alike, e.decs.alike = alike{}, alike{}
			return e
		}
		want := by(false, false)
		require.Equal(t, want, by(true, false), "round %d", round)
		if held := by(true, true); len(want.dates) == 0 && want.ints.compact == 0 { // which depend on what was before
			require.Equal(t, sumOf(want), sumOf(held), "round %d", round)
		}
	}
}

// sumOf is what evidence comes to that does not depend on the order of the fields: of a value that
// is held back, only the first counts as an example.
func sumOf(e *evidence) []any {
	n, exact := e.values.count()
	o := e.odds()
	return []any{e.fields, e.blanks, e.quoted, e.ints.count, e.ints.lo, e.ints.hi, e.decs.count, e.decs.whole,
		e.decs.fraction, e.decs.nonzero, e.decs.lo.float(), e.decs.hi.float(), e.uuids, e.texts.count, o.zeros.count,
		o.padded.count, o.wide.count, o.formulas.count, e.maxRaw, e.spaces, e.minChars, e.maxChars,
		e.maxBytes, string(e.lo.text), string(e.hi.text), n, exact}
}

// A column with more whole numbers than can be kept apart is given up, and
// nothing is kept of it.
func TestUniqueGivesUp(t *testing.T) {
	u := &unique{}
	ints, lines := make([]int64, 1<<16), make([]spot, 1<<16)
	for at := int64(0); at < maxPages && !u.gone.Load(); at++ {
		for i := range ints {
			ints[i] = at<<16 | int64(i)
		}
		u.addInts(ints, lines)
	}
	require.False(t, u.gone.Load(), "pages hold a great many")
	u.addInts([]int64{-1}, []spot{7})
	assert.True(t, u.gone.Load())
	assert.True(t, u.full)
	assert.Nil(t, u.pages)
	assert.Nil(t, u.table)
	u.addInts([]int64{-1}, []spot{8})
	u.add([]uint64{5, 5}, []spot{8, 9})
	assert.Nil(t, u.table)
	assert.Zero(t, u.duplicates.count)

	// Few of them, far apart, are remembered by their hashes.
	u = &unique{}
	for i := range int64(maxPages + 10) {
		u.addInts([]int64{i << 20}, []spot{spot(i)})
	}
	assert.False(t, u.gone.Load())
	assert.Nil(t, u.pages)
	u.addInts([]int64{3 << 20}, []spot{99})
	assert.Equal(t, int64(1), u.duplicates.count)
	assert.Equal(t, int64(99), u.duplicates.first[0].Line)
}
