package delimited

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// taken are the records of a text, as TakePlain takes them, with those that it leaves to Next.
func taken(form Form, text string, columns, size int, sure func([]byte) bool) (out []string, plain int) {
	s := NewSplitter(form)
	s.Reset(&Chunk{Data: []byte(text), Line: 1})
	c := NewColumns(columns, size)
	flush := func() {
		for n := range c.N {
			var record strings.Builder
			fmt.Fprint(&record, c.Lines[n], ":")
			for i := range columns {
				at := c.Column(i)[n]
				fmt.Fprintf(&record, " %q/%t", c.Field(at), at.Quoted())
			}
			out = append(out, record.String())
		}
		c.Clear()
	}
	var rec Record
	for {
		before := c.N
		s.TakePlain(c, sure)
		if plain += c.N - before; c.Full() {
			flush()
			continue
		}
		if !s.Next(&rec) {
			break
		}
		if rec.Fault == NoFault && len(rec.Fields) == columns {
			if c.Add(&rec); c.Full() {
				flush()
			}
			continue
		}
		flush()
		out = append(out, told(&rec))
	}
	flush()
	return out, plain
}

func told(rec *Record) string {
	record := fmt.Sprint(rec.Line, ":")
	for i, f := range rec.Fields {
		record += fmt.Sprintf(" %q/%t", f, rec.Quoted(i))
	}
	if rec.Fault != NoFault {
		record += fmt.Sprint(" ", rec.Fault, rec.FaultField)
	}
	return record
}

// What is taken by whole blocks is what Next would have found, in texts of every kind: quotes
// that are doubled, that stand where they should not, that are never closed; line feeds within
// them; records of other widths; any mix of line ends.
func TestTakePlain(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 8))
	pieces := []string{"a", "bc", "12", "", "\"x\"", "\"\"", "\"a,b\"", "\"say \"\"so\"\"\"", "\"two\nlines\"",
		"\"\"\"\"", "é", strings.Repeat("long ", 30), "\"" + strings.Repeat("long, ", 40) + "\""}
	odd := []string{"a\"b", "\"a\"b", "\"a\" ", "\"open", "\r", "\"x\ry\"", "\xff", "\x00", "\"\"x"}
	unsure := func(record []byte) bool { return record[0] != 'b' }
	always := func([]byte) bool { return true }
	plain, all := 0, 0
	for round := range 4000 {
		form := DefaultForm
		if round%5 == 4 {
			form.Quote = 0
		}
		columns := 1 + r.IntN(5)
		var b strings.Builder
		for range r.IntN(40) {
			n := columns
			if r.IntN(20) == 0 {
				n = 1 + r.IntN(6)
			}
			for k := range n {
				if k > 0 {
					b.WriteByte(',')
				}
				from := pieces
				if r.IntN(40) == 0 && round%3 > 0 {
					from = odd
				}
				b.WriteString(from[r.IntN(len(from))])
			}
			b.WriteString([]string{"\n", "\n", "\n", "\r\n"}[r.IntN(4)])
		}
		text := b.String()
		if r.IntN(3) == 0 {
			text = strings.TrimSuffix(text, "\n")
		}
		s := NewSplitter(form)
		s.Reset(&Chunk{Data: []byte(text), Line: 1})
		var want []string
		var rec Record
		for s.Next(&rec) {
			want = append(want, told(&rec))
		}
		sure := always
		if round%2 == 1 {
			sure = unsure
		}
		got, n := taken(form, text, columns, 1+r.IntN(30), sure)
		require.Equal(t, want, got, "%q", text)
		plain, all = plain+n, all+len(want)
	}
	assert.Greater(t, plain, all/3, "the fast way is taken")
}

// A whole window of 16,000 columns, and records much longer than a window.
func TestTakePlainWide(t *testing.T) {
	for _, columns := range []int{1, 700, 16_000} {
		record := strings.TrimSuffix(strings.Repeat("12.5,", columns), ",") + "\n"
		got, plain := taken(DefaultForm, strings.Repeat(record, 20), columns, 8, func([]byte) bool { return true })
		assert.Equal(t, 20, plain)
		for _, x := range got[1:] {
			assert.Equal(t, got[0][strings.Index(got[0], ":"):], x[strings.Index(x, ":"):])
		}
	}
}

// The last record end is the same, however it is looked for.
func TestLastFeed(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 4))
	pieces := []string{"a,", "\"b\",", "\"\"\"c\"\"\",", "\n", "\"\n\"\n", "\r\n", strings.Repeat("x", 70) + ",", "\"d\"\n"}
	found := 0
	for range 3000 {
		var b strings.Builder
		for range r.IntN(60) {
			b.WriteString(pieces[r.IntN(len(pieces))])
		}
		text := []byte(b.String())
		text = text[:len(text)-r.IntN(min(len(text)+1, 5))]
		var w ends
		end := w.lastFeed(text, ',', '"')
		if end == 0 {
			continue
		}
		found++
		want, _ := lastEndByMarks(text, DefaultForm, false)
		require.Equal(t, want, end, "%q", text)
	}
	assert.Greater(t, found, 500)
}
