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
	var b batch
	b.init(3)
	s := delimited.NewSplitter(delimited.DefaultForm)
	s.Keep = true
	s.Reset(&delimited.Chunk{Data: []byte("a,b,c\n\"d\",e,\"f \"\"g\"\"\"\nh,,i\n"), Line: 1})
	var rec delimited.Record
	for {
		rec.Fields = b.room()
		if !s.Next(&rec) {
			break
		}
		assert.False(t, b.add(&rec))
	}
	assert.Equal(t, 3, b.n)
	assert.True(t, b.some)
	var got [][]string
	for i := range 3 {
		var column []string
		for k := range b.n {
			x := string(b.fields[k*3+i])
			if b.quoted[k*3+i] {
				x += " in quotes"
			}
			column = append(column, x)
		}
		got = append(got, column)
	}
	assert.Equal(t, [][]string{{"a", "d in quotes", "h"}, {"b", "e", ""}, {"c", "f \"g\" in quotes", "i"}}, got)
	b.n = b.size - 1
	assert.True(t, b.add(&rec), "it is full")
	for columns, size := range map[int]int{1: 200, 9: 200, 200: 20, 5000: 8} {
		b.init(columns)
		assert.Equal(t, size, b.size)
	}
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
