package proof

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/reading"
	"ambertray/internal/sink"
	"ambertray/internal/sqltype"
)

var types = []sqltype.Type{{Kind: sqltype.Integer}, {Kind: sqltype.Text}, {Kind: sqltype.Decimal, Precision: 30, Scale: 2}}

// rows is a side with rows of text, which are read as types; <null> is null.
type rows struct {
	list  [][]string
	lines bool
	pass  int
}

func (s *rows) Rows(ctx context.Context, encoder func() sink.Encoder, take func(int, []byte) error) error {
	s.pass++
	e := encoder()
	var data []byte
	n := 0
	for i, r := range s.list {
		row := make([]reading.Value, len(types))
		for k, f := range r {
			if f == "<null>" {
				row[k].Null = true
			} else if reading.Plain(types[k]).Read([]byte(f), true, &row[k]) != reading.OK {
				row[k] = reading.Value{Wide: []byte(f)}
			}
		}
		if s.lines {
			e.(interface{ Place(int, int64) }).Place(0, int64(i+2))
		}
		data = e.Append(data, row)
		if n++; n == 100 {
			if err := take(n, data); err != nil {
				return err
			}
			data, n = data[:0], 0
		}
	}
	return take(n, data)
}

func some(n int) (list [][]string) {
	for i := range n {
		r := []string{strconv.Itoa(i), fmt.Sprintf("boat %d", i%50), fmt.Sprintf("%d.%02d", i%900, i%100)}
		if i%7 == 0 {
			r[2] = "<null>"
		}
		list = append(list, r)
	}
	return
}

func compare(t *testing.T, source, table [][]string, opt Options) (*Result, *rows, *rows) {
	t.Helper()
	opt.Types = types
	a, b := &rows{list: source, lines: true}, &rows{list: table}
	r, err := Compare(context.Background(), a, b, opt)
	require.NoError(t, err)
	return r, a, b
}

func shuffled(list [][]string) [][]string {
	out := slices.Clone(list)
	rand.Shuffle(len(out), func(i, j int) { out[i], out[j] = out[j], out[i] })
	return out
}

func TestSameRowsInAnyOrder(t *testing.T) {
	list := append(some(5000), some(300)...) // 300 of them twice
	r, a, b := compare(t, list, shuffled(list), Options{})
	assert.True(t, r.Same())
	assert.EqualValues(t, 5300, r.Source)
	assert.EqualValues(t, 5300, r.Table)
	assert.Equal(t, []int{1, 1}, []int{a.pass, b.pass}, "one pass over each side")
	r, _, _ = compare(t, nil, nil, Options{})
	assert.True(t, r.Same())
}

func TestEveryChangeIsFound(t *testing.T) {
	list := some(3000)
	for what, change := range map[string]func(r []string){
		"a digit":                      func(r []string) { r[2] = "1.01" },
		"a null for a value":           func(r []string) { r[1] = "<null>" },
		"a value for a null":           func(r []string) { r[2] = "0.00" },
		"an empty text":                func(r []string) { r[1] = "" },
		"text moved over a border":     func(r []string) { r[1] += " " },
		"a wide decimal":               func(r []string) { r[2] = "1234567890123456789012.34" },
		"a value of another type":      func(r []string) { r[0] = "x700" },
		"more than one column":         func(r []string) { r[1], r[2] = "b", "2.00" },
		"a number one above the key's": func(r []string) { r[0] = "3000" },
	} {
		table := shuffled(list)
		at := slices.IndexFunc(table, func(r []string) bool { return r[0] == "700" })
		table[at] = slices.Clone(table[at])
		change(table[at])
		r, _, _ := compare(t, list, table, Options{})
		require.Len(t, r.Missing, 1, what)
		require.Len(t, r.Extra, 1, what)
		assert.EqualValues(t, 702, r.Missing[0].Line, what)
		assert.Equal(t, "700", *r.Missing[0].Values[0], what)
		pairs, missing, extra := r.Pairs(nil)
		if what == "more than one column" {
			assert.Empty(t, pairs, "no pair where most differs")
			continue
		}
		require.Len(t, pairs, 1, what)
		assert.Len(t, pairs[0].Columns, 1, what)
		assert.Empty(t, missing)
		assert.Empty(t, extra)
		byKey, _, _ := r.Pairs([]int{0})
		assert.Equal(t, table[at][0] == "700", len(byKey) == 1, what)
	}
}

func TestRowsLessAndMore(t *testing.T) {
	list := append(some(2000), some(3)...) // 0, 1, 2 twice
	table := shuffled(list)
	table = slices.DeleteFunc(table, func(r []string) bool { return r[0] == "1500" })
	i := slices.IndexFunc(table, func(r []string) bool { return r[0] == "1" })
	table = slices.Delete(table, i, i+1)    // one of two
	table = append(table, some(1600)[1599]) // twice now
	table = append(table, []string{"-1", "", "<null>"})
	r, _, _ := compare(t, list, table, Options{})
	assert.EqualValues(t, 2, r.MissingCount)
	assert.EqualValues(t, 2, r.ExtraCount)
	var lines []int64
	for _, m := range r.Missing {
		lines = append(lines, m.Line)
	}
	assert.Equal(t, []int64{3, 1502}, lines)
	var extra []string
	for _, e := range r.Extra {
		extra = append(extra, *e.Values[0])
	}
	slices.Sort(extra)
	assert.Equal(t, []string{"-1", "1599"}, extra)
}

func TestWithinOtherRows(t *testing.T) {
	list := some(4000)
	table := append(shuffled(list), some(6000)...)
	for _, memory := range []int{0, 1000, 1} {
		r, _, b := compare(t, list, table, Options{Within: true, Memory: max(memory, 100)})
		assert.True(t, r.Same())
		assert.EqualValues(t, 10000, r.Table, "counted once, in however many passes")
		assert.Equal(t, b.pass, r.Passes)
	}
	table = slices.DeleteFunc(table, func(r []string) bool { return r[0] == "3000" || r[0] == "3001" })
	r, _, _ := compare(t, list, table, Options{Within: true, Memory: 500})
	assert.EqualValues(t, 2, r.MissingCount)
	require.Len(t, r.Missing, 2)
	assert.Empty(t, r.Extra, "rows of others are no fault")
}

func TestMuchIsDifferent(t *testing.T) {
	list := some(5000)
	var table [][]string
	for _, r := range list {
		table = append(table, []string{r[0], r[1] + "!", r[2]})
	}
	r, _, _ := compare(t, list, table, Options{Show: 20})
	assert.EqualValues(t, 5000, r.MissingCount)
	assert.EqualValues(t, 5000, r.ExtraCount)
	assert.Len(t, r.Missing, 20)
	assert.Len(t, r.Extra, 20)
	r, _, _ = compare(t, list, table, Options{Show: 20, Memory: 500})
	assert.True(t, r.AtLeast, "it ends when enough is found")
	assert.Less(t, r.MissingCount, int64(5000))
	r, _, _ = compare(t, list, nil, Options{Show: 5})
	assert.EqualValues(t, 5000, r.MissingCount)
	assert.Empty(t, r.Extra)
}

func TestColumnsLeftOut(t *testing.T) {
	was := types
	types = []sqltype.Type{types[0], {Kind: sqltype.None}, types[2]}
	defer func() { types = was }()
	list := some(10)
	table := some(10)
	for i := range list {
		list[i][1], table[i][1] = "<null>", "<null>"
	}
	r, _, _ := compare(t, list, table, Options{})
	assert.True(t, r.Same())
}

func TestFailuresAreErrors(t *testing.T) {
	for n := range 3 {
		_, err := Compare(context.Background(), &rows{list: some(5), lines: true}, &failing{rows{list: some(4)}, n}, Options{Types: types})
		if n < 2 {
			assert.ErrorContains(t, err, "broken")
		} else {
			assert.NoError(t, err)
		}
	}
}

// failing is a table that breaks in its n-th pass.
type failing struct {
	rows
	n int
}

func (s *failing) Rows(ctx context.Context, encoder func() sink.Encoder, take func(int, []byte) error) error {
	if s.pass == s.n {
		return fmt.Errorf("broken")
	}
	return s.rows.Rows(ctx, encoder, take)
}
